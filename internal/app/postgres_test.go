package app

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/run"
)

const gaugesTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 }, { profile: brickrow.postgresql:1 } ]
service_template:
  inputs:
    port: { type: Port }
    word: { type: Secret }
    writer_word: { type: Secret, default: "it's a 'secret' \\ word" }
    writer: { type: string, default: 'gauge "writer"' }
    stations: { type: integer, default: 5 }
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
