package run

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

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
	s := newSchedule(t, 0, Step{ID: "a", Phase: PhaseBuild}, Step{ID: "b", Phase: PhaseBuild, Needs: []string{"a"}},
		Step{ID: "c", Phase: PhaseBuild, Needs: []string{"a", "elsewhere"}},
		Step{ID: "d", Phase: PhaseBuild, Needs: []string{"b", "c"}})
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
	s := newSchedule(t, 0, Step{ID: "drop", Phase: PhaseSweep}, Step{ID: "last", Phase: PhaseOneWay},
		Step{ID: "build", Phase: PhaseBuild})
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
	s := newSchedule(t, 0, Step{ID: "a", Phase: PhaseBuild}, Step{ID: "b", Phase: PhaseBuild},
		Step{ID: "c", Phase: PhaseBuild, Needs: []string{"a"}}, Step{ID: "z", Phase: PhaseSweep})
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
	s := newSchedule(t, 0, Step{ID: "a", Phase: PhaseSweep}, Step{ID: "b", Phase: PhaseSweep},
		Step{ID: "c", Phase: PhaseSweep, Needs: []string{"b"}}, Step{ID: "d", Phase: PhaseSweep, Needs: []string{"a"}})
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
	s := newSchedule(t, 0, Step{ID: "create a", Phase: PhaseBuild},
		Step{ID: "delete a", Phase: PhaseSweep, Pair: "create a"},
		Step{ID: "delete b", Phase: PhaseSweep, Needs: []string{"delete a"}})
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
	s := newSchedule(t, 1, Step{ID: "short", Phase: PhaseBuild, Seconds: 5},
		Step{ID: "long", Phase: PhaseBuild, Seconds: 1},
		Step{ID: "after", Phase: PhaseBuild, Seconds: 60, Needs: []string{"long"}})
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
			steps[i] = Step{ID: fmt.Sprint("s", i),
				Phase:   []Phase{PhaseBuild, PhaseBuild, PhaseOneWay, PhaseSweep}[rnd.IntN(4)],
				Seconds: rnd.Float64() * 10}
			for j := range i {
				if steps[j].Phase == steps[i].Phase && rnd.IntN(6) == 0 {
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
					if st.Phase == PhaseSweep && other.Phase != PhaseSweep && !ended[other.ID] {
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
			t.Fatalf("seed %d: idle %v, complete %v, failed %v, %d of %d ended", seed, s.Idle(), s.Complete(), failed,
				len(ended), n)
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
		{Name: "edit", Kind: whatif.Edit, Needs: []string{"swap", "same"}, Wanted: wanted(),
			Recorded: rec("edit", "swap")},
		{Name: "up", Kind: whatif.Edit, OneWay: true, Needs: []string{"new"}, Wanted: wanted(), Recorded: rec("up")},
		{Name: "up2", Kind: whatif.Edit, OneWay: true, Wanted: wanted(), Recorded: rec("up2")},
		{Name: "after", Kind: whatif.New, Needs: []string{"up"}, Wanted: wanted()},
		{Name: "drop", Kind: whatif.Drop, Recorded: rec("drop", "swap")},
		{Name: "free", Kind: whatif.Keep, Recorded: rec("free")},
	}, Old: []*stack.Recorded{rec("left", "more"), rec("more")}}
	p := NewPlan(cs, seconds)
	got := map[string]string{}
	for _, s := range p.Steps {
		got[s.ID] = fmt.Sprintf("%s %s %v", s.Action, s.Phase, s.Needs)
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
		{ID: "create a", Resource: "a", Action: Create, Phase: PhaseBuild},
		{ID: "create b", Resource: "b", Action: Create, Phase: PhaseBuild, Needs: []string{"create a"}},
		{ID: "update c", Resource: "c", Action: Update, Phase: PhaseBuild, Needs: []string{"create b"}},
		{ID: "create d", Resource: "d", Action: Create, Phase: PhaseBuild, Needs: []string{"create a"}},
		{ID: "create e", Resource: "e", Action: Create, Phase: PhaseBuild},
	}}
	journal := []Entry{
		{Step: p.Steps[0], State: Done, Attempt: 1, CloudID: "id-a"},
		{Step: p.Steps[1], State: Done, Attempt: 2, CloudID: "id-b"},
		{Step: p.Steps[2], State: Failed, Attempt: 1, CloudID: "id-c"},
		{Step: p.Steps[3], State: Unchanged, Attempt: 1},
	}
	var got []string
	for _, s := range PlanUndo(p, journal) {
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
	if only := PlanUndoFailed(p, journal); len(only) != 1 || only[0].Of != "update c" {
		t.Errorf("clearing only what failed: %v", only)
	}
}

// BenchmarkSchedule is what a step costs the scheduler, with the plan ready.
func BenchmarkSchedule(b *testing.B) {
	for _, n := range []int{1000, 10_000} {
		steps := make([]Step, n)
		for i := range n {
			steps[i] = Step{ID: fmt.Sprint("s", i), Phase: PhaseBuild, Seconds: 1}
			for j := max(0, i-3); j < i && i%50 > 0; j++ {
				steps[i].Needs = append(steps[i].Needs, fmt.Sprint("s", j))
			}
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var took time.Duration
			for b.Loop() {
				began := time.Now()
				s, err := NewSchedule(steps, 16)
				if err != nil {
					b.Fatal(err)
				}
				for ready := s.Ready(); len(ready) > 0; { // each end lets others begin
					var next []Step
					for _, st := range ready {
						s.End(st.ID, Done)
						next = append(next, s.Ready()...)
					}
					ready = next
				}
				if took += time.Since(began); !s.Complete() {
					b.Fatal("some steps are left")
				}
			}
			b.ReportMetric(float64(took.Nanoseconds())/float64(b.N*n)/1000, "µs/step")
		})
	}
}
