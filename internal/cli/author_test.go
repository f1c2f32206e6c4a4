package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/app"
)

// TestWritingAStack goes from a starter to a deployed stack, by way of every
// command that helps with writing.
func TestWritingAStack(t *testing.T) {
	s := newShell(t)
	s.dir = filepath.Join(t.TempDir(), "mine")
	out, _ := s.run(0, "starters")
	s.wants(out, "cluster-with-workload", "single-server", "brickrow new")
	if list := decode[[]app.Starter](t, first(s.run(0, "starters", "--json"))); len(list) != 14 {
		t.Errorf("%d starters", len(list))
	}
	_, errs := s.run(1, "new", "cluster", s.dir)
	s.wants(errs, "there is no starter 'cluster'")
	s.run(2, "new", "cluster-with-workload", s.dir, "--target", "nowhere")
	out, _ = s.run(0, "new", "cluster-with-workload", s.dir)
	s.wants(out, "cluster-with-workload.stack.yaml   fill in the 1 line")
	_, errs = s.run(1, "new", "cluster-with-workload", s.dir)
	s.wants(errs, "is there already")
	file, template := s.file("cluster-with-workload.stack.yaml"), s.file("cluster-with-workload.yaml")
	_, errs = s.run(1, "check", file)
	s.wants(errs, "missing-key", "does not say its target yet", "account/region")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	s.write("cluster-with-workload.stack.yaml", strings.Replace(string(text), "target:", "target: workshop/birch-1", 1))

	out, _ = s.run(0, "check", file, "--target")
	s.wants(out, "nothing wrong found")
	out, _ = s.run(0, "check", template, "--target=summit/cedar-2")
	s.wants(out, "nothing wrong found")
	out, _ = s.run(0, "check", template, "--target", "summit/cedar-2")
	s.wants(out, "nothing wrong found")
	_, errs = s.run(1, "check", template, "--target")
	s.wants(errs, "--target=account/region")
	s.run(0, "yard", "permit", "workshop", "network:*", "subnet:*")
	_, errs = s.run(1, "check", file, "--target")
	s.wants(errs, "not-permitted", "lack cluster:create")
	out, _ = s.run(0, "targets")
	s.wants(out, "summit/alder-1", "as summit keeper, may *:*", "may network:* subnet:*")
	s.run(0, "yard", "permit", "workshop", "*:*")
	s.run(1, "yard", "permit", "nobody", "*:*")

	out, _ = s.run(0, "resolve", file, "--origins", "-i", "replicas=3")
	s.wants(out, "nodes", "(default, cluster-with-workload.yaml:", "replicas   3  (-i replicas=3)")
	s.wants(first(s.run(0, "resolve", file, "--origins", "--json")), `"kind": "default"`)
	out, _ = s.run(0, "resolve", file, "-i", "nodes=4")
	s.wants(out, "nodes: 4", "- cluster: ridge_cluster")
	flat := s.write("flat.yaml", out)
	s.run(0, "fmt", "--check", flat, template, file)
	s.run(1, "resolve", s.write("needs.yaml",
		strings.Replace(out, "  node_templates:", "  inputs: { must: { type: string } }\n  node_templates:", 1)))

	untidy := s.write("untidy.yaml", strings.Replace(out, "type: Network", "type:   'Network'", 1))
	out, _ = s.run(1, "fmt", "--check", untidy)
	s.wants(out, "untidy.yaml")
	out, _ = s.run(0, "fmt", untidy)
	s.wants(out, "untidy.yaml")
	if have, err := os.ReadFile(untidy); err != nil || strings.Contains(string(have), "'Network'") {
		t.Errorf("it was not formatted: %v", err)
	}
	_, errs = s.run(1, "fmt", s.write("broken.yaml", "a: [\n"))
	s.wants(errs, "not-yaml")

	s.wants(first(s.run(0, "schema", "template")), `"$schema"`, `"Network"`)
	s.wants(first(s.run(0, "schema", "stack")), `"on_failure"`)
	s.wants(first(s.run(0, "schema", "stack", template)), `"replicas"`, "How many containers run")
	s.run(2, "schema", "other")

	archive := s.file("mine.csar")
	_, errs = s.run(1, "pack", s.dir, "-o", archive)
	s.wants(errs, "several templates", "--entry")
	out, _ = s.run(0, "pack", s.dir, "-o", archive, "--entry", "cluster-with-workload.yaml")
	s.wants(out, "mine.csar: 1 file")
	s.run(2, "pack", s.dir, "-o", "mine.txt")
	s.run(0, "check", archive)
	packed := s.write("packed.stack.yaml",
		"stack: cluster-with-workload\ntemplate: mine.csar\ntarget: workshop/birch-1\n")
	s.run(0, "deploy", packed, "--yes")
	out, _ = s.run(0, "whatif", file, "--expect-none")
	s.wants(out, "no changes")
	out, _ = s.run(0, "show", "cluster-with-workload", "--json")
	s.wants(out, `"access": "(secret)"`)
	s.wants(first(s.run(0, "yard", "resources", "--json")), `"access": "(secret)"`)
	s.wants(first(s.run(0, "results", "cluster-with-workload")), "(secret)")
	s.run(0, "delete", "cluster-with-workload", "--yes")
}

func first(out, _ string) string { return out }

func TestCarefulTargets(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "targets", "--careful", "workshop/alder-1")
	s.wants(out, "workshop/alder-1   as workshop keeper, may *:*  careful")
	out, _ = s.run(0, "targets", "--not-careful", "workshop/alder-1", "--json")
	if strings.Contains(out, `"careful": true`) {
		t.Error(out)
	}
	s.run(1, "targets", "--careful", "workshop/nowhere")
}

func TestReviewsAndCarefulTargets(t *testing.T) {
	s := newShell(t)
	file := s.file("bulletin-test.stack.yaml")
	out, _ := s.run(0, "whatif", file, "--markdown")
	s.wants(out, "# bulletin-test in workshop/alder-1", "- **interruption** readings\\_db restarts",
		"### ▲ new `reader#2`", "because input readers is 3, was 2")
	s.run(2, "whatif", file, "--markdown", "--json")
	out, _ = s.run(0, "whatif", file, "--json")
	s.wants(out, `"op": "replace"`, `"path": "/properties/size"`, `"kind": "input"`, `"line": 7`)

	s.run(0, "targets", "--careful", "workshop/alder-1")
	_, errs := s.run(1, "deploy", file, "--yes", "--no-whatif")
	s.wants(errs, "is careful: its what-if is not skipped")
	_, errs = s.run(1, "deploy", file, "--yes", "-i", "site=other")
	s.wants(errs, "add --accept data")
	s.run(2, "deploy", file, "--yes", "--accept", "all")
	_, errs = s.run(1, "delete", "bulletin-test", "--yes")
	s.wants(errs, "add --accept data")
	out, _ = s.run(0, "whatif", file)
	s.wants(out, "! careful", "! interruption")
	s.run(0, "targets", "--not-careful", "workshop/alder-1")
	out, _ = s.run(0, "deploy", file, "--yes", "--no-whatif")
	if s.wants(out, "bulletin-test in workshop/alder-1: 1 new, 2 edit"); strings.Contains(out, "because") {
		t.Errorf("--no-whatif shows the what-if:\n%s", out)
	}
}

func TestComparingAndRehearsing(t *testing.T) {
	s := newShell(t)
	test, live := s.file("bulletin-test.stack.yaml"), s.file("bulletin-live.stack.yaml")
	out, _ := s.run(0, "whatif", live, "--from", test)
	s.wants(out, "bulletin-live in summit/birch-1", "compared with", "this cannot be deployed",
		"storage: 20 GiB → 200 GiB", "input db_storage is 200 GiB, was 20 GiB", "the stack file gives other tags")
	if strings.Contains(out, "! data") || strings.Contains(out, "! interruption") {
		t.Errorf("nothing is carried out, and yet there is a risk:\n%s", out)
	}
	out, _ = s.run(0, "whatif", test, "--from", test)
	s.wants(out, "no changes, 24 same")
	out, _ = s.run(0, "whatif", test, "--from", "1", "--json")
	s.wants(out, `"against": "revision 1"`, `"path": "/properties/want"`)
	out, _ = s.run(0, "whatif", test, "--from", "1", "--to", "2")
	back, _ := s.run(0, "whatif", test, "--from", "2", "--to", "1")
	if !strings.Contains(out, "compared with revision 1 (this is revision 2)") || out == back {
		t.Errorf("two revisions:\n%s\n%s", out, back)
	}
	s.run(2, "whatif", test, "--to", "1")
	s.run(1, "whatif", test, "--from", "1", "--to", "77")
	s.run(1, "whatif", test, "--from", "1", "--to", "two")
	_, errs := s.run(1, "whatif", test, "--from", "99")
	s.wants(errs, "has no revision 99")
	s.run(1, "whatif", test, "--from", "nowhere.stack.yaml")

	out, _ = s.run(0, "whatif", test, "--fail-at", "reader#2")
	s.wants(out, "If reader#2 failed, after", "done by then", "delete reader#2", "put back readings_db",
		"all would be as before")
	s.wants(first(s.run(0, "whatif", test, "--fail-at", "reader#2", "--json")), `"returns": true`, `"undo"`)
	_, errs = s.run(1, "whatif", test, "--fail-at", "frames")
	s.wants(errs, "nothing would be done to frames")
}

func TestSavingAndApproving(t *testing.T) {
	s := newShell(t)
	file, plan := s.file("bulletin-test.stack.yaml"), s.file("plan.json")
	_, errs := s.run(0, "whatif", file, "--save", plan)
	s.wants(errs, "saved as "+plan)
	_, errs = s.run(1, "approve", plan)
	s.wants(errs, "another person has to approve it")
	s.run(1, "approve", file)
	s.wants(first(s.run(0, "targets", "--approval", "workshop/alder-1")), "needs approval")
	_, errs = s.run(1, "deploy", file, "--yes")
	s.wants(errs, "agreement of a second person")
	s.run(1, "deploy", plan, "--yes")
	_, errs = s.run(1, "targets", "--no-approval", "workshop/alder-1")
	s.wants(errs, "also this: save it with targets --no-approval workshop/alder-1 --save FILE")
	free := s.file("free.json")
	s.run(0, "targets", "--no-approval", "workshop/alder-1", "--save", free)
	_, errs = s.run(1, "deploy", free)
	s.wants(errs, "needs the agreement of a second person")
	home := s.home
	s.home = filepath.Join(t.TempDir(), "other") // somebody else
	s.run(0, "approve", free)
	s.home = home
	s.wants(first(s.run(0, "deploy", free)), "needs no approval any more")
	s.run(2, "deploy", plan, "--yes", "-i", "readers=5")
	out, _ := s.run(0, "deploy", plan, "--yes")
	s.wants(out, "1 new, 2 edit", "done")
	_, errs = s.run(1, "deploy", plan, "--yes")
	s.wants(errs, "things have moved on")
}

// TestTheTextFitsIntoALog wants no line of a what-if longer than 80 columns,
// however long the values are.
func TestTheTextFitsIntoALog(t *testing.T) {
	s := newShell(t)
	b, err := os.ReadFile(s.file("bulletin.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	long := strings.Repeat("measure the snow, then the wind; ", 80) + strings.Repeat("x", 300) + " the end"
	s.write("bulletin.yaml", strings.Replace(string(b), "label: { $concat: [ reader-, $node_index ] }",
		"label: reader\n        user_data: \""+long+"\"", 1))
	out, _ := s.run(0, "whatif", s.file("bulletin-test.stack.yaml"), "-i", "db_version=14", "-i", "site=proof", "-i",
		"domain=another.example")
	for line := range strings.Lines(out) {
		if n := len([]rune(strings.TrimSuffix(line, "\n"))); n > 80 {
			t.Errorf("a line has %d columns: %s", n, line)
		}
	}
	s.wants(out, "lines more, --json has all", "the end")
}

// TestCheckingSeveralFiles tells what is wrong with all of them, also where one
// is not there, and once what they share.
func TestCheckingSeveralFiles(t *testing.T) {
	s := newShell(t)
	s.write("shared.yaml",
		"tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    a: { type: Tropic }\n")
	one := s.write("one.stack.yaml", "stack: one\ntemplate: shared.yaml\ntarget: workshop/alder-1\n")
	two := s.write("two.stack.yaml", "stack: two\ntemplate: shared.yaml\ntarget: workshop/alder-1\n")
	_, errs := s.run(1, "check", one, s.file("missing.yaml"), two)
	s.wants(errs, "cannot-check", "there is no file", "did you mean 'Topic'?")
	if n := strings.Count(errs, "unknown-type"); n != 1 {
		t.Errorf("it is told %d times:\n%s", n, errs)
	}
	s.wants(first(s.run(1, "check", one, s.file("missing.yaml"), "--json")), `"cannot-check"`, `"unknown-type"`)
}
