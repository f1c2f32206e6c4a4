package tosca

import (
	"bytes"
	"errors"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// ParseYAML parses text into its root node, or reports why it cannot and
// yields nil.
func ParseYAML(file string, text []byte, findings *Findings) *yaml.Node {
	if !fitToRead(file, text, findings) {
		return nil
	}
	return parseWhole(file, text, findings)
}

// fitToRead reports what makes a text unfit to be parsed at all.
func fitToRead(file string, text []byte, findings *Findings) bool {
	whole := Pos{File: file, Line: 1, Column: 1}
	switch {
	case len(text) > MaxBytes:
		findings.Errorf(whole, "too-large", "split it", "the file has %d MiB; up to %d MiB are read", len(text)>>20,
			MaxBytes>>20)
		return false
	case !utf8.Valid(text):
		findings.Errorf(whole, "not-text", "save it as UTF-8", "the file is not UTF-8 text")
		return false
	}
	if p, deep := nestsTooDeep(text); deep {
		p.File = file
		findings.Errorf(p, "too-deep", "", "the file nests more than %d levels deep", maxDepth)
		return false
	}
	return true
}

func parseWhole(file string, text []byte, findings *Findings) *yaml.Node {
	whole := Pos{File: file, Line: 1, Column: 1}
	decoder := yaml.NewDecoder(bytes.NewReader(sameVersion(text)))
	var doc yaml.Node
	if err := decoder.Decode(&doc); err != nil && len(bytes.TrimSpace(text)) > 0 {
		at := whole
		message, fix := err.Error(), ""
		var le *yaml.LoadError
		if errors.As(err, &le) && le.Mark.Line > 0 {
			at.Line, at.Column, message = le.Mark.Line, max(1, le.Mark.Column), le.Message
		}
		if strings.Contains(message, "tab") {
			fix = "indent with spaces"
		}
		if errors.Is(err, io.EOF) {
			findings.Errorf(whole, "empty-file", "", "there is nothing but comments in the file")
			return nil
		}
		findings.Errorf(at, "not-yaml", fix, "this is not YAML: %s", message)
		return nil
	}
	if len(doc.Content) == 0 {
		findings.Errorf(whole, "empty-file", "", "the file is empty")
		return nil
	}
	var second yaml.Node
	if decoder.Decode(&second) == nil && len(second.Content) > 0 {
		findings.Errorf(Pos{file, second.Content[0].Line, 1}, "several-documents", "keep one document in a file",
			"a second YAML document begins here")
	}
	return doc.Content[0]
}

// versionLine is the directive that says which YAML a file is written in.
var versionLine = regexp.MustCompile(`(?m)\A(\xef\xbb\xbf)?((?:[#%].*\n|[ \t]*\r?\n)*?%YAML[ \t]+1\.)[2-9]`)

// sameVersion makes the directive of YAML 1.2, or of a later 1.x, one that the
// parser takes; it reads all of them alike. Places stay as they are.
func sameVersion(text []byte) []byte {
	at := versionLine.FindSubmatchIndex(text)
	if at == nil {
		return text
	}
	text = bytes.Clone(text)
	text[at[5]] = '1'
	return text
}

// nestsTooDeep looks for runs of opening brackets or of indentation that the
// parser would spend its time on.
func nestsTooDeep(text []byte) (Pos, bool) {
	depth, line, quote := 0, 1, byte(0)
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\n':
			line++
			if quote == 0 && depth < 0 {
				depth = 0
			}
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && i > 0 && strings.IndexByte(" [{,:", text[i-1]) >= 0:
			quote = c
		case c == '[' || c == '{':
			depth++
		case (c == ']' || c == '}') && depth > 0:
			depth--
		}
		if depth > 20*maxDepth {
			return Pos{Line: line, Column: 1}, true
		}
	}
	return Pos{}, false
}

// Entry is one entry of a YAML map, for readers of other formats.
type Entry struct {
	Key  Key
	Node *yaml.Node
	Pos  // of the value
}

// Entries lists the entries of a map in a file that is not a template, with
// the same care for doubled keys; what is the thing in words.
func Entries(file string, n *yaml.Node, what string, findings *Findings) []Entry {
	r := &reader{file: file, shared: &shared{}}
	fields := r.entries(n, what)
	*findings = append(*findings, r.findings...)
	out := make([]Entry, len(fields))
	for i, f := range fields {
		out[i] = Entry{Key{r.pos(f.key), f.key.Value}, deref(f.value), r.pos(f.value)}
	}
	return out
}

// Plain reads a value in which $ means nothing, as in a stack file.
func Plain(file string, n *yaml.Node, findings *Findings) *Expr {
	r := &reader{file: file, shared: &shared{}, plain: true, budget: 100_000}
	x := r.expr(n)
	*findings = append(*findings, r.findings...)
	return x
}

// Nearest is the known name closest to name; "" where none is close.
func Nearest(name string, known []string) string { return nearest(name, known) }

// Suggest is the fix for a name that is not among those known.
func Suggest(name string, known []string) string { return suggest(name, known) }
