package fleet

import (
	"math"
	"slices"

	"brickrow/internal/stack"
)

// State is how far a place of a fleet is, or the fleet.
type State string

// The states of a place.
const (
	Waiting State = "waiting" // for its wave, or for room in it
	Asks    State = "asks"    // it is careful, and nobody has agreed yet
	Begun   State = "begun"   // it was given out, and has no run yet
	Working State = "working" // it has a run
	Ready   State = "ready"
	Removed State = "removed"
	Failed  State = "failed"
)

// The states of a fleet beside Ready and Removed.
const (
	Deploying State = "deploying"
	Removing  State = "removing"
	Paused    State = "paused"    // nothing more begins, as somebody wished
	Between   State = "between"   // it asks whether the next wave may begin
	Partial   State = "partial"   // it has come to its end, and some places have failed
	Stopped   State = "stopped"   // more have failed than are tolerated: the rest was not begun
	Cancelled State = "cancelled" // somebody has stopped it: the rest was not begun
)

// Ended reports whether nobody carries the fleet on any more.
func (s State) Ended() bool { return s != Deploying && s != Removing && s != Paused && s != Between }

// Over reports whether a place has come to its end.
func (s State) Over() bool { return s == Ready || s == Removed || s == Failed }

// Under reports whether something is done in a place.
func (s State) Under() bool { return s == Begun || s == Working }

// Member is a place in a wave.
type Member struct {
	Target  stack.Target
	Wave    int // from 1
	State   State
	Careful bool
	Agreed  bool // to a careful one
}

// Divide says in which wave each of so many places is, counted from 1. A share is of all of them, rounded up;
// what no wave has is in a last one.
func Divide(waves []Wave, places int) []int {
	out := make([]int, 0, places)
	number := 0
	for _, w := range waves {
		if len(out) == places {
			break
		}
		n := w.Count
		switch {
		case w.Rest:
			n = places
		case w.Percent > 0:
			n = int(math.Ceil(float64(places)*w.Percent/100 - 1e-9))
		}
		number++
		for range min(max(1, n), places-len(out)) {
			out = append(out, number)
		}
	}
	for len(out) < places {
		out = append(out, number+1)
	}
	return out
}

// Standing is how a fleet stands.
type Standing struct {
	Members  []Member
	AtOnce   int // 0 is as many as there are
	Tolerate int
	// Behind is the last wave behind which the next one may begin: where the fleet pauses or asks between waves, it
	// is that which was agreed to, or has waited long enough.
	Behind int
	// Workers are how many runs those who are there carry out at once in each account, and Hands all together; nil is that
	// nobody is waited for. So many places are begun as they have room for, and a few that wait for them.
	Workers map[string]int
	Hands   int
}

// waiting is how many places are given out beyond what workers have room for: those of an account where nobody works
// wait there, and hold nobody else up.
const waiting = 2

// withFew is what is given out where workers have room for so much.
func withFew(room int) int { return room + room/4 + waiting }

// Idle reports whether a place was given out where nobody works: nothing of it is under way.
func (s Standing) Idle(m Member) bool {
	return s.Workers != nil && m.State == Begun && s.Workers[m.Target.Account] == 0
}

// Step is what is to be done about a fleet now.
type Step struct {
	Begin []int // these members
	Ask   []int // these members are careful, and wait for somebody to agree
	// Next is the wave that waits for its predecessor's pause, or for an answer; 0 is none.
	Next int
	// Over says that nothing more begins and nothing is under way; Stopped that this is as too many have failed.
	Over, Stopped bool
}

// Next says what is to be done now. It is told how far each place is and knows nothing else, so the same places in
// the same states always have the same answer.
func (s Standing) Next() Step {
	var out Step
	failed, under, left := 0, 0, 0
	wave := math.MaxInt // the first that is not over
	for _, m := range s.Members {
		switch {
		case m.State == Failed:
			failed++
		case m.State.Under() && !s.Idle(m):
			under++
		}
		if !m.State.Over() {
			left++
			wave = min(wave, m.Wave)
		}
	}
	if failed > s.Tolerate {
		out.Stopped, out.Over = true, under == 0
		return out
	}
	if left == 0 {
		out.Over = true
		return out
	}
	if wave > 1 && wave > s.Behind+1 && !slices.ContainsFunc(s.Members, func(m Member) bool {
		return m.Wave == wave && (m.State.Under() || m.State.Over())
	}) && slices.ContainsFunc(s.Members, func(m Member) bool { return m.Wave < wave }) {
		out.Next = wave
		return out
	}
	room := len(s.Members)
	if s.AtOnce > 0 {
		room = s.AtOnce - under
	}
	given, all := map[string]int{}, 0 // to workers: in each account, and where somebody works
	for _, m := range s.Members {
		if m.State.Under() {
			given[m.Target.Account]++
			if !s.Idle(m) {
				all++
			}
		}
	}
	for i, m := range s.Members {
		if m.Wave != wave || m.State != Waiting && m.State != Asks {
			continue
		}
		there := s.Workers[m.Target.Account]
		switch {
		case m.Careful && !m.Agreed:
			if m.State == Waiting {
				out.Ask = append(out.Ask, i)
			}
			continue
		case s.Workers != nil && given[m.Target.Account] >= withFew(there):
			continue
		case s.Workers != nil && there == 0: // it waits there, and takes no room
		case room <= 0, s.Workers != nil && all >= withFew(s.Hands):
			continue
		default:
			room--
			all++
		}
		given[m.Target.Account]++
		out.Begin = append(out.Begin, i)
	}
	return out
}
