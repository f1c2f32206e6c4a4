package fleet

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"brickrow/internal/stack"
)

func TestDivide(t *testing.T) {
	for _, test := range []struct {
		waves  []Wave
		places int
		want   string
	}{
		{nil, 3, "[1 1 1]"},
		{[]Wave{{Count: 1}, {Percent: 25}, {Rest: true}}, 9, "[1 2 2 2 3 3 3 3 3]"},
		{[]Wave{{Count: 2}}, 5, "[1 1 2 2 2]"},
		{[]Wave{{Percent: 10}, {Percent: 100}}, 4, "[1 2 2 2]"},
		{[]Wave{{Count: 5}, {Rest: true}}, 2, "[1 1]"},
		{[]Wave{{Percent: 33.3}, {Percent: 33.3}, {Percent: 33.4}}, 3, "[1 2 3]"},
		{[]Wave{{Rest: true}}, 0, "[]"},
	} {
		if got := fmt.Sprint(Divide(test.waves, test.places)); got != test.want {
			t.Errorf("%v of %d: %s, want %s", test.waves, test.places, got, test.want)
		}
	}
}

func standing(tolerate, atOnce, behind int, states ...State) Standing {
	s := Standing{Tolerate: tolerate, AtOnce: atOnce, Behind: behind}
	for i, st := range states {
		s.Members = append(s.Members, Member{Target: stack.Target{Account: "hut", Region: fmt.Sprint("r", i)}, Wave: 1 + i/3, State: st})
	}
	return s
}

func TestNext(t *testing.T) {
	const w, b, r, f = Waiting, Working, Ready, Failed
	for _, test := range []struct {
		name string
		s    Standing
		want string
	}{
		{"the first wave begins", standing(0, 0, 9, w, w, w, w), "{[0 1 2] [] 0 false false}"},
		{"so many at once", standing(0, 2, 9, b, w, w, w), "{[1] [] 0 false false}"},
		{"no room", standing(0, 1, 9, b, w, w, w), "{[] [] 0 false false}"},
		{"the next wave waits for the whole one", standing(0, 0, 9, r, b, r, w), "{[] [] 0 false false}"},
		{"the next wave", standing(0, 0, 9, r, r, r, w), "{[3] [] 0 false false}"},
		{"it waits between waves", standing(0, 0, 0, r, r, r, w), "{[] [] 2 false false}"},
		{"it was agreed to", standing(0, 0, 1, r, r, r, w), "{[3] [] 0 false false}"},
		{"a wave that has begun is not asked about again", standing(0, 1, 0, r, r, r, r, w), "{[4] [] 0 false false}"},
		{"within what is tolerated", standing(1, 0, 9, f, r, r, w), "{[3] [] 0 false false}"},
		{"more than is tolerated", standing(0, 0, 9, f, b, w, w), "{[] [] 0 false true}"},
		{"what was under way has ended", standing(0, 0, 9, f, r, w, w), "{[] [] 0 true true}"},
		{"done", standing(1, 0, 9, r, f, r, r), "{[] [] 0 true false}"},
		{"nothing at all", standing(0, 0, 9), "{[] [] 0 true false}"},
	} {
		if got := fmt.Sprint(test.s.Next()); got != test.want {
			t.Errorf("%s: %s, want %s", test.name, got, test.want)
		}
	}
	// So many as workers have room for, and a few that wait: of eight that work in hut, with one busy elsewhere.
	many := standing(0, 0, 9)
	for i := range 40 {
		many.Members = append(many.Members, Member{Target: stack.Target{Account: []string{"hut", "ridge"}[i/20], Region: fmt.Sprint(i)}, Wave: 1, State: w})
	}
	for _, test := range []struct {
		workers map[string]int
		hands   int
		under   int
		hut     int
		ridge   int
	}{{nil, 0, 0, 20, 20}, {map[string]int{}, 0, 0, 2, 2}, {map[string]int{"hut": 8}, 8, 0, 12, 2}, {map[string]int{"hut": 8}, 8, 9, 3, 2}, {map[string]int{"hut": 8}, 8, 15, 0, 2},
		{map[string]int{"hut": 8, "ridge": 8}, 8, 0, 12, 0},   // one who works in both
		{map[string]int{"hut": 8, "ridge": 8}, 16, 0, 12, 10}, // one for each
		{map[string]int{"hut": 100, "ridge": 40}, 140, 0, 20, 20}} {
		s := many
		s.Workers, s.Hands, s.Members = test.workers, test.hands, slices.Clone(many.Members)
		for i := range test.under {
			s.Members[i].State = b
		}
		count := map[string]int{}
		for _, i := range s.Next().Begin {
			count[s.Members[i].Target.Account]++
		}
		if count["hut"] != test.hut || count["ridge"] != test.ridge {
			t.Errorf("%v with %d under way: %v", test.workers, test.under, count)
		}
	}
	// What was given out where nobody works takes no room, and holds up no end.
	idle := standing(0, 1, 9, Begun, Begun, w, w)
	for i, account := range []string{"ridge", "ridge", "hut", "ridge"} {
		idle.Members[i].Wave, idle.Members[i].Target.Account = 1, account
	}
	idle.Workers, idle.Hands = map[string]int{"hut": 1}, 1
	if got := fmt.Sprint(idle.Next()); got != "{[2] [] 0 false false}" {
		t.Errorf("idle ones take room: %s", got)
	}
	idle.Members[2].State = f
	if got := fmt.Sprint(idle.Next()); got != "{[] [] 0 true true}" {
		t.Errorf("idle ones hold up the end: %s", got)
	}
	s := standing(0, 0, 9, w, w)
	s.Members[1].Careful = true
	if got := fmt.Sprint(s.Next()); got != "{[0] [1] 0 false false}" {
		t.Errorf("a careful one: %s", got)
	}
	s.Members[1].State = Asks
	if got := fmt.Sprint(s.Next()); got != "{[0] [] 0 false false}" {
		t.Errorf("it asks already: %s", got)
	}
	s.Members[1].Agreed = true
	if got := fmt.Sprint(s.Next()); got != "{[0 1] [] 0 false false}" {
		t.Errorf("agreed to: %s", got)
	}
}

// TestFleetsComeToTheirEnds plays random fleets through: never more at once than may be, no wave before the one before
// it is over, nothing begins behind too many failures, and in the end all is over.
func TestFleetsComeToTheirEnds(t *testing.T) {
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		n := 1 + rnd.IntN(20)
		s := Standing{AtOnce: rnd.IntN(4), Tolerate: rnd.IntN(4), Behind: 99}
		for _, wave := range Divide([]Wave{{Count: 1 + rnd.IntN(3)}, {Percent: float64(1 + rnd.IntN(60))}, {Rest: true}}, n) {
			s.Members = append(s.Members, Member{Wave: wave, State: Waiting})
		}
		for round := 0; ; round++ {
			if round > 10*n {
				t.Fatalf("seed %d: it does not come to its end: %+v", seed, s)
			}
			step := s.Next()
			failed := count(s, func(m Member) bool { return m.State == Failed })
			if len(step.Begin) > 0 && failed > s.Tolerate {
				t.Fatalf("seed %d: something begins behind %d failures of %d", seed, failed, s.Tolerate)
			}
			for _, i := range step.Begin {
				if slices.ContainsFunc(s.Members, func(m Member) bool { return m.Wave < s.Members[i].Wave && !m.State.Over() }) {
					t.Fatalf("seed %d: wave %d begins before the one before it is over", seed, s.Members[i].Wave)
				}
				s.Members[i].State = Working
			}
			if under := count(s, func(m Member) bool { return m.State.Under() }); s.AtOnce > 0 && under > s.AtOnce {
				t.Fatalf("seed %d: %d at once of %d", seed, under, s.AtOnce)
			}
			if step.Over {
				waiting := count(s, func(m Member) bool { return m.State == Waiting })
				if (waiting > 0 || failed > s.Tolerate) != step.Stopped {
					t.Fatalf("seed %d: over with %d waiting, %d failed of %d: %+v", seed, waiting, failed, s.Tolerate, step)
				}
				break
			}
			for i := range s.Members {
				if m := &s.Members[i]; m.State == Working && rnd.IntN(2) == 0 {
					if m.State = Ready; rnd.IntN(5) == 0 {
						m.State = Failed
					}
				}
			}
		}
	}
}

func count(s Standing, which func(Member) bool) (n int) {
	for _, m := range s.Members {
		if which(m) {
			n++
		}
	}
	return n
}
