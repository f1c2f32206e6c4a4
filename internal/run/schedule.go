package run

import (
	"fmt"
	"slices"
	"strings"
)

// Schedule decides which steps may start. It is pure: it is told what has
// ended and answers what may begin; it knows no clock and makes no call.
type Schedule struct {
	steps   map[string]*scheduled
	order   []string // longest way to the end first
	limit   int
	running int
	stopped bool
	pairs   map[string][]string // steps to leave out when their pair turns out unchanged
	left    map[Half]int        // steps of each half that have not ended
}

type scheduled struct {
	Step
	waits int
	next  []string
	state EntryState // "" is waiting
	far   float64    // seconds from the start of the step to the end of its half
}

// NewSchedule prepares steps for at most limit at once; 0 is without limit.
// Needs that are not among the steps are taken as done. Steps that need each
// other in a circle are an error.
func NewSchedule(steps []Step, limit int) (*Schedule, error) {
	s := &Schedule{steps: make(map[string]*scheduled, len(steps)), limit: limit, pairs: map[string][]string{}, left: map[Half]int{}}
	for _, st := range steps {
		if s.steps[st.ID] != nil {
			return nil, fmt.Errorf("the step %q stands twice in the plan", st.ID)
		}
		s.steps[st.ID] = &scheduled{Step: st}
		s.order = append(s.order, st.ID)
		s.left[st.Half]++
		if st.Pair != "" {
			s.pairs[st.Pair] = append(s.pairs[st.Pair], st.ID)
		}
	}
	for _, id := range s.order {
		for _, need := range s.steps[id].Needs {
			if n := s.steps[need]; n != nil {
				n.next = append(n.next, id)
				s.steps[id].waits++
			}
		}
	}
	if err := s.measure(); err != nil {
		return nil, err
	}
	slices.SortStableFunc(s.order, func(a, b string) int {
		x, y := s.steps[a], s.steps[b]
		switch {
		case x.far > y.far:
			return -1
		case x.far < y.far:
			return 1
		}
		return strings.Compare(a, b)
	})
	return s, nil
}

// measure computes how far each step is from the end, and finds circles.
func (s *Schedule) measure() error {
	waits := make(map[string]int, len(s.steps))
	var queue []string
	for _, id := range s.order { // from the end backwards
		if waits[id] = len(s.steps[id].next); waits[id] == 0 {
			queue = append(queue, id)
		}
	}
	seen := 0
	for ; seen < len(queue); seen++ {
		st := s.steps[queue[seen]]
		for _, n := range st.next {
			st.far = max(st.far, s.steps[n].far)
		}
		st.far += st.Seconds
		for _, need := range st.Needs {
			if s.steps[need] == nil {
				continue
			}
			if waits[need]--; waits[need] == 0 {
				queue = append(queue, need)
			}
		}
	}
	if seen < len(s.steps) {
		return fmt.Errorf("the steps of the plan need each other in a circle")
	}
	return nil
}

// Ready takes the steps that may start now and counts them as running. The
// sweep becomes ready only when all before it is done.
func (s *Schedule) Ready() []Step {
	var out []Step
	if s.stopped {
		return nil
	}
	for _, id := range s.order {
		st := s.steps[id]
		if st.state != "" || st.waits > 0 || !s.reached(st.Half) {
			continue
		}
		if s.limit > 0 && s.running >= s.limit {
			break
		}
		st.state = Started
		s.running++
		out = append(out, st.Step)
	}
	return out
}

// reached reports whether the halves before one are done.
func (s *Schedule) reached(h Half) bool {
	switch h {
	case OneWay:
		return s.left[Build] == 0
	case Sweep:
		return s.left[Build] == 0 && s.left[OneWay] == 0
	}
	return true
}

// End tells how a step ended: Done, Unchanged or Failed. It may also be told
// of a step that was not started, when the journal says so. After a failure no
// further step becomes ready, those running come to their end.
func (s *Schedule) End(id string, state EntryState) {
	st := s.steps[id]
	if st == nil || st.state == Done || st.state == Unchanged || st.state == Failed {
		return
	}
	if st.state == Started {
		s.running--
	}
	st.state = state
	s.left[st.Half]--
	if state == Failed {
		if st.Half != Sweep && st.Half != Undo {
			s.stopped = true
		}
		return // what needs it stays waiting
	}
	for _, n := range st.next {
		s.steps[n].waits--
	}
	if state == Unchanged {
		s.LeavePair(id)
	}
}

// LeavePair leaves out the removal of the old part of a swap, because the
// resource turned out not to be swapped.
func (s *Schedule) LeavePair(id string) {
	for _, p := range s.pairs[id] {
		s.End(p, Unchanged)
	}
}

// Stop lets no further step become ready.
func (s *Schedule) Stop() { s.stopped = true }

// Idle reports whether nothing runs and nothing more can become ready without
// being told of an end.
func (s *Schedule) Idle() bool {
	if s.running > 0 {
		return false
	}
	if s.stopped {
		return true
	}
	for _, st := range s.steps {
		if st.state == "" && st.waits == 0 && s.reached(st.Half) {
			return false
		}
	}
	return true
}

// Complete reports whether every step has ended without failing.
func (s *Schedule) Complete() bool {
	for _, st := range s.steps {
		if st.state != Done && st.state != Unchanged {
			return false
		}
	}
	return true
}

// Unfinished lists the steps that were never started, by id.
func (s *Schedule) Unfinished() []Step {
	var out []Step
	for _, st := range s.steps {
		if st.state == "" {
			out = append(out, st.Step)
		}
	}
	sortSteps(out)
	return out
}

// CannotReturn reports whether something was done that undoing cannot bring
// back: an edit that goes one way, or a removal.
func (s *Schedule) CannotReturn() bool {
	for _, st := range s.steps {
		if st.Half == Sweep && st.state != "" && st.state != Unchanged || st.Half == OneWay && st.state == Done {
			return true
		}
	}
	return false
}
