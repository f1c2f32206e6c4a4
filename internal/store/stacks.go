package store

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

const stackColumns = `id, name, account, region, state, revision, description, stack_file, careful, throwaway,
	approvers, created_ms, updated_ms, differs, fleet, seen`

func scanStack(row interface{ Scan(...any) error }) (*stack.Stack, error) {
	s := &stack.Stack{}
	var created, updated int64
	var approvers string
	err := row.Scan(&s.ID, &s.Name, &s.Target.Account, &s.Target.Region, &s.State, &s.Revision, &s.Description,
		&s.StackFile, &s.Careful, &s.Throwaway, &approvers, &created, &updated, &s.Differs, &s.Fleet, &s.Seen)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	s.Created, s.Updated = fromMS(created), fromMS(updated)
	if err == nil {
		err = decode(approvers, &s.Approvers)
	}
	return s, err
}

// stack reads one stack.
func (s *Store) stack(ctx context.Context, query string, args ...any) (*stack.Stack, error) {
	st, err := scanStack(s.db.QueryRowContext(ctx, query, args...))
	if err != nil {
		return nil, err
	}
	return st, s.alone(ctx, st)
}

// alone finds out whether anybody moves the stacks that move.
func (s *Store) alone(ctx context.Context, list ...*stack.Stack) error {
	for _, st := range list {
		if !st.State.Moving() {
			continue
		}
		holder, err := s.LockHolder(ctx, st.ID)
		if err != nil {
			return err
		}
		if holder != "" {
			continue
		}
		var last run.Status
		err = s.db.QueryRowContext(ctx, `select state from runs where stack_id = ? order by number desc limit 1`, st.ID).Scan(&last)
		switch {
		case err != nil && !errors.Is(err, sql.ErrNoRows):
			return err
		case last == run.StatusPaused:
			st.Alone = stack.Paused
		case err == nil && (last == run.StatusWorking || last == run.StatusUndoing):
			st.Alone = stack.Interrupted
		}
	}
	return nil
}

// NoteSeenAs notes how what is there of a stack stands.
func (s *Store) NoteSeenAs(ctx context.Context, id int64, is stack.State) error {
	if !s.Member() {
		return nil
	}
	_, err := s.exec(ctx, `update stacks set seen = ? where id = ?`, is, id)
	return err
}

// NoteDiffers notes how many resources of a stack are not as they are recorded.
func (s *Store) NoteDiffers(ctx context.Context, id int64, n int) error {
	if !s.Member() { // who only looks notes nothing
		return nil
	}
	_, err := s.exec(ctx, `update stacks set differs = ? where id = ?`, n, id)
	return err
}

// Stacks lists all stacks, removed ones too, by name.
func (s *Store) Stacks(ctx context.Context) ([]*stack.Stack, error) {
	rows, err := s.db.QueryContext(ctx, `select `+stackColumns+` from stacks order by name, account, region`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*stack.Stack
	for rows.Next() {
		st, err := scanStack(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, st)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	return out, s.alone(ctx, out...)
}

// Find finds a stack by name, or by name@account/region. It is an error when
// the name alone means several.
func (s *Store) Find(ctx context.Context, name string) (*stack.Stack, error) {
	all, err := s.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	for _, st := range all { // the names of places have an @ of their own
		if st.Name == name && strings.Contains(name, "@") {
			return st, nil
		}
	}
	name, place, placed := cutPlace(name)
	var found []*stack.Stack
	var names, places []string
	for _, st := range all {
		names = append(names, st.Name)
		if st.Name == name && (!placed || st.Target.String() == place) {
			found = append(found, st)
			places = append(places, st.Name+"@"+st.Target.String())
		}
	}
	switch len(found) {
	case 0:
		msg := fmt.Sprintf("there is no stack '%s'", name)
		if fix := tosca.Suggest(name, names); fix != "" {
			msg += "; " + fix
		}
		return nil, &notFoundError{msg}
	case 1:
		return found[0], nil
	}
	return nil, fmt.Errorf("there are several stacks '%s': say %s", name, strings.Join(places, " or "))
}

// cutPlace divides name@account/region; the name of a fleet's stack has an @ of its own.
func cutPlace(text string) (name, place string, placed bool) {
	i := strings.LastIndex(text, "@")
	if i < 0 || !strings.Contains(text[i:], "/") && i >= 0 && strings.Contains(text[i:], ".") {
		return text, "", false
	}
	return text[:i], text[i+1:], true
}

// At finds the stack of a name in a target; ErrNotFound where there is none.
func (s *Store) At(ctx context.Context, name string, t stack.Target) (*stack.Stack, error) {
	return s.stack(ctx, `select `+stackColumns+` from stacks where name = ? and account = ? and region = ?`, name, t.Account, t.Region)
}

// ByID finds a stack by what the store calls it.
func (s *Store) ByID(ctx context.Context, id int64) (*stack.Stack, error) {
	return s.stack(ctx, `select `+stackColumns+` from stacks where id = ?`, id)
}

// Ensure finds the stack of a name in a target, or makes it empty.
func (s *Store) Ensure(ctx context.Context, name string, t stack.Target) (*stack.Stack, error) {
	now := s.now().UnixMilli()
	_, err := s.exec(ctx,
		`insert into stacks(name, account, region, state, revision, description, stack_file, careful, created_ms,
			updated_ms) values(?, ?, ?, ?, 0, '', '', false, ?, ?) on conflict do nothing`,
		name, t.Account, t.Region, stack.Empty, now, now)
	if err != nil {
		return nil, err
	}
	return s.At(ctx, name, t)
}

// addRevision writes a new revision and yields its number.
func (s *Store) addRevision(ctx context.Context, tx transaction, id int64, r stack.Revision) (int, error) {
	inputs := make([]map[string]any, len(r.Inputs))
	for i, in := range r.Inputs {
		v, err := s.seal(in.Value)
		if err != nil {
			return 0, err
		}
		inputs[i] = map[string]any{"name": in.Name, "value": v, "origin": in.Origin}
	}
	text, err := encode(inputs)
	if err != nil {
		return 0, err
	}
	tags, err := encode(r.Tags)
	if err != nil {
		return 0, err
	}
	template, err := s.packOnce(ctx, tx, id, &r)
	if err != nil {
		return 0, err
	}
	number := 0
	if err := tx.QueryRowContext(ctx, `select coalesce(max(number), 0) + 1 from revisions where stack_id = ?`, id).
		Scan(&number); err != nil {
		return 0, err
	}
	if err := tx.Do(`insert into revisions(stack_id, number, template, text, inputs, tags, created_by, created_ms, note, origin)
			values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		id, number, r.Template, template, text, tags, r.By, s.now().UnixMilli(), r.Note, r.Origin); err != nil {
		return 0, err
	}
	return number, s.signRow(ctx, tx, revisionKind, id, number)
}

// sameAs says in the place of a template that it is that of another revision.
type sameAs struct {
	Revision int `json:"same_as"`
}

// packOnce is the template of a revision as it is stored: sealed as a whole, since it
// should hold no secrets but may; or the number of the revision that has the same.
func (s *Store) packOnce(ctx context.Context, tx transaction, id int64, r *stack.Revision) (string, error) {
	packed := pack(r)
	var last int
	err := tx.QueryRowContext(ctx, `select coalesce(max(number), 0) from revisions where stack_id = ?`, id).Scan(&last)
	if err != nil {
		return "", err
	}
	if last > 0 {
		was, number, err := s.template(ctx, tx, id, last)
		if err != nil {
			return "", err
		}
		if bare, _ := tosca.Bare(was); tosca.Equal(bare, packed) {
			return encode(sameAs{number})
		}
	}
	sealed, err := s.seal(tosca.Secret{Value: packed})
	if err != nil {
		return "", err
	}
	return encode(sealed)
}

// template opens the template of a revision, and says which revision has it.
func (s *Store) template(ctx context.Context, from queryer, id int64, number int) (tosca.Value, int, error) {
	for range 2 { // what is the same as another is the same as one that has it
		var text string
		if err := from.QueryRowContext(ctx, `select text from revisions where stack_id = ? and number = ?`, id,
			number).Scan(&text); err != nil {
			return nil, 0, err
		}
		var same sameAs
		if json.Unmarshal([]byte(text), &same) == nil && same.Revision > 0 {
			number = same.Revision
			continue
		}
		var sealed any
		if err := decode(text, &sealed); err != nil {
			return nil, 0, err
		}
		v, err := s.open(sealed)
		if err == nil && tosca.IsUnreadable(v) {
			err = ErrNoMember
		}
		return v, number, err
	}
	return nil, 0, fmt.Errorf("revision %d leads nowhere", number)
}

// pack puts the template, its files and its look-ups into one value.
func pack(r *stack.Revision) tosca.Value {
	files, found := tosca.Map{}, tosca.Map{}
	for name, b := range r.Files {
		files[name] = tosca.String(base64.StdEncoding.EncodeToString(b))
	}
	for name, f := range r.Found {
		found[name] = tosca.Map{"type": tosca.String(f.Type), "id": tosca.String(f.ID),
			"properties": tosca.Map(f.Properties), "attributes": tosca.Map(f.Attributes)}
	}
	return tosca.Map{"text": tosca.String(r.Text), "entry": tosca.String(r.Entry), "files": files, "found": found}
}

// unpack is the reverse of pack.
func unpack(r *stack.Revision, v tosca.Value) error {
	bare, _ := tosca.Bare(v)
	m, ok := bare.(tosca.Map)
	if !ok { // as earlier versions wrote it
		r.Text = tosca.Show(bare)
		return nil
	}
	text := func(m tosca.Map, key string) string {
		s, _ := m[key].(tosca.String)
		return string(s)
	}
	r.Text, r.Entry, r.Files, r.Found = text(m, "text"), text(m, "entry"), map[string][]byte{}, map[string]stack.Found{}
	files, _ := m["files"].(tosca.Map)
	for name := range files {
		b, err := base64.StdEncoding.DecodeString(text(files, name))
		if err != nil {
			return fmt.Errorf("the file %s: %w", name, err)
		}
		r.Files[name] = b
	}
	found, _ := m["found"].(tosca.Map)
	for name, v := range found {
		f, _ := v.(tosca.Map)
		properties, _ := f["properties"].(tosca.Map)
		attributes, _ := f["attributes"].(tosca.Map)
		r.Found[name] = stack.Found{Type: text(f, "type"), ID: text(f, "id"), Properties: properties,
			Attributes: attributes}
	}
	return nil
}

// Revision reads one revision.
func (s *Store) Revision(ctx context.Context, id int64, number int) (*stack.Revision, error) {
	r := &stack.Revision{Number: number}
	var inputs, tags string
	var created int64
	err := s.db.QueryRowContext(ctx,
		`select template, inputs, tags, created_by, created_ms, note, origin from revisions where stack_id = ? and number = ?`, id, number).
		Scan(&r.Template, &inputs, &tags, &r.By, &created, &r.Note, &r.Origin)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("revision %d: %w", number, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	r.Created = fromMS(created)
	template, _, err := s.template(ctx, s.db, id, number)
	if err != nil {
		return nil, fmt.Errorf("the template of revision %d: %w", number, err)
	}
	if err := unpack(r, template); err != nil {
		return nil, fmt.Errorf("the template of revision %d: %w", number, err)
	}
	if err := decode(tags, &r.Tags); err != nil {
		return nil, err
	}
	r.Inputs, err = s.decodeInputs(inputs, number)
	return r, err
}

// OriginOf reads where a revision came from; "" is not known.
func (s *Store) OriginOf(ctx context.Context, id int64, number int) (origin string, err error) {
	err = s.db.QueryRowContext(ctx, `select origin from revisions where stack_id = ? and number = ?`, id, number).Scan(&origin)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return origin, err
}

// Inputs reads the inputs of a revision.
func (s *Store) Inputs(ctx context.Context, id int64, number int) ([]stack.Input, error) {
	var text string
	err := s.db.QueryRowContext(ctx, `select inputs from revisions where stack_id = ? and number = ?`, id, number).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return s.decodeInputs(text, number)
}

func (s *Store) decodeInputs(text string, number int) ([]stack.Input, error) {
	var list []struct {
		Name   string
		Value  any
		Origin stack.Origin
	}
	if err := decode(text, &list); err != nil {
		return nil, err
	}
	var out []stack.Input
	for _, in := range list {
		v, err := s.open(in.Value)
		if err != nil {
			return nil, fmt.Errorf("input %s of revision %d: %w", in.Name, number, err)
		}
		out = append(out, stack.Input{Name: in.Name, Value: v, Origin: in.Origin})
	}
	return out, nil
}

// Revisions lists the numbers of a stack's revisions, newest first.
func (s *Store) Revisions(ctx context.Context, id int64) ([]int, error) {
	rows, err := s.db.QueryContext(ctx, `select number from revisions where stack_id = ? order by number desc`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []int
	for rows.Next() {
		var n int
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, rows.Err()
}

// recordedBody is how a recorded resource is written.
type recordedBody struct {
	Type         string                    `json:"type"`
	ID           string                    `json:"id"`
	Properties   map[string]any            `json:"properties"`
	Links        map[string][]stack.LinkTo `json:"links"`
	Attributes   map[string]any            `json:"attributes"`
	Fingerprints map[string]any            `json:"fingerprints,omitempty"`
	Needs        []string                  `json:"needs"`
	Pos          tosca.Pos                 `json:"pos"`
	stack.Policies
	Formerly []string    `json:"formerly,omitempty"`
	Left     *stack.Left `json:"left,omitempty"`
	Taken    bool        `json:"taken,omitempty"`
}

func (s *Store) encodeRecorded(r *stack.Recorded) (string, error) {
	properties, err := s.sealMap(r.Properties)
	if err != nil {
		return "", err
	}
	attributes, err := s.sealMap(r.Attributes)
	if err != nil {
		return "", err
	}
	prints, err := s.sealMap(r.Fingerprints)
	if err != nil {
		return "", err
	}
	return encode(recordedBody{r.Type, r.ID, properties, r.Links, attributes, prints, r.Needs, r.Pos, r.Policies,
		r.Formerly, r.Left, r.Taken})
}

func (s *Store) decodeRecorded(name, text string) (*stack.Recorded, error) {
	var b recordedBody
	if err := decode(text, &b); err != nil {
		return nil, fmt.Errorf("the record of %s cannot be read: %w", name, err)
	}
	r := &stack.Recorded{Name: name, Type: b.Type, ID: b.ID, Links: b.Links, Needs: b.Needs, Pos: b.Pos,
		Policies: b.Policies, Formerly: b.Formerly, Left: b.Left, Taken: b.Taken}
	var err error
	if r.Properties, err = s.openMap(b.Properties); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if r.Attributes, err = s.openMap(b.Attributes); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if r.Fingerprints, err = s.openMap(b.Fingerprints); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if t := s.lib().Nodes[r.Type]; t != nil {
		for k, v := range r.Properties {
			if d := t.Property(k); d != nil && d.Type != nil {
				r.Properties[k] = d.Type.Read(v)
			}
		}
		for k, v := range r.Fingerprints {
			r.Fingerprints[k] = cloud.ReadProperty(t, k, v)
		}
	}
	return r, nil
}

// Recorded lists the recorded resources of a stack. Old ones are those that
// swaps have replaced and not yet removed.
func (s *Store) Recorded(ctx context.Context, id int64) (current, old []*stack.Recorded, err error) {
	rows, err := s.db.QueryContext(ctx,
		`select name, old, body from resources where stack_id = ? order by position, name, old`, id)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name, body string
		var age int
		if err := rows.Scan(&name, &age, &body); err != nil {
			return nil, nil, err
		}
		r, err := s.decodeRecorded(name, body)
		if err != nil {
			return nil, nil, err
		}
		if age > 0 {
			old = append(old, r)
		} else {
			current = append(current, r)
		}
	}
	stack.FollowNames(current)
	return current, old, rows.Err()
}

// RecordedOf lists what is recorded of some types, or of all where none is named, in all stacks of a
// target: current parts, old ones, and what was left or kept in the cloud; by the name of the stack.
// Nothing of other types is opened.
func (s *Store) RecordedOf(ctx context.Context, t stack.Target, types ...string) (map[string][]*stack.Recorded, error) {
	which, bodies := "true", []any{}
	for i, typ := range types { // the type is what a body begins with
		which = map[bool]string{true: "", false: which + " or "}[i == 0] + "b.body >= ? and b.body < ?"
		bodies = append(bodies, `{"type":"`+typ+`",`, `{"type":"`+typ+`"-`)
	}
	part := func(table string) string {
		return `select s.name, b.name, b.body from ` + table + ` as b join stacks as s on s.id = b.stack_id where s.account = ? and s.region = ? and (` + which + `)`
	}
	args := append([]any{t.Account, t.Region}, bodies...)
	rows, err := s.db.QueryContext(ctx, part("resources")+" union all "+part("kept"), append(args, args...)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string][]*stack.Recorded{}
	for rows.Next() {
		var of, name, body string
		if err := rows.Scan(&of, &name, &body); err != nil {
			return nil, err
		}
		var b recordedBody
		if err := decode(body, &b); err != nil || len(types) > 0 && !slices.Contains(types, b.Type) || b.Taken {
			if err != nil {
				return nil, fmt.Errorf("the record of %s cannot be read: %w", name, err)
			}
			continue
		}
		r, err := s.decodeRecorded(name, body)
		if err != nil {
			return nil, err
		}
		out[of] = append(out[of], r)
	}
	return out, rows.Err()
}

// RecordedIDs are the ids of all that is recorded in a target. Nothing in it is opened that is sealed.
func (s *Store) RecordedIDs(ctx context.Context, t stack.Target) (map[string]bool, error) {
	rows, err := s.db.QueryContext(ctx, `select r.body from resources as r join stacks as s on s.id = r.stack_id where s.account = ? and s.region = ?
		union all select k.body from kept as k join stacks as s on s.id = k.stack_id where s.account = ? and s.region = ?`, t.Account, t.Region, t.Account, t.Region)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var body string
		var r struct {
			ID string `json:"id"`
		}
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		if err := decode(body, &r); err != nil {
			return nil, err
		}
		out[r.ID] = true
	}
	return out, rows.Err()
}

// Outline is what rests on what in a stack, by the names of its resources. Nothing
// in it is opened that is sealed, so that it is quick for many stacks.
func (s *Store) Outline(ctx context.Context, id int64) (stack.Graph, error) {
	rows, err := s.db.QueryContext(ctx, `select name, body from resources where stack_id = ? and old = 0`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*stack.Recorded
	for rows.Next() {
		var name, body string
		if err := rows.Scan(&name, &body); err != nil {
			return nil, err
		}
		var r struct {
			ID              string
			Needs, Formerly []string
			Links           map[string][]stack.LinkTo
		}
		if err := json.Unmarshal([]byte(body), &r); err != nil {
			return nil, err
		}
		list = append(list, &stack.Recorded{Name: name, ID: r.ID, Needs: r.Needs, Links: r.Links, Formerly: r.Formerly})
	}
	stack.FollowNames(list)
	return stack.RecordedGraph(list), rows.Err()
}

// Kept lists what has left a stack and stays in the cloud.
func (s *Store) Kept(ctx context.Context, id int64) ([]*stack.Recorded, error) {
	list, err := s.Beside(ctx, id)
	return slices.DeleteFunc(list, func(r *stack.Recorded) bool { return r.Taken }), err
}

// Beside lists what has left a stack and stays in the cloud, and what was there before and is
// about to come under it.
func (s *Store) Beside(ctx context.Context, id int64) ([]*stack.Recorded, error) {
	rows, err := s.db.QueryContext(ctx, `select name, body from kept where stack_id = ? order by name, cloud_id`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*stack.Recorded
	for rows.Next() {
		var name, body string
		if err := rows.Scan(&name, &body); err != nil {
			return nil, err
		}
		r, err := s.decodeRecorded(name, body)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Unkeep forgets something that has left a stack.
func (s *Store) Unkeep(ctx context.Context, stackID int64, cloudID string) error {
	_, err := s.exec(ctx, `delete from kept where stack_id = ? and cloud_id = ?`, stackID, cloudID)
	return err
}

// Use is a result of a stack that the current revision of another one gets as an
// input. Of is the name of the stack as it stands there, alone or with its place.
type Use struct {
	Stack  *stack.Stack // that uses it
	Input  string
	Of     string
	Result string
}

// Uses lists which results of which stacks are used by the current revisions of
// others; all are the stacks. No secret is opened for it.
func (s *Store) Uses(ctx context.Context, all []*stack.Stack) ([]Use, error) {
	byID := map[int64]*stack.Stack{}
	for _, st := range all {
		byID[st.ID] = st
	}
	rows, err := s.db.QueryContext(ctx,
		`select r.stack_id, r.inputs from revisions r join stacks s on s.id = r.stack_id and s.revision = r.number
			where r.inputs like '%from %'`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Use
	for rows.Next() {
		var id int64
		var inputs string
		if err := rows.Scan(&id, &inputs); err != nil {
			return nil, err
		}
		var list []struct {
			Name   string
			Origin stack.Origin
		}
		if err := decode(inputs, &list); err != nil {
			return nil, err
		}
		for _, in := range list {
			if of, result, ok := in.Origin.Result(); ok && byID[id] != nil {
				out = append(out, Use{byID[id], in.Name, of, result})
			}
		}
	}
	return out, rows.Err()
}

// SetResults replaces the results of the stack of a run. Each that had another value before
// that run remembers it, also where the run writes them a second time.
func (s *Store) SetResults(ctx context.Context, run *run.Record, list []stack.Result) error {
	return s.fenced(ctx, run, nothing, func(tx transaction) error {
		id := run.StackID
		before, err := s.resultsBefore(ctx, tx, run)
		if err != nil {
			return err
		}
		if err := tx.Do(`delete from results where stack_id = ?`, id); err != nil {
			return err
		}
		for _, r := range list {
			text, err := s.sealed(r.Value)
			if err != nil {
				return err
			}
			var was any
			if old, ok := before[r.Name]; ok && !stack.Same(old, r.Value) {
				if was, err = s.sealed(old); err != nil {
					return err
				}
			}
			if err := tx.Do(`insert into results(stack_id, name, description, value, command, was, run_id) values(?, ?, ?, ?, ?, ?, ?)`, id,
				r.Name, r.Description, text, r.Command, was, run.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// sealed is a value as it is stored.
func (s *Store) sealed(v tosca.Value) (string, error) {
	x, err := s.seal(v)
	if err != nil {
		return "", err
	}
	return encode(x)
}

// resultsBefore are the values of the results before a run, by name.
func (s *Store) resultsBefore(ctx context.Context, tx transaction, r *run.Record) (map[string]tosca.Value, error) {
	rows, err := tx.QueryContext(ctx, `select name, case when run_id = ? then coalesce(was, value) else value end
		from results where stack_id = ?`, r.ID, r.StackID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]tosca.Value{}
	for rows.Next() {
		var name, text string
		if err := rows.Scan(&name, &text); err != nil {
			return nil, err
		}
		if out[name], err = s.opened(text); err != nil {
			return nil, err
		}
	}
	return out, rows.Err()
}

// opened is a value that was stored by sealed.
func (s *Store) opened(text string) (tosca.Value, error) {
	var x any
	if err := decode(text, &x); err != nil {
		return nil, err
	}
	return s.open(x)
}

// Results lists the results of a stack by name.
func (s *Store) Results(ctx context.Context, id int64) ([]stack.Result, error) {
	rows, err := s.db.QueryContext(ctx,
		`select name, description, value, command, coalesce(was, '') from results where stack_id = ? order by name`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []stack.Result
	for rows.Next() {
		var r stack.Result
		var text, was string
		if err := rows.Scan(&r.Name, &r.Description, &text, &r.Command, &was); err != nil {
			return nil, err
		}
		if r.Value, err = s.opened(text); err != nil {
			return nil, err
		}
		if was != "" {
			if r.Was, err = s.opened(was); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Deployed is a revision with the run that led to it.
type Deployed struct {
	Number  int
	Created time.Time
	By      string
	Note    string
	Run     *run.Record // without its plan; nil where none is known
}

// Deployments lists the revisions of a stack with the runs that led to them, newest first.
func (s *Store) Deployments(ctx context.Context, id int64) ([]Deployed, error) {
	rows, err := s.db.QueryContext(ctx,
		`select number, created_by, created_ms, note from revisions where stack_id = ? order by number desc`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Deployed
	for rows.Next() {
		var d Deployed
		var created int64
		if err := rows.Scan(&d.Number, &d.By, &created, &d.Note); err != nil {
			return nil, err
		}
		d.Created = fromMS(created)
		out = append(out, d)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	runs, err := s.db.QueryContext(ctx, `select `+headColumns+` from runs where stack_id = ? and revision > 0 and kind <> 'action' order by number`, id)
	if err != nil {
		return nil, err
	}
	defer runs.Close()
	of := map[int]*run.Record{}
	for runs.Next() {
		r, err := scanRun(runs)
		if err != nil {
			return nil, err
		}
		of[r.Revision] = r
	}
	for i := range out {
		out[i].Run = of[out[i].Number]
	}
	return out, runs.Err()
}
