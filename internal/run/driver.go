package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
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
	Note(ctx context.Context, e *Entry, ev *Event, ch RecordChange) error
	// Cancelled reports whether somebody asked the run to stop.
	Cancelled(ctx context.Context) (bool, error)
}

// DefaultLimit is how many steps are under way at once.
const DefaultLimit = whatif.Limit

// Driver carries out the steps of one run.
type Driver struct {
	RunID   string
	Stack   string
	Target  stack.Target
	Cloud   cloud.Cloud
	Journal Journal
	Wanted  *stack.Wanted // nil for a deletion
	Library *tosca.Library
	Limit   int
	// Secrets are those of the run and of the record; Begin fills them in. What
	// the cloud says is searched for them before it is written.
	Secrets *tosca.Secrets

	mu       sync.Mutex
	recorded map[string]*stack.Recorded // as it is now
	kept     map[string]*stack.Recorded // by cloud id
	old      map[string]*stack.Recorded // old parts, by cloud id
	entries  map[string]*Entry          // the journal
}

// Outcome is how a run ended.
type Outcome struct {
	Complete  bool
	Cancelled bool
	Failed    []Entry
	// CannotReturn says that undoing cannot bring everything back.
	CannotReturn bool
	Entries      []Entry
}

// Begin sets what is recorded, which old parts are still to be removed, what is
// kept in the cloud outside the stack, and what the journal says already.
func (d *Driver) Begin(recorded, old, kept []*stack.Recorded, journal []Entry) {
	d.recorded, d.kept, d.entries, d.old = map[string]*stack.Recorded{}, map[string]*stack.Recorded{}, map[string]*Entry{}, map[string]*stack.Recorded{}
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
func (d *Driver) note(ctx context.Context, e *Entry, ev *Event, ch RecordChange) error {
	if e != nil {
		e.Reason = d.Secrets.Hide(e.Reason)
	}
	if ev != nil {
		ev.Step, ev.Reason = d.Secrets.Hide(ev.Step), d.Secrets.Hide(ev.Reason)
	}
	return d.Journal.Note(ctx, e, ev, ch)
}

// Run carries out steps until all are done, one fails, or the run is
// cancelled. Steps that the journal says are done are left out; those it says
// were started are sent again under the same key. The error is one of this
// program; what the cloud refuses is in the outcome.
func (d *Driver) Run(ctx context.Context, steps []Step) (Outcome, error) {
	limit := d.Limit
	if limit <= 0 {
		limit = DefaultLimit
	}
	sched, err := NewSchedule(steps, limit)
	if err != nil {
		return Outcome{}, err
	}
	for _, s := range steps {
		e := d.entries[s.ID]
		switch {
		case e == nil:
		case e.State == Done || e.State == Unchanged:
			sched.End(s.ID, e.State)
			if s.Swap && !e.Step.Swap {
				sched.LeavePair(s.ID)
			}
		case e.State == Failed && (s.Half == Build || s.Half == OneWay): // and the process ended before it was decided what then
			sched.End(s.ID, Failed)
		}
	}
	type ended struct {
		id    string
		state EntryState
		err   error
	}
	var out Outcome
	results := make(chan ended)
	watch := time.NewTicker(300 * time.Millisecond)
	defer watch.Stop()
	var broken error
	if err := d.lookForCancel(ctx, sched, steps, &out); err != nil {
		return out, err
	}
	for {
		if broken == nil {
			for _, s := range sched.Ready() {
				go func() {
					state, err := d.step(ctx, s)
					results <- ended{s.ID, state, err}
				}()
			}
		}
		if sched.running == 0 && (broken != nil || sched.Idle()) {
			break
		}
		select {
		case r := <-results:
			if r.err != nil {
				broken = errors.Join(broken, fmt.Errorf("%s: %w", r.id, r.err))
				sched.running--
				continue
			}
			sched.End(r.id, r.state)
			if r.state == Done && sched.steps[r.id].Swap && !d.Entry(r.id).Step.Swap {
				sched.LeavePair(r.id)
			}
		case <-watch.C:
			_ = d.lookForCancel(ctx, sched, steps, &out) // it is asked again in a moment
		}
	}
	if broken != nil {
		return out, broken
	}
	out.Complete, out.CannotReturn = sched.Complete(), sched.CannotReturn()
	for _, e := range d.entries {
		out.Entries = append(out.Entries, *e)
		if _, mine := sched.steps[e.Step.ID]; mine && e.State == Failed {
			out.Failed = append(out.Failed, *e)
		}
	}
	for _, s := range sched.Unfinished() {
		if s.Half != Sweep {
			d.tell(ctx, Event{Resource: s.Resource, Type: s.Type, State: Skipped})
		}
	}
	return out, nil
}

// lookForCancel lets nothing more begin where somebody has asked the run to
// stop. An undoing is not stopped.
func (d *Driver) lookForCancel(ctx context.Context, sched *Schedule, steps []Step, out *Outcome) error {
	if out.Cancelled || len(steps) == 0 || steps[0].Half == Undo {
		return nil
	}
	stop, err := d.Journal.Cancelled(ctx)
	if err == nil && stop {
		out.Cancelled = true
		sched.Stop()
		d.tell(ctx, Event{State: Working, Step: "cancel was asked for; what is under way comes to its end"})
	}
	return err
}

// Finish brings steps to their end that were under way when a process ended, so
// that it is known what they made. Nobody can cancel it, and none waits for
// another: they were all begun.
func (d *Driver) Finish(ctx context.Context, steps []Step) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(DefaultLimit)
	for _, s := range steps {
		g.Go(func() error {
			if _, err := d.step(ctx, s); err != nil {
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

// tell writes an event that belongs to no step. An event that cannot be
// written is not worth failing for: the next entry will say so.
func (d *Driver) tell(ctx context.Context, ev Event) {
	_ = d.note(ctx, nil, &ev, RecordChange{})
}

// task is one step being carried out.
type task struct {
	*Driver
	ctx   context.Context
	entry *Entry
	began time.Time
	// resent says that the step was under way when a process ended.
	resent bool
}

// step carries out one step. The error is one of this program; a refusal of
// the cloud is the state Failed.
func (d *Driver) step(ctx context.Context, s Step) (EntryState, error) {
	d.mu.Lock()
	e := d.entries[s.ID]
	resent := e != nil && e.State == Started
	if e == nil || e.State == Failed || e.State == Again {
		last := e
		e = &Entry{Step: s, Attempt: 1, Record: d.recorded[s.Resource]}
		if last != nil {
			e.Attempt = last.Attempt + 1
			if last.Step.Action == Create {
				e.Shell, e.Unsure = cmp.Or(last.CloudID, last.Shell), last.Unsure
			}
		}
		if s.Adopt {
			e.Record = d.kept[s.CloudID]
		}
		if s.Action != Create { // the id of a swap's step is the old one's
			e.CloudID = s.CloudID
		}
		d.entries[s.ID] = e
	}
	d.mu.Unlock()
	t := &task{Driver: d, ctx: ctx, entry: e, began: time.Now(), resent: resent}
	switch e.Step.Action {
	case Create:
		return t.create()
	case Update:
		return t.update()
	case Delete:
		return t.delete()
	case PutBack:
		return t.putBack()
	case Release:
		return t.release()
	}
	return "", fmt.Errorf("the plan has an unknown action %q", s.Action)
}

func (t *task) event(state State, step, reason string) *Event {
	return &Event{Resource: t.entry.Step.Resource, Type: t.entry.Step.Type, State: state, Step: step, Reason: reason, Elapsed: time.Since(t.began), CloudID: t.entry.CloudID}
}

// intend writes the journal before the call.
func (t *task) intend(ev *Event) error {
	t.entry.State = Started
	return t.note(t.ctx, t.entry, ev, RecordChange{})
}

// finish writes the outcome together with what it changes in the record.
func (t *task) finish(state EntryState, ev *Event, ch RecordChange) (EntryState, error) {
	e := *t.entry
	e.State = state
	if err := t.note(t.ctx, &e, ev, ch); err != nil {
		return "", err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	*t.entry = e
	switch {
	case ch.Put != nil:
		t.recorded[ch.Name] = ch.Put
	case ch.Remove:
		delete(t.recorded, ch.Name)
	}
	return state, nil
}

// fail ends the step with the cloud's words.
func (t *task) fail(step string, err error) (EntryState, error) {
	if t.ctx.Err() != nil {
		return "", t.ctx.Err()
	}
	reason := cloud.Clean(t.Secrets.Hide(err.Error()))
	var p *cloud.Problem
	if errors.As(err, &p) && p.Mend != "" {
		reason += "; " + t.Secrets.Hide(p.Mend)
	}
	t.entry.Reason = reason
	return t.finish(Failed, t.event(HasFailed, step, reason), RecordChange{})
}

// release takes a resource out of the record and leaves it in the cloud.
func (t *task) release() (EntryState, error) {
	s, rec := t.entry.Step, t.entry.Record
	if e := t.Driver.Entry(s.Pair); e != nil {
		rec = e.Record // the old part of a swap
	} else if s.Swap {
		rec = t.old[s.CloudID] // one that an earlier run has left
	}
	if rec == nil || rec.ID != s.CloudID {
		return t.fail("", fmt.Errorf("what is to be kept, %s, is not what is recorded", s.CloudID))
	}
	return t.finish(Done, t.event(Kept, "kept in the cloud", ""), RecordChange{Name: s.Resource, Remove: !s.Swap, RemoveOld: oldPart(s), Kept: rec})
}

// oldPart is the cloud id of the old part that a step of the sweep is about; ""
// where it is about what is recorded now.
func oldPart(s Step) string {
	if s.Swap {
		return s.CloudID
	}
	return ""
}

// key is the idempotency key of the step.
func (t *task) key() string {
	return fmt.Sprintf("%s/%s/%d", t.RunID, t.entry.Step.ID, t.entry.Attempt)
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

// wanted resolves the resource of the step with all it waited for.
func (t *task) wanted() (*stack.Resource, map[string]tosca.Value, error) {
	res := t.Wanted.Resource(t.entry.Step.Resource)
	if res == nil {
		return nil, nil, fmt.Errorf("%s is not in the template of this run", t.entry.Step.Resource)
	}
	props, findings := t.Wanted.Late(res, t.attribute)
	if findings.HasErrors() {
		return nil, nil, fmt.Errorf("%s (%s)", findings[0].Message, findings[0].Short())
	}
	t.Secrets.Add(tosca.Map(props))
	for name, v := range props {
		if !tosca.IsKnown(v) {
			return nil, nil, fmt.Errorf("the property %s waits for something that the cloud did not set", name)
		}
	}
	return res, props, nil
}

func (t *task) create() (EntryState, error) {
	res, props, err := t.wanted()
	if err != nil {
		return t.fail("resolving", err)
	}
	if t.entry.Step.Swap && t.entry.State == "" && t.entry.Record != nil && t.entry.Record.Type == res.Type.Name {
		live, err := t.read(t.entry.Record.ID)
		if err == nil && !needsSwap(stack.Diff(res, props, t.entry.Record, live, t.id)) {
			t.entry.Step.Action, t.entry.Step.Swap = Update, false // what was unknown turned out the same
			return t.update()
		}
	}
	req := cloud.Request{Type: res.Type.Name, Properties: map[string]any{}, Links: map[string][]string{}}
	t.tags(&req, props)
	for name, v := range props {
		if name != "tags" && !tosca.Equal(v, tosca.Null{}) {
			req.SetProperty(name, v)
		}
	}
	for _, l := range res.Links {
		for _, n := range l.Targets {
			req.Links[l.Requirement] = append(req.Links[l.Requirement], t.id(n))
		}
	}
	if state, err := t.clearShell(); state == Failed || err != nil {
		return state, err
	}
	if err := t.intend(t.event(Working, "asking the cloud for it", "")); err != nil {
		return "", err
	}
	op, err := t.call(func() (cloud.Operation, error) { return t.Cloud.Create(t.ctx, t.Target, t.key(), req) })
	if err != nil {
		t.entry.Unsure = t.entry.CloudID == "" && (t.resent || !cloud.Refused(err))
		return t.fail("", err)
	}
	t.entry.CloudID = op.ResourceID
	if err := t.intend(nil); err != nil {
		return "", err
	}
	if state, err := t.follow(op, Working); state == Failed || err != nil {
		return state, err
	}
	return t.built(res, props, RecordChange{Retire: t.entry.Step.Swap})
}

// clearShell removes what a former attempt of a creation left in the cloud: it
// may hold the place, or the name, of the next one.
func (t *task) clearShell() (EntryState, error) {
	ids := []string{t.entry.Shell}
	if t.entry.Unsure {
		found, err := t.strays()
		if err != nil {
			return t.fail("looking for what a former attempt left", err)
		}
		ids = append(ids, found...)
	}
	for _, id := range ids {
		if id == "" {
			continue
		}
		if state, err := t.removeNow(id, t.key()+" clears "+id, Working); state == Failed || err != nil {
			return state, err
		}
	}
	t.entry.Shell, t.entry.Unsure = "", false
	return "", nil
}

// strays lists what the cloud has of the step's resource, by its tags, and nobody
// has recorded.
func (t *task) strays() ([]string, error) {
	var list []cloud.Resource
	_, err := t.call(func() (op cloud.Operation, err error) {
		list, err = t.Cloud.List(t.ctx, t.Target, t.Stack)
		return op, err
	})
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range list {
		if r.Tags["stack"] == t.Stack && r.Tags["node"] == t.entry.Step.Resource && !t.known(r.ID) {
			out = append(out, r.ID)
		}
	}
	return out, nil
}

// known reports whether a resource of the cloud is recorded, is kept, or belongs
// to a step of this run.
func (d *Driver) known(id string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.kept[id] != nil || d.old[id] != nil {
		return true
	}
	for _, r := range d.recorded {
		if r.ID == id {
			return true
		}
	}
	for _, e := range d.entries {
		if e.CloudID == id || e.Record != nil && e.Record.ID == id {
			return true
		}
	}
	return false
}

// removeNow removes a resource and waits until it is gone.
func (t *task) removeNow(id, key string, state State) (EntryState, error) {
	op, err := t.call(func() (cloud.Operation, error) { return t.Cloud.Delete(t.ctx, t.Target, key, id) })
	if cloud.IsNotFound(err) {
		return "", nil
	}
	if err != nil {
		return t.fail("", err)
	}
	if st, err := t.follow(op, state); st == Failed || err != nil {
		return st, err
	}
	return "", nil
}

func needsSwap(changes []stack.PropertyChange) bool {
	for _, c := range changes {
		if c.Effect == stack.Swap {
			return true
		}
	}
	return false
}

// tags puts the resource's own tags into a request, and those that tell whose it
// is.
func (t *task) tags(req *cloud.Request, props map[string]tosca.Value) {
	req.SetTag("stack", tosca.String(t.Stack))
	req.SetTag("node", tosca.String(t.entry.Step.Resource))
	req.SetTags(props["tags"])
}

// read asks the cloud for a resource.
func (t *task) read(id string) (*stack.Live, error) {
	var r cloud.Resource
	_, err := t.call(func() (cloud.Operation, error) {
		var err error
		r, err = t.Cloud.Get(t.ctx, t.Target, id)
		return cloud.Operation{}, err
	})
	if err != nil {
		return nil, err
	}
	live := r.Live(t.Library)
	t.Secrets.Add(tosca.Map(live.Attributes))
	live.Mark(t.Secrets)
	return live, nil
}

// built reads a resource back and records it.
func (t *task) built(res *stack.Resource, props map[string]tosca.Value, ch RecordChange) (EntryState, error) {
	live, err := t.read(t.entry.CloudID)
	if err != nil {
		return t.fail("reading it back", err)
	}
	rec := &stack.Recorded{Name: res.Name, Type: res.Type.Name, ID: live.ID, Properties: props, Attributes: live.Attributes, Links: map[string][]stack.LinkTo{},
		Fingerprints: map[string]tosca.Value{}, Needs: res.Needs, Pos: res.Pos, Keep: res.Keep, Guard: res.Guard}
	for name, v := range props {
		if tosca.HasSecret(v) {
			rec.Fingerprints[name] = live.Properties[name]
		}
	}
	for _, l := range res.Links {
		for _, n := range l.Targets {
			rec.Links[l.Requirement] = append(rec.Links[l.Requirement], stack.LinkTo{Name: n, ID: t.id(n)})
		}
	}
	ch.Name, ch.Put, ch.Position = res.Name, rec, t.entry.Step.Position
	return t.finish(Done, t.event(IsReady, "", ""), ch)
}

func (t *task) update() (EntryState, error) {
	res, props, err := t.wanted()
	if err != nil {
		return t.fail("resolving", err)
	}
	rec := t.entry.Record
	if rec == nil {
		return t.fail("", fmt.Errorf("%s is not recorded", res.Name))
	}
	live, err := t.read(rec.ID)
	if err != nil {
		return t.fail("", err)
	}
	t.entry.CloudID = rec.ID
	var req cloud.Request
	if t.entry.State == Started && t.entry.Before != nil { // sent before: the same again
		req = t.repeat(res, props)
	} else {
		changes := stack.Diff(res, props, rec, live, t.id)
		if len(changes) == 0 && t.entry.Step.Adopt {
			t.entry.Before = snapshot(nil, rec, live)
			return t.built(res, props, RecordChange{Unkeep: rec.ID})
		}
		if len(changes) == 0 {
			t.entry.Before = snapshot(nil, rec, live)
			now := *rec
			now.Needs, now.Pos, now.Keep, now.Guard = res.Needs, res.Pos, res.Keep, res.Guard
			return t.finish(Unchanged, t.event(IsReady, "nothing to change in the cloud", ""), RecordChange{Name: res.Name, Put: &now, Position: t.entry.Step.Position})
		}
		if needsSwap(changes) {
			return t.fail("", errors.New("it would have to be replaced now; make a new what-if"))
		}
		t.entry.Before = snapshot(changes, rec, live)
		req = t.repeat(res, props)
	}
	if err := t.intend(t.event(Working, "asking the cloud to change it", "")); err != nil {
		return "", err
	}
	op, err := t.call(func() (cloud.Operation, error) { return t.Cloud.Update(t.ctx, t.Target, t.key(), rec.ID, req) })
	if cloud.Refused(err) && !t.resent { // nothing was begun, so there is nothing to put back
		t.entry.Before = nil
	}
	if cloud.IsChanged(err) {
		err = fmt.Errorf("%w; it was changed in the cloud meanwhile, by somebody else, and is left as it is: make a new what-if", err)
	}
	if err != nil {
		return t.fail("", err)
	}
	if state, err := t.follow(op, Working); state == Failed || err != nil {
		return state, err
	}
	ch := RecordChange{}
	if t.entry.Step.Adopt {
		ch.Unkeep = rec.ID
	}
	return t.built(res, props, ch)
}

// repeat makes the request that changes just what the snapshot holds.
func (t *task) repeat(res *stack.Resource, props map[string]tosca.Value) cloud.Request {
	b := t.entry.Before
	req := cloud.Request{Properties: map[string]any{}, Links: map[string][]string{}, ETag: b.ETag}
	for name := range b.Properties {
		req.SetProperty(name, props[name])
	}
	for name := range b.Links {
		req.Links[name] = []string{}
		for _, l := range res.Links {
			if l.Requirement == name {
				for _, n := range l.Targets {
					req.Links[name] = append(req.Links[name], t.id(n))
				}
			}
		}
	}
	if b.Tags != nil {
		t.tags(&req, props)
		for _, k := range b.Others { // what others have put there stays
			if _, mine := req.Tags[k]; !mine {
				req.SetTag(k, b.Tags[k])
			}
		}
	}
	return req
}

// snapshot keeps what an update is about to replace.
func snapshot(changes []stack.PropertyChange, rec *stack.Recorded, live *stack.Live) *Snapshot {
	s := &Snapshot{Properties: map[string]tosca.Value{}, Links: map[string][]string{}, ETag: live.ETag}
	for _, c := range changes {
		switch {
		case c.Link:
			s.Links[c.Property] = append([]string{}, live.Links[c.Property]...)
		case c.Property == "tags":
			s.Tags, s.Others = map[string]tosca.Value{}, stack.OtherTags(nil, rec, live)
			recorded := stack.TagMap(rec.Properties["tags"])
			if _, s.NamesHidden = rec.Properties["tags"].(tosca.Secret); s.NamesHidden {
				maps.Copy(s.Tags, recorded)
			}
			for k, v := range live.Tags {
				if !s.NamesHidden || k == "stack" || k == "node" || slices.Contains(s.Others, k) {
					s.Tags[k] = stack.Restorable(recorded[k], tosca.String(v))
				}
			}
		default:
			v := stack.Restorable(rec.Properties[c.Property], live.Properties[c.Property])
			if v == nil {
				v = tosca.Null{}
			}
			s.Properties[c.Property] = v
		}
	}
	return s
}

func (t *task) delete() (EntryState, error) {
	s := t.entry.Step
	state, ended := Removing, Removed
	ch := RecordChange{Name: s.Resource, Remove: !s.Swap, RemoveOld: oldPart(s)}
	if s.Half == Undo {
		state, ended = Undoing, IsUndone
		ch = RecordChange{Name: s.Resource, Remove: true}
		if of := t.Driver.Entry(s.Of); of != nil {
			if of.Record != nil && s.Swap {
				ch.Restore = of.Record.ID
			}
			ids := []string{}
			if of.Shell != "" {
				ids = append(ids, of.Shell)
			}
			if of.Unsure {
				found, err := t.strays()
				if err != nil {
					return t.fail("looking for what was made", err)
				}
				ids = append(ids, found...)
			}
			for _, id := range ids {
				if st, err := t.removeNow(id, t.key()+" clears "+id, state); st == Failed || err != nil {
					return st, err
				}
			}
		}
	}
	if t.entry.CloudID == "" { // it was refused before anything was made
		return t.finish(Done, t.event(ended, "nothing had been made", ""), RecordChange{Name: s.Resource})
	}
	if err := t.intend(t.event(state, "asking the cloud to remove it", "")); err != nil {
		return "", err
	}
	op, err := t.call(func() (cloud.Operation, error) { return t.Cloud.Delete(t.ctx, t.Target, t.key(), t.entry.CloudID) })
	if cloud.IsNotFound(err) {
		return t.finish(Done, t.event(ended, "it was not there any more", ""), t.undoRecord(ch))
	}
	if err != nil {
		return t.fail("", err)
	}
	if st, err := t.follow(op, state); st == Failed || err != nil {
		return st, err
	}
	return t.finish(Done, t.event(ended, "", ""), t.undoRecord(ch))
}

// undoRecord leaves the record alone where the step to undo had not reached
// it: a creation that failed never became the current record.
func (t *task) undoRecord(ch RecordChange) RecordChange {
	if t.entry.Step.Half != Undo {
		return ch
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if r := t.recorded[ch.Name]; r == nil || r.ID != t.entry.CloudID {
		return RecordChange{Name: ch.Name}
	}
	return ch
}

// putBack sends what an update replaced.
func (t *task) putBack() (EntryState, error) {
	s := t.entry.Step
	t.mu.Lock()
	orig := t.entries[s.Of]
	t.mu.Unlock()
	if orig == nil || orig.Before == nil || orig.Record == nil {
		return t.finish(Done, t.event(IsUndone, "nothing had been changed", ""), RecordChange{Name: s.Resource})
	}
	t.entry.CloudID = orig.Record.ID
	req := cloud.Request{Properties: map[string]any{}, Links: orig.Before.Links}
	for name, v := range orig.Before.Properties {
		req.SetProperty(name, v)
	}
	for name, v := range orig.Before.Tags {
		req.SetTag(name, v)
	}
	if orig.Before.NamesHidden {
		req.Secrets = append(req.Secrets, "/tags")
	}
	live, err := t.read(orig.Record.ID)
	if err != nil {
		return t.fail("", err)
	}
	ch := RecordChange{Name: s.Resource, Put: orig.Record, Position: s.Position}
	if s.Adopt {
		ch = RecordChange{Name: s.Resource, Remove: true, Kept: orig.Record}
	}
	if alike(live, orig) {
		return t.finish(Done, t.event(IsUndone, "it is as it was", ""), ch)
	}
	req.ETag = live.ETag
	if err := t.intend(t.event(Undoing, "putting it back", "")); err != nil {
		return "", err
	}
	op, err := t.call(func() (cloud.Operation, error) {
		return t.Cloud.Update(t.ctx, t.Target, t.key(), orig.Record.ID, req)
	})
	if err != nil {
		return t.fail("", err)
	}
	if st, err := t.follow(op, Undoing); st == Failed || err != nil {
		return st, err
	}
	return t.finish(Done, t.event(IsUndone, "", ""), ch)
}

// alike reports whether a resource still is what it was before an update.
func alike(live *stack.Live, e *Entry) bool {
	for name, v := range e.Before.Properties {
		if !stack.Same(stack.Seen(v, live.Properties[name], e.Record.Fingerprints[name]), v) {
			return false
		}
	}
	for name, ids := range e.Before.Links {
		if fmt.Sprint(live.Links[name]) != fmt.Sprint(ids) {
			return false
		}
	}
	if e.Before.Tags == nil {
		return true
	}
	prints := stack.TagMap(e.Record.Fingerprints["tags"])
	if e.Before.NamesHidden {
		others := len(stack.OtherTags(nil, e.Record, live))
		return stack.Same(live.Properties["tags"], e.Record.Fingerprints["tags"]) && others == len(e.Before.Others)
	}
	for k, v := range e.Before.Tags {
		now, there := live.Tags[k]
		if !there || !tosca.Equal(stack.Seen(v, tosca.String(now), prints[k]), v) {
			return false
		}
	}
	return len(live.Tags) == len(e.Before.Tags)
}

// follow watches an operation to its end and tells its inner steps.
func (t *task) follow(op cloud.Operation, state State) (EntryState, error) {
	last, lastState := "", ""
	for !op.Ended() {
		if op.Step != last || op.State != lastState {
			last, lastState = op.Step, op.State
			now := state
			if op.State == "settling" && state == Working {
				now = Settling
			}
			ev := t.event(now, op.Step, "")
			if op.Steps > 1 {
				ev.Step = fmt.Sprintf("%s, %d/%d", op.Step, op.StepNumber, op.Steps)
			}
			t.tell(t.ctx, *ev)
		}
		if err := sleep(t.ctx, time.Duration(min(max(op.NextMS, 1), 2000))*time.Millisecond); err != nil {
			return "", err
		}
		id := op.ID
		var err error
		op, err = t.call(func() (cloud.Operation, error) { return t.Cloud.Operation(t.ctx, t.Target, id) })
		if err != nil {
			return t.fail(last, err)
		}
	}
	if op.State == "failed" {
		var err error = op.Problem
		if op.Problem == nil {
			err = errors.New("the cloud does not say why")
		}
		return t.fail(op.Step, err)
	}
	return Done, nil
}

// maxTries is how often a call is made before a passing error counts as a
// failure.
const maxTries = 8

// call makes one call of the cloud, again with growing pauses while the cloud
// says that the error will pass. The same key makes that safe.
func (t *task) call(f func() (cloud.Operation, error)) (cloud.Operation, error) {
	pause := backoff.NewExponentialBackOff()
	pause.InitialInterval, pause.MaxInterval = 200*time.Millisecond, 10*time.Second
	for try := 1; ; try++ {
		op, err := f()
		var p *cloud.Problem
		if err == nil || t.ctx.Err() != nil || !errors.As(err, &p) || !p.Passing {
			return op, err
		}
		if try == maxTries {
			return op, fmt.Errorf("%w; tried %d times in %s", err, maxTries, time.Since(t.began).Round(time.Second))
		}
		wait := max(pause.NextBackOff(), p.RetryAfter())
		if p.RetryAfterMS > 0 {
			wait = p.RetryAfter()
		}
		t.tell(t.ctx, *t.event(Working, fmt.Sprintf("trying again in %s", wait.Round(10*time.Millisecond)), err.Error()))
		if err := sleep(t.ctx, wait); err != nil {
			return op, err
		}
	}
}

func sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}
