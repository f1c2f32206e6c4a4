// Package postgres keeps roles, databases, schemas, extensions and grants of PostgreSQL servers as
// stacks want them. It asks the servers' own catalogues, and keeps nothing in them beside.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"brickrow/internal/cloud"
	"brickrow/internal/ways"
)

// The types of what stands in a server, and the type of connection to one.
const (
	Connection = "PostgresConnection"
	Role       = "PostgresRole"
	Database   = "PostgresDatabase"
	Schema     = "PostgresSchema"
	Extension  = "PostgresExtension"
	Grant      = "PostgresGrant"
)

// Kind is the kind of connection that leads to a PostgreSQL server.
type Kind struct{ All *ways.Connections }

// Open yields the server.
func (k Kind) Open(c ways.Connection) (cloud.End, error) {
	s, err := newServer(c.Settings)
	if err != nil {
		return cloud.End{}, err
	}
	return cloud.End{Cloud: k.All.Direct(c, s), Target: c.Target, Place: Connection + " " + s.config.Host + " " + strconv.Itoa(int(s.config.Port))}, nil
}

// Answers logs in.
func (Kind) Answers(ctx context.Context, end cloud.End) error {
	return end.Cloud.(interface{ Answers(context.Context) error }).Answers(ctx)
}

// server is a server as one role sees it. One question is asked after another: two changes of one
// catalogue at once refuse each other.
type server struct {
	config *pgx.ConnConfig
	home   string // the database that is asked where none is meant

	mu   sync.Mutex
	open map[string]*session // by database
}

var _ ways.System = (*server)(nil)

var tlsModes = map[string]string{"off": "disable", "prefer": "prefer", "require": "require", "verify": "verify-full"}

func newServer(s ways.Settings) (*server, error) {
	mode := tlsModes[s.Text("tls")]
	if mode == "" {
		mode = "prefer"
	}
	port := s.Text("port")
	if port == "" {
		port = "5432"
	}
	config, err := pgx.ParseConfig("sslmode=" + mode + " host=" + word(s.Text("host")) + " port=" + word(port) + " user=" + word(s.Text("user")) + " dbname=" + word(s.Text("database")))
	if err != nil {
		return nil, errors.New("it cannot be connected to like that: " + withoutPassword(err, s.Text("password")))
	}
	config.Password = s.Text("password")
	config.ConnectTimeout = 10 * time.Second
	config.RuntimeParams["application_name"] = "brickrow"
	return &server{config: config, home: config.Database, open: map[string]*session{}}, nil
}

// word is a value in a connection string.
func word(s string) string {
	return "'" + strings.ReplaceAll(strings.ReplaceAll(s, `\`, `\\`), "'", `\'`) + "'"
}

func withoutPassword(err error, password string) string {
	if password == "" {
		return err.Error()
	}
	return strings.ReplaceAll(err.Error(), password, "(secret)")
}

// Types are those of what stands in a server.
func (s *server) Types() []string { return []string{Role, Database, Schema, Extension, Grant} }

// Close closes all connections.
func (s *server) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for database := range s.open {
		s.drop(database)
	}
}

// linger is how long a connection to a database stays open that nobody asks any more: nobody can remove
// the database meanwhile. A server waits 5 s for that.
const linger = time.Second

// session is a connection to a database.
type session struct {
	conn *pgx.Conn
	used time.Time
}

func (s *server) drop(database string) {
	if is := s.open[database]; is != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		_ = is.conn.Close(ctx)
		delete(s.open, database)
	}
}

// leave closes what is open to other databases than that of the connection: all of it, or what nobody has
// asked for a while.
func (s *server) leave(idle time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for database, is := range s.open {
		if database != s.home && time.Since(is.used) >= idle {
			s.drop(database)
		}
	}
}

// in asks a database; "" is that of the connection, to which it stays open. A connection that was lost is
// made anew, once, before anything is asked on it.
func (s *server) in(ctx context.Context, database string, ask func(c *pgx.Conn) error) error {
	if database == "" {
		database = s.home
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	is := s.open[database]
	if is != nil && (is.conn.IsClosed() || time.Since(is.used) > linger/2 && is.conn.Ping(ctx) != nil) {
		s.drop(database)
		is = nil
	}
	if is == nil {
		c, err := s.connect(ctx, database)
		if err != nil {
			return err
		}
		is = &session{conn: c}
		s.open[database] = is
	}
	err := ask(is.conn)
	is.used = time.Now()
	if err != nil && is.conn.IsClosed() {
		s.drop(database)
	}
	if database != s.home {
		time.AfterFunc(linger, func() { s.leave(linger) })
	}
	return s.problem(ctx, err)
}

func (s *server) connect(ctx context.Context, database string) (*pgx.Conn, error) {
	config := s.config.Copy()
	config.Database = database
	c, err := pgx.ConnectConfig(ctx, config)
	return c, s.problem(ctx, err)
}

// within carries statements out all or none.
func (s *server) within(ctx context.Context, database string, statements ...string) error {
	if len(statements) == 0 {
		return nil
	}
	return s.in(ctx, database, func(c *pgx.Conn) error {
		return pgx.BeginFunc(ctx, c, func(tx pgx.Tx) error {
			for _, text := range statements {
				if _, err := tx.Exec(ctx, text); err != nil {
					return err
				}
			}
			return nil
		})
	})
}

// asOwner carries statements out as one who may: who is no superuser has to be a member of the roles
// that own what is changed, and is so for as long as that takes.
func (s *server) asOwner(ctx context.Context, database string, owners []string, statements ...string) error {
	if len(statements) == 0 {
		return nil
	}
	roles, err := s.foreign(ctx, owners)
	if err != nil {
		return err
	}
	var before, after []string
	for _, called := range roles {
		before, after = append(before, "grant "+name(called)+" to current_user"), append(after, "revoke "+name(called)+" from current_user")
	}
	return s.within(ctx, database, slices.Concat(before, statements, after)...)
}

// foreign are those of some roles in whose name the one who asks may not act.
func (s *server) foreign(ctx context.Context, owners []string) (out []string, err error) {
	err = s.in(ctx, "", func(c *pgx.Conn) error {
		return each(ctx, c, `select r.rolname from pg_roles as r where r.rolname = any($1) and not pg_has_role(current_user, r.oid, 'usage') order by 1`, []any{owners}, func(rows pgx.Rows) error {
			var called string
			err := rows.Scan(&called)
			out = append(out, called)
			return err
		})
	})
	return out, err
}

// alone carries out a statement that cannot be part of a transaction.
func (s *server) alone(ctx context.Context, statement string) error {
	return s.in(ctx, "", func(c *pgx.Conn) error {
		_, err := c.Exec(ctx, statement)
		return err
	})
}

// Answers logs in.
func (s *server) Answers(ctx context.Context) error {
	return s.in(ctx, "", func(c *pgx.Conn) error { return c.Ping(ctx) })
}

// problem is an error in the form of a cloud's.
func (s *server) problem(ctx context.Context, err error) error {
	var already *cloud.Problem
	if err == nil || ctx.Err() != nil && errors.Is(err, ctx.Err()) || errors.As(err, &already) {
		return err
	}
	var told *pgconn.PgError
	if !errors.As(err, &told) {
		text := cloud.Clean(withoutPassword(err, s.config.Password))
		var unreachable net.Error
		passing := errors.As(err, &unreachable) || s.lost(err)
		if !passing {
			return &cloud.Problem{Type: "internal", Title: "the server cannot be asked", Status: http.StatusBadGateway, Detail: text}
		}
		return &cloud.Problem{Type: "connection", Title: "the server did not answer", Status: http.StatusBadGateway, Detail: "the server did not answer: " + text, Passing: true}
	}
	p := &cloud.Problem{Title: "the server refuses", Status: http.StatusUnprocessableEntity, Detail: cloud.Clean(told.Message), Fix: cloud.Clean(told.Hint), Type: "refused"}
	if told.Detail != "" {
		p.Detail += ": " + cloud.Clean(told.Detail)
	}
	switch code := told.Code; {
	case code == "42501":
		p.Type, p.Status = "not-permitted", http.StatusForbidden
	case code == "28P01" || code == "28000":
		p.Type, p.Status = "unauthorized", http.StatusUnauthorized
	case slices.Contains([]string{"42710", "42P04", "42P06", "42P07"}, code):
		p.Type, p.Status = "name-taken", http.StatusConflict
	case slices.Contains([]string{"2BP01", "55006", "2BP00"}, code):
		p.Type, p.Status = "in-use", http.StatusConflict
	case slices.Contains([]string{"42704", "3D000", "3F000"}, code):
		p.Type = "no-such-resource"
	case code[:2] == "08" || code[:2] == "57":
		p.Type, p.Status, p.Passing = "connection", http.StatusBadGateway, true
	case code[:2] == "53" || code == "40001" || code == "40P01" || code == "55P03" || code == "XX000" && strings.Contains(told.Message, "concurrently"):
		p.Type, p.Status, p.Passing, p.RetryAfterMS = "busy", http.StatusServiceUnavailable, true, 300
	}
	return p
}

// lost reports whether an error says that there is no connection.
func (s *server) lost(err error) bool {
	var connecting *pgconn.ConnectError
	return errors.As(err, &connecting) || pgconn.Timeout(err) || pgconn.SafeToRetry(err) || strings.Contains(err.Error(), "conn closed") || strings.Contains(err.Error(), "unexpected EOF")
}

// name quotes an identifier.
func name(s string) string { return pgx.Identifier{s}.Sanitize() }

// literal quotes a text. The server reads it with standard_conforming_strings, as it does unless
// somebody has turned that off, for which there is E”.
func literal(s string) string {
	s = strings.ReplaceAll(s, "\x00", "")
	quoted := "'" + strings.ReplaceAll(s, "'", "''") + "'"
	if strings.Contains(s, `\`) {
		return " E" + strings.ReplaceAll(quoted, `\`, `\\`)
	}
	return quoted
}

// Ids of objects are the numbers that the server itself knows them by: they stay when a name changes.

func id(typ string, numbers ...uint32) string {
	parts := make([]string, len(numbers))
	for i, n := range numbers {
		parts[i] = strconv.FormatUint(uint64(n), 10)
	}
	return strings.ToLower(strings.TrimPrefix(typ, "Postgres")) + "~" + strings.Join(parts, ".")
}

// numbers are those of an id; nil where it is none of the type.
func numbers(typ, of string) []uint32 {
	rest, ok := strings.CutPrefix(of, strings.ToLower(strings.TrimPrefix(typ, "Postgres"))+"~")
	if !ok {
		return nil
	}
	var out []uint32
	for part := range strings.SplitSeq(rest, ".") {
		n, err := strconv.ParseUint(part, 10, 32)
		if err != nil {
			return nil
		}
		out = append(out, uint32(n))
	}
	want := map[string][]int{Role: {1}, Database: {1}, Schema: {2}, Extension: {2}, Grant: {2, 3}}[typ]
	if !slices.Contains(want, len(out)) {
		return nil
	}
	return out
}

func notThere(what string) *cloud.Problem { return cloud.NotFound(what) }

func refused(kind, fix, format string, args ...any) *cloud.Problem {
	return &cloud.Problem{Type: kind, Title: "that cannot be", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf(format, args...), Fix: fix}
}
