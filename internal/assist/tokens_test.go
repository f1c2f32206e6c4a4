package assist

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestTokens(t *testing.T) {
	text := NewText(`# about
tosca_definitions_version: tosca_2_0
node_types:
  Hut:
    derived_from: Server
    properties:
      beds: { type: integer, default: 4 }
service_template:
  description: |
    type: words
  inputs:
    site: { type: string, default: "one # two" }
  node_templates:
    hut:
      type: Hut
      count: { $get_input: site } # how many
      properties:
        size: small
        tags: { desk: snow, open: true }
        user_data: |
          echo { $get_input: x }
        label: { $concat: [ a-, $node_index, { $get_attribute: [ hut, id ] } ] }
      requirements:
        - subnet: sub
        - rules: { node: gate }
  policies:
    - keep: { type: Keep, targets: [ hut ] }
`)
	var got []string
	for _, k := range text.Tokens(0, len(text.Lines)) {
		mark := ""
		if k.Defines {
			mark = "!"
		}
		got = append(got, strings.ReplaceAll(text.Slice(k.Range), " ", "_")+"="+string(k.Kind)+mark)
	}
	want := strings.Fields(`#_about=comment tosca_definitions_version=keyword tosca_2_0=string node_types=keyword Hut=type!
		derived_from=keyword Server=type properties=keyword beds=property! type=keyword integer=type default=keyword 4=number
		service_template=keyword description=keyword |=string type:_words=string inputs=keyword site=parameter! type=keyword
		string=type default=keyword "one_#_two"=string node_templates=keyword hut=variable! type=keyword Hut=type
		count=keyword $get_input=function site=parameter #_how_many=comment properties=keyword size=property small=string
		tags=property desk=property snow=string open=property true=literal user_data=property |=string
		echo_{_$get_input:_x_}=string label=property $concat=function a-=string $node_index=function
		$get_attribute=function hut=variable id=string requirements=keyword subnet=property sub=variable rules=property
		node=property gate=variable policies=keyword keep=variable! type=keyword Keep=type targets=keyword hut=variable`)
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || got[i] != want[i] {
			t.Fatalf("at %d:\ngot  %s\nwant %s", i, strings.Join(got[max(0, i-2):min(i+8, len(got))], " "),
				strings.Join(want[max(0, min(i, len(want))-2):min(i+8, len(want))], " "))
		}
	}
}

// A part of a text has the colours that it has in the whole, and no text is too odd.
func TestTokensOfAPart(t *testing.T) {
	paths, _ := filepath.Glob("../../examples/*/*.yaml")
	more, _ := filepath.Glob("../tosca/testdata/check/*.yaml")
	for _, path := range append(paths, more...) {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		text := NewText(string(b))
		all := text.Tokens(0, len(text.Lines))
		for i, k := range all {
			if i > 0 && k.From.Less(all[i-1].To) || !k.From.Less(k.To) {
				t.Fatalf("%s: %v after %v", path, k, all[max(i-1, 0)])
			}
		}
		for from := 0; from < len(text.Lines); from += 7 {
			part := text.Tokens(from, from+5)
			var want []Token
			for _, k := range all {
				if k.From.Line >= from && k.From.Line < from+5 {
					want = append(want, k)
				}
			}
			if len(part) != len(want) {
				t.Fatalf("%s:%d: %d tokens, want %d", path, from, len(part), len(want))
			}
			for i := range part {
				if part[i] != want[i] {
					t.Fatalf("%s:%d: %v, want %v", path, from, part[i], want[i])
				}
			}
		}
	}
}
