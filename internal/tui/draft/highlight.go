package draft

import (
	"image/color"
	"regexp"
	"strings"
	"sync"

	"brickrow/internal/tui/part"

	"github.com/alecthomas/chroma/v2"
)

// source is a text to show, in lines. Making one is quick and may be done
// anywhere; the colours of a line are found when it is drawn.
type source struct {
	lines []string
	in    []lineState // what each line begins in
}

// lineState is what a line of YAML begins in.
type lineState uint8

const (
	inBlock   lineState = iota // where keys stand
	inFlow                     // within brackets
	inLiteral                  // within a text that | or > begins
)

// newSource splits a text into lines, and finds out what each begins in.
func newSource(text string) source {
	text = strings.TrimSuffix(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	s := source{lines: strings.Split(strings.ReplaceAll(text, "\t", "    "), "\n")}
	s.in = make([]lineState, len(s.lines))
	depth, literal := 0, -1 // of brackets; the indentation above a literal text
	for i, line := range s.lines {
		indent := len(line) - len(strings.TrimLeft(line, " "))
		switch {
		case literal >= 0 && (indent > literal || indent == len(line)):
			s.in[i] = inLiteral
			continue
		case depth > 0:
			s.in[i] = inFlow
		}
		literal = -1
		if depth == 0 && !strings.ContainsAny(line, `[{|>`) {
			continue
		}
		quote, last := byte(0), byte(' ')
	scan:
		for j := 0; j < len(line); j++ {
			c := line[j]
			switch {
			case quote == '"' && c == '\\':
				j++
			case quote != 0:
				if c == quote {
					quote = 0
				}
			case c == '#' && last == ' ':
				break scan
			case (c == '"' || c == '\'') && strings.IndexByte(" [{,:", last) >= 0:
				quote = c
			case (c == '[' || c == '{') && (depth > 0 || last == ' '):
				depth++
			case (c == ']' || c == '}') && depth > 0:
				depth--
			}
			last = c
		}
		if depth == 0 && strings.ContainsAny(line, "|>") && literalHead.MatchString(line) {
			literal = indent
		}
	}
	return s
}

// literalHead is the line above a literal text.
var literalHead = regexp.MustCompile(`[:-] +[|>][-+\d]* *( #.*)?$`)

// token is a piece of a line, before the theme is known.
type token struct {
	kind chroma.TokenType
	text string
}

// highlighter finds the colours of lines, and remembers them.
type highlighter map[lineKey][]token

type lineKey struct {
	in   lineState
	line string
}

// most is how many lines a highlighter remembers.
const most = 20_000

// line is a line of a source in pieces.
func (h *highlighter) line(s source, n int) []token {
	key := lineKey{s.in[n], s.lines[n]}
	if out, ok := (*h)[key]; ok {
		return out
	}
	if *h == nil || len(*h) > most {
		*h = highlighter{}
	}
	(*h)[key] = highlight(key.in, key.line)
	return (*h)[key]
}

// templates reads the lines of a YAML file one by one.
var templates = sync.OnceValue(func() chroma.Lexer {
	call, scalar := chroma.NameFunction, `(?=\s*([,}\]#]|$))`
	common := func(plain, key string) []chroma.Rule {
		return []chroma.Rule{
			{Pattern: `\s+`, Type: chroma.TextWhitespace},
			{Pattern: `(?<=^|\s)#.*`, Type: chroma.CommentSingle},
			{Pattern: `(---|\.\.\.)(?=\s|$)`, Type: chroma.Punctuation},
			{Pattern: `\$[a-z_]+`, Type: call},
			{Pattern: `("(\\.|[^"\\])*"|'([^']|'')*')(?=\s*:(\s|$))`, Type: chroma.NameTag},
			{Pattern: `"(\\.|[^"\\])*"?|'([^']|'')*'?`, Type: chroma.LiteralString},
			{Pattern: `[&*!][^\s,\[\]{}]+`, Type: chroma.NameLabel},
			{Pattern: `[-?:](?=\s|$)`, Type: chroma.Punctuation},
			{Pattern: key + `(?=\s*:(\s|$))`, Type: chroma.NameTag},
			{Pattern: `[-+]?\d+(\.\d+)?` + scalar, Type: chroma.LiteralNumber},
			{Pattern: `(true|false|null|~)` + scalar, Type: chroma.KeywordConstant},
			{Pattern: `[|>][-+\d]*(?=\s*(#|$))`, Type: chroma.Punctuation},
			{Pattern: plain, Type: chroma.Text},
		}
	}
	into := []chroma.Rule{{Pattern: `[\[{]`, Type: chroma.Punctuation, Mutator: chroma.Push("flow")}}
	return chroma.MustNewLexer(&chroma.Config{Name: "template"}, func() chroma.Rules {
		return chroma.Rules{
			"root": append(into, common(`\S+( +[^#\s]\S*)*`,
				`(?<=^[ ?-]*)[^\s"'\[{#&*!|>][^\s:]*( +[^\s:#][^\s:]*)*`)...),
			"flow": append(append(into, chroma.Rule{Pattern: `[\]}]`, Type: chroma.Punctuation,
				Mutator: chroma.Pop(1)}, chroma.Rule{Pattern: `,`, Type: chroma.Punctuation}),
				common(`[^\s,\[\]{}]+( +[^\s,\[\]{}#][^\s,\[\]{}]*)*`, `[^\s"'\[\]{},#&*!][^\s:,\[\]{}]*`)...),
		}
	})
})

// callPattern is the name of a function in a template.
var callPattern = regexp.MustCompile(`\$[a-z_]+`)

// highlight splits a line into coloured pieces.
func highlight(in lineState, line string) []token {
	if in == inLiteral || line == "" {
		return pieces(chroma.LiteralStringDoc, line)
	}
	state := map[lineState]string{inBlock: "root", inFlow: "flow"}[in]
	it, err := templates().Tokenise(&chroma.TokeniseOptions{State: state}, line)
	if err != nil {
		return []token{{chroma.Text, line}}
	}
	var out []token
	for t := range it.Stdlib() {
		out = append(out, pieces(t.Type, t.Value)...)
	}
	return out
}

// pieces splits a token so that the names of functions stand alone.
func pieces(kind chroma.TokenType, text string) []token {
	var out []token
	add := func(s string) {
		if s != "" {
			out = append(out, token{kind, s})
		}
	}
	for !kind.InCategory(chroma.Comment) {
		at := callPattern.FindStringIndex(text)
		if at == nil {
			break
		}
		add(text[:at[0]])
		add(text[at[0]:at[1]])
		text = text[at[1]:]
	}
	add(text)
	return out
}

// tokenColor is the colour of a piece of the template.
func tokenColor(t *part.Theme, p token) color.Color {
	switch {
	case strings.HasPrefix(p.text, "$") && !p.kind.InCategory(chroma.Comment):
		return t.Call
	case p.kind == chroma.NameTag:
		return t.Key
	case p.kind.InCategory(chroma.Comment):
		return t.Comment
	case p.kind.InSubCategory(chroma.LiteralString):
		return t.Str
	case p.kind.InSubCategory(chroma.LiteralNumber), p.kind == chroma.KeywordConstant:
		return t.Num
	case p.kind == chroma.Punctuation:
		return t.Dim
	}
	return t.Text
}
