package sqlite

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
)

var tables = fstest.MapFS{
	"migrations/0001_a.sql": {Data: []byte("-- +goose Up\ncreate table notes (text text not null);\n-- +goose Down\ndrop table notes;\n")},
}

// TestPathsAreTakenAsTheyAre opens databases in folders whose names mean something
// in a URI: each is one of its own, with all its settings.
func TestPathsAreTakenAsTheyAre(t *testing.T) {
	base := t.TempDir()
	for _, name := range []string{"homeA", "home%41", "home#1", "home?mode=memory", "home&x", "a home", "höme", "home%zz"} {
		dir := filepath.Join(base, name)
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(dir, "x.db")
		db, err := Open(file, "NORMAL", tables)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var n, keys int
		var mode string
		for query, into := range map[string]any{`select count(*) from notes`: &n, `pragma foreign_keys`: &keys, `pragma journal_mode`: &mode} {
			if err := db.QueryRow(query).Scan(into); err != nil {
				t.Fatal(err)
			}
		}
		if n != 0 || keys != 1 || mode != "wal" {
			t.Errorf("%s: %d notes of another one, foreign keys %d, journal %s", name, n, keys, mode)
		}
		if _, err := db.Exec(`insert into notes values('x')`); err != nil {
			t.Fatal(err)
		}
		for _, f := range []string{file, file + "-wal", file + "-shm"} {
			if info, err := os.Stat(f); err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("%s: %v %v", f, info.Mode(), err)
			}
		}
		db.Close()
	}
}

// TestANewerDatabaseIsRefused opens one that a newer program has written, and one
// that others could read.
func TestANewerDatabaseIsRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.db")
	newer := fstest.MapFS{"migrations/0001_a.sql": tables["migrations/0001_a.sql"], "migrations/0002_b.sql": {Data: []byte("-- +goose Up\nalter table notes add column more text;\n")}}
	db, err := Open(file, "FULL", newer)
	if err != nil {
		t.Fatal(err)
	}
	db.Close()
	var e *NewerError
	if _, err := Open(file, "FULL", tables); !errors.As(err, &e) || e.Has != 2 || e.Reads != 1 {
		t.Errorf("%v", err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if db, err = Open(file, "FULL", newer); err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
}
