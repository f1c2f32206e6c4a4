package run

import (
	"context"
	"time"

	"brickrow/internal/cloud"
)

// pools lets a resource leave its pools and finish its work, before it goes or restarts; or
// it brings it back, where that is undone. What is not there any more has no work.
type pools struct{}

func (pools) prepare(context.Context, *task) (*ending, error) { return nil, nil }

func (pools) telling(t *task) (State, string) {
	s := t.entry.Step
	switch {
	case s.Action == Refill:
		return Undoing, "bringing it back into its pools"
	case s.Phase == PhaseUndo:
		return Undoing, "letting it finish its work"
	case s.Phase == PhaseSweep:
		return Removing, "letting it finish its work"
	}
	return Working, "letting it finish its work"
}

func (pools) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	d, ok := t.Cloud.(cloud.Draining)
	switch {
	case !ok:
		return cloud.NoWork, nil
	case t.entry.Step.Action == Refill:
		return d.Refill(ctx, t.ref(), t.key())
	}
	return d.Drain(ctx, t.ref(), t.key(), time.Duration(t.entry.Step.Wait*float64(time.Second)))
}

func (p pools) refused(_ context.Context, t *task, err error) (*ending, error) {
	if cloud.IsNotFound(err) {
		return p.ended(t, "it is not there any more"), nil
	}
	return nil, err
}

func (p pools) record(_ context.Context, t *task) (*ending, error) {
	return p.ended(t, "its work is done"), nil
}

func (pools) ended(t *task, words string) *ending {
	s := t.entry.Step
	switch {
	case s.Action == Refill:
		return &ending{state: Done, shown: IsUndone, words: "it is back in its pools"}
	case s.Phase == PhaseUndo:
		return &ending{state: Done, shown: Undoing, words: words}
	case s.Phase == PhaseSweep:
		return &ending{state: Done, shown: Removing, words: words}
	}
	return &ending{state: Done, shown: Working, words: words}
}
