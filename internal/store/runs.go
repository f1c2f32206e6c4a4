package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

const runColumns = `id, stack_id, number, kind, state, revision, base, prior, on_failure, plan, tally, estimate,
	started_by, started_ms, ended_ms, reason, cancel, back, pause, only_of, origin, queue, priority, ask, receipt, signed_by`

func scanRun(row interface{ Scan(...any) error }) (*run.Record, error) {
	r := &run.Record{}
	var plan, tally, only, origin, receipt string
	var started, ended int64
	err := row.Scan(&r.ID, &r.StackID, &r.Number, &r.Kind, &r.State, &r.Revision, &r.Base, &r.Prior, &r.OnFailure,
		&plan, &tally, &r.Estimate, &r.By, &started, &ended, &r.Reason, &r.Cancel, &r.Back, &r.Pause, &only, &origin,
		&r.Queue, &r.Priority, &r.Ask, &receipt, &r.SignedBy)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("run: %w", ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	r.Started, r.Ended = fromMS(started), fromMS(ended)
	if receipt != "" {
		r.Receipt = &stack.Receipt{}
		if err := json.Unmarshal([]byte(receipt), r.Receipt); err != nil {
			return nil, err
		}
	}
	return r, errors.Join(json.Unmarshal([]byte(plan), &r.Plan), json.Unmarshal([]byte(tally), &r.Tally),
		json.Unmarshal([]byte(only), &r.Only), json.Unmarshal([]byte(origin), &r.Origin))
}

// ErrLockLost says that a run is written by somebody who does not hold the lock
// of its stack any more.
var ErrLockLost = errors.New("the lock of the stack was lost to somebody else")

// fenced makes something ready and writes it, under the lock of the run's stack. A process
// that has lost it can write nothing more.
func (s *Store) fenced(ctx context.Context, r *run.Record, ready func() error, f func(tx transaction) error) error {
	return s.sealing(ctx, ready, func(tx transaction) error {
		if err := tx.Fence(ctx, r.StackID, r.Token); err != nil {
			return err
		}
		return f(tx)
	})
}

// nothing is what is made ready where nothing is sealed.
func nothing() error { return nil }

// Begin is what is written together with a new run.
type Begin struct {
	Revision *stack.Revision   // that the run leads to; nil is none
	About    *About            // nil leaves it as it is
	Taken    []*stack.Recorded // what is there and is about to come under the stack
}

// About is what a stack file says of its stack.
type About struct {
	Description, File  string
	Careful, Throwaway bool
	Approvers          []string
	Fleet              string // that it belongs to
}

// StartRun writes a new run with all that belongs to it, at once.
func (s *Store) StartRun(ctx context.Context, r *run.Record, b Begin) error {
	plan, err := encode(r.Plan)
	if err != nil {
		return err
	}
	tally, err := encode(r.Tally)
	if err != nil {
		return err
	}
	only, err := encode(append([]string{}, r.Only...))
	if err != nil {
		return err
	}
	origin, err := encode(r.Origin)
	if err != nil {
		return err
	}
	taken := make([]string, len(b.Taken))
	ready := func() (err error) {
		for i, t := range b.Taken {
			if taken[i], err = s.encodeRecorded(t); err != nil {
				return err
			}
		}
		return nil
	}
	r.Started = s.now()
	return s.fenced(ctx, r, ready, func(tx transaction) error {
		if err := tx.QueryRowContext(ctx, `select coalesce(max(number), 0) + 1 from runs where stack_id = ?`,
			r.StackID).Scan(&r.Number); err != nil {
			return err
		}
		if b.About != nil {
			approvers, err := encode(append([]string{}, b.About.Approvers...))
			if err != nil {
				return err
			}
			if err := tx.Do(`update stacks set description = ?, stack_file = ?, careful = ?, throwaway = ?, approvers = ?, fleet = ?
					where id = ?`,
				b.About.Description, b.About.File, b.About.Careful, b.About.Throwaway, approvers, b.About.Fleet,
				r.StackID); err != nil {
				return err
			}
		}
		for i, t := range b.Taken {
			if err := changeRecord(ctx, tx, r.StackID, run.Keep{Name: t.Name, Record: t}, taken[i]); err != nil {
				return err
			}
		}
		if b.Revision != nil {
			if r.Revision, err = s.addRevision(ctx, tx, r.StackID, *b.Revision); err != nil {
				return err
			}
		}
		if err := tx.Do(`insert into runs(`+runColumns+`) values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, '', false, false, false, ?, ?, ?, ?, ?, '', '')`,
			r.ID, r.StackID, r.Number, r.Kind, r.State, r.Revision, r.Base, r.Prior, r.OnFailure, plan, tally,
			r.Estimate, r.By, r.Started.UnixMilli(), only, origin, r.Queue, r.Priority, r.Ask); err != nil {
			return err
		}
		if err := s.signRow(ctx, tx, runKind, r.ID); err != nil {
			return err
		}
		err := tx.Do(`update stacks set state = ?, updated_ms = ? where id = ?`, r.StackState(),
			r.Started.UnixMilli(), r.StackID)
		return err
	})
}

// SetRun writes the state of a run and of its stack. A run that has ended gets
// its end, a stack its revision.
func (s *Store) SetRun(ctx context.Context, r *run.Record, revision int) error {
	now := s.now().UnixMilli()
	ended := int64(0)
	if r.State.Ended() {
		ended = now
		r.Ended = fromMS(now)
	}
	var plan string
	if r.State == run.StatusDone || r.State == run.StatusUndone { // nothing is held against it any more
		var err error
		if plan, err = encode(run.Plan{Steps: r.Plan.Steps}); err != nil {
			return err
		}
	}
	receipt := ""
	if r.Receipt != nil {
		var err error
		if receipt, err = encode(r.Receipt); err != nil {
			return err
		}
	}
	return s.fenced(ctx, r, nothing, func(tx transaction) error {
		if plan != "" {
			if err := tx.Do(`update runs set plan = ? where id = ?`, plan, r.ID); err != nil {
				return err
			}
			if err := tx.Do(`delete from journal where run_id = ?`,
				r.ID); err != nil { // nobody goes on with it
				return err
			}
		}
		if err := tx.Do(`update runs set state = ?, reason = ?, ended_ms = ?, back = ?, receipt = ? where id = ?`,
			r.State, r.Reason, ended, r.Back, receipt, r.ID); err != nil {
			return err
		}
		err := tx.Do(`update stacks set state = ?, revision = ?, updated_ms = ? where id = ?`,
			r.StackState(), revision, now, r.StackID)
		return err
	})
}

// ContinueRun writes that a run goes on, and that some steps of it that failed, by their
// ids, are tried again.
func (s *Store) ContinueRun(ctx context.Context, r *run.Record, again []string) error {
	return s.fenced(ctx, r, nothing, func(tx transaction) error {
		for _, step := range again {
			if err := tx.Do(`update journal set state = ? where run_id = ? and step = ? and state = ?`, run.Again,
				r.ID, step, run.Failed); err != nil {
				return err
			}
		}
		if err := tx.Do(`update runs set state = ?, reason = ?, cancel = ?, ended_ms = 0, back = ?, pause = false, receipt = '', queue = ?, priority = ?,
				ask = ? where id = ?`, r.State, r.Reason, r.Cancel, r.Back, r.Queue, r.Priority, r.Ask, r.ID); err != nil {
			return err
		}
		err := tx.Do(`update stacks set state = ?, updated_ms = ? where id = ?`, r.StackState(),
			s.now().UnixMilli(), r.StackID)
		return err
	})
}

// run reads one run.
func (s *Store) run(ctx context.Context, query string, args ...any) (*run.Record, error) {
	r, err := scanRun(s.db.QueryRowContext(ctx, query, args...))
	if err != nil {
		return nil, err
	}
	return r, s.carriedOut(ctx, r)
}

// carriedOut finds out whether anybody carries the runs out that have not ended.
func (s *Store) carriedOut(ctx context.Context, list ...*run.Record) error {
	for _, r := range list {
		if r.State != run.StatusWorking && r.State != run.StatusUndoing {
			continue
		}
		holder, err := s.LockHolder(ctx, r.StackID)
		if err != nil {
			return err
		}
		r.Alone = holder == ""
	}
	return nil
}

// Run reads a run by its id.
func (s *Store) Run(ctx context.Context, id string) (*run.Record, error) {
	return s.run(ctx, `select `+runColumns+` from runs where id = ?`, id)
}

// headColumns are those of a run without its plan, which may be long.
var headColumns = strings.Replace(runColumns, "plan", "'{}'", 1)

// Head reads a run without its plan.
func (s *Store) Head(ctx context.Context, id string) (*run.Record, error) {
	return s.run(ctx, `select `+headColumns+` from runs where id = ?`, id)
}

// LastHead reads the last run of a stack without its plan.
func (s *Store) LastHead(ctx context.Context, stackID int64) (*run.Record, error) {
	return s.run(ctx, `select `+headColumns+` from runs where stack_id = ? order by number desc limit 1`, stackID)
}

// LastKept reads the last run of a stack that was not undone, without its plan.
func (s *Store) LastKept(ctx context.Context, stackID int64) (*run.Record, error) {
	return s.run(ctx, `select `+headColumns+` from runs where stack_id = ? and state <> 'undone' and kind <> 'action' order by number desc limit 1`, stackID)
}

// RunNumber reads a run of a stack; 0 is the last one.
func (s *Store) RunNumber(ctx context.Context, stackID int64, number int) (*run.Record, error) {
	return s.run(ctx, `select `+runColumns+` from runs where stack_id = ? and (? = 0 or number = ?) order by number desc limit 1`,
		stackID, number, number)
}

// LastRuns reads the last run of every stack, without its plan, by the stack's
// id.
func (s *Store) LastRuns(ctx context.Context) (map[int64]*run.Record, error) {
	rows, err := s.db.QueryContext(ctx, `select `+headColumns+
		` from runs r where number = (select max(number) from runs where stack_id = r.stack_id)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]*run.Record{}
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, err
		}
		out[r.StackID] = r
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	return out, s.carriedOut(ctx, slices.Collect(maps.Values(out))...)
}

// Runs lists the runs of a stack without their plans, the newest first.
func (s *Store) Runs(ctx context.Context, stackID int64) ([]*run.Record, error) {
	rows, err := s.db.QueryContext(ctx, `select `+headColumns+` from runs where stack_id = ? order by number desc`, stackID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*run.Record
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	return out, s.carriedOut(ctx, out...)
}

// FailedIn lists the resources that failed in the runs of a stack, by the id of the run, in
// the order in which they did.
func (s *Store) FailedIn(ctx context.Context, stackID int64) (map[string][]string, error) {
	rows, err := s.db.QueryContext(ctx, `select run_id, resource from events where state = ? and resource <> '' and run_id in
		(select id from runs where stack_id = ?) group by run_id, resource order by min(seq)`, run.HasFailed, stackID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string][]string{}
	for rows.Next() {
		var id, name string
		if err := rows.Scan(&id, &name); err != nil {
			return nil, err
		}
		out[id] = append(out[id], name)
	}
	return out, rows.Err()
}

// LastDone reads the last run of a kind that was done, of those numbered below another
// one, with its plan.
func (s *Store) LastDone(ctx context.Context, stackID int64, kind run.Kind, below int) (*run.Record, error) {
	return s.run(ctx, `select `+runColumns+
		` from runs where stack_id = ? and kind = ? and state = 'done' and number < ? order by number desc limit 1`,
		stackID, kind, below)
}

// Estimated is a run that was done: how long it was thought to take, and took.
type Estimated struct {
	Estimate float64 // seconds
	Took     time.Duration
}

// mostEstimates bounds how many past runs tell how good the estimates are, and
// leastEstimate, in seconds, which are too short to tell anything.
const mostEstimates, leastEstimate = 20, 1.0

// Estimates lists the last runs in a target that were done without a pause and began
// before a time, the newest first.
func (s *Store) Estimates(ctx context.Context, t stack.Target, before time.Time) ([]Estimated, error) {
	rows, err := s.db.QueryContext(ctx, `select r.estimate, r.ended_ms - r.started_ms from runs r join stacks s on s.id = r.stack_id
		where s.account = ? and s.region = ? and r.state = 'done' and r.estimate >= ? and r.started_ms < ? and not exists
			(select 1 from events e where e.run_id = r.id and e.resource = '' and e.state = 'waiting')
		order by r.started_ms desc limit ?`, t.Account, t.Region, leastEstimate, before.UnixMilli(), mostEstimates)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Estimated
	for rows.Next() {
		var e Estimated
		var ms int64
		if err := rows.Scan(&e.Estimate, &ms); err != nil {
			return nil, err
		}
		e.Took = time.Duration(ms) * time.Millisecond
		out = append(out, e)
	}
	return out, rows.Err()
}

// FormerRevision is the revision that a stack was at before its current one,
// or before it was removed; 0 where there was none. Revisions of runs that
// failed were never deployed and do not count.
func (s *Store) FormerRevision(ctx context.Context, st *stack.Stack) (int, error) {
	var base int
	err := s.db.QueryRowContext(ctx,
		`select base from runs where stack_id = ? and state = 'done' and kind <> 'action' and revision = ? order by number desc limit 1`,
		st.ID, st.Revision).Scan(&base)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return base, err
}

// RequestCancel asks the process of a run to stop, and says what becomes of what it has
// done.
func (s *Store) RequestCancel(ctx context.Context, runID string, then stack.OnFailure) error {
	_, err := s.exec(ctx, `update runs set cancel = true, pause = false, on_failure = ? where id = ?`, then, runID)
	return err
}

// RequestPause asks the process of a run to begin nothing more, or to go on.
func (s *Store) RequestPause(ctx context.Context, runID string, pause bool) error {
	_, err := s.exec(ctx, `update runs set pause = ? where id = ?`, pause, runID)
	return err
}

// SetOnFailure chooses what becomes of what a run has done when it fails.
func (s *Store) SetOnFailure(ctx context.Context, runID string, then stack.OnFailure) error {
	_, err := s.exec(ctx, `update runs set on_failure = ? where id = ?`, then, runID)
	return err
}

// Wishes are what somebody wants of a run while it goes on.
func (s *Store) Wishes(ctx context.Context, runID string) (w run.Wishes, err error) {
	err = s.db.QueryRowContext(ctx, `select cancel, pause from runs where id = ?`, runID).Scan(&w.Cancel, &w.Pause)
	return w, err
}

// entryBody is the part of a journal entry that is written as JSON.
type entryBody struct {
	Step    run.Step       `json:"step"`
	CloudID string         `json:"cloud_id"`
	Reason  string         `json:"reason"`
	Shell   string         `json:"shell,omitempty"`
	Unsure  bool           `json:"unsure,omitempty"`
	Backup  string         `json:"backup,omitempty"`
	Asked   string         `json:"asked,omitempty"`
	Before  map[string]any `json:"before"` // the sealed properties of a Snapshot; nil is no snapshot
	Links   map[string][]string
	Tags    map[string]any
	Others  []string `json:",omitempty"`
	Hidden  bool     `json:",omitempty"` // the names of the tags
	ETag    string   `json:",omitempty"`
	Record  string   `json:"record,omitempty"` // what was recorded before the step
}

// Journal reads the journal of a run, in no order.
func (s *Store) Journal(ctx context.Context, runID string) ([]run.Entry, error) {
	rows, err := s.db.QueryContext(ctx, `select state, attempt, body from journal where run_id = ?`, runID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []run.Entry
	for rows.Next() {
		var e run.Entry
		var text string
		if err := rows.Scan(&e.State, &e.Attempt, &text); err != nil {
			return nil, err
		}
		var b entryBody
		if err := decode(text, &b); err != nil {
			return nil, err
		}
		e.Step, e.CloudID, e.Reason, e.Shell, e.Unsure, e.Backup, e.Asked = b.Step, b.CloudID, b.Reason, b.Shell, b.Unsure, b.Backup, b.Asked
		if b.Before != nil {
			v, err := s.openMap(b.Before)
			if err != nil {
				return nil, err
			}
			e.Before = &run.Snapshot{Properties: v, Links: b.Links, ETag: b.ETag, Others: b.Others,
				NamesHidden: b.Hidden}
			if b.Tags != nil {
				if e.Before.Tags, err = s.openMap(b.Tags); err != nil {
					return nil, err
				}
				if all := e.Before.Tags[""]; b.Hidden && all != nil {
					e.Before.Tags = stack.TagMap(all)
				}
			}
		}
		if b.Record != "" {
			name := e.Step.Resource
			if e.Step.Action == run.Rename { // it had its former name before
				name = e.Step.From
			}
			if e.Record, err = s.decodeRecorded(name, b.Record); err != nil {
				return nil, err
			}
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// Note writes a journal entry together with the event and the change of the
// record that belong to it: all of it or nothing. It takes the lock of the stack.
func (s *Store) Note(ctx context.Context, r *run.Record, e *run.Entry, ev *run.Event, changes []run.Change) error {
	var entry string
	bodies := make([]string, len(changes))
	ready := func() (err error) {
		if e != nil {
			if entry, err = s.encodeEntry(e); err != nil {
				return err
			}
		}
		for i, ch := range changes {
			switch ch := ch.(type) {
			case run.Put:
				bodies[i], err = s.encodeRecorded(ch.Record)
			case run.Keep:
				bodies[i], err = s.encodeRecorded(ch.Record)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	return s.fenced(ctx, r, ready, func(tx transaction) error {
		if e != nil {
			if err := tx.Do(`insert into journal(run_id, step, state, attempt, body) values(?, ?, ?, ?, ?) on conflict(run_id,
					step) do update set state = excluded.state, attempt = excluded.attempt, body = excluded.body`,
				r.ID, e.Step.ID, e.State, e.Attempt, entry); err != nil {
				return err
			}
		}
		if ev != nil {
			if err := s.addEvent(ctx, tx, r, ev); err != nil {
				return err
			}
		}
		if err := s.time(ctx, tx, r, e, ev); err != nil {
			return err
		}
		for i, ch := range changes {
			if err := changeRecord(ctx, tx, r.StackID, ch, bodies[i]); err != nil {
				return err
			}
		}
		if len(changes) == 0 {
			return nil
		}
		now := s.now().UnixMilli()
		return tx.Do(`update stacks set updated_ms = case when updated_ms < ? then ? else updated_ms + 1 end where id = ?`,
			now, now, r.StackID)
	})
}

// encodeEntry is an entry of the journal as it is stored.
func (s *Store) encodeEntry(e *run.Entry) (string, error) {
	b := entryBody{Step: e.Step, CloudID: e.CloudID, Reason: e.Reason, Shell: e.Shell, Unsure: e.Unsure, Backup: e.Backup, Asked: e.Asked}
	var err error
	if e.Before != nil {
		if b.Before, err = s.sealMap(e.Before.Properties); err != nil {
			return "", err
		}
		if e.Before.Tags != nil {
			if b.Tags, err = s.sealMap(e.Before.Tags); err != nil {
				return "", err
			}
			if e.Before.NamesHidden { // as one
				sealed, err := s.seal(tosca.Hide(tosca.Map(e.Before.Tags)))
				if err != nil {
					return "", err
				}
				b.Tags = map[string]any{"": sealed}
			}
		}
		b.Links, b.ETag, b.Others, b.Hidden = e.Before.Links, e.Before.ETag, e.Before.Others, e.Before.NamesHidden
	}
	if e.Record != nil {
		if b.Record, err = s.encodeRecorded(e.Record); err != nil {
			return "", err
		}
	}
	return encode(b)
}

// addEvent writes an event. Its number comes from the one who holds the lock of the
// run, and nobody else writes it: events stand in the order of their numbers.
func (s *Store) addEvent(ctx context.Context, tx transaction, r *run.Record, ev *run.Event) error {
	if ev.Time.IsZero() {
		ev.Time = s.now()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	of := r.ID + " " + r.Token
	last, ok := s.numbers[of]
	if !ok {
		if err := tx.QueryRowContext(ctx, `select coalesce(max(seq), 0) from events where run_id = ?`, r.ID).
			Scan(&last); err != nil {
			return err
		}
	}
	ev.Seq = last + 1
	s.numbers[of] = ev.Seq
	tx.Undone(func() { // it is not sure what was written
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.numbers, of)
	})
	err := tx.Do(`insert into events(run_id, seq, time_ms, resource, type, state, step, reason, elapsed_ms, cloud_id, attempt,
			problem, fix) values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.ID, ev.Seq, ev.Time.UnixMilli(), ev.Resource, ev.Type, ev.State, ev.Step, ev.Reason,
		ev.Elapsed.Milliseconds(), ev.CloudID, ev.Attempt, ev.Problem, ev.Fix)
	return err
}

// changeRecord applies one change to what is recorded of a stack; body is that of
// the record in it.
func changeRecord(ctx context.Context, tx transaction, stackID int64, ch run.Change, body string) error {
	exec := func(query string, args ...any) error {
		err := tx.Do(query, args...)
		return err
	}
	switch ch := ch.(type) {
	case run.Retire:
		return exec(`update resources set old = (select max(o.old) + 1 from resources o where o.stack_id = ? and
			o.name = ?) where stack_id = ? and name = ? and old = 0`, stackID, ch.Name, stackID, ch.Name)
	case run.Remove:
		return exec(`delete from resources where stack_id = ? and name = ? and old = 0`, stackID, ch.Name)
	case run.RemoveOld:
		return exec(`delete from resources where stack_id = ? and name = ? and old > 0 and cloud_id = ?`, stackID,
			ch.Name, ch.ID)
	case run.Restore:
		return exec(`update resources set old = 0 where stack_id = ? and name = ? and old > 0 and cloud_id = ?`,
			stackID, ch.Name, ch.ID)
	case run.Keep:
		return exec(`insert into kept(stack_id, cloud_id, name, body) values(?, ?, ?, ?) on conflict(stack_id,
			cloud_id) do update set name = excluded.name, body = excluded.body`,
			stackID, ch.Record.ID, ch.Name, body)
	case run.Unkeep:
		return exec(`delete from kept where stack_id = ? and cloud_id = ?`, stackID, ch.ID)
	case run.Put:
		return exec(`insert into resources(stack_id, name, old, position, body, cloud_id) values(?, ?, 0, ?, ?, ?)
			on conflict(stack_id, name, old) do update
			set position = excluded.position, body = excluded.body, cloud_id = excluded.cloud_id`,
			stackID, ch.Record.Name, ch.Position, body, ch.Record.ID)
	}
	return fmt.Errorf("the record cannot be changed by a %T", ch)
}

// Events reads the events of a run after a position, oldest first.
func (s *Store) Events(ctx context.Context, runID string, after int64) ([]run.Event, error) {
	rows, err := s.db.QueryContext(ctx,
		`select seq, time_ms, resource, type, state, step, reason, elapsed_ms, cloud_id, attempt, problem, fix
			from events where run_id = ? and seq > ? order by seq`, runID, after)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []run.Event
	for rows.Next() {
		var e run.Event
		var at, elapsed int64
		if err := rows.Scan(&e.Seq, &at, &e.Resource, &e.Type, &e.State, &e.Step, &e.Reason, &elapsed, &e.CloudID,
			&e.Attempt, &e.Problem, &e.Fix); err != nil {
			return nil, err
		}
		e.Time, e.Elapsed = fromMS(at), time.Duration(elapsed)*time.Millisecond
		out = append(out, e)
	}
	return out, rows.Err()
}
