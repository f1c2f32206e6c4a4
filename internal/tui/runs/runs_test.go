package runs

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
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
		if b := v.brick(parttest.New(t, nil).Theme(), e.name, began); b.Sub != e.sub || e.mark != "" && b.Mark != e.mark {
			t.Errorf("%s %s: %+v", e.name, e.state, b)
		}
	}
	if b := v.brick(parttest.New(t, nil).Theme(), "other", began); b.Sub != "untouched" {
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
			v.log.add([]run.Event{e})
		}
		v.wall.Set(v.setting.Graph)
		b.Run(fmt.Sprint(n), func(b *testing.B) { sh.Keys(b, v, "lh") })
		v.log.read()
		b.Run(fmt.Sprint(n, "-reading"), func(b *testing.B) { sh.Keys(b, v, "kj") })
		v.log.reading, v.log.filter.Typing = false, true
		b.Run(fmt.Sprint(n, "-filter"), func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				k := tea.KeyPressMsg{Code: '1', Text: "1"}
				if i%2 == 1 {
					k = tea.KeyPressMsg{Code: tea.KeyBackspace}
				}
				v.Update(k)
				sh.Styled(v)
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/1000, "ms/key")
		})
	}
}

// reader is a view with events of three resources, which are read.
func reader(t *testing.T) (*parttest.Shell, *View) {
	t.Helper()
	sh := parttest.New(t, nil)
	v := New(sh)
	began := time.Now()
	v.run = &run.Record{State: run.StatusWorking, Started: began}
	v.news = &app.News{Overview: app.Overview{Run: v.run, Holder: "somebody"}}
	v.setting = &app.Setting{Graph: stack.Graph{"gate": nil, "reader": {"gate"}, "post": {"gate"}}}
	for name := range v.setting.Graph {
		v.run.Plan.Steps = append(v.run.Plan.Steps, run.Step{ID: name, Resource: name, Phase: run.PhaseBuild})
	}
	v.progress = run.NewProgress(v.run.Plan, began)
	v.wall.Set(v.setting.Graph)
	tell(v, run.Event{Resource: "gate", Type: "Gateway", State: run.Working, Step: "allocating an address"},
		run.Event{Resource: "reader", Type: "Server", State: run.Working, Step: "booting", CloudID: "srv-17", Attempt: 2},
		run.Event{Resource: "reader", Type: "Server", State: run.HasFailed, Reason: strings.Repeat("no host has room ", 40) + "at all"},
		run.Event{Resource: "post", Type: "Server", State: run.IsReady})
	return sh, v
}

func tell(v *View, events ...run.Event) {
	for _, e := range events {
		e.Seq, e.Time = v.log.last()+1, time.Now()
		v.progress.Apply(e)
		v.log.add([]run.Event{e})
	}
}

func press(t *testing.T, v *View, keys ...string) {
	t.Helper()
	for _, k := range keys {
		msg := tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		if code, special := map[string]rune{"esc": tea.KeyEscape, "enter": tea.KeyEnter, "up": tea.KeyUp, "end": tea.KeyEnd,
			"space": tea.KeySpace}[k]; special {
			msg = tea.KeyPressMsg{Code: code}
		}
		if v.Typing() {
			v.Update(msg)
		} else if _, done := part.Press(v.Bindings(), msg); !done {
			t.Fatalf("%s does nothing", k)
		}
	}
}

func TestReadingTheEvents(t *testing.T) {
	sh, v := reader(t)
	wants := func(words ...string) {
		t.Helper()
		for _, w := range words {
			if frame := sh.Frame(v); !strings.Contains(frame, w) {
				t.Fatalf("there is no %q:\n%s", w, frame)
			}
		}
	}
	press(t, v, "e", "up")
	wants("reader failed", "at all", "3 of 4") // the message is there to its end
	press(t, v, "o")
	for _, c := range []string{"attempt", "cloud id"} {
		for columns[v.log.choice].name != c {
			press(t, v, "j")
		}
		press(t, v, "space")
	}
	press(t, v, "esc", "up")
	wants("cloud id", "srv-17", "booting")
	press(t, v, "enter")
	if v.wall.Sel != "reader" || v.log.reading {
		t.Errorf("enter goes to %q", v.wall.Sel)
	}

	press(t, v, "/", "r", "o", "o", "m", "enter", "f")
	wants("1 of 4", "no host has room")
	tell(v, run.Event{Resource: "gate", State: run.IsReady}, run.Event{Resource: "post", State: run.Settling, Step: "still no room"})
	wants("2 of 6", "still no room")
	press(t, v, "esc")
	if v.log.len() != 6 {
		t.Errorf("%d events without a filter", v.log.len())
	}

	press(t, v, "e", "end", "s", "r", "e", "a", "d", "e", "r", "enter")
	if e, _ := v.log.marked(); e.Resource != "reader" || e.State != run.HasFailed {
		t.Errorf("found %+v", e)
	}
	press(t, v, "n")
	if e, _ := v.log.marked(); e.State != run.Working {
		t.Errorf("further on there is %+v", e)
	}
	press(t, v, "n")
	if sh.Said == "" {
		t.Error("it is not told that there is no more")
	}
	tell(v, run.Event{Resource: "gate", State: run.Removing})
	if e, _ := v.log.marked(); e.Step != "booting" {
		t.Errorf("an event that comes moves the mark to %+v", e)
	}
	press(t, v, "f")
	if e, _ := v.log.marked(); e.State != run.Removing {
		t.Errorf("following, there is %+v", e)
	}
	tell(v, run.Event{Resource: "gate", State: run.Removed})
	if e, _ := v.log.marked(); e.State != run.Removed {
		t.Errorf("following, there is %+v", e)
	}
}

// The mark stays at its event while the filter is typed, and after it is cleared.
func TestTheMarkAndTheFilter(t *testing.T) {
	_, v := reader(t)
	press(t, v, "e", "up", "up") // reader, booting
	press(t, v, "/", "s", "e", "r", "v", "e", "r", "enter")
	if e, _ := v.log.marked(); e.Step != "booting" {
		t.Errorf("filtered: %+v", e)
	}
	press(t, v, "esc")
	if e, _ := v.log.marked(); e.Step != "booting" {
		t.Errorf("cleared: %+v", e)
	}
	press(t, v, "/", "z", "z", "enter", "up")
}

// A failure is explained beside the wall, and whole where there is no room.
func TestWhyItFailed(t *testing.T) {
	sh, v := reader(t)
	words := strings.Repeat("no host has room ", 60) + "at all"
	v.Update(explained{&app.Report{Run: v.run, Failures: []app.Explanation{
		{Failure: run.Failure{Event: run.Event{Resource: "reader", Type: "Server", Step: "booting", Attempt: 2}, Words: words},
			Mends: []app.Mend{{Text: "wait for the thaw", From: app.FromCloud}}, Behind: []string{"post"}},
		{Failure: run.Failure{Event: run.Event{Resource: "gate"}, Words: "the road is closed"}},
	}}})
	sh.W, sh.H = 80, 24
	v.wall.Choose("reader")
	frame := sh.Frame(v)
	if !strings.Contains(frame, "w shows all") || strings.Contains(frame, "at all\n") {
		t.Fatalf("%s", frame)
	}
	press(t, v, "w")
	seen := ""
	for range 30 {
		seen += sh.Frame(v)
		press(t, v, "j")
	}
	for _, w := range []string{"failed while booting, in attempt 2", "also failed  gate (mark the brick)", "at all", "wait for the thaw", "it holds up  post",
		"comes to its end first"} {
		if !strings.Contains(seen, w) {
			t.Errorf("there is no %q in:\n%s", w, sh.Frame(v))
		}
	}
	press(t, v, "esc")
	v.wall.Choose("gate")
	if frame := sh.Frame(v); !strings.Contains(frame, "the road is closed") {
		t.Errorf("the marked brick is not explained:\n%s", frame)
	}
}
