package agent

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// basic is a basic regular expression, in which ( ) { } + ? | are special with a backslash
// only, written as an extended one.
func basic(p string) string {
	var b strings.Builder
	for i := 0; i < len(p); i++ {
		switch {
		case p[i] == '\\' && i+1 < len(p) && strings.ContainsRune("(){}+?|", rune(p[i+1])):
			b.WriteByte(p[i+1])
			i++
		case p[i] == '\\' && i+1 < len(p):
			b.WriteString(p[i : i+2])
			i++
		case strings.ContainsRune("(){}+?|", rune(p[i])):
			b.WriteString(`\` + p[i:i+1])
		case p[i] == '[': // up to its end all is as it is
			end := strings.IndexByte(p[min(i+2, len(p)):], ']')
			if end < 0 {
				b.WriteByte(p[i])
				continue
			}
			b.WriteString(p[i : i+3+end])
			i += 2 + end
		default:
			b.WriteByte(p[i])
		}
	}
	return b.String()
}

// edit is one command of sed, for the lines that it is about.
type edit struct {
	from, to       func(n int, line string, last bool) bool // nil is all; to nil is one line
	verb           byte
	re             *regexp.Regexp
	with           string
	global, prints bool
	within         bool
}

// sed changes lines: s, d and p, for lines by number, $ or /PATTERN/, and ranges of them.
func sed(c *call) int {
	const words = "[-n -i -E] 's/PATTERN/TEXT/[g]' [FILE…]; also d and p, behind 3, $, /PATTERN/ or a range"
	on, ok := c.flags("niEr", "e")
	if !ok {
		return 2
	}
	text := on['e']
	if text == "" {
		if len(c.args) == 0 {
			return c.usage(words)
		}
		text, c.args = c.args[0], c.args[1:]
	}
	var edits []*edit
	for rest := strings.TrimSpace(text); rest != ""; {
		var e *edit
		var err error
		if e, rest, err = readEdit(rest, on['E']+on['r'] != ""); err != nil {
			c.fail("%v; write %s", err, words)
			return 2
		}
		edits = append(edits, e)
		rest = strings.TrimLeft(rest, "; \n")
	}
	if on['i'] == "" {
		lines, ok := c.lines()
		if !ok {
			return 1
		}
		return c.print(carryOut(edits, lines, on['n'] != ""))
	}
	for _, p := range c.args {
		text, err := c.s.disk.read(c.at(p))
		if err != nil {
			return c.failed(err)
		}
		var lines []string
		for line := range strings.Lines(string(text)) {
			lines = append(lines, strings.TrimSuffix(line, "\n"))
		}
		out := strings.Join(carryOut(edits, lines, on['n'] != ""), "\n")
		if out != "" {
			out += "\n"
		}
		if err := c.s.disk.put(c.at(p), []byte(out), 0o644); err != nil {
			return c.failed(err)
		}
	}
	return 0
}

func carryOut(edits []*edit, lines []string, quiet bool) []string {
	var out []string
	for _, e := range edits {
		e.within = false
	}
lines:
	for i, line := range lines {
		last := i == len(lines)-1
		for _, e := range edits {
			if !e.about(i+1, line, last) {
				continue
			}
			switch e.verb {
			case 'd':
				continue lines
			case 'p':
				out = append(out, line)
			case 's':
				changed := e.replace(line)
				if e.prints && changed != line {
					out = append(out, changed)
				}
				line = changed
			}
		}
		if !quiet {
			out = append(out, line)
		}
	}
	return out
}

func (e *edit) about(n int, line string, last bool) bool {
	switch {
	case e.from == nil:
		return true
	case e.to == nil:
		return e.from(n, line, last)
	case e.within:
		e.within = !e.to(n, line, last)
		return true
	case e.from(n, line, last):
		e.within = !e.to(n, line, last)
		return true
	}
	return false
}

func (e *edit) replace(line string) string {
	if e.global {
		return e.re.ReplaceAllString(line, e.with)
	}
	at := e.re.FindStringSubmatchIndex(line)
	if at == nil {
		return line
	}
	return line[:at[0]] + string(e.re.ExpandString(nil, e.with, line, at)) + line[at[1]:]
}

// upTo takes a part that ends at a sign which has no backslash before it.
func upTo(text string, sign byte) (part, rest string, ok bool) {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text) && text[i+1] == sign:
			b.WriteByte(sign)
			i++
		case text[i] == '\\' && i+1 < len(text):
			b.WriteString(text[i : i+2])
			i++
		case text[i] == sign:
			return b.String(), text[i+1:], true
		default:
			b.WriteByte(text[i])
		}
	}
	return "", "", false
}

func readEdit(text string, extended bool) (*edit, string, error) {
	pattern := func(p string) (*regexp.Regexp, error) {
		if !extended {
			p = basic(p)
		}
		return regexp.Compile(p)
	}
	address := func() (func(int, string, bool) bool, error) {
		switch {
		case text == "":
		case text[0] == '$':
			text = text[1:]
			return func(_ int, _ string, last bool) bool { return last }, nil
		case text[0] == '/':
			p, rest, ok := upTo(text[1:], '/')
			if !ok {
				return nil, fmt.Errorf("'%s' has no end", text)
			}
			re, err := pattern(p)
			text = rest
			return func(_ int, line string, _ bool) bool { return err == nil && re.MatchString(line) }, err
		case text[0] >= '0' && text[0] <= '9':
			digits := text[:len(text)-len(strings.TrimLeft(text, "0123456789"))]
			n, err := strconv.Atoi(digits)
			text = text[len(digits):]
			return func(at int, _ string, _ bool) bool { return at >= n && (at == n || n == 0) }, err
		}
		return nil, nil
	}
	e := &edit{}
	var err error
	if e.from, err = address(); err != nil {
		return nil, "", err
	}
	if strings.HasPrefix(text, ",") {
		text = text[1:]
		if e.to, err = address(); err != nil {
			return nil, "", err
		}
	}
	text = strings.TrimLeft(text, " ")
	if text == "" || !strings.ContainsRune("dps", rune(text[0])) {
		return nil, "", fmt.Errorf("'%s' is not understood", text)
	}
	e.verb = text[0]
	text = text[1:]
	if e.verb != 's' {
		return e, text, nil
	}
	if text == "" {
		return nil, "", fmt.Errorf("s needs a pattern")
	}
	sign := text[0]
	p, rest, ok := upTo(text[1:], sign)
	with, rest2, ok2 := upTo(rest, sign)
	if !ok || !ok2 {
		return nil, "", fmt.Errorf("'s%s' has no end", text)
	}
	text = rest2
	for text != "" && strings.ContainsRune("gip", rune(text[0])) {
		switch text[0] {
		case 'g':
			e.global = true
		case 'i':
			p = "(?i)" + p
		case 'p':
			e.prints = true
		}
		text = text[1:]
	}
	if e.re, err = pattern(p); err != nil {
		return nil, "", err
	}
	e.with = replacement(with)
	return e, text, nil
}

// replacement is what is put in, in the words of the package regexp: & and \1 are parts of what
// was found.
func replacement(with string) string {
	var b strings.Builder
	for i := 0; i < len(with); i++ {
		switch {
		case with[i] == '\\' && i+1 < len(with):
			i++
			switch {
			case with[i] >= '0' && with[i] <= '9':
				b.WriteString("${" + with[i:i+1] + "}")
			case with[i] == 'n':
				b.WriteByte('\n')
			case with[i] == '$':
				b.WriteString("$$")
			default:
				b.WriteByte(with[i])
			}
		case with[i] == '&':
			b.WriteString("${0}")
		case with[i] == '$':
			b.WriteString("$$")
		default:
			b.WriteByte(with[i])
		}
	}
	return b.String()
}

// names of commands, for who looks for one.
func names() []string {
	var out []string
	for n := range commands {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}
