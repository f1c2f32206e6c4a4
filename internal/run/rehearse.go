package run

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/whatif"
)

// Rehearsal is what would happen if a run failed at a resource. It is computed
// by the scheduler that carries runs out, on a clock of its own; no call is
// made. Times are in seconds after the start.
type Rehearsal struct {
	Resource string  `json:"resource"`
	At       float64 `json:"at"` // when it would fail
	// Done is what would have ended well by then, in order; Ended what would be
	// under way and come to its end; Never what would not have begun.
	Done  []Played `json:"done"`
	Ended []Played `json:"ended"`
	Never []string `json:"never"`
	// Undo is what undoing would do, in order. It is empty where the failure
	// comes when things are being removed already: the run then goes forwards
	// only.
	Undo    []Played `json:"undo"`
	Undone  float64  `json:"undone"` // when all would be as before
	Returns bool     `json:"returns"`
	Left    []string `json:"left"` // what would be left over where it does not return
}

// Played is one step of a rehearsal.
type Played struct {
	Resource string  `json:"resource"`
	Action   Action  `json:"action"`
	Start    float64 `json:"start"`
	End      float64 `json:"end"`
	step     Step
}

// Rehearse plays a plan until it fails at a resource, and then the undoing. A
// limit of 0 is that of the plan.
func Rehearse(plan Plan, resource string, limit int) (*Rehearsal, error) {
	if !slices.ContainsFunc(plan.Steps, func(s Step) bool { return s.Resource == resource }) {
		return nil, fmt.Errorf("nothing would be done to %s: choose something that changes", resource)
	}
	if limit <= 0 {
		limit = cmp.Or(plan.AtOnce, DefaultLimit)
	}
	sched, err := NewSchedule(plan.Steps, limit)
	if err != nil {
		return nil, err
	}
	r := &Rehearsal{Resource: resource, At: -1, Done: []Played{}, Ended: []Played{}, Never: []string{},
		Undo: []Played{}, Left: []string{}}
	played := play(sched, 0, func(p Played) EntryState {
		switch {
		case p.Resource == resource && r.At < 0:
			r.At = p.End
			return Failed
		case r.At < 0:
			r.Done = append(r.Done, p)
		default:
			r.Ended = append(r.Ended, p)
		}
		return Done
	})
	for _, s := range sched.Unfinished() {
		if s.Resource != resource {
			r.Never = append(r.Never, string(s.Action)+" "+s.Resource)
		}
	}
	slices.Sort(r.Never)
	r.Returns = !sched.CannotReturn()
	if !r.Returns {
		for _, p := range played {
			if p.step.Phase == PhaseBuild || p.step.Phase == PhaseOneWay {
				r.Left = append(r.Left, p.Resource)
			}
		}
		slices.Sort(r.Left)
		return r, nil
	}
	entries := make([]Entry, len(played))
	for i, p := range played {
		entries[i] = Entry{Step: p.step, State: Done, Attempt: 1, CloudID: p.step.CloudID}
		if p.Resource == resource {
			entries[i].State = Failed
		}
	}
	undo, err := NewSchedule(PlanUndo(plan, entries), limit)
	if err != nil {
		return nil, err
	}
	begin := r.At
	for _, p := range r.Ended {
		begin = max(begin, p.End)
	}
	r.Undo = append(r.Undo, play(undo, begin, func(Played) EntryState { return Done })...)
	r.Undone = begin
	for _, p := range r.Undo {
		r.Undone = max(r.Undone, p.End)
	}
	return r, nil
}

// play lets a schedule run on a clock of its own, from a time on. end is told
// of each step as it ends, and says how. What was played comes back in the
// order of the ends.
func play(sched *Schedule, now float64, end func(p Played) EntryState) []Played {
	var running, out []Played
	for {
		for _, s := range sched.Ready() {
			running = append(running, Played{s.Resource, s.Action, now, now + s.Seconds, s})
		}
		if len(running) == 0 {
			return out
		}
		slices.SortStableFunc(running, func(a, b Played) int { return cmp.Compare(a.End, b.End) })
		p := running[0]
		running = running[1:]
		now = p.End
		out = append(out, p)
		sched.End(p.step.ID, end(p))
	}
}

// Lines are the rehearsal in words, the first of each part not indented.
func (r *Rehearsal) Lines() []string {
	resources := func(list []Played) string {
		names := make([]string, len(list))
		for i, p := range list {
			names[i] = p.Resource
		}
		return strings.Join(names, ", ")
	}
	out := []string{fmt.Sprintf("If %s failed, after %s:", r.Resource, whatif.Length(r.At))}
	for _, part := range [][2]string{{"done by then", resources(r.Done)}, {"still under way", resources(r.Ended)},
		{"never begun", strings.Join(r.Never, ", ")}} {
		if part[1] != "" {
			out = append(out, fmt.Sprintf("  %s: %s", part[0], part[1]))
		}
	}
	if !r.Returns {
		return append(out, "Nothing could be undone any more: the run goes on forwards only (resume).",
			"  left over: "+strings.Join(r.Left, ", "))
	}
	if len(r.Undo) == 0 {
		return append(out, "There would be nothing to undo.")
	}
	out = append(out, fmt.Sprintf("Undoing it, %s later all would be as before:", whatif.Length(r.Undone-r.At)))
	for _, p := range r.Undo {
		out = append(out, fmt.Sprintf("  %8s  %s %s", whatif.Length(p.Start), p.Action, p.Resource))
	}
	return out
}
