package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// Leaving is what it means to give up a resource that a stuck run cannot get rid of: it
// stays in the cloud, and so does what it is linked to, which the cloud would not remove
// under it.
type Leaving struct {
	Run   *run.Record
	Parts []Leave
}

// Leave is one resource that is given up.
type Leave struct {
	Name, Type, ID string
	Reason         string // why it cannot go
	step           run.Step
	entry          *run.Entry
	record         *stack.Recorded // nil where it is in no record
	old            bool            // the record is that of an old part
	kept           bool            // it is what the stack has left in the cloud before
	replaced       string          // of the new part of a swap that is taken back: the id of the old one
}

// WhatLeaves says what giving up a resource would mean. The last run of the stack has to be
// stuck at it.
func (a *App) WhatLeaves(ctx context.Context, st *stack.Stack, name string) (*Leaving, error) {
	r, err := a.RunNumber(ctx, st, 0)
	if err != nil {
		return nil, err
	}
	if r == nil || r.State != run.StatusStuck {
		return nil, refusal("%s is not stuck: there is nothing to give up", st.Name)
	}
	entries, err := a.store.Journal(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	current, old, err := a.store.Recorded(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	kept, err := a.store.Kept(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	steps, states := map[string]run.Step{}, map[string]run.Entry{}
	planned := r.Plan.Steps
	if r.Back {
		planned = run.PlanUndo(r.Plan, entries)
	}
	for _, s := range planned {
		steps[s.ID] = s
	}
	for _, e := range entries {
		states[e.Step.ID] = e
	}
	out := &Leaving{Run: r}
	add := func(s run.Step, reason string) {
		l := Leave{Name: s.Resource, Type: s.Type, ID: s.CloudID, Reason: reason, step: s}
		if e, ok := states[s.ID]; ok {
			l.entry = &e
			if l.ID == "" {
				l.ID = e.CloudID
			}
		}
		if made := states[s.Of]; s.Phase == run.PhaseUndo && s.Swap && made.Record != nil {
			l.replaced = made.Record.ID
		}
		for i, rec := range slices.Concat(current, old) {
			if rec.ID == l.ID {
				l.record, l.old = rec, i >= len(current)
			}
		}
		for _, rec := range kept { // it was left before
			if rec.ID == l.ID && l.record == nil {
				l.record, l.kept = rec, true
			}
		}
		out.Parts = append(out.Parts, l)
	}
	var failed []string
	for _, s := range planned {
		e := states[s.ID]
		if e.State != run.Failed || s.Phase == run.PhaseBuild || s.Phase == run.PhaseProbe {
			continue
		}
		failed = append(failed, s.Resource)
		if s.Resource == name {
			if e.Step.CloudID != "" && s.CloudID == "" {
				s.CloudID = e.Step.CloudID
			}
			add(s, e.Reason)
			for _, d := range planned { // what was to come right after, as the removal after a draining
				if d.Resource == name && d.Phase == s.Phase && slices.Contains(d.Needs, s.ID) && !states[d.ID].State.Good() {
					add(d, e.Reason)
				}
			}
		}
	}
	if len(out.Parts) == 0 {
		return nil, refusal("run %d is not stuck at %s; it is at %s", r.Number, name, strings.Join(failed, ", "))
	}
	for i := 0; i < len(out.Parts); i++ { // what it is linked to, and what that is linked to
		l := out.Parts[i]
		if l.record == nil {
			continue
		}
		for requirement, links := range l.record.Links {
			if requirement == stack.Hosting { // it goes with its server
				continue
			}
			for _, to := range links {
				for _, s := range planned {
					known := slices.ContainsFunc(out.Parts, func(p Leave) bool { return p.step.ID == s.ID })
					if id := idOf(s, states); id == to.ID && s.Action == run.Delete && !states[s.ID].State.Good() && !known {
						s.CloudID = id
						add(s, l.Name+" uses it")
					}
				}
			}
		}
	}
	return out, nil
}

// idOf is the resource in the cloud that a step is about.
func idOf(s run.Step, states map[string]run.Entry) string {
	if s.CloudID != "" {
		return s.CloudID
	}
	return states[s.ID].CloudID
}

// Words say what is given up, a line each.
func (l *Leaving) Words() []string {
	var out []string
	for _, p := range l.Parts {
		out = append(out, fmt.Sprintf("%s (%s %s): %s", p.Name, p.Type, p.ID, p.Reason))
	}
	return out
}

// Leave records resources as left. The run stands still; Resume goes on without them.
func (a *App) Leave(ctx context.Context, st *stack.Stack, l *Leaving) error {
	token := uuid.NewString()
	if err := a.lock(ctx, st, token); err != nil {
		return err
	}
	defer func() { _ = a.store.Unlock(context.WithoutCancel(ctx), st.ID, token) }()
	now, err := a.store.Run(ctx, l.Run.ID)
	if err != nil {
		return err
	}
	if now.State != run.StatusStuck {
		return refusal("run %d has moved on meanwhile: it is %s now; look at it again", now.Number, now.State)
	}
	now.Token = token
	for _, p := range l.Parts {
		e := run.Entry{Step: p.step, Attempt: 1, CloudID: p.ID, Record: p.record}
		if p.entry != nil {
			e = *p.entry
		}
		e.State = run.Left
		ev := &run.Event{Resource: p.Name, Type: p.Type, State: run.Kept, Step: "left in the cloud", Reason: p.Reason, CloudID: p.ID,
			Attempt: e.Attempt}
		if err := a.store.Note(ctx, now, &e, ev, p.changes(now.Number)); err != nil {
			return err
		}
	}
	return nil
}

// changes are those of the record when a resource is given up.
func (p *Leave) changes(number int) []run.Change {
	if p.step.Action != run.Delete || p.ID == "" { // an edit that could not be put back stays as it is recorded
		return nil
	}
	rec := &stack.Recorded{Name: p.Name, Type: p.Type, ID: p.ID}
	var out []run.Change
	if p.record != nil {
		was := *p.record
		rec = &was
		switch {
		case p.kept:
		case p.old:
			out = append(out, run.RemoveOld{Name: p.Name, ID: p.ID})
		default:
			out = append(out, run.Remove{Name: p.Name})
			if p.replaced != "" {
				out = append(out, run.Restore{Name: p.Name, ID: p.replaced})
			}
		}
	}
	rec.Left = &stack.Left{Run: number, Reason: p.Reason}
	return append(out, run.Keep{Name: p.Name, Record: rec})
}

// LeftBehind is a resource that was given up.
type LeftBehind struct {
	*stack.Recorded
	There bool // in the cloud still
}

// ForgetGone forgets what runs of a stack have left and the cloud says is gone by now, and yields the names.
func (a *App) ForgetGone(ctx context.Context, st *stack.Stack) (gone []string, err error) {
	left, err := a.LeftOf(ctx, st)
	if err != nil {
		return nil, err
	}
	for _, l := range left {
		if l.There {
			continue
		}
		if err := a.store.Unkeep(ctx, st.ID, l.ID); err != nil {
			return gone, err
		}
		gone = append(gone, l.Name)
	}
	return gone, nil
}

// LeftOf lists what runs of a stack have left, and asks the cloud whether it is there still.
func (a *App) LeftOf(ctx context.Context, st *stack.Stack) ([]LeftBehind, error) {
	kept, err := a.store.Kept(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	var out []LeftBehind
	for _, r := range kept {
		if r.Left == nil {
			continue
		}
		_, err := a.Cloud.Get(ctx, cloud.Ref{Target: st.Target, Type: r.Type, ID: r.ID})
		var p *cloud.Problem
		if err != nil && !errors.As(err, &p) {
			return nil, err
		}
		if cloud.IsUnanswered(err) || cloud.IsNoWay(err) { // nobody can say that it is gone
			err = nil
		}
		if err != nil && !cloud.IsNotFound(err) {
			return nil, fmt.Errorf("ask the cloud whether %s is there still: %w", r.ID, err)
		}
		out = append(out, LeftBehind{r, err == nil})
	}
	return out, nil
}
