package run

import (
	"container/heap"
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
	paused  bool
	pairs   map[string][]string // steps to leave out when their pair turns out unchanged
	left    map[Phase]int       // steps of each phase that have not ended
	ready   map[Phase]*byRank   // steps that wait for nothing but their phase
}

type scheduled struct {
	Step
	rank  int // in the order
	waits int
	next  []string
	state EntryState // "" is waiting
	far   float64    // seconds from the start of the step to the end of its phase
}

// NewSchedule prepares steps for at most limit at once; 0 is without limit.
// Needs that are not among the steps are taken as done. Steps that need each
// other in a circle are an error.
func NewSchedule(steps []Step, limit int) (*Schedule, error) {
	s := &Schedule{steps: make(map[string]*scheduled, len(steps)), limit: limit, pairs: map[string][]string{},
		left: map[Phase]int{}, ready: map[Phase]*byRank{}}
	for _, st := range steps {
		if s.steps[st.ID] != nil {
			return nil, fmt.Errorf("the step %q stands twice in the plan", st.ID)
		}
		s.steps[st.ID] = &scheduled{Step: st}
		s.order = append(s.order, st.ID)
		s.left[st.Phase]++
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
	for rank, id := range s.order {
		st := s.steps[id]
		st.rank = rank
		if s.ready[st.Phase] == nil {
			s.ready[st.Phase] = &byRank{}
		}
		if st.waits == 0 { // in order already
			*s.ready[st.Phase] = append(*s.ready[st.Phase], st)
		}
	}
	return s, nil
}

// byRank is a heap of steps, the one that begins the longest way on top.
type byRank []*scheduled

func (h byRank) Len() int           { return len(h) }
func (h byRank) Less(i, j int) bool { return h[i].rank < h[j].rank }
func (h byRank) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *byRank) Push(x any)        { *h = append(*h, x.(*scheduled)) }
func (h *byRank) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// next is the step that may start next; nil where there is none now.
func (s *Schedule) next() *scheduled {
	for phase, h := range s.ready {
		for h.Len() > 0 && (*h)[0].state != "" { // left out, or told by the journal
			heap.Pop(h)
		}
		if h.Len() > 0 && s.reached(phase) {
			return (*h)[0]
		}
	}
	return nil
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
	for !s.stopped && !s.paused && (s.limit <= 0 || s.running < s.limit) {
		st := s.next()
		if st == nil {
			break
		}
		heap.Pop(s.ready[st.Phase])
		st.state = Started
		s.running++
		out = append(out, st.Step)
	}
	return out
}

// reached reports whether the phases before one are done.
func (s *Schedule) reached(p Phase) bool {
	switch p {
	case PhaseProbe:
		return s.left[PhaseBuild] == 0
	case PhaseOneWay:
		return s.left[PhaseBuild]+s.left[PhaseProbe] == 0
	case PhaseSweep:
		return s.left[PhaseBuild]+s.left[PhaseProbe]+s.left[PhaseOneWay] == 0
	}
	return true
}

// End tells how a step ended: well, or Failed. It may also be told
// of a step that was not started, when the journal says so. After a failure no
// further step becomes ready, those running come to their end.
func (s *Schedule) End(id string, state EntryState) {
	st := s.steps[id]
	if st == nil || st.state.Good() || st.state == Failed {
		return
	}
	if st.state == Started {
		s.running--
	}
	st.state = state
	s.left[st.Phase]--
	if state == Failed {
		if st.Phase != PhaseSweep && st.Phase != PhaseUndo {
			s.stopped = true
		}
		return // what needs it stays waiting
	}
	for _, id := range st.next {
		n := s.steps[id]
		if n.waits--; n.waits == 0 && n.state == "" {
			heap.Push(s.ready[n.Phase], n)
		}
	}
	if state == Unchanged || state == Edited { // there is no old part of a swap to remove
		for _, p := range s.pairs[id] {
			s.End(p, Unchanged)
		}
	}
}

// Abandon says that nobody will tell how a step that was begun ended: what needs it
// stays waiting.
func (s *Schedule) Abandon(id string) {
	if st := s.steps[id]; st != nil && st.state == Started {
		s.running--
		st.state = Again
	}
}

// Quiet reports whether nothing runs.
func (s *Schedule) Quiet() bool { return s.running == 0 }

// Running is how many steps run.
func (s *Schedule) Running() int { return s.running }

// Allow says how many steps may run at once from now on.
func (s *Schedule) Allow(limit int) { s.limit = limit }

// Stop lets no further step become ready.
func (s *Schedule) Stop() { s.stopped = true }

// Pause lets nothing more become ready for now, or again.
func (s *Schedule) Pause(wanted bool) { s.paused = wanted }

// Paused reports whether nothing becomes ready for now.
func (s *Schedule) Paused() bool { return s.paused }

// Idle reports whether nothing runs and nothing more can become ready without
// being told of an end.
func (s *Schedule) Idle() bool {
	if s.running > 0 {
		return false
	}
	return s.stopped || s.paused || s.next() == nil
}

// Complete reports whether every step has ended without failing.
func (s *Schedule) Complete() bool {
	for _, st := range s.steps {
		if !st.state.Good() {
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
		if st.Final() && st.state != "" && st.state != Unchanged && (st.Phase == PhaseSweep || st.state == Done) {
			return true
		}
	}
	return false
}
