package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// What views and commands show of stacks and their runs. Each question is answered
// in one place: who asks works nothing out himself.

// Overview is a stack, and how its last run stands.
type Overview struct {
	Stack  *stack.Stack
	Run    *run.Record // the last one, without its plan; nil where there was none
	Holder string      // who carries it out; "" is nobody
	Broken int         // how often a rule is not kept by what runs, as far as somebody has looked
	Uses   []int64     // the stacks whose results it uses, by id
}

// Waits reports whether the last run waits for somebody to decide how it goes on:
// it was held, got stuck, or lost the process that carried it out.
func (o Overview) Waits() bool { return o.Run != nil && waits(o.Run.State, o.Holder) }

func waits(s run.Status, holder string) bool {
	return s.Open() && s != run.StatusQueued && (s.Ended() || holder == "")
}

// Stacks lists all stacks, removed ones too, by name.
func (a *App) Stacks(ctx context.Context) ([]Overview, error) {
	list, err := a.store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	runs, err := a.store.LastRuns(ctx)
	if err != nil {
		return nil, err
	}
	holders, err := a.store.Locks(ctx)
	if err != nil {
		return nil, err
	}
	broken, err := a.store.NotKept(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := a.usesAmong(ctx, list)
	if err != nil {
		return nil, err
	}
	by := map[int64][]int64{}
	for _, u := range uses {
		for _, of := range u.means {
			if of.ID != u.Stack.ID && !slices.Contains(by[u.Stack.ID], of.ID) {
				by[u.Stack.ID] = append(by[u.Stack.ID], of.ID)
			}
		}
	}
	out := make([]Overview, len(list))
	for i, st := range list {
		out[i] = Overview{Stack: st, Run: runs[st.ID], Holder: holders[st.ID].Holder, Broken: broken[st.Name+"@"+st.Target.String()],
			Uses: by[st.ID]}
	}
	return out, nil
}

// StackNames are the names of the stacks that are not removed; where two have the same, with their targets.
func (a *App) StackNames(ctx context.Context) ([]string, error) {
	list, err := a.store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	times := map[string]int{}
	for _, st := range list {
		times[st.Name]++
	}
	var out []string
	for _, st := range list {
		switch {
		case st.State == stack.Removed:
		case times[st.Name] > 1:
			out = append(out, st.Name+"@"+st.Target.String())
		default:
			out = append(out, st.Name)
		}
	}
	return out, nil
}

// Find finds a stack by name, or by name@account/region.
func (a *App) Find(ctx context.Context, name string) (*stack.Stack, error) {
	return a.store.Find(ctx, name)
}

// NotThere reports whether an error says that there is no stack, or no run, of a name.
func NotThere(err error) bool { return errors.Is(err, store.ErrNotFound) }

// At finds the stack of a name in a target.
func (a *App) At(ctx context.Context, name string, t stack.Target) (*stack.Stack, error) {
	return a.store.At(ctx, name, t)
}

// StackOf finds the stack of a run.
func (a *App) StackOf(ctx context.Context, r *run.Record) (*stack.Stack, error) {
	st, err := a.store.ByID(ctx, r.StackID)
	if err != nil {
		err = fmt.Errorf("the stack of the run: %w", err)
	}
	return st, err
}

// Contents is what is recorded of a stack.
type Contents struct {
	Resources []*stack.Recorded
	Old       []*stack.Recorded // parts of swaps that are still to be removed
	Results   []stack.Result
	Graph     stack.Graph       // of the resources
	Courses   [][]string        // of the graph
	Types     map[string]string // by resource
	Of        time.Time         // when the stack was changed last
	Read      time.Time         // when it was read
}

// Contents reads what is recorded of a stack.
func (a *App) Contents(ctx context.Context, st *stack.Stack) (*Contents, error) {
	c := &Contents{Of: st.Updated, Read: time.Now(), Types: map[string]string{}}
	var err error
	if c.Resources, c.Old, err = a.recorded(ctx, st); err != nil {
		return nil, err
	}
	if c.Results, err = a.Results(ctx, st); err != nil {
		return nil, err
	}
	c.Graph = stack.RecordedGraph(c.Resources)
	c.Courses = c.Graph.Courses()
	for _, r := range c.Resources {
		c.Types[r.Name] = r.Type
	}
	return c, nil
}

// Outline is how many resources each course of a stack's wall has, from the ground
// on.
func (a *App) Outline(ctx context.Context, st *stack.Stack) ([]int, error) {
	g, err := a.store.Outline(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	var out []int
	for _, course := range g.Courses() {
		out = append(out, len(course))
	}
	return out, nil
}

// RunNumber reads a run of a stack with its plan; 0 is the last one. It is nil
// where there is no such run.
func (a *App) RunNumber(ctx context.Context, st *stack.Stack, number int) (*run.Record, error) {
	r, err := a.store.RunNumber(ctx, st.ID, number)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return r, err
}

// Events reads the events of a run after a number, oldest first.
func (a *App) Events(ctx context.Context, runID string, after int64) ([]run.Event, error) {
	return a.store.Events(ctx, runID, after)
}

// News is what has happened in a run since one asked last.
type News struct {
	Overview
	Events []run.Event
	Ways   Ways // where it waits
}

// News reads what has happened in a run of a stack after the event of a number.
// With the id "" it is the last run. The run has its plan only where it is another
// one than the one known. It is nil where there was no run yet.
func (a *App) News(ctx context.Context, st *stack.Stack, id, known string, after int64) (*News, error) {
	var r *run.Record
	var err error
	if id == "" {
		r, err = a.store.LastHead(ctx, st.ID)
	} else {
		r, err = a.store.Head(ctx, id)
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err == nil && r.ID != known {
		after = 0
		r, err = a.store.Run(ctx, r.ID)
	}
	if err != nil {
		return nil, err
	}
	n := &News{Overview: Overview{Stack: st, Run: r}}
	if n.Events, err = a.store.Events(ctx, r.ID, after); err != nil {
		return nil, err
	}
	if n.Holder, err = a.store.LockHolder(ctx, st.ID); err != nil {
		return nil, err
	}
	if n.Waits() {
		n.Ways, err = a.ways(ctx, st, r)
	}
	return n, err
}

// Setting is what a run works on, and what does not change while it goes on.
type Setting struct {
	Graph   stack.Graph
	Places  map[string]tosca.Pos // of the resources, in the template
	Results []stack.Result
	Former  *Former       // how long it took before
	Margin  whatif.Margin // by how much estimates are off here
}

// Setting reads what a run works on; the run has its plan.
func (a *App) Setting(ctx context.Context, st *stack.Stack, r *run.Record) (*Setting, error) {
	s := &Setting{Graph: stack.Graph{}, Places: map[string]tosca.Pos{}}
	recorded, old, err := a.store.Recorded(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range append(old, recorded...) {
		s.Graph[r.Name], s.Places[r.Name] = r.Needs, r.Pos
	}
	if r.Revision > 0 {
		if w, err := a.RevisionWanted(ctx, st.ID, r.Revision); err == nil {
			for _, r := range w.Resources {
				s.Graph[r.Name], s.Places[r.Name] = r.Needs, r.Pos
			}
		}
	}
	for name, p := range a.probesOf(ctx, st, r) {
		s.Graph[run.ProbeName(name)], s.Places[run.ProbeName(name)] = p.Targets, p.Pos
	}
	resource := map[string]string{} // by step
	for _, step := range r.Plan.Steps {
		resource[step.ID] = step.Resource
		if _, ok := s.Graph[step.Resource]; !ok { // what is removed already
			s.Graph[step.Resource] = nil
		}
	}
	for _, step := range r.Plan.Steps {
		if step.Phase != run.PhaseSweep || r.Kind != run.KindDelete {
			continue
		}
		for _, need := range step.Needs { // each is removed after what rests on it
			if name := resource[need]; !slices.Contains(s.Graph[name], step.Resource) {
				s.Graph[name] = append(slices.Clone(s.Graph[name]), step.Resource)
			}
		}
	}
	if s.Results, err = a.Results(ctx, st); err != nil {
		return nil, err
	}
	if s.Former, err = a.former(ctx, st, r); err != nil {
		return nil, err
	}
	s.Margin, err = a.margin(ctx, st.Target, r.Started)
	return s, err
}

// Tidied is what was thinned in the store.
type Tidied = store.Tidied

// Tidy thins what is stored of runs that ended well, or were undone, longer ago than
// a time.
func (a *App) Tidy(ctx context.Context, older time.Duration) (Tidied, error) {
	return a.store.Tidy(ctx, time.Now().Add(-older))
}
