package app

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// TestResultsAreChangesToo deploys changes of results alone, and refuses those
// that another stack could not do without.
func TestResultsAreChangesToo(t *testing.T) {
	b := newBench(t, 5000)
	template := func(outputs string) {
		b.write("spring.yaml",
			"tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { word: { type: string, default: hi } }\n  node_templates:\n    q: { type: Queue }\n  outputs:\n"+outputs)
	}
	b.write("spring.stack.yaml", "stack: spring\ntemplate: spring.yaml\ntarget: workshop/alder-1\n")
	b.write("brook.yaml",
		"tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { from: { type: string } }\n  node_templates:\n    t: { type: Topic, properties: { label: { $get_input: from } } }\n")
	b.write("brook.stack.yaml",
		"stack: brook\ntemplate: brook.yaml\ntarget: workshop/alder-1\ninputs:\n  from: { from_stack: { stack: spring, output: word } }\n")
	results := func(p *Preview) string {
		var out []string
		for _, r := range p.Results {
			out = append(out, fmt.Sprintf("%s %s %s because %s used by %v", r.Kind, r.Name, r.Values(),
				strings.Join(r.Because(), "; "), r.UsedBy))
		}
		return strings.Join(out, "\n")
	}
	template("    word: { value: { $get_input: word } }\n    url: { value: { $get_attribute: [ q, url ] } }\n")
	b.deploy(run.StatusDone, "spring.stack.yaml")
	b.deploy(run.StatusDone, "brook.stack.yaml")

	for _, test := range []struct {
		what, outputs, want string
		refused             bool
		flags               []string
	}{
		{"nothing", "    word: { value: { $get_input: word } }\n    url: { value: { $get_attribute: [ q, url ] } }\n",
			"", false, nil},
		{"a value that another stack uses",
			"    word: { value: { $get_input: word } }\n    url: { value: { $get_attribute: [ q, url ] } }\n",
			"edit word hi → ho because input word is ho, was hi (-i word=ho) used by [brook in workshop/alder-1 (its input from)]", false, []string{"word=ho"}},
		{"one more", "    word: { value: hi }\n    url: { value: { $get_attribute: [ q, url ] } }\n    more: { value: [ 1, 2 ] }\n", "new more [1, 2] because it is in the template", false, nil},
		{"one less", "    word: { value: hi }\n    more: { value: [ 1, 2 ] }\n", "drop url https://", false, nil},
		{"one that is used goes", "    more: { value: [ 1, 2 ] }\n", "drop word", true, nil},
		{"one that is used becomes a list", "    word: { value: [ hi ] }\n    more: { value: [ 1, 2 ] }\n",
			"edit word", true, nil},
	} {
		template(test.outputs)
		p := b.preview("spring.stack.yaml", test.flags...)
		if got := results(p); !strings.Contains(got, test.want) || (got == "") != (test.want == "") {
			t.Errorf("%s: %s, want %s", test.what, got, test.want)
		}
		if refused := p.Findings.HasErrors(); refused != test.refused {
			t.Errorf("%s: %v", test.what, p.Findings)
		} else if refused {
			if text := fmt.Sprint(p.Findings); !strings.Contains(text, "result-in-use") ||
				!strings.Contains(text, "used by brook in workshop/alder-1") {
				t.Errorf("%s: %s", test.what, text)
			}
			continue
		}
		if p.Empty() != (test.want == "") {
			t.Errorf("%s: empty is %v", test.what, p.Empty())
		}
		if p.Empty() {
			continue
		}
		if p.Tally != (whatif.Tally{Same: 1, Results: len(p.Results)}) {
			t.Errorf("%s: %v", test.what, p.Tally)
		}
		if r := b.carry(p, "undo"); r.State != run.StatusDone {
			t.Fatalf("%s: %s %s", test.what, r.State, r.Reason)
		}
		if again := b.preview("spring.stack.yaml", test.flags...); !again.Empty() {
			t.Errorf("%s: then %s", test.what, results(again))
		}
	}

	// neither a way back nor a deletion takes away what another stack uses
	gone, err := b.WhatIfDelete(t.Context(), b.stack("spring"))
	if err != nil || !strings.Contains(fmt.Sprint(gone.Findings), "result-in-use") {
		t.Errorf("the deletion: %v %v", gone.Findings, err)
	}
	template("    more: { value: [ 1, 2 ] }\n    late: { value: x }\n    word: { value: hi }\n")
	b.deploy(run.StatusDone, "spring.stack.yaml")
	b.write("brook.stack.yaml",
		"stack: brook\ntemplate: brook.yaml\ntarget: workshop/alder-1\ninputs:\n  from: { from_stack: { stack: spring, output: late } }\n")
	b.deploy(run.StatusDone, "brook.stack.yaml")
	back, err := b.WhatIfUndo(t.Context(), b.stack("spring"), 0)
	if err != nil || !strings.Contains(fmt.Sprint(back.Findings),
		"the result 'late' cannot go: it is used by brook in workshop/alder-1") {
		t.Errorf("the way back: %v %v", back.Findings, err)
	}
	if gone, err = b.WhatIfDelete(t.Context(), b.stack("brook")); err != nil {
		t.Fatal(err)
	}
	if r := b.carry(gone, "hold"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if gone, err = b.WhatIfDelete(t.Context(), b.stack("spring")); err != nil || gone.Findings.HasErrors() {
		t.Errorf("when nobody uses them any more: %v %v", gone.Findings, err)
	}
}

// A result that a run changed says what it was, until the next run.
func TestResultsSayWhatTheyWere(t *testing.T) {
	b := newBench(t, 100_000)
	for _, step := range []struct{ word, was string }{{"snow", ""}, {"thaw", "snow"}, {"thaw", ""}} {
		b.write("word.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n"+
			"  inputs: { n: { type: integer, default: 1 } }\n"+
			"  node_templates: { t: { type: Topic, count: { $get_input: n } } }\n"+
			"  outputs: { word: { value: "+step.word+", metadata: { command: say $value } } }\n")
		n := "1"
		if step.was == "" && step.word == "thaw" {
			n = "2"
		}
		b.write("word.stack.yaml", "stack: word\ntemplate: word.yaml\ntarget: workshop/alder-1\ninputs: { n: "+n+" }\n")
		b.deploy(run.StatusDone, "word.stack.yaml")
		list, err := b.Results(t.Context(), b.stack("word"))
		if err != nil || len(list) != 1 || list[0].Command != "say $value" {
			t.Fatal(list, err)
		}
		was := ""
		if list[0].Was != nil {
			was = tosca.Show(list[0].Was)
		}
		if was != step.was {
			t.Errorf("%s was %q, want %q", step.word, was, step.was)
		}
	}
}
