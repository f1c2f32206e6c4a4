package tui

import (
	"image/color"
	"strings"

	"github.com/alecthomas/chroma/v2"
)

// tokenColor is the colour of a piece of the template.
func tokenColor(t *theme, p token) color.Color {
	switch {
	case strings.HasPrefix(p.text, "$") && !p.kind.InCategory(chroma.Comment):
		return t.call
	case p.kind == chroma.NameTag:
		return t.key
	case p.kind.InCategory(chroma.Comment):
		return t.comment
	case p.kind.InSubCategory(chroma.LiteralString):
		return t.str
	case p.kind.InSubCategory(chroma.LiteralNumber), p.kind == chroma.KeywordConstant:
		return t.num
	case p.kind == chroma.Punctuation:
		return t.dim
	}
	return t.text
}
