package tosca

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Check looks at the names and references of a template and of those that fill
// its nodes: types, properties, requirements, inputs and functions. It needs no
// inputs; values are looked at when the template is resolved.
func Check(f *File) Findings {
	c := &checker{seen: map[*File]bool{}}
	c.run(f, true)
	c.findings.Sort()
	return c.findings
}

// simple is what names are mostly made of.
const simple = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-"

// nodeName is what a node may be called: a plain name, or the name of a resource
// that a count or a template that fills a node would make.
var nodeName = regexp.MustCompile(`^[^#/\s]+(#[\w.-]+)?(/[^#/\s]+(#[\w.-]+)?)*$`)

type checker struct {
	file     *File
	lib      *Library
	template *ServiceTemplate
	findings Findings
	seen     map[*File]bool
}

func (c *checker) run(f *File, main bool) {
	if c.seen[f] {
		return
	}
	c.seen[f] = true
	for _, g := range f.Imports {
		c.run(g, false)
	}
	c.file, c.lib = f, f.Library
	c.types()
	if f.Service != nil && (main || f.Service.Substitution != nil) {
		c.service(f.Service)
	}
}

// types looks at the types that the file itself defines.
func (c *checker) types() {
	mine := func(p Pos) bool { return p.File == c.file.Name }
	for _, name := range sorted(typeNames(c.lib.Data)) {
		if t := c.lib.Data[name]; mine(t.Pos) {
			for _, p := range t.Fields {
				c.definition(p, t.Name)
			}
		}
	}
	for _, name := range sorted(typeNames(c.lib.Nodes)) {
		t := c.lib.Nodes[name]
		if !mine(t.Pos) {
			continue
		}
		for _, p := range t.Properties {
			if mine(p.Pos) {
				c.definition(p, t.Name)
				c.expr(p.Default, place{typ: t})
				c.expr(p.Fixed, place{typ: t})
				if t.Requirement(p.Name) != nil {
					c.findings.Errorf(p.Pos, "duplicate-key", "choose another name",
						"%s has a requirement '%s' already", t.Name, p.Name)
				}
			}
		}
		for _, d := range t.Capabilities {
			c.nodeTypesExist(d.Sources, d.Pos.File)
		}
		for _, d := range t.Requirements {
			if mine(d.Pos) {
				c.expr(d.Filter, place{typ: d.Target})
			}
		}
	}
	for _, table := range []map[string]*EntityType{c.lib.Capabilities, c.lib.Relationships, c.lib.Groups,
		c.lib.Policies, c.lib.Artifacts, c.lib.Interfaces} {
		for _, name := range sorted(typeNames(table)) {
			t := table[name]
			if !mine(t.Pos) {
				continue
			}
			for _, p := range t.Properties {
				c.definition(p, t.Name)
			}
			c.nodeTypesExist(t.Sources, t.File)
			if t.Kind != "policy type" || c.lib.Groups == nil {
				c.nodeTypesExist(t.Targets, t.File)
			}
			for _, k := range t.Capabilities {
				if mine(k.Pos) && c.lib.Capabilities[k.Name] == nil {
					c.findings.Errorf(k.Pos, "unknown-type", suggest(k.Name, typeNames(c.lib.Capabilities)),
						"there is no capability type '%s'", k.Name)
				}
			}
			for _, k := range t.Relationships {
				if mine(k.Pos) && c.lib.Relationships[k.Name] == nil {
					c.findings.Errorf(k.Pos, "unknown-type", suggest(k.Name, typeNames(c.lib.Relationships)),
						"there is no relationship type '%s'", k.Name)
				}
			}
		}
	}
}

// namesOfAll lists the names of definitions or templates.
func namesOfAll[T interface{ named() string }](list []T) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.named()
	}
	return out
}

func (d *CapabilityDef) named() string        { return d.Name }
func (d *RequirementDef) named() string       { return d.Name }
func (a *Artifact) named() string             { return a.Name }
func (i *Interface) named() string            { return i.Name }
func (o *Operation) named() string            { return o.Name }
func (o *Output) named() string               { return o.Name }
func (t *RelationshipTemplate) named() string { return t.Name }

// nodeTypesExist reports names that are neither node types nor group types.
func (c *checker) nodeTypesExist(names []Key, file string) {
	for _, k := range names {
		if k.File == c.file.Name && file == c.file.Name && c.lib.Nodes[k.Name] == nil && c.lib.Groups[k.Name] == nil {
			c.findings.Errorf(k.Pos, "unknown-type", suggest(k.Name, typeNames(c.lib.Nodes)),
				"there is no node type '%s'", k.Name)
		}
	}
}

// definition holds the default of a property against its type.
func (c *checker) definition(p *Property, of string) {
	if p.Default == nil || p.Type == nil || p.Default.calls() || p.Default.File != c.file.Name {
		return
	}
	what := fmt.Sprintf("default of %s of %s", p.Name, of)
	v := (&Env{Index: -1, Findings: &c.findings}).EvalAs(p.Default, p.Type, what)
	Validate(p.Validation, v, p.Type, p.Default.Pos, what, &c.findings)
}

func (c *checker) service(s *ServiceTemplate) {
	c.template = s
	for _, in := range s.Inputs {
		c.input(in)
	}
	for _, n := range s.Nodes {
		c.node(n)
	}
	for _, t := range s.Relationships {
		c.relationship(t, nil)
	}
	for _, g := range s.Groups {
		c.group(g)
	}
	for _, o := range s.Outputs {
		c.expr(o.Value, place{})
		c.expr(o.Validation, place{})
	}
	for _, p := range s.Policies {
		c.policy(p)
	}
	if s.Substitution != nil {
		c.substitution(s.Substitution)
	}
	c.unusedInputs(s)
	if s.empty {
		c.findings.Warnf(s.Pos, "no-nodes", "add node_templates",
			"the service template has no nodes: nothing would be built")
	}
}

func (c *checker) input(in *Property) {
	for _, x := range []*Expr{in.Default, in.Fixed} {
		if x == nil || in.Type == nil {
			continue
		}
		if x.calls() {
			c.findings.Errorf(x.Pos, "not-constant", "", "the default of the input '%s' must be a plain value", in.Name)
			continue
		}
		env := &Env{Index: -1, Findings: &c.findings}
		v := env.EvalAs(x, in.Type, "default of the input "+in.Name)
		Validate(in.Validation, v, in.Type, x.Pos, "default of the input "+in.Name, &c.findings)
	}
	c.expr(in.Validation, place{})
	c.inputMetadata(in)
}

func (c *checker) node(n *NodeTemplate) {
	if n.For == "" && !(n.Name != "" && strings.Trim(n.Name, simple) == "") && !nodeName.MatchString(n.Name) ||
		n.Name == "SELF" {
		c.findings.Errorf(n.Pos, "bad-name", "use letters, digits, _ and -", "'%s' cannot be the name of a node",
			n.Name)
	}
	t := n.Def
	at := place{n, t, nil}
	c.expr(n.Count, at)
	c.nodeMetadata(n)
	if t == nil {
		if n.Type != "" {
			fix := suggest(n.Type, typeNames(c.lib.Nodes))
			if name := elsewhere(n.Type); name != "" {
				fix = "import its profile too: imports: [ { profile: " + name + " } ]"
			} else if len(c.lib.Nodes) == 0 {
				fix = "import the profile: imports: [ { profile: brickrow.cloud:1 } ]"
			}
			c.findings.Errorf(n.TypePos, "unknown-type", fix, "there is no node type '%s'", n.Type)
		}
		for _, a := range n.Properties {
			c.expr(a.Value, at)
		}
		return
	}
	switch {
	case n.Has("select"):
		c.selected(n)
		return
	case n.Has("substitute"):
		if len(c.file.Substitutes(t)) == 0 {
			c.findings.Errorf(n.Directives[0].Pos, "no-substitute",
				"import a template whose substitution_mappings have node_type: "+n.Type,
				"no imported template fills a %s", n.Type)
		}
	case t.Resource == "":
		fix := "derive the type from a resource type of the cloud, or write directives: [ substitute ] and import " +
			"a template that fills it"
		c.findings.Errorf(n.TypePos, "not-a-resource", fix, "%s: %s is nothing in the cloud by itself", n.Name, n.Type)
	case t.Metadata["only"] == "select":
		c.findings.Errorf(n.TypePos, "not-a-resource", "write directives: [ select ] and a node_filter",
			"%s: %s can only be selected, not made", n.Name, article(n.Type))
	}
	if n.Filter != nil && n.For == "" {
		c.findings.Errorf(n.Filter.Pos, "filter-without-select", "add directives: [ select ]",
			"a node_filter stands only in a node that is selected")
	}
	defs := t.Properties
	if n.lost { // what is missing may be in what was lost
		defs = optional(defs)
	}
	c.assigned(n.Properties, defs, n.Pos, n.Name, t.Name, at, func(name string) string {
		if t.Requirement(name) != nil {
			return fmt.Sprintf("it is a requirement: write it under requirements as - %s: …", name)
		}
		return ""
	})
	c.attributes(n, t, at)
	for _, a := range n.Capabilities {
		d := t.Capability(a.Name)
		if d == nil {
			known := namesOfAll(t.Capabilities)
			c.findings.Errorf(a.Pos, "unknown-capability", suggest(a.Name, known), "%s has no capability '%s'",
				t.Name, a.Name)
			continue
		}
		c.assigned(a.Properties, d.Properties, a.Pos, n.Name, "the capability "+a.Name, at, nil)
		c.assigned(a.Attributes, d.Attributes, a.Pos, n.Name, "the capability "+a.Name, at, nil)
	}
	for _, d := range t.Capabilities { // those not mentioned may still need a value
		if len(d.Properties) > 0 && !slices.ContainsFunc(n.Capabilities,
			func(a *CapabilityAssignment) bool { return a.Name == d.Name }) {
			c.assigned(nil, d.Properties, n.Pos, n.Name, "the capability "+d.Name, at, nil)
		}
	}
	c.requirements(n, t)
	c.artifacts(n.Artifacts)
	c.interfaces(n.Interfaces, t, n)
	c.scripted(n, t)
}

// selected looks at a node that is found in the cloud.
func (c *checker) selected(n *NodeTemplate) {
	for _, a := range n.Properties {
		c.findings.Errorf(a.Pos, "not-with-select", "say in node_filter what it must be",
			"%s is selected, and its properties are what they are", n.Name)
	}
	for _, q := range n.Requirements {
		c.findings.Errorf(q.Pos, "not-with-select", "say in node_filter what it must be",
			"%s is selected, and what it rests on is what it is", n.Name)
	}
	if n.Count != nil {
		c.findings.Errorf(n.Count.Pos, "not-supported-yet", "select each by a node of its own",
			"a count of a node that is selected is not supported yet")
	}
	if n.Def.Resource == "" {
		c.findings.Errorf(n.TypePos, "not-a-resource", "select a resource type of the cloud",
			"%s: %s is nothing in the cloud by itself", n.Name, n.Type)
	}
	if n.Filter == nil {
		c.findings.Errorf(n.Pos, "missing-filter",
			"add node_filter: with a condition, such as { $equal: [ { $get_property: [ SELF, label ] }, … ] }",
			"%s does not say which %s it selects", n.Name, n.Type)
	}
	c.expr(n.Filter, place{typ: n.Def})
}

// exampleOf is a value to put in for a property that is missing.
func exampleOf(p *Property) string {
	if e := p.Metadata["example"]; e != "" {
		return e
	}
	return p.Type.Label()
}

// assigned holds assignments against definitions: those that do not exist, and
// those that are missing. hint may have a better fix for an unknown name.
func (c *checker) assigned(given []*Assignment, defs []*Property, p Pos, name, of string, at place,
	hint func(string) string) {
	var typos []string
	for _, a := range given {
		d := find(defs, a.Name)
		if d == nil {
			typos = append(typos, nearest(a.Name, names(defs))) // a typo is not a missing property too
			fix := suggest(a.Name, names(defs))
			if hint != nil {
				if h := hint(a.Name); h != "" {
					fix = h
				}
			}
			c.findings.Errorf(a.Pos, "unknown-property", fix, "%s has no property '%s'", of, a.Name)
		} else if d.Status == "deprecated" || d.Status == "unsupported" {
			c.findings.Warnf(a.Pos, "deprecated", d.Description, "the property '%s' of %s is %s", a.Name, of, d.Status)
		}
		c.expr(a.Value, at)
	}
	for _, d := range defs {
		if d.Optional() || slices.Contains(typos, d.Name) ||
			slices.ContainsFunc(given, func(a *Assignment) bool { return a.Name == d.Name }) {
			continue
		}
		c.findings.Errorf(p, "missing-property", "add "+d.Name+": "+exampleOf(d),
			"%s: the property '%s' of %s is missing", name, d.Name, of)
	}
}

// optional is definitions none of which must be given.
func optional(defs []*Property) []*Property {
	out := make([]*Property, len(defs))
	for i, d := range defs {
		out[i] = &Property{Pos: d.Pos, Name: d.Name, Type: d.Type, Status: d.Status, Description: d.Description}
	}
	return out
}

// attributes looks at the first values of attributes: only those that a
// template's own type adds can have one.
func (c *checker) attributes(n *NodeTemplate, t *NodeType, at place) {
	for _, a := range n.Attributes {
		switch {
		case t.Attribute(a.Name) == nil:
			c.findings.Errorf(a.Pos, "unknown-attribute", suggest(a.Name, names(t.Attributes)),
				"%s has no attribute '%s'", t.Name, a.Name)
		case t.Resource != "" && t.Base().Attribute(a.Name) != nil:
			c.findings.Errorf(a.Pos, "set-by-cloud", "remove it", "the attribute '%s' of %s is set by the cloud",
				a.Name, n.Name)
		}
		c.expr(a.Value, at)
	}
}

// Base is the type of the cloud that t comes down to; nil where it is none.
func (t *NodeType) Base() *NodeType {
	if t.Resource == "" {
		return nil
	}
	for s := t; ; s = s.Parent {
		if s.Parent == nil || s.Parent.Resource != t.Resource {
			return s
		}
	}
}

func (c *checker) artifacts(list []*Artifact) {
	for _, a := range list {
		if a.Type == "" {
			continue
		}
		t := c.lib.Artifacts[a.Type]
		if t == nil {
			c.findings.Errorf(a.TypePos, "unknown-type", suggest(a.Type, typeNames(c.lib.Artifacts)),
				"there is no artifact type '%s'", a.Type)
			continue
		}
		c.assigned(a.Properties, t.Properties, a.Pos, "the artifact "+a.Name, t.Name, place{}, nil)
		ext := strings.TrimPrefix(path.Ext(a.File), ".")
		if len(t.Extensions) > 0 && !slices.Contains(t.Extensions, ext) {
			c.findings.Errorf(a.FilePos, "wrong-extension", "its names end in "+strings.Join(t.Extensions, ", "),
				"%s is not %s by its name", a.File, article(t.Name))
		}
	}
}

// interfaces looks at what a node assigns to its interfaces. n is nil for a
// relationship.
func (c *checker) interfaces(list []*Interface, t *NodeType, n *NodeTemplate) {
	for _, i := range list {
		d := t.Interface(i.Name)
		if d == nil {
			known := namesOfAll(t.Interfaces)
			c.findings.Errorf(i.Pos, "unknown-interface", suggest(i.Name, known), "%s has no interface '%s'", t.Name,
				i.Name)
			continue
		}
		at := place{n, t, nil}
		carried := t.Carried(i.Name) != nil
		with := func(defs []*Property, given []*Assignment) []*Property {
			if !carried {
				return defs
			}
			defs = slices.Clip(defs)
			for _, a := range given { // a template may give inputs that no type speaks of
				if find(defs, a.Name) == nil {
					defs = append(defs, &Property{Pos: a.Pos, Name: a.Name})
				}
			}
			return defs
		}
		c.assigned(i.Given, with(d.Inputs, i.Given), i.Pos, i.Name, "the interface "+i.Name, at, nil)
		for _, o := range i.Operations {
			def := d.Operation(o.Name)
			if def == nil {
				known := namesOfAll(d.Operations)
				c.findings.Errorf(o.Pos, "unknown-operation", suggest(o.Name, known),
					"the interface '%s' has no operation '%s'", i.Name, o.Name)
				continue
			}
			inputs := slices.Clip(def.Inputs)
			for _, in := range d.Inputs { // an operation may give those of its interface anew
				if slices.ContainsFunc(o.Given, func(a *Assignment) bool { return a.Name == in.Name }) &&
					find(inputs, in.Name) == nil {
					inputs = append(inputs, in)
				}
			}
			c.assigned(o.Given, with(inputs, o.Given), o.Pos, o.Name, "the operation "+o.Name, at, nil)
			for _, a := range append(slices.Clone(o.Dependencies), o.Primary) {
				c.implementation(a, n)
			}
			if carried {
				c.outputs(o, t)
			}
		}
		if carried {
			continue
		}
		c.findings.Warnf(i.Pos, "not-carried-out", "",
			"the operations of '%s' are checked and kept, and not carried out yet", i.Name)
	}
}

// outputs looks whether the attributes are there that the outputs of an operation go to.
func (c *checker) outputs(o *Operation, t *NodeType) {
	for _, out := range o.Outputs {
		x := out.Value
		name := ""
		if x.Kind == ListExpr && len(x.Args) == 2 && x.Args[0].Kind == LiteralExpr && x.Args[1].Kind == LiteralExpr && Show(x.Args[0].Value) == "SELF" {
			name = Show(x.Args[1].Value)
		}
		switch {
		case name == "":
			c.findings.Errorf(out.Pos, "wrong-type", "write [ SELF, ATTRIBUTE ]", "the output '%s' of %s goes to an attribute of the node itself", out.Name, o.Name)
		case t.Attribute(name) == nil:
			c.findings.Errorf(out.Pos, "unknown-attribute", suggest(name, names(t.Attributes)), "%s has no attribute '%s'", t.Name, name)
		}
	}
}

// scripted looks whether a node whose operations are carried out has any.
func (c *checker) scripted(n *NodeTemplate, t *NodeType) {
	for _, p := range t.Properties {
		if p.Metadata["from_artifact"] == "text" {
			c.isText(n.Artifact(p.Name))
		}
		face := p.Metadata["from_interface"]
		if own := p.Metadata["from_own"]; own != "" {
			if i := slices.IndexFunc(n.Properties, func(a *Assignment) bool { return a.Name == p.Name }); i >= 0 {
				c.findings.Errorf(n.Properties[i].Pos, "fixed-property", "remove it", "the property '%s' follows from the type %s", p.Name, t.Name)
			}
			if own == "programs" {
				c.programs(n, t)
			}
			continue
		}
		if face == "" {
			continue
		}
		if i := slices.IndexFunc(n.Properties, func(a *Assignment) bool { return a.Name == p.Name }); i >= 0 {
			c.findings.Errorf(n.Properties[i].Pos, "fixed-property", "write interfaces: { "+face+": { operations: … } }",
				"the property '%s' of %s follows from its interface %s", p.Name, t.Name, face)
		}
		for _, o := range Operations(n, t, face) {
			for _, a := range append(slices.Clone(o.Dependencies), o.Primary, o.Primary.Adapter) {
				c.isText(a)
			}
		}
		if len(Operations(n, t, face)) == 0 {
			c.findings.Errorf(n.Pos, "missing-script", "add interfaces: { "+face+": { operations: { create: scripts/setup.sh } } }",
				"%s has no operation that is carried out", n.Name)
		}
	}
}

// isText looks whether a file is a text, as it has to be where it becomes a value.
func (c *checker) isText(a *Artifact) {
	if a == nil || a.Content == nil || utf8.Valid(a.Content) {
		return
	}
	line := 1
	for text := a.Content; len(text) > 0; {
		r, size := utf8.DecodeRune(text)
		if r == utf8.RuneError && size == 1 {
			break
		}
		if r == '\n' {
			line++
		}
		text = text[size:]
	}
	c.findings.Errorf(a.Pos, "not-text", "save it as UTF-8; what is no text can be written with base64 -d, or fetched with curl",
		"%s is not UTF-8 text: look at its line %d", a.File, line)
}

// programs looks whether a type of one's own has what it cannot do without.
func (c *checker) programs(n *NodeTemplate, t *NodeType) {
	have := map[string]bool{}
	for _, o := range Operations(n, t, "Resource") {
		have[o.Name] = true
		if a := o.Primary; a.File != "" && a.Content == nil {
			c.findings.Errorf(a.Pos, "no-such-file", "", "%s cannot be read", a.File)
		}
	}
	if t.Base() == t {
		c.findings.Errorf(n.TypePos, "missing-program", "derive a type from it, which says what makes it, reads it and removes it", "%s is no type of its own", t.Name)
		return
	}
	for _, name := range []string{"create", "read", "delete"} {
		if !have[name] {
			c.findings.Errorf(t.Pos, "missing-program", "add interfaces: { Resource: { operations: { "+name+": programs/"+strings.ToLower(t.Name)+" } } }",
				"the type %s does not say which program carries out %s", t.Name, name)
		}
	}
}

// Operations are those of an interface that a node, or its type, gives something to carry out.
// Inputs that the interface gives are among their own.
func Operations(n *NodeTemplate, t *NodeType, face string) []*Operation {
	def := t.Interface(face)
	if def == nil {
		return nil
	}
	given := &Interface{}
	for _, i := range n.Interfaces {
		if i.Name == face {
			given = i
		}
	}
	var out []*Operation
	for _, d := range def.Operations {
		o := *d
		for _, in := range append(slices.Clone(def.Inputs), d.Inputs...) {
			if x := in.Default; x != nil || in.Fixed != nil {
				if in.Fixed != nil {
					x = in.Fixed
				}
				o.Given = over([]*Assignment{&Assignment{Pos: in.Pos, Name: in.Name, Value: x}}, o.Given)
			}
		}
		for _, a := range given.Given {
			o.Given = over([]*Assignment{a}, o.Given)
		}
		if own := given.Operation(d.Name); own != nil {
			o.Pos = own.Pos
			if own.Primary != nil {
				o.Primary, o.Dependencies = own.Primary, own.Dependencies
			}
			for _, a := range own.Given {
				o.Given = over([]*Assignment{a}, o.Given)
			}
			for _, a := range own.Outputs {
				o.Outputs = over([]*Assignment{a}, o.Outputs)
			}
		}
		if o.Primary != nil {
			out = append(out, &o)
		}
	}
	return out
}

// implementation looks whether what an operation runs is there: an artifact of
// the node, or a file.
func (c *checker) implementation(a *Artifact, n *NodeTemplate) {
	if a == nil || a.File != "" || n != nil && n.Artifact(a.Name) != nil {
		return
	}
	var known []string
	if n != nil {
		for _, b := range n.Artifacts {
			known = append(known, b.Name)
		}
	}
	c.findings.Errorf(a.Pos, "unknown-artifact", suggest(a.Name, known),
		"there is no artifact '%s' here; add it under artifacts", a.Name)
}

func (c *checker) group(g *Group) {
	t := c.lib.Groups[g.Type]
	switch {
	case g.Type == "":
		c.findings.Errorf(g.Pos, "missing-type", "add type: with a group type", "the group '%s' has no type", g.Name)
	case t == nil:
		c.findings.Errorf(g.TypePos, "unknown-type", suggest(g.Type, typeNames(c.lib.Groups)),
			"there is no group type '%s'", g.Type)
	default:
		c.assigned(g.Properties, t.Properties, g.Pos, g.Name, t.Name, place{}, nil)
		c.assigned(g.Attributes, t.Attributes, g.Pos, g.Name, t.Name, place{}, nil)
	}
	c.members(g.Members, t, g.Type, false)
}

// members looks at the targets of a policy or the members of a group.
func (c *checker) members(list []Key, t *EntityType, name string, groups bool) {
	for _, k := range list {
		n := c.template.Node(k.Name)
		group := c.template.Group(k.Name)
		switch {
		case n == nil && (!groups || group == nil):
			c.findings.Errorf(k.Pos, "unknown-node", suggest(k.Name, c.template.nodeNames()), "there is no node '%s'",
				k.Name)
		case t == nil || len(t.Targets) == 0 || n != nil && n.Def == nil:
		case n != nil && !slices.ContainsFunc(t.Targets, func(w Key) bool { return n.Def.IsA(c.lib.Nodes[w.Name]) }),
			n == nil && !slices.ContainsFunc(t.Targets,
				func(w Key) bool { return c.lib.Groups[group.Type].IsA(c.lib.Groups[w.Name]) }):
			c.findings.Errorf(k.Pos, "wrong-target", "", "%s cannot have %s as a member", name, k.Name)
		}
	}
}

func (c *checker) policy(p *Policy) {
	switch {
	case p.Type == "":
		c.findings.Errorf(p.Pos, "missing-type", "add type: Keep, or another policy type",
			"the policy '%s' has no type", p.Name)
	case p.Def == nil:
		c.findings.Errorf(p.TypePos, "unknown-type", suggest(p.Type, typeNames(c.lib.Policies)),
			"there is no policy type '%s'", p.Type)
	default:
		if root := p.Def.Root(); !slices.Contains([]string{"Keep", "Guard", "Probe", "Drain", "Backup"}, root) {
			c.findings.Errorf(p.TypePos, "not-supported-yet", "derive it from Keep, Guard, Backup, Drain or Probe",
				"the policy type %s is not supported yet", p.Type)
		}
		c.assigned(p.Properties, p.Def.Properties, p.Pos, p.Name, p.Def.Name, place{}, nil)
	}
	c.members(p.Targets, p.Def, p.Type, true)
}

// substitution looks at what a template says of the nodes that it fills.
func (c *checker) substitution(s *Substitution) {
	t := s.Type
	if t == nil {
		if s.TypeName != "" {
			c.findings.Errorf(s.Pos, "unknown-type", suggest(s.TypeName, typeNames(c.lib.Nodes)),
				"there is no node type '%s'", s.TypeName)
		}
		return
	}
	c.expr(s.Filter, place{typ: t})
	for _, m := range s.Properties {
		if t.Property(m.Name) == nil {
			c.findings.Errorf(m.Pos, "unknown-property", suggest(m.Name, names(t.Properties)),
				"%s has no property '%s'", t.Name, m.Name)
		}
		if c.template.Input(m.To) == nil {
			c.findings.Errorf(m.ToPos, "unknown-input", suggest(m.To, names(c.template.Inputs)),
				"there is no input '%s'", m.To)
		}
	}
	for _, m := range s.Attributes {
		if t.Attribute(m.Name) == nil {
			c.findings.Errorf(m.Pos, "unknown-attribute", suggest(m.Name, names(t.Attributes)),
				"%s has no attribute '%s'", t.Name, m.Name)
		}
		if m.Part.Name != "" {
			c.innerNode(m)
			continue
		}
		if !slices.ContainsFunc(c.template.Outputs, func(o *Output) bool { return o.Name == m.To }) {
			known := namesOfAll(c.template.Outputs)
			c.findings.Errorf(m.ToPos, "unknown-output", suggest(m.To, known), "there is no output '%s'", m.To)
		}
	}
	for _, m := range s.Capabilities {
		if t.Capability(m.Name) == nil {
			c.findings.Errorf(m.Pos, "unknown-capability", "", "%s has no capability '%s'", t.Name, m.Name)
		}
		c.innerNode(m)
	}
	for _, m := range s.Requirements {
		if t.Requirement(m.Name) == nil {
			c.findings.Errorf(m.Pos, "unknown-requirement", "", "%s has no requirement '%s'", t.Name, m.Name)
		}
		n := c.innerNode(m)
		if n != nil && n.Def != nil && n.Def.Requirement(m.Part.Name) == nil {
			c.findings.Errorf(m.ToPos, "unknown-requirement", "write [ node, requirement ]",
				"%s has no requirement '%s'", n.Type, m.Part.Name)
		}
	}
	for _, in := range c.template.Inputs {
		if !in.Optional() && !slices.ContainsFunc(s.Properties, func(m Mapping) bool { return m.To == in.Name }) {
			c.findings.Errorf(in.Pos, "missing-mapping", "map a property of "+t.Name+" to it, or give it a default",
				"nothing gives the input '%s' a value when a %s is filled", in.Name, t.Name)
		}
	}
}

func (c *checker) innerNode(m Mapping) *NodeTemplate {
	n := c.template.Node(m.To)
	if n == nil {
		c.findings.Errorf(m.ToPos, "unknown-node", suggest(m.To, c.template.nodeNames()), "there is no node '%s'", m.To)
	}
	return n
}

// pathWords are the steps of a path that are not names.
var pathWords = []string{"CAPABILITY", "RELATIONSHIP", "TARGET", "SOURCE"}

// elsewhere is the shipped profile whose types are called like one that a template does not know.
func elsewhere(typ string) string {
	for prefix, name := range map[string]string{"Postgres": Shipped[1], "Dns": Shipped[2]} {
		if strings.HasPrefix(typ, prefix) {
			return name
		}
	}
	return ""
}
