package app

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// signs is a stack whose second form has a record of another kind under the same name, of
// which no two can be there at once, and something on either side of it.
const signs = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { kind: { type: string, default: A }, to: { type: string, default: 10.1.2.3 }, keep: { type: string, default: 1 d } }
  node_templates:
    zone: { type: Zone, properties: { domain: signs.example } }
    note: { type: Queue, properties: { keep: { $get_input: keep } } }
    hut:
      type: Record
      properties: { name: hut, kind: { $get_input: kind }, values: [ { $get_input: to } ], tags: { hill: { $get_property: [ note, keep ] } } }
      requirements: [ { zone: zone } ]
    last: { type: Topic, properties: { label: { $get_attribute: [ hut, fqdn ] }, tags: { keep: { $get_input: keep } } } }
`

func newSigns(t *testing.T) *bench {
	b := newBench(t, 5000)
	b.t = t
	b.write("signs.yaml", signs)
	b.write("signs.stack.yaml", "stack: terrace\ntemplate: signs.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "signs.stack.yaml")
	return b
}

var otherSign = []string{"kind=CNAME", "to=ridge.example", "keep=2 d"}

// Of a swap of which no two can be there at once the old one goes first; the what-if says
// so.
func TestTheOldOneGoesFirst(t *testing.T) {
	b := newSigns(t)
	p := b.preview("signs.stack.yaml", otherSign...)
	ch := p.Change("hut")
	if p.Findings.HasErrors() || ch.Kind != whatif.Swap || !ch.DropFirst {
		t.Fatalf("%v %+v", p.Findings, ch)
	}
	risk := ""
	for _, r := range p.Risks {
		risk += string(r.Kind) + " " + r.Text + "\n"
	}
	b.has(risk, "interruption hut is removed before it is made anew, as no two can be there at once; it is away meanwhile for last")
	re, err := b.Rehearse(p, "last")
	if err != nil {
		t.Fatal(err)
	}
	b.has(strings.Join(re.Lines(), "\n"), "delete hut", "make again hut", "all would be as before")
	r := b.carry(p, stack.Undo)
	if r.State != run.StatusDone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	events, err := b.Events(t.Context(), r.ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := b.store.Run(t.Context(), r.ID)
	if err != nil {
		t.Fatal(err)
	}
	var steps []string
	for _, s := range run.Spans(whole.Plan, events) {
		if s.Step.Resource == "hut" {
			steps = append(steps, s.Step.ID)
		}
	}
	if got := strings.Join(steps, ", "); got != "remove hut first, create hut" {
		t.Errorf("its steps are %s", got)
	}
	if p := b.preview("signs.stack.yaml", otherSign...); !p.Empty() {
		t.Errorf("then there is left %s", p.Tally)
	}

	// What something is linked to cannot go first.
	b.write("signs.yaml", signs+"    seal: { type: Certificate, properties: { domain: hut.signs.example }, requirements: [ { record: hut } ] }\n")
	b.deploy(run.StatusDone, "signs.stack.yaml", otherSign...)
	if p := b.preview("signs.stack.yaml"); !strings.Contains(fmt.Sprint(p.Findings), "hut has to go before the new one can be made, and cannot: seal needs it") {
		t.Errorf("%v", p.Findings)
	}
}

// A fault at any step of it, and a kill at every moment, and it ends undone to what was
// there, or done; nothing is there twice.
func TestTheOldOneGoesFirstAndSomethingFails(t *testing.T) {
	long(t)
	for _, peril := range []struct {
		name   string
		faults []yard.Fault
		want   run.Status
	}{
		{"nothing fails", nil, run.StatusDone},
		{"the new one fails", []yard.Fault{{Name: "hut", On: "create", At: "last", Times: 1}}, run.StatusUndone},
		{"the new one is refused", []yard.Fault{{Name: "hut", On: "create", At: "call", Times: 1}}, run.StatusUndone},
		{"the old one does not go", []yard.Fault{{Name: "hut", On: "delete", Times: 1}}, run.StatusUndone},
		{"what comes after fails", []yard.Fault{{Name: "last", Times: 1}}, run.StatusUndone},
		{"the answer is lost", []yard.Fault{{Name: "hut", On: "create", Mode: "lose", Times: 1}, {Name: "last", Times: 1}}, run.StatusUndone},
		{"making it again fails once", []yard.Fault{{Name: "last", Times: 1}, {Name: "hut", On: "create", Times: 2, At: "never"}}, run.StatusUndone},
	} {
		t.Run(strings.ReplaceAll(peril.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			b := newSigns(t)
			before := b.idless("terrace")
			for n := int64(0); ; n = later(n) {
				for _, f := range peril.faults {
					b.fault(f)
				}
				ticket, err := b.Prepare(t.Context(), b.preview("signs.stack.yaml", otherSign...), stack.Undo)
				if err != nil {
					t.Fatal(err)
				}
				var deaths []int64
				if n > 0 {
					deaths = []int64{n}
				}
				r, moments := b.ends(t, ticket, deaths...)
				what := fmt.Sprintf("killed at %d", n)
				for range 3 { // stuck, it goes on when the fault is gone
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
				if n == 0 && r.State != peril.want && r.State != run.StatusUndone {
					t.Fatalf("%s ends %s: %s", what, r.State, r.Reason)
				}
				b.clearFaults()
				switch r.State {
				case run.StatusUndone:
					if got := b.idless("terrace"); got != before {
						t.Fatalf("%s: before:\n%s\nafter:\n%s", what, before, got)
					}
					if words := b.report("terrace").Standing; strings.Contains(words, "not all") {
						t.Errorf("%s: %s", what, words)
					}
				case run.StatusDone:
					b.wantRecordIs("terrace")
					b.deploy(run.StatusDone, "signs.stack.yaml")
				default:
					t.Fatalf("%s ends %s: %s", what, r.State, r.Reason)
				}
				b.wantRecordIs("terrace")
				if p := b.preview("signs.stack.yaml"); !p.Empty() {
					t.Fatalf("%s: there is left %s", what, doesWithout(p))
				}
				if n > moments {
					break
				}
			}
		})
	}
}

// idless is what a stack has in the cloud, without the ids, which are others after
// something was made again.
func (b *bench) idless(name string) string {
	b.t.Helper()
	list, err := b.Door.Everything(b.t.Context(), name)
	if err != nil {
		b.t.Fatal(err)
	}
	var out []string
	for _, r := range list {
		out = append(out, fmt.Sprint(r.Node, " ", r.Type, " ", r.Properties, " ", r.Tags))
	}
	text := strings.Join(out, "\n")
	for _, r := range list { // what is made of the id of another one goes with it
		text = strings.ReplaceAll(text, r.ID, "("+r.Node+")")
	}
	return text
}

// wantRecordIs wants the ids of the record to be just those of the cloud.
func (b *bench) wantRecordIs(name string) {
	b.t.Helper()
	current, old, err := b.store.Recorded(b.t.Context(), b.stack(name).ID)
	if err != nil {
		b.t.Fatal(err)
	}
	list, err := b.Door.Everything(b.t.Context(), name)
	if err != nil {
		b.t.Fatal(err)
	}
	there := map[string]bool{}
	for _, r := range list {
		there[r.ID] = true
	}
	for _, r := range append(current, old...) {
		if !there[r.ID] {
			b.t.Errorf("%s (%s) is recorded and not there", r.Name, r.ID)
		}
		delete(there, r.ID)
	}
	for id := range there {
		b.t.Errorf("%s is there and in no record", id)
	}
}

// What stays until the end of the run is in the way of a new one of its name under another
// node, and so is any record of the name of a CNAME; it is told before.
func TestNamesInTheWay(t *testing.T) {
	long(t)
	b := newSigns(t)
	move := func(kind string) string {
		return strings.Replace(strings.Replace(signs, "    hut:\n", "    cabin:\n", 1), "[ hut, fqdn ]", "[ cabin, fqdn ]", 1) + kind
	}
	b.write("signs.yaml", move(""))
	for _, flags := range [][]string{nil, otherSign} {
		if got := fmt.Sprint(b.preview("signs.stack.yaml", flags...).Findings); !strings.Contains(got,
			"cabin wants the name 'hut', and hut holds it until the end of the run") {
			t.Errorf("%s", got)
		}
	}
	b.write("signs.yaml", strings.Replace(move(""), "{ name: hut,", "{ name: cabin,", 1))
	b.deploy(run.StatusDone, "signs.stack.yaml")
	b.write("signs.yaml", strings.Replace(move(""), "domain: signs.example", "domain: others.example", 1))
	if p := b.preview("signs.stack.yaml"); p.Findings.HasErrors() {
		t.Errorf("in another zone it is free: %v", p.Findings)
	}
}
