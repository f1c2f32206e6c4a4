package tosca

import (
	"bytes"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Patch is a template of which one node has changed since it was read. While somebody
// writes, that is what nearly every letter does; all else is taken over as it is.
type Patch struct {
	File     *File
	Was, Now *NodeTemplate
	// Moved says how the lines of all else are other ones now; nil where they are not.
	Moved *Moved
	lines [2]int // of the node, the first and the one behind its last, before
	found Findings
}

// Moved says how many lines lower all stands that is behind a node, in a file that was
// read in part: there every place has the line that it had before. In the node itself, a
// line beyond those that it had is written with a minus.
type Moved struct {
	File     string
	From, By int
}

// Pos is where a place is now. m may be nil.
func (m *Moved) Pos(p Pos) Pos {
	switch {
	case m == nil || p.File != m.File:
	case p.Line < 0:
		p.Line = -p.Line
	case p.Line >= m.From:
		p.Line += m.By
	}
	return p
}

// Findings are those of the reading, given those of the reading before.
func (p *Patch) Findings(before Findings) Findings {
	out := make(Findings, 0, len(before)+len(p.found))
	for _, f := range before {
		if f.File != p.File.Name || f.Line < p.lines[0] || f.Line >= p.lines[1] {
			out = append(out, f)
		}
	}
	return append(out, p.found...)
}

// ReadPatch reads a template anew of which the text before is known, where all that
// differs is within one node, and nothing but its values; it may have more lines then, or
// fewer. It is false where that cannot be told at once: the template has to be read then.
func ReadPatch(old *File, before, now []byte, src Source) (*Patch, bool) {
	s := old.Service
	if s == nil || len(now) > MaxBytes || bytes.ContainsRune(now, '\r') || bytes.ContainsRune(before, '\r') {
		return nil, false
	}
	same := commonPrefix(before, now)
	tail := commonSuffix(before[same:], now[same:])
	if same == len(before) && same == len(now) {
		return nil, false
	}
	line := bytes.Count(now[:same], []byte("\n")) + 1
	i := sort.Search(len(s.Nodes), func(i int) bool { return s.Nodes[i].Line > line }) - 1
	var n *NodeTemplate
	var was, piece []byte
	for most := max(i-1, 0); i >= most; i-- { // at the beginning of one, it may be the end of the one in front
		from := lineStart(now, same, line, s.Nodes[i].Line)
		if from < 0 || from > same {
			return nil, false
		}
		var ok, ok2 bool
		was, ok = blockAt(before[from:], s.Nodes[i].Column-1)
		piece, ok2 = blockAt(now[from:], s.Nodes[i].Column-1)
		if ok && ok2 && len(before)-tail <= from+len(was) && len(now)-tail <= from+len(piece) {
			n = s.Nodes[i]
			break
		}
	}
	if n == nil || bytes.IndexByte(piece, '\t') >= 0 {
		return nil, false
	}
	lines := bytes.Count(was, []byte("\n"))
	more := bytes.Count(piece, []byte("\n")) - lines
	tree := parseOne(piece)
	if tree == nil || tree.Kind != yaml.MappingNode || len(tree.Content) != 2 || anchored(tree) ||
		bytes.IndexByte(was, '&') >= 0 && anchored(parseOne(was)) {
		return nil, false
	}
	shift(tree, n.Line-1)
	if more > 0 {
		mark(tree, n.Line+lines)
	}
	if src.Entry == "" {
		src.Entry = filepath.Base(old.Name)
	}
	sh := &shared{src: src, root: strings.TrimSuffix(old.Name, filepath.FromSlash(src.Entry)), files: map[string]*File{}}
	r := &reader{file: old.Name, path: old.Path, main: true, shared: sh, out: old, lib: old.Library, budget: 10_000 + 8*len(piece)}
	beside := &ServiceTemplate{byName: map[string]*NodeTemplate{}}
	m := r.node(field{tree.Content[0], tree.Content[1]}, beside)
	if m == nil || r.stopped || len(beside.Nodes) > 0 {
		return nil, false
	}
	if m.Def = old.Library.Nodes[m.Type]; !alikeButForValues(n, m) ||
		slices.ContainsFunc(s.Nodes, func(n *NodeTemplate) bool { return n.Copy != nil || n.For != "" }) {
		return nil, false
	}
	f, service := *old, *s
	service.Nodes, service.byName = slices.Clone(s.Nodes), maps.Clone(s.byName)
	service.Nodes[i], service.byName[m.Name] = m, m
	f.Service = &service
	p := &Patch{File: &f, Was: n, Now: m, lines: [2]int{n.Line, n.Line + lines}, found: sh.findings}
	if more != 0 {
		p.Moved = &Moved{old.Name, p.lines[1], more}
	}
	return p, true
}

// mark gives places from a line on that line with a minus.
func mark(n *yaml.Node, from int) {
	if n.Line >= from {
		n.Line = -n.Line
	}
	for _, c := range n.Content {
		mark(c, from)
	}
}

// alikeButForValues reports whether two readings of a node differ in nothing but the
// values of its properties and what it rests on.
func alikeButForValues(n, m *NodeTemplate) bool {
	plain := func(n *NodeTemplate) bool {
		return n.Def != nil && !n.lost && n.Copy == nil && n.Filter == nil && len(n.Directives) == 0 && len(n.Artifacts) == 0 &&
			len(n.Interfaces) == 0
	}
	return plain(n) && plain(m) && n.Name == m.Name && n.Def == m.Def && n.Pos == m.Pos && sameExpr(n.Count, m.Count) &&
		maps.Equal(n.Metadata, m.Metadata)
}

// sameExpr reports whether two expressions mean the same, by what is written.
func sameExpr(a, b *Expr) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Kind == b.Kind && a.Name == b.Name && a.Raw == b.Raw && reflect.TypeOf(a.Value) == reflect.TypeOf(b.Value) &&
		slices.EqualFunc(a.Keys, b.Keys, func(a, b Key) bool { return a.Name == b.Name }) && slices.EqualFunc(a.Args, b.Args, sameExpr)
}

// anchored reports whether a tree has anchors or aliases.
func anchored(n *yaml.Node) bool {
	return n == nil || n.Anchor != "" || n.Kind == yaml.AliasNode || n.Tag == "!!merge" || slices.ContainsFunc(n.Content, anchored)
}

// blockAt is the entry of a block map that a text begins with, whose key is indented by
// some columns: the lines that belong to it, blank ones behind them too.
func blockAt(text []byte, indent int) ([]byte, bool) {
	for at, first := 0, true; at < len(text); first = false {
		next := len(text)
		if n := bytes.IndexByte(text[at:], '\n'); n >= 0 {
			next = at + n + 1
		}
		line := text[at:next]
		depth := indentOf(line)
		body := line[min(depth, len(line)):]
		switch {
		case first && depth != indent:
			return nil, false
		case first, len(body) == 0 || body[0] == '\n' || body[0] == '#' || depth > indent:
		default:
			return text[:at], true
		}
		at = next
	}
	return text, bytes.HasSuffix(text, []byte("\n"))
}

// lineStart is where a line begins, given that an offset lies in another, later one.
func lineStart(text []byte, offset, line, want int) int {
	at := bytes.LastIndexByte(text[:offset], '\n') + 1
	for ; line > want; line-- {
		if at == 0 {
			return -1
		}
		at = bytes.LastIndexByte(text[:at-1], '\n') + 1
	}
	return at
}

// chunk is how much is compared at a time.
const chunk = 4096

func commonPrefix(a, b []byte) int {
	most := min(len(a), len(b))
	n := 0
	for n+chunk <= most && bytes.Equal(a[n:n+chunk], b[n:n+chunk]) {
		n += chunk
	}
	for n < most && a[n] == b[n] {
		n++
	}
	return n
}

func commonSuffix(a, b []byte) int {
	most := min(len(a), len(b))
	n := 0
	for n+chunk <= most && bytes.Equal(a[len(a)-n-chunk:len(a)-n], b[len(b)-n-chunk:len(b)-n]) {
		n += chunk
	}
	for n < most && a[len(a)-1-n] == b[len(b)-1-n] {
		n++
	}
	return n
}
