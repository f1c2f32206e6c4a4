package tosca

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestFormatIsStable formats every template there is: it must keep its meaning
// and come out the same the second time.
func TestFormatIsStable(t *testing.T) {
	var files []string
	for _, pattern := range []string{"testdata/check/*.yaml", "testdata/check/*/*.yaml", "testdata/format/*.yaml",
		"../../examples/*/*.yaml", "../../examples/*/*/*.yaml", "../profile/*.yaml"} {
		more, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, more...)
	}
	formatted := 0
	for _, path := range files {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		once, findings := Format(path, text)
		if findings.HasErrors() {
			if strings.Contains(path, "format/") || strings.Contains(path, "examples") ||
				strings.Contains(path, "profile/") || findings[0].Code == "cannot-format" {
				t.Errorf("%v", findings)
			}
			continue
		}
		formatted++
		twice, findings := Format(path, once)
		if string(once) != string(twice) {
			t.Errorf("%s: the second time it is different: %v\n%s", path, findings,
				firstDifference(string(once), string(twice)))
		}
	}
	if formatted < 50 {
		t.Errorf("only %d files could be formatted", formatted)
	}
}

func firstDifference(a, b string) string {
	as, bs := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range as {
		if i >= len(bs) || as[i] != bs[i] {
			return as[i] + "\n" + strings.Join(bs[min(i, len(bs)):min(i+1, len(bs))], "")
		}
	}
	return "(more lines)"
}

// TestFormat shows what the one form is.
func TestFormat(t *testing.T) {
	const untidy = `# a template
tosca_definitions_version:   tosca_2_0
service_template:
    outputs: {a: {value: 'x', description: "an output"}}


    node_templates:
        # the first one
        net:
            properties: {cidr: '10.0.0.0/16',label: "it's"} # beside it
            type: Network
        sub: &s
            requirements: [{network: net}]
            type: "Subnet"
            properties:
                cidr: "10.0.1.0/24"
                tags: {a: "yes", b: "5", "c": 'on', d: "a: b", e: '#f', g: "tab\there"}
                label: |
                    two
                    lines
        two: *s
imports:
- {profile: brickrow.cloud:1}
# the end
`
	const tidy = `# a template
tosca_definitions_version: tosca_2_0
imports:
  - { profile: brickrow.cloud:1 }
# the end
service_template:
  # the first one
  node_templates:
    net:
      type: Network
      properties: { cidr: 10.0.0.0/16, label: "it's" } # beside it
    sub: &s
      type: Subnet
      properties:
        cidr: 10.0.1.0/24
        tags: { a: "yes", b: "5", c: "on", d: "a: b", e: "#f", g: "tab\there" }
        label: |
          two
          lines
      requirements: [ { network: net } ]
    two: *s
  outputs: { a: { description: an output, value: x } }
`
	got, findings := Format("x.yaml", []byte(untidy))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	lines := func(s string) map[string]int {
		m := map[string]int{}
		for line := range strings.SplitSeq(s, "\n") {
			m[line]++
		}
		return m
	}
	want := lines(tidy)
	for line, n := range lines(string(got)) { // where comments go is the parser's
		if strings.TrimSpace(line) != "" && !strings.HasPrefix(strings.TrimSpace(line), "#") && want[line] != n {
			t.Errorf("the line %q stands there %d times, want %d:\n%s", line, n, want[line], got)
		}
	}
	for _, text := range []string{"a: [", "a: 1\na: 2\n", ""} {
		if out, findings := Format("x.yaml", []byte(text)); !findings.HasErrors() {
			t.Errorf("%q becomes %q", text, out)
		}
	}
}

// FuzzFormat formats anything: what comes out must mean the same, and stay as
// it is.
func FuzzFormat(f *testing.F) {
	for _, seed := range []string{"a: b", "a: &x [ 1, \"2\", '3' ]\nb: *x\n", "# c\na: # d\n  - b # e\n  # f\n",
		"a: |+\n  x\n\n\nb: >-\n  y z\n", "? a\n: b\n", "a: !!str 5\n", "x:\n- - a\n  - b\n- c: d\n  e: f\n",
		"\"on\": no\n", "a: {b: {c: []}}\n", "a:\n\n  b: 1\n\n\n  c: 2\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		once, findings := Format("x.yaml", []byte(text))
		if findings.HasErrors() {
			return
		}
		twice, findings := Format("x.yaml", once)
		if findings.HasErrors() || string(once) != string(twice) {
			t.Errorf("%q becomes %q and then %q: %v", text, once, twice, findings)
		}
	})
}

// FuzzFunction calls every function with anything.
func FuzzFunction(f *testing.F) {
	names := append(functionNames(Yes), functionNames(NotYet)...)
	for i := range names {
		for _, args := range []string{"[]", "[ a, 1, [ b ] ]", "[ 10 s, 3 ]", "[ [ a, b ], [ a ] ]",
			"[ { a: 1 }, a ]", "[ true, false ]", "[ 9223372036854775807, -1 ]", "[ 1e308, 1e308 ]", "[ null ]",
			"[ '', '', 0 ]"} {
			f.Add(byte(i), args)
		}
	}
	f.Fuzz(func(t *testing.T, i byte, args string) {
		name := names[int(i)%len(names)]
		var findings Findings
		root := ParseYAML("x.yaml", []byte("v: { $"+name+": "+args+" }\n"), &findings)
		if root == nil || len(root.Content) < 2 {
			return
		}
		r := &reader{file: "x.yaml", shared: &shared{}, budget: 10_000}
		x := r.expr(root.Content[1])
		env := &Env{Index: 0, Findings: &r.findings, Input: func(string) (Value, bool) { return String("x"), true },
			Node: func(*Expr, []Value) Value { return Unknown{Of: []Attribute{{"a", "b"}}} }}
		v := env.Eval(x)
		if v == nil {
			t.Fatalf("$%s %s is nothing", name, args)
		}
		if isBad(v) && !r.findings.HasErrors() {
			t.Errorf("$%s %s is bad and nothing was said", name, args)
		}
		Show(v)
		if HasSecret(v) {
			t.Errorf("$%s %s made a secret", name, args)
		}
	})
}

// A map that takes another one in is formatted, and stays what it is.
func TestFormatMerges(t *testing.T) {
	text := "tosca_definitions_version: tosca_2_0\ndsl_definitions:\n  usual: &usual { label: x }\nservice_template:\n  node_templates:\n    a: { type: Topic, properties: { <<: *usual } }\n    b:\n      type: Topic\n      properties:\n        <<: *usual\n"
	out, findings := Format("t.yaml", []byte(text))
	if findings.HasErrors() || strings.Count(string(out), "<<: *usual") != 2 {
		t.Errorf("%v\n%s", findings, out)
	}
	again, findings := Format("t.yaml", out)
	if findings.HasErrors() || string(again) != string(out) {
		t.Errorf("%v\n%s", findings, again)
	}
}
