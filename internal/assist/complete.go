package assist

import (
	"cmp"
	"fmt"
	"math"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// ItemKind tells what is offered.
type ItemKind string

// The kinds of what is offered.
const (
	Keyword     ItemKind = "keyword"
	TypeName    ItemKind = "type"
	PropertyKey ItemKind = "property"
	Requirement ItemKind = "requirement"
	Function    ItemKind = "function"
	Input       ItemKind = "input"
	Node        ItemKind = "node"
	Attribute   ItemKind = "attribute"
	Value       ItemKind = "value"
	FileName    ItemKind = "file"
	Name        ItemKind = "name"
	Unit        ItemKind = "unit" // a number with a unit
)

// holds says what stands behind a key.
type holds int

const (
	aValue holds = iota
	aMap
	aList
)

// Item is one thing that can stand at a place.
type Item struct {
	Label   string
	Kind    ItemKind
	Detail  string // its type, and whether it must be given
	Meaning string // in a line
	// Insert is the text to put in place of Range. It has blanks: ${1:example} is to be
	// filled in, in the order of the numbers, and $0 is where the cursor is at the end. A
	// backslash stands before a $, } or \ that is none.
	Insert string
	Range

	required bool
	holds    holds
	order    int
}

// Complete lists what can stand at a place of a file: what must be given first, and
// nothing that stands there already.
func (w *Work) Complete(path string, at Place) []Item {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return nil
	}
	if e := w.expressionAt(d, at); e != nil {
		return e.complete()
	}
	s := d.text.At(at)
	if line := d.text.Line(at.Line); s.Kind == InText || s.Quote == 0 && at.Column > 0 && at.Column <= len(line) &&
		strings.IndexByte(`"'}]`, line[at.Column-1]) >= 0 { // or behind what is closed
		return nil
	}
	c := &completion{Work: w, d: d, s: s, r: w.walk(d, s)}
	if s.Kind == AtKey {
		c.keyItems()
	} else {
		c.valueItems()
	}
	out := c.sorted()
	for i := range out {
		it := &out[i]
		line := d.text.Line(it.From.Line)
		if glued := it.From.Column > 0 && it.From.Column <= len(line) && line[it.From.Column-1] == ':'; glued && s.Kind == AtValue && s.Quote == 0 &&
			it.Insert != "" && !strings.HasPrefix(it.Insert, "\n") && !strings.HasPrefix(it.Insert, " ") { // a blank belongs between the two
			it.Insert = " " + it.Insert
		}
	}
	return out
}

type completion struct {
	*Work
	d     *doc
	s     *Spot
	r     rule
	items []Item
}

// sorted filters the items by the word that is written, and orders them.
func (c *completion) sorted() []Item {
	word := strings.ToLower(strings.TrimLeft(c.s.Word, "{ "))
	have := Keys{}
	if c.s.Kind == AtKey {
		have = c.s.Keys()
	}
	own := c.d.text.Slice(c.s.Range)
	seen := map[string]bool{}
	out := c.items[:0]
	for _, it := range c.items {
		if _, there := have[it.Label]; there && it.Label != own || seen[it.Label+string(it.Kind)] {
			continue
		}
		rank := match(strings.ToLower(it.Label), word)
		if rank < 0 {
			continue
		}
		seen[it.Label+string(it.Kind)] = true
		it.Range = c.s.Range
		it.order += rank * 1000
		if it.required {
			it.order -= 500
		}
		out = append(out, it)
	}
	slices.SortStableFunc(out, func(a, b Item) int { return cmp.Or(a.order-b.order, strings.Compare(a.Label, b.Label)) })
	return out
}

// match ranks how a label suits what was typed: 0 begins with it, 1 has it, 2 has its
// letters in their order; -1 does not suit.
func match(label, word string) int {
	switch {
	case strings.HasPrefix(label, word) || strings.HasPrefix(strings.TrimPrefix(label, "$"), word):
		return 0
	case strings.Contains(label, word):
		return 1
	}
	i := 0
	for _, r := range label {
		if i < len(word) && rune(word[i]) == r {
			i++
		}
	}
	if i == len(word) && len(word) > 1 && label[0] == word[0] {
		return 2
	}
	return -1
}

func (c *completion) add(it Item) { c.items = append(c.items, it) }

// indent is the white space of a line below a key of the map that the spot is in.
func (c *completion) indent() string { return strings.Repeat(" ", c.s.Indent+2) }

// blank is a place to fill in.
func blank(n int, example string) string {
	return fmt.Sprintf("${%d:%s}", n, strings.NewReplacer("\\", "\\\\", "}", "\\}", "$", "\\$").Replace(example))
}

// bare makes a text one without blanks.
func bare(text string) string { return strings.NewReplacer("\\", "\\\\", "$", "\\$").Replace(text) }

// keyed is a key with what comes behind it.
func (c *completion) keyed(name string, h holds, value string) string {
	key := bare(tosca.KeyText(name))
	if c.hasColon() {
		return key
	}
	switch {
	case h == aMap && c.s.Flow:
		return key + ": { $0 }"
	case h == aList && c.s.Flow:
		return key + ": [ $0 ]"
	case h == aMap:
		return key + ":\n" + c.indent() + "$0"
	case h == aList:
		return key + ":\n" + c.indent() + "- $0"
	}
	return key + ": " + value
}

// hasColon reports whether the key has its colon already.
func (c *completion) hasColon() bool {
	rest := c.d.text.Line(c.s.To.Line)
	return strings.HasPrefix(strings.TrimLeft(rest[min(c.s.To.Column, len(rest)):], " "), ":")
}

// keyItems are the keys that can stand here.
func (c *completion) keyItems() {
	r := c.r
	switch {
	case r.mapping != "":
		c.mappings()
	case r.words != nil:
		for i, w := range r.words {
			it := Item{Label: w.name, Kind: Keyword, Meaning: w.meaning, order: i, Insert: c.keyed(w.name, aValue, "$0")}
			if r.names == "artifacts" {
				it.Insert = c.keyed(w.name, aValue, "{ type: "+blank(1, "Script")+", file: "+blank(2, "")+" }")
			}
			c.add(it)
		}
	case r.schema != nil:
		for _, it := range schemaItems(r, AtKey) {
			it.Insert = c.keyed(it.Label, it.holds, "$0")
			if p := c.input(it.Label); p != nil {
				it.Kind, it.Detail, it.Meaning, it.required = Input, detail(p), p.Description, !p.Optional()
				it.Insert = c.keyed(it.Label, it.holds, propertyBlank(p, 1))
			}
			c.add(it)
		}
	case r.section != "":
		c.keywords(r.section)
		c.nodesFromTheMargin()
		if r.call == "" && r.any {
			c.functions()
		}
	case r.names == "node_templates":
		c.skeletons()
	case r.list == "policies":
		c.policies("- ")
	case r.requirements != nil:
		c.requirements()
	case r.capabilities != nil:
		for _, d := range r.capabilities {
			c.add(Item{Label: d.Name, Kind: PropertyKey, Detail: "capability", Insert: c.keyed(d.Name, aMap, "")})
		}
	case r.interfaces != nil:
		for _, f := range r.interfaces {
			c.add(Item{Label: f.Name, Kind: PropertyKey, Detail: "interface", Insert: c.keyed(f.Name, aMap, "")})
		}
	case r.operations != nil:
		for i, o := range r.operations {
			c.add(Item{Label: o.Name, Kind: PropertyKey, Detail: "operation", Meaning: o.Description, Insert: c.keyed(o.Name, aValue, blank(1, "")), order: i})
		}
	case r.fields != nil:
		c.properties(r.fields)
	case r.typ != nil && len(r.typ.Fields) > 0:
		c.properties(r.typ.Fields)
		c.functions()
	case r.any || r.typ != nil || r.call != "":
		c.functions()
	}
}

// mappings are what of a node is mapped to what is inside of the template that fills it.
func (c *completion) mappings() {
	insert := "[ " + blank(1, "") + ", " + blank(2, "") + " ]"
	for i, p := range c.r.fields {
		it := Item{Label: p.Name, Kind: PropertyKey, Detail: p.Type.Label(), Meaning: p.Description, order: i}
		value := blank(1, "")
		if c.d.outline.Symbol(c.r.mapping, p.Name) != nil {
			value = blank(1, p.Name)
		}
		it.Insert = c.keyed(p.Name, aValue, value)
		c.add(it)
	}
	for i, d := range c.r.capabilities {
		c.add(Item{Label: d.Name, Kind: PropertyKey, Detail: "capability", Insert: c.keyed(d.Name, aValue, insert), order: i})
	}
	for i, q := range c.r.requirements {
		c.add(Item{Label: q.Name, Kind: Requirement, Detail: restsOn(q), Meaning: q.Description, order: i,
			Insert: c.keyed(q.Name, aValue, insert)})
	}
}

// input is the input that a key of a stack file gives a value to; nil where it is
// another key.
func (c *completion) input(name string) *tosca.Property {
	if n := len(c.s.Way); n == 0 || c.s.Way[n-1].Key != "inputs" || c.d.outline.Kind != FleetFile &&
		(c.d.outline.Kind != StackFile || n != 1) {
		return nil
	}
	if t := c.template(c.d); t != nil && t.file != nil && t.file.Service != nil {
		return t.file.Service.Input(name)
	}
	return nil
}

// keywords are those of a section.
func (c *completion) keywords(section string) {
	for i, k := range tosca.Keywords {
		if k.Section != section || k.Support == tosca.NotYet {
			continue
		}
		h := keywordHolds(section, k.Name)
		it := Item{Label: k.Name, Kind: Keyword, Meaning: meaning(section, k.Name), holds: h, order: i % 100,
			Insert: c.keyed(k.Name, h, "$0"), required: mustHave(section, k.Name)}
		if it.required {
			it.Detail = "must be given"
		}
		switch section + "/" + k.Name {
		case "file/tosca_definitions_version":
			it.Insert = c.keyed(k.Name, aValue, "tosca_2_0")
		case "file/imports":
			if !c.s.Flow && len(c.Profiles) > 0 {
				it.Insert = "imports:\n" + c.indent() + "- profile: " + bare(c.Profiles[0])
			}
		}
		c.add(it)
	}
}

// mustHave are the keywords without which a section says nothing.
func mustHave(section, name string) bool {
	switch section + "/" + name {
	case "file/tosca_definitions_version", "node template/type", "policy/type", "policy/targets", "group/type",
		"output/value", "parameter definition/type", "property definition/type", "substitution mapping/node_type",
		"artifact/file", "artifact/type", "relationship template/type":
		return true
	}
	return false
}

// keywordHolds says what stands behind a keyword.
func keywordHolds(section, name string) holds {
	switch name {
	case "imports", "directives", "requirements", "members", "targets", "policies", "dependencies", "count_range",
		"valid_source_node_types", "valid_target_node_types", "valid_relationship_types", "valid_capability_types":
		if section == "substitution mapping" {
			return aMap
		}
		return aList
	case "metadata", "dsl_definitions", "repositories", "inputs", "node_templates", "relationship_templates", "groups",
		"outputs", "substitution_mappings", "properties", "attributes", "capabilities", "artifacts", "interfaces",
		"operations", "service_template", "entry_schema", "key_schema", "units", "prefixes", "signatures":
		return aMap
	}
	if named[name] {
		return aMap
	}
	return aValue
}

// properties are the fields that can be given a value.
func (c *completion) properties(list []*tosca.Property) {
	for i, p := range list {
		it := Item{Label: p.Name, Kind: PropertyKey, Detail: detail(p), Meaning: p.Description, order: i,
			required: !p.Optional()}
		it.Insert = c.keyed(p.Name, propertyHolds(p.Type), propertyBlank(p, 1))
		c.add(it)
	}
}

// detail is the type of a property, and whether it must be given.
func detail(p *tosca.Property) string {
	out := p.Type.Label()
	switch {
	case p.Default != nil:
		out += ", default " + tosca.Describe(p.Default)
	case p.Required:
		out += ", must be given"
	}
	return out
}

func propertyHolds(t *tosca.Type) holds {
	if t == nil {
		return aValue
	}
	switch t.Base {
	case tosca.BaseList:
		return aList
	case tosca.BaseMap:
		return aMap
	}
	if len(t.Fields) > 0 {
		return aMap
	}
	return aValue
}

// propertyBlank is what is to be filled in for a property.
func propertyBlank(p *tosca.Property, n int) string {
	if legal := tosca.Legal(p.Type, p.Validation); len(legal) > 0 {
		if p.Default != nil && len(legal) == 2 && p.Default.Text() == legal[0] {
			return blank(n, legal[1])
		}
		return blank(n, legal[0])
	}
	e := p.Metadata["example"]
	if e == "" && p.Type != nil {
		e = p.Type.Metadata["example"]
	}
	return blank(n, e)
}

// requirements are those of the node's type, one in an item.
func (c *completion) requirements() {
	var have []string // in other items
	if n := c.d.outline.Symbol("node_templates", c.r.self); n != nil {
		have = bodyOf(c.d.text, n).requirements
	}
	own := strings.Trim(c.d.text.Slice(c.s.Range), `"'`)
	for i, q := range c.r.requirements {
		if q.High == 1 && q.Name != own && slices.Contains(have, q.Name) {
			continue
		}
		it := Item{Label: q.Name, Kind: Requirement, Detail: restsOn(q), Meaning: q.Description, order: i, required: q.Low > 0}
		it.Insert = c.keyed(keyWritten(q.Name), aValue, c.fitting(q, 1))
		c.add(it)
	}
}

// restsOn says what a requirement leads to.
func restsOn(q *tosca.RequirementDef) string {
	out := "rests on " + q.Node
	switch {
	case q.Low > 0:
		out += ", must be given"
	case q.High == 1:
		out += ", optional"
	}
	return out
}

// fitting is the blank for the target of a requirement: the node that fits, where
// there is just one.
func (c *completion) fitting(q *tosca.RequirementDef, n int) string {
	var fit []string
	for _, s := range c.d.outline.Of("node_templates") {
		if s.Name != c.r.self && c.fits(s, q) {
			fit = append(fit, s.Name)
		}
	}
	if len(fit) == 1 {
		return blank(n, fit[0])
	}
	return blank(n, "")
}

// fits reports whether a node can be the target of a requirement.
func (w *completion) fits(s *Symbol, q *tosca.RequirementDef) bool {
	if q == nil || q.Target == nil {
		return true
	}
	t := w.nodeType(w.d, s.Type)
	return t != nil && (t.IsA(q.Target) || t.Name == q.Node)
}

// skeletons are nodes with all that they must have.
func (c *completion) skeletons() {
	if c.s.Flow || c.hasColon() { // what has a colon is the name of a node that is there
		return
	}
	for name, t := range c.library(c.d).Nodes {
		if t.Resource == "" || strings.Contains(name, ":") {
			continue
		}
		it := Item{Label: name, Kind: TypeName, Detail: t.Description, Meaning: "Writes a node of this type with what it must have"}
		it.Insert = blank(1, "name") + ":\n" + c.skeleton(t, 2)
		c.add(it)
	}
}

// nodesFromTheMargin are nodes, where an empty line behind others is not indented yet.
func (c *completion) nodesFromTheMargin() {
	nodes := c.d.outline.Of("node_templates")
	line := c.d.text.Line(c.s.From.Line)
	if len(nodes) == 0 || c.d.outline.Kind != Template || c.s.Flow || strings.TrimSpace(line) != strings.TrimSpace(c.s.Word) || c.s.From.Column >= nodes[0].At.Column {
		return
	}
	before := false
	for _, n := range nodes {
		rest := true // nothing but its own stands between it and the line
		for i := n.At.Line + 1; i < c.s.From.Line && rest; i++ {
			l := parseLine(c.d.text.Lines[i])
			rest = l.blank() || l.indent > n.At.Column
		}
		before = before || rest && n.At.Line < c.s.From.Line && n.block
	}
	if !before {
		return
	}
	in, at := nodes[0].At.Column, 0
	for _, l := range c.d.text.Lines[:nodes[0].At.Line] {
		if k := parseLine(l); k.key == "node_templates" {
			at = k.column
		}
	}
	if c.s.From.Column != 0 && c.s.From.Column != at { // nothing else can stand here
		c.items = nil
	}
	from := len(c.items)
	was := c.s.Indent
	c.s.Indent = in
	c.skeletons()
	c.s.Indent = was
	for i := from; i < len(c.items); i++ {
		c.items[i].Insert = strings.Repeat(" ", in-c.s.From.Column) + c.items[i].Insert
		c.items[i].order += 120
	}
}

// skeleton is the body of a node, with blanks from a number on.
func (c *completion) skeleton(t *tosca.NodeType, n int) string {
	in := strings.Repeat(" ", c.s.Indent+2)
	out := in + "type: " + t.Name
	if t.Metadata["only"] == "select" {
		return out + "\n" + in + "directives: [ select ]\n" + in + "node_filter: { \\$equal: [ { \\$get_property: [ SELF, " +
			blank(n, "label") + " ] }, " + blank(n+1, "") + " ] }"
	}
	section := func(name string, lines []string) {
		if len(lines) > 0 {
			out += "\n" + in + name + ":\n" + strings.Join(lines, "\n")
		}
	}
	var props, reqs []string
	for _, p := range t.Properties {
		if !p.Optional() {
			example := strings.TrimSpace(p.Metadata["example"])
			switch propertyHolds(p.Type) {
			case aList:
				props = append(props, in+"  "+bare(p.Name)+": [ "+blank(n, strings.Trim(strings.Trim(example, "[]"), " "))+" ]")
			case aMap:
				if example = strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(example, "{"), "}")); !strings.Contains(example, ":") {
					example = ""
				}
				props = append(props, in+"  "+bare(p.Name)+": { "+blank(n, example)+" }")
			default:
				props = append(props, in+"  "+bare(p.Name)+": "+propertyBlank(p, n))
			}
			n++
		}
	}
	for _, q := range t.Requirements {
		if q.Low > 0 {
			reqs = append(reqs, in+"  - "+keyWritten(q.Name)+": "+c.fitting(q, n))
			n++
		}
	}
	section("properties", props)
	section("requirements", reqs)
	return out
}

// valueItems are the values that can stand here.
func (c *completion) valueItems() {
	r := c.r
	if r.schema != nil {
		for _, it := range schemaItems(r, AtValue) {
			it.Insert = bare(it.Label)
			c.add(it)
		}
	}
	c.inputValues()
	for i, e := range r.enum {
		if r.fields != nil { // the way on, behind what is here
			i += 100
		}
		c.add(Item{Label: e, Kind: Value, Insert: bare(e), order: i})
	}
	if r.refer != "" {
		c.names(r)
	}
	if n := len(c.s.Way); n > 0 && c.s.Way[n-1].Item && !c.inArgument() {
		c.itemKeys()
	}
	switch {
	case r.fields != nil && c.r.call == "" && c.inArgument():
		kind := PropertyKey
		for i, p := range r.fields {
			c.add(Item{Label: p.Name, Kind: kind, Detail: p.Type.Label(), Meaning: p.Description, Insert: bare(p.Name), order: i})
		}
		for _, q := range r.requirements {
			c.add(Item{Label: q.Name, Kind: Requirement, Detail: restsOn(q), Meaning: q.Description, Insert: bare(q.Name),
				order: 100})
		}
	}
	if c.There != nil && r.within != nil && slices.ContainsFunc(c.s.Way, func(s Step) bool { return s.Key == "node_filter" }) {
		for _, v := range c.There(c.target(), r.within.Resource) { // what could be meant by the filter
			c.add(Item{Label: v, Kind: Value, Detail: "in this target", Insert: bare(v), required: true})
		}
	}
	if r.value != nil || r.typ != nil || r.any {
		c.values(r)
		c.functions()
	}
}

// policies are items of the list of policies, with what each must have.
func (c *completion) policies(dash string) {
	for name, t := range c.library(c.d).Policies {
		if strings.Contains(name, ":") || t.Root() == "" {
			continue
		}
		c.add(Item{Label: name, Kind: TypeName, Meaning: t.Description, Detail: "a policy",
			Insert: dash + blank(1, strings.ToLower(name)) + ": { type: " + bare(name) + ", targets: [ $0 ] }"})
	}
}

// inputValues are those that an input can be given in a stack file, or a fleet file, and where they can come from.
func (c *completion) inputValues() {
	n := len(c.s.Way) - 1
	if n < 1 || c.s.Way[n-1].Key != "inputs" || c.d.outline.Kind != FleetFile && (c.d.outline.Kind != StackFile || n != 1) || strings.HasPrefix(c.s.Word, "{") || c.s.Quote != 0 {
		return
	}
	name := c.s.Way[n].Key
	if t := c.template(c.d); t != nil && t.file != nil && t.file.Service != nil {
		if p := t.file.Service.Input(name); p != nil {
			c.values(rule{value: p, typ: p.Type})
			if c.There != nil && p.Name != "image" && isImage(t.file.Service, name) { // that of this name is known by it
				for _, v := range c.There(c.target(), "Image") {
					c.add(Item{Label: v, Kind: Value, Detail: "in this target", Insert: bare(v), required: true})
				}
			}
		}
	}
	for i, from := range [][2]string{{"from_env", "from a variable of the environment"}, {"from_file", "from a file beside this one"}, {"from_stack", "a result of another stack"}} {
		insert := "{ " + from[0] + ": " + blank(1, "") + " }"
		if from[0] == "from_stack" {
			insert = "{ from_stack: { stack: " + blank(1, "") + ", output: " + blank(2, "") + " } }"
		}
		c.add(Item{Label: from[0], Kind: Keyword, Detail: from[1], Insert: insert, order: 200 + i})
	}
}

// isImage reports whether the image of a server comes from an input.
func isImage(s *tosca.ServiceTemplate, input string) bool {
	for _, n := range s.Nodes {
		for _, p := range n.Properties {
			if x := p.Value; p.Name == "image" && x != nil && x.Kind == tosca.CallExpr && x.Name == "get_input" && len(x.Args) > 0 && tosca.Show(x.Args[0].Value) == input {
				return true
			}
		}
	}
	return false
}

// itemKeys are the keys that an item may begin with.
func (c *completion) itemKeys() {
	from := len(c.items)
	c.s.Indent += 2 * btoi(!c.s.Flow && c.s.Indent == c.s.Way[len(c.s.Way)-1].At.Column)
	switch r := c.r; {
	case r.schema != nil:
		for _, it := range schemaItems(r, AtKey) {
			it.Insert = c.keyed(it.Label, it.holds, "$0")
			c.add(it)
		}
	case r.names == "policies":
		c.policies("")
	case r.section != "":
		c.keywords(r.section)
	case r.requirements != nil && r.fields == nil:
		c.requirements()
	case r.typ != nil && len(r.typ.Fields) > 0:
		c.properties(r.typ.Fields)
	}
	if c.s.Flow { // an item in brackets needs its own
		for i := from; i < len(c.items); i++ {
			c.items[i].Insert = "{ " + c.items[i].Insert + " }"
		}
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// inArgument reports whether the spot is an argument of a function.
func (c *completion) inArgument() bool {
	n := len(c.s.Way)
	return n >= 2 && c.s.Way[n-1].Item && strings.HasPrefix(c.s.Way[n-2].Key, "$")
}

// values are those that a type or a property allows.
func (c *completion) values(r rule) {
	var validation *tosca.Expr
	if r.value != nil {
		validation = r.value.Validation
	}
	for i, v := range tosca.Legal(r.typ, validation) {
		it := Item{Label: v, Kind: Value, Insert: bare(v), order: i, required: true}
		if r.value != nil && r.value.Default != nil && r.value.Default.Text() == v {
			it.Detail = "default"
		}
		c.add(it)
	}
	if r.example != "" && c.s.Word == "" && c.exists(r.example) {
		c.add(Item{Label: r.example, Kind: Value, Detail: "an example", Insert: bare(r.example), order: 50})
	}
	c.units(r)
	if r.value == nil {
		return
	}
	if c.There != nil && r.value.Name == "image" {
		for _, v := range c.There(c.target(), "Image") {
			c.add(Item{Label: v, Kind: Value, Detail: "in this target", Insert: bare(v), required: true})
		}
	}
	if e := r.value.Metadata["example"]; e != "" && c.s.Word == "" && c.exists(e) {
		c.add(Item{Label: e, Kind: Value, Detail: "an example", Insert: bare(e), order: 50})
	}
}

// units are those that can stand behind a number.
func (c *completion) units(r rule) {
	number := c.s.Word[:len(c.s.Word)-len(strings.TrimLeft(c.s.Word, "0123456789."))]
	if r.typ == nil || len(r.typ.Units) == 0 || number == "" {
		return
	}
	for u, factor := range r.typ.Units {
		c.add(Item{Label: number + " " + u, Kind: Unit, Insert: bare(number + " " + u), required: true, order: min(90, int(math.Log2(max(1, factor))))})
	}
}

// target is where the stack goes, as the stack files beside the template say.
func (c *completion) target() string {
	if c.d.outline.Kind == StackFile {
		return c.d.outline.Root("target")
	}
	for _, s := range c.stackFiles(c.d) {
		return s.outline.Root("target")
	}
	return ""
}

// conditions are examples of what a value is compared with.
var conditions = map[string]string{"valid_values": "[ one, two ]", "matches": `"^[a-z]+$"`, "greater_or_equal": "1",
	"less_or_equal": "10", "greater_than": "0", "less_than": "10"}

// functions are those that can stand for a value.
func (c *completion) functions() {
	word := strings.TrimLeft(c.s.Word, "{ ")
	if c.s.Quote != 0 {
		return
	}
	if c.s.Kind == AtKey && len(c.s.Keys()) > 0 { // a function is the only key where it stands
		return
	}
	for _, f := range tosca.Functions() {
		if f.Support != tosca.Yes || !strings.HasPrefix(word, "$") && c.s.Kind == AtKey && !c.s.Flow || !c.yields(f.Name, f.Section) {
			continue
		}
		it := Item{Label: "$" + f.Name, Kind: Function, Detail: tosca.FunctionUse(f.Name), Meaning: functionMeanings[f.Name],
			order: 200}
		switch {
		case f.Name == "get_input":
			it.Insert, it.order = "\\$get_input: "+blank(1, ""), 150
		case f.Name == "get_property" || f.Name == "get_attribute" || f.Name == "get_artifact":
			it.Insert, it.order = "\\$"+f.Name+": [ "+blank(1, "SELF")+", "+blank(2, "")+" ]", 160
		case c.r.checked && f.Section == "comparison":
			it.Insert, it.order = "\\$"+f.Name+": [ \\$value, "+blank(1, conditions[f.Name])+" ]", 140
			if f.Name == "valid_values" || f.Name == "matches" {
				it.order--
			}
		case f.Name == "value" || f.Name == "node_index" || f.Name == "relationship_index":
			it.Insert = "\\$" + f.Name
		default:
			it.Insert = "\\$" + f.Name + ": [ " + blank(1, "") + " ]"
		}
		if c.s.Kind == AtValue && strings.Contains(it.Insert, ":") && !strings.HasPrefix(c.s.Word, "{") {
			it.Insert = "{ " + it.Insert + " }"
		} else if strings.HasPrefix(c.s.Word, "{") {
			it.Insert = "{ " + it.Insert
		}
		c.add(it)
	}
}

// yields reports whether what a function yields could stand here, as far as both are known.
func (c *completion) yields(name, section string) bool {
	switch name {
	case "value":
		return c.r.checked
	case "relationship_index":
		return slices.ContainsFunc(c.s.Way, func(s Step) bool { return s.Key == "relationship" || s.Key == "relationships" })
	}
	if strings.HasPrefix(name, "get_") || c.r.typ == nil || c.r.checked || c.inArgument() {
		return true
	}
	var kinds []tosca.Base
	switch {
	case section == "logic" || section == "comparison" || strings.HasPrefix(name, "has_") || name == "contains":
		kinds = []tosca.Base{tosca.BaseBoolean}
	case name == "length" || name == "node_index":
		kinds = []tosca.Base{tosca.BaseInteger, tosca.BaseFloat, tosca.BaseString}
	case name == "concat":
		kinds = []tosca.Base{tosca.BaseString, tosca.BaseList, tosca.BaseBytes, tosca.BaseVersion}
	case name == "join" || name == "token":
		kinds = []tosca.Base{tosca.BaseString, tosca.BaseBytes, tosca.BaseVersion}
	case name == "union" || name == "intersection":
		kinds = []tosca.Base{tosca.BaseList, tosca.BaseMap}
	default: // arithmetic
		kinds = []tosca.Base{tosca.BaseInteger, tosca.BaseFloat, tosca.BaseScalar}
	}
	return slices.Contains(kinds, c.r.typ.Base)
}

// exists reports whether an example names only what there is here.
func (c *completion) exists(example string) bool {
	for _, m := range namedInExample.FindAllStringSubmatch(example, -1) {
		section := "node_templates"
		if m[1] == "input" {
			section = "inputs"
		}
		if m[2] != "SELF" && c.d.outline.Symbol(section, m[2]) == nil {
			return false
		}
	}
	return true
}

// namedInExample finds the names of inputs and nodes in an example.
var namedInExample = regexp.MustCompile(`get_(input|property|attribute): \[? ?([\w-]+)`)

// names are what a name here can refer to.
func (c *completion) names(r rule) {
	o := c.d.outline
	lib := c.library(c.d)
	symbols := func(section string, kind ItemKind) {
		for i, s := range o.Of(section) {
			c.add(Item{Label: s.Name, Kind: kind, Detail: s.Type, Insert: bare(s.Name), order: min(i, 90)})
		}
	}
	switch r.refer {
	case "inputs":
		for i, s := range o.Of("inputs") {
			it := Item{Label: s.Name, Kind: Input, Detail: s.Type, Insert: bare(s.Name), order: min(i, 90)}
			if c.d.file != nil && c.d.file.Service != nil {
				if p := c.d.file.Service.Input(s.Name); p != nil {
					it.Meaning, it.Detail = p.Description, detail(p)
				}
			}
			c.add(it)
		}
	case "node_templates":
		if r.self == "SELF" {
			c.add(Item{Label: "SELF", Kind: Node, Detail: "the node itself", Insert: "SELF", order: -1})
		}
		for i, s := range o.Of("node_templates") {
			if s.Name == r.self || !c.fits(s, r.target) {
				continue
			}
			it := Item{Label: s.Name, Kind: Node, Detail: s.Type, Insert: bare(s.Name), order: min(i, 90)}
			if t := c.nodeType(c.d, s.Type); t != nil {
				it.Meaning = t.Description
			}
			c.add(it)
		}
		if r.target == nil && r.self == "" {
			symbols("groups", Name)
			c.backedUp()
		}
	case "node types":
		for name, t := range lib.Nodes {
			if name == "Resource" {
				continue
			}
			c.add(Item{Label: name, Kind: TypeName, Meaning: t.Description, Insert: bare(name)})
		}
		symbols("node_types", TypeName)
	case "data types":
		for name, t := range lib.Data {
			it := Item{Label: name, Kind: TypeName, Meaning: t.Description, Insert: bare(name)}
			if name[0] < 'a' { // those of the standard first
				it.order = 1
			}
			c.add(it)
		}
		symbols("data_types", TypeName)
	case "policy types":
		c.entities(lib.Policies)
	case "group types":
		c.entities(lib.Groups)
	case "capability types":
		c.entities(lib.Capabilities)
	case "relationship types":
		c.entities(lib.Relationships)
	case "artifact types":
		c.entities(lib.Artifacts)
	case "interface types":
		c.entities(lib.Interfaces)
	case "outputs":
		symbols("outputs", Name)
	case "relationship_templates", "repositories":
		symbols(r.refer, Name)
	case "files":
		c.files()
	case "rules":
		for _, line := range c.d.text.Lines {
			if l := parseLine(line); l.key == "id" {
				name := strings.Trim(strings.TrimSpace(line[l.colon+1:commentFrom(line)]), `"'`)
				c.add(Item{Label: name, Kind: Name, Insert: bare(name)})
			}
		}
	case "stacks", "results":
		if c.Results == nil {
			return
		}
		of := c.s.Beside(len(c.s.Way) - 1)["stack"]
		for name, list := range c.Results(c.target()) {
			switch {
			case r.refer == "stacks" && name != o.Root("stack"):
				c.add(Item{Label: name, Kind: Name, Detail: "gives " + strings.Join(list, ", "), Insert: bare(name)})
			case r.refer == "results" && name == of:
				for i, result := range list {
					c.add(Item{Label: result, Kind: Name, Detail: "a result of " + of, Insert: bare(result), order: i})
				}
			}
		}
	case "patterns":
		if c.Targets == nil {
			return
		}
		for _, t := range c.Targets() {
			c.add(Item{Label: t, Kind: Value, Detail: "account / region", Insert: bare(t), order: 1})
			if account, _, ok := strings.Cut(t, "/"); ok {
				c.add(Item{Label: account + "/*", Kind: Value, Detail: "all of its regions", Insert: bare(account + "/*")})
			}
		}
	case "targets":
		if c.Targets != nil {
			for _, t := range c.Targets() {
				c.add(Item{Label: t, Kind: Value, Detail: "account / region", Insert: bare(t)})
			}
		}
	}
}

// backedUp leaves out, of the targets of a policy Backup, nodes that hold nothing of which there are backups.
func (c *completion) backedUp() {
	n := len(c.s.Way) - 1
	if n < 1 || c.s.Way[n-1].Key != "targets" || c.s.Beside(n - 1)["type"] != "Backup" {
		return
	}
	c.items = slices.DeleteFunc(c.items, func(it Item) bool {
		t := c.nodeType(c.d, it.Detail)
		return it.Kind == Node && t != nil && t.Resource != "" && !stack.HasBackups(t)
	})
}

func (c *completion) entities(table map[string]*tosca.EntityType) {
	for name, t := range table {
		c.add(Item{Label: name, Kind: TypeName, Meaning: t.Description, Insert: bare(name)})
	}
}

// files are those beside the file, or in the folder that is written already.
func (c *completion) files() {
	folder, _ := filepath.Split(c.s.Word)
	list, err := c.From.List(filepath.Join(filepath.Dir(c.d.path), filepath.FromSlash(folder)))
	if err != nil {
		return
	}
	if folders, is := c.From.(interface {
		Folders(folder string) ([]string, error)
	}); is {
		inside, _ := folders.Folders(filepath.Join(filepath.Dir(c.d.path), filepath.FromSlash(folder))) // then there are none
		for _, path := range inside {
			if name := filepath.Base(path); !strings.HasPrefix(name, ".") {
				c.add(Item{Label: folder + name + "/", Kind: FileName, Insert: bare(folder + name + "/"), order: 60})
			}
		}
	}
	for _, path := range list {
		name := folder + filepath.Base(path)
		ext := filepath.Ext(path)
		if absolute(path) == c.d.path || strings.HasPrefix(filepath.Base(path), ".") || c.r.section == "import" &&
			(ext != ".yaml" && ext != ".yml" || strings.HasSuffix(path, ".stack"+ext)) {
			continue
		}
		if c.d.outline.Kind == FleetFile && len(c.s.Way) == 1 && !strings.HasSuffix(path, ".stack"+ext) {
			continue
		}
		it := Item{Label: name, Kind: FileName, Insert: bare(name)}
		if strings.HasSuffix(name, ".stack.yaml") {
			it.order = 50
		}
		c.add(it)
	}
}
