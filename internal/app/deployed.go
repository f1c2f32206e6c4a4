package app

import (
	"context"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// deployed is what a what-if compares with: what is recorded of a stack, the
// revision that was deployed, and how long things took. It is only read.
type deployed struct {
	recorded, old []*stack.Recorded
	kept          []*stack.Recorded
	revision      *store.Revision // never nil
	results       map[string]tosca.Value
	base          *stack.Wanted // the revision, resolved; nil where there is none
	past          map[string]map[run.Action][]float64
	of            deployedKey
	live          map[string]*stack.Live // what the cloud showed last; nil where it was not asked lately
	asked         time.Time
}

// deployedKey tells one state of a stack from all others, as long as no run is
// under way.
type deployedKey struct {
	id, updated int64
	revision    int
	state       store.State
}

func keyOf(st *store.Stack) deployedKey {
	return deployedKey{st.ID, st.Updated.UnixNano(), st.Revision, st.State}
}

// fresh is how long what the cloud showed counts while a template is written.
const fresh = 2 * time.Minute

// deployed reads what a stack is compared with; st is nil where there is none
// yet. What was read last is used again while the stack stays as it is, unless
// all has to be read anew.
func (a *App) deployed(ctx context.Context, st *store.Stack, anew bool) (*deployed, error) {
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
	is := &deployed{revision: &store.Revision{}}
	var err error
	if is.past, err = a.Store.Timings(ctx); err != nil || st == nil {
		return is, err
	}
	is.of = keyOf(st)
	if is.recorded, is.old, err = a.Store.Recorded(ctx, st.ID); err != nil {
		return nil, err
	}
	if is.kept, err = a.Store.Kept(ctx, st.ID); err != nil {
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
			if is.revision, err = a.Store.Revision(ctx, st.ID, st.Revision); err != nil {
				return nil, err
			}
			is.base, _ = resolveRevision(is.revision)
		}
	}
	a.lastDeployed = is
	return is, nil
}

// remember keeps what the cloud showed of a stack for the what-ifs that do not
// ask it.
func (a *App) remember(st *store.Stack, live map[string]*stack.Live) {
	a.deployedMu.Lock()
	defer a.deployedMu.Unlock()
	if is := a.lastDeployed; is != nil && is.of == keyOf(st) {
		with := *is
		with.live, with.asked = live, time.Now()
		a.lastDeployed = &with
	}
}

func running(s store.State) bool {
	return s == store.Deploying || s == store.Undoing || s == store.Removing
}
