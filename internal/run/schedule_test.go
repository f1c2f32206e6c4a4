package run

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

func ids(steps []Step) string {
	var out []string
	for _, s := range steps {
		out = append(out, s.ID)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func newSchedule(t *testing.T, limit int, steps ...Step) *Schedule {
	t.Helper()
	s, err := NewSchedule(steps, limit)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestScheduleFollowsNeeds(t *testing.T) {
	s := newSchedule(t, 0, Step{ID: "a", Half: Build}, Step{ID: "b", Half: Build, Needs: []string{"a"}}, Step{ID: "c", Half: Build, Needs: []string{"a", "elsewhere"}}, Step{ID: "d", Half: Build, Needs: []string{"b", "c"}})
	for _, round := range []struct{ ready, end string }{{"a", "a"}, {"b c", "b"}, {"", "c"}, {"d", "d"}} {
		if got := ids(s.Ready()); got != round.ready {
			t.Errorf("ready are %q, want %q", got, round.ready)
		}
		if s.Idle() {
			t.Errorf("idle while %s runs", round.end)
		}
		s.End(round.end, Done)
	}
	if !s.Complete() || !s.Idle() {
		t.Error("it is not complete")
	}
}

func TestScheduleHalves(t *testing.T) {
	s := newSchedule(t, 0, Step{ID: "drop", Half: Sweep}, Step{ID: "last", Half: OneWay}, Step{ID: "build", Half: Build})
	for _, want := range []string{"build", "last", "drop"} {
		if got := ids(s.Ready()); got != want {
			t.Fatalf("ready are %q, want %q", got, want)
		}
		if got := s.CannotReturn(); got != (want == "drop") {
			t.Errorf("before %s: cannot return is %v", want, got)
		}
		s.End(want, Done)
	}
}

func TestScheduleStopsAtAFailure(t *testing.T) {
	s := newSchedule(t, 0, Step{ID: "a", Half: Build}, Step{ID: "b", Half: Build}, Step{ID: "c", Half: Build, Needs: []string{"a"}}, Step{ID: "z", Half: Sweep})
	s.Ready()
	s.End("b", Failed)
	if s.Idle() {
		t.Error("idle while a runs")
	}
	s.End("a", Done)
	if got := ids(s.Ready()); got != "" || !s.Idle() || s.Complete() {
		t.Errorf("after a failure: ready %q, idle %v", got, s.Idle())
	}
	if got := ids(s.Unfinished()); got != "c z" {
		t.Errorf("unfinished are %q", got)
	}
}

func TestScheduleGoesOnWhenAStepOfTheSweepFails(t *testing.T) {
	s := newSchedule(t, 0, Step{ID: "a", Half: Sweep}, Step{ID: "b", Half: Sweep}, Step{ID: "c", Half: Sweep, Needs: []string{"b"}}, Step{ID: "d", Half: Sweep, Needs: []string{"a"}})
	s.Ready()
	s.End("a", Failed)
	s.End("b", Done)
	if got := ids(s.Ready()); got != "c" {
		t.Errorf("ready are %q", got)
	}
	s.End("c", Done)
	if !s.Idle() || s.Complete() {
		t.Error("it is not over, or complete")
	}
}

func TestUnchangedLeavesThePairOut(t *testing.T) {
	s := newSchedule(t, 0, Step{ID: "create a", Half: Build}, Step{ID: "delete a", Half: Sweep, Pair: "create a"}, Step{ID: "delete b", Half: Sweep, Needs: []string{"delete a"}})
	s.Ready()
	s.End("create a", Unchanged)
	if got := ids(s.Ready()); got != "delete b" {
		t.Errorf("ready are %q", got)
	}
}

func TestScheduleRefusesCircles(t *testing.T) {
	if _, err := NewSchedule([]Step{{ID: "a", Needs: []string{"b"}}, {ID: "b", Needs: []string{"a"}}}, 0); err == nil {
		t.Error("a circle is taken")
	}
	if _, err := NewSchedule([]Step{{ID: "a"}, {ID: "a"}}, 0); err == nil {
		t.Error("a step that stands twice is taken")
	}
}

func TestLongestWayGoesFirst(t *testing.T) {
	s := newSchedule(t, 1, Step{ID: "short", Half: Build, Seconds: 5}, Step{ID: "long", Half: Build, Seconds: 1}, Step{ID: "after", Half: Build, Seconds: 60, Needs: []string{"long"}})
	if got := ids(s.Ready()); got != "long" {
		t.Errorf("first comes %q", got)
	}
}

// TestRandomSchedules plays random plans through with random ends: needs and
// halves are kept, the limit too, nothing starts twice, and all ends come.
func TestRandomSchedules(t *testing.T) {
	for seed := range uint64(400) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		n, limit := 1+rnd.IntN(30), rnd.IntN(5)
		steps := make([]Step, n)
		for i := range steps {
			steps[i] = Step{ID: fmt.Sprint("s", i), Half: []Half{Build, Build, OneWay, Sweep}[rnd.IntN(4)], Seconds: rnd.Float64() * 10}
			for j := range i {
				if steps[j].Half == steps[i].Half && rnd.IntN(6) == 0 {
					steps[i].Needs = append(steps[i].Needs, steps[j].ID)
				}
			}
		}
		rnd.Shuffle(n, func(i, j int) { steps[i], steps[j] = steps[j], steps[i] })
		s := newSchedule(t, limit, steps...)
		failing := rnd.IntN(3) == 0
		ended, running, failed := map[string]bool{}, []Step{}, false
		for round := 0; ; round++ {
			for _, st := range s.Ready() {
				if ended[st.ID] {
					t.Fatalf("seed %d: %s starts twice", seed, st.ID)
				}
				for _, need := range st.Needs {
					if !ended[need] {
						t.Fatalf("seed %d: %s starts before %s", seed, st.ID, need)
					}
				}
				for _, other := range steps {
					if st.Half == Sweep && other.Half != Sweep && !ended[other.ID] {
						t.Fatalf("seed %d: the sweep begins before %s", seed, other.ID)
					}
				}
				running = append(running, st)
			}
			if limit > 0 && len(running) > limit {
				t.Fatalf("seed %d: %d run at once, the limit is %d", seed, len(running), limit)
			}
			if len(running) == 0 {
				break
			}
			i := rnd.IntN(len(running))
			st := running[i]
			running = slices.Delete(running, i, i+1)
			if failing && rnd.IntN(8) == 0 {
				s.End(st.ID, Failed)
				failed = true
				continue
			}
			s.End(st.ID, Done)
			ended[st.ID] = true
		}
		if !s.Idle() || s.Complete() == failed || !failed && len(ended) != n {
			t.Fatalf("seed %d: idle %v, complete %v, failed %v, %d of %d ended", seed, s.Idle(), s.Complete(), failed, len(ended), n)
		}
	}
}

func seconds(*whatif.Change, whatif.Kind) float64 { return 1 }

func rec(name string, needs ...string) *stack.Recorded {
	return &stack.Recorded{Name: name, Type: "Topic", ID: "id-" + name, Needs: needs}
}

func wanted() *stack.Resource { return &stack.Resource{} }

func TestPlan(t *testing.T) {
	cs := &whatif.ChangeSet{Changes: []whatif.Change{
		{Name: "same", Kind: whatif.Same, Wanted: wanted(), Recorded: rec("same")},
		{Name: "new", Kind: whatif.New, Needs: []string{"same"}, Wanted: wanted()},
		{Name: "swap", Kind: whatif.Swap, Needs: []string{"new"}, Wanted: wanted(), Recorded: rec("swap")},
		{Name: "edit", Kind: whatif.Edit, Needs: []string{"swap", "same"}, Wanted: wanted(), Recorded: rec("edit", "swap")},
		{Name: "up", Kind: whatif.Edit, OneWay: true, Needs: []string{"new"}, Wanted: wanted(), Recorded: rec("up")},
		{Name: "up2", Kind: whatif.Edit, OneWay: true, Wanted: wanted(), Recorded: rec("up2")},
		{Name: "after", Kind: whatif.New, Needs: []string{"up"}, Wanted: wanted()},
		{Name: "drop", Kind: whatif.Drop, Recorded: rec("drop", "swap")},
		{Name: "free", Kind: whatif.Keep, Recorded: rec("free")},
	}}
	p := NewPlan(cs, []*stack.Recorded{rec("left", "more"), rec("more")}, seconds)
	got := map[string]string{}
	for _, s := range p.Steps {
		got[s.ID] = fmt.Sprintf("%s %s %v", s.Action, s.Half, s.Needs)
	}
	want := map[string]string{
		"create new":              "create build []",
		"create swap":             "create build [create new]",
		"update edit":             "update build [create swap]",
		"update up":               "update one way []",
		"update up2":              "update one way [update up]",
		"create after":            "create build []",
		"delete swap":             "delete sweep [delete drop]",
		"delete drop":             "delete sweep []",
		"delete free":             "release sweep []",
		"delete old more id-more": "delete sweep [delete old left id-left]",
		"delete old left id-left": "delete sweep []",
	}
	for id, w := range want {
		if got[id] != w {
			t.Errorf("%s: %q, want %q", id, got[id], w)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%d steps, want %d: %v", len(got), len(want), got)
	}
	if _, err := NewSchedule(p.Steps, 4); err != nil {
		t.Error(err)
	}
}

func TestPlanUndo(t *testing.T) {
	p := Plan{Steps: []Step{
		{ID: "create a", Resource: "a", Action: Create, Half: Build},
		{ID: "create b", Resource: "b", Action: Create, Half: Build, Needs: []string{"create a"}},
		{ID: "update c", Resource: "c", Action: Update, Half: Build, Needs: []string{"create b"}},
		{ID: "create d", Resource: "d", Action: Create, Half: Build, Needs: []string{"create a"}},
		{ID: "create e", Resource: "e", Action: Create, Half: Build},
	}}
	journal := []Entry{
		{Step: p.Steps[0], State: Done, Attempt: 1, CloudID: "id-a"},
		{Step: p.Steps[1], State: Done, Attempt: 2, CloudID: "id-b"},
		{Step: p.Steps[2], State: Failed, Attempt: 1, CloudID: "id-c"},
		{Step: p.Steps[3], State: Unchanged, Attempt: 1},
	}
	var got []string
	for _, s := range PlanUndo(p, journal, false) {
		got = append(got, fmt.Sprintf("%s: %s %s after %v", s.ID, s.Action, s.CloudID, s.Needs))
	}
	want := []string{
		"undo create a (1): delete id-a after [undo create b (2)]",
		"undo create b (2): delete id-b after [undo update c (1)]",
		"undo update c (1): put back id-c after []",
	}
	if !slices.Equal(got, want) {
		t.Errorf("undo:\n%s", strings.Join(got, "\n"))
	}
	if only := PlanUndo(p, journal, true); len(only) != 1 || only[0].Of != "update c" {
		t.Errorf("clearing only what failed: %v", only)
	}
}

// BenchmarkSchedule is the engine's own cost for a step.
func BenchmarkSchedule(b *testing.B) {
	var steps []Step
	for i := range 1000 {
		s := Step{ID: fmt.Sprint("s", i), Half: Build, Seconds: 1}
		for j := max(0, i-3); j < i; j++ {
			s.Needs = append(s.Needs, fmt.Sprint("s", j))
		}
		steps = append(steps, s)
	}
	for b.Loop() {
		s, err := NewSchedule(steps, 16)
		if err != nil {
			b.Fatal(err)
		}
		for ready := s.Ready(); len(ready) > 0; ready = s.Ready() {
			for _, st := range ready {
				s.End(st.ID, Done)
			}
		}
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/1000, "µs/step")
}
