package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
)

// Way is where a run goes that is taken up again.
type Way string

// The ways of a run: on to its end, or back to what was.
const (
	On   Way = "on"
	Back Way = "back"
)

// Resume prepares the last run of a stack to go on after its process ended,
// after it got stuck, or after it was held. What failed is tried again then: all of it, or
// where resources are named, theirs alone.
func (a *App) Resume(ctx context.Context, st *stack.Stack, way Way, retry ...string) (*Ticket, error) {
	return a.ResumeIn(ctx, st, way, nil, retry...)
}

// ResumeIn is Resume for a worker of a queue; nil is that it goes on here.
func (a *App) ResumeIn(ctx context.Context, st *stack.Stack, way Way, q *Queueing, retry ...string) (*Ticket, error) {
	r, err := a.store.RunNumber(ctx, st.ID, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refusal("%s has had no run yet", st.Name)
	}
	if err != nil {
		return nil, err
	}
	if !r.State.Open() {
		return nil, refusal("the last run of %s has ended: %s; there is nothing to go on with", st.Name, r.State)
	}
	if way == Back && r.Kind == run.KindDelete {
		return nil, refusal("a deletion cannot be undone; run 'brickrow resume %s' to go on with it", st.Name)
	}
	t := &Ticket{Run: r, Token: uuid.NewString()}
	if err := a.lock(ctx, st, t.Token); err != nil {
		return nil, err
	}
	now, err := a.store.Run(ctx, r.ID)
	if err == nil && now.State != r.State {
		err = refusal("the last run of %s has moved on meanwhile: it is %s now; look at it again", st.Name, now.State)
	}
	back := false
	if err == nil {
		back, err = a.goesBack(ctx, r, way)
	}
	if err != nil {
		return nil, errors.Join(err, a.store.Unlock(ctx, st.ID, t.Token))
	}
	again, err := a.toRetry(ctx, r, back, retry)
	if err != nil {
		return nil, errors.Join(err, a.store.Unlock(ctx, st.ID, t.Token))
	}
	if (r.State == run.StatusHeld || r.State == run.StatusStuck) && !back { // it is decided anew
		r.Reason, r.Cancel = "", false
	}
	r.State, r.Token = run.StatusWorking, t.Token
	if back {
		r.State, r.Back = run.StatusUndoing, true
	}
	r.Queue, r.Ask, r.Receipt = "", "", nil
	q.put(r)
	if err := a.store.ContinueRun(ctx, r, again); err != nil {
		return nil, errors.Join(err, a.store.Unlock(ctx, st.ID, t.Token))
	}
	return t, nil
}

// toRetry lists the steps of a run that failed and are tried again: those of some
// resources, or all. Of a run that was interrupted, or paused, it is none that nobody has
// named.
func (a *App) toRetry(ctx context.Context, r *run.Record, back bool, only []string) ([]string, error) {
	if r.State != run.StatusHeld && r.State != run.StatusStuck && len(only) == 0 {
		return nil, nil
	}
	entries, err := a.store.Journal(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	var steps, failed []string
	found := map[string]bool{}
	for _, e := range entries {
		if e.State != run.Failed || back != (e.Step.Phase == run.PhaseUndo) {
			continue
		}
		failed = append(failed, e.Step.Resource)
		if len(only) == 0 || slices.Contains(only, e.Step.Resource) {
			steps = append(steps, e.Step.ID)
			found[e.Step.Resource] = true
		}
	}
	slices.Sort(failed)
	for _, name := range only {
		if !found[name] && len(failed) == 0 {
			return nil, refusal("%s has not failed in run %d, and nothing else has", name, r.Number)
		} else if !found[name] {
			return nil, refusal("%s has not failed in run %d; what has failed: %s", name, r.Number, strings.Join(failed, ", "))
		}
	}
	return steps, nil
}

// goesBack decides whether a run that is taken up again goes on forwards or
// is undone.
func (a *App) goesBack(ctx context.Context, r *run.Record, way Way) (bool, error) {
	swept, err := a.swept(ctx, r)
	if err != nil {
		return false, err
	}
	if way == Back && swept {
		return false, refusal("the run has gone too far to be undone: it has begun to remove things, or made an " +
			"edit that cannot be put back; resume it")
	}
	return way == Back || r.Back, nil
}

// Tail reads the events of a run as they come, until the run has ended or the
// context ends. It also ends, with an error, when nobody carries the run out.
func (a *App) Tail(ctx context.Context, runID string, each func(run.Event)) (*run.Record, error) {
	after := int64(0)
	listening, deaf := context.WithCancel(ctx)
	defer deaf()
	heard, every := a.store.Listen(listening), 100*time.Millisecond
	if heard != nil { // it says when there is something
		every = time.Second
	}
	carried := time.Now()
	for {
		r, err := a.store.Head(ctx, runID)
		if err != nil {
			return nil, err
		}
		events, err := a.store.Events(ctx, runID, after)
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
		holder, err := a.store.LockHolder(ctx, r.StackID)
		if err != nil {
			return nil, err
		}
		if holder != "" || r.State == run.StatusQueued {
			carried = time.Now()
		} else if time.Since(carried) > 2*time.Second {
			return r, a.orphaned(ctx, r)
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-heard:
		case <-time.After(every):
		}
	}
}

// orphaned says of a run that nobody carries out what can be done about it.
func (a *App) orphaned(ctx context.Context, r *run.Record) error {
	st, err := a.StackOf(ctx, r)
	if err != nil {
		return err
	}
	ways, err := a.WaysOut(ctx, st)
	if err != nil {
		return err
	}
	return refusal("no process carries this run out any more: %s", ways)
}

// RevisionWanted resolves a stored revision of a stack again.
func (a *App) RevisionWanted(ctx context.Context, stackID int64, number int) (*stack.Wanted, error) {
	rev, err := a.store.Revision(ctx, stackID, number)
	if err != nil {
		return nil, err
	}
	w, _ := a.resolveRevision(rev)
	return w, nil
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
		return fmt.Sprintf("run 'brickrow resume %s' to go on; it has gone too far to be undone", w.Stack)
	}
	return ""
}

// WaysOut says what can be done about the last run of a stack: nothing where it
// has come to its end, or is under way.
func (a *App) WaysOut(ctx context.Context, st *stack.Stack) (Ways, error) {
	r, err := a.store.LastHead(ctx, st.ID)
	if errors.Is(err, store.ErrNotFound) {
		return Ways{Stack: st.Name}, nil
	}
	if err != nil {
		return Ways{}, err
	}
	holder, err := a.store.LockHolder(ctx, st.ID)
	if err != nil || !waits(r.State, holder) {
		return Ways{Stack: st.Name}, err
	}
	return a.ways(ctx, st, r)
}

// ways says what can be done about a run that nobody carries out.
func (a *App) ways(ctx context.Context, st *stack.Stack, r *run.Record) (Ways, error) {
	w := Ways{Stack: st.Name, Resume: r.State.Open(), Deploy: r.State == run.StatusHeld}
	if w.Undo = w.Resume && r.Kind != run.KindDelete; w.Undo {
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
func (a *App) swept(ctx context.Context, r *run.Record) (bool, error) {
	entries, err := a.store.Journal(ctx, r.ID)
	return slices.ContainsFunc(entries, func(e run.Entry) bool {
		return e.Step.Final() && (e.Step.Phase == run.PhaseSweep || e.State == run.Done)
	}), err
}
