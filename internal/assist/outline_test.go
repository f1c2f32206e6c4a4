package assist

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestOutline(t *testing.T) {
	text := NewText(`tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
data_types:
  Words: { derived_from: string }
service_template:
  description: |
    inputs:
      nothing: at all
  inputs: { name: { type: Words }, size: { type: string,
    default: small } }
  node_templates:
    net:
      type: Network
      properties:
        user_data: |
          type: Nonsense
        cidr: x
    # a comment
    hut: { type: Server, count: 2 }
    broken: {
    late:
      count: 3
      type: Topic
      wrong
  policies:
  - keep: { type: Keep, targets: [ net ] }
  outputs:
    where: { value: x }
`)
	o := text.Outline()
	var got []string
	for _, s := range o.Symbols {
		many := ""
		if s.Count {
			many = "*"
		}
		got = append(got, fmt.Sprintf("%s/%s:%s%s@%d-%d", s.Section, s.Name, s.Type, many, s.At.Line+1, s.To))
	}
	want := "data_types/Words:string@4-4 inputs/name:Words@9-10 inputs/size:string@9-10 node_templates/net:Network@12-18 " +
		"node_templates/hut:Server*@19-19 node_templates/broken:@20-20 node_templates/late:Topic*@21-24 " +
		"policies/keep:Keep@26-26 outputs/where:@28-29"
	if strings.Join(got, " ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, " "), want)
	}
	if o.Kind != Template || o.Root("tosca_definitions_version") != "tosca_2_0" {
		t.Errorf("%q %v", o.Kind, o.roots)
	}
	for text, kind := range map[string]FileKind{"stack: a\ntemplate: b\n": StackFile, "rules:\n- id: a\n": Rules, "x: 1": OtherFile} {
		if got := NewText(text).Outline().Kind; got != kind {
			t.Errorf("%q is a %q", text, got)
		}
	}
	file, err := os.ReadFile("../../examples/kestrel-ridge/bulletin.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if o := NewText(string(file)).Outline(); len(o.Of("node_templates")) != 22 || len(o.Of("inputs")) < 5 || len(o.Of("outputs")) < 4 {
		t.Errorf("%d nodes, %d inputs, %d outputs", len(o.Of("node_templates")), len(o.Of("inputs")), len(o.Of("outputs")))
	}
}

// What is read anew after an edit is the same as what is read of the whole.
func TestOutlineAfter(t *testing.T) {
	var texts []string
	paths, _ := filepath.Glob("../../examples/*/*.yaml")
	for _, path := range paths {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, string(b))
	}
	pieces := []string{"\n", "x: 1\n", "  ", "    hut:\n      type: Server\n", "|\n", "{ a: b }", "#", "inputs:\n", "- ", "count: 2", ""}
	show := func(o *Outline) (out string) {
		for _, s := range o.Symbols {
			out += fmt.Sprintf("%s/%s:%s %v @%v-%d\n", s.Section, s.Name, s.Type, s.Count, s.At, s.To)
		}
		return out + fmt.Sprint(o.Kind, o.roots)
	}
	r := rand.New(rand.NewPCG(1, 2))
	short := 0
	for range 1500 {
		text := NewText(texts[r.IntN(len(texts))])
		o := text.Outline()
		for range 6 {
			from := Place{r.IntN(len(text.Lines)), r.IntN(12)}
			to := Place{min(from.Line+max(0, r.IntN(6)-3), len(text.Lines)-1), r.IntN(12)}
			next := text.Apply(Edit{Range{from, to}, pieces[r.IntN(len(pieces))]})
			after := next.OutlineAfter(text, o)
			if len(after.Symbols) > 0 && len(o.Symbols) > 0 && after.Symbols[0] == o.Symbols[0] {
				short++
			}
			if got, want := show(after), show(next.Outline()); got != want {
				t.Fatalf("after %v to %v of\n%s\ngot\n%s\nwant\n%s", from, to, text, got, want)
			}
			text, o = next, after
		}
	}
	if short < 1000 {
		t.Errorf("only %d of the outlines were read in part", short)
	}
}
