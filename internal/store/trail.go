package store

import (
	"context"
	"database/sql"
	"errors"
	"sync"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Sight is how a resource in the cloud was when it was looked at last.
type Sight struct {
	ID, Type, Stack, Node string
	Digest                string // of its shape, as the cloud shows it
}

// Sights are how the resources of a target were when they were looked at last, by their ids.
type Sights struct {
	Known  map[string]Sight
	Looked bool // whether the target was ever looked at as a whole
}

// Sights reads how the resources of a target were when they were looked at last. It is how it
// stands now; reading it through goes on beside whatever else is done until the result is asked
// for.
func (s *Store) Sights(ctx context.Context, t stack.Target) (result func() (Sights, error), err error) {
	var n int
	if err := s.db.QueryRowContext(ctx, `select count(*) from (select 1 from readings where target = ? limit 1) as x`, t.String()).Scan(&n); err != nil {
		return nil, err
	}
	rows, err := s.db.QueryContext(ctx, `select cloud_id, type, stack, node, digest from sights where target = ?`, t.String())
	if err != nil {
		return nil, err
	}
	out := Sights{Known: map[string]Sight{}, Looked: n > 0}
	more := rows.Next() // from here on it stays as it is
	done := make(chan error, 1)
	go func() {
		defer rows.Close()
		for ; more; more = rows.Next() {
			var x Sight
			if err := rows.Scan(&x.ID, &x.Type, &x.Stack, &x.Node, &x.Digest); err != nil {
				done <- err
				return
			}
			out.Known[x.ID] = x
		}
		done <- rows.Err()
	}()
	return sync.OnceValues(func() (Sights, error) {
		err := <-done
		return out, err
	}), nil
}

type shapeBody struct {
	Properties any                 `json:"properties"`
	Links      map[string][]string `json:"links,omitempty"`
	Tags       any                 `json:"tags,omitempty"`
}

func (s *Store) encodeShape(p stack.Shape, secrets *tosca.Secrets) (string, error) {
	props, err := s.sealMap(p.Properties)
	if err != nil {
		return "", err
	}
	tags := map[string]tosca.Value{}
	for k, v := range p.Tags {
		tags[k] = secrets.Mark(tosca.String(v))
	}
	sealedTags, err := s.sealMap(tags)
	if err != nil {
		return "", err
	}
	return encode(shapeBody{props, p.Links, sealedTags})
}

// Shape reads how a resource was when it was looked at last.
func (s *Store) Shape(ctx context.Context, t stack.Target, id string) (stack.Shape, error) {
	var text string
	err := s.db.QueryRowContext(ctx, `select body from sights where target = ? and cloud_id = ?`, t.String(), id).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return stack.Shape{}, ErrNotFound
	}
	if err != nil {
		return stack.Shape{}, err
	}
	var b struct {
		Properties, Tags map[string]any
		Links            map[string][]string
	}
	if err := decode(text, &b); err != nil {
		return stack.Shape{}, err
	}
	out := stack.Shape{Links: b.Links, Tags: map[string]string{}}
	if out.Properties, err = s.openMap(b.Properties); err != nil {
		return stack.Shape{}, err
	}
	tags, err := s.openMap(b.Tags)
	for k, v := range tags {
		out.Tags[k] = tosca.InClear(v)
	}
	return out, err
}

type differenceBody struct {
	Path     string `json:"path"`
	Pointer  string `json:"pointer"`
	Property string `json:"property"`
	Link     bool   `json:"link,omitempty"`
	Before   any    `json:"before,omitempty"`
	After    any    `json:"after,omitempty"`
}

// Seen is what was seen of a resource: how it is now, and what has become of it since it was
// looked at last. Without a shape it is not there any more.
type Seen struct {
	Sight
	Was   string // the digest that it had; "" is that it was not known
	Shape *stack.Shape
	Trace stack.Trace
}

// NoteSeen writes what was seen of a target. A reading of the whole of it is noted too; where
// nothing has changed that one row is all that is written.
func (s *Store) NoteSeen(ctx context.Context, t stack.Target, list []Seen, secrets *tosca.Secrets, whole bool, resources int) error {
	if !s.Member() { // who only looks notes nothing
		return nil
	}
	type row struct{ shape, differences string }
	rows := make([]row, len(list))
	ready := func() error {
		for i, x := range list {
			var err error
			if x.Shape != nil {
				if rows[i].shape, err = s.encodeShape(*x.Shape, secrets); err != nil {
					return err
				}
			}
			body := []differenceBody{}
			for _, c := range x.Trace.Differences {
				d := differenceBody{Path: c.Path, Pointer: c.Pointer, Property: c.Property, Link: c.Link}
				if d.Before, err = s.sealOrNil(secrets.Mark(c.Before)); err != nil {
					return err
				}
				if d.After, err = s.sealOrNil(secrets.Mark(c.After)); err != nil {
					return err
				}
				body = append(body, d)
			}
			if rows[i].differences, err = encode(body); err != nil {
				return err
			}
		}
		return nil
	}
	now := s.now().UnixMilli()
	return s.sealing(ctx, ready, func(tx transaction) error {
		if err := tx.Alone("traces"); err != nil {
			return err
		}
		for i, x := range list {
			if x.Trace.Kind != "" { // where nobody else has seen it meanwhile
				where := `exists (select 1 from sights where target = ? and cloud_id = ? and digest = ?)`
				args := []any{t.String(), x.ID, x.Type, x.Stack, x.Node, x.Trace.Kind, x.Trace.At.UnixMilli(), now, x.Trace.By, x.Trace.Run,
					rows[i].differences, t.String(), x.ID}
				if x.Was == "" {
					where = `not exists (select 1 from sights where target = ? and cloud_id = ?)`
				} else {
					args = append(args, x.Was)
				}
				if err := tx.Do(`insert into traces(number, target, cloud_id, type, stack, node, kind, at_ms, seen_ms, by_whom, run, body)
					select (select coalesce(max(number), 0) + 1 from traces), ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ? where `+where, args...); err != nil {
					return err
				}
			}
			var err error
			switch {
			case x.Shape == nil:
				err = tx.Do(`delete from sights where target = ? and cloud_id = ? and digest = ?`, t.String(), x.ID, x.Was)
				if err == nil { // another one may come under this id, of which nothing was said yet
					err = tx.Do(`delete from verdicts where target = ? and cloud_id = ?`, t.String(), x.ID)
				}
			case x.Was == "":
				err = tx.Do(`insert into sights(target, cloud_id, type, stack, node, digest, body) values(?, ?, ?, ?, ?, ?, ?)
					on conflict(target, cloud_id) do nothing`, t.String(), x.ID, x.Type, x.Stack, x.Node, x.Digest, rows[i].shape)
			default:
				err = tx.Do(`update sights set type = ?, stack = ?, node = ?, digest = ?, body = ? where target = ? and
					cloud_id = ? and digest = ?`, x.Type, x.Stack, x.Node, x.Digest, rows[i].shape, t.String(), x.ID, x.Was)
			}
			if err != nil {
				return err
			}
		}
		if !whole {
			return nil
		}
		err := tx.Do(`insert into readings(number, target, at_ms, resources, changed) values((select coalesce(max(number), 0) + 1
			from readings), ?, ?, ?, ?)`, t.String(), now, resources, len(list))
		return err
	})
}

func (s *Store) sealOrNil(v tosca.Value) (any, error) {
	if v == nil {
		return nil, nil
	}
	return s.seal(v)
}

// Traces lists what has become of resources, the newest first.
func (s *Store) Traces(ctx context.Context, w stack.Which) ([]stack.Trace, error) {
	query := `select number, target, cloud_id, type, stack, node, kind, at_ms, seen_ms, by_whom, run, body from traces where 1 = 1`
	var args []any
	for _, c := range []struct{ column, value string }{{"target", w.Target}, {"stack", w.Stack}, {"node", w.Node}, {"cloud_id", w.ID}} {
		if c.value != "" {
			query += " and " + c.column + " = ?"
			args = append(args, c.value)
		}
	}
	if !w.Since.IsZero() {
		query += " and at_ms >= ?"
		args = append(args, w.Since.UnixMilli())
	}
	if !w.Until.IsZero() {
		query += " and at_ms < ?"
		args = append(args, w.Until.UnixMilli())
	}
	if w.After > 0 {
		query += " and number > ?"
		args = append(args, w.After)
	}
	query += " order by at_ms desc, number desc"
	if w.Most > 0 {
		query += " limit ?"
		args = append(args, w.Most)
	}
	id, err := s.ID(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []stack.Trace
	for rows.Next() {
		var t stack.Trace
		var target, body string
		var at, seen int64
		if err := rows.Scan(&t.Number, &target, &t.ID, &t.Type, &t.Stack, &t.Node, &t.Kind, &at, &seen, &t.By, &t.Run, &body); err != nil {
			return nil, err
		}
		t.Target, _ = stack.ParseTarget(target)
		if t.Author = stack.AuthorOf(t.By, id); t.Run > 0 {
			t.Author = stack.OwnRun(t.Run, t.Stack, id)
		}
		t.At, t.Seen = fromMS(at), fromMS(seen)
		var list []differenceBody
		if err := decode(body, &list); err != nil {
			return nil, err
		}
		for _, d := range list {
			c := stack.PropertyChange{Path: d.Path, Pointer: d.Pointer, Property: d.Property, Link: d.Link}
			if d.Before != nil {
				if c.Before, err = s.open(d.Before); err != nil {
					return nil, err
				}
			}
			if d.After != nil {
				if c.After, err = s.open(d.After); err != nil {
					return nil, err
				}
			}
			t.Differences = append(t.Differences, c)
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// Doings are, by resource, when runs of a stack were at it.
type Doings map[string][]doing

type doing struct {
	run      int
	from, to int64 // ms
}

// How far clocks may differ, in ms: what the cloud says was changed may seem to be before the
// run has begun, or after it has said so.
const early, late = 2000, 250

// Doings lists when the runs of a stack were at which resources, of runs that were not over at a
// time.
func (s *Store) Doings(ctx context.Context, stackID int64, since time.Time) (Doings, error) {
	rows, err := s.db.QueryContext(ctx, `select e.resource, r.number, r.started_ms, max(e.time_ms) from runs r join events e on e.run_id = r.id
		where e.resource <> '' and r.stack_id = ? and (r.ended_ms = 0 or r.ended_ms >= ?) group by r.number, r.started_ms, e.resource`,
		stackID, since.UnixMilli()-late)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := Doings{}
	for rows.Next() {
		var name string
		var d doing
		if err := rows.Scan(&name, &d.run, &d.from, &d.to); err != nil {
			return nil, err
		}
		out[name] = append(out[name], d)
	}
	return out, rows.Err()
}

// At finds the run that was at a resource at a time, or nearly; 0 is that none was.
func (d Doings) At(resource string, at time.Time) int {
	number, nearest := 0, int64(early+1)
	for _, x := range d[resource] {
		before, after := x.from-at.UnixMilli(), at.UnixMilli()-x.to
		if off := max(0, before, after); before <= early && after <= late && off < nearest {
			number, nearest = x.run, off
		}
	}
	return number
}

// Removal is that a run removed a resource, and when.
type Removal struct {
	Run int
	At  time.Time
}

// Removals lists what the runs of a stack have removed, by the ids in the cloud.
func (s *Store) Removals(ctx context.Context, stackID int64) (map[string]Removal, error) {
	rows, err := s.db.QueryContext(ctx, `select e.cloud_id, r.number, max(e.time_ms) from events e join runs r on r.id = e.run_id where
		r.stack_id = ? and e.cloud_id <> '' and e.state in (?, ?) group by e.cloud_id, r.number order by r.number`, stackID, run.Removed, run.IsUndone)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]Removal{}
	for rows.Next() {
		var id string
		var r Removal
		var at int64
		if err := rows.Scan(&id, &r.Run, &at); err != nil {
			return nil, err
		}
		r.At = fromMS(at)
		out[id] = r // the last run has the last word
	}
	return out, rows.Err()
}

// LastTrace is the number of what was noted last; 0 is nothing.
func (s *Store) LastTrace(ctx context.Context) (n int64, err error) {
	err = s.db.QueryRowContext(ctx, `select coalesce(max(number), 0) from traces`).Scan(&n)
	return n, err
}

// Forget forgets what was seen before a time: traces and readings. How each resource was last
// stays. Where nothing is that old, nothing is written.
func (s *Store) Forget(ctx context.Context, before time.Time) error {
	for _, table := range []string{"traces", "readings"} {
		var n int
		if err := s.db.QueryRowContext(ctx, "select count(*) from "+table+" where at_ms < ?", before.UnixMilli()).Scan(&n); err != nil {
			return err
		}
		if n == 0 {
			continue
		}
		if err := s.write(ctx, func(tx transaction) error {
			err := tx.Do("delete from "+table+" where at_ms < ?", before.UnixMilli())
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}
