package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"brickrow/internal/cloud"
	"brickrow/internal/identity"
)

// What others carry out is signed by who made it: revisions, runs with their plans, rollouts, and which programs were
// deployed. What is recorded of resources, journals and events are not: docs/operations.md says what follows from that.

// Unsigned is something that nobody who is a member stands for.
type Unsigned struct {
	What string `json:"what"` // member, revision, run, rollout, program, setting, acts
	Name string `json:"name"`
	Why  string `json:"why"`
}

// signedKinds are the things that are signed, each with the statement that reads its rows: what tells them apart, who they
// belong to, what they are signed with, and what they are signed of.
var signedKinds = []struct {
	kind, table, key string // key is the condition by which a row is found again
	keys             int
	query            string
	parts            int
}{
	{"revision", "revisions", "stack_id = ? and number = ?", 2, `select r.stack_id, r.number, s.name || ' in ' || s.account || '/' || s.region || ', revision ' || r.number, r.signed_by, r.signature,
		s.name, s.account, s.region, r.template, r.text, r.inputs, r.tags, r.created_by, r.created_ms, r.note, r.origin
		from revisions r join stacks s on s.id = r.stack_id`, 11},
	{"run", "runs", "id = ?", 1, `select r.id, s.name || ' in ' || s.account || '/' || s.region || ', run ' || r.number, r.signed_by, r.signature,
		s.name, s.account, s.region, r.stack_id, r.number, r.kind, r.revision, r.base, r.prior, r.plan, r.only_of, r.origin, r.started_by, r.started_ms
		from runs r join stacks s on s.id = r.stack_id`, 14},
	{"rollout", "rollouts", "id = ?", 1, `select id, fleet || ', rollout ' || number, signed_by, signature,
		fleet, number, kind, file, at_once, tolerate, on_failure, pause_ms, asks, started_by, started_ms, origin from rollouts`, 12},
	{"program", "programs", "identity = ?", 1, `select identity, file, signed_by, signature, file from programs`, 1},
}

// signedRow is a row that may be signed.
type signedRow struct {
	kind   int // of signedKinds
	keys   []any
	name   string
	by     string
	mark   string
	parts  []any
	signed bool
}

// signable reads rows of a kind, where a condition holds.
func (s *Store) signable(ctx context.Context, from queryer, kind int, where string, args ...any) ([]signedRow, error) {
	k := signedKinds[kind]
	rows, err := from.QueryContext(ctx, k.query+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []signedRow
	for rows.Next() {
		r := signedRow{kind: kind}
		into := make([]any, k.keys+3+k.parts)
		places := make([]any, len(into))
		for i := range into {
			places[i] = &into[i]
		}
		if err := rows.Scan(places...); err != nil {
			return nil, err
		}
		for i, v := range into {
			switch v := v.(type) {
			case []byte:
				into[i] = string(v)
			case bool: // SQLite has numbers for them
				into[i] = map[bool]int64{true: 1}[v]
			}
		}
		r.keys, r.name = into[:k.keys], fmt.Sprint(into[k.keys])
		r.by, r.mark = fmt.Sprint(into[k.keys+1]), fmt.Sprint(into[k.keys+2])
		r.parts = slices.Concat(r.keys, into[k.keys+3:])
		out = append(out, r)
	}
	return out, rows.Err()
}

// judge says of rows whether a member has signed them.
func (s *Store) judge(c *circle, list []signedRow) {
	for i := range list {
		r := &list[i]
		_, is := c.members[r.by]
		r.signed = is && identity.Verify(r.by, signedText(signedKinds[r.kind].kind, r.parts), r.mark)
	}
}

// signRow signs a row as it stands there.
func (s *Store) signRow(ctx context.Context, tx transaction, kind int, keys ...any) error {
	if s.me == nil {
		return nil
	}
	k := signedKinds[kind]
	list, err := s.signable(ctx, tx, kind, " where "+qualified(kind), keys...)
	if err != nil {
		return err
	}
	for _, r := range list {
		by, mark := s.sign(k.kind, r.parts...)
		if err := tx.Do(`update `+k.table+` set signed_by = ?, signature = ? where `+k.key, append([]any{by, mark}, keys...)...); err != nil {
			return err
		}
	}
	return nil
}

// qualified is the condition of a row in the statement that reads it, where two tables have such columns.
func qualified(kind int) string {
	return []string{"r.stack_id = ? and r.number = ?", "r.id = ?", "id = ?", "identity = ?"}[kind]
}

// The kinds by their places in signedKinds.
const (
	revisionKind = iota
	runKind
	rolloutKind
	programKind
)

// signedSet are the rows that were signed before something.
type signedSet map[int]map[string]string // by kind and keys: who signed them

func (r *signedRow) key() string { return body(r.keys) }

// signedRows are the rows that members have signed.
func (s *Store) signedRows(ctx context.Context, tx transaction) (signedSet, error) {
	s.circleMu.Lock()
	c, err := s.followed(ctx, tx)
	s.circleMu.Unlock()
	if err != nil {
		return nil, err
	}
	out := signedSet{}
	for kind := range signedKinds {
		list, err := s.signable(ctx, tx, kind, "")
		if err != nil {
			return nil, err
		}
		s.judge(c, list)
		out[kind] = map[string]string{}
		for _, r := range list {
			if r.signed {
				out[kind][r.key()] = r.by
			}
		}
	}
	return out, nil
}

// without leaves out what somebody has signed that is to be carried out: runs and rollouts.
func (set signedSet) without(key string) signedSet {
	for _, kind := range []int{runKind, rolloutKind} {
		for of, by := range set[kind] {
			if by == key {
				delete(set[kind], of)
			}
		}
	}
	return set
}

// signAll signs all rows of a set as they stand there now; nil is all that there are.
func (s *Store) signAll(ctx context.Context, tx transaction, set signedSet) error {
	for kind, k := range signedKinds {
		list, err := s.signable(ctx, tx, kind, "")
		if err != nil {
			return err
		}
		for _, r := range list {
			if _, was := set[kind][r.key()]; set != nil && !was {
				continue
			}
			by, mark := s.sign(k.kind, r.parts...)
			if err := tx.Do(`update `+k.table+` set signed_by = ?, signature = ? where `+k.key, append([]any{by, mark}, r.keys...)...); err != nil {
				return err
			}
		}
	}
	return nil
}

// Genuine refuses a run that no member has made, or whose plan or revisions were changed since.
func (s *Store) Genuine(ctx context.Context, runID string) error {
	if s.me == nil {
		return nil
	}
	c, err := s.follow(ctx)
	if err != nil {
		return err
	}
	list, err := s.signable(ctx, s.db, runKind, " where r.id = ?", runID)
	if err != nil || len(list) == 0 {
		return err
	}
	if s.judge(c, list); !list[0].signed {
		return notSigned(list[0].name)
	}
	var id int64
	var revision, base int
	if err := s.db.QueryRowContext(ctx, `select stack_id, revision, base from runs where id = ?`, runID).Scan(&id, &revision, &base); err != nil {
		return err
	}
	for _, number := range []int{revision, base} {
		if err := s.GenuineRevision(ctx, id, number); err != nil {
			return err
		}
	}
	return nil
}

// GenuineRevision refuses a revision that no member has made, or that was changed since; 0 is none.
func (s *Store) GenuineRevision(ctx context.Context, stackID int64, number int) error {
	if s.me == nil || number <= 0 {
		return nil
	}
	c, err := s.follow(ctx)
	if err != nil {
		return err
	}
	for range 2 { // its template may stand with another one
		list, err := s.signable(ctx, s.db, revisionKind, " where r.stack_id = ? and r.number = ?", stackID, number)
		if err != nil || len(list) == 0 {
			return err
		}
		if s.judge(c, list); !list[0].signed {
			return notSigned(list[0].name)
		}
		var text string
		if err := s.db.QueryRowContext(ctx, `select text from revisions where stack_id = ? and number = ?`, stackID, number).Scan(&text); err != nil {
			return err
		}
		var same sameAs
		if json.Unmarshal([]byte(text), &same) != nil || same.Revision == 0 || same.Revision == number {
			return nil
		}
		number = same.Revision
	}
	return nil
}

// GenuineRollout refuses a rollout that no member has begun, or that was changed since.
func (s *Store) GenuineRollout(ctx context.Context, id string) error {
	if s.me == nil {
		return nil
	}
	c, err := s.follow(ctx)
	if err != nil {
		return err
	}
	list, err := s.signable(ctx, s.db, rolloutKind, " where id = ?", id)
	if err != nil || len(list) == 0 {
		return err
	}
	if s.judge(c, list); !list[0].signed {
		return notSigned(list[0].name)
	}
	return nil
}

// Unsigned lists what no member stands for.
func (s *Store) Unsigned(ctx context.Context) ([]Unsigned, error) {
	if s.me == nil {
		return nil, nil
	}
	c, err := s.follow(ctx)
	if err != nil {
		return nil, err
	}
	out := []Unsigned{}
	if c.bad != nil {
		out = append(out, Unsigned{"acts", "members and settings", c.bad.Error()})
	}
	members, err := s.Members(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range members {
		if !m.Signed {
			out = append(out, Unsigned{"member", cloud.Clean(m.Name), "no member has let him in: he is given nothing"})
		}
	}
	for _, m := range c.members {
		if !slices.ContainsFunc(members, func(is Member) bool { return is.Signed && is.signing == m.Signing }) {
			out = append(out, Unsigned{"member", m.Name, "he was taken away from the table, and no member removed him"})
		}
	}
	for kind, k := range signedKinds {
		where := ""
		if kind == runKind {
			where = " where r.state not in ('done', 'undone')"
		}
		if kind == rolloutKind {
			where = " where ended_ms = 0"
		}
		list, err := s.signable(ctx, s.db, kind, where)
		if err != nil {
			return nil, err
		}
		s.judge(c, list)
		for _, r := range list {
			if !r.signed {
				out = append(out, Unsigned{k.kind, cloud.Clean(r.name), "no member made it as it stands there: it is not carried out"})
			}
		}
	}
	return s.unsignedSettings(ctx, c, out)
}

// unsignedSettings adds the settings that do not stand there as a member has set them.
func (s *Store) unsignedSettings(ctx context.Context, c *circle, out []Unsigned) ([]Unsigned, error) {
	is, err := settingRows(ctx, s.db)
	if err != nil {
		return nil, err
	}
	limits, err := limitRows(ctx, s.db)
	if err != nil {
		return nil, err
	}
	const why = "it does not stand there as a member has set it: what the member set holds"
	for name, text := range c.settings {
		if is[name] != text {
			out = append(out, Unsigned{"setting", name, why})
		}
		delete(is, name)
	}
	for name := range is {
		out = append(out, Unsigned{"setting", name, why})
	}
	for target, n := range limits {
		if c.limits[target] != n {
			out = append(out, Unsigned{"setting", "limit of " + target, why})
		}
	}
	for target, n := range c.limits {
		if _, there := limits[target]; !there && n > 0 {
			out = append(out, Unsigned{"setting", "limit of " + target, why})
		}
	}
	return out, nil
}

func settingRows(ctx context.Context, from queryer) (map[string]string, error) {
	rows, err := from.QueryContext(ctx, `select name, body from settings`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var name, text string
		if err := rows.Scan(&name, &text); err != nil {
			return nil, err
		}
		out[name] = text
	}
	return out, rows.Err()
}

func limitRows(ctx context.Context, from queryer) (map[string]int, error) {
	rows, err := from.QueryContext(ctx, `select target, runs from targets where runs > 0`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int{}
	for rows.Next() {
		var target string
		var n int
		if err := rows.Scan(&target, &n); err != nil {
			return nil, err
		}
		out[target] = n
	}
	return out, rows.Err()
}

// settingActs are what is set, as acts.
func (s *Store) settingActs(ctx context.Context, from queryer) (out []Act, err error) {
	settings, err := settingRows(ctx, from)
	if err != nil {
		return nil, err
	}
	limits, err := limitRows(ctx, from)
	if err != nil {
		return nil, err
	}
	for name, text := range settings {
		out = append(out, Act{Act: SettingSet, On: name, Body: body(settingBody{name, text})})
	}
	for target, n := range limits {
		out = append(out, Act{Act: LimitSet, On: target, Body: body(limitBody{n})})
	}
	return out, nil
}

// ProgramOf is a program that was part of a deployment: what it is told by, and its file.
type ProgramOf struct{ Identity, File string }

// NotePrograms notes which programs are part of a deployment.
func (s *Store) NotePrograms(ctx context.Context, list []ProgramOf) error {
	list = slices.DeleteFunc(slices.Clone(list), func(p ProgramOf) bool {
		known, err := s.ProgramDeployed(ctx, p.Identity)
		return err == nil && known
	})
	if len(list) == 0 {
		return nil
	}
	return s.write(ctx, func(tx transaction) error {
		for _, p := range list {
			by, mark := s.sign(signedKinds[programKind].kind, p.Identity, p.File)
			if err := tx.Do(`insert into programs(identity, file, by_whom, at_ms, signed_by, signature) values(?, ?, ?, ?, ?, ?)
				on conflict(identity) do update set file = excluded.file, signed_by = excluded.signed_by, signature = excluded.signature`,
				p.Identity, p.File, me(), s.now().UnixMilli(), by, mark); err != nil {
				return err
			}
		}
		return nil
	})
}

// ProgramDeployed reports whether a program was part of a deployment from this store.
func (s *Store) ProgramDeployed(ctx context.Context, program string) (bool, error) {
	s.mu.Lock()
	known := s.deployed[program]
	s.mu.Unlock()
	if known {
		return true, nil
	}
	var file, by, mark string
	err := s.db.QueryRowContext(ctx, `select file, signed_by, signature from programs where identity = ?`, program).Scan(&file, &by, &mark)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if known, err = s.signed(ctx, by, mark, signedKinds[programKind].kind, program, file); err != nil || !known {
		return false, err
	}
	s.mu.Lock()
	s.deployed[program] = true
	s.mu.Unlock()
	return true, nil
}
