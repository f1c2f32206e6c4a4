package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"brickrow/internal/demo"
	"brickrow/internal/whatif"
)

// shell calls the command line on a data folder of its own, without a
// terminal.
type shell struct {
	t    *testing.T
	home string
	dir  string
}

// newShell makes the demo, so that there is something to work with.
func newShell(t *testing.T) *shell {
	t.Helper()
	t.Setenv("BRICKROW_YARD_SPEED", "5000")
	t.Setenv("BRICKROW_CLOUD", "")
	home := filepath.Join(t.TempDir(), "home")
	if err := demo.Prepare(t.Context(), home, func(string) {}); err != nil {
		t.Fatal(err)
	}
	return &shell{t, home, demo.Project(home)}
}

// run calls a command and wants an exit code.
func (s *shell) run(want int, args ...string) (out, errs string) {
	s.t.Helper()
	got, out, errs := s.try(args...)
	if got != want {
		s.t.Fatalf("brickrow %s: exit %d, want %d\n%s%s", strings.Join(args, " "), got, want, out, errs)
	}
	return out, errs
}

// try calls a command, however it ends.
func (s *shell) try(args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	p := &Program{In: strings.NewReader(""), Out: &o, Err: &e}
	code = p.Run(s.t.Context(), append(args, "--home", s.home))
	return code, o.String(), e.String()
}

func (s *shell) file(name string) string { return filepath.Join(s.dir, name) }

func (s *shell) write(name, text string) string {
	s.t.Helper()
	if err := os.WriteFile(s.file(name), []byte(text), 0o600); err != nil {
		s.t.Fatal(err)
	}
	return s.file(name)
}

// wants reports each of the words that is not in the text.
func (s *shell) wants(text string, words ...string) {
	s.t.Helper()
	for _, w := range words {
		if !strings.Contains(text, w) {
			s.t.Errorf("there is no %q in:\n%s", w, text)
		}
	}
}

func decode[T any](t *testing.T, text string) T {
	t.Helper()
	var x T
	if err := json.Unmarshal([]byte(text), &x); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
	return x
}

func TestTheStory(t *testing.T) {
	s := newShell(t)
	testFile := s.file("bulletin-test.stack.yaml")

	out, _ := s.run(0, "stacks", "--removed")
	s.wants(out, "bulletin-live", "bulletin-test", "ridge-base", "snow-probe", "removed")
	out, _ = s.run(ExitChanges, "whatif", testFile, "--expect-none")
	s.wants(out, "1 new, 2 edit", "input readers is 3, was 2 (bulletin-test.stack.yaml:7)",
		"changed by hand in the cloud")
	out, _ = s.run(0, "deploy", testFile, "--yes")
	s.wants(out, "run 4: done", "http://bulletin.test.kestrelridge.example", "(secret)")
	s.run(0, "whatif", testFile, "--expect-none")
	out, _ = s.run(0, "deploy", testFile, "--yes")
	s.wants(out, "nothing to do")

	s.run(0, "yard", "fault", "add", "--name", "readings_db", "--reason", "no host has room")
	before, _ := s.run(0, "yard", "resources", "--json")
	out, _ = s.run(ExitUndone, "deploy", testFile, "--yes", "-i", "db_size=large", "-i", "readers=5")
	s.wants(out, "no host has room", "all 24 resources are as they were", "run 5: undone")
	after, _ := s.run(0, "yard", "resources", "--json")
	if before != after {
		t.Error("the cloud is not as before")
	}

	s.run(0, "deploy", testFile, "--yes", "-i", "readers=4")
	out, _ = s.run(0, "undo", "bulletin-test", "--yes", "--accept", "data")
	s.wants(out, "1 drop", "run 7: done")
	out, _ = s.run(0, "delete", "bulletin-test", "--yes", "--accept", "data")
	s.wants(out, "nothing is there any more but what is kept: frames")
	out, _ = s.run(0, "delete", "bulletin-live", "--yes", "--accept", "data")
	s.wants(out, "kept: frames")
	out, _ = s.run(0, "delete", "ridge-base", "--yes")
	s.wants(out, "nothing of ridge-base is left in workshop/alder-1")
	if left, _ := s.run(0, "yard", "resources", "--stack", "ridge-base", "--json"); strings.TrimSpace(left) != "[]" {
		t.Errorf("left: %s", left)
	}
	_, errs := s.run(ExitRefused, "delete", "ridge-base", "--yes")
	s.wants(errs, "removed already")
	out, _ = s.run(0, "undo", "ridge-base", "--yes")
	s.wants(out, "4 new")
}

func TestWithoutATerminalNothingIsAsked(t *testing.T) {
	s := newShell(t)
	for _, args := range [][]string{{"deploy", s.file("bulletin-test.stack.yaml")}, {"delete", "bulletin-test"},
		{"undo", "bulletin-test"}} {
		_, errs := s.run(ExitUsage, args...)
		s.wants(errs, "add --yes", "workshop / alder-1")
	}
	_, errs := s.run(ExitUsage)
	s.wants(errs, "needs a terminal")
	s.run(ExitUsage, "demo")
}

func TestWrongUsage(t *testing.T) {
	s := newShell(t)
	for _, args := range [][]string{{"fly"}, {"deploy"}, {"deploy", "a", "b"}, {"whatif", "x", "--fast"},
		{"yard", "fault", "add"}, {"deploy", "x", "--on-failure", "panic"}, {"results"},
		{"undo", "x", "--to", "first"}} {
		s.run(ExitUsage, args...)
	}
	for _, test := range []struct {
		args []string
		word string
	}{
		{[]string{"deploy", "nowhere.stack.yaml", "--yes"}, "there is no file nowhere.stack.yaml"},
		{[]string{"whatif", s.dir}, "is a folder"},
		{[]string{"whatif", s.file("bulletin.yaml")}, "needs a stack file"},
		{[]string{"show", "buletin-test"}, "did you mean 'bulletin-test'?"},
		{[]string{"results", "ridge-base", "nothing"}, "it has alarm_url, domain, network_id"},
		{[]string{"events", "ridge-base", "--run", "99"}, "has no run 99"},
		{[]string{"resume", "ridge-base"}, "nothing to go on with"},
		{[]string{"undo", "ridge-base", "--yes"}, "no former revision"},
		{[]string{"undo", "ridge-base", "--to", "7", "--yes"}, "has no revision 7"},
		{[]string{"cancel", "ridge-base"}, "is not under way: it is done"},
		{[]string{"whatif", s.file("bulletin-test.stack.yaml"), "--target", "summit/birch-1"},
			"pinned to workshop/alder-1"},
	} {
		_, errs := s.run(ExitRefused, test.args...)
		s.wants(errs, test.word)
	}
	t.Setenv("BRICKROW_YARD_SPEED", "fast")
	_, errs := s.run(ExitRefused, "stacks")
	s.wants(errs, "BRICKROW_YARD_SPEED is 'fast'")
}

func TestCheck(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "check", s.file("bulletin.yaml"), s.file("bulletin-test.stack.yaml"))
	s.wants(out, "nothing wrong found")
	bad := s.write("bad.yaml",
		"tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs:\n    must: { type: string }\n  node_templates:\n    net: { type: Netwrk }\n    topic: { type: Topic, properties: { lable: x } }\n")
	stackFile := s.write("bad.stack.yaml",
		"stack: bad-one\ntemplate: bad.yaml\ntarget: workshop/nowhere-1\ninputs: { other: 1 }\n")
	out, _ = s.run(ExitRefused, "check", stackFile, "--json")
	found := decode[struct {
		Findings []struct {
			File, Severity, Code, Message, Fix string
			Line, Column                       int
		}
	}](t, out)
	var codes []string
	for _, f := range found.Findings {
		codes = append(codes, fmt.Sprintf("%s:%d %s", filepath.Base(f.File), f.Line, f.Code))
	}
	want := "[bad.stack.yaml:3 unknown-target bad.stack.yaml:4 unknown-input bad.yaml:5 missing-input bad.yaml:7 unknown-type bad.yaml:8 unknown-property]"
	if fmt.Sprint(codes) != want {
		t.Errorf("found %v, want %s", codes, want)
	}
	_, errs := s.run(ExitRefused, "check", bad)
	s.wants(errs, "bad.yaml:7:18: error: there is no node type 'Netwrk' [unknown-type]", "did you mean 'Network'?")
	if out, _ = s.run(0, "check", s.file("ridge-base.yaml"), "--json"); strings.Join(strings.Fields(out),
		"") != `{"findings":[]}` {
		t.Errorf("nothing found: %s", out)
	}
	s.write("good.stack.yaml", "stack: good-one\ntemplate: ridge-base.yaml\ntarget: workshop/nowhere-1\n")
	_, errs = s.run(ExitRefused, "whatif", s.file("good.stack.yaml"))
	s.wants(errs, "there is no target workshop/nowhere-1")
}

func TestWhatifJSON(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "whatif", s.file("bulletin-test.stack.yaml"), "--json", "-i", "db_version=14")
	got := decode[map[string]any](t, out)
	for _, key := range []string{"stack", "target", "base_revision", "tally", "changes", "risks", "estimate_seconds"} {
		if _, ok := got[key]; !ok {
			t.Errorf("there is no %s", key)
		}
	}
	if got["target"] != "workshop/alder-1" || got["base_revision"] != 2.0 ||
		fmt.Sprint(got["tally"]) != "map[drop:0 edit:3 new:1 results:1 same:19 swap:1]" {
		t.Errorf("%v %v %v", got["target"], got["base_revision"], got["tally"])
	}
	s.wants(out, `"kind": "data"`, `"effect": "swap"`, `"unknown": true`)
}

func TestResultsAndEvents(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "results", "bulletin-test", "--json")
	if got := decode[map[string]string](t, out); got["keeper_password"] != "(secret)" ||
		got["gate_address"] != "203.0.113.2" {
		t.Errorf("%v", got)
	}
	out, _ = s.run(0, "results", "bulletin-test", "keeper_password")
	s.wants(out, "(secret)")
	out, _ = s.run(0, "results", "bulletin-test", "keeper_password", "--reveal")
	s.wants(out, "lawine-grat-0815")
	out, _ = s.run(0, "results", "bulletin-test", "keeper_password", "--reveal", "--json")
	s.wants(out, `"keeper_password": "lawine-grat-0815"`)
	out, _ = s.run(0, "results", "bulletin-test")
	s.wants(out, "gate_address       203.0.113.2\n                   run ping -c 3 203.0.113.2\n")
	out, _ = s.run(0, "results", "bulletin-test", "gate_address", "--command")
	s.wants(out, "ping -c 3 203.0.113.2\n")
	s.run(1, "results", "bulletin-test", "bulletin", "--command")
	s.run(2, "results", "bulletin-test", "--json", "--env")
	out, _ = s.run(0, "results", "bulletin-test", "--env")
	s.wants(out, "gate_address=203.0.113.2\n", "# keeper_password is a secret; --reveal gives it\n", "connect='dbshell --host ")
	out, _ = s.run(0, "results", "bulletin-test", "--env", "--reveal")
	s.wants(out, "keeper_password=lawine-grat-0815\n")
	out, _ = s.run(0, "events", "bulletin-test", "--json")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	for i, line := range lines {
		e := decode[map[string]any](t, line)
		for _, key := range []string{"run", "seq", "time", "resource", "type", "state", "step", "reason",
			"elapsed_ms", "cloud_id"} {
			if _, ok := e[key]; !ok {
				t.Fatalf("an event has no %s: %s", key, line)
			}
		}
		if e["run"] != 3.0 || e["seq"] != float64(i+1) {
			t.Errorf("event %d: %s", i, line)
		}
	}
	s.wants(out, `"state":"failed"`, `"state":"undone"`)
	out, _ = s.run(0, "events", "bulletin-test", "--run", "1")
	s.wants(out, "public_gate", "allocating an address, 1/3")
	out, _ = s.run(0, "undo", "bulletin-test", "--list")
	s.wants(out, "•   2  ", "    3  ", "undone: 1 new, 2 edit")
	out, _ = s.run(0, "show", "bulletin-test")
	s.wants(out, "readings_db", "Database", "last run  3")
	out, _ = s.run(0, "show", "bulletin-test", "--json")
	if strings.Contains(out, "lawine-grat") {
		t.Error("show tells a secret")
	}
	out, _ = s.run(ExitUndone, "watch", "bulletin-test")
	s.wants(out, "no storage host has 40 GiB", "run 3: undone")
}

func TestInputsFromAFile(t *testing.T) {
	s := newShell(t)
	inputs := s.write("inputs.yaml", "readers: 7\ndb_size: large\n")
	out, _ := s.run(0, "whatif", s.file("bulletin-test.stack.yaml"), "--inputs", inputs, "-i", "readers=2")
	s.wants(out, "size: small → large", "inputs.yaml:2")
	if strings.Contains(out, "reader#2") {
		t.Error("a flag does not win over a file")
	}
	_, errs := s.run(ExitRefused, "whatif", s.file("bulletin-test.stack.yaml"), "--inputs", "nowhere.yaml")
	s.wants(errs, "no-inputs-file")
}

func TestAYardElsewhere(t *testing.T) {
	s := newShell(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan int)
	go func() {
		var o, e bytes.Buffer
		p := &Program{In: strings.NewReader(""), Out: &o, Err: &e}
		ended <- p.Run(ctx, []string{"yard", "serve", "--port", fmt.Sprint(port), "--home", s.home})
	}()
	defer func() {
		stop()
		if code := <-ended; code != 0 {
			t.Errorf("serving ended with %d", code)
		}
	}()
	url := fmt.Sprintf("http://127.0.0.1:%d", port)
	for range 100 {
		if resp, err := http.Get(url + "/v1/targets"); err == nil {
			resp.Body.Close()
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Setenv("BRICKROW_CLOUD", url)
	out, _ := s.run(0, "deploy", s.file("bulletin-test.stack.yaml"), "--yes")
	s.wants(out, "run 4: done")
	s.run(0, "whatif", s.file("bulletin-test.stack.yaml"), "--expect-none")
	if err := os.Chmod(filepath.Join(s.home, "credentials.json"), 0o644); err != nil {
		t.Fatal(err)
	}
	_, errs := s.run(ExitRefused, "stacks")
	s.wants(errs, "chmod 600")
}

func TestFaultCommands(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "yard", "fault", "list")
	s.wants(out, "no faults")
	s.run(0, "yard", "fault", "add", "--type", "Queue", "--on", "delete", "--times", "0", "--mode", "busy",
		"--reason", "held\x1b[2J")
	out, _ = s.run(0, "yard", "fault", "list")
	s.wants(out, "busy", "type Queue", "on delete", "until cleared", "held·[2J")
	s.run(0, "yard", "fault", "clear")
	_, errs := s.run(ExitRefused, "yard", "fault", "add", "--type", "Castle", "--reason", "x")
	s.wants(errs, "no type Castle")
	out, _ = s.run(0, "yard", "resources", "--stack", "ridge-base")
	if strings.Count(out, "\n") != 4 {
		t.Errorf("resources of the base:\n%s", out)
	}
}

func TestDemoIsKeptAndMadeAgain(t *testing.T) {
	s := newShell(t)
	s.run(0, "deploy", s.file("bulletin-test.stack.yaml"), "--yes")
	_, errs := s.run(0, "demo", "--prepare-only")
	if strings.Contains(errs, "preparing") {
		t.Error("the demo is made again without being asked")
	}
	s.run(0, "demo", "--prepare-only", "--reset")
	out, _ := s.run(0, "stacks")
	s.wants(out, "rev 2")
	mine := filepath.Join(t.TempDir(), "mine")
	var o, e bytes.Buffer
	p := &Program{In: strings.NewReader(""), Out: &o, Err: &e}
	p.Run(t.Context(), []string{"stacks", "--home", mine})
	if code := p.Run(t.Context(), []string{"demo", "--prepare-only", "--reset", "--home",
		mine}); code != ExitRefused || !strings.Contains(e.String(), "not the demo's") {
		t.Errorf("the demo in a folder of somebody's: %d %s", code, e.String())
	}
}

func TestSeconds(t *testing.T) {
	for s, want := range map[float64]string{0: "0.0 s", 2.34: "2.3 s", 12: "12 s", 110: "1 min 50 s",
		3700: "1 h 01 min"} {
		if got := whatif.Length(s); got != want {
			t.Errorf("%v s is %q, want %q", s, got, want)
		}
	}
}
