package app

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"
	"go.yaml.in/yaml/v4"

	"brickrow/internal/cloud"
	"brickrow/internal/programs"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// TypeTest holds the programs of a type of one's own against the protocol, on a scratch name. Given
// and edit are values of properties, as in YAML; what is not given is made up.
func (a *App) TypeTest(ctx context.Context, file, typ string, given, edit map[string]string) ([]programs.Check, error) {
	d, err := a.Load(ctx, file, Values{})
	if err != nil {
		return nil, err
	}
	t := d.File.Library.Nodes[typ]
	switch {
	case t == nil:
		bad := slices.DeleteFunc(slices.Clone(d.Findings), func(f tosca.Finding) bool { return f.Code == "missing-service-template" }) // a profile has none
		if bad.HasErrors() {
			return nil, &Refusal{Findings: bad}
		}
		return nil, refusal("%s has no node type %s%s", file, typ, suggested(typ, slices.Sorted(maps.Keys(d.File.Library.Nodes))))
	case t.Base() == nil || t.Base().Name != programs.Type:
		return nil, refusal("%s does not derive from %s: there are no programs to be tested", typ, programs.Type)
	}
	files := stack.Programs(t, nil)
	for _, name := range []string{"create", "read", "delete"} {
		switch f := files[name]; {
		case f == nil:
			return nil, refusal("%s does not say which program carries out %s", typ, name)
		case f.Content == nil:
			return nil, refusal("the program %s of %s cannot be read", f.File, typ)
		}
	}
	scratch := programs.Scratch + uuid.NewString()[:8]
	settings, err := settingsOf(t, given, scratch)
	if err != nil {
		return nil, err
	}
	k := programs.Known{Target: stack.Target{Account: "workshop", Region: "alder-1"}, Kind: typ, Tags: map[string]string{"stack": "type-test", "node": scratch},
		Secrets: cloud.SecretPlaces("", tosca.Map(settings)), Facts: map[string]any{}, Programs: map[string]programs.Program{}}
	if k.Settings, err = inJSON(settings); err != nil {
		return nil, err
	}
	specs := map[string]any{}
	for name, spec := range stack.ProgramSpecs(t, nil) {
		specs[name] = tosca.Reveal(tosca.Map(spec))
	}
	text, err := json.Marshal(specs)
	if err == nil {
		err = json.Unmarshal(text, &k.Programs)
	}
	if err != nil {
		return nil, err
	}
	other, err := edited(t, settings, edit)
	if err != nil {
		return nil, err
	}
	var as map[string]any
	if other != nil {
		if as, err = inJSON(other); err != nil {
			return nil, err
		}
	}
	return programs.Conform(ctx, k, as)
}

func inJSON(m map[string]tosca.Value) (map[string]any, error) {
	text, err := json.Marshal(tosca.Reveal(tosca.Map(m)))
	if err != nil {
		return nil, err
	}
	var out map[string]any
	return out, json.Unmarshal(text, &out)
}

// settingsOf are the properties of a scratch resource: as given, as the type says, or made up.
func settingsOf(t *tosca.NodeType, given map[string]string, scratch string) (map[string]tosca.Value, error) {
	out := map[string]tosca.Value{}
	for _, d := range t.Properties {
		if t.Base().Property(d.Name) != nil {
			continue
		}
		var v tosca.Value
		text, is := given[d.Name]
		switch {
		case is:
			v = fromYAML(text)
		case d.Default != nil && d.Default.Kind == tosca.LiteralExpr:
			v = d.Default.Value
		case d.Metadata["example"] != "" && d.Type != nil && d.Type.Base != tosca.BaseString: // a text may be a name, of something that is there
			v = fromYAML(d.Metadata["example"])
		case !d.Required:
			continue
		default:
			v = madeUp(d.Type, scratch)
		}
		var findings tosca.Findings
		value := d.Type.Fit(v, tosca.Pos{}, d.Name, &findings)
		tosca.Validate(d.Validation, value, d.Type, tosca.Pos{}, d.Name, &findings)
		if len(findings) > 0 {
			return nil, refusal("%s: give the property with -i %s=VALUE", findings[0].Message, d.Name)
		}
		out[d.Name] = value
	}
	for name := range given {
		if _, there := out[name]; !there {
			return nil, refusal("%s has no property %s", t.Name, name)
		}
	}
	return out, nil
}

func fromYAML(text string) tosca.Value {
	var x any
	if yaml.Unmarshal([]byte(text), &x) != nil {
		return tosca.String(text)
	}
	encoded, err := json.Marshal(x)
	if err != nil {
		return tosca.String(text)
	}
	var v any
	if json.Unmarshal(encoded, &v) != nil {
		return tosca.String(text)
	}
	return tosca.FromJSON(v)
}

// madeUp is a value of a type.
func madeUp(t *tosca.Type, scratch string) tosca.Value {
	switch {
	case t == nil:
		return tosca.String(scratch)
	case t.HoldsSecret():
		return tosca.String("secret-of-" + scratch)
	}
	switch t.Base {
	case tosca.BaseInteger:
		return tosca.Int(1)
	case tosca.BaseFloat:
		return tosca.Float(1)
	case tosca.BaseBoolean:
		return tosca.Bool(true)
	case tosca.BaseList:
		return tosca.List{madeUp(t.Entry, scratch)}
	case tosca.BaseMap:
		return tosca.Map{"one": madeUp(t.Entry, scratch)}
	}
	return tosca.String(scratch)
}

// edited are the properties after an edit: as given, or with another value of one that can be
// changed in place; nil is that there is none.
func edited(t *tosca.NodeType, was map[string]tosca.Value, edit map[string]string) (map[string]tosca.Value, error) {
	out := maps.Clone(was)
	if len(edit) > 0 {
		for name, text := range edit {
			d := t.Property(name)
			if d == nil || t.Base().Property(name) != nil {
				return nil, refusal("%s has no property %s", t.Name, name)
			}
			var findings tosca.Findings
			out[name] = d.Type.Fit(fromYAML(text), tosca.Pos{}, name, &findings)
			if len(findings) > 0 {
				return nil, refusal("%s", findings[0].Message)
			}
		}
		return out, nil
	}
	for _, d := range t.Properties {
		v, there := was[d.Name]
		if !there || stack.Swaps(d.Metadata) || d.Metadata["swap_when"] != "" || tosca.HasSecret(v) {
			continue
		}
		var next tosca.Value
		switch w := v.(type) {
		case tosca.String:
			next = w + "-2"
		case tosca.Int:
			next = w + 1
		case tosca.Bool:
			next = !w
		case tosca.List:
			if len(w) == 0 {
				continue
			}
			next = append(slices.Clone(w), w[0])
			if s, ok := w[0].(tosca.String); ok {
				next = append(slices.Clone(w), s+"-2")
			}
		default:
			continue
		}
		var findings tosca.Findings
		value := d.Type.Fit(next, tosca.Pos{}, d.Name, &findings)
		tosca.Validate(d.Validation, value, d.Type, tosca.Pos{}, d.Name, &findings)
		if len(findings) == 0 {
			out[d.Name] = value
			return out, nil
		}
	}
	return nil, nil
}

// CheckWords are a check in one line.
func CheckWords(c programs.Check) string {
	mark := "■"
	if !c.Passes {
		mark = "✖"
	}
	return strings.TrimRight(fmt.Sprintf("%s %s  %s", mark, c.Name, c.Said), " ")
}
