package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

func (p *Program) adopt() *cobra.Command {
	cmd := &cobra.Command{Use: "adopt STACKFILE NODE ID|STACK/RESOURCE", Args: cobra.ExactArgs(3),
		Short: "Let a node stand for a resource that is there already, also for one of another stack, after a what-if of what that changes"}
	agreed := agreementFlags(cmd)
	agreed.saveFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.with(func(a *app.App) error {
			d, err := a.Load(ctx, args[0], app.Values{})
			if err != nil {
				return err
			}
			at := strings.LastIndexByte(args[2], '/')
			if at > 0 { // ids of what is reached through a connection have it too
				_, err := a.Find(ctx, args[2][:at])
				if app.NotThere(err) {
					at = 0
				} else if err != nil {
					return err
				}
			}
			if at > 0 {
				if agreed.save != "" {
					return usage{errors.New("going from one stack into another is two runs, which cannot be saved as one: save 'release', then 'adopt'")}
				}
				return p.move(ctx, a, args[2][:at], args[2][at+1:], d, args[1], agreed)
			}
			pv, err := a.WhatIf(ctx, d.Adopting(args[1], args[2]), args[1])
			if err != nil {
				return err
			}
			return p.shownAndCarried(ctx, a, pv, stack.Undo, agreed)
		})
	}
	return cmd
}

// move releases a resource from a stack and adopts it into another one, after one what-if over
// both. Where the second does not come to its end, the first is taken back.
func (p *Program) move(ctx context.Context, a *app.App, from, name string, d *app.Draft, node string, agreed *agreement) error {
	st, err := a.Find(ctx, from)
	if err != nil {
		return err
	}
	m, err := a.WhatIfMove(ctx, st, name, d, node)
	if err != nil {
		return err
	}
	p.changeSet(m.Release.ChangeSet)
	fmt.Fprintln(p.Out)
	p.changeSet(m.Into.ChangeSet)
	fmt.Fprintln(p.Out)
	for _, pv := range []*app.Preview{m.Release, m.Into} {
		if p.findings(pv.Findings); pv.Findings.HasErrors() {
			return exit(ExitRefused)
		}
	}
	if !agreed.yes {
		if err := p.confirm(fmt.Sprintf("Let %s leave %s and come under %s as %s?", name, st.Name, m.Into.ChangeSet.Stack, node), ""); err != nil {
			return err
		}
	}
	all := *agreed
	all.yes = true
	before := st.Revision
	if err := p.carry(ctx, a, m.Release, stack.Undo, &all); err != nil {
		return err
	}
	pv, err := a.Again(ctx, m)
	if err == nil {
		err = p.carry(ctx, a, pv, stack.Undo, &all)
	}
	if err == nil {
		fmt.Fprintf(p.Err, "the files of %s still have %s: take it out\n", st.Name, name)
		return nil
	}
	back, again := a.Find(ctx, from)
	if again == nil {
		var pv *app.Preview
		if pv, again = a.WhatIfUndo(ctx, back, before); again == nil {
			again = p.carry(ctx, a, pv, stack.Undo, &all)
		}
	}
	if again != nil {
		return errors.Join(err, fmt.Errorf("%s left, and could not come back into %s: %w", name, st.Name, again))
	}
	return err
}

func (p *Program) release() *cobra.Command {
	var write bool
	cmd := &cobra.Command{Use: "release STACK RESOURCE", Args: cobra.ExactArgs(2),
		Short: "Let a resource leave a stack and stay in the cloud, after a what-if of that"}
	agreed := agreementFlags(cmd)
	agreed.saveFlag(cmd)
	cmd.Flags().BoolVar(&write, "write", false, "take its node out of the files too")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			pv, err := a.WhatIfRelease(ctx, st, args[1])
			if err != nil {
				return err
			}
			if err := p.shownAndCarried(ctx, a, pv, stack.Undo, agreed); err != nil || agreed.save != "" {
				return err
			}
			w, err := a.WriteReleased(ctx, st, args[1])
			switch {
			case err != nil && write:
				return err
			case err != nil || w != nil && !write:
				fmt.Fprintf(p.Err, "the files still have %s: take it out, or the next deployment brings it back under the stack\n", args[1])
				return nil
			case w == nil:
				return nil
			}
			return p.written(ctx, a, w, true, true)
		})
	}
	return cmd
}

func (p *Program) capture() *cobra.Command {
	var target, out string
	var c app.Capturing
	cmd := &cobra.Command{Use: "capture --target T [--stack S|--unowned|--id ID...] -o FILE", Args: cobra.NoArgs,
		Short: "Write a template and a stack file of what is there already, which then adopts it"}
	f := cmd.Flags()
	f.StringVar(&target, "target", "", "the account/region")
	f.StringVar(&c.Stack, "stack", "", "what carries the tag of this stack")
	f.BoolVar(&c.Unowned, "unowned", false, "what belongs to no stack")
	f.StringArrayVar(&c.IDs, "id", nil, "this resource; may be given again")
	f.StringVarP(&out, "output", "o", "", "the template; the stack file is written beside it")
	asJSON := jsonFlag(cmd)
	cmd.MarkFlagsOneRequired("stack", "unowned", "id")
	cmd.MarkFlagsMutuallyExclusive("stack", "unowned")
	for _, name := range []string{"target", "output"} {
		_ = cmd.MarkFlagRequired(name)
	}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		ctx := cmd.Context()
		where, err := targetsOf([]string{target})
		if err != nil {
			return err
		}
		c.Target = where[0]
		return p.with(func(a *app.App) error {
			stackFile, project, err := a.CaptureTo(ctx, c, out)
			if err != nil {
				return err
			}
			if *asJSON {
				return p.json(map[string]any{"resources": len(project.Nodes), "template": out, "stack_file": stackFile, "notes": append([]string{}, project.Notes...)})
			}
			fmt.Fprintf(p.Out, "%s: %s and %s\n", stack.Count(len(project.Nodes), "resource"), out, stackFile)
			for _, n := range project.Notes {
				p.wrapped("  ", n)
			}
			p.wrapped("", "'brickrow whatif "+stackFile+"' shows what adopting them would change; nothing is adopted before that is deployed")
			return nil
		})
	}
	return cmd
}
