package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Happened is one event of some run, as far as it tells what became of a resource.
type Happened struct {
	StackID  int64
	Stack    string
	RunID    string
	Run      int // its number
	Revision int // that the run led to
	Seq      int64
	Time     time.Time
	Resource string
	Reason   string
}

// mostFailures bounds how far back one looks for failures that are alike.
const mostFailures = 50

// FailedLike lists failures of resources of a type with a kind of problem, in all stacks,
// that came before a time, the newest first.
func (s *Store) FailedLike(ctx context.Context, typ, problem string, before time.Time) ([]Happened, error) {
	rows, err := s.db.QueryContext(ctx, `select r.stack_id, s.name, r.id, r.number, r.revision, e.seq, e.time_ms, e.resource, e.reason
		from events e join runs r on r.id = e.run_id join stacks s on s.id = r.stack_id
		where e.problem = ? and e.problem <> '' and e.type = ? and e.state = 'failed' and e.time_ms < ?
		order by e.time_ms desc, e.seq desc limit ?`, problem, typ, before.UnixMilli(), mostFailures)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Happened
	for rows.Next() {
		h, err := scanHappened(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, h)
	}
	return out, rows.Err()
}

// WentThrough is the first time after a failure that its resource became what was wanted
// of it, in a run that was done; the error is ErrNotFound where it never did.
func (s *Store) WentThrough(ctx context.Context, of Happened) (Happened, error) {
	h, err := scanHappened(s.db.QueryRowContext(ctx,
		`select r.stack_id, ?, r.id, r.number, r.revision, e.seq, e.time_ms, e.resource, e.reason
		from runs r join events e on r.id = e.run_id
		where r.stack_id = ? and r.state = 'done' and (r.number > ? or r.number = ? and e.seq > ?)
			and e.resource = ? and e.state in ('ready', 'removed', 'kept')
		order by r.number, e.seq limit 1`, of.Stack, of.StackID, of.Run, of.Run, of.Seq, of.Resource))
	if errors.Is(err, sql.ErrNoRows) {
		return h, ErrNotFound
	}
	return h, err
}

func scanHappened(row interface{ Scan(...any) error }) (h Happened, err error) {
	var at int64
	err = row.Scan(&h.StackID, &h.Stack, &h.RunID, &h.Run, &h.Revision, &h.Seq, &at, &h.Resource, &h.Reason)
	h.Time = fromMS(at)
	return h, err
}
