package app

import (
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/whatif"
)

// Who uses a result that would change is told with what it would do then: what its files would
// change anyway is not in it.
func TestHits(t *testing.T) {
	b := newBench(t, 5000)
	b.write("base.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { name: { type: string, default: one }, days: { type: integer, default: 3 } }\n"+
		"  node_templates:\n    box: { type: Queue, properties: { keep: { $concat: [ { $get_input: days }, \" d\" ] } } }\n    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n"+
		"  outputs:\n    name: { value: { $get_input: name } }\n    days: { value: { $get_input: days } }\n    net: { value: { $get_attribute: [ net, id ] } }\n")
	b.write("base.stack.yaml", "stack: base\ntemplate: base.yaml\ntarget: workshop/alder-1\n")
	b.write("user.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { name: { type: string }, days: { type: integer, default: 1 }, own: { type: string, default: x } }\n"+
		"  node_templates:\n    store: { type: Bucket, properties: { name: { $concat: [ store-, { $get_input: name } ] } } }\n    note: { type: Topic, properties: { label: { $get_input: own } } }\n    far: { type: Topic, properties: { label: { $get_input: name } } }\n")
	for _, name := range []string{"user", "second"} {
		text := "stack: " + name + "\ntemplate: user.yaml\ntarget: workshop/alder-1\ninputs:\n  name: { from_stack: { stack: base, output: name } }\n"
		if name == "second" {
			text = strings.Replace(text, "output: name", "output: net", 1)
		}
		b.write(name+".stack.yaml", text)
	}
	b.deploy(run.StatusDone, "base.stack.yaml")
	b.deploy(run.StatusDone, "user.stack.yaml")
	if p := b.preview("base.stack.yaml", "days=5"); len(p.Hits) != 0 {
		t.Errorf("a result that nobody uses: %+v", p.Hits)
	}
	b.write("user.stack.yaml", readText(t, b.dir+"/user.stack.yaml")+"  own: pending\n") // not deployed yet
	p := b.preview("base.stack.yaml", "name=two")
	if len(p.Hits) != 1 || p.Hits[0].Words() != "user in workshop/alder-1 reads name: deployed then, it would edit far, swap store" {
		t.Errorf("%+v", p.Hits)
	}
	if text := p.Markdown(); !strings.Contains(text, "## Who reads them") {
		t.Error(text)
	}
	b.write("second.stack.yaml", strings.Replace(readText(t, b.dir+"/second.stack.yaml"), "stack: second\n", "stack: second\n", 1))
	b.write("user.yaml", strings.Replace(readText(t, b.dir+"/user.yaml"), "[ store-, { $get_input: name } ]", "[ store-, { $get_input: own } ]", 1))
	b.deploy(run.StatusDone, "second.stack.yaml")
	b.write("base.yaml", strings.Replace(readText(t, b.dir+"/base.yaml"), "10.0.0.0/16", "10.8.0.0/16", 1))
	p = b.preview("base.stack.yaml")
	if len(p.Hits) != 1 || !p.Hits[0].Unknown || p.Hits[0].Stack != "second" || p.Change("net").Kind != whatif.Swap {
		t.Errorf("%+v", p.Hits)
	}
	if words := p.Hits[0].Words(); !strings.HasSuffix(words, "deployed then, it would edit far, with what is known when that is built") {
		t.Error(words)
	}
	b.write("user.stack.yaml", "stack: user\nnonsense\n")
	p = b.preview("base.stack.yaml", "name=two")
	if len(p.Hits) != 2 || p.Hits[0].Problem+p.Hits[1].Problem == "" {
		t.Errorf("%+v", p.Hits)
	}
}
