package app

import (
	"context"
	"errors"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// deployed is what a what-if compares with: what is recorded of a stack, the
// revision that was deployed, and how long things took. It is only read.
type deployed struct {
	recorded, old []*stack.Recorded
	kept          []*stack.Recorded
	secrets       *tosca.Secrets  // of all its revisions; nil is none
	revision      *stack.Revision // never nil
	results       map[string]tosca.Value
	base          *stack.Wanted // the revision, resolved; nil where there is none
	past          map[string]map[run.Action][]float64
	margin        whatif.Margin // by how much estimates were off
	learned       int           // how much the target takes at once
	of            deployedKey
	live          map[string]*stack.Live // what the cloud showed last; nil where it was not asked lately
	asked         time.Time
}

// deployedKey tells one state of a stack from all others, as long as no run is
// under way.
type deployedKey struct {
	id, updated int64
	revision    int
	state       stack.State
}

func keyOf(st *stack.Stack) deployedKey {
	return deployedKey{st.ID, st.Updated.UnixNano(), st.Revision, st.State}
}

// fresh is how long what the cloud showed counts while a template is written.
const fresh = 2 * time.Minute

// deployed reads what a stack is compared with; st is nil where there is none
// yet. What was read last is used again while the stack stays as it is, unless
// all has to be read anew.
func (a *App) deployed(ctx context.Context, st *stack.Stack, t stack.Target, anew bool) (*deployed, error) {
	a.deployedMu.Lock()
	defer a.deployedMu.Unlock()
	last := a.lastDeployed
	known := last != nil && st != nil && last.of == keyOf(st)
	if known && !anew && !running(st.State) {
		if last.live != nil && time.Since(last.asked) > fresh {
			with := *last
			with.live = nil
			a.lastDeployed = &with
		}
		return a.lastDeployed, nil
	}
	is := &deployed{revision: &stack.Revision{}}
	var err error
	if is.past, err = a.store.Timings(ctx); err == nil {
		is.margin, err = a.margin(ctx, t, time.Now())
	}
	if err == nil {
		is.learned, err = a.store.AtOnce(ctx, t)
	}
	if err != nil || st == nil {
		return is, err
	}
	is.of = keyOf(st)
	if is.recorded, is.old, err = a.recorded(ctx, st); err != nil {
		return nil, err
	}
	if is.kept, err = a.store.Kept(ctx, st.ID); err != nil {
		return nil, err
	}
	if is.secrets, err = a.secretsOf(ctx, st); err != nil {
		return nil, err
	}
	results, err := a.Results(ctx, st)
	if err != nil {
		return nil, err
	}
	is.results = map[string]tosca.Value{}
	for _, r := range results {
		is.results[r.Name] = r.Value
	}
	if st.Revision > 0 {
		if known { // revisions do not change
			is.revision, is.base = last.revision, last.base
		} else {
			is.revision, err = a.store.Revision(ctx, st.ID, st.Revision)
			if errors.Is(err, store.ErrNoMember) { // its text is not for everybody; all else of it is
				is.revision = &stack.Revision{Number: st.Revision}
				is.revision.Inputs, err = a.store.Inputs(ctx, st.ID, st.Revision)
			} else if err == nil {
				is.base, _ = a.resolveRevision(is.revision)
			}
			if err != nil {
				return nil, err
			}
		}
	}
	a.lastDeployed = is
	return is, nil
}

// records are the resources of a stack as they are recorded. They are only read.
type records struct {
	of           deployedKey
	current, old []*stack.Recorded
}

// recorded reads what is recorded of a stack. What was read last is used again, by
// all who want it, while the stack stays as it is.
func (a *App) recorded(ctx context.Context, st *stack.Stack) (current, old []*stack.Recorded, err error) {
	a.recordsMu.Lock()
	defer a.recordsMu.Unlock()
	if a.records.of == keyOf(st) && !running(st.State) {
		return a.records.current, a.records.old, nil
	}
	r := records{of: keyOf(st)}
	if r.current, r.old, err = a.store.Recorded(ctx, st.ID); err != nil {
		return nil, nil, err
	}
	a.records = r
	return r.current, r.old, nil
}

// remember keeps what the cloud showed of a stack for the what-ifs that do not
// ask it.
func (a *App) remember(st *stack.Stack, live map[string]*stack.Live) {
	a.deployedMu.Lock()
	defer a.deployedMu.Unlock()
	if is := a.lastDeployed; is != nil && is.of == keyOf(st) {
		with := *is
		with.live, with.asked = live, time.Now()
		a.lastDeployed = &with
	}
}

func running(s stack.State) bool {
	return s == stack.Deploying || s == stack.Undoing || s == stack.Removing
}
