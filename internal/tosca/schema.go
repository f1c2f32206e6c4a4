package tosca

import (
	"slices"
	"strings"
)

// The dialect of the schemas: JSON Schema, draft 2020-12.
const dialect = "https://json-schema.org/draft/2020-12/schema"

// object is one JSON Schema, or a part of it.
type object = map[string]any

// Schema is a JSON Schema for templates that use the types of lib, so that any
// editor can help with them. It is looser than Check: where a function may
// stand, any call is let through, and what the template itself defines is not
// known to it.
func Schema(lib *Library) map[string]any {
	s := &schemaWriter{lib: lib, defs: object{}}
	s.defs["call"] = object{
		"description": "The call of a function",
		"anyOf": []any{
			object{"type": "string", "pattern": `^\$[^$]`},
			object{"type": "object", "minProperties": 1, "maxProperties": 1,
				"propertyNames": object{"enum": s.functions()}},
		},
	}
	root := s.section(secFile)
	root["$schema"] = dialect
	root["title"] = "A template of Brick Row (TOSCA 2.0)"
	root["required"] = []string{"tosca_definitions_version"}
	root["$defs"] = s.defs
	root["allOf"] = []any{s.shippedTypes()}
	return root
}

// shippedTypes lets nodes have the shipped types alone, in a template that defines none of
// its own and imports none.
func (s *schemaWriter) shippedTypes() object {
	each := object{"required": []string{"profile"}, "not": object{"required": []string{"namespace"}},
		"properties": object{"profile": object{"enum": Shipped}}}
	known := sorted(typeNames(s.lib.Nodes))
	return object{
		"if": object{"required": []string{"imports"}, "not": object{"required": []string{"node_types"}},
			"properties": object{"imports": object{"type": "array", "items": each}}},
		"then": object{"properties": object{"service_template": object{"properties": object{nodesKey: object{
			"additionalProperties": object{"properties": object{"type": object{"enum": known}}}}}}}},
	}
}

type schemaWriter struct {
	lib  *Library
	defs object
}

func (s *schemaWriter) functions() []string {
	var out []string
	for _, n := range functionNames(Yes) {
		out = append(out, "$"+n)
	}
	return out
}

// section is the schema of the keywords of a section; it becomes a definition
// of its own.
func (s *schemaWriter) section(name string) object {
	props := object{}
	for _, k := range Keywords {
		if k.Section == name && k.Support != NotYet {
			props[k.Name] = s.keyword(name, k.Name)
		}
	}
	out := object{"type": "object", "properties": props, "additionalProperties": false}
	switch name {
	case secNode:
		out["allOf"] = s.nodes()
		out["anyOf"] = []any{object{"required": []string{"type"}}, object{"required": []string{"copy"}}}
	case secInput:
		out["required"] = []string{"type"}
		props["metadata"] = object{"type": "object", "properties": object{FilledBy: object{"enum": Fillers},
			Message: object{"type": "string"}}}
	case secProperty:
		out["required"] = []string{"type"}
	case secOutput:
		out["required"] = []string{"value"}
	case secPolicy:
		out["required"] = []string{"type", "targets"}
	case secGroup:
		out["required"] = []string{"type"}
	case secFile:
		props["tosca_definitions_version"] = object{"const": "tosca_2_0"}
	}
	return out
}

// ref makes a definition of a section, once.
func (s *schemaWriter) ref(name string) object {
	key := strings.ReplaceAll(name, " ", "_")
	if _, known := s.defs[key]; !known {
		s.defs[key] = true // so that it may contain itself
		s.defs[key] = s.section(name)
	}
	return object{"$ref": "#/$defs/" + key}
}

// keyword is the schema of what stands under a keyword.
func (s *schemaWriter) keyword(section, word string) any {
	text := object{"type": "string"}
	switch sub := sections[[2]string{section, word}]; {
	case word == "imports":
		return object{"type": "array", "items": object{"anyOf": []any{text, s.ref(secImport)}}}
	case word == "requirements" && section == secNode:
		target := object{"anyOf": []any{text, object{"type": "array", "minItems": 2, "maxItems": 2},
			s.ref(secRequirement)}}
		return object{"type": "array", "items": object{"type": "object", "minProperties": 1, "maxProperties": 1,
			"additionalProperties": target}}
	case strings.HasPrefix(sub, namesOf) && (word == "requirements" || word == "policies"):
		return object{"type": "array", "items": object{"type": "object", "minProperties": 1, "maxProperties": 1,
			"additionalProperties": s.ref(strings.TrimPrefix(sub, namesOf))}}
	case strings.HasPrefix(sub, namesOf):
		each := any(s.ref(strings.TrimPrefix(sub, namesOf)))
		switch word {
		case "artifacts", "operations", "repositories", "capabilities":
			each = object{"anyOf": []any{text, each, object{"type": "null"}}}
		}
		return object{"type": "object", "additionalProperties": each}
	case sub != "":
		return object{"anyOf": []any{text, s.ref(sub)}}
	}
	switch word {
	case "type", "derived_from", "description", "file", "url", "profile", "namespace", "repository", "copy",
		"node_type":
		return s.word(section, word)
	case "metadata":
		return object{"type": "object"}
	case "required":
		return object{"type": "boolean"}
	case "directives":
		return object{"type": "array", "items": object{"enum": []string{"create", "select", "substitute"}}}
	case "members", "targets", "file_ext", "valid_source_node_types", "valid_target_node_types",
		"valid_capability_types", "valid_relationship_types":
		return object{"type": "array", "items": text}
	case "count":
		return object{"anyOf": []any{object{"type": "integer", "minimum": 0}, s.call()}}
	case "count_range":
		return object{"type": "array", "minItems": 2, "maxItems": 2}
	case "properties", "attributes":
		return object{"type": "object"}
	}
	return true
}

// word is the schema of a keyword whose value is a name or a text.
func (s *schemaWriter) word(section, word string) object {
	out := object{"type": "string"}
	var known []string
	switch {
	case section == secNode && word == "type":
		known = typeNames(s.lib.Nodes)
	case section == secPolicy && word == "type":
		known = typeNames(s.lib.Policies)
	case (section == secInput || section == secProperty) && word == "type":
		known = typeNames(s.lib.Data)
	}
	if known != nil {
		slices.Sort(known)
		out["examples"] = known // a template may define more of them
	}
	return out
}

func (s *schemaWriter) call() object { return object{"$ref": "#/$defs/call"} }

// nodes is what the type of a node says of its properties, for each type.
func (s *schemaWriter) nodes() []any {
	var out []any
	for _, name := range sorted(typeNames(s.lib.Nodes)) {
		t := s.lib.Nodes[name]
		if t.Resource == "" {
			continue
		}
		props := object{}
		var required, wants []string
		for _, p := range t.Given() {
			props[p.Name] = s.property(p)
			if !p.Optional() {
				required = append(required, p.Name)
			}
		}
		names := []string{}
		for _, q := range t.Requirements {
			names = append(names, q.Name)
			if q.Low > 0 {
				wants = append(wants, q.Name)
			}
		}
		values := object{"type": "object", "description": t.Description, "properties": props,
			"additionalProperties": false}
		// what is copied, found or filled by another template may lack all of it
		loose := object{"type": "object", "properties": props, "additionalProperties": false}
		full, keys := values, []string{}
		if required != nil {
			full["required"] = required
			keys = append(keys, "properties")
		}
		given := object{"items": object{"propertyNames": object{"enum": names}}}
		all := []any{}
		for _, name := range wants {
			all = append(all, object{"contains": object{"required": []string{name}}})
		}
		if len(all) > 0 {
			given["allOf"] = all
			keys = append(keys, "requirements")
		}
		some := object{"items": given["items"]}
		then := object{
			"if":   object{"anyOf": []any{object{"required": []string{"copy"}}, object{"required": []string{"directives"}}}},
			"then": object{"properties": object{"properties": loose, "requirements": some}},
			"else": object{"properties": object{"properties": full, "requirements": given}, "required": keys},
		}
		out = append(out, object{"if": object{"required": []string{"type"},
			"properties": object{"type": object{"const": name}}}, "then": then})
	}
	return out
}

func (s *schemaWriter) property(p *Property) object {
	out := object{"anyOf": []any{s.value(p.Type, p.Validation), s.call()}}
	if p.Description != "" {
		out["description"] = p.Description
	}
	if v, ok := p.Constant(); ok {
		out["default"] = v
	}
	if e := p.Metadata["example"]; e != "" {
		out["examples"] = []string{e}
	}
	return out
}

// value is the schema of a value of a type.
func (s *schemaWriter) value(t *Type, validation *Expr) any {
	if t == nil {
		return true
	}
	call := func(x any) object { return object{"anyOf": []any{x, s.call()}} }
	switch t.Base {
	case BaseString, BaseTimestamp, BaseBytes:
		return limits(object{"type": "string"}, t, validation)
	case BaseVersion:
		return object{"type": []string{"string", "number"}}
	case BaseInteger:
		return limits(object{"type": "integer"}, t, validation)
	case BaseFloat:
		return limits(object{"type": "number"}, t, validation)
	case BaseBoolean:
		return object{"type": "boolean"}
	case BaseNil:
		return object{"type": "null"}
	case BaseScalar:
		units := sorted(typeNames(t.Units))
		return object{"type": "string", "pattern": `^[+-]?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?\s*(` +
			strings.Join(units, "|") + `)$`, "examples": []string{t.exampleScalar()}}
	case BaseList:
		return object{"type": "array", "items": call(s.value(t.Entry, nil))}
	case BaseMap:
		return object{"type": "object", "additionalProperties": call(s.value(t.Entry, nil))}
	}
	props := object{}
	var required []string
	for _, f := range t.Fields {
		props[f.Name] = s.property(f)
		if !f.Optional() {
			required = append(required, f.Name)
		}
	}
	out := object{"type": "object", "properties": props, "additionalProperties": false}
	if required != nil {
		out["required"] = required
	}
	return out
}

// limits adds what can be said of the validations of a type and of a property.
func limits(out object, t *Type, validation *Expr) object {
	for s := t; s != nil; s = s.Parent {
		limit(out, s.Validation)
	}
	limit(out, validation)
	return out
}

func limit(out object, x *Expr) {
	if x == nil || x.Kind != CallExpr {
		return
	}
	if x.Name == "and" {
		for _, a := range x.Args {
			limit(out, a)
		}
		return
	}
	if len(x.Args) != 2 || x.Args[0].Kind != CallExpr || x.Args[0].Name != "value" || x.Args[1].calls() {
		return
	}
	v := (&Env{Index: -1, Findings: new(Findings)}).Eval(x.Args[1])
	switch x.Name {
	case "greater_or_equal":
		out["minimum"] = v
	case "less_or_equal":
		out["maximum"] = v
	case "greater_than":
		out["exclusiveMinimum"] = v
	case "less_than":
		out["exclusiveMaximum"] = v
	case "valid_values":
		out["enum"] = v
	case "matches":
		out["pattern"] = v
	}
}

// ValueSchema is a JSON Schema for the values of an input in a stack file.
func ValueSchema(p *Property) map[string]any {
	s := &schemaWriter{lib: NewLibrary(), defs: object{}}
	v := s.value(p.Type, p.Validation)
	out := object{"anyOf": []any{v, object{"$ref": "#/$defs/source"}}}
	if p.Description != "" {
		out["description"] = p.Description
	}
	return out
}
