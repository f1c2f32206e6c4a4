package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"sync"
	"time"

	"brickrow/internal/cloud"
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
	hands   int            // and all together
	asked   time.Time

	places []PlaceOf // as they were read last
	wholly time.Time // when all of them were
	took   time.Duration
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
	if err := a.store.GenuineRollout(ctx, id); err != nil {
		return nil, err
	}
	heard, every := a.store.Listen(ctx), 150*time.Millisecond
	if heard != nil {
		every = time.Second
	}
	for {
		if c.r, err = a.store.Rollout(ctx, id); err != nil {
			return nil, err
		}
		c.r.Token = token
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
			case <-time.After(max(100*time.Millisecond, 10*c.took)): // of many places no more often than they can be read
			}
		case <-time.After(min(every, wait)):
		}
	}
}

// step looks how all places stand, and does what is to be done. Wait is how long nothing has to be looked at, where
// nobody writes.
func (c *carried) step(ctx context.Context) (over bool, wait time.Duration, err error) {
	wait = time.Hour
	begun := time.Now()
	places, err := c.look(ctx)
	c.took = time.Since(begun)
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
		if err = c.ask(ctx); err != nil {
			return false, 0, err
		}
		s.Workers, s.Hands = c.workers, c.hands
	}
	step := s.Next()
	wait = min(wait, c.between(step, places))
	if c.r.Wish == wishCancel || step.Stopped { // what nobody could begin has not begun
		for i := range places {
			if s.Idle(s.Members[i]) && places[i].RunID == "" {
				set(i, fleet.Waiting, "")
			}
		}
	}
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
		at, err := c.store.SetRollout(ctx, c.r, changes...)
		if err != nil {
			return false, 0, err
		}
		for _, i := range begin {
			places[i].Begun = at
		}
	}
	for _, p := range places {
		if c.was[p.Position] != p.State {
			c.was[p.Position] = p.State
			c.told(p)
		}
	}
	if over {
		return true, wait, nil
	}
	return false, wait, c.carry(ctx, slices.DeleteFunc(slices.Clone(places), func(p PlaceOf) bool { return !p.State.Under() }))
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

// ask asks how many runs the workers of the rollout's queue carry out at once, unless it was asked just now.
func (c *carried) ask(ctx context.Context) (err error) {
	if c.workers == nil || time.Since(c.asked) >= beat {
		c.workers, c.hands, err = c.App.hands(ctx, c.r.Queue)
		c.asked = time.Now()
	}
	return err
}

// hands are how many runs the workers of a queue carry out at once, by account and all together.
func (a *App) hands(ctx context.Context, queue string) (in map[string]int, all int, err error) {
	list, err := a.store.Workers(ctx)
	if err != nil {
		return nil, 0, err
	}
	in = map[string]int{}
	for _, w := range list {
		if w.Gone || w.Draining || !slices.Contains(w.Queues, queue) {
			continue
		}
		all += w.AtOnce
		for _, account := range w.Accounts {
			in[account] += w.AtOnce
		}
	}
	return in, all, nil
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
	return "failed in " + stack.Count(n, "place")
}

// overdue is how long nothing moves before what was given out, and nobody has begun with, is given out again.
const overdue = time.Minute

// carry sees to it that places are carried out: by this process, or by workers.
func (c *carried) carry(ctx context.Context, under []PlaceOf) error {
	if c.r.Queue == "" {
		for _, p := range under {
			c.carryHere(ctx, p)
		}
		return nil
	}
	var items []queue.Item
	asks := map[int]string{}
	for _, p := range under {
		if p.RunID != "" { // workers look after their runs themselves
			continue
		}
		ask := fmt.Sprint(p.Attempt, " ", p.Begun.UnixMilli())                               // the same whoever asks, so that it waits once
		if now := time.Now(); now.Sub(c.news) > overdue && c.workers[p.Target.Account] > 0 { // where nobody works it waits
			ask += now.UTC().Format(" 2006-01-02 15:04")
		}
		if c.put[p.Position] != ask {
			asks[p.Position] = ask
			items = append(items, queue.Item{Job: queue.Job{What: jobPlace, ID: c.r.ID, Part: p.Position, Account: p.Target.Account, Ask: ask},
				Queue: c.r.Queue, Priority: c.r.Priority})
		}
	}
	if len(items) == 0 {
		return nil
	}
	q, err := c.openQueue(ctx)
	if err == nil {
		err = q.Put(ctx, items...)
	}
	if err == nil {
		maps.Copy(c.put, asks)
	}
	return err
}

// carryHere carries a place out, unless somebody does.
func (c *carried) carryHere(ctx context.Context, p PlaceOf) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at[p.Position] || p.Alive {
		return
	}
	c.at[p.Position] = true
	c.here.Go(func() {
		err := c.placeOf(context.WithoutCancel(ctx), c.r, p, nil)
		c.mu.Lock()
		delete(c.at, p.Position)
		c.mu.Unlock()
		if err != nil {
			c.refuse(ctx, c.r.ID, &p, err)
		}
	})
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
		if there, err := a.store.SetPlaceRun(ctx, r.ID, p.Position, p.Attempt, id); err != nil || !there {
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
	there, err := a.store.SetPlaceRun(ctx, r.ID, p.Position, p.Attempt, t.Run.ID)
	if err != nil {
		return errors.Join(err, a.store.Unlock(ctx, t.Run.StackID, t.Token))
	}
	if !there { // the place was taken back just now
		st, err := a.StackOf(ctx, t.Run)
		if err != nil {
			return err
		}
		return a.neverBegun(ctx, st, t.Run, t.Token)
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
	if !identity.Verify(s.Key, s.content(), s.Signature) || s.Target != p.Target.String() || s.Stack != p.Stack {
		return nil, nil, refusal("what is kept of %s was changed since %s began it", p.Target, s.By)
	}
	if is, err := a.store.IsMember(ctx, s.Key); err != nil {
		return nil, nil, err
	} else if !is {
		return nil, nil, refusal("what is to be done in %s was begun by %s, who is no member of the store", p.Target, cloud.Clean(s.By))
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
		if err := a.mayApprove(s, ap, allowed); err != nil && (ap.Key != s.Key || len(allowed) > 0) {
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
