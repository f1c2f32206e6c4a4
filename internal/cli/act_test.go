package cli

import "testing"

// What runs is acted on from the command line, after a question, and stands in the history.
func TestActingOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	_, errs := s.run(2, "act", "bulletin-test", "reader#0", "restart")
	s.wants(errs, "Restart reader#0 in workshop / alder-1?", "it does not answer meanwhile")
	out, _ := s.run(0, "act", "bulletin-test", "reader#0", "restart", "--yes", "--note", "it hung")
	s.wants(out, "restart reader#0 begins", "restarted", "run 4: done")
	s.run(0, "act", "bulletin-test", "readings_db", "backup", "--yes")
	out, _ = s.run(0, "backups", "bulletin-test", "--json")
	list := decode[[]struct{ ID string }](t, out)
	if len(list) != 1 {
		t.Fatalf("%s", out)
	}
	_, errs = s.run(1, "act", "bulletin-test", "readings_db", "restore", "-i", "backup="+list[0].ID, "--yes")
	s.wants(errs, "what readings_db holds now is replaced", "add --accept data to --yes")
	out, _ = s.run(0, "act", "bulletin-test", "readings_db", "restore", "-i", "backup="+list[0].ID, "--yes", "--accept", "data")
	s.wants(out, "copied", "filled from "+list[0].ID)
	s.run(0, "act", "bulletin-test", "forecasters", "scale", "-i", "want=3", "--yes")
	s.run(0, "act", "bulletin-test", "suspend", "--yes")
	out, _ = s.run(0, "cloud", "--stack", "bulletin-test")
	s.wants(out, "suspended")
	out, _ = s.run(0, "stacks")
	s.wants(out, "at rest")
	out, _ = s.run(0, "show", "bulletin-test")
	s.wants(out, "at rest, revision 2")
	s.run(0, "act", "bulletin-test", "reader#0", "resume", "--yes")
	if st := decode[struct{ State string }](t, first(s.run(0, "show", "bulletin-test", "--json"))); st.State != "partly at rest" {
		t.Error(st)
	}
	s.run(0, "act", "bulletin-test", "resume", "--yes")
	if st := decode[struct{ State string }](t, first(s.run(0, "show", "bulletin-test", "--json"))); st.State != "ready" {
		t.Error(st)
	}
	out, _ = s.run(0, "history", "bulletin-test")
	s.wants(out, "resume the stack (4 resources): done", "scale forecasters want=3: done", "restart reader#0: done", "it hung")
	_, errs = s.run(1, "act", "bulletin-test", "reader#0", "backup", "--yes")
	s.wants(errs, "a Server has no action 'backup'; it has restart, suspend, resume")
	_, errs = s.run(1, "act", "bulletin-test", "forecasters", "scale", "--yes")
	s.wants(errs, "scale needs want")
	s.run(2, "act", "bulletin-test", "forecasters", "scale", "-i", "want", "--yes")
	s.run(2, "act", "bulletin-test")
	s.run(0, "targets", "--approval", "workshop/alder-1")
	_, errs = s.run(1, "act", "bulletin-test", "reader#0", "restart", "--yes")
	s.wants(errs, "needs the agreement of a second person")
}
