package cli

import (
	"os"
	"strings"
	"testing"
)

func TestDraw(t *testing.T) {
	s := newShell(t)
	file := s.file("bulletin-test.stack.yaml")
	for _, c := range []struct{ name, as, shows string }{
		{"bulletin-test", "wall", "rests on reader_grant, reader_role, reader_rules, slope_subnet"},
		{file, "wall", "as the template has it"},
		{"bulletin-test", "changes", "because allow[1] was changed by hand"},
		{file, "changes", "input readers is 3, was 2"},
		{"bulletin-test", "times", "run 3: undone"},
	} {
		for _, ext := range []string{"svg", "pdf"} {
			out := s.file("picture." + ext)
			s.run(0, "draw", c.name, "--as", c.as, "-o", out)
			b, err := os.ReadFile(out)
			if err != nil || ext == "svg" && !strings.Contains(string(b), c.shows) ||
				ext == "pdf" && !strings.HasPrefix(string(b), "%PDF") {
				t.Errorf("%s as %s in %s does not show %q (%v)", c.name, c.as, ext, c.shows, err)
			}
		}
	}
	out := s.file("run-1.svg")
	s.run(0, "draw", "bulletin-test", "--as", "times", "--run", "1", "-o", out)
	s.run(1, "draw", "bulletin-test", "--as", "times", "--run", "77", "-o", out)
	s.run(2, "draw", "bulletin-test", "--as", "wall", "-o", "a.png")
	s.run(2, "draw", "bulletin-test", "--as", "house", "-o", "a.svg")
	s.run(2, "draw", file, "--as", "times", "-o", "a.svg")
	s.run(1, "draw", "nobody", "--as", "wall", "-o", "a.svg")
	s.run(1, "draw", "nobody.yaml", "--as", "wall", "-o", "a.svg")
	plan := s.file("plan.json")
	s.run(0, "whatif", file, "--save", plan)
	s.run(0, "draw", plan, "--as", "changes", "-o", out)
	if b, err := os.ReadFile(out); err != nil || !strings.Contains(string(b), "input readers is 3, was 2") {
		t.Errorf("a saved change set is not drawn: %v", err)
	}
}

func TestRulesCommand(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "rules", "test", s.file("rules"))
	if !strings.Contains(out, "good  readings-stay: the live one may not") ||
		!strings.Contains(out, "3 rules, 8 tests, 0 bad") {
		t.Error(out)
	}
	s.run(0, "check", s.file("rules/valley.yaml"))
	s.run(0, "fmt", "--check", s.file("rules/valley.yaml"))
	s.run(1, "rules", "test", s.file("none"))
	bad := s.write("bad.yaml",
		"rules:\n  - { id: a, message: m, require: 'true' }\n  - { id: b, message: m, require: 'true' }\ntests:\n  - { name: it cannot, rule: a, expect: fail }\n")
	out, _ = s.run(1, "rules", "test", bad)
	if !strings.Contains(out, "bad   a: it cannot\n      it should fail, and it passes") ||
		!strings.Contains(out, "without a test: b") {
		t.Error(out)
	}
	out, _ = s.run(1, "rules", "test", "--json", bad)
	if !strings.Contains(out, `"untested"`) || !strings.Contains(out, `"good": false`) {
		t.Error(out)
	}
	_, errs := s.run(1, "rules", "test",
		s.write("worse.yaml", "rules:\n  - { id: a, message: m, require: 'after.' }\n"))
	if !strings.Contains(errs, "worse.yaml:2:") || !strings.Contains(errs, "[broken-rule]") {
		t.Error(errs)
	}
	if _, errs = s.run(1, "check", s.file("worse.yaml")); !strings.Contains(errs, "[broken-rule]") {
		t.Error(errs)
	}
	// they are beside the template, so a what-if knows them
	template := s.file("bulletin.yaml")
	b, err := os.ReadFile(template)
	if err != nil {
		t.Fatal(err)
	}
	s.write("bulletin.yaml", strings.Replace(string(b), "peer: 10.40.0.0/16", "peer: 0.0.0.0/0", 1))
	_, errs = s.run(1, "whatif", s.file("bulletin-test.stack.yaml"))
	if !strings.Contains(errs, "rule only-the-web-is-open") {
		t.Error(errs)
	}
}
