package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// jsonScript is a script as it is printed.
type jsonScript struct {
	Server     string            `json:"server"` // its id; behind / which one of a group
	ServerNode string            `json:"server_node"`
	Node       string            `json:"node"`
	Operation  string            `json:"operation"`
	State      string            `json:"state"`
	Begun      *time.Time        `json:"begun"`
	Seconds    float64           `json:"seconds"`
	ExitCode   int               `json:"exit_code"`
	Output     string            `json:"output"`
	Errors     string            `json:"errors"`
	Results    map[string]string `json:"results"`
	Changed    *bool             `json:"changed"`
	Problem    string            `json:"problem"`
}

func (p *Program) scripts() *cobra.Command {
	asJSON, follow := false, false
	cmd := &cobra.Command{Use: "scripts STACK [RESOURCE]", Short: "List what was carried out on its servers, and what it printed", Args: cobra.RangeArgs(1, 2)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "wait until those that run have come to their ends")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		name := ""
		if len(args) > 1 {
			name = args[1]
		}
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			list, err := a.Scripts(ctx, st, name)
			open := func(s cloud.Script) bool { return s.State == "waiting" || s.State == "running" }
			for err == nil && follow && slices.ContainsFunc(list, open) {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(300 * time.Millisecond):
				}
				list, err = a.Scripts(ctx, st, name)
			}
			switch {
			case err != nil:
				return err
			case asJSON:
				out := []jsonScript{}
				for _, s := range list {
					out = append(out, jsonScript{s.Server, s.ServerNode, s.Node, s.Operation, s.State, s.Begun, s.Seconds, s.ExitCode, s.Output, s.Errors,
						s.Results, s.Changed, s.Problem})
				}
				return p.json(out)
			case len(list) == 0 && name != "":
				fmt.Fprintf(p.Out, "nothing was carried out for %s of %s\n", name, st.Name)
			case len(list) == 0:
				fmt.Fprintf(p.Out, "%s has no scripts; a node of the type Software has some\n", st.Name)
			case name != "":
				p.scriptsOf(list)
			default:
				return p.scriptTable(list)
			}
			return nil
		})
	}
	return cmd
}

func (p *Program) scriptTable(list []cloud.Script) error {
	w := tabwriter.NewWriter(p.Out, 0, 4, 2, ' ', 0)
	for _, s := range list {
		fmt.Fprintf(w, "%s\t%s\t%s\ton %s\t%s\t%s\n", begunAt(s), s.Operation, s.Node, serverOf(s), s.State, scriptEnd(s))
	}
	return w.Flush()
}

// scriptsOf prints all that the scripts of a resource have printed.
func (p *Program) scriptsOf(list []cloud.Script) {
	for i, s := range list {
		if i > 0 {
			fmt.Fprintln(p.Out)
		}
		fmt.Fprintf(p.Out, "%s  %s of %s on %s: %s%s\n", begunAt(s), s.Operation, s.Node, serverOf(s), s.State, strings.TrimRight("  "+scriptEnd(s), " "))
		lines := func(mark, text string) {
			if text != "" {
				for _, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
					fmt.Fprintln(p.Out, strings.TrimRight(mark+l, " "))
				}
			}
		}
		lines("    ", s.Output)
		lines("  ! ", s.Errors)
		for _, k := range slices.Sorted(maps.Keys(s.Results)) {
			fmt.Fprintf(p.Out, "  = %s  %s\n", k, cloud.Clean(s.Results[k]))
		}
	}
}

func begunAt(s cloud.Script) string {
	if s.Begun == nil {
		return "waits   "
	}
	return s.Begun.Local().Format("15:04:05")
}

// serverOf is the server of a script, as people call it.
func serverOf(s cloud.Script) string {
	if s.ServerNode == "" {
		return s.Server
	}
	return s.ServerNode + " (" + s.Server + ")"
}

func scriptEnd(s cloud.Script) string {
	var words []string
	if s.Begun != nil {
		words = append(words, whatif.Length(s.Seconds))
	}
	switch {
	case s.Problem != "":
		words = append(words, s.Problem)
	case s.ExitCode != 0:
		words = append(words, fmt.Sprintf("exit code %d", s.ExitCode))
	}
	if s.Changed != nil && !*s.Changed {
		words = append(words, "nothing changed")
	}
	return strings.Join(words, "  ")
}
