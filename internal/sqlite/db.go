package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"runtime"
	"sync"

	"brickrow/internal/grouped"
)

// DB is an embedded database with one connection that writes and a few that read,
// so that nobody in this process waits for SQLite's lock. Statements are prepared
// once.
type DB struct {
	writer *sql.DB
	write  *session // the one connection that writes

	reader *sql.DB
	views  chan *session // that are not in use
	mu     sync.RWMutex
	reads  map[string]*sql.Stmt

	writes grouped.Writer[*Tx]
}

// read is a prepared statement that reads.
func (d *DB) read(ctx context.Context, query string) (*sql.Stmt, error) {
	d.mu.RLock()
	st := d.reads[query]
	d.mu.RUnlock()
	if st != nil {
		return st, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if st := d.reads[query]; st != nil {
		return st, nil
	}
	st, err := d.reader.PrepareContext(ctx, query)
	if err == nil {
		d.reads[query] = st
	}
	return st, err
}

// readers is how many connections read.
func readers() int { return max(4, runtime.NumCPU()) }

// Close waits for what is being written, and closes all connections.
func (d *DB) Close() error {
	_ = d.Write(context.Background(), func(*Tx) error { return nil })
	errs := []error{d.write.close()}
	for _, st := range d.reads {
		errs = append(errs, st.Close())
	}
	for range len(d.views) {
		errs = append(errs, (<-d.views).close())
	}
	return errors.Join(append(errs, d.reader.Close(), d.writer.Close())...)
}

// Compact gives back the room of what was removed.
func (d *DB) Compact(ctx context.Context) error {
	conn, err := d.reader.Conn(ctx) // vacuuming goes by no transaction
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, statement := range []string{"pragma query_only = 0", "vacuum", "pragma query_only = 1",
		"pragma wal_checkpoint(truncate)"} {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			return fmt.Errorf("the database cannot be compacted now: %w", err)
		}
	}
	return nil
}

// Row is the row that a query yields, or its error.
type Row struct {
	row *sql.Row
	err error
}

// Scan reads the row; sql.ErrNoRows says that there is none.
func (r Row) Scan(into ...any) error {
	if r.err != nil {
		return r.err
	}
	return r.row.Scan(into...)
}

// QueryContext reads rows as they were written last.
func (d *DB) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	st, err := d.read(ctx, query)
	if err != nil {
		return nil, err
	}
	return st.QueryContext(ctx, args...)
}

// QueryRowContext reads a row as it was written last.
func (d *DB) QueryRowContext(ctx context.Context, query string, args ...any) Row {
	st, err := d.read(ctx, query)
	if err != nil {
		return Row{err: err}
	}
	return Row{row: st.QueryRowContext(ctx, args...)}
}

// ExecContext writes, in a transaction of its own.
func (d *DB) ExecContext(ctx context.Context, query string, args ...any) (out sql.Result, err error) {
	err = d.Write(ctx, func(tx *Tx) error {
		out, err = tx.ExecContext(ctx, query, args...)
		return err
	})
	return out, err
}

// Snapshot is the database as it was at one moment. It cannot be written.
type Snapshot struct{ *session }

// View reads from one moment of the database.
func (d *DB) View(ctx context.Context, do func(*Snapshot) error) error {
	var v *session
	select {
	case v = <-d.views:
	default:
		conn, err := d.reader.Conn(ctx)
		if err != nil {
			return err
		}
		v = &session{conn: conn, stmts: map[string]*sql.Stmt{}}
	}
	defer func() {
		select {
		case d.views <- v:
		default:
			v.close()
		}
	}()
	if _, err := v.ExecContext(ctx, "begin"); err != nil {
		return err
	}
	defer func() { _, _ = v.ExecContext(ctx, "rollback") }() // there is nothing to keep
	return do(&Snapshot{v})
}

// ExecContext is refused.
func (s *Snapshot) ExecContext(context.Context, string, ...any) (sql.Result, error) {
	return nil, errors.New("a snapshot cannot be written")
}

// session is a connection with the statements that were prepared on it. One at a
// time uses it. What it has begun is not broken off by the end of a context: that
// could take along what others write with it.
type session struct {
	conn  *sql.Conn
	stmts map[string]*sql.Stmt
}

// ExecContext carries a statement out.
func (s *session) ExecContext(_ context.Context, query string, args ...any) (sql.Result, error) {
	st, err := s.stmt(query)
	if err != nil {
		return nil, err
	}
	return st.Exec(args...)
}

// QueryContext reads rows, with what was written in the transaction.
func (s *session) QueryContext(_ context.Context, query string, args ...any) (*sql.Rows, error) {
	st, err := s.stmt(query)
	if err != nil {
		return nil, err
	}
	return st.Query(args...)
}

// QueryRowContext reads a row, with what was written in the transaction.
func (s *session) QueryRowContext(_ context.Context, query string, args ...any) Row {
	st, err := s.stmt(query)
	if err != nil {
		return Row{err: err}
	}
	return Row{row: st.QueryRow(args...)}
}

func (s *session) stmt(query string) (*sql.Stmt, error) {
	st := s.stmts[query]
	if st != nil {
		return st, nil
	}
	st, err := s.conn.PrepareContext(context.Background(), query)
	if err == nil {
		s.stmts[query] = st
	}
	return st, err
}

func (s *session) close() error {
	var errs []error
	for _, st := range s.stmts {
		errs = append(errs, st.Close())
	}
	return errors.Join(append(errs, s.conn.Close())...)
}

// Tx is a transaction that writes.
type Tx struct{ *session }

// Write carries out something in a transaction: all of it is kept, durably, when
// Write returns nil, and none of it otherwise. What several want to write at the
// same time goes to the disk together. Within it nothing else may be written but by
// the transaction.
func (d *DB) Write(ctx context.Context, do func(*Tx) error) error { return d.writes.Do(ctx, do) }

// group writes jobs; where that fails nothing of them is kept.
func (d *DB) group(jobs []*grouped.Job[*Tx]) {
	if err := d.together(jobs); err != nil {
		for _, j := range jobs {
			j.Err = errors.Join(j.Err, err)
		}
	}
}

// together writes jobs in one transaction. One that fails leaves nothing behind,
// and the others are kept; the error is one of them all.
func (d *DB) together(jobs []*grouped.Job[*Tx]) (err error) {
	tx := &Tx{d.write}
	exec := func(statement string) {
		if err == nil {
			_, err = tx.ExecContext(context.Background(), statement)
		}
	}
	exec("begin immediate")
	if err != nil {
		return fmt.Errorf("the database is busy: %w", err)
	}
	if alone := jobs[0]; len(jobs) == 1 {
		if alone.Run(tx); alone.Err != nil || alone.Panic != nil {
			exec("rollback")
			return err
		}
		jobs = nil
	}
	for _, j := range jobs {
		exec("savepoint one")
		if err != nil {
			break
		}
		if j.Run(tx); j.Err != nil || j.Panic != nil {
			exec("rollback to one")
		}
		exec("release one")
	}
	exec("commit")
	if err != nil {
		_, _ = tx.ExecContext(context.Background(), "rollback") // it may be over already
	}
	return err
}
