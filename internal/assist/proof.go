package assist

import (
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// mostProven bounds the texts, in bytes, of which a whole reading proves that a fix mends something.
const mostProven = 512 << 10

// proof tells which fixes of a finding mend it. The text as it is is read once for all of them.
type proof struct {
	*Work
	d      *doc
	f      tosca.Finding
	before tosca.Findings // of the template, where a whole reading tells something
	whole  bool
}

func (w *Work) proofOf(d *doc, f tosca.Finding) *proof {
	p := &proof{Work: w, d: d, f: f, whole: w.Load != nil && d.outline.Kind == Template && len(d.text.String()) <= mostProven}
	if p.whole {
		p.before = p.read(d.text)
		p.whole = p.count(p.before, 0) > 0 // else it is no finding of the template alone
	}
	return p
}

// read finds what is wrong with a text, with the other files as they are being written.
func (p *proof) read(t *Text) tosca.Findings {
	file, findings := tosca.Read(p.d.path, []byte(t.String()), tosca.Source{Profile: p.Load, Open: func(path string) ([]byte, error) {
		if other := p.doc(filepath.Join(filepath.Dir(p.d.path), filepath.FromSlash(path))); other != nil {
			return []byte(other.text.String()), nil
		}
		return nil, fs.ErrNotExist
	}})
	return append(findings, tosca.Check(file)...)
}

// count is how often the finding is among some, in a line; 0 is everywhere.
func (p *proof) count(list tosca.Findings, line int) (n int) {
	for _, o := range list {
		if o.Code == p.f.Code && (line == 0 && (o.Message == p.f.Message || p.f.Code == "not-yaml") || line > 0 && o.Line == line) {
			n++
		}
	}
	return n
}

// mends reports whether a fix lets the finding be gone and makes nothing else wrong where it writes. What this cannot know
// of, such as what only the target tells, is not held against it.
func (p *proof) mends(x Fix) bool {
	if len(x.Edits) == 0 {
		return false
	}
	edits := slices.Clone(x.Edits)
	lines := map[int]bool{}
	within := true // it writes in its own lines
	for i, e := range edits {
		if x.Blanks {
			edits[i].New = filledIn(e.New)
		}
		within = within && !strings.Contains(edits[i].New, "\n") && e.From.Line == e.To.Line
		for n := range strings.Count(edits[i].New, "\n") + 1 {
			lines[e.From.Line+n+1] = true
		}
	}
	text := p.d.text.ApplyAll(edits)
	var broken tosca.Findings
	if tosca.ParseYAML(p.d.path, []byte(text.String()), &broken); broken.HasErrors() {
		return false
	}
	if !p.whole {
		return true
	}
	after := p.read(text)
	if p.f.Code == "not-yaml" { // nothing behind it was read before
		return !slices.ContainsFunc(after, func(o tosca.Finding) bool {
			return o.Severity == tosca.Error && lines[o.Line] && (o.Code == "not-yaml" || strings.HasPrefix(o.Code, "unknown-") || o.Code == "wrong-type")
		})
	}
	return p.count(after, 0) < p.count(p.before, 0) && (!within || p.count(after, p.f.Line) < p.count(p.before, p.f.Line))
}

// filledIn is a text with its blanks filled in, those without an example too.
func filledIn(text string) string {
	filled, blanks := Expand(text)
	for _, b := range slices.Backward(blanks) {
		if b.From == b.To {
			filled = filled[:b.From] + "x" + filled[b.To:]
		}
	}
	return filled
}

// callWithout finds the name of a function without its sign.
var callWithout = regexp.MustCompile(`^[{\s]*["']?([a-z_]+)["']?\s*:`)

// sign puts the sign of a function in front of its name, where that was forgotten.
func (d *doc) sign(at Place) []Fix {
	for n := at.Line; n <= at.Line+1; n++ {
		line, from := d.text.Line(n), 0
		if n == at.Line {
			from = min(at.Column, len(line))
		}
		m := callWithout.FindStringSubmatchIndex(line[from:])
		if m == nil {
			if n == at.Line && strings.TrimSpace(line[from:]) != "" {
				if l := parseLine(line); l.rest >= l.end { // the key, whose value stands below it
					continue
				}
				m = callWithout.FindStringSubmatchIndex(line[min(parseLine(line).rest, len(line)):])
				from = min(parseLine(line).rest, len(line))
			}
			if m == nil {
				continue
			}
		}
		name := line[from+m[2] : from+m[3]]
		if !slices.ContainsFunc(tosca.Functions(), func(f tosca.Keyword) bool { return f.Name == name && f.Support == tosca.Yes }) {
			continue
		}
		here := Place{n, from + m[2]}
		return one("write $"+name, Edit{Range{here, here}, "$"})
	}
	return nil
}

// colons puts a colon, or the blank behind it, between a key and its value.
func (d *doc) colons(at Place) []Fix {
	var out []Fix
	for n := at.Line; n >= max(0, at.Line-2) && len(out) == 0; n-- {
		line, from := d.text.Line(n), 0
		if n == at.Line {
			from = min(at.Column, len(line))
		}
		m := keyWithout.FindStringSubmatchIndex(line[from:])
		if m == nil {
			m, from = keyWithout.FindStringSubmatchIndex(line), 0
		}
		if m == nil {
			continue
		}
		key, sep := line[from+m[2]:from+m[3]], Range{Place{n, from + m[4]}, Place{n, from + m[5]}}
		title := "put a colon behind " + key
		if line[sep.From.Column] == ':' {
			title = "put a blank behind the colon of " + key
		}
		out = one(title, Edit{sep, ": "})
	}
	return out
}

// keyWithout finds a key that its value follows without a colon, or right behind it.
var keyWithout = regexp.MustCompile(`^[\s{,-]*([A-Za-z_][\w-]*)( +|:)["\w]`)

// What the mend of a finding says, in the words of those who look at stack files and rules.
var (
	meantFix  = regexp.MustCompile(`did you mean '([^']+)'`)
	choiceFix = regexp.MustCompile(`^write ([a-z_]+) or ([a-z_]+)$`)
	addFix    = regexp.MustCompile(`^add ([a-z_]+)(?:: .*)?$`)
)

// asSaid does what the mend of a finding says: another word, one of two, or a key that is missing.
func (d *doc) asSaid(at Place, f tosca.Finding) []Fix {
	s := d.text.At(Place{at.Line, min(at.Column+1, len(d.text.Line(at.Line)))})
	word := strings.Trim(d.text.Slice(s.Range), `"'`)
	write := func(text string, best bool) []Fix {
		if word == "" || word == text || strings.ContainsAny(word, "{}[]\n") {
			return nil
		}
		return []Fix{{"write " + text, []Edit{{s.Range, text}}, false, best}}
	}
	if m := meantFix.FindStringSubmatch(f.Fix); m != nil {
		return write(m[1], true)
	}
	if m := choiceFix.FindStringSubmatch(f.Fix); m != nil {
		first, second := m[1], m[2]
		near := tosca.Nearest(word, m[1:])
		if near == second {
			first, second = second, first
		}
		return append(write(first, near == first), write(second, false)...)
	}
	if m := addFix.FindStringSubmatch(f.Fix); m != nil && d.outline.Kind == Rules {
		l := parseLine(d.text.Line(at.Line))
		if startsFlow(d.text.Line(at.Line), l.column) {
			here := Place{at.Line, strings.IndexByte(d.text.Line(at.Line), '{') + 1}
			return filled("add "+m[1], Edit{Range{here, here}, " " + m[1] + ": " + blank(1, "") + ","})
		}
		return filled("add "+m[1], lineAfter(at.Line, d.text, strings.Repeat(" ", l.column)+m[1]+": "+blank(1, "")))
	}
	return nil
}

// addImport lets the template import the shipped profile that has what it names.
func (w *Work) addImport(d *doc, at Place) []Fix {
	word := w.wordAt(d, at)
	if w.Load == nil || d.outline.Kind != Template || word == "" {
		return nil
	}
	for _, name := range w.Profiles {
		lib, known := w.Load(name)
		if !known || strings.Contains(d.text.String(), name) {
			continue
		}
		title, other := "import the profile "+name, ""
		if lib.Nodes[word] == nil && lib.Policies[word] == nil && lib.Data[word] == nil {
			if other = tosca.Nearest(word, slices.Collect(maps.Keys(lib.Nodes))); other == "" {
				continue
			}
			title = "write " + other + ", and import the profile " + name
		}
		one := func(title string, e Edit) []Fix {
			edits := []Edit{e}
			if _, whole, _, _ := w.valueAt(d, at); other != "" {
				edits = append(edits, Edit{whole, other})
			}
			return []Fix{{title, edits, false, true}}
		}
		for n, line := range d.text.Lines {
			l := parseLine(line)
			if l.key != "imports" || l.indent > 0 {
				continue
			}
			switch {
			case startsFlow(line, l.rest):
				text := " { profile: " + name + " }"
				if strings.Trim(line[l.rest+1:l.end], " ]") != "" {
					text += ","
				}
				here := Place{n, l.rest + 1}
				return one(title, Edit{Range{here, here}, text})
			case l.rest >= l.end:
				in := 2
				if next := parseLine(d.text.Line(n + 1)); len(next.dashes) > 0 {
					in = next.dashes[0]
				}
				return one(title, lineAfter(n, d.text, strings.Repeat(" ", in)+"- profile: "+name))
			}
			return nil
		}
		for n, line := range d.text.Lines {
			if strings.HasPrefix(line, "tosca_definitions_version") {
				return one(title, lineAfter(n, d.text, fmt.Sprintf("imports: [ { profile: %s } ]", name)))
			}
		}
	}
	return nil
}

// declare lets the template have an input that it speaks of.
func (w *Work) declare(d *doc, at Place) []Fix {
	name := strings.Trim(w.wordAt(d, at), `"'`)
	if name == "" || strings.ContainsAny(name, " ,{}[]:") {
		return nil
	}
	e, ok := d.addTo("service_template", "inputs", bare(name)+": { type: "+blank(1, "string")+" }")
	if !ok {
		return nil
	}
	return []Fix{{"declare the input " + name, []Edit{e}, true, false}}
}
