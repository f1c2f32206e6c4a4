package tosca

import (
	"maps"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v4"
)

// types reads every section of types of a file.
func (r *reader) types(doc section) {
	r.dataTypes(doc.at("data_types"))
	l := r.lib
	for _, f := range r.entries(doc.at("functions"), "functions") {
		l.Functions[f.key.Value] = r.functionDef(f)
	}
	r.entityTypes(doc.at("artifact_types"), "artifact type", secArtifactType, l.Artifacts)
	r.entityTypes(doc.at("capability_types"), "capability type", secCapType, l.Capabilities)
	r.entityTypes(doc.at("interface_types"), "interface type", secIfaceType, l.Interfaces)
	r.entityTypes(doc.at("relationship_types"), "relationship type", secRelType, l.Relationships)
	r.nodeTypes(doc.at("node_types"))
	r.entityTypes(doc.at("group_types"), "group type", secGroupType, l.Groups)
	r.entityTypes(doc.at("policy_types"), "policy type", secPolicyType, l.Policies)
}

// define reads a section of types into its table. A type may derive from one
// that stands later; uses calls back for every type that a definition needs to
// be read before.
func define[T any](r *reader, n *yaml.Node, kind string, table map[string]*T,
	uses func(n *yaml.Node, need func(name string)), read func(f field) *T) {
	entries := r.entries(n, kind+"s")
	defined := map[string]field{}
	for _, f := range entries {
		if table[f.key.Value] != nil {
			r.findings.Errorf(r.pos(f.key), "duplicate-type",
				"choose another name, or import the other one under a namespace", "the %s '%s' exists already", kind,
				f.key.Value)
			continue
		}
		defined[f.key.Value] = f
	}
	var make func(name string, trail []string)
	make = func(name string, trail []string) {
		f, ok := defined[name]
		if !ok || table[name] != nil {
			return
		}
		if slices.Contains(trail, name) {
			r.findings.Errorf(r.pos(f.key), "type-cycle", "", "the %s '%s' derives from or contains itself", kind, name)
			table[name] = new(T)
			return
		}
		trail = append(trail, name)
		uses(f.value, func(used string) { make(used, trail) })
		if table[name] == nil {
			table[name] = read(f)
		}
	}
	for _, f := range entries {
		make(f.key.Value, nil)
	}
}

// parentOf calls back for the type that a definition derives from.
func parentOf(n *yaml.Node, need func(string)) {
	if n = deref(n); n == nil || n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == "derived_from" {
			need(deref(n.Content[i+1]).Value)
		}
	}
}

func (r *reader) dataTypes(n *yaml.Node) {
	define(r, n, "data type", r.lib.Data, forEachTypeName, r.dataType)
	for _, t := range r.lib.Data {
		if t.Name == "" { // it derives from itself, and that was reported
			t.Name, t.Base = "string", BaseString
		}
	}
}

// forEachTypeName calls f for each type that a data type's definition uses.
func forEachTypeName(n *yaml.Node, f func(string)) {
	n = deref(n)
	if n == nil || n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		switch k, v := n.Content[i].Value, deref(n.Content[i+1]); k {
		case "derived_from", "type":
			f(v.Value)
		case "entry_schema", "key_schema":
			if v.Kind == yaml.ScalarNode {
				f(v.Value)
			}
			forEachTypeName(v, f)
		case "properties":
			for j := 1; j < len(v.Content); j += 2 {
				forEachTypeName(v.Content[j], f)
			}
		}
	}
}

func (r *reader) dataType(f field) *Type {
	kw := r.fields(f.value, secData)
	t := &Type{Pos: r.pos(f.key), Name: f.key.Value, Base: BaseStructure, Description: r.text(kw.at("description")),
		Metadata: r.metadata(kw.at("metadata"))}
	if from := kw.at("derived_from"); from != nil {
		parent := r.lib.Data[r.text(from)]
		if parent == nil {
			r.unknownType(from, "data type", typeNames(r.lib.Data))
		} else {
			t.Parent, t.Base = parent, parent.Base
			t.Fields = slices.Clone(parent.Fields)
			t.Key, t.Entry, t.Units, t.Whole = parent.Key, parent.Entry, parent.Units, parent.Whole
		}
	}
	for _, p := range r.entries(kw.at("properties"), "properties") {
		if t.Base != BaseStructure {
			r.findings.Errorf(r.pos(p.key), "wrong-type", "remove derived_from or the properties",
				"a type that derives from %s has no properties", t.Base)
			break
		}
		t.Fields = r.refine(t.Fields, p)
	}
	for _, schema := range []struct {
		word string
		into **Type
	}{{"entry_schema", &t.Entry}, {"key_schema", &t.Key}} {
		if e := kw.at(schema.word); e != nil {
			if t.Base != BaseList && t.Base != BaseMap {
				r.findings.Errorf(r.pos(kw.field(schema.word).key), "wrong-type", "only a list or a map has entries",
					"%s has no schema for entries", article(string(t.Base)))
				continue
			}
			*schema.into = r.schema(e)
		}
	}
	if v := kw.at("validation"); v != nil {
		t.Validation = r.expr(v)
	}
	r.scalarType(t, kw)
	return t
}

// scalarType reads what only a type that derives from scalar has.
func (r *reader) scalarType(t *Type, kw section) {
	for _, word := range []string{"units", "canonical_unit", "prefixes", "data_type"} {
		if f := kw.field(word); f.key != nil && t.Base != BaseScalar {
			r.findings.Errorf(r.pos(f.key), "wrong-type", "only a type that derives from scalar has units",
				"%s has no %s", t.Name, word)
			return
		}
	}
	if d := kw.at("data_type"); d != nil {
		t.Whole = r.oneOf(d, "float", "integer") == "integer"
	}
	units := r.factors(kw.at("units"), "units")
	if units != nil {
		t.Units = units
	} else if t.Base == BaseScalar && t.Units == nil {
		r.findings.Errorf(t.Pos, "missing-units", "add units: { m: 1, km: 1000 }",
			"the scalar type '%s' has no units", t.Name)
	}
	if c := kw.at("canonical_unit"); c != nil {
		if t.Units[r.text(c)] != 1 {
			r.findings.Errorf(r.pos(c), "bad-unit", "give it the factor 1 under units",
				"the canonical unit '%s' is not a unit of '%s' with the factor 1", r.text(c), t.Name)
		}
	}
	if prefixes := r.factors(kw.at("prefixes"), "prefixes"); prefixes != nil {
		all := maps.Clone(t.Units)
		for unit, factor := range t.Units {
			for prefix, times := range prefixes {
				all[prefix+unit] = factor * times
			}
		}
		t.Units = all
	}
}

// factors reads a map of positive numbers; nil where there is none.
func (r *reader) factors(n *yaml.Node, what string) map[string]float64 {
	if n == nil {
		return nil
	}
	out := map[string]float64{}
	for _, e := range r.entries(n, what) {
		factor, err := strconv.ParseFloat(r.text(e.value), 64)
		if err != nil || factor <= 0 {
			r.findings.Errorf(r.pos(e.value), "wrong-type", "", "'%s' needs a positive number", e.key.Value)
			continue
		}
		out[e.key.Value] = factor
	}
	return out
}

// unknownType reports a type that does not exist.
func (r *reader) unknownType(n *yaml.Node, kind string, known []string) {
	n = deref(n)
	r.findings.Errorf(r.pos(n), "unknown-type", suggest(n.Value, known), "there is no %s '%s'", kind, n.Value)
}

// refine adds the definition of a property to those inherited, or narrows the
// one of the same name.
func (r *reader) refine(list []*Property, f field) []*Property {
	was := find(list, f.key.Value)
	if was == nil {
		return append(list, r.property(f, secProperty))
	}
	if v := deref(f.value); v.Kind == yaml.MappingNode && r.peek(v, "type") == nil { // the type is inherited
		g := *v
		g.Content = slices.Concat(v.Content,
			[]*yaml.Node{{Kind: yaml.ScalarNode, Value: "type", Line: v.Line, Column: v.Column},
				{Kind: yaml.ScalarNode, Tag: "!!str", Value: "string", Line: v.Line, Column: v.Column}})
		p := r.property(field{f.key, &g}, secProperty)
		p.Type = was.Type
		return r.narrow(list, was, p)
	}
	return r.narrow(list, was, r.property(f, secProperty))
}

// peek finds a key without reporting anything.
func (r *reader) peek(n *yaml.Node, name string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return n.Content[i+1]
		}
	}
	return nil
}

// narrow puts p in the place of was. What p does not say stays, and it may not
// allow what was did not.
func (r *reader) narrow(list []*Property, was, p *Property) []*Property {
	switch {
	case p.Type != nil && was.Type != nil && !p.Type.narrows(was.Type):
		r.findings.Errorf(p.Pos, "bad-refinement", "use "+was.Type.Label()+", or a type that derives from it",
			"'%s' was %s before, and cannot become %s", p.Name, was.Type.article(), p.Type.article())
	case was.Fixed != nil && p.Fixed == nil:
		r.findings.Errorf(p.Pos, "bad-refinement", "remove it",
			"the value of '%s' is fixed by the type it derives from", p.Name)
	}
	if p.Description == "" {
		p.Description = was.Description
	}
	if p.Default == nil && p.Fixed == nil {
		p.Default, p.Required = was.Default, p.Required && was.Required
	}
	if p.Metadata == nil {
		p.Metadata = was.Metadata
	}
	if was.Validation != nil {
		if p.Validation == nil {
			p.Validation = was.Validation
		} else {
			p.Validation = &Expr{Pos: p.Validation.Pos, Kind: CallExpr, Name: "and",
				Args: []*Expr{was.Validation, p.Validation}}
		}
	}
	out := slices.Clone(list)
	out[slices.Index(out, was)] = p
	return out
}

// narrows reports whether every value of t is one of u.
func (t *Type) narrows(u *Type) bool {
	if t.Name == u.Name && t.Base == u.Base && (t.Base == BaseList || t.Base == BaseMap) {
		return u.Entry == nil || t.Entry != nil && t.Entry.narrows(u.Entry)
	}
	for s := t; s != nil; s = s.Parent {
		if s == u {
			return true
		}
	}
	return t.Name == u.Name && t.Parent != nil && u.Parent != nil && t.Parent == u.Parent
}

// entityTypes reads types that are neither data nor nodes.
func (r *reader) entityTypes(n *yaml.Node, kind, section string, table map[string]*EntityType) {
	define(r, n, kind, table, parentOf, func(f field) *EntityType { return r.entityType(f, kind, section, table) })
}

func (r *reader) entityType(f field, kind, section string, table map[string]*EntityType) *EntityType {
	kw := r.fields(f.value, section)
	t := &EntityType{Pos: r.pos(f.key), Kind: kind, Name: f.key.Value, Description: r.text(kw.at("description")),
		Metadata: map[string]string{}}
	if from := kw.at("derived_from"); from != nil {
		if p := table[r.text(from)]; p == nil {
			r.unknownType(from, kind, typeNames(table))
		} else {
			name, at, description := t.Name, t.Pos, t.Description
			*t = *p
			t.Parent, t.Name, t.Pos, t.Description = p, name, at, description
			t.Metadata = maps.Clone(p.Metadata)
		}
	}
	maps.Copy(t.Metadata, r.metadata(kw.at("metadata")))
	for _, p := range r.entries(kw.at("properties"), "properties") {
		t.Properties = r.refine(t.Properties, p)
	}
	for _, p := range r.entries(kw.at("attributes"), "attributes") {
		t.Attributes = r.refine(t.Attributes, p)
	}
	for _, p := range r.entries(kw.at("inputs"), "inputs") {
		t.Inputs = r.refine(t.Inputs, p)
	}
	t.Operations = r.operations(kw.at("operations"), t.Operations)
	t.Interfaces = r.interfaceDefs(kw.at("interfaces"), t.Interfaces)
	for _, names := range []struct {
		word string
		into *[]Key
	}{{"valid_source_node_types", &t.Sources}, {"valid_target_node_types", &t.Targets}, {"targets",
		&t.Targets}, {"members", &t.Targets}, {"valid_capability_types", &t.Capabilities},
		{"valid_relationship_types", &t.Relationships}} {
		if v := kw.at(names.word); v != nil {
			*names.into = r.names(v, names.word)
		}
	}
	for _, k := range r.names(kw.at("file_ext"), "file_ext") {
		t.Extensions = append(t.Extensions, k.Name)
	}
	r.text(kw.at("mime_type"))
	return t
}

// names reads a list of names.
func (r *reader) names(n *yaml.Node, what string) []Key {
	n = deref(n)
	if n == nil {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		r.findings.Errorf(r.pos(n), "wrong-type", "write [ name, … ]", "%s must be a list of names", what)
		return nil
	}
	out := make([]Key, 0, len(n.Content))
	for _, c := range n.Content {
		out = append(out, Key{r.pos(c), r.text(c)})
	}
	return out
}

// operations reads the operations of an interface, over those inherited.
func (r *reader) operations(n *yaml.Node, inherited []*Operation) []*Operation {
	out := slices.Clone(inherited)
	for _, f := range r.entries(n, "operations") {
		o := r.operation(f, true)
		if i := slices.IndexFunc(out, func(p *Operation) bool { return p.Name == o.Name }); i >= 0 {
			if o.Inputs == nil {
				o.Inputs = out[i].Inputs
			}
			out[i] = o
		} else {
			out = append(out, o)
		}
	}
	return out
}

// operation reads an operation: in a definition its inputs have types, in an
// assignment they have values.
func (r *reader) operation(f field, definition bool) *Operation {
	o := &Operation{Pos: r.pos(f.key), Name: f.key.Value}
	v := deref(f.value)
	if v.Kind == yaml.ScalarNode {
		if v.ShortTag() != "!!null" {
			o.Primary = r.implementation(v)
		}
		return o
	}
	kw := r.fields(v, secOperation)
	o.Description = r.text(kw.at("description"))
	for _, p := range r.entries(kw.at("inputs"), "inputs") {
		if definition {
			o.Inputs = append(o.Inputs, r.property(p, secInput))
		} else {
			o.Given = append(o.Given, r.assignment(p))
		}
	}
	for _, p := range r.entries(kw.at("outputs"), "outputs") {
		o.Outputs = append(o.Outputs, r.assignment(p))
	}
	impl := deref(kw.at("implementation"))
	switch {
	case impl == nil || impl.ShortTag() == "!!null":
	case impl.Kind == yaml.ScalarNode:
		o.Primary = r.implementation(impl)
	default:
		parts := r.fields(impl, secImplement)
		if p := parts.at("primary"); p != nil {
			o.Primary = r.implementation(deref(p))
		}
		if d := deref(parts.at("dependencies")); d != nil && d.Kind == yaml.SequenceNode {
			for _, c := range d.Content {
				o.Dependencies = append(o.Dependencies, r.implementation(deref(c)))
			}
		} else if d != nil {
			r.findings.Errorf(r.pos(d), "wrong-type", "write [ name, … ]", "dependencies must be a list of artifacts")
		}
	}
	return o
}

// implementation reads the name of an artifact, or of a file, or an artifact
// that is written here.
func (r *reader) implementation(n *yaml.Node) *Artifact {
	if n.Kind == yaml.ScalarNode {
		return &Artifact{Pos: r.pos(n), Name: n.Value}
	}
	return r.artifact(field{n, n}, "")
}

// interfaceDefs reads the interfaces of a type, over those inherited.
func (r *reader) interfaceDefs(n *yaml.Node, inherited []*Interface) []*Interface {
	out := slices.Clone(inherited)
	for _, f := range r.entries(n, "interfaces") {
		kw := r.fields(f.value, secIfaceDef)
		i := &Interface{Pos: r.pos(f.key), Name: f.key.Value}
		at := slices.IndexFunc(out, func(p *Interface) bool { return p.Name == i.Name })
		if at >= 0 {
			i.Type, i.Inputs, i.Operations = out[at].Type, out[at].Inputs, out[at].Operations
		}
		if t := kw.at("type"); t != nil {
			if i.Type = r.lib.Interfaces[r.text(t)]; i.Type == nil {
				r.unknownType(t, "interface type", typeNames(r.lib.Interfaces))
			} else if at < 0 {
				i.Inputs, i.Operations = i.Type.Inputs, i.Type.Operations
			}
		} else if at < 0 {
			r.findings.Errorf(i.Pos, "missing-type", "add type: Lifecycle, or another interface type",
				"the interface '%s' has no type", i.Name)
		}
		for _, p := range r.entries(kw.at("inputs"), "inputs") {
			i.Inputs = r.refine(i.Inputs, p)
		}
		i.Operations = r.operations(kw.at("operations"), i.Operations)
		if at >= 0 {
			out[at] = i
		} else {
			out = append(out, i)
		}
	}
	return out
}

// nodeTypes reads node_types. What they say of other node types is looked up
// when all are read.
func (r *reader) nodeTypes(n *yaml.Node) {
	before := maps.Clone(r.lib.Nodes)
	define(r, n, "node type", r.lib.Nodes, parentOf, r.nodeType)
	for _, name := range sorted(typeNames(r.lib.Nodes)) {
		if t := r.lib.Nodes[name]; before[name] == nil {
			for _, d := range t.Requirements {
				r.linkTarget(d)
			}
		}
	}
}

// linkTarget finds the types that a requirement definition names.
func (r *reader) linkTarget(d *RequirementDef) {
	if d.Node != "" && d.Target == nil {
		if d.Target = r.lib.Nodes[d.Node]; d.Target == nil {
			r.findings.Errorf(d.Pos, "unknown-type", suggest(d.Node, typeNames(r.lib.Nodes)),
				"the requirement '%s' wants a node type '%s', which does not exist", d.Name, d.Node)
		}
	}
	if d.Capability != "" && d.TargetCapability == nil {
		d.TargetCapability = r.lib.Capabilities[d.Capability]
		if d.TargetCapability == nil && (d.Target == nil || d.Target.Capability(d.Capability) == nil) {
			r.findings.Errorf(d.Pos, "unknown-type", suggest(d.Capability, typeNames(r.lib.Capabilities)),
				"the requirement '%s' wants a capability '%s', which does not exist", d.Name, d.Capability)
		}
	}
	if d.Relationship != "" && d.Type == nil {
		if d.Type = r.lib.Relationships[d.Relationship]; d.Type == nil {
			r.findings.Errorf(d.Pos, "unknown-type", suggest(d.Relationship, typeNames(r.lib.Relationships)),
				"the requirement '%s' wants a relationship type '%s', which does not exist", d.Name, d.Relationship)
		}
	}
}

func (r *reader) nodeType(f field) *NodeType {
	kw := r.fields(f.value, secNodeType)
	t := &NodeType{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw.at("description")),
		Metadata: map[string]string{}}
	if from := kw.at("derived_from"); from != nil {
		if parent := r.lib.Nodes[r.text(from)]; parent == nil {
			r.unknownType(from, "node type", typeNames(r.lib.Nodes))
		} else {
			t.Parent, t.Resource = parent, parent.Resource
			t.Properties, t.Attributes = slices.Clone(parent.Properties), slices.Clone(parent.Attributes)
			t.Capabilities, t.Artifacts = slices.Clone(parent.Capabilities), slices.Clone(parent.Artifacts)
			t.Requirements, t.Interfaces = slices.Clone(parent.Requirements), slices.Clone(parent.Interfaces)
			maps.Copy(t.Metadata, parent.Metadata)
		}
	}
	maps.Copy(t.Metadata, r.metadata(kw.at("metadata")))
	if r.shipped && t.Metadata["abstract"] != "true" {
		t.Resource = t.Name
	}
	delete(t.Metadata, "abstract")
	for _, p := range r.entries(kw.at("properties"), "properties") {
		t.Properties = r.refine(t.Properties, p)
	}
	for _, a := range r.entries(kw.at("attributes"), "attributes") {
		t.Attributes = r.refine(t.Attributes, a)
	}
	for _, c := range r.entries(kw.at("capabilities"), "capabilities") {
		d := r.capabilityDef(c, t.Capability(c.key.Value))
		t.Capabilities = append(slices.DeleteFunc(t.Capabilities,
			func(e *CapabilityDef) bool { return e.Name == d.Name }), d)
	}
	own := 0 // those of the type itself come first: they say most of it
	for _, q := range r.list(kw.at("requirements"), "requirements", "write - name: { node: … }") {
		d := r.requirementDef(q, t.Requirement(q.key.Value))
		if i := slices.IndexFunc(t.Requirements, func(e *RequirementDef) bool { return e.Name == d.Name }); i >= 0 {
			t.Requirements[i] = d
		} else {
			t.Requirements = slices.Insert(t.Requirements, own, d)
			own++
		}
	}
	t.Interfaces = r.interfaceDefs(kw.at("interfaces"), t.Interfaces)
	for _, a := range r.entries(kw.at("artifacts"), "artifacts") {
		t.Artifacts = append(t.Artifacts, r.artifact(a, a.key.Value))
	}
	r.implementations(t.Interfaces, t.Artifacts)
	return t
}

func (r *reader) capabilityDef(f field, was *CapabilityDef) *CapabilityDef {
	d := &CapabilityDef{Pos: r.pos(f.key), Name: f.key.Value}
	if was != nil {
		*d = *was
		d.Pos = r.pos(f.key)
	}
	typ := deref(f.value)
	var kw section
	if typ.Kind == yaml.MappingNode {
		kw = r.fields(typ, secCapDef)
		typ = deref(kw.at("type"))
	}
	switch {
	case typ != nil:
		t := r.lib.Capabilities[r.text(typ)]
		if t == nil {
			r.unknownType(typ, "capability type", typeNames(r.lib.Capabilities))
			break
		}
		if was != nil && was.Type != nil && !t.IsA(was.Type) {
			r.findings.Errorf(r.pos(typ), "bad-refinement", "use "+was.Type.Name+", or a type that derives from it",
				"the capability '%s' was a %s before, and cannot become a %s", d.Name, was.Type.Name, t.Name)
		}
		d.Type, d.Properties, d.Attributes = t, slices.Clone(t.Properties), slices.Clone(t.Attributes)
	case was == nil:
		r.findings.Errorf(d.Pos, "missing-type", "add type: with a capability type",
			"the capability '%s' has no type", d.Name)
	}
	for _, p := range r.entries(kw.at("properties"), "properties") {
		d.Properties = r.refine(d.Properties, p)
	}
	for _, p := range r.entries(kw.at("attributes"), "attributes") {
		d.Attributes = r.refine(d.Attributes, p)
	}
	if v := kw.at("valid_source_node_types"); v != nil {
		d.Sources = r.names(v, "valid_source_node_types")
	}
	r.names(kw.at("valid_relationship_types"), "valid_relationship_types")
	return d
}

func (r *reader) requirementDef(f field, was *RequirementDef) *RequirementDef {
	kw := r.fields(f.value, secReqDef)
	d := &RequirementDef{Low: 1, High: 1}
	if was != nil {
		*d = *was
	}
	d.Pos, d.Name = r.pos(f.key), f.key.Value
	if m := r.metadata(kw.at("metadata")); m != nil {
		d.Metadata = m
	}
	if t := r.text(kw.at("description")); t != "" {
		d.Description = t
	}
	if n := kw.at("node"); n != nil {
		d.Node, d.Target = r.text(n), nil
	}
	if n := kw.at("capability"); n != nil {
		d.Capability, d.TargetCapability = r.text(n), nil
	}
	if n := deref(kw.at("relationship")); n != nil {
		if n.Kind == yaml.MappingNode {
			n = deref(r.fields(n, secRelAssign).at("type"))
		}
		d.Relationship, d.Type = r.text(n), nil
	}
	if n := kw.at("node_filter"); n != nil {
		d.Filter = r.expr(n)
	}
	if c := deref(kw.at("count_range")); c != nil {
		r.countRange(c, d, was)
	}
	return d
}

func (r *reader) countRange(c *yaml.Node, d, was *RequirementDef) {
	if c.Kind != yaml.SequenceNode || len(c.Content) != 2 {
		r.findings.Errorf(r.pos(c), "wrong-type", "write [ low, high ]", "count_range must be a list of two")
		return
	}
	low, err := strconv.Atoi(c.Content[0].Value)
	high, errHigh := strconv.Atoi(c.Content[1].Value)
	if c.Content[1].Value == "UNBOUNDED" {
		high, errHigh = -1, nil
	}
	switch {
	case err != nil || errHigh != nil || low < 0:
		r.findings.Errorf(r.pos(c), "wrong-type", "write [ low, high ] with numbers, or UNBOUNDED as the high one",
			"count_range must be two numbers")
		return
	case high >= 0 && high < low:
		r.findings.Errorf(r.pos(c), "wrong-type", "put the lower one first", "count_range goes from %d to %d", low,
			high)
		return
	case was != nil && (low < was.Low || was.High >= 0 && (high < 0 || high > was.High)):
		r.findings.Errorf(r.pos(c), "bad-refinement", "stay within the former range",
			"the requirement '%s' cannot take more, or fewer, than in the type it derives from", d.Name)
		return
	}
	d.Low, d.High = low, high
}

// functionDef reads the definition of a function. Its signatures are checked;
// it is not carried out.
func (r *reader) functionDef(f field) *FunctionDef {
	kw := r.fields(f.value, secFunction)
	d := &FunctionDef{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw.at("description"))}
	if _, standard := functions[d.Name]; standard {
		r.findings.Errorf(d.Pos, "duplicate-type", "choose another name", "the function '%s' is one of the standard",
			d.Name)
	}
	list := deref(kw.at("signatures"))
	switch {
	case kw == nil:
		return d
	case list == nil:
		r.findings.Errorf(d.Pos, "missing-signatures",
			"add signatures: [ { arguments: […], result: { type: … }, implementation: … } ]",
			"the function '%s' has no signatures", d.Name)
		return d
	case list.Kind != yaml.SequenceNode:
		r.findings.Errorf(r.pos(list), "wrong-type", "write a list", "signatures must be a list")
		return d
	}
	for _, item := range list.Content {
		s := r.fields(item, secSignature)
		for _, word := range []string{"arguments", "optional_arguments"} {
			args := deref(s.at(word))
			if args == nil {
				continue
			}
			if args.Kind != yaml.SequenceNode {
				r.findings.Errorf(r.pos(args), "wrong-type", "write a list of types", "%s must be a list", word)
				continue
			}
			for _, a := range args.Content {
				r.schema(a)
			}
		}
		if v := s.at("result"); v != nil {
			r.schema(v)
		}
		r.bool(s.at("variadic"), false)
		if v := deref(s.at("implementation")); v != nil && v.Kind == yaml.ScalarNode {
			r.open(r.implementation(v))
		}
	}
	r.findings.Warnf(d.Pos, "not-carried-out", "", "the function '%s' is read and checked, and cannot be called yet",
		d.Name)
	return d
}
