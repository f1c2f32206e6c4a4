package tui

import (
	"context"
	"flag"
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/app"
	"brickrow/internal/cli"
	"brickrow/internal/demo"
	"brickrow/internal/helper"
	"brickrow/internal/tui/part"
	"brickrow/internal/yard"
)

// TestMain lets the test binary carry out runs, as the program does when the
// interface starts one.
func TestMain(m *testing.M) {
	helper.Serve()
	if len(os.Args) > 1 && (os.Args[1] == "carry-out" || os.Args[1] == "carry-fleet") {
		p := &cli.Program{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
		os.Exit(p.Run(context.Background(), os.Args[1:]))
	}
	if flag.Parse(); testing.Short() && flag.Lookup("test.run").Value.String() == "" {
		_ = flag.Set("test.run", "^(TestTheStoryOnTheScreen|TestTheCloudOnTheScreen|TestChangedMeanwhile)$") // in which several things go on at once
	}
	code := m.Run()
	if built.dir != "" {
		os.RemoveAll(built.dir)
	}
	os.Exit(code)
}

// desk is the interface on the demo, without a terminal around it.
type desk struct {
	*model
	t     *testing.T
	dir   string
	heard int // messages that commands have led to
}

func newDesk(t *testing.T, w, h int) *desk {
	t.Helper()
	home := filepath.Join(t.TempDir(), "home")
	if err := demo.Prepare(t.Context(), home, func(string) {}); err != nil {
		t.Fatal(err)
	}
	a, err := app.Open(app.Options{Home: home, Speed: 200})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close() })
	d := &desk{model: newModel(t.Context(), a, demo.Project(home)), t: t, dir: demo.Project(home)}
	d.later = func(_ time.Duration, msg tea.Msg) tea.Cmd {
		switch msg.(type) {
		case beat, glance, hushed, redraw:
			return nil
		}
		return func() tea.Msg { return msg } // at once
	}
	d.wait = func(func() tea.Msg) tea.Cmd { return nil }
	d.send(tea.WindowSizeMsg{Width: w, Height: h})
	d.do(d.views[0].Update(part.Opened{}))
	return d
}

// send gives the model a message and carries out what it asks for.
func (d *desk) send(msg tea.Msg) {
	d.t.Helper()
	_, cmd := d.Update(msg)
	d.do(cmd)
}

func (d *desk) do(cmd tea.Cmd) {
	d.t.Helper()
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			d.do(c)
		}
	default:
		d.heard++
		if strings.HasPrefix(fmt.Sprintf("%T", msg), "tea.") {
			return // the clipboard
		}
		d.send(msg)
	}
}

var named = map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "up": tea.KeyUp,
	"down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "pgdown": tea.KeyPgDown, "pgup": tea.KeyPgUp,
	"home": tea.KeyHome, "end": tea.KeyEnd, "backspace": tea.KeyBackspace}

// press presses keys, by their names.
func (d *desk) press(keys ...string) {
	d.t.Helper()
	for _, k := range keys {
		switch {
		case named[k] != 0:
			d.send(tea.KeyPressMsg{Code: named[k]})
		case k == "space":
			d.send(tea.KeyPressMsg{Code: tea.KeySpace, Text: " "})
		case k == "ctrl+space":
			d.send(tea.KeyPressMsg{Code: tea.KeySpace, Mod: tea.ModCtrl})
		case strings.HasPrefix(k, "ctrl+"):
			d.send(tea.KeyPressMsg{Code: rune(k[5]), Mod: tea.ModCtrl})
		case k == "alt+enter":
			d.send(tea.KeyPressMsg{Code: tea.KeyEnter, Mod: tea.ModAlt})
		case strings.HasPrefix(k, "alt+"):
			d.send(tea.KeyPressMsg{Code: rune(k[4]), Mod: tea.ModAlt})
		default:
			for _, r := range k {
				d.send(tea.KeyPressMsg{Code: r, Text: string(r)})
			}
		}
	}
}

// screen is what a person sees.
func (d *desk) screen() string { return ansi.Strip(d.frame()) }

func (d *desk) wants(words ...string) {
	d.t.Helper()
	seen := d.screen()
	for _, w := range words {
		if !strings.Contains(seen, w) {
			d.t.Fatalf("there is no %q on the screen:\n%s", w, seen)
		}
	}
}

func (d *desk) lacks(words ...string) {
	d.t.Helper()
	seen := d.screen()
	for _, w := range words {
		if strings.Contains(seen, w) {
			d.t.Fatalf("there is %q on the screen:\n%s", w, seen)
		}
	}
}

// ended waits until the run that is shown is over.
func (d *desk) ended() {
	d.t.Helper()
	for range 600 {
		r, err := d.app.RunNumber(d.t.Context(), d.about.Stack, 0)
		if err != nil {
			d.t.Fatal(err)
		}
		over := r != nil && r.State.Ended()
		for _, v := range d.views {
			d.do(v.Update(part.StoreChanged{}))
		}
		if over {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	d.t.Fatalf("the run does not end:\n%s", d.screen())
}

// pick clicks on a brick.
func (d *desk) pick(name string) {
	d.t.Helper()
	d.click(" "+name+" ", d.w*3/5)
}

// click clicks on words in the first columns of the screen.
func (d *desk) click(words string, columns int) {
	d.t.Helper()
	for y, line := range strings.Split(d.screen(), "\n") {
		if at := strings.Index(ansi.Truncate(line, columns, ""), words); at >= 0 && y > 3 {
			d.send(tea.MouseClickMsg{X: ansi.StringWidth(line[:at]) + 1, Y: y, Button: tea.MouseLeft})
			return
		}
	}
	d.t.Fatalf("there is no %q on the screen:\n%s", words, d.screen())
}

func (d *desk) edit(name, old, new string) {
	d.t.Helper()
	path := filepath.Join(d.dir, name)
	text, err := os.ReadFile(path)
	if err != nil || !strings.Contains(string(text), old) {
		d.t.Fatalf("%s has no %q (%v)", name, old, err)
	}
	if err := os.WriteFile(path, []byte(strings.Replace(string(text), old, new, 1)), 0o600); err != nil {
		d.t.Fatal(err)
	}
}

func TestTheStoryOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.wants("BRICK ROW", "bulletin-live", "summit / birch-1", "5 of 6 stacks, 1 removed hidden", "enter open it")
	d.press("down")
	d.wants("▌", "23 resources in 5 courses", "no storage host has 40 GiB", "http://bulletin.test.kestrelridge.example")
	d.press("r")
	d.wants("snow-probe", "removed")
	d.press("r", "enter")
	d.wants("2 Draft", "tosca_definitions_version", "bulletin-test.stack.yaml:7", "(secret)", "nothing wrong found",
		"▲ 1 new")
	d.press("3")
	d.wants("▲ 1 new   ◧ 2 edit", "compared with the cloud at", "changed by hand in the cloud", "interruption",
		"look through 1 risk (tab), then d")
	d.press("d")
	d.wants("look through 1 more of the risks first")
	d.press("tab")
	d.wants("readings_db restarts when its size changes", "d deploys it")
	d.press("x")
	d.wants("If readings_db failed, after", "Undoing it", "put back readings_db")
	d.press("x")
	d.press("n", "N")
	d.wants("small → medium", "input db_size is medium, was small")
	d.press("d")
	d.wants("Deploy bulletin-test: 1 new, 2 edit in workshop / alder-1?", "y yes")
	d.wants("On failure: all is undone.")
	d.press("n")
	d.wants("nothing was done")
	d.press("o")
	d.wants("on failure: what is built is held")
	d.press("o", "d", "y")
	d.ended()
	d.wants("done after", "events", "results", "reader#2", "at revision 4")
	d.press("3")
	d.wants("nothing to do: the cloud is as wanted")
	d.press("d")
	d.wants("nothing to do")
}

func TestAFailureOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "3")
	d.screen()
	d.press("down", "down", "b")
	d.wants("choose a brick that changes")
	d.press("n", "n", "n", "n", "b")
	d.wants("Let the stand-in cloud fail once at reader_rules")
	d.press("esc")
	if _, err := d.app.Door.AddFault(t.Context(),
		yard.Fault{Name: "reader", At: "image", Times: 1, Reason: "no host\x1b[2J is free"}); err != nil {
		t.Fatal(err)
	}
	d.press("tab", "d", "y")
	d.ended()
	d.wants("failed and undone", "✖ reader#2", "no host·[2J is free", "failed while starting the image",
		"all 23 resources are as they were", "bulletin.yaml:", "fix the cause")
	d.press("t")
	d.wants("2 Draft", "line 12")
	d.press("4", "u")
	d.wants("Go back to which revision of bulletin-test?", "revision 4", "never stood: its run failed", "revision 2", "deployed now", "▌ revision 1")
	d.press("down", "up", "up", "esc")
	d.lacks("Go back to which")
	d.press("4", "u", "enter")
	d.wants("way back, as revision 1")
}

func TestHoldingOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "3")
	d.screen()
	d.press("n", "n", "b", "enter", "o", "tab", "d")
	d.wants("On failure: what is built is held.")
	d.press("y")
	d.ended()
	d.wants("◧ held after", "no host has room for it", "what is built stays", "partial")
	d.press("R")
	d.ended()
	d.wants("done after")
}

func TestDeletingOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "x")
	d.wants("deletion of the stack", "▽ 22 drop", "look through 1 risk", "readings_db is removed with all it holds")
	d.press("d")
	d.wants("look through 1 more of the risks first")
	d.press("tab", "d")
	d.wants("Delete bulletin-test: 22 drop, 1 kept in workshop / alder-1?", "Type bulletin-test and press enter")
	d.press("bulletin", "enter")
	d.wants("that is not bulletin-test")
	d.press("-test", "enter")
	d.ended()
	d.wants("removed after", "nothing is there any more but what is kept: frames")
}

func TestMistakesOnTheScreen(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.edit("bulletin.yaml", "type: Topic", "type: Topc")
	d.edit("bulletin-test.stack.yaml", "readers: 3", "readrs: 3")
	d.press("down", "2")
	d.wants("✖", "there is no node type 'Topc'", "did you mean 'Topic'?", "n goes to the mistake")
	d.press("n", "n", "n")
	d.wants("readrs: 3", "the template has no input 'readrs'")
	d.press("3")
	d.wants("✖ ", "There is no what-if until what is wrong below is fixed.")
	d.lacks("drop")
	d.press("d")
	d.wants("fix what is wrong first")
	d.edit("bulletin.yaml", "type: Topc", "type: Topic")
	d.edit("bulletin-test.stack.yaml", "readrs: 3", "readers: 3")
	d.send(part.FileChanged{Path: filepath.Join(d.dir, "bulletin.yaml")})
	d.press("2")
	d.wants("nothing wrong found", "run 3 failed at readings_db") // which says nothing against the text
}

// into goes to an input in the list, and types another value for it.
func (d *desk) into(name, value string) {
	d.t.Helper()
	if !strings.Contains(d.screen(), "enter another value") {
		d.press("i")
	}
	d.press("home")
	for range 40 {
		if strings.Contains(d.screen(), "▌"+name+" ") {
			break
		}
		d.press("down")
	}
	d.press("enter", "ctrl+u", value)
}

func TestGivingAnInput(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "i")
	d.wants("enter gives another value")
	d.into("readers", "5")
	d.wants("▲ 3 new", "enter for now", "ctrl+s into the stack file")
	d.press("enter")
	d.wants("-i readers=5", "▲ 3 new")
	d.into("readers", "x")
	d.wants("✖ input readers: expected an integer, found a")
	d.press("enter")
	d.wants("input readers: expected an integer, found a string")
	d.into("readers", "4")
	d.press("enter", "esc", "3")
	d.wants("▲ 2 new")
	d.press("n", "n", "n")
	d.wants("input readers is 4, was 2 (-i readers=4)")
	d.press("2", "i")
	d.into("readers", "")
	d.press("esc", "x")
	d.wants("▲ 1 new", "bulletin-test.stack.yaml:7")
}

// A value goes into the stack file, whose comments and order stay.
func TestWritingAnInput(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.edit("bulletin-test.stack.yaml", "readers: 3", "readers: 3 # since the storm")
	d.press("down", "2")
	d.into("db_size", "")
	d.press("down") // the legal values go round
	d.wants("db_size       small", "One of small")
	d.press("down", "down", "ctrl+s")
	d.wants("bulletin-test.stack.yaml has db_size now", "large")
	d.into("readers", "6")
	d.press("enter", "w")
	d.wants("bulletin-test.stack.yaml has readers now")
	d.into("oncall_token", "hush-quiet-now")
	d.press("ctrl+s")
	d.wants("is a secret, which does not belong in a stack file")
	text, err := os.ReadFile(filepath.Join(d.dir, "bulletin-test.stack.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"  db_size: large\n", "  readers: 6 # since the storm\n"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("there is no %q in\n%s", want, text)
		}
	}
	if strings.Contains(string(text), "hush") || strings.Contains(d.frame(), "hush") {
		t.Error("the secret is to be seen")
	}
}

func TestDraftPanels(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "enter", "f")
	d.wants("stack: bulletin-test", "from_stack")
	d.press("f", "f", "f", "f", "tab", "end")
	d.wants("line 245 of 245")
	d.press("home")
	for range 115 {
		d.press("down")
	}
	d.wants("Database", "A managed database", "rests on a Subnet, 1 or more", "default 7")
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "")
	t.Setenv("PATH", "")
	d.press("E")
	d.wants("set the variable EDITOR")
	d.press("tab")
	d.wants("wall  the structure", "readings_db", "rests on")
}

// TestStacksAsATree shows who uses whose results.
func TestStacksAsATree(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.lacks("└")
	d.press("t")
	d.wants("└ bulletin-live", "└ bulletin-test", "each under the one whose results it uses")
	d.press("up", "up", "down")
	d.wants("The avalanche bulletin")
	d.press("t")
	d.wants("ridge-base", "What the services of Kestrel Ridge share", "3 of 6 stacks")
	d.lacks("bulletin-live")
	d.press("t", "r")
	d.wants("snow-probe", "bulletin-live")
}

func TestStacksFilterAndPalette(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("/", "base ready", "enter")
	d.wants("filter: base ready", "1 of 6 stacks")
	if d.about.Name != "ridge-base" {
		t.Errorf("the subject is %s", d.about.Name)
	}
	d.press("esc", "/", "zzz", "enter")
	d.wants("No stack matches the filter")
	d.press("esc", ":")
	d.wants("Command", "Go to What-if", "Open a stack file")
	d.press("zzzz")
	d.wants("no command is called like that")
	d.press("esc", "ctrl+p", "whatif", "enter")
	d.wants("3 What-if", "compared with the cloud")
	d.press("?")
	d.wants("Keys of What-if", "walk the wall", "any key goes back")
	d.press("x")
	d.lacks("Keys of What-if")
	d.press("esc")
	d.wants("last run")
	d.press("y")
	d.wants("copied")
	for range 5 {
		if strings.Contains(d.screen(), "Y its command") {
			break
		}
		d.press("up")
	}
	d.wants("y copies it, Y its command, tab the next")
	d.press("tab", "tab", "Y")
	d.wants("copied the command of gate_address", "run ping -c 3 203.0.113.")
}

func TestOpeningFiles(t *testing.T) {
	d := newDesk(t, 142, 42)
	if err := os.WriteFile(filepath.Join(d.dir, "fresh.stack.yaml"),
		[]byte("stack: fresh-one\ntemplate: snow-probe.yaml\ntarget: summit/alder-1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.press("o", filepath.Join(d.dir, "nothing.yaml"), "enter")
	d.wants("there is no file")
	d.press("o", filepath.Join(d.dir, "fresh.stack.yaml"), "enter")
	d.wants("fresh-one", "not deployed yet", "2 Draft", "▲ 3 new")
	d.press("4")
	d.wants("no run yet")
	d.press("1")
	d.wants("fresh-one", "empty")
	d.press("3", "d", "y")
	d.ended()
	d.wants("fresh-one", "done after")
	d.press("o")
}

func TestMouse(t *testing.T) {
	d := newDesk(t, 142, 42)
	at := func(x, y int) { d.send(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft}) }
	d.screen()
	at(20, 5)
	if d.about.Name != "bulletin-test" {
		t.Errorf("a click chose %s", d.about.Name)
	}
	d.screen()
	at(22, 1)
	d.wants("compared with the cloud")
	d.pick("readings_db")
	d.wants("◧ readings_db  edit")
	d.send(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	d.press("1")
	d.send(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	if d.about.Name != "ridge-base" {
		t.Errorf("the wheel chose %s", d.about.Name)
	}
}

// TestEverySize draws every view at many sizes: no line is too long, none too
// many, and what matters is there.
func TestEverySize(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "3", "4")
	for _, size := range [][2]int{{200, 60}, {142, 42}, {100, 30}, {99, 30}, {80, 24}, {60, 16}, {59, 16}, {20, 5},
		{1, 1}} {
		for i, v := range d.views {
			for _, extra := range []string{"", "?", ":"} {
				d.send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
				d.at, d.help, d.palette = i, false, nil
				d.press(strings.Fields(extra)...)
				lines := strings.Split(d.screen(), "\n")
				if len(lines) > size[1] {
					t.Fatalf("%s at %v has %d lines", v.Name(), size, len(lines))
				}
				for _, l := range lines {
					if ansi.StringWidth(l) > size[0] {
						t.Fatalf("%s at %v has a line of %d: %q", v.Name(), size, ansi.StringWidth(l), l)
					}
				}
				if size[0] >= minWidth && size[1] >= minHeight {
					d.wants("BRICK ROW", v.Name())
				} else if size[0] >= 20 {
					d.wants("Brick Row")
				}
			}
		}
	}
}

// What the terminal can show decides the colours; what is set about its ground comes before what it says itself, and a
// choice of contrast is kept.
func TestColoursFollowTheTerminal(t *testing.T) {
	d := newDesk(t, 142, 42)
	direct, indexed := regexp.MustCompile(`\x1b\[[0-9;]*[34]8;2;`), regexp.MustCompile(`\x1b\[[0-9;]*[34]8;5;`)
	for _, test := range []struct {
		depth           colorprofile.Profile
		direct, indexed bool
	}{{colorprofile.TrueColor, true, false}, {colorprofile.ANSI256, false, true}, {colorprofile.ANSI, false, false},
		{colorprofile.ASCII, false, false}} {
		d.send(tea.ColorProfileMsg{Profile: test.depth})
		frame := d.frame()
		if direct.MatchString(frame) != test.direct || indexed.MatchString(frame) != test.indexed {
			t.Errorf("%v: the frame has colours of another depth", test.depth)
		}
	}
	d.send(tea.ColorProfileMsg{Profile: colorprofile.TrueColor})
	d.send(tea.BackgroundColorMsg{Color: color.White})
	if !d.look.Light {
		t.Error("a light ground is taken for a dark one")
	}
	d.swapTheme()
	d.send(tea.BackgroundColorMsg{Color: color.White})
	if d.look.Light {
		t.Error("what the terminal says comes before what was chosen")
	}
	d.swapContrast()
	if again := newModel(t.Context(), d.app); !again.look.Strong || d.model.t != d.look.Theme() {
		t.Error("the contrast that was chosen is not kept")
	}
}

// What was said of an answer is over once there is another one.
func TestWhatWasSaidOfAnAnswerIsOver(t *testing.T) {
	d := newDesk(t, 100, 30)
	d.Ask(part.NewAsk("Delete it?", "ridge-base", func(string) tea.Cmd { return nil }))
	d.press("ridge", "enter")
	d.wants("that is not ridge-base")
	d.press("-base", "enter")
	d.lacks("that is not", "Delete it?")
}
