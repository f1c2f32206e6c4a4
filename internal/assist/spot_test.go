package assist

import (
	"maps"
	"slices"
	"strings"
	"testing"
)

// cut takes the mark | out of a text, and yields its place.
func cut(t testing.TB, marked string) (*Text, Place) {
	t.Helper()
	before, after, ok := strings.Cut(marked, "‸")
	if !ok {
		t.Fatalf("no mark in %q", marked)
	}
	line := strings.Count(before, "\n")
	return NewText(before + after), Place{line, len(before) - strings.LastIndexByte(before, '\n') - 1}
}

func TestSpots(t *testing.T) {
	const nodes = "service_template:\n  node_templates:\n    net:\n      type: Network\n      properties: { cidr: 10.0.0.0/16 }\n"
	kinds := map[Kind]string{InText: "text", AtKey: "key", AtValue: "value"}
	for _, test := range []struct{ text, want, keys string }{
		{"‸", "key : ", ""},
		{"tosca‸", "key : tosca", ""},
		{"tosca_definitions_version: ‸", "value tosca_definitions_version: ", ""},
		{"tosca_definitions_version: tosca‸_2", "value tosca_definitions_version: tosca", ""},
		{nodes + "‸", "key : ", "service_template"},
		{nodes + "  ‸", "key service_template: ", "node_templates"},
		{nodes + "    ‸", "key service_template/node_templates: ", "net"},
		{nodes + "      pro‸", "key service_template/node_templates/net: pro", "properties type"},
		{nodes + "    sub:\n      ‸\n    other:\n      type: Topic\n", "key service_template/node_templates/sub: ", ""},
		{nodes + "    sub:\n      type: ‸\n    other:\n      type: Topic\n", "value service_template/node_templates/sub/type: ", ""},
		{nodes + "    sub:\n      properties:\n        ‸\n      type: Subnet\n", "key service_template/node_templates/sub/properties: ", ""},
		{nodes + "    sub:\n      requirements:\n        - ‸\n", "value service_template/node_templates/sub/requirements/[]: ", ""},
		{nodes + "    sub:\n      requirements:\n      - net‸\n", "value service_template/node_templates/sub/requirements/[]: net", ""},
		{nodes + "    sub:\n      requirements:\n      - network: n‸\n", "value service_template/node_templates/sub/requirements/[]/network: n", ""},
		{nodes + "    sub:\n      requirements:\n        - network:\n            no‸\n", "key service_template/node_templates/sub/requirements/[]/network: no", ""},
		{nodes + "    sub:\n      requirements:\n        - network: net\n          rul‸\n", "key service_template/node_templates/sub/requirements/[]: rul", "network"},
		{nodes + "    sub: { type: Sub‸net, properties: { cidr: x } }\n", "value service_template/node_templates/sub/type: Sub", "properties type"},
		{nodes + "    sub: { type: Subnet, properties: { ci‸ } }\n", "key service_template/node_templates/sub/properties: ci", ""},
		{nodes + "    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24, ‸ public: true } }\n", "key service_template/node_templates/sub/properties: ", "cidr public"},
		{nodes + "    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24, pu‸: true } }\n", "key service_template/node_templates/sub/properties: pu", "cidr"},
		{nodes + "    sub: { type: Subnet, requirements: [ ‸ ] }\n", "value service_template/node_templates/sub/requirements/[]: ", ""},
		{nodes + "    sub: { type: Subnet, requirements: [ network: ‸ ] }\n", "value service_template/node_templates/sub/requirements/[]/network: ", ""},
		{nodes + "    sub: { type: Subnet, requirements: [ { network: net }, { ‸", "key service_template/node_templates/sub/requirements/[]: ", ""},
		{nodes + "    sub:\n      properties:\n        label: { $concat: [ \"a b\", { $get_input: ‸ } ] }\n", "value service_template/node_templates/sub/properties/label/$concat/[]/$get_input: ", ""},
		{nodes + "    sub:\n      properties:\n        label: { $get_property: [ net, ci‸ ] }\n", "value service_template/node_templates/sub/properties/label/$get_property/[]: ci", ""},
		{nodes + "    sub:\n      properties: {\n        label: a,\n        ci‸\n      }\n", "key service_template/node_templates/sub/properties: ci", "label"},
		{nodes + "    sub:\n      properties:\n        user_data: |\n          #!/bin/sh\n          echo ‸\n", "text : ", ""},
		{nodes + "    sub:\n      properties:\n        user_data: |\n          echo\n        la‸\n", "key service_template/node_templates/sub/properties: la", "user_data"},
		{nodes + "    sub: # a commen‸t\n", "text : ", ""},
		{nodes + "    \"quo ted\":\n      type: Top‸\n", "value service_template/node_templates/quo ted/type: Top", ""},
		{nodes + "    sub:\n      properties:\n        label: \"sno‸w\"\n", "value service_template/node_templates/sub/properties/label: sno", ""},
		{"imports:\n  - profile: ‸\n", "value imports/[]/profile: ", ""},
		{"imports: [ { profile: brick‸ } ]\n", "value imports/[]/profile: brick", ""},
		{"---\nstack: a\ninputs:\n  wor‸\n", "key inputs: wor", ""},
		{nodes + "    sub:\n      type: Subnet\n\n      ‸\n", "key service_template/node_templates/sub: ", "type"},
		{nodes + "    sub:\n      requirements:\n        - ‸\n        - rules: r\n", "value service_template/node_templates/sub/requirements/[]: ", ""},
		{nodes + "    sub: { properties: { a: '}', b: \"{\", ‸", "key service_template/node_templates/sub/properties: ", "a b"},
	} {
		text, at := cut(t, test.text)
		s := text.At(at)
		got := kinds[s.Kind] + " " + strings.Join(s.Path(), "/") + ": " + s.Word
		if got != test.want {
			t.Errorf("%q\n got  %s\n want %s", test.text, got, test.want)
			continue
		}
		if test.keys == "" && s.Kind != AtKey {
			continue
		}
		keys := s.Keys()
		if s.Kind == AtValue {
			keys = s.Beside(len(s.Way) - 1)
		}
		delete(keys, s.Word)
		if got := strings.Join(slices.Sorted(maps.Keys(keys)), " "); got != test.keys {
			t.Errorf("%q\n keys %q, want %q", test.text, got, test.keys)
		}
	}
}

// TestSpotsNeverFail asks at every place of texts that are cut off and mixed up.
func TestSpotsNeverFail(t *testing.T) {
	whole := "a: { b: [ c, { d: 'e', \"f\": g } ] } # h\nlist:\n- x: 1\n  y: |\n    text\n  - z\n\t{]}:\n山: { 山: [\n"
	for n := 0; n <= len(whole); n++ {
		text := NewText(whole[:n] + whole[n/2:])
		for line := range text.Lines {
			for c := -1; c <= len(text.Lines[line])+1; c++ {
				s := text.At(Place{line, c})
				s.Keys()
				for i := range s.Way {
					s.Beside(i)
				}
				if s.To.Less(s.From) || s.Kind != InText && text.Slice(s.Range) == "\x00" {
					t.Fatalf("%q at %d:%d: %+v", text.String(), line, c, s.Range)
				}
			}
		}
	}
}
