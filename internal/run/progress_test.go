package run

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"brickrow/internal/stack"
)

// TestProgress folds events, one a second, into how far each resource is.
func TestProgress(t *testing.T) {
	plan := Plan{Steps: []Step{
		{ID: "create a", Resource: "a", Phase: PhaseBuild, Seconds: 4},
		{ID: "create b", Resource: "b", Phase: PhaseBuild, Seconds: 10, Swap: true, Needs: []string{"create a"}},
		{ID: "update c", Resource: "c", Phase: PhaseOneWay, Seconds: 2},
		{ID: "delete b", Resource: "b", Phase: PhaseSweep, Seconds: 3, Swap: true},
		{ID: "delete d", Resource: "d", Phase: PhaseSweep, Seconds: 3},
	}}
	for _, test := range []struct {
		name   string
		events string // resource:state, or a word of the run itself
		want   string // of each resource: state, how many segments, * where it failed
		counts Counts
		order  string
		last   string
	}{
		{"nothing yet", "", "a waiting 0, b waiting 0, c waiting 0, d waiting 0", Counts{All: 5}, "a b c d", ""},
		{"begun", "begins c:working a:working", "a working 1, b waiting 0, c working 1, d waiting 0", Counts{All: 5},
			"c a b d", "begins"},
		{"a swap", "b:working b:settling b:ready b:removing b:removed",
			"a waiting 0, b ready 2, c waiting 0, d waiting 0", Counts{All: 5, Over: 2}, "b a c d", ""},
		{"an old part that is stuck", "b:working b:ready b:removing b:failed",
			"a waiting 0, b ready 2*, c waiting 0, d waiting 0", Counts{All: 5, Over: 1}, "b a c d", ""},
		{"failed and undone",
			"a:working a:ready b:working b:failed c:skipped undo:_2_to_take_back b:undoing b:undone a:undoing a:undone all_is_back", "a undone 2, b undone 2*, c skipped 0, d waiting 0", Counts{All: 5, Undone: 2, ToUndo: 2}, "a b c d", "all is back"},
		{"failed and tried again", "a:working a:failed a:working a:ready",
			"a ready 1*, b waiting 0, c waiting 0, d waiting 0", Counts{All: 5, Over: 1}, "a b c d", ""},
		{"kept and removed", "d:removing d:removed c:kept", "a waiting 0, b waiting 0, c kept 1, d removed 1",
			Counts{All: 5, Over: 2}, "d c a b", ""},
		{"a stranger", "e:working e:ready", "a waiting 0, b waiting 0, c waiting 0, d waiting 0", Counts{All: 5},
			"a b c d", ""},
	} {
		began := time.Unix(1000, 0)
		p := NewProgress(plan, began)
		for i, word := range strings.Fields(test.events) {
			name, state, ok := strings.Cut(word, ":")
			e := Event{Resource: name, State: State(state), Time: began.Add(time.Duration(i+1) * time.Second)}
			if !ok || strings.HasPrefix(state, "_") {
				e = Event{Step: strings.ReplaceAll(word, "_", " ")}
			}
			p.Apply(e)
		}
		var got []string
		for _, name := range []string{"a", "b", "c", "d"} {
			part := p.Part(name)
			text := fmt.Sprintf("%s %s %d", name, part.State, len(part.Segments()))
			if part.Failed {
				text += "*"
			}
			got = append(got, text)
			if part.State.Over() != !part.Ended.IsZero() {
				t.Errorf("%s: %s is %s and ended %v", test.name, name, part.State, part.Ended)
			}
		}
		if text := strings.Join(got, ", "); text != test.want {
			t.Errorf("%s: %s, want %s", test.name, text, test.want)
		}
		if c := p.Counts(); c != test.counts {
			t.Errorf("%s: %+v, want %+v", test.name, c, test.counts)
		}
		if order := strings.Join(p.Order(), " "); order != test.order {
			t.Errorf("%s: in the order %s, want %s", test.name, order, test.order)
		}
		if p.Last() != test.last {
			t.Errorf("%s: said %q, want %q", test.name, p.Last(), test.last)
		}
	}
}

// TestForecast says how long a run still takes, from its events and the time.
func TestForecast(t *testing.T) {
	g := stack.Graph{"a": nil, "b": {"a"}, "c": nil}
	plan := Plan{Steps: []Step{{ID: "1", Resource: "a", Phase: PhaseBuild, Seconds: 4},
		{ID: "2", Resource: "b", Phase: PhaseBuild, Seconds: 10},
		{ID: "3", Resource: "c", Phase: PhaseBuild, Seconds: 5}}}
	began := time.Unix(1000, 0)
	at := func(seconds int) time.Time { return began.Add(time.Duration(seconds) * time.Second) }
	p := NewProgress(plan, began)
	p.Apply(Event{Resource: "a", State: Working, Time: began})
	p.Apply(Event{Resource: "c", State: Working, Time: began})
	if left := p.Left(g, at(1)); left != 13 {
		t.Errorf("%v s are left", left)
	}
	if left := p.Left(g, at(3)); left != 11 { // without a new event
		t.Errorf("%v s are left later", left)
	}
	if held := p.HeldUp(g, at(3)); held != "a" || !p.OnPath(g, "b", at(3)) || p.OnPath(g, "c", at(3)) {
		t.Errorf("held up by %s", held)
	}
	if begins := p.Begins(g, "b", at(3)); begins != 1 {
		t.Errorf("b begins in %v s", begins)
	}
	p.Apply(Event{Resource: "a", State: IsReady, Time: at(4)})
	p.Apply(Event{Resource: "b", State: Working, Time: at(4)})
	p.Apply(Event{Resource: "c", State: IsReady, Time: at(5)})
	if left := p.Left(g, at(6)); left != 8 || p.HeldUp(g, at(6)) != "b" {
		t.Errorf("%v s are left, held up by %s", left, p.HeldUp(g, at(6)))
	}
	p.Apply(Event{Resource: "b", State: IsReady, Time: at(14)})
	if left := p.Left(g, at(20)); left != 0 || p.HeldUp(g, at(20)) != "" ||
		!slices.Equal(p.Order(), []string{"a", "c", "b"}) {
		t.Errorf("%v s are left, %v", left, p.Order())
	}
}

// What is removed comes after all that is built, and so is still to come while that goes on.
func TestRemovingIsStillToCome(t *testing.T) {
	plan := Plan{Steps: []Step{{ID: "create b", Resource: "b", Phase: PhaseBuild, Swap: true, Seconds: 10},
		{ID: "delete b", Resource: "b", Phase: PhaseSweep, Swap: true, Seconds: 5}, {ID: "delete d", Resource: "d", Phase: PhaseSweep, Seconds: 3}}}
	began := time.Unix(1000, 0)
	graph := map[string][]string{"b": nil, "d": {"b"}}
	for _, c := range []struct {
		state State
		at    int
		want  float64
	}{{Working, 0, 18}, {Working, 4, 14}, {IsReady, 10, 8}, {Removing, 10, 8}, {Removing, 12, 6}, {Removed, 15, 3}} {
		p := NewProgress(plan, began)
		for _, s := range []State{Working, IsReady, Removing, Removed} {
			at := map[State]int{Working: 0, IsReady: 10, Removing: 10, Removed: 15}[s]
			p.Apply(Event{Resource: "b", State: s, Time: began.Add(time.Duration(at) * time.Second)})
			if s == c.state {
				break
			}
		}
		if got := p.Left(graph, began.Add(time.Duration(c.at)*time.Second)); got != c.want {
			t.Errorf("%s after %d s: %g s left, want %g", c.state, c.at, got, c.want)
		}
	}
}
