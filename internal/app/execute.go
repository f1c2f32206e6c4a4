package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/identity"
	"brickrow/internal/programs"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// journal writes for one run.
type journal struct {
	*store.Store
	run  *run.Record
	halt func(at string) error
}

func (j journal) Note(ctx context.Context, e *run.Entry, ev *run.Event, changes []run.Change) error {
	if j.halt == nil {
		return j.Store.Note(ctx, j.run, e, ev, changes)
	}
	at := ""
	if e != nil {
		at = e.Step.ID + " " + string(e.State)
	} else if ev != nil {
		at = ev.Resource + " " + string(ev.State) + " " + ev.Step
	}
	if err := j.halt("before " + at); err != nil {
		return err
	}
	err := j.Store.Note(ctx, j.run, e, ev, changes)
	if err == nil {
		err = j.halt("after " + at)
	}
	return err
}

func (j journal) Wishes(ctx context.Context) (run.Wishes, error) {
	return j.Store.Wishes(ctx, j.run.ID)
}

// execution is one run being carried out.
type execution struct {
	*App
	run    *run.Record
	stack  *stack.Stack
	driver *run.Driver
	wanted *stack.Wanted
	base   *stack.Revision // that was deployed before; nil is none
}

// Execute carries a prepared run out to its end: done, undone, held or stuck.
// The error is one of this program; how the run went is in its state.
func (a *App) Execute(ctx context.Context, runID, token string) (r *run.Record, err error) {
	if r, err = a.store.Run(ctx, runID); err != nil {
		return nil, err
	}
	r.Timed, r.Token = a.Speed <= fastest, token
	st, err := a.StackOf(ctx, r)
	if err != nil {
		return nil, err
	}
	unlocking := context.WithoutCancel(ctx)
	defer func() { err = errors.Join(err, a.store.Unlock(unlocking, st.ID, token)) }()
	if err := a.lock(ctx, st, token); err != nil {
		return nil, err
	}
	if err := a.store.Genuine(ctx, runID); err != nil {
		return nil, err
	}
	ctx = cloud.DoneBy(programs.Carrying(ctx), stack.AuthorText(identity.Caller(), r.Number, st.Name, a.storeID(ctx)))
	ctx, stop := context.WithCancelCause(ctx)
	beats := make(chan struct{})
	go func() {
		defer close(beats)
		a.keepLock(ctx, st.ID, token, stop)
	}()
	x := &execution{App: a, run: r, stack: st}
	traced := x.trace(ctx)
	if err = x.carryOut(ctx); err == nil {
		err = x.learn(ctx)
	}
	traced()
	if err == nil && r.State.Ended() {
		_, _ = a.lookAt(ctx, st) // for the time line; the next look finds it too
	}
	if cause := context.Cause(ctx); err != nil && cause != nil {
		err = cause
	}
	stop(nil)
	<-beats
	return r, err
}

// fastest is the speed of the stand-in above which what a step takes says
// nothing of the cloud any more, but of this machine.
const fastest = 20

// keepLock renews the lease until the context ends. A lock that was lost stops
// the run at once.
func (a *App) keepLock(ctx context.Context, id int64, token string, stop context.CancelCauseFunc) {
	beat := time.NewTicker(store.Lease / 3)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-beat.C:
			var locked *store.LockedError
			if _, err := a.store.Lock(ctx, id, token); errors.As(err, &locked) {
				stop(fmt.Errorf("this run has lost its lock: %w", err))
				return
			}
		}
	}
}

func (x *execution) carryOut(ctx context.Context) error {
	if x.run.State.Ended() {
		return nil
	}
	if err := x.prepareDriver(ctx); err != nil {
		return err
	}
	if x.run.State == run.StatusUndoing {
		return x.undo(ctx)
	}
	begins := fmt.Sprintf("%s begins: %s", x.run.Kind, x.run.Tally)
	if x.run.Kind == run.KindAction {
		begins = x.run.Origin.What + " begins"
	}
	x.tell(ctx, run.Working, begins)
	if x.failedBefore() {
		if _, err := x.finishStarted(ctx); err != nil {
			return err
		}
	}
	out, err := x.drive(ctx, x.run.Plan.Steps)
	switch {
	case err != nil:
		return err
	case out.Paused:
		return x.pause(ctx, out)
	case out.Complete && (!out.Cancelled || out.CannotReturn || x.run.Kind == run.KindDelete):
		if wish, err := x.store.Wishes(ctx, x.run.ID); out.Cancelled || err == nil && wish.Cancel {
			x.run.Reason = run.TooLate
			x.tell(ctx, run.Working, run.TooLate)
		}
		return x.succeed(ctx)
	case x.run.Kind == run.KindDelete || out.CannotReturn:
		x.run.Reason = reason(out, "cancelled when it could not be undone any more")
		x.tell(ctx, run.HasFailed, "the run is stuck: "+x.run.Reason)
		return x.set(ctx, run.StatusStuck, x.builtRevision())
	}
	x.run.Reason = reason(out, "cancelled")
	now, err := x.store.Head(ctx, x.run.ID) // it may have been chosen anew
	if err != nil {
		return err
	}
	if x.run.OnFailure = now.OnFailure; x.run.OnFailure == stack.Hold {
		return x.hold(ctx, out)
	}
	x.run.Back = true
	if err := x.set(ctx, run.StatusUndoing, x.stack.Revision); err != nil {
		return err
	}
	return x.undo(ctx)
}

// drive carries steps out, until it is paused in earnest: the wish may have been taken
// back just when nothing was under way any more.
func (x *execution) drive(ctx context.Context, steps []run.Step) (run.Outcome, error) {
	for {
		out, err := x.driver.Run(ctx, steps)
		if err != nil || !out.Paused {
			return out, err
		}
		wish, err := x.store.Wishes(ctx, x.run.ID)
		if err != nil || wish.Pause {
			return out, err
		}
	}
}

// pause leaves the run as it is, until somebody goes on with it.
func (x *execution) pause(ctx context.Context, out run.Outcome) error {
	done := 0
	for _, e := range out.Entries {
		if e.State.Good() && (e.Step.Phase == run.PhaseUndo) == x.run.Back {
			done++
		}
	}
	x.tell(ctx, run.Waiting, fmt.Sprintf("paused; steps done: %d", done))
	return x.set(ctx, run.StatusPaused, x.stack.Revision)
}

// failedBefore reports whether a step of the build had failed when the process
// of the run ended. What was under way then comes to its end, and nothing more
// is begun.
func (x *execution) failedBefore() bool {
	return slices.ContainsFunc(x.run.Plan.Steps, func(s run.Step) bool {
		e := x.driver.Entry(s.ID)
		return e != nil && e.State == run.Failed && (s.Phase == run.PhaseBuild || s.Phase == run.PhaseProbe || s.Phase == run.PhaseOneWay)
	})
}

// builtRevision is the revision of a stack whose build is complete and whose
// sweep is not.
func (x *execution) builtRevision() int {
	if x.run.Kind != run.KindDelete {
		return x.run.Revision
	}
	return x.stack.Revision
}

func reason(out run.Outcome, otherwise string) string {
	if len(out.Failed) == 0 {
		return otherwise
	}
	slices.SortFunc(out.Failed, func(a, b run.Entry) int { return strings.Compare(a.Step.ID, b.Step.ID) })
	var parts []string
	for _, e := range out.Failed {
		parts = append(parts, e.Step.Resource+": "+e.Reason)
	}
	return strings.Join(parts, "; ")
}

func (x *execution) prepareDriver(ctx context.Context) error {
	recorded, old, err := x.store.Recorded(ctx, x.stack.ID)
	if err != nil {
		return err
	}
	kept, err := x.store.Beside(ctx, x.stack.ID)
	if err != nil {
		return err
	}
	entries, err := x.store.Journal(ctx, x.run.ID)
	if err != nil {
		return err
	}
	if x.run.Kind != run.KindDelete {
		rev, err := x.store.Revision(ctx, x.stack.ID, x.run.Revision)
		if err != nil {
			return err
		}
		var findings tosca.Findings
		if x.wanted, findings = x.resolveRevision(rev); findings.HasErrors() {
			return &Refusal{Findings: findings}
		}
		if err := x.keepPrograms(x.wanted); err != nil { // it may have been prepared on another machine
			return err
		}
	}
	x.driver = &run.Driver{RunID: x.run.ID, Stack: x.stack.Name, Store: x.storeID(ctx), Target: x.stack.Target, Cloud: x.Cloud,
		Journal: journal{x.store, x.run, x.halt}, Wanted: x.wanted, Library: x.Profile.Library,
		Asker: asker{x.App, x.stack.Target}, Limit: x.limits.of(x.stack.Target, x.run.Plan.Told, x.run.Plan.AtOnce)}
	x.driver.Begin(recorded, old, kept, entries)
	secrets, err := x.secretsOf(ctx, x.stack)
	if err != nil {
		return err
	}
	x.driver.Secrets.Merge(secrets)
	if base, err := x.store.Revision(ctx, x.stack.ID, x.run.Base); err == nil {
		x.base = base
		if slices.ContainsFunc(recorded, func(r *stack.Recorded) bool { return r.Type == programs.Type }) {
			was, _ := x.resolveRevision(base)
			if err := x.keepPrograms(was); err != nil {
				return err
			}
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return nil
}

func (x *execution) tell(ctx context.Context, state run.State, words string) {
	ev := run.Event{Type: "run", State: state, Step: x.driver.Secrets.Hide(words)}
	_ = x.store.Note(ctx, x.run, nil, &ev, nil) // the state itself is written with the run
}

func (x *execution) set(ctx context.Context, status run.Status, revision int) error {
	if x.halt != nil {
		if err := x.halt("before the run is " + string(status)); err != nil {
			return err
		}
	}
	x.run.State, x.run.Reason = status, x.driver.Secrets.Hide(x.run.Reason)
	return x.store.SetRun(ctx, x.run, revision)
}

func (x *execution) succeed(ctx context.Context) error {
	x.thinOut(ctx)
	if x.run.Kind == run.KindDelete {
		return x.receipt(ctx)
	}
	current, _, err := x.store.Recorded(ctx, x.stack.ID)
	if err != nil {
		return err
	}
	byName := map[string]*stack.Recorded{}
	for _, r := range current {
		byName[r.Name] = r
	}
	values, findings := x.wanted.Results(func(resource, attribute string) (tosca.Value, bool) {
		r := byName[resource]
		if r == nil {
			return nil, false
		}
		v, ok := r.Attributes[attribute]
		return v, ok
	})
	before := map[string]stack.Result{}
	if len(x.run.Only) > 0 { // what a result speaks of may have been left out
		findings = nil
		list, err := x.store.Results(ctx, x.stack.ID)
		if err != nil {
			return err
		}
		for _, r := range list {
			before[r.Name] = r
		}
	}
	var results []stack.Result
	for _, o := range x.wanted.Outputs {
		if v := values[o.Name]; len(x.run.Only) > 0 && (v == nil || !tosca.IsKnown(v)) {
			if r, had := before[o.Name]; had {
				results = append(results, r)
			}
			continue
		}
		results = append(results, stack.Result{Name: o.Name, Description: o.Description, Value: values[o.Name], Command: o.Command()})
	}
	if err := x.store.SetResults(ctx, x.run, results); err != nil {
		return err
	}
	if len(findings) > 0 {
		x.tell(ctx, run.IsReady, "a result could not be computed: "+findings[0].Message)
	}
	words := fmt.Sprintf("done, at revision %d", x.run.Revision)
	if x.run.Kind == run.KindAction {
		words = "done"
	}
	if err := x.recordAccepted(ctx, byName); err != nil {
		return err
	}
	if x.run.Kind == run.KindAction || x.stack.Seen != "" {
		if err := x.seeAgain(ctx, current); err != nil {
			return err
		}
	}
	x.tell(ctx, run.IsReady, words)
	return x.set(ctx, run.StatusDone, x.run.Revision)
}

// recordAccepted records what had become what is wanted before the run, and still is: from then on it is as recorded.
func (x *execution) recordAccepted(ctx context.Context, recorded map[string]*stack.Recorded) error {
	for _, name := range x.run.Plan.Accepted {
		rec, at := recorded[name], slices.IndexFunc(x.wanted.Resources, func(r *stack.Resource) bool { return r.Name == name })
		if rec == nil || at < 0 {
			continue
		}
		is, err := x.Cloud.Get(ctx, cloud.Ref{Target: x.stack.Target, Type: rec.Type, ID: rec.ID})
		if err != nil { // it stays as it was recorded
			continue
		}
		live := is.Live(x.Profile.Library)
		props, _ := x.wanted.Late(x.wanted.Resources[at], recordedAttributes(slices.Collect(maps.Values(recorded))))
		now := *rec
		now.Properties = maps.Clone(rec.Properties)
		for _, d := range x.wanted.Resources[at].Type.Properties {
			was, there := rec.Properties[d.Name], live.Properties[d.Name]
			if d.Name != "tags" && !tosca.HasSecret(was) && !stack.Same(was, there) && stack.Same(props[d.Name], there) {
				now.Properties[d.Name] = props[d.Name]
			}
		}
		if len(whatif.AcceptedTags(rec, live, props["tags"])) > 0 {
			now.Properties["tags"] = props["tags"]
		}
		now.Links = maps.Clone(rec.Links)
		for _, l := range x.wanted.Resources[at].Links {
			var to []stack.LinkTo
			var ids []string
			for _, name := range l.Targets {
				if r := recorded[name]; r != nil {
					to, ids = append(to, stack.LinkTo{Name: name, ID: r.ID}), append(ids, r.ID)
				}
			}
			if len(ids) == len(l.Targets) && whatif.AcceptedLink(rec, live, l.Requirement, ids) {
				now.Links[l.Requirement] = to
			}
		}
		if err := x.store.Note(ctx, x.run, nil, nil, []run.Change{run.Put{Record: &now, Position: at}}); err != nil {
			return err
		}
	}
	return nil
}

// seeAgain notes what rests, and what has failed, now that the run is over.
func (x *execution) seeAgain(ctx context.Context, current []*stack.Recorded) error {
	list, err := x.Cloud.List(ctx, x.stack.Target, x.stack.Name)
	if err != nil { // the next look tells
		return nil
	}
	live := make(map[string]*stack.Live, len(list))
	for _, r := range list {
		live[r.ID] = &stack.Live{ID: r.ID, State: r.State}
	}
	return x.noteSeen(ctx, x.stack, current, live)
}

// hold keeps what is built, and clears away only what failed creations left.
func (x *execution) hold(ctx context.Context, out run.Outcome) error {
	if steps := run.PlanUndoFailed(x.run.Plan, out.Entries); len(steps) > 0 {
		if _, err := x.driver.Run(ctx, steps); err != nil {
			return err
		}
	}
	x.tell(ctx, run.HasFailed, "held: what is built stays; fix it and deploy again, or resume, or undo")
	return x.set(ctx, run.StatusHeld, x.stack.Revision)
}

// undo takes back what the run has done, and shows that all is as it was.
func (x *execution) undo(ctx context.Context) error {
	entries, err := x.finishStarted(ctx)
	if err != nil {
		return err
	}
	steps := run.PlanUndo(x.run.Plan, entries)
	x.tell(ctx, run.Undoing, run.UndoWords(len(steps)))
	out := run.Outcome{Complete: true}
	if len(steps) > 0 {
		if out, err = x.drive(ctx, steps); err != nil {
			return err
		}
	}
	if out.Paused {
		return x.pause(ctx, out)
	}
	if !out.Complete {
		return x.stuckUndoing(ctx, out)
	}
	out, err = x.follow(ctx)
	switch {
	case err != nil:
		return err
	case out.Paused:
		return x.pause(ctx, out)
	case !out.Complete:
		return x.stuckUndoing(ctx, out)
	}
	if x.run.Receipt, err = x.undoReceipt(ctx); err != nil {
		return err
	}
	x.tell(ctx, run.IsUndone, x.run.Receipt.Words(x.stack.Name, x.stack.Target.String()))
	if x.stack.Revision == 0 && x.run.Prior != stack.Removed {
		current, old, err := x.store.Recorded(ctx, x.stack.ID)
		if err != nil {
			return err
		}
		x.run.Prior = stack.Empty
		if len(current)+len(old) > 0 { // what an earlier run was held with is there still
			x.run.Prior = stack.Partial
		}
	}
	return x.set(ctx, run.StatusUndone, x.stack.Revision)
}

// stuckUndoing leaves a run that cannot be undone as it is, until somebody goes on with it.
func (x *execution) stuckUndoing(ctx context.Context, out run.Outcome) error {
	why := "undoing is stuck: " + reason(out, "")
	first, _, _ := strings.Cut(x.run.Reason, "undoing is stuck: ") // it may have been before
	x.run.Reason = why
	if first = strings.TrimSuffix(first, "; "); first != "" {
		x.run.Reason = first + "; " + why
	}
	x.tell(ctx, run.HasFailed, why)
	return x.set(ctx, run.StatusStuck, x.stack.Revision)
}

// follow lets what was made of attributes of something be of what these are now, where that was made again under another id.
func (x *execution) follow(ctx context.Context) (run.Outcome, error) {
	made, err := x.remade(ctx)
	if err != nil || len(made) == 0 || x.base == nil {
		return run.Outcome{Complete: true}, err
	}
	current, _, err := x.store.Recorded(ctx, x.stack.ID)
	if err != nil {
		return run.Outcome{}, err
	}
	recorded, again := map[string]*stack.Recorded{}, map[string]bool{}
	for _, r := range current {
		recorded[r.Name] = r
	}
	for _, m := range made {
		again[m.was.Name] = true
	}
	x.driver.Base, _ = x.resolveRevision(x.base)
	steps := run.PlanFollow(x.driver.Base, recorded, again)
	if len(steps) == 0 {
		return run.Outcome{Complete: true}, nil
	}
	return x.drive(ctx, steps)
}

// remadeOf is a resource that was made again while a run was undone: as it was recorded, and is now.
type remadeOf struct{ was, is *stack.Recorded }

func (x *execution) remade(ctx context.Context) (out []remadeOf, err error) {
	entries, err := x.store.Journal(ctx, x.run.ID)
	if err != nil {
		return nil, err
	}
	current, _, err := x.store.Recorded(ctx, x.stack.ID)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		orig := x.driver.Entry(e.Step.Of)
		if e.Step.Action != run.Remake || e.State != run.Done || orig == nil || orig.Record == nil || e.CloudID == "" || e.CloudID == orig.Record.ID {
			continue
		}
		for _, r := range current {
			if r.ID == e.CloudID {
				out = append(out, remadeOf{orig.Record, r})
			}
		}
	}
	return out, nil
}

// finishStarted brings the steps that were under way when a process ended to
// their end, so that it is known what they made.
func (x *execution) finishStarted(ctx context.Context) ([]run.Entry, error) {
	entries, err := x.store.Journal(ctx, x.run.ID)
	if err != nil {
		return nil, err
	}
	var open []run.Step
	for _, e := range entries {
		if e.State == run.Started && e.Step.Phase != run.PhaseUndo && e.Step.Phase != run.PhaseProbe {
			open = append(open, e.Step)
		}
	}
	if len(open) == 0 {
		return entries, nil
	}
	if err := x.driver.Finish(ctx, open); err != nil {
		return nil, err
	}
	return x.store.Journal(ctx, x.run.ID)
}

// madeAgain lets what was made again stand under the id that it had before, and says what that is. What is made of its attributes
// follows it: there too what they are now stands for what they were.
func (x *execution) madeAgain(ctx context.Context, now map[string]run.Was) ([]string, error) {
	list, err := x.remade(ctx)
	if err != nil {
		return nil, err
	}
	var made, swap []string
	for _, m := range list {
		is, there := now[m.is.ID]
		if !there {
			continue
		}
		delete(now, m.is.ID)
		now[m.was.ID] = is
		made = append(made, is.Name+" ("+m.is.ID+")")
		for _, name := range sortedKeys(m.was.Attributes) {
			was, text := m.was.Attributes[name].(tosca.String)
			if is, also := m.is.Attributes[name].(tosca.String); text && also && was != is && len(is) >= shortestTold {
				swap = append(swap, string(is), string(was))
			}
		}
		swap = append(swap, m.is.ID, m.was.ID)
	}
	slices.Sort(made)
	if len(swap) == 0 {
		return made, nil
	}
	told := strings.NewReplacer(swap...)
	for id, w := range now {
		text, err := json.Marshal(w)
		if err != nil {
			return nil, err
		}
		by := w.ChangedBy
		w = run.Was{}
		if err := json.Unmarshal([]byte(told.Replace(string(text))), &w); err != nil {
			return nil, err
		}
		w.ChangedBy = by
		now[id] = w
	}
	return made, nil
}

// shortestTold is how long a text has to be to be told apart from others.
const shortestTold = 6
