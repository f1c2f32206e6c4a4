package app

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/whatif"
)

// Former is how long things took before a run: in the last one of its kind that was done,
// and, where that had nothing to do with a step, in the ones before.
type Former struct {
	Run  int           // the last one of its kind; 0 is none
	Took time.Duration // all of it
	Of   map[string]time.Duration
	// chain is what led to its end.
	chain []*run.Span
}

// formerRuns is how many runs one looks back for how long a step took.
const formerRuns = 5

// former reads how long the steps of a run took before; Of is by the ids of steps.
func (a *App) former(ctx context.Context, st *stack.Stack, r *run.Record) (*Former, error) {
	out := &Former{Of: map[string]time.Duration{}}
	before := r.Number
	for range formerRuns {
		last, err := a.store.LastDone(ctx, st.ID, r.Kind, before)
		if errors.Is(err, store.ErrNotFound) {
			break
		}
		if err != nil {
			return nil, err
		}
		before = last.Number
		common, speed := alike(last.Plan, r.Plan)
		if !speed || r.Kind == run.KindAction && last.Origin.What != r.Origin.What {
			continue
		}
		events, err := a.store.Events(ctx, last.ID, 0)
		if err != nil {
			return nil, err
		}
		spans := run.Spans(last.Plan, events)
		for _, s := range spans {
			if _, known := out.Of[s.Step.ID]; !known && len(last.Plan.Steps) > 0 && !s.Ended.IsZero() && s.State != run.HasFailed {
				out.Of[s.Step.ID] = s.Took()
			}
		}
		if common && out.Run == 0 && !stoodStill(events) {
			out.Run, out.Took, out.chain = last.Number, last.Ended.Sub(last.Started), run.Chain(spans)
		}
	}
	return out, nil
}

// alike reports whether two runs had mostly the same to do, and whether the cloud takes about as long for it.
// A stand-in may be made quicker, and how long it took says nothing then.
func alike(a, b run.Plan) (common, speed bool) {
	nominal := map[string]float64{}
	for _, s := range a.Steps {
		nominal[s.ID] = s.Nominal
	}
	both := 0
	for _, s := range b.Steps {
		was, there := nominal[s.ID]
		if there {
			both++
		}
		if was > 0 && s.Nominal > 0 && (was > 4*s.Nominal || s.Nominal > 4*was) {
			return false, false
		}
	}
	return 2*both >= max(len(a.Steps), len(b.Steps)), true
}

// stoodStill reports whether a run was paused or taken up again: how long it took says
// nothing then.
func stoodStill(events []run.Event) bool {
	begun := 0
	for _, e := range events {
		if e.Resource == "" && e.State == run.Working && strings.Contains(e.Step, " begins: ") {
			begun++
		}
	}
	return begun > 1
}

// Compared says how long a run took beside the last one of its kind, and what made the
// difference; "" where there is nothing to say.
func (f *Former) Compared(r *run.Record, events []run.Event) string {
	if f == nil || f.Run == 0 || r.State != run.StatusDone || stoodStill(events) {
		return ""
	}
	by := r.Ended.Sub(r.Started) - f.Took
	if size := max(by, -by); size < 100*time.Millisecond || size < f.Took/50 {
		return fmt.Sprintf("as long as run %d", f.Run)
	}
	word, sign := "slower", time.Duration(1)
	if by < 0 {
		word, sign = "faster", -1
	}
	var parts []string
	named := time.Duration(0)
	for _, d := range run.Slower(run.Chain(run.Spans(r.Plan, events)), f.chain) {
		if 10*sign*d.By < sign*by { // that is not what made the difference
			break
		}
		named += d.By
		length := whatif.Length((sign * d.By).Seconds())
		switch {
		case d.New:
			parts = append(parts, fmt.Sprintf("%s came with %s", d.Resource, length))
		case d.Gone:
			parts = append(parts, fmt.Sprintf("%s, which took %s, was not in it", d.Resource, length))
		default:
			parts = append(parts, fmt.Sprintf("%s %s %s", d.Resource, length, word))
		}
		if len(parts) == 3 {
			break
		}
	}
	if rest := by - named; 2*sign*rest > sign*by {
		parts = append(parts, whatif.Length((sign*rest).Seconds())+" before, between and after its steps")
	}
	out := fmt.Sprintf("%s %s than run %d", whatif.Length((sign * by).Seconds()), word, f.Run)
	if len(parts) > 0 {
		out += ": " + strings.Join(parts, ", ")
	}
	return out
}

// margin measures how far off the estimates of past runs were, in a target.
func (a *App) margin(ctx context.Context, t stack.Target, before time.Time) (whatif.Margin, error) {
	list, err := a.store.Estimates(ctx, t, before)
	if err != nil {
		return whatif.Margin{}, err
	}
	estimates, took := make([]float64, len(list)), make([]float64, len(list))
	for i, e := range list {
		estimates[i], took[i] = e.Estimate, e.Took.Seconds()
	}
	return whatif.MarginOf(estimates, took), nil
}

// Comparison says how long a run took beside the last one of its kind; "" where there is
// nothing to say.
func (a *App) Comparison(ctx context.Context, st *stack.Stack, r *run.Record) (string, error) {
	if r.State != run.StatusDone {
		return "", nil
	}
	whole, err := a.store.Run(ctx, r.ID)
	if err != nil {
		return "", err
	}
	f, err := a.former(ctx, st, whole)
	if err != nil || f.Run == 0 {
		return "", err
	}
	events, err := a.store.Events(ctx, r.ID, 0)
	return f.Compared(whole, events), err
}
