package run

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Journal is where the driver writes what it is about to do and what came of
// it. Each call is kept as a whole or not at all.
type Journal interface {
	Note(ctx context.Context, e *Entry, ev *Event, changes []Change) error
	// Wishes are what somebody wants of the run while it goes on.
	Wishes(ctx context.Context) (Wishes, error)
}

// Wishes are what somebody wants of a run while it goes on.
type Wishes struct {
	Cancel bool // that it stops; it is decided then whether it is undone
	Pause  bool // that nothing more begins; it may be taken back
}

// DefaultLimit is how many steps are under way at once where nobody knows how many the
// target takes.
const DefaultLimit = whatif.Limit

// Driver carries out the steps of one run.
type Driver struct {
	RunID   string
	Stack   string
	Store   string // the id of the store, which resources are tagged with; "" tags none
	Target  stack.Target
	Cloud   cloud.Cloud
	Journal Journal
	Wanted  *stack.Wanted // nil for a deletion
	Base    *stack.Wanted // of the revision before, which an undoing goes back to; nil is none
	Library *tosca.Library
	Limit   *Limit // of the target; nil is one of its own
	Asker   Asker  // of probes
	// Secrets are those of the run and of the record; Begin fills them in. What
	// the cloud says is searched for them before it is written.
	Secrets *tosca.Secrets

	mu       sync.Mutex
	recorded map[string]*stack.Recorded // as it is now
	kept     map[string]*stack.Recorded // by cloud id
	old      map[string]*stack.Recorded // old parts, by cloud id
	entries  map[string]*Entry          // the journal
	freed    chan struct{}              // tells that an operation of the cloud has ended
	stopped  chan struct{}              // is closed when somebody wants the run to stop; nil is that it cannot be
}

// Outcome is how a run ended.
type Outcome struct {
	Complete  bool
	Cancelled bool
	Paused    bool // nothing was under way any more, and more is to do
	Failed    []Entry
	// CannotReturn says that undoing cannot bring everything back.
	CannotReturn bool
	Entries      []Entry
}

// Begin sets what is recorded, which old parts are still to be removed, what is
// kept in the cloud outside the stack, and what the journal says already.
func (d *Driver) Begin(recorded, old, kept []*stack.Recorded, journal []Entry) {
	d.recorded, d.kept, d.old = map[string]*stack.Recorded{}, map[string]*stack.Recorded{}, map[string]*stack.Recorded{}
	d.entries = map[string]*Entry{}
	for _, r := range old {
		d.old[r.ID] = r
	}
	d.Secrets = &tosca.Secrets{}
	if d.Wanted != nil {
		d.Secrets = d.Wanted.Secrets().Clone()
	}
	for _, r := range kept {
		d.kept[r.ID] = r
		d.Secrets.Add(tosca.Map(r.Properties), tosca.Map(r.Attributes))
	}
	for _, r := range recorded {
		d.recorded[r.Name] = r
		d.Secrets.Add(tosca.Map(r.Properties), tosca.Map(r.Attributes))
	}
	for _, e := range journal {
		d.entries[e.Step.ID] = &e
		if e.Before != nil {
			d.Secrets.Add(tosca.Map(e.Before.Properties), tosca.Map(e.Before.Tags))
		}
		if e.Record != nil {
			d.Secrets.Add(tosca.Map(e.Record.Properties), tosca.Map(e.Record.Attributes))
		}
	}
}

// note writes to the journal, without the secrets that the cloud may have
// repeated.
func (d *Driver) note(ctx context.Context, e *Entry, ev *Event, changes []Change) error {
	if e != nil {
		e.Reason = d.Secrets.Hide(e.Reason)
		if b := e.Before; b != nil { // somebody may have written a secret where none belongs
			for _, m := range []map[string]tosca.Value{b.Properties, b.Tags} {
				for name, v := range m {
					m[name] = d.Secrets.Mark(v)
				}
			}
		}
	}
	if ev != nil {
		ev.Step, ev.Reason = d.Secrets.Hide(ev.Step), d.Secrets.Hide(ev.Reason)
		ev.Problem, ev.Fix = d.Secrets.Hide(ev.Problem), d.Secrets.Hide(ev.Fix)
	}
	return d.Journal.Note(ctx, e, ev, changes)
}

// sweeping reports whether a removal was begun, also by an earlier process: what it was sent for may be gone by now.
func (d *Driver) sweeping(steps []Step) bool {
	return slices.ContainsFunc(steps, func(s Step) bool {
		e := d.entries[s.ID]
		return e != nil && s.Final() && s.Phase == PhaseSweep && e.State != Unchanged
	})
}

// Run carries out steps until all are done, one fails, or the run is
// cancelled. Steps that the journal says are done are left out; those it says
// were started are sent again under the same key. The error is one of this
// program; what the cloud refuses is in the outcome.
func (d *Driver) Run(ctx context.Context, steps []Step) (Outcome, error) {
	if d.Limit == nil {
		d.Limit = NewLimit(0, 0)
	}
	sched, err := NewSchedule(steps, d.Limit.Now())
	if err != nil {
		return Outcome{}, err
	}
	for _, s := range steps {
		e := d.entries[s.ID]
		switch {
		case e == nil:
		case e.State.Good():
			sched.End(s.ID, e.State)
		case e.State == Failed: // and nobody has asked to try it again
			sched.End(s.ID, Failed)
		}
	}
	type ended struct {
		id    string
		state EntryState
		err   error
	}
	var out Outcome
	d.freed = make(chan struct{}, 1)
	d.stopped = make(chan struct{})
	results := make(chan ended)
	watch := time.NewTicker(300 * time.Millisecond)
	defer watch.Stop()
	var broken error
	if err := d.lookForWishes(ctx, sched, steps, &out); err != nil {
		return out, err
	}
	for {
		if broken == nil {
			sched.Allow(max(1, sched.Running()+d.Limit.free()))
			ready := sched.Ready()
			d.Limit.begin(len(ready))
			for _, s := range ready {
				go func() {
					t := d.begin(ctx, s)
					t.took = true
					state, err := t.carryOut(ctx)
					t.free(ctx)
					results <- ended{s.ID, state, err}
				}()
			}
		}
		if sched.Quiet() && (broken != nil || sched.Idle()) {
			break
		}
		select {
		case r := <-results:
			if r.err != nil {
				broken = errors.Join(broken, fmt.Errorf("%s: %w", r.id, r.err))
				sched.Abandon(r.id)
				continue
			}
			sched.End(r.id, r.state)
			_ = d.lookForWishes(ctx, sched, steps, &out) // likewise
		case <-d.freed: // something more may begin
		case <-watch.C:
			_ = d.lookForWishes(ctx, sched, steps, &out) // it is asked again in a moment
		}
	}
	if broken != nil {
		return out, broken
	}
	out.Complete, out.CannotReturn = sched.Complete(), sched.CannotReturn() || d.sweeping(steps)
	out.Paused = sched.Paused() && !out.Complete && !out.Cancelled
	for _, e := range d.entries {
		out.Entries = append(out.Entries, *e)
		if _, mine := sched.steps[e.Step.ID]; mine && e.State == Failed {
			out.Failed = append(out.Failed, *e)
		}
	}
	for _, s := range sched.Unfinished() {
		if !out.Paused && s.Phase != PhaseSweep {
			d.tell(ctx, Event{Resource: s.Resource, Type: s.Type, State: Skipped})
		}
	}
	return out, nil
}

// lookForWishes lets nothing more begin where somebody has asked the run to stop, or to
// pause. An undoing is not stopped.
func (d *Driver) lookForWishes(ctx context.Context, sched *Schedule, steps []Step, out *Outcome) error {
	if out.Cancelled || len(steps) == 0 {
		return nil
	}
	wish, err := d.Journal.Wishes(ctx)
	if err != nil {
		return err
	}
	if wish.Pause != sched.Paused() {
		words := "going on: it is paused no more"
		if wish.Pause {
			words = "pause was asked for; what is under way comes to its end, and nothing more begins"
		}
		sched.Pause(wish.Pause)
		d.tell(ctx, Event{State: Waiting, Step: words})
	}
	if wish.Cancel && steps[0].Phase != PhaseUndo {
		out.Cancelled = true
		sched.Stop()
		close(d.stopped)
		d.tell(ctx, Event{State: Working, Step: "cancel was asked for; what is under way comes to its end"})
	}
	return nil
}

// Finish brings steps to their end that were under way when a process ended, so
// that it is known what they made. Nobody can cancel it, and none waits for
// another: they were all begun.
func (d *Driver) Finish(ctx context.Context, steps []Step) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(DefaultLimit)
	for _, s := range steps {
		g.Go(func() error {
			if _, err := d.begin(ctx, s).carryOut(ctx); err != nil {
				return fmt.Errorf("%s: %w", s.ID, err)
			}
			return nil
		})
	}
	return g.Wait()
}

// Entry is the journal's entry of a step; nil where it was not begun.
func (d *Driver) Entry(id string) *Entry {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.entries[id]
}

// Asked is what is known of a resource that was removed, beside that its removal was answered: see Entry.
func (d *Driver) Asked(id string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range d.entries {
		if e.Step.Action == Delete && e.CloudID == id && e.Asked != "" {
			return e.Asked
		}
	}
	return ""
}

// Removed is what was recorded of a resource that was removed; nil is not known.
func (d *Driver) Removed(id string) *stack.Recorded {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range d.entries {
		if e.Step.Action == Delete && e.Record != nil && e.Record.ID == id {
			return e.Record
		}
	}
	return nil
}

// tell writes an event that belongs to no step. An event that cannot be
// written is not worth failing for: the next entry will say so.
func (d *Driver) tell(ctx context.Context, ev Event) {
	_ = d.note(ctx, nil, &ev, nil)
}

// attribute answers expressions with what is recorded now.
func (d *Driver) attribute(resource, name string) (tosca.Value, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := d.recorded[resource]
	if r == nil {
		return nil, false
	}
	v, ok := r.Attributes[name]
	if t := d.Library.Nodes[r.Type]; ok && t != nil {
		if a := t.Attribute(name); a != nil && a.Type != nil {
			v = a.Type.Read(v)
		}
	}
	return v, ok
}

func (d *Driver) id(resource string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if r := d.recorded[resource]; r != nil {
		return r.ID
	}
	if d.Wanted != nil {
		if f := d.Wanted.Existing(resource); f != nil {
			return f.ID
		}
	}
	return ""
}

// maxTries is how often a call is made before a passing error counts as a
// failure.
const maxTries = 8

// patience is how long a call is made again while the target has too much to do.
const patience = 15 * time.Minute

// limitWords is how a run says how many steps may be under way at once.
const limitWords = "at most %d at once"

// LimitWords are how a run says that so many steps may be under way at once.
func LimitWords(n int) string { return fmt.Sprintf(limitWords, n) }

// call makes one call of the cloud, again with growing pauses while the cloud
// says that the error will pass. The same key makes that safe.
func (t *task) call(ctx context.Context, f func() (cloud.Operation, error)) (cloud.Operation, error) {
	pause := backoff.NewExponentialBackOff()
	pause.InitialInterval, pause.MaxInterval = 200*time.Millisecond, 10*time.Second
	tries := 0
	for began := time.Now(); ; {
		op, err := f()
		t.heard = time.Now()
		var p *cloud.Problem
		if err == nil || ctx.Err() != nil || !errors.As(err, &p) || !p.Passing {
			return op, err
		}
		crowded := p.Status == http.StatusTooManyRequests
		if crowded && t.Limit.shrink(time.Now()) {
			t.tell(ctx, Event{State: Working, Step: LimitWords(t.Limit.Now()) + " now", Reason: err.Error()})
		}
		took := time.Since(began)
		switch tries++; {
		case crowded && took < patience: // its turn comes
			tries = 0
		case crowded:
			return op, fmt.Errorf("%w; it had no room for %s", err, took.Round(time.Second))
		case tries == maxTries:
			return op, fmt.Errorf("%w; tried %d times in %s", err, maxTries, time.Since(t.began).Round(time.Second))
		}
		wait := max(pause.NextBackOff(), p.RetryAfter())
		if p.RetryAfterMS > 0 {
			wait = min(p.RetryAfter(), longestWait)
		}
		ev := t.event(Working, fmt.Sprintf("trying again in %s", wait.Round(10*time.Millisecond)), err.Error())
		ev.about(err)
		t.tell(ctx, *ev)
		select {
		case <-t.stopping(): // who wants it to stop does not wait for what has not begun
			if t.asking {
				return op, fmt.Errorf("%w; it was called off while it waited", err)
			}
			wait = min(wait, time.Second)
		default:
		}
		if err := t.rest(ctx, wait); err != nil {
			return op, err
		}
	}
}

// longestWait is how long a cloud can ask to wait before the same is asked again.
const longestWait = time.Minute

// stopping is closed when somebody wants the run to stop. Undoing is not stopped, nor is what cannot be taken back.
func (t *task) stopping() <-chan struct{} {
	if t.step.Phase == PhaseUndo || t.step.Final() {
		return nil
	}
	return t.stopped
}

// rest sleeps, but no longer than until somebody wants the run to stop.
func (t *task) rest(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	stop := t.stopping()
	select { // where it is wanted already it is no news
	case <-stop:
		stop = nil
	default:
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-stop:
	case <-timer.C:
	}
	return nil
}
