package stack_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"

	"brickrow/internal/bundle"
	"brickrow/internal/fleet"
	"brickrow/internal/profile"
	"brickrow/internal/rules"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// compile makes a schema ready, by way of its JSON.
func compile(t *testing.T, schema map[string]any) *jsonschema.Schema {
	t.Helper()
	text, err := json.Marshal(schema)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("mem:schema.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("mem:schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func asJSON(t *testing.T, text string) any {
	t.Helper()
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	out, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// The schema of fleet files takes one that is right, and finds what is not.
func TestSchemaOfFleets(t *testing.T) {
	const fleetFile = "fleet: bulletin\nstack: b.stack.yaml\nplaces:\n  - { target: workshop/*, inputs: { n: { filled_by: region } } }\n  - summit/alder-1\n" +
		"waves: [ 1, 25 %, rest ]\nat_once: 4\ntolerate: 1\non_failure: undo\npause_between: 30 s\n"
	s := compile(t, fleet.Schema([]*tosca.Property{{Name: "n", Type: profile.Read().Library.Data["integer"]}}))
	if err := s.Validate(asJSON(t, fleetFile)); err != nil {
		t.Error(err)
	}
	for _, change := range [][2]string{{"fleet: bulletin\n", ""}, {"filled_by: region", "filled_by: ridge"}, {"n: {", "m: {"}, {"workshop/*", "workshop"},
		{"25 %", "25 places"}, {"at_once: 4", "at_once: four"}, {"undo", "stop"}, {"30 s", "soon"}, {"tolerate", "tolerates"}} {
		if bad := strings.Replace(fleetFile, change[0], change[1], 1); s.Validate(asJSON(t, bad)) == nil {
			t.Errorf("the schema takes %s", bad)
		}
	}
}

// TestSchemaOfTemplates validates every template that is right, and some that
// are not.
func TestSchemaOfTemplates(t *testing.T) {
	s := compile(t, tosca.Schema(profile.Read().Library))
	var files []string
	for _, pattern := range []string{"../../examples/*/*.yaml", "../../examples/*/*/*.yaml",
		"../tosca/testdata/resolve/*.yaml", "../tosca/testdata/check/lib/*.yaml"} {
		more, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, more...)
	}
	n := 0
	for _, path := range files {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(path, ".stack.yaml") || !strings.Contains(string(text), "tosca_definitions_version") {
			continue
		}
		n++
		if err := s.Validate(asJSON(t, string(text))); err != nil {
			t.Errorf("%s: %v", path, err)
		}
	}
	if n < 20 {
		t.Errorf("only %d templates", n)
	}
	head := "tosca_definitions_version: tosca_2_0\nservice_template:\n  node_templates:\n    a: "
	for _, bad := range []string{"{ typ: Topic }", "{ type: Network, properties: { cidr: 5 } }",
		"{ type: Network, properties: { cird: 10.0.0.0/8 } }", "{ type: Network }", "{ type: Network, properties: {} }",
		"{ type: Queue, properties: { keep: 4 } }", "{ type: Queue, properties: { keep: 4 days } }",
		"{ type: Topic, properties: { label: { $conct: [ a ] } } }", "{ type: Topic, requirements: { a: b } }",
		"{ type: Role, properties: { for: cat } }", "{ type: Topic, count: -1 }"} {
		if s.Validate(asJSON(t, head+bad+"\n")) == nil {
			t.Errorf("the schema takes %s", bad)
		}
	}
}

func TestSchemaOfRules(t *testing.T) {
	s := compile(t, rules.FileSchema())
	text, err := os.ReadFile("../../examples/kestrel-ridge/rules/valley.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Validate(asJSON(t, string(text))); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{"rule: []", "rules: [ { id: a } ]",
		"rules: [ { id: a, message: b, require: c, severity: stop } ]",
		"rules: [ { id: a, message: b, require: c, changes: edited } ]", "tests: [ { rule: a, expect: maybe } ]"} {
		if s.Validate(asJSON(t, bad)) == nil {
			t.Errorf("the schema takes %s", bad)
		}
	}
}

func TestSchemaOfStackFiles(t *testing.T) {
	b, err := bundle.Open(bundle.Disk, "../../examples/kestrel-ridge/bulletin.yaml")
	if err != nil {
		t.Fatal(err)
	}
	f, _ := b.Read(profile.Read().Load)
	text, err := os.ReadFile("../../examples/kestrel-ridge/bulletin-test.stack.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []*jsonschema.Schema{compile(t, stack.FileSchema(nil)),
		compile(t, stack.FileSchema(f.Service.Inputs))} {
		if err := s.Validate(asJSON(t, string(text))); err != nil {
			t.Error(err)
		}
	}
	s := compile(t, stack.FileSchema(f.Service.Inputs))
	head := "stack: a1\ntemplate: t.yaml\ntarget: a/b\n"
	for _, bad := range []string{"inputs: { reader: 1 }", "inputs: { readers: many }", "inputs: { readers: 99 }",
		"inputs: { site: { from_evn: A } }", "carefull: true", "on_failure: cry", "tags: { a: 1 }"} {
		if s.Validate(asJSON(t, head+bad+"\n")) == nil {
			t.Errorf("the schema takes %s", bad)
		}
	}
	if s.Validate(asJSON(t, head+"inputs: { site: { from_env: A }, readers: 3, domain: a.example, alarm_url: x, "+
		"db_password: { from_env: B }, oncall_token: { from_file: c } }\n")) != nil {
		t.Error("the schema refuses what is right")
	}
}

// Mistakes that are often made are found by the schema alone.
func TestSchemasFindMistakes(t *testing.T) {
	template := compile(t, tosca.Schema(profile.Read().Library))
	sound := `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    site: { type: string }
    beds: { type: integer, default: 2 }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24, public: true }, requirements: [ network: net ] }
    hut: { type: Server, properties: { size: small, image: fern-12, label: { $get_input: site } }, requirements: [ subnet: sub ] }
    jobs: { type: Queue, properties: { keep: 4 d } }
    box: { type: Bucket, properties: { name: huts, keep_days: 7 } }
  outputs:
    where: { value: { $get_attribute: [ box, url ] } }
  policies:
    - keep: { type: Keep, targets: [ box ] }
`
	if err := template.Validate(asJSON(t, sound)); err != nil {
		t.Fatal(err)
	}
	for _, m := range [][2]string{
		{"public: true", "public: yes please"}, // another kind of value
		{"keep_days: 7", "keep_days: seven"},
		{"size: small", "size: smal"},         // a value that is not legal
		{"keep: 4 d", "keep: 4"},              // without its unit
		{"cidr: 10.0.0.0/16", "cidr: 10.0.0"}, // not of its form
		{"{ type: Bucket, properties: { name: huts, keep_days: 7 } }", "{ type: Bucket }"}, // a key that is missing
		{"size: small, image: fern-12,", "size: small,"},
		{", requirements: [ subnet: sub ]", ""},
		{"label: {", "lable: {"}, // a key that there is not
		{"outputs:", "output:"},
		{"subnet: sub", "subnett: sub"},
		{"type: Queue", "type: Quue"}, // a type that there is not
		{"{ type: string }", "{ default: x }"},
		{"{ value: {", "{ vale: {"},
		{"type: Keep, targets: [ box ]", "type: Keep"},
		{"$get_input", "$getinput"},
	} {
		text := strings.Replace(sound, m[0], m[1], 1)
		if text == sound {
			t.Fatal(m)
		}
		if template.Validate(asJSON(t, text)) == nil {
			t.Errorf("'%s' for '%s' is not found", m[1], m[0])
		}
	}
	f, findings := tosca.Read("a.yaml", []byte(sound), tosca.Source{Profile: profile.Read().Load})
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	file := compile(t, stack.FileSchema(f.Service.Inputs))
	good := "stack: huts\ntemplate: a.yaml\ntarget: workshop/alder-1\non_failure: hold\ninputs:\n  site: one\n  beds: 3\n"
	if err := file.Validate(asJSON(t, good)); err != nil {
		t.Fatal(err)
	}
	for _, m := range [][2]string{{"target: workshop/alder-1", "target: workshop"}, {"on_failure: hold", "on_failure: wait"},
		{"stack: huts\n", ""}, {"  site: one\n", ""}, {"beds: 3", "beds: many"}, {"beds: 3", "bed: 3"}, {"template:", "templat:"},
		{"site: one", "site: { from_enf: SITE }"}} {
		if file.Validate(asJSON(t, strings.Replace(good, m[0], m[1], 1))) == nil {
			t.Errorf("'%s' for '%s' is not found", m[1], m[0])
		}
	}
}
