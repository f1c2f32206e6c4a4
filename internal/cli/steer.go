package cli

import (
	"context"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// jsonAsked is what was asked of a run.
type jsonAsked struct {
	Stack  string          `json:"stack"`
	Target string          `json:"target"`
	Run    int             `json:"run"`
	State  run.Status      `json:"state"` // when it was asked
	Asked  string          `json:"asked"`
	Then   stack.OnFailure `json:"then,omitempty"` // what becomes of what it has done
}

// asked is what was asked of a run: as JSON, and in words.
type asked struct {
	what  string
	then  stack.OnFailure
	words string
}

// ofRun makes a command that asks something of the last run of a stack, and says what was
// asked.
func (p *Program) ofRun(use, short string, args cobra.PositionalArgs,
	ask func(ctx context.Context, a *app.App, r *run.Record, args []string) (asked, error)) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: args}
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			r, err := runOf(ctx, a, st, 0)
			if err != nil {
				return err
			}
			state := r.State
			is, err := ask(ctx, a, r, args)
			if err != nil {
				return err
			}
			return p.told(*asJSON, jsonAsked{st.Name, st.Target.String(), r.Number, state, is.what, is.then},
				"run %d of %s %s", r.Number, st.Name, is.words)
		})
	}
	return cmd
}

func (p *Program) cancel() *cobra.Command {
	hold := false
	cmd := p.ofRun("cancel STACK", "Stop the run of a stack; what it has done is undone, or held, where it has not gone too far", cobra.ExactArgs(1),
		func(ctx context.Context, a *app.App, r *run.Record, _ []string) (asked, error) {
			then := stack.Undo
			if hold {
				then = stack.Hold
			}
			words, err := a.Cancel(ctx, r, then)
			return asked{"stop", then, words}, err
		})
	cmd.Flags().BoolVar(&hold, "hold", false, "what was done stays, and a resume goes on with it")
	return cmd
}

func (p *Program) pause() *cobra.Command {
	return p.ofRun("pause STACK", "Let the run of a stack begin nothing more; resume goes on", cobra.ExactArgs(1),
		func(ctx context.Context, a *app.App, r *run.Record, args []string) (asked, error) {
			words := fmt.Sprintf("was asked to pause: what is under way comes to its end; 'brickrow resume %s' goes on", args[0])
			return asked{"pause", "", words}, a.Pause(ctx, r)
		})
}

func (p *Program) onFailure() *cobra.Command {
	return p.ofRun("on-failure STACK undo|hold", "Choose what becomes of what a run has done, should it fail", cobra.ExactArgs(2),
		func(ctx context.Context, a *app.App, r *run.Record, args []string) (asked, error) {
			then := stack.OnFailure(args[1])
			if then != stack.Undo && then != stack.Hold {
				return asked{}, usage{fmt.Errorf("on failure it is undo or hold, not '%s'", args[1])}
			}
			words := map[stack.OnFailure]string{stack.Undo: "is undone should it fail", stack.Hold: "is held should it fail"}[then]
			return asked{"on-failure", then, words}, a.ChooseOnFailure(ctx, r, then)
		})
}

func (p *Program) leave() *cobra.Command {
	yes := false
	cmd := &cobra.Command{Use: "leave STACK RESOURCE",
		Short: "Give up a resource that a stuck run cannot get rid of; it stays in the cloud, and is recorded as left",
		Args:  cobra.ExactArgs(2)}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			l, err := a.WhatLeaves(ctx, st, args[1])
			if err != nil {
				return err
			}
			for _, words := range l.Words() {
				if !*asJSON {
					p.wrapped("stays in the cloud  ", words)
				}
			}
			if !yes {
				if err := p.confirm(fmt.Sprintf("Leave %d in %s / %s?", len(l.Parts), st.Target.Account, st.Target.Region), ""); err != nil {
					return err
				}
			}
			if err := a.Leave(ctx, st, l); err != nil {
				return err
			}
			return p.told(*asJSON, map[string]any{"stack": st.Name, "target": st.Target.String(), "left": l.Words()},
				"left; 'brickrow resume %s' goes on without it, 'brickrow show %s' tells later whether it is there still", args[0], args[0])
		})
	}
	return cmd
}

func (p *Program) backups() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{Use: "backups STACK", Short: "List the backups of what a stack holds, or held", Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			list, err := a.Backups(ctx, st)
			switch {
			case err != nil:
				return err
			case asJSON:
				return p.json(append([]app.Backup{}, list...))
			case len(list) == 0:
				fmt.Fprintf(p.Out, "%s has no backups; the policy Backup lets them be taken before something goes\n", st.Name)
				return nil
			}
			w := tabwriter.NewWriter(p.Out, 0, 4, 2, ' ', 0)
			for _, b := range list {
				of := b.Of
				if !b.There {
					of += ", which is gone"
				}
				fmt.Fprintf(w, "%s\t%s\t%s\tof %s\t%s\n", b.Taken.Local().Format(time.DateTime), b.ID, b.Node, of, b.Digest)
			}
			return w.Flush()
		})
	}
	return cmd
}

type jsonProbed struct {
	Probe  string  `json:"probe"`
	Kind   string  `json:"kind"`
	URL    any     `json:"url"`
	Passes bool    `json:"passes"`
	Said   string  `json:"said"`
	Took   float64 `json:"seconds"`
	File   string  `json:"file"`
	Line   int     `json:"line"`
}

func (p *Program) probes() *cobra.Command {
	asJSON, junit := false, ""
	cmd := &cobra.Command{Use: "probes STACK", Short: "Ask the probes of a stack, as it is deployed, once", Args: cobra.ExactArgs(1)}
	cmd.Flags().StringVar(&junit, "junit", "", "write it to this file, as JUnit XML")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			list, err := a.Probes(ctx, st)
			if err != nil {
				return err
			}
			out, failing := []jsonProbed{}, false
			for _, r := range list {
				failing = failing || !r.Well
				out = append(out, jsonProbed{r.Name, r.Kind, r.URL, r.Well, r.Said, r.Took.Seconds(), r.Pos.File, r.Pos.Line})
			}
			if junit != "" {
				if err := probesJUnit(junit, st, list); err != nil {
					return err
				}
			}
			switch {
			case asJSON:
				err = p.json(out)
			case len(out) == 0:
				fmt.Fprintf(p.Out, "%s has no probes; a policy of the type Probe is one\n", st.Name)
			}
			for _, r := range list {
				if !asJSON {
					word := "passes"
					if !r.Well {
						word = "fails"
					}
					p.wrapped(fmt.Sprintf("%-18s %-7s ", r.Name, word), cloud.Clean(tosca.Show(r.URL))+": "+cloud.Clean(r.Said))
				}
			}
			if err == nil && failing {
				return exit(ExitRefused)
			}
			return err
		})
	}
	return cmd
}
