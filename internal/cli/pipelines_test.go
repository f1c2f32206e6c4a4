package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// script runs one of the examples with the program on the path, and wants an exit code.
func (m *team) script(want int, who, job, dir, name string, args ...string) string {
	m.t.Helper()
	path, err := filepath.Abs("../../examples/" + name)
	if err != nil {
		m.t.Fatal(err)
	}
	cmd := exec.Command(path, args...)
	cmd.Dir = dir
	cmd.Env = append(m.command(who).Env, "BRICKROW_JOB="+job)
	for i, v := range cmd.Env {
		if strings.HasPrefix(v, "PATH=") {
			cmd.Env[i] = "PATH=" + filepath.Dir(m.bin) + ":" + os.Getenv("PATH")
		}
	}
	out, err := cmd.CombinedOutput()
	if code := cmd.ProcessState.ExitCode(); code != want {
		m.t.Fatalf("%s: exit %d, want %d (%v)\n%s", name, code, want, err, out)
	}
	return string(out)
}

// TestPipeline takes a change through the jobs of the example: looked at in one, looked at again, carried out in
// another; from a repository, whose commit and branch stay with the run.
func TestPipeline(t *testing.T) {
	m := newTeam(t, "", 5000, 0)
	m.file("row.yaml", rowOf)
	m.file("row.stack.yaml", "template: row.yaml\nstack: row\ntarget: workshop/alder-1\n")
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-c", "user.name=warden", "-c", "user.email=w@kestrelridge.example"}, args...)...)
		cmd.Dir = m.dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	git("init", "-q", "-b", "thaw")
	git("add", "row.yaml", "row.stack.yaml")
	git("commit", "-q", "-m", "a row")
	m.script(0, "ann", "job 7", m.dir, "pipelines/1-review.sh", "row.stack.yaml", "review")
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join(m.dir, "review", name))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if text := read("review.md"); !strings.Contains(text, "6 new") || strings.Contains(text, "Since") || strings.Contains(text, "hoarfrost") {
		t.Error(text)
	}
	m.change("row.yaml", "note: { type: Topic", "more: { type: Topic, properties: { label: x } }\n    note: { type: Topic")
	m.script(0, "ann", "job 8", m.dir, "pipelines/1-review.sh", "row.stack.yaml", "review")
	if text := read("review.md"); !strings.Contains(text, "## Since root looked") || !strings.Contains(text, "more") || !strings.Contains(text, "7 new") {
		t.Error(text)
	}
	if out := m.script(0, "ann", "job 9", m.dir, "pipelines/2-deploy.sh", "review"); !strings.Contains(out, "done") {
		t.Error(out)
	}
	if out := m.run(0, "ann", "history", "row"); !strings.Contains(out, "on thaw and changes in row.yaml") || !strings.Contains(out, "job job 8, job 9") {
		t.Error(out)
	}
	m.file("bad.yaml", "tosca_definitions_version: tosca_2_0\nservice_template:\n     node_templates:\n          a:   { type: Serve }\n")
	m.file("bad.stack.yaml", "template: bad.yaml\nstack: bad\ntarget: workshop/alder-1\n")
	if out := m.script(1, "ann", "", m.dir, "pipelines/1-review.sh", "bad.stack.yaml", "bad"); !strings.Contains(out, "unknown-type") {
		t.Error(out)
	}

	// The hook looks at what is about to be committed.
	git("add", "bad.yaml")
	if out := m.script(1, "ann", "", m.dir, "hooks/pre-commit"); !strings.Contains(out, "unknown-type") || !strings.Contains(out, "run: brickrow fmt bad.yaml") {
		t.Error(out)
	}
	git("rm", "-q", "-f", "bad.yaml")
	m.run(0, "ann", "fmt", "row.yaml")
	git("add", "row.yaml")
	m.script(0, "ann", "", m.dir, "hooks/pre-commit")
}

// TestJSONEverywhere holds that each command says what it finds, or has done, as JSON too; but for those that write a file or a
// text of a form of its own, serve somebody, or set up the stand-in.
func TestJSONEverywhere(t *testing.T) {
	without := map[string]string{
		"fmt": "files", "draw": "a picture", "fleet draw": "a picture", "new": "names of files", "schema": "JSON Schema", "trace": "OTLP",
		"completion": "for a shell", "man": "pages", "config path": "a name", "lsp": "a protocol", "worker": "a log", "demo": "the interface",
		"yard serve": "", "yard fill": "", "yard change": "", "yard remove": "", "yard at-once": "", "yard permit": "", "yard fault add": "", "yard fault clear": "",
	}
	p := &Program{}
	var look func(cmd *cobra.Command)
	look = func(cmd *cobra.Command) {
		for _, sub := range cmd.Commands() {
			look(sub)
		}
		name := strings.TrimPrefix(strings.TrimPrefix(cmd.CommandPath(), "brickrow"), " ")
		_, excused := without[name]
		delete(without, name)
		switch has := cmd.Flags().Lookup("json") != nil; {
		case !cmd.Runnable() || cmd.Hidden || name == "" || cmd.Annotations[onlyOthers] != "":
		case has && excused:
			t.Errorf("%s does print JSON", name)
		case !has && !excused:
			t.Errorf("%s prints no JSON", name)
		}
	}
	look(p.root())
	if len(without) > 0 {
		t.Errorf("no commands: %v", without)
	}
}

// TestDoneAsJSON asks for JSON of what commands have done.
func TestDoneAsJSON(t *testing.T) {
	m := newTeam(t, "", 5000, 3)
	file := m.fleetFiles(huts)
	m.file("one.yaml", rowOf)
	row := m.file("one.stack.yaml", "template: one.yaml\nstack: row\ntarget: workshop/alder-1\n")
	wants := func(args []string, want ...string) {
		t.Helper()
		out := m.run(0, "ann", append(args, "--json")...)
		if !json.Valid([]byte(out)) {
			t.Errorf("%v: %s", args, out)
		}
		flat := strings.Join(strings.Fields(out), "")
		for _, w := range want {
			if !strings.Contains(flat, w) {
				t.Errorf("%v: there is no %s in %s", args, w, out)
			}
		}
	}
	wants([]string{"identity"}, `"user":"`, `"identity":"ed25519:`)
	m.run(0, "ann", "deploy", row, "--yes", "--queue")
	wants([]string{"on-failure", "row", "hold"}, `"stack":"row"`, `"target":"workshop/alder-1"`, `"run":1`, `"asked":"on-failure"`, `"then":"hold"`)
	wants([]string{"cancel", "row"}, `"asked":"stop"`, `"then":"undo"`, `"state":"queued"`)
	wants([]string{"worker", "limit", "workshop/alder-1", "2"}, `"target":"workshop/alder-1"`, `"runs_at_once":2`)
	wants([]string{"worker", "list"}, `"workers":[]`, `"limits":{"workshop/alder-1":2}`)
	m.run(0, "ann", "fleet", "deploy", file, "--yes", "--queue")
	for _, ask := range []string{"pause", "resume", "cancel"} {
		wants([]string{"fleet", ask, file}, `"fleet":"huts"`, `"asked":"`+ask+`"`)
	}
	if s := m.show("huts"); s.State != "cancelled" || s.Counts["waiting"] != 9 {
		t.Errorf("stopped where no worker is: %+v", s)
	}
	wants([]string{"pack", m.dir, "--entry", "one.yaml", "-o", filepath.Join(m.dir, "row.csar")}, `"files":`)
	m.run(0, "ann", "deploy", row, "--yes")
	wants([]string{"capture", "--target", "workshop/alder-1", "--stack", "row", "-o", filepath.Join(m.dir, "again.yaml")}, `"resources":6`, `"stack_file":"`)
	m.run(1, "ann", "worker", "drain", "nobody", "--json")
}

// What is no command is refused, also under one that only has others.
func TestUnknownCommands(t *testing.T) {
	s := newShell(t)
	for _, args := range [][]string{{"nothing"}, {"store", "nothing"}, {"yard", "fault", "nothing"}, {"fleet", "nothing"}, {"store", "members", "nothing"}, {"worker", "nothing"}} {
		_, errs := s.run(ExitUsage, args...)
		s.wants(errs, "unknown command \"nothing\"")
	}
	_, errs := s.run(ExitUsage, "rules", "tset")
	s.wants(errs, "did you mean 'test'?")
	out, _ := s.run(0, "store")
	s.wants(out, "Available Commands")
}
