package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// lastTimings is how many of the last timings of a type and an action count.
const lastTimings = 9

// Timings are how long steps took in past runs, as ratios to what the profile
// says: the last nine of each type and action, the newest first.
func (s *Store) Timings(ctx context.Context) (map[string]map[run.Action][]float64, error) {
	kinds, err := s.timed(ctx)
	if err != nil || len(kinds) == 0 {
		return nil, err
	}
	var each []string
	var args []any
	for _, k := range kinds {
		each = append(each, `select * from (select type, action, ratio, at_ms from timings where type = ? and action = ? order by at_ms desc limit ?) as t`)
		args = append(args, k.typ, k.action, lastTimings)
	}
	rows, err := s.db.QueryContext(ctx, strings.Join(each, " union all ")+` order by 4 desc`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]map[run.Action][]float64{}
	for rows.Next() {
		var typ string
		var action run.Action
		var ratio float64
		var at int64
		if err := rows.Scan(&typ, &action, &ratio, &at); err != nil {
			return nil, err
		}
		if out[typ] == nil {
			out[typ] = map[run.Action][]float64{}
		}
		out[typ][action] = append(out[typ][action], ratio)
	}
	return out, rows.Err()
}

// kind is what is timed together.
type kind struct {
	typ    string
	action run.Action
}

// timed are the types and actions that there are timings of, each found by its index however many there are.
func (s *Store) timed(ctx context.Context) ([]kind, error) {
	rows, err := s.db.QueryContext(ctx, `with recursive
		types(type) as (select min(type) from timings union all
			select (select min(t.type) from timings t where t.type > types.type) from types where types.type is not null),
		kinds(type, action) as (select type, (select min(t.action) from timings t where t.type = types.type) from types union all
			select type, (select min(t.action) from timings t where t.type = kinds.type and t.action > kinds.action) from kinds where kinds.action is not null)
		select type, action from kinds where action is not null order by type, action`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []kind
	for rows.Next() {
		var k kind
		if err := rows.Scan(&k.typ, &k.action); err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, rows.Err()
}

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
