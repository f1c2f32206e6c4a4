package yard

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/sqlite"
)

// tx is one transaction at one moment.
type tx struct {
	database
	y      *Yard
	now    int64
	queued bool // there are scripts to be carried out
}

// database is what a transaction asks.
type database interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) sqlite.Row
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// keptProblem is a refusal after which the transaction is kept all the same.
type keptProblem struct{ problem *cloud.Problem }

func (k *keptProblem) Error() string { return k.problem.Error() }

// row is a resource as stored.
type row struct {
	id, account, region, typ, state string
	seq                             int64
	properties, attributes          map[string]any
	tags                            map[string]string
	shown                           map[string]any    // properties as they may be seen
	shownTags                       map[string]string // tags as they may be seen
	places                          []string          // of secrets, as JSON Pointers
	secretAttributes                []string
	stack, node                     string
	version                         int64
	links                           map[string][]string
	usedBy                          []string
	changedMS                       int64
	changedBy                       string
}

func (r *row) wire() cloud.Resource {
	changed := time.Time{}
	if r.changedMS > 0 {
		changed = time.UnixMilli(r.changedMS).UTC()
	}
	return cloud.Resource{Changed: changed, ChangedBy: r.changedBy, ID: r.id, Type: r.typ, Account: r.account, Region: r.region, State: r.state,
		Properties: r.shown, Links: r.links,
		Attributes: r.attributes, Tags: r.shownTags, UsedBy: r.usedBy, ETag: fmt.Sprintf(`"%d"`, r.version),
		SecretAttributes: r.secretAttributes}
}

// resources reads rows with their links; where is the rest of the query.
func (t *tx) resources(ctx context.Context, where string, args ...any) ([]*row, error) {
	q, err := t.QueryContext(ctx,
		`select id, seq, account, region, type, state, properties, attributes, tags, stack, node, version, sealed,
			contents_digest, holds, changed_ms, changed_by from resources `+where, args...)
	if err != nil {
		return nil, err
	}
	defer q.Close()
	var rows []*row
	byID := map[string]*row{}
	for q.Next() {
		r := &row{links: map[string][]string{}, usedBy: []string{}}
		var properties, attributes, tags, sealed, contents string
		var holds int
		if err := q.Scan(&r.id, &r.seq, &r.account, &r.region, &r.typ, &r.state, &properties, &attributes, &tags,
			&r.stack, &r.node, &r.version, &sealed, &contents, &holds, &r.changedMS, &r.changedBy); err != nil {
			return nil, err
		}
		if err := errors.Join(decode(properties, &r.properties), decode(attributes, &r.attributes),
			decode(tags, &r.tags)); err != nil {
			return nil, err
		}
		if err := r.reveal(t.y, sealed); err != nil {
			return nil, fmt.Errorf("%s: %w", r.id, err)
		}
		if contents != "" && r.attributes != nil {
			r.attributes["contents_digest"] = contents
		}
		if what := insides[r.typ]; what != "" && r.attributes != nil {
			r.attributes[what] = holds
		}
		rows = append(rows, r)
		byID[r.id] = r
	}
	if err := q.Err(); err != nil {
		return nil, err
	}
	return rows, t.addLinks(ctx, rows, byID)
}

func (t *tx) addLinks(ctx context.Context, rows []*row, byID map[string]*row) error {
	if len(rows) == 0 {
		return nil
	}
	ids := make([]any, len(rows))
	for i, r := range rows {
		ids[i] = r.id
	}
	marks := strings.TrimSuffix(strings.Repeat("?,", len(ids)), ",")
	q, err := t.QueryContext(ctx, `select from_id, requirement, to_id from links where from_id in (`+marks+
		`) or to_id in (`+marks+`) order by from_id, requirement, position`, append(ids, ids...)...)
	if err != nil {
		return err
	}
	defer q.Close()
	for q.Next() {
		var from, requirement, to string
		if err := q.Scan(&from, &requirement, &to); err != nil {
			return err
		}
		if r := byID[from]; r != nil {
			r.links[requirement] = append(r.links[requirement], to)
		}
		if r := byID[to]; r != nil {
			r.usedBy = append(r.usedBy, from)
		}
	}
	return q.Err()
}

func decode(s string, out any) error {
	d := json.NewDecoder(strings.NewReader(s))
	d.UseNumber()
	return d.Decode(out)
}

func encode(x any) string {
	b, err := json.Marshal(x)
	if err != nil {
		panic("a value that came from JSON cannot be encoded: " + err.Error())
	}
	return string(b)
}

// find reads one resource of a place.
func (t *tx) find(ctx context.Context, account, region, id string) (*row, error) {
	rows, err := t.resources(ctx, `where id = ? and account = ? and region = ?`, id, account, region)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, cloud.NotFound(id + " in " + account + "/" + region)
	}
	return rows[0], nil
}

// step is one inner step of an operation, with its length in milliseconds.
type step struct {
	Name     string `json:"name"`
	MS       int64  `json:"ms"`
	Settling bool   `json:"settling,omitempty"` // the resource exists, but is not healthy yet
	Work     *work  `json:"work,omitempty"`     // what has to be done, where it is no matter of time
}

// op is an operation as stored.
type op struct {
	id, key, digest, account, resourceID, kind string
	start, end                                 int64
	steps                                      []step
	failStep                                   int // -1: it succeeds
	problem                                    *cloud.Problem
	outcome                                    outcome
	settled                                    bool
	atStep                                     int   // the first step of the part of them that it is in
	at                                         int64 // and when that began
}

// outcome is what an update leaves behind when it succeeds.
type outcome struct {
	Properties map[string]any      `json:"properties,omitempty"`
	Attributes map[string]any      `json:"attributes,omitempty"`
	Tags       map[string]string   `json:"tags,omitempty"`
	Links      map[string][]string `json:"links,omitempty"`
	UniqueKey  string              `json:"unique_key,omitempty"`
	Backup     string              `json:"backup,omitempty"` // that is made, or filled from
	Rests      bool                `json:"rests,omitempty"`  // it was put to rest, and stays so
	Agent      string              `json:"agent,omitempty"`  // the fault that the agents of its servers meet
	// Places are where secrets stand, as JSON Pointers; SecretAttributes are
	// secret as a whole.
	Places           []string `json:"places,omitempty"`
	SecretAttributes []string `json:"secret_attributes,omitempty"`
}

func (o outcome) secretAttribute(name string) bool { return slices.Contains(o.SecretAttributes, name) }

// secretAttribute reports whether an attribute of a type is secret.
func (y *Yard) secretAttribute(typ, name string) bool {
	d := y.lib.Nodes[typ].Attribute(name)
	return d != nil && d.Type.HoldsSecret()
}

// operation reads one operation; nil where there is none.
func (t *tx) operation(ctx context.Context, where string, args ...any) (*op, error) {
	o := &op{}
	var steps, problem, out string
	err := t.QueryRowContext(ctx,
		`select id, key, digest, account, resource_id, kind, start_ms, end_ms, steps, fail_step, problem, outcome,
			settled, at_step, at_ms from operations where `+where, args...).
		Scan(&o.id, &o.key, &o.digest, &o.account, &o.resourceID, &o.kind, &o.start, &o.end, &steps, &o.failStep,
			&problem, &out, &o.settled, &o.atStep, &o.at)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if o.at == 0 { // as earlier versions wrote it
		o.at = o.start
	}
	return o, errors.Join(t.y.unseal(steps, &o.steps), t.y.unseal(problem, &o.problem), t.y.unseal(out, &o.outcome))
}

// wire is the operation as it is at the moment now.
func (o *op) wire(now int64) cloud.Operation {
	w := cloud.Operation{Backup: o.outcome.Backup, ID: o.id, Kind: o.kind, ResourceID: o.resourceID, State: "working", Steps: len(o.steps),
		ElapsedMS: min(now, o.end) - o.start}
	for _, s := range o.steps {
		w.TotalMS += s.MS
	}
	if now >= o.end && o.over() {
		w.State = "done"
		w.StepNumber = len(o.steps)
		if o.failStep >= 0 {
			w.State, w.Problem, w.StepNumber, w.Step = "failed", o.problem, o.failStep+1, o.steps[o.failStep].Name
		}
		return w
	}
	at := o.at
	for i := o.atStep; i < len(o.steps); i++ {
		s := o.steps[i]
		if at += s.MS; now < at || i == o.until()-1 {
			w.Step, w.StepNumber = s.Name, i+1
			if s.Settling {
				w.State = "settling"
			}
			w.NextMS = max(1, min(at, o.end)-now)
			if s.Work != nil { // nobody knows: the longer it lasts, the less often one asks
				w.NextMS = min(500, max(20, (now-o.at)/5))
			}
			break
		}
	}
	return w
}

// settle applies what has ended by now, in the order in which it ended.
func (t *tx) settle(ctx context.Context) error {
	for {
		o, err := t.operation(ctx, `settled = 0 and end_ms <= ? order by end_ms, id limit 1`, t.now)
		if err != nil || o == nil {
			return err
		}
		if !o.over() {
			if err := t.enter(ctx, o, o.until(), o.end); err != nil {
				return err
			}
			if err := t.keep(ctx, o); err != nil {
				return err
			}
			continue
		}
		if waits, err := t.waitForGrants(ctx, o); err != nil {
			return err
		} else if waits {
			continue
		}
		if err := t.apply(ctx, o); err != nil {
			return err
		}
		if _, err := t.ExecContext(ctx, `update operations set settled = 1, outcome = case when kind in ('backup', 'restore') then outcome else '{}' end where id = ?`,
			o.id); err != nil {
			return err
		}
	}
}

func (t *tx) apply(ctx context.Context, o *op) error {
	state, failed := "ready", o.failStep >= 0
	if s, is := o.acted(); is {
		state = s
	}
	if o.outcome.Rests {
		state = suspended
	}
	switch {
	case o.kind == "backup" || o.kind == "restore":
		if failed {
			return nil
		}
		if err := t.copied(ctx, o); err != nil {
			return err
		}
		return t.noted(ctx, o.resourceID, "")
	case o.kind == "drain" || o.kind == "refill":
		if failed {
			return nil
		}
		_, err := t.ExecContext(ctx, `update resources set drained = ? where id = ?`, o.kind == "drain", o.resourceID)
		return err
	case failed && (o.kind == "create" || o.kind == "update" && strings.HasPrefix(o.resourceID, "software~")):
		state = "failed"
	case o.kind == "update" && !failed:
		if _, err := t.ExecContext(ctx, `update resources set drained = 0 where id = ?`, o.resourceID); err != nil {
			return err
		}
		if err := t.reported(ctx, o); err != nil {
			return err
		}
		if err := t.store(ctx, o.resourceID, o.outcome); err != nil {
			return err
		}
	case o.kind == "delete" && !failed:
		if err := t.noted(ctx, o.resourceID, "removed"); err != nil {
			return err
		}
		left, err := t.resources(ctx, `where type = 'Software' and id in (select from_id from links where to_id = ? and requirement = 'host')`, o.resourceID)
		if err != nil {
			return err
		}
		for _, r := range left { // what has not said goodbye goes with its server
			if err := t.noted(ctx, r.id, "removed"); err != nil {
				return err
			}
			for _, gone := range []string{`delete from links where from_id = ?`, `delete from scripts where software_id = ? and state = 'waiting'`,
				`delete from resources where id = ?`} {
				if _, err := t.ExecContext(ctx, gone, r.id); err != nil {
					return err
				}
			}
		}
		if _, err := t.ExecContext(ctx, `delete from links where from_id = ?`, o.resourceID); err != nil {
			return err
		}
		for _, inside := range []string{`delete from messages where queue_id = ?`, `delete from disks where server_id = ?`} {
			if _, err := t.ExecContext(ctx, inside, o.resourceID); err != nil {
				return err
			}
		}
		_, err = t.ExecContext(ctx, `delete from resources where id = ?`, o.resourceID)
		return err
	}
	if _, err := t.ExecContext(ctx, `update resources set state = ?, version = version + 1 where id = ?`, state,
		o.resourceID); err != nil {
		return err
	}
	return t.noted(ctx, o.resourceID, "")
}

// store writes what an update left behind.
func (t *tx) store(ctx context.Context, id string, out outcome) error {
	properties, attributes, tags, sealed, err := t.y.columns(out)
	if err != nil {
		return err
	}
	if _, err := t.ExecContext(ctx,
		`update resources set properties = ?, attributes = ?, tags = ?, stack = ?, node = ?, unique_key = ?,
			sealed = ? where id = ?`,
		properties, attributes, tags, out.Tags["stack"], out.Tags["node"], t.y.uniqueKey(out.UniqueKey), sealed,
		id); err != nil {
		return err
	}
	return t.setLinks(ctx, id, out.Links)
}

// uniqueKey is how a key that no two resources may share is written: it may be
// secret, so it is not there in clear. Nil is none.
func (y *Yard) uniqueKey(key string) any {
	if key == "" {
		return nil
	}
	return "unique:" + y.sign("unique/"+key)
}

// holder finds the resource that has a unique key; "" where there is none.
func (t *tx) holder(ctx context.Context, key, except string) (id, account string, err error) {
	if key == "" {
		return "", "", nil
	}
	// Earlier versions wrote the key as it is.
	err = t.QueryRowContext(ctx, `select id, account from resources where unique_key in (?, ?) and id <> ?`,
		t.y.uniqueKey(key), key, except).Scan(&id, &account)
	if errors.Is(err, sql.ErrNoRows) {
		return "", "", nil
	}
	return id, account, err
}

func (t *tx) setLinks(ctx context.Context, id string, links map[string][]string) error {
	if _, err := t.ExecContext(ctx, `delete from links where from_id = ?`, id); err != nil {
		return err
	}
	for requirement, ids := range links {
		for i, to := range ids {
			if _, err := t.ExecContext(ctx,
				`insert into links(from_id, requirement, position, to_id) values(?, ?, ?, ?)`, id, requirement, i,
				to); err != nil {
				return err
			}
		}
	}
	return nil
}

// next counts: it yields 1, 2, 3, … for a name.
func (t *tx) next(ctx context.Context, name string) (int64, error) {
	if _, err := t.ExecContext(ctx,
		`insert into meta(name, value) values(?, '1') on conflict(name) do update set value = cast(value as
			integer) + 1`, "count/"+name); err != nil {
		return 0, err
	}
	var s string
	if err := t.QueryRowContext(ctx, `select value from meta where name = ?`, "count/"+name).Scan(&s); err != nil {
		return 0, err
	}
	return strconv.ParseInt(s, 10, 64)
}

// letters of ids: no vowels, so that no words appear, and nothing that is
// easily mistaken.
const letters = "bcdfghjkmnpqrstvwxz23456789"

// newID makes an id such as subnet~k4mz-7qcd from a number.
func newID(typ string, n int64) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s/%d", typ, n))
	var b strings.Builder
	b.WriteString(strings.ToLower(typ) + "~")
	for i := range 8 {
		if i == 4 {
			b.WriteByte('-')
		}
		b.WriteByte(letters[int(sum[i])%len(letters)])
	}
	return b.String()
}

func (y *Yard) digest(x any) string {
	return y.sign("digest/" + encode(x))
}

// begin finds the operation of a key that was sent before. A key that comes
// back with something else to do is refused.
func (t *tx) begin(ctx context.Context, r *request, key, digest string) (*op, error) {
	// Earlier versions wrote the key as it is.
	o, err := t.operation(ctx, `key in (?, ?) and account = ?`, r.scoped(key), key, r.account)
	if err == nil && o != nil && o.digest != digest {
		return nil, refuse(http.StatusUnprocessableEntity, "key-used-before", "use a fresh key",
			"the key %s was sent before with something else to do", key)
	}
	return o, err
}

// scoped is a key as it is stored: those of two places have nothing to do with
// each other.
func (r *request) scoped(key string) string { return r.account + "/" + r.region + " " + key }

// by writes who changes a resource now.
func (t *tx) by(ctx context.Context, r *request, id string) error {
	who := cloud.Clean(r.Header.Get("From"))
	if len(who) > 200 {
		who = who[:200]
	}
	_, err := t.ExecContext(ctx, `update resources set changed_ms = ?, changed_by = ? where id = ?`, t.now, who, id)
	return err
}

// start stores a new operation on a resource, with the faults that match it.
func (t *tx) start(ctx context.Context, r *request, o *op, name, typ string) error {
	if err := t.room(ctx, r); err != nil {
		return err
	}
	fault, err := t.fault(ctx, o.kind, name, typ)
	if err != nil {
		return err
	}
	for i := range o.steps {
		o.steps[i].MS = max(1, int64(float64(o.steps[i].MS)/t.y.speed))
	}
	o.start, o.failStep = t.now, -1
	if fault != nil {
		switch {
		case fault.Mode == "busy":
			p := refuse(http.StatusServiceUnavailable, "busy", "", "%s", fault.Reason)
			p.Passing, p.RetryAfterMS = true, max(1, int64(1500/t.y.speed))
			return &keptProblem{p}
		case fault.Mode == "lose":
			r.lose = true
		case slices.Contains(agentFaults, fault.Mode):
			o.outcome.Agent = fault.Mode
		case fault.At == "call":
			return &keptProblem{refuse(http.StatusUnprocessableEntity, "refused", "", "%s", fault.Reason)}
		default:
			o.fail(fault)
		}
	}
	if err := t.enter(ctx, o, 0, t.now); err != nil {
		return err
	}
	steps, problem, outcome, err := t.sealed(o)
	if err != nil {
		return err
	}
	_, err = t.ExecContext(ctx,
		`insert into operations(id, key, digest, account, region, resource_id, kind, start_ms, end_ms, steps, fail_step,
			problem, outcome, settled, at_step, at_ms) values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, ?, ?)`,
		o.id, r.scoped(o.key), o.digest, r.account, r.region, o.resourceID, o.kind, o.start, o.end, steps, o.failStep, problem,
		outcome, o.atStep, o.at)
	return err
}

// sealed are the columns of an operation that may repeat a secret.
func (t *tx) sealed(o *op) (steps, problem, outcome string, err error) {
	if steps, err = t.y.seal(o.steps); err == nil {
		problem, err = t.y.seal(o.problem)
	}
	if err == nil {
		outcome, err = t.y.seal(o.outcome)
	}
	return steps, problem, outcome, err
}

// agentFaults are those that the agents of servers meet: one that does not answer, one that takes
// long to begin, a script that never ends, and an answer that is lost after the work was done.
var agentFaults = []string{"silent", "slow", "endless", "unheard"}

// fail lets the operation end in the middle of the step that the fault names,
// or of the first one.
func (o *op) fail(f *Fault) {
	o.failStep = 0
	for i, s := range o.steps {
		if f.At == "last" && i == len(o.steps)-1 || f.At != "" && strings.Contains(s.Name, f.At) {
			o.failStep = i
			break
		}
	}
	o.problem = refuse(http.StatusUnprocessableEntity, "operation-failed", "", "%s", f.Reason)
}

// fault finds the first fault that matches and uses it up once.
func (t *tx) fault(ctx context.Context, kind, name, typ string) (*Fault, error) {
	list, err := t.faults(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range list {
		node, _, _ := strings.Cut(name, "#")
		if f.Name != "" && f.Name != name && f.Name != node || f.Type != "" && f.Type != typ ||
			f.On != "" && f.On != kind || f.On == "" && kind != "create" && kind != "update" {
			continue
		}
		if f.Times == 1 {
			_, err = t.ExecContext(ctx, `delete from faults where id = ?`, f.ID)
		} else if f.Times > 1 {
			_, err = t.ExecContext(ctx, `update faults set times_left = times_left - 1 where id = ?`, f.ID)
		}
		return &f, err
	}
	return nil, nil
}

func (t *tx) faults(ctx context.Context) ([]Fault, error) {
	q, err := t.QueryContext(ctx,
		`select id, name, type, on_kind, at, mode, reason, times_left from faults order by id`)
	if err != nil {
		return nil, err
	}
	defer q.Close()
	var list []Fault
	for q.Next() {
		var f Fault
		var reason string
		if err := q.Scan(&f.ID, &f.Name, &f.Type, &f.On, &f.At, &f.Mode, &reason, &f.Times); err != nil {
			return nil, err
		}
		if f.Reason = reason; strings.HasPrefix(reason, sealMark) {
			if err := t.y.unseal(reason, &f.Reason); err != nil {
				return nil, err
			}
		}
		if f.Times < 0 {
			f.Times = 0
		}
		list = append(list, f)
	}
	return list, q.Err()
}
