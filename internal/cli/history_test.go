package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

type toldHistory struct {
	Stack, Target, State string
	Revisions            []struct {
		Number     int
		Commit     string
		Changed    bool
		Note       string
		ApprovedBy []string `json:"approved_by"`
		Stood      bool
		Current    bool
	}
	Runs []struct {
		Number, Revision          int
		Kind, From, Commit, State string
		By                        struct{ User, Host string }
		Changed                   bool
		Note                      string
		Failed                    []string
	}
}

// What became of a stack says from which commit each run was, and whether a file was not as it
// is there: the template, what it imports, the stack file.
func TestHistoryOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "history")
	s.wants(out, "snow-probe  delete: done", "the trial is over", "bulletin-test  deploy of revision 3: undone", "failed: readings_db", "(deployed now)")
	out, _ = s.run(0, "history", "bulletin-test", "--markdown")
	s.wants(out, "# bulletin-test in workshop/alder-1", "| 3 |", "more room for the storm week; failed: readings_db |")
	if all := decode[[]toldHistory](t, first(s.run(0, "history", "--json"))); len(all) != 4 {
		t.Errorf("%d stacks", len(all))
	}
	s.run(1, "history", "no-such")

	dir := t.TempDir()
	write := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	template := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 }, types.yaml ]\nservice_template:\n  node_templates:\n    hut: { type: Hut }\n"
	types := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nnode_types:\n  Hut: { derived_from: Topic }\n"
	write("huts.yaml", template)
	write("types.yaml", types)
	file := write("huts.stack.yaml", "stack: huts\ntemplate: huts.yaml\ntarget: workshop/alder-1\ntags: { n: \"1\" }\n")
	s.run(0, "deploy", file, "--yes") // before there is a repository
	one := committed(t, dir, "one")
	write("huts.yaml", template+"    gate: { type: Queue }\n")
	s.run(0, "deploy", file, "--yes", "--note", "a gate")
	two := committed(t, dir, "two")
	write("types.yaml", types+"# said since\n")
	s.run(0, "deploy", file, "--yes", "--note", "none: nothing changes")
	write("huts.stack.yaml", "stack: huts\ntemplate: huts.yaml\ntarget: workshop/alder-1\ntags: { n: \"2\" }\n")
	three := committed(t, dir, "three")
	s.run(0, "deploy", file, "--yes")
	s.run(0, "undo", "huts", "--to", "2", "--yes", "--note", "that was wrong")
	s.run(0, "delete", "huts", "--yes")

	h := decode[toldHistory](t, first(s.run(0, "history", "huts", "--json")))
	var got []string
	for _, r := range h.Runs {
		got = append(got, strings.Join([]string{r.Kind, r.State, r.Commit, map[bool]string{true: "changed"}[r.Changed], r.Note}, "|"))
		if r.From == "" || r.By.User == "" || r.Failed == nil {
			t.Errorf("%+v", r)
		}
	}
	want := []string{"delete|done|||", "undo|done|||that was wrong", "deploy|done|" + three + "||", "deploy|done|" + one + "|changed|a gate", "deploy|done|||"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("the runs are\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if two == three || len(h.Revisions) != 4 || h.Revisions[1].Commit != three || !h.Revisions[1].Stood || h.State != "removed" {
		t.Errorf("%+v", h)
	}
	out, _ = s.run(0, "history", "huts")
	s.wants(out, "commit "+one[:10]+" on master and changes in huts.yaml", "a gate", "that was wrong")
	s.run(0, "undo", "huts", "--to", "3", "--yes") // stood up again
	if h := decode[toldHistory](t, first(s.run(0, "history", "huts", "--json"))); h.State != "ready" || !h.Revisions[0].Current {
		t.Errorf("%+v", h)
	}
}
