package assist

import (
	"regexp"
	"strings"

	"go.yaml.in/yaml/v4"
)

// FileKind tells what a file is.
type FileKind string

// The kinds of files that assist knows.
const (
	Template  FileKind = "template"
	StackFile FileKind = "stack file"
	Rules     FileKind = "rules"
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
}

// Outline is what a text defines, found by its lines alone.
type Outline struct {
	Kind    FileKind
	Symbols []*Symbol
	roots   Keys // the keys at the root, with short values
	by      map[string]map[string]*Symbol
}

// Symbol finds one by its section and name; nil where there is none.
func (o *Outline) Symbol(section, name string) *Symbol { return o.by[section][name] }

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

// Outline reads what a text defines.
func (t *Text) Outline() *Outline {
	o := &Outline{roots: Keys{}, by: map[string]map[string]*Symbol{}}
	var section string             // in which names stand
	sectionAt, nameAt := -1, -1    // the columns of its key, and of the names
	service, serviceAt := false, 0 // within the service template
	var now *Symbol
	inside := -1  // the column of the keys of a symbol
	blocked := -1 // the column of a key whose value is a text of several lines
	read := 0     // the line up to which names in brackets were read
	closed := func(line int) {
		if now != nil {
			now.To, now = line, nil
		}
		inside = -1
	}
	for n, line := range t.Lines {
		indent := 0
		for indent < len(line) && line[indent] == ' ' {
			indent++
		}
		if n < read || indent == len(line) || line[indent] == '#' || blocked >= 0 && indent > blocked {
			continue
		}
		blocked = -1
		if now != nil && indent > nameAt && inside >= 0 && indent > inside {
			if i := strings.LastIndexAny(line, "|>"); i >= 0 && len(line)-i <= 3 { // a text may begin
				if l := parseLine(line); l.colon >= 0 && isBlockText(line[l.rest:l.end]) {
					blocked = l.indent
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
				blocked = l.indent
			}
		}
		switch {
		case indent == 0 && len(l.dashes) == 0 && l.colon >= 0:
			closed(n)
			o.roots[l.key] = strings.Trim(value, `"'`)
			section, service = "", l.key == "service_template"
			if named[l.key] && !service {
				section, sectionAt, nameAt = l.key, 0, -1
				read = t.inlineNames(o, section, n, l.rest)
			}
			serviceAt = -1
		case service && (serviceAt < 0 || indent == serviceAt) && len(l.dashes) == 0 && l.colon >= 0:
			closed(n)
			serviceAt, section = indent, ""
			if named[l.key] {
				section, sectionAt, nameAt = l.key, indent, -1
				read = t.inlineNames(o, section, n, l.rest)
			}
		case section != "" && (indent > sectionAt || len(l.dashes) > 0 && indent == sectionAt) &&
			(nameAt < 0 || l.column <= nameAt) && l.colon >= 0:
			closed(n)
			nameAt = l.column
			now = &Symbol{Section: section, Name: l.key, At: Place{n, l.column}, To: n + 1}
			if m := typeInLine.FindStringSubmatch(line[l.rest:]); m != nil {
				now.Type = m[1]
			}
			now.Count = countInLine.MatchString(line[l.rest:])
			o.add(now)
		case now != nil && l.colon >= 0 && (inside < 0 || l.column == inside):
			inside = l.column
			switch l.key {
			case "type", "derived_from", "node_type":
				if now.Type == "" || l.key == "type" {
					now.Type = strings.Trim(value, `"'`)
				}
			case "count":
				now.Count = true
			}
		}
	}
	closed(len(t.Lines))
	o.Kind = o.kind()
	return o
}

func (o *Outline) add(s *Symbol) {
	o.Symbols = append(o.Symbols, s)
	if o.by[s.Section] == nil {
		o.by[s.Section] = map[string]*Symbol{}
	}
	if o.by[s.Section][s.Name] == nil {
		o.by[s.Section][s.Name] = s
	}
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
			o.add(s)
		}
	}
	return end + 1
}
