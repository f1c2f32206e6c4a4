package runs

import (
	"fmt"
	"testing"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/tui/part"
	"brickrow/internal/tui/part/parttest"
)

// TestBricksOfARun looks at a brick through a run that fails, and at a swap that
// stays ready while the old one goes.
func TestBricksOfARun(t *testing.T) {
	began := time.Now()
	plan := run.Plan{Steps: []run.Step{{ID: "create a", Resource: "a", Phase: run.PhaseBuild, Seconds: 4},
		{ID: "create b", Resource: "b", Phase: run.PhaseBuild, Swap: true, Seconds: 4}}}
	v := &View{run: &run.Record{Started: began, State: run.StatusWorking}, progress: run.NewProgress(plan, began),
		setting: &app.Setting{}}
	for i, e := range []struct {
		name  string
		state run.State
		mark  string
		sub   string
	}{
		{"a", run.Working, "", "working"}, {"a", run.HasFailed, "", "failed"}, {"a", run.Undoing, "",
			"undoing"}, {"a", run.IsUndone, "✖", "failed, undone"},
		{"b", run.Working, "", "working"}, {"b", run.IsReady, "■", "ready 1 ms"},
		{"b", run.Removing, "■", "the old one goes"}, {"b", run.Removed, "■", "swapped"},
	} {
		v.progress.Apply(run.Event{Resource: e.name, State: e.state,
			Time: began.Add(time.Duration(i) * time.Millisecond)})
		if b := v.brick(&part.Dark, e.name, began); b.Sub != e.sub || e.mark != "" && b.Mark != e.mark {
			t.Errorf("%s %s: %+v", e.name, e.state, b)
		}
	}
	if b := v.brick(&part.Dark, "other", began); b.Sub != "untouched" {
		t.Errorf("%+v", b)
	}
}

// BenchmarkKey walks the wall of a run that has told 20 events of each resource.
func BenchmarkKey(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh := parttest.New(b, nil)
		v := New(sh)
		now := time.Now()
		v.run = &run.Record{State: run.StatusWorking, Started: now}
		v.news = &app.News{Overview: app.Overview{Run: v.run, Holder: "somebody"}}
		v.setting = &app.Setting{Graph: parttest.Changes(n).Graph()}
		for i := range n {
			v.run.Plan.Steps = append(v.run.Plan.Steps,
				run.Step{ID: fmt.Sprint("create r", i), Resource: fmt.Sprint("r", i), Phase: run.PhaseBuild,
					Seconds: float64(i % 9)})
		}
		v.progress = run.NewProgress(v.run.Plan, now)
		for i := range 20 * n {
			e := run.Event{Seq: int64(i + 1), Time: now, Resource: fmt.Sprint("r", i%n), State: run.Working,
				Step: "installing the image"}
			v.progress.Apply(e)
			v.events = append(v.events, e)
		}
		v.wall.Set(v.setting.Graph)
		b.Run(fmt.Sprint(n), func(b *testing.B) { sh.Keys(b, v, "lh") })
	}
}
