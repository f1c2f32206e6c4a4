package editor

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/assist"
)

// at is a buffer whose cursor is where ‸ stands; with « the selection begins there.
func at(marked string) *Buffer {
	b := NewBuffer(strings.NewReplacer("‸", "", "«", "").Replace(marked))
	place := func(mark string) (p Place) {
		other := map[string]string{"‸": "«", "«": "‸"}[mark]
		head, _, _ := strings.Cut(strings.ReplaceAll(marked, other, ""), mark)
		return end(Place{}, head)
	}
	b.Move(place("‸"), false)
	if strings.Contains(marked, "«") {
		b.Anchor = place("«")
	}
	return b
}

// shown is the text with its cursor, and its selection.
func shown(b *Buffer) string {
	text := b.Text
	put := func(p Place, mark string) { text = text.Apply(assist.Edit{Range: Range{From: p, To: p}, New: mark}) }
	switch {
	case b.Cursor == b.Anchor:
		put(b.Cursor, "‸")
	case b.Cursor.Less(b.Anchor):
		put(b.Anchor, "«")
		put(b.Cursor, "‸")
	default:
		put(b.Cursor, "‸")
		put(b.Anchor, "«")
	}
	return text.String()
}

func TestKeys(t *testing.T) {
	for _, test := range []struct{ before, keys, after string }{
		{"a‸b", "x", "ax‸b"},
		{"a«b‸c", "x", "ax‸c"},
		{"a‸c«b", "x", "ax‸b"},
		{"ab‸", "backspace", "a‸"},
		{"a\n‸b", "backspace", "a‸b"},
		{"a‸\nb", "delete", "a‸b"},
		{"    ‸x", "backspace", "  ‸x"},
		{"   ‸x", "backspace", "  ‸x"},
		{"é‸", "backspace", "‸"},        // two runes, one letter
		{"👩‍🚒‸x", "backspace", "‸x"},    // several runes joined
		{"‸é日x", "right right", "é日‸x"}, // wide letters
		{"日本‸語", "left left", "‸日本語"},
		{"日本\na‸bc", "up", "‸日本\nabc"},
		{"日本\nab‸c", "up", "日‸本\nabc"},
		{"abcdef‸\nx\nabcdef", "down down", "abcdef\nx\nabcdef‸"}, // it keeps to its cell
		{"  ab‸", "home", "  ‸ab"},
		{"  ‸ab", "home", "‸  ab"},
		{"‸ab cd", "ctrl+right", "ab ‸cd"},
		{"ab  cd‸", "ctrl+left", "ab  ‸cd"},
		{"a: b_c‸", "alt+backspace", "a: ‸"},
		{"ab‸cd", "shift+left shift+left", "‸ab«cd"},
		{"a«b‸c", "left", "a‸bc"},
		{"a«b‸c", "right", "ab‸c"},
		{"a‸\nb\nc", "shift+down", "a«\nb‸\nc"},
		{"a\nb‸", "ctrl+home", "‸a\nb"},
		{"‸a\nb", "ctrl+end", "a\nb‸"},
		// indentation follows YAML
		{"a:‸", "enter", "a:\n  ‸"},
		{"  a: # why‸", "enter", "  a: # why\n    ‸"},
		{"  a: b‸", "enter", "  a: b\n  ‸"},
		{"  a: b‸ c", "enter", "  a: b\n  ‸ c"},
		{"- a: b‸", "enter", "- a: b\n  ‸"},
		{"  - a:‸", "enter", "  - a:\n      ‸"},
		{"  - ‸", "backspace", "  ‸"},
		{"  - plain‸", "enter", "  - plain\n  - ‸"},
		{"  a: |‸", "enter", "  a: |\n    ‸"},
		{"  a: >-‸", "enter", "  a: >-\n    ‸"},
		{"a: [‸", "enter", "a: [\n  ‸"},
		{"  # words‸", "enter", "  # words\n  ‸"},
		{"a‸", "tab", "  a‸"},
		{"a: ‸b", "tab", "  a: ‸b"},
		{"a: «b‸", "tab", "  a: «b‸"},
		{" ‸a", "tab", "  ‸a"},
		{"  ‸", "tab", "    ‸"},
		{"«a\nb‸", "tab", "  «a\n  b‸"},
		{"«    a\n b‸\nc", "shift+tab", "«  a\nb‸\nc"},
	} {
		m := &Model{Buffer: at(test.before), Editing: true}
		m.area.H = 20
		for _, name := range strings.Fields(test.keys) {
			if !m.Type(press(name)) {
				t.Errorf("%s is no key", name)
			}
		}
		if got := shown(m.Buffer); got != test.after {
			t.Errorf("%q after %s is %q, want %q", test.before, test.keys, got, test.after)
		}
		for m.Undo() {
		}
		if want := strings.NewReplacer("‸", "", "«", "").Replace(test.before); m.Text.String() != want {
			t.Errorf("%q after %s undone is %q", test.before, test.keys, m.Text.String())
		}
	}
}

// press is a key by its name.
func press(name string) tea.KeyPressMsg {
	var k tea.KeyPressMsg
	parts := strings.Split(name, "+")
	for _, p := range parts[:len(parts)-1] {
		k.Mod |= map[string]tea.KeyMod{"shift": tea.ModShift, "ctrl": tea.ModCtrl, "alt": tea.ModAlt}[p]
	}
	last := parts[len(parts)-1]
	codes := map[string]rune{"left": tea.KeyLeft, "right": tea.KeyRight, "up": tea.KeyUp, "down": tea.KeyDown, "home": tea.KeyHome,
		"end": tea.KeyEnd, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "backspace": tea.KeyBackspace, "delete": tea.KeyDelete,
		"enter": tea.KeyEnter, "tab": tea.KeyTab, "esc": tea.KeyEscape}
	if c, ok := codes[last]; ok {
		k.Code = c
	} else {
		k.Code, k.Text = []rune(last)[0], last
	}
	return k
}

func TestLines(t *testing.T) {
	for _, test := range []struct {
		before, after string
		do            func(b *Buffer)
	}{
		{"  a‸: b", "  # a‸: b", (*Buffer).Comment},
		{"  # a‸: b", "  a‸: b", (*Buffer).Comment},
		{"  «a\n\n    b‸", "  # «a\n\n  #   b‸", (*Buffer).Comment},
		{"«# a\nb‸", "# «# a\n# b‸", (*Buffer).Comment},
		{"a\nb‸\nc", "b‸\na\nc", func(b *Buffer) { b.MoveLines(-1) }},
		{"a\n«b\nc‸\nd", "a\nd\n«b\nc‸", func(b *Buffer) { b.MoveLines(1) }},
		{"‸a\nb", "‸a\nb", func(b *Buffer) { b.MoveLines(-1) }},
		{"a\nb‸", "a\nb‸", func(b *Buffer) { b.MoveLines(1) }},
		{"a\nb‸c\nd", "a\n‸d", func(b *Buffer) { b.Cut() }},
		{"a\nb‸", "a\n‸", func(b *Buffer) { b.Cut() }},
		{"a«b\nc‸d", "a‸d", func(b *Buffer) { b.Cut() }},
		{"ab c‸d", "ab «cd‸", func(b *Buffer) { b.SelectWord(b.Cursor) }},
		{"a\nb‸", "«a\nb‸", (*Buffer).SelectAll},
	} {
		b := at(test.before)
		test.do(b)
		if got := shown(b); got != test.after {
			t.Errorf("%q is %q, want %q", test.before, got, test.after)
		}
		if b.Undo(); b.Text.String() != strings.NewReplacer("‸", "", "«", "").Replace(test.before) {
			t.Errorf("%q undone is %q", test.before, b.Text.String())
		}
	}
}

func TestFindAndReplace(t *testing.T) {
	text := "Size: small\nsize: large\nimage: fern-12\n"
	b := NewBuffer(text)
	word := &Search{Text: "size"}
	for _, want := range []Place{{}, {Line: 1}, {}} {
		if !b.Find(word, 1, want == Place{} && b.Cursor == Place{}) || b.Selection().From != want {
			t.Errorf("it finds %v, want %v", b.Selection(), want)
		}
	}
	if all, here := b.Count(word, 100); all != 2 || here != 1 {
		t.Errorf("%d of %d", here, all)
	}
	b.Find(word, -1, false)
	if b.Selection().From.Line != 1 {
		t.Errorf("the one before is %v", b.Selection())
	}
	if n := b.ReplaceAll(&Search{Text: `(\w+)-(\d+)`, Regexp: true}, "$2 of $1"); n != 1 || b.Text.Line(2) != "image: 12 of fern" {
		t.Errorf("%d: %q", n, b.Text.Line(2))
	}
	b.Undo()
	if n := b.ReplaceAll(&Search{Text: "Size"}, "$1"); n != 1 || b.Text.Line(0) != "$1: small" { // a capital letter counts
		t.Errorf("%d: %q", n, b.Text.String())
	}
	b.Undo()
	if b.Text.String() != text {
		t.Errorf("%q", b.Text.String())
	}
	if (&Search{Text: "(", Regexp: true}).Err() == nil || (&Search{Text: "("}).Err() != nil {
		t.Error("a regular expression that is none is told, a plain text is one")
	}
	b.Move(Place{}, false)
	b.Find(word, 1, true)
	b.Replace(word, "bulk")
	if b.Text.Line(0) != "bulk: small" || b.Selected() != "size" {
		t.Errorf("%q, %q", b.Text.Line(0), b.Selected())
	}
}

// What is typed in one go is undone by words; after a pause it is a step of its own.
func TestUndoSteps(t *testing.T) {
	b := NewBuffer("")
	now := time.Unix(0, 0)
	b.now = func() time.Time { return now }
	for _, r := range "one two" {
		b.Insert(string(r))
	}
	now = now.Add(time.Minute)
	b.Insert("x")
	for _, want := range []string{"one two", "one ", ""} {
		if b.Undo(); b.Text.String() != want {
			t.Errorf("it is %q, want %q", b.Text.String(), want)
		}
	}
	for b.Redo() {
	}
	if b.Text.String() != "one twox" {
		t.Errorf("made again it is %q", b.Text.String())
	}
}

// Whatever is done is undone to the letter, and made again.
func TestRandomSteps(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	pieces := []string{"a", "é", "日本", "\n", "  x: [ y ]\n", "👩‍🚒", " ", "# ", "|", "e\u0301"}
	f := &Search{Text: "x"}
	for range 300 {
		b := NewBuffer("one: two\n  three:\n    - four\n\nfive: |\n  six\n")
		texts := []string{b.Text.String()}
		for range 40 {
			b.Move(Place{Line: r.IntN(len(b.Text.Lines)), Column: r.IntN(14)}, r.IntN(3) == 0)
			version := b.Version
			switch r.IntN(12) {
			case 0, 1, 2:
				b.Insert(pieces[r.IntN(len(pieces))])
			case 3:
				b.Backspace()
			case 4:
				b.Delete()
			case 5:
				b.Newline()
			case 6:
				b.Comment()
			case 7:
				b.MoveLines(1 - 2*r.IntN(2))
			case 8:
				b.Indent()
			case 9:
				b.Outdent()
			case 10:
				b.ReplaceAll(f, pieces[r.IntN(len(pieces))])
			case 11:
				p := Place{Line: r.IntN(len(b.Text.Lines))}
				b.Fill(Range{From: p, To: p}, "k: v", []assist.Blank{{Number: 1, From: 3, To: 4}})
			}
			if p := b.Text.Clamp(b.Cursor); p != b.Cursor || b.Text.Clamp(b.Anchor) != b.Anchor {
				t.Fatalf("the cursor %v is not in %q", b.Cursor, b.Text.String())
			}
			if b.Version != version {
				texts = append(texts, b.Text.String())
			}
		}
		last := b.Text.String()
		steps := 0
		for b.Undo() {
			steps++
		}
		if b.Text.String() != texts[0] || steps == 0 {
			t.Fatalf("undone it is %q", b.Text.String())
		}
		for b.Redo() {
		}
		if b.Text.String() != last {
			t.Fatalf("made again it is %q, want %q", b.Text.String(), last)
		}
	}
}

func TestBlanks(t *testing.T) {
	b := at("    ‸")
	text, blanks := assist.Expand("${1:name}:\n      type: Queue\n      $0")
	b.Fill(Range{From: b.Cursor, To: b.Cursor}, text, blanks)
	if got := shown(b); got != "    «name‸:\n      type: Queue\n      " || !b.Filling() {
		t.Fatalf("%q", got)
	}
	for _, r := range "jobs" {
		b.Insert(string(r))
	}
	b.NextBlank()
	if got := shown(b); got != "    jobs:\n      type: Queue\n      ‸" || b.Filling() {
		t.Errorf("%q", got)
	}
}

// The last blank keeps its example where nobody writes over it: then the cursor is behind.
func TestLastBlank(t *testing.T) {
	for typed, want := range map[string]string{"": "    name:\n      cidr: 10.0.0.0/16‸\n", "10.1": "    name:\n      cidr: 10.1‸\n"} {
		b := at("    ‸\n")
		text, blanks := assist.Expand("${1:name}:\n      cidr: ${2:10.0.0.0/16}")
		b.Fill(Range{From: b.Cursor, To: b.Cursor}, text, blanks)
		b.NextBlank()
		for _, r := range typed {
			b.Insert(string(r))
		}
		if !b.NextBlank() || shown(b) != want || b.NextBlank() {
			t.Errorf("%q, want %q", shown(b), want)
		}
	}
	b := at("    ‸\n") // a value chosen in a blank leaves the others; who goes elsewhere is done with them
	text, blanks := assist.Expand("size: ${1:small}\n    image: ${2:fern}\n    zone: ${3:a}")
	b.Fill(Range{From: b.Cursor, To: b.Cursor}, text, blanks)
	b.Fill(b.Selection(), "large", nil)
	if !b.NextBlank() || shown(b) != "    size: large\n    image: «fern‸\n    zone: a\n" {
		t.Errorf("%q", shown(b))
	}
	b.Move(Place{}, false)
	if b.NextBlank() || b.Filling() {
		t.Errorf("%q", shown(b))
	}
	b = at("‸a: # fill\nb: \"x\" # fill\n")
	b.GoThrough([]Range{{From: Place{Column: 3}, To: Place{Column: 3}}, {From: Place{Line: 1, Column: 4}, To: Place{Line: 1, Column: 5}}})
	b.Insert("1")
	b.NextBlank()
	if !b.NextBlank() || shown(b) != "a: 1 # fill\nb: \"x‸\" # fill\n" {
		t.Errorf("%q", shown(b))
	}
}

func TestPlain(t *testing.T) {
	for text, want := range map[string]string{"a\r\nb\rc": "a\nb\nc 0", "a\tb": "a  b 0", "a\x1b[31mb\x00": "a[31mb 2",
		"a\u202eb": "ab 1", "\xff\xfea": "a 2", "ü日": "ü日 0"} {
		if got, n := Plain(text); fmt.Sprint(got, " ", n) != want {
			t.Errorf("%q is %q %d, want %s", text, got, n, want)
		}
	}
}

// Lists go on, and end, as they are written.
func TestItems(t *testing.T) {
	for _, test := range [][3]string{
		{"requirements:\n  - network: net‸\n", "\n", "requirements:\n  - network: net\n  - ‸\n"},
		{"requirements:\n  - network: net\n  - ‸\n", "\n", "requirements:\n  - network: net\n‸\n"},
		{"  actions:\n    - bucket:read‸", "\n", "  actions:\n    - bucket:read\n    - ‸"},
		{"allow:\n  - ports: 80‸", "\n", "allow:\n  - ports: 80\n    ‸"},
		{"allow:\n  - ports: 80\n    ‸", "-", "allow:\n  - ports: 80\n  -‸"},
		{"allow:\n  - ports: 80\n    peer: a\n    ‸", "-", "allow:\n  - ports: 80\n    peer: a\n  -‸"},
		{"allow:\n    ‸", "-", "allow:\n    -‸"},
		{"a: b‸c", "-", "a: b-‸c"},
		{"policies:\n  - keep:‸", "\n", "policies:\n  - keep:\n      ‸"},
		{"requirements:\n  - network: n‸et\n", "\n", "requirements:\n  - network: n\n    ‸et\n"},
	} {
		b := at(test[0])
		if test[1] == "\n" {
			b.Newline()
		} else {
			b.Dash()
		}
		if got := shown(b); got != test[2] {
			t.Errorf("%q and %q: %q, want %q", test[0], test[1], got, test[2])
		}
		b.Undo()
		if got := shown(b); got != test[0] {
			t.Errorf("undone it is %q", got)
		}
	}
}
