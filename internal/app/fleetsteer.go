package app

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/fleet"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/store"
)

// ApprovePlace agrees to what a rollout does in a careful place. Where the stack file or the target say who may, or
// that it has to be a second person, it has to be one of them.
func (a *App) ApprovePlace(ctx context.Context, name, target string) (*PlaceOf, error) {
	r, places, _, err := a.LastRollout(ctx, name)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(places, func(p PlaceOf) bool { return p.Target.String() == target })
	if i < 0 {
		return nil, refusal("%s is no place of the fleet %s", target, name)
	}
	p := &places[i]
	switch {
	case !p.Careful:
		return nil, refusal("%s is not careful: nobody has to agree to it", target)
	case p.State != fleet.Waiting && p.State != fleet.Asks:
		return nil, refusal("%s is %s: there is nothing to agree to", target, p.State)
	}
	s, _, err := a.openPlace(ctx, r, p)
	if err != nil {
		return nil, err
	}
	me, err := a.Me()
	if err != nil {
		return nil, err
	}
	allowed, err := a.approvers(s.Target, s.Approvers)
	if err != nil {
		return nil, err
	}
	in, err := a.settings()
	if err != nil {
		return nil, err
	}
	ap := Approval{By: identity.User(), Key: me.Public().Key, At: time.Now().UTC()}
	second := len(allowed) > 0 || len(s.Approvers) > 0 || slices.Contains(in.Approval, target)
	if err := a.mayApprove(s, ap, allowed); err != nil && (second || ap.Key != s.Key) {
		return nil, err
	}
	if slices.ContainsFunc(s.Approvals, func(have Approval) bool { return have.Key == ap.Key }) {
		return nil, refusal("%s has agreed to it already", ap.By)
	}
	ap.Signature = me.Sign(s.agreed(ap))
	done, err := a.store.SetApprovals(ctx, p, r.ID, append(s.Approvals, ap))
	if err == nil && !done { // somebody else has agreed at the same time
		return a.ApprovePlace(ctx, name, target)
	}
	return p, err
}

// PauseFleet lets no more places begin, until ResumeFleet.
func (a *App) PauseFleet(ctx context.Context, name string) error { return a.wish(ctx, name, wishPause) }

// CancelFleet lets no more places begin; what is under way comes to its end.
func (a *App) CancelFleet(ctx context.Context, name string) error {
	return a.wish(ctx, name, wishCancel)
}

func (a *App) wish(ctx context.Context, name, wish string) error {
	r, places, holder, err := a.LastRollout(ctx, name)
	if err != nil {
		return err
	}
	if r.State.Ended() {
		return refusal("the rollout %d of %s has ended: it is %s", r.Number, name, r.State)
	}
	if err := a.store.Wish(ctx, r.ID, wish); err != nil {
		return err
	}
	if wish != wishCancel || holder != "" {
		return nil
	}
	if r.Queue != "" { // where there are workers, they see to it; also to what one has left
		_, hands, err := a.hands(ctx, r.Queue)
		if err != nil || hands > 0 || slices.ContainsFunc(places, func(p PlaceOf) bool { return p.State.Under() && p.RunID != "" }) {
			return err
		}
	}
	// Nobody carries it on: it ends here, where nothing is under way.
	token := uuid.NewString()
	if err := a.store.LockRollout(ctx, r.ID, token); err != nil {
		return err
	}
	_, err = a.CarryFleet(ctx, r.ID, token, nil)
	return err
}

// ResumeFleet takes a pause back, lets the next wave begin where the fleet asks, and takes a rollout up again that
// nobody carries on. It is nil where somebody does already.
func (a *App) ResumeFleet(ctx context.Context, name string) (*Rollout, error) {
	r, places, holder, err := a.LastRollout(ctx, name)
	if err != nil {
		return nil, err
	}
	if r.State.Ended() {
		return nil, refusal("the rollout %d of %s has ended: it is %s; 'retry' tries again what has failed", r.Number, name, r.State)
	}
	if err := a.store.Wish(ctx, r.ID, ""); err != nil {
		return nil, err
	}
	if r.State == fleet.Between {
		over := 0
		for _, p := range places {
			if p.State.Over() {
				over = max(over, p.Wave)
			}
		}
		if err := a.store.AgreeToWave(ctx, r.ID, over); err != nil {
			return nil, err
		}
	}
	if holder != "" {
		return nil, nil
	}
	if r.Queue != "" {
		r.Ask = uuid.NewString()
		return nil, a.enqueueFleet(ctx, r)
	}
	r.Token = uuid.NewString()
	return r, a.store.LockRollout(ctx, r.ID, r.Token)
}

// RetryFleet begins again, in the same rollout, with the places that have failed, and with those that were not begun.
// With a queue it is carried on by workers.
func (a *App) RetryFleet(ctx context.Context, name string, q *Queueing) (*Rollout, error) {
	r, places, _, err := a.LastRollout(ctx, name)
	if err != nil {
		return nil, err
	}
	if !r.State.Ended() {
		return nil, refusal("the rollout %d of %s has not come to its end: it is %s", r.Number, name, r.State)
	}
	var changes []store.PlaceChange
	for _, p := range places {
		switch p.State {
		case fleet.Failed:
			changes = append(changes, store.PlaceChange{Position: p.Position, State: fleet.Waiting, Again: true})
		case fleet.Waiting, fleet.Asks, fleet.Begun:
			changes = append(changes, store.PlaceChange{Position: p.Position, State: fleet.Waiting})
		}
	}
	if len(changes) == 0 {
		return nil, refusal("nothing of the fleet %s has failed, and nothing was left out", name)
	}
	r.Token = uuid.NewString()
	if err := a.store.LockRollout(ctx, r.ID, r.Token); err != nil {
		return nil, err
	}
	r.State, r.Queue = fleet.Deploying, ""
	if r.Kind == run.KindDelete {
		r.State = fleet.Removing
	}
	if q != nil {
		r.Queue, r.Priority, r.Ask = q.Queue, max(q.Priority, 1), uuid.NewString()
	}
	if err := a.store.ReopenRollout(ctx, r, changes); err != nil {
		return nil, errors.Join(err, a.store.UnlockRollout(ctx, r.ID, r.Token))
	}
	return r, a.handOn(ctx, r)
}
