package app

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// poolTemplate is a load balancer with servers behind it, of which one group and one server
// finish their work before they go.
const poolTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { size: { type: string, default: small }, image: { type: string, default: fern-12 }, keep: { type: string, default: 1 d }, wait: { type: Duration, default: 1 m } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    gate: { type: LoadBalancer, properties: { listeners: [ { port: 80, target_port: 8080 } ] }, requirements: [ { subnet: sub } ] }
    post: { type: Server, properties: { size: { $get_input: size }, image: { $get_input: image } }, requirements: [ { subnet: sub }, { behind: gate } ] }
    note: { type: Queue, properties: { keep: { $get_input: keep } } }
    last: { type: Topic, properties: { label: { $concat: [ { $get_attribute: [ post, private_address ] }, { $get_input: image } ] }, tags: { keep: { $get_input: keep } } } }
  policies:
    - finish: { type: Drain, targets: [ post ], properties: { wait: { $get_input: wait } } }
`

func newPool(t *testing.T, policy bool) *bench {
	b := newBench(t, 5000)
	b.t = t
	text := poolTemplate
	if !policy {
		text, _, _ = strings.Cut(text, "  policies:")
		text = strings.ReplaceAll(text, ", wait: { type: Duration, default: 1 m }", "")
	}
	b.write("pool.yaml", text)
	b.write("pool.stack.yaml", "stack: terrace\ntemplate: pool.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "pool.stack.yaml")
	return b
}

func (b *bench) cutOff() int {
	b.t.Helper()
	n, err := b.Door.CutOff(b.t.Context(), "workshop")
	if err != nil {
		b.t.Fatal(err)
	}
	return n
}

// Where the policy says so, nothing is cut off when a server is swapped, restarted, taken
// back or removed; without it, it is.
func TestDraining(t *testing.T) {
	long(t)
	for _, policy := range []bool{true, false} {
		b := newPool(t, policy)
		steps := func(r *run.Record, phase run.Phase) string {
			whole, err := b.store.Run(t.Context(), r.ID)
			if err != nil {
				t.Fatal(err)
			}
			var out []string
			for _, s := range whole.Plan.Steps {
				if s.Action == run.Drain && s.Phase == phase {
					out = append(out, s.Resource)
				}
			}
			return strings.Join(out, " ")
		}
		swap := b.preview("pool.stack.yaml", "image=fern-13")
		if drains := swap.Change("post").Drains(); (drains > 0) != policy {
			t.Errorf("policy %t: it has %s", policy, drains)
		}
		r := b.carry(swap, stack.Undo)
		if got := steps(r, run.PhaseSweep); (got == "post") != policy || r.State != run.StatusDone {
			t.Errorf("policy %t: %s drains %q %s", policy, r.State, got, r.Reason)
		}
		r = b.deploy(run.StatusDone, "pool.stack.yaml", "image=fern-13", "size=medium") // which restarts it
		if got := steps(r, run.PhaseBuild); (got == "post") != policy {
			t.Errorf("policy %t: before the restart it drains %q", policy, got)
		}
		b.fault(yard.Fault{Name: "last", Times: 1})
		before := b.listing("terrace")
		b.deploy(run.StatusUndone, "pool.stack.yaml", "image=fern-12", "size=medium")
		b.clearFaults()
		b.fault(yard.Fault{Name: "note", On: "update", At: "last", Times: 1})
		b.deploy(run.StatusUndone, "pool.stack.yaml", "image=fern-13", "size=large", "keep=2 d")
		b.clearFaults()
		if got := b.listing("terrace"); got != before {
			t.Errorf("policy %t: before:\n%s\nafter:\n%s", policy, before, got)
		}
		gone, err := b.WhatIfDelete(t.Context(), b.stack("terrace"))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(gone, stack.Undo); r.State != run.StatusDone {
			t.Fatalf("%s %s", r.State, r.Reason)
		}
		if n := b.cutOff(); (n == 0) != policy {
			t.Errorf("policy %t: %d requests were cut off", policy, n)
		}
	}
}

// A wait that is too short cuts off what is not done by then, and says how long it was.
func TestAWaitThatIsTooShort(t *testing.T) {
	b := newPool(t, true)
	b.deploy(run.StatusDone, "pool.stack.yaml", "wait=1 ms") // the policy alone
	p := b.preview("pool.stack.yaml", "wait=1 ms", "size=medium")
	risk := ""
	for _, r := range p.Risks {
		risk += r.Text
	}
	b.has(risk, "it finishes its work first, within 1 ms")
	b.carry(p, stack.Undo)
	if n := b.cutOff(); n != 1 {
		t.Errorf("%d requests were cut off", n)
	}
}

// A fault in it, and a kill at every moment: it ends as without that, and nothing is cut
// off.
func TestKilledWhileDraining(t *testing.T) {
	long(t)
	for _, peril := range []struct {
		name   string
		faults []yard.Fault
		flags  []string
	}{
		{"a swap", nil, []string{"image=fern-13"}},
		{"a restart", nil, []string{"size=medium"}},
		{"draining fails", []yard.Fault{{Name: "post", On: "drain", Times: 1}}, []string{"size=medium"}},
		{"coming back fails", []yard.Fault{{Name: "post", On: "update", Times: 1}, {Name: "post", On: "refill", Times: 1}}, []string{"size=medium"}},
		{"what comes after fails", []yard.Fault{{Name: "last", Times: 1}}, []string{"image=fern-13"}},
	} {
		t.Run(strings.ReplaceAll(peril.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			b := newPool(t, true)
			for n := int64(0); ; n = later(n) {
				before := b.idless("terrace")
				for _, f := range peril.faults {
					b.fault(f)
				}
				ticket, err := b.Prepare(t.Context(), b.preview("pool.stack.yaml", peril.flags...), stack.Undo)
				if err != nil {
					t.Fatal(err)
				}
				var deaths []int64
				if n > 0 {
					deaths = []int64{n}
				}
				r, moments := b.ends(t, ticket, deaths...)
				for range 3 {
					if r.State != run.StatusStuck {
						break
					}
					again, err := b.Resume(t.Context(), b.stack("terrace"), On)
					if err != nil {
						t.Fatal(err)
					}
					if r, err = b.Execute(t.Context(), again.Run.ID, again.Token); err != nil {
						t.Fatal(err)
					}
				}
				b.clearFaults()
				what := fmt.Sprintf("killed at %d, %s", n, r.State)
				switch r.State {
				case run.StatusUndone:
					if got := b.idless("terrace"); got != before {
						t.Fatalf("%s: before:\n%s\nafter:\n%s", what, before, got)
					}
				case run.StatusDone:
					b.deploy(run.StatusDone, "pool.stack.yaml")
				default:
					t.Fatalf("%s: %s", what, r.Reason)
				}
				b.wantRecordIs("terrace")
				if p := b.preview("pool.stack.yaml"); !p.Empty() {
					t.Fatalf("%s: there is left %s", what, doesWithout(p))
				}
				if n > moments {
					break
				}
			}
			if n := b.cutOff(); n != 0 {
				t.Errorf("%d requests were cut off", n)
			}
		})
	}
}
