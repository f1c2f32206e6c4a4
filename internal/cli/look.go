package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/demo"
	"brickrow/internal/profile"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/yard"
)

func (p *Program) demo() *cobra.Command {
	var reset, prepareOnly bool
	cmd := &cobra.Command{Use: "demo",
		Short: "Open the interface on the demo of Kestrel Ridge, with the stand-in cloud", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&reset, "reset", false, "begin the demo again")
	cmd.Flags().BoolVar(&p.plain, "plain", false, plainMeans)
	cmd.Flags().BoolVar(&prepareOnly, "prepare-only", false, "make the demo's data and leave")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		home := p.home
		if home == "" && os.Getenv("BRICKROW_HOME") == "" {
			home = app.Home("") + "-demo"
		}
		home = app.Home(home)
		make := demo.Prepare
		if reset {
			make = demo.Reset
		}
		if err := make(cmd.Context(), home, func(s string) { fmt.Fprintln(p.Err, s) }); err != nil {
			return err
		}
		if prepareOnly {
			fmt.Fprintf(p.Out, "the demo is in %s\n", home)
			return nil
		}
		speed := 0.0
		if os.Getenv("BRICKROW_YARD_SPEED") == "" {
			speed = demo.Speed
		}
		if p.plain { // what is said there goes to the same demo
			p.home, p.storeURL = home, app.InFile
			if speed > 0 {
				os.Setenv("BRICKROW_YARD_SPEED", strconv.Itoa(demo.Speed))
			}
		}
		for {
			a, err := app.Open(app.Options{Home: home, Store: app.InFile, Speed: speed})
			if err != nil {
				return err
			}
			again := false
			o := Screen{Folders: []string{demo.Project(home)}, Again: func() { again = true }}
			if err := errors.Join(p.open(cmd.Context(), a, o), a.Close()); err != nil || !again {
				return err
			}
			if err := demo.Reset(cmd.Context(), home, func(s string) { fmt.Fprintln(p.Err, s) }); err != nil {
				return err
			}
		}
	}
	return cmd
}

type jsonStack struct {
	Name     string      `json:"name"`
	Target   string      `json:"target"`
	State    stack.State `json:"state"`
	Revision int         `json:"revision"`
	LastRun  int         `json:"last_run"`
	Updated  time.Time   `json:"updated"`
	Differs  int         `json:"differs"`
}

func (p *Program) stacks() *cobra.Command {
	var removed, asJSON bool
	cmd := &cobra.Command{Use: "stacks", Short: "List the stacks", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&removed, "removed", false, "list removed stacks too")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			list, err := a.Stacks(cmd.Context())
			if err != nil {
				return err
			}
			out := []jsonStack{}
			notes := []string{}
			for _, o := range list {
				st := o.Stack
				if st.State == stack.Removed && !removed {
					continue
				}
				j := jsonStack{st.Name, st.Target.String(), st.Shown(), st.Revision, 0, st.Updated.UTC(), st.Differs}
				if o.Run != nil {
					j.LastRun = o.Run.Number
				}
				note := ""
				if o.Run != nil && o.Run.State == run.StatusQueued {
					note = "  " + o.Run.Words()
				}
				if o.Waits() {
					if ways, err := a.WaysOut(cmd.Context(), st); err == nil {
						note = "  did not come to its end: " + ways.String()
					}
				}
				out, notes = append(out, j), append(notes, note)
			}
			if asJSON {
				return p.json(out)
			}
			if len(out) == 0 {
				switch {
				case len(list) > 0:
					fmt.Fprintln(p.Out, "all stacks are removed: 'brickrow stacks --removed' lists them")
				default:
					fmt.Fprintln(p.Out, "no stacks yet: 'brickrow starters' lists small ones to begin with, 'brickrow demo' shows some that are deployed")
				}
			}
			names, targets, states := 20, 18, 10
			for _, s := range out {
				names, targets, states = max(names, len(s.Name)), max(targets, len(s.Target)), max(states, len(s.State))
			}
			for i, s := range out {
				rev := fmt.Sprintf("rev %d", s.Revision)
				if s.Revision == 0 {
					rev = "–"
				}
				fmt.Fprintf(p.Out, "%-*s %-*s %-*s %-7s %s%s\n", names, s.Name, targets, s.Target, states, s.State, rev,
					s.Updated.Local().Format("2006-01-02 15:04"), notes[i])
			}
			return nil
		})
	}
	return cmd
}

// resultMap is results by name; JSON hides what is secret in them.
func resultMap(list []stack.Result) map[string]any {
	out := map[string]any{}
	for _, r := range list {
		out[r.Name] = r.Value
	}
	return out
}

func revealedMap(list []stack.Result) map[string]any {
	out := map[string]any{}
	for _, r := range list {
		out[r.Name] = tosca.Reveal(r.Value)
	}
	return out
}

func (p *Program) results() *cobra.Command {
	var asJSON, asEnv, reveal, commands bool
	cmd := &cobra.Command{Use: "results STACK [RESULT]", Short: "Print the results of a stack, or one of them alone",
		Args: cobra.RangeArgs(1, 2)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().BoolVar(&asEnv, "env", false, "as assignments of a shell")
	cmd.Flags().BoolVar(&commands, "command", false, "the commands that are ready to be run with them")
	cmd.Flags().BoolVar(&reveal, "reveal", false, "show secrets in clear")
	cmd.MarkFlagsMutuallyExclusive("json", "env", "command")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onStack(cmd.Context(), args[0], func(a *app.App, st *stack.Stack) error {
			list, err := a.Results(cmd.Context(), st)
			if err != nil {
				return err
			}
			alone := len(args) == 2
			if alone {
				i := slices.IndexFunc(list, func(r stack.Result) bool { return r.Name == args[1] })
				if i < 0 {
					return fmt.Errorf("%s has no result '%s'; it has %s", st.Name, args[1], strings.Join(resultNames(list), ", "))
				}
				list = list[i : i+1]
			}
			text, values := stack.Result.Text, resultMap
			if reveal {
				text, values = stack.Result.Reveal, revealedMap
			}
			switch {
			case asJSON:
				return p.json(values(list))
			case asEnv:
				p.assignments(list, text)
			case commands && alone && list[0].Command == "":
				return fmt.Errorf("%s of %s has no command; its output gives one in metadata: { command: … }", args[1], st.Name)
			case commands:
				p.readyCommands(list, text, alone)
			case alone:
				fmt.Fprintln(p.Out, cloud.Clean(text(list[0])))
			default:
				p.resultLines(list, text)
			}
			return nil
		})
	}
	return cmd
}

func resultNames(list []stack.Result) []string {
	names := make([]string, len(list))
	for i, r := range list {
		names[i] = r.Name
	}
	return names
}

func (p *Program) yard() *cobra.Command {
	cmd := &cobra.Command{Use: "yard", Short: "The stand-in cloud: serve it, look into it, let it fail"}
	cmd.AddCommand(p.yardServe(), p.yardResources(), p.yardFault(), p.yardPermit(), p.yardAtOnce(), p.yardFill(),
		p.yardByHand("change STACK RESOURCE PROPERTY=VALUE", "Change what a stack has in the stand-in cloud, as somebody does at the console of a cloud", "is another one now", 3,
			func(a *app.App, ctx context.Context, r *app.There, args []string) error {
				return a.ChangeByHand(ctx, r, args[0])
			}),
		p.yardByHand("remove STACK RESOURCE", "Remove what a stack has from the stand-in cloud, as somebody does at its console", "is gone", 2,
			func(a *app.App, ctx context.Context, r *app.There, _ []string) error { return a.RemoveByHand(ctx, r) }))
	return cmd
}

func (p *Program) yardServe() *cobra.Command {
	var port, more int
	cmd := &cobra.Command{Use: "serve", Short: "Serve the stand-in cloud on the loopback address", Args: cobra.NoArgs}
	cmd.Flags().IntVar(&port, "port", 7707, "port to listen on; 0 takes a free one")
	cmd.Flags().IntVar(&more, "accounts", 0, "so many accounts beside the usual ones: hut-001, hut-002 and so on")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if more < 0 || more > 999 {
			return usage{fmt.Errorf("--accounts is a number up to 999, not %d", more)}
		}
		home := app.Home(p.options().Home)
		speed, err := app.Speed(0)
		if err != nil {
			return err
		}
		if err := app.MakeHome(home); err != nil {
			return err
		}
		y, err := yard.Open(home, yard.Options{Library: profile.Read().Library, Speed: speed, More: more})
		if err != nil {
			return err
		}
		defer y.Close()
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return fmt.Errorf("listen: %w", err)
		}
		fmt.Fprintf(p.Out,
			"the yard listens on http://%s; tokens are in %s/%s\nset BRICKROW_CLOUD=http://%s to use it\n", l.Addr(),
			home, yard.CredentialsFile, l.Addr())
		srv := yard.Server(y.Handler())
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		go func() {
			<-ctx.Done()
			srv.Close()
		}()
		if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	}
	return cmd
}

func (p *Program) yardResources() *cobra.Command {
	var name string
	var asJSON bool
	cmd := &cobra.Command{Use: "resources", Short: "List what is in the stand-in cloud", Args: cobra.NoArgs}
	cmd.Flags().StringVar(&name, "stack", "", "only those of a stack")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			list, err := a.Door.Everything(cmd.Context(), name)
			if err != nil {
				return err
			}
			if asJSON {
				return p.json(list)
			}
			for _, r := range list {
				fmt.Fprintf(p.Out, "%-26s %-14s %-18s %-16s %s\n", r.ID, r.Type, r.Account+"/"+r.Region,
					cloud.Clean(r.Stack), cloud.Clean(r.Node))
			}
			return nil
		})
	}
	return cmd
}

func (p *Program) yardPermit() *cobra.Command {
	return &cobra.Command{Use: "permit ACCOUNT ACTION...",
		Short: "Say what the credentials of an account may do: server:create, network:*, *:*",
		Args:  cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return p.with(func(a *app.App) error {
				return a.Door.Permit(cmd.Context(), yard.Permission{Account: args[0], Actions: args[1:]})
			})
		}}
}

func (p *Program) yardAtOnce() *cobra.Command {
	return &cobra.Command{Use: "at-once ACCOUNT N",
		Short: "Say how many operations may be under way at once in each region of an account", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil {
				return usage{fmt.Errorf("'%s' is no number", args[1])}
			}
			return p.with(func(a *app.App) error {
				return a.Door.AtOnce(cmd.Context(), yard.AtOnce{Account: args[0], AtOnce: n})
			})
		}}
}

func (p *Program) yardFill() *cobra.Command {
	return &cobra.Command{Use: "fill STACK RESOURCE TEXT",
		Short: "Say what a database, a disk or a bucket holds", Args: cobra.ExactArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			return p.with(func(a *app.App) error {
				return a.Door.Fill(cmd.Context(), yard.Filling{Stack: args[0], Node: args[1], Contents: args[2]})
			})
		}}
}

// yardByHand makes a command that does something to what a stack has in the cloud past the stack.
func (p *Program) yardByHand(use, short, said string, n int, do func(*app.App, context.Context, *app.There, []string) error) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(n), RunE: func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			v, err := a.Look(ctx, st.Target)
			if err != nil {
				return err
			}
			there, err := v.Named(st, args[1])
			if err != nil {
				return err
			}
			if err := do(a, ctx, there, args[2:]); err != nil {
				return err
			}
			fmt.Fprintf(p.Out, "%s %s\n", args[1], said)
			return nil
		})
	}}
}

func (p *Program) yardFault() *cobra.Command {
	cmd := &cobra.Command{Use: "fault", Short: "Let the stand-in cloud fail on purpose"}
	var f yard.Fault
	add := &cobra.Command{Use: "add", Short: "Add a fault", Args: cobra.NoArgs}
	add.Flags().StringVar(&f.Name, "name", "", "name of the node, or of one resource such as reader#0")
	add.Flags().StringVar(&f.Type, "type", "", "type of resource")
	add.Flags().StringVar(&f.On, "on", "", "create, update, delete, drain, refill, backup or restore (default: create and update)")
	add.Flags().StringVar(&f.At, "at", "",
		"the inner step to fail in (default: the first); 'last' is the last one, 'call' refuses at once")
	add.Flags().IntVar(&f.Times, "times", 1, "how often; 0 is until cleared")
	add.Flags().StringVar(&f.Mode, "mode", "fail",
		"fail, busy (an error that passes), lose (the work is done, the answer lost); of the agents of servers silent, slow, endless, unheard")
	add.Flags().StringVar(&f.Reason, "reason", "", "the cloud's words")
	if err := add.MarkFlagRequired("reason"); err != nil {
		panic(err)
	}
	add.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			made, err := a.Door.AddFault(cmd.Context(), f)
			if err != nil {
				return err
			}
			fmt.Fprintf(p.Out, "fault %d added\n", made.ID)
			return nil
		})
	}
	list := &cobra.Command{Use: "list", Short: "List the faults", Args: cobra.NoArgs}
	asJSON := jsonFlag(list)
	list.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			faults, err := a.Door.Faults(cmd.Context())
			switch {
			case err != nil:
				return err
			case *asJSON:
				return p.json(append([]yard.Fault{}, faults...))
			case len(faults) == 0:
				fmt.Fprintln(p.Out, "no faults")
			}
			for _, f := range faults {
				times := "until cleared"
				if f.Times > 0 {
					times = stack.Count(f.Times, "time")
				}
				fmt.Fprintf(p.Out, "%d  %s  name %s, type %s, on %s, at %s, %s: %s\n", f.ID, f.Mode,
					or(f.Name, "any"), or(f.Type, "any"), or(f.On, "create or update"),
					or(f.At, "the first step"), times, cloud.Clean(f.Reason))
			}
			return nil
		})
	}
	clear := &cobra.Command{Use: "clear", Short: "Take all faults away", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.with(func(a *app.App) error {
				if err := a.Door.ClearFaults(cmd.Context()); err != nil {
					return err
				}
				fmt.Fprintln(p.Out, "no faults")
				return nil
			})
		}}
	cmd.AddCommand(add, list, clear)
	return cmd
}

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}
