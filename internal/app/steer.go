package app

import (
	"context"
	"slices"

	"brickrow/internal/programs"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// Cancel asks a run to stop, and says what becomes of it, which depends on how far it has come. Programs that are under way are
// called off, all else that is comes to its end; then what was done is undone, or held.
func (a *App) Cancel(ctx context.Context, r *run.Record, then stack.OnFailure) (words string, err error) {
	if r.State == run.StatusQueued {
		return "was " + run.NeverBegun, a.takeBack(ctx, r)
	}
	if err := a.underWay(ctx, r); err != nil {
		return "", err
	}
	if r.Back || r.State == run.StatusUndoing {
		return "", refusal("run %d is being undone: that is not stopped; pause holds it up", r.Number)
	}
	if words, err = a.CancelWords(ctx, r, then); err != nil {
		return "", err
	}
	return words, a.store.RequestCancel(ctx, r.ID, then)
}

// CancelWords say what becomes of a run that is asked to stop now.
func (a *App) CancelWords(ctx context.Context, r *run.Record, then stack.OnFailure) (string, error) {
	swept, err := a.swept(ctx, r)
	ends := "what is under way comes to its end"
	if slices.ContainsFunc(r.Plan.Steps, func(s run.Step) bool { return s.Type == programs.Type }) {
		ends += ", programs of own types are told to end"
	}
	switch {
	case err != nil:
		return "", err
	case r.Kind == run.KindDelete:
		return "was asked to stop: what is under way comes to its end, nothing more is removed; resume goes on with it", nil
	case swept:
		return "was asked to stop, and has gone too far to be undone: what is under way comes to its end, nothing more begins; resume goes on with it", nil
	case then == stack.Hold:
		return "was asked to stop: " + ends + "; what it has done stays", nil
	}
	return "was asked to stop: " + ends + ", then what it has done is undone, where it has not gone too far by then", nil
}

// Pause asks a run to begin nothing more. When what is under way has come to its end the
// process of the run ends, and Resume goes on with it.
func (a *App) Pause(ctx context.Context, r *run.Record) error {
	if r.State == run.StatusPaused {
		return refusal("run %d is paused already; resume goes on with it", r.Number)
	}
	if r.State == run.StatusQueued {
		return refusal("run %d has not begun: it waits for a worker; cancel withdraws it", r.Number)
	}
	if err := a.underWay(ctx, r); err != nil {
		return err
	}
	return a.store.RequestPause(ctx, r.ID, true)
}

// Unpause takes a pause back that has not come yet: something is still under way. It
// reports whether there was one.
func (a *App) Unpause(ctx context.Context, r *run.Record) (bool, error) {
	if !r.Pause || r.State.Ended() {
		return false, nil
	}
	holder, err := a.store.LockHolder(ctx, r.StackID)
	if err != nil || holder == "" {
		return false, err
	}
	return true, a.store.RequestPause(ctx, r.ID, false)
}

// ChooseOnFailure says what becomes of what a run has done, should it fail: it is undone
// or held. It may be chosen until it has failed.
func (a *App) ChooseOnFailure(ctx context.Context, r *run.Record, then stack.OnFailure) error {
	switch {
	case r.Kind == run.KindDelete:
		return refusal("a deletion goes on forwards only: there is nothing to choose")
	case r.State != run.StatusWorking && r.State != run.StatusQueued && r.State != run.StatusPaused || r.Back:
		return refusal("run %d is %s: it is too late to choose", r.Number, r.State)
	}
	return a.store.SetOnFailure(ctx, r.ID, then)
}

// underWay refuses what can only be asked of a run that somebody carries out.
func (a *App) underWay(ctx context.Context, r *run.Record) error {
	if r.State.Ended() {
		return refusal("run %d is not under way: it is %s", r.Number, r.State)
	}
	holder, err := a.store.LockHolder(ctx, r.StackID)
	if err == nil && holder == "" {
		return refusal("nobody carries run %d out any more: its process has ended; resume goes on with it, or undo undoes it",
			r.Number)
	}
	return err
}
