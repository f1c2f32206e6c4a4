package part

import (
	"fmt"
	"image/color"
	"math"
	"regexp"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

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
	s := NewScreen(100, 40, Dark.Plain())
	of := func(string) Brick { return Brick{Mark: "▪", Sub: "x", Paint: Dark.Kinds[whatif.Same]} }
	w.Draw(s, R(0, 0, 100, 40), &Dark, of)
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
	s = NewScreen(80, 20, Dark.Plain())
	small.Draw(s, R(0, 0, 80, 20), &Dark, of)
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
	small.Draw(s, R(0, 0, 3, 0), &Dark, of) // no room at all
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

func TestTextsCanBeRead(t *testing.T) {
	for name, th := range map[string]*Theme{"dark": &Dark, "light": &Light} {
		check := func(what string, fg, bg color.Color) {
			if got := contrast(fg, bg); got < 4.5 {
				t.Errorf("%s: %s has a contrast of %.2f", name, what, got)
			}
		}
		for what, fg := range map[string]color.Color{"text": th.Text, "dim": th.Dim, "accent": th.Accent,
			"hint": th.Hint, "bright": th.Bright, "key": th.Key, "string": th.Str, "number": th.Num,
			"comment": th.Comment, "call": th.Call} {
			check(what, fg, th.Ground)
			if what != "accent" {
				check(what+" on the bar", fg, th.Bar)
			}
		}
		check("the selection", th.SelText, th.SelGround)
		check("a careful target", th.CarefulText, th.Careful)
		check("the name of the program", th.Ground, th.Accent)
		for k, p := range th.Kinds {
			check("a brick "+string(k), p.Text, p.Ground)
			check("the word "+string(k), p.Word, th.Ground)
		}
		for s, p := range th.States {
			check("a brick "+string(s), p.Text, p.Ground)
			check("the empty part of a brick "+string(s), p.Text, p.Empty)
			check("the word "+string(s), p.Word, th.Ground)
		}
	}
	for s := range Dark.States {
		if StateMarks[s] == "" {
			t.Errorf("the state %s has no mark", s)
		}
	}
}

func TestStackStatesAreShown(t *testing.T) {
	marks := map[string]bool{}
	for _, s := range []stack.State{stack.Empty, stack.Deploying, stack.Ready, stack.Partial, stack.Undoing,
		stack.Removing, stack.Removed, stack.Stuck} {
		mark, _ := Dark.StackPaint(s)
		if marks[mark] {
			t.Errorf("%s has the mark of another state", s)
		}
		marks[mark] = true
	}
}

func TestNamesFromTheCloudAreHarmless(t *testing.T) {
	s := NewScreen(40, 1, Dark.Plain())
	s.Text(0, 0, 40, Dark.Plain(), "a\x1b]0;x\x07b\u202e")
	if got := s.Render(); regexp.MustCompile(`[\x07\x{202e}]|\x1b\]`).MatchString(got) {
		t.Errorf("%q", got)
	}
	if cloud.Clean("x") != "x" {
		t.Error("plain text is changed")
	}
}
