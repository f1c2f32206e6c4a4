package assist

import (
	"slices"
	"strings"
)

// Kind tells what stands, or would stand, at a spot.
type Kind int

// The kinds of spots.
const (
	InText  Kind = iota // a comment, or a text of several lines: nothing is known of it
	AtKey               // a key of a map
	AtValue             // the value of the last step of the way
)

// Step is one step on the way from the root of a file to a spot: into the value of
// a key, or into an item of a list.
type Step struct {
	Key  string // "" for an item
	Item bool
	At   Place
	keys func() Keys // of the map that the key stands in
}

// Keys are the keys of a map, with their values where they are short.
type Keys map[string]string

// Spot is where the cursor is in the structure of a text.
type Spot struct {
	Kind Kind
	Way  []Step // from the outside; the last one is what the spot is the value of
	// Word is what stands before the cursor of the word that is being written, and
	// Range all of it.
	Word string
	Range
	Flow   bool     // within { } or [ ]
	Index  int      // in the innermost list in brackets, counted from 0
	Args   []string // the items before it, where they are plain
	Indent int      // of the keys of the map that the spot is in
	Quote  byte     // that the word is in
	keys   func() Keys
}

// Keys are those that stand already in the map where a key is written.
func (s *Spot) Keys() Keys {
	if s.keys == nil {
		return Keys{}
	}
	return s.keys()
}

// Path is the way in words, with [] for an item.
func (s *Spot) Path() []string {
	out := make([]string, len(s.Way))
	for i, st := range s.Way {
		if out[i] = st.Key; st.Item {
			out[i] = "[]"
		}
	}
	return out
}

// Beside are the keys of the map in which a step's key stands.
func (s *Spot) Beside(step int) Keys {
	switch {
	case step < len(s.Way) && s.Way[step].keys != nil:
		return s.Way[step].keys()
	case step == len(s.Way):
		return s.Keys()
	}
	return Keys{}
}

// parsed is one line outside of brackets: its dashes, and its key.
type parsed struct {
	indent int
	dashes []int  // columns of the dashes that begin items
	column int    // of what stands after the dashes
	key    string // "" where there is none
	colon  int    // its column; -1 where there is none
	rest   int    // column of the value; the end of the line where there is none
	end    int    // where a comment begins, or the line ends
}

func (p parsed) blank() bool { return p.column >= p.end && len(p.dashes) == 0 }

// parseLine reads a line by itself.
func parseLine(line string) parsed {
	p := parsed{colon: -1, end: commentFrom(line)}
	for p.indent < p.end && line[p.indent] == ' ' {
		p.indent++
	}
	p.column = p.indent
	for p.column < p.end && line[p.column] == '-' && (p.column+1 == p.end || line[p.column+1] == ' ') {
		p.dashes = append(p.dashes, p.column)
		p.column++
		for p.column < p.end && line[p.column] == ' ' {
			p.column++
		}
	}
	p.rest = p.end
	if key, colon, ok := splitKey(line[p.column:p.end]); ok {
		p.key, p.colon = key, p.column+colon
		p.rest = p.colon + 1
		for p.rest < p.end && line[p.rest] == ' ' {
			p.rest++
		}
	}
	return p
}

// commentFrom is where the comment of a line begins; its end where it has none.
func commentFrom(line string) int {
	quote := byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote != 0:
			if c == '\\' && quote == '"' {
				i++
			} else if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && (i == 0 || strings.IndexByte(" [{,:", line[i-1]) >= 0):
			quote = c
		case c == '#' && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t'):
			return i
		}
	}
	return len(line)
}

// splitKey finds the key that a text begins with, and its colon.
func splitKey(s string) (key string, colon int, ok bool) {
	if s == "" {
		return "", 0, false
	}
	if c := s[0]; c == '"' || c == '\'' {
		end := strings.IndexByte(s[1:], c)
		if end < 0 {
			return "", 0, false
		}
		for i := end + 2; i < len(s); i++ {
			if s[i] == ':' && (i+1 == len(s) || s[i+1] == ' ') {
				return s[1 : end+1], i, true
			}
			if s[i] != ' ' {
				break
			}
		}
		return "", 0, false
	}
	if strings.IndexByte("{[|>&*!%@`,]}", s[0]) >= 0 {
		return "", 0, false
	}
	for i := 0; i < len(s); i++ {
		if s[i] == ':' && (i+1 == len(s) || s[i+1] == ' ') {
			return strings.TrimRight(s[:i], " "), i, true
		}
	}
	return "", 0, false
}

// isBlockText reports whether a value begins a text of several lines.
func isBlockText(value string) bool {
	return value != "" && (value[0] == '|' || value[0] == '>') && len(strings.Fields(value)) == 1
}

// At finds the spot at a place.
func (t *Text) At(p Place) *Spot {
	p = t.Clamp(p)
	line := t.Lines[p.Line]
	s := &Spot{Range: Range{p, p}}
	if p.Column > commentFrom(line) || t.inBlockText(p.Line) {
		return s
	}
	if start, open := t.flowStart(p); open {
		t.inFlow(s, start, p)
		return s
	}
	return t.inBlock(s, p)
}

// inBlockText reports whether a line belongs to a text of several lines.
func (t *Text) inBlockText(n int) bool {
	indent := parseLine(t.Lines[n]).indent
	if strings.TrimSpace(t.Lines[n]) == "" {
		indent = 1 << 30
	}
	for i := n - 1; i >= 0 && indent > 0; i-- {
		if indentOf(t.Lines[i]) >= indent {
			continue
		}
		l := parseLine(t.Lines[i])
		if l.blank() {
			continue
		}
		indent = l.indent
		value := t.Lines[i][l.column:l.end]
		if l.colon >= 0 {
			value = t.Lines[i][l.rest:l.end]
		}
		if isBlockText(strings.TrimSpace(value)) {
			// a blank line belongs to it only while nothing less indented has come
			return strings.TrimSpace(t.Lines[n]) != "" || t.reaches(i, n, l.indent)
		}
		if l.indent == 0 && len(l.dashes) == 0 {
			return false
		}
	}
	return false
}

// reaches reports whether all lines between two belong to what the first begins, and
// the text goes on behind them.
func (t *Text) reaches(from, to, indent int) bool {
	for i := from + 1; i < len(t.Lines); i++ {
		l := parseLine(t.Lines[i])
		if l.blank() {
			continue
		}
		if i > to {
			return l.indent > indent
		}
		if l.indent <= indent {
			return false
		}
	}
	return false
}

// inBlock finds a spot outside of brackets.
func (t *Text) inBlock(s *Spot, p Place) *Spot {
	line := t.Lines[p.Line]
	l := parseLine(line)
	if l.blank() {
		l.indent, l.column, l.rest = p.Column, p.Column, p.Column
		if l.end < p.Column {
			l.end = p.Column
		}
	}
	var own []Step // on this line, from the outside
	for _, d := range l.dashes {
		if d < p.Column {
			own = append(own, Step{Item: true, At: Place{p.Line, d}})
		}
	}
	top := l.column // the column that the way up begins from
	if len(l.dashes) > 0 {
		top = l.dashes[0]
	}
	s.Indent = l.column
	switch {
	case len(l.dashes) > 0 && p.Column <= l.dashes[len(l.dashes)-1]:
		top, own = p.Column, nil
		s.Kind, s.Indent = AtKey, p.Column
	case l.colon >= 0 && p.Column > l.colon:
		s.Kind = AtValue
		step := Step{Key: l.key, At: Place{p.Line, l.column}}
		step.keys = func() Keys { return t.keysAt(p.Line, l.column) }
		own = append(own, step)
		t.word(s, p, max(l.rest, min(p.Column, l.rest)), l.end)
		if p.Column < l.rest {
			s.Range, s.Word = Range{p, p}, ""
		}
	case len(l.dashes) > 0 && l.colon < 0:
		s.Kind = AtValue
		t.word(s, p, min(l.column, p.Column), l.end)
		s.keys = func() Keys { return t.keysAt(p.Line, l.column) }
	default:
		s.Kind = AtKey
		end := l.end
		if l.colon >= 0 {
			end = l.colon
		}
		t.word(s, p, min(l.column, p.Column), end)
		column := l.column
		s.keys = func() Keys { return t.keysAt(p.Line, column) }
	}
	s.Way = append(t.wayUp(p.Line, top, len(l.dashes) > 0 && len(own) > 0 && own[0].Item), own...)
	if n := len(s.Way); n > 0 && s.Way[n-1].Item && s.Way[n-1].At.Line == p.Line {
		s.Args = t.itemsBefore(s.Way[n-1].At)
		s.Index = len(s.Args)
	}
	return s
}

// itemsBefore lists the items of a list before the one whose dash is at a place.
func (t *Text) itemsBefore(dash Place) []string {
	var out []string
	for i := dash.Line - 1; i >= 0; i-- {
		l := parseLine(t.Lines[i])
		if l.blank() {
			continue
		}
		if slices.Contains(l.dashes, dash.Column) {
			out = append(out, strings.Trim(strings.TrimSpace(t.Lines[i][l.column:l.end]), `"'`))
		} else if l.indent <= dash.Column {
			break
		}
	}
	slices.Reverse(out)
	return out
}

// word sets the word of a spot that begins at a column and may reach up to an end.
func (t *Text) word(s *Spot, p Place, from, end int) {
	line := t.Lines[p.Line]
	if from < len(line) && (line[from] == '"' || line[from] == '\'') && from < p.Column {
		s.Quote = line[from]
		from++
	}
	to := max(p.Column, len(strings.TrimRight(line[:max(end, p.Column)], " ")))
	if s.Quote != 0 && to > p.Column && line[to-1] == s.Quote {
		to--
	}
	from = min(from, p.Column)
	s.From, s.To, s.Word = Place{p.Line, from}, Place{p.Line, to}, line[from:p.Column]
}

func indentOf(line string) int {
	n := 0
	for n < len(line) && line[n] == ' ' {
		n++
	}
	return n
}

// wayUp lists the steps that lead to a map or an item at a column, from the lines
// above. With item an item begins there: its list may stand under a key of the same
// column.
func (t *Text) wayUp(line, column int, item bool) []Step {
	var up []Step
	for i := line - 1; i >= 0 && (column > 0 || item); i-- {
		if indent := indentOf(t.Lines[i]); indent > column || indent == column && !item {
			continue // most lines: it is within what stands beside
		}
		l := parseLine(t.Lines[i])
		if l.blank() || strings.HasPrefix(t.Lines[i], "---") {
			continue
		}
		if l.colon >= 0 && (l.column < column || item && l.column == column) {
			n, c := i, l.column
			up = append(up, Step{Key: l.key, At: Place{i, c}, keys: func() Keys { return t.keysAt(n, c) }})
			column, item = l.column, false
		}
		for k := len(l.dashes) - 1; k >= 0; k-- {
			if d := l.dashes[k]; d < column {
				up = append(up, Step{Item: true, At: Place{i, d}})
				column, item = d, true
			}
		}
	}
	for i, k := 0, len(up)-1; i < k; i, k = i+1, k-1 {
		up[i], up[k] = up[k], up[i]
	}
	return up
}

// keysAt lists the keys of the map that has a key at a place.
func (t *Text) keysAt(line, column int) Keys {
	out := Keys{}
	add := func(i int, l parsed) {
		if l.colon >= 0 && l.column == column {
			out[l.key] = strings.Trim(strings.TrimSpace(t.Lines[i][l.rest:l.end]), `"'`)
		}
	}
	l := parseLine(t.Line(line))
	add(line, l)
	if len(l.dashes) == 0 || l.column != column {
		for i := line - 1; i >= 0; i-- {
			if indentOf(t.Lines[i]) > column {
				continue
			}
			l := parseLine(t.Lines[i])
			if l.blank() {
				continue
			}
			if add(i, l); l.indent < column { // the beginning of an item, or what is above
				break
			}
		}
	}
	for i := line + 1; i < len(t.Lines); i++ {
		if indentOf(t.Lines[i]) > column {
			continue
		}
		l := parseLine(t.Lines[i])
		if l.blank() {
			continue
		}
		if l.indent < column {
			break
		}
		add(i, l)
	}
	return out
}
