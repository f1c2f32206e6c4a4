package store

import (
	"context"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/shareddb"
)

// Status is where a store is, and what is in it.
type Status struct {
	Place     string         `json:"place"`
	Kind      string         `json:"kind"` // file or shared
	Version   int64          `json:"version"`
	Knows     int64          `json:"knows"` // the version that this program brings one to
	Writable  bool           `json:"writable"`
	Why       string         `json:"why,omitempty"` // it is not
	Bytes     int64          `json:"bytes"`
	Rows      map[string]int `json:"rows"` // of what there is most to know about
	RoundTrip float64        `json:"round_trip_ms,omitempty"`
	Line      *shareddb.Line `json:"connection,omitempty"` // of a shared one
}

// Status looks at the store.
func (s *Store) Status(ctx context.Context) (Status, error) {
	out := Status{Place: s.place.String(), Kind: "file", Writable: s.older == nil, Rows: map[string]int{}}
	if s.older != nil {
		out.Why = s.older.Error()
	}
	var err error
	if out.Version, out.Knows, err = s.Versions(ctx); err != nil {
		return out, err
	}
	if err := s.db.QueryRowContext(ctx, s.db.words().size).Scan(&out.Bytes); err != nil {
		return out, err
	}
	for _, name := range []string{"stacks", "revisions", "runs", "events"} {
		var n int
		if err := s.db.QueryRowContext(ctx, `select count(*) from `+name).Scan(&n); err != nil {
			return out, err
		}
		out.Rows[name] = n
	}
	if db, ok := s.db.(shared); ok {
		out.Kind = "shared"
		line, err := db.Line(ctx)
		if err != nil {
			return out, err
		}
		out.Line = &line
		took, err := db.RoundTrip(ctx)
		if err != nil {
			return out, err
		}
		out.RoundTrip = float64(took.Microseconds()) / 1000
	}
	return out, nil
}

// Held is a lock that is held.
type Held struct {
	Holder string
	Until  time.Time
}

// Locks lists the locks that are held now, by the stack's id.
func (s *Store) Locks(ctx context.Context) (map[int64]Held, error) {
	rows, err := s.db.QueryContext(ctx, `select stack_id, token, holder, host, pid, until_ms from locks where until_ms > `+s.db.words().now)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]Held{}
	for rows.Next() {
		var id, until int64
		var h holder
		if err := rows.Scan(&id, &h.token, &h.name, &h.host, &h.pid, &until); err != nil {
			return nil, err
		}
		if !h.gone() {
			out[id] = Held{cloud.Clean(h.name), fromMS(until)}
		}
	}
	return out, rows.Err()
}
