package run

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"brickrow/internal/stack"
)

// Progress is how far a run is: a fold of its events over its plan. It knows no
// clock; who asks for something that depends on the time says what time it is.
type Progress struct {
	Began    time.Time // of the run
	Failures []Event

	parts   map[string]*Part
	longest int      // of the names, in bytes
	toUndo  int      // how many steps are to be taken back, as the run said
	limit   int      // how many steps may be under way at once, as the run said
	last    string   // what the run said last about itself
	counts  *Counts  // nil is not known
	order   []string // by when they began; nil is not known
	way     *forecast
}

// Part is how far a resource is in a run.
type Part struct {
	State        State
	Step, Reason string
	Type         string
	Began, Ended time.Time
	Seconds      float64   // likely, of its step
	Planned      bool      // the plan has a step for it
	Failed       bool      // at some point of the run
	Past         []Segment // what was done to it before
	Swap         bool      // a new one is built, and the old one goes
	Old          Segment   // the removal of the old one
	OldSeconds   float64   // likely, of that; 0 is that nothing is removed
	sweep        bool      // its step waits for all that is built
}

// Segment is a stretch of time in which one thing was done to a resource.
type Segment struct {
	State        State
	Began, Ended time.Time
}

// Counts are how many steps there are, are over, and are taken back.
type Counts struct{ All, Over, Undone, ToUndo int }

// NewProgress is a run at its beginning.
func NewProgress(p Plan, began time.Time) *Progress {
	out := &Progress{Began: began, parts: make(map[string]*Part, len(p.Steps)),
		limit: cmp.Or(p.AtOnce, DefaultLimit)}
	for _, s := range p.Steps {
		if part := out.parts[s.Resource]; part != nil && s.Phase == PhaseSweep && !part.sweep {
			part.OldSeconds += s.Seconds // the old part of a swap
			continue
		}
		part := &Part{State: Waiting, Type: s.Type, Seconds: s.Seconds, Planned: true,
			Swap: s.Swap && s.Phase == PhaseBuild, sweep: s.Phase == PhaseSweep}
		if before := out.parts[s.Resource]; before != nil { // such as a draining
			part.Seconds += before.Seconds
		}
		out.parts[s.Resource] = part
		out.longest = max(out.longest, len(s.Resource))
	}
	return out
}

// Part is how far a resource is; nil where the run has nothing to do with it.
func (p *Progress) Part(name string) *Part { return p.parts[name] }

// Longest is how long the longest name of a resource of the run is, in bytes.
func (p *Progress) Longest() int { return p.longest }

// Last is what the run said last about itself.
func (p *Progress) Last() string { return p.last }

// Apply follows one event.
func (p *Progress) Apply(e Event) {
	p.counts, p.order, p.way = nil, nil, nil
	if e.Resource == "" {
		if e.Type != Aside {
			p.last = e.Step
		}
		n := 0
		if _, err := fmt.Sscanf(e.Step, undoStart+"%d to", &n); err == nil {
			p.toUndo = n
		}
		if _, err := fmt.Sscanf(e.Step, limitWords, &n); err == nil {
			p.limit = n
		}
		return
	}
	part := p.parts[e.Resource]
	if part == nil {
		part = &Part{}
		p.parts[e.Resource] = part
		p.longest = max(p.longest, len(e.Resource))
	}
	if e.State == HasFailed {
		p.Failures = append(p.Failures, e)
		part.Failed = true
	}
	part.apply(e)
}

// undoStart begins what a run says of how much there is to undo.
const undoStart = "undo: "

// UndoWords are how a run says that n steps are to be taken back.
func UndoWords(n int) string { return fmt.Sprintf(undoStart+"%d to go", n) }

func (p *Part) apply(e Event) {
	if p.Swap && (e.State == Removing || e.State == Removed || e.State == Kept ||
		e.State == HasFailed && !p.Old.Began.IsZero()) {
		p.applyOld(e)
		return
	}
	again := (p.State == Waiting || p.State == Skipped) && e.State != Skipped
	turned := e.State == Undoing && p.State != Undoing || e.State == Removing && p.State == IsReady ||
		e.State == Working && p.State == Removed
	if (p.Began.IsZero() || again || turned) && e.State != Skipped {
		if !p.Began.IsZero() {
			p.Past = append(p.Past, Segment{p.State, p.Began, p.Ended})
		}
		p.Began, p.Ended = e.Time.Add(-e.Elapsed), time.Time{}
	}
	p.State, p.Step, p.Reason, p.Type = e.State, e.Step, e.Reason, e.Type
	if e.State.Over() {
		p.Ended = e.Time
	}
}

// applyOld follows the removal of the old part of a swap; the new part stays
// what it is.
func (p *Part) applyOld(e Event) {
	if p.Old.Began.IsZero() {
		p.Old.Began = e.Time.Add(-e.Elapsed)
	}
	p.Old.State = e.State
	p.Step = map[State]string{Removing: "the old one goes", Kept: "the old one stays",
		HasFailed: "the old one is stuck"}[e.State]
	if e.State != Removing {
		p.Old.Ended = e.Time
	}
}

// Over reports whether a resource in this state is done with, for better or worse.
func (s State) Over() bool {
	switch s {
	case IsReady, HasFailed, IsUndone, Removed, Kept:
		return true
	}
	return false
}

// Active reports whether something is being done to a resource in this state.
func (s State) Active() bool {
	return s == Working || s == Settling || s == Undoing || s == Removing
}

// First is when the first thing was done to the resource; zero where nothing was.
func (p *Part) First() time.Time {
	if len(p.Past) > 0 {
		return p.Past[0].Began
	}
	return p.Began
}

// Segments are all stretches of time in which something was done to the resource,
// the one under way too, which has no end.
func (p *Part) Segments() []Segment {
	if p.Began.IsZero() {
		return nil
	}
	out := append(slices.Clone(p.Past), Segment{p.State, p.Began, p.Ended})
	if !p.Old.Began.IsZero() {
		out = append(out, p.Old)
	}
	return out
}

// Remaining is how many seconds the resource still takes on the way forward.
func (p *Part) Remaining(now time.Time) float64 {
	switch p.State {
	case Waiting:
		return p.Seconds
	case Working, Settling, Removing:
		return max(0.2, p.Seconds-now.Sub(p.First()).Seconds())
	}
	return 0
}

// oldRemaining is how many seconds the removal of the old part of a swap still takes.
func (p *Part) oldRemaining(now time.Time) float64 {
	switch {
	case p.OldSeconds == 0 || !p.Old.Ended.IsZero() || p.State == HasFailed || p.State == Undoing || p.State == IsUndone:
		return 0
	case p.Old.Began.IsZero():
		return p.OldSeconds
	}
	return max(0.2, p.OldSeconds-now.Sub(p.Old.Began).Seconds())
}

// Counts are how many steps there are and how many are over.
func (p *Progress) Counts() Counts {
	if p.counts != nil {
		return *p.counts
	}
	c := Counts{ToUndo: p.toUndo}
	for _, part := range p.parts {
		if !part.Planned {
			continue
		}
		c.All++
		if part.OldSeconds > 0 {
			c.All++
			if !part.Old.Ended.IsZero() && part.Old.State != HasFailed {
				c.Over++
			}
		}
		switch part.State {
		case IsReady, Removed, Kept:
			c.Over++
		case IsUndone:
			c.Undone++
		}
	}
	p.counts = &c
	return c
}

// Order lists the planned resources by when they began; those that have not come
// last, by name.
func (p *Progress) Order() []string {
	if p.order != nil {
		return p.order
	}
	names := make([]string, 0, len(p.parts))
	for name, part := range p.parts {
		if part.Planned {
			names = append(names, name)
		}
	}
	slices.SortFunc(names, func(a, b string) int {
		x, y := p.parts[a].First(), p.parts[b].First()
		switch {
		case x.IsZero() != y.IsZero():
			return map[bool]int{true: 1, false: -1}[x.IsZero()]
		case !x.Equal(y):
			return x.Compare(y)
		}
		return strings.Compare(a, b)
	})
	p.order = names
	return names
}

// forecast is what is still to come, as it looked at some time.
type forecast struct {
	graph   stack.Graph
	at      time.Time
	path    []string
	seconds float64
	begins  map[string]float64
	on      map[string]bool // the path
	crowded bool
}

// forecast works out what is still to come; again only after new events.
func (p *Progress) forecast(g stack.Graph, now time.Time) *forecast {
	if p.way != nil && len(p.way.graph) == len(g) {
		return p.way
	}
	building := func(name string) float64 {
		if part := p.parts[name]; part != nil && !part.sweep {
			return part.Remaining(now)
		}
		return 0
	}
	sweeping := func(name string) float64 {
		part := p.parts[name]
		switch {
		case part == nil:
			return 0
		case part.sweep:
			return part.Remaining(now)
		}
		return part.oldRemaining(now)
	}
	remaining := func(name string) float64 { return building(name) + sweeping(name) }
	f := &forecast{graph: g, at: now, begins: make(map[string]float64, len(g)), on: map[string]bool{}}
	built := -1.0
	for _, phase := range []func(string) float64{building, sweeping} { // one after the other
		path, seconds := g.CriticalPath(phase)
		sum := 0.0
		for name := range p.parts {
			sum += phase(name)
		}
		if f.seconds == 0 {
			f.path = path
		}
		if f.seconds += max(seconds, sum/float64(p.limit)); built < 0 {
			built = f.seconds
		}
	}
	f.crowded = p.crowded(g)
	order, _ := g.Order()
	for _, name := range order {
		for _, n := range g[name] {
			f.begins[name] = max(f.begins[name], f.begins[n]+remaining(n))
		}
		if part := p.parts[name]; part != nil && part.sweep {
			f.begins[name] = max(f.begins[name], built)
		}
	}
	for _, name := range f.path {
		f.on[name] = true
	}
	p.way = f
	return f
}

// Left is how many seconds the run still takes: the longest chain of what is not
// over, or all of it divided by how much is under way at once.
func (p *Progress) Left(g stack.Graph, now time.Time) float64 {
	f := p.forecast(g, now)
	return max(0, f.seconds-now.Sub(f.at).Seconds())
}

// Begins is in how many seconds a resource that waits is thought to begin.
func (p *Progress) Begins(g stack.Graph, name string, now time.Time) float64 {
	f := p.forecast(g, now)
	return max(0, f.begins[name]-now.Sub(f.at).Seconds())
}

// OnPath reports whether a resource is on the longest chain of what is not over.
func (p *Progress) OnPath(g stack.Graph, name string, now time.Time) bool {
	return p.forecast(g, now).on[name]
}

// Limit is how many steps may be under way at once.
func (p *Progress) Limit() int { return p.limit }

// Crowded reports whether the limit holds the run up: something could begin, and as much
// as may be is under way.
func (p *Progress) Crowded(g stack.Graph, now time.Time) bool { return p.forecast(g, now).crowded }

func (p *Progress) crowded(g stack.Graph) bool {
	active, could := 0, false
	for name, part := range p.parts {
		switch {
		case part.State.Active():
			active++
		case part.State == Waiting && part.Planned && !could:
			could = !slices.ContainsFunc(g[name], func(n string) bool {
				need := p.parts[n]
				return need != nil && need.Planned && !need.State.Over()
			})
		}
	}
	return could && active >= p.limit
}

// HeldUp is the resource under way at the beginning of the longest chain; "" is
// none.
func (p *Progress) HeldUp(g stack.Graph, now time.Time) string {
	for _, name := range p.forecast(g, now).path {
		if part := p.parts[name]; part != nil && part.State.Active() && part.State != Undoing {
			return name
		}
	}
	return ""
}
