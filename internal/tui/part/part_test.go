package part

import (
	"fmt"
	"image/color"
	"math"
	"regexp"
	"slices"
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

var dark = Look{Depth: colorprofile.TrueColor}.Theme()

func TestWall(t *testing.T) {
	g := stack.Graph{}
	for i := range 1000 {
		name := fmt.Sprintf("brick_%d", i)
		g[name] = nil
		if i >= 300 {
			g[name] = []string{fmt.Sprintf("brick_%d", i-300)}
		}
	}
	var w Wall
	w.Set(g)
	s := NewScreen(100, 40, dark.Plain())
	of := func(string) Brick { return Brick{Mark: "▪", Sub: "x", Paint: dark.Kinds[whatif.Same]} }
	w.Draw(s, R(0, 0, 100, 40), dark, of)
	if len(w.Placed) != 1000 {
		t.Errorf("%d of 1000 bricks are in sight", len(w.Placed))
	}
	seen := map[[2]int]string{}
	for n, p := range w.Placed {
		for x := p.X; x < p.X+p.W; x++ {
			if other := seen[[2]int{x, p.Y}]; other != "" || x >= 100 || p.Y >= 40 {
				t.Fatalf("%s at %d,%d lies on %s", n, x, p.Y, other)
			}
			seen[[2]int{x, p.Y}] = n
		}
	}
	w.Choose("brick_300")
	if !w.Reach["brick_0"] || !w.Reach["brick_900"] || w.Reach["brick_1"] {
		t.Error("the reach of a brick is wrong")
	}
	if p := w.Placed["brick_5"]; w.At(p.X, p.Y) != "brick_5" || w.At(99, 0) == "brick_5" {
		t.Error("a brick is not found where it is drawn")
	}
	var small Wall
	small.Set(stack.Graph{"a": nil, "b": {"a"}, "c": {"a"}, "d": {"b", "c"}})
	s = NewScreen(80, 20, dark.Plain())
	small.Draw(s, R(0, 0, 80, 20), dark, of)
	var path []string
	for _, m := range [][2]int{{0, 1}, {1, 0}, {1, 0}, {0, 1}, {0, 1}, {0, -1}, {0, -1}, {0, -1}} {
		small.Move(m[0], m[1])
		path = append(path, small.Sel)
	}
	if got := strings.Join(path, ""); got[:5] != "bccdd" || !strings.HasSuffix(got, "aa") {
		t.Errorf("walking goes %s", got)
	}
	text := ansi.Strip(s.Render())
	if !strings.Contains(text, "▪ a") || !strings.Contains(text, "▔") {
		t.Errorf("a small wall:\n%s", text)
	}
	small.Set(stack.Graph{"x": nil})
	if small.Sel != "x" {
		t.Errorf("after the bricks have changed %q is selected", small.Sel)
	}
	small.Draw(s, R(0, 0, 3, 0), dark, of) // no room at all
}

func TestClipAndWrap(t *testing.T) {
	for _, test := range []struct {
		text string
		w    int
		want string
	}{
		{"abcdef", 6, "abcdef"}, {"abcdef", 5, "abcd…"}, {"山山山", 5, "山山…"}, {"山山山", 4, "山…"}, {"abc", 0, ""}, {"", 3,
			""},
	} {
		if got := Clip(test.text, test.w); got != test.want {
			t.Errorf("clip(%q, %d) is %q", test.text, test.w, got)
		}
	}
	if got := strings.Join(Wrap("one two  three\nfour abcdefghij", 8), "|"); got != "one two|three|four|abcdefgh|ij" {
		t.Errorf("wrapped: %s", got)
	}
	// a number stays with its unit
	if got := strings.Join(Wrap("within 2 min 00 s, or at most (30 GiB) of 5 small ones", 11), "|"); got != "within|2 min 00 s,|or at most|(30 GiB) of|5 small|ones" {
		t.Errorf("wrapped: %s", got)
	}
	if Wrap("x", 0) != nil {
		t.Error("wrapped into nothing")
	}
}

// contrast is the ratio of two colours (WCAG 2.2, relative luminance).
func contrast(a, b color.Color) float64 {
	l := func(c color.Color) float64 {
		r, g, b, _ := c.RGBA()
		share := func(v uint32) float64 {
			x := float64(v) / 0xffff
			if x <= 0.04045 {
				return x / 12.92
			}
			return math.Pow((x+0.055)/1.055, 2.4)
		}
		return 0.2126*share(r) + 0.7152*share(g) + 0.0722*share(b)
	}
	x, y := l(a), l(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

// terminals are what two terminals make of the 16 colours. Others make other things of them: what is held here is
// that nothing rests on the choice of one.
var terminals = map[string][16]string{
	"xterm": {"#000000", "#cd0000", "#00cd00", "#cdcd00", "#0000ee", "#cd00cd", "#00cdcd", "#e5e5e5",
		"#7f7f7f", "#ff0000", "#00ff00", "#ffff00", "#5c5cff", "#ff00ff", "#00ffff", "#ffffff"},
	"console": {"#000000", "#aa0000", "#00aa00", "#aa5500", "#0000aa", "#aa00aa", "#00aaaa", "#aaaaaa",
		"#555555", "#ff5555", "#55ff55", "#ffff55", "#5555ff", "#ff55ff", "#55ffff", "#ffffff"},
}

func TestTextsCanBeRead(t *testing.T) {
	depths := []colorprofile.Profile{colorprofile.ANSI, colorprofile.ANSI256, colorprofile.TrueColor}
	pairs := 0
	for terminal, sixteen := range terminals {
		for look := range 12 {
			l := Look{Depth: depths[look%3], Light: look/3%2 == 1, Strong: look >= 6}
			least := 4.5
			if l.Strong && l.Depth != colorprofile.ANSI {
				least = 7
			}
			th := l.Theme()
			seen := func(c, own color.Color) color.Color { // what the terminal shows
				switch c := c.(type) {
				case nil:
					return own
				case ansi.BasicColor:
					return lipgloss.Color(sixteen[c])
				}
				return c
			}
			paper, ink := lipgloss.Color("#000000"), lipgloss.Color(sixteen[7])
			if l.Light {
				paper, ink = lipgloss.Color("#ffffff"), lipgloss.Color("#000000")
			}
			check := func(what string, fg, bg color.Color) {
				pairs++
				if basic, ok := fg.(ansi.BasicColor); ok && basic < 8 { // in bold some terminals show it brighter
					if got := contrast(seen(basic+8, ink), seen(bg, paper)); got < least {
						t.Errorf("%s, light %v: %s in bold has a contrast of %.2f", terminal, l.Light, what, got)
					}
				}
				if got := contrast(seen(fg, ink), seen(bg, paper)); got < least {
					t.Errorf("%s, %v, light %v, strong %v: %s has a contrast of %.2f", terminal, l.Depth, l.Light,
						l.Strong, what, got)
				}
			}
			styled := func(what string, st uv.Style) {
				if fg, bg := seen(st.Fg, ink), seen(st.Bg, paper); st.Attrs&uv.AttrReverse != 0 {
					check(what, bg, fg)
				} else {
					check(what, fg, bg)
				}
			}
			for what, fg := range map[string]color.Color{"text": th.Text, "dim": th.Dim, "accent": th.Accent,
				"hint": th.Hint, "bright": th.Bright, "key": th.Key, "string": th.Str, "number": th.Num,
				"comment": th.Comment, "call": th.Call, "failed": th.States[run.HasFailed].Word} {
				check(what, fg, th.Ground)
				if what != "accent" {
					check(what+" on the bar", fg, th.Bar)
					check(what+" on a panel", fg, th.Panel)
				}
			}
			for what, st := range map[string]uv.Style{"what is chosen": th.Chosen(), "a careful target": th.Watch(),
				"the name of the program": th.Brand(), "the cursor": th.Cursor(), "a field": th.Field()} {
				styled(what, st)
			}
			for k, p := range th.Kinds {
				check("a brick "+string(k), p.Text, p.Ground)
				check("the word "+string(k), p.Word, th.Ground)
			}
			for s, p := range th.States {
				check("a brick "+string(s), p.Text, p.Ground)
				check("the empty part of a brick "+string(s), p.Text, p.Empty)
				check("the word "+string(s), p.Word, th.Ground)
				if th.Outlined && s != run.HasFailed { // what is filled is turned around
					styled("the filled part of a brick "+string(s), uv.Style{Fg: p.Text, Bg: p.Ground, Attrs: uv.AttrReverse})
				}
			}
			for _, k := range append(slices.Clone(whatif.Kinds), whatif.Adopt, whatif.Keep) {
				if _, ok := th.Kinds[k]; !ok {
					t.Errorf("%v has no paint for %s", l, k)
				}
			}
		}
	}
	for s := range dark.States {
		if StateMarks[s] == "" {
			t.Errorf("the state %s has no mark", s)
		}
	}
	if len(dark.States) != len(StateMarks) || pairs < 2000 {
		t.Errorf("%d of %d states are painted, %d pairs looked at", len(dark.States), len(StateMarks), pairs)
	}
}

// With 256 colours only those are used that every terminal shows alike, and with 16 only those.
func TestDepthsKeepToTheirColours(t *testing.T) {
	for _, light := range []bool{false, true} {
		for _, c := range (Look{Depth: colorprofile.ANSI256, Light: light}).Theme().all() {
			if i, ok := c.(ansi.IndexedColor); !ok || i < 16 {
				t.Errorf("%v is none of the 240", c)
			}
		}
		for _, c := range (Look{Depth: colorprofile.ANSI, Light: light}).Theme().all() {
			if _, ok := c.(ansi.BasicColor); !ok {
				t.Errorf("%v is none of the 16", c)
			}
		}
	}
	if got := (Look{Depth: colorprofile.ASCII, Strong: true}).Theme().all(); len(got) != 0 {
		t.Errorf("without colours there are %v", got)
	}
}

// all are the colours of a theme that are not the terminal's own.
func (t *Theme) all() (out []color.Color) {
	list := []color.Color{t.Ground, t.Text, t.Dim, t.Mortar, t.Accent, t.Hint, t.Bright, t.SelGround, t.SelText, t.Bar,
		t.Careful, t.CarefulText, t.Panel, t.Key, t.Str, t.Num, t.Comment, t.Call}
	for _, p := range t.Kinds {
		list = append(list, p.Ground, p.Empty, p.Text, p.Word)
	}
	for _, p := range t.States {
		list = append(list, p.Ground, p.Empty, p.Text, p.Word)
	}
	for _, c := range list {
		if c != nil {
			out = append(out, c)
		}
	}
	return out
}

// Where bricks have no ground, edges keep them apart, and what is chosen and what is filled is turned around.
func TestBricksWithoutColours(t *testing.T) {
	var w Wall
	w.Set(stack.Graph{"a": nil, "b": nil})
	for _, l := range []Look{{Depth: colorprofile.ASCII}, {Depth: colorprofile.ANSI}, {Depth: colorprofile.ANSI, Light: true}} {
		th := l.Theme()
		s := NewScreen(60, 6, th.Plain())
		w.Choose("a")
		w.Draw(s, R(0, 0, 60, 6), th, func(string) Brick { return Brick{Mark: "▶", Paint: th.States[run.Working], Fill: 0.5} })
		if text := ansi.Strip(s.Render()); !strings.Contains(text, "│█ ▶ a") || strings.Count(text, "│") < 6 {
			t.Errorf("%v: no edges:\n%s", l, text)
		}
		turned := func(name string, x int) bool {
			p := w.Placed[name]
			return s.CellAt(p.X+x, p.Y).Style.Attrs&uv.AttrReverse != 0
		}
		if end := w.Placed["b"].W - 1; !turned("a", 2) || !turned("a", end) || !turned("b", 1) || turned("b", end) {
			t.Errorf("%v: what is chosen or filled does not show", l)
		}
	}
}

func TestStackStatesAreShown(t *testing.T) {
	marks := map[string]bool{}
	for _, s := range []stack.State{stack.Empty, stack.Deploying, stack.Ready, stack.Partial, stack.Undoing,
		stack.Removing, stack.Removed, stack.Stuck} {
		mark, _ := dark.StackPaint(s)
		if marks[mark] {
			t.Errorf("%s has the mark of another state", s)
		}
		marks[mark] = true
	}
}

func TestNamesFromTheCloudAreHarmless(t *testing.T) {
	s := NewScreen(40, 1, dark.Plain())
	s.Text(0, 0, 40, dark.Plain(), "a\x1b]0;x\x07b\u202e")
	if got := s.Render(); regexp.MustCompile(`[\x07\x{202e}]|\x1b\]`).MatchString(got) {
		t.Errorf("%q", got)
	}
	if cloud.Clean("x") != "x" {
		t.Error("plain text is changed")
	}
}
