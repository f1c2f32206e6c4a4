package editor

import (
	"strings"
)

// indentation is one step of it.
const indentation = 2

// Newline begins a line, as deep as YAML wants it: deeper behind a key without a value,
// below the text of an item, as before otherwise. A list of short items goes on with the
// next one; on an item in which nothing stands yet it ends.
func (b *Buffer) Newline() {
	r := b.Selection()
	line := b.Text.Line(r.From.Line)
	head := line[:b.Text.Clamp(r.From).Column]
	text := "\n" + strings.Repeat(" ", deep(head))
	switch dash := strings.Index(head, "- "); {
	case dash < 0 || strings.TrimSpace(head[:dash]) != "" || strings.TrimSpace(line[len(head):]) != "":
	case strings.TrimSpace(head[dash+1:]) == "":
		r.From.Column, r.To, text = max(0, dash-indentation), Place{Line: r.From.Line, Column: len(line)}, ""
	case b.shortItems(r.From.Line, dash, head):
		text = "\n" + head[:dash] + "- "
	}
	b.do(other, func(s *step) { b.put(b.replace(s, r, text)) })
}

// shortItems reports whether the list that a line belongs to has one line for each item.
func (b *Buffer) shortItems(n, dash int, head string) bool {
	rest := strings.TrimRight(head[dash+2:], " ")
	if strings.HasSuffix(rest, ":") || strings.HasSuffix(rest, "{") || strings.HasSuffix(rest, "[") || strings.HasSuffix(rest, "|") {
		return false
	}
	if !strings.Contains(rest, ": ") {
		return true // a plain one
	}
	for n--; n >= 0; n-- {
		line := b.Text.Line(n)
		indent := len(line) - len(strings.TrimLeft(line, " "))
		if text := strings.TrimSpace(line); text == "" || text[0] == '#' || indent > dash || strings.HasPrefix(text, "- ") {
			continue
		}
		switch strings.TrimSpace(line) {
		case "requirements:", "policies:", "imports:":
			return true
		}
		return false
	}
	return false
}

// Dash writes a dash; behind the indentation of an item's keys it begins the next item.
func (b *Buffer) Dash() {
	line := b.Line()
	if c := b.Cursor.Column; b.Cursor == b.Anchor && c >= indentation && strings.TrimSpace(line[:c]) == "" &&
		strings.TrimSpace(line[c:]) == "" {
		for n := b.Cursor.Line - 1; n >= 0; n-- {
			up := b.Text.Line(n)
			text := strings.TrimLeft(up, " ")
			switch dash := len(up) - len(text); {
			case text == "" || text[0] == '#' || dash > c-indentation:
				continue
			case dash == c-indentation && strings.HasPrefix(text, "- "):
				b.do(other, func(s *step) {
					b.put(b.replace(s, Range{From: Place{Line: b.Cursor.Line, Column: dash}, To: b.Cursor}, "-"))
				})
				return
			}
			break
		}
	}
	b.Insert("-")
}

// deep is how deep a line is behind one that is written up to here.
func deep(head string) int {
	indent := len(head) - len(strings.TrimLeft(head, " "))
	rest := head[indent:]
	if rest == "" {
		return indent
	}
	if i := strings.Index(" "+rest, " #"); i >= 0 { // without its comment
		rest = strings.TrimRight((" " + rest)[1:max(i, 1)], " ")
		if i == 0 {
			return indent
		}
	}
	for strings.HasPrefix(rest, "- ") { // an item: its keys stand behind the dash
		more := 2 + len(rest[2:]) - len(strings.TrimLeft(rest[2:], " "))
		if strings.TrimSpace(rest[2:]) == "" {
			return indent
		}
		if !strings.Contains(rest, ": ") && !strings.HasSuffix(rest, ":") {
			return indent // a plain one: the next item
		}
		indent, rest = indent+more, rest[more:]
	}
	rest = strings.TrimRight(rest, " ")
	last := rest
	if i := strings.LastIndexByte(rest, ' '); i >= 0 {
		last = rest[i+1:]
	}
	if strings.HasSuffix(rest, ":") || strings.HasSuffix(rest, "{") || strings.HasSuffix(rest, "[") ||
		last != "" && len(last) <= 3 && (last[0] == '|' || last[0] == '>') {
		return indent + indentation
	}
	return indent
}

// lines are the first and the last line of the selection. One that it ends in front of
// does not count.
func (b *Buffer) lines() (first, last int) {
	r := b.Selection()
	first, last = r.From.Line, r.To.Line
	if last > first && r.To.Column == 0 {
		last--
	}
	return first, last
}

// eachLine changes the lines of the selection, each by itself, as one step.
func (b *Buffer) eachLine(change func(line string) string) {
	first, last := b.lines()
	b.do(other, func(s *step) {
		for n := first; n <= last; n++ {
			line := b.Text.Line(n)
			next := change(line)
			// only the beginning differs, or so the cursor may think
			tail := 0
			for tail < min(len(line), len(next)) && line[len(line)-1-tail] == next[len(next)-1-tail] {
				tail++
			}
			r := Range{From: Place{Line: n}, To: Place{Line: n, Column: len(line) - tail}}
			to := b.replace(s, r, next[:len(next)-tail])
			b.Cursor, b.Anchor = moved(b.Cursor, r, to, false), moved(b.Anchor, r, to, false)
		}
	})
}

// Indent moves the lines of the selection to the right, and Outdent to the left.
func (b *Buffer) Indent() {
	b.eachLine(func(line string) string {
		if strings.TrimSpace(line) == "" {
			return line
		}
		return strings.Repeat(" ", indentation) + line
	})
}

func (b *Buffer) Outdent() {
	b.eachLine(func(line string) string {
		return line[min(indentation, len(line)-len(strings.TrimLeft(line, " "))):]
	})
}

// Comment makes comments of the lines of the selection, or text of them again where all
// are comments.
func (b *Buffer) Comment() {
	first, last := b.lines()
	all, indent := true, 1<<20
	for n := first; n <= last; n++ {
		line := b.Text.Line(n)
		rest := strings.TrimLeft(line, " ")
		if rest == "" {
			continue
		}
		all = all && rest[0] == '#'
		indent = min(indent, len(line)-len(rest))
	}
	b.eachLine(func(line string) string {
		rest := strings.TrimLeft(line, " ")
		switch {
		case rest == "":
			return line
		case all:
			at := len(line) - len(rest)
			return line[:at] + strings.TrimPrefix(strings.TrimPrefix(rest, "#"), " ")
		}
		return line[:indent] + "# " + line[indent:]
	})
}

// MoveLines moves the lines of the selection by one, up or down.
func (b *Buffer) MoveLines(by int) {
	first, last := b.lines()
	passes := last + 1
	if by < 0 {
		passes = first - 1
	}
	if passes < 0 || passes >= len(b.Text.Lines) {
		return
	}
	from, to := min(first, passes), max(last, passes)
	block := append([]string{}, b.Text.Lines[first:last+1]...)
	passed := b.Text.Line(passes)
	if by < 0 {
		block = append(block, passed)
	} else {
		block = append([]string{passed}, block...)
	}
	b.do(other, func(s *step) {
		cursor, anchor := b.Cursor, b.Anchor
		b.replace(s, Range{From: Place{Line: from}, To: Place{Line: to, Column: len(b.Text.Line(to))}},
			strings.Join(block, "\n"))
		cursor.Line += by
		anchor.Line += by
		b.Cursor, b.Anchor = b.Text.Clamp(cursor), b.Text.Clamp(anchor)
	})
}

// Cut is the selection, or the whole line where nothing is selected, which goes.
func (b *Buffer) Cut() string {
	if b.Cursor != b.Anchor {
		out := b.Selected()
		b.erase(other, Range{})
		return out
	}
	n := b.Cursor.Line
	out := b.Line() + "\n"
	r := Range{From: Place{Line: n}, To: Place{Line: n + 1}}
	if n+1 >= len(b.Text.Lines) {
		r.To = Place{Line: n, Column: len(b.Line())}
	}
	b.do(other, func(s *step) { b.put(b.replace(s, r, "")) })
	return out
}

// Copy is the selection, or the whole line where nothing is selected.
func (b *Buffer) Copy() string {
	if b.Cursor != b.Anchor {
		return b.Selected()
	}
	return b.Line() + "\n"
}
