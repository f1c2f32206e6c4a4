package store

import (
	"context"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// State is the state of a stack.
type State string

// The states of a stack.
const (
	Empty     State = "empty"
	Deploying State = "deploying"
	Ready     State = "ready"
	Partial   State = "partial" // held after a failure
	Undoing   State = "undoing"
	Removing  State = "removing"
	Removed   State = "removed"
	Stuck     State = "stuck"
)

// Stack is a stack as the store knows it.
type Stack struct {
	ID          int64
	Name        string
	Target      stack.Target
	State       State
	Revision    int // the one deployed; 0 is none
	Description string
	StackFile   string // the file it was last deployed from
	Careful     bool
	Throwaway   bool     // losing its data does not matter
	Approvers   []string // who may agree to what is done to it; empty is anybody
	Created     time.Time
	Updated     time.Time
}

// Revision is one deployed version of a stack.
type Revision struct {
	Number   int
	Template string                 // path of the template
	Text     string                 // the template itself
	Entry    string                 // its path among its files; "" is its name without the folder
	Files    map[string][]byte      // what it imports and uses, by path
	Found    map[string]stack.Found // what its look-ups found, by node
	Inputs   []stack.Input
	Tags     map[string]string
	By       string
	Created  time.Time
	Note     string
}

const stackColumns = `id, name, account, region, state, revision, description, stack_file, careful, throwaway, approvers, created_ms, updated_ms`

func scanStack(row interface{ Scan(...any) error }) (*Stack, error) {
	s := &Stack{}
	var created, updated int64
	var approvers string
	err := row.Scan(&s.ID, &s.Name, &s.Target.Account, &s.Target.Region, &s.State, &s.Revision, &s.Description, &s.StackFile, &s.Careful, &s.Throwaway, &approvers, &created, &updated)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	s.Created, s.Updated = fromMS(created), fromMS(updated)
	if err == nil {
		err = decode(approvers, &s.Approvers)
	}
	return s, err
}

// Stacks lists all stacks, removed ones too, by name.
func (s *Store) Stacks(ctx context.Context) ([]*Stack, error) {
	rows, err := s.db.QueryContext(ctx, `select `+stackColumns+` from stacks order by name, account, region`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*Stack
	for rows.Next() {
		st, err := scanStack(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, st)
	}
	return out, rows.Err()
}

// Find finds a stack by name, or by name@account/region. It is an error when
// the name alone means several.
func (s *Store) Find(ctx context.Context, name string) (*Stack, error) {
	name, place, placed := strings.Cut(name, "@")
	all, err := s.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	var found []*Stack
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
		if mend := tosca.Suggest(name, names); mend != "" {
			msg += "; " + mend
		}
		return nil, &notFoundError{msg}
	case 1:
		return found[0], nil
	}
	return nil, fmt.Errorf("there are several stacks '%s': say %s", name, strings.Join(places, " or "))
}

// At finds the stack of a name in a target; ErrNotFound where there is none.
func (s *Store) At(ctx context.Context, name string, t stack.Target) (*Stack, error) {
	return scanStack(s.db.QueryRowContext(ctx, `select `+stackColumns+` from stacks where name = ? and account = ? and region = ?`, name, t.Account, t.Region))
}

// Ensure finds the stack of a name in a target, or makes it empty.
func (s *Store) Ensure(ctx context.Context, name string, t stack.Target) (*Stack, error) {
	now := s.now().UnixMilli()
	_, err := s.db.ExecContext(ctx, `insert into stacks(name, account, region, state, revision, description, stack_file, careful, created_ms, updated_ms) values(?, ?, ?, ?, 0, '', '', 0, ?, ?) on conflict do nothing`,
		name, t.Account, t.Region, Empty, now, now)
	if err != nil {
		return nil, err
	}
	return s.At(ctx, name, t)
}

// addRevision writes a new revision and yields its number.
func (s *Store) addRevision(ctx context.Context, tx *sql.Tx, id int64, r Revision) (int, error) {
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
	// A template should hold no secrets, but may: it is sealed as a whole.
	sealedText, err := s.seal(tosca.Secret{Value: r.pack()})
	if err != nil {
		return 0, err
	}
	template, err := encode(sealedText)
	if err != nil {
		return 0, err
	}
	number := 0
	if err := tx.QueryRowContext(ctx, `select coalesce(max(number), 0) + 1 from revisions where stack_id = ?`, id).Scan(&number); err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, `insert into revisions(stack_id, number, template, text, inputs, tags, created_by, created_ms, note) values(?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		id, number, r.Template, template, text, tags, r.By, s.now().UnixMilli(), r.Note)
	return number, err
}

// pack puts the template, its files and its look-ups into one value.
func (r *Revision) pack() tosca.Value {
	files, found := tosca.Map{}, tosca.Map{}
	for name, b := range r.Files {
		files[name] = tosca.String(base64.StdEncoding.EncodeToString(b))
	}
	for name, f := range r.Found {
		found[name] = tosca.Map{"type": tosca.String(f.Type), "id": tosca.String(f.ID), "properties": tosca.Map(f.Properties), "attributes": tosca.Map(f.Attributes)}
	}
	return tosca.Map{"text": tosca.String(r.Text), "entry": tosca.String(r.Entry), "files": files, "found": found}
}

// unpack is the reverse of pack.
func (r *Revision) unpack(v tosca.Value) error {
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
		r.Found[name] = stack.Found{Type: text(f, "type"), ID: text(f, "id"), Properties: properties, Attributes: attributes}
	}
	return nil
}

// Revision reads one revision.
func (s *Store) Revision(ctx context.Context, id int64, number int) (*Revision, error) {
	r := &Revision{Number: number}
	var inputs, tags string
	var created int64
	err := s.db.QueryRowContext(ctx, `select template, text, inputs, tags, created_by, created_ms, note from revisions where stack_id = ? and number = ?`, id, number).
		Scan(&r.Template, &r.Text, &inputs, &tags, &r.By, &created, &r.Note)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("revision %d: %w", number, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	r.Created = fromMS(created)
	var sealedText any
	if err := decode(r.Text, &sealedText); err != nil {
		return nil, err
	}
	template, err := s.open(sealedText)
	if err != nil {
		return nil, fmt.Errorf("the template of revision %d: %w", number, err)
	}
	if err := r.unpack(template); err != nil {
		return nil, fmt.Errorf("the template of revision %d: %w", number, err)
	}
	if err := decode(tags, &r.Tags); err != nil {
		return nil, err
	}
	var list []struct {
		Name   string
		Value  any
		Origin stack.Origin
	}
	if err := decode(inputs, &list); err != nil {
		return nil, err
	}
	for _, in := range list {
		v, err := s.open(in.Value)
		if err != nil {
			return nil, fmt.Errorf("input %s of revision %d: %w", in.Name, number, err)
		}
		r.Inputs = append(r.Inputs, stack.Input{Name: in.Name, Value: v, Origin: in.Origin})
	}
	return r, nil
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
	Keep         bool                      `json:"keep,omitempty"`
	Guard        bool                      `json:"guard,omitempty"`
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
	return encode(recordedBody{r.Type, r.ID, properties, r.Links, attributes, prints, r.Needs, r.Pos, r.Keep, r.Guard})
}

func (s *Store) decodeRecorded(name, text string) (*stack.Recorded, error) {
	var b recordedBody
	if err := decode(text, &b); err != nil {
		return nil, fmt.Errorf("the record of %s cannot be read: %w", name, err)
	}
	r := &stack.Recorded{Name: name, Type: b.Type, ID: b.ID, Links: b.Links, Needs: b.Needs, Pos: b.Pos, Keep: b.Keep, Guard: b.Guard}
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
	if t := profile.Library().Nodes[r.Type]; t != nil {
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
	rows, err := s.db.QueryContext(ctx, `select name, old, body from resources where stack_id = ? order by position, name, old`, id)
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
	return current, old, rows.Err()
}

// Kept lists what has left a stack and stays in the cloud.
func (s *Store) Kept(ctx context.Context, id int64) ([]*stack.Recorded, error) {
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

// Use is a result of a stack that the current revision of another one gets as an
// input. Of is the name of the stack as it stands there, alone or with its place.
type Use struct {
	Stack  *Stack // that uses it
	Input  string
	Of     string
	Result string
}

// Uses lists which results of which stacks are used by the current revisions of
// others. No secret is opened for it.
func (s *Store) Uses(ctx context.Context) ([]Use, error) {
	all, err := s.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	byID := map[int64]*Stack{}
	for _, st := range all {
		byID[st.ID] = st
	}
	rows, err := s.db.QueryContext(ctx, `select r.stack_id, r.inputs from revisions r join stacks s on s.id = r.stack_id and s.revision = r.number where r.inputs like '%from %'`)
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

// Result is one result of a stack.
type Result struct {
	Name, Description string
	Value             tosca.Value
}

// SetResults replaces the results of the stack of a run.
func (s *Store) SetResults(ctx context.Context, run *Run, list []Result) error {
	return s.fenced(ctx, run, func(tx *sql.Tx) error {
		id := run.StackID
		if _, err := tx.ExecContext(ctx, `delete from results where stack_id = ?`, id); err != nil {
			return err
		}
		for _, r := range list {
			x, err := s.seal(r.Value)
			if err != nil {
				return err
			}
			text, err := encode(x)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `insert into results(stack_id, name, description, value) values(?, ?, ?, ?)`, id, r.Name, r.Description, text); err != nil {
				return err
			}
		}
		return nil
	})
}

// Results lists the results of a stack by name.
func (s *Store) Results(ctx context.Context, id int64) ([]Result, error) {
	rows, err := s.db.QueryContext(ctx, `select name, description, value from results where stack_id = ? order by name`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Result
	for rows.Next() {
		var r Result
		var text string
		if err := rows.Scan(&r.Name, &r.Description, &text); err != nil {
			return nil, err
		}
		var x any
		if err := decode(text, &x); err != nil {
			return nil, err
		}
		if r.Value, err = s.open(x); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}
