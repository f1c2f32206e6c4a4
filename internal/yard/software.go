package yard

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/printed"
	"brickrow/internal/tosca"
	"brickrow/internal/yard/agent"
)

// Software is a resource whose operations take as long as its scripts do. They stand in queues,
// one for each server, and are carried out by whichever process has the yard open (runner.go).

// never is when an operation ends of which nobody knows when it does.
const never = int64(1) << 60

// The steps of software, at nominal speed.
const (
	handOverMS = 500
	scriptMS   = 2_000 // what a script is taken to last, where nobody knows better
)

// work is a step that is no matter of time: the scripts of one operation of software.
type work struct {
	Software  string `json:"software"` // the id
	Operation string `json:"operation"`
	From      int    `json:"from"` // the servers of a group that it is carried out on, from …
	To        int    `json:"to"`   // … to before this one
	Fresh     bool   `json:"fresh,omitempty"`
}

// operation is what an operation of software carries out, as its property operations says.
type operation struct {
	Script   string            `json:"script"`
	Inputs   map[string]any    `json:"inputs"`
	Files    map[string]string `json:"files"`
	Document *string           `json:"document"`
}

func operationsIn(properties map[string]any) map[string]operation {
	out := map[string]operation{}
	text, err := json.Marshal(properties["operations"])
	if err != nil || json.Unmarshal(text, &out) != nil {
		return map[string]operation{}
	}
	return out
}

// The operations of each turn in the life of software.
var (
	toSetUp  = []string{"create", "configure", "start"}
	toLeave  = []string{"drain", "stop"}
	toRemove = []string{"drain", "stop", "delete"}
)

// present are those of some operations that there are.
func present(ops map[string]operation, names ...string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(n string) bool { _, there := ops[n]; return !there })
}

// renewing is what is carried out when what is to be carried out has changed.
func renewing(ops map[string]operation) []string {
	for _, name := range []string{"update", "configure", "create"} {
		if _, there := ops[name]; there {
			return []string{name}
		}
	}
	return nil
}

// members is how many servers a host is.
func members(host *row) int {
	if list, group := host.attributes["addresses"].([]any); group {
		return len(list)
	}
	if list, group := host.attributes["addresses"].([]string); group { // as a change has it
		return len(list)
	}
	return 1
}

func workStep(software, operation string, from, to int) step {
	name := "running " + operation
	if to-from != 1 {
		name = fmt.Sprintf("running %s on %d servers", operation, to-from)
	}
	return step{Name: name, MS: scriptMS, Work: &work{Software: software, Operation: operation, From: from, To: to}}
}

func checkSoftware(c *change) *cloud.Problem {
	host := c.targets["host"][0]
	if host.typ != "Server" && host.typ != "ServerGroup" {
		return bad("wrong-target", "use a Server or a ServerGroup", "%s is a %s, on which nothing can run", host.id, host.typ)
	}
	if host.state == suspended {
		return refuse(http.StatusConflict, "not-ready", "resume it first", "%s is suspended, so nothing can run on it", host.id)
	}
	return nil
}

func softwareSteps(c *change, _ int64) []step {
	ops := operationsIn(c.revealed())
	var names []string
	switch {
	case c.before == nil:
		names = present(ops, toSetUp...)
	case c.changed("operations") || c.before.state == "failed":
		names = renewing(ops)
	}
	if c.properties["wait"] == tosca.Bool(false) && len(names) > 0 {
		return []step{{Name: "handing over its scripts", MS: handOverMS}}
	}
	var out []step
	for _, name := range names {
		out = append(out, workStep(c.id, name, 0, members(c.targets["host"][0])))
	}
	if len(out) == 0 {
		out = []step{{Name: "taking note of it", MS: handOverMS}}
	}
	return out
}

// unattached are the operations that a change of software leaves to themselves.
func (c *change) unattached() []string {
	if c.typ.Name != "Software" || c.properties["wait"] != tosca.Bool(false) {
		return nil
	}
	ops := operationsIn(c.revealed())
	if c.before == nil {
		return present(ops, toSetUp...)
	}
	if c.changed("operations") || c.before.state == "failed" {
		return renewing(ops)
	}
	return nil
}

// revealed are the properties as they will be, with their secrets.
func (c *change) revealed() map[string]any {
	out := map[string]any{}
	for k, v := range c.properties {
		out[k] = plain(tosca.Reveal(v))
	}
	return out
}

func softwareAttributes(c *change) (map[string]any, error) {
	if c.before != nil {
		return nil, nil
	}
	return map[string]any{"state": "waiting", "exit_code": 0, "output": "", "errors": "", "results": map[string]any{}}, nil
}

// removingSoftware are the steps of a removal. What is on a server at rest cannot say goodbye.
func (t *tx) removingSoftware(ctx context.Context, r *row) ([]step, error) {
	if _, err := t.ExecContext(ctx, `delete from scripts where software_id = ? and state = 'waiting' and attached = 0`, r.id); err != nil {
		return nil, err
	}
	hosts, err := t.resources(ctx, `where id = ?`, first(r.links["host"]))
	if err != nil || len(hosts) == 0 || hosts[0].state == suspended || hosts[0].state == "failed" {
		return nil, err
	}
	var out []step
	for _, name := range present(operationsIn(r.properties), toRemove...) {
		out = append(out, workStep(r.id, name, 0, members(hosts[0])))
	}
	return out, t.cutOff(ctx, hosts[0]) // what it answers is not finished, unless it was let out of its pools
}

// on is the software on a server that is well, in the order in which it was set up.
func (t *tx) on(ctx context.Context, host string) ([]*row, error) {
	rows, err := t.resources(ctx, `where type = 'Software' and state in ('ready', 'updating', 'failed') and id in
		(select from_id from links where requirement = 'host' and to_id = ?) order by seq`, host)
	slices.SortStableFunc(rows, func(a, b *row) int { return whole(a.properties["order"]) - whole(b.properties["order"]) })
	return rows, err
}

// around puts what the software on a host has to do before and after into the steps of what is
// done to it: on its servers from one to before another.
func around(software []*row, steps []step, before, after []string, from, to int, fresh bool) []step {
	var out []step
	for _, s := range slices.Backward(software) {
		for _, name := range present(operationsIn(s.properties), before...) {
			out = append(out, workStep(s.id, name, from, to))
		}
	}
	out = append(out, steps...)
	for _, s := range software {
		for _, name := range present(operationsIn(s.properties), after...) {
			w := workStep(s.id, name, from, to)
			w.Work.Fresh, fresh = fresh, false
			out = append(out, w)
		}
	}
	if len(out) > len(steps) {
		for i, s := range out {
			if s.Work == nil {
				continue
			}
			for _, r := range software {
				if r.id == s.Work.Software && r.node != "" {
					out[i].Name += " of " + r.node
				}
			}
		}
	}
	return out
}

// hosted are the steps of a change of a server or a group, with those of the software on it.
func (c *change) hosted(steps []step) ([]step, error) {
	if c.before == nil || c.typ.Name != "Server" && c.typ.Name != "ServerGroup" {
		return steps, nil
	}
	software, err := c.on(c.ctx, c.id)
	if err != nil || len(software) == 0 {
		return steps, err
	}
	restarts := slices.ContainsFunc(c.typ.Properties, func(d *tosca.Property) bool { return d.Metadata["restarts"] == "true" && c.changed(d.Name) })
	if c.typ.Name == "Server" {
		if restarts {
			steps = around(software, steps, toLeave, []string{"start"}, 0, 1, false)
		}
		return steps, nil
	}
	have, want := members(c.before), int(c.number("want"))
	switch {
	case c.changed("size") || c.changed("env"): // its servers are replaced
		steps = around(software, steps, toLeave, nil, 0, have, false)
		steps = around(software, steps, nil, toSetUp, 0, want, true)
	case want < have:
		steps = around(software, steps, toRemove, nil, want, have, false)
	case want > have:
		steps = around(software, steps, nil, toSetUp, have, want, true)
	}
	return steps, nil
}

// enter begins the steps of an operation from one on: its scripts are queued, or its time is
// counted. At the end of all it is over.
func (t *tx) enter(ctx context.Context, o *op, from int, at int64) error {
	for ; from < len(o.steps); from++ {
		o.atStep, o.at = from, at
		if w := o.steps[from].Work; w != nil {
			n, err := t.queue(ctx, o, from, w, true)
			if err != nil {
				return err
			}
			if n == 0 {
				continue
			}
			o.end = never
			return nil
		}
		o.end = at
		for i := from; i < len(o.steps) && o.steps[i].Work == nil; i++ {
			if i == o.failStep {
				o.end += max(1, o.steps[i].MS/2)
				break
			}
			o.end += o.steps[i].MS
		}
		return nil
	}
	o.atStep, o.at, o.end = len(o.steps), at, at
	return nil
}

// until is the step before which the present part of the steps ends.
func (o *op) until() int {
	i := o.atStep
	for i < len(o.steps) && o.steps[i].Work == nil {
		i++
	}
	if i == o.atStep && i < len(o.steps) {
		i++
	}
	return i
}

// failsNow reports whether the present part is the one that fails, and over whether nothing
// comes after it.
func (o *op) failsNow() bool { return o.failStep >= o.atStep && o.failStep < o.until() }
func (o *op) over() bool     { return o.failsNow() || o.until() == len(o.steps) }

// keep writes how far an operation is.
func (t *tx) keep(ctx context.Context, o *op) error {
	steps, problem, outcome, err := t.sealed(o)
	if err == nil {
		_, err = t.ExecContext(ctx, `update operations set end_ms = ?, at_step = ?, at_ms = ?, fail_step = ?, steps = ?, problem = ?, outcome = ?
			where id = ?`, o.end, o.atStep, o.at, o.failStep, steps, problem, outcome, o.id)
	}
	return err
}

// assignment is what an agent is told to carry out.
type assignment struct {
	Script  string            `json:"script"`
	Environ map[string]string `json:"environ"`
	Stdin   string            `json:"stdin,omitempty"` // an adapter's: it answers with JSON
	Files   map[string]string `json:"files,omitempty"`
	TimeMS  int64             `json:"time_ms"`         // of the cloud's time, with what came before it in the same change
	Mode    string            `json:"mode,omitempty"`  // of the fault that it meets
	Fails   string            `json:"fails,omitempty"` // in the words of the fault
}

// queue puts the scripts of a step into the queues of their servers, and says how many.
func (t *tx) queue(ctx context.Context, o *op, number int, w *work, attached bool) (int, error) {
	rows, err := t.resources(ctx, `where id = ?`, w.Software)
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	software := rows[0]
	properties, host := software.properties, first(software.links["host"])
	if o.resourceID == w.Software && o.kind == "update" {
		properties, host = o.outcome.Properties, first(o.outcome.Links["host"])
	}
	does, there := operationsIn(properties)[w.Operation]
	if !there {
		return 0, nil
	}
	if rows, err = t.resources(ctx, `where id = ?`, host); err != nil || len(rows) == 0 {
		return 0, err
	}
	server := rows[0]
	if w.Fresh {
		if _, err := t.ExecContext(ctx, `delete from disks where server_id = ? and member >= ? and member < ?`, host, w.From, w.To); err != nil {
			return 0, err
		}
	}
	timeout, _ := cloud.ReadProperty(t.y.lib.Nodes["Software"], "timeout", tosca.FromJSON(plain(properties["timeout"]))).(tosca.Scalar)
	for m := w.From; m < w.To; m++ {
		a := assignment{Script: does.Script, Files: does.Files, TimeMS: int64(timeout.Amount * 1000), Mode: o.outcome.Agent}
		if number == o.failStep && attached {
			a.Fails = o.problem.Detail
		}
		name := server.id
		if server.typ == "ServerGroup" {
			name += "/" + strconv.Itoa(m+1)
		}
		a.Environ = map[string]string{"BRICKROW_OPERATION": w.Operation, "BRICKROW_STACK": software.stack, "BRICKROW_NODE": software.node, "BRICKROW_SERVER": name}
		if does.Document != nil {
			text, err := json.Marshal(map[string]any{"operation": w.Operation, "stack": software.stack, "node": software.node, "server": name,
				"inputs": orEmpty(does.Inputs), "document": *does.Document, "files": orEmpty(does.Files)})
			if err != nil {
				return 0, err
			}
			a.Stdin = string(text)
		} else {
			for k, v := range does.Inputs {
				a.Environ[k] = inText(v)
			}
		}
		sealed, err := t.y.seal(a)
		if err != nil {
			return 0, err
		}
		if _, err := t.ExecContext(ctx, `insert into scripts(op_id, step, attached, software_id, stack, node, account, region, server_id, server_node,
			member, operation, state, claim, claim_ms, queued_ms, begun_ms, ended_ms, took_ms, exit_code, request, told)
			values(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'waiting', '', 0, ?, 0, 0, 0, 0, ?, '{}')`,
			o.id, number, attached, software.id, software.stack, software.node, software.account, software.region, server.id, server.node, m,
			w.Operation, t.now, sealed); err != nil {
			return 0, err
		}
	}
	t.queued = true
	return w.To - w.From, nil
}

func orEmpty[V any](m map[string]V) map[string]V {
	if m == nil {
		return map[string]V{}
	}
	return m
}

// inText is an input as a script finds it: what is no text is JSON.
func inText(v any) string {
	switch w := v.(type) {
	case nil:
		return ""
	case string:
		return w
	}
	return encode(v)
}

// handOver queues the scripts that nobody waits for.
func (t *tx) handOver(ctx context.Context, o *op, c *change) error {
	for _, name := range c.unattached() {
		w := &work{Software: c.id, Operation: name, From: 0, To: members(c.targets["host"][0])}
		if _, err := t.queue(ctx, o, 0, w, false); err != nil {
			return err
		}
	}
	return nil
}

// told is what became of a script, without its secrets.
type told struct {
	Output   string            `json:"output,omitempty"`
	Errors   string            `json:"errors,omitempty"`
	Results  map[string]string `json:"results,omitempty"`
	Changed  *bool             `json:"changed,omitempty"` // as an adapter says
	Messages []string          `json:"messages,omitempty"`
	Problem  string            `json:"problem,omitempty"`
}

// script is a row of the queue.
type script struct {
	number             int64
	opID               string
	step               int
	attached           bool
	software           string
	server             string
	serverNode         string
	stack, node        string
	member             int
	operation, state   string
	queued, begun, end int64
	took               int64
	exit               int
	told               told
}

const scriptColumns = `number, op_id, step, attached, software_id, stack, node, server_id, server_node, member, operation, state, queued_ms, begun_ms, ended_ms,
	took_ms, exit_code, told`

// scripts reads rows of the queue; where is the rest of the query.
func (t *tx) scripts(ctx context.Context, where string, args ...any) (out []*script, err error) {
	rows, err := t.QueryContext(ctx, `select `+scriptColumns+` from scripts `+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		s := &script{}
		var sealed string
		if err := rows.Scan(&s.number, &s.opID, &s.step, &s.attached, &s.software, &s.stack, &s.node, &s.server, &s.serverNode, &s.member, &s.operation,
			&s.state, &s.queued, &s.begun, &s.end, &s.took, &s.exit, &sealed); err != nil {
			return nil, err
		}
		if err := t.y.unseal(sealed, &s.told); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// ended applies that a script has come to its end.
func (t *tx) ended(ctx context.Context, s *script) error {
	o, err := t.operation(ctx, `id = ?`, s.opID)
	if err != nil || o == nil {
		return err
	}
	all, err := t.scripts(ctx, `where op_id = ? and software_id = ? order by number`, s.opID, s.software)
	if err != nil {
		return err
	}
	if err := t.report(ctx, s.software, all); err != nil {
		return err
	}
	if s.state == "failed" { // the next deployment makes up for it
		if _, err := t.ExecContext(ctx, `update resources set state = 'failed' where id = ? and state = 'ready'`, s.software); err != nil {
			return err
		}
	}
	if !s.attached {
		if s.state == "failed" { // what was to come after it has nothing to build on
			_, err = t.ExecContext(ctx, `delete from scripts where op_id = ? and software_id = ? and member = ? and attached = 0 and state = 'waiting'`,
				s.opID, s.software, s.member)
		}
		return err
	}
	if o.settled || o.atStep != s.step {
		return nil
	}
	var failed *script
	for _, other := range all {
		switch {
		case other.step != s.step:
		case other.state != "done" && other.state != "failed":
			return nil // another is under way still
		case other.state == "failed" && failed == nil:
			failed = other
		}
	}
	if failed != nil {
		o.failStep, o.end = s.step, t.now
		if failed.told.Problem == "" || o.problem == nil || failed.told.Problem != o.problem.Detail {
			o.problem = refuse(http.StatusUnprocessableEntity, "script-failed", "mend the script, or what it needs", "%s", failed.words())
		}
	} else if err := t.enter(ctx, o, s.step+1, t.now); err != nil {
		return err
	}
	if err := t.keep(ctx, o); err != nil {
		return err
	}
	return t.settle(ctx)
}

// on is the server, by its name in the queue.
func (s *script) on() string {
	if strings.HasPrefix(s.server, "servergroup~") {
		return fmt.Sprintf("%s/%d", s.server, s.member+1)
	}
	return s.server
}

// words is how a script failed.
func (s *script) words() string {
	what := fmt.Sprintf("%s on %s ended with exit code %d", s.operation, s.on(), s.exit)
	if s.told.Problem != "" {
		what = fmt.Sprintf("%s on %s: %s", s.operation, s.on(), s.told.Problem)
	}
	last := lastLine(s.told.Errors)
	if last == "" {
		last = lastLine(s.told.Output)
	}
	if last != "" && !strings.Contains(what, last) {
		what += ": " + last
	}
	return what
}

func lastLine(text string) string {
	text = strings.TrimRight(text, "\n \t")
	return strings.TrimSpace(text[strings.LastIndexByte(text, '\n')+1:])
}

// report writes what came of the scripts of a change into the attributes of its software.
func (t *tx) report(ctx context.Context, id string, all []*script) error {
	rows, err := t.resources(ctx, `where id = ?`, id)
	if err != nil || len(rows) == 0 {
		return err
	}
	r := rows[0]
	state, exit := "done", 0
	var output, errs []string
	results := map[string]any{}
	for k, v := range asMap(r.attributes["results"]) {
		results[k] = v
	}
	for _, s := range all {
		for _, printed := range []struct {
			text string
			of   *[]string
		}{{s.told.Output, &output}, {s.told.Errors, &errs}} {
			if printed.text != "" {
				*printed.of = append(*printed.of, fmt.Sprintf("── %s on %s\n", s.operation, s.on()), printed.text)
			}
		}
		if s.member == 0 {
			for k, v := range s.told.Results {
				results[k] = v
			}
		}
		switch {
		case s.state == "failed" && state != "failed":
			state, exit = s.state, s.exit
		case s.state != "done" && state == "done":
			state = "running"
		}
	}
	attributes := maps.Clone(r.attributes)
	attributes["state"], attributes["exit_code"], attributes["results"] = state, exit, results
	attributes["output"], attributes["errors"] = printed.Cut(together(output)), printed.Cut(together(errs))
	_, text, _, sealed, err := t.y.columns(outcome{Properties: r.properties, Attributes: attributes, Tags: r.tags, Places: r.places,
		SecretAttributes: r.secretAttributes})
	if err == nil {
		_, err = t.ExecContext(ctx, `update resources set attributes = ?, sealed = ? where id = ?`, text, sealed, id)
	}
	return err
}

// together joins what several scripts have printed; of one alone there is no title.
func together(list []string) string {
	if len(list) == 2 {
		return list[1]
	}
	return strings.Join(list, "")
}

func asMap(x any) map[string]any {
	m, _ := x.(map[string]any)
	return m
}

// reported takes over into what a change leaves behind what its scripts have reported meanwhile.
func (t *tx) reported(ctx context.Context, o *op) error {
	if o.kind != "update" || o.outcome.Attributes == nil {
		return nil
	}
	rows, err := t.resources(ctx, `where id = ? and type = 'Software'`, o.resourceID)
	if err != nil || len(rows) == 0 {
		return err
	}
	for _, name := range []string{"state", "exit_code", "output", "errors", "results"} {
		o.outcome.Attributes[name] = rows[0].attributes[name]
	}
	return nil
}

// services are what listens on the servers of a host, by their members; nil where nothing ever
// did.
func (t *tx) services(ctx context.Context, host string) (out map[int][]agent.Service, err error) {
	rows, err := t.QueryContext(ctx, `select member, listens from disks where server_id = ? and listens <> ''`, host)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var member int
		var text string
		var list []agent.Service
		if err := rows.Scan(&member, &text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &list); err != nil {
			return nil, err
		}
		if out == nil {
			out = map[int][]agent.Service{}
		}
		out[member] = list
	}
	return out, rows.Err()
}

// disk reads the files of a server.
func (t *tx) disk(ctx context.Context, server string, member int) (agent.Files, string, error) {
	var sealed, listens string
	err := t.QueryRowContext(ctx, `select files, listens from disks where server_id = ? and member = ?`, server, member).Scan(&sealed, &listens)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	var files agent.Files
	return files, listens, t.y.unseal(sealed, &files)
}

// serves is what one hears at a port of a server where software listens; ok is false where
// none ever did.
func (t *tx) serves(ctx context.Context, r *row, c call) (reply cloud.Reply, ok bool, err error) {
	all, err := t.services(ctx, r.id)
	if err != nil || all == nil {
		return reply, false, err
	}
	for _, member := range slices.Sorted(maps.Keys(all)) {
		for _, s := range all[member] {
			if s.Port != c.port {
				continue
			}
			if c.kind == "tcp" {
				return reply, true, nil
			}
			reply, err = t.served(ctx, r.id, member, s, c.path)
			return reply, true, err
		}
	}
	reply, err = shut("nothing listens on port %d of %s", c.port, r.id)
	return reply, true, err
}

// served is what a service answers at a path: a file of its folder.
func (t *tx) served(ctx context.Context, server string, member int, s agent.Service, path string) (cloud.Reply, error) {
	if s.Folder == "" {
		return cloud.Reply{Status: http.StatusOK, Body: "ok " + s.Name}, nil
	}
	files, _, err := t.disk(ctx, server, member)
	if err != nil {
		return cloud.Reply{}, err
	}
	if text, there := files.Text(s.Folder, path); there {
		return cloud.Reply{Status: http.StatusOK, Body: text}, nil
	}
	return cloud.Reply{Status: http.StatusNotFound, Body: s.Name + " has nothing at " + path}, nil
}

// listScripts lists what was carried out on servers for a stack, or a resource of it, the oldest
// first.
func (y *Yard) listScripts(ctx context.Context, r *request) (int, any, error) {
	out := []cloud.Script{}
	q := r.URL.Query()
	open := false
	err := y.look(ctx, func(t *tx) error {
		list, err := t.scripts(ctx, `where account = ? and region = ? and (? = '' or stack = ?) and (? = '' or software_id = ?)
			order by number desc limit 1000`, r.account, r.region, q.Get("stack"), q.Get("stack"), q.Get("resource"), q.Get("resource"))
		for _, s := range slices.Backward(list) {
			out = append(out, s.wire(t.now))
			open = open || s.end == 0
		}
		return err
	})
	if open {
		y.runner.wake()
	}
	return http.StatusOK, out, err
}

func (s *script) wire(now int64) cloud.Script {
	out := cloud.Script{Number: s.number, ResourceID: s.software, Stack: s.stack, Node: s.node, Server: s.on(), ServerNode: s.serverNode,
		Operation: s.operation, State: s.state, Queued: time.UnixMilli(s.queued).UTC(), ExitCode: s.exit, Output: s.told.Output, Errors: s.told.Errors,
		Results: orEmpty(s.told.Results), Changed: s.told.Changed, Messages: s.told.Messages, Problem: s.told.Problem}
	if s.state == "unheard" {
		out.State = "running"
	}
	if s.begun > 0 {
		begun := time.UnixMilli(s.begun).UTC()
		out.Begun = &begun
		end := s.end
		if end == 0 {
			end = now
		}
		out.Seconds = float64(end-s.begun) / 1000
	}
	return out
}
