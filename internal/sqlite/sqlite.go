// Package sqlite opens the embedded databases: in WAL mode, usable by several
// processes at once, their tables brought up to date.
package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // the driver too
)

// now_ms() is the clock of this machine in SQL, in milliseconds since 1970: that of the process, so that a simulation can
// let time pass.
func init() {
	sqlite.MustRegisterScalarFunction("now_ms", 0, func(*sqlite.FunctionContext, []driver.Value) (driver.Value, error) {
		return time.Now().UnixMilli(), nil
	})
}

// Open opens or makes the database in a file and applies the migrations in the
// folder migrations of files. Synchronous is the setting of that name: FULL
// survives a power cut, NORMAL the end of the process.
func Open(file, synchronous string, files fs.FS) (*DB, error) {
	return open(file, synchronous, func(db *sql.DB) error { return migrate(db, file, files) })
}

// OpenNewer opens a database as it is, whatever program has written it.
func OpenNewer(file string) (*DB, error) {
	return open(file, "FULL", func(*sql.DB) error { return nil })
}

func open(file, synchronous string, migrate func(*sql.DB) error) (*DB, error) {
	if err := private(file); err != nil {
		return nil, fmt.Errorf("open %s: %w", file, err)
	}
	name, err := uri(file)
	if err != nil {
		return nil, err
	}
	name += "?_pragma=busy_timeout(20000)&_pragma=foreign_keys(1)"
	d := &DB{reads: map[string]*sql.Stmt{}, views: make(chan *session, readers())}
	d.writes.Write = d.group
	if d.writer, err = sql.Open("sqlite",
		name+"&_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=synchronous("+synchronous+")"); err != nil {
		return nil, fmt.Errorf("open %s: %w", file, err)
	}
	err = migrate(d.writer)
	if err == nil {
		d.write = &session{stmts: map[string]*sql.Stmt{}}
		d.write.conn, err = d.writer.Conn(context.Background())
	}
	if err == nil {
		d.reader, err = sql.Open("sqlite", name+"&_pragma=query_only(1)")
	}
	if err != nil {
		d.writer.Close()
		var newer *NewerError
		if errors.As(err, &newer) {
			return nil, err
		}
		return nil, fmt.Errorf("open %s: %w", file, err)
	}
	d.reader.SetMaxOpenConns(2 * readers())
	d.reader.SetMaxIdleConns(2 * readers())
	return d, nil
}

// uri is a file as SQLite takes it, with the characters escaped that mean
// something in a URI.
func uri(file string) (string, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return "", fmt.Errorf("open %s: %w", file, err)
	}
	return "file:" + strings.NewReplacer("%", "%25", "?", "%3F", "#", "%23").Replace(path), nil
}

// private makes the file where it is missing, and sees to it that nobody but its
// owner can read it; the files that SQLite puts beside it become like it.
func private(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	for _, name := range []string{file, file + "-wal", file + "-shm"} {
		info, err := os.Stat(name)
		if err == nil && info.Mode().Perm()&0o077 != 0 {
			err = os.Chmod(name, 0o600)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// NewerError says that a database was written by a newer program.
type NewerError struct {
	File       string
	Has, Reads int64
}

func (e *NewerError) Error() string {
	return fmt.Sprintf("%s was written by a newer Brick Row (its tables are at version %d, this program reads up "+
		"to %d): use that program, or another data folder", e.File, e.Has, e.Reads)
}

func migrate(db *sql.DB, file string, files fs.FS) error {
	folder, err := fs.Sub(files, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, folder)
	if err != nil {
		return err
	}
	if has, reads, err := p.GetVersions(context.Background()); err == nil && has > reads {
		return &NewerError{file, has, reads}
	}
	for try := 0; ; try++ { // another process may be making the same tables
		if _, err = p.Up(context.Background()); err == nil || try == 20 {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
}
