package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"brickrow/internal/identity"
	"brickrow/internal/queue"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/yard"
)

// Queueing says that a run is not carried out here, but by a worker.
type Queueing struct {
	Queue    string // its name; "" is the usual one
	Priority int    // 1 comes first, 4 last; 0 is 2
	here     bool   // a worker has it already
}

// Worker is somebody who carries out what waits in queues.
type Worker = store.Worker

// Check refuses what names no queue, or no priority.
func (q Queueing) Check() error {
	if q.Queue != "" && !queue.Good(q.Queue) {
		return fmt.Errorf("'%s' cannot be the name of a queue: use a-z, 0-9 and _, at most 60", q.Queue)
	}
	if q.Priority < 0 || q.Priority > 4 {
		return fmt.Errorf("a priority is 1, which comes first, to 4, not %d", q.Priority)
	}
	return nil
}

// put lets a run wait; nil is that it does not.
func (q *Queueing) put(r *run.Record) {
	if q == nil {
		return
	}
	r.Queue, r.Priority, r.Ask = q.Queue, q.Priority, uuid.NewString()
	if !q.here {
		r.State = run.StatusQueued
	}
	if r.Queue == "" {
		r.Queue = queue.Usual
	}
	if r.Priority == 0 {
		r.Priority = queue.Normal
	}
}

// openQueue opens the queue of the store, once.
func (a *App) openQueue(ctx context.Context) (*queue.Queue, error) {
	a.queueMu.Lock()
	defer a.queueMu.Unlock()
	if a.queue != nil {
		return a.queue, nil
	}
	q, err := queue.Open(ctx, queue.Place{URL: a.store.Place().URL, Dir: a.Home})
	a.queue = q
	return q, err
}

// Enqueue gives a run that was prepared for a queue to whoever works there. Where the queue cannot be reached it
// waits all the same: each worker looks for runs that wait and are in no queue.
func (a *App) Enqueue(ctx context.Context, t *Ticket) error {
	if err := a.store.Unlock(ctx, t.Run.StackID, t.Token); err != nil {
		return err
	}
	st, err := a.StackOf(ctx, t.Run)
	if err != nil {
		return err
	}
	return a.enqueue(ctx, store.Waiting{Run: t.Run.ID, Account: st.Target.Account, Queue: t.Run.Queue, Priority: t.Run.Priority, Ask: t.Run.Ask})
}

func (a *App) enqueue(ctx context.Context, w store.Waiting) error {
	q, err := a.openQueue(ctx)
	if err != nil {
		return err
	}
	return q.Put(ctx, queue.Item{Job: queue.Job{What: jobRun, ID: w.Run, Account: w.Account, Ask: w.Ask}, Queue: w.Queue, Priority: w.Priority})
}

// WorkerOptions say how somebody works.
type WorkerOptions struct {
	Name   string   // "" is that of the user and the machine
	Queues []string // none is the usual one
	AtOnce int      // so many runs at the same time; 0 is 4
	// Told is called with what the worker does, in words.
	Told func(words string)
}

// work is a worker at work.
type work struct {
	*App
	WorkerOptions
	accounts []string

	id    string
	slots chan struct{}   // of what is carried out now
	soft  context.Context // when it ends nothing more is begun
	mu    sync.Mutex
	said  map[string]time.Time // what was said lately

	behind map[string]bool // workers that are gone, and have nothing any more
	out    atomic.Bool     // somebody has removed it from the members of the store
}

// Work carries out what waits in queues. When soft ends, or somebody drains the worker, nothing more is taken and
// what is under way comes to its end; when hard ends too it is left as it is, and another worker goes on with it.
func (a *App) Work(soft, hard context.Context, o WorkerOptions) error {
	if o.Name == "" {
		o.Name = identity.Caller()
	}
	if o.AtOnce == 0 {
		o.AtOnce = 4
	}
	if len(o.Queues) == 0 {
		o.Queues = []string{queue.Usual}
	}
	for _, name := range o.Queues {
		if err := (Queueing{Queue: name}).Check(); err != nil {
			return err
		}
	}
	if !a.store.Member() {
		return &Refusal{Message: store.ErrNoMember.Error()}
	}
	q, err := a.openQueue(soft)
	if err != nil {
		return err
	}
	accounts := a.accounts()
	if len(accounts) == 0 {
		return refusal("there are no credentials for any account here: a worker needs some, such as in BRICKROW_TOKEN_ and the account's name")
	}
	w := &work{slots: make(chan struct{}, o.AtOnce), App: a, WorkerOptions: o, accounts: accounts, id: uuid.NewString(), said: map[string]time.Time{}, behind: map[string]bool{}}
	if _, err := w.there(soft); err != nil { // before it is given anything
		return err
	}
	soft, drain := context.WithCancel(soft)
	defer drain()
	w.soft = soft
	beats := make(chan struct{})
	w.say("waits for runs in the accounts %s", strings.Join(accounts, ", "))
	over, end := context.WithCancel(context.WithoutCancel(soft))
	go func() {
		defer close(beats)
		w.beat(over, soft, drain)
	}()
	err = q.Work(soft, hard, w.id, o.Queues, accounts, o.AtOnce, w.do)
	end()
	<-beats
	if w.out.Load() {
		return errors.Join(err, refusal("%s was removed from the members of the store: a worker has to be one ('brickrow store members add')", o.Name))
	}
	return errors.Join(err, a.store.Left(context.WithoutCancel(soft), w.id))
}

// holdsFor is how long something waits in a worker that is busy, before another one may have it.
const holdsFor = 10 * time.Second

// How often a worker says that it is there, and looks for runs that nobody has been given.
const beat = 2 * time.Second

// beat says that the worker is there, and puts into the queue what waits and is not in it: runs of those who ended
// before they could put them there, and of workers that are gone.
func (w *work) beat(ctx, soft context.Context, drain func()) {
	for {
		member, err := w.store.StillMember(ctx)
		if err == nil && !member {
			if !w.out.Swap(true) {
				w.say("it is no member of the store any more, and takes nothing more")
				drain()
			}
			return
		}
		wanted, err := w.there(ctx)
		if wanted && soft.Err() == nil {
			w.say("it was asked to take nothing more")
			drain()
		}
		if err == nil && soft.Err() == nil {
			err = w.sweep(ctx)
		}
		if err != nil && ctx.Err() == nil {
			w.sayOnce("the store cannot be asked: "+err.Error(), time.Minute)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(beat):
		}
	}
}

// there says that the worker is there, and reports whether it was asked to take nothing more.
func (w *work) there(ctx context.Context) (drain bool, err error) {
	return w.store.Beat(ctx, Worker{ID: w.id, Name: w.Name, Queues: w.Queues, Accounts: w.accounts, AtOnce: w.AtOnce, Busy: len(w.slots)})
}

func (w *work) sweep(ctx context.Context) error {
	list, err := w.store.Waiting(ctx)
	if err != nil {
		return err
	}
	for _, x := range list {
		if !x.Held {
			if err := w.enqueue(ctx, x); err != nil {
				return err
			}
		}
	}
	if err := w.sweepFleets(ctx); err != nil {
		return err
	}
	return w.takeOver(ctx)
}

// takeOver gives again what had been given to workers that are gone.
func (w *work) takeOver(ctx context.Context) error {
	list, err := w.store.Workers(ctx)
	if err != nil {
		return err
	}
	for _, other := range list {
		if !other.Gone || w.behind[other.ID] {
			w.behind[other.ID] = other.Gone
			continue
		}
		q, err := w.openQueue(ctx)
		if err != nil {
			return err
		}
		n, err := q.GiveAgain(ctx, other.ID)
		if err != nil {
			return err
		}
		w.behind[other.ID] = true
		if n > 0 {
			w.say("%s is gone: what it had been given is given again", other.Name)
		}
	}
	return nil
}

func (w *work) say(format string, args ...any) {
	if w.Told != nil {
		w.Told(fmt.Sprintf(format, args...))
	}
}

// sayOnce says something that was not said for a while.
func (w *work) sayOnce(words string, while time.Duration) {
	w.mu.Lock()
	last := w.said[words]
	again := time.Since(last) > while
	if again {
		w.said[words] = time.Now()
	}
	w.mu.Unlock()
	if again {
		w.say("%s", words)
	}
}

// do carries out what it is given.
func (w *work) do(ctx context.Context, j queue.Job) error {
	if j.What == jobFleet {
		return w.fleet(ctx, j.ID)
	}
	select { // each queue gives so much
	case w.slots <- struct{}{}:
	case <-time.After(holdsFor):
		return queue.NotNow{After: time.Second}
	case <-w.soft.Done():
		return queue.NotNow{After: time.Second}
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-w.slots }()
	if w.soft.Err() != nil {
		return queue.NotNow{After: time.Second}
	}
	var err error
	if j.What == jobPlace {
		err = w.place(ctx, j)
	} else {
		err = w.run(ctx, j.ID)
	}
	var not queue.NotNow
	if err != nil && !errors.As(err, &not) {
		w.say("a run could not be carried out: %v; it is tried again", err)
	}
	return err
}

// run carries a run out, from its beginning or from where another one has left it.
func (w *work) run(ctx context.Context, id string) error {
	r, err := w.store.Run(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if r.State.Ended() || r.Queue == "" { // somebody else has seen to it
		return nil
	}
	if err := w.store.Genuine(ctx, id); errors.Is(err, store.ErrNotSigned) {
		w.sayOnce(err.Error(), time.Hour)
		return queue.NotNow{After: time.Minute}
	}
	st, err := w.StackOf(ctx, r)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("%s in %s, run %d", st.Name, st.Target, r.Number)
	token := uuid.NewString()
	from, err := w.store.Lock(ctx, st.ID, token)
	var locked *store.LockedError
	if errors.As(err, &locked) {
		return queue.NotNow{After: 2 * time.Second}
	}
	if err != nil {
		return err
	}
	taken, err := w.take(ctx, r, st, token)
	if err != nil || !taken {
		return errors.Join(err, w.store.Unlock(context.WithoutCancel(ctx), st.ID, token))
	}
	if from != "" && r.State != run.StatusQueued {
		w.say("%s: goes on where %s has left it", name, from)
	} else {
		w.say("%s: begins", name)
	}
	ended, err := w.Execute(ctx, id, token)
	if err != nil {
		return err
	}
	w.say("%s: %s", name, ended.Words())
	return nil
}

// take makes a run, whose stack is locked, one that is carried out here. It is none where the target has enough to
// do already, or the run has moved on.
func (w *work) take(ctx context.Context, r *run.Record, st *stack.Stack, token string) (bool, error) {
	limits, err := w.store.RunsAtOnce(ctx)
	if err != nil {
		return false, err
	}
	if most := limits[st.Target.String()]; most > 0 {
		before, err := w.store.Before(ctx, st.Target, st.ID)
		if err != nil {
			return false, err
		}
		if before >= most {
			return false, queue.NotNow{After: time.Second}
		}
	}
	now, err := w.store.Head(ctx, r.ID)
	if err != nil || now.State.Ended() {
		return false, err
	}
	r.State, r.Back, r.Token = run.StatusWorking, now.Back, token
	if now.Back || now.State == run.StatusUndoing {
		r.State, r.Back = run.StatusUndoing, true
	}
	r.Cancel, r.Reason = now.Cancel, now.Reason
	return true, w.store.ContinueRun(ctx, r, nil)
}

// accounts are those that there is something to be let in with, here.
func (a *App) accounts() []string {
	var out []string
	for account, token := range a.client.Tokens {
		if token != "" && account != yard.Operator {
			out = append(out, account)
		}
	}
	slices.Sort(out)
	return out
}

// Workers lists who carries out what waits, and how much waits.
func (a *App) Workers(ctx context.Context) (list []Worker, waiting, underWay int, err error) {
	if list, err = a.store.Workers(ctx); err != nil {
		return nil, 0, 0, err
	}
	runs, err := a.store.Waiting(ctx)
	for _, w := range runs {
		if w.Held {
			underWay++
		} else {
			waiting++
		}
	}
	return list, waiting, underWay, err
}

// Drain asks a worker to take nothing more, and to end when what is under way has come to its end.
func (a *App) Drain(ctx context.Context, name string) error { return a.store.Drain(ctx, name) }

// LimitRuns says how many runs workers carry out in a target at the same time; 0 is any number.
func (a *App) LimitRuns(ctx context.Context, target string, n int, note string) error {
	t, ok := stack.ParseTarget(target)
	if !ok {
		return fmt.Errorf("'%s' is not a target: write account/region, such as workshop/alder-1", target)
	}
	if n < 0 {
		return fmt.Errorf("the number of runs at once cannot be below 0; 0 takes the limit away")
	}
	return a.store.SetRuns(ctx, t, n, note)
}

// Limits are those of targets, by their names.
func (a *App) Limits(ctx context.Context) (map[string]int, error) { return a.store.RunsAtOnce(ctx) }

// takeBack ends a run that waits for a worker and was not begun.
func (a *App) takeBack(ctx context.Context, r *run.Record) error {
	st, err := a.StackOf(ctx, r)
	if err != nil {
		return err
	}
	token := uuid.NewString()
	if err := a.lock(ctx, st, token); err != nil {
		return err
	}
	now, err := a.store.Run(ctx, r.ID)
	if err == nil && now.State != run.StatusQueued {
		err = refusal("a worker has taken it just now: it is %s", now.State)
	}
	if err != nil {
		return errors.Join(err, a.store.Unlock(ctx, st.ID, token))
	}
	return a.neverBegun(ctx, st, now, token)
}

// neverBegun ends a run that was prepared, whose stack is locked with a token, and that nothing was done of.
func (a *App) neverBegun(ctx context.Context, st *stack.Stack, r *run.Record, token string) error {
	r.Token, r.State, r.Reason = token, run.StatusUndone, run.NeverBegun
	err := a.store.RequestCancel(ctx, r.ID, r.OnFailure)
	if err == nil {
		err = a.store.SetRun(ctx, r, st.Revision)
	}
	return errors.Join(err, a.store.Unlock(context.WithoutCancel(ctx), st.ID, token))
}

// What jobs are for.
const (
	jobRun   = "run"
	jobPlace = "place" // of a rollout
	jobFleet = "fleet" // a rollout as a whole
)

// UsualQueue is the queue of what does not say another one.
const UsualQueue = queue.Usual
