package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Ticket is a run that is prepared and locked, and not yet carried out.
type Ticket struct {
	Run   *store.Run
	Token string // of the lock
}

// Rehearse says what would happen if carrying a preview out failed at a
// resource. No call is made.
func (a *App) Rehearse(p *Preview, resource string) (*run.Rehearsal, error) {
	r, err := run.Rehearse(a.plan(p), resource, 0)
	if err != nil {
		return nil, &Refusal{Message: err.Error()}
	}
	return r, nil
}

// plan lists the steps of a preview, each with how long it is likely to take.
func (a *App) plan(p *Preview) run.Plan {
	plan := run.NewPlan(p.ChangeSet, p.Old, a.Takes)
	for i := range plan.Steps {
		s := &plan.Steps[i]
		s.Nominal = s.Seconds
		if past := p.past[s.Type][s.Action]; len(past) > 0 {
			s.Seconds *= whatif.Quantile(past, 0.5)
		}
	}
	return plan
}

// ErrNothingToDo says that a preview has no changes.
var ErrNothingToDo = errors.New("nothing to do: what is deployed is what is wanted")

// Prepare takes the lock, writes the new revision and the plan of a preview.
// It refuses when the stack has moved on since the preview was made.
func (a *App) Prepare(ctx context.Context, p *Preview, onFailure string) (*Ticket, error) {
	if p.Findings.HasErrors() {
		return nil, &Refusal{Findings: p.Findings}
	}
	if p.Kind == "compare" {
		return nil, refusal("a comparison cannot be deployed")
	}
	if needed, err := a.approvalNeeded(p); err != nil {
		return nil, err
	} else if needed && !p.Approved {
		how := map[string]string{"deploy": "whatif --save FILE", "undo": "undo " + p.ChangeSet.Stack + " --save FILE", "delete": "delete " + p.ChangeSet.Stack + " --save FILE"}[p.Kind]
		return nil, refusal("what is done to %s in %s needs the agreement of a second person: save it with %s, let somebody approve FILE, then deploy FILE", p.ChangeSet.Stack, p.Target, how)
	}
	if p.Empty() && len(p.Old) == 0 && !(p.Kind == "delete" && p.Stack != nil && p.Stack.State != store.Removed) {
		return nil, ErrNothingToDo
	}
	st := p.Stack
	if st == nil {
		var err error
		if st, err = a.Store.Ensure(ctx, p.ChangeSet.Stack, p.Target); err != nil {
			return nil, err
		}
	}
	t := &Ticket{Token: uuid.NewString()}
	if err := a.lock(ctx, st, t.Token); err != nil {
		return nil, err
	}
	if err := a.prepare(ctx, p, st, t, onFailure); err != nil {
		return nil, errors.Join(err, a.Store.Unlock(ctx, st.ID, t.Token))
	}
	return t, nil
}

// by is whose run it is.
func by(p *Preview) string {
	if p.By != "" {
		return p.By + ", carried out by " + store.Who()
	}
	return store.Who()
}

func (a *App) lock(ctx context.Context, st *store.Stack, token string) error {
	_, err := a.Store.Lock(ctx, st.ID, token)
	var locked *store.LockedError
	if errors.As(err, &locked) {
		return refusal("%s: %v", st.Name, locked)
	}
	return err
}

func (a *App) prepare(ctx context.Context, p *Preview, st *store.Stack, t *Ticket, onFailure string) error {
	now, err := a.Store.At(ctx, st.Name, st.Target)
	if err != nil {
		return err
	}
	if last, err := a.Store.RunNumber(ctx, st.ID, 0); err == nil {
		if err := a.settled(ctx, st, last); err != nil {
			return err
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if now.Revision != p.BaseRevision || now.Updated != st.Updated {
		return refusal("%s has moved on since the what-if was made (it was at revision %d, it is at %d now); look at it again", st.Name, p.BaseRevision, now.Revision)
	}
	r := &store.Run{ID: uuid.NewString(), StackID: st.ID, Kind: p.Kind, State: store.RunWorking, Base: now.Revision, Prior: now.State, OnFailure: onFailure,
		Plan: a.plan(p), Tally: p.Tally, Estimate: p.Estimate.Seconds, By: by(p)}
	secrets := &tosca.Secrets{}
	for _, ch := range p.Changes {
		if ch.Recorded != nil {
			secrets.Add(tosca.Map(ch.Recorded.Properties), tosca.Map(ch.Recorded.Attributes))
		}
	}
	if r.Plan.Baseline, err = a.baseline(ctx, st, secrets); err != nil {
		return err
	}
	begin := store.Begin{State: store.Deploying, Revision: p.Revision}
	if p.Kind == "delete" {
		begin.State, begin.Revision = store.Removing, nil
	} else {
		if p.Draft != nil {
			path, err := filepath.Abs(p.Draft.Path)
			if err != nil {
				return err
			}
			description := p.Draft.File.Description
			if d := p.Draft.File.Service.Description; d != "" {
				description = d
			}
			begin.About = &store.About{Description: description, File: path, Careful: p.Draft.Stack.Careful, Throwaway: p.Draft.Stack.Throwaway, Approvers: p.Draft.Stack.Approvers}
		}
	}
	r.Token, t.Run = t.Token, r
	return a.Store.StartRun(ctx, r, begin)
}

// settled refuses a new run where the last one has not come to its end, or has
// left something behind that only it knows of.
func (a *App) settled(ctx context.Context, st *store.Stack, last *store.Run) error {
	if !last.State.Ended() {
		ways, err := a.WaysOut(ctx, st)
		if err != nil {
			return err
		}
		return refusal("the last run of %s was interrupted: %s", st.Name, ways)
	}
	if last.State != store.RunHeld {
		return nil
	}
	entries, err := a.Store.Journal(ctx, last.ID)
	if err != nil {
		return err
	}
	for _, s := range run.PlanUndo(last.Plan, entries, true) {
		cleared := slices.ContainsFunc(entries, func(e run.Entry) bool { return e.Step.ID == s.ID && e.State == run.Done })
		if s.Action == run.Delete && s.CloudID != "" && !cleared {
			return refusal("the held run of %s could not clear away what a failed creation left: %s (%s); run 'brickrow resume %s' or 'brickrow undo %s' first", st.Name, s.Resource, s.CloudID, st.Name, st.Name)
		}
	}
	return nil
}

// Ways are what can be done about a run that has not come to its end.
type Ways struct {
	Stack  string
	Resume bool
	Undo   bool
	// Deploy says that another deployment may go over it.
	Deploy bool
}

// String is what to do, in words.
func (w Ways) String() string {
	switch {
	case w.Undo && w.Resume:
		return fmt.Sprintf("run 'brickrow resume %s' to go on, or 'brickrow undo %s'", w.Stack, w.Stack)
	case w.Resume:
		return fmt.Sprintf("run 'brickrow resume %s' to go on; it has come too far to be undone", w.Stack)
	}
	return ""
}

// WaysOut says what can be done about the last run of a stack: nothing where it
// has come to its end, or is under way.
func (a *App) WaysOut(ctx context.Context, st *store.Stack) (Ways, error) {
	w := Ways{Stack: st.Name}
	open, err := a.Interrupted(ctx, st)
	if err != nil || !open {
		return w, err
	}
	r, err := a.Store.RunNumber(ctx, st.ID, 0)
	if errors.Is(err, store.ErrNotFound) {
		return w, nil
	}
	if err != nil {
		return w, err
	}
	w.Resume, w.Deploy = r.State != store.RunDone && r.State != store.RunUndone, r.State == store.RunHeld
	if w.Undo = w.Resume && r.Kind != "delete"; w.Undo {
		swept, err := a.swept(ctx, r)
		if err != nil {
			return w, err
		}
		w.Undo = !swept
	}
	return w, nil
}

// swept reports whether a run has done what undoing cannot bring back: it has
// begun to remove things, or made an edit for good.
func (a *App) swept(ctx context.Context, r *store.Run) (bool, error) {
	entries, err := a.Store.Journal(ctx, r.ID)
	return slices.ContainsFunc(entries, func(e run.Entry) bool {
		return e.Step.Half == run.Sweep || e.Step.Half == run.OneWay && e.State == run.Done
	}), err
}

// baseline lists each resource of a stack as the cloud shows it, without the
// secrets.
func (a *App) baseline(ctx context.Context, st *store.Stack, secrets *tosca.Secrets) (map[string]run.Was, error) {
	list, err := a.Cloud.List(ctx, st.Target, st.Name)
	if err != nil {
		return nil, err
	}
	out := make(map[string]run.Was, len(list))
	for _, r := range list {
		w := run.Was{Name: r.Tags["node"], Type: r.Type, Properties: secrets.HideIn(r.Properties), Links: r.Links, Attributes: secrets.HideIn(r.Attributes), Tags: map[string]string{}}
		for _, name := range r.SecretAttributes {
			w.Attributes[name] = tosca.SecretText
		}
		for k, v := range r.Tags {
			w.Tags[k] = secrets.Hide(v)
		}
		out[r.ID] = w
	}
	return out, nil
}

// Spawn carries a prepared run out in a process of its own, which outlives
// this one.
func (a *App) Spawn(t *Ticket) error {
	exe, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find this program: %w", err)
	}
	dir := filepath.Join(a.Home, "logs")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(dir, "run-"+t.Run.ID+".log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	handover, err := a.handOver(t)
	if err != nil {
		return err
	}
	defer handover.Close()
	cmd := exec.Command(exe, "carry-out", t.Run.ID, "--home", a.Home)
	cmd.Stdin, cmd.Env = handover, append(plainEnvironment(), fmt.Sprintf("BRICKROW_YARD_SPEED=%g", a.Speed))
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the run: %w", err)
	}
	go func() { _ = cmd.Wait() }() // so that it leaves no dead entry behind while we live
	return nil
}

// Handover is what the process that carries a run out is told on its standard
// input: nobody can look it up there, as they could in its environment.
type Handover struct {
	Lock   string            `json:"lock"`   // token of the lock
	Tokens map[string]string `json:"tokens"` // of the cloud, by account
}

// ReadHandover reads what Spawn hands over.
func ReadHandover(r io.Reader) (Handover, error) {
	var h Handover
	if err := json.NewDecoder(io.LimitReader(r, 1<<20)).Decode(&h); err != nil {
		return h, fmt.Errorf("this command is started by Brick Row itself, which tells it what it needs: %w", err)
	}
	return h, nil
}

// handOver is a pipe with all of it in already, so that this process may end.
func (a *App) handOver(t *Ticket) (*os.File, error) {
	text, err := json.Marshal(Handover{t.Token, environmentTokens()})
	if err != nil {
		return nil, err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	if _, err = w.Write(text); err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

// plainEnvironment is the part of the environment that a program needs to find
// its way. What inputs are read from is not in it: a run has its values already.
func plainEnvironment() []string {
	names := []string{"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "LANGUAGE", "TZ", "TMPDIR", "BRICKROW_HOME", "BRICKROW_CLOUD",
		"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "SSL_CERT_FILE", "SSL_CERT_DIR"}
	var out []string
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		if slices.Contains(names, strings.ToUpper(name)) || strings.HasPrefix(name, "XDG_") || strings.HasPrefix(name, "LC_") {
			out = append(out, v)
		}
	}
	return out
}

// journal writes for one run.
type journal struct {
	*store.Store
	run *store.Run
	die func() error
}

func (j journal) Note(ctx context.Context, e *run.Entry, ev *run.Event, ch run.RecordChange) error {
	if j.die != nil {
		if err := j.die(); err != nil {
			return err
		}
	}
	err := j.Store.Note(ctx, j.run, e, ev, ch)
	if err == nil && j.die != nil {
		err = j.die()
	}
	return err
}

func (j journal) Cancelled(ctx context.Context) (bool, error) {
	return j.CancelRequested(ctx, j.run.ID)
}

// execution is one run being carried out.
type execution struct {
	*App
	ctx    context.Context
	run    *store.Run
	stack  *store.Stack
	driver *run.Driver
	wanted *stack.Wanted
}

// Execute carries a prepared run out to its end: done, undone, held or stuck.
// The error is one of this program; how the run went is in its state.
func (a *App) Execute(ctx context.Context, runID, token string) (r *store.Run, err error) {
	if r, err = a.Store.Run(ctx, runID); err != nil {
		return nil, err
	}
	r.Timed, r.Token = a.Speed <= fastest, token
	st, err := a.StackOf(ctx, r)
	if err != nil {
		return nil, err
	}
	unlocking := context.WithoutCancel(ctx)
	defer func() { err = errors.Join(err, a.Store.Unlock(unlocking, st.ID, token)) }()
	if err := a.lock(ctx, st, token); err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancelCause(ctx)
	beats := make(chan struct{})
	go func() {
		defer close(beats)
		a.keepLock(ctx, st.ID, token, stop)
	}()
	x := &execution{App: a, ctx: ctx, run: r, stack: st}
	err = x.carryOut()
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
			if _, err := a.Store.Lock(ctx, id, token); errors.As(err, &locked) {
				stop(fmt.Errorf("this run has lost its lock: %w", err))
				return
			}
		}
	}
}

// StackOf finds the stack of a run.
func (a *App) StackOf(ctx context.Context, r *store.Run) (*store.Stack, error) {
	all, err := a.Store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	for _, st := range all {
		if st.ID == r.StackID {
			return st, nil
		}
	}
	return nil, fmt.Errorf("the stack of the run: %w", store.ErrNotFound)
}

func (x *execution) carryOut() error {
	if x.run.State.Ended() {
		return nil
	}
	if err := x.prepareDriver(); err != nil {
		return err
	}
	if x.run.State == store.RunUndoing {
		return x.undo()
	}
	x.tell(run.Working, fmt.Sprintf("%s begins: %s", x.run.Kind, x.run.Tally))
	if x.failedBefore() {
		if _, err := x.finishStarted(); err != nil {
			return err
		}
	}
	out, err := x.driver.Run(x.ctx, x.run.Plan.Steps)
	switch {
	case err != nil:
		return err
	case out.Complete && (!out.Cancelled || out.CannotReturn || x.run.Kind == "delete"):
		return x.succeed()
	case x.run.Kind == "delete" || out.CannotReturn:
		x.run.Reason = reason(out, "cancelled when it could not be undone any more")
		x.tell(run.HasFailed, "the run is stuck: "+x.run.Reason)
		return x.set(store.RunStuck, store.Stuck, x.builtRevision())
	}
	x.run.Reason = reason(out, "cancelled")
	if x.run.OnFailure == "hold" && !out.Cancelled {
		return x.hold(out)
	}
	x.run.Back = true
	if err := x.set(store.RunUndoing, store.Undoing, x.stack.Revision); err != nil {
		return err
	}
	return x.undo()
}

// failedBefore reports whether a step of the build had failed when the process
// of the run ended. What was under way then comes to its end, and nothing more
// is begun.
func (x *execution) failedBefore() bool {
	return slices.ContainsFunc(x.run.Plan.Steps, func(s run.Step) bool {
		e := x.driver.Entry(s.ID)
		return e != nil && e.State == run.Failed && (s.Half == run.Build || s.Half == run.OneWay)
	})
}

// builtRevision is the revision of a stack whose build is complete and whose
// sweep is not.
func (x *execution) builtRevision() int {
	if x.run.Kind != "delete" {
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

func (x *execution) prepareDriver() error {
	recorded, old, err := x.Store.Recorded(x.ctx, x.stack.ID)
	if err != nil {
		return err
	}
	kept, err := x.Store.Kept(x.ctx, x.stack.ID)
	if err != nil {
		return err
	}
	entries, err := x.Store.Journal(x.ctx, x.run.ID)
	if err != nil {
		return err
	}
	if x.run.Kind != "delete" {
		rev, err := x.Store.Revision(x.ctx, x.stack.ID, x.run.Revision)
		if err != nil {
			return err
		}
		var findings tosca.Findings
		if x.wanted, findings = resolveRevision(rev); findings.HasErrors() {
			return &Refusal{Findings: findings}
		}
	}
	x.driver = &run.Driver{RunID: x.run.ID, Stack: x.stack.Name, Target: x.stack.Target, Cloud: x.Cloud, Journal: journal{x.Store, x.run, x.die}, Wanted: x.wanted, Library: x.Library}
	x.driver.Begin(recorded, old, kept, entries)
	if base, err := x.Store.Revision(x.ctx, x.stack.ID, x.run.Base); err == nil {
		for _, in := range base.Inputs {
			x.driver.Secrets.Add(in.Value)
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return nil
}

func (x *execution) tell(state run.State, words string) {
	ev := run.Event{Type: "run", State: state, Step: x.driver.Secrets.Hide(words)}
	_ = x.Store.Note(x.ctx, x.run, nil, &ev, run.RecordChange{}) // the state itself is written with the run
}

func (x *execution) set(rs store.RunState, ss store.State, revision int) error {
	if x.die != nil {
		if err := x.die(); err != nil {
			return err
		}
	}
	x.run.State, x.run.Reason = rs, x.driver.Secrets.Hide(x.run.Reason)
	return x.Store.SetRun(x.ctx, x.run, ss, revision)
}

func (x *execution) succeed() error {
	if x.run.Kind == "delete" {
		return x.receipt()
	}
	current, _, err := x.Store.Recorded(x.ctx, x.stack.ID)
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
	var results []store.Result
	for _, o := range x.wanted.Outputs {
		results = append(results, store.Result{Name: o.Name, Description: o.Description, Value: values[o.Name]})
	}
	if err := x.Store.SetResults(x.ctx, x.run, results); err != nil {
		return err
	}
	if len(findings) > 0 {
		x.tell(run.IsReady, "a result could not be computed: "+findings[0].Message)
	}
	x.tell(run.IsReady, fmt.Sprintf("done, at revision %d", x.run.Revision))
	return x.set(store.RunDone, store.Ready, x.run.Revision)
}

// receipt asks the cloud itself whether anything of the stack is left.
func (x *execution) receipt() error {
	left, err := x.Cloud.List(x.ctx, x.stack.Target, x.stack.Name)
	if err != nil {
		return err
	}
	list, err := x.Store.Kept(x.ctx, x.stack.ID)
	if err != nil {
		return err
	}
	kept := map[string]bool{}
	for _, r := range list {
		kept[r.ID] = true
	}
	var stray, names []string
	for _, r := range left {
		if kept[r.ID] {
			names = append(names, r.Tags["node"]+" ("+r.ID+")")
			continue
		}
		stray = append(stray, r.Tags["node"]+" ("+r.ID+")")
	}
	if err := x.Store.SetResults(x.ctx, x.run, nil); err != nil {
		return err
	}
	switch {
	case len(stray) > 0:
		x.run.Reason = "the cloud still has " + strings.Join(stray, ", ")
		x.tell(run.HasFailed, x.run.Reason)
		return x.set(store.RunStuck, store.Stuck, 0)
	case len(names) > 0:
		x.run.Reason = "nothing is there any more but what is kept: " + strings.Join(names, ", ")
	default:
		x.run.Reason = fmt.Sprintf("the cloud was asked: nothing of %s is left in %s", x.stack.Name, x.stack.Target)
	}
	x.tell(run.Removed, x.run.Reason)
	return x.set(store.RunDone, store.Removed, 0)
}

// hold keeps what is built, and clears away only what failed creations left.
func (x *execution) hold(out run.Outcome) error {
	if steps := run.PlanUndo(x.run.Plan, out.Entries, true); len(steps) > 0 {
		if _, err := x.driver.Run(x.ctx, steps); err != nil {
			return err
		}
	}
	x.tell(run.HasFailed, "held: what is built stays; mend it and deploy again, or resume, or undo")
	return x.set(store.RunHeld, store.Partial, x.stack.Revision)
}

// undo takes back what the run has done, and shows that all is as it was.
func (x *execution) undo() error {
	entries, err := x.finishStarted()
	if err != nil {
		return err
	}
	steps := run.PlanUndo(x.run.Plan, entries, false)
	x.tell(run.Undoing, fmt.Sprintf("undo: %d to take back", len(steps)))
	out := run.Outcome{Complete: true}
	if len(steps) > 0 {
		if out, err = x.driver.Run(x.ctx, steps); err != nil {
			return err
		}
	}
	if !out.Complete {
		x.run.Reason += "; undoing is stuck: " + reason(out, "")
		x.tell(run.HasFailed, "undoing is stuck: "+reason(out, ""))
		return x.set(store.RunStuck, store.Stuck, x.stack.Revision)
	}
	words, err := x.compareBaseline()
	if err != nil {
		return err
	}
	x.tell(run.IsUndone, words)
	state := x.run.Prior
	switch state {
	case store.Deploying, store.Undoing, store.Removing, store.Stuck:
		state = store.Ready
	}
	if x.stack.Revision == 0 && state != store.Removed {
		current, old, err := x.Store.Recorded(x.ctx, x.stack.ID)
		if err != nil {
			return err
		}
		state = store.Empty
		if len(current)+len(old) > 0 { // what an earlier run was held with is there still
			state = store.Partial
		}
	}
	return x.set(store.RunUndone, state, x.stack.Revision)
}

// finishStarted brings the steps that were under way when a process ended to
// their end, so that it is known what they made.
func (x *execution) finishStarted() ([]run.Entry, error) {
	entries, err := x.Store.Journal(x.ctx, x.run.ID)
	if err != nil {
		return nil, err
	}
	var open []run.Step
	for _, e := range entries {
		if e.State == run.Started && e.Step.Half != run.Undo {
			open = append(open, e.Step)
		}
	}
	if len(open) == 0 {
		return entries, nil
	}
	if err := x.driver.Finish(x.ctx, open); err != nil {
		return nil, err
	}
	return x.Store.Journal(x.ctx, x.run.ID)
}

// compareBaseline holds the cloud against what was there before the run.
func (x *execution) compareBaseline() (string, error) {
	now, err := x.baseline(x.ctx, x.stack, x.driver.Secrets)
	if err != nil {
		return "", err
	}
	differs := run.Differences(x.run.Plan.Baseline, now)
	switch {
	case len(differs) > 0:
		return "undone, but not all is as before: " + strings.Join(differs, "; "), nil
	case len(now) == 0:
		return "undone: nothing of the stack is in the cloud, as before", nil
	}
	return fmt.Sprintf("undone: the cloud was asked, all %d resources are as they were", len(now)), nil
}

// Resume prepares the last run of a stack to go on after its process ended,
// after it got stuck, or after it was held.
func (a *App) Resume(ctx context.Context, st *store.Stack, undo bool) (*Ticket, error) {
	r, err := a.Store.RunNumber(ctx, st.ID, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refusal("%s has had no run yet", st.Name)
	}
	if err != nil {
		return nil, err
	}
	if r.State == store.RunDone || r.State == store.RunUndone {
		return nil, refusal("the last run of %s has ended: %s; there is nothing to go on with", st.Name, r.State)
	}
	if undo && r.Kind == "delete" {
		return nil, refusal("a deletion cannot be undone; run 'brickrow resume %s' to go on with it", st.Name)
	}
	t := &Ticket{Run: r, Token: uuid.NewString()}
	if err := a.lock(ctx, st, t.Token); err != nil {
		return nil, err
	}
	now, err := a.Store.Run(ctx, r.ID)
	if err == nil && now.State != r.State {
		err = refusal("the last run of %s has moved on meanwhile: it is %s now; look at it again", st.Name, now.State)
	}
	back := false
	if err == nil {
		back, err = a.goesBack(ctx, r, undo)
	}
	if err != nil {
		return nil, errors.Join(err, a.Store.Unlock(ctx, st.ID, t.Token))
	}
	afresh := r.State.Ended() // held or stuck: otherwise it goes on as if nothing had been
	state := store.Deploying
	r.State, r.Token = store.RunWorking, t.Token
	switch {
	case back:
		r.State, state, afresh, r.Back = store.RunUndoing, store.Undoing, false, true
	case r.Kind == "delete":
		state = store.Removing
	}
	if err := a.Store.ContinueRun(ctx, r, state, afresh); err != nil {
		return nil, errors.Join(err, a.Store.Unlock(ctx, st.ID, t.Token))
	}
	return t, nil
}

// goesBack decides whether a run that is taken up again goes on forwards or
// is undone.
func (a *App) goesBack(ctx context.Context, r *store.Run, undo bool) (bool, error) {
	swept, err := a.swept(ctx, r)
	if err != nil {
		return false, err
	}
	if undo && swept {
		return false, refusal("the run has come too far to be undone: it has begun to remove things, or made an edit that cannot be put back; resume it")
	}
	return undo || r.Back, nil
}

// Interrupted reports whether the last run of a stack has lost its process, or
// waits for a decision.
func (a *App) Interrupted(ctx context.Context, st *store.Stack) (bool, error) {
	switch st.State {
	case store.Stuck, store.Partial:
		return true, nil
	case store.Deploying, store.Undoing, store.Removing:
		holder, err := a.Store.LockHolder(ctx, st.ID)
		return holder == "", err
	}
	return false, nil
}

// Cancel asks the last run of a stack to stop.
func (a *App) Cancel(ctx context.Context, r *store.Run) error {
	if r.State.Ended() {
		return refusal("run %d has ended already", r.Number)
	}
	return a.Store.RequestCancel(ctx, r.ID)
}

// Tail reads the events of a run as they come, until the run has ended or the
// context ends. It also ends, with an error, when nobody carries the run out.
func (a *App) Tail(ctx context.Context, runID string, each func(run.Event)) (*store.Run, error) {
	after := int64(0)
	orphan := 0
	for {
		r, err := a.Store.Run(ctx, runID)
		if err != nil {
			return nil, err
		}
		events, err := a.Store.Events(ctx, runID, after)
		if err != nil {
			return nil, err
		}
		for _, e := range events {
			each(e)
			after = e.Seq
		}
		if r.State.Ended() {
			return r, nil
		}
		holder, err := a.Store.LockHolder(ctx, r.StackID)
		if err != nil {
			return nil, err
		}
		if holder == "" {
			orphan++
		} else {
			orphan = 0
		}
		if orphan > 20 {
			return r, a.orphaned(ctx, r)
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// orphaned says of a run that nobody carries out what can be done about it.
func (a *App) orphaned(ctx context.Context, r *store.Run) error {
	st, err := a.StackOf(ctx, r)
	if err != nil {
		return err
	}
	ways, err := a.WaysOut(ctx, st)
	if err != nil {
		return err
	}
	return refusal("nobody carries this run out any more: %s", ways)
}

// RevisionWanted resolves a stored revision of a stack again.
func (a *App) RevisionWanted(ctx context.Context, stackID int64, number int) (*stack.Wanted, error) {
	rev, err := a.Store.Revision(ctx, stackID, number)
	if err != nil {
		return nil, err
	}
	w, _ := resolveRevision(rev)
	return w, nil
}
