// Package sqlite opens the embedded databases: in WAL mode, usable by several
// processes at once, their tables brought up to date.
package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"io/fs"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver
)

// Open opens or makes the database in a file and applies the migrations in the
// folder migrations of files. Synchronous is the setting of that name: FULL
// survives a power cut, NORMAL the end of the process.
func Open(file, synchronous string, files fs.FS) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?_txlock=immediate&_pragma=busy_timeout(20000)&_pragma=journal_mode(WAL)&_pragma=foreign_keys(1)&_pragma=synchronous("+synchronous+")")
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", file, err)
	}
	if err := migrate(db, files); err != nil {
		db.Close()
		return nil, fmt.Errorf("open %s: %w", file, err)
	}
	return db, nil
}

func migrate(db *sql.DB, files fs.FS) error {
	folder, err := fs.Sub(files, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, folder)
	if err != nil {
		return err
	}
	for try := 0; ; try++ { // another process may be making the same tables
		if _, err = p.Up(context.Background()); err == nil || try == 20 {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
}
