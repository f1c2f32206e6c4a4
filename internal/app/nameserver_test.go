package app

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/nameserver"
	"brickrow/internal/nameserver/nameservertest"
	"brickrow/internal/run"
)

const namesTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 }, { profile: brickrow.dns:1 } ]
service_template:
  inputs:
    port: { type: Port }
    key: { type: Secret }
    addresses: { type: list, entry_schema: string, default: [ 192.0.2.10, 192.0.2.11 ] }
    word: { type: string, default: 'it''s "snow"; \ more' }
  node_templates:
    names: { type: DnsConnection, properties: { server: 127.0.0.1, port: { $get_input: port }, key_name: ridge-key, key: { $get_input: key }, within: 2 s } }
    www: { type: DnsRecords, properties: { zone: kestrelridge.example, name: www, kind: A, ttl: 10 m, values: { $get_input: addresses } }, requirements: [ { through: names } ] }
    six: { type: DnsRecords, properties: { zone: kestrelridge.example, name: www, kind: AAAA, values: [ "2001:DB8::0010" ] }, requirements: [ { through: names } ] }
    words: { type: DnsRecords, properties: { zone: kestrelridge.example., name: WWW.kestrelridge.example., kind: TXT, values: [ { $get_input: word }, "v=spf1 -all" ] }, requirements: [ { through: names } ] }
    maps: { type: DnsRecords, properties: { zone: kestrelridge.example, name: maps, kind: CNAME, values: [ www ] }, requirements: [ { through: names } ] }
    post: { type: DnsRecords, properties: { zone: kestrelridge.example, name: "@", kind: MX, ttl: 1 h, values: [ 10 ns, "20 Elsewhere.example." ] }, requirements: [ { through: names } ] }
    rest: { type: DnsRecords, properties: { zone: kestrelridge.example, name: _ldap._tcp, kind: SRV, values: [ 0 5 389 www ] }, requirements: [ { through: names } ] }
    who: { type: DnsRecords, properties: { zone: kestrelridge.example, name: "0/25.pool", kind: PTR, values: [ www ] }, requirements: [ { through: names } ] }
`

type naming struct {
	*bench
	*nameservertest.Server
}

func newNames(t *testing.T) naming {
	b := naming{newBench(t, 300), nameservertest.Start(t)}
	b.write("names.yaml", namesTemplate)
	b.write("key", nameservertest.Key)
	b.write("names.stack.yaml", fmt.Sprintf("stack: names\ntemplate: names.yaml\ntarget: workshop/alder-1\nthrowaway: true\ninputs: { port: %s, key: { from_file: key } }\n", b.Port))
	return b
}

// Records of a real name server are made, compared, changed, put back and removed; nothing of another's
// is touched.
func TestNameServer(t *testing.T) {
	long(t)
	t.Parallel()
	b := newNames(t)
	empty := b.All(t)
	b.deploy(run.StatusDone, "names.stack.yaml")
	if p := b.preview("names.stack.yaml"); !p.Empty() {
		for _, ch := range p.Changes {
			if ch.Kind != "same" {
				t.Errorf("%s %s %+v", ch.Kind, ch.Name, ch.Properties)
			}
		}
		t.FailNow()
	}
	full := b.All(t)
	b.has(full, `www.kestrelridge.example. 300 IN TXT "it's \"snow\"; \\ more"`, "www.kestrelridge.example. 600 IN A 192.0.2.11", "kestrelridge.example. 3600 IN MX 10 ns.kestrelridge.example.")

	// By hand: more, less, for another time, and gone.
	hand := func(want string, do func()) {
		t.Helper()
		do()
		d, err := b.Drift(t.Context(), b.stack("names"))
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
		b.wantSame("what differs", strings.Join(said, ", "), want)
		p, err := b.WhatIfPutBack(t.Context(), b.stack("names"))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(p, "undo"); r.State != run.StatusDone {
			t.Fatalf("put back: %s", r.Reason)
		}
		b.wantSame("the zone after "+want+" was put back", b.All(t), full)
	}
	hand("www values", func() { b.Change(t, false, "www.kestrelridge.example. 600 IN A 192.0.2.66") })
	hand("www values", func() { b.Change(t, true, "www.kestrelridge.example. 600 IN A 192.0.2.10") })
	hand("maps gone", func() { b.Change(t, true, "maps.kestrelridge.example. 300 IN CNAME www.kestrelridge.example.") })
	hand("six ttl, six values", func() { b.Change(t, false, "www.kestrelridge.example. 60 IN AAAA 2001:db8::66") })

	// A failure at any of them leaves the zone as it was; a lost answer makes nothing twice.
	f := &failing{Kind: b.connections.Kinds[nameserver.Connection], ids: map[string]string{}}
	b.connections.Kinds[nameserver.Connection] = f
	b.connections.Close()
	for _, name := range b.recordedNames("names") {
		_, there := cloud.WayOf(b.idIn("names", name))
		f.ids[there] = name
	}
	b.write("names.yaml", strings.NewReplacer("ttl: 1 h", "ttl: 2 h", "2001:DB8::0010", "2001:db8::11", "values: [ www ]", "values: [ other.example. ]", "389", "636", "name: maps", "name: charts").Replace(namesTemplate))
	flags := []string{"addresses=[ 192.0.2.20 ]", "word=thaw"}
	for _, name := range b.recordedNames("names") {
		for _, f.lose = range []bool{false, true} {
			if name == "names" {
				continue
			}
			f.node = name
			r := b.carry(b.preview("names.stack.yaml", flags...), "undo")
			if want := map[bool]run.Status{false: run.StatusUndone, true: run.StatusDone}[f.lose]; r.State != want {
				t.Fatalf("%s: %s %s", name, r.State, r.Reason)
			}
			if f.lose {
				p, err := b.WhatIfUndo(t.Context(), b.stack("names"), 0)
				if err != nil {
					t.Fatal(err)
				}
				if r := b.carry(p, "undo"); r.State != run.StatusDone {
					t.Fatalf("going back: %s", r.Reason)
				}
			}
			b.wantSame("the zone after "+name, b.All(t), full)
		}
	}

	// What others have is not overwritten; it is adopted, or left alone.
	old := strings.Replace(namesTemplate, "    www:", "    old: { type: DnsRecords, properties: { zone: kestrelridge.example, name: old, kind: A, values: [ 192.0.2.99 ] }, requirements: [ { through: names } ] }\n    www:", 1)
	foreseen := func(what, want string) {
		t.Helper()
		b.write("names.yaml", strings.Replace(old, "name: old, kind: A, values: [ 192.0.2.99 ]", what, 1))
		if p := b.preview("names.stack.yaml"); !strings.Contains(fmt.Sprint(p.Findings), want) {
			t.Errorf("%s: %v", what, p.Findings)
		}
	}
	foreseen("name: old, kind: A, values: [ 192.0.2.99 ]", "old: name 'old' is taken by ")
	foreseen("name: OLD.kestrelridge.example., kind: CNAME, values: [ www ]", "is taken by ")
	foreseen(`name: more, kind: A, values: [ "192.0.2.99\nwww 300 IN A 192.0.2.1" ]`, "is no value of a record of the kind A")
	foreseen("name: more, kind: AAAA, values: [ 192.0.2.99 ]", "'192.0.2.99' is no value of a record of the kind AAAA")
	foreseen("name: more, kind: MX, values: [ ten ns ]", "'ten ns' is no value of a record of the kind MX")
	meanwhile := func(what, made, want string) {
		t.Helper()
		b.write("names.yaml", strings.Replace(old, "zone: kestrelridge.example, name: old, kind: A, values: [ 192.0.2.99 ]", what, 1))
		p := b.preview("names.stack.yaml")
		if made != "" {
			b.Change(t, false, made)
			defer b.Change(t, true, made)
		}
		if r := b.carry(p, "undo"); r.State != run.StatusUndone || !strings.Contains(r.Reason, want) {
			t.Fatalf("%s %s", r.State, r.Reason)
		}
	}
	meanwhile("zone: kestrelridge.example, name: late, kind: A, values: [ 192.0.2.99 ]", "late.kestrelridge.example. 300 IN A 192.0.2.7", "late.kestrelridge.example. has records of the kind A already")
	meanwhile("zone: kestrelridge.example, name: late, kind: CNAME, values: [ www ]", "late.kestrelridge.example. 300 IN A 192.0.2.7", "a CNAME stands alone")
	meanwhile("zone: elsewhere.example, name: late, kind: A, values: [ 192.0.2.99 ]", "", "the server is not the authority for the zone elsewhere.example.")
	b.wantSame("the zone after that was refused", b.All(t), full)
	b.write("names.yaml", old)
	stackFile, err := os.ReadFile(filepath.Join(b.dir, "names.stack.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	b.write("names.stack.yaml", string(stackFile)+"adopt: { old: "+b.idIn("names", "names")+"/records~A~old.kestrelridge.example.~kestrelridge.example. }\n")
	p := b.preview("names.stack.yaml")
	if p.Change("old") == nil || p.Change("old").Kind != "adopt" {
		t.Fatalf("%v", p.Findings)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	b.wantSame("the zone after adopting", b.All(t), full)
	b.delete("names")
	b.wantSame("the zone after the deletion", b.All(t), strings.Replace(empty, "old.kestrelridge.example. 300 IN A 192.0.2.99\n", "", 1))

	// The key is told nowhere; a wrong one is, as wrong.
	_ = filepath.WalkDir(b.Home, func(path string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			if text, err := os.ReadFile(path); err != nil || strings.Contains(string(text), nameservertest.Key) {
				t.Errorf("%s tells the key (%v)", path, err)
			}
		}
		return nil
	})
	b.write("key", "bm90IHRoZSByaWdodCBrZXkgYXQgYWxs")
	b.write("names.yaml", namesTemplate)
	b.write("names.stack.yaml", string(stackFile))
	if r := b.carry(b.preview("names.stack.yaml"), "undo"); r.State != run.StatusUndone || !strings.Contains(r.Reason, "is not the one that the server knows by that name") {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
}
