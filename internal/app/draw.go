package app

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"brickrow/internal/draw"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// DrawStack is the picture of a stack as it is recorded.
func (a *App) DrawStack(ctx context.Context, st *stack.Stack) (draw.Picture, error) {
	recorded, _, err := a.store.Recorded(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	p := draw.Stack{Name: st.Name, Target: st.Target, Careful: st.Careful,
		About: fmt.Sprintf("revision %d, %s", st.Revision, st.State), Purpose: st.Description, Made: time.Now()}
	for _, r := range recorded {
		p.Resources = append(p.Resources,
			draw.Resource{Name: r.Name, Type: r.Type, Needs: r.Needs, Place: r.Pos.Short()})
	}
	return p, nil
}

// DrawDraft is the picture of a stack as a template and a stack file want it.
func (a *App) DrawDraft(d *Draft) (draw.Picture, error) {
	if d.Findings.HasErrors() {
		return nil, &Refusal{Findings: d.Findings}
	}
	p := draw.Stack{Name: d.Path, About: "as the template has it", Made: time.Now()}
	if d.Stack != nil {
		p.Name, p.Target, p.Careful = d.Stack.Stack, d.Stack.Target, d.Stack.Careful
	}
	if d.File.Service != nil {
		p.Purpose = d.File.Service.Description
	}
	for _, r := range d.Wanted.Resources {
		p.Resources = append(p.Resources,
			draw.Resource{Name: r.Name, Type: r.Type.Name, Needs: r.Needs, Place: r.Pos.Short()})
	}
	return p, nil
}

// DrawChanges is the picture of a what-if.
func (a *App) DrawChanges(p *Preview) (draw.Picture, error) {
	if p.Findings.HasErrors() && len(p.Changes) == 0 {
		return nil, &Refusal{Findings: p.Findings}
	}
	return draw.Changes{ChangeSet: p.ChangeSet, Careful: p.Careful(), Kind: string(p.Kind), Made: time.Now()}, nil
}

// DrawRun is the picture of how long a run of a stack took; 0 is the last one.
func (a *App) DrawRun(ctx context.Context, st *stack.Stack, number int) (draw.Picture, error) {
	r, err := a.store.RunNumber(ctx, st.ID, number)
	if err != nil {
		return nil, refusal("%s has no such run: %v", st.Name, err)
	}
	events, err := a.store.Events(ctx, r.ID, 0)
	if err != nil {
		return nil, err
	}
	end := r.Ended
	if !r.State.Ended() {
		end = time.Now()
	}
	p := draw.Times{Stack: st.Name, Target: st.Target, Careful: st.Careful,
		About: fmt.Sprintf("%s, run %d: %s", r.Kind, r.Number, r.State), Length: end.Sub(r.Started), Made: time.Now()}
	former, err := a.former(ctx, st, r)
	if err != nil {
		return nil, err
	}
	if p.Before = former.Run; former.Run > 0 {
		p.Compared = former.Compared(r, events)
	}
	spans := run.Spans(r.Plan, events)
	ended := map[string]time.Time{} // by the step
	for _, s := range spans {
		ended[s.Step.ID] = s.Ended
	}
	critical := map[*run.Span]bool{}
	for _, s := range run.Chain(spans) {
		critical[s] = true
	}
	for _, s := range spans {
		to := s.Ended
		if to.IsZero() {
			to = end
		}
		bar := draw.Bar{Name: s.Step.Resource, Type: s.Events[0].Type, State: string(s.State), From: max(0, s.Began.Sub(r.Started)),
			To: to.Sub(r.Started), Bad: s.State == run.HasFailed, Critical: critical[s], Took: former.Of[s.Step.ID]}
		could := r.Started // when all that it needed was there
		for _, need := range s.Step.Needs {
			if at := ended[need]; at.After(could) {
				could = at
			}
		}
		if wait := s.Began.Sub(could); s.Step.Phase == run.PhaseBuild && wait > 0 {
			bar.Waited = min(wait, bar.From)
		}
		p.Bars = append(p.Bars, bar)
	}
	slices.SortStableFunc(p.Bars, func(a, b draw.Bar) int { return cmp.Compare(a.From, b.From) })
	return p, nil
}
