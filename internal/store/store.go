// Package store keeps what Brick Row knows: stacks with their revisions and
// recorded resources, runs with their journal and events, and locks. It is
// plain SQL, in an embedded SQLite database or on a PostgreSQL server that
// several people share.
//
// Secrets are sealed before they are written: a Secret value never reaches the
// database in clear. Of a database in a file the key lies beside it, in a file that
// only its owner can read; a shared one keeps it sealed for each of its members.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver

	"brickrow/internal/identity"
	"brickrow/internal/shareddb"
	"brickrow/internal/sqlite"
	"brickrow/internal/tosca"
)

// ErrNotFound says that something asked for by name is not there.
var ErrNotFound = errors.New("not found")

// notFoundError says in words what is not there.
type notFoundError struct{ text string }

func (e *notFoundError) Error() string { return e.text }

func (e *notFoundError) Is(target error) bool { return target == ErrNotFound }

// Store is an open store.
type Store struct {
	db    database
	place Place
	keys  *keys
	now   func() time.Time
	lib   func() *tosca.Library
	older error // why nothing can be written; nil is that it can

	mu      sync.Mutex
	numbers map[string]int64 // of the last event, by run and lock

	me       *identity.Identity // that signs what is written to a shared store; nil is that the store is in a file
	circleMu sync.Mutex
	circle   *circle         // that was read last; nil is none yet
	deployed map[string]bool // programs that are known to have been deployed, under mu
	idMu     sync.Mutex
	id       string
}

//go:embed migrations/*.sql migrations/shared/*.sql
var migrations embed.FS

// Place says where a store is.
type Place struct {
	// Dir is the folder of what is this user's alone: who he is, his key, and the file of the store, where
	// it is in one.
	Dir string
	// URL is that of a PostgreSQL server; "" is a file.
	URL string
}

// File is the name of the file of a store.
const File = "store.db"

// String is the place without what it lets in by.
func (p Place) String() string {
	if p.URL != "" {
		return shareddb.Place(p.URL)
	}
	return shareddb.Shown(filepath.Join(p.Dir, File))
}

// Open opens or makes the store at a place. With the types of the library it reads what is recorded of a
// resource.
func Open(ctx context.Context, at Place, library func() *tosca.Library) (*Store, error) {
	s, err := openAny(ctx, at, library)
	if err != nil {
		return nil, err
	}
	where, err := s.about(ctx, movedTo)
	if err == nil && where != "" {
		err = &MovedError{at.String(), where}
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// openAny opens a store, also one that is somewhere else now.
func openAny(ctx context.Context, at Place, library func() *tosca.Library) (*Store, error) {
	s := &Store{place: at, now: time.Now, lib: library, numbers: map[string]int64{}, deployed: map[string]bool{}}
	var err error
	if at.URL == "" && shareddb.IsWords(at.Dir) {
		err = shareddb.ErrWords
	} else if at.URL == "" {
		err = s.openFile(ctx)
	} else {
		err = s.openShared(ctx)
	}
	if err != nil {
		if s.db != nil {
			err = errors.Join(err, s.db.Close())
		}
		return nil, err
	}
	return s, nil
}

// Around lets something be around all that is written from now on: it may leave the writing out, or say that it failed
// when it did not, as a simulation does.
func (s *Store) Around(f func(write func() error) error) { s.db = &surrounded{s.db, f} }

type surrounded struct {
	database
	around func(write func() error) error
}

func (d *surrounded) Write(ctx context.Context, do func(transaction) error) error {
	return d.around(func() error { return d.database.Write(ctx, do) })
}

func (s *Store) openFile(ctx context.Context) error {
	file, key := filepath.Join(s.place.Dir, File), filepath.Join(s.place.Dir, KeyFile)
	if missing(key) && !missing(file) && missing(key) { // looked at once more: another process may be beginning
		return fmt.Errorf("the key %s is missing: without it the secrets and the revisions of this store "+
			"cannot be read; put it back from a backup, or begin anew with another data folder", key)
	}
	local, err := openKey(key)
	if err != nil {
		return err
	}
	s.keys = &keys{local: local, data: local, generation: "1"}
	db, err := sqlite.Open(file, "FULL", migrations)
	var newer *sqlite.NewerError
	if errors.As(err, &newer) {
		return s.openOlder(ctx, newer, newer.Reads, func() (database, error) {
			db, err := sqlite.OpenNewer(file)
			return embedded{db}, err
		})
	}
	if err != nil {
		return err
	}
	s.db = embedded{db}
	return s.keptKey(ctx)
}

func (s *Store) openShared(ctx context.Context) error {
	local, err := openKey(filepath.Join(s.place.Dir, KeyFile))
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations/shared")
	if err != nil {
		return err
	}
	db, err := shareddb.Open(ctx, s.place.URL, files)
	if err != nil {
		return err
	}
	s.db = shared{db}
	if newer := db.Newer; newer != nil {
		if err := s.openOlder(ctx, fmt.Errorf("the store %s was written by a newer Brick Row: %w", s.place, newer), newer.Reads,
			func() (database, error) { return s.db, nil }); err != nil {
			return err
		}
	}
	s.keys = &keys{local: local}
	if s.me, err = identity.Open(s.place.Dir); err != nil {
		return err
	}
	return s.join(ctx)
}

// openOlder opens a store for a program that is older than the one which brought its tables to where they
// are. It reads, where that other program has said that it still can, and writes nothing.
func (s *Store) openOlder(ctx context.Context, newer error, reads int64, open func() (database, error)) error {
	db, err := open()
	if err != nil {
		return err
	}
	s.db = db
	text, err := s.about(ctx, "readable_from")
	from, bad := strconv.ParseInt(text, 10, 64)
	if err != nil || bad != nil || from > reads {
		return newer
	}
	s.older = fmt.Errorf("%w; this one can still read it, and writes nothing", newer)
	return nil
}

func missing(path string) bool {
	_, err := os.Stat(path)
	return errors.Is(err, fs.ErrNotExist)
}

// Older says why this program can write nothing, being older than what has brought the tables of the store
// to where they are; nil is that it can.
func (s *Store) Older() error { return s.older }

// Place is where the store is.
func (s *Store) Place() Place { return s.place }

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// Heard counts what was written to a shared store, by anybody, as far as was heard; sure says that nothing
// can have been missed. Of a store in a file that is seen from the file.
func (s *Store) Heard() (n int64, sure bool) {
	if db, ok := s.db.(shared); ok {
		return db.Heard()
	}
	return 0, false
}

// Listen tells of what anybody writes to a shared store, until the context ends; nil is that the store is in
// a file.
func (s *Store) Listen(ctx context.Context) <-chan struct{} {
	if db, ok := s.db.(shared); ok {
		return db.Listen(ctx)
	}
	return nil
}

// write writes what is not sealed, in a transaction that fails where the store is somewhere else now.
func (s *Store) write(ctx context.Context, do func(tx transaction) error) error {
	return s.writeUnder(ctx, "", do)
}

// sealing makes something ready, secrets sealed, and writes it. Where the key has become another one
// meanwhile both are done again.
func (s *Store) sealing(ctx context.Context, ready func() error, do func(tx transaction) error) error {
	for try := 0; ; try++ {
		generation := s.keys.is()
		if err := ready(); err != nil {
			return err
		}
		err := s.writeUnder(ctx, generation, do)
		if !errors.Is(err, errNewKey) || try == 3 {
			return err
		}
		if err := s.learnKey(ctx); err != nil {
			return err
		}
	}
}

// writeUnder writes in a transaction that fails where the store is somewhere else now, or its key is another
// one than what was sealed is sealed with; "" is that nothing is.
func (s *Store) writeUnder(ctx context.Context, generation string, do func(tx transaction) error) error {
	if s.older != nil {
		return s.older
	}
	if !s.Member() {
		return s.noMember()
	}
	err := s.db.Write(ctx, func(tx transaction) error {
		if err := tx.Current(ctx, generation); err != nil {
			return err
		}
		return do(tx)
	})
	if errors.Is(err, errMoved) {
		where, failed := s.about(ctx, movedTo)
		return errors.Join(&MovedError{s.place.String(), where}, failed)
	}
	return err
}

// exec carries a single statement out, and says how many rows it was about.
func (s *Store) exec(ctx context.Context, query string, args ...any) (about int64, err error) {
	err = s.write(ctx, func(tx transaction) error {
		about, err = tx.ExecContext(ctx, query, args...)
		return err
	})
	return about, err
}

// release gives back what this process holds, also where its user is no member any more.
func (s *Store) release(ctx context.Context, query string, args ...any) error {
	if s.older != nil {
		return s.older
	}
	return s.db.Write(ctx, func(tx transaction) error { return tx.Do(query, args...) })
}

// The names of what there is to know of the store itself.
const (
	movedTo    = "moved_to"
	keyIs      = "key"
	movingFrom = "moving_from"
	storeID    = "store_id"
)

// about reads what there is to know of the store itself; "" is nothing.
func (s *Store) about(ctx context.Context, name string) (value string, err error) {
	err = s.db.QueryRowContext(ctx, `select value from about where name = ?`, name).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return value, err
}

// ID is what the store is told by where its resources are: it stays the same when the store is moved.
func (s *Store) ID(ctx context.Context) (string, error) {
	s.idMu.Lock()
	defer s.idMu.Unlock()
	if s.id != "" {
		return s.id, nil
	}
	id, err := s.about(ctx, storeID)
	s.id = id
	return id, err
}

func decode(text string, out any) error {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	return d.Decode(out)
}

func encode(x any) (string, error) {
	b, err := json.Marshal(x)
	return string(b), err
}

func fromMS(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms)
}

// Versions are those that the tables have, and that this program would bring them to.
func (s *Store) Versions(ctx context.Context) (has, knows int64, err error) {
	err = s.db.QueryRowContext(ctx, `select coalesce(max(version_id), 0) from goose_db_version`).Scan(&has)
	names, failed := fs.Glob(migrations, "migrations/*.sql")
	if err = errors.Join(err, failed); err != nil {
		return 0, 0, err
	}
	slices.Sort(names)
	number, _, _ := strings.Cut(filepath.Base(names[len(names)-1]), "_")
	knows, err = strconv.ParseInt(number, 10, 64)
	return has, knows, err
}
