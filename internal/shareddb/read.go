package shareddb

import (
	"context"
	"database/sql"
	"errors"
	"reflect"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// values are arguments as the server takes them: texts of any kind in UTF-8, without zeros.
func values(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		if v := reflect.ValueOf(a); v.IsValid() && v.Kind() == reflect.String {
			a = strings.ToValidUTF8(strings.ReplaceAll(v.String(), "\x00", "\uFFFD"), "\uFFFD")
		}
		out[i] = a
	}
	return out
}

// Rows are what a query yields. They are closed by whoever asked.
type Rows struct {
	rows  pgx.Rows
	first bool // it was moved to already
	close func()
}

// Next moves to the next row.
func (r *Rows) Next() bool {
	if r.first {
		r.first = false
		return true
	}
	return r.rows.Next()
}

// Scan reads the row.
func (r *Rows) Scan(into ...any) error { return r.rows.Scan(into...) }

// Err is what went wrong on the way.
func (r *Rows) Err() error { return r.rows.Err() }

// Close ends the reading.
func (r *Rows) Close() error {
	r.rows.Close()
	if r.close != nil {
		r.close()
		r.close = nil
	}
	return nil
}

// begun moves to the first row, as errors are told only then.
func begun(rows pgx.Rows) (*Rows, error) {
	r := &Rows{rows: rows}
	if r.first = rows.Next(); !r.first && rows.Err() != nil {
		rows.Close()
		return nil, rows.Err()
	}
	return r, nil
}

// Row is the row that a query yields, or its error.
type Row struct {
	rows *Rows
	err  error
}

// Scan reads the row; sql.ErrNoRows says that there is none.
func (r Row) Scan(into ...any) error {
	if r.err != nil {
		return r.err
	}
	if !r.rows.Next() {
		err := errors.Join(r.rows.Err(), r.rows.Close())
		if err == nil {
			err = sql.ErrNoRows
		}
		return err
	}
	return errors.Join(r.rows.Scan(into...), r.rows.Close())
}

// QueryContext reads rows as they were written last. A server that does not answer is waited for.
func (d *DB) QueryContext(ctx context.Context, query string, args ...any) (*Rows, error) {
	since := time.Now()
	for try := 0; ; try++ {
		rows, err := d.reads.Query(ctx, numbered(query), values(args)...)
		if err == nil {
			var r *Rows
			if r, err = begun(rows); err == nil {
				return r, nil
			}
		}
		if !broken(err) || !again(ctx, try, since, readPatience) {
			return nil, err
		}
	}
}

// QueryRowContext reads a row as it was written last.
func (d *DB) QueryRowContext(ctx context.Context, query string, args ...any) Row {
	rows, err := d.QueryContext(ctx, query, args...)
	return Row{rows, err}
}
