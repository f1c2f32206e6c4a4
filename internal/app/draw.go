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
	graph := stack.Graph{} // of steps
	names := map[string]string{}
	took := map[string]float64{}
	for _, s := range r.Plan.Steps {
		graph[s.ID], names[s.ID] = s.Needs, s.Resource
	}
	for _, e := range events {
		switch e.State {
		case run.IsReady, run.HasFailed, run.IsUndone, run.Removed, run.Kept:
		default:
			continue
		}
		if e.Resource == "" || e.Elapsed == 0 && e.State != run.HasFailed {
			continue
		}
		to := e.Time.Sub(r.Started)
		p.Bars = append(p.Bars, draw.Bar{Name: e.Resource, Type: e.Type, State: string(e.State),
			From: max(0, to-e.Elapsed), To: to, Bad: e.State == run.HasFailed})
		if e.State == run.IsReady {
			took[e.Resource] = max(took[e.Resource], e.Elapsed.Seconds())
		}
	}
	path, _ := graph.CriticalPath(func(id string) float64 { return took[names[id]] })
	for i := range p.Bars {
		p.Bars[i].Critical = slices.ContainsFunc(path, func(id string) bool { return names[id] == p.Bars[i].Name }) &&
			p.Bars[i].State == string(run.IsReady)
	}
	slices.SortStableFunc(p.Bars, func(a, b draw.Bar) int { return cmp.Compare(a.From, b.From) })
	return p, nil
}
