// Package shareddb is a database that several machines share: a PostgreSQL server. What a process
// writes goes there in the order in which it was asked for, in as few round trips as can be: what waits
// at the same time goes together, and what nobody looks at is sent with what follows it.
//
// A connection that breaks, or a server that is started anew, is waited for. What was being written then
// is sent again, under the number that it had: the database keeps the number of what each process wrote
// last, and so nothing is written twice, also when the answer to a commit was lost.
package shareddb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"

	"brickrow/internal/grouped"
)

// Schema is where the tables are, where the URL does not say search_path.
const Schema = "brickrow"

// DB is an open database.
type DB struct {
	config *pgxpool.Config
	reads  *pgxpool.Pool
	schema string

	id     string    // of this process, to the database
	conn   *pgx.Conn // that writes; nil is to be made anew
	number int64     // of what was written last

	writes grouped.Writer[*Tx]

	// Newer says that the tables are those of a newer program; nil is that they are not.
	Newer *NewerError

	bell bell
}

// Patience is how long a server that does not answer is waited for, by what reads and what writes.
// Opening waits for none.
const readPatience, writePatience = 15 * time.Second, 2 * time.Minute

// IsURL reports whether a text means a database of this kind.
func IsURL(text string) bool {
	return strings.HasPrefix(text, "postgres://") || strings.HasPrefix(text, "postgresql://")
}

// Place is a URL without what it lets in by.
func Place(text string) string {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" && u.Path == "" {
		return "a PostgreSQL server"
	}
	shown := url.URL{Scheme: "postgres", Host: u.Host, Path: u.Path}
	if name := u.User.Username(); name != "" {
		shown.User = url.User(name)
	}
	if path := u.Query().Get("search_path"); path != "" {
		shown.RawQuery = "search_path=" + url.QueryEscape(path)
	}
	return shown.String()
}

// NewerError says that a database was written by a newer program.
type NewerError struct{ Has, Reads int64 }

func (e *NewerError) Error() string {
	return fmt.Sprintf("its tables are at version %d, this program knows up to %d", e.Has, e.Reads)
}

// Open opens the database at a URL, and brings its tables up to date with the migrations in the folder of
// files. Where these are behind the database's it is opened all the same, and Newer says so.
func Open(ctx context.Context, where string, files fs.FS) (*DB, error) {
	config, err := Configuration(where)
	if err != nil {
		return nil, err
	}
	c := config.ConnConfig
	if c.RuntimeParams["search_path"] == "" {
		c.RuntimeParams["search_path"] = Schema
	}
	if c.RuntimeParams["application_name"] == "" {
		c.RuntimeParams["application_name"] = "brickrow"
	}
	if c.ConnectTimeout == 0 {
		c.ConnectTimeout = 10 * time.Second
	}
	config.MaxConns = max(4, config.MaxConns)
	d := &DB{config: config, id: uuid.NewString()}
	d.writes.Write = d.write
	d.schema, _, _ = strings.Cut(c.RuntimeParams["search_path"], ",")
	d.schema = strings.TrimSpace(strings.Trim(d.schema, `"`))
	if err := d.migrate(ctx, files); err != nil {
		return nil, plain(where, err)
	}
	if d.reads, err = pgxpool.NewWithConfig(ctx, config); err != nil {
		return nil, plain(where, err)
	}
	return d, nil
}

// plain says what is wrong with a server without the URL, in which a password may stand.
func plain(where string, err error) error {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return fmt.Errorf("the store %s refuses: %s (%s)", Place(where), refused.Message, refused.Code)
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) {
		if strings.Contains(err.Error(), "refused TLS") {
			return fmt.Errorf("the store %s offers no encrypted connection (TLS), and is not on this machine: let the server offer it, or add sslmode=disable "+
				"to its URL, and whoever is on the way can read and change what is sent", Place(where))
		}
		return fmt.Errorf("the store %s does not answer: %w", Place(where), errors.Unwrap(connect))
	}
	return fmt.Errorf("the store %s: %w", Place(where), err)
}

func (d *DB) migrate(ctx context.Context, files fs.FS) error {
	config := d.config.ConnConfig.Copy()
	db := stdlib.OpenDB(*config)
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	var there bool
	if err := conn.QueryRowContext(ctx, `select to_regclass('goose_db_version') is not null`).Scan(&there); err != nil {
		return err
	}
	if there { // looked at without a lock: it is waited for at every start
		var has int64
		if err := conn.QueryRowContext(ctx, `select coalesce(max(version_id), 0) from goose_db_version where is_applied`).Scan(&has); err != nil {
			return err
		}
		sources := p.ListSources()
		knows := sources[len(sources)-1].Version
		if has > knows {
			d.Newer = &NewerError{has, knows}
		}
		if has >= knows {
			return nil
		}
	}
	// One at a time makes the tables; the lock goes with the connection.
	if _, err := conn.ExecContext(ctx, `select pg_advisory_lock(hashtext($1), hashtext('tables'))`, d.schema); err != nil {
		return err
	}
	defer func() { _ = conn.Raw(func(any) error { return driver.ErrBadConn }) }()
	if err := conn.QueryRowContext(ctx, `select to_regnamespace(quote_ident($1)) is not null`, d.schema).Scan(&there); err != nil {
		return err
	}
	if !there { // where it is there nobody needs the right to make one
		if _, err := conn.ExecContext(ctx, `create schema `+pgx.Identifier{d.schema}.Sanitize()); err != nil {
			return err
		}
	}
	if _, err := conn.ExecContext(ctx, own); err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// own is what this package keeps in a database: the number of what each process has written last. wrote
// notes it, and refuses what was written already. Who writes the same number waits for who is at it.
const own = `
create table if not exists writers (id text primary key, number bigint not null, at timestamptz not null default now());
create or replace function wrote(by_whom text, n bigint) returns void language plpgsql as $$
begin
  insert into writers(id, number) values (by_whom, n)
    on conflict (id) do update set number = excluded.number, at = now() where writers.number < excluded.number;
  if not found then
    raise exception 'it was written already' using errcode = 'BR002';
  end if;
end $$`

// Close waits for what is being written, and closes all connections.
func (d *DB) Close() error {
	if !d.writes.Idle() {
		_ = d.Write(context.Background(), func(*Tx) error { return nil })
	}
	d.bell.close()
	if d.conn != nil {
		_, _ = d.conn.Exec(context.Background(), `delete from writers where id = $1`, d.id)
		_ = d.conn.Close(context.Background())
	}
	d.reads.Close()
	return nil
}

// RoundTrip is how long the server takes to answer nothing.
func (d *DB) RoundTrip(ctx context.Context) (time.Duration, error) {
	conn, err := d.reads.Acquire(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Release()
	if err := conn.Ping(ctx); err != nil { // what follows is not the first
		return 0, err
	}
	begun := time.Now()
	err = conn.Ping(ctx)
	return time.Since(begun), err
}

// broken reports whether an error is one of the connection, or of a server that is going down or coming
// up, so that it is worth asking again.
func broken(err error) bool {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		switch refused.Code {
		case "57P01", "57P02", "57P03", "40001", "40P01", "53300": // shut down, crashed, starting; serialization, deadlock; full
			return true
		}
		return strings.HasPrefix(refused.Code, "08")
	}
	var network net.Error
	var connect *pgconn.ConnectError
	return errors.As(err, &connect) || errors.As(err, &network) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed) || pgconn.SafeToRetry(err) || strings.Contains(err.Error(), "conn closed") ||
		strings.Contains(err.Error(), "broken pipe") || strings.Contains(err.Error(), "connection reset")
}

// again waits before the next try; false is that nobody waits any longer.
func again(ctx context.Context, try int, since time.Time, patience time.Duration) bool {
	if time.Since(since) > patience {
		return false
	}
	t := time.NewTimer(min(time.Second, 20*time.Millisecond<<min(try, 6)))
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

var places sync.Map // statements with $1 in place of ?, by those with ?

// numbered writes the places of values as PostgreSQL takes them.
func numbered(query string) string {
	if is, ok := places.Load(query); ok {
		return is.(string)
	}
	var b strings.Builder
	n := 0
	for part := range strings.SplitSeq(query, "?") {
		if n > 0 {
			b.WriteString("$" + strconv.Itoa(n))
		}
		b.WriteString(part)
		n++
	}
	places.Store(query, b.String())
	return b.String()
}
