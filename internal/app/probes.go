package app

import (
	"context"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/probe"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// asker asks probes: the cloud where it answers for the address, and all others from here.
type asker struct {
	*App
	target stack.Target
}

func (a asker) Ask(ctx context.Context, q stack.Question) (string, error) {
	via, _ := a.Cloud.(cloud.Asking)
	return probe.Ask(ctx, via, a.target, q)
}

// probesOf are the probes of the revision that a run leads to, as far as the run asks
// them.
func (a *App) probesOf(ctx context.Context, st *stack.Stack, r *run.Record) map[string]*stack.Probe {
	asked := func(name string) bool {
		return slices.ContainsFunc(r.Plan.Steps, func(s run.Step) bool { return s.Resource == run.ProbeName(name) })
	}
	out := map[string]*stack.Probe{}
	if r.Revision == 0 || !slices.ContainsFunc(r.Plan.Steps, func(s run.Step) bool { return s.Phase == run.PhaseProbe }) {
		return out
	}
	w, err := a.RevisionWanted(ctx, st.ID, r.Revision)
	if err != nil {
		return out
	}
	for _, p := range w.Probes {
		if asked(p.Name) {
			out[p.Name] = p
		}
	}
	return out
}

// Probed is what a probe of a stack says now.
type Probed struct {
	Name string
	stack.Question
	Pos  tosca.Pos
	Well bool
	Said string // what was heard
	Took time.Duration
}

// Probes asks the probes of a stack, as it is deployed, once each.
func (a *App) Probes(ctx context.Context, st *stack.Stack) ([]Probed, error) {
	if st.Revision == 0 || st.State == stack.Removed {
		return nil, nil
	}
	w, err := a.RevisionWanted(ctx, st.ID, st.Revision)
	if err != nil {
		return nil, err
	}
	current, _, err := a.store.Recorded(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	secrets := w.Secrets().Clone()
	attributes := func(resource, name string) (tosca.Value, bool) {
		for _, r := range current {
			if r.Name == resource {
				v, ok := r.Attributes[name]
				return v, ok
			}
		}
		return nil, false
	}
	out := make([]Probed, len(w.Probes))
	var g errgroup.Group
	g.SetLimit(8)
	for i, p := range w.Probes {
		q, _ := w.Ask(p, attributes)
		secrets.Add(q.URL)
		out[i] = Probed{Name: p.Name, Question: q, Pos: p.Pos}
		g.Go(func() error {
			began := time.Now()
			said, err := asker{a, st.Target}.Ask(ctx, q)
			if out[i].Well, out[i].Took = err == nil, time.Since(began); err != nil {
				said = err.Error()
			}
			out[i].Said = said
			return nil
		})
	}
	err = g.Wait()
	for i := range out {
		out[i].Said = secrets.Hide(out[i].Said)
	}
	return out, err
}
