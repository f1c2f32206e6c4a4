package tosca

import (
	"maps"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v4"
)

// dataTypes reads data_types. A type may derive from one that stands later.
func (r *reader) dataTypes(n *yaml.Node) {
	entries := r.entries(n, "data_types")
	defined := map[string]field{}
	for _, f := range entries {
		if r.lib.Data[f.key.Value] != nil {
			r.findings.Errorf(r.pos(f.key), "duplicate-type", "choose another name", "the data type '%s' exists already", f.key.Value)
			continue
		}
		defined[f.key.Value] = f
	}
	var read func(name string, trail []string)
	read = func(name string, trail []string) {
		f, ok := defined[name]
		if !ok || r.lib.Data[name] != nil {
			return
		}
		if slices.Contains(trail, name) {
			r.findings.Errorf(r.pos(f.key), "type-cycle", "", "the data type '%s' derives from or contains itself", name)
			r.lib.Data[name] = &Type{Pos: r.pos(f.key), Name: name, Base: BaseString}
			return
		}
		trail = append(trail, name)
		forEachTypeName(f.value, func(used string) { read(used, trail) })
		if r.lib.Data[name] == nil {
			r.lib.Data[name] = r.dataType(f)
		}
	}
	for _, f := range entries {
		read(f.key.Value, nil)
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
		case "derived_from", "type", "data_type":
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
	t := &Type{Pos: r.pos(f.key), Name: f.key.Value, Base: BaseStructure, Description: r.text(kw["description"].value), Metadata: r.metadata(kw["metadata"].value)}
	if from := kw["derived_from"].value; from != nil {
		parent := r.lib.Data[r.text(from)]
		if parent == nil {
			r.findings.Errorf(r.pos(from), "unknown-type", suggest(r.text(from), typeNames(r.lib.Data)), "there is no data type '%s'", r.text(from))
		} else {
			t.Parent, t.Base = parent, parent.Base
			t.Fields = slices.Clone(parent.Fields)
			t.Key, t.Entry, t.Units = parent.Key, parent.Entry, parent.Units
		}
	}
	for _, p := range r.entries(kw["properties"].value, "properties") {
		if t.Base != BaseStructure {
			r.findings.Errorf(r.pos(p.key), "wrong-type", "remove derived_from or the properties", "a type that derives from %s has no properties", t.Base)
			break
		}
		t.Fields = override(t.Fields, r.property(p, secProperty))
	}
	if e := kw["entry_schema"].value; e != nil {
		t.Entry = r.schema(e)
	}
	if k := kw["key_schema"].value; k != nil {
		t.Key = r.schema(k)
	}
	if v := kw["validation"].value; v != nil {
		t.Validation = r.expr(v)
	}
	if u := kw["units"].value; u != nil {
		t.Units = map[string]float64{}
		for _, e := range r.entries(u, "units") {
			factor, err := strconv.ParseFloat(r.text(e.value), 64)
			if err != nil || factor <= 0 {
				r.findings.Errorf(r.pos(e.value), "wrong-type", "", "the unit '%s' needs a positive number", e.key.Value)
				continue
			}
			t.Units[e.key.Value] = factor
		}
	}
	return t
}

// override replaces the property of the same name, or adds it.
func override(list []*Property, p *Property) []*Property {
	for i, q := range list {
		if q.Name == p.Name {
			list[i] = p
			return list
		}
	}
	return append(list, p)
}

// otherTypes reads capability and relationship types; nothing of them is
// looked at but their keywords.
func (r *reader) otherTypes(n *yaml.Node) {
	for _, f := range r.entries(n, "types") {
		r.fields(f.value, secOtherType)
	}
}

// nodeTypes reads node_types; a parent must stand before its children.
func (r *reader) nodeTypes(n *yaml.Node) {
	for _, f := range r.entries(n, "node_types") {
		kw := r.fields(f.value, secNodeType)
		t := &NodeType{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw["description"].value), Metadata: map[string]string{}}
		if from := kw["derived_from"].value; from != nil {
			t.Parent = r.text(from)
			parent := r.lib.Nodes[t.Parent]
			if parent == nil {
				r.findings.Errorf(r.pos(from), "unknown-type", suggest(t.Parent, typeNames(r.lib.Nodes)), "there is no node type '%s' above", t.Parent)
			} else {
				t.Properties, t.Attributes, t.Requirements = slices.Clone(parent.Properties), slices.Clone(parent.Attributes), slices.Clone(parent.Requirements)
				maps.Copy(t.Metadata, parent.Metadata)
			}
		}
		maps.Copy(t.Metadata, r.metadata(kw["metadata"].value))
		for _, p := range r.entries(kw["properties"].value, "properties") {
			t.Properties = override(t.Properties, r.property(p, secProperty))
		}
		for _, a := range r.entries(kw["attributes"].value, "attributes") {
			t.Attributes = override(t.Attributes, r.property(a, secProperty))
		}
		for _, c := range r.entries(kw["capabilities"].value, "capabilities") {
			r.fields(c.value, secCapDef)
		}
		for _, q := range r.list(kw["requirements"].value, "requirements", "write - name: { node: … }") {
			t.Requirements = append(t.Requirements, r.requirementDef(q))
		}
		r.lib.Nodes[t.Name] = t
	}
}

func (r *reader) requirementDef(f field) *RequirementDef {
	kw := r.fields(f.value, secReqDef)
	d := &RequirementDef{Pos: r.pos(f.key), Name: f.key.Value, Node: r.text(kw["node"].value), Description: r.text(kw["description"].value), Metadata: r.metadata(kw["metadata"].value), Low: 1, High: 1}
	if c := deref(kw["count_range"].value); c != nil {
		if c.Kind != yaml.SequenceNode || len(c.Content) != 2 {
			r.findings.Errorf(r.pos(c), "wrong-type", "write [ low, high ]", "count_range must be a list of two")
			return d
		}
		low, err := strconv.Atoi(c.Content[0].Value)
		high, errHigh := strconv.Atoi(c.Content[1].Value)
		if c.Content[1].Value == "UNBOUNDED" {
			high, errHigh = -1, nil
		}
		if err != nil || errHigh != nil {
			r.findings.Errorf(r.pos(c), "wrong-type", "write [ low, high ] with numbers, or UNBOUNDED as the high one", "count_range must be two numbers")
			return d
		}
		d.Low, d.High = low, high
	}
	return d
}

func (r *reader) policyTypes(n *yaml.Node) {
	for _, f := range r.entries(n, "policy_types") {
		kw := r.fields(f.value, secPolicyType)
		t := &PolicyType{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw["description"].value), Parent: r.text(kw["derived_from"].value)}
		for _, p := range r.entries(kw["properties"].value, "properties") {
			t.Properties = override(t.Properties, r.property(p, secProperty))
		}
		r.lib.Pols[t.Name] = t
	}
}
