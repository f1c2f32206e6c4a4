package app

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// A run says how much slower it was than the last one of its kind, and because of what;
// each step knows how long it took before; estimates know how far off they were.
func TestBesideTheLastTime(t *testing.T) {
	long(t)
	b := newBench(t, 10)
	b.write("terrace.stack.yaml", "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	write := func(keep, label string) {
		b.write("terrace.yaml", `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  node_templates:
    note: { type: Queue, properties: { keep: `+keep+` } }
    news: { type: Topic, properties: { label: { $concat: [ `+label+`, { $get_attribute: [ note, url ] } ] } } }
`)
	}
	write("1 d", "a")
	first := b.deploy(run.StatusDone, "terrace.stack.yaml")
	setting := func(r *run.Record) *Setting {
		t.Helper()
		whole, err := b.store.Run(t.Context(), r.ID)
		if err != nil {
			t.Fatal(err)
		}
		s, err := b.Setting(t.Context(), b.stack("terrace"), whole)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	if s := setting(first); s.Former.Run != 0 || len(s.Former.Of) != 0 || s.Margin.String() != "" {
		t.Errorf("before the first run there was %+v, %+v", s.Former, s.Margin)
	}
	write("2 d", "a")
	b.deploy(run.StatusDone, "terrace.stack.yaml")
	write("3 d", "b")
	third := b.deploy(run.StatusDone, "terrace.stack.yaml")
	s := setting(third)
	if s.Former.Run != 2 || s.Former.Of["update note"] <= 0 || s.Former.Of["update news"] != 0 || s.Former.Of["create news"] <= 0 {
		t.Errorf("%+v", s.Former)
	}
	words, err := b.Comparison(t.Context(), b.stack("terrace"), third)
	if err != nil {
		t.Fatal(err)
	}
	b.has(words, " run 2")
	write("4 d", "b")
	b.fault(yard.Fault{Name: "note", On: "update", Mode: "busy", Times: 6, Reason: "not now"})
	fourth := b.deploy(run.StatusDone, "terrace.stack.yaml")
	if words, _ = b.Comparison(t.Context(), b.stack("terrace"), fourth); !strings.Contains(words, "slower than run 3: note ") {
		t.Errorf("%s", words)
	}
	if m := setting(fourth).Margin; m.Runs != 0 { // they are too short to tell anything
		t.Errorf("the margin is %+v", m)
	}

	// One that stood still meanwhile is compared with nothing.
	write("5 d", "c")
	ticket, err := b.Prepare(t.Context(), b.preview("terrace.stack.yaml"), stack.Undo)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Pause(t.Context(), ticket.Run); err != nil {
		t.Fatal(err)
	}
	r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
	if err != nil || r.State != run.StatusPaused {
		t.Fatalf("%v %s", err, r.State)
	}
	if ticket, err = b.Resume(t.Context(), b.stack("terrace"), On); err != nil {
		t.Fatal(err)
	}
	if r, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone {
		t.Fatalf("%v %s", err, r.State)
	}
	if words, err := b.Comparison(t.Context(), b.stack("terrace"), r); words != "" || err != nil {
		t.Errorf("%s %v", words, err)
	}
}

// A target that takes less than it was asked for is asked for less; nothing fails, and the
// next run begins with what was learned.
func TestATargetThatTakesLess(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 4) // slow enough that it is asked for more than it takes, on any machine
	p := b.preview(b.manyFile(60))
	if p.Estimate.AtOnce != 64 {
		t.Errorf("it says that it takes %d", p.Estimate.AtOnce)
	}
	if err := b.Door.AtOnce(t.Context(), yard.AtOnce{Account: "workshop", AtOnce: 4}); err != nil {
		t.Fatal(err)
	}
	r := b.carry(p, stack.Undo)
	if r.State != run.StatusDone {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	events, err := b.Events(t.Context(), r.ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	slower := 0
	for _, e := range events {
		if e.Resource == "" && strings.HasPrefix(e.Step, "at most ") {
			slower++
		}
		if e.State == run.HasFailed {
			t.Errorf("%+v", e)
		}
	}
	if slower == 0 || b.limits.of(p.Target, 0, 0).Learned() > 45 {
		t.Errorf("it became slower %d times, and learned %d", slower, b.limits.of(p.Target, 0, 0).Learned())
	}
	if again := b.preview("many.stack.yaml"); again.Estimate.AtOnce != 4 { // it says so itself now
		t.Errorf("then %d at once", again.Estimate.AtOnce)
	}
}

// manyFile writes a stack of resources that rest on nothing.
func (b *bench) manyFile(n int) string {
	b.t.Helper()
	b.write("many.yaml", fmt.Sprintf("tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    t: { type: Topic, count: %d, properties: { label: x } }\n", n))
	b.write("many.stack.yaml", "stack: many\ntemplate: many.yaml\ntarget: workshop/alder-1\n")
	return "many.stack.yaml"
}

// What a run took whose cloud was much quicker says nothing of another one.
func TestOtherSpeeds(t *testing.T) {
	plan := func(seconds float64) run.Plan {
		return run.Plan{Steps: []run.Step{{ID: "create db", Nominal: seconds}, {ID: "create net", Nominal: seconds / 10}}}
	}
	for _, c := range []struct {
		a, b run.Plan
		want bool
	}{{plan(45), plan(50), true}, {plan(0.045), plan(45), false}, {plan(45), plan(0.045), false}, {run.Plan{}, plan(45), true}} {
		if _, got := alike(c.a, c.b); got != c.want {
			t.Errorf("%v and %v: %t", c.a, c.b, got)
		}
	}
}
