package store

import (
	"context"
	"time"

	"brickrow/internal/run"
)

// Tidied is what was thinned.
type Tidied struct {
	Runs   int64 `json:"runs"`   // whose plan has gone
	Events int64 `json:"events"` // of what was on the way
	Before int64 `json:"before"` // bytes of the store
	After  int64 `json:"after"`
}

// Tidy thins runs that have ended well, or were undone, before a time: their plans
// go, and the events of what was on the way. How each resource ended stays, and so
// does what the run said of itself. The last run of a stack is left alone.
func (s *Store) Tidy(ctx context.Context, before time.Time) (Tidied, error) {
	var out Tidied
	size := func() (n int64, err error) {
		err = s.db.QueryRowContext(ctx, s.db.words().size).Scan(&n)
		return n, err
	}
	var err error
	if out.Before, err = size(); err != nil {
		return out, err
	}
	const over = `select id from runs r where state in ('done', 'undone') and ended_ms > 0 and ended_ms < ? and
		number < (select max(number) from runs where stack_id = r.stack_id)`
	err = s.write(ctx, func(tx transaction) error {
		var err error
		out.Events, err = tx.ExecContext(ctx,
			`delete from events where resource <> '' and state in (?, ?, ?, ?) and run_id in (`+over+`)`, run.Working,
			run.Settling, run.Undoing, run.Removing, before.UnixMilli())
		if err != nil {
			return err
		}
		out.Runs, err = tx.ExecContext(ctx, `update runs set plan = '{}' where plan <> '{}' and id in (`+over+`)`,
			before.UnixMilli())
		return err
	})
	if err != nil {
		return out, err
	}
	if err := s.db.Compact(ctx); err != nil {
		return out, err
	}
	out.After, err = size()
	return out, err
}
