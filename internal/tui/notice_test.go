package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/notice"
	"brickrow/internal/run"
)

// The end of a run is told to who looks elsewhere, in the way that was chosen, and on the
// screen to who looks here.
func TestNotices(t *testing.T) {
	d := newDesk(t, 142, 42)
	var sent []string
	d.notices.send = func(text string) tea.Cmd { sent = append(sent, text); return nil }
	list, err := d.app.Stacks(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	see := func(s run.Status, holder string) {
		var out []app.Overview
		for _, o := range list {
			if o.Stack.Name == "bulletin-test" {
				one := *o.Run
				one.State = s
				o.Run, o.Holder = &one, holder
			}
			out = append(out, o)
		}
		d.send(runsSeen{out})
	}
	d.press("down", "2") // it is about bulletin-test
	for _, test := range []struct {
		focus tea.Msg
		end   run.Status
		want  string
	}{
		{tea.FocusMsg{}, run.StatusDone, ""}, {tea.BlurMsg{}, run.StatusDone, "the deployment is done"},
		{tea.BlurMsg{}, run.StatusUndone, "the deployment failed and was undone"}, {tea.BlurMsg{}, run.StatusStuck, "is stuck"},
	} {
		sent = nil
		d.send(test.focus)
		see(run.StatusWorking, "somebody")
		if title := d.view().WindowTitle; title != "… bulletin-test · Brick Row" {
			t.Errorf("the title is %q", title)
		}
		see(test.end, "")
		see(test.end, "")
		got := strings.Join(sent, "|")
		if test.want == "" && got != "" || !strings.Contains(got, test.want) || len(sent) > 1 || got != "" && !strings.HasPrefix(got, "\a\x1b]9;bulletin-test: ") {
			t.Errorf("%s: %q", test.end, got)
		}
		if title := d.view().WindowTitle; title != "Brick Row · bulletin-test" {
			t.Errorf("the title is %q", title)
		}
	}
	for _, want := range []string{"\a", "", "\a\x1b]9;"} { // the setting goes on from one to the next, and is kept
		d.nextNotice()
		sent = nil
		see(run.StatusWorking, "somebody")
		see(run.StatusDone, "")
		if got := strings.Join(sent, "|"); !strings.HasPrefix(got, want) || want == "" && got != "" || want == "\a" && got != "\a" {
			t.Errorf("%q, want %q (%+v)", got, want, d.app.Preferences())
		}
	}
	if d.app.Preferences().Notify != notice.Desktop {
		t.Error(d.app.Preferences())
	}

	// a terminal that does not tell where somebody looks: the keys have to tell
	d.notices.focus, sent = untold, nil
	see(run.StatusWorking, "somebody")
	see(run.StatusDone, "")
	d.notices.input = time.Now().Add(-time.Minute)
	see(run.StatusWorking, "somebody")
	see(run.StatusDone, "")
	if len(sent) != 1 {
		t.Errorf("%q", sent)
	}
	see(run.StatusWorking, "") // nobody carries it out: it does not go on
	if title := d.view().WindowTitle; strings.HasPrefix(title, "…") {
		t.Error(title)
	}
}

// The command line sends the notice to its terminal.
func TestNotifyOnTheCommandLine(t *testing.T) {
	bin, home, dir := build(t), filepath.Join(t.TempDir(), "home"), t.TempDir()
	for name, text := range map[string]string{"a.yaml": "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\n" +
		"service_template: { node_templates: { news: { type: Topic } } }\n", "a.stack.yaml": "stack: huts\ntemplate: a.yaml\ntarget: workshop/alder-1\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	raw := filepath.Join(t.TempDir(), "raw")
	x := newTerminal(t, 100, 30, "bash", "--norc")
	x.tmux("pipe-pane", "-t", x.session, "cat > "+raw)
	x.tmux("send-keys", "-t", x.session, "-l", bin+" deploy "+filepath.Join(dir, "a.stack.yaml")+
		" --yes --no-whatif --notify --home "+home+"; echo ended $?")
	x.keys("Enter")
	x.wait("ended 0")
	text, err := os.ReadFile(raw)
	if err != nil || !strings.Contains(string(text), "\a\x1b]9;huts: the deployment is done\x1b\\\x1b]777;notify;huts;") {
		t.Errorf("%v: %q", err, text)
	}
}
