package store

import (
	"context"
	"database/sql"
	"encoding/base64"
	"errors"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
)

// NoteAsked keeps what was asked for somewhere and is not recorded yet, so that whoever goes on with a run knows
// of it. It is sealed.
func (s *Store) NoteAsked(ctx context.Context, shelf, name string, body []byte) error {
	var text string
	ready := func() (err error) {
		text, err = s.sealed(hidden(body))
		return err
	}
	return s.sealing(ctx, ready, func(tx transaction) error {
		return tx.Do(`insert into asked(shelf, name, body, at_ms) values(?, ?, ?, ?) on conflict(shelf, name) do update set
			body = excluded.body, at_ms = excluded.at_ms`, shelf, name, text, s.now().UnixMilli())
	})
}

// Asked lists what is noted on a shelf.
func (s *Store) Asked(ctx context.Context, shelf string) ([]cloud.Noted, error) {
	rows, err := s.db.QueryContext(ctx, `select name, body, at_ms from asked where shelf = ? order by name`, shelf)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []cloud.Noted
	for rows.Next() {
		var n cloud.Noted
		var text string
		var at int64
		if err := rows.Scan(&n.Name, &text, &at); err != nil {
			return nil, err
		}
		if n.Body, err = s.shown(text); err != nil {
			return nil, err
		}
		n.At = fromMS(at)
		out = append(out, n)
	}
	return out, rows.Err()
}

// ForgetAsked forgets what was noted.
func (s *Store) ForgetAsked(ctx context.Context, shelf, name string) error {
	_, err := s.exec(ctx, `delete from asked where shelf = ? and name = ?`, shelf, name)
	return err
}

// Key is a key of a name that all who share the store have. Where there is none yet it becomes the one given.
func (s *Store) Key(ctx context.Context, name string, fresh []byte) ([]byte, error) {
	read := func() ([]byte, error) {
		var text string
		if err := s.db.QueryRowContext(ctx, `select body from secrets where name = ?`, name).Scan(&text); err != nil {
			return nil, err
		}
		return s.shown(text)
	}
	key, err := read()
	if !errors.Is(err, sql.ErrNoRows) {
		return key, err
	}
	var text string
	ready := func() (err error) {
		text, err = s.sealed(hidden(fresh))
		return err
	}
	if err := s.sealing(ctx, ready, func(tx transaction) error {
		return tx.Do(`insert into secrets(name, body) values(?, ?) on conflict do nothing`, name, text)
	}); err != nil {
		return nil, err
	}
	return read()
}

// hidden is bytes as a secret value, and shown opens it again.
func hidden(b []byte) tosca.Value {
	return tosca.Secret{Value: tosca.String(base64.StdEncoding.EncodeToString(b))}
}

func (s *Store) shown(text string) ([]byte, error) {
	v, err := s.opened(text)
	if err != nil {
		return nil, err
	}
	if tosca.IsUnreadable(v) {
		return nil, ErrNoMember
	}
	bare, _ := tosca.Bare(v)
	is, _ := bare.(tosca.String)
	return base64.StdEncoding.DecodeString(string(is))
}
