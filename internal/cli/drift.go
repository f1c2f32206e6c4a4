package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

type jsonDrift struct {
	Stack      string          `json:"stack"`
	Target     string          `json:"target"`
	Differs    []jsonDiffering `json:"differs"`
	Gone       []jsonWhose     `json:"gone"`
	Unrecorded []jsonWhose     `json:"unrecorded"`
	Unreadable []stack.Unread  `json:"unreadable"`
}

type jsonDiffering struct {
	Name     string       `json:"name"`
	Type     string       `json:"type"`
	ID       string       `json:"id"`
	Path     string       `json:"path"`
	Recorded tosca.Value  `json:"recorded"`
	Live     tosca.Value  `json:"live"`
	Wanted   tosca.Value  `json:"wanted"`
	Since    time.Time    `json:"since,omitzero"`
	By       stack.Author `json:"by"`
}

type jsonWhose struct {
	Name  string       `json:"name"`
	Type  string       `json:"type"`
	ID    string       `json:"id"`
	Since time.Time    `json:"since,omitzero"`
	By    stack.Author `json:"by"`
}

func driftJSON(d *app.Drift) jsonDrift {
	out := jsonDrift{d.Stack.Name, d.Stack.Target.String(), []jsonDiffering{}, []jsonWhose{}, []jsonWhose{}, append([]stack.Unread{}, d.Unread...)}
	for _, c := range d.Differs {
		out.Differs = append(out.Differs, differingJSON(c))
	}
	for _, r := range d.Gone {
		out.Gone = append(out.Gone, jsonWhose{Name: r.Name, Type: r.Shown(), ID: r.ID, By: stack.Author{Kind: stack.Outside}})
	}
	for _, l := range d.Unrecorded {
		out.Unrecorded = append(out.Unrecorded, jsonWhose{l.Node, l.Shown(), l.ID, l.Changed, l.By})
	}
	return out
}

func differingJSON(c app.Differing) jsonDiffering {
	return jsonDiffering{c.Name, c.Type, c.ID, c.Path, c.Before, c.After, c.Wanted, c.Since, c.By}
}

func (p *Program) drift() *cobra.Command {
	var patch, write, putBack, alone bool
	cmd := &cobra.Command{Use: "drift STACK", Short: "Say where a stack in the cloud differs from its record; exit code 3 when it does, 1 when a part could not be read",
		Args: cobra.ExactArgs(1)}
	agreed := agreementFlags(cmd)
	agreed.saveFlag(cmd)
	cmd.Flags().BoolVar(&putBack, "put-back", false, "deploy the revision again, so that the cloud is what the record says")
	cmd.Flags().BoolVar(&patch, "patch", false, "print what would write it into the files, as a unified diff")
	cmd.Flags().BoolVar(&write, "write", false, "write it into the files, so that they say what is there")
	cmd.Flags().BoolVar(&alone, "alone", false, "with --patch or --write: write values into the nodes themselves, not where others get theirs from too")
	cmd.MarkFlagsMutuallyExclusive("patch", "write", "put-back")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		if agreed.save != "" && !putBack {
			return usage{errors.New("--save goes with --put-back")}
		}
		if alone && !patch && !write {
			return usage{errors.New("--alone goes with --patch or --write")}
		}
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			if putBack {
				pv, err := a.WhatIfPutBack(ctx, st)
				if err != nil {
					return err
				}
				return p.shownAndCarried(ctx, a, pv, stack.Undo, agreed)
			}
			d, err := a.Drift(ctx, st)
			if err != nil {
				return err
			}
			if patch || write {
				return p.writeBack(ctx, a, d, write, alone, agreed.yes)
			}
			if agreed.json {
				if err := p.json(driftJSON(d)); err != nil {
					return err
				}
			} else {
				p.driftText(d)
			}
			switch {
			case !d.Empty():
				return exit(ExitChanges)
			case len(d.Unread) > 0:
				return exit(ExitRefused)
			}
			return nil
		})
	}
	return cmd
}

// writeBack prints what lets the files say what is there, and writes it where that is agreed
// to.
func (p *Program) writeBack(ctx context.Context, a *app.App, d *app.Drift, write, alone, agreed bool) error {
	work := a.WriteBack
	if alone {
		work = a.WriteBackAlone
	}
	w, err := work(ctx, d)
	if err != nil {
		return err
	}
	return p.written(ctx, a, w, write, agreed)
}

// written prints what would be written into files, and writes it where that is agreed to.
func (p *Program) written(ctx context.Context, a *app.App, w *app.Written, write, agreed bool) error {
	fmt.Fprint(p.Out, w.Patch())
	for _, c := range w.Cannot {
		p.wrapped("# ", fmt.Sprintf("%s %s cannot be written: %s", c.Name, c.Path, c.Why))
	}
	for _, s := range w.Shared {
		p.wrapped("# ", s.Words()+"; --alone writes it for "+s.Name+" alone")
	}
	if len(w.Left) > 0 && len(w.Files) > 0 {
		p.wrapped("# ", "deploying the files would change then: "+strings.Join(w.Left, ", "))
	}
	switch {
	case len(w.Files) == 0 && len(w.Cannot) == 0:
		fmt.Fprintln(p.Err, "nothing to write: the files say what is there")
		return nil
	case len(w.Files) == 0:
		return exit(ExitRefused)
	case !write:
		return nil
	}
	if !agreed {
		if err := p.confirm("Write that?", ""); err != nil {
			return err
		}
	}
	if err := a.SaveWritten(ctx, w); err != nil {
		return err
	}
	for _, f := range w.Files {
		fmt.Fprintf(p.Err, "written: %s\n", f.Path)
	}
	return nil
}

// driftText prints where a stack is not as it is recorded.
func (p *Program) driftText(d *app.Drift) {
	if d.Empty() {
		fmt.Fprintf(p.Out, "%s in %s %s\n", d.Stack.Name, d.Stack.Target, d.Standing().Words())
		for _, u := range d.Unread {
			p.wrapped("? ", u.Words())
		}
		return
	}
	last := ""
	for _, c := range d.Differs {
		if c.Name != last {
			p.wrapped("≠ ", fmt.Sprintf("%s  (%s %s, %s)%s", c.Name, c.Type, c.ID, c.Pos.Short(), changedWords(c.Since, c.By)))
			last = c.Name
		}
		p.wrapped("    "+cloud.Clean(c.Path)+"  ", "recorded "+shownOr(c.Before)+", there "+shownOr(c.After)+wantedWords(c))
	}
	for _, r := range d.Gone {
		p.wrapped("✖ ", fmt.Sprintf("%s  (%s %s) is not there any more", r.Name, r.Shown(), r.ID))
	}
	for _, l := range d.Unrecorded {
		p.wrapped("+ ", strings.TrimSpace(fmt.Sprintf("%s  (%s %s) carries the tag of the stack and is in no record%s", cloud.Clean(l.Node),
			l.Shown(), l.ID, changedWords(l.Changed, l.By))))
	}
	for _, u := range d.Unread {
		p.wrapped("? ", u.Words())
	}
	fmt.Fprintln(p.Out)
	if len(d.Differs)+len(d.Gone) > 0 {
		p.wrapped("", fmt.Sprintf("'brickrow drift %s --put-back' makes it what the record says, '--patch' shows what would write it into the files",
			d.Stack.Name))
	}
}

func shownOr(v tosca.Value) string {
	if v == nil {
		return "not set"
	}
	return shown(v)
}

// wantedWords say what the files want, where that is neither what is recorded nor what is there.
func wantedWords(c app.Differing) string {
	if stack.Same(c.Wanted, c.Before) {
		return ""
	}
	return ", wanted " + shownOr(c.Wanted)
}

// changedWords say when something was changed last, and by whom.
func changedWords(at time.Time, by stack.Author) string {
	if at.IsZero() {
		return ""
	}
	return ", changed " + at.Local().Format("2006-01-02 15:04:05") + " " + cloud.Clean(by.Words())
}
