package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// committed makes a repository of a folder, with all that is in it.
func committed(t *testing.T, dir, message string) string {
	t.Helper()
	r, err := git.PlainInit(dir, false)
	if err != nil {
		r, err = git.PlainOpen(dir)
	}
	if err != nil {
		t.Fatal(err)
	}
	w, err := r.Worktree()
	if err != nil {
		t.Fatal(err)
	}
	if err := w.AddWithOptions(&git.AddOptions{All: true}); err != nil {
		t.Fatal(err)
	}
	hash, err := w.Commit(message, &git.CommitOptions{Author: &object.Signature{Name: "warden", Email: "w@kestrelridge.example",
		When: time.Unix(1e9, 0)}})
	if err != nil {
		t.Fatal(err)
	}
	return hash.String()
}

// A what-if and a deployment of a commit read all files as they are in it: template,
// stack file, script, rules.
func TestFromACommit(t *testing.T) {
	s := newShell(t)
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	const template = "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 }, types.yaml ]\nservice_template:\n  inputs:\n" +
		"    built: { type: string, metadata: { filled_by: commit } }\n  node_templates:\n    hut: { type: Hut, properties: { label: { $get_input: built } } }\n"
	write("huts/huts.yaml", template)
	write("huts/types.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nnode_types:\n  Hut: { derived_from: Topic }\n")
	write("huts/huts.stack.yaml", "stack: huts\ntemplate: huts.yaml\ntarget: workshop/alder-1\n")
	first := committed(t, dir, "first")
	write("huts/huts.yaml", template+"    gate: { type: Queue }\n")
	write("huts/rules/house.yaml", "rules:\n  - id: no-queues\n    types: Queue\n    message: the house wants no queues\n    require: \"false\"\n")
	second := committed(t, dir, "second")
	write("huts/huts.yaml", "this is broken: [\n")
	file := filepath.Join(dir, "huts", "huts.stack.yaml")

	s.run(1, "whatif", file)
	out, _ := s.run(0, "whatif", file, "--at", "HEAD~1")
	s.wants(out, "1 new", first)
	out, errs := s.run(1, "whatif", file, "--at", "HEAD")
	s.wants(out+errs, "the house wants no queues")
	s.run(0, "deploy", file, "--at", first[:8], "--yes")
	out, _ = s.run(0, "stacks", "--json")
	s.wants(out, `"huts"`)
	out, _ = s.run(0, "yard", "resources", "--json")
	s.wants(out, first)
	if strings.Contains(out, second) {
		t.Error("it was filled by another commit")
	}
	out, _ = s.run(3, "whatif", file, "--at", first, "--expect-none", "-i", "built=x") // what somebody gives comes first
	s.wants(out, "input built is x")

	if err := os.Remove(file); err != nil { // it need not be there any more
		t.Fatal(err)
	}
	s.run(0, "whatif", file, "--at", first, "--expect-none")
	_, errs = s.run(1, "whatif", file, "--at", "nothing")
	s.wants(errs, "has no commit nothing")
	_, errs = s.run(1, "whatif", filepath.Join(t.TempDir(), "a.stack.yaml"), "--at", "HEAD")
	s.wants(errs, "no git repository")
}
