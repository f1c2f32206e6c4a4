package store

import (
	"context"
	"fmt"
	"strings"

	"brickrow/internal/tosca"
)

// StackKey tells one state of a stack from all others.
type StackKey struct {
	ID, Updated, Revision int64
	State                 string
}

// StackKeys are those of all stacks.
func (s *Store) StackKeys(ctx context.Context) (out []StackKey, err error) {
	rows, err := s.db.QueryContext(ctx, `select id, updated_ms, revision, state from stacks`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var k StackKey
		if err := rows.Scan(&k.ID, &k.Updated, &k.Revision, &k.State); err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, rows.Err()
}

// atOnceRead is for how many stacks is asked at once.
const atOnceRead = 500

// SecretsIn reads the secrets of stacks, by their ids: those in what is recorded of them, and in the inputs of all their
// revisions, as one that has been replaced may still stand somewhere. Only what holds something that is sealed is read.
func (s *Store) SecretsIn(ctx context.Context, ids []int64) (map[int64]*tosca.Secrets, error) {
	out := map[int64]*tosca.Secrets{}
	of := func(id int64) *tosca.Secrets {
		if out[id] == nil {
			out[id] = &tosca.Secrets{}
		}
		return out[id]
	}
	for len(ids) > 0 {
		some := ids[:min(len(ids), atOnceRead)]
		ids = ids[len(some):]
		args := make([]any, len(some))
		for i, id := range some {
			args[i] = id
		}
		among := "(" + strings.Repeat("?, ", len(some)-1) + "?)"
		for _, table := range []string{"resources", "kept"} {
			if err := s.eachSealed(ctx, `select stack_id, name, body from `+table+` where stack_id in `+among+` and body like '%"`+sealed+`"%'`, args,
				func(id int64, name, body string) error {
					r, err := s.decodeRecorded(name, body)
					if err == nil {
						of(id).Add(tosca.Map(r.Properties), tosca.Map(r.Attributes))
					}
					return err
				}); err != nil {
				return nil, err
			}
		}
		if err := s.eachSealed(ctx, `select s.id, s.name, r.inputs from stacks s join revisions r on r.stack_id = s.id
			where s.id in `+among+` and r.inputs like '%"`+sealed+`"%'`, args, func(id int64, name, body string) error {
			list, err := s.decodeInputs(body, 0)
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			for _, in := range list {
				of(id).Add(in.Value)
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Store) eachSealed(ctx context.Context, query string, args []any, each func(id int64, name, body string) error) error {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var name, body string
		if err := rows.Scan(&id, &name, &body); err != nil {
			return err
		}
		if err := each(id, name, body); err != nil {
			return err
		}
	}
	return rows.Err()
}
