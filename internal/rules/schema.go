package rules

// FileSchema is a JSON Schema for files of rules.
func FileSchema() map[string]any {
	type object = map[string]any
	text := object{"type": "string"}
	words := func(about string, of any) object {
		return object{"description": about, "anyOf": []any{of, object{"type": "array", "items": of}}}
	}
	anything := func(about string) object { return object{"type": "object", "description": about} }
	change := object{"enum": kinds()}
	return object{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Rules of a team, for Brick Row",
		"type": "object", "additionalProperties": false,
		"properties": object{
			"rules": object{"type": "array",
				"items": object{"type": "object", "additionalProperties": false,
					"required": []string{"id", "message", "require"}, "properties": object{
						"id": text, "message": text,
						"fix":      object{"type": "string", "description": "What would put it right"},
						"severity": object{"enum": []string{"warn", "refuse"}, "default": "refuse"},
						"types":    words("Types of the resources that it is about; all where nothing is said", text),
						"changes": words("Changes that it is about; new, edit, swap, same and adopt where nothing "+
							"is said",
							change),
						"each": object{"enum": []string{"resource", "stack"}, "default": "resource",
							"description": "What it is judged for"},
						"require": object{"type": "string",
							"description": "An expression in CEL that must be true, over resource, before, after, " +
								"stack and target"},
					}}},
			"tests": object{"type": "array",
				"items": object{"type": "object", "additionalProperties": false,
					"required": []string{"rule", "expect"}, "properties": object{
						"name": text, "rule": object{"type": "string", "description": "The id of a rule"}, "type": text,
						"change": change,
						"before": anything("Properties as they are"), "after": anything("Properties as they would be"),
						"resource": anything("Parts of the resource"),
						"stack":    anything("Parts of the stack"), "target": anything("Parts of the target"),
						"expect": object{"enum": []string{"pass", "fail"}},
					}}},
		},
	}
}
