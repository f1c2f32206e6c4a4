package run

import (
	"cmp"
	"slices"
	"time"
)

// Span is the time that one step of a run took, with what happened in it.
type Span struct {
	Step   Step // an undoing is a step of its own; without a plan it has a resource and an action alone
	Began  time.Time
	Ended  time.Time // zero while it is under way
	State  State     // how it ended, or how far it is
	Events []Event   // of all its attempts, oldest first
}

// Took is how long it took.
func (s *Span) Took() time.Duration { return s.Ended.Sub(s.Began) }

// family is what is done to a resource: a step is of one.
type family int

const (
	forward family = iota
	removing
	undoing
)

func familyOf(s State) (f family, ok bool) {
	switch s {
	case Working, Settling, IsReady:
		return forward, true
	case Removing, Removed, Kept:
		return removing, true
	case Undoing, IsUndone:
		return undoing, true
	}
	return 0, false
}

// Spans folds the events of a run over its plan into its steps, in the order in which they
// began. A step that was tried again is one.
func Spans(plan Plan, events []Event) []*Span {
	steps := stepsOf(plan)
	var out []*Span
	last := map[string]*Span{} // of a resource
	of := map[string]family{}
	count := map[string]map[family]int{}
	for _, e := range events {
		if e.Resource == "" || e.State == Skipped || e.State == Waiting {
			continue
		}
		s := last[e.Resource]
		f, told := familyOf(e.State)
		if !told { // a failure is of what was going on
			f = of[e.Resource]
		}
		over := s != nil && s.State.Over() && s.State != HasFailed
		if s == nil || f != of[e.Resource] || over {
			if count[e.Resource] == nil {
				count[e.Resource] = map[family]int{}
			}
			n := count[e.Resource][f]
			count[e.Resource][f] = n + 1
			s = &Span{Step: steps.find(e, f, n), Began: e.Time.Add(-e.Elapsed)}
			out = append(out, s)
			last[e.Resource], of[e.Resource] = s, f
		}
		s.Events = append(s.Events, e)
		if s.State, s.Ended = e.State, (time.Time{}); e.State.Over() {
			s.Ended = e.Time
		}
	}
	slices.SortStableFunc(out, func(a, b *Span) int { return a.Began.Compare(b.Began) })
	return out
}

// planned are the steps of a plan by resource and family, in their order.
type planned map[string]map[family][]Step

func stepsOf(plan Plan) planned {
	out := planned{}
	users := map[string][]string{} // of a step of the build
	for _, s := range plan.Steps {
		for _, need := range s.Needs {
			users[need] = append(users[need], s.ID)
		}
	}
	add := func(s Step, f family) {
		if out[s.Resource] == nil {
			out[s.Resource] = map[family][]Step{}
		}
		out[s.Resource][f] = append(out[s.Resource][f], s)
	}
	for _, s := range plan.Steps {
		if s.Phase == PhaseSweep {
			if s.Action != Drain {
				add(s, removing)
			}
			continue
		}
		if s.Action == Delete { // before its new part is made
			add(s, removing)
		} else if s.Action != Drain { // which is told as a part of what it comes before
			add(s, forward)
		}
		undo := s
		undo.ID, undo.Of, undo.Phase, undo.Needs = undoID(s.ID), s.ID, PhaseUndo, nil
		switch undo.Action = Delete; s.Action {
		case Create:
		case Delete:
			undo.Action = Remake
		case Drain:
			undo.Action = Refill
		case Act:
			if undo.Action, undo.Verb = Act, inverse[s.Verb]; s.Verb == VerbScale {
				undo.Action = Revert
			} else if undo.Verb == "" {
				continue
			}
		default:
			undo.Action = Revert
		}
		for _, id := range users[s.ID] {
			undo.Needs = append(undo.Needs, undoID(id))
		}
		if out[s.Resource] == nil {
			out[s.Resource] = map[family][]Step{}
		}
		out[s.Resource][undoing] = slices.Insert(out[s.Resource][undoing], 0, undo) // the last one is taken back first
	}
	return out
}

func undoID(id string) string { return "undo " + id }

// find is the nth step of a family that an event is of.
func (p planned) find(e Event, f family, n int) Step {
	if list := p[e.Resource][f]; len(list) > 0 {
		return list[min(n, len(list)-1)]
	}
	action := map[family]Action{forward: Create, removing: Delete, undoing: Revert}[f]
	return Step{ID: string(action) + " " + e.Resource, Resource: e.Resource, Type: e.Type, Action: action}
}

// Chain is what led to the end of a run: its last step, the one that it waited for longest,
// and so on back to the beginning; oldest first. Those that were not done well are not in
// it.
func Chain(spans []*Span) []*Span {
	byID := map[string]*Span{}
	var last *Span
	for _, s := range spans {
		if s.Ended.IsZero() || s.State == HasFailed {
			continue
		}
		byID[s.Step.ID] = s
		if last == nil || s.Ended.After(last.Ended) {
			last = s
		}
	}
	var out []*Span
	for s := last; s != nil && len(out) <= len(spans); {
		out = append(out, s)
		var before *Span
		for _, need := range s.Step.Needs {
			if n := byID[need]; n != nil && !n.Ended.After(s.Ended) && (before == nil || n.Ended.After(before.Ended)) {
				before = n
			}
		}
		if before == nil && s.Step.Phase == PhaseSweep { // it waited for the whole build
			for _, b := range spans {
				if b.Step.Phase != PhaseSweep && !b.Ended.IsZero() && !b.Ended.After(s.Began) && (before == nil || b.Ended.After(before.Ended)) {
					before = b
				}
			}
		}
		s = before
	}
	slices.Reverse(out)
	return out
}

// Difference is by how much one step made a run longer than another one.
type Difference struct {
	Resource string
	By       time.Duration
	// New says that it was not in the chain of the other run, and Gone that it was, and is
	// not in that of this one.
	New, Gone bool
}

// Slower says which steps of the chains of two runs make up for most of how much longer the
// one took than the other; or shorter, where that is below zero. The greatest comes first.
func Slower(now, then []*Span) []Difference {
	key := func(s *Span) string { return s.Step.ID }
	took := map[string]time.Duration{}
	for _, s := range then {
		took[key(s)] = s.Took()
	}
	var out []Difference
	total := time.Duration(0)
	for _, s := range now {
		was, there := took[key(s)]
		delete(took, key(s))
		out = append(out, Difference{Resource: s.Step.Resource, By: s.Took() - was, New: !there})
		total += s.Took() - was
	}
	for _, s := range then {
		if was, gone := took[key(s)]; gone {
			out = append(out, Difference{Resource: s.Step.Resource, By: -was, Gone: true})
			total -= was
		}
	}
	out = slices.DeleteFunc(out, func(d Difference) bool { return (d.By > 0) != (total > 0) || d.By == 0 })
	slices.SortStableFunc(out, func(a, b Difference) int {
		if total < 0 {
			return cmp.Compare(a.By, b.By)
		}
		return cmp.Compare(b.By, a.By)
	})
	return out
}
