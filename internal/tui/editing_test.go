package tui

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/demo"
	"brickrow/internal/tui/part"
)

// text is what stands in a file of the demo.
func (d *desk) text(name string) string {
	d.t.Helper()
	b, err := os.ReadFile(filepath.Join(d.dir, name))
	if err != nil {
		d.t.Fatal(err)
	}
	return string(b)
}

// toLine goes to the line of the file on the screen that has some words, and to its end.
func (d *desk) toLine(words string) {
	d.t.Helper()
	d.press("ctrl+f", words, "enter", "esc", "end")
}

// A node is written with what is offered: its type, its blanks, a requirement; what it
// would change is told meanwhile, and nothing is on the disk before it is saved.
func TestWritingANode(t *testing.T) {
	d := newDesk(t, 142, 42)
	before := d.text("bulletin.yaml")
	d.press("down", "2", "e")
	d.wants("ctrl+space offers what can stand here", "column 1")
	d.toLine("- zone: bulletin_zone")
	d.press("enter", "backspace", "backspace", "backspace", "Queu")
	d.wants("Queue", "Holds messages until a worker takes them", "enter or tab takes it")
	d.press("tab", "later_readings")
	d.wants("▌     later_readings:", "type: Queue", "▲ 2 new", "not saved") // marked as other than what is deployed
	d.press("end", "down", "end", "enter", "prop")
	d.press("tab", "kee")
	d.wants("keep ", "Duration, default 4 d", "How long")
	d.press("tab")
	d.wants("keep: ")
	d.press("12 h", "esc")
	if d.text("bulletin.yaml") != before {
		t.Error("it is on the disk before it is saved")
	}
	d.wants("not saved", "ctrl+s saves bulletin.yaml")
	d.press("3") // the changes are there at once
	d.wants("later_readings", "▲ 2 new", "not saved: 2, then ctrl+s saves bulletin.yaml")
	d.press("tab", "d")
	d.lacks("Deploy bulletin-test:")
	d.press("2", "ctrl+s")
	d.wants("bulletin.yaml saved")
	if after := d.text("bulletin.yaml"); !strings.Contains(after, "\n    later_readings:\n      type: Queue\n      properties:\n        keep: 12 h\n") {
		t.Errorf("it was saved as\n%s", after)
	}
	d.press("3", "tab")
	d.wants("d deploys it")
}

// A secret that was typed into the stack file goes into a file that is its owner's alone, in one step and without being typed again.
func TestASecretIsMoved(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "e", "alt+.")
	d.wants("bulletin-test.stack.yaml", "column 1")
	d.toLine("db_password:")
	d.press(slices.Repeat([]string{"backspace"}, len(" { from_file: secrets/db_password }"))...)
	d.press(" hoarfrost-77-winter", "ctrl+o")
	d.wants("put it into secrets/db_password_2", "take it from the environment")
	d.press("down", "enter")
	d.wants("db_password: { from_file: secrets/db_password_2 }")
	d.press("ctrl+s")
	d.wants("bulletin-test.stack.yaml saved")
	if got := d.text("secrets/db_password_2"); got != "hoarfrost-77-winter\n" {
		t.Errorf("the file has %q", got)
	}
	if in, err := os.Stat(filepath.Join(d.dir, "secrets", "db_password_2")); err != nil || in.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", in.Mode(), err)
	}
	if strings.Contains(d.text("bulletin-test.stack.yaml"), "hoarfrost") {
		t.Error("it stands in the stack file")
	}
}

// A mistake is marked while it is typed, and mended by its fix; undo takes all back.
func TestMendingAMistake(t *testing.T) {
	d := newDesk(t, 142, 42)
	before := d.text("bulletin.yaml")
	d.press("down", "2", "e")
	d.toLine("type: Queue")
	d.press("x")
	d.wants("there is no node type 'Queuex'", "from before the mistake")
	d.press("alt+enter")
	d.wants("write Queue", "enter or tab takes it")
	d.press("enter")
	d.wants("nothing wrong found")
	d.press("ctrl+z")
	d.wants("Queuex")
	for range 3 {
		d.press("ctrl+z")
	}
	d.press("esc")
	if len(d.views[1].(part.Keeper).Unsaved()) > 0 || d.text("bulletin.yaml") != before {
		t.Error("undone, it is not as it was")
	}
}

// A name is changed everywhere, and one finds where it comes from.
func TestRenamingEverywhere(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "e")
	d.toLine("$get_input: readers")
	d.press("left", "left", "left", "alt+j") // in the name
	d.wants("line 21 of 245", "readers:")
	d.press("alt+n")
	d.wants("Another name for readers")
	d.press("ctrl+u", "watchers", "enter")
	d.wants("watchers:", "nothing wrong found", "+2")
	d.press("ctrl+s")
	d.wants("saved")
	for name, want := range map[string]string{"bulletin.yaml": "count: { $get_input: watchers }", "bulletin-test.stack.yaml": "watchers: 3",
		"bulletin-live.stack.yaml": "watchers:"} {
		if !strings.Contains(d.text(name), want) || strings.Contains(d.text(name), " readers: 3") {
			t.Errorf("%s has no %q", name, want)
		}
	}
}

// What somebody else wrote meanwhile is not written over without a word.
func TestChangedMeanwhile(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "e", "# mine ")
	d.edit("bulletin.yaml", "The avalanche bulletin of Kestrel Ridge", "Theirs")
	d.send(part.FileChanged{Path: filepath.Join(d.dir, "bulletin.yaml")})
	d.wants("bulletin.yaml was changed by somebody else while you write")
	d.press("ctrl+s")
	d.wants("Write over it?", "− description: Theirs", "+ # mine tosca")
	d.press("n")
	if text := d.text("bulletin.yaml"); !strings.Contains(text, "Theirs") || strings.Contains(text, "mine") {
		t.Error("it was written over")
	}
	d.press("ctrl+p", "take what stands", "enter")
	d.wants("description: Theirs")
	d.lacks("# mine")
	d.press("ctrl+z", "ctrl+s")
	d.wants("saved")
	if text := d.text("bulletin.yaml"); !strings.Contains(text, "# mine tosca") {
		t.Error("mine is lost")
	}
	if err := os.Chmod(filepath.Join(d.dir, "bulletin.yaml"), 0o444); err != nil {
		t.Fatal(err)
	}
	if os.Getuid() != 0 { // who may write anything
		d.press("x", "ctrl+s")
		d.wants("cannot be written")
	}
	if err := os.Remove(filepath.Join(d.dir, "bulletin.yaml")); err != nil {
		t.Fatal(err)
	}
	d.press("y", "ctrl+s")
	d.wants("bulletin.yaml is not there any more. Write it again?")
	d.press("y")
	if text := d.text("bulletin.yaml"); !strings.Contains(text, "y") {
		t.Error("it was not written again")
	}
}

// A file that goes away while it is open, as while branches are switched, is shown as it was; nothing of it is written, and it is
// read again when it is back. What was being written stays, and asks before it is saved.
func TestAFileThatIsAway(t *testing.T) {
	d := newDesk(t, 142, 42)
	path := filepath.Join(d.dir, "bulletin.yaml")
	d.press("down", "2", "e")
	was := d.text("bulletin.yaml")
	gone := func() {
		t.Helper()
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
		d.send(part.FileChanged{Path: path})
	}
	back := func(text string) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		d.send(part.FileChanged{Path: path})
	}
	gone()
	d.wants("bulletin.yaml is not on the disk", "The avalanche bulletin of Kestrel Ridge")
	d.press("ctrl+s")
	d.wants("it is not on the disk now, and nothing was written")
	if _, err := os.Stat(path); err == nil {
		t.Error("it was written")
	}
	back(strings.Replace(was, "The avalanche bulletin of Kestrel Ridge", "Of another branch", 1))
	d.wants("Of another branch")
	d.press("ctrl+s")
	if text := d.text("bulletin.yaml"); !strings.Contains(text, "Of another branch") {
		t.Errorf("there is now %q", text)
	}
	d.press("# mine ")
	gone()
	back(was)
	d.wants("# mine")
	d.press("ctrl+s")
	d.wants("Write over it?")
	d.press("n")
	if text := d.text("bulletin.yaml"); text != was {
		t.Errorf("there is now %q", text)
	}
}

// A large text poured in is taken as a text, without its control characters.
func TestPastingMuch(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "e")
	d.send(tea.PasteMsg{Content: strings.Repeat("# a line of words\x1b[31m\r\n", 50_000)})
	d.wants("50000 control characters were left out", "# a line of words[31m", "line 50001 of 50245")
	d.press("ctrl+z")
	d.wants("line 1 of 245", "nothing wrong found")
}

// Keys do something everywhere in the editor, and at its edges.
func TestEditorKeys(t *testing.T) {
	d := newDesk(t, 80, 24)
	d.press("down", "2", "e")
	d.press("ctrl+a", "ctrl+c", "end", "ctrl+v", "alt+c", "alt+c", "ctrl+x", "ctrl+z", "ctrl+y", "ctrl+r", "image", "tab", "picture", "alt+a")
	d.wants("replaced")
	d.press("esc", "ctrl+space", "esc", "alt+p", "alt+p", "alt+p", "alt+.", "alt+,", "alt+m", "alt+l", "alt+k", "alt+enter", "esc")
	d.screen()
}

// What was typed and not saved is there again after a kill, but for the last moment.
func TestKilledWhileWriting(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	x := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	x.wait("bulletin-test")
	x.keys("Down", "2")
	x.wait("nothing wrong found")
	x.keys("e")
	x.tmux("send-keys", "-t", x.session, "-l", "# the pager secret is hoarfrost-77")
	x.keys("Enter")
	x.wait("# the pager secret", "not saved")
	time.Sleep(time.Second)
	x.tmux("send-keys", "-t", x.session, "-l", "#")
	pid := strings.TrimSpace(x.tmux("display-message", "-p", "-t", x.session, "#{pane_pid}"))
	if out, err := exec.Command("kill", "-9", pid).CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}
	time.Sleep(200 * time.Millisecond)
	out, err := exec.Command("grep", "-r", "-l", "hoarfrost-77", home).Output()
	if err == nil {
		t.Errorf("what is kept can be read: %s", out)
	}
	y := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	y.wait("bulletin-test")
	y.keys("Down", "2")
	y.wait("that were never saved", "+ # the pager secret is hoarfrost-77")
	y.keys("y")
	y.wait(" # the pager secret is hoarfrost-77", "not saved")
	y.keys("C-s")
	y.wait("bulletin.yaml saved")
	if list, _ := filepath.Glob(filepath.Join(home, "unsaved", "*")); len(list) > 0 {
		t.Errorf("what was saved is kept still: %v", list)
	}
	text, err := os.ReadFile(filepath.Join(demo.Project(home), "bulletin.yaml"))
	if err != nil || !strings.HasPrefix(string(text), "# the pager secret is hoarfrost-77\n") {
		t.Errorf("%v, %.60s", err, text)
	}
	y.keys("C-z", "C-z") // undo, not to the shell
	y.keys("C-Space")
	y.keys("Escape")
	y.wait("esc read")
	y.keys("Escape")
	y.wait("e write here")
	y.keys("q")
	y.wait("Leave?")
	y.keys("y")
}

// A stack is begun from nothing: a starter is chosen, named, aimed and written, and its
// blanks are gone through.
func TestBeginning(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("n")
	d.wants("begin a stack", "balanced-servers", "Servers alike behind a load balancer", "makes")
	d.press("end", "up", "up")
	d.wants("▸ static-site", "to fill in  domain", "to fill in  bucket")
	d.press("enter")
	d.wants("name", "folder", "static-site", "▸ workshop/alder-1", "no limit here")
	d.press("ctrl+u", "A bad name", "enter", "enter", "enter")
	d.wants("'A bad name' cannot be the name of a stack")
	d.press("ctrl+u", "huts-page", "enter")
	d.wants("/huts-page")
	d.press("enter", "enter")
	d.wants("2 Draft", "huts-page.stack.yaml", "domain: Domain", "It must be given", "the input 'domain' (Domain) has no value")
	d.press("huts.example", "tab", "kestrel-pages")
	d.wants("nothing wrong found", "▲ ")
	d.press("ctrl+s")
	d.wants("huts-page.stack.yaml saved")
	text, err := os.ReadFile(filepath.Join(d.dir, "huts-page", "huts-page.stack.yaml"))
	if err != nil || !strings.Contains(string(text), "domain: huts.example # ") || !strings.Contains(string(text), "target: workshop/alder-1") {
		t.Errorf("%v\n%s", err, text)
	}
	d.press("esc", "3", "tab")
	d.wants("d deploys it")
}

// Eight resources are written from nothing, with what is offered alone, and could be
// deployed as they are.
func TestWritingFromNothing(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("n", "end")
	d.wants("▸ empty", "makes nothing yet")
	d.press("enter", "ctrl+u", "huts", "enter", "enter", "enter")
	d.wants("huts.yaml", "line 8 of", "A public address that stays", "1 of 3")
	time.Sleep(1100 * time.Millisecond) // what was said is read by then, and the hints are there
	column := regexp.MustCompile(`column (\d+) `)
	write := func(typ, name string, also ...string) {
		d.press(typ, "tab", name)
		for range 12 {
			if seen := d.screen(); !strings.Contains(seen, "tab goes to the next blank") &&
				!strings.Contains(seen, "tab leaves the example") && !strings.Contains(seen, "tab takes it") {
				break
			}
			d.press("tab")
		}
		d.press(also...)
		d.press("enter")
		for range 8 {
			m := column.FindStringSubmatch(d.screen())
			if m == nil || m[1] == "5" {
				return
			}
			d.press("backspace")
		}
		t.Fatalf("after %s:\n%s", name, d.screen())
	}
	write("Net", "valley")
	write("Subn", "slopes")
	write("Rul", "gate_rules")
	write("Buck", "frames")
	write("Queu", "readings")
	write("Role", "reader_role")
	write("Gran", "reader_grant")
	write("Serv", "reader", "enter", "ru", "tab", "tab", "enter", "ro", "tab", "tab")
	d.wants("▲ 8 new", "nothing wrong found", "- rules: gate_rules", "- role: reader_role", "ctrl+s saves")
	d.press("ctrl+s", "esc", "3", "tab")
	d.wants("▲ 8 new", "d deploys it")
	text := d.text("huts/huts.yaml")
	for _, want := range []string{"    reader_grant:\n      type: Grant\n", "        - \"on\": ", "        - network: valley\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("%s\nwithout %s", text, want)
		}
	}
}

// The command line asks for what has to be filled in, where somebody can answer.
func TestBeginningOnTheCommandLine(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	dir := filepath.Join(t.TempDir(), "new")
	x := newTerminal(t, 100, 30, "sh", "-c", bin+" new house-bucket "+dir+" --inputs --home "+home+"; echo ended $?; sleep 60")
	x.wait("target (summit/alder-1, ")
	for _, answer := range []string{"nowhere", "workshop/alder-1", "UPPER", "snow"} {
		x.tmux("send-keys", "-t", x.session, "-l", answer)
		x.keys("Enter")
	}
	x.wait("'nowhere' is not a target", "two to twelve small letters", "house-bucket.stack.yaml", "ended 0")
	text, err := os.ReadFile(filepath.Join(dir, "house-bucket.stack.yaml"))
	if err != nil || !strings.Contains(string(text), "\n  team: snow # string") || !strings.Contains(string(text), "target: workshop/alder-1") {
		t.Errorf("%v\n%s", err, text)
	}
	out, err := exec.Command(bin, "new", "single-server", dir+"2", "--inputs", "--home", home).CombinedOutput()
	if err == nil || !strings.Contains(string(out), "nobody can answer here") {
		t.Errorf("%v: %s", err, out)
	}
}

// Enter takes what tab takes, once a word is begun; it is a new line where the word is written; and it takes an example as it stands.
func TestEnterTakes(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "e")
	d.toLine("- zone: bulletin_zone")
	d.press("enter", "backspace", "backspace", "backspace", "Queu")
	d.wants("enter or tab takes it")
	d.press("enter")
	d.wants("type: Queue") // its name is to be filled in
	d.press("later", "end", "down", "end", "enter", "propertie", "enter", "ordered: tru")
	d.press("enter") // it is taken
	d.wants("ordered: true")
	d.press("enter", "label: jo", "enter", "keep: 4", "enter", "x") // a text like the name of a function, a number without a unit
	d.wants("label: jo  ", "keep: 4  ")
	d.lacks("$join", "4 ms")

	d = newDesk(t, 142, 42)
	d.press("down", "2", "e")
	d.toLine("- zone: bulletin_zone")
	d.press("enter", "backspace", "backspace", "backspace", "Bucke", "enter", "old", "tab")
	d.wants("name: kestrel-frames")
	d.press("enter")
	d.wants("name: kestrel-frames")
}

// TestAFileThatComes has a template name a file that is not there, which is read when it comes into being.
func TestAFileThatComes(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2")
	path := filepath.Join(d.dir, "bulletin.yaml")
	was := d.text("bulletin.yaml")
	text := strings.Replace(was, "  - profile: brickrow.cloud:1\n", "  - profile: brickrow.cloud:1\n  - more.yaml\n", 1)
	if text == was {
		t.Fatal("there is no such import")
	}
	write := func(path, text string) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		d.send(part.FileChanged{Path: path})
	}
	write(path, text)
	d.wants("the file more.yaml cannot", "2 edit", "21 same    from before the mistake")
	write(filepath.Join(d.dir, "more.yaml"), "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nnode_types: { Hut: { derived_from: Server } }\n")
	d.wants("nothing wrong found", "21 same")
	d.lacks("the file more.yaml cannot")
}
