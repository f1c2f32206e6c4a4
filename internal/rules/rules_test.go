package rules

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/bundle"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

var shipped = profile.Read()

// read reads one file of rules.
func read(t *testing.T, text string) *Set {
	t.Helper()
	s := NewSet(shipped.Library)
	s.Add("rules/team.yaml", []byte(text))
	return s
}

const oneRule = `rules:
  - id: small
    message: it is too large
    types: [ Server ]
    require: after.size != 'xlarge'
`

const template = `tosca_definitions_version: tosca_2_0
imports:
  - profile: brickrow.cloud:1
service_template:
  node_templates:
    valley_net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    ops: { type: Key, properties: { public_key: ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOtgPFHDMnhyCT4vRFt7nSEvFGuO5cWkzl9p6vy8dTqB ops } }
    part: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ network: valley_net ] }
    gate:
      type: Rules
      properties: { allow: [ { direction: in, protocol: tcp, ports: "22", peer: 0.0.0.0/0 } ] }
      requirements: [ network: valley_net ]
    station:
      type: Server
      properties: { image: snowline-24, size: xlarge, tags: { at: { $get_attribute: [ valley_net, id ] } } }
      requirements: [ subnet: part, rules: gate, key: ops ]
`

// changes is a what-if of the template, with what was recorded.
func changes(t *testing.T, recorded ...*stack.Recorded) Context {
	t.Helper()
	file, findings := tosca.Read("t.yaml", []byte(template), tosca.Source{Profile: shipped.Load})
	wanted, more := stack.CheckAndResolve(file, stack.Options{})
	if findings = append(findings, more...); findings.HasErrors() {
		t.Fatal(findings)
	}
	set := whatif.Compare(whatif.State{Stack: "ridge", Target: stack.Target{Account: "live", Region: "alder-1"},
		Wanted: wanted, Recorded: recorded})
	return Context{Changes: set, Inputs: map[string]tosca.Value{"huts": tosca.Int(7),
		"token": tosca.Secret{Value: tosca.String("pager-hoarfrost")}}, Tags: map[string]string{"team": "ridge"}}
}

// TestRulesAreJudged goes through what an expression can see.
func TestRulesAreJudged(t *testing.T) {
	context := changes(t, &stack.Recorded{Name: "old", Type: "Bucket", ID: "b-1",
		Properties: map[string]tosca.Value{"name": tosca.String("frames")}})
	for _, c := range []struct{ rule, wants string }{
		{"types: [ Server ]\n    require: after.size != 'xlarge'", "rule"},
		{"types: [ Server ]\n    severity: warn\n    require: after.size != 'xlarge'", "rule"},
		{"types: [ Server ]\n    require: after.size == 'xlarge'", ""},
		{"types: [ Bucket ]\n    require: after.name == 'none of these is there'", ""},
		{"types: [ Bucket ]\n    changes: [ drop ]\n    require: before.name != 'frames'", "rule"},
		{"types: [ Bucket ]\n    changes: drop\n    require: before.name == 'frames' && after == null", ""},
		{"types: [ Server ]\n    changes: [ swap ]\n    require: 'false'", ""},
		{"types: [ Rules ]\n    require: '!after.allow.exists(r, r.peer.endsWith(\"/0\") && r.ports == \"22\")'",
			"rule"},
		{"types: [ Rules ]\n    require: after.allow.all(r, r.ports != '23')", ""},
		{"types: [ Subnet ]\n    require: cidr('10.0.0.0/16').containsCIDR(after.cidr)", ""},
		{"types: [ Server ]\n    require: resource.links.subnet == ['part'] && 'valley_net' in resource.needs && resource.change == 'new'", ""},
		{"types: [ Server ]\n    require: after.tags.at != 'x'", "rule-not-judged"},
		{"types: [ Server ]\n    require: after.tags.at != 'x' || after.size == 'xlarge'", ""},
		{"types: [ Server ]\n    require: after.user_data == null", ""},
		{"types: [ Server ]\n    require: after.user_data.size() < 10", "broken-rule"},
		{"types: [ Server ]\n    require: before.size != after.size", "broken-rule"},
		{"types: [ Server ]\n    require: after.size.matches('^[a-z]+$')", ""},
		{"types: [ Server ]\n    require: after.size.matches('^[A-Z]+$')", "rule"},
		{"types: [ Server ]\n    require: ('" + strings.Repeat("a", 20_000) + "' + after.size).matches('(a?){1000}b')", "broken-rule"},
		{"types: [ Server ]\n    require: after.size.matches('" + strings.Repeat("a?", 600) + "')", "broken-rule"},
		{"types: [ Server ]\n    require: matches(after.tags.at, '^x$') || true", ""},
		{"each: stack\n    require: stack.tally.drop == 0 || target.account != 'live'", "rule"},
		{"each: stack\n    require: stack.inputs.huts < 8 && stack.tags.team == 'ridge' && !stack.careful", ""},
		{"each: stack\n    require: stack.inputs.token == '(secret)'", ""},
		{"each: stack\n    require: stack.resources.exists(r, r.type == 'Alarm')", "rule"},
		{"each: stack\n    require: '[1,2,3,4,5,6,7,8,9,10].all(a, [1,2,3,4,5,6,7,8,9,10].all(b, [1,2,3,4,5,6,7,8,9,10].all(c, [1,2,3,4,5,6,7,8,9,10].all(d, [1,2,3,4,5,6,7,8,9,10].all(e, [1,2,3,4,5,6,7,8,9,10].all(f, a+b+c+d+e+f > 0))))))'", "broken-rule"},
	} {
		s := read(t, "rules:\n  - id: tried\n    message: so it is\n    "+c.rule+"\n")
		if len(s.Findings) > 0 {
			t.Errorf("%s\n%v", c.rule, s.Findings)
			continue
		}
		got := s.Judge(context)
		codes := ""
		for _, f := range got {
			codes += f.Code
			if warns := f.Severity == tosca.Warning; warns != (strings.Contains(c.rule, "warn") ||
				f.Code == "rule-not-judged") {
				t.Errorf("%s\nits severity is %s", c.rule, f.Severity)
			}
		}
		if codes != c.wants {
			t.Errorf("%s\nwants %q: %v", c.rule, c.wants, got)
		}
	}
}

// TestTheLineOfTheResource wants a rule to point at the template, and to say
// where it stands itself.
func TestTheLineOfTheResource(t *testing.T) {
	got := read(t, oneRule).Judge(changes(t))
	if len(got) != 1 || got[0].File != "t.yaml" || got[0].Line != 13 ||
		!strings.Contains(got[0].Fix, "team.yaml:2") ||
		!strings.Contains(got[0].Message, "station: it is too large (rule small)") {
		t.Errorf("%+v", got)
	}
}

// TestBrokenRulesAreRefused wants each mistake at its line and column.
func TestBrokenRulesAreRefused(t *testing.T) {
	rule := func(more string) string {
		return "rules:\n  - id: a\n    message: m\n    " + more + "\n"
	}
	for _, c := range []struct{ text, at, says string }{
		{"rule: []\n", "1:1", "no key 'rule'"},
		{"rules: {}\n", "1:8", "must be a list"},
		{"rules:\n  - id: a\n", "2:5", "needs the key"},
		{rule("require: after.size >"), "4:26", "Syntax error"},
		{rule("require: '1 + 1'"), "4:14", "true or false"},
		{rule("require: nowhere.x == 1"), "4:14", "undeclared reference to 'nowhere'"},
		{rule("types: Server\n    require: after.sise == 'small'"), "5:19", "after.sise"},
		{rule("types: Server\n    require: |\n      true &&\n      after.sise == 'small'"), "7:12", "after.sise"},
		{rule("require: '!resource.kept'"), "4:24", "resource.kept"},
		{rule("require: target.zone == 'a'"), "4:20", "target.zone"},
		{rule("severity: stop\n    require: 'true'"), "4:15", "severity"},
		{rule("changes: [ edited ]\n    require: 'true'"), "4:16", "no change 'edited'"},
		{rule("each: day\n    require: 'true'"), "4:11", "not for each 'day'"},
		{rule("each: stack\n    types: Server\n    require: 'true'"), "2:5", "about types"},
		{rule("requires: 'true'"), "4:5", "no key 'requires'"},
		{oneRule + strings.TrimPrefix(oneRule, "rules:\n"), "6:9", "'small' already"},
		{oneRule + "tests:\n  - { rule: smal, expect: pass }\n", "7:5", "no rule 'smal'"},
		{oneRule + "tests:\n  - { rule: small, expect: true }\n", "7:28", "cannot expect"},
		{oneRule + "tests:\n  - { rule: small, expect: pass, after: { sise: small } }\n", "7:43", "no 'sise'"},
		{oneRule + "tests:\n  - { rule: small, expect: pass, type: Serwer }\n", "7:40", "no type 'Serwer'"},
		{oneRule + "tests:\n  - { rule: small }\n", "7:5", "what it expects"},
	} {
		s := read(t, c.text)
		if len(s.Findings) == 0 {
			t.Errorf("nothing is wrong with\n%s", c.text)
			continue
		}
		f := s.Findings[0]
		if got := fmt.Sprintf("%d:%d", f.Line, f.Column); got != c.at || !strings.Contains(f.Message, c.says) ||
			f.Severity != tosca.Error || f.Code != "broken-rule" {
			t.Errorf("%s\nwants %q at %s: %v", c.text, c.says, c.at, f)
		}
	}
	if s := read(t, strings.Replace(oneRule, "Server", "Serwer", 1)); len(s.Findings) != 1 ||
		s.Findings[0].Code != "rule-without-type" || !strings.Contains(s.Findings[0].Fix, "Server") ||
		len(s.Rules) != 1 {
		t.Error(s.Findings)
	}
}

// TestTests carries tests out that expect the right thing and the wrong.
func TestTests(t *testing.T) {
	s := read(t, oneRule+`  - id: calm
    message: too much goes at once
    each: stack
    require: stack.tally.drop < 3
  - id: lonely
    message: nobody tries it
    require: 'true'
tests:
  - { name: a small one, rule: small, after: { size: small }, expect: pass }
  - { name: nothing set, rule: small, expect: pass }
  - { name: the largest, rule: small, after: { size: xlarge }, expect: fail }
  - { name: wrong, rule: small, after: { size: xlarge }, expect: pass }
  - { name: breaks, rule: small, change: drop, expect: pass }
  - { name: many, rule: calm, stack: { tally: { drop: 3 } }, expect: fail }
  - { name: few, rule: calm, expect: pass }
`)
	if len(s.Findings) > 0 {
		t.Fatal(s.Findings)
	}
	var bad []string
	for _, o := range s.Try() {
		if !o.Good {
			bad = append(bad, o.Name+": "+o.Reason)
		}
	}
	if len(s.Tests) != 7 || len(bad) != 2 || !strings.Contains(bad[0], "wrong: it should pass, and it fails") ||
		!strings.Contains(bad[1], "breaks: it breaks down") {
		t.Errorf("%d tests, bad: %q", len(s.Tests), bad)
	}
	if got := s.Untested(); !slices.Equal(got, []string{"lonely"}) {
		t.Error(got)
	}
}

func TestFilesOfRules(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"b.yaml", "a.yml", "notes.txt"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(oneRule), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	list, err := Files(bundle.Disk, []string{dir, filepath.Join(dir, "b.yaml")})
	if err != nil || len(list) != 2 || filepath.Base(list[0]) != "a.yml" {
		t.Error(list, err)
	}
	if _, err := Files(bundle.Disk, []string{filepath.Join(dir, "none")}); err == nil {
		t.Error("a folder that is not there is taken")
	}
	if list, err := FilesIn(bundle.Disk, filepath.Join(dir, "none")); err != nil || len(list) != 0 {
		t.Error(list, err)
	}
	if s := Read(bundle.Disk, shipped.Library, list); len(s.Findings) != 1 { // the same id twice
		t.Error(s.Findings)
	}
}

func FuzzRules(f *testing.F) {
	f.Add([]byte(oneRule))
	f.Add([]byte("rules:\n  - { id: a, message: b, require: 'after[0].b.exists(x, x)' }\ntests:\n  - { rule: a, expect: fail, after: { size: [1] } }\n"))
	lib := shipped.Library
	f.Fuzz(func(t *testing.T, text []byte) {
		s := NewSet(lib)
		s.Add("fuzz.yaml", text)
		s.Try()
	})
}
