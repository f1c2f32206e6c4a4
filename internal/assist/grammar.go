package assist

import (
	"slices"
	"strings"

	"brickrow/internal/fleet"
	"brickrow/internal/rules"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// rule is what may stand at a spot: a state of the walk along its way.
type rule struct {
	// section has keywords of its own; schema is a JSON Schema, of a stack file or of
	// rules.
	section string
	schema  map[string]any
	root    map[string]any // that $ref leads into
	// names says that the keys are names, of what names is; list, that the items are.
	names, list string
	// fields are the properties that the keys may be, and requirements those that the
	// keys of items may be.
	fields       []*tosca.Property
	requirements []*tosca.RequirementDef
	capabilities []*tosca.CapabilityDef
	// interfaces are those that the keys may be, and operations those of one.
	interfaces []*tosca.Interface
	operations []*tosca.Operation
	// value is the property whose value stands here, or whose type is typ.
	value *tosca.Property
	typ   *tosca.Type
	any   bool // any value, or call of a function
	// refer says what a name here refers to: a section, or a table of types.
	refer  string
	target *tosca.RequirementDef // that a node has to suit
	// call is the function whose arguments stand here.
	call   string
	within *tosca.NodeType // what SELF is
	self   string          // the name of the node that it is in
	enum   []string
	symbol *Symbol // the symbol that is defined here
	// words are keys that mean something where any may stand.
	words []word
	// mapping is what the keys here are mapped to, in a template that fills a node.
	mapping string
	example string // of an entry
	checked bool   // it is a condition over $value
}

// word is a key that means something where any may stand, with the values that it may have.
type word struct {
	name, meaning string
	values        []string
}

// sectionOf is the section of keywords of what a named section's entries are.
var sectionOf = map[string]string{
	"inputs": "parameter definition", "node_templates": "node template", "outputs": "output", "groups": "group",
	"policies": "policy", "relationship_templates": "relationship template", "data_types": "data type",
	"node_types": "node type", "capability_types": "capability type", "relationship_types": "relationship type",
	"interface_types": "interface type", "artifact_types": "artifact type", "group_types": "group type",
	"policy_types": "policy type", "functions": "function", "repositories": "repository",
	"property definitions": "property definition", "capability definitions": "capability definition",
	"requirement definitions": "requirement definition", "artifacts": "artifact",
}

// walk follows the way of a spot and yields the rule that holds there.
func (w *Work) walk(d *doc, s *Spot) rule {
	var r rule
	switch d.outline.Kind {
	case StackFile:
		r.schema = plainSchema(stack.FileSchema(w.inputsFor(d)))
		r.root = r.schema
	case FleetFile:
		r.schema = plainSchema(fleet.Schema(w.inputsFor(d)))
		r.root = r.schema
	case Rules:
		r.schema = plainSchema(rules.FileSchema())
		r.root = r.schema
	default:
		r.section = "file"
	}
	for i, step := range s.Way {
		if step.Item {
			r = w.item(d, r, s, i)
		} else {
			r = w.key(d, r, step.Key, s, i)
		}
	}
	valued := d.outline.Kind == StackFile || d.outline.Kind == FleetFile
	if valued && r.schema == nil {
		r = rule{root: r.root} // no calls there
	}
	if d.outline.Kind == FleetFile {
		switch way := strings.Join(s.Path(), "/"); {
		case s.Kind == AtValue && way == "stack":
			r.refer = "files"
		case s.Kind == AtValue && (way == "places/[]/target" || way == "places/[]" || way == "except/[]"):
			r.refer = "patterns"
		case s.Kind == AtValue && strings.HasSuffix(way, "/from_file"):
			r.refer = "files"
		}
	}
	if d.outline.Kind == Rules && s.Kind == AtValue {
		switch way := strings.TrimSuffix(strings.Join(s.Path(), "/"), "/types/[]"); {
		case strings.HasPrefix(way, "rules/[]") && (way == "rules/[]/types" || way != strings.Join(s.Path(), "/")), way == "tests/[]/type":
			r.refer = "node types"
		case way == "tests/[]/rule":
			r.refer = "rules"
		}
	}
	if d.outline.Kind == StackFile && s.Kind == AtValue {
		switch strings.Join(append(s.Path()[:min(1, len(s.Way))], s.Path()[min(2, len(s.Way)):]...), "/") {
		case "template", "inputs/from_file":
			r.refer = "files"
		case "target":
			r.refer = "targets"
		case "inputs/from_stack/stack":
			r.refer = "stacks"
		case "inputs/from_stack/output":
			r.refer = "results"
		}
	}
	return r
}

// inputsFor are the inputs that a file can give values to; nil where they are not known.
func (w *Work) inputsFor(d *doc) []*tosca.Property {
	if t := w.template(d); t != nil && t.file != nil && t.file.Service != nil {
		return append([]*tosca.Property{}, t.file.Service.Inputs...)
	}
	return nil
}

// item is the rule within an item of a list.
func (w *Work) item(d *doc, r rule, s *Spot, i int) rule {
	switch {
	case r.schema != nil:
		for _, c := range choices(r.schema, r.root) {
			if items, is := c["items"].(map[string]any); is {
				return rule{schema: follow(items, r.root), root: r.root}
			}
		}
		return rule{schema: map[string]any{}, root: r.root}
	case r.call != "":
		return w.argument(d, r, s, i)
	case r.mapping != "" && r.refer == "":
		return r
	case r.mapping != "" && i == len(s.Way)-1:
		return w.mapped(d, r, s)
	case r.list == "import":
		return rule{section: "import", refer: "files"}
	case r.list == "policies":
		return rule{names: "policies"}
	case r.list == "requirement definitions":
		return rule{names: "requirement definitions"}
	case r.list != "":
		return rule{refer: r.list, self: r.self}
	case r.target != nil: // [ node, index ]
		return rule{refer: "node_templates", target: r.target, self: r.self}
	case r.requirements != nil:
		return r
	case r.typ != nil:
		out := rule{typ: r.typ.Entry, any: r.typ.Entry == nil, within: r.within, self: r.self}
		if r.value != nil {
			out.example = strings.Trim(r.value.Metadata["example"], "[] ")
		}
		return out
	case r.enum != nil:
		return rule{enum: r.enum}
	}
	return rule{any: true, within: r.within, self: r.self}
}

// argument is the rule of an argument of a function.
func (w *Work) argument(d *doc, r rule, s *Spot, i int) rule {
	out := rule{any: true, within: r.within, self: r.self, checked: r.checked}
	if i != len(s.Way)-1 { // what is inside of an argument
		if strings.HasPrefix(r.call, "get_") && r.call != "get_input" && i == len(s.Way)-2 && s.Way[i+1].Item && s.Index == 0 {
			return rule{list: "node_templates", self: "SELF", within: r.within} // [ node, index ]
		}
		return out
	}
	args := s.Args
	switch n := s.Index; r.call {
	case "get_input":
		if n == 0 {
			return rule{refer: "inputs"}
		}
	case "get_property", "get_attribute", "get_artifact":
		if n == 0 {
			return rule{refer: "node_templates", self: "SELF", within: r.within}
		}
		if len(args) == 0 {
			return out
		}
		return w.along(d, r, args[:min(n, len(args))])
	}
	return out
}

// along is the rule of what may follow on a path from a node.
func (w *Work) along(d *doc, r rule, path []string) rule {
	out := rule{within: r.within, self: r.self}
	first := strings.TrimLeft(path[0], "[ ") // or [ node, index ]
	if i := strings.IndexAny(first, ", ]"); i >= 0 {
		first = first[:i]
	}
	t, name := r.within, r.self
	if first != "SELF" {
		t, name = nil, first
		if node := d.outline.Symbol("node_templates", first); node != nil {
			t = w.nodeType(d, node.Type)
		}
	}
	if t == nil {
		out.any = true
		return out
	}
	if r.call == "get_artifact" {
		out.enum = []string{}
		for _, a := range artifactNames(t) {
			out.enum = append(out.enum, a.name)
		}
		return out
	}
	for i := 1; ; i++ {
		if i >= len(path) {
			if out.fields = append(out.fields, t.Properties...); r.call == "get_attribute" {
				out.fields = append(append([]*tosca.Property{}, t.Attributes...), t.Properties...)
			}
			if len(t.Requirements) > 0 {
				out.enum = append(out.enum, "RELATIONSHIP")
			}
			if slices.ContainsFunc(t.Capabilities, func(c *tosca.CapabilityDef) bool { return len(c.Properties) > 0 }) {
				out.enum = append(out.enum, "CAPABILITY")
			}
			return out
		}
		rest := path[i+1:]
		switch path[i] {
		case "CAPABILITY":
			if len(rest) == 0 {
				for _, c := range t.Capabilities {
					out.enum = append(out.enum, c.Name)
				}
			} else if c := t.Capability(rest[0]); c != nil && len(rest) == 1 {
				out.fields = append(out.fields, c.Properties...)
			}
			return out
		case "RELATIONSHIP":
			if len(rest) == 0 {
				for _, q := range t.Requirements {
					out.enum = append(out.enum, q.Name)
				}
				return out
			}
			q := t.Requirement(rest[0])
			if q == nil {
				return out
			}
			i++
			if rest = rest[1:]; len(rest) > 0 && (rest[0] == "ALL" || strings.Trim(rest[0], "0123456789") == "") {
				i++
				rest = rest[1:]
			} else if len(rest) == 0 && q.High != 1 {
				out.enum = append(out.enum, "ALL")
			}
			if len(rest) == 0 {
				out.enum = append(out.enum, "TARGET")
				if q.Type != nil {
					out.fields = append(out.fields, q.Type.Properties...)
				}
				return out
			}
			if rest[0] != "TARGET" {
				return out
			}
			i++
			if t, name = w.reached(d, name, q); t == nil {
				return out
			}
		default:
			p := t.Property(path[i])
			if p == nil && r.call == "get_attribute" {
				p = t.Attribute(path[i])
			}
			for _, key := range rest { // into a structure
				if p == nil || p.Type == nil {
					return out
				}
				i := slices.IndexFunc(p.Type.Fields, func(f *tosca.Property) bool { return f.Name == key })
				if i < 0 {
					return out
				}
				p = p.Type.Fields[i]
			}
			if p != nil && p.Type != nil {
				out.fields = append(out.fields, p.Type.Fields...)
			}
			return out
		}
	}
}

// reached is the type of the node that a requirement of another one leads to, and its
// name where the template says it.
func (w *Work) reached(d *doc, node string, q *tosca.RequirementDef) (*tosca.NodeType, string) {
	if d.file != nil && d.file.Service != nil {
		if n := d.file.Service.Node(node); n != nil {
			for _, r := range n.Requirements {
				if target := d.file.Service.Node(r.Target); r.Name == q.Name && target != nil && target.Def != nil {
					return target.Def, target.Name
				}
			}
		}
	}
	return q.Target, ""
}

// key is the rule of the value of a key.
func (w *Work) key(d *doc, r rule, key string, s *Spot, i int) rule {
	if name, ok := strings.CutPrefix(key, "$"); ok && (r.value != nil || r.typ != nil || r.any || r.call != "") {
		out := rule{call: name, within: r.within, self: r.self, checked: r.checked}
		if name == "get_input" && s.Kind == AtValue && i == len(s.Way)-1 {
			return rule{refer: "inputs"}
		}
		return out
	}
	switch {
	case r.mapping != "":
		return rule{mapping: r.mapping, refer: r.mapping, within: r.within}
	case r.names == "" && r.words != nil:
		for _, w := range r.words {
			if w.name == key {
				return rule{enum: w.values}
			}
		}
		return rule{}
	case r.schema != nil:
		return schemaKey(r, key)
	case r.section != "":
		return w.keyword(d, r, key, s, i)
	case r.names != "":
		out := rule{section: sectionOf[r.names], symbol: d.outline.Symbol(r.names, key)}
		if r.names == "node_templates" {
			out.self = key
		}
		if out.section == "" {
			out = rule{any: true}
		}
		return out
	case r.requirements != nil:
		for _, q := range r.requirements {
			if q.Name == key {
				return rule{section: "requirement assignment", refer: "node_templates", target: q, self: r.self,
					within: r.within}
			}
		}
	case r.capabilities != nil:
		for _, c := range r.capabilities {
			if c.Name == key {
				return rule{section: "capability assignment", fields: c.Properties, within: r.within, self: r.self}
			}
		}
	case r.interfaces != nil:
		for _, f := range r.interfaces {
			if f.Name == key {
				return rule{section: "interface assignment", operations: f.Operations, within: r.within, self: r.self}
			}
		}
	case r.operations != nil:
		return rule{section: "operation", refer: "files", within: r.within, self: r.self}
	case r.fields != nil:
		for _, p := range r.fields {
			if p.Name == key {
				return valueOf(p, r)
			}
		}
	case r.typ != nil && len(r.typ.Fields) > 0:
		for _, p := range r.typ.Fields {
			if p.Name == key {
				return valueOf(p, r)
			}
		}
	case r.typ != nil && r.typ.Entry != nil:
		return rule{typ: r.typ.Entry, within: r.within, self: r.self}
	}
	return rule{any: true, within: r.within, self: r.self}
}

// valueOf is the rule of the value of a property.
func valueOf(p *tosca.Property, r rule) rule {
	return rule{value: p, typ: p.Type, any: p.Type == nil, within: r.within, self: r.self}
}

// keyword is the rule of the value of a keyword of a section.
func (w *Work) keyword(d *doc, r rule, key string, s *Spot, i int) rule {
	typ := func() string { return s.Beside(i)["type"] } // of what the keyword stands in
	lib := w.library(d)
	self := rule{within: r.within, self: r.self}
	if r.section == "node template" {
		self.within = w.nodeType(d, typ())
	}
	value := func() rule { self.any = true; return self }
	switch key {
	case "metadata":
		return rule{words: w.metadata(d, r, self.within)}
	case "dsl_definitions", "description", "version":
		return rule{}
	case "validation", "node_filter", "substitution_filter":
		out := value()
		out.checked = key == "validation"
		if key == "node_filter" && r.target != nil {
			out.within = r.target.Target
		}
		return out
	}
	switch r.section {
	case "file":
		switch {
		case key == "tosca_definitions_version":
			return rule{enum: []string{"tosca_2_0"}}
		case key == "imports":
			return rule{list: "import"}
		case key == "service_template":
			return rule{section: "service template"}
		case named[key]:
			return rule{names: key}
		}
	case "import":
		switch key {
		case "url":
			return rule{refer: "files"}
		case "profile":
			return rule{enum: w.Profiles}
		case "repository":
			return rule{refer: "repositories"}
		}
	case "service template":
		switch {
		case key == "policies":
			return rule{list: "policies"}
		case key == "substitution_mappings":
			return rule{section: "substitution mapping"}
		case named[key]:
			return rule{names: key}
		}
	case "parameter definition", "property definition", "output", "schema definition":
		switch key {
		case "type":
			return rule{refer: "data types"}
		case "default", "value":
			if t := w.dataType(lib, d, typ()); t != nil && key == "default" {
				return rule{typ: t}
			}
			return value()
		case "required":
			return rule{enum: []string{"true", "false"}}
		case "status":
			return rule{enum: []string{"supported", "experimental", "unsupported", "deprecated"}}
		case "entry_schema", "key_schema":
			return rule{section: "schema definition", refer: "data types"}
		}
	case "node template":
		t := self.within
		switch key {
		case "type":
			return rule{refer: "node types"}
		case "directives":
			return rule{enum: []string{"select", "substitute", "create"}}
		case "copy":
			return rule{refer: "node_templates", self: r.self}
		case "count":
			return value()
		case "artifacts":
			return rule{names: "artifacts", words: artifactNames(t)}
		}
		if t == nil {
			return value()
		}
		switch key {
		case "properties":
			self.fields = nonNil(t.Given())
			return self
		case "requirements":
			self.requirements = t.Requirements
			if self.requirements == nil {
				self.requirements = []*tosca.RequirementDef{}
			}
			return self
		case "capabilities":
			self.capabilities = append([]*tosca.CapabilityDef{}, t.Capabilities...)
			return self
		case "attributes":
			self.fields = nonNil(t.Attributes)
			return self
		case "interfaces":
			self.interfaces = append([]*tosca.Interface{}, t.Interfaces...)
			return self
		}
	case "interface assignment":
		if key == "operations" {
			self.operations = append([]*tosca.Operation{}, r.operations...)
			return self
		}
		return value()
	case "operation":
		if key == "implementation" {
			return rule{section: "implementation", refer: "files", within: r.within, self: r.self}
		}
		return value()
	case "implementation":
		switch key {
		case "primary":
			return rule{section: "artifact", refer: "files"}
		case "dependencies":
			return rule{list: "files"}
		}
	case "capability assignment":
		if key == "properties" {
			self.fields = nonNil(r.fields)
			return self
		}
	case "requirement assignment":
		switch key {
		case "node":
			return rule{refer: "node_templates", target: r.target, self: r.self}
		case "relationship":
			return rule{refer: "relationship_templates"}
		}
		return value()
	case "artifact":
		switch key {
		case "file":
			return rule{refer: "files"}
		case "type":
			return rule{refer: "artifact types"}
		case "repository":
			return rule{refer: "repositories"}
		}
	case "group":
		switch key {
		case "type":
			return rule{refer: "group types"}
		case "members": // nodes alone, no other group
			return rule{list: "node_templates", self: " "}
		case "properties":
			return rule{fields: entityFields(lib.Groups[typ()])}
		}
	case "policy":
		switch key {
		case "type":
			return rule{refer: "policy types"}
		case "targets":
			return rule{list: "node_templates"}
		case "properties":
			return rule{fields: entityFields(lib.Policies[typ()])}
		}
	case "relationship template":
		switch key {
		case "type":
			return rule{refer: "relationship types"}
		case "properties":
			return rule{fields: entityFields(lib.Relationships[typ()])}
		}
	case "substitution mapping":
		switch key {
		case "node_type":
			return rule{refer: "node types"}
		}
		t := w.nodeType(d, s.Beside(i)["node_type"])
		if t == nil {
			t = &tosca.NodeType{}
		}
		switch key {
		case "properties":
			return rule{fields: nonNil(t.Properties), mapping: "inputs"}
		case "attributes":
			return rule{fields: nonNil(t.Attributes), mapping: "outputs"}
		case "capabilities":
			return rule{capabilities: append([]*tosca.CapabilityDef{}, t.Capabilities...), mapping: key}
		case "requirements":
			return rule{requirements: append([]*tosca.RequirementDef{}, t.Requirements...), mapping: key}
		}
	case "node type":
		switch key {
		case "derived_from":
			return rule{refer: "node types"}
		case "properties", "attributes":
			return rule{names: "property definitions"}
		case "capabilities":
			return rule{names: "capability definitions"}
		case "requirements":
			return rule{list: "requirement definitions"}
		}
	case "requirement definition":
		switch key {
		case "node":
			return rule{refer: "node types"}
		case "capability":
			return rule{refer: "capability types"}
		case "relationship":
			return rule{refer: "relationship types"}
		}
	case "capability definition":
		if key == "type" {
			return rule{refer: "capability types"}
		}
	case "data type":
		switch key {
		case "derived_from":
			return rule{refer: "data types"}
		case "properties":
			return rule{names: "property definitions"}
		case "entry_schema", "key_schema":
			return rule{section: "schema definition", refer: "data types"}
		}
	case "capability type", "relationship type", "group type", "policy type", "artifact type", "interface type":
		switch key {
		case "derived_from":
			return rule{refer: r.section + "s"}
		case "properties", "attributes":
			return rule{names: "property definitions"}
		case "targets", "members":
			return rule{list: "node types"}
		}
	}
	return value()
}

// metadata are the names that mean something.
func (w *Work) metadata(d *doc, r rule, t *tosca.NodeType) []word {
	switch r.section {
	case "parameter definition":
		return []word{{tosca.FilledBy, "Where its value comes from where nobody gives one", tosca.Fillers},
			{tosca.Message, "What is said where its validation fails", nil}}
	case "output":
		return []word{{tosca.Command, "A command to be run with the result; $value is its value, as a word of a shell", nil}}
	case "property definition":
		return []word{{tosca.Message, "What is said where its validation fails", nil}}
	case "node template":
		var names, was []string
		if t != nil {
			for _, p := range t.Given() {
				names = append(names, p.Name)
			}
		}
		for _, name := range w.recorded(d) {
			if node, _, _ := strings.Cut(name, "#"); d.outline.Symbol("node_templates", node) == nil && !slices.Contains(was, node) &&
				!strings.Contains(node, "/") {
				was = append(was, node)
			}
		}
		return []word{{tosca.Formerly, "The name under which it is deployed: it is renamed, not made anew", was},
			{tosca.KeyedBy, "The property that tells the instances of a count apart, and names them", names}}
	}
	return []word{}
}

// artifactNames are those that give a property its value.
func artifactNames(t *tosca.NodeType) []word {
	out := []word{}
	if t == nil {
		return out
	}
	for _, p := range t.Properties {
		if p.Metadata["from_artifact"] != "" {
			out = append(out, word{p.Name, p.Description, nil})
		}
	}
	return out
}

// mapped is the rule of a part of a node that something is mapped to.
func (w *Work) mapped(d *doc, r rule, s *Spot) rule {
	if s.Index == 0 && (len(s.Args) == 0 || s.Flow) {
		return rule{refer: "node_templates"}
	}
	if len(s.Args) == 0 {
		return rule{}
	}
	n := d.outline.Symbol("node_templates", s.Args[0])
	if n == nil {
		return rule{}
	}
	t := w.nodeType(d, n.Type)
	if t == nil {
		return rule{}
	}
	out := rule{enum: []string{}}
	switch r.mapping {
	case "outputs":
		for _, a := range t.Attributes {
			out.enum = append(out.enum, a.Name)
		}
	case "capabilities":
		for _, c := range t.Capabilities {
			out.enum = append(out.enum, c.Name)
		}
	case "requirements":
		for _, q := range t.Requirements {
			out.enum = append(out.enum, q.Name)
		}
	}
	return out
}

func nonNil(list []*tosca.Property) []*tosca.Property {
	if list == nil {
		return []*tosca.Property{}
	}
	return list
}

func entityFields(t *tosca.EntityType) []*tosca.Property {
	if t == nil {
		return []*tosca.Property{}
	}
	return nonNil(t.Properties)
}

// dataType is a type of values by its name.
func (w *Work) dataType(lib *tosca.Library, d *doc, name string) *tosca.Type {
	for range 16 {
		if t := lib.Data[name]; t != nil {
			return t
		}
		s := d.outline.Symbol("data_types", name)
		if s == nil {
			return nil
		}
		name = s.Type
	}
	return nil
}
