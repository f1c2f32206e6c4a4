package app

import (
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

const springTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    keep: { type: Duration, default: 2 d }
    word: { type: Secret, default: dripping-stone }
  node_templates:
    q: { type: Queue, properties: { keep: { $get_input: keep } } }
    box: { type: Bucket, properties: { name: drop-box }, requirements: [] }
    cave:
      type: Topic
      properties: { label: { $concat: [ { $get_attribute: [ q, url ] }, x ] } }
`

// report explains the last run of a stack, as a new process would.
func (b *bench) report(name string) *Report {
	b.t.Helper()
	st := b.stack(name)
	r, err := b.store.RunNumber(b.t.Context(), st.ID, 0)
	if err != nil {
		b.t.Fatal(err)
	}
	rep, err := b.Report(b.t.Context(), st, r)
	if err != nil {
		b.t.Fatal(err)
	}
	return rep
}

func rowsOf(e *Explanation) string {
	var b strings.Builder
	for _, r := range e.Rows() {
		b.WriteString(r.Label + ": " + r.Text + "\n")
	}
	return b.String()
}

func (b *bench) has(text string, words ...string) {
	b.t.Helper()
	for _, w := range words {
		if !strings.Contains(text, w) {
			b.t.Errorf("there is no %q in:\n%s", w, text)
		}
	}
}

// A failure is explained with its place, what was changed, what was tried, and what let it
// go through before.
func TestAFailureIsExplained(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.write("spring.yaml", springTemplate)
	b.write("spring.stack.yaml", "stack: spring\ntemplate: spring.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "spring.stack.yaml")
	if rep := b.report("spring"); len(rep.Failures) != 0 {
		t.Fatalf("a run that is done has %+v", rep.Failures)
	}
	fails := func(reason, keep string) *Explanation {
		t.Helper()
		b.fault(yard.Fault{Name: "q", On: "update", Mode: "busy", Times: 2, Reason: "too many at once"})
		b.fault(yard.Fault{Name: "q", On: "update", Reason: reason})
		b.deploy(run.StatusUndone, "spring.stack.yaml", "keep="+keep)
		b.clearFaults()
		rep := b.report("spring")
		if len(rep.Failures) != 1 || !strings.Contains(rep.Standing, "all 3 resources are as they were") {
			t.Fatalf("%+v", rep)
		}
		return &rep.Failures[0]
	}
	e := fails("no room for 3 dripping-stone", "3 d")
	text := rowsOf(e)
	b.has(text, "the cloud: no room for 3 (secret)", "template: spring.yaml:8  q: { type: Queue", "changed: keep went from 2 d to 3 d",
		"it refused for the moment, 2 times in", "too many at once", "usually: look at what the cloud says")
	if strings.Contains(text, "dripping") || strings.Contains(text, "past") {
		t.Error(text)
	}
	b.has(rowsOf(fails("no room for 4 dripping-stone", "4 d")), "in the past: it failed like this once before\n")

	// What let it go through is told the next time, to another stack too.
	b.deploy(run.StatusDone, "spring.stack.yaml", "keep=1 d")
	b.has(rowsOf(fails("no room for 5 dripping-stone", "5 d")),
		"in the past: it failed like this 2 times before; run 4 went through after keep went from 4 d to 1 d\n")
	if text := rowsOf(fails("the tap is shut", "5 d")); strings.Contains(text, "in the past") {
		t.Errorf("another refusal of the same kind counts:\n%s", text)
	}
	b.write("brook.stack.yaml", "stack: brook\ntemplate: spring.yaml\ntarget: workshop/birch-1\ninputs: { word: other }\n")
	b.write("spring.yaml", strings.ReplaceAll(springTemplate, "drop-box", "brook-box"))
	b.fault(yard.Fault{Name: "q", On: "create", Reason: "no room for 9 (secret)"})
	b.deploy(run.StatusUndone, "brook.stack.yaml")
	b.clearFaults()
	rep := b.report("brook")
	b.has(rowsOf(&rep.Failures[0]), "3 times before; run 4 of spring went through after keep went from 4 d to 1 d")
	b.has(rep.Markdown(), "### q (Queue)", "- **the cloud**: no room for 9", "The rest: nothing of the stack is in the cloud, as before.")

	// It stands in the template until the next run, and is gone then.
	told := func() string {
		d, err := b.Load(t.Context(), b.dir+"/brook.stack.yaml", Values{LastRun: true})
		if err != nil {
			t.Fatal(err)
		}
		return (&Refusal{Findings: d.Findings}).Error()
	}
	b.has(told(), "spring.yaml:8:5: warning: run 1 failed at q, while creating: no room for 9", "[failed-last-time]")
	b.write("spring.yaml", "# a line more\n"+strings.ReplaceAll(springTemplate, "drop-box", "brook-box"))
	b.has(told(), "spring.yaml:9:5: warning: run 1 failed at q")
	b.deploy(run.StatusDone, "brook.stack.yaml")
	if text := told(); strings.Contains(text, "failed-last-time") {
		t.Error(text)
	}
}

// A run that is stuck says what holds it, and what waits behind it.
func TestAStuckRunSaysWhatWaits(t *testing.T) {
	b := newBench(t, 5000)
	b.write("spring.yaml", springTemplate)
	b.write("spring.stack.yaml", "stack: spring\ntemplate: spring.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "spring.stack.yaml")
	b.fault(yard.Fault{Name: "cave", On: "delete", Reason: "a bat sleeps in it"})
	p, err := b.WhatIfDelete(t.Context(), b.stack("spring"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, stack.Undo); r.State != run.StatusStuck {
		t.Fatal(r.State)
	}
	rep := b.report("spring")
	if len(rep.Failures) != 1 {
		t.Fatalf("%+v", rep.Failures)
	}
	b.has(rowsOf(&rep.Failures[0]), "the cloud: a bat sleeps in it", "template: spring.yaml:10  cave:", "it holds up: q\n")
}
