package app

import (
	"context"
	"fmt"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/whatif"
)

// Revision is a revision of a stack, as one chooses among them.
type Revision struct {
	store.Deployed
	Current bool
}

// Revisions lists the revisions of a stack, newest first.
func (a *App) Revisions(ctx context.Context, st *stack.Stack) ([]Revision, error) {
	list, err := a.store.Deployments(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	out := make([]Revision, len(list))
	for i, d := range list {
		out[i] = Revision{d, d.Number == st.Revision}
	}
	return out, nil
}

// Stood reports whether the stack was ever as the revision says: a run that led to it was
// done.
func (r *Revision) Stood() bool { return r.Run == nil || r.Run.State == run.StatusDone }

// Words say what became of the revision: "1 new, 2 edit, 12 s".
func (r *Revision) Words() string {
	if r.Run == nil {
		return ""
	}
	words := r.Run.Tally.String()
	switch {
	case r.Run.State == run.StatusDone:
		words += ", " + whatif.Length(r.Run.Ended.Sub(r.Run.Started).Seconds())
	default:
		words = fmt.Sprintf("%s: %s", r.Run.State, words)
	}
	return words
}

// Former is the revision that a stack goes back to where nobody says which; 0 is none.
func (a *App) Former(ctx context.Context, st *stack.Stack) (int, error) {
	if st.State == stack.Partial && a.partOf(ctx, st) == nil {
		return st.Revision, nil // what it is not wholly at
	}
	return a.store.FormerRevision(ctx, st)
}
