package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Trouble is an error of the database, in words for people: the database's own are of no use to them.
type Trouble struct {
	words string
	err   error
}

func (t *Trouble) Error() string { return t.words }

// Unwrap is the error as the database has it.
func (t *Trouble) Unwrap() error { return t.err }

// worded gives an error of a database words for people. Others stay as they are.
func worded(err error) error {
	if err == nil || errors.Is(err, sql.ErrNoRows) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	var said *Trouble
	if errors.As(err, &said) {
		return err
	}
	var file *sqlite.Error
	if errors.As(err, &file) {
		return &Trouble{"the store in the file " + fileTrouble(file.Code()), err}
	}
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return &Trouble{"the store on the PostgreSQL server " + serverTrouble(server.Code), err}
	}
	return err
}

// fileTrouble says what a result code of SQLite means (https://www.sqlite.org/rescode.html).
func fileTrouble(code int) string {
	switch code & 0xff {
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return "is in use by another process for too long: try again"
	case sqlite3.SQLITE_FULL:
		return "cannot be written: the disk is full; nothing of this was written"
	case sqlite3.SQLITE_IOERR:
		return "cannot be read or written: the disk does not do what it is asked for"
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_AUTH:
		return "can only be read from here; nothing was written"
	case sqlite3.SQLITE_CANTOPEN:
		return "cannot be opened: see that the data folder is there and can be written to"
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return "is damaged: put it back from a backup"
	case sqlite3.SQLITE_CONSTRAINT:
		return "holds something else by now: another process has written the same; try again"
	}
	return fmt.Sprintf("does not do what it is asked for (code %d); 'brickrow store status' looks at it", code)
}

// serverTrouble says what an error code of PostgreSQL means (its documentation, appendix A).
func serverTrouble(code string) string {
	switch {
	case strings.HasPrefix(code, "23"):
		return "holds something else by now: another process has written the same; try again"
	case code == "42501":
		return "does not let this user do that: docs/operations.md says which grants are needed"
	case strings.HasPrefix(code, "53"):
		return "has no room for it: the server lacks memory, disk or connections"
	case strings.HasPrefix(code, "57"), strings.HasPrefix(code, "08"):
		return "has broken off: the server is ending, or somebody has ended the connection; try again"
	case strings.HasPrefix(code, "40"), strings.HasPrefix(code, "55"):
		return "is in use by others for too long: try again"
	case code == "25006":
		return "can only be read; nothing was written"
	}
	return fmt.Sprintf("does not do what it is asked for (code %s); 'brickrow store status' looks at it", code)
}

// wordedRow gives the error of a row words.
type wordedRow struct{ row }

func (r wordedRow) Scan(into ...any) error { return worded(r.row.Scan(into...)) }

// wordedRows gives the errors of rows words.
type wordedRows struct{ rows }

func (r wordedRows) Scan(into ...any) error { return worded(r.rows.Scan(into...)) }
func (r wordedRows) Err() error             { return worded(r.rows.Err()) }
