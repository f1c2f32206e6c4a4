package assist

import (
	"regexp"
	"strings"
)

// TokenKind tells what a word of a text is, for its colour.
type TokenKind string

// The kinds of tokens.
const (
	KeywordToken   TokenKind = "keyword"   // of the language
	PropertyToken  TokenKind = "property"  // a key that a type has
	TypeToken      TokenKind = "type"      // the name of a type
	NodeToken      TokenKind = "variable"  // the name of a node, a group, an output
	InputToken     TokenKind = "parameter" // the name of an input
	FunctionToken  TokenKind = "function"
	NumberToken    TokenKind = "number"
	StringToken    TokenKind = "string"
	CommentToken   TokenKind = "comment"
	LiteralToken   TokenKind = "literal" // true, false, null
	DirectiveToken TokenKind = "directive"
)

// Token is a word with its kind.
type Token struct {
	Range
	Kind    TokenKind
	Defines bool // it gives something its name
}

// level is one map that is open: what its keys are.
type level struct {
	indent  int  // of its keys
	names   bool // its keys are names
	free    bool // its keys are what a type says
	section string
	last    string // the key that was read last
	flow    byte   // the bracket that opened it
	list    int    // how many items came before
}

var numberWord = regexp.MustCompile(`^[+-]?\d[\d_]*(\.\d+)?([eE][+-]?\d+)?$`)

// Tokens are the words of the lines from one up to another, in their order. They are
// told by the lines alone, so that a broken text has its colours too.
func (t *Text) Tokens(from, to int) []Token {
	from, to = max(from, 0), min(to, len(t.Lines))
	if from >= to {
		return nil
	}
	begin := from
	for begin > 0 && (strings.TrimSpace(t.Lines[begin]) == "" || t.inBlockText(begin)) {
		begin--
	}
	if start, open := t.flowStart(Place{begin, 0}); open {
		begin = start.Line
	}
	k := tokens{t: t, levels: []level{{}}, blocked: -1}
	l := parseLine(t.Lines[begin])
	column := l.column
	if len(l.dashes) > 0 {
		column = l.dashes[0]
	}
	for _, step := range t.wayUp(begin, column, len(l.dashes) > 0) {
		if step.Item {
			k.item(step.At.Column)
			continue
		}
		if k.top().indent < step.At.Column {
			k.open(step.At.Column, 0)
		}
		k.top().last = step.Key
	}
	for n := begin; n < to; n++ {
		if n == from {
			k.out = nil
		}
		k.line(n)
	}
	return k.out
}

// tokens reads tokens line by line.
type tokens struct {
	t       *Text
	levels  []level
	blocked int // the column of a key whose value is a text of several lines
	quote   byte
	out     []Token
}

func (k *tokens) top() *level { return &k.levels[len(k.levels)-1] }

func (k *tokens) add(line, from, to int, kind TokenKind) *Token {
	k.out = append(k.out, Token{Range: Range{Place{line, from}, Place{line, to}}, Kind: kind})
	return &k.out[len(k.out)-1]
}

// line reads one line.
func (k *tokens) line(n int) {
	line := k.t.Lines[n]
	indent := indentOf(line)
	if indent == len(line) {
		return
	}
	if k.blocked >= 0 && indent > k.blocked {
		k.add(n, indent, len(line), StringToken)
		return
	}
	k.blocked = -1
	i := indent
	if k.top().flow == 0 && k.quote == 0 {
		if strings.HasPrefix(line, "---") || line[0] == '%' {
			k.add(n, 0, len(line), DirectiveToken)
			return
		}
		l := parseLine(line)
		column := l.column
		for len(k.levels) > 1 && k.top().indent > l.indent {
			k.levels = k.levels[:len(k.levels)-1]
		}
		for _, d := range l.dashes {
			for len(k.levels) > 1 && k.top().indent > d {
				k.levels = k.levels[:len(k.levels)-1]
			}
			k.item(d)
		}
		i = column
		if l.colon >= 0 {
			if k.top().indent < column {
				k.open(column, 0)
			}
			if value := line[l.rest:l.end]; isBlockText(strings.TrimSpace(value)) {
				k.blocked = l.indent
			}
		}
	}
	k.words(n, line, i)
}

// item enters the list whose dash is at a column.
func (k *tokens) item(column int) {
	if k.top().indent < column || len(k.levels) == 1 || k.top().last != "" {
		k.open(column, 0)
	}
}

// open enters the map, or the list, that is the value of the last key.
func (k *tokens) open(indent int, flow byte) {
	p := k.top()
	l := level{indent: indent, flow: flow, section: p.section}
	switch key := p.last; {
	case p.names: // a definition
		l.free = false
	case key == "" && len(k.levels) > 1: // an item, or a map in a map
		l.names, l.free = p.names, p.free
		l.last = ""
		if p.flow == '[' || p.section == "policies" && !p.free && !p.names {
			l.names = p.section == "policies" && !p.free && flow != '['
		}
	case strings.HasPrefix(key, "$") || p.free:
		l.free = true
	case strings.HasSuffix(p.section, "_types") && (key == "properties" || key == "attributes" || key == "capabilities"):
		l.names = true
	case named[key] || key == "artifacts" || key == "operations":
		l.names, l.section = true, key
		if key == "policies" {
			l.names = false
		}
	case key == "properties" || key == "attributes" || key == "metadata" || key == "requirements" || key == "capabilities" ||
		key == "interfaces" || key == "tags" || key == "dsl_definitions" || key == "value" || key == "default" ||
		key == "validation" || key == "node_filter" || key == "count":
		l.free, l.section = true, key
	case key == "inputs":
		l.names, l.section = true, key
	}
	k.levels = append(k.levels, l)
}

// words reads what stands in a line from a column on.
func (k *tokens) words(n int, line string, i int) {
	for i < len(line) {
		c := line[i]
		if k.quote != 0 {
			i = k.quoted(n, line, i, i)
			continue
		}
		switch {
		case c == ' ' || c == '\t' || c == ',' || c == ':' && (i+1 == len(line) || line[i+1] == ' '):
			if c == ',' && k.top().flow != 0 {
				k.top().list++
				if k.top().flow == '{' {
					k.top().last = ""
				}
			}
			i++
		case c == '#' && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t'):
			k.add(n, i, len(line), CommentToken)
			return
		case c == '{' || c == '[':
			k.open(1<<20, c)
			i++
		case c == '}' || c == ']':
			if k.top().flow != 0 {
				k.levels = k.levels[:len(k.levels)-1]
			}
			i++
		case (c == '"' || c == '\''):
			k.quote = c
			i = k.quoted(n, line, i, i+1)
		default:
			i = k.plain(n, line, i)
		}
	}
}

// quoted reads a text in quotes up to its end, or that of the line.
func (k *tokens) quoted(n int, line string, from, i int) int {
	for ; i < len(line); i++ {
		if line[i] == '\\' && k.quote == '"' {
			i++
		} else if line[i] == k.quote {
			k.quote = 0
			i++
			break
		}
	}
	i = min(i, len(line))
	if k.quote == 0 && isKey(line, i) {
		k.key(n, from, i, strings.Trim(line[from:i], `"'`))
	} else {
		k.add(n, from, i, StringToken)
	}
	return i
}

// isKey reports whether a colon stands behind a word.
func isKey(line string, i int) bool {
	for i < len(line) && line[i] == ' ' {
		i++
	}
	return i < len(line) && line[i] == ':' && (i+1 == len(line) || strings.IndexByte(" ,}]", line[i+1]) >= 0)
}

// plain reads a word without quotes.
func (k *tokens) plain(n int, line string, from int) int {
	i := from
	for i < len(line) {
		c := line[i]
		if c == ':' && (i+1 == len(line) || line[i+1] == ' ') || c == '#' && line[i-1] == ' ' ||
			k.top().flow != 0 && strings.IndexByte(",{}[]", c) >= 0 {
			break
		}
		i++
	}
	to := from + len(strings.TrimRight(line[from:i], " "))
	if to == from { // a sign that stands alone
		return from + 1
	}
	word := line[from:to]
	if isKey(line, to) {
		k.key(n, from, to, word)
	} else if word != "-" {
		k.value(n, from, to, word)
	}
	return max(i, from+1)
}

func (k *tokens) key(n, from, to int, word string) {
	l := k.top()
	l.last = word
	switch {
	case strings.HasPrefix(word, "$"):
		k.add(n, from, to, FunctionToken)
	case l.names:
		kind := NodeToken
		switch {
		case l.section == "inputs":
			kind = InputToken
		case strings.HasSuffix(l.section, "_types") && len(k.levels) <= 2:
			kind = TypeToken
		case strings.HasSuffix(l.section, "_types"):
			kind = PropertyToken
		}
		k.add(n, from, to, kind).Defines = true
	case l.free:
		k.add(n, from, to, PropertyToken)
	default:
		k.add(n, from, to, KeywordToken)
	}
}

func (k *tokens) value(n, from, to int, word string) {
	l := k.top()
	key := l.last
	call := "" // the function whose argument it is
	if l.flow == '[' && len(k.levels) > 1 {
		call = k.levels[len(k.levels)-2].last
	}
	switch {
	case strings.HasPrefix(word, "$") && !strings.HasPrefix(word, "$$"):
		k.add(n, from, to, FunctionToken)
	case numberWord.MatchString(word):
		k.add(n, from, to, NumberToken)
	case word == "true" || word == "false" || word == "null" || word == "~":
		k.add(n, from, to, LiteralToken)
	case key == "$get_input" || call == "$get_input" && l.list == 0:
		k.add(n, from, to, InputToken)
	case (call == "$get_property" || call == "$get_attribute" || call == "$get_artifact") && l.list == 0,
		call == "targets" || call == "members", l.section == "requirements" && (!strings.HasPrefix(key, "$")) && key != "":
		k.add(n, from, to, NodeToken)
	case !l.free && (key == "type" || key == "derived_from" || key == "node_type" || key == "profile" ||
		key == "capability" || key == "relationship"):
		k.add(n, from, to, TypeToken)
	default:
		k.add(n, from, to, StringToken)
	}
}
