package app

import (
	"strings"
	"testing"

	"brickrow/internal/run"
)

// TestCausesAlongTheWay changes what a value comes from by way of others: a
// property of another node, an input of a template that fills a node, a file.
func TestCausesAlongTheWay(t *testing.T) {
	b := newBench(t, 100_000)
	head := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 }, own.yaml ]\n"
	b.write("own.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nnode_types:\n  Alarm: { properties: { keep: { type: Duration, default: 2 d } } }\n")
	alarm := head + "service_template:\n  inputs: { keep: { type: Duration }, word: { type: string, default: snow }, token: { type: Secret, default: hoarfrost-1 } }\n  substitution_mappings: { node_type: Alarm, properties: { keep: keep } }\n" +
		"  node_templates:\n    queue: { type: Queue, properties: { keep: { $get_input: keep } } }\n    topic: { type: Topic, properties: { label: { $get_input: word } } }\n    safe: { type: Vault, properties: { value: { $get_input: token } } }\n"
	huts := strings.Replace(head, "own.yaml", "own.yaml, alarm.yaml", 1) + `service_template:
  inputs: { days: { type: Duration, default: 2 d } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16, label: valley } }
    other: { type: Network, properties: { cidr: 10.1.0.0/16 } }
    rules: { type: Rules, properties: { allow: [], label: { $concat: [ { $get_property: [ net, label ] }, -rules ] } }, requirements: [ network: net ] }
    model:
      type: Function
      properties: { runtime: go-1 }
      artifacts: { source: { type: File, file: boot.sh } }
      requirements: [ role: role ]
    role: { type: Role, properties: { for: function } }
    alarm: { type: Alarm, directives: [ substitute ], properties: { keep: { $get_input: days } } }
`
	b.write("alarm.yaml", alarm)
	b.write("huts.yaml", huts)
	b.write("boot.sh", "echo one\n")
	b.write("huts.stack.yaml", "stack: huts\ntemplate: huts.yaml\ntarget: workshop/birch-1\n")
	b.deploy(run.StatusDone, "huts.stack.yaml")

	b.write("alarm.yaml", strings.NewReplacer("default: snow", "default: ice", "hoarfrost-1", "hoarfrost-2").
		Replace(alarm))
	b.write("huts.yaml", strings.NewReplacer("default: 2 d } }\n  node", "default: 5 d } }\n  node", "label: valley",
		"label: ridge", "requirements: [ network: net ]", "requirements: [ network: other ]").Replace(huts))
	b.write("boot.sh", "echo two\n")
	p := b.preview("huts.stack.yaml")
	for name, want := range map[string]string{
		"alarm/queue": "input days is 5 d, was 2 d",
		"alarm/topic": "input word of alarm is ice in the template, was snow (alarm.yaml:4)",
		"alarm/safe":  "input token of alarm is (secret) in the template, was (secret)",
		"net":         "the template says ridge for label, said valley",
		"rules":       "label of net is ridge in the template, was valley (huts.yaml:6);the template says other for network, said net (huts.yaml:8)",
		"model":       "the file boot.sh has changed (huts.yaml:12)",
	} {
		ch := p.Change(name)
		if got := strings.Join(ch.Because, ";"); !strings.Contains(got, want) {
			t.Errorf("%s %s because %s, want %s", ch.Kind, name, got, want)
		}
		if strings.Contains(strings.Join(ch.Because, ";"), "hoarfrost") {
			t.Errorf("%s shows a secret: %v", name, ch.Because)
		}
	}
	if got := strings.Join(p.Change("net").Then, " "); got != "rules" {
		t.Errorf("from net follows %q", got)
	}
}
