package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// Waiting is a run that was put into a queue and has not come to its end.
type Waiting struct {
	Run      string
	Account  string
	Queue    string
	Priority int
	// Ask is what its job is known by: that of the one who put it there or, where who carried it out is gone, the
	// lock that was lost.
	Ask   string
	State run.Status
	Held  bool // somebody carries it out
}

// Waiting lists the runs that were put into queues and have not come to their ends.
func (s *Store) Waiting(ctx context.Context) ([]Waiting, error) {
	rows, err := s.db.QueryContext(ctx, `select r.id, s.account, r.queue, r.priority, r.ask, r.state, coalesce(l.token, ''), coalesce(l.host, ''),
		coalesce(l.pid, 0), coalesce(l.until_ms > `+s.db.words().now+`, false) from runs r join stacks s on s.id = r.stack_id left join locks l on l.stack_id = r.stack_id
		where r.state in ('queued', 'working', 'undoing') and r.queue <> '' order by r.priority, r.started_ms`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Waiting
	for rows.Next() {
		var w Waiting
		var h holder
		if err := rows.Scan(&w.Run, &w.Account, &w.Queue, &w.Priority, &w.Ask, &w.State, &h.token, &h.host, &h.pid, &w.Held); err != nil {
			return nil, err
		}
		if w.Held = w.Held && !h.gone(); !w.Held && w.State != run.StatusQueued {
			w.Ask = "behind " + h.token
			if h.token == "" { // it was given back: its job comes again by itself, or else soon
				w.Ask += s.now().UTC().Format("2006-01-02 15:04")
			}
		}
		out = append(out, w)
	}
	return out, rows.Err()
}

// Before says how many locks of other stacks are held in a target that were taken before that of a stack.
func (s *Store) Before(ctx context.Context, t stack.Target, stackID int64) (n int, err error) {
	err = s.db.QueryRowContext(ctx, `select count(*) from locks l join stacks s on s.id = l.stack_id join locks m on m.stack_id = ?
		where s.account = ? and s.region = ? and l.stack_id <> m.stack_id and l.until_ms > `+s.db.words().now+`
		and (l.since_ms < m.since_ms or l.since_ms = m.since_ms and l.stack_id < m.stack_id)`, stackID, t.Account, t.Region).Scan(&n)
	return n, err
}

// Worker is somebody who carries out what waits.
type Worker struct {
	ID       string    `json:"id"`
	Name     string    `json:"name"`
	Queues   []string  `json:"queues"`
	Accounts []string  `json:"accounts"` // that it is let into
	AtOnce   int       `json:"at_once"`
	Busy     int       `json:"busy"`
	Draining bool      `json:"draining"` // it takes nothing more
	Since    time.Time `json:"since"`
	Seen     time.Time `json:"seen"` // when it said last that it is there
	Gone     bool      `json:"gone"` // it has not said so for a while
}

// workerGone is how long a worker says nothing before it counts as gone.
const workerGone = 20 * time.Second

// Beat says that a worker is there, and reports whether it was asked to take nothing more.
func (s *Store) Beat(ctx context.Context, w Worker) (drain bool, err error) {
	queues, err := encode(w.Queues)
	if err != nil {
		return false, err
	}
	accounts, err := encode(w.Accounts)
	if err != nil {
		return false, err
	}
	now := s.db.words().now
	err = s.write(ctx, func(tx transaction) error {
		if err := tx.Do(`insert into workers(id, name, host, pid, queues, accounts, at_once, busy, since_ms, seen_ms) values(?, ?, ?, ?, ?, ?, ?, ?, `+now+`, `+now+`)
			on conflict(id) do update set busy = excluded.busy, at_once = excluded.at_once, seen_ms = excluded.seen_ms`,
			w.ID, w.Name, machine(), os.Getpid(), queues, accounts, w.AtOnce, w.Busy); err != nil {
			return err
		}
		return tx.QueryRowContext(ctx, `select draining from workers where id = ?`, w.ID).Scan(&drain)
	})
	return drain, err
}

// Workers lists those that are there, and those that were until lately.
func (s *Store) Workers(ctx context.Context) ([]Worker, error) {
	rows, err := s.db.QueryContext(ctx, `select id, name, host, pid, queues, accounts, at_once, busy, draining, since_ms, seen_ms, seen_ms < `+s.db.words().now+` - ?
		from workers order by name, id`, workerGone.Milliseconds())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Worker{}
	for rows.Next() {
		var w Worker
		var queues, accounts string
		var since, seen int64
		h := holder{token: "a worker"}
		if err := rows.Scan(&w.ID, &w.Name, &h.host, &h.pid, &queues, &accounts, &w.AtOnce, &w.Busy, &w.Draining, &since, &seen, &w.Gone); err != nil {
			return nil, err
		}
		w.Name, w.Since, w.Seen, w.Gone = cloud.Clean(w.Name), fromMS(since), fromMS(seen), w.Gone || h.gone()
		if err := errors.Join(json.Unmarshal([]byte(queues), &w.Queues), json.Unmarshal([]byte(accounts), &w.Accounts)); err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, rows.Err()
}

// Drain asks a worker, by its name or its id, to take nothing more.
func (s *Store) Drain(ctx context.Context, name string) error {
	n, err := s.exec(ctx, `update workers set draining = true where name = ? or id = ?`, name, name)
	if err == nil && n == 0 {
		err = &notFoundError{fmt.Sprintf("there is no worker '%s': 'brickrow worker list' lists them", name)}
	}
	return err
}

// Left says that a worker is not there any more; those that are gone for a day are forgotten with it.
func (s *Store) Left(ctx context.Context, id string) error {
	return s.release(ctx, `delete from workers where id = ? or seen_ms < `+s.db.words().now+` - ?`, id, (24 * time.Hour).Milliseconds())
}
