package app

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/queue"
	"brickrow/internal/store"
)

// fleet carries a rollout on, for a worker.
func (w *work) fleet(ctx context.Context, id string) error {
	r, err := w.store.Rollout(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil || r.State.Ended() || r.Queue == "" {
		return err
	}
	if err := w.store.GenuineRollout(ctx, id); errors.Is(err, store.ErrNotSigned) {
		w.sayOnce(err.Error(), time.Hour)
		return queue.NotNow{After: time.Minute}
	}
	token := uuid.NewString()
	err = w.store.LockRollout(ctx, id, token)
	var locked *store.LockedError
	if errors.As(err, &locked) {
		return queue.NotNow{After: 3 * time.Second}
	}
	if err != nil {
		return err
	}
	w.say("fleet %s, rollout %d: sees to its waves", r.Fleet, r.Number)
	carry, stop := context.WithCancel(ctx)
	defer stop()
	defer context.AfterFunc(w.soft, stop)() // somebody else lets places begin then
	ended, err := w.CarryFleet(carry, id, token, nil)
	switch {
	case err == nil:
		w.say("fleet %s, rollout %d: %s", r.Fleet, r.Number, ended.State)
	case w.soft.Err() != nil && ctx.Err() == nil:
		w.say("fleet %s, rollout %d: leaves its waves to others", r.Fleet, r.Number)
		return queue.NotNow{After: time.Second}
	}
	return err
}

// place carries a place out, for a worker.
func (w *work) place(ctx context.Context, j queue.Job) error {
	r, err := w.store.Rollout(ctx, j.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := w.store.GenuineRollout(ctx, j.ID); errors.Is(err, store.ErrNotSigned) {
		w.sayOnce(err.Error(), time.Hour)
		return queue.NotNow{After: time.Minute}
	}
	places, err := w.store.PlaceIn(ctx, j.ID, j.Part)
	if err != nil || len(places) == 0 {
		return err
	}
	p := places[0]
	if !p.State.Under() || p.Alive {
		return nil
	}
	if limits, err := w.store.RunsAtOnce(ctx); err != nil {
		return err
	} else if most := limits[p.Target.String()]; most > 0 {
		under, err := w.store.Under(ctx, p.Target)
		if err != nil {
			return err
		}
		if under >= most {
			return queue.NotNow{After: time.Second}
		}
	}
	w.say("%s in %s: begins", p.Stack, p.Target)
	err = w.placeOf(ctx, r, p, &Queueing{Queue: r.Queue, Priority: r.Priority, here: true})
	if err != nil && ctx.Err() == nil {
		var refused *Refusal
		if errors.As(err, &refused) { // asking again does not help, unless somebody else has begun in the meantime
			if other, err := w.begunElsewhere(ctx, r, &p); err != nil || other {
				return err
			}
			w.refuse(ctx, r.ID, &p, err)
			err = nil
		}
		w.say("%s in %s: could not be begun", p.Stack, p.Target)
		return err
	}
	if err == nil {
		w.say("%s in %s: over", p.Stack, p.Target)
	}
	return err
}

// begunElsewhere reports whether another worker, who was given the same place, has begun with it. NotNow is the error
// where somebody is about to.
func (w *work) begunElsewhere(ctx context.Context, r *Rollout, p *PlaceOf) (bool, error) {
	id, err := w.runIn(ctx, r, p)
	if err != nil {
		return false, err
	}
	if id != "" {
		_, err := w.store.SetPlaceRun(ctx, r.ID, p.Position, p.Attempt, id)
		return true, err
	}
	st, err := w.store.At(ctx, p.Stack, p.Target)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	holder, err := w.store.LockHolder(ctx, st.ID)
	if err == nil && holder != "" && time.Since(p.Begun) < store.Lease {
		err = queue.NotNow{After: time.Second}
	}
	return false, err
}

// sweepFleets puts rollouts into the queue that nobody carries on.
func (w *work) sweepFleets(ctx context.Context) error {
	list, err := w.store.OpenRollouts(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		holder, lost, err := w.store.RolloutHolder(ctx, r.ID)
		if err != nil {
			return err
		}
		switch {
		case holder != "":
			continue
		case lost != "":
			r.Ask = "behind " + lost
		default: // it was given back: its job comes again by itself, or else soon
			r.Ask += time.Now().UTC().Format(" 2006-01-02 15:04")
		}
		if err := w.enqueueFleet(ctx, r); err != nil {
			return err
		}
	}
	return nil
}
