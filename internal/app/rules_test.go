package app

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/tosca"
)

// TestTeamRules holds deployments, ways back and deletions against the rules
// beside the template and those that the stack file names.
func TestTeamRules(t *testing.T) {
	long(t)
	b := newBench(t, 100_000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	says := func(p *Preview, severity tosca.Severity, words string) {
		t.Helper()
		for _, f := range p.Findings {
			if f.Severity == severity && strings.Contains(f.Message, words) {
				return
			}
		}
		t.Errorf("no %s says %q: %v", severity, words, p.Findings)
	}
	// the example's own rule
	open := strings.Replace(readText(t, filepath.Join(b.dir, "bulletin.yaml")), "peer: 10.40.0.0/16",
		"peer: 0.0.0.0/0", 1)
	before := readText(t, filepath.Join(b.dir, "bulletin.yaml"))
	b.write("bulletin.yaml", open)
	says(b.preview("bulletin-test.stack.yaml"), tosca.Error,
		"reader_rules: everyone may reach the ports 80 and 443, and no others (rule only-the-web-is-open)")
	b.write("bulletin.yaml", before)
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")

	// one that the stack file names, which warns, and one about what goes
	b.write("house.yaml", `rules:
  - { id: lean, message: that is a lot, severity: warn, each: stack, require: stack.inputs.readers < 3 }
  - { id: stays, message: the readings stay, types: Queue, changes: drop, require: 'false' }
`)
	file := readText(t, filepath.Join(b.dir, "bulletin-test.stack.yaml"))
	b.write("bulletin-test.stack.yaml", file+"rules: house.yaml\n")
	p := b.preview("bulletin-test.stack.yaml", "readers=4")
	says(p, tosca.Warning, "the stack: that is a lot (rule lean)")
	if p.Findings.HasErrors() {
		t.Error(p.Findings)
	}
	b.carry(p, "undo")
	st, err := b.store.Find(t.Context(), "bulletin-test")
	if err != nil {
		t.Fatal(err)
	}
	if p, err = b.WhatIfDelete(t.Context(), st); err != nil {
		t.Fatal(err)
	}
	says(p, tosca.Error, "readings: the readings stay (rule stays)")
	if _, err := b.Prepare(t.Context(), p, "hold"); err == nil {
		t.Error("a rule refuses the deletion, and it is prepared")
	}

	// saved while the rules allow it, deployed when they do not any more
	saved := filepath.Join(b.dir, "plan.json")
	if err := b.Save(b.preview("bulletin-test.stack.yaml", "readers=2"), saved); err != nil {
		t.Fatal(err)
	}
	b.write("house.yaml",
		"rules:\n  - { id: none, message: nothing is to change, changes: [ drop, edit, swap, new ], require: 'false' }\n")
	if p, err = b.OpenSaved(t.Context(), saved); err != nil {
		t.Fatal(err)
	}
	says(p, tosca.Error, "nothing is to change")

	// broken ones, and such as are not there
	b.write("house.yaml", "rules:\n  - { id: none, message: x, require: 'size(' }\n")
	d, err := b.Load(t.Context(), filepath.Join(b.dir, "bulletin-test.stack.yaml"), Values{})
	if err != nil || !d.Findings.HasErrors() ||
		!strings.Contains(d.Findings[len(d.Findings)-1].String(), "house.yaml:2") {
		t.Error(d.Findings, err)
	}
	if err := os.Remove(filepath.Join(b.dir, "house.yaml")); err != nil {
		t.Fatal(err)
	}
	if d, err = b.Load(t.Context(), filepath.Join(b.dir, "bulletin-test.stack.yaml"), Values{}); err != nil ||
		!d.Findings.HasErrors() {
		t.Error("rules that are not there are passed over", err)
	}
	if _, err := b.WhatIfDelete(t.Context(), st); err == nil || !strings.Contains(err.Error(), "house.yaml") {
		t.Errorf("rules that are not there are passed over at a deletion: %v", err)
	}
}

// What a check tells, it tells in one round: the rules of the team, a target that is not there, and all else that is wrong.
func TestCheckLooksAtRulesAndTarget(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("a.stack.yaml", "stack: tested\ntemplate: a.yaml\ntarget: workshop/alder-1\n")
	b.write("a.yaml", head+"imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    box: { type: Bucket, properties: { name: frames, public_read: true } }\n    post: { type: Topic, properties: { label: x } }\n")
	b.write("rules/house.yaml", "rules:\n  - { id: shut, message: buckets are shut, types: [ Bucket ], require: '!after.public_read' }\n"+
		"  - { id: few, message: few at once, each: stack, severity: warn, require: stack.tally.new < 2 }\n"+
		"  - { id: unknown, message: no, types: [ Topic ], require: after.label == 'x' }\n")
	wants := func(file string, want ...string) {
		t.Helper()
		found, err := b.Check(t.Context(), filepath.Join(b.dir, file), Values{})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range found {
			got = append(got, f.Code+" "+f.Message)
		}
		if len(got) != len(want) {
			t.Fatalf("found %q, want %q", got, want)
		}
		for _, w := range want {
			if !slices.ContainsFunc(got, func(g string) bool { return strings.HasPrefix(g, w) }) {
				t.Errorf("found %q, want %q", got, want)
			}
		}
	}
	wants("a.stack.yaml", "rule", "rule")
	wants("a.yaml", "rule", "rule")
	b.write("a.stack.yaml", "stack: tested\ntemplate: a.yaml\ntarget: workshop/alter-1\n")
	wants("a.stack.yaml", "rule", "rule", "unknown-target there is no target workshop/alter-1")
	// With something else wrong the rules about resources are looked at all the same.
	b.write("a.yaml", head+"imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    box: { type: Bucket, properties: { name: frames, public_read: true, colour: red } }\n")
	wants("a.stack.yaml", "rule", "unknown-property", "unknown-target")
	b.write("a.yaml", head+"imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    box: { type: Bucket, properties: { name: frames, public_read: false } }\n")
	b.write("a.stack.yaml", "stack: tested\ntemplate: a.yaml\ntarget: workshop/alder-1\n")
	wants("a.stack.yaml")
	b.deploy(run.StatusDone, "a.stack.yaml")
	// It is held against the record: what is there already is not new.
	b.write("a.yaml", head+"imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    box: { type: Bucket, properties: { name: frames, public_read: false } }\n    one: { type: Topic, properties: { label: x } }\n")
	wants("a.stack.yaml")
}
