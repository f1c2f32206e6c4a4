package stack_test

import (
	"slices"
	"testing"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

func TestReadFile(t *testing.T) {
	f, findings := stack.ReadFile("x.stack.yaml", []byte(`stack: bulletin-test
template: bulletin.yaml
target: workshop/alder-1
careful: true
on_failure: hold
tags: { desk: snow }
inputs:
  n: 3
  text: $not_a_function
  a: { from_env: TOKEN }
  b: { from_file: secrets/b }
  c: { from_stack: { stack: base, output: url } }
  d: { plain: map }
`), "")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if f.Stack != "bulletin-test" || f.Target.String() != "workshop/alder-1" || !f.Careful || f.OnFailure != "hold" ||
		f.Tags["desk"] != "snow" || len(f.Inputs) != 6 {
		t.Errorf("%+v", f)
	}
	for i, want := range []string{"", "", "from the variable TOKEN", "from the file secrets/b", "from url of base",
		""} {
		got := ""
		if s := f.Inputs[i].Source; s != nil {
			got = s.String()
		}
		if got != want || (got == "") != (f.Inputs[i].Value != nil) {
			t.Errorf("input %d: source %q, want %q", i, got, want)
		}
	}
	if got := f.Inputs[1].Value.Value; got != tosca.String("$not_a_function") {
		t.Errorf("a text with a dollar is %#v", got)
	}
	if f.Inputs[0].Pos.Line != 8 {
		t.Errorf("n stands in line %d", f.Inputs[0].Pos.Line)
	}
}

func TestReadFileRefuses(t *testing.T) {
	const good = "stack: a-stack\ntemplate: t.yaml\ntarget: a/b\n"
	for _, test := range []struct {
		name, text string
		codes      []string
	}{
		{"nothing", "", []string{"empty-file"}},
		{"a list", "- a\n", []string{"wrong-type"}},
		{"missing keys", "careful: false\n", []string{"missing-key", "missing-key", "missing-key"}},
		{"unknown key", good + "imputs: {}\n", []string{"unknown-key"}},
		{"doubled key", good + "stack: b\n", []string{"duplicate-key"}},
		{"bad name", "stack: Bulletin Test\ntemplate: t.yaml\ntarget: a/b\n", []string{"bad-name"}},
		{"bad target", "stack: bb\ntemplate: t.yaml\ntarget: alder-1\n", []string{"bad-target"}},
		{"bad throwaway", good + "throwaway: 1\n", []string{"wrong-type"}},
		{"careful and throwaway", good + "careful: true\nthrowaway: true\n", []string{"invalid-value"}},
		{"nobody's identity", good + "approvers: [ anna ]\ndeployers: { a: b }\n",
			[]string{"bad-identity", "wrong-type"}},
		{"bad careful", good + "careful: very\n", []string{"wrong-type"}},
		{"bad on_failure", good + "on_failure: panic\n", []string{"invalid-value"}},
		{"a tag of two lines", good + "tags: { desk: \"snow\\nice\" }\n", []string{"bad-tag"}},
		{"a tag with a letter that is not seen", good + "tags: { \"de\\u200bsk\": snow }\n", []string{"bad-tag"}},
		{"reserved tag", good + "tags: { stack: mine }\n", []string{"reserved-tag"}},
		{"tags as a list", good + "tags: [ a ]\n", []string{"wrong-type"}},
		{"unknown source", good + "inputs: { a: { from_nowhere: x } }\n", []string{"unknown-key"}},
		{"half a source", good + "inputs: { a: { from_stack: { stack: x } } }\n", []string{"missing-key"}},
		{"unknown part of a source", good + "inputs: { a: { from_stack: { stack: x, output: y, result: z } } }\n",
			[]string{"unknown-key"}},
		{"template as a list", "stack: bb\ntemplate: [ a ]\ntarget: a/b\n", []string{"wrong-type"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			_, findings := stack.ReadFile("x.stack.yaml", []byte(test.text), "")
			var codes []string
			for _, f := range findings {
				codes = append(codes, f.Code)
			}
			if !slices.Equal(codes, test.codes) {
				t.Errorf("found %v", findings)
			}
		})
	}
}

func FuzzStackFile(f *testing.F) {
	f.Add("stack: a-stack\ntemplate: t.yaml\ntarget: a/b\ninputs: { a: { from_stack: { stack: x, output: y } } }\n")
	f.Add("inputs: { a: &a [ *a ] }")
	f.Add("tags: *x")
	f.Add("inputs: { a: { from_env: [ x ] } }")
	f.Fuzz(func(t *testing.T, text string) {
		file, findings := stack.ReadFile("x.stack.yaml", []byte(text), "")
		if file == nil {
			t.Fatal("no file")
		}
		for _, found := range findings {
			if found.Code == "" || found.Message == "" {
				t.Errorf("an empty finding: %+v", found)
			}
		}
	})
}

// TestSourcesInWords reads the stack and the result back that an origin keeps.
func TestSourcesInWords(t *testing.T) {
	for _, s := range []stack.Source{{Env: "HUT of TOKEN"}, {File: "the one of all.txt"},
		{Stack: "ridge-base", Output: "subnet"}} {
		of, result, ok := stack.Origin{Via: s.String()}.Result()
		if of != s.Stack || result != s.Output || ok != (s.Stack != "") {
			t.Errorf("%q became %q of %q", s, result, of)
		}
	}
	if _, _, ok := (stack.Origin{Via: "n=3"}).Result(); ok {
		t.Error("a flag has a source")
	}
}
