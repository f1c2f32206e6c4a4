package cli

import (
	"strings"
	"testing"
)

func TestLeavingOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	s.run(1, "leave", "ridge-base", "ridge_net")
	s.run(1, "pause", "bulletin-test")
	_, errs := s.run(1, "cancel", "bulletin-test", "--hold")
	s.wants(errs, "run 3 is not under way: it is undone")
	s.run(2, "on-failure", "bulletin-test", "wait")
	s.run(0, "yard", "fault", "add", "--name", "oncall", "--on", "delete", "--times", "0", "--reason", "the duty roster hangs on it")
	out, _ := s.run(0, "yard", "fault", "list", "--json")
	if faults := decode[[]struct{ Name, Reason string }](t, out); len(faults) != 1 || faults[0].Name != "oncall" {
		t.Error(out)
	}
	out, _ = s.run(ExitStuck, "delete", "bulletin-test", "--yes", "--accept", "data")
	s.wants(out, "oncall (Vault) failed while", "  the cloud    the duty roster hangs on it", "  the rest     it stands still until somebody decides")
	_, errs = s.run(2, "leave", "bulletin-test", "oncall")
	s.wants(errs, "Nobody can answer here: add --yes")
	out, _ = s.run(0, "leave", "bulletin-test", "oncall", "--yes", "--json")
	if left := decode[struct{ Left []string }](t, out).Left; len(left) != 1 || !strings.HasPrefix(left[0], "oncall (Vault vault~") {
		t.Error(out)
	}
	out, _ = s.run(0, "resume", "bulletin-test")
	s.wants(out, "nothing is there any more but what is kept: frames (", "left: oncall (vault~")
	out, _ = s.run(0, "show", "bulletin-test")
	s.wants(out, "left by run 4, there still", "'brickrow delete bulletin-test' tries again")
	out, _ = s.run(0, "show", "bulletin-test", "--json")
	if got := decode[struct{ Left []jsonLeft }](t, out).Left; len(got) != 1 || got[0].Name != "oncall" || !got[0].There || got[0].Run != 4 {
		t.Errorf("%+v", got)
	}
	s.run(0, "yard", "fault", "clear")
	out, _ = s.run(0, "delete", "bulletin-test", "--yes", "--accept", "data")
	s.wants(out, "▽ drop  oncall", "run 4 had left this: the duty roster hangs on")
	out, _ = s.run(0, "show", "bulletin-test")
	if strings.Contains(out, "left by") {
		t.Error(out)
	}
	_, errs = s.run(1, "delete", "bulletin-test", "--yes")
	s.wants(errs, "is removed already")
}

func TestOnlyOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	stack := s.file("bulletin-test.stack.yaml")
	out, _ := s.run(0, "whatif", stack, "--only", "reader")
	s.wants(out, "1 new, 1 edit, 22 same", "▲ new   reader#2", "left out  ◧ edit readings_db was not chosen")
	out, _ = s.run(0, "whatif", stack, "--only", "reader", "--json")
	got := decode[struct {
		Changes []struct{ Name, Kind string }
		LeftOut []struct{ Name, Kind string } `json:"left_out"`
	}](t, out)
	if len(got.Changes) != 2 || len(got.LeftOut) != 1 || got.LeftOut[0].Name != "readings_db" || got.LeftOut[0].Kind != "edit" {
		t.Errorf("%+v", got)
	}
	_, errs := s.run(1, "whatif", stack, "--only", "raeder")
	s.wants(errs, "has no resource raeder; did you mean 'reader'?")
	s.run(2, "whatif", stack, "--only", "reader", "--from", "1")
	saved := s.file("reader.changes.json")
	s.run(0, "whatif", stack, "--only", "reader", "--save", saved)
	s.run(2, "deploy", saved, "--only", "reader", "--yes")
	out, _ = s.run(0, "deploy", saved, "--yes")
	s.wants(out, "deploy begins: 1 new, 1 edit")
	out, _ = s.run(0, "show", "bulletin-test")
	s.wants(out, "bulletin-test in workshop/alder-1: partial, revision 4", "reader#2", "last run  4, deploy of only reader by", "gate_address")
	out, _ = s.run(0, "whatif", stack)
	s.wants(out, "1 edit, 23 same", "run 4 left it out")
	s.run(0, "deploy", stack, "--yes", "--only", "readings_db")
	out, _ = s.run(0, "show", "bulletin-test")
	s.wants(out, "bulletin-test in workshop/alder-1: ready, revision 5") // nothing was left out any more
}
