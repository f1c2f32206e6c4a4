package assist

import "strings"

// bracket is one { or [ that is open at a place.
type bracket struct {
	open   byte
	at     Place
	key    string // whose value is being read
	keyAt  Place
	colon  bool // the key has its colon
	keys   Keys
	index  int
	items  []string
	word   Place // where the word begins that is being read
	hasOne bool
	quote  byte
}

// flowScan reads brackets from a place on.
type flowScan struct {
	t     *Text
	stack []*bracket
	quote byte
	esc   bool
}

func (f *flowScan) top() *bracket {
	if len(f.stack) == 0 {
		return nil
	}
	return f.stack[len(f.stack)-1]
}

// wordUp is the word that is being read, up to a place.
func (f *flowScan) wordUp(b *bracket, to Place) string {
	if !b.hasOne {
		return ""
	}
	return strings.TrimSpace(f.t.Slice(Range{b.word, to}))
}

// ended closes an entry of the innermost bracket.
func (f *flowScan) ended(at Place) {
	b := f.top()
	if b == nil {
		return
	}
	word := strings.Trim(f.wordUp(b, at), `"'`)
	switch {
	case b.colon:
		b.keys[b.key] = word
	case b.open == '{' && word != "":
		b.keys[word] = ""
	}
	if b.open == '[' {
		b.items = append(b.items, word)
	}
	b.key, b.colon, b.hasOne = "", false, false
}

// line reads a line from a column up to another one. It reports false where the
// outermost bracket was closed.
func (f *flowScan) line(n, from, to int) bool {
	line := f.t.Lines[n]
	for i := from; i < to; i++ {
		c := line[i]
		at := Place{n, i}
		b := f.top()
		switch {
		case f.quote != 0:
			switch {
			case f.esc:
				f.esc = false
			case c == '\\' && f.quote == '"':
				f.esc = true
			case c == f.quote:
				f.quote = 0
			}
			continue
		case c == '#' && (i == 0 || line[i-1] == ' '):
			return true
		case c == ' ' || c == '\t':
			continue
		case (c == '"' || c == '\'') && (b == nil || !b.hasOne):
			f.quote = c
			if b != nil {
				b.word, b.hasOne, b.quote = at, true, c
			}
			continue
		case c == '{' || c == '[':
			if b == nil || !b.hasOne || b.colon {
				if b != nil {
					b.word, b.hasOne = at, true
				}
				f.stack = append(f.stack, &bracket{open: c, at: at, keys: Keys{}})
			}
			continue
		case b == nil:
			continue
		case c == '}' || c == ']':
			f.ended(at)
			if f.stack = f.stack[:len(f.stack)-1]; len(f.stack) == 0 {
				return false
			}
			continue
		case c == ',':
			f.ended(at)
			b.index++
			continue
		case c == ':' && !b.colon && b.hasOne && (i+1 >= len(line) || strings.IndexByte(" ,]}", line[i+1]) >= 0 ||
			line[i-1] == '"' || line[i-1] == '\''):
			b.key, b.keyAt = strings.Trim(f.wordUp(b, at), `"'`), b.word
			b.colon, b.hasOne = true, false
			continue
		}
		if !b.hasOne {
			b.word, b.hasOne, b.quote = at, true, 0
		}
	}
	return true
}

// mostFlow is how many lines a value in brackets is looked back for.
const mostFlow = 400

// flowStart finds the line whose value is in brackets that are open at a place: the
// outermost one, as a line within brackets may look like one that begins some.
func (t *Text) flowStart(p Place) (start Place, open bool) {
	indent := 1 << 30
	for n := p.Line; n >= 0 && p.Line-n < mostFlow; n-- {
		l := parseLine(t.Lines[n])
		if n < p.Line && (l.blank() || l.indent >= indent) {
			continue
		}
		if !l.blank() {
			indent = l.indent
		}
		from := l.column
		if l.colon >= 0 {
			from = l.rest
		}
		if strings.ContainsAny(t.Lines[n][min(from, len(t.Lines[n])):l.end], "{[") && startsFlow(t.Lines[n], from) {
			f := flowScan{t: t}
			alive := true
			for i := n; i <= p.Line && alive; i++ {
				begin, end := 0, len(t.Lines[i])
				if i == n {
					begin = from
				}
				if i == p.Line {
					end = p.Column
				}
				alive = f.line(i, min(begin, end), end)
			}
			if alive && len(f.stack) > 0 {
				start, open = Place{n, from}, true
			}
		}
		if l.colon >= 0 && l.indent == 0 {
			break
		}
	}
	return start, open
}

// startsFlow reports whether the value at a column is in brackets.
func startsFlow(line string, column int) bool {
	return column < len(line) && (line[column] == '{' || line[column] == '[')
}

// inFlow finds a spot within brackets.
func (t *Text) inFlow(s *Spot, start, p Place) {
	f := flowScan{t: t}
	for i := start.Line; i <= p.Line; i++ {
		begin, end := 0, len(t.Lines[i])
		if i == start.Line {
			begin = start.Column
		}
		if i == p.Line {
			end = p.Column
		}
		f.line(i, min(begin, end), end)
	}
	l := parseLine(t.Lines[start.Line])
	top := l.column
	if len(l.dashes) > 0 {
		top = l.dashes[0]
	}
	s.Way = t.wayUp(start.Line, top, len(l.dashes) > 0)
	for _, d := range l.dashes {
		s.Way = append(s.Way, Step{Item: true, At: Place{start.Line, d}})
	}
	if l.colon >= 0 {
		s.Way = append(s.Way, Step{Key: l.key, At: Place{start.Line, l.column},
			keys: func() Keys { return t.keysAt(start.Line, l.column) }})
	}
	s.Flow, s.Indent = true, l.column
	rest := t.afterFlow(f.stack, p)
	for i, b := range f.stack {
		if b.open == '[' {
			s.Way = append(s.Way, Step{Item: true, At: b.at})
		}
		if b.colon {
			keys := rest[i]
			s.Way = append(s.Way, Step{Key: b.key, At: b.keyAt, keys: func() Keys { return keys }})
		}
	}
	b := f.top()
	keys := rest[len(rest)-1]
	s.keys, s.Index, s.Args = func() Keys { return keys }, b.index, b.items
	s.Kind = AtValue
	if b.open == '{' && !b.colon {
		s.Kind = AtKey
	}
	line := t.Lines[p.Line]
	if b.hasOne && b.word.Line != p.Line {
		s.Word = strings.TrimSpace(t.Slice(Range{b.word, p}))
		s.From = b.word
		return
	}
	from := b.word.Column
	if !b.hasOne { // in front of a word, perhaps
		if p.Column == len(line) || strings.IndexByte(" ,:{}[]#", line[p.Column]) >= 0 {
			return
		}
		from, b.quote = p.Column, 0
	}
	if s.Quote = f.quote; s.Quote != 0 {
		from++
	}
	if f.quote == 0 && b.quote != 0 { // behind a quoted word
		from = p.Column
	}
	to := p.Column
	for to < len(line) && (s.Quote != 0 && line[to] != s.Quote || s.Quote == 0 && !endsWord(line, to)) {
		to++
	}
	s.From, s.To, s.Word = Place{p.Line, from}, Place{p.Line, to}, strings.TrimLeft(line[from:p.Column], " ")
}

// endsWord reports whether a word in brackets ends in front of a column: a colon ends it
// where a space or an end is behind it.
func endsWord(line string, i int) bool {
	if line[i] == ':' {
		return i+1 == len(line) || strings.IndexByte(" ,{}[]", line[i+1]) >= 0
	}
	return strings.IndexByte(" ,{}[]#", line[i]) >= 0
}

// afterFlow lists the keys of each open bracket, also those behind the place.
func (t *Text) afterFlow(stack []*bracket, p Place) []Keys {
	out := make([]Keys, len(stack))
	f := flowScan{t: t}
	for i, b := range stack {
		c := *b
		out[i] = Keys{}
		for k, v := range b.keys {
			out[i][k] = v
		}
		c.keys = out[i]
		if i == len(stack)-1 && !c.colon { // the key being written is none yet
			c.hasOne, c.key = true, ""
			c.word = p
		} else if c.colon {
			out[i][c.key] = ""
		}
		f.stack = append(f.stack, &c)
	}
	begin := p.Column
	// the rest of the word at the cursor is not another key
	line := t.Lines[p.Line]
	for begin < len(line) && strings.IndexByte(" ,{}[]:", line[begin]) < 0 {
		begin++
	}
	if b := f.top(); b != nil && !b.colon && begin < len(line) && line[begin] == ':' {
		b.key, b.colon, b.hasOne = "", true, false
		begin++
		defer delete(out[len(out)-1], "")
	} else if b != nil && !b.colon {
		b.hasOne = false
	}
	for n := p.Line; n < len(t.Lines) && n-p.Line < mostFlow; n++ {
		from := 0
		if n == p.Line {
			from = begin
		}
		if !f.line(n, min(from, len(t.Lines[n])), len(t.Lines[n])) {
			break
		}
	}
	return out
}
