package assist

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// plainSchema is a JSON Schema in the types of encoding/json.
func plainSchema(schema map[string]any) map[string]any {
	var out map[string]any
	b, err := json.Marshal(schema)
	if err != nil || json.Unmarshal(b, &out) != nil {
		return map[string]any{}
	}
	return out
}

// follow is a schema, or the one that it refers to.
func follow(schema, root map[string]any) map[string]any {
	ref, ok := schema["$ref"].(string)
	for range 8 {
		if !ok {
			break
		}
		next := root
		for _, part := range strings.Split(strings.TrimPrefix(ref, "#/"), "/") {
			next, _ = next[part].(map[string]any)
		}
		schema = next
		ref, ok = schema["$ref"].(string)
	}
	return schema
}

// choices are a schema and all that it may be instead.
func choices(schema, root map[string]any) []map[string]any {
	schema = follow(schema, root)
	out := []map[string]any{schema}
	for _, word := range []string{"anyOf", "oneOf", "allOf"} {
		list, _ := schema[word].([]any)
		for _, e := range list {
			if m, ok := e.(map[string]any); ok {
				out = append(out, choices(m, root)...)
			}
		}
	}
	return out
}

// schemaKey is the rule of the value of a key by a schema.
func schemaKey(r rule, key string) rule {
	var found []any
	for _, c := range choices(r.schema, r.root) {
		props, _ := c["properties"].(map[string]any)
		if p, ok := props[key].(map[string]any); ok {
			found = append(found, p)
		} else if more, ok := c["additionalProperties"].(map[string]any); ok {
			found = append(found, more)
		}
	}
	switch len(found) {
	case 0:
		return rule{}
	case 1:
		return rule{schema: found[0].(map[string]any), root: r.root}
	}
	return rule{schema: map[string]any{"anyOf": found}, root: r.root}
}

// schemaItems are the keys, or the values, that a schema allows.
func schemaItems(r rule, kind Kind) []Item {
	var out []Item
	for _, c := range choices(r.schema, r.root) {
		if kind == AtKey {
			props, _ := c["properties"].(map[string]any)
			required, _ := c["required"].([]any)
			for _, name := range slices.Sorted(maps.Keys(props)) {
				p, _ := props[name].(map[string]any)
				p = follow(p, r.root)
				item := Item{Label: name, Kind: Keyword, holds: schemaHolds(p, r.root)}
				item.Meaning, _ = p["description"].(string)
				if item.Meaning == "" {
					item.Meaning = meaning("stack file", name)
				}
				if item.required = slices.Contains(required, any(name)); item.required {
					item.Detail = "must be given"
				} else if v, ok := p["default"]; ok {
					b, _ := json.Marshal(v)
					item.Detail = "default " + string(b)
				}
				out = append(out, item)
			}
			continue
		}
		enum, _ := c["enum"].([]any)
		for _, e := range enum {
			text, ok := e.(string)
			if !ok {
				b, _ := json.Marshal(e)
				text = string(b)
			}
			out = append(out, Item{Label: text, Kind: Value})
		}
		if c["type"] == "boolean" {
			out = append(out, Item{Label: "true", Kind: Value}, Item{Label: "false", Kind: Value})
		}
	}
	return out
}

// schemaHolds says what the value of a key is: a map, a list, or a plain value.
func schemaHolds(schema, root map[string]any) holds {
	for _, c := range choices(schema, root) {
		switch c["type"] {
		case "object":
			if _, source := c["required"]; !source {
				return aMap
			}
		case "array":
			return aList
		}
	}
	return aValue
}
