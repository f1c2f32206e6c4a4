package part

import (
	"strings"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// RunBrick is how a resource looks in a run, as far as the run has come; g says what rests on what.
func RunBrick(t *Theme, r *run.Record, progress *run.Progress, g stack.Graph, name string, now time.Time) Brick {
	p := progress.Part(name)
	if p == nil {
		return Brick{Mark: "▪", Sub: "untouched", Paint: t.Kinds[whatif.Same], Faint: true}
	}
	b := Brick{Mark: StateMarks[p.State], Paint: t.States[p.State], Sub: string(p.State)}
	switch p.State {
	case run.Waiting:
		b.Faint = true
		if r.State == run.StatusPaused || r.Pause {
			b.Sub = "paused"
			break
		}
		if w := waitsFor(progress, g, name); w != "" {
			b.Sub = "waits: " + w
		}
	case run.Working, run.Settling, run.Undoing, run.Removing:
		b.Sub = strings.TrimPrefix(p.Step, "running ") // a brick is narrow
		if b.Sub == "" {
			b.Sub = string(p.State)
		}
		b.Fill = min(0.97, now.Sub(p.Began).Seconds()/max(0.1, p.Seconds))
		if r.State.Ended() {
			b.Fill = 0.5
		}
		b.Fill = max(b.Fill, 0.03)
	case run.IsReady:
		b.Sub = "ready " + whatif.Length(p.Ended.Sub(p.Began).Seconds())
		if p.Step != "" {
			b.Sub = p.Step
		} else if p.Old.State == run.Removed {
			b.Sub = "swapped"
		}
	case run.Skipped:
		b.Faint = true
	case run.IsUndone, run.Removed:
		b.Sub += " " + whatif.Length(p.Ended.Sub(p.Began).Seconds())
	}
	if p.Failed && p.State == run.IsUndone {
		b.Mark, b.Paint, b.Sub = StateMarks[run.HasFailed], t.States[run.HasFailed], "failed, undone"
	}
	b.Alarm = p.Failed
	return b
}

// waitsFor is the first thing that a resource still waits for.
func waitsFor(progress *run.Progress, g stack.Graph, name string) string {
	for _, n := range g[name] {
		if p := progress.Part(n); p != nil && p.State != run.IsReady {
			return n
		}
	}
	return ""
}
