package assist

import (
	"maps"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"

	"go.yaml.in/yaml/v4"
)

// FileKind tells what a file is.
type FileKind string

// The kinds of files that assist knows.
const (
	Template  FileKind = "template"
	StackFile FileKind = "stack file"
	Rules     FileKind = "rules"
	FleetFile FileKind = "fleet file"
	OtherFile FileKind = ""
)

// Symbol is something in a file that has a name.
type Symbol struct {
	Section string // such as node_templates, in which it stands
	Name    string
	Type    string // as it is written; "" where it has none
	Count   bool   // it is several alike
	At      Place  // of the name
	To      int    // the line behind its last one

	before scope // what the reader knew in front of it
	block  bool  // its name is the first thing on its line
}

// Outline is what a text defines, found by its lines alone.
type Outline struct {
	Kind    FileKind
	Symbols []*Symbol
	roots   Keys // the keys at the root, with short values
	asked   atomic.Int32
	index   sync.Once
	by      map[[2]string]*Symbol
}

// fewAsked is how often it is looked through before an index is made.
const fewAsked = 24

// Symbol finds one by its section and name; nil where there is none.
func (o *Outline) Symbol(section, name string) *Symbol {
	if o.asked.Add(1) < fewAsked { // a text that is written is asked little before it is another one
		for _, s := range o.Symbols {
			if s.Name == name && s.Section == section {
				return s
			}
		}
		return nil
	}
	o.index.Do(func() {
		o.by = make(map[[2]string]*Symbol, len(o.Symbols))
		for i := len(o.Symbols) - 1; i >= 0; i-- { // of several the first
			s := o.Symbols[i]
			o.by[[2]string{s.Section, s.Name}] = s
		}
	})
	return o.by[[2]string{section, name}]
}

// Of lists the symbols of a section.
func (o *Outline) Of(section string) []*Symbol {
	var out []*Symbol
	for _, s := range o.Symbols {
		if s.Section == section {
			out = append(out, s)
		}
	}
	return out
}

// Root is a short value at the root.
func (o *Outline) Root(key string) string { return o.roots[key] }

// named are the sections whose keys are names: at the root, and in the service
// template.
var named = map[string]bool{"inputs": true, "node_templates": true, "outputs": true, "groups": true,
	"relationship_templates": true, "policies": true,
	"data_types": true, "node_types": true, "capability_types": true, "relationship_types": true,
	"interface_types": true, "artifact_types": true, "group_types": true, "policy_types": true, "functions": true,
	"repositories": true}

var (
	typeInLine  = regexp.MustCompile(`[{,]\s*(?:type|derived_from):\s*["']?([^\s,}"']+)`)
	countInLine = regexp.MustCompile(`[{,]\s*count:`)
)

// scope is where a reader of an outline is: in which section, and at which columns its
// key and its names stand.
type scope struct {
	section           string
	sectionAt, nameAt int
	service           bool // within the service template
	serviceAt         int
}

// outliner reads an outline line by line.
type outliner struct {
	scope
	t       *Text
	o       *Outline
	now     *Symbol
	inside  int // the column of the keys of a symbol
	blocked int // the column of a key whose value is a text of several lines
	read    int // the line up to which names in brackets were read
	// known are the symbols of a former outline that may be behind, by their lines; one
	// that is met in the same scope ends the reading.
	known func(line int, in scope) bool
}

// Outline reads what a text defines.
func (t *Text) Outline() *Outline {
	o := &Outline{roots: Keys{}}
	r := outliner{t: t, o: o, scope: scope{sectionAt: -1, nameAt: -1}, inside: -1, blocked: -1}
	r.lines(0)
	o.Kind = o.kind()
	return o
}

// OutlineAfter reads what a text defines that came of another one, whose outline is
// known: only where it differs.
func (t *Text) OutlineAfter(was *Text, old *Outline) *Outline {
	same := 0
	for same < min(len(t.Lines), len(was.Lines)) && t.Lines[same] == was.Lines[same] {
		same++
	}
	tail := 0
	for tail < min(len(t.Lines), len(was.Lines))-same &&
		t.Lines[len(t.Lines)-1-tail] == was.Lines[len(was.Lines)-1-tail] {
		tail++
	}
	for _, text := range []*Text{t, was} {
		for _, line := range text.Lines[same : len(text.Lines)-tail] {
			if line != "" && line[0] != ' ' && line[0] != '#' { // a key at the root
				return t.Outline()
			}
		}
	}
	from := sort.Search(len(old.Symbols), func(i int) bool { return old.Symbols[i].At.Line >= same }) - 1
	for from >= 0 && !old.Symbols[from].block {
		from--
	}
	if from < 0 {
		return t.Outline()
	}
	s := old.Symbols[from]
	o := &Outline{Kind: old.Kind, roots: maps.Clone(old.roots), Symbols: slices.Clone(old.Symbols[:from])}
	r := outliner{t: t, o: o, scope: s.before, inside: -1, blocked: -1}
	shift, behind := len(t.Lines)-len(was.Lines), len(was.Lines)-tail
	next := from
	r.known = func(line int, in scope) bool {
		for next < len(old.Symbols) && (old.Symbols[next].At.Line < behind || old.Symbols[next].At.Line+shift < line) {
			next++
		}
		return next < len(old.Symbols) && old.Symbols[next].At.Line+shift == line && old.Symbols[next].block &&
			old.Symbols[next].before == in
	}
	if r.lines(s.At.Line) {
		return o
	}
	for _, s := range old.Symbols[next:] {
		if shift != 0 {
			moved := *s
			moved.At.Line += shift
			moved.To += shift
			s = &moved
		}
		o.Symbols = append(o.Symbols, s)
	}
	return o
}

// closed ends the symbol that is being read.
func (r *outliner) closed(line int) {
	if r.now != nil {
		r.now.To, r.now = line, nil
	}
	r.inside = -1
}

// begin enters a section, whose names may stand in brackets behind its key.
func (r *outliner) begin(section string, column, line int, l parsed) {
	r.section, r.sectionAt, r.nameAt = section, column, -1
	r.read = r.t.inlineNames(r.o, section, line, l.rest)
}

// lines reads from a line on. It is false where it met what is known already.
func (r *outliner) lines(from int) bool {
	for n := from; n < len(r.t.Lines); n++ {
		line := r.t.Lines[n]
		indent := indentOf(line)
		if n < r.read || indent == len(line) || line[indent] == '#' || r.blocked >= 0 && indent > r.blocked {
			continue
		}
		r.blocked = -1
		if r.now != nil && indent > r.nameAt && r.inside >= 0 && indent > r.inside {
			if i := strings.LastIndexAny(line, "|>"); i >= 0 && len(line)-i <= 3 { // a text may begin
				if l := parseLine(line); l.colon >= 0 && isBlockText(line[l.rest:l.end]) {
					r.blocked = l.indent
				}
			}
			continue
		}
		l := parseLine(line)
		if l.blank() || strings.HasPrefix(line, "---") {
			continue
		}
		value := ""
		if l.colon >= 0 {
			value = strings.TrimSpace(line[l.rest:l.end])
			if isBlockText(value) {
				r.blocked = l.indent
			}
		}
		switch {
		case indent == 0 && len(l.dashes) == 0 && l.colon >= 0:
			r.closed(n)
			r.o.roots[l.key] = strings.Trim(value, `"'`)
			r.section, r.service = "", l.key == "service_template"
			if named[l.key] && !r.service {
				r.begin(l.key, 0, n, l)
			}
			r.serviceAt = -1
		case r.service && (r.serviceAt < 0 || indent == r.serviceAt) && len(l.dashes) == 0 && l.colon >= 0:
			r.closed(n)
			r.serviceAt, r.section = indent, ""
			if named[l.key] {
				r.begin(l.key, indent, n, l)
			}
		case r.section != "" && (indent > r.sectionAt || len(l.dashes) > 0 && indent == r.sectionAt) &&
			(r.nameAt < 0 || l.column <= r.nameAt) && l.colon >= 0:
			r.closed(n)
			if r.known != nil && r.known(n, r.scope) {
				return false
			}
			r.now = &Symbol{Section: r.section, Name: l.key, At: Place{n, l.column}, To: n + 1, before: r.scope, block: true}
			r.nameAt = l.column
			if m := typeInLine.FindStringSubmatch(line[l.rest:]); m != nil {
				r.now.Type = m[1]
			}
			r.now.Count = countInLine.MatchString(line[l.rest:])
			r.o.Symbols = append(r.o.Symbols, r.now)
		case r.now != nil && l.colon >= 0 && (r.inside < 0 || l.column == r.inside):
			r.inside = l.column
			switch l.key {
			case "type", "derived_from", "node_type":
				if r.now.Type == "" || l.key == "type" {
					r.now.Type = strings.Trim(value, `"'`)
				}
			case "count":
				r.now.Count = true
			}
		}
	}
	r.closed(len(r.t.Lines))
	return true
}

// kind tells what a file is by its keys.
func (o *Outline) kind() FileKind {
	has := func(keys ...string) bool {
		for _, k := range keys {
			if _, ok := o.roots[k]; ok {
				return true
			}
		}
		return false
	}
	switch {
	case has("tosca_definitions_version", "service_template", "node_types", "data_types"):
		return Template
	case has("fleet"):
		return FleetFile
	case has("stack", "template", "target"):
		return StackFile
	case has("rules", "tests"):
		return Rules
	}
	return OtherFile
}

// inlineNames reads the names of a section that is written in brackets, and yields
// the line behind it.
func (t *Text) inlineNames(o *Outline, section string, line, column int) (read int) {
	if !startsFlow(t.Lines[line], column) {
		return 0
	}
	f := flowScan{t: t}
	end := line
	for ; end < len(t.Lines) && end-line < mostFlow; end++ {
		from := 0
		if end == line {
			from = column
		}
		if !f.line(end, min(from, len(t.Lines[end])), len(t.Lines[end])) {
			break
		}
	}
	end = min(end, len(t.Lines)-1)
	body := strings.Repeat(" ", column) + t.Slice(Range{Place{line, column}, Place{end, len(t.Lines[end])}})
	var doc yaml.Node
	if yaml.Unmarshal([]byte(body), &doc) != nil || len(doc.Content) == 0 {
		return 0
	}
	maps := []*yaml.Node{doc.Content[0]}
	if doc.Content[0].Kind == yaml.SequenceNode {
		maps = doc.Content[0].Content
	}
	for _, m := range maps {
		if m.Kind != yaml.MappingNode {
			continue
		}
		for i := 0; i+1 < len(m.Content); i += 2 {
			k, v := m.Content[i], m.Content[i+1]
			s := &Symbol{Section: section, Name: k.Value, At: Place{line + k.Line - 1, k.Column - 1}, To: end + 1}
			for j := 0; v.Kind == yaml.MappingNode && j+1 < len(v.Content); j += 2 {
				switch v.Content[j].Value {
				case "type", "derived_from":
					s.Type = v.Content[j+1].Value
				case "count":
					s.Count = true
				}
			}
			o.Symbols = append(o.Symbols, s)
		}
	}
	return end + 1
}
