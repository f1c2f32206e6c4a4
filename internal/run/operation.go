package run

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// operation is what a step does. The driver knows none of them: it lets one get
// ready, writes into the journal what it is about to do, lets it ask the cloud,
// watches the cloud do it, and writes what the operation says came of it. Every
// error is a failure of the step; at tells in what it failed.
type operation interface {
	// prepare looks at how things are and decides what to ask for. It may yield how
	// the step ends without asking, or as which action it goes on.
	prepare(ctx context.Context, t *task) (*ending, error)
	// telling is what is told while the cloud works, and the state meanwhile.
	telling(t *task) (State, string)
	// ask makes the call, by the key of the step: it is made again while errors pass,
	// and where a process ended before it heard the answer.
	ask(ctx context.Context, t *task) (cloud.Operation, error)
	// refused hears that the cloud has not done what it was asked for. It may yield an
	// ending for that, or an error that says more.
	refused(ctx context.Context, t *task, err error) (*ending, error)
	// record says what has come of it, once the cloud has done it.
	record(ctx context.Context, t *task) (*ending, error)
}

// operations makes the operation of an action.
var operations = map[Action]func() operation{
	Create:  func() operation { return &creation{} },
	Update:  func() operation { return &edit{} },
	Rename:  func() operation { return &rename{} },
	Delete:  func() operation { return &removal{} },
	Revert:  func() operation { return &revert{} },
	Release: func() operation { return &release{} },
	Probe:   func() operation { return probing{} },
	Remake:  func() operation { return &remaking{} },
	Follow:  func() operation { return &following{} },
	Drain:   func() operation { return pools{} },
	Refill:  func() operation { return pools{} },
	Act:     func() operation { return &acting{} },
}

// ending is how a step ends.
type ending struct {
	state   EntryState
	shown   State  // of the resource
	words   string // about it; "" is none
	changes []Change
	because error  // of a failure
	as      Action // it does not end, and goes on as this action
}

// stepError is an error with what was being done.
type stepError struct {
	step string
	err  error
}

func (e *stepError) Error() string { return e.err.Error() }
func (e *stepError) Unwrap() error { return e.err }

// at says in what a step failed.
func at(step string, err error) error { return &stepError{step, err} }

// task is one step being carried out.
type task struct {
	*Driver
	step  Step // as planned; the entry has it as it is carried out
	entry *Entry
	began time.Time
	heard time.Time // when the cloud answered last
	told  string    // what was told last of an operation
	took  bool      // it takes one of the places of the limit
	// asking says that what the step is for has not begun yet.
	asking bool
	// resent says that the step was under way when a process ended.
	resent bool
}

// carryOut carries out one step. The error is one of this program; a refusal of the
// cloud is the state Failed.
func (t *task) carryOut(ctx context.Context) (EntryState, error) {
	for {
		make := operations[t.entry.Step.Action]
		if make == nil {
			return "", fmt.Errorf("the plan has an unknown action %q", t.entry.Step.Action)
		}
		op := make()
		end, err := op.prepare(ctx, t)
		switch {
		case err != nil:
			return t.fail(ctx, err)
		case end == nil:
			return t.run(ctx, op)
		case end.as == "":
			return t.finish(ctx, end)
		}
		t.entry.Step.Action, t.entry.Step.Swap = end.as, false
	}
}

// begin finds or makes the journal's entry of a step.
func (d *Driver) begin(ctx context.Context, s Step) *task {
	d.mu.Lock()
	defer d.mu.Unlock()
	e := d.entries[s.ID]
	resent := e != nil && e.State == Started
	if e == nil || e.State == Failed || e.State == Again {
		last := e
		e = &Entry{Step: s, Attempt: 1, Record: d.recorded[cmp.Or(s.From, s.Resource)]}
		if last != nil {
			e.Attempt, e.Backup = last.Attempt+1, last.Backup
			if last.Step.Action == Create || last.Step.Action == Remake {
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
	return &task{Driver: d, step: s, entry: e, began: time.Now(), resent: resent}
}

// run asks the cloud and sees to it that it is done.
func (t *task) run(ctx context.Context, op operation) (EntryState, error) {
	state, words := op.telling(t)
	if err := t.intend(ctx, t.event(state, words, "")); err != nil {
		return "", err
	}
	t.asking = true
	asked, err := t.call(ctx, func() (cloud.Operation, error) { return op.ask(ctx, t) })
	t.asking = false
	if err == nil && asked.ResourceID != "" && t.entry.CloudID != asked.ResourceID {
		t.identify(asked.ResourceID)
		if err := t.intend(ctx, t.stepOf(asked, state)); err != nil {
			return "", err
		}
	}
	if err != nil {
		end, err := op.refused(ctx, t, err)
		if end != nil {
			return t.finish(ctx, end)
		}
		return t.fail(ctx, err)
	}
	if err := t.follow(ctx, t.ref(), asked, state); err != nil {
		return t.fail(ctx, err)
	}
	t.free(ctx)
	end, err := op.record(ctx, t)
	if err != nil {
		return t.fail(ctx, err)
	}
	return t.finish(ctx, end)
}

// free lets something else begin in the place of the step: the cloud has done what it was
// asked for.
func (t *task) free(ctx context.Context) {
	if !t.took {
		return
	}
	t.took = false
	if t.Limit.end() {
		t.Driver.tell(ctx, Event{State: Working, Step: LimitWords(t.Limit.Now()) + " again"})
	}
	select {
	case t.freed <- struct{}{}:
	default: // it is told already
	}
}

// ref is the resource of the step, once its id is known.
func (t *task) ref() cloud.Ref {
	return cloud.Ref{Target: t.Target, Type: t.entry.Step.Type, ID: t.entry.CloudID}
}

func (t *task) event(state State, step, reason string) *Event {
	return &Event{Resource: t.entry.Step.Resource, Type: t.entry.Step.Type, State: state, Step: step, Reason: reason,
		Elapsed: time.Since(t.began), CloudID: t.entry.CloudID, Attempt: t.entry.Attempt}
}

// identify notes which resource of the cloud the step is about. Others look at it meanwhile.
func (t *task) identify(id string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.entry.CloudID = id
}

// intend writes the journal before the call.
func (t *task) intend(ctx context.Context, ev *Event) error {
	t.entry.State = Started
	return t.note(ctx, t.entry, ev, nil)
}

// finish writes the outcome together with what it changes in the record.
func (t *task) finish(ctx context.Context, end *ending) (EntryState, error) {
	e := *t.entry
	if e.State = end.state; end.state == Done && e.Step.Action != t.step.Action {
		e.State = Edited
	}
	if made := t.Driver.Entry(e.Step.Of); e.Step.Phase == PhaseUndo && e.State.Good() && made != nil && made.Backup != "" {
		t.forget(ctx, made.Backup)
	}
	ev := t.event(end.shown, end.words, e.Reason)
	ev.about(end.because)
	if err := t.note(ctx, &e, ev, end.changes); err != nil {
		return "", err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	*t.entry = e
	for _, ch := range end.changes {
		switch ch := ch.(type) {
		case Put:
			t.recorded[ch.Record.Name] = ch.Record
		case Remove:
			delete(t.recorded, ch.Name)
		}
	}
	return e.State, nil
}

// fail ends the step with the cloud's words.
func (t *task) fail(ctx context.Context, err error) (EntryState, error) {
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	reason := cloud.Clean(t.Secrets.Hide(err.Error()))
	var p *cloud.Problem
	if errors.As(err, &p) && p.Fix != "" {
		reason += "; " + t.Secrets.Hide(p.Fix)
	}
	var in *stepError
	words := ""
	if errors.As(err, &in) {
		words = in.step
	}
	t.entry.Reason = reason
	if s := t.entry.Step; s.Action == Drain && s.Phase == PhaseUndo { // nothing is kept there for its sake
		return t.finish(ctx, &ending{state: Done, shown: Undoing, words: "it could not finish its work"})
	}
	return t.finish(ctx, &ending{state: Failed, shown: HasFailed, words: words, because: err})
}

// about notes what a refusal says of itself.
func (ev *Event) about(err error) {
	var p *cloud.Problem
	if errors.As(err, &p) {
		ev.Problem, ev.Fix = p.Type, p.Fix
	}
}

// key is the idempotency key of the step.
func (t *task) key() string {
	return keyOf(t.RunID, t.entry.Step.ID, t.entry.Attempt)
}

// keyOf is the key of a step. A long name is a digest in it, as clouds take keys of some length only.
func keyOf(run, step string, attempt int) string {
	if len(step) > longestInKey {
		sum := sha256.Sum256([]byte(step))
		step = hex.EncodeToString(sum[:])
	}
	return fmt.Sprintf("%s/%s/%d", run, step, attempt)
}

// longestInKey is how long the id of a step may be to stand in a key as it is.
const longestInKey = 80

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

// strays lists what the cloud has of the step's resource, by its tags, and nobody
// has recorded.
func (t *task) strays(ctx context.Context) ([]cloud.Ref, error) {
	var list []cloud.Resource
	_, err := t.call(ctx, func() (op cloud.Operation, err error) {
		list, err = t.Cloud.List(ctx, t.Target, t.Stack)
		return op, err
	})
	if err != nil {
		return nil, err
	}
	var out []cloud.Ref
	for _, r := range list {
		if other := r.Tags[stack.StoreTag]; other != "" && other != t.Store { // it is that of another store
			continue
		}
		if r.Tags["stack"] == t.Stack && r.Tags["node"] == t.entry.Step.Resource && !t.known(r.ID) {
			out = append(out, cloud.Ref{Target: t.Target, Type: r.Type, ID: r.ID})
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

// tags puts the resource's own tags into a request, and those that tell whose it
// is.
func (t *task) tags(req *cloud.Request, props map[string]tosca.Value) {
	req.SetTag(stack.StackTag, tosca.String(t.Stack))
	req.SetTag(stack.NodeTag, tosca.String(t.entry.Step.Resource))
	if t.Store != "" {
		req.SetTag(stack.StoreTag, tosca.String(t.Store))
	}
	req.SetTags(props["tags"])
}

// read asks the cloud for a resource.
func (t *task) read(ctx context.Context, typ, id string) (*stack.Live, error) {
	var r cloud.Resource
	_, err := t.call(ctx, func() (cloud.Operation, error) {
		var err error
		r, err = t.Cloud.Get(ctx, cloud.Ref{Target: t.Target, Type: typ, ID: id})
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

// removeNow removes a resource and waits until it is gone.
func (t *task) removeNow(ctx context.Context, r cloud.Ref, state State) error {
	key := keyOf(t.key(), "clears "+r.ID, 1)
	op, err := t.call(ctx, func() (cloud.Operation, error) { return t.Cloud.Delete(ctx, r, key) })
	if cloud.IsNotFound(err) {
		return nil
	}
	if err != nil {
		return err
	}
	return t.follow(ctx, r, op, state)
}

// clear removes what an attempt of a creation left in the cloud: it may hold the
// place, or the name, of the next one.
func (t *task) clear(ctx context.Context, of *Entry, doing string, state State) error {
	left := []cloud.Ref{{Target: t.Target, Type: t.entry.Step.Type, ID: of.Shell}}
	if of.Unsure {
		found, err := t.strays(ctx)
		if err != nil {
			return at(doing, err)
		}
		left = append(left, found...)
	}
	for _, r := range left {
		if r.ID == "" {
			continue
		}
		if err := t.removeNow(ctx, r, state); err != nil {
			return err
		}
	}
	return nil
}

// built reads a resource back and records it.
func (t *task) built(ctx context.Context, res *stack.Resource, props map[string]tosca.Value, before ...Change) (*ending, error) {
	live, err := t.read(ctx, res.Type.Name, t.entry.CloudID)
	if err != nil {
		return nil, at("reading it back", err)
	}
	rec := &stack.Recorded{Name: res.Name, Type: res.Type.Name, ID: live.ID, Properties: props,
		Attributes: live.Attributes, Links: map[string][]stack.LinkTo{},
		Fingerprints: map[string]tosca.Value{}, Needs: res.Needs, Pos: res.Pos, Policies: res.Policies}
	if was := t.entry.Record; was != nil {
		rec.Formerly = was.Formerly
	}
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
	return &ending{state: Done, shown: IsReady, changes: append(before, Put{rec, t.entry.Step.Position})}, nil
}

// stepOf is the event of an inner step of an operation; nil where it was told.
func (t *task) stepOf(op cloud.Operation, state State) *Event {
	step := op.ID + " " + op.State + " " + op.Step
	if op.Ended() || step == t.told {
		return nil
	}
	t.told = step
	if op.State == "settling" && state == Working {
		state = Settling
	}
	ev := t.event(state, op.Step, "")
	if op.Steps > 1 {
		ev.Step = fmt.Sprintf("%s, %d/%d", op.Step, op.StepNumber, op.Steps)
	}
	return ev
}

// follow watches an operation to its end and tells its inner steps.
func (t *task) follow(ctx context.Context, r cloud.Ref, op cloud.Operation, state State) error {
	last := op.Step
	called := false
	for !op.Ended() {
		select {
		case <-t.stopping():
			if off, can := t.Cloud.(cloud.CallingOff); can && !called {
				called = true
				_ = off.CallOff(ctx, r, op.ID) // where it cannot be, it comes to its end
			}
		default:
		}
		if ev := t.stepOf(op, state); ev != nil {
			last = op.Step
			t.tell(ctx, *ev)
		}
		next := t.heard.Add(time.Duration(min(max(op.NextMS, 1), 2000)) * time.Millisecond)
		if err := t.rest(ctx, max(time.Millisecond, time.Until(next))); err != nil {
			return err
		}
		id := op.ID
		var err error
		op, err = t.call(ctx, func() (cloud.Operation, error) { return t.Cloud.Operation(ctx, r, id) })
		if err != nil {
			return at(last, err)
		}
	}
	if op.ResourceID != "" && t.entry.CloudID == "" { // some clouds know it only in the end
		t.identify(op.ResourceID)
	}
	if op.State == "failed" {
		var err error = op.Problem
		if op.Problem == nil {
			err = errors.New("the cloud does not say why")
		}
		return at(op.Step, err)
	}
	return nil
}
