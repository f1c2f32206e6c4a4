package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/fleet"
	"brickrow/internal/identity"
	"brickrow/internal/queue"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
)

// placesHere is how many places are carried out at the same time by a process that does so itself, where the file
// says nothing.
const placesHere = 8

// carried is a rollout that is carried on.
type carried struct {
	*App
	r    *Rollout
	told func(PlaceOf) // of each place that is another one than before
	was  map[int]fleet.State
	put  map[int]string // what places were asked for with last
	news time.Time      // when something has moved last
	here sync.WaitGroup // places that are carried out by this process
	at   map[int]bool   // those
	mu   sync.Mutex

	workers map[string]int // how many they carry out at once, by account, as it was asked last
	asked   time.Time

	places []PlaceOf // as they were read last
	wholly time.Time // when all of them were
}

// CarryFleet carries a rollout on that is locked with a token, until it has come to its end: it lets places begin,
// wave by wave, and looks how they end. Told is called with each place whose state is another one.
func (a *App) CarryFleet(ctx context.Context, id, token string, told func(PlaceOf)) (r *Rollout, err error) {
	c := &carried{App: a, told: told, was: map[int]fleet.State{}, put: map[int]string{}, news: time.Now(), at: map[int]bool{}}
	if told == nil {
		c.told = func(PlaceOf) {}
	}
	ctx, stop := context.WithCancelCause(ctx)
	beats := make(chan struct{})
	go func() {
		defer close(beats)
		beat := time.NewTicker(store.Lease / 3)
		defer beat.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-beat.C:
				var locked *store.LockedError
				if err := a.store.LockRollout(ctx, id, token); errors.As(err, &locked) {
					stop(fmt.Errorf("this rollout has lost its lock: %w", err))
					return
				}
			}
		}
	}()
	defer func() {
		c.here.Wait()
		stop(nil)
		<-beats
		err = errors.Join(err, a.store.UnlockRollout(context.WithoutCancel(ctx), id, token))
	}()
	heard, every := a.store.Listen(ctx), 150*time.Millisecond
	if heard != nil {
		every = time.Second
	}
	for {
		if c.r, err = a.store.Rollout(ctx, id); err != nil {
			return nil, err
		}
		c.r.Token = token
		looked := time.Now()
		over, wait, err := c.step(ctx)
		if err != nil || over {
			if cause := context.Cause(ctx); cause != nil && err != nil {
				err = cause
			}
			return c.r, err
		}
		select {
		case <-ctx.Done():
			return c.r, context.Cause(ctx)
		case <-heard:
			select { // what is written all the time is looked at now and then
			case <-ctx.Done():
			case <-time.After(max(100*time.Millisecond, 10*time.Since(looked))): // of many places no more often than they can be read
			}
		case <-time.After(min(every, wait)):
		}
	}
}

// step looks how all places stand, and does what is to be done. Wait is how long nothing has to be looked at, where
// nobody writes.
func (c *carried) step(ctx context.Context) (over bool, wait time.Duration, err error) {
	wait = time.Hour
	places, err := c.look(ctx)
	if err != nil {
		return false, 0, err
	}
	var changes []store.PlaceChange
	set := func(i int, state fleet.State, reason string) {
		places[i].State, places[i].Reason = state, reason
		changes = append(changes, store.PlaceChange{Position: places[i].Position, State: state, Reason: reason})
	}
	for i := range places {
		if p := &places[i]; p.State == fleet.Working && p.RunState.Ended() && p.RunState != "" && p.RunState != run.StatusPaused {
			state, reason := outcome(p)
			set(i, state, reason)
		}
	}
	before := *c.r
	s := fleet.Standing{AtOnce: c.r.AtOnce, Tolerate: c.r.Tolerate, Behind: c.r.Behind}
	for _, p := range places {
		s.Members = append(s.Members, fleet.Member{Target: p.Target, Wave: p.Wave, State: p.State, Careful: p.Careful, Agreed: len(p.Approvals) > 2})
	}
	if c.r.Queue == "" && s.AtOnce == 0 {
		s.AtOnce = placesHere
	}
	if c.r.Queue != "" {
		if s.Workers, err = c.hands(ctx); err != nil {
			return false, 0, err
		}
	}
	step := s.Next()
	wait = min(wait, c.between(step, places))
	var begin []int
	c.r.State = fleet.Deploying
	if c.r.Kind == run.KindDelete {
		c.r.State = fleet.Removing
	}
	switch {
	case step.Over:
		over = true
		c.end(step, places)
	case c.r.Wish == wishCancel:
		if over = !slices.ContainsFunc(places, func(p PlaceOf) bool { return p.State.Under() }); over {
			c.r.State, c.r.Reason = fleet.Cancelled, "somebody has stopped it; what had begun has come to its end"
		}
	case c.r.Wish == wishPause:
		c.r.State = fleet.Paused
	case step.Next > 0 && c.r.Asks:
		c.r.State = fleet.Between
	default:
		for _, i := range step.Ask {
			set(i, fleet.Asks, fmt.Sprintf("it is careful: 'brickrow fleet approve %s %s' agrees to it", c.r.Fleet, places[i].Target))
		}
		begin = step.Begin
		for _, i := range begin {
			set(i, fleet.Begun, "")
		}
	}
	if len(changes) > 0 {
		c.news = time.Now()
	}
	if len(changes) > 0 || !reflect.DeepEqual(before, *c.r) {
		if err := c.store.SetRollout(ctx, c.r, changes...); err != nil {
			return false, 0, err
		}
	}
	for _, p := range places {
		if c.was[p.Position] != p.State {
			c.was[p.Position] = p.State
			c.told(p)
		}
	}
	for i := range places {
		if p := &places[i]; p.State.Under() && !over {
			if err := c.carry(ctx, p); err != nil {
				return false, 0, err
			}
		}
	}
	return over, wait, nil
}

// look reads how the places stand. Of many most have ended or wait, which nobody else changes: they are read now and then.
func (c *carried) look(ctx context.Context) (places []PlaceOf, err error) {
	if time.Since(c.wholly) < overdue {
		under, err := c.store.PlacesUnder(ctx, c.r.ID)
		if err != nil {
			return nil, err
		}
		now := map[int]*PlaceOf{}
		for i := range under {
			now[under[i].Position] = &under[i]
		}
		same := true
		for i := range c.places {
			p := &c.places[i]
			if is := now[p.Position]; is != nil {
				*p = *is
			} else if p.State.Under() || p.State == fleet.Asks || p.Careful && p.State == fleet.Waiting {
				same = false // it has ended
			}
		}
		if same {
			return c.places, nil
		}
	}
	c.places, err = c.store.Places(ctx, c.r.ID)
	c.wholly = time.Now()
	return c.places, err
}

// hands are how many runs the workers of the rollout's queue carry out at once, by account.
func (c *carried) hands(ctx context.Context) (map[string]int, error) {
	if c.workers != nil && time.Since(c.asked) < beat {
		return c.workers, nil
	}
	list, err := c.store.Workers(ctx)
	if err != nil {
		return nil, err
	}
	c.workers, c.asked = map[string]int{}, time.Now()
	for _, w := range list {
		if w.Gone || w.Draining || !slices.Contains(w.Queues, c.r.Queue) {
			continue
		}
		for _, account := range w.Accounts {
			c.workers[account] += w.AtOnce
		}
	}
	return c.workers, nil
}

// The wishes that somebody can have.
const wishPause, wishCancel = "pause", "cancel"

// outcome is how a place has ended whose run has.
func outcome(p *PlaceOf) (fleet.State, string) {
	switch {
	case p.RunState == run.StatusDone && p.Kind == run.KindDelete:
		return fleet.Removed, ""
	case p.RunState == run.StatusDone:
		return fleet.Ready, ""
	}
	return fleet.Failed, fmt.Sprintf("run %d is %s: %s", p.Run, p.RunState, p.RunReason)
}

// between notes when a wave is over, and lets the next one begin when the pause is. It says how long that is still.
func (c *carried) between(step fleet.Step, places []PlaceOf) time.Duration {
	if step.Next == 0 {
		return time.Hour
	}
	last := step.Next - 1
	if c.r.EndedWave < last {
		c.r.EndedWave, c.r.WaveEnded = last, time.Now().Truncate(time.Millisecond)
	}
	if c.r.Asks {
		return time.Hour
	}
	left := time.Until(c.r.WaveEnded.Add(c.r.Pause))
	if left <= 0 {
		c.r.Behind = last
		return 0
	}
	return left
}

// end says how a rollout has ended.
func (c *carried) end(step fleet.Step, places []PlaceOf) {
	failed, left := 0, 0
	for _, p := range places {
		switch {
		case p.State == fleet.Failed:
			failed++
		case !p.State.Over():
			left++
		}
	}
	switch {
	case step.Stopped:
		c.r.State, c.r.Reason = fleet.Stopped, fmt.Sprintf("%s, %d are tolerated; not begun: %d", haveFailed(failed), c.r.Tolerate, left)
	case failed > 0:
		c.r.State, c.r.Reason = fleet.Partial, haveFailed(failed)+", no more than are tolerated"
	case c.r.Kind == run.KindDelete:
		c.r.State, c.r.Reason = fleet.Removed, ""
	default:
		c.r.State, c.r.Reason = fleet.Ready, ""
	}
}

func haveFailed(n int) string {
	if n == 1 {
		return "1 place has failed"
	}
	return fmt.Sprintf("%d places have failed", n)
}

// overdue is how long nothing moves before what was given out, and nobody has begun with, is given out again.
const overdue = time.Minute

// carry sees to it that somebody carries a place out: this process, or a worker.
func (c *carried) carry(ctx context.Context, p *PlaceOf) error {
	if c.r.Queue == "" {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.at[p.Position] || p.Alive {
			return nil
		}
		c.at[p.Position] = true
		at := *p
		c.here.Go(func() {
			err := c.placeOf(context.WithoutCancel(ctx), c.r, at, nil)
			c.mu.Lock()
			delete(c.at, at.Position)
			c.mu.Unlock()
			if err != nil {
				c.refuse(ctx, c.r.ID, &at, err)
			}
		})
		return nil
	}
	if p.RunID != "" { // workers look after their runs themselves
		return nil
	}
	ask := strconv.Itoa(p.Attempt)                                                       // the same whoever asks, so that it waits once
	if now := time.Now(); now.Sub(c.news) > overdue && c.workers[p.Target.Account] > 0 { // where nobody works it waits
		ask += now.UTC().Format(" 2006-01-02 15:04")
	}
	if c.put[p.Position] == ask {
		return nil
	}
	c.put[p.Position] = ask
	q, err := c.openQueue(ctx)
	if err != nil {
		return err
	}
	return q.Put(ctx, queue.Job{What: jobPlace, ID: c.r.ID, Part: p.Position, Ask: ask}, c.r.Queue, p.Target.Account, c.r.Priority)
}

// refuse ends a place that could not be begun with.
func (a *App) refuse(ctx context.Context, rollout string, p *PlaceOf, err error) {
	_ = a.store.EndPlace(context.WithoutCancel(ctx), rollout, p.Position, p.Attempt, fleet.Failed, err.Error()) // it is looked at again
}

// placeOf carries a place of a rollout out: from its beginning, or from where another one has left it. The error is
// why nothing could be begun.
func (a *App) placeOf(ctx context.Context, r *Rollout, p PlaceOf, q *Queueing) error {
	id, err := a.runIn(ctx, r, &p)
	if err != nil {
		return err
	}
	if id != "" {
		if err := a.store.SetPlaceRun(ctx, r.ID, p.Position, p.Attempt, id); err != nil {
			return err
		}
		return a.goOn(ctx, id)
	}
	pv, err := a.placePreview(ctx, r, &p)
	if err != nil {
		return err
	}
	if pv.Findings.HasErrors() {
		return &Refusal{Findings: pv.Findings}
	}
	pv.Queue = q
	t, err := a.Prepare(ctx, pv, r.OnFailure)
	if errors.Is(err, ErrNothingToDo) {
		return a.store.EndPlace(ctx, r.ID, p.Position, p.Attempt, fleet.Ready, "")
	}
	if err != nil {
		return err
	}
	if err := a.store.SetPlaceRun(ctx, r.ID, p.Position, p.Attempt, t.Run.ID); err != nil {
		return errors.Join(err, a.store.Unlock(ctx, t.Run.StackID, t.Token))
	}
	_, err = a.Execute(ctx, t.Run.ID, t.Token)
	return err
}

// runIn is the run that a place has already at this attempt, also where nobody could note so; "" is none. What is
// stuck there is gone on with.
func (a *App) runIn(ctx context.Context, r *Rollout, p *PlaceOf) (string, error) {
	if p.RunID != "" {
		return p.RunID, nil
	}
	st, err := a.store.At(ctx, p.Stack, p.Target)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	last, err := a.store.LastHead(ctx, st.ID)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	mine := last.Origin.Rollout == r.ID && (last.Origin.Attempt == p.Attempt || !last.State.Ended() || last.State == run.StatusStuck)
	if mine {
		return last.ID, nil
	}
	return "", nil
}

// goOn carries a run on that nobody carries out any more: where somebody does, or it has ended, there is nothing to
// do. A stuck one is tried again.
func (a *App) goOn(ctx context.Context, id string) error {
	r, err := a.store.Run(ctx, id)
	if err != nil {
		return err
	}
	if r.State.Ended() && r.State != run.StatusStuck {
		return nil
	}
	st, err := a.StackOf(ctx, r)
	if err != nil {
		return err
	}
	holder, err := a.store.LockHolder(ctx, st.ID)
	if err != nil || holder != "" {
		return err
	}
	var q *Queueing
	if r.Queue != "" {
		q = &Queueing{Queue: r.Queue, Priority: r.Priority, here: true}
	}
	t, err := a.ResumeIn(ctx, st, On, q)
	if err != nil {
		return err
	}
	_, err = a.Execute(ctx, t.Run.ID, t.Token)
	return err
}

// placePreview makes the what-if of a place again, and refuses it where anything has moved on since it was looked
// at, unless it is tried again.
func (a *App) placePreview(ctx context.Context, r *Rollout, p *PlaceOf) (*Preview, error) {
	s, rev, err := a.openPlace(ctx, r, p)
	if err != nil {
		return nil, err
	}
	var pv *Preview
	if s.Kind == run.KindDelete {
		st, err := a.store.At(ctx, p.Stack, p.Target)
		if err != nil {
			return nil, err
		}
		if pv, err = a.WhatIfDelete(ctx, st); err != nil {
			return nil, err
		}
	} else if pv, err = a.whatIfAgain(ctx, s, rev); err != nil {
		return nil, err
	}
	if pv.Findings.HasErrors() {
		return pv, nil
	}
	now, err := json.Marshal(pv.ChangeSet)
	if err != nil {
		return nil, err
	}
	if differences := moved(s.ChangeSet, now); len(differences) > 0 && p.Attempt == 1 {
		return nil, s.movedOn(differences)
	}
	pv.approvers, pv.onFailure = s.Approvers, s.OnFailure
	pv.source = &s.Source
	pv.rollout = &inRollout{r.ID, r.Fleet, p.Attempt}
	pv.Note, pv.By = r.Origin.Note, ""
	if r.By != identity.User() || len(s.Approvals) > 0 {
		pv.By, pv.ApprovedBy = s.madeBy()
	}
	for _, ap := range s.Approvals {
		pv.Approved = pv.Approved || ap.Key != s.Key
	}
	return pv, nil
}

// openPlace opens what was looked at in a place, and who has agreed to it.
func (a *App) openPlace(ctx context.Context, r *Rollout, p *PlaceOf) (*Saved, *stack.Revision, error) {
	body, part, err := a.store.PlaceBody(ctx, r.ID, p.Position)
	if err != nil {
		return nil, nil, err
	}
	var b rolledPlace
	if err := json.Unmarshal(body, &b); err != nil {
		return nil, nil, fmt.Errorf("what is kept of %s: %w", p.Target, err)
	}
	s := b.Saved
	if !identity.Verify(s.Key, s.content(), s.Signature) {
		return nil, nil, refusal("what is kept of %s was changed since %s began it", p.Target, s.By)
	}
	if err := json.Unmarshal(p.Approvals, &s.Approvals); err != nil {
		return nil, nil, err
	}
	allowed, err := a.approvers(s.Target, s.Approvers)
	if err != nil {
		return nil, nil, err
	}
	for _, ap := range s.Approvals {
		if !identity.Verify(ap.Key, s.agreed(ap), ap.Signature) {
			return nil, nil, refusal("the approval of %s for %s is not genuine", ap.By, p.Target)
		}
		if err := s.mayApprove(ap, allowed); err != nil && (ap.Key != s.Key || len(allowed) > 0) {
			return nil, nil, err
		}
	}
	if b.Revision == nil {
		return s, nil, nil
	}
	rev, err := store.UnpackRevision(b.Revision)
	if err != nil {
		return nil, nil, err
	}
	whole, err := store.UnpackRevision(part)
	if err != nil {
		return nil, nil, err
	}
	rev.Text, rev.Files, rev.Entry, rev.Template = whole.Text, whole.Files, whole.Entry, whole.Template
	return s, rev, nil
}

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
	if err := s.mayApprove(ap, allowed); err != nil && (second || ap.Key != s.Key) {
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
	r, _, holder, err := a.LastRollout(ctx, name)
	if err != nil {
		return err
	}
	if r.State.Ended() {
		return refusal("the rollout %d of %s has ended: it is %s", r.Number, name, r.State)
	}
	if err := a.store.Wish(ctx, r.ID, wish); err != nil {
		return err
	}
	if wish != wishCancel || holder != "" || r.Queue != "" {
		return nil
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

// fleet carries a rollout on, for a worker.
func (w *work) fleet(ctx context.Context, id string) error {
	r, err := w.store.Rollout(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil || r.State.Ended() || r.Queue == "" {
		return err
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
		return true, w.store.SetPlaceRun(ctx, r.ID, p.Position, p.Attempt, id)
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
