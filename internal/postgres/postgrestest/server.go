// Package postgrestest runs a PostgreSQL server of its own for a test.
package postgrestest

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is a server in a folder of its own, which listens on a port of this machine alone.
type Server struct {
	Port     string
	Password string // of the superuser keeper
	Durable  bool   // what it has committed outlives a kill, and it notes no statements, from its next Run on
	dir, bin string
	as       *syscall.Credential // nil is whoever runs the test
	cmd      *exec.Cmd
}

// Start starts one; it ends with the test.
func Start(t testing.TB) *Server {
	t.Helper()
	s, err := start()
	t.Cleanup(s.end)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

var shared struct {
	sync.Mutex
	server *Server
	url    string
	n      int // places that were given
}

// Store is the URL of an empty place for a store, in a server that the tests of a package share. The package
// has Main as its TestMain.
func Store(t testing.TB) string {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	if shared.server == nil {
		s, err := start()
		if err != nil {
			s.end()
			t.Fatal(err)
		}
		shared.server = s
		shared.url = s.Database(t, "stores")
	}
	shared.n++
	return fmt.Sprintf("%s&search_path=place%d", shared.url, shared.n)
}

// Main runs the tests of a package and ends the server that they shared.
func Main(m *testing.M) {
	code := m.Run()
	if shared.server != nil {
		shared.server.end()
	}
	os.Exit(code)
}

// Database makes an empty database, and yields its URL.
func (s *Server) Database(t testing.TB, name string) string {
	t.Helper()
	s.Exec(t, "postgres", "create database "+name+" template template0")
	return (&url.URL{Scheme: "postgres", User: url.UserPassword("keeper", s.Password), Host: "127.0.0.1:" + s.Port, Path: name,
		RawQuery: "sslmode=disable"}).String()
}

// end stops a server and removes all of it.
func (s *Server) end() {
	s.Stop()
	if s.dir != "" {
		os.RemoveAll(s.dir)
	}
}

func start() (*Server, error) {
	s := &Server{Password: "keeper's-own \\ word"}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if path, err := exec.LookPath("initdb"); err == nil {
		found = append(found, path)
	}
	if len(found) == 0 {
		return s, errors.New("there is no PostgreSQL server on this machine: install the package postgresql")
	}
	initdb, err := filepath.EvalSymlinks(found[len(found)-1])
	if err != nil {
		return s, err
	}
	s.bin = filepath.Dir(initdb)
	if s.dir, err = os.MkdirTemp("/tmp", "brickrow-postgres-"); err != nil {
		return s, err
	}
	if os.Getuid() == 0 { // the server does not run as root
		if s.as, err = anybody(); err != nil {
			return s, err
		}
		if err := os.Chown(s.dir, int(s.as.Uid), int(s.as.Gid)); err != nil {
			return s, err
		}
	}
	word := filepath.Join(s.dir, "word")
	if err := os.WriteFile(word, []byte(s.Password+"\n"), 0o644); err != nil {
		return s, err
	}
	init := s.command("initdb", "-D", filepath.Join(s.dir, "data"), "-U", "keeper", "--auth=scram-sha-256", "--pwfile="+word, "--encoding=UTF8", "--locale=C", "--no-sync")
	if out, err := init.CombinedOutput(); err != nil {
		return s, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return s, err
	}
	s.Port = strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
	l.Close()
	return s, s.run()
}

// anybody is somebody who is not root.
func anybody() (*syscall.Credential, error) {
	for _, name := range []string{"postgres", "nobody"} {
		if u, err := user.Lookup(name); err == nil {
			uid, err1 := strconv.Atoi(u.Uid)
			gid, err2 := strconv.Atoi(u.Gid)
			if err1 == nil && err2 == nil {
				return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
			}
		}
	}
	return nil, errors.New("there is nobody but root to run a server as")
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = s.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Pdeathsig: syscall.SIGKILL}
	return cmd
}

// Run lets it run, again where it was stopped, and waits until it answers.
func (s *Server) Run(t testing.TB) {
	t.Helper()
	if err := s.run(); err != nil {
		t.Fatal(err)
	}
}

func (s *Server) run() error {
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	defer log.Close()
	fsync, statements := "off", "all"
	if s.Durable {
		fsync, statements = "on", "none"
	}
	s.cmd = s.command("postgres", "-D", filepath.Join(s.dir, "data"), "-p", s.Port, "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="+s.dir,
		"-c", "fsync="+fsync, "-c", "log_statement="+statements, "-c", "log_min_messages=info", "-c", "max_connections=200")
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		return err
	}
	for range 200 {
		if c, err := s.Connect("postgres"); err == nil {
			c.Close(context.Background())
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	text, err := os.ReadFile(filepath.Join(s.dir, "log"))
	return fmt.Errorf("the server does not answer: %s %w", text, err)
}

// Kill ends it as a power cut would.
func (s *Server) Kill() {
	if s.cmd != nil && s.cmd.Process != nil {
		pids, _ := exec.Command("pgrep", "-P", strconv.Itoa(s.cmd.Process.Pid)).Output()
		_ = s.cmd.Process.Kill()
		for pid := range strings.FieldsSeq(string(pids)) {
			if n, err := strconv.Atoi(pid); err == nil {
				_ = syscall.Kill(n, syscall.SIGKILL)
			}
		}
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// Stop ends it.
func (s *Server) Stop() {
	if s.cmd != nil && s.cmd.Process != nil {
		_ = s.cmd.Process.Signal(syscall.SIGINT)
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// Log is what it has written, all statements among it.
func (s *Server) Log(t testing.TB) string {
	text, err := os.ReadFile(filepath.Join(s.dir, "log"))
	if err != nil {
		t.Error(err)
	}
	return string(text)
}

// Connect connects as its superuser.
func (s *Server) Connect(database string) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig("host=127.0.0.1 sslmode=disable user=keeper port=" + s.Port + " dbname=" + database)
	if err != nil {
		return nil, err
	}
	config.Password = s.Password
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return pgx.ConnectConfig(ctx, config)
}

// Exec carries out statements in a database.
func (s *Server) Exec(t testing.TB, database string, statements ...string) {
	t.Helper()
	c, err := s.Connect(database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	for _, text := range statements {
		if _, err := c.Exec(context.Background(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
}

// Catalogue is everything in its catalogues that its users have made, as text.
func (s *Server) Catalogue(t testing.TB) string {
	t.Helper()
	var out strings.Builder
	ask := func(database, query string) []string {
		c, err := s.Connect(database)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close(context.Background())
		rows, err := c.Query(context.Background(), query)
		if err != nil {
			t.Fatalf("%s: %v", query, err)
		}
		lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatalf("%s: %v", query, err)
		}
		return lines
	}
	section := func(database, title, query string) {
		for _, line := range ask(database, query) {
			fmt.Fprintf(&out, "%s %s\n", title, line)
		}
	}
	section("postgres", "role", `select row(rolname, rolsuper, rolinherit, rolcreaterole, rolcreatedb, rolcanlogin, rolreplication, rolbypassrls, rolconnlimit, rolpassword, rolvaliduntil, shobj_description(oid, 'pg_authid'))::text from pg_authid where rolname !~ '^pg_' order by 1`)
	section("postgres", "member", `select row(a.rolname, b.rolname, admin_option)::text from pg_auth_members m join pg_roles a on a.oid = m.roleid join pg_roles b on b.oid = m.member where b.rolname !~ '^pg_' order by 1`)
	section("postgres", "setting", `select row(coalesce(d.datname, '-'), coalesce(r.rolname, '-'), setconfig)::text from pg_db_role_setting s left join pg_database d on d.oid = s.setdatabase left join pg_roles r on r.oid = s.setrole order by 1`)
	section("postgres", "database", `select row(datname, rolname, encoding, datcollate, datconnlimit, shobj_description(d.oid, 'pg_database'))::text from pg_database d join pg_roles r on r.oid = d.datdba order by 1`)
	section("postgres", "database privileges", `select row(datname, a.grantee::regrole, a.privilege_type, a.is_grantable)::text from pg_database d, aclexplode(coalesce(datacl, acldefault('d', datdba))) a order by 1`)
	for _, database := range ask("postgres", `select datname from pg_database where datallowconn and datname not like 'template%' order by 1`) {
		section(database, "schema in "+database, `select row(nspname, rolname, obj_description(n.oid, 'pg_namespace'))::text from pg_namespace n join pg_roles r on r.oid = n.nspowner where nspname !~ '^pg_' order by 1`)
		section(database, "schema privileges in "+database, `select row(nspname, a.grantee::regrole, a.privilege_type, a.is_grantable)::text from pg_namespace n, aclexplode(coalesce(nspacl, acldefault('n', nspowner))) a where nspname !~ '^pg_' order by 1`)
		section(database, "extension in "+database, `select row(extname, extversion, extnamespace::regnamespace, obj_description(oid, 'pg_extension'))::text from pg_extension order by 1`)
		section(database, "table in "+database, `select row(relnamespace::regnamespace, relname)::text from pg_class where relkind = 'r' and relnamespace::regnamespace::text !~ '^(pg_|information_schema)' order by 1`)
	}
	return out.String()
}

// Dump is all that is in a database, as text.
func (s *Server) Dump(t testing.TB, database string) string {
	t.Helper()
	return s.Tool(t, "pg_dump", "--inserts", database)
}

// Tool calls a program of the server's, such as pg_dump, and is what it prints.
func (s *Server) Tool(t testing.TB, name string, args ...string) string {
	t.Helper()
	cmd := s.command(name, append([]string{"-h", "127.0.0.1", "-p", s.Port, "-U", "keeper"}, args...)...)
	cmd.Env = append(os.Environ(), "PGPASSWORD="+s.Password)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	return string(out)
}
