package assist

import (
	"strings"

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
		var inputs []*tosca.Property
		if t := w.template(d); t != nil && t.file != nil && t.file.Service != nil {
			inputs = append([]*tosca.Property{}, t.file.Service.Inputs...)
		}
		r.schema = plainSchema(stack.FileSchema(inputs))
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
	if d.outline.Kind == StackFile && r.schema == nil {
		r = rule{root: r.root} // no calls there
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

// item is the rule within an item of a list.
func (w *Work) item(d *doc, r rule, s *Spot, i int) rule {
	switch {
	case r.schema != nil:
		items, _ := follow(r.schema, r.root)["items"].(map[string]any)
		return rule{schema: follow(items, r.root), root: r.root}
	case r.call != "":
		return w.argument(d, r, s, i)
	case r.list == "import":
		return rule{section: "import", refer: "files"}
	case r.list == "policies":
		return rule{names: "policies"}
	case r.list == "requirement definitions":
		return rule{names: "requirement definitions"}
	case r.list != "":
		return rule{refer: r.list}
	case r.target != nil: // [ node, index ]
		return rule{refer: "node_templates", target: r.target, self: r.self}
	case r.requirements != nil:
		return r
	case r.typ != nil:
		return rule{typ: r.typ.Entry, any: r.typ.Entry == nil, within: r.within, self: r.self}
	case r.enum != nil:
		return rule{enum: r.enum}
	}
	return rule{any: true, within: r.within, self: r.self}
}

// argument is the rule of an argument of a function.
func (w *Work) argument(d *doc, r rule, s *Spot, i int) rule {
	out := rule{any: true, within: r.within, self: r.self}
	if i != len(s.Way)-1 { // what is inside of an argument
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
		if len(args) == 0 || n > 1 && r.call != "get_attribute" && r.call != "get_property" {
			return out
		}
		t := r.within
		if args[0] != "SELF" {
			t = nil
			if node := d.outline.Symbol("node_templates", args[0]); node != nil {
				t = w.nodeType(d, node.Type)
			}
		}
		if t == nil || n > 1 {
			return out
		}
		out.any = false
		switch r.call {
		case "get_property":
			out.fields = append(out.fields, t.Properties...)
		case "get_attribute":
			out.fields = append(append(out.fields, t.Attributes...), t.Properties...)
		}
		out.requirements = append(out.requirements, t.Requirements...)
	}
	return out
}

// key is the rule of the value of a key.
func (w *Work) key(d *doc, r rule, key string, s *Spot, i int) rule {
	if name, ok := strings.CutPrefix(key, "$"); ok && (r.value != nil || r.typ != nil || r.any || r.call != "") {
		out := rule{call: name, within: r.within, self: r.self}
		if name == "get_input" && s.Kind == AtValue && i == len(s.Way)-1 {
			return rule{refer: "inputs"}
		}
		return out
	}
	switch {
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
	case "metadata", "dsl_definitions", "description", "version":
		return rule{}
	case "validation", "node_filter", "substitution_filter":
		out := value()
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
			return rule{names: "artifacts"}
		}
		if t == nil {
			return value()
		}
		switch key {
		case "properties":
			self.fields = nonNil(t.Properties)
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
		case "members":
			return rule{list: "node_templates"}
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
