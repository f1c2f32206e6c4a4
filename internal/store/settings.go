package store

import (
	"context"
	"database/sql"
	"errors"
)

// Setting reads what all who share the store have set under a name; "" is nothing.
func (s *Store) Setting(ctx context.Context, name string) (body string, err error) {
	err = s.db.QueryRowContext(ctx, `select body from settings where name = ?`, name).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return body, err
}

// Set sets something for all who share the store, where it is still what it was before; else it reports false.
func (s *Store) Set(ctx context.Context, name, was, body string) (bool, error) {
	if !s.Member() {
		return false, ErrNoMember
	}
	query, args := `update settings set body = ? where name = ? and body = ?`, []any{body, name, was}
	if was == "" {
		query, args = `insert into settings(body, name) values(?, ?) on conflict (name) do nothing`, args[:2]
	}
	n, err := s.exec(ctx, query, args...)
	return n > 0, err
}
