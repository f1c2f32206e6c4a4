package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// completion prints what lets a shell complete commands.
func (p *Program) completion() *cobra.Command {
	cmd := &cobra.Command{Use: "completion bash|zsh|fish", Short: "Print what lets a shell complete commands, with the names of stacks, nodes, revisions, inputs and targets",
		Long: `Print what lets a shell complete commands, with the names of stacks, nodes, revisions, inputs and targets.
For the shell that is open:

    bash:  source <(brickrow completion bash)
    zsh:   source <(brickrow completion zsh)
    fish:  brickrow completion fish | source

bash needs the package bash-completion. The Debian and RPM packages have it all in place.`,
		Args: cobra.MatchAll(cobra.ExactArgs(1), cobra.OnlyValidArgs), ValidArgs: []string{"bash", "zsh", "fish"}}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		root := cmd.Root()
		switch args[0] {
		case "zsh":
			return root.GenZshCompletion(p.Out)
		case "fish":
			return root.GenFishCompletion(p.Out, true)
		}
		return bashCompletion(root, p.Out)
	}
	return cmd
}

// bashCompletion writes what lets bash complete. To bash an @ ends a word, as = and : do, and names such as
// signs@workshop/alder-1 have one: they are taken as wholes.
func bashCompletion(root *cobra.Command, to io.Writer) error {
	var made bytes.Buffer
	if err := root.GenBashCompletionV2(&made, true); err != nil {
		return err
	}
	text := made.String()
	for _, r := range [][2]string{{"_init_completion -n =: ", "_init_completion -n =:@ "},
		{`__brickrow_handle_special_char "$cur" =`, "__brickrow_handle_special_char \"$cur\" =\n    __brickrow_handle_special_char \"$cur\" @"}} {
		if !strings.Contains(text, r[0]) {
			return fmt.Errorf("the completion of bash cannot be made: it has no '%s'", r[0])
		}
		text = strings.ReplaceAll(text, r[0], r[1])
	}
	_, err := io.WriteString(to, text)
	return err
}

// manual writes the pages of the manual, or all of it as one page of Markdown.
func (p *Program) manual() *cobra.Command {
	var markdown bool
	cmd := &cobra.Command{Use: "man DIR", Short: "Write the pages of the manual, one for each command; with --markdown print them all as one", Args: cobra.MaximumNArgs(1)}
	cmd.Flags().BoolVar(&markdown, "markdown", false, "print one page of Markdown instead")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		root := cmd.Root()
		if markdown {
			return reference(root, p.Out)
		}
		if len(args) == 0 {
			return usage{fmt.Errorf("name the folder that the pages go to, such as man1")}
		}
		if err := os.MkdirAll(args[0], 0o755); err != nil {
			return err
		}
		date := time.Unix(0, 0).UTC() // the pages are the same whenever they are made
		return eachCommand(root, func(c *cobra.Command) error {
			var page bytes.Buffer
			if err := doc.GenMan(c, &doc.GenManHeader{Section: "1", Date: &date, Source: "Brick Row", Manual: "Brick Row"}, &page); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(args[0], strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"), page.Bytes(), 0o644)
		})
	}
	return cmd
}

// version prints which program it is.
func (p *Program) version() *cobra.Command {
	cmd := &cobra.Command{Use: "version", Short: "Print which version of the program it is, and what it was built with", Args: cobra.NoArgs}
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		return p.told(*asJSON, map[string]string{"version": Version(), "go": runtime.Version(), "os": runtime.GOOS, "arch": runtime.GOARCH},
			"Brick Row %s, built with %s for %s/%s", Version(), runtime.Version(), runtime.GOOS, runtime.GOARCH)
	}
	return cmd
}

// eachCommand calls f with a command and all below it that are shown, in order.
func eachCommand(c *cobra.Command, f func(*cobra.Command) error) error {
	c.InitDefaultHelpFlag()
	c.InitDefaultVersionFlag()
	if err := f(c); err != nil {
		return err
	}
	for _, below := range c.Commands() {
		if below.IsAvailableCommand() {
			if err := eachCommand(below, f); err != nil {
				return err
			}
		}
	}
	return nil
}

// reference writes all commands as Markdown.
func reference(root *cobra.Command, to io.Writer) error {
	fmt.Fprint(to, "# The commands\n\nMade by `brickrow man --markdown`; `brickrow COMMAND --help` says the same.\n")
	return eachCommand(root, func(c *cobra.Command) error {
		fmt.Fprintf(to, "\n## %s\n\n%s\n", c.CommandPath(), strings.TrimSpace(cmp.Or(c.Long, c.Short)))
		if c.Runnable() {
			fmt.Fprintf(to, "\n    %s\n", c.UseLine())
		}
		for _, below := range c.Commands() {
			if below.IsAvailableCommand() {
				fmt.Fprintf(to, "\n- [%s](#%s): %s", below.Name(), strings.ReplaceAll(below.CommandPath(), " ", "-"), below.Short)
			}
		}
		if flags := c.NonInheritedFlags(); flags.HasAvailableFlags() {
			if c.HasAvailableSubCommands() {
				fmt.Fprintln(to)
			}
			fmt.Fprintf(to, "\n```text\n%s```\n", flags.FlagUsagesWrapped(110))
		} else if c.HasAvailableSubCommands() {
			fmt.Fprintln(to)
		}
		return nil
	})
}
