package tosca_test

import (
	"strings"
	"testing"

	"brickrow/internal/profile"
	"brickrow/internal/tosca"
)

// A change within one node is read alone, also where lines come or go; what is more than
// a change of values is not.
func TestReadPatch(t *testing.T) {
	const text = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  node_templates:
    one:
      type: Topic
      count: 2
      properties:
        label: a

    two: { type: Queue, properties: { keep: 3 d } }
  outputs:
    where: { value: { $get_attribute: [ two, url ] } }
`
	src := tosca.Source{Profile: profile.Read().Load}
	f, found := tosca.Read("a.yaml", []byte(text), src)
	if len(found) > 0 {
		t.Fatal(found)
	}
	for _, test := range []struct {
		name, was, is string
		patched       bool
		more          int
	}{
		{"a value", "label: a", "label: ab", true, 0},
		{"a line more", "label: a\n", "label: a\n        tags: { a: b }\n", true, 1},
		{"a blank line in front of the next", "\n    two", "\n\n    two", true, 1},
		{"a line fewer", "a\n\n    two", "a\n    two", true, -1},
		{"a comment", "label: a\n", "# said\n        label: a\n", true, 1},
		{"another kind of count", "count: 2", `count: "2"`, false, 0},
		{"another count", "count: 2", "count: 3", false, 0},
		{"another type", "type: Topic", "type: Queue", false, 0},
		{"another node", "    two:", "    three: { type: Topic }\n    two:", false, 0},
		{"behind the nodes", "url ]", "id ]", false, 0},
		{"another name", "one:", "first:", false, 0},
		{"an anchor", "label: a", "label: &a a", false, 0},
		{"nothing", "label: a", "label: a", false, 0},
	} {
		now := strings.Replace(text, test.was, test.is, 1)
		p, ok := tosca.ReadPatch(f, []byte(text), []byte(now), src)
		if ok != test.patched {
			t.Errorf("%s: read in part %t", test.name, ok)
			continue
		}
		if !ok {
			continue
		}
		whole, _ := tosca.Read("a.yaml", []byte(now), src)
		for i, n := range whole.Service.Nodes {
			if got := p.Moved.Pos(p.File.Service.Nodes[i].Pos); got != n.Pos {
				t.Errorf("%s: %s is at %v, and is told to be at %v", test.name, n.Name, n.Pos, got)
			}
			for k, a := range n.Properties {
				if got := p.Moved.Pos(p.File.Service.Nodes[i].Properties[k].Value.Pos); got != a.Value.Pos {
					t.Errorf("%s: %s of %s is at %v, and is told to be at %v", test.name, a.Name, n.Name, a.Value.Pos, got)
				}
			}
		}
		if (p.Moved != nil) != (test.more != 0) || p.Moved != nil && p.Moved.By != test.more {
			t.Errorf("%s: moved by %v", test.name, p.Moved)
		}
	}
}
