package store

import (
	"context"
	"database/sql"
	"errors"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// lastTimings is how many of the last timings of a type and an action count.
const lastTimings = 9

// Timings are how long steps took in past runs, as ratios to what the profile
// says: the last nine of each type and action, the newest first.
func (s *Store) Timings(ctx context.Context) (map[string]map[run.Action][]float64, error) {
	rows, err := s.db.QueryContext(ctx, newestTimings, lastTimings-1)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]map[run.Action][]float64{}
	for rows.Next() {
		var typ string
		var action run.Action
		var ratio float64
		if err := rows.Scan(&typ, &action, &ratio); err != nil {
			return nil, err
		}
		if out[typ] == nil {
			out[typ] = map[run.Action][]float64{}
		}
		if of := out[typ]; len(of[action]) < lastTimings { // as several may be of the same moment
			of[action] = append(of[action], ratio)
		}
	}
	return out, rows.Err()
}

// newestTimings finds the types and actions that there are timings of, and the newest of each, all by their index however
// many there are.
const newestTimings = `with recursive
	types(type) as (select min(type) from timings union all
		select (select min(t.type) from timings t where t.type > types.type) from types where types.type is not null),
	kinds(type, action) as (select type, (select min(t.action) from timings t where t.type = types.type) from types union all
		select type, (select min(t.action) from timings t where t.type = kinds.type and t.action > kinds.action) from kinds where kinds.action is not null)
	select t.type, t.action, t.ratio from kinds k join timings t on t.type = k.type and t.action = k.action and t.at_ms >= coalesce(
		(select n.at_ms from timings n where n.type = k.type and n.action = k.action order by n.at_ms desc limit 1 offset ?), 0)
	order by t.at_ms desc`

// time notes how long a step took that has ended well.
func (s *Store) time(ctx context.Context, tx transaction, r *run.Record, e *run.Entry, ev *run.Event) error {
	if !r.Timed || e == nil || ev == nil || e.State != run.Done || e.Step.Phase == run.PhaseUndo ||
		e.Step.Nominal <= 0 || ev.Elapsed <= 0 {
		return nil
	}
	err := tx.Do(`insert into timings(run_id, step, type, action, ratio, at_ms) values(?, ?, ?, ?, ?, ?) on
			conflict(run_id, step) do nothing`,
		r.ID, e.Step.ID, e.Step.Type, e.Step.Action, ev.Elapsed.Seconds()/e.Step.Nominal, s.now().UnixMilli())
	return err
}

// AtOnce is how much a target takes at once, as was learned; 0 is not known.
func (s *Store) AtOnce(ctx context.Context, t stack.Target) (n int, err error) {
	err = s.db.QueryRowContext(ctx, `select at_once from targets where target = ?`, t.String()).Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return n, err
}

// SetAtOnce keeps how much a target takes at once.
func (s *Store) SetAtOnce(ctx context.Context, t stack.Target, n int) error {
	if !s.Member() { // who only looks notes nothing
		return nil
	}
	_, err := s.exec(ctx, `insert into targets(target, at_once) values(?, ?)
		on conflict(target) do update set at_once = excluded.at_once`, t.String(), n)
	return err
}
