package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/identity"
)

// Who may write to the database of a shared store is not always a member of it. So the members, and what they have set of
// targets, follow from acts alone, each of which names the one before and is signed by a member that the acts before it let
// in; the first is that of whoever founded the store. Each data folder remembers the last act that it has seen, so that acts
// that are taken away, or put back, are noticed.

// Act is something that was done to the store as a whole.
type Act struct {
	Number int64
	Act    string // member-in, member-out, approval-on, approval-off, limit, set
	On     string // the member, the target or the setting that it is about
	Body   string // what holds from then on, as JSON
	By     string
	At     time.Time
	Note   string

	key, former, signature string
}

// The acts.
const (
	MemberIn    = "member-in"
	MemberOut   = "member-out"
	ApprovalOn  = "approval-on"
	ApprovalOff = "approval-off"
	LimitSet    = "limit"
	SettingSet  = "set"
)

// memberBody is what an act says of a member, and by what the key of the store's secrets is told from then on.
type memberBody struct {
	Name      string `json:"name"`
	Recipient string `json:"recipient"`
	Signing   string `json:"signing"`
	Print     string `json:"print"`
}

// settingBody is what an act says of a setting.
type settingBody struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// limitBody is how many runs a target takes at once.
type limitBody struct {
	Runs int `json:"runs"`
}

// content is what an act is signed by; its hash is what the next one names as the one before.
func (a *Act) content() []byte {
	b, _ := json.Marshal([]any{"brickrow act", a.Number, a.Act, a.On, a.Body, a.By, a.key, a.At.UnixMilli(), a.Note, a.former})
	return b
}

func (a *Act) hash() string { return digest(append(a.content(), a.signature...)) }

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// circle is what follows from the acts: who is a member, and what is set.
type circle struct {
	number   int64
	hash     string
	members  map[string]memberBody // by their signing keys
	print    string                // of the key of the secrets
	settings map[string]string
	limits   map[string]int
	bad      error // why what comes behind is not heeded; nil is nothing
}

func newCircle() *circle {
	return &circle{members: map[string]memberBody{}, settings: map[string]string{}, limits: map[string]int{}}
}

func (c *circle) clone() *circle {
	out := *c
	out.members, out.settings, out.limits = maps.Clone(c.members), maps.Clone(c.settings), maps.Clone(c.limits)
	return &out
}

// take follows one more act; an error is why it does not count.
func (c *circle) take(a *Act) error {
	if a.Number != c.number+1 || a.former != c.hash {
		return fmt.Errorf("act %d does not follow the one before", a.Number)
	}
	var m memberBody
	if a.Act == MemberIn || a.Act == MemberOut {
		if err := json.Unmarshal([]byte(a.Body), &m); err != nil {
			return fmt.Errorf("act %d cannot be read: %w", a.Number, err)
		}
	}
	_, known := c.members[a.key]
	founds := c.number == 0 && a.Act == MemberIn && m.Signing == a.key
	if !known && !founds {
		return fmt.Errorf("act %d (%s %s) was done by nobody who was a member", a.Number, a.Act, cloud.Clean(a.On))
	}
	if !identity.Verify(a.key, a.content(), a.signature) {
		return fmt.Errorf("act %d (%s %s) is not what was signed", a.Number, a.Act, cloud.Clean(a.On))
	}
	switch a.Act {
	case MemberIn:
		c.members[m.Signing], c.print = m, m.Print
	case MemberOut:
		delete(c.members, m.Signing)
		c.print = m.Print
	case LimitSet:
		var l limitBody
		if err := json.Unmarshal([]byte(a.Body), &l); err != nil {
			return fmt.Errorf("act %d cannot be read: %w", a.Number, err)
		}
		c.limits[a.On] = l.Runs
	default:
		var s settingBody
		if err := json.Unmarshal([]byte(a.Body), &s); err != nil {
			return fmt.Errorf("act %d cannot be read: %w", a.Number, err)
		}
		c.settings[s.Name] = s.Text
	}
	c.number, c.hash = a.Number, a.hash()
	return nil
}

const actColumns = `number, act, subject, body, by_whom, by_key, at_ms, note, former, signature`

func acts(ctx context.Context, from queryer, above int64) ([]Act, error) {
	rows, err := from.QueryContext(ctx, `select `+actColumns+` from acts where number > ? order by number`, above)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Act
	for rows.Next() {
		var a Act
		var at int64
		if err := rows.Scan(&a.Number, &a.Act, &a.On, &a.Body, &a.By, &a.key, &at, &a.Note, &a.former, &a.signature); err != nil {
			return nil, err
		}
		a.At = fromMS(at)
		out = append(out, a)
	}
	return out, rows.Err()
}

// Acts lists what was done to the store as a whole, the oldest first; of a shared one only what a member has signed.
func (s *Store) Acts(ctx context.Context) ([]Act, error) {
	list, err := acts(ctx, s.db, 0)
	if err != nil || s.me == nil {
		return list, err
	}
	c := newCircle()
	for i := range list {
		if c.take(&list[i]) != nil {
			return list[:i], nil
		}
	}
	return list, nil
}

// follow reads the acts behind those that are known, and holds them against what was seen here before.
func (s *Store) follow(ctx context.Context) (*circle, error) {
	s.circleMu.Lock()
	defer s.circleMu.Unlock()
	c, err := s.followed(ctx, s.db)
	if err != nil {
		return nil, err
	}
	if c.bad == nil && c.number > s.seen().Number {
		s.see(c)
	}
	s.circle = c
	return c, nil
}

// followed reads the acts; what a transaction reads is not remembered, as it may not count.
func (s *Store) followed(ctx context.Context, from queryer) (*circle, error) {
	above := int64(0)
	if s.circle != nil && s.circle.bad == nil && s.circle.number > 0 {
		above = s.circle.number - 1 // the last one once more: it may not be there any more
	}
	list, err := acts(ctx, from, above)
	if err != nil {
		return nil, err
	}
	c := newCircle()
	if above > 0 || s.circle != nil && s.circle.number == 1 && s.circle.bad == nil {
		if len(list) > 0 && list[0].hash() == s.circle.hash {
			c, list = s.circle.clone(), list[1:]
		} else if list, err = acts(ctx, from, 0); err != nil {
			return nil, err
		}
	}
	seen := s.seen()
	met := seen.Number <= c.number
	for i := range list {
		if c.bad = c.take(&list[i]); c.bad != nil {
			break
		}
		if c.number == seen.Number {
			if met = c.hash == seen.Hash; !met {
				break
			}
		}
	}
	if !met {
		c = newCircle()
		c.bad = fmt.Errorf("it is not the store that was seen from here: what its members did was taken away or changed since; where it was "+
			"made anew on purpose, remove %s", s.seenFile())
	}
	return c, nil
}

// Distrust says why a part of what the store says of its members is not heeded; nil is that all is.
func (s *Store) Distrust() error {
	s.circleMu.Lock()
	defer s.circleMu.Unlock()
	if s.circle == nil {
		return nil
	}
	return s.circle.bad
}

// seen is the last act that was seen from a data folder.
type seen struct {
	Place  string `json:"place"`
	Number int64  `json:"number"`
	Hash   string `json:"hash"`
}

func (s *Store) seenFile() string {
	return filepath.Join(s.place.Dir, SeenFolder, digest([]byte(s.place.String()))[:20]+".json")
}

// SeenFolder is the name of the folder of what was seen of shared stores, in the data folder.
const SeenFolder = "seen"

func (s *Store) seen() (out seen) {
	text, err := files.Read(s.seenFile(), 1<<16)
	if err == nil && json.Unmarshal(text, &out) != nil {
		out = seen{}
	}
	return out
}

// see remembers the last act. A data folder that cannot be written to remembers nothing new.
func (s *Store) see(c *circle) {
	text, err := json.Marshal(seen{s.place.String(), c.number, c.hash})
	if err != nil {
		return
	}
	if err := os.MkdirAll(filepath.Dir(s.seenFile()), 0o700); err == nil {
		_ = files.Write(s.seenFile(), text, 0o600)
	}
}

// act adds acts, in a transaction. What stands behind the last one that counts is taken away with it.
func (s *Store) act(ctx context.Context, tx transaction, list ...Act) error {
	if err := tx.Alone("acts"); err != nil {
		return err
	}
	c := newCircle()
	if s.me != nil {
		s.circleMu.Lock()
		is, err := s.followed(ctx, tx)
		s.circleMu.Unlock()
		if err != nil {
			return err
		}
		if is.bad != nil && is.number == 0 && s.seen().Number > 0 {
			return is.bad
		}
		c = is.clone()
		if is.bad != nil {
			if err := tx.Do(`delete from acts where number > ?`, is.number); err != nil {
				return err
			}
		}
	} else if err := tx.QueryRowContext(ctx, `select coalesce(max(number), 0) from acts`).Scan(&c.number); err != nil {
		return err
	}
	for _, a := range list {
		if a.At.IsZero() {
			a.At = s.now()
		}
		if a.By == "" {
			a.By = identity.Caller()
		}
		a.At = fromMS(a.At.UnixMilli())
		a.Number = c.number + 1
		if s.me != nil {
			a.key, a.former = s.me.Public().Key, c.hash
			a.signature = s.me.Sign(a.content())
			if err := c.take(&a); err != nil {
				return err
			}
		}
		c.number = a.Number
		if err := tx.Do(`insert into acts(`+actColumns+`) values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, a.Number, a.Act, a.On, a.Body, a.By, a.key,
			a.At.UnixMilli(), a.Note, a.former, a.signature); err != nil {
			return err
		}
	}
	return nil
}

// body is what an act says, as JSON.
func body(x any) string {
	b, _ := json.Marshal(x) // texts and numbers always can
	return string(b)
}

// MemberNamed is the name of the member who has a signing key, also of one who has left; "" is nobody's.
func (s *Store) MemberNamed(ctx context.Context, key string) string {
	if s.me == nil || key == "" {
		return ""
	}
	list, err := s.Acts(ctx)
	if err != nil {
		return ""
	}
	name := ""
	for _, a := range list {
		var m memberBody
		if a.Act == MemberIn && json.Unmarshal([]byte(a.Body), &m) == nil && m.Signing == key {
			name = m.Name
		}
	}
	return name
}

// MemberOf is the name of the one who did it, among the members; "" is that the store is in a file.
func (s *Store) MemberOf(ctx context.Context, a Act) string { return s.MemberNamed(ctx, a.key) }

// ErrNotSigned says that something was not made by a member of a shared store, or was changed behind his back.
var ErrNotSigned = errors.New("it is not signed by a member of the store as it stands there")

// notSigned says what is not signed, and what to do.
func notSigned(what string) error {
	return fmt.Errorf("%s is not carried out: %w; somebody changed it in the database, or made it without being a member "+
		"('brickrow store status' lists such)", what, ErrNotSigned)
}

// sign signs parts of something, for a kind of things; of a store in a file, which is its owner's alone, nothing is.
func (s *Store) sign(kind string, parts ...any) (key, signature string) {
	if s.me == nil {
		return "", ""
	}
	return s.me.Public().Key, s.me.Sign(signedText(kind, parts))
}

func signedText(kind string, parts []any) []byte {
	b, _ := json.Marshal([]any{"brickrow " + kind, parts}) // texts and numbers always can
	return b
}

// signed reports whether parts of something are signed by a member.
func (s *Store) signed(ctx context.Context, key, signature, kind string, parts ...any) (bool, error) {
	if s.me == nil {
		return true, nil
	}
	if !identity.Verify(key, signedText(kind, parts), signature) {
		return false, nil
	}
	return s.IsMember(ctx, key)
}

// IsMember reports whether a signing key is that of a member; of a store in a file any is.
func (s *Store) IsMember(ctx context.Context, key string) (bool, error) {
	if s.me == nil {
		return true, nil
	}
	c, err := s.follow(ctx)
	if err != nil {
		return false, err
	}
	_, is := c.members[key]
	return is, nil
}
