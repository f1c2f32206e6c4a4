package tui

import (
	"context"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/app"
	"brickrow/internal/cli"
	"brickrow/internal/cloud"
	"brickrow/internal/demo"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// TestMain lets the test binary carry out runs, as the program does when the
// interface starts one.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "carry-out" {
		p := &cli.Program{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
		os.Exit(p.Run(context.Background(), os.Args[1:]))
	}
	os.Exit(m.Run())
}

// desk is the interface on the demo, without a terminal around it.
type desk struct {
	*model
	t   *testing.T
	dir string
}

func newDesk(t *testing.T, w, h int) *desk {
	t.Helper()
	home := filepath.Join(t.TempDir(), "home")
	if err := demo.Prepare(t.Context(), home, false, func(string) {}); err != nil {
		t.Fatal(err)
	}
	a, err := app.Open(app.Options{Home: home, Speed: 200})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close() })
	d := &desk{newModel(t.Context(), a), t, demo.Project(home)}
	d.stacks.folders = []string{d.dir}
	d.send(tea.WindowSizeMsg{Width: w, Height: h})
	d.do(d.stacks.load(d.model))
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
	case nil, tick:
	case tea.BatchMsg:
		for _, c := range msg {
			d.do(c)
		}
	default:
		if strings.HasPrefix(fmt.Sprintf("%T", msg), "tea.") {
			return // the clipboard
		}
		d.send(msg)
	}
}

var named = map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "pgdown": tea.KeyPgDown, "pgup": tea.KeyPgUp, "home": tea.KeyHome, "end": tea.KeyEnd, "backspace": tea.KeyBackspace}

// press presses keys, by their names.
func (d *desk) press(keys ...string) {
	d.t.Helper()
	for _, k := range keys {
		switch {
		case named[k] != 0:
			d.send(tea.KeyPressMsg{Code: named[k]})
		case strings.HasPrefix(k, "ctrl+"):
			d.send(tea.KeyPressMsg{Code: rune(k[5]), Mod: tea.ModCtrl})
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
		d.do(d.run.load(d.model, ""))
		if d.run.run != nil && d.run.run.State.Ended() {
			d.do(d.stacks.load(d.model))
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	d.t.Fatalf("the run does not end:\n%s", d.screen())
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
	d.wants("BRICK ROW", "bulletin-live", "summit / birch-1", "3 of 4 stacks, 1 removed hidden", "enter open it")
	d.press("down")
	d.wants("▌", "22 resources in 5 courses", "no storage host has 40 GiB", "http://bulletin.test.kestrelridge.example")
	d.press("r")
	d.wants("snow-probe", "removed")
	d.press("r", "enter")
	d.wants("2 Draft", "tosca_definitions_version", "bulletin-test.stack.yaml:7", "(secret)", "nothing wrong found", "▲ 1 new")
	d.press("3")
	d.wants("▲ 1 new   ◧ 2 edit", "compared with the cloud at", "changed by hand in the cloud", "interruption", "look through 1 risk (tab), then d")
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
	if err := d.app.Cloud.Operator(t.Context(), "POST", "faults", yard.Fault{Name: "reader", At: "image", Times: 1, Reason: "no host\x1b[2J is free"}, nil); err != nil {
		t.Fatal(err)
	}
	d.press("tab", "d", "y")
	d.ended()
	d.wants("failed and undone", "✖ reader#2", "no host·[2J is free", "failed while starting the image", "all 22 resources are as they were", "bulletin.yaml:", "mend the cause")
	d.press("t")
	d.wants("2 Draft", "line 12")
	d.press("4", "u")
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
	d.wants("deletion of the stack", "▽ 21 drop", "look through 1 risk", "readings_db is removed with all it holds")
	d.press("d")
	d.wants("look through 1 more of the risks first")
	d.press("tab", "d")
	d.wants("Delete bulletin-test: 21 drop, 1 kept in workshop / alder-1?", "Type bulletin-test and press enter")
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
	d.press("n", "n")
	d.wants("readrs: 3", "the template has no input 'readrs'")
	d.press("3")
	d.wants("✖ ", "There is no what-if until what is wrong below is mended.")
	d.lacks("drop")
	d.press("d")
	d.wants("mend what is wrong first")
	d.edit("bulletin.yaml", "type: Topc", "type: Topic")
	d.edit("bulletin-test.stack.yaml", "readrs: 3", "readers: 3")
	d.send(fileChanged{filepath.Join(d.dir, "bulletin.yaml")})
	d.press("2")
	d.wants("nothing wrong found")
}

func TestGivingAnInput(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "i", "nobody=1", "enter")
	d.wants("the template has no input 'nobody'")
	d.press("i", "readers=5", "enter")
	d.wants("-i readers=5", "▲ 3 new")
	d.press("i", "readers=x", "enter")
	d.wants("input readers: expected an integer, found a string")
	d.press("i", "readers=4", "enter", "3")
	d.wants("▲ 2 new")
	d.press("n", "n", "n")
	d.wants("input readers is 4, was 2 (-i readers=4)")
	d.press("2", "i", "enter")
	d.wants("▲ 1 new", "bulletin-test.stack.yaml:7")
}

func TestDraftPanels(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "enter", "f")
	d.wants("stack: bulletin-test", "from_stack")
	d.press("f", "f", "tab", "end")
	d.wants("line 223 of 223")
	d.press("home")
	for range 115 {
		d.press("down")
	}
	d.wants("Database", "A managed database", "rests on a Subnet, 1 or more", "default 7")
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "")
	t.Setenv("PATH", "")
	d.press("e")
	d.wants("set the variable EDITOR")
}

func TestStacksFilterAndPalette(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("/", "base ready", "enter")
	d.wants("filter: base ready", "1 of 4 stacks")
	if d.about.name != "ridge-base" {
		t.Errorf("the subject is %s", d.about.name)
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
}

func TestOpeningFiles(t *testing.T) {
	d := newDesk(t, 142, 42)
	if err := os.WriteFile(filepath.Join(d.dir, "fresh.stack.yaml"), []byte("stack: fresh-one\ntemplate: snow-probe.yaml\ntarget: summit/alder-1\n"), 0o600); err != nil {
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
	click := func(x, y int) { d.send(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft}) }
	d.screen()
	click(20, 5)
	if d.about.name != "bulletin-test" {
		t.Errorf("a click chose %s", d.about.name)
	}
	d.screen()
	click(22, 1)
	d.wants("compared with the cloud")
	p := d.whatif.wall.placed["readings_db"]
	click(p.x+2, p.y)
	if d.whatif.wall.sel != "readings_db" {
		t.Errorf("a click chose the brick %s", d.whatif.wall.sel)
	}
	d.send(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	d.press("1")
	d.send(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	if d.about.name != "ridge-base" {
		t.Errorf("the wheel chose %s", d.about.name)
	}
}

// TestEverySize draws every view at many sizes: no line is too long, none too
// many, and what matters is there.
func TestEverySize(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2", "3", "4")
	for _, size := range [][2]int{{200, 60}, {142, 42}, {100, 30}, {99, 30}, {80, 24}, {60, 16}, {59, 16}, {20, 5}, {1, 1}} {
		for v := viewStacks; v <= viewRun; v++ {
			for _, extra := range []string{"", "?", ":"} {
				d.send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
				d.at, d.help, d.palette = v, false, nil
				d.press(strings.Fields(extra)...)
				lines := strings.Split(d.screen(), "\n")
				if len(lines) > size[1] {
					t.Fatalf("%s at %v has %d lines", viewNames[v], size, len(lines))
				}
				for _, l := range lines {
					if ansi.StringWidth(l) > size[0] {
						t.Fatalf("%s at %v has a line of %d: %q", viewNames[v], size, ansi.StringWidth(l), l)
					}
				}
				if size[0] >= minWidth && size[1] >= minHeight {
					d.wants("BRICK ROW", viewNames[v])
				} else if size[0] >= 20 {
					d.wants("Brick Row")
				}
			}
		}
	}
}

func TestWall(t *testing.T) {
	g := stack.Graph{}
	for i := range 1000 {
		name := fmt.Sprintf("brick_%d", i)
		g[name] = nil
		if i >= 300 {
			g[name] = []string{fmt.Sprintf("brick_%d", i-300)}
		}
	}
	var w wall
	w.set(g)
	s := newScreen(100, 40, dark.plain())
	of := func(string) brick { return brick{mark: "▪", sub: "x", paint: dark.kinds[whatif.Same]} }
	w.draw(s, rect{0, 0, 100, 40}, &dark, of)
	if len(w.placed) != 1000 {
		t.Errorf("%d of 1000 bricks are in sight", len(w.placed))
	}
	seen := map[[2]int]string{}
	for n, p := range w.placed {
		for x := p.x; x < p.x+p.w; x++ {
			if other := seen[[2]int{x, p.y}]; other != "" || x >= 100 || p.y >= 40 {
				t.Fatalf("%s at %d,%d lies on %s", n, x, p.y, other)
			}
			seen[[2]int{x, p.y}] = n
		}
	}
	w.choose("brick_300")
	if !w.reach["brick_0"] || !w.reach["brick_900"] || w.reach["brick_1"] {
		t.Error("the reach of a brick is wrong")
	}
	if p := w.placed["brick_5"]; w.at(p.x, p.y) != "brick_5" || w.at(99, 0) == "brick_5" {
		t.Error("a brick is not found where it is drawn")
	}
	var small wall
	small.set(stack.Graph{"a": nil, "b": {"a"}, "c": {"a"}, "d": {"b", "c"}})
	s = newScreen(80, 20, dark.plain())
	small.draw(s, rect{0, 0, 80, 20}, &dark, of)
	var path []string
	for _, m := range [][2]int{{0, 1}, {1, 0}, {1, 0}, {0, 1}, {0, 1}, {0, -1}, {0, -1}, {0, -1}} {
		small.move(m[0], m[1])
		path = append(path, small.sel)
	}
	if got := strings.Join(path, ""); got[:5] != "bccdd" || !strings.HasSuffix(got, "aa") {
		t.Errorf("walking goes %s", got)
	}
	text := ansi.Strip(s.Render())
	if !strings.Contains(text, "▪ a") || !strings.Contains(text, "▔") {
		t.Errorf("a small wall:\n%s", text)
	}
	small.set(stack.Graph{"x": nil})
	if small.sel != "x" {
		t.Errorf("after the bricks have changed %q is selected", small.sel)
	}
	small.draw(s, rect{0, 0, 3, 0}, &dark, of) // no room at all
}

func TestClipAndWrap(t *testing.T) {
	for _, test := range []struct {
		text string
		w    int
		want string
	}{
		{"abcdef", 6, "abcdef"}, {"abcdef", 5, "abcd…"}, {"山山山", 5, "山山…"}, {"山山山", 4, "山…"}, {"abc", 0, ""}, {"", 3, ""},
	} {
		if got := clip(test.text, test.w); got != test.want {
			t.Errorf("clip(%q, %d) is %q", test.text, test.w, got)
		}
	}
	if got := strings.Join(wrap("one two  three\nfour abcdefghij", 8), "|"); got != "one two|three|four|abcdefgh|ij" {
		t.Errorf("wrapped: %s", got)
	}
	if wrap("x", 0) != nil {
		t.Error("wrapped into nothing")
	}
}

// contrast is the ratio of two colours (WCAG 2.2, relative luminance).
func contrast(a, b color.Color) float64 {
	l := func(c color.Color) float64 {
		r, g, b, _ := c.RGBA()
		part := func(v uint32) float64 {
			x := float64(v) / 0xffff
			if x <= 0.04045 {
				return x / 12.92
			}
			return math.Pow((x+0.055)/1.055, 2.4)
		}
		return 0.2126*part(r) + 0.7152*part(g) + 0.0722*part(b)
	}
	x, y := l(a), l(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

func TestTextsCanBeRead(t *testing.T) {
	for name, th := range map[string]*theme{"dark": &dark, "light": &light} {
		check := func(what string, fg, bg color.Color) {
			if got := contrast(fg, bg); got < 4.5 {
				t.Errorf("%s: %s has a contrast of %.2f", name, what, got)
			}
		}
		for what, fg := range map[string]color.Color{"text": th.text, "dim": th.dim, "accent": th.accent, "hint": th.hint, "bright": th.bright, "key": th.key, "string": th.str, "number": th.num, "comment": th.comment, "call": th.call} {
			check(what, fg, th.ground)
			if what != "accent" {
				check(what+" on the bar", fg, th.bar)
			}
		}
		check("the selection", th.selText, th.selGround)
		check("a careful target", th.carefulText, th.careful)
		check("the name of the program", th.ground, th.accent)
		for k, p := range th.kinds {
			check("a brick "+string(k), p.text, p.ground)
			check("the word "+string(k), p.word, th.ground)
		}
		for s, p := range th.states {
			check("a brick "+string(s), p.text, p.ground)
			check("the empty part of a brick "+string(s), p.text, p.empty)
			check("the word "+string(s), p.word, th.ground)
		}
	}
	for s := range dark.states {
		if stateMarks[s] == "" {
			t.Errorf("the state %s has no mark", s)
		}
	}
}

func TestStackStatesAreShown(t *testing.T) {
	marks := map[string]bool{}
	for _, s := range []store.State{store.Empty, store.Deploying, store.Ready, store.Partial, store.Undoing, store.Removing, store.Removed, store.Stuck} {
		mark, _ := dark.stackPaint(s)
		if marks[mark] {
			t.Errorf("%s has the mark of another state", s)
		}
		marks[mark] = true
	}
}

func TestAWholeRunFromItsEvents(t *testing.T) {
	v := &runView{now: map[string]progress{"a": {state: run.Waiting, planned: true, seconds: 4}}, run: &store.Run{Started: time.Now()}}
	began := time.Now()
	for i, e := range []run.Event{{State: run.Working}, {State: run.Settling, Step: "x"}, {State: run.HasFailed, Reason: "r"}, {State: run.Undoing}, {State: run.IsUndone}} {
		e.Resource, e.Time = "a", began.Add(time.Duration(i)*time.Second)
		v.apply(e)
	}
	p := v.now["a"]
	if p.state != run.IsUndone || !p.failed || len(p.past) != 1 || p.past[0].state != run.HasFailed || p.ended.IsZero() {
		t.Errorf("%+v", p)
	}
	if b := v.brick(&dark, "a"); b.mark != "✖" || b.sub != "failed, undone" {
		t.Errorf("%+v", b)
	}
	if b := v.brick(&dark, "other"); b.sub != "untouched" {
		t.Errorf("%+v", b)
	}
}

func TestASwapStaysReadyWhileTheOldOneGoes(t *testing.T) {
	v := &runView{now: map[string]progress{"a": {state: run.Waiting, planned: true, swap: true, seconds: 4}}, run: &store.Run{Started: time.Now(), State: store.RunWorking}}
	for i, step := range []struct {
		state run.State
		sub   string
	}{{run.Working, "working"}, {run.IsReady, "ready 1 ms"}, {run.Removing, "the old one goes"}, {run.Removed, "swapped"}} {
		v.apply(run.Event{Resource: "a", State: step.state, Time: v.run.Started.Add(time.Duration(i) * time.Millisecond)})
		if b := v.brick(&dark, "a"); b.sub != step.sub || i > 0 && b.mark != "■" {
			t.Errorf("%s: %+v, want %s", step.state, b, step.sub)
		}
	}
	if p := v.now["a"]; p.old.state != run.Removed || p.old.ended.IsZero() {
		t.Errorf("%+v", p)
	}
}

func TestHighlight(t *testing.T) {
	lines := highlight("a: { $concat: [ x, $value ] } # $none\nb: 5\n\n")
	if len(lines) < 3 {
		t.Fatalf("%d lines", len(lines))
	}
	var calls []string
	for _, p := range lines[0] {
		if tokenColor(&dark, p) == dark.call {
			calls = append(calls, p.text)
		}
	}
	if fmt.Sprint(calls) != "[$concat $value]" {
		t.Errorf("calls are %v", calls)
	}
}

func TestNamesFromTheCloudAreHarmless(t *testing.T) {
	s := newScreen(40, 1, dark.plain())
	s.text(0, 0, 40, dark.plain(), "a\x1b]0;x\x07b\u202e")
	if got := s.Render(); regexp.MustCompile(`[\x07\x{202e}]|\x1b\]`).MatchString(got) {
		t.Errorf("%q", got)
	}
	if cloud.Clean("x") != "x" {
		t.Error("plain text is changed")
	}
}

// BenchmarkFrame is the time of one frame of the what-if with 1,000 resources
// at 142×44.
func BenchmarkFrame(b *testing.B) {
	m := newModel(b.Context(), nil)
	m.w, m.h, m.at = 142, 44, viewWhatIf
	cs := &whatif.ChangeSet{}
	for i := range 1000 {
		ch := whatif.Change{Name: fmt.Sprint("r", i), Type: "Topic", Kind: whatif.Kinds[i%5], Recorded: &stack.Recorded{}}
		if i > 200 {
			ch.Needs = []string{fmt.Sprint("r", i-200)}
		}
		cs.Changes = append(cs.Changes, ch)
	}
	m.whatif.preview = &app.Preview{ChangeSet: cs}
	m.whatif.lay()
	b.Run("what-if", func(b *testing.B) {
		for b.Loop() {
			m.frame()
		}
	})
	m.at = viewRun
	m.run.run = &store.Run{State: store.RunWorking, Started: time.Now()}
	m.run.graph, m.run.now = cs.Graph(), map[string]progress{}
	for i, ch := range cs.Changes {
		m.run.now[ch.Name] = progress{state: run.Waiting, planned: true, seconds: float64(i % 9)}
	}
	m.run.wall.set(m.run.graph)
	b.Run("run", func(b *testing.B) {
		for b.Loop() {
			m.frame()
		}
	})
}
