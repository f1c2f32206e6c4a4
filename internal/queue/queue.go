// Package queue is where runs wait for a worker. All of it is River's: what waits, who is given it, what is given
// to another one when it was lost, and when it is tried again. In a shared store it is in the same database; beside
// a store in a file it is in a file of its own, for the workers of one machine.
//
// A job says which run is meant, in which account, and nothing else: what is to be done stands in the store, and what
// lets one into a cloud is with the worker. The account is in the kind of a job, and a worker asks for the kinds he is
// let in for, when he has room: so nobody is given what he cannot do, or what another one could have begun by now.
package queue

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/riverdriver/riversqlite"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"
	_ "modernc.org/sqlite" // the driver

	"brickrow/internal/shareddb"
)

// Usual is the queue of what does not say another one.
const Usual = "runs"

// The priorities, the first comes first.
const First, Normal, Last = 1, 2, 4

// File is the name of the file of a queue, in the folder of the data.
const File = "queue.db"

// Place says where a queue is.
type Place struct {
	URL string // of a shared store; "" is a file
	Dir string
}

// Job is a run, or a fleet, to be carried out. Two with the same Ask are one.
type Job struct {
	What string `json:"what"`
	ID   string `json:"id"`
	Part int    `json:"part,omitempty"` // of it
	// Account is what one has to be let into for it; "" is nothing, as for seeing to it that waves follow each other.
	Account string `json:"account,omitempty"`
	Ask     string `json:"ask"`
}

// Kind is what River calls it: who asks for it is let into its account.
func (j Job) Kind() string {
	switch {
	case j.Account == "":
		return "carry_out"
	case Good(j.Account):
		return "carry_out_in_" + j.Account
	}
	sum := sha256.Sum256([]byte(j.Account))
	return "carry_out_in-" + hex.EncodeToString(sum[:16])
}

// Queue is an open queue.
type Queue struct {
	client client
	close  func()
	make   func(*river.Config) (client, error)
	every  time.Duration // how often it is looked at
	clock  *clock        // of the server; nil where the queue is a file
}

// client is what is asked of River, on either database.
type client interface {
	JobList(ctx context.Context, params *river.JobListParams) (*river.JobListResult, error)
	InsertMany(ctx context.Context, params []river.InsertManyParams) ([]*rivertype.JobInsertResult, error)
	Start(ctx context.Context) error
	Stop(ctx context.Context) error
	StopAndCancel(ctx context.Context) error
	Stopped() <-chan struct{}
}

// Open opens or makes the queue at a place.
func Open(ctx context.Context, at Place) (*Queue, error) {
	return open(ctx, at, time.Now)
}

func open(ctx context.Context, at Place, here func() time.Time) (*Queue, error) {
	q := &Queue{}
	var err error
	if at.URL == "" {
		err = q.openFile(ctx, filepath.Join(at.Dir, File))
	} else {
		err = q.openShared(ctx, at.URL, here)
	}
	if err == nil {
		config := &river.Config{Logger: silent}
		if q.clock != nil {
			config.Test.Time = written{q.clock}
		}
		q.client, err = q.make(config)
	}
	if err != nil {
		if q.close != nil {
			q.close()
		}
		return nil, fmt.Errorf("the queue: %w", err)
	}
	return q, nil
}

var silent = slog.New(slog.DiscardHandler)

func (q *Queue) openFile(ctx context.Context, file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	f.Close()
	name := "file:" + strings.NewReplacer("%", "%25", "?", "%3F", "#", "%23").Replace(file) +
		"?_pragma=busy_timeout(20000)&_pragma=journal_mode(WAL)&_txlock=immediate"
	db, err := sql.Open("sqlite", name)
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	q.close = func() { db.Close() }
	q.every = 200 * time.Millisecond
	return prepare(ctx, q, riversqlite.New(db), "")
}

func (q *Queue) openShared(ctx context.Context, url string, here func() time.Time) error {
	config, err := shareddb.Configuration(url)
	if err != nil {
		return err
	}
	path := config.ConnConfig.RuntimeParams["search_path"]
	if path == "" {
		path = "brickrow"
		config.ConnConfig.RuntimeParams["search_path"] = path
	}
	// Planned anew each time the server looks the accounts of a worker up in a table. A plan that is kept for any of them
	// compares each with all that waits.
	config.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return err
	}
	q.close, q.every = pool.Close, 500*time.Millisecond
	q.clock = &clock{here: here, ask: func(ctx context.Context) (at time.Time, err error) {
		return at, pool.QueryRow(ctx, `select clock_timestamp()`).Scan(&at)
	}}
	schema, _, _ := strings.Cut(path, ",")
	schema = strings.TrimSpace(strings.Trim(schema, `"`))
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	// One at a time makes the tables.
	if _, err := conn.Exec(ctx, `select pg_advisory_lock(hashtext($1), hashtext('queue'))`, schema); err != nil {
		return err
	}
	defer func() { _, _ = conn.Exec(ctx, `select pg_advisory_unlock(hashtext($1), hashtext('queue'))`, schema) }()
	return prepare(ctx, q, riverpgxv5.New(pool), schema)
}

// prepare brings the tables of a queue up to date, and says how its clients are made.
func prepare[T any](ctx context.Context, q *Queue, driver riverdriver.Driver[T], schema string) error {
	q.make = func(c *river.Config) (client, error) {
		c.Schema = schema
		return river.NewClient(driver, c)
	}
	m, err := rivermigrate.New(driver, &rivermigrate.Config{Schema: schema, Logger: silent})
	if err != nil {
		return err
	}
	for try := 0; ; try++ { // another process may be making the same tables
		have, err := m.ExistingVersions(ctx)
		if err == nil && len(have) >= len(m.AllVersions()) {
			return nil
		}
		if err == nil {
			_, err = m.Migrate(ctx, rivermigrate.DirectionUp, nil)
		}
		if err == nil || try == 20 {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// Close closes the queue. What works has been waited for before.
func (q *Queue) Close() { q.close() }

// Item is a job that waits in a queue.
type Item struct {
	Job
	Queue    string
	Priority int
}

// part is the part of a queue that a job is in: that of runs, or of those who see to waves. Each has its own number of
// those who work there.
func (x Item) part() string {
	if x.Account == "" {
		return x.Queue + "-waves"
	}
	return x.Queue
}

// Put lets jobs wait, no two of which are one. One that waits, or has been given out, already is not put there twice.
func (q *Queue) Put(ctx context.Context, items ...Item) error {
	if len(items) == 0 {
		return nil
	}
	params := make([]river.InsertManyParams, len(items))
	for i, x := range items {
		params[i] = once(x.Job, x.part(), x.Priority)
	}
	_, err := q.put(ctx, params...)
	return err
}

// once is a job in a part of a queue, where it is not there yet.
func once(j Job, part string, priority int) river.InsertManyParams {
	return river.InsertManyParams{Args: j, InsertOpts: &river.InsertOpts{Queue: part, Priority: priority, MaxAttempts: 10_000,
		UniqueOpts: river.UniqueOpts{ByArgs: true}}}
}

// put says how many jobs were not there yet.
func (q *Queue) put(ctx context.Context, params ...river.InsertManyParams) (n int, err error) {
	q.clock.align(ctx)
	done, err := q.client.InsertMany(ctx, params)
	if err != nil {
		return 0, fmt.Errorf("put into the queue: %w", err)
	}
	for _, d := range done {
		if !d.UniqueSkippedAsDuplicate {
			n++
		}
	}
	return n, nil
}

// GiveAgain puts what was given to a worker who is gone into the queue again, and says how much that is. Several may do
// so: it is there once.
func (q *Queue) GiveAgain(ctx context.Context, worker string) (n int, err error) {
	params := river.NewJobListParams().States(rivertype.JobStateRunning).First(10_000)
	for {
		list, err := q.client.JobList(ctx, params)
		if err != nil {
			return n, fmt.Errorf("the queue: %w", err)
		}
		for _, row := range list.Jobs {
			if len(row.AttemptedBy) == 0 || row.AttemptedBy[len(row.AttemptedBy)-1] != worker {
				continue
			}
			var j Job
			if err := json.Unmarshal(row.EncodedArgs, &j); err != nil {
				return n, fmt.Errorf("the queue: %w", err)
			}
			j.Ask, _, _ = strings.Cut(j.Ask, behind)
			j.Ask += behind + worker
			added, err := q.put(ctx, once(j, row.Queue, row.Priority))
			if err != nil {
				return n, err
			}
			n += added
		}
		if list.LastCursor == nil || len(list.Jobs) < 10_000 {
			return n, nil
		}
		params = params.After(list.LastCursor)
	}
}

// behind stands in what a job is known by before the one who is gone and had it.
const behind = " behind "

// Good reports whether something can be the name of a queue.
func Good(name string) bool {
	return name != "" && len(name) <= 60 && !strings.ContainsFunc(name, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '_'
	})
}

// NotNow is what a worker says of a job that cannot be carried out now: it comes again after a while.
type NotNow struct{ After time.Duration }

func (NotNow) Error() string { return "not now" }

// doer is a worker of River.
type doer struct {
	river.WorkerDefaults[Job]
	do    func(context.Context, Job) error
	clock *clock
}

// Timeout is none: a run takes as long as it takes.
func (*doer) Timeout(*river.Job[Job]) time.Duration { return -1 }

// NextRetry is when a job is tried again that went wrong.
func (d *doer) NextRetry(job *river.Job[Job]) time.Time {
	now := time.Now()
	if d.clock != nil {
		now = d.clock.Now()
	}
	return now.Add(min(time.Minute, time.Duration(job.Attempt)*2*time.Second))
}

// Work does what it is given.
func (d *doer) Work(ctx context.Context, job *river.Job[Job]) error {
	err := d.do(ctx, job.Args)
	d.clock.align(ctx) // it may come again
	var not NotNow
	switch {
	case errors.As(err, &not):
		return river.JobSnooze(not.After)
	case err != nil: // what it was may not be for the queue, which is not sealed
		return errors.New("it could not be carried out; the worker has said why")
	}
	return nil
}

// never is after how long a job is looked at that has not ended: a run takes as long as it takes, and River would throw
// away what is of a kind that the worker which looks is not let in for. What a worker has lost is given again by GiveAgain.
const never = 100 * 365 * 24 * time.Hour

// Work gives a worker what waits in some queues for some accounts, so much of each queue at once at most. When soft ends
// nothing more is given and what is under way is waited for; when hard ends too it is broken off.
func (q *Queue) Work(soft, hard context.Context, name string, queues, accounts []string, atOnce int, do func(context.Context, Job) error) error {
	workers := river.NewWorkers()
	for _, account := range append([]string{""}, accounts...) {
		river.AddWorkerArgs(workers, Job{Account: account}, &doer{do: do, clock: q.clock})
	}
	config := &river.Config{ID: name, Workers: workers, FetchOnlyKnownKinds: true, Queues: map[string]river.QueueConfig{}, Logger: silent, JobTimeout: -1,
		MaxAttempts: 10_000, FetchCooldown: 50 * time.Millisecond, FetchPollInterval: q.every,
		CompletedJobRetentionPeriod: 24 * time.Hour, RescueStuckJobsAfter: never}
	if q.clock != nil {
		config.Test.Time = q.clock
	}
	for _, n := range queues {
		config.Queues[n] = river.QueueConfig{MaxWorkers: atOnce}
		config.Queues[Item{Queue: n}.part()] = river.QueueConfig{MaxWorkers: 8}
	}
	c, err := q.make(config)
	if err != nil {
		return fmt.Errorf("the queue: %w", err)
	}
	if err := c.Start(context.WithoutCancel(soft)); err != nil {
		return fmt.Errorf("the queue: %w", err)
	}
	<-soft.Done()
	stopping := make(chan error, 1)
	go func() { stopping <- c.Stop(context.Background()) }()
	select {
	case err = <-stopping:
	case <-hard.Done():
		err = c.StopAndCancel(context.Background())
	}
	return err
}
