package app

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// gateTemplate is a gate with a group of servers behind it, a name for it, and probes.
const gateTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    want: { type: integer, default: 2 }
    label: { type: string, default: gate }
    token: { type: Secret, default: dripping-stone }
    extra: { type: string, default: "http://bulletin.ridge.example/alive" }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    open: { type: Rules, properties: { allow: [ { ports: "80", peer: 0.0.0.0/0 } ] }, requirements: [ { network: net } ] }
    gate: { type: LoadBalancer, properties: { label: { $get_input: label }, listeners: [ { port: 80, target_port: 8080 } ] }, requirements: [ { subnet: sub }, { rules: open } ] }
    crew: { type: ServerGroup, properties: { size: small, image: fern-12, min: 0, max: 4, want: { $get_input: want } }, requirements: [ { subnet: sub }, { behind: gate } ] }
    zone: { type: Zone, properties: { domain: ridge.example } }
    name: { type: Record, properties: { name: bulletin, kind: A, values: [ { $get_attribute: [ gate, address ] } ] }, requirements: [ { zone: zone } ] }
  policies:
    - alive: { type: Probe, targets: [ gate ], properties: { url: { $concat: [ http://, { $get_attribute: [ gate, address ] }, "/?key=", { $get_input: token } ] }, body: ^ok, within: 300 ms, every: 50 ms } }
    - named: { type: Probe, targets: [ name, crew ], properties: { url: { $get_input: extra }, within: 300 ms, every: 50 ms } }
    - door: { type: Probe, targets: [ gate ], properties: { kind: tcp, url: { $concat: [ tcp://, { $get_attribute: [ gate, address ] }, ":80" ] }, within: 300 ms, every: 50 ms } }
`

func newGate(t *testing.T) *bench {
	b := newBench(t, 5000)
	b.write("gate.yaml", gateTemplate)
	b.write("gate.stack.yaml", "stack: gate\ntemplate: gate.yaml\ntarget: workshop/alder-1\n")
	return b
}

// A run counts only when its probes pass; one that fails undoes it like a resource.
func TestProbes(t *testing.T) {
	b := newGate(t)
	p := b.preview("gate.stack.yaml")
	if p.Findings.HasErrors() || len(p.Probes) != 3 {
		t.Fatalf("%v %v", p.Findings, p.Probes)
	}
	b.has(p.Markdown(), "## Probes", "`named` asks http://bulletin.ridge.example/alive, wants the status 200 within 0.3 s")
	r := b.carry(p, stack.Undo)
	if r.State != run.StatusDone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	events, err := b.Events(t.Context(), r.ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	built, asked := int64(0), int64(0)
	for _, e := range events {
		if strings.Contains(e.Step+e.Reason, "dripping") {
			t.Errorf("a secret is told: %+v", e)
		}
		switch {
		case e.Resource != "" && e.Type != "Probe" && e.State == run.IsReady:
			built = e.Seq
		case e.Type == "Probe" && asked == 0:
			asked = e.Seq
		}
	}
	if asked < built {
		t.Error("it is asked before all is built")
	}
	list, err := b.Probes(t.Context(), b.stack("gate"))
	if err != nil || len(list) != 3 {
		t.Fatalf("%v %v", list, err)
	}
	for _, pr := range list {
		if !pr.Well {
			t.Errorf("%+v", pr)
		}
	}

	// Nobody stands behind the gate any more: the gate says so, and the run is undone.
	before := b.listing("gate")
	r = b.deploy(run.StatusUndone, "gate.stack.yaml", "want=0")
	if got := b.listing("gate"); got != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, got)
	}
	rep := b.report("gate")
	if len(rep.Failures) != 2 {
		t.Fatalf("%+v", rep.Failures)
	}
	b.has(rowsOf(&rep.Failures[0]), "it answers 503, and 200 is wanted: no server is behind loadbalancer~", "template: gate.yaml:1", "asked ")
	b.has(fmt.Sprint(r.Reason), "probe alive: it answers 503")
	if p := b.preview("gate.stack.yaml"); !p.Empty() || len(p.Probes) != 0 {
		t.Errorf("%s", p.Tally)
	}

	// Held, it is asked again on going on.
	r = b.carry(b.preview("gate.stack.yaml", "want=0"), stack.Hold)
	if r.State != run.StatusHeld {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	ticket, err := b.Resume(t.Context(), b.stack("gate"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusHeld {
		t.Fatalf("%v %s", err, r.State)
	}
	if list, err = b.Probes(t.Context(), b.stack("gate")); err != nil || list[0].Well {
		t.Errorf("%v %+v", err, list)
	}
	b.carry(b.preview("gate.stack.yaml"), stack.Undo)

	// A rehearsal knows them.
	re, err := b.Rehearse(b.preview("gate.stack.yaml", "want=1"), "probe named")
	if err != nil || len(re.Undo) != 1 || re.Undo[0].Resource != "crew" {
		t.Errorf("%v %+v", err, re)
	}
}

// An address elsewhere is asked from here, until it is well.
func TestAProbeElsewhere(t *testing.T) {
	long(t)
	b := newGate(t)
	var calls atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if calls.Add(1) < 3 {
			w.WriteHeader(http.StatusBadGateway)
		}
	}))
	defer server.Close()
	b.deploy(run.StatusDone, "gate.stack.yaml", "extra="+server.URL)
	if calls.Load() != 3 {
		t.Errorf("it was asked %d times", calls.Load())
	}
	server.Close()
	began := time.Now()
	b.deploy(run.StatusUndone, "gate.stack.yaml", "extra="+server.URL, "label=other")
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("it took %s to give up", took)
	}
}

// A run that is killed while it asks goes on, or back, and ends as without that.
func TestKilledWhileAsking(t *testing.T) {
	long(t)
	for _, want := range []string{"2", "0"} {
		b := newGate(t)
		b.deploy(run.StatusDone, "gate.stack.yaml", "want=1")
		before := b.listing("gate")
		for n := int64(1); ; n = later(n) {
			ticket, err := b.Prepare(t.Context(), b.preview("gate.stack.yaml", "want="+want), stack.Undo)
			if err != nil {
				t.Fatal(err)
			}
			b.mortal(n)
			r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
			b.halt = nil
			killed := errors.Is(err, errDied)
			if killed {
				if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil {
					t.Fatal(err)
				}
				way := On
				if n%2 == 0 {
					way = Back
				}
				if ticket, err = b.Resume(t.Context(), b.stack("gate"), way); err != nil {
					t.Fatal(err)
				}
				r, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
			}
			if err != nil || want == "0" && r.State != run.StatusUndone || want == "2" && r.State == run.StatusStuck {
				t.Fatalf("killed at %d, want=%s: %v %s %s", n, want, err, r.State, r.Reason)
			}
			if r.State == run.StatusDone {
				b.deploy(run.StatusDone, "gate.stack.yaml", "want=1")
			}
			if got := b.listing("gate"); got != before {
				t.Fatalf("killed at %d, want=%s:\n%s\nafter:\n%s", n, want, before, got)
			}
			if !killed {
				break
			}
		}
	}
}

// What is not reachable from outside, or not there, does not answer.
func TestWhatTheYardAnswers(t *testing.T) {
	long(t)
	b := newGate(t)
	b.deploy(run.StatusDone, "gate.stack.yaml")
	address := ""
	list, err := b.Cloud.List(t.Context(), stack.Target{Account: "workshop", Region: "alder-1"}, "gate")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range list {
		if r.Type == "LoadBalancer" {
			address = r.Attributes["address"].(string)
		}
	}
	for url, want := range map[string]string{
		"http://" + address: "it answers 200", "http://bulletin.ridge.example": "it answers 200",
		"http://" + address + ":8080": "the rules of loadbalancer~", "https://" + address: "the rules of loadbalancer~"} {
		q := stack.Question{Kind: "http", URL: tosca.String(url), Expect: 200}
		said, err := asker{b.App, stack.Target{Account: "workshop", Region: "alder-1"}}.Ask(t.Context(), q)
		if !strings.Contains(said+fmt.Sprint(err), want) {
			t.Errorf("%s: %s %v", url, said, err)
		}
	}
}
