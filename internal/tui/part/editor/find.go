package editor

import (
	"regexp"
	"strings"
	"unicode"
)

// Search is what is looked for. Where it has no capital letter, it finds those too.
type Search struct {
	Text   string
	Regexp bool

	compiled *regexp.Regexp
	of       string
	err      error
}

// pattern is the search as a regular expression; an error says why it is none.
func (f *Search) pattern() (*regexp.Regexp, error) {
	if f.Text == "" {
		return nil, nil
	}
	key := f.Text
	if f.Regexp {
		key = "r" + key
	}
	if f.of != key {
		text := f.Text
		if !f.Regexp {
			text = regexp.QuoteMeta(text)
		}
		if strings.IndexFunc(f.Text, unicode.IsUpper) < 0 {
			text = "(?i)" + text
		}
		f.of = key
		f.compiled, f.err = regexp.Compile(text)
	}
	return f.compiled, f.err
}

// Err says why a regular expression cannot be read.
func (f *Search) Err() error {
	_, err := f.pattern()
	return err
}

// inLine lists where a line has it.
func (f *Search) inLine(line string) [][]int {
	p, err := f.pattern()
	if p == nil || err != nil {
		return nil
	}
	var out [][]int
	for _, m := range p.FindAllStringSubmatchIndex(line, -1) {
		if m[0] < m[1] {
			out = append(out, m)
		}
	}
	return out
}

// Count is how often the text has it, up to a most, and how many of them begin before
// the cursor or at it.
func (b *Buffer) Count(f *Search, most int) (all, here int) {
	for n, line := range b.Text.Lines {
		for _, m := range f.inLine(line) {
			at := Place{Line: n, Column: m[0]}
			if all++; !b.Selection().From.Less(at) {
				here++
			}
			if all >= most {
				return all, here
			}
		}
	}
	return all, here
}

// Find selects the next one, or with by -1 the one before; behind the last comes the
// first. With stay the one at the cursor counts. It is false where there is none.
func (b *Buffer) Find(f *Search, by int, stay bool) bool {
	at := b.Selection().From
	total := len(b.Text.Lines)
	for i := 0; i <= total; i++ {
		n := ((at.Line+i*by)%total + total) % total
		found := f.inLine(b.Text.Line(n))
		for k := range found {
			m := found[k]
			if by < 0 {
				m = found[len(found)-1-k]
			}
			here := Place{Line: n, Column: m[0]}
			if i == 0 && (by > 0 && (here.Less(at) || here == at && !stay) || by < 0 && !here.Less(at)) {
				continue
			}
			b.Move(here, false)
			b.Move(Place{Line: n, Column: m[1]}, true)
			return true
		}
	}
	return false
}

// Replace replaces what is selected, where it is what is looked for, and finds the next.
func (b *Buffer) Replace(f *Search, with string) {
	r := b.Selection()
	if r.From.Line == r.To.Line {
		line := b.Text.Line(r.From.Line)
		for _, m := range f.inLine(line) {
			if m[0] == r.From.Column && m[1] == r.To.Column {
				b.do(other, func(s *step) { b.put(b.replace(s, r, f.filled(line, m, with))) })
				break
			}
		}
	}
	b.Find(f, 1, true)
}

// filled is what replaces a match: $1 in it is a group of a regular expression.
func (f *Search) filled(line string, match []int, with string) string {
	if !f.Regexp {
		return with
	}
	return string(f.compiled.ExpandString(nil, with, line, match))
}

// ReplaceAll replaces all, as one step, and says how many there were.
func (b *Buffer) ReplaceAll(f *Search, with string) int {
	count := 0
	lines := make([]string, len(b.Text.Lines))
	first, last := -1, -1
	for n, line := range b.Text.Lines {
		var out strings.Builder
		from := 0
		for _, m := range f.inLine(line) {
			out.WriteString(line[from:m[0]])
			out.WriteString(f.filled(line, m, with))
			from = m[1]
			count++
		}
		if lines[n] = line; from > 0 {
			lines[n] = out.String() + line[from:]
			if last = n; first < 0 {
				first = n
			}
		}
	}
	if count == 0 {
		return 0
	}
	b.do(other, func(s *step) {
		cursor := b.Cursor
		b.replace(s, Range{From: Place{Line: first}, To: Place{Line: last, Column: len(b.Text.Line(last))}},
			strings.Join(lines[first:last+1], "\n"))
		b.put(cursor)
	})
	return count
}
