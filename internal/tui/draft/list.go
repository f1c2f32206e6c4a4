package draft

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/assist"
	"brickrow/internal/files"
	"brickrow/internal/tui/part"
	"brickrow/internal/tui/part/editor"
)

type mark = editor.Mark

// list is what is offered at the cursor: what can stand there, or how something is put
// right.
type list struct {
	entries []entry
	chosen  int
	sure    bool   // enter takes the chosen one: it was asked for, or walked to
	over    bool   // there is an example to be filled in: tab leaves it, and goes on
	word    string // that was begun
	top     int
	rows    part.Rect // of the last drawing
}

// entry is one thing that is offered.
type entry struct {
	label, detail, meaning string
	from                   assist.Place // where it would stand
	guess                  bool         // a word that is like it may well mean itself
	take                   func() tea.Cmd
}

// occasion is why something is offered.
type occasion int

const (
	typed occasion = iota // something was typed
	asked                 // somebody asked
)

// offer offers what can stand at the cursor.
func (v *View) offer(why occasion) {
	f := v.file()
	v.list = nil
	if f.Plain || f.doc == nil {
		return
	}
	at, chosen := f.Cursor, f.Selection()
	over := chosen.From != chosen.To // an example, in place of which others can stand
	if over {
		at = chosen.From
	}
	items := v.helper().Complete(v.name(), at)
	if over {
		here := f.Text.Slice(chosen)
		items = slices.DeleteFunc(items, func(it assist.Item) bool {
			return it.Kind == assist.Function && why == typed
		})
		if why == typed && (len(items) == 0 || len(items) == 1 && items[0].Label == here) {
			return
		}
		for i := range items {
			items[i].Range = chosen
		}
	}
	word := ""
	if len(items) > 0 {
		word = f.Text.Slice(assist.Range{From: items[0].From, To: f.Cursor})
	}
	if why == typed {
		if word == "" { // functions stand nearly everywhere: they are no answer to nothing
			items = slices.DeleteFunc(items, func(it assist.Item) bool { return it.Kind == assist.Function })
		}
		if !over && (len(items) == 0 || items[0].Label == word && items[0].Insert == word) { // it is written
			return
		}
	}
	if len(items) == 0 {
		v.Say("nothing is known to offer here")
		return
	}
	l := &list{sure: why == asked, over: over, word: word}
	for _, it := range items {
		l.entries = append(l.entries, entry{it.Label, it.Detail, it.Meaning, it.From, it.Kind == assist.Function && !strings.ContainsAny(word, "${") || it.Kind == assist.Unit, func() tea.Cmd {
			text, blanks := assist.Expand(it.Insert)
			f.Fill(it.Range, text, blanks)
			v.helper().Set(v.name(), f.Text)
			if len(blanks) > 0 {
				v.offer(typed)
			}
			return nil
		}})
		if over && it.Label == f.Text.Slice(chosen) {
			l.chosen = len(l.entries) - 1
		}
	}
	v.list = l
}

// offerFixes offers how what is wrong at the cursor is put right, and other ways to
// write what stands there.
func (v *View) offerFixes() {
	f, name := v.file(), v.name()
	l := &list{sure: true}
	at := assist.Place{Line: f.Cursor.Line, Column: f.Cursor.Column}
	for _, found := range v.findings {
		if !same(found.File, name) || found.Line-1 != at.Line {
			continue
		}
		for _, fix := range v.helper().Fixes(name, found) {
			l.entries = append(l.entries, entry{fix.Title, found.Code, found.Message, at, false, func() tea.Cmd {
				if len(fix.Edits) == 1 && fix.Blanks {
					text, blanks := assist.Expand(fix.Edits[0].New)
					f.Fill(fix.Edits[0].Range, text, blanks)
					return nil
				}
				f.Apply(fix.Edits)
				return nil
			}})
		}
	}
	others := v.helper().Refactorings(name, f.Cursor)
	for _, found := range v.findings {
		if same(found.File, name) && found.Line-1 == at.Line {
			others = append(others, v.helper().Moves(name, found)...)
		}
	}
	for i, r := range others {
		if slices.ContainsFunc(others[:i], func(o assist.Refactoring) bool { return o.Title == r.Title }) {
			continue
		}
		l.entries = append(l.entries, entry{r.Title, "", "written differently, it means the same", at, false, func() tea.Cmd {
			write := files.MakeNew
			if r.Secret {
				write = files.MakeSecret
			}
			for path, text := range r.Files {
				if err := write(path, []byte(text)); err != nil {
					v.Warn("%v", err)
					return nil
				}
			}
			return v.apply(r.Edits)
		}})
	}
	if len(l.entries) == 0 {
		v.Say("nothing here has a fix that is known")
		return
	}
	v.list = l
}

// accept takes the chosen entry.
func (v *View) accept() tea.Cmd {
	take := v.list.entries[v.list.chosen].take
	v.list = nil
	cmd := take()
	v.followText()
	return tea.Batch(cmd, v.wrote())
}

// listKey hears a key while something is offered; done is false where it is for the text.
func (v *View) listKey(k tea.KeyPressMsg) (cmd tea.Cmd, done bool) {
	l := v.list
	switch k.String() {
	case "up", "shift+tab":
		l.chosen = (l.chosen + len(l.entries) - 1) % len(l.entries)
	case "down":
		l.chosen = (l.chosen + 1) % len(l.entries)
	case "pgdown":
		l.chosen = min(l.chosen+8, len(l.entries)-1)
	case "pgup":
		l.chosen = max(l.chosen-8, 0)
	case "tab":
		if l.over && !l.sure && v.file().Filling() {
			v.list = nil
			return nil, false
		}
		return v.accept(), true
	case "enter":
		if !l.sure && !l.begun() {
			v.list = nil
			return nil, false
		}
		return v.accept(), true
	case "esc":
		v.list = nil
		return nil, true
	default:
		return nil, false
	}
	l.sure = true
	return nil, true
}

// begun reports whether the word that is typed is the beginning of the chosen one, and not all of it: enter takes that then. A
// text that happens to be like the name of a function, and a number that wants a unit, stay what they are.
func (l *list) begun() bool {
	e := l.entries[l.chosen]
	return !l.over && l.word != "" && !e.guess && len(e.label) > len(l.word) && strings.HasPrefix(strings.ToLower(e.label), strings.ToLower(l.word))
}

func (l *list) hint() string {
	switch {
	case l.over && !l.sure:
		return "tab leaves the example, ↑ ↓ choose another, esc"
	case l.sure || l.begun():
		return "enter or tab takes it, ↑ ↓ choose, esc leaves it"
	}
	return "tab takes it, ↑ ↓ choose, esc leaves it"
}

// at is the entry at a cell of the screen; -1 is none.
func (l *list) at(x, y int) int {
	if i := l.top + y - l.rows.Y; l.rows.Contains(x, y) && i < len(l.entries) {
		return i
	}
	return -1
}

// mostRows is how many entries are shown at once.
const mostRows = 9

// draw draws what is offered under the cursor, or above it where there is no room. It leaves the lines below the cursor free that hold
// what is still to be filled in: it goes above, or below these.
func (l *list) draw(t *part.Theme, s *part.Screen, within part.Rect, x, y, free int) {
	rows := min(mostRows, len(l.entries))
	wide, detail := 12, 0
	for _, e := range l.entries {
		wide, detail = max(wide, part.Width(e.label)), max(detail, part.Width(e.detail))
	}
	detail = min(detail, 44)
	wide = min(wide, max(34, within.W-detail-7))
	w := min(max(wide+detail+5, 36), within.W-2)
	about := part.Wrap(l.entries[l.chosen].meaning, w-3)
	about = about[:min(len(about), 3)]
	height := rows + len(about)
	if len(about) > 0 {
		height++
	}
	top, bottom := y+1, within.Y+within.H
	switch above := y-height >= within.Y; {
	case above && (free > 0 || top+height > bottom):
		top = y - height
	case top+free+height <= bottom:
		top += free
	}
	x = max(within.X, min(x-2, within.X+within.W-w-1))
	ground := uv.Style{Fg: t.Text, Bg: t.Panel}
	faint := uv.Style{Fg: t.Dim, Bg: t.Panel}
	s.Fill(part.R(x, top, w, height), ground)
	s.Column(x, top, height, uv.Style{Fg: t.Accent, Bg: t.Panel}, "▎")
	l.top = max(0, min(max(l.top, l.chosen-rows+1), l.chosen))
	l.rows = part.R(x, top, w, rows)
	for i := range rows {
		e := l.entries[l.top+i]
		st, dim := ground, faint
		if l.top+i == l.chosen {
			st = t.Chosen()
			dim = st
			s.Fill(part.R(x+1, top+i, w-1, 1), st)
		}
		s.Text(x+2, top+i, wide, st, e.label)
		s.Text(x+wide+4, top+i, w-wide-5, dim, e.detail)
	}
	if len(l.entries) > rows {
		count := fmt.Sprintf(" %d of %d ", l.chosen+1, len(l.entries))
		s.Right(x+w, top+rows, w, faint, count)
	}
	for i, line := range about {
		s.Text(x+2, top+rows+1+i, w-3, uv.Style{Fg: t.Hint, Bg: t.Panel}, line)
	}
}

// mostMarks is in how many lines of a file findings are marked.
const mostMarks = 2000

// setMarks gives the files what was found in them.
func (v *View) setMarks() {
	for _, f := range v.files {
		f.Marks = nil
	}
	of := map[string]*file{} // by the names that findings have for them
	for _, found := range v.findings {
		f, known := of[found.File]
		if !known {
			for name, one := range v.files {
				if same(name, found.File) {
					f = one
				}
			}
			of[found.File] = f
		}
		if f == nil || found.Line == 0 || len(f.Marks) > mostMarks {
			continue
		}
		if f.Marks == nil {
			f.Marks = map[int][]mark{}
		}
		r := v.helper().Of(found.File, found.Pos)
		f.Marks[found.Line-1] = append(f.Marks[found.Line-1], mark{Range: r, Severity: found.Severity})
	}
}
