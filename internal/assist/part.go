package assist

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// part is a template that is made of some nodes of another one, and fills one node there.
type part struct {
	d       *doc
	file    *tosca.File
	service *tosca.ServiceTemplate
	name    string          // of the node that it is made for
	moved   map[string]bool // the nodes that it is made of

	node, typ, path      string
	inputs, given        []string // declarations inside, values outside
	properties, mapped   []string
	requirements         []string // of the type
	connections, through []string // outside, and what they mean inside
	attributes, answers  []string // of the type, and where they come from
	outputs, policies    []string
	taken                map[string]string // names of inputs, requirements and attributes, each with what it stands for

	inside, outside []Edit // of the template's text: in the lines that move, and elsewhere
}

// toPart moves a node, with what needs it, to a file of its own: a template that fills a
// node in their place. The resources stay the same; formerly says so where they are
// deployed. It is false where something cannot be carried over word by word.
func (w *Work) toPart(d *doc, at Place) (Refactoring, bool) {
	s := d.text.At(at)
	if s.Kind != AtKey || w.walk(d, s).names != "node_templates" || d.file == nil || d.file.Service == nil {
		return Refactoring{}, false
	}
	p := &part{d: d, file: d.file, service: d.file.Service, name: d.text.Slice(s.Range), taken: map[string]string{}}
	if p.service.Node(p.name) == nil || !d.asRead() || !p.find() {
		return Refactoring{}, false
	}
	p.names(w)
	for _, n := range p.service.Nodes {
		if p.moved[n.Name] && !p.take(n) {
			return Refactoring{}, false
		}
	}
	if !p.results() {
		return Refactoring{}, false
	}
	return p.written(w)
}

// find lists the nodes that move: those that need the one, by way of others too. It is
// false where they cannot be told, or are all there are.
func (p *part) find() bool {
	users := map[string][]string{}
	for _, n := range p.service.Nodes {
		for _, q := range n.Requirements {
			if p.service.Node(q.Target) == nil { // it is found by its type
				return false
			}
			users[q.Target] = append(users[q.Target], n.Name)
		}
		if n.For != "" || n.Copy != nil {
			return false
		}
		n.Walk(func(x *tosca.Expr) {
			if node := nodeOf(x); node != "" {
				users[node] = append(users[node], n.Name)
			}
		})
	}
	p.moved = map[string]bool{p.name: true}
	for list := []string{p.name}; len(list) > 0; list = list[1:] {
		for _, u := range users[list[0]] {
			if !p.moved[u] {
				p.moved[u] = true
				list = append(list, u)
			}
		}
	}
	if s := p.service.Substitution; s != nil {
		for _, m := range slices.Concat(s.Attributes, s.Capabilities, s.Requirements) {
			if p.moved[m.To] {
				return false
			}
		}
	}
	return len(p.moved) < len(p.service.Nodes) && len(p.moved) <= mostMoved
}

// mostMoved is how many nodes move at once: with more nobody would know what moved.
const mostMoved = 500

// nodeOf is the node of the template whose value a call yields; "" where it yields another.
func nodeOf(x *tosca.Expr) string {
	if x.Kind != tosca.CallExpr || len(x.Args) == 0 ||
		!slices.Contains([]string{"get_attribute", "get_property", "get_artifact"}, x.Name) {
		return ""
	}
	first := x.Args[0]
	if first.Kind == tosca.ListExpr && len(first.Args) > 0 {
		first = first.Args[0]
	}
	if name := first.Raw; name != "SELF" {
		return name
	}
	return ""
}

// names finds names that are free.
func (p *part) names(w *Work) {
	p.node = p.name + "_part"
	for n := 2; p.service.Node(p.node) != nil; n++ {
		p.node = fmt.Sprintf("%s_part_%d", p.name, n)
	}
	base := strings.Join(strings.FieldsFunc(p.name, func(c rune) bool { return c == '_' || c == '-' || c == '.' || c == ' ' }), "-")
	p.path = base + ".yaml"
	for n := 2; w.there(beside(p.d.path, p.path)) || w.docs[beside(p.d.path, p.path)] != nil; n++ {
		p.path = fmt.Sprintf("%s-%d.yaml", base, n)
	}
	for word := range strings.SplitSeq(base, "-") {
		p.typ += strings.ToUpper(word[:1]) + word[1:]
	}
	p.typ += "Part"
	for n := 2; p.file.Library.Nodes[p.typ] != nil; n++ {
		p.typ = fmt.Sprintf("%s%d", strings.TrimRight(p.typ, "0123456789"), n)
	}
}

// free is a name that stands for one thing alone; known is true where it did before.
func (p *part) free(kind, name, longer, what string) (out string, known bool) {
	for n := 1; ; n++ {
		switch {
		case n == 2:
			name = longer
		case n > 2:
			name = fmt.Sprintf("%s_%d", longer, n)
		}
		if was, ok := p.taken[kind+" "+name]; !ok {
			p.taken[kind+" "+name] = what
			return name, false
		} else if was == what {
			return name, true
		}
	}
}

// take looks at what one of the nodes needs of what stays behind.
func (p *part) take(n *tosca.NodeTemplate) bool {
	if n.Def == nil || p.d.outline.Symbol("node_types", n.Type) != nil || !p.d.says(n.Pos, n.Name) {
		return false
	}
	ok := true
	n.Walk(func(x *tosca.Expr) {
		if x.Kind != tosca.CallExpr || !ok {
			return
		}
		if x.Name == "get_input" {
			ok = ok && p.input(x)
		}
		if node := nodeOf(x); node != "" && !p.moved[node] {
			ok = ok && p.value(x, node)
		}
	})
	for i := range n.Requirements {
		if q := n.Requirements[i]; ok && !p.moved[q.Target] {
			ok = p.connect(n, q)
		}
	}
	return ok
}

// input hands an input of the template on to the part.
func (p *part) input(x *tosca.Expr) bool {
	if len(x.Args) == 0 {
		return false
	}
	first := x.Args[0]
	if first.Kind == tosca.ListExpr && len(first.Args) > 0 {
		first = first.Args[0]
	}
	in := p.service.Input(first.Raw)
	if in == nil || in.Type == nil || p.own(in.Type) || in.Default == nil && in.Optional() {
		return false
	}
	name, known := p.free("input", in.Name, in.Name, "input "+in.Name)
	if name != in.Name { // a value of a node has it
		return false
	}
	if !known {
		p.gets(name, in.Type, "{ $get_input: "+in.Name+" }")
	}
	return true
}

// gets makes an input of the part, which the node outside gives.
func (p *part) gets(name string, t *tosca.Type, value string) {
	p.properties = append(p.properties, name+": { "+schemaText(t)+" }")
	p.inputs = append(p.inputs, name+": { "+schemaText(t)+" }")
	p.mapped = append(p.mapped, name+": "+name)
	p.given = append(p.given, name+": "+value)
}

// own reports whether a type is defined in the template itself, where the part does not see it.
func (p *part) own(t *tosca.Type) bool {
	return t != nil && (p.d.outline.Symbol("data_types", t.Name) != nil || p.own(t.Entry) || p.own(t.Key))
}

// schemaText is a type as a definition says it.
func schemaText(t *tosca.Type) string {
	out := "type: " + t.Name
	if t.Key != nil && t.Name == "map" && t.Key.Name != "string" {
		out += ", key_schema: { " + schemaText(t.Key) + " }"
	}
	if t.Entry != nil && (t.Name == "list" || t.Name == "map") {
		out += ", entry_schema: { " + schemaText(t.Entry) + " }"
	}
	return out
}

var nodeValue = regexp.MustCompile(`^\$get_(?:attribute|property):\s*\[[^\[\]{}]*(?:\[[^\[\]{}]*\][^\[\]{}]*)?\]`)

// call finds a call in the text: its range without the brackets around it, and what it is
// the value of. It is false where it is written in another way than on one line, or its
// type cannot be told.
func (p *part) call(x *tosca.Expr, node string) (at Range, name string, typ *tosca.Type, ok bool) {
	if x.Line < 1 || x.Line > len(p.d.text.Lines) || x.Name == "get_artifact" {
		return at, "", nil, false
	}
	line := p.d.text.Lines[x.Line-1]
	i := strings.Index(line[min(x.Column-1, len(line)):], "$get_")
	if i < 0 || i > 4 {
		return at, "", nil, false
	}
	i += x.Column - 1
	m := nodeValue.FindStringIndex(line[i:])
	n := p.service.Node(node)
	if m == nil || n == nil || n.Def == nil {
		return at, "", nil, false
	}
	var words []string
	numbered := len(x.Args) == 2 && x.Args[0].Kind == tosca.ListExpr && len(x.Args[0].Args) == 2 // [ [ node, 0 ], name ]
	for i, a := range x.Args {
		list := []*tosca.Expr{a}
		if numbered && i == 0 {
			list = a.Args
		}
		for _, e := range list {
			if e.Kind != tosca.LiteralExpr {
				return at, "", nil, false
			}
			words = append(words, e.Raw)
		}
	}
	last := words[len(words)-1]
	if len(x.Args) != 2 || numbered != (n.Count != nil) {
		return at, "", nil, false
	}
	def := n.Def.Property(last)
	if x.Name == "get_attribute" && n.Def.Attribute(last) != nil {
		def = n.Def.Attribute(last)
	}
	if def == nil || def.Type == nil || p.own(def.Type) {
		return at, "", nil, false
	}
	at = Range{Place{x.Line - 1, i}, Place{x.Line - 1, i + m[1]}}
	return at, strings.Join(words[:len(words)-1], "_") + " " + last, def.Type, true
}

// value hands a value of a node that stays behind on to the part.
func (p *part) value(x *tosca.Expr, node string) bool {
	at, called, typ, ok := p.call(x, node)
	if !ok {
		return false
	}
	name := strings.ReplaceAll(called, " ", "_")
	for p.service.Input(name) != nil {
		name += "_value"
	}
	text := p.d.text.Slice(at)
	name, known := p.free("input", name, name+"_2", text)
	if !known {
		p.gets(name, typ, "{ "+text+" }")
	}
	p.inside = append(p.inside, Edit{at, "$get_input: " + name})
	return true
}

// connect makes a requirement of the part of one that leads to what stays behind.
func (p *part) connect(n *tosca.NodeTemplate, q *tosca.Requirement) bool {
	d := n.Def.Requirement(q.Name)
	if d == nil || q.Capability != nil || q.Relationship != nil || q.Named != nil || q.Filter != nil || q.Count != nil ||
		q.Optional != nil || q.Index != nil && q.Index.Kind != tosca.LiteralExpr ||
		p.d.outline.Symbol("node_types", d.Node) != nil || p.d.outline.Symbol("capability_types", d.Capability) != nil {
		return false
	}
	target := q.Target
	if q.Index != nil {
		target = "[ " + q.Target + ", " + q.Index.Raw + " ]"
	}
	var all []string // what else the requirement leads to
	for _, o := range n.Requirements {
		switch {
		case o.Name != q.Name:
		case !p.moved[o.Target]:
			all = append(all, o.Target+o.Index.Text())
		case o.Line < q.Line || o.Line == q.Line && o.Column < q.Column:
			return false // its targets would come in another order
		}
	}
	what := fmt.Sprint(all, d.Node, d.Capability, d.High)
	name, known := p.free("requirement", q.Name, n.Name+"_"+q.Name, what)
	if !known {
		var of []string
		if d.Capability != "" {
			of = append(of, "capability: "+d.Capability)
		}
		if d.Node != "" {
			of = append(of, "node: "+d.Node)
		}
		if d.Relationship != "" {
			of = append(of, "relationship: "+d.Relationship)
		}
		high := fmt.Sprint(d.High)
		if d.High > 1<<20 || d.High < 0 {
			high = "UNBOUNDED"
		}
		of = append(of, fmt.Sprintf("count_range: [ %d, %s ]", min(d.Low, 1), high))
		p.requirements = append(p.requirements, fmt.Sprintf("- %s: { %s }", keyWritten(name), strings.Join(of, ", ")))
	}
	if mapping := fmt.Sprintf("- %s: [ %s, %s ]", keyWritten(name), n.Name, keyWritten(q.Name)); !slices.Contains(p.through, mapping) {
		p.through = append(p.through, mapping)
	}
	if one := fmt.Sprintf("- %s: %s", keyWritten(name), target); !slices.Contains(p.connections, one) {
		p.connections = append(p.connections, one)
	}
	e, ok := p.d.withoutItem(Place{q.Line - 1, q.Column - 1})
	p.inside = append(p.inside, e)
	return ok && p.d.says(q.Pos, q.Name)
}

// asRead reports whether the nodes of a template are those that were read last.
func (d *doc) asRead() bool {
	list := d.outline.Of("node_templates")
	for _, s := range list {
		if n := d.file.Service.Node(s.Name); n == nil || n.Line != s.At.Line+1 {
			return false
		}
	}
	return len(list) == len(d.file.Service.Nodes)
}

// says reports whether a word stands at a place still, as it did when the file was read.
func (d *doc) says(at tosca.Pos, word string) bool {
	line := d.text.Line(at.Line - 1)
	return at.Column >= 1 && at.Column <= len(line) && strings.HasPrefix(strings.TrimLeft(line[at.Column-1:], `"'`), word)
}

// keyWritten is a key as it has to stand in a text.
func keyWritten(name string) string {
	switch strings.ToLower(name) {
	case "on", "off", "yes", "no", "true", "false", "null", "y", "n":
		return `"` + name + `"`
	}
	return name
}

// withoutItem takes an item out of a list whose key stands at a place.
func (d *doc) withoutItem(key Place) (Edit, bool) {
	line := d.text.Line(key.Line)
	l := parseLine(line)
	if len(l.dashes) == 1 && strings.Trim(line[l.dashes[0]+1:min(key.Column, len(line))], ` "'{`) == "" {
		end := key.Line + 1
		for end < len(d.text.Lines) && (strings.TrimSpace(d.text.Lines[end]) == "" || indentOf(d.text.Lines[end]) > l.dashes[0]) {
			end++
		}
		return Edit{Range{Place{key.Line, 0}, Place{end, 0}}, ""}, end < len(d.text.Lines)
	}
	from, to, first, ok := d.entryInFlow(key)
	switch {
	case !ok:
		return Edit{}, false
	case first && line[to] == ',':
		to++
	case !first && line[to] != ',' && line[to-1] == ' ':
		to--
	}
	return Edit{Range{Place{key.Line, from}, Place{key.Line, to}}, ""}, true
}

// behind writes an entry or an item behind the one whose key stands at a place.
func (d *doc) behind(key Place, text string) (Edit, bool) {
	line := d.text.Line(key.Line)
	l := parseLine(line)
	switch {
	case len(l.dashes) == 1 && strings.Trim(line[l.dashes[0]+1:min(key.Column, len(line))], ` "'{`) == "":
		return lineAfter(d.itemEnd(key)-1, d.text, strings.Repeat(" ", l.dashes[0])+"- "+text), true
	case len(l.dashes) == 0 && l.colon >= 0 && strings.Trim(line[l.column:max(l.column, min(key.Column, len(line)))], `"'`) == "":
		return lineAfter(d.endOf(key.Line, l.column)-1, d.text, strings.Repeat(" ", l.column)+text), true
	}
	_, to, _, ok := d.entryInFlow(key)
	if !ok {
		return Edit{}, false
	}
	for line[to-1] == ' ' {
		to--
	}
	if name, _, _ := strings.Cut(text, ":"); d.itemOpens(key) && name != text { // - { name: node }
		text = "{ " + text + " }"
	}
	at := Place{key.Line, to}
	return Edit{Range{at, at}, ", " + text}, true
}

// itemOpens reports whether a key within brackets is the only one of an item of a list.
func (d *doc) itemOpens(key Place) bool {
	start, open := d.text.flowStart(key)
	if !open {
		return false
	}
	f := flowScan{t: d.text}
	f.line(start.Line, start.Column, key.Column)
	return d.item(&f, key)
}

func (d *doc) item(f *flowScan, key Place) bool {
	b, depth := f.top(), len(f.stack)
	return b != nil && b.open == '{' && depth > 1 && f.stack[depth-2].open == '[' &&
		len(d.text.At(Place{key.Line, b.at.Column + 1}).Keys()) == 1
}

// entryInFlow is where an entry within the brackets of one line stands whose key is at a
// place: from the bracket or comma in front to the comma or bracket behind. first is that a
// bracket is in front.
func (d *doc) entryInFlow(key Place) (from, to int, first, ok bool) {
	line := d.text.Line(key.Line)
	start, open := d.text.flowStart(key)
	if !open || start.Line != key.Line {
		return 0, 0, false, false
	}
	f := flowScan{t: d.text}
	f.line(start.Line, start.Column, key.Column)
	depth := len(f.stack)
	if d.item(&f, key) { // - { name: node }
		depth--
	}
	from, first = -1, true
	g := flowScan{t: d.text}
	for i := start.Column; i < len(line); i++ {
		before := len(g.stack)
		alive := g.line(start.Line, i, i+1)
		switch {
		case i < key.Column && len(g.stack) == depth && before == depth-1 && (line[i] == '[' || line[i] == '{'):
			from, first = i+1, true
		case i < key.Column && len(g.stack) == depth && line[i] == ',' && g.quote == 0:
			from, first = i, false
		case i >= key.Column && (len(g.stack) == depth && line[i] == ',' && g.quote == 0 || len(g.stack) == depth-1):
			return from, i, first, from >= 0
		}
		if !alive {
			break
		}
	}
	return 0, 0, false, false
}

// results lets what stays behind find what moved.
func (p *part) results() bool {
	ok := true
	follow := func(value *tosca.Expr) {
		value.Walk(func(x *tosca.Expr) {
			node := nodeOf(x)
			if node == "" || !p.moved[node] || !ok {
				return
			}
			var at Range
			var called string
			var typ *tosca.Type
			if at, called, typ, ok = p.call(x, node); !ok {
				return
			}
			text := p.d.text.Slice(at)
			name := strings.ReplaceAll(called, " ", "_")
			if owner, attribute, _ := strings.Cut(called, " "); owner == p.name {
				name = attribute
			}
			name, known := p.free("attribute", name, strings.ReplaceAll(called, " ", "_"), text)
			if !known {
				p.attributes = append(p.attributes, name+": { "+schemaText(typ)+" }")
				p.outputs = append(p.outputs, name+": { value: { "+text+" } }")
				p.answers = append(p.answers, name+": "+name)
			}
			p.outside = append(p.outside, Edit{at, "$get_attribute: [ " + p.node + ", " + name + " ]"})
		})
	}
	for _, o := range p.service.Outputs {
		follow(o.Value)
	}
	for _, q := range p.service.Policies {
		if isProbe(q) {
			for _, a := range q.Properties {
				follow(a.Value)
			}
		}
	}
	if !ok {
		return false
	}
	mentions := func(list []tosca.Key) bool {
		return slices.ContainsFunc(list, func(k tosca.Key) bool { return p.moved[k.Name] })
	}
	for _, g := range p.service.Groups {
		if mentions(g.Members) {
			return false
		}
	}
	all := true // policies go along
	var gone []Edit
	for _, q := range p.service.Policies {
		if isProbe(q) { // it stays, and is about the node that is filled
			all = false
			if ok = ok && p.retarget(q); !ok {
				return false
			}
			continue
		}
		if !mentions(q.Targets) {
			all = false
			for _, a := range q.Properties {
				a.Value.Walk(func(x *tosca.Expr) { ok = ok && !p.moved[nodeOf(x)] })
			}
			continue
		}
		e, found := p.d.withoutItem(Place{q.Line - 1, q.Column - 1})
		literal := !slices.ContainsFunc(q.Properties, func(a *tosca.Assignment) bool { return a.Value.Kind != tosca.LiteralExpr })
		if !found || !literal || slices.ContainsFunc(q.Targets, func(k tosca.Key) bool { return !p.moved[k.Name] }) ||
			p.d.outline.Symbol("policy_types", q.Type) != nil {
			return false
		}
		gone = append(gone, e)
		var targets []string
		for _, k := range q.Targets {
			targets = append(targets, k.Name)
		}
		var properties []string
		for _, a := range q.Properties {
			properties = append(properties, a.Name+": "+a.Value.Text())
		}
		more := ""
		if len(properties) > 0 {
			more = ", properties: { " + strings.Join(properties, ", ") + " }"
		}
		p.policies = append(p.policies, fmt.Sprintf("- %s: { type: %s, targets: [ %s ]%s }", q.Name, q.Type, strings.Join(targets, ", "), more))
	}
	if all && len(gone) > 0 {
		if gone, ok = p.d.withoutKey("policies", p.service.Policies[0].Line-1); !ok {
			return false
		}
	}
	p.outside = append(p.outside, gone...)
	return ok
}

func isProbe(q *tosca.Policy) bool { return q.Def != nil && q.Def.Root() == "Probe" }

// retarget lets a policy be about the node that is filled, in the place of what moved.
func (p *part) retarget(q *tosca.Policy) bool {
	n := 0
	for _, k := range q.Targets {
		if p.moved[k.Name] {
			n++
			from := Place{k.Line - 1, k.Column - 1}
			p.outside = append(p.outside, Edit{Range{from, Place{from.Line, from.Column + len(k.Name)}}, p.node})
		}
	}
	return n <= 1
}

// withoutKey takes a key of the service template away with all that stands under it.
func (d *doc) withoutKey(key string, below int) ([]Edit, bool) {
	n := below
	for n >= 0 && parseLine(d.text.Lines[n]).key != key {
		n--
	}
	if n < 0 {
		return nil, false
	}
	column, end := parseLine(d.text.Lines[n]).column, n+1
	for end < len(d.text.Lines) && (strings.TrimSpace(d.text.Lines[end]) == "" || indentOf(d.text.Lines[end]) > column ||
		indentOf(d.text.Lines[end]) == column && strings.HasPrefix(d.text.Lines[end][column:], "- ")) {
		end++
	}
	return []Edit{{Range{Place{n, 0}, Place{end, 0}}, ""}}, end < len(d.text.Lines)
}

var anchor = regexp.MustCompile(`(?:^|[\s\[{,:-])[*&][A-Za-z_]|<<:`)

// written writes the part, and the template without it.
func (p *part) written(w *Work) (Refactoring, bool) {
	t := p.d.text
	var bodies []string
	var first Place
	for _, n := range p.d.outline.Of("node_templates") {
		if !p.moved[n.Name] {
			continue
		}
		end := n.To
		for end > n.At.Line+1 && (strings.TrimSpace(t.Lines[end-1]) == "" || strings.HasPrefix(strings.TrimSpace(t.Lines[end-1]), "#") &&
			indentOf(t.Lines[end-1]) <= n.At.Column) {
			end--
		}
		lines := t.Lines[n.At.Line:end]
		if !n.block || end >= len(t.Lines) || anchor.MatchString(strings.Join(lines, "\n")) {
			return Refactoring{}, false
		}
		block := &doc{path: p.d.path, text: &Text{Lines: append(slices.Clone(lines), "")}}
		var edits []Edit
		for _, e := range p.inside {
			if e.From.Line < n.At.Line || e.From.Line >= end {
				continue
			}
			e.From.Line -= n.At.Line
			e.To.Line = min(e.To.Line-n.At.Line, len(lines))
			edits = append(edits, e)
		}
		block.text = block.text.ApplyAll(edits).withoutEmpty("requirements")
		block.outline = (&Text{Lines: append([]string{"service_template:", "  node_templates:"}, block.text.Lines...)}).Outline()
		for _, s := range block.outline.Symbols {
			s.At.Line, s.To = s.At.Line-2, s.To-2
		}
		if w.deployed(called{section: "node_templates", name: n.Name, d: p.d}) {
			e, ok := block.formerly(n.Name, n.Name)
			if !ok {
				return Refactoring{}, false
			}
			block.text = block.text.Apply(e)
		}
		for _, l := range block.text.Lines {
			switch cut := min(n.At.Column, indentOf(l)); {
			case strings.TrimSpace(l) != "":
				bodies = append(bodies, "    "+l[cut:])
			case l == "" && len(bodies) > 0 && bodies[len(bodies)-1] != "":
			default:
				bodies = append(bodies, "")
			}
		}
		remove := Edit{Range{Place{n.At.Line, 0}, Place{end, 0}}, ""}
		if n.Name == p.name {
			first = n.At
			remove.New = p.inPlace(strings.Repeat(" ", n.At.Column))
		}
		p.outside = append(p.outside, remove)
	}
	imports, ok := p.d.addImport(p.path)
	if !ok || first == (Place{}) {
		return Refactoring{}, false
	}
	title := fmt.Sprintf("move %s to %s", p.name, p.path)
	switch more := len(p.moved) - 1; {
	case more == 1:
		title = fmt.Sprintf("move %s and the node that needs it to %s", p.name, p.path)
	case more > 1:
		title = fmt.Sprintf("move %s and the %d nodes that need it to %s", p.name, more, p.path)
	}
	return Refactoring{Title: title, Edits: map[string][]Edit{p.d.path: append(p.outside, imports)},
		Files: map[string]string{filepath.Join(filepath.Dir(p.d.path), filepath.FromSlash(p.path)): p.text(bodies)}}, true
}

// inPlace is the node that the part fills.
func (p *part) inPlace(in string) string {
	out := in + p.node + ":\n" + in + "  type: " + p.typ + "\n" + in + "  directives: [ substitute ]\n"
	return out + section(in+"  ", "properties", p.given) + section(in+"  ", "requirements", p.connections)
}

// section is a key with lines under it; nothing where there are none.
func section(in, key string, lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	return in + key + ":\n" + in + "  " + strings.Join(lines, "\n"+in+"  ") + "\n"
}

// text is the part's own file.
func (p *part) text(bodies []string) string {
	var b strings.Builder
	b.WriteString("tosca_definitions_version: tosca_2_0\ndescription: " + p.name + ", with what needs it\n")
	for _, root := range []string{"repositories", "imports"} {
		b.WriteString(p.d.rootText(root))
	}
	b.WriteString("\nnode_types:\n  " + p.typ + ":\n    description: " + p.name + ", with what needs it\n")
	b.WriteString(section("    ", "properties", p.properties) + section("    ", "attributes", p.attributes) +
		section("    ", "requirements", p.requirements))
	b.WriteString("\nservice_template:\n" + section("  ", "inputs", p.inputs) +
		"  substitution_mappings:\n    node_type: " + p.typ + "\n" + section("    ", "properties", p.mapped) +
		section("    ", "attributes", p.answers) + section("    ", "requirements", p.through))
	b.WriteString("  node_templates:\n" + strings.TrimRight(strings.Join(bodies, "\n"), "\n") + "\n")
	b.WriteString(section("  ", "policies", p.policies) + section("  ", "outputs", p.outputs))
	return b.String()
}

// rootText is a key at the root of a file with all that stands under it.
func (d *doc) rootText(key string) string {
	for n, l := range d.text.Lines {
		if !strings.HasPrefix(l, key+":") {
			continue
		}
		end := n + 1
		for end < len(d.text.Lines) && (strings.HasPrefix(d.text.Lines[end], " ") || strings.HasPrefix(d.text.Lines[end], "-")) {
			end++
		}
		return strings.Join(d.text.Lines[n:end], "\n") + "\n"
	}
	return ""
}

// addImport imports a file.
func (d *doc) addImport(name string) (Edit, bool) {
	for n, l := range d.text.Lines {
		if !strings.HasPrefix(l, "imports:") {
			continue
		}
		at := parseLine(l)
		if startsFlow(l, at.rest) {
			here := Place{n, at.rest + 1}
			return Edit{Range{here, here}, " " + name + ","}, l[at.rest] == '['
		}
		if n+1 >= len(d.text.Lines) || at.rest < at.end {
			return Edit{}, false
		}
		end := n + 1
		for end < len(d.text.Lines) && (strings.HasPrefix(d.text.Lines[end], " ") || strings.HasPrefix(d.text.Lines[end], "-")) {
			end++
		}
		return lineAfter(end-1, d.text, strings.Repeat(" ", indentOf(d.text.Lines[n+1]))+"- "+name), true
	}
	return Edit{}, false
}

// withoutEmpty takes a key away under which nothing stands any more.
func (t *Text) withoutEmpty(key string) *Text {
	for n, line := range t.Lines {
		l := parseLine(line)
		if l.key != key || l.rest < l.end {
			continue
		}
		next := n + 1
		for next < len(t.Lines) && strings.TrimSpace(t.Lines[next]) == "" {
			next++
		}
		if next == len(t.Lines) || indentOf(t.Lines[next]) < l.column ||
			indentOf(t.Lines[next]) == l.column && !strings.HasPrefix(t.Lines[next][l.column:], "-") {
			return t.Apply(Edit{Range{Place{n, 0}, Place{n + 1, 0}}, ""})
		}
	}
	return t
}
