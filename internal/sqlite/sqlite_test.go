package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"
)

var tables = fstest.MapFS{
	"migrations/0001_a.sql": {Data: []byte("-- +goose Up\ncreate table notes (text text not null);\n-- +goose Down\ndrop table notes;\n")},
}

// TestPathsAreTakenAsTheyAre opens databases in folders whose names mean something
// in a URI: each is one of its own, with all its settings.
func TestPathsAreTakenAsTheyAre(t *testing.T) {
	base := t.TempDir()
	for _, name := range []string{"homeA", "home%41", "home#1", "home?mode=memory", "home&x", "a home", "höme",
		"home%zz"} {
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
		for query, into := range map[string]any{`select count(*) from notes`: &n, `pragma foreign_keys`: &keys,
			`pragma journal_mode`: &mode} {
			if err := db.QueryRowContext(t.Context(), query).Scan(into); err != nil {
				t.Fatal(err)
			}
		}
		if n != 0 || keys != 1 || mode != "wal" {
			t.Errorf("%s: %d notes of another one, foreign keys %d, journal %s", name, n, keys, mode)
		}
		if _, err := db.ExecContext(t.Context(), `insert into notes values('x')`); err != nil {
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
	newer := fstest.MapFS{"migrations/0001_a.sql": tables["migrations/0001_a.sql"],
		"migrations/0002_b.sql": {Data: []byte("-- +goose Up\nalter table notes add column more text;\n")}}
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

// TestWritingTogether lets many write at once, of whom some fail, panic or have
// given up: what is told to be kept is kept, and nothing else.
func TestWritingTogether(t *testing.T) {
	db, err := Open(filepath.Join(t.TempDir(), "x.db"), "FULL", tables)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	refused := errors.New("refused")
	var kept atomic.Int64
	var all sync.WaitGroup
	for i := range 300 {
		all.Go(func() {
			ctx := t.Context()
			if i%5 == 1 {
				ctx = gone
			}
			defer func() {
				if broken := recover(); (broken != nil) != (i%5 == 2) {
					t.Errorf("%d: %v", i, broken)
				}
			}()
			err := db.Write(ctx, func(tx *Tx) error {
				if _, err := tx.ExecContext(ctx, `insert into notes values(?)`, fmt.Sprint(i)); err != nil {
					return err
				}
				var n int
				if err := tx.QueryRowContext(ctx, `select count(*) from notes where text = ?`, fmt.Sprint(i)).
					Scan(&n); err != nil || n != 1 {
					return fmt.Errorf("%d written: %w", n, err)
				}
				switch i % 5 {
				case 0:
					return refused
				case 2:
					panic("broken")
				case 3: // SQLite itself refuses
					_, err := tx.ExecContext(ctx, `insert into notes values(null)`)
					return err
				}
				return nil
			})
			switch want := map[int]error{0: refused, 1: context.Canceled}[i%5]; {
			case want != nil && !errors.Is(err, want), i%5 == 3 && err == nil, i%5 == 4 && err != nil:
				t.Errorf("%d: %v", i, err)
			case i%5 == 4:
				kept.Add(1)
				var n int // it is there for all at once
				if err := db.QueryRowContext(ctx, `select count(*) from notes where text = ?`, fmt.Sprint(i)).
					Scan(&n); err != nil || n != 1 {
					t.Errorf("%d is there %d times: %v", i, n, err)
				}
			}
		})
	}
	all.Wait()
	var n int64
	if err := db.QueryRowContext(t.Context(), `select count(*) from notes`).Scan(&n); err != nil ||
		n != kept.Load() || n != 60 {
		t.Errorf("%d notes, %d told to be kept: %v", n, kept.Load(), err)
	}
	if err := db.View(t.Context(), func(s *Snapshot) error {
		if err := db.Write(t.Context(), func(tx *Tx) error {
			_,
				err := tx.ExecContext(t.Context(), `delete from notes`)
			return err
		}); err != nil {
			return err
		}
		return s.QueryRowContext(t.Context(), `select count(*) from notes`).Scan(&n)
	}); err != nil {
		t.Error(err)
	}
	if _, err := (&Snapshot{}).ExecContext(t.Context(), ``); err == nil {
		t.Error("a snapshot is written")
	}
}

// BenchmarkWrite writes rows durably, from 1 and from 16 goroutines, as a ratio to
// the bare driver with one connection, which writes one after the other.
func BenchmarkWrite(b *testing.B) {
	file := filepath.Join(b.TempDir(), "x.db")
	db, err := Open(file, "FULL", tables)
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	bare, err := sql.Open("sqlite", "file:"+file+"?_pragma=synchronous(FULL)&_pragma=busy_timeout(20000)")
	if err != nil {
		b.Fatal(err)
	}
	defer bare.Close()
	bare.SetMaxOpenConns(1)
	each := func(n int, write func() error) time.Duration {
		began := time.Now()
		var all sync.WaitGroup
		for range n {
			all.Go(func() {
				for range 200 / n {
					if err := write(); err != nil {
						b.Error(err)
					}
				}
			})
		}
		all.Wait()
		return time.Since(began) / 200
	}
	st, err := bare.Prepare(`insert into notes values(?)`)
	if err != nil {
		b.Fatal(err)
	}
	for _, n := range []int{1, 16} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var ours, theirs time.Duration
			for b.Loop() {
				ours += each(n, func() error {
					_, err := db.ExecContext(b.Context(), `insert into notes values(?)`, "a note")
					return err
				})
				theirs += each(n, func() error {
					_, err := st.Exec("a note")
					return err
				})
			}
			b.ReportMetric(float64(ours)/float64(theirs), "x-bare")
			b.ReportMetric(float64(ours.Microseconds())/float64(b.N), "µs/write")
		})
	}
}
