package assist

import (
	"fmt"
	"sort"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Help is what is known of what stands at a place.
type Help struct {
	Range
	Title string
	Lines []string // each a sentence, or a fact
}

// Hover tells what stands at a place; nil where nothing is known of it.
func (w *Work) Hover(path string, at Place) *Help {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.hover(path, at)
}

func (w *Work) hover(path string, at Place) *Help {
	d := w.doc(path)
	if d == nil {
		return nil
	}
	if h := w.hoverExpression(d, at); h != nil {
		return h
	}
	s := d.text.At(at)
	word := d.text.Slice(s.Range)
	if n := len(s.Way); s.Kind == AtValue && word == "" && n > 0 && !s.Way[n-1].Item { // nothing yet: what it would be
		return w.hover(path, s.Way[n-1].At)
	}
	if s.Kind == InText || word == "" {
		return nil
	}
	h := &Help{Range: s.Range}
	r := w.walk(d, s)
	if c, ok := w.nameAt(d, at); ok && w.named(h, c) {
		return h
	}
	if f, ok := strings.CutPrefix(word, "$"); ok {
		if use := tosca.FunctionUse(f); use != "" {
			h.Title, h.Lines = "$"+f, append(nonEmpty(functionMeanings[f]), use)
			return h
		}
	}
	if n := len(s.Way); s.Kind == AtKey || n > 0 && s.Way[n-1].Item && r.requirements != nil {
		if w.keyHelp(d, h, r, word, s) {
			return h
		}
		return nil
	}
	if r.value != nil && !strings.ContainsAny(word, "{}[]") {
		h.Title, h.Lines = r.value.Name+": "+r.value.Type.Label(), About(r.value)
		return h
	}
	if len(r.fields) > 0 {
		for _, p := range r.fields {
			if p.Name == word {
				h.Title, h.Lines = p.Name+": "+p.Type.Label(), About(p)
				return h
			}
		}
	}
	return nil
}

func nonEmpty(lines ...string) []string {
	var out []string
	for _, l := range lines {
		if l != "" {
			out = append(out, l)
		}
	}
	return out
}

// keyHelp tells what a key is for.
func (w *Work) keyHelp(d *doc, h *Help, r rule, word string, s *Spot) bool {
	property := func(list []*tosca.Property) bool {
		for _, p := range list {
			if p.Name == word {
				h.Title, h.Lines = p.Name+": "+p.Type.Label(), About(p)
				h.Lines = append(h.Lines, w.here(d, r.self, word)...)
				return true
			}
		}
		return false
	}
	for _, known := range r.words {
		if known.name == word {
			h.Title, h.Lines = word, []string{known.meaning}
			if len(known.values) > 0 && len(known.values) < 8 {
				h.Lines = append(h.Lines, "One of "+strings.Join(known.values, ", "))
			}
			return true
		}
	}
	switch {
	case r.schema != nil:
		for _, it := range schemaItems(r, AtKey) {
			if it.Label == word {
				h.Title, h.Lines = word, nonEmpty(it.Meaning, it.Detail)
				return len(h.Lines) > 0
			}
		}
	case r.section != "":
		if m := meaning(r.section, word); m != "" {
			h.Title, h.Lines = word, []string{m}
			return true
		}
	case r.requirements != nil && property(r.fields), property(r.fields):
		return true
	case r.requirements != nil:
		for _, q := range r.requirements {
			if q.Name == word {
				h.Title, h.Lines = word, nonEmpty(q.Description, restsOn(q), swaps(q.Metadata))
				return true
			}
		}
	case r.typ != nil:
		return property(r.typ.Fields)
	}
	return false
}

// About tells of a property what it means, what it may be, and what changing it does.
func About(p *tosca.Property) []string {
	out := nonEmpty(p.Description)
	if legal := tosca.Legal(p.Type, p.Validation); len(legal) > 0 && (p.Type == nil || p.Type.Base != tosca.BaseBoolean) {
		out = append(out, "One of "+strings.Join(legal, ", "))
	} else if p.Validation != nil && !strings.Contains(tosca.Describe(p.Validation), "matches") {
		out = append(out, "It must be "+tosca.Describe(p.Validation))
	}
	switch {
	case p.Default != nil:
		out = append(out, "Where nothing is given: "+p.Default.Text())
	case p.Required:
		out = append(out, "It must be given")
	}
	example := p.Metadata["example"]
	if example == "" && p.Type != nil {
		example = p.Type.Metadata["example"]
	}
	if example != "" && !strings.Contains(p.Description, example) {
		out = append(out, "Such as "+example)
	}
	return append(out, nonEmpty(swaps(p.Metadata))...)
}

// swaps tells what a change does.
func swaps(metadata map[string]string) string {
	switch {
	case metadata["swap"] == stack.DropFirst:
		return "Changing it removes the old one and builds a new one"
	case metadata["swap"] == "true":
		return "Changing it builds a new one and removes the old one"
	case metadata["swap_when"] == "shrink":
		return "Making it smaller builds a new one and removes the old one"
	case metadata["swap_when"] == "down":
		return "Going down builds a new one and removes the old one"
	case metadata["restarts"] == "true":
		return "Changing it restarts what it belongs to"
	case metadata["swap"] != "" || metadata["moves"] == "true":
		return ""
	}
	return "Changing it is done in place"
}

// here is the value of a property of a node as it was resolved last.
func (w *Work) here(d *doc, node, property string) []string {
	wanted := d.wanted
	if wanted == nil || node == "" {
		return nil
	}
	res := wanted.Resource(node)
	if res == nil {
		res = wanted.Resource(node + "#0")
	}
	if res == nil {
		return nil
	}
	p := res.Property(property)
	if p == nil || p.Value == nil || p.Expr == nil {
		return nil
	}
	out := []string{"Here: " + shorten(tosca.Show(p.Value))}
	var from []string
	for _, in := range wanted.Sources(p).Inputs {
		for _, i := range wanted.Inputs {
			if i.Name == in {
				from = append(from, fmt.Sprintf("%s (%s)", in, i.Origin))
			}
		}
	}
	if len(from) > 0 {
		sort.Strings(from)
		out = append(out, "By the inputs "+strings.Join(from, ", "))
	}
	return out
}

func shorten(s string) string {
	if r := []rune(s); len(r) > 120 {
		return string(r[:119]) + "…"
	}
	return s
}

// named tells of what a name calls.
func (w *Work) named(h *Help, c called) bool {
	s := c.d.outline.Symbol(c.section, c.name)
	switch c.section {
	case "inputs":
		return w.inputHelp(h, c, s)
	case "node_templates":
		if s == nil {
			return false
		}
		h.Title = c.name + ": " + s.Type
		if t := w.nodeType(c.d, s.Type); t != nil {
			h.Lines = nonEmpty(t.Description)
		}
		wanted := c.d.wanted
		if s.Count && wanted != nil {
			h.Lines = append(h.Lines, fmt.Sprintf("%d of them are built", countOf(wanted, c.name)))
		}
		if n := len(w.occurrences(c.d, c)) - 1; n > 0 {
			h.Lines = append(h.Lines, fmt.Sprintf("Named in %d other %s", n, map[bool]string{true: "place", false: "places"}[n == 1]))
		}
		return true
	case "node_types":
		t := w.nodeType(c.d, c.name)
		if t == nil {
			return false
		}
		h.Title, h.Lines = c.name, nonEmpty(t.Description)
		h.Lines = append(h.Lines, mustGive(t)...)
		return true
	case "data_types":
		t := w.dataType(w.library(c.d), c.d, c.name)
		if t == nil {
			return false
		}
		h.Title, h.Lines = c.name, nonEmpty(t.Description)
		if e := t.Metadata["example"]; e != "" {
			h.Lines = append(h.Lines, "Such as "+e)
		}
		if len(h.Lines) == 0 {
			h.Lines = []string{"A type of values"}
		}
		return true
	}
	lib := w.library(c.d)
	for section, table := range map[string]map[string]*tosca.EntityType{"policy_types": lib.Policies,
		"group_types": lib.Groups, "capability_types": lib.Capabilities, "relationship_types": lib.Relationships,
		"artifact_types": lib.Artifacts, "interface_types": lib.Interfaces} {
		if t := table[c.name]; section == c.section && t != nil {
			h.Title, h.Lines = c.name, nonEmpty(t.Description)
			return len(h.Lines) > 0
		}
	}
	if s != nil && s.Type != "" {
		h.Title, h.Lines = c.name, []string{s.Type}
		return true
	}
	return false
}

// countOf is how many resources a node makes.
func countOf(wanted *stack.Wanted, node string) int {
	n := 0
	for _, res := range wanted.Resources {
		if res.Node == node && res.Index >= 0 {
			n++
		}
	}
	return n
}

// mustGive lists what a node of a type needs.
func mustGive(t *tosca.NodeType) []string {
	var props, reqs []string
	for _, p := range t.Properties {
		if !p.Optional() {
			props = append(props, p.Name)
		}
	}
	for _, q := range t.Requirements {
		if q.Low > 0 {
			reqs = append(reqs, q.Name+" ("+q.Node+")")
		}
	}
	var out []string
	if len(props) > 0 {
		out = append(out, "It needs "+strings.Join(props, ", "))
	}
	if len(reqs) > 0 {
		out = append(out, "It rests on "+strings.Join(reqs, ", "))
	}
	return out
}

// inputHelp tells of an input what it is, what it is here, and who uses it.
func (w *Work) inputHelp(h *Help, c called, s *Symbol) bool {
	h.Title = c.name
	if s != nil && s.Type != "" {
		h.Title += ": " + s.Type
	}
	file, wanted := c.d.file, c.d.wanted
	if file != nil && file.Service != nil {
		if p := file.Service.Input(c.name); p != nil {
			h.Title, h.Lines = p.Name+": "+p.Type.Label(), inputAbout(p)
		}
	}
	if wanted != nil {
		for _, in := range wanted.Inputs {
			if in.Name == c.name {
				h.Lines = append(h.Lines, fmt.Sprintf("Here: %s (%s)", shorten(tosca.Show(in.Value)), in.Origin))
			}
		}
	}
	var users []string
	for _, r := range w.occurrences(c.d, c) {
		for _, n := range c.d.outline.Of("node_templates") {
			if r.From.Line >= n.At.Line && r.From.Line < n.To && (len(users) == 0 || users[len(users)-1] != n.Name) {
				users = append(users, n.Name)
			}
		}
	}
	switch {
	case s == nil && len(h.Lines) == 0:
		return false
	case len(users) == 0:
		h.Lines = append(h.Lines, "No node uses it")
	case len(users) > 6:
		h.Lines = append(h.Lines, fmt.Sprintf("Used by %s and %d others", strings.Join(users[:5], ", "), len(users)-5))
	default:
		h.Lines = append(h.Lines, "Used by "+strings.Join(users, ", "))
	}
	return true
}

// inputAbout is About without what changing it does, which rests on who uses it.
func inputAbout(p *tosca.Property) []string {
	out := About(p)
	if n := len(out); n > 0 && strings.HasPrefix(out[n-1], "Changing it") {
		out = out[:n-1]
	}
	return out
}

// Inlay is a word that an editor shows behind a place, though it is not in the text.
type Inlay struct {
	Place
	Text string
}

// Inlays tell, between two lines, what inputs are here and how many a count makes.
func (w *Work) Inlays(path string, from, to int) []Inlay {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil || d.outline.Kind != Template {
		return nil
	}
	wanted := d.wanted
	if wanted == nil {
		return nil
	}
	values := map[string]string{}
	for _, in := range wanted.Inputs {
		if in.Origin.Kind != stack.OriginDefault {
			values[in.Name] = fmt.Sprintf("= %s, %s", shorten(tosca.Show(in.Value)), in.Origin)
		}
	}
	var out []Inlay
	for _, s := range d.outline.Symbols {
		if s.At.Line < from || s.At.Line > to {
			continue
		}
		text := ""
		switch {
		case s.Section == "inputs":
			text = values[s.Name]
		case s.Section == "node_templates" && s.Count:
			if n := countOf(wanted, s.Name); n > 0 {
				text = fmt.Sprintf("× %d", n)
			}
		}
		if text != "" {
			line := d.text.Line(s.At.Line)
			out = append(out, Inlay{Place{s.At.Line, len(strings.TrimRight(line[:commentFrom(line)], " "))}, text})
		}
	}
	return out
}
