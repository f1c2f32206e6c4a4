package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"brickrow/internal/shareddb"
	"brickrow/internal/sqlite"
)

// What the store asks of a database. Statements are written so that SQLite and PostgreSQL both take
// them; what differs stands here, and in the migrations.
type (
	rows interface {
		Next() bool
		Scan(into ...any) error
		Err() error
		Close() error
	}
	row     interface{ Scan(into ...any) error }
	queryer interface {
		QueryContext(ctx context.Context, query string, args ...any) (rows, error)
		QueryRowContext(ctx context.Context, query string, args ...any) row
	}
	transaction interface {
		queryer
		// Do carries out a statement whose outcome nobody looks at.
		Do(query string, args ...any) error
		ExecContext(ctx context.Context, query string, args ...any) (about int64, err error)
		// Undone is called when the transaction does not count, or is carried out again.
		Undone(f func())
		// Fence lets the transaction fail with ErrLockLost where a token does not hold the lock of a stack.
		Fence(ctx context.Context, stackID int64, token string) error
		// Current lets the transaction fail where the store is somewhere else now, or its key another one.
		Current(ctx context.Context, key string) error
		// Alone lets nobody else write to a table, whose rows are numbered, until the end.
		Alone(table string) error
	}
	database interface {
		queryer
		Write(ctx context.Context, do func(transaction) error) error
		// Compact gives back the room of what was removed.
		Compact(ctx context.Context) error
		Close() error
		words() words
	}
)

// words are what is said differently.
type words struct {
	// now is the database's own clock, in milliseconds since 1970. Leases are told by it, so that machines
	// whose clocks differ agree on them.
	now string
	// size asks for the size of the database, in bytes.
	size string
}

// embedded is a SQLite database.
type embedded struct{ *sqlite.DB }

func (embedded) words() words {
	return words{now: `now_ms()`, // a function of package sqlite
		size: `select page_count * page_size from pragma_page_count(), pragma_page_size()`}
}

func (e embedded) QueryContext(ctx context.Context, query string, args ...any) (rows, error) {
	r, err := e.DB.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, worded(err)
	}
	return wordedRows{r}, nil
}

func (e embedded) QueryRowContext(ctx context.Context, query string, args ...any) row {
	return wordedRow{e.DB.QueryRowContext(ctx, query, args...)}
}

func (e embedded) Write(ctx context.Context, do func(transaction) error) error {
	var tx embeddedTx
	err := e.DB.Write(ctx, func(of *sqlite.Tx) error {
		tx.Tx = of
		return do(&tx)
	})
	if err != nil {
		for _, f := range tx.undone {
			f()
		}
	}
	return worded(err)
}

func about(res sql.Result, err error) (int64, error) {
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

type embeddedTx struct {
	*sqlite.Tx
	undone []func()
}

func (t *embeddedTx) QueryContext(ctx context.Context, query string, args ...any) (rows, error) {
	return t.Tx.QueryContext(ctx, query, args...)
}

func (t *embeddedTx) QueryRowContext(ctx context.Context, query string, args ...any) row {
	return t.Tx.QueryRowContext(ctx, query, args...)
}

func (t *embeddedTx) ExecContext(ctx context.Context, query string, args ...any) (int64, error) {
	return about(t.Tx.ExecContext(ctx, query, args...))
}

func (t *embeddedTx) Do(query string, args ...any) error {
	_, err := t.Tx.ExecContext(context.Background(), query, args...)
	return err
}

func (t *embeddedTx) Undone(f func()) { t.undone = append(t.undone, f) }

func (t *embeddedTx) Fence(ctx context.Context, stackID int64, token string) error {
	var held int
	err := t.QueryRowContext(ctx, `select 1 from locks where stack_id = ? and token = ?`, stackID, token).Scan(&held)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrLockLost
	}
	return err
}

func (t *embeddedTx) Current(ctx context.Context, _ string) error {
	var moved int
	err := t.QueryRowContext(ctx, `select 1 from about where name = 'moved_to'`).Scan(&moved)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err == nil {
		err = errMoved
	}
	return err
}

func (t *embeddedTx) Alone(string) error { return nil } // one writes at a time

// shared is a database on a PostgreSQL server.
type shared struct{ *shareddb.DB }

func (shared) words() words {
	return words{now: `cast(extract(epoch from clock_timestamp()) * 1000 as bigint)`,
		size: `select coalesce(sum(pg_total_relation_size(c.oid)), 0)::bigint from pg_class c where c.relkind = 'r' and
			c.relnamespace = current_schema()::regnamespace`}
}

func (s shared) QueryContext(ctx context.Context, query string, args ...any) (rows, error) {
	r, err := s.DB.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, worded(err)
	}
	return wordedRows{r}, nil
}

func (s shared) QueryRowContext(ctx context.Context, query string, args ...any) row {
	return wordedRow{s.DB.QueryRowContext(ctx, query, args...)}
}

func (s shared) Compact(context.Context) error { return nil } // the server sees to that

// The codes with which functions of the tables refuse something.
const (
	codeLockLost = "BR001"
	codeNewKey   = "BR003"
	codeMoved    = "BR004"
)

func (s shared) Write(ctx context.Context, do func(transaction) error) error {
	err := s.DB.Write(ctx, func(tx *shareddb.Tx) error { return do(&sharedTx{tx}) })
	var raised *shareddb.Raised
	if errors.As(err, &raised) {
		switch raised.Code {
		case codeLockLost:
			return ErrLockLost
		case codeNewKey:
			return errNewKey
		case codeMoved:
			return errMoved
		}
	}
	return worded(err)
}

type sharedTx struct{ *shareddb.Tx }

func (t *sharedTx) Do(query string, args ...any) error {
	t.Tx.Do(query, args...)
	return nil
}

func (t *sharedTx) QueryContext(ctx context.Context, query string, args ...any) (rows, error) {
	return t.Tx.QueryContext(ctx, query, args...)
}

func (t *sharedTx) QueryRowContext(ctx context.Context, query string, args ...any) row {
	return t.Tx.QueryRowContext(ctx, query, args...)
}

func (t *sharedTx) Fence(_ context.Context, stackID int64, token string) error {
	return t.Do(`select fence(?, ?)`, stackID, token)
}

func (t *sharedTx) Current(_ context.Context, key string) error {
	return t.Do(`select current_store(?)`, key)
}

func (t *sharedTx) Alone(table string) error {
	return t.Do(fmt.Sprintf(`select pg_advisory_xact_lock(hashtext(current_schema()::text), hashtext('%s'))`, table))
}
