package app

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// terrace is a small stack in which every kind of step occurs: its second form
// makes, edits, swaps and drops, and something of each rests on another.
const terrace = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { form: { type: integer, default: 1 } }
  node_templates:
    net: { type: Network, properties: { cidr: { $concat: [ "10.", { $get_input: form }, .0.0/16 ] } } }
    sub: { type: Subnet, properties: { cidr: { $concat: [ "10.", { $get_input: form }, .1.0/24 ] } }, requirements: [ { network: net } ] }
    gate: { type: Rules, properties: { allow: [ { ports: "443", peer: 10.0.0.0/8 } ] }, requirements: [ { network: net } ] }
    post: { type: Server, properties: { size: small, image: moss-3, label: { $concat: [ form-, { $get_input: form } ] } }, requirements: [ { subnet: sub }, { rules: gate } ] }
    soft:
      type: Software
      requirements: [ { host: post } ]
      interfaces: { Lifecycle: { inputs: { form: { $get_input: form } }, operations: { create: scripts/up.sh, delete: scripts/down.sh } } }
    box: { type: Bucket, properties: { name: { $concat: [ terrace-, { $get_input: form } ] } } }
    hat: { type: Role, properties: { for: server, tags: { form: { $concat: [ f, { $get_input: form } ] } } } }
    may: { type: Grant, properties: { actions: [ bucket:read ] }, requirements: [ { role: hat }, { "on": box } ] }
    note: { type: Queue, properties: { keep: { $concat: [ { $get_input: form }, " d" ] } } }
    gone: { type: Topic, count: { $difference: [ 2, { $get_input: form } ] }, properties: { label: x } }
    more: { type: Topic, count: { $difference: [ { $get_input: form }, 1 ] }, properties: { label: { $get_property: [ note, keep ] } } }
`

// terrace writes the template, with the scripts of its software: they notice when they are
// carried out twice, or half.
func (b *bench) terrace(text string) {
	b.t.Helper()
	b.write("terrace.yaml", text)
	b.write("scripts/up.sh", "echo up >> /count\nresult times $(wc -l < /count)\nresult form $form\n")
	b.write("scripts/down.sh", "test $(wc -l < /count) = 1 || exit 7\n")
}

// later is the moment to die at after one: the next one with BRICKROW_LONG=1, else one of those behind it.
func later(n int64) int64 {
	if os.Getenv("BRICKROW_LONG") != "" || n == 0 {
		return n + 1
	}
	return n + 3
}

var errDied = errors.New("the process was killed")

// mortal lets the process of a run die at the nth chance; 0 never. From then on
// nothing is written any more.
func (b *bench) mortal(n int64) (chances *atomic.Int64) {
	chances = &atomic.Int64{}
	b.halt = func(string) error {
		if now := chances.Add(1); n > 0 && now >= n {
			return errDied
		}
		return nil
	}
	return chances
}

// pausing lets somebody wish for a pause of the last run at the nth chance.
func (b *bench) pausing(t *testing.T, id string, n int64) (chances *atomic.Int64) {
	chances = &atomic.Int64{}
	b.halt = func(string) error {
		if chances.Add(1) == n {
			if err := b.store.RequestPause(t.Context(), id, true); err != nil {
				t.Error(err)
			}
		}
		return nil
	}
	return chances
}

// ends carries a run out, and through as many deaths as are planned: after each
// it is resumed. A death below zero is a pause.
func (b *bench) ends(t *testing.T, ticket *Ticket, deaths ...int64) (*run.Record, int64) {

	first := int64(0)
	for i := 0; ; i++ {
		at := int64(0)
		if i < len(deaths) {
			at = deaths[i]
		}
		chances := b.mortal(max(0, at))
		if at < 0 {
			chances = b.pausing(t, ticket.Run.ID, -at)
		}
		r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
		if i == 0 {
			first = chances.Load()
		}
		if err == nil {
			b.halt = nil
			if r.State != run.StatusPaused {
				return r, first
			}
			b.wantStandstill(t, r)
			if ticket, err = b.Resume(t.Context(), b.stack("terrace"), On); err != nil {
				t.Fatalf("after pause %d of %v: %v", i, deaths, err)
			}
			continue
		}
		if !errors.Is(err, errDied) || at == 0 {
			t.Fatalf("death %d of %v: %v", i, deaths, err)
		}
		if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil {
			t.Fatal(err)
		}
		b.halt = nil
		if ticket, err = b.Resume(t.Context(), b.stack("terrace"), On); err != nil {
			t.Fatalf("after death %d of %v: %v", i, deaths, err)
		}
	}
}

// wantStandstill wants nothing to be under way in a run that is paused, and nobody else to
// begin anything.
func (b *bench) wantStandstill(t *testing.T, r *run.Record) {
	entries, err := b.store.Journal(t.Context(), r.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if e.State == run.Started {
			t.Errorf("paused, %s is under way", e.Step.ID)
		}
	}
	if st := b.stack("terrace"); st.State == stack.Ready || st.State == stack.Partial {
		t.Errorf("paused, the stack is %s", st.State)
	}
	if p, err := b.WhatIfDelete(t.Context(), b.stack("terrace")); err == nil {
		if _, err := b.Prepare(t.Context(), p, stack.Undo); err == nil || !strings.Contains(err.Error(), "is paused") {
			t.Errorf("another run begins over one that is paused: %v", err)
		}
	}
}

// peril is something that goes wrong with a fault, and is killed in the middle.
type peril struct {
	name   string
	faults []yard.Fault
	hold   bool
	// begin prepares the run on a stack that was deployed in its first form.
	begin func(b *bench, file string) *Preview
	want  []run.Status // how it may end; the first is how it ends without a kill
}

func second(b *bench, file string) *Preview { return b.preview(file, "form=2") }

var perils = []peril{
	{"deploying, a creation fails", []yard.Fault{{Name: "post", Times: 1, At: "last"}}, false, second,
		[]run.Status{run.StatusUndone}},
	{"deploying, a swap fails at once", []yard.Fault{{Name: "sub", At: "call", Times: 1}}, false, second,
		[]run.Status{run.StatusUndone, run.StatusDone}}, // done where nobody heard the refusal
	{"deploying, an edit fails", []yard.Fault{{Name: "note", On: "update", Times: 1}}, false, second,
		[]run.Status{run.StatusUndone}},
	{"deploying, held", []yard.Fault{{Name: "post", Times: 1, At: "last"}}, true, second,
		[]run.Status{run.StatusHeld, run.StatusDone}},
	{"deploying, an answer is lost and then it fails",
		[]yard.Fault{{Name: "box", Mode: "lose", Times: 1}, {Name: "post", Times: 1}}, false, second,
		[]run.Status{run.StatusUndone}},
	{"deploying, the undoing fails too",
		[]yard.Fault{{Name: "post", Times: 1}, {Name: "net", On: "delete", Times: 1}}, false, second,
		[]run.Status{run.StatusStuck, run.StatusUndone}},
	{"deploying, the sweep fails", []yard.Fault{{Name: "net", On: "delete", Times: 1}}, false, second,
		[]run.Status{run.StatusStuck, run.StatusDone}},
	{"going back", []yard.Fault{{Name: "post", Times: 1, At: "last"}}, false, func(b *bench, file string) *Preview {
		b.carry(second(b, file), "undo")
		p, err := b.WhatIfUndo(b.t.Context(), b.stack("terrace"), 0)
		if err != nil {
			b.t.Fatal(err)
		}
		return p
	}, []run.Status{run.StatusUndone}},
	{"deleting", []yard.Fault{{Name: "sub", On: "delete", Times: 1}}, false, func(b *bench, _ string) *Preview {
		p, err := b.WhatIfDelete(b.t.Context(), b.stack("terrace"))
		if err != nil {
			b.t.Fatal(err)
		}
		return p
	}, []run.Status{run.StatusStuck, run.StatusDone}},
}

// TestKilledWithAFaultInIt kills runs at every entry of the journal, with a fault
// in them, twice in a row. Each has to end as without the kill, or as if nothing
// had been, and every stack can be deleted then. BRICKROW_LONG=1 goes through
// all moments; otherwise they are picked.
func TestKilledWithAFaultInIt(t *testing.T) {
	long(t)
	t.Parallel()
	for i, p := range perils {
		t.Run(strings.ReplaceAll(p.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			b := newBench(t, 5000)
			b.t = t
			moments := b.through(t, p, i)
			step := int64(1)
			if os.Getenv("BRICKROW_LONG") == "" {
				step = max(1, moments/4)
			}
			for n := int64(1 + i%2); n <= moments; n += step {
				b.through(t, p, i, n)
				b.through(t, p, i, n, 1+n%5)
				b.through(t, p, i, -n, -n-1, 1+n%5)
			}
		})
	}
}

// through goes once through a peril, and says how many moments there were to die
// in.
func (b *bench) through(t *testing.T, p peril, seed int, deaths ...int64) (moments int64) {

	b.terrace(terrace)
	file := "terrace.stack.yaml"
	b.write(file, "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	what := fmt.Sprintf("%s, killed at %v", p.name, deaths)
	b.clearFaults()
	b.carry(b.preview(file), "undo")
	preview := p.begin(b, file)
	before := b.listing("terrace")
	for _, f := range p.faults {
		b.fault(f)
	}
	onFailure := stack.Undo
	if p.hold {
		onFailure = stack.Hold
	}
	ticket, err := b.Prepare(t.Context(), preview, onFailure)
	if err != nil {
		t.Fatalf("%s: %v", what, err)
	}
	r, moments := b.ends(t, ticket, deaths...)
	if len(deaths) == 0 && r.State != p.want[0] {
		t.Fatalf("%s ends %s: %s", what, r.State, r.Reason)
	}
	for _, want := range p.want {
		if r.State == want {
			what += ", ended " + string(want)
		}
	}
	if !strings.Contains(what, "ended") {
		t.Fatalf("%s ends %s: %s", what, r.State, r.Reason)
	}
	switch r.State {
	case run.StatusUndone:
		if got := b.listing("terrace"); got != before {
			t.Errorf("%s: the cloud is not as before:\n%s\nbut\n%s", what, before, got)
		}
		if strings.Contains(r.Reason, "differ") {
			t.Errorf("%s: %s", what, r.Reason)
		}
	case run.StatusHeld, run.StatusStuck:
		again, err := b.Resume(t.Context(), b.stack("terrace"), On)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if r, err := b.Execute(t.Context(), again.Run.ID, again.Token); err != nil ||
			r.State != run.StatusDone && r.State != run.StatusUndone {
			t.Fatalf("%s, resumed: %v %s %s", what, err, r.State, r.Reason)
		}
	}
	b.clearFaults()
	if st := b.stack("terrace"); st.State != stack.Removed {
		b.wantRecordIsLive("terrace")
		gone, err := b.WhatIfDelete(t.Context(), st)
		if err != nil {
			t.Fatal(err)
		}
		if strays := gone.Tally.Drop - len(b.recordedNames("terrace")); strays > 0 {
			t.Errorf("%s: %d resources are in the cloud and in no record", what, strays)
		}
		if r := b.carry(gone, "hold"); r.State != run.StatusDone {
			t.Fatalf("%s: it cannot be deleted: %s %s", what, r.State, r.Reason)
		}
	}
	if left := b.listing("terrace"); left != "[]" {
		t.Fatalf("%s: left %s", what, left)
	}
	return moments
}

// recordedNames lists what is recorded of a stack.
func (b *bench) recordedNames(name string) []string {
	b.t.Helper()
	current, old, err := b.store.Recorded(b.t.Context(), b.stack(name).ID)
	if err != nil {
		b.t.Fatal(err)
	}
	var out []string
	for _, r := range append(current, old...) {
		out = append(out, r.Name)
	}
	return out
}

// TestWhatARunHasLeftIsTold deploys over a run whose undoing got stuck: the old
// part that it left is told before and after, goes with the next deployment or the
// way back, and nobody calls the stack whole meanwhile.
func TestWhatARunHasLeftIsTold(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 5000)
	b.terrace(terrace)
	file := "terrace.stack.yaml"
	b.write(file, "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	b.deploy(run.StatusDone, file)
	whole := b.listing("terrace")
	b.fault(yard.Fault{Name: "post", Times: 1})
	b.fault(yard.Fault{Name: "box", On: "delete", Times: 1})
	if r := b.carry(second(b, file), "undo"); r.State != run.StatusStuck {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	b.fault(yard.Fault{Name: "post", Times: 1})
	p := second(b, file)
	if len(p.ChangeSet.Old) != 1 || p.Tally.Old != 1 || len(p.DataLost()) == 0 ||
		!strings.Contains(p.Tally.String(), "1 old part") {
		t.Errorf("old %v, tally %s, risks %v", p.ChangeSet.Old, p.Tally, p.Risks)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusUndone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	st := b.stack("terrace")
	if ways, err := b.WaysOut(t.Context(), st); st.State != stack.Partial || err != nil || ways.Resume {
		t.Errorf("the stack is %s, %+v %v", st.State, ways, err)
	}
	back, err := b.WhatIfUndo(t.Context(), st, 0)
	if err != nil || back.To != 1 || len(back.ChangeSet.Old) != 1 {
		t.Fatalf("back to %d: %v", back.To, err)
	}
	if back.Findings.HasErrors() { // the old box holds the name
		if !strings.Contains(fmt.Sprint(back.Findings), "name-still-taken") {
			t.Fatal(back.Findings)
		}
		back = second(b, file)
	}
	if r := b.carry(back, "undo"); r.State != run.StatusDone || b.stack("terrace").State != stack.Ready {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	b.wantRecordIsLive("terrace")
	if b.listing("terrace") == whole {
		t.Error("nothing has changed")
	}
}

// wantAllRecorded wants everything that the cloud has of a stack to be in its
// record, or kept, and the other way round.
func (b *bench) wantAllRecorded(name, what string) {
	b.t.Helper()
	st := b.stack(name)
	current, old, err := b.store.Recorded(b.t.Context(), st.ID)
	if err != nil {
		b.t.Fatal(err)
	}
	kept, err := b.store.Kept(b.t.Context(), st.ID)
	if err != nil {
		b.t.Fatal(err)
	}
	list, err := b.Cloud.List(b.t.Context(), st.Target, name)
	if err != nil {
		b.t.Fatal(err)
	}
	known := map[string]string{}
	for where, records := range map[string][]*stack.Recorded{"recorded": current, "old": old, "kept": kept} {
		for _, r := range records {
			if known[r.ID] != "" {
				b.t.Errorf("%s: %s of %s is %s and %s", what, r.ID, r.Name, known[r.ID], where)
			}
			known[r.ID] = where
		}
	}
	for _, r := range list {
		if known[r.ID] == "" {
			b.t.Fatalf("%s: nobody knows of %s of %s (%s)", what, r.ID, r.Tags["node"], r.State)
		}
		delete(known, r.ID)
	}
	for id, where := range known {
		b.t.Errorf("%s: %s is %s, and gone", what, id, where)
	}
}
