package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/postgres"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/ways"
	"brickrow/internal/yard"
)

const gaugesTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 }, { profile: brickrow.postgresql:1 } ]
service_template:
  inputs:
    port: { type: Port }
    word: { type: Secret }
    writer_word: { type: Secret, default: "it's a 'secret' \\ word" }
    writer: { type: string, default: 'gauge "writer"' }
    stations: { type: integer, default: 7 }
    note: { type: string, default: "What the gauges say; it's theirs" }
    rights: { type: list, entry_schema: string, default: [ usage ] }
  node_templates:
    server: { type: PostgresConnection, properties: { host: 127.0.0.1, port: { $get_input: port }, user: keeper, password: { $get_input: word }, tls: off, within: 2 s } }
    team: { type: PostgresRole, properties: { name: gauge_team, label: { $get_input: note } }, requirements: [ { through: server } ] }
    writer: { type: PostgresRole, properties: { name: { $get_input: writer }, login: true, password: { $get_input: writer_word }, member_of: [ pg_monitor ], connections: 20, valid_until: "2031-01-31 00:00:00+00", settings: { statement_timeout: 30s, search_path: '"$user", gauges' } }, requirements: [ { member_of: team }, { through: server } ] }
    db: { type: PostgresDatabase, properties: { name: gauge-readings, label: { $get_input: note }, settings: { timezone: UTC } }, requirements: [ { owner: team }, { through: server } ] }
    station: { type: PostgresRole, count: { $get_input: stations }, properties: { name: { $concat: [ station_, { $token: [ "a,b,c,d,e,f,g,h,i,j", ",", $node_index ] } ] } }, requirements: [ { member_of: team }, { through: server } ] }
    part: { type: PostgresSchema, count: { $get_input: stations }, properties: { name: { $concat: [ "part ", { $token: [ "a,b,c,d,e,f,g,h,i,j", ",", $node_index ] } ] } }, requirements: [ { database: db }, { owner: team }, { through: server } ] }
    may_connect: { type: PostgresGrant, count: { $get_input: stations }, properties: { privileges: [ connect, TEMP ] }, requirements: [ { on: db }, { to: [ station, $node_index ] }, { through: server } ] }
    may_use: { type: PostgresGrant, count: { $get_input: stations }, properties: { privileges: { $get_input: rights } }, requirements: [ { on: [ part, $node_index ] }, { to: [ station, $node_index ] }, { through: server } ] }
    likeness: { type: PostgresExtension, properties: { name: pg_trgm, version: "1.5" }, requirements: [ { database: db }, { schema: [ part, 0 ] }, { through: server } ] }
`

type gauges struct {
	*bench
	*postgrestest.Server
}

func newGauges(t *testing.T) gauges {
	b := gauges{newBench(t, 300), postgrestest.Start(t)}
	b.write("gauges.yaml", gaugesTemplate)
	b.write("word", b.Password)
	b.write("gauges.stack.yaml", fmt.Sprintf("stack: gauges\ntemplate: gauges.yaml\ntarget: workshop/alder-1\nthrowaway: true\ninputs: { port: %s, word: { from_file: word } }\n", b.Port))
	return b
}

// A server's roles, databases, schemas, extensions and grants are made, compared, changed in place,
// put back and removed, and its own catalogue is exactly what it was.
func TestPostgres(t *testing.T) {
	long(t)
	t.Parallel()
	b := newGauges(t)
	empty := b.Catalogue(t)
	b.deploy(run.StatusDone, "gauges.stack.yaml")
	if p := b.preview("gauges.stack.yaml"); !p.Empty() {
		for _, ch := range p.Changes {
			if ch.Kind != "same" {
				t.Errorf("%s %s %+v", ch.Kind, ch.Name, ch.Properties)
			}
		}
		t.FailNow()
	}
	b.delete("gauges")
	b.wantSame("the catalogue after the deletion", b.Catalogue(t), empty)
	for _, secret := range []string{"secret' ", "keeper's-own"} {
		if strings.Contains(b.Log(t), secret) {
			t.Errorf("the server's log tells %s", secret)
		}
		_ = filepath.WalkDir(b.Home, func(path string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				if text, err := os.ReadFile(path); err != nil || strings.Contains(string(text), secret) {
					t.Errorf("%s tells %s (%v)", path, secret, err)
				}
			}
			return nil
		})
	}
}

// A database that is sorted otherwise is made anew, the old one goes first, and what is in it with it.
func TestPostgresSortedOtherwise(t *testing.T) {
	long(t)
	t.Parallel()
	b := newGauges(t)
	b.deploy(run.StatusDone, "gauges.stack.yaml", "stations=2")
	b.write("gauges.yaml", strings.Replace(gaugesTemplate, "name: gauge-readings,", "name: gauge-readings, collation: C.UTF-8,", 1))
	p := b.preview("gauges.stack.yaml", "stations=2")
	if p.Findings.HasErrors() {
		t.Fatalf("%v", p.Findings)
	}
	first := 0
	for _, ch := range p.Changes {
		if ch.DropFirst {
			first++
		}
	}
	if first != 8 { // the database, two schemas, an extension, four grants
		t.Errorf("%d go first", first)
	}
	if !strings.Contains(fmt.Sprint(p.Risks), "part#0 is removed before it is made anew, as db, which it is linked to, goes first") {
		t.Errorf("%v", p.Risks)
	}
	before := b.Catalogue(t)
	sorted, err := os.ReadFile(filepath.Join(b.dir, "gauges.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	b.write("gauges.yaml", string(sorted)+"    bad: { type: PostgresSchema, properties: { name: pg_bad }, requirements: [ { database: db }, { through: server } ] }\n")
	b.deploy(run.StatusUndone, "gauges.stack.yaml", "stations=2")
	b.wantSame("the catalogue after the way back", b.Catalogue(t), before)
	step := int64(53)
	if os.Getenv("BRICKROW_LONG") != "" {
		step = 1
	}
	for at := int64(1); ; at += step { // and where the process is killed meanwhile
		r, moments := b.diesOnce(t, "gauges", b.preview("gauges.stack.yaml", "stations=2"), at, 300)
		if r.State != run.StatusUndone {
			t.Fatalf("killed at %d: %s %s", at, r.State, r.Reason)
		}
		b.wantSame(fmt.Sprint("the catalogue after the way back, killed at ", at), b.Catalogue(t), before)
		if moments < at {
			t.Logf("killed at %d moments of %d", (at-1)/step, moments)
			break
		}
	}
	b.write("gauges.yaml", string(sorted))
	b.deploy(run.StatusDone, "gauges.stack.yaml", "stations=2")
	if got := b.Catalogue(t); got == before || !b.preview("gauges.stack.yaml", "stations=2").Empty() {
		t.Errorf("after the deployment: %s", got)
	}
}

// What is done by hand in SQL is seen, put back or written back; what exists already is adopted; what
// others hold stands in the way, and is said.
func TestPostgresByHand(t *testing.T) {
	long(t)
	t.Parallel()
	b := newGauges(t)
	b.Exec(t, "postgres", "create role elder login password 'from of old'", "create database elderly owner elder")
	b.deploy(run.StatusDone, "gauges.stack.yaml", "stations=2")
	before := b.Catalogue(t)
	hand := func(want string, database string, statements ...string) {
		t.Helper()
		b.Exec(t, database, statements...)
		d, err := b.Drift(t.Context(), b.stack("gauges"))
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, x := range d.Differs {
			said = append(said, x.Name+" "+x.Path)
		}
		for _, x := range d.Gone {
			said = append(said, x.Name+" gone")
		}
		slices.Sort(said)
		b.wantSame("what differs after "+statements[0], strings.Join(said, ", "), want)
		p, err := b.WhatIfPutBack(t.Context(), b.stack("gauges"))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(p, "undo"); r.State != run.StatusDone {
			t.Fatalf("put back: %s", r.Reason)
		}
	}
	writer := `"gauge ""writer"""`
	hand("writer connections, writer login, writer settings.statement_timeout", "postgres", "alter role "+writer+" nologin connection limit 3", "alter role "+writer+" set statement_timeout to '1min'")
	hand("writer password", "postgres", "alter role "+writer+" password 'guessed'")
	b.wantSame("a role after it was put back", withoutPasswords(b.Catalogue(t)), withoutPasswords(before))
	hand("db connections, db label, db settings.timezone", "postgres", `alter database "gauge-readings" connection limit 5`, `comment on database "gauge-readings" is 'mine'`, `alter database "gauge-readings" reset timezone`, `alter database "gauge-readings" set timezone to 'CET'`)
	hand("part#0 owner", "gauge-readings", `alter schema "part a" owner to keeper`)
	hand("may_use#1 privileges", "gauge-readings", `grant create on schema "part b" to station_b`)
	hand("may_use#0 gone", "gauge-readings", `revoke all on schema "part a" from station_a`)
	hand("writer member_of", "postgres", "revoke gauge_team from "+writer)
	hand("writer name", "postgres", "alter role "+writer+" rename to somebody")
	b.wantSame("all of it after it was put back", withoutPasswords(b.Catalogue(t)), withoutPasswords(before))

	// A schema with something in it is not removed, and somebody who is connected stands in the way.
	b.Exec(t, "gauge-readings", `create table "part b".level (at timestamptz, cm int)`)
	p := b.preview("gauges.stack.yaml", "stations=1")
	if !strings.Contains(fmt.Sprint(p.Findings), "part#1 holds 1 object: the cloud does not remove it with them") {
		t.Errorf("%v", p.Findings)
	}
	b.Exec(t, "gauge-readings", `drop table "part b".level`)
	guest, err := b.Connect("gauge-readings")
	if err != nil {
		t.Fatal(err)
	}
	p, err = b.WhatIfDelete(t.Context(), b.stack("gauges"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusStuck || !strings.Contains(r.Reason, "being accessed by other users") {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	guest.Close(t.Context())
	ticket, err := b.Resume(t.Context(), b.stack("gauges"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone {
		t.Fatalf("%v %s", err, r.Reason)
	}

	// What is there already is not taken over by its name, but by adopting it; its password stays.
	elders := strings.NewReplacer("    team:", "    elder: { type: PostgresRole, properties: { name: elder, login: true, connections: 4 }, requirements: [ { through: server } ] }\n    home: { type: PostgresDatabase, properties: { name: elderly, collation: C }, requirements: [ { owner: elder }, { through: server } ] }\n    team:").Replace(gaugesTemplate)
	b.write("elders.yaml", elders)
	stackFile := fmt.Sprintf("stack: gauges\ntemplate: elders.yaml\ntarget: workshop/alder-1\nthrowaway: true\ninputs: { port: %s, word: { from_file: word }, stations: 1 }\n", b.Port)
	b.write("elders.stack.yaml", stackFile)
	before = b.Catalogue(t)
	if r := b.carry(b.preview("elders.stack.yaml"), "undo"); r.State != run.StatusUndone || !strings.Contains(r.Reason, "there is a role elder already") {
		t.Fatalf("%s %s", r.State, r.Reason) // how to get there was not known before
	}
	b.wantSame("after it was refused, the catalogue", b.Catalogue(t), before)
	b.write("gauges.stack.yaml", strings.Replace(stackFile, "elders.yaml", "gauges.yaml", 1))
	b.deploy(run.StatusDone, "gauges.stack.yaml")
	if p := b.preview("elders.stack.yaml"); !strings.Contains(fmt.Sprint(p.Findings), "elder: name 'elder' is taken by ") || !strings.Contains(fmt.Sprint(p.Findings), "home: name 'elderly' is taken by ") {
		t.Fatalf("%v", p.Findings)
	}
	list, err := b.Cloud.List(t.Context(), b.stack("gauges").Target, "")
	if err != nil {
		t.Fatal(err)
	}
	adopt := "adopt: {"
	for _, r := range list {
		if called := fmt.Sprint(r.Properties["name"]); called == "elder" || called == "elderly" {
			adopt += map[string]string{"elder": " elder: ", "elderly": ", home: "}[called] + r.ID
		}
	}
	b.write("elders.stack.yaml", stackFile+adopt+" }\n")
	p = b.preview("elders.stack.yaml")
	if p.Change("elder").Kind != "adopt" || p.Change("home").Kind != "adopt" {
		t.Fatalf("%s %s %v", p.Change("elder").Kind, p.Change("home").Kind, p.Findings)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	now := b.Catalogue(t)
	kept := regexp.MustCompile(`role \(elder,.*`)
	b.wantSame("the elder's role", strings.Replace(kept.FindString(now), ",4,", ",-1,", 1), kept.FindString(before))
	if p := b.preview("elders.stack.yaml"); !p.Empty() {
		t.Errorf("there is something to do still after adopting")
	}
	// A password given to it, and taken back with a failure, is the one that nobody here knew.
	b.write("elders.yaml", strings.Replace(elders, "name: elder, login: true,", "name: elder, login: true, password: { $get_input: writer_word },", 1)+"    z: { type: Topic, properties: { label: z }, requirements: [ ] }\n")
	b.fault(yard.Fault{Name: "z", Reason: "no", Times: 1, At: "last"})
	if r := b.carry(b.preview("elders.stack.yaml"), "undo"); r.State != run.StatusUndone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	b.wantSame("the catalogue after the undoing", b.Catalogue(t), now)
	b.delete("gauges")
	if after := b.Catalogue(t); strings.Contains(after, "elder") {
		t.Errorf("adopted, and not removed: %s", after)
	}
}

// What is kept stays in the server when its stack goes, and comes back when the stack does.
func TestPostgresKept(t *testing.T) {
	long(t)
	t.Parallel()
	b := newGauges(t)
	b.write("gauges.yaml", gaugesTemplate+"  policies: [ keep: { type: Keep, targets: [ db, team ] } ]\n")
	b.deploy(run.StatusDone, "gauges.stack.yaml", "stations=1")
	b.Exec(t, "gauge-readings", `create table level (cm int)`, `insert into level values (140)`)
	p, err := b.WhatIfDelete(t.Context(), b.stack("gauges"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if _, err := b.LeftOf(t.Context(), b.stack("gauges")); err != nil {
		t.Error(err)
	}
	b.has(b.Catalogue(t), "table in gauge-readings (public,level)", "(gauge_team,")
	p = b.preview("gauges.stack.yaml", "stations=1")
	if p.Change("db").Kind != "adopt" || p.Change("team").Kind != "adopt" || p.Change("writer").Kind != "new" {
		t.Errorf("%s %s %s %v", p.Change("db").Kind, p.Change("team").Kind, p.Change("writer").Kind, p.Findings)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	b.has(b.Catalogue(t), "table in gauge-readings (public,level)")
	if p := b.preview("gauges.stack.yaml", "stations=1"); !p.Empty() {
		t.Errorf("there is something to do still: %s", p.Tally)
	}
}

var scramText = regexp.MustCompile(`SCRAM-SHA-256[^,)]*`)

func withoutPasswords(s string) string { return scramText.ReplaceAllString(s, "SCRAM") }

// failing is a kind of connection that refuses once what is done to a node.
type failing struct {
	ways.Kind
	mu   sync.Mutex
	node string
	ids  map[string]string // of what is there, by id
	lose bool              // it is done, and nobody hears so
}

type failingCloud struct {
	*ways.Direct
	f *failing
}

func (f *failing) Open(c ways.Connection) (cloud.End, error) {
	end, err := f.Kind.Open(c)
	if err == nil {
		end.Cloud = failingCloud{end.Cloud.(*ways.Direct), f}
	}
	return end, err
}

func (c failingCloud) trip(node string, do func() (cloud.Operation, error)) (cloud.Operation, error) {
	c.f.mu.Lock()
	trips := node != "" && node == c.f.node
	if trips {
		c.f.node = ""
	}
	c.f.mu.Unlock()
	if !trips {
		return do()
	}
	if c.f.lose {
		if _, err := do(); err != nil {
			return cloud.Operation{}, err
		}
		return cloud.Operation{}, &cloud.Problem{Type: "connection", Title: "lost", Detail: "the answer was lost", Passing: true}
	}
	return cloud.Operation{}, &cloud.Problem{Type: "refused", Title: "no", Detail: "not today", Status: 422}
}

func (c failingCloud) Create(ctx context.Context, t stack.Target, key string, r cloud.Request) (cloud.Operation, error) {
	return c.trip(r.Tags["node"], func() (cloud.Operation, error) { return c.Direct.Create(ctx, t, key, r) })
}

func (c failingCloud) Update(ctx context.Context, r cloud.Ref, key string, change cloud.Request) (cloud.Operation, error) {
	return c.trip(c.f.ids[r.ID], func() (cloud.Operation, error) { return c.Direct.Update(ctx, r, key, change) })
}

func (c failingCloud) Delete(ctx context.Context, r cloud.Ref, key string) (cloud.Operation, error) {
	return c.trip(c.f.ids[r.ID], func() (cloud.Operation, error) { return c.Direct.Delete(ctx, r, key) })
}

// A failure at any of the objects leaves the server's own catalogue as it was, passwords among it; a
// lost answer makes nothing twice.
func TestPostgresFailsAnywhere(t *testing.T) {
	long(t)
	t.Parallel()
	b := newGauges(t)
	f := &failing{Kind: b.connections.Kinds[postgres.Connection], ids: map[string]string{}}
	b.connections.Kinds[postgres.Connection] = f
	b.deploy(run.StatusDone, "gauges.stack.yaml", "stations=1")
	names := b.recordedNames("gauges")
	for _, name := range names {
		_, there := cloud.WayOf(b.idIn("gauges", name))
		f.ids[there] = name
	}
	b.write("word2", "another 'word' \\\\ altogether")
	b.write("second.yaml", strings.NewReplacer("connections: 20", "connections: 21", `"1.5"`, `"1.6"`, "timezone: UTC", "timezone: CET, work_mem: 8MB",
		"statement_timeout: 30s, ", "", "member_of: [ pg_monitor ]", "member_of: [ pg_read_all_stats ]", "privileges: [ connect, TEMP ]", "privileges: [ all ]", `"2031-01-31 00:00:00+00"`, `"2032-01-31 00:00:00+00"`).Replace(gaugesTemplate))
	b.write("second.stack.yaml", fmt.Sprintf("stack: gauges\ntemplate: second.yaml\ntarget: workshop/alder-1\nthrowaway: true\ninputs: { port: %s, word: { from_file: word }, writer_word: { from_file: word2 } }\n", b.Port))
	flags := []string{"stations=2", "writer=writer of gauges", "note=It's other", "rights=[ usage, create ]"}
	before := b.Catalogue(t)
	fails, lost := 0, 0
	for i, name := range append(names, "station#1", "part#1", "may_use#1") {
		for _, f.lose = range []bool{false, true} {
			if f.node = name; f.node == "server" || f.lose && i%3 > 0 {
				continue
			}
			r := b.carry(b.preview("second.stack.yaml", flags...), "undo")
			switch {
			case f.node != "": // nothing was done to it
				f.node = ""
				if r.State != run.StatusDone {
					t.Fatalf("%s: %s %s", name, r.State, r.Reason)
				}
			case f.lose:
				lost++
				if r.State != run.StatusDone {
					t.Fatalf("%s, lost: %s %s", name, r.State, r.Reason)
				}
			default:
				fails++
				if r.State != run.StatusUndone {
					t.Fatalf("%s: %s %s", name, r.State, r.Reason)
				}
				b.wantSame("after "+name+" failed, the catalogue", b.Catalogue(t), before)
			}
			if r.State == run.StatusDone {
				if p := b.preview("second.stack.yaml", flags...); !p.Empty() {
					t.Fatalf("%s: there is something to do still", name)
				}
				p, err := b.WhatIfUndo(t.Context(), b.stack("gauges"), 0)
				if err != nil {
					t.Fatal(err)
				}
				if r := b.carry(p, "undo"); r.State != run.StatusDone {
					t.Fatalf("going back: %s", r.Reason)
				}
				b.wantSame("after going back from "+name+", the catalogue", b.Catalogue(t), before)
			}
		}
	}
	if fails < 8 || lost < 2 {
		t.Errorf("%d failures and %d lost answers are too few", fails, lost)
	}
}

// Who is no superuser, but may make roles and databases, can do all of it, and is a member of none of
// the roles afterwards.
func TestPostgresWithoutSuperuser(t *testing.T) {
	long(t)
	t.Parallel()
	b := newGauges(t)
	b.Exec(t, "postgres", "create role manager login createdb createrole password 'manages'")
	before := b.Catalogue(t)
	b.write("word", "manages")
	b.write("gauges.yaml", strings.NewReplacer("user: keeper", "user: manager", "member_of: [ pg_monitor ], ", "", ", { schema: [ part, 0 ] }", "").Replace(gaugesTemplate))
	b.deploy(run.StatusDone, "gauges.stack.yaml", "stations=1")
	b.deploy(run.StatusDone, "gauges.stack.yaml", "stations=2", "note=other", "rights=[ usage, create ]", "writer=other")
	if p := b.preview("gauges.stack.yaml", "stations=2", "note=other", "rights=[ usage, create ]", "writer=other"); !p.Empty() {
		for _, ch := range p.Changes {
			if ch.Kind != "same" {
				t.Errorf("%s %s %+v", ch.Kind, ch.Name, ch.Properties)
			}
		}
	}
	if strings.Contains(b.Catalogue(t), ",manager,") && strings.Contains(b.Catalogue(t), "member (gauge_team,manager") {
		t.Error("it is a member still")
	}
	b.delete("gauges")
	b.wantSame("the catalogue after the deletion", b.Catalogue(t), before)
}
