package cli

import (
	"strings"
	"testing"
)

func TestShowExplains(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "show", "bulletin-test")
	s.wants(out, "readings_db (Database) failed while growing the storage", "  the cloud    no storage host has 40 GiB",
		"  template     bulletin.yaml:110  readings_db:", "  changed      storage went from 20 GiB to 40 GiB",
		"  the rest     the cloud was asked, all 23 resources are as they were")
	for line := range strings.Lines(out) {
		if strings.HasPrefix(line, "  ") && len([]rune(line)) > 81 {
			t.Errorf("too long: %s", line)
		}
	}
	out, _ = s.run(0, "show", "bulletin-test", "--json")
	got := decode[struct {
		Run jsonRun `json:"last_run"`
	}](t, out).Run
	if len(got.Failures) != 1 || got.Number != 3 || got.State != "undone" || got.Ended == nil {
		t.Fatalf("%+v", got)
	}
	if f := got.Failures[0]; f.Resource != "readings_db" || f.Line != 110 || f.Text != "readings_db:" || f.Problem != "operation-failed" ||
		len(f.Tried) != 5 || len(f.Mends) == 0 || f.Attempt != 1 {
		t.Errorf("%+v", f)
	}
	out, _ = s.run(0, "show", "bulletin-test", "--markdown")
	s.wants(out, "# bulletin-test in workshop/alder-1", "## Run 3: deploy, undone", "### readings\\_db (Database)",
		"- **changed**: storage went from 20 GiB to 40 GiB", "| keeper\\_password | (secret) |", "| reader#0 | Server |")
	s.run(2, "show", "bulletin-test", "--markdown", "--json")
	out, _ = s.run(0, "show", "ridge-base", "--json")
	if got := decode[struct {
		Run *jsonRun `json:"last_run"`
	}](t, out).Run; got == nil || got.State != "done" || len(got.Failures) != 0 {
		t.Errorf("%+v", got)
	}

	// A deployment that fails explains it at its end.
	s.run(0, "yard", "fault", "add", "--name", "readings_db", "--reason", "the disks are being counted")
	stack := s.file("bulletin-test.stack.yaml")
	code, out, errs := s.try("deploy", stack, "--yes")
	if code != ExitUndone {
		t.Fatalf("exit %d\n%s%s", code, out, errs)
	}
	s.wants(out, "readings_db (Database) failed while", "  the cloud    the disks are being counted", "  the rest     ")
	if strings.Contains(errs, "run 3") { // that is for those who write
		t.Error(errs)
	}
}
