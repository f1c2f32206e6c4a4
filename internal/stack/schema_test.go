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
		if strings.HasSuffix(path, ".stack.yaml") || strings.Contains(path, "/rules/") {
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
	if s.Validate(asJSON(t, head+"inputs: { site: { from_env: A }, readers: 3 }\n")) != nil {
		t.Error("the schema refuses what is right")
	}
}
