package shareddb

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"brickrow/internal/grouped"
)

// Write carries out something in a transaction: all of it is kept, durably, when Write returns nil, and
// none of it otherwise. What several want to write at the same time goes there together, in the order in
// which it was asked for. What is carried out may be carried out again, when a connection was lost.
func (d *DB) Write(ctx context.Context, do func(*Tx) error) error { return d.writes.Do(ctx, do) }

// write writes jobs together, and where one of them fails each by itself.
func (d *DB) write(jobs []*grouped.Job[*Tx]) {
	err := d.together(jobs)
	if err == nil {
		d.bell.ring(d)
		return
	}
	if len(jobs) == 1 {
		jobs[0].Err = err
		return
	}
	for _, j := range jobs {
		j.Panic = nil
		d.write([]*grouped.Job[*Tx]{j})
	}
}

// errWritten says that what is being written again was written already, though nobody heard so.
var errWritten = errors.New("it was written already")

// together writes jobs in one transaction, all or none of them, and exactly once.
func (d *DB) together(jobs []*grouped.Job[*Tx]) error {
	d.number++
	since := time.Now()
	for try := 0; ; try++ {
		err := d.once(jobs, try > 0)
		if errors.Is(err, errWritten) {
			for _, j := range jobs { // all went well when it was written
				j.Err = nil
			}
			return nil
		}
		if err == nil {
			return nil
		}
		var unwanted *refused
		if errors.As(err, &unwanted) {
			return unwanted.error
		}
		// What may have been written is asked for also when nobody waits for it any more.
		if !broken(err) || !again(context.Background(), try, since, writePatience) {
			return err
		}
	}
}

// refused says that a job itself does not want what it has written.
type refused struct{ error }

func (r *refused) Unwrap() error { return r.error }

// once tries to write jobs in one transaction. When it was tried before, it is known first whether they were written: what they
// have learned then, such as how many rows they were about, stays as it is.
func (d *DB) once(jobs []*grouped.Job[*Tx], again bool) (err error) {
	// What is being written is not broken off by the end of a context: it would not be known whether it was.
	ctx := context.Background()
	if d.conn == nil || d.conn.IsClosed() {
		if d.conn, err = pgx.ConnectConfig(ctx, d.config.ConnConfig.Copy()); err != nil {
			d.conn = nil
			return err
		}
	}
	tx := &Tx{conn: d.conn, batch: &pgx.Batch{}}
	defer func() {
		if err == nil {
			return
		}
		for i := len(tx.undone) - 1; i >= 0; i-- {
			tx.undone[i]()
		}
		var unwanted *refused
		if !errors.As(err, &unwanted) && broken(err) {
			_ = d.conn.Close(ctx)
			d.conn = nil
		} else if _, failed := d.conn.Exec(ctx, "rollback"); failed != nil {
			_ = d.conn.Close(ctx)
			d.conn = nil
		}
	}()
	tx.batch.Queue("begin")
	tx.Do(`select wrote(?, ?)`, d.id, d.number)
	if again {
		if err := tx.flush(); err != nil {
			return err
		}
	}
	for _, j := range jobs {
		if j.Run(tx); j.Panic != nil {
			return &refused{errors.New("what was to be written went wrong")}
		}
		if tx.err != nil { // what the job makes of it may hide what it was
			return tx.err
		}
		if j.Err != nil {
			return &refused{j.Err}
		}
	}
	tx.batch.Queue("commit")
	return tx.flush()
}

// Tx is a transaction that writes.
type Tx struct {
	conn   *pgx.Conn
	batch  *pgx.Batch // what was not sent yet
	err    error
	undone []func()
}

// Undone is called when what was written in the transaction does not count, or is written again.
func (t *Tx) Undone(f func()) { t.undone = append(t.undone, f) }

// Do carries a statement out. It is sent with what is asked for next, or at the end; its errors are those
// of that, and of Write.
func (t *Tx) Do(query string, args ...any) { t.batch.Queue(numbered(query), values(args)...) }

// flush sends what waits.
func (t *Tx) flush() error {
	if t.err != nil || t.batch.Len() == 0 {
		return t.err
	}
	results := t.conn.SendBatch(context.Background(), t.batch)
	n := t.batch.Len()
	t.batch = &pgx.Batch{}
	for range n {
		if _, err := results.Exec(); err != nil {
			t.err = meaning(err)
			_ = results.Close()
			return t.err
		}
	}
	t.err = meaning(results.Close())
	return t.err
}

// send sends what waits with a query, and yields the results, those of the query next.
func (t *Tx) send(query string, args []any) (pgx.BatchResults, error) {
	if t.err != nil {
		return nil, t.err
	}
	n := t.batch.Len()
	t.batch.Queue(numbered(query), values(args)...)
	results := t.conn.SendBatch(context.Background(), t.batch)
	t.batch = &pgx.Batch{}
	for range n {
		if _, err := results.Exec(); err != nil {
			_ = results.Close()
			t.err = meaning(err)
			return nil, t.err
		}
	}
	return results, nil
}

// ExecContext carries a statement out now, and says how many rows it was about.
func (t *Tx) ExecContext(_ context.Context, query string, args ...any) (int64, error) {
	results, err := t.send(query, args)
	if err != nil {
		return 0, err
	}
	tag, err := results.Exec()
	if err = errors.Join(err, results.Close()); err != nil {
		t.err = meaning(err)
	}
	return tag.RowsAffected(), t.err
}

// QueryContext reads rows, with what was written in the transaction.
func (t *Tx) QueryContext(_ context.Context, query string, args ...any) (*Rows, error) {
	results, err := t.send(query, args)
	if err != nil {
		return nil, err
	}
	rows, err := results.Query()
	if err == nil {
		var r *Rows
		if r, err = begun(rows); err == nil {
			r.close = func() { _ = results.Close() }
			return r, nil
		}
	}
	_ = results.Close()
	t.err = meaning(err)
	return nil, t.err
}

// QueryRowContext reads a row, with what was written in the transaction.
func (t *Tx) QueryRowContext(ctx context.Context, query string, args ...any) Row {
	rows, err := t.QueryContext(ctx, query, args...)
	return Row{rows, err}
}

// Raised is what a statement was refused with by a function of the tables, by its code.
type Raised struct{ Code, Message string }

func (r *Raised) Error() string { return r.Message }

// meaning is what an error of the server means.
func meaning(err error) error {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) || len(refused.Code) != 5 || refused.Code[:2] != "BR" {
		return err
	}
	if refused.Code == "BR002" {
		return errWritten
	}
	return &Raised{refused.Code, refused.Message}
}
