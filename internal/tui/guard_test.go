package tui

import (
	"strings"
	"testing"
	"time"

	"brickrow/internal/tui/part"

	tea "charm.land/bubbletea/v2"
)

// everyKey is every key that a terminal can send, with what can be held down
// beside it.
func everyKey() []tea.KeyPressMsg {
	codes := []rune{tea.KeyEnter, tea.KeyTab, tea.KeyBackspace, tea.KeyDelete, tea.KeyEscape, tea.KeySpace, tea.KeyUp,
		tea.KeyDown, tea.KeyLeft, tea.KeyRight, tea.KeyHome, tea.KeyEnd,
		tea.KeyPgUp, tea.KeyPgDown, tea.KeyInsert, tea.KeyF1, tea.KeyF12}
	for r := '!'; r <= '~'; r++ {
		codes = append(codes, r)
	}
	codes = append(codes, 'ü', '山', '\u0301')
	var out []tea.KeyPressMsg
	for _, c := range codes {
		for _, mod := range []tea.KeyMod{0, tea.ModAlt, tea.ModCtrl, tea.ModShift, tea.ModCtrl | tea.ModAlt} {
			k := tea.KeyPressMsg{Code: c, Mod: mod}
			if mod == 0 && c > ' ' && c < 0x10000 {
				k.Text = string(c)
			}
			out = append(out, k)
		}
	}
	return out
}

// TestEveryKeyInEveryInput presses every key at every place of lines of input:
// none may break down, and none may lose the line but where that is what it does.
func TestEveryKeyInEveryInput(t *testing.T) {
	for _, text := range []string{"", "a", "a b", " a", "a ", "two words", "  ", "ü山", "x\u0301y"} {
		for at := range len([]rune(text)) + 1 {
			for _, k := range everyKey() {
				in := part.NewInput()
				in.SetValue(text)
				in.SetCursor(at)
				out, _ := part.EditLine(in, k)
				if p := out.Position(); p < 0 || p > len([]rune(out.Value())) {
					t.Errorf("%s in %q at %d: the cursor is at %d of %q", k, text, at, p, out.Value())
				}
				if in.Value() != text && out.Value() == "" && text == "" {
					t.Errorf("%s in nothing made %q", k, in.Value())
				}
			}
		}
	}
	in := part.NewInput()
	in.SetValue("one two")
	in.SetCursor(6)
	if out, _ := part.EditLine(in, tea.KeyPressMsg{Code: 'd', Mod: tea.ModAlt}); out.Value() != "one tw" {
		t.Errorf("alt+d before the last letter leaves %q", out.Value())
	}
	in.SetValue("")
	if out, _ := part.EditLine(in, tea.PasteMsg{Content: strings.Repeat("x",
		100_000)}); len(out.Value()) > part.LongestInput {
		t.Errorf("a line takes %d letters", len(out.Value()))
	}
}

// TestNothingTakesTheInterfaceDown lets an update, a drawing and a command break
// down, and wants to go on.
func TestNothingTakesTheInterfaceDown(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.views[0] = fragile{d.views[0], false}
	d.Update(tea.KeyPressMsg{Code: 'K', Text: "K"})
	d.wants("broke down: out of snow", "nothing that was written or deployed is lost")
	_, cmd := d.Update(tea.KeyPressMsg{Code: 'C', Text: "C"})
	d.Update(cmd())
	d.wants("something in the background broke down: out of ice")
	d.views[0] = fragile{d.views[0], true}
	if text := d.safeFrame(); !strings.Contains(text, "Drawing this broke down: out of paint") {
		t.Errorf("%s", text)
	}
}

// fragile is a view that breaks down.
type fragile struct {
	part.View
	drawing bool
}

func (f fragile) Bindings() []part.Binding {
	return append(f.View.Bindings(),
		part.Bind(func() tea.Cmd { panic("out of snow") }, "K"),
		part.Bind(func() tea.Cmd { return func() tea.Msg { panic("out of ice") } }, "C"))
}

func (f fragile) Draw(s *part.Screen, r part.Rect) {
	if f.drawing {
		panic("out of paint")
	}
	f.View.Draw(s, r)
}

func TestFlood(t *testing.T) {
	now := time.Now()
	for _, test := range []struct {
		name  string
		keys  string
		times int
		pause time.Duration
		taken int
	}{
		{"pressed quickly", "abcd", 25, 15 * time.Millisecond, 100},
		{"a key that is held down, over a slow line", "j", 500, 0, 500},
		{"a few poured in", "d1y2", 9, 0, 36},
		{"a text poured in", "some text ", 10_000, 0, mostKeys},
	} {
		var f flood
		taken := 0
		for range test.times {
			for _, k := range test.keys {
				now = now.Add(test.pause)
				if pressed, _ := f.takes(now, string(k)); pressed {
					taken++
				}
			}
		}
		if taken != test.taken {
			t.Errorf("%s: %d keys are taken, want %d", test.name, taken, test.taken)
		}
		now = now.Add(time.Second)
		if pressed, _ := f.takes(now, "x"); !pressed {
			t.Errorf("%s: a key after it is not taken", test.name)
		}
	}
}

// TestGivingASecret shows no secret while it is typed.
func TestGivingASecret(t *testing.T) {
	d := newDesk(t, 142, 42)
	d.press("down", "2")
	d.into("oncall_token", "hush-quiet-now")
	d.wants("••••")
	if text := d.frame(); strings.Contains(text, "hush-quiet-now") {
		t.Error("the secret is shown while it is typed")
	}
	d.press("enter")
	if text := d.frame(); strings.Contains(text, "hush-quiet-now") {
		t.Error("the secret is shown when it is given")
	}
}
