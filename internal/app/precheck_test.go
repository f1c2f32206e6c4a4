package app

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// listener notes the codes with which the cloud refuses.
type listener struct {
	http.RoundTripper
	codes []string
}

func (l *listener) RoundTrip(req *http.Request) (*http.Response, error) {
	resp, err := l.RoundTripper.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return nil, err
	}
	resp.Body = io.NopCloser(bytes.NewReader(body))
	var p cloud.Problem
	if resp.StatusCode >= 400 && json.Unmarshal(body, &p) == nil {
		l.codes = append(l.codes, p.Type)
	}
	var o cloud.Operation
	if json.Unmarshal(body, &o) == nil && o.Problem != nil {
		l.codes = append(l.codes, o.Problem.Type)
	}
	return resp, nil
}

const (
	network = "    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n"
	subnet  = network + "    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }\n"
	other   = "imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n"
)

// refused is, for each code that the target has to find, templates that the
// yard refuses with it; the line of the finding is the one that says HERE.
var refused = []struct {
	code, text string
	before     func(b *bench) // what is done before
	hand       bool           // the yard says it when it is asked by hand only
}{
	{code: "bad-range", text: "    net: { type: Network, properties: { cidr: 10.0.0.0/30 } } # HERE\n"},
	{code: "bad-range", text: "    net: { type: Network, properties: { cidr: 10.0.0.1/16 } } # HERE\n"},
	{code: "bad-range", text: network +
		"    sub: { type: Subnet, properties: { cidr: 10.0.1.1/24 }, requirements: [ { network: net } ] } # HERE\n"},
	{code: "range-outside", text: network +
		"    sub: { type: Subnet, properties: { cidr: 10.1.1.0/24 }, requirements: [ { network: net } ] } # HERE\n"},
	{code: "range-overlap", text: subnet +
		"    two: { type: Subnet, properties: { cidr: 10.0.0.0/20 }, requirements: [ { network: net } ] } # HERE\n"},
	{code: "range-overlap", text: selected("Network", "net",
		"10.0.0.0/16") + "    sub: { type: Subnet, properties: { cidr: 10.0.1.128/25 }, requirements: [ { network: net } ] } # HERE\n", before: standing},
	{code: "one-router", text: network +
		"    a: { type: Router, requirements: [ { network: net } ] }\n    b: { type: Router, requirements: [ { network: net } ] } # HERE\n"},
	{code: "one-router", text: selected("Network", "net",
		"10.0.0.0/16") + "    a: { type: Router, requirements: [ { network: net } ] } # HERE\n", before: standing},
	{code: "bad-ports", text: network +
		"    r: { type: Rules, properties: { allow: [ { ports: 90-80, peer: 10.0.0.0/8 } ] }, requirements: [ { network: net } ] } # HERE\n"},
	{code: "no-such-image", text: subnet +
		"    s: { type: Server, properties: { size: small, image: fern-99 }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "no-such-image", text: subnet +
		"    s: { type: ServerGroup, properties: { size: small, image: moss-1, max: 1, want: 1 }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "wrong-role", text: "    r: { type: Role, properties: { for: server } }\n    f: { type: Function, properties: { runtime: go-1 }, requirements: [ { role: r } ] } # HERE\n"},
	{code: "wrong-role", text: subnet +
		"    r: { type: Role, properties: { for: function } }\n    s: { type: Server, properties: { size: small, image: moss-3 }, requirements: [ { subnet: sub }, { role: r } ] } # HERE\n"},
	{code: "wrong-role", text: subnet +
		"    r: { type: Role, properties: { for: function } }\n    c: { type: Cluster, properties: { version: \"6\", node_size: small }, requirements: [ { subnet: sub }, { role: r } ] } # HERE\n"},
	{code: "address-taken", text: subnet +
		"    ip: { type: Address }\n    a: { type: Server, properties: { size: small, image: moss-3 }, requirements: [ { subnet: sub }, { address: ip } ] }\n    b: { type: Server, properties: { size: small, image: moss-3 }, requirements: [ { subnet: sub }, { address: ip } ] } # HERE\n"},
	{code: "subnet-full", text: network +
		"    sub: { type: Subnet, properties: { cidr: 10.0.1.0/29 }, requirements: [ { network: net } ] }\n    g: { type: ServerGroup, properties: { size: small, image: moss-3, max: 9, want: 4 }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "no-address", text: subnet +
		"    many: { type: LoadBalancer, count: 127, properties: { listeners: [ { port: 80, target_port: 80 } ] }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "bad-numbers", text: subnet +
		"    g: { type: ServerGroup, properties: { size: small, image: moss-3, min: 3, max: 9, want: 2 }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "bad-numbers", text: subnet +
		"    g: { type: ServerGroup, properties: { size: small, image: moss-3, max: 900, want: 101 }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "port-twice", text: subnet +
		"    l: { type: LoadBalancer, properties: { listeners: [ { port: 80, target_port: 80 }, { port: 80, target_port: 81 } ] }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "bad-address",
		text: "    t: { type: Topic }\n    s: { type: Subscription, properties: { to: nobody }, requirements: [ { topic: t } ] } # HERE\n"},
	{code: "bad-address",
		text: "    z: { type: Zone, properties: { domain: a.example } }\n    r: { type: Record, properties: { name: www, kind: A, values: [ www.a.example ] }, requirements: [ { zone: z } ] } # HERE\n"},
	{code: "no-such-version", text: subnet +
		"    d: { type: Database, properties: { engine: document, version: \"15\", size: small, storage: 1 GiB, admin: a, password: { $get_input: pw } }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "bad-schedule",
		text: "    r: { type: Role, properties: { for: function } }\n    f: { type: Function, properties: { runtime: go-1 }, requirements: [ { role: r } ] }\n    s: { type: Schedule, properties: { every: 99 * * * * }, requirements: [ { runs: f } ] } # HERE\n"},
	{code: "wrong-network", text: network +
		"    far: { type: Network, properties: { cidr: 10.5.0.0/16 } }\n    r: { type: Router, requirements: [ { network: far } ] }\n    out: { type: Route, properties: { to: 0.0.0.0/0 }, requirements: [ { network: net }, { via: r } ] } # HERE\n"},
	{code: "wrong-record",
		text: "    z: { type: Zone, properties: { domain: a.example } }\n    r: { type: Record, properties: { name: www, kind: TXT, values: [ x ] }, requirements: [ { zone: z } ] }\n    c: { type: Certificate, properties: { domain: b.example }, requirements: [ { record: r } ] } # HERE\n"},
	{code: "wrong-port", text: subnet +
		"    r: { type: Role, properties: { for: cluster } }\n    c: { type: Cluster, properties: { version: \"6\", node_size: small }, requirements: [ { subnet: sub }, { role: r } ] }\n    w: { type: Workload, properties: { image: x, port: 80 }, requirements: [ { cluster: c } ] }\n    s: { type: Service, properties: { port: 80, target_port: 81 }, requirements: [ { workload: w } ] } # HERE\n"},
	{code: "name-taken", text: "    a: { type: Bucket, properties: { name: same-name } }\n    b: { type: Bucket, properties: { name: same-name } } # HERE\n"},
	{code: "name-taken", text: "    b: { type: Bucket, properties: { name: kestrel-standing } } # HERE\n",
		before: standing},
	{code: "name-taken", text: "    b: { type: Bucket, properties: { name: kestrel-far } } # HERE\n",
		before: func(b *bench) {
			b.make(stack.Target{Account: "summit", Region: "alder-1"},
				cloud.Request{Type: "Bucket", Properties: map[string]any{"name": "kestrel-far"}})
		}},
	{code: "name-taken", text: "    z: { type: Zone, properties: { domain: standing.example } } # HERE\n",
		before: standing},
	{code: "name-taken", text: network +
		"    r: { type: Router, requirements: [ { network: net } ] }\n    a: { type: Route, properties: { to: 0.0.0.0/0 }, requirements: [ { network: net }, { via: r } ] }\n    b: { type: Route, properties: { to: 0.0.0.0/0 }, requirements: [ { network: net }, { via: r } ] } # HERE\n"},
	{code: "name-taken", text: "    z: { type: Zone, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, domain ] }, standing.example ] } }\n    r: { type: Record, properties: { name: www, kind: TXT, values: [ x ] }, requirements: [ { zone: z } ] } # HERE\n", before: standing},
	{code: "quota", text: "    n: { type: Network, count: 6, properties: { cidr: 10.0.0.0/16 } } # HERE\n"},
	{code: "quota", text: "    n: { type: Address, count: 5 } # HERE\n", before: standing},
	{code: "permission", text: subnet +
		"    s: { type: Server, properties: { size: small, image: moss-3, needs: [ queue:read ] }, requirements: [ { subnet: sub } ] } # HERE\n"},
	{code: "permission", text: subnet +
		"    q: { type: Queue }\n    r: { type: Role, properties: { for: cluster } }\n    g: { type: Grant, properties: { actions: [ queue:write ] }, requirements: [ { role: r }, { on: q } ] }\n    c: { type: Cluster, properties: { version: \"6\", node_size: small }, requirements: [ { subnet: sub }, { role: r } ] }\n    w: { type: Workload, properties: { image: x, needs: [ queue:read ] }, requirements: [ { cluster: c } ] } # HERE\n"},
	{code: "not-permitted", text: "    t: { type: Topic } # HERE\n", before: func(b *bench) {
		if err := b.Door.Permit(b.t.Context(),
			yard.Permission{Account: "workshop", Actions: []string{"network:*", "*:change"}}); err != nil {
			b.t.Fatal(err)
		}
	}},
	{code: "not-ready", text: "    t: { type: Topic, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, label ] }, broken ] } }\n    s: { type: Subscription, properties: { to: a@b.example }, requirements: [ { topic: t } ] } # HERE\n", before: func(b *bench) {
		b.fault(yard.Fault{Type: "Topic", Reason: "broken", Times: 1})
		b.make(workshop, cloud.Request{Type: "Topic", Properties: map[string]any{"label": "broken"}})
	}},
}

var workshop = stack.Target{Account: "workshop", Region: "alder-1"}

// selected is a network that is there already.
func selected(typ, name, cidr string) string {
	return fmt.Sprintf("    %s: { type: %s, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, cidr ] }, %s ] } }\n", name, typ, cidr)
}

// standing makes things in the cloud that belong to no stack.
func standing(b *bench) {
	net := b.make(workshop, cloud.Request{Type: "Network", Properties: map[string]any{"cidr": "10.0.0.0/16"}})
	on := map[string][]string{"network": {net}}
	b.make(workshop, cloud.Request{Type: "Subnet", Properties: map[string]any{"cidr": "10.0.1.0/24"}, Links: on})
	b.make(workshop, cloud.Request{Type: "Router", Links: on})
	b.make(workshop, cloud.Request{Type: "Bucket", Properties: map[string]any{"name": "kestrel-standing"}})
	b.make(workshop, cloud.Request{Type: "Address"})
	zone := b.make(workshop, cloud.Request{Type: "Zone", Properties: map[string]any{"domain": "standing.example"}})
	b.make(workshop, cloud.Request{Type: "Record",
		Properties: map[string]any{"name": "www", "kind": "TXT", "values": []string{"x"}},
		Links:      map[string][]string{"zone": {zone}}})
}

// make makes a resource by hand, and yields its id.
func (b *bench) make(at stack.Target, r cloud.Request) string {
	b.t.Helper()
	b.made++
	o, err := b.Cloud.Create(b.t.Context(), at, fmt.Sprintf("by-hand-%d", b.made), r)
	for err == nil && !o.Ended() {
		o, err = b.Cloud.Operation(b.t.Context(), cloud.Ref{Target: at}, o.ID)
	}
	if err != nil {
		b.t.Fatal(err)
	}
	return o.ResourceID
}

// TestWhatTheYardRefusesIsFoundBefore goes through every refusal of the yard
// that checking has to find: the check must say it, at its line, and the yard
// must really refuse it when it is asked all the same.
func TestWhatTheYardRefusesIsFoundBefore(t *testing.T) {
	long(t)
	// in-use and unknown-target are tested below, not-empty by TestWhatThingsHoldIsToldBefore
	seen := map[string]bool{"in-use": true, "unknown-target": true, "not-empty": true}
	for i, test := range refused {
		seen[test.code] = true
		t.Run(fmt.Sprintf("%s %d", test.code, i), func(t *testing.T) {
			t.Parallel()
			b := newBench(t, 100_000)
			if test.before != nil {
				test.before(b)
			}
			text := head + strings.Replace(other, "  node_templates",
				"  inputs: { pw: { type: Secret } }\n  node_templates", 1) + test.text
			b.write("t.yaml", text)
			b.write("t.stack.yaml",
				"stack: tested\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { pw: { from_file: secrets/db_password } }\n")
			line := 1 + strings.Count(text[:strings.Index(text, "# HERE")], "\n")
			path := filepath.Join(b.dir, "t.stack.yaml")
			findings, err := b.CheckTarget(t.Context(), path, Values{})
			if err != nil {
				t.Fatal(err)
			}
			found := false
			for _, f := range findings {
				found = found || f.Code == test.code && f.Line == line && f.Severity == "error"
				if f.Code != test.code && f.Severity == "error" {
					t.Errorf("it also says %s", f)
				}
			}
			if !found {
				t.Errorf("line %d: found %v, want %s", line, findings, test.code)
			}
			// and the yard would refuse it
			heard := &listener{RoundTripper: b.Door.HTTP.Transport}
			b.Door.HTTP.Transport = heard
			d, err := b.Load(t.Context(), path, Values{})
			if err != nil {
				t.Fatal(err)
			}
			d.Findings = nil
			p, err := b.WhatIf(t.Context(), d)
			if err != nil {
				t.Fatal(err)
			}
			p.Findings = nil
			if r := b.carry(p, "undo"); r.State == run.StatusDone || !slices.Contains(heard.codes, test.code) {
				t.Errorf("the yard took it: %s, it refused with %v", r.State, heard.codes)
			}
		})
	}
	for code, before := range yard.Refusals {
		if before == yard.ByTarget && !seen[code] {
			t.Errorf("nothing tests that %s is found before", code)
		}
	}
}

func TestWhatOthersUseIsNotDropped(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("t.yaml", head+other+subnet)
	b.write("t.stack.yaml", "stack: tested\ntemplate: t.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "t.stack.yaml")
	list, err := b.Cloud.List(t.Context(), workshop, "tested")
	if err != nil || len(list) != 2 {
		t.Fatal(list, err)
	}
	b.make(workshop, cloud.Request{Type: "Server", Properties: map[string]any{"size": "small", "image": "fern-12"},
		Links: map[string][]string{"subnet": {list[1].ID}}})
	b.write("t.yaml", head+other+network)
	if codes := findingCodes(b.preview("t.stack.yaml")); codes != "in-use" {
		t.Errorf("found %s", codes)
	}
	b.write("t.stack.yaml", "stack: tested\ntemplate: t.yaml\ntarget: workshop/nowhere-1\n")
	if codes := findingCodes(b.preview("t.stack.yaml")); codes != "unknown-target" {
		t.Errorf("found %s", codes)
	}
}
