// Package store keeps what Brick Row knows: stacks with their revisions and
// recorded resources, runs with their journal and events, and locks. It is
// plain SQL in an embedded SQLite database.
//
// Secrets are sealed before they are written: a Secret value never reaches the
// database in clear. The key lies beside the database in a file that only its
// owner can read.
package store

import (
	"bytes"
	"embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	_ "modernc.org/sqlite" // the driver

	"brickrow/internal/files"
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
	db  *sqlite.DB
	key *age.X25519Identity
	now func() time.Time
	lib func() *tosca.Library

	mu      sync.Mutex
	numbers map[string]int64 // of the last event, by run and lock
}

//go:embed migrations/*.sql
var migrations embed.FS

// KeyFile is the name of the file with the key of the secrets.
const KeyFile = "secrets.key"

// Open opens or makes the store in the folder dir. With the types of the library
// it reads what is recorded of a resource.
func Open(dir string, library func() *tosca.Library) (*Store, error) {
	s := &Store{now: time.Now, lib: library, numbers: map[string]int64{}}
	file := filepath.Join(dir, "store.db")
	key := filepath.Join(dir, KeyFile)
	if missing(key) && !missing(file) && missing(key) { // looked at once more: another process may be beginning
		return nil, fmt.Errorf("the key %s is missing: without it the secrets and the revisions of this store "+
			"cannot be read; put it back from a backup, or begin anew with another data folder", key)
	}
	var err error
	if s.key, err = openKey(key); err != nil {
		return nil, err
	}
	if s.db, err = sqlite.Open(file, "FULL", migrations); err != nil {
		return nil, err
	}
	return s, nil
}

func missing(path string) bool {
	_, err := os.Stat(path)
	return errors.Is(err, fs.ErrNotExist)
}

// openKey reads the key, or makes one. A key that others can read is refused.
func openKey(path string) (*age.X25519Identity, error) {
	b, err := files.ReadPrivate(path, func() ([]byte, error) {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		return []byte(id.String() + "\n"), nil
	})
	if err != nil {
		return nil, fmt.Errorf("the key of the secrets: %w", err)
	}
	id, err := age.ParseX25519Identity(strings.TrimSpace(string(b)))
	if err != nil {
		return nil, fmt.Errorf("%s is not a key: %w", path, err)
	}
	return id, nil
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

const sealed = "$sealed"

// Seal encrypts bytes with the key of the store, and Unseal is its reverse.
func (s *Store) Seal(clear []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, s.key.Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(clear); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func (s *Store) Unseal(sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), s.key)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// seal makes a value ready for encoding/json, secrets encrypted.
func (s *Store) seal(v tosca.Value) (any, error) {
	switch v := v.(type) {
	case tosca.Secret:
		text, err := json.Marshal(tosca.Stored(v))
		if err != nil {
			return nil, err
		}
		out, err := s.Seal(text)
		if err != nil {
			return nil, fmt.Errorf("seal a secret: %w", err)
		}
		return map[string]string{sealed: base64.StdEncoding.EncodeToString(out)}, nil
	case tosca.List:
		l := make([]any, len(v))
		for i, e := range v {
			x, err := s.seal(e)
			if err != nil {
				return nil, err
			}
			l[i] = x
		}
		return l, nil
	case tosca.Map:
		return s.sealMap(v)
	}
	return v, nil
}

func (s *Store) sealMap(m map[string]tosca.Value) (map[string]any, error) {
	out := make(map[string]any, len(m))
	for k, v := range m {
		x, err := s.seal(v)
		if err != nil {
			return nil, err
		}
		out[k] = x
	}
	return out, nil
}

// open is the reverse of seal.
func (s *Store) open(x any) (tosca.Value, error) {
	switch x := x.(type) {
	case map[string]any:
		if text, ok := x[sealed].(string); ok && len(x) == 1 {
			return s.unseal(text)
		}
		m := make(tosca.Map, len(x))
		for k, e := range x {
			v, err := s.open(e)
			if err != nil {
				return nil, err
			}
			m[k] = v
		}
		return m, nil
	case []any:
		l := make(tosca.List, len(x))
		for i, e := range x {
			v, err := s.open(e)
			if err != nil {
				return nil, err
			}
			l[i] = v
		}
		return l, nil
	}
	return tosca.FromJSON(x), nil
}

func (s *Store) unseal(text string) (tosca.Value, error) {
	b, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, fmt.Errorf("open a secret: %w", err)
	}
	clear, err := s.Unseal(b)
	if err != nil {
		return nil, fmt.Errorf("open a secret: the key file does not fit this store: %w", err)
	}
	var v any
	if err := decode(string(clear), &v); err != nil {
		return nil, err
	}
	return tosca.Hide(tosca.FromJSON(v)), nil
}

func (s *Store) openMap(x map[string]any) (map[string]tosca.Value, error) {
	v, err := s.open(x)
	if err != nil {
		return nil, err
	}
	m, _ := v.(tosca.Map)
	return m, nil
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
