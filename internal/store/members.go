package store

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"filippo.io/age"

	"brickrow/internal/cloud"
	"brickrow/internal/identity"
)

// Member is somebody who can read the secrets of a shared store.
type Member struct {
	Name     string    `json:"name"`
	Identity string    `json:"identity"` // as 'brickrow identity' prints it
	AddedBy  string    `json:"added_by"`
	Added    time.Time `json:"added"`
	You      bool      `json:"you"`
	Signed   bool      `json:"signed"` // a member let him in; who is not is given nothing

	recipient, signing string
}

// ErrNoMembers says that a store in a file has no members.
var ErrNoMembers = errors.New("this store is a file, which nobody but you can read: members are those of a shared store " +
	"('brickrow store move --to postgres://…' makes it one)")

// Members lists who can read the secrets, in the order in which they came; also who stands in the table and was let in by
// no member, as not signed.
func (s *Store) Members(ctx context.Context) ([]Member, error) {
	if s.place.URL == "" {
		return nil, ErrNoMembers
	}
	c, err := s.follow(ctx)
	if err != nil {
		return nil, err
	}
	out, err := memberRows(ctx, s.db)
	if err != nil {
		return nil, err
	}
	for i := range out {
		m := &out[i]
		is, let := c.members[m.signing]
		m.You, m.Signed = m.recipient == s.me.Public().Recipient, let && is.Recipient == m.recipient
		if m.Signed {
			m.Name = is.Name
		}
	}
	return out, nil
}

func memberRows(ctx context.Context, from queryer) ([]Member, error) {
	rows, err := from.QueryContext(ctx, `select recipient, name, signing, added_by, added_ms from members order by added_ms, recipient`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Member
	for rows.Next() {
		var m Member
		var added int64
		if err := rows.Scan(&m.recipient, &m.Name, &m.signing, &m.AddedBy, &added); err != nil {
			return nil, err
		}
		m.Identity, m.Added = strings.TrimSpace(m.signing+" "+m.recipient), fromMS(added)
		out = append(out, m)
	}
	return out, rows.Err()
}

// AddMember lets somebody read the secrets, whose identity is a line as 'brickrow identity' prints it.
func (s *Store) AddMember(ctx context.Context, name, line, note string) error {
	if s.place.URL == "" {
		return ErrNoMembers
	}
	who, err := identity.Parse(line)
	if err != nil {
		return err
	}
	if who.Recipient == "" {
		return errors.New("what is to be sealed for somebody needs the second part of his identity too, which begins with age1: " +
			"give the whole of what 'brickrow identity' prints")
	}
	if who.Key == "" {
		return errors.New("what he makes is signed with the first part of his identity, which begins with ed25519: give the whole of what " +
			"'brickrow identity' prints")
	}
	if name = cloud.Clean(strings.TrimSpace(name)); name == "" {
		return errors.New("say who it is, by a name")
	}
	var wrapped string
	var key *age.X25519Identity
	ready := func() error {
		if key = s.keys.of(); key == nil {
			return s.noMember()
		}
		var err error
		wrapped, err = identity.Seal([]byte(key.String()), []string{who.Recipient})
		return err
	}
	var added int64
	err = s.sealing(ctx, ready, func(tx transaction) (err error) {
		if err := tx.Alone("members"); err != nil {
			return err
		}
		added, err = tx.ExecContext(ctx, `insert into members(recipient, name, signing, wrapped, added_by, added_ms)
			select ?, ?, ?, ?, ?, ? where not exists (select 1 from members where name = ? or recipient = ? or signing = ?)`, who.Recipient, name, who.Key,
			wrapped, identity.Caller(), s.now().UnixMilli(), name, who.Recipient, who.Key)
		if err != nil || added == 0 {
			return err
		}
		a := s.letIn(name, who, key)
		a.Note = note
		return s.act(ctx, tx, a)
	})
	if err == nil && added == 0 {
		err = fmt.Errorf("there is a member of the name '%s', or with this identity, already: 'brickrow store members' lists them", name)
	}
	return err
}

// RemoveMember takes the key from somebody, by his name: all secrets are sealed with a new key that he is not
// given. It says how many there were. What he has read before he has read; such secrets are to be changed.
func (s *Store) RemoveMember(ctx context.Context, name, note string) (resealed int, err error) {
	list, err := s.Members(ctx)
	if err != nil {
		return 0, err
	}
	var gone *Member
	for i := range list {
		if list[i].Name == name || list[i].recipient == name {
			gone = &list[i]
		}
	}
	switch {
	case gone == nil:
		return 0, &notFoundError{fmt.Sprintf("there is no member of the name '%s': 'brickrow store members' lists them", name)}
	case gone.You && gone.Signed && signedOf(list) > 1:
		return 0, errors.New("another member has to remove you: what you have signed is signed by him then")
	case gone.Signed && signedOf(list) == 1:
		return 0, fmt.Errorf("%s is the only member: nobody could read the secrets any more", name)
	case s.older != nil:
		return 0, s.older
	}
	for try := 0; ; try++ {
		if resealed, err = s.reseal(ctx, gone, note); !errors.Is(err, errNewKey) || try == 3 {
			break
		}
		if err := s.learnKey(ctx); err != nil {
			return 0, err
		}
	}
	if err != nil {
		return 0, err
	}
	return resealed, s.learnKey(ctx)
}

// secretIn finds what is sealed in the text of a column, at whatever depth of quoting.
var secretIn = regexp.MustCompile(`(\$sealed\\*":\s*\\*")([A-Za-z0-9+/=]+)`)

func signedOf(list []Member) (n int) {
	for _, m := range list {
		if m.Signed {
			n++
		}
	}
	return n
}

// reseal seals all secrets with a new key, for all members but one, while nobody else writes. What was signed stays so; what
// the one who goes has signed is signed by who removes him, but for what is still to be carried out.
func (s *Store) reseal(ctx context.Context, gone *Member, note string) (n int, err error) {
	was, generation := s.keys.of(), s.keys.is()
	if was == nil {
		return 0, s.noMember()
	}
	is, err := age.GenerateX25519Identity()
	if err != nil {
		return 0, err
	}
	number, err := strconv.Atoi(generation)
	if err != nil {
		return 0, fmt.Errorf("the key of the store has the number '%s': %w", generation, err)
	}
	err = s.db.Write(ctx, func(tx transaction) error {
		n = 0
		if err := tx.Alone("about"); err != nil {
			return err
		}
		if err := tx.Current(ctx, generation); err != nil {
			return err
		}
		good, err := s.signedRows(ctx, tx)
		if err != nil {
			return err
		}
		for _, t := range tables {
			m, err := t.reseal(ctx, tx, was, is)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			n += m
		}
		if err := tx.Do(`delete from members where recipient = ?`, gone.recipient); err != nil {
			return err
		}
		out := Act{Act: MemberOut, On: gone.Name, Note: note, Body: body(memberBody{gone.Name, gone.recipient, gone.signing, keyPrint(is)})}
		if err := s.act(ctx, tx, out); err != nil {
			return err
		}
		if err := s.wrapForAll(ctx, tx, is, gone.recipient); err != nil {
			return err
		}
		if err := s.signAll(ctx, tx, good.without(gone.signing)); err != nil {
			return err
		}
		return tx.Do(`update about set value = ? where name = ?`, strconv.Itoa(number+1), keyIs)
	})
	return n, err
}

// reseal seals the secrets in the rows of a table anew.
func (t table) reseal(ctx context.Context, tx transaction, was, is *age.X25519Identity) (n int, err error) {
	names, kinds := t.columnsOf()
	for i, kind := range kinds {
		if kind != 's' && kind != 'z' {
			continue
		}
		update := "update " + t.name + " set " + names[i] + " = ? where " + strings.Join(names[:t.key], " = ? and ") + " = ?"
		if err := t.each(ctx, tx, func(rows [][]any) error {
			for _, r := range rows {
				text, _ := r[i].(string)
				again, m, err := resealed(text, was, is)
				if err != nil {
					return err
				}
				if n += m; m > 0 {
					if err := tx.Do(update, append([]any{again}, r[:t.key]...)...); err != nil {
						return err
					}
				}
			}
			return nil
		}); err != nil {
			return n, err
		}
	}
	return n, nil
}

// resealed is a text with its secrets sealed anew, and how many they are.
func resealed(text string, was, is *age.X25519Identity) (again string, n int, err error) {
	again = secretIn.ReplaceAllStringFunc(text, func(found string) string {
		m := secretIn.FindStringSubmatch(found)
		raw, bad := base64.StdEncoding.DecodeString(m[2])
		if bad != nil || !strings.HasPrefix(string(raw), "age-encryption.org/") { // somebody's own words
			return found
		}
		clear, failed := unseal(was, raw)
		if failed == nil {
			raw, failed = seal(is, clear)
		}
		if failed != nil {
			err = fmt.Errorf("a secret cannot be opened: %w", failed)
			return found
		}
		n++
		return m[1] + base64.StdEncoding.EncodeToString(raw)
	})
	return again, n, err
}

// wrapForAll seals a key for each member that a member let in, but for one.
func (s *Store) wrapForAll(ctx context.Context, tx transaction, key *age.X25519Identity, without string) error {
	s.circleMu.Lock()
	c, err := s.followed(ctx, tx)
	s.circleMu.Unlock()
	if err != nil {
		return err
	}
	if c.bad != nil {
		return c.bad
	}
	for _, m := range c.members {
		if m.Recipient == without {
			continue
		}
		wrapped, err := identity.Seal([]byte(key.String()), []string{m.Recipient})
		if err != nil {
			return err
		}
		if err := tx.Do(`update members set wrapped = ? where recipient = ?`, wrapped, m.Recipient); err != nil {
			return err
		}
	}
	return nil
}

// sealFor lets the key of what is moved here be that of this store, for its members and those of where it
// comes from.
func (s *Store) sealFor(ctx context.Context, key *age.X25519Identity, from *Store) error {
	var come []Member
	var err error
	if from.place.URL != "" {
		if come, err = from.Members(ctx); err != nil {
			return err
		}
	}
	mine := identity.Public{}
	if s.me != nil {
		mine = s.me.Public()
	}
	if err := s.db.Write(ctx, func(tx transaction) error {
		if err := tx.Alone("about"); err != nil {
			return err
		}
		c, err := s.follow(ctx)
		if err != nil {
			return err
		}
		doings := []Act{s.letIn(c.members[mine.Key].Name, mine, key)} // with the key that comes
		for _, m := range come {
			if _, there := c.members[m.signing]; there || !m.Signed {
				continue
			}
			if err := tx.Do(`insert into members(recipient, name, signing, wrapped, added_by, added_ms) values(?, ?, ?, '', ?, ?)
				on conflict do nothing`, m.recipient, m.Name, m.signing, m.AddedBy, m.Added.UnixMilli()); err != nil {
				return err
			}
			doings = append(doings, s.letIn(m.Name, identity.Public{Key: m.signing, Recipient: m.recipient}, key))
		}
		if err := s.act(ctx, tx, doings...); err != nil {
			return err
		}
		return s.wrapForAll(ctx, tx, key, "")
	}); err != nil {
		return err
	}
	return s.learnKey(ctx)
}

// dataKey is the name under which a store in a file that came from elsewhere keeps the key of its secrets,
// sealed with that of the file.
const dataKey = "data_key"

func (s *Store) keepKey(ctx context.Context, key *age.X25519Identity) error {
	out, err := seal(s.keys.local, []byte(key.String()))
	if err != nil {
		return err
	}
	if err := s.setAbout(ctx, dataKey, base64.StdEncoding.EncodeToString(out)); err != nil {
		return err
	}
	return s.keptKey(ctx)
}

func (s *Store) keptKey(ctx context.Context) error {
	text, err := s.about(ctx, dataKey)
	if err != nil || text == "" {
		return err
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return err
	}
	clear, err := unseal(s.keys.local, raw)
	if err != nil {
		return fmt.Errorf("the key of the store cannot be opened with %s: %w", KeyFile, err)
	}
	key, err := age.ParseX25519Identity(string(clear))
	if err != nil {
		return errors.New("what is kept as the key of the store is none")
	}
	s.keys.set(key, s.keys.is())
	return nil
}
