package store

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"filippo.io/age"

	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/tosca"
)

// KeyFile is the name of the file with the key of what is sealed for this user alone, in the data folder:
// texts that are not saved yet and, where the store is in a file, its secrets.
const KeyFile = "secrets.key"

// keys are those that an open store seals with.
type keys struct {
	local *age.X25519Identity

	mu         sync.RWMutex
	data       *age.X25519Identity // of the secrets of the store; nil is that one is not a member
	generation string              // of that key
}

func (k *keys) is() string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.generation
}

func (k *keys) of() *age.X25519Identity {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.data
}

func (k *keys) set(data *age.X25519Identity, generation string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.data, k.generation = data, generation
}

// errNewKey says that the key of the data is another one now, and errMoved that the store is somewhere
// else.
var (
	errNewKey = errors.New("the key of the store's secrets is another one now")
	errMoved  = errors.New("the store is somewhere else now")
)

// ErrNoMember says that the secrets of a shared store are not to be read by this user.
var ErrNoMember = errors.New("you are not a member of this store, so its secrets are not yours to read or to write: " +
	"send what 'brickrow identity' prints to a member, who adds you with 'brickrow store members add'")

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

func seal(key *age.X25519Identity, clear []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, key.Recipient())
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

func unseal(key *age.X25519Identity, sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), key)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// Seal encrypts bytes for this user alone, and Unseal is its reverse.
func (s *Store) Seal(clear []byte) ([]byte, error) { return seal(s.keys.local, clear) }

func (s *Store) Unseal(sealed []byte) ([]byte, error) { return unseal(s.keys.local, sealed) }

// noMember says why this user is no member of the store.
func (s *Store) noMember() error {
	if err := s.Distrust(); err != nil {
		return fmt.Errorf("%w: %w", ErrNoMember, err)
	}
	return ErrNoMember
}

// Member reports whether this user can read the secrets of the store, and change something in it.
func (s *Store) Member() bool { return s.keys.of() != nil }

const sealed = "$sealed"

// seal makes a value ready for encoding/json, secrets encrypted.
func (s *Store) seal(v tosca.Value) (any, error) {
	switch v := v.(type) {
	case tosca.Secret:
		text, err := json.Marshal(tosca.Stored(v))
		if err != nil {
			return nil, err
		}
		key := s.keys.of()
		if key == nil {
			return nil, ErrNoMember
		}
		out, err := seal(key, text)
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

// unseal opens a secret. For who is no member it stays a secret that nobody can read.
func (s *Store) unseal(text string) (tosca.Value, error) {
	b, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, fmt.Errorf("open a secret: %w", err)
	}
	key := s.keys.of()
	if key == nil {
		return tosca.Unreadable, nil
	}
	clear, err := unseal(key, b)
	var other *age.NoIdentityMatchError
	if errors.As(err, &other) && s.place.URL != "" { // it may be sealed with a newer key
		if err := s.learnKey(context.Background()); err != nil {
			return nil, err
		}
		if key = s.keys.of(); key == nil {
			return tosca.Unreadable, nil
		}
		clear, err = unseal(key, b)
	}
	if err != nil {
		return nil, fmt.Errorf("open a secret: the key does not fit this store: %w", err)
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

// learnKey reads the current key of a shared store, as it is sealed for this user. Only who is let in by a member is one,
// and only the key that a member made is taken.
func (s *Store) learnKey(ctx context.Context) error {
	for try := 0; ; try++ {
		c, err := s.follow(ctx)
		if err != nil {
			return err
		}
		var generation, wrapped string
		if err := s.db.QueryRowContext(ctx, `select a.value, coalesce(m.wrapped, '') from about a left join members m on m.recipient = ?
			where a.name = ?`, s.me.Public().Recipient, keyIs).Scan(&generation, &wrapped); err != nil {
			return err
		}
		is, let := c.members[s.me.Public().Key]
		if wrapped == "" || c.number > 0 && (!let || is.Recipient != s.me.Public().Recipient) || c.number == 0 && c.bad != nil {
			s.keys.set(nil, generation)
			return nil
		}
		data, err := unwrap(s.me, wrapped)
		if err != nil {
			return err
		}
		if c.number > 0 && keyPrint(data) != c.print {
			if try < 3 { // it may be becoming another one just now
				continue
			}
			return errors.New("what is kept as the key of the store is not the one that its members made: somebody changed it in the database")
		}
		s.keys.set(data, generation)
		return nil
	}
}

// StillMember asks the store anew whether this user is a member of it.
func (s *Store) StillMember(ctx context.Context) (bool, error) {
	if s.me == nil {
		return true, nil
	}
	err := s.learnKey(ctx)
	return s.Member(), err
}

// keyPrint is what a key is told by.
func keyPrint(key *age.X25519Identity) string { return digest([]byte(key.Recipient().String()))[:32] }

func unwrap(me *identity.Identity, wrapped string) (*age.X25519Identity, error) {
	text, err := me.Open(wrapped)
	if err != nil {
		return nil, fmt.Errorf("the key of the store, as it is sealed for you: %w", err)
	}
	key, err := age.ParseX25519Identity(string(text))
	if err != nil {
		return nil, errors.New("what is sealed for you is not the key of the store")
	}
	return key, nil
}

// join learns the key of a shared store. Who opens a new one makes its key, and is its first member.
func (s *Store) join(ctx context.Context) error {
	if err := s.learnKey(ctx); err != nil || s.older != nil {
		return err
	}
	if s.Member() {
		return s.vouch(ctx)
	}
	var there int
	if err := s.db.QueryRowContext(ctx, `select count(*) from members`).Scan(&there); err != nil {
		return err
	}
	if there > 0 || s.seen().Number > 0 {
		return s.learnKey(ctx) // another process of the same user may have founded it just now
	}
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	if err := s.found(ctx, key); err != nil {
		return err
	}
	return s.learnKey(ctx)
}

// found makes this user the first member of a shared store, with a key; not where there is one already.
func (s *Store) found(ctx context.Context, key *age.X25519Identity) error {
	wrapped, err := identity.Seal([]byte(key.String()), []string{s.me.Public().Recipient})
	if err != nil {
		return err
	}
	return s.db.Write(ctx, func(tx transaction) error {
		if err := tx.Alone("members"); err != nil {
			return err
		}
		n, err := tx.ExecContext(ctx, `insert into members(recipient, name, signing, wrapped, added_by, added_ms)
			select ?, ?, ?, ?, ?, ? where not exists (select 1 from members)`, s.me.Public().Recipient, identity.Caller(), s.me.Public().Key,
			wrapped, identity.Caller(), s.now().UnixMilli())
		if err != nil || n == 0 {
			return err
		}
		return s.act(ctx, tx, s.letIn(identity.Caller(), s.me.Public(), key))
	})
}

// letIn is the act of letting somebody in.
func (s *Store) letIn(name string, who identity.Public, key *age.X25519Identity) Act {
	return Act{Act: MemberIn, On: name, Body: body(memberBody{name, who.Recipient, who.Key, keyPrint(key)})}
}

// vouch signs what stands in a store of a former version, whose rows nobody has signed.
func (s *Store) vouch(ctx context.Context) error {
	c, err := s.follow(ctx)
	if err != nil || c.number > 0 || s.seen().Number > 0 {
		return err
	}
	key := s.keys.of()
	return s.db.Write(ctx, func(tx transaction) error {
		if err := tx.Alone("acts"); err != nil {
			return err
		}
		var there int
		if err := tx.QueryRowContext(ctx, `select count(*) from acts`).Scan(&there); err != nil || there > 0 {
			return err
		}
		list, err := memberRows(ctx, tx)
		if err != nil {
			return err
		}
		var doings []Act
		for _, m := range list {
			a := s.letIn(m.Name, identity.Public{Key: m.signing, Recipient: m.recipient}, key)
			if a.At = m.Added; m.recipient == s.me.Public().Recipient {
				doings = append([]Act{a}, doings...)
				continue
			}
			doings = append(doings, a)
		}
		more, err := s.settingActs(ctx, tx)
		if err != nil {
			return err
		}
		if err := s.act(ctx, tx, append(doings, more...)...); err != nil {
			return err
		}
		return s.signAll(ctx, tx, nil)
	})
}
