package cli

import (
	"context"
	"errors"
	"fmt"
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
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

func (p *Program) undo() *cobra.Command {
	var to int
	var list bool
	cmd := &cobra.Command{Use: "undo STACK",
		Short: "Undo an interrupted or held run, or go back to a former revision", Args: cobra.ExactArgs(1)}
	agreed := agreementFlags(cmd)
	agreed.saveFlag(cmd)
	cmd.Flags().IntVar(&to, "to", 0, "the revision to go back to (default: a terminal asks; else the one before)")
	cmd.Flags().BoolVar(&list, "list", false, "list the revisions, and do nothing")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			given := cmd.Flags().Changed("to")
			if given && to < 1 {
				return usage{fmt.Errorf("there is no revision %d: they are counted from 1", to)}
			}
			if ways, err := a.WaysOut(ctx, st); err != nil {
				return err
			} else if ways.Resume && !given {
				in, err := p.in(&agreed.carrying)
				if err != nil {
					return err
				}
				consent, err := a.UndoConsent(ctx, st)
				if err != nil {
					return err
				}
				if len(consent.Risks) > 0 {
					for _, r := range consent.Risks {
						fmt.Fprintf(p.Err, "! %-8s %s\n", r.Kind, cloud.Clean(r.Text))
					}
					if err := p.agree(agreed, consent, app.UndoQuestion(st)); err != nil {
						return err
					}
				}
				t, err := a.ResumeIn(ctx, st, app.Back, in)
				if err != nil {
					return err
				}
				return p.execute(ctx, a, t, agreed.carrying)
			}
			if list {
				return p.revisions(ctx, a, st)
			}
			if p.terminal && !given && !agreed.yes && agreed.save == "" && !agreed.json {
				var err error
				if to, err = p.askRevision(ctx, a, st); err != nil {
					return err
				}
			}
			pv, err := a.WhatIfUndo(ctx, st, to)
			if err != nil {
				return err
			}
			return p.shownAndCarried(ctx, a, pv, stack.Undo, agreed)
		})
	}
	return cmd
}

// revisions prints the revisions of a stack, newest first.
func (p *Program) revisions(ctx context.Context, a *app.App, st *stack.Stack) error {
	list, err := a.Revisions(ctx, st)
	for _, r := range list {
		mark := " "
		if r.Current {
			mark = "•"
		}
		p.wrapped(fmt.Sprintf("%s %3d  %s  ", mark, r.Number, r.Created.Local().Format("2006-01-02 15:04")),
			strings.Join(slices.DeleteFunc([]string{r.By, r.Words(), r.Note}, func(s string) bool { return s == "" }), " · "))
	}
	return err
}

// askRevision asks which revision to go back to.
func (p *Program) askRevision(ctx context.Context, a *app.App, st *stack.Stack) (int, error) {
	former, err := a.Former(ctx, st)
	if err != nil || former == 0 {
		return 0, err // which refuses it
	}
	if err := p.revisions(ctx, a, st); err != nil {
		return 0, err
	}
	fmt.Fprintf(p.Out, "Go back to which revision? [%d] ", former)
	answer := ""
	fmt.Fscanln(p.In, &answer)
	if answer == "" {
		return former, nil
	}
	n, err := strconv.Atoi(answer)
	if err != nil || n < 1 {
		return 0, usage{fmt.Errorf("'%s' is not the number of a revision", answer)}
	}
	return n, nil
}

func (p *Program) remove() *cobra.Command {
	cmd := &cobra.Command{Use: "delete STACK",
		Short: "Remove every resource of a stack, and ask the cloud whether it is all gone", Args: cobra.ExactArgs(1)}
	agreed := agreementFlags(cmd)
	agreed.saveFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			if st.State == stack.Removed {
				gone, err := a.ForgetGone(ctx, st)
				if err != nil {
					return err
				}
				if len(gone) > 0 {
					fmt.Fprintf(p.Out, "what was left of %s is gone by now, as the cloud says: %s\n", st.Name, strings.Join(gone, ", "))
				}
				left, err := a.LeftOf(ctx, st)
				if err != nil {
					return err
				}
				if len(left) == 0 && len(gone) > 0 {
					return nil
				}
				if len(left) == 0 {
					return fmt.Errorf("%s is removed already", st.Name)
				}
			}
			pv, err := a.WhatIfDelete(ctx, st)
			if err != nil {
				return err
			}
			return p.shownAndCarried(ctx, a, pv, stack.Hold, agreed)
		})
	}
	return cmd
}

func (p *Program) resume() *cobra.Command {
	var retry []string
	cmd := &cobra.Command{Use: "resume STACK", Short: "Go on with a run that was paused, interrupted, held or stuck",
		Args: cobra.ExactArgs(1)}
	how := carrying{}
	how.carryingFlags(cmd)
	cmd.Flags().StringSliceVar(&retry, "retry", nil, "of what has failed, try only these resources again")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onStack(cmd.Context(), args[0], func(a *app.App, st *stack.Stack) error {
			if r, err := a.RunNumber(cmd.Context(), st, 0); err == nil && r != nil {
				if back, err := a.Unpause(cmd.Context(), r); back || err != nil {
					fmt.Fprintf(p.Out, "run %d of %s goes on: it is paused no more\n", r.Number, st.Name)
					return err
				}
			}
			in, err := p.in(&how)
			if err != nil {
				return err
			}
			t, err := a.ResumeIn(cmd.Context(), st, app.On, in, retry...)
			if err != nil {
				return err
			}
			return p.execute(cmd.Context(), a, t, how)
		})
	}
	return cmd
}

// runOf is a run of a stack by its number; 0 is the last one.
func runOf(ctx context.Context, a *app.App, st *stack.Stack, number int) (*run.Record, error) {
	r, err := a.RunNumber(ctx, st, number)
	switch {
	case err != nil:
		return nil, err
	case r == nil && number == 0:
		return nil, fmt.Errorf("%s has had no run yet", st.Name)
	case r == nil:
		return nil, fmt.Errorf("%s has no run %d", st.Name, number)
	}
	return r, nil
}

func (p *Program) watch() *cobra.Command {
	var asJSON, notify, wall bool
	cmd := &cobra.Command{Use: "watch STACK", Short: "Follow the last run of a stack, live", Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "events as JSON, one a line")
	cmd.Flags().BoolVar(&wall, "wall", false, "the wall as it fills, instead of the events; drawn at the end where it is no terminal")
	cmd.MarkFlagsMutuallyExclusive("json", "wall")
	notifyFlag(cmd, &notify)
	chosen := eventFlags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		filter, err := chosen.filter(time.Now())
		if err != nil {
			return err
		}
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
		defer stop()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			r, err := runOf(ctx, a, st, 0)
			if err != nil {
				return err
			}
			tell, told := p.telling(r, asJSON)
			if wall {
				if tell, told, err = p.watchWall(ctx, a, st, r); err != nil {
					return err
				}
			}
			ended, err := a.Tail(ctx, r.ID, func(e run.Event) {
				if filter.Matches(e) {
					tell(e)
				}
			})
			told()
			if errors.Is(err, context.Canceled) {
				return nil // the run goes on without us
			}
			if err != nil {
				return err
			}
			p.notice(a, st.Name, ended, notify)
			if !asJSON {
				p.end(ctx, a, ended)
			}
			return code(ended)
		})
	}
	return cmd
}

// handedOver is a command that the interface starts as a process of its own: it does something under a lock that it
// is handed over on its standard input.
func (p *Program) handedOver(use string, do func(ctx context.Context, a *app.App, id, lock string) error) *cobra.Command {
	return &cobra.Command{Use: use, Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			signal.Ignore(syscall.SIGHUP, os.Interrupt)
			h, err := app.ReadHandover(p.In)
			if err != nil {
				return err
			}
			p.tokens, p.storeURL = h.Tokens, h.Store
			return p.with(func(a *app.App) error { return do(cmd.Context(), a, args[0], h.Lock) })
		}}
}

// carryFleetOn carries a rollout on, and carryOut a run out.
func (p *Program) carryFleetOn() *cobra.Command {
	return p.handedOver("carry-fleet ROLLOUT", func(ctx context.Context, a *app.App, id, lock string) error {
		_, err := a.CarryFleet(ctx, id, lock, nil)
		return err
	})
}

func (p *Program) carryOut() *cobra.Command {
	return p.handedOver("carry-out RUN", func(ctx context.Context, a *app.App, id, lock string) error {
		r, err := a.Execute(ctx, id, lock)
		if err != nil {
			return err
		}
		return code(r)
	})
}
