package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/bundle"
	"brickrow/internal/fleet"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
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
		return nil, refusal("%s is not a place of the fleet %s", target, name)
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

// FleetWaits says what the last rollout of a fleet waits for that somebody has to do something about; "" is nothing.
func (a *App) FleetWaits(ctx context.Context, name string) (string, error) {
	r, places, _, err := a.LastRollout(ctx, name)
	if err != nil || r.State.Ended() {
		return "", err
	}
	if r.State == fleet.Between && r.Asks {
		return fmt.Sprintf("wave %d is over: 'brickrow fleet resume %s' lets the next one begin", r.EndedWave, name), nil
	}
	for _, p := range places {
		if p.State == fleet.Asks {
			return fmt.Sprintf("%s waits for agreement: 'brickrow fleet approve %s %s' gives it", p.Target, name, p.Target), nil
		}
	}
	if r.Queue == "" {
		return "", nil
	}
	in, _, err := a.hands(ctx, r.Queue)
	if err != nil {
		return "", err
	}
	for _, p := range places {
		if !p.State.Over() && in[p.Target.Account] == 0 {
			return NoWorker(r.Queue, p.Target.Account), nil
		}
	}
	return "", nil
}

// NoWorker says that nobody takes what waits in a queue.
func NoWorker(queue, account string) string {
	return fmt.Sprintf("no worker is there that takes what waits in the queue %s for the account %s: 'brickrow worker' begins one", queue, account)
}

// RunWaits says that no worker is there for a run that waits in a queue; "" is that there is one.
func (a *App) RunWaits(ctx context.Context, r *run.Record) (string, error) {
	st, err := a.StackOf(ctx, r)
	if err != nil {
		return "", err
	}
	in, _, err := a.hands(ctx, r.Queue)
	if err != nil || in[st.Target.Account] > 0 {
		return "", err
	}
	return NoWorker(r.Queue, st.Target.Account), nil
}

// FleetMoved says that the files of a fleet are others than its last rollout was begun with; "" is that they are the same, or are
// not here.
func (a *App) FleetMoved(ctx context.Context, name string) (string, error) {
	r, places, _, err := a.LastRollout(ctx, name)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(places, func(p PlaceOf) bool { return p.State != fleet.Ready && p.Kind == run.KindDeploy })
	if i < 0 {
		return "", nil
	}
	text, err := bundle.Disk.Open(r.File, tosca.MaxBytes)
	if err != nil {
		return "", nil
	}
	f, findings := fleet.Read(r.File, text)
	if findings.HasErrors() || f.Fleet != name {
		return "", nil
	}
	_, rev, err := a.openPlace(ctx, r, &places[i])
	if err != nil || rev == nil {
		return "", err
	}
	now, err := a.parse(filepath.Join(filepath.Dir(f.Path), filepath.FromSlash(f.Stack)), Values{Target: places[i].Target.String()})
	if err != nil || now.Bundle == nil {
		return "", nil
	}
	if now.Text == rev.Text && maps.EqualFunc(now.Bundle.Files(), rev.Files, bytes.Equal) {
		return "", nil
	}
	return fmt.Sprintf("the template has changed since rollout %d of %s began (%s): it is tried again with the template of then; 'brickrow fleet deploy %s' deploys "+
		"what stands there now", r.Number, name, r.Started.Local().Format("2006-01-02 15:04"), r.File), nil
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
