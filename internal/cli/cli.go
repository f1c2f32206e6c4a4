// Package cli is the command line of Brick Row: the use cases of app for
// pipelines and habit, as text or JSON, with stable exit codes.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"brickrow/internal/app"
	"brickrow/internal/config"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// The exit codes.
const (
	ExitDone    = 0
	ExitRefused = 1 // refused or failed
	ExitUsage   = 2
	ExitChanges = 3 // --expect-none, and there are changes
	ExitUndone  = 4 // the run failed and was undone
	ExitStuck   = 5
)

// exit is an error that only sets the exit code; all has been said.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// usage is a mistake in how the command was called.
type usage struct{ error }

// Program is what the commands share.
type Program struct {
	In       io.Reader
	Out, Err io.Writer
	// Interface opens the full-screen interface; nil where there is none.
	Interface   func(ctx context.Context, a *app.App, o Screen) error
	home        string
	storeURL    string
	cloudURL    string
	set         *config.File
	tokens      map[string]string // handed over to a process that carries out
	onlyLooks   bool              // it is a command that only looks
	askPrograms bool              // also those that were never deployed
	terminal    bool
	bare, errs  io.Writer // Out and Err, with nothing in between
	theme       *part.Theme
	quiet       bool
	plain       bool      // the interface as lines
	spoken      bool      // it is called out of that, where questions are answered
	progress    *progress // what is being waited for; nil is nothing that is told
}

// Screen is what the interface opens with.
type Screen struct {
	Folders          []string // stack files are looked for in them
	File             string   // a stack file, a template or a saved change set to begin with; "" is none
	Ground, Contrast string   // as they are set; "" is not
	Again            func()   // of the demo: begins it again
}

// Run runs the command line and yields the exit code.
func (p *Program) Run(ctx context.Context, args []string) int {
	p.terminal = p.isTerminal() || p.spoken
	p.bare, p.errs = p.Out, p.Err
	p.Out, p.Err = plainWriter{p.Out}, plainWriter{p.Err}
	root := p.root()
	if len(args) > 0 && strings.HasPrefix(args[0], cobra.ShellCompRequestCmd) { // a shell asks; nobody else waits for it
		p.completing(root)
	}
	root.SetArgs(args)
	root.SetIn(p.In)
	root.SetOut(p.Out)
	root.SetErr(p.Err)
	called, err := root.ExecuteContextC(ctx)
	p.progress.end()
	var code exit
	var wrong usage
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &code):
		return int(code)
	case errors.As(err, &wrong), isUsage(err):
		fmt.Fprintf(p.Err, "brickrow: %v\n", err)
		if strings.HasPrefix(err.Error(), "accepts ") || strings.HasPrefix(err.Error(), "requires ") {
			fmt.Fprintf(p.Err, "it is called as: %s\n", called.UseLine())
		}
		return ExitUsage
	}
	fmt.Fprintf(p.Err, "brickrow: %v\n", err)
	return ExitRefused
}

// isUsage recognises the errors that cobra makes of a wrong call.
func isUsage(err error) bool {
	for _, start := range []string{"unknown command", "unknown flag", "unknown shorthand", "accepts ", "requires ",
		"flag needs", "invalid argument", "required flag", "if any flags", "at least one of the flags"} {
		if strings.HasPrefix(err.Error(), start) {
			return true
		}
	}
	return false
}

func (p *Program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "brickrow",
		Short: "Write a stack of cloud resources, see what a change would do, deploy it, watch it, undo it",
		Long: `Brick Row stands up stacks of cloud resources from TOSCA 2.0 templates.
Without a command it opens the full-screen interface; with a file alone it opens that there.`,
		Example:       "  brickrow\n  brickrow bulletin-test.stack.yaml\n  brickrow demo",
		Version:       Version(),
		Args:          fileAlone,
		SilenceErrors: true, SilenceUsage: true,
		RunE: func(cmd *cobra.Command, args []string) error {
			var o Screen
			if wd, err := os.Getwd(); err == nil { // without it there are the stacks all the same
				o.Folders = append(o.Folders, wd)
			}
			if len(args) > 0 {
				o.File = args[0]
			}
			return p.with(func(a *app.App) error { return p.open(cmd.Context(), a, o) })
		},
	}
	root.CompletionOptions.DisableDefaultCmd = true
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		p.onlyLooks = onlyLooks(cmd)
		if err := p.configured(cmd); err != nil {
			return err
		}
		name := strings.TrimPrefix(cmd.CommandPath(), "brickrow ")
		p.paint(name)
		p.tellProgress(name)
		return nil
	}
	root.PersistentFlags().StringVar(&p.cloudURL, "cloud", "", "URL of the cloud (BRICKROW_CLOUD, else the stand-in in the folder of the data)")
	root.PersistentFlags().BoolVar(&p.askPrograms, "ask-programs", false,
		"also ask programs of own types that were never deployed from this store: they run here, with the secrets of their resources")
	root.PersistentFlags().BoolVarP(&p.quiet, "quiet", "q", false, "say nothing on the way: no progress, and of a run only how it ended")
	root.PersistentFlags().StringVar(&p.home, "home", "",
		"folder of the data (BRICKROW_HOME, else the user's data folder)")
	root.PersistentFlags().StringVar(&p.storeURL, "store", "",
		"where the stacks are kept: postgres://user@host/database, or file (BRICKROW_STORE, else a file in the folder of the data)")
	for _, g := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Write templates:", []*cobra.Command{p.starters(), p.newFrom(), p.check(), p.format(), p.resolve(), p.schema(), p.pack(), p.rules(), p.types(), p.languageServer()}},
		{"See what a change would do, and agree to it:", []*cobra.Command{p.whatif(), p.draw(), p.approve()}},
		{"Carry it out, and take it back:", []*cobra.Command{p.deploy(), p.watch(), p.pause(), p.resume(), p.cancel(), p.onFailure(), p.leave(), p.undo(), p.remove()}},
		{"What is there, and what became of it:", []*cobra.Command{p.stacks(), p.show(), p.results(), p.events(), p.history(), p.scripts(), p.probes(), p.backups(), p.trace()}},
		{"The cloud as it is:", []*cobra.Command{p.targets(), p.cloud(), p.drift(), p.compliance(), p.observe(), p.act(), p.adopt(), p.release(), p.capture()}},
		{"Many places, and a team:", []*cobra.Command{p.fleet(), p.worker(), p.store(), p.identity()}},
		{"The program itself:", []*cobra.Command{p.demo(), p.config(), p.yard(), p.completion(), p.manual(), p.version()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, cmd := range g.commands {
			cmd.GroupID = g.title
			root.AddCommand(cmd)
		}
	}
	root.Flags().BoolVar(&p.plain, "plain", false, plainMeans)
	root.AddCommand(p.carryOut(), p.carryFleetOn())
	root.SetHelpCommandGroupID("The program itself:")
	root.SetFlagErrorFunc(unknownFlag)
	for _, cmd := range root.Commands() {
		refuseUnknown(cmd)
	}
	return root
}

const plainMeans = "the interface as lines and questions, without a full screen: for a screen reader, or a bad line"

// Commands stand in the order of the work, not of the alphabet.
var _ = func() bool { cobra.EnableCommandSorting = false; return true }()

// fileAlone lets the name of a file stand in the place of a command: it is opened in the interface.
func fileAlone(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	_, err := os.Stat(args[0])
	switch {
	case len(args) == 1 && err == nil:
		return nil
	case strings.ContainsAny(args[0], "/.") && err != nil:
		return usage{fmt.Errorf("%s cannot be opened: %w", args[0], errors.Unwrap(err))}
	}
	cmd.SuggestionsMinimumDistance = 2
	hint := "'brickrow --help' lists them"
	if like := cmd.SuggestionsFor(args[0]); len(like) > 0 {
		hint = "did you mean '" + like[0] + "'?"
	}
	return usage{fmt.Errorf("unknown command %q; %s", args[0], hint)}
}

// unknownFlag says which flag was meant, where one is like it.
func unknownFlag(cmd *cobra.Command, err error) error {
	name, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return usage{fmt.Errorf("%w; '%s --help' lists what there is", err, cmd.CommandPath())}
	}
	var known []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			known = append(known, "--"+f.Name)
		}
	})
	hint := tosca.Suggest("--"+name, known)
	if hint == "" {
		hint = "'" + cmd.CommandPath() + " --help' lists them"
	}
	return usage{fmt.Errorf("unknown flag --%s; %s", name, hint)}
}

// looking are the commands that only look, and flags those with which they do more.
var looking = struct{ commands, flags []string }{
	[]string{"check", "resolve", "whatif", "draw", "stacks", "show", "results", "events", "history", "drift", "cloud", "compliance", "trace", "probes", "backups",
		"scripts", "targets", "store status"},
	[]string{"save", "write", "put-back", "yes", "leave", "take", "follow", "queue", "watch", "notify"},
}

// onlyLooks reports whether a command only looks. 'targets' with flags changes a setting.
func onlyLooks(cmd *cobra.Command) bool {
	name := strings.TrimPrefix(cmd.CommandPath(), "brickrow ")
	changes := false
	cmd.Flags().Visit(func(f *pflag.Flag) {
		changes = changes || slices.Contains(looking.flags, f.Name) || name == "targets" && f.Name != "json" && cmd.Root().PersistentFlags().Lookup(f.Name) == nil
	})
	return slices.Contains(looking.commands, name) && !changes
}

// onlyOthers marks a command that does nothing itself.
const onlyOthers = "only-others"

// refuseUnknown lets a command that only has others refuse what is none of them; by itself it shows its help.
func refuseUnknown(cmd *cobra.Command) {
	if len(cmd.Commands()) > 0 && cmd.RunE == nil && cmd.Run == nil {
		cmd.SuggestionsMinimumDistance = 2
		cmd.Annotations = map[string]string{onlyOthers: "yes"}
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			hint := "'" + cmd.CommandPath() + " --help' lists them"
			if like := cmd.SuggestionsFor(args[0]); len(like) > 0 {
				hint = "did you mean '" + like[0] + "'?"
			}
			return usage{fmt.Errorf("unknown command %q for %q; %s", args[0], cmd.CommandPath(), hint)}
		}
		cmd.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
	}
	for _, under := range cmd.Commands() {
		refuseUnknown(under)
	}
}

// with opens the program's data around f.
func (p *Program) with(f func(a *app.App) error) error {
	a, err := app.Open(p.options())
	if err != nil {
		return err
	}
	return errors.Join(f(a), a.Close())
}

// options say where the data is, and which cloud it is about: as flags, the environment and the configuration say.
func (p *Program) options() app.Options {
	o := app.Options{Home: p.set.Get("home", p.home), Store: p.set.Get("store", p.storeURL), CloudURL: p.set.Get("cloud", p.cloudURL), Tokens: p.tokens, AskPrograms: p.askPrograms, Looking: p.onlyLooks}
	o.Speed, _ = strconv.ParseFloat(p.set.Get("yard_speed", ""), 64) // of a wrong one in the environment app tells
	return o
}

// configured reads the configuration, and lets flags that name a target mean what it says.
func (p *Program) configured(cmd *cobra.Command) (err error) {
	if p.set, err = config.Read(); err != nil {
		return usage{err}
	}
	flag := cmd.Flags().Lookup("target")
	if flag == nil || !flag.Changed {
		return nil
	}
	if list, ok := flag.Value.(interface {
		GetSlice() []string
		Replace([]string) error
	}); ok {
		named := list.GetSlice()
		for i, text := range named {
			named[i] = p.set.Target(text)
		}
		return list.Replace(named)
	}
	return flag.Value.Set(p.set.Target(flag.Value.String()))
}

// onStack opens the program's data and finds a stack by name.
func (p *Program) onStack(ctx context.Context, name string, f func(a *app.App, st *stack.Stack) error) error {
	return p.with(func(a *app.App) error {
		st, err := a.Find(ctx, name)
		if err != nil {
			return err
		}
		return f(a, st)
	})
}

func (p *Program) open(ctx context.Context, a *app.App, o Screen) error {
	if p.plain {
		return p.plainly(ctx, a, o)
	}
	if p.Interface == nil || !p.terminal {
		return usage{errors.New("the interface needs a terminal, or --plain; 'brickrow --help' lists the commands that do not")}
	}
	o.Ground, o.Contrast = p.set.Get("ground", ""), p.set.Get("contrast", "")
	return p.Interface(ctx, a, o)
}

func (p *Program) isTerminal() bool {
	in, okIn := p.In.(*os.File)
	out, okOut := p.Out.(*os.File)
	return okIn && okOut && term.IsTerminal(in.Fd()) && term.IsTerminal(out.Fd())
}

// confirm asks a question, or fails where nobody can answer. A careful target
// or data at risk wants the stack's name typed.
func (p *Program) confirm(question, word string) error {
	if !p.terminal {
		return usage{fmt.Errorf("%s Nobody can answer here: add --yes", question)}
	}
	hint := "y or n"
	if word != "" {
		hint = "type " + word
	}
	fmt.Fprintf(p.Out, "%s [%s] ", question, hint)
	var answer string
	fmt.Fscanln(p.In, &answer)
	if word == "" && (answer == "y" || answer == "yes") || word != "" && answer == word {
		return nil
	}
	fmt.Fprintln(p.Err, "Nothing was done.")
	return exit(ExitRefused)
}

// jsonLine prints something as one line.
func (p *Program) jsonLine(x any) error { return json.NewEncoder(p.Out).Encode(x) }

func (p *Program) json(x any) error {
	e := json.NewEncoder(p.Out)
	e.SetIndent("", "  ")
	return e.Encode(x)
}

// jsonFlag lets a command be asked for JSON.
func jsonFlag(cmd *cobra.Command) *bool { return cmd.Flags().Bool("json", false, "as JSON") }

// told says what was done: in words, or as JSON.
func (p *Program) told(asJSON bool, x any, words string, args ...any) error {
	if asJSON {
		return p.json(x)
	}
	_, err := fmt.Fprintf(p.Out, words+"\n", args...)
	return err
}

// code is the exit code of a run that has ended.
func code(r *run.Record) error {
	switch r.State {
	case run.StatusDone:
		if r.Receipt != nil && len(r.Receipt.Unreadable) > 0 { // whether all is gone is not known
			return exit(ExitStuck)
		}
		return nil
	case run.StatusUndone:
		return exit(ExitUndone)
	case run.StatusStuck:
		return exit(ExitStuck)
	}
	return exit(ExitRefused)
}
