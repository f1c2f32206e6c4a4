package stack

import (
	"crypto/sha256"
	"encoding/hex"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"brickrow/internal/tosca"
)

// Resources of a team's own types are made by programs. The cloud that calls them knows three
// properties of each, which follow from its type: which type it is, the properties that the type
// adds, and the programs that carry out its operations.

// What stands in the metadata from_own of those properties.
const (
	ownType       = "type"
	ownProperties = "properties"
	ownPrograms   = "programs"
)

// OwnAttributes is the attribute that holds those of a type of one's own.
const OwnAttributes = "own_attributes"

// longestText is how long a program may be that is kept with each resource, in bytes.
const longestText = 64 << 10

// Programs are the files of a resource's programs, by the names of what they carry out; none
// where its type is no type of one's own. Those of actions begin with "action ".
func Programs(t *tosca.NodeType, n *tosca.NodeTemplate) map[string]*tosca.Artifact {
	out := map[string]*tosca.Artifact{}
	for name, o := range programOperations(t, n) {
		out[name] = o.Primary
	}
	return out
}

func programOperations(t *tosca.NodeType, n *tosca.NodeTemplate) map[string]*tosca.Operation {
	if t == nil || t.Base() == nil || fromOwn(t.Base(), ownPrograms) == nil {
		return nil
	}
	if n == nil {
		n = &tosca.NodeTemplate{}
	}
	out := map[string]*tosca.Operation{}
	for face, prefix := range map[string]string{"Resource": "", "Actions": "action "} {
		for _, o := range tosca.Operations(n, t, face) {
			if o.Primary != nil && o.Primary.File != "" {
				out[prefix+o.Name] = o
			}
		}
	}
	return out
}

func digestOf(text []byte) tosca.Value {
	sum := sha256.Sum256(text)
	return tosca.String(hex.EncodeToString(sum[:]))
}

// fromOwn finds the property of a type that follows from a type of one's own; nil where it has
// none.
func fromOwn(t *tosca.NodeType, what string) *tosca.Property {
	for _, p := range t.Properties {
		if p.Metadata["from_own"] == what {
			return p
		}
	}
	return nil
}

// ownExpr is what such a property is, as an expression; nil where it is nothing.
func ownExpr(res *Resource, d *tosca.Property) *tosca.Expr {
	at := res.Pos
	text := func(s string) *tosca.Expr { return &tosca.Expr{Pos: at, Value: tosca.String(s), Raw: s} }
	switch d.Metadata["from_own"] {
	case ownType:
		return text(res.Own.Name)
	case ownProperties:
		out := mapAt(at)
		for _, p := range res.Own.Properties {
			given := p.Default != nil || p.Fixed != nil
			for _, a := range res.template.Properties {
				given = given || a.Name == p.Name
			}
			if given && res.Type.Property(p.Name) == nil {
				put(out, p.Name, &tosca.Expr{Pos: at, Kind: tosca.CallExpr, Name: "get_property", Args: []*tosca.Expr{text("SELF"), text(p.Name)}})
			}
		}
		return out
	case ownPrograms:
		return programsExpr(res)
	}
	return nil
}

func programsExpr(res *Resource) *tosca.Expr {
	out := mapAt(res.Pos)
	files := Programs(res.Own, res.template)
	for name, spec := range ProgramSpecs(res.Own, res.template) {
		one := mapAt(files[name].Pos)
		for key, v := range spec {
			put(one, key, &tosca.Expr{Pos: one.Pos, Value: v, Raw: tosca.Show(v)})
		}
		put(out, name, one)
	}
	return out
}

// ProgramSpecs are the programs of a type, and of a node of it where one is given, as the cloud
// that calls them knows them.
func ProgramSpecs(t *tosca.NodeType, n *tosca.NodeTemplate) map[string]map[string]tosca.Value {
	length, atOnce := 60*time.Second, int64(4)
	if d, err := time.ParseDuration(strings.ReplaceAll(t.Metadata["time_limit"], " ", "")); err == nil && d > 0 {
		length = d
	}
	if n, err := strconv.ParseInt(t.Metadata["at_once"], 10, 64); err == nil && n >= 1 {
		atOnce = n
	}
	out := map[string]map[string]tosca.Value{}
	for name, o := range programOperations(t, n) {
		a := o.Primary
		one := map[string]tosca.Value{"file": tosca.String(a.File), "digest": digestOf(a.Content),
			"time_ms": tosca.Int(length.Milliseconds()), "at_once": tosca.Int(atOnce)}
		if len(o.Dependencies) > 0 {
			with := tosca.Map{}
			for _, d := range o.Dependencies {
				with[d.File] = digestOf(d.Content)
			}
			one["with"] = with
		}
		for _, given := range a.Properties {
			if given.Name == "interpreter" && given.Value.Kind == tosca.LiteralExpr {
				one["interpreter"] = given.Value.Value
			}
		}
		if len(a.Content) <= longestText && utf8.Valid(a.Content) {
			one["text"] = tosca.String(a.Content)
		}
		if folder, err := filepath.Abs(filepath.Dir(a.Pos.File)); err == nil {
			one["folder"] = tosca.String(folder)
		}
		out[name] = one
	}
	return out
}

// differences lists the places where two values of a property differ. Those of types of one's own
// are called as in the type.
func differences(name string, before, after tosca.Value) []PropertyChange {
	out := compare(name, tosca.Pointer(name), before, after)
	for i := range out {
		out[i].Path = strings.TrimPrefix(out[i].Path, "own_properties.")
	}
	return out
}

// ownChange gives a change of such a property the words and the effect that the type of one's own
// says.
func ownChange(res *Resource, d *tosca.Property, c *PropertyChange, was, wanted tosca.Value) {
	key, _, _ := strings.Cut(strings.TrimPrefix(c.Pointer, "/"+d.Name+"/"), "/")
	own := res.Own.Property(key)
	before, _ := was.(tosca.Map)
	after, _ := wanted.(tosca.Map)
	_, updates := Programs(res.Own, res.template)["update"]
	if !updates || own != nil && (Swaps(own.Metadata) || SwapNeeded(own.Metadata, before[key], after[key])) {
		c.Effect = Swap
	}
}

// OwnProperty is the property of a type of one's own that a change is about; nil where it is none.
func OwnProperty(res *Resource, c PropertyChange) *tosca.Property {
	if res == nil || res.Own == nil || res.Type == nil {
		return nil
	}
	if d := res.Type.Property(c.Property); d == nil || d.Metadata["from_own"] != ownProperties {
		return nil
	}
	key, _, _ := strings.Cut(strings.TrimPrefix(c.Pointer, "/"+c.Property+"/"), "/")
	return res.Own.Property(key)
}

// ProgramChanges says that other programs than recorded carry out the operations of a resource. It
// needs no call: it is the record that changes.
func ProgramChanges(res *Resource, rec *Recorded) []PropertyChange {
	d := fromOwn(res.Type, ownPrograms)
	if d == nil || rec == nil {
		return nil
	}
	before, _ := rec.Properties[d.Name].(tosca.Map)
	after, _ := res.Value(d.Name).(tosca.Map)
	var out []PropertyChange
	for _, name := range (tosca.Map(mergedKeys(before, after))).Keys() {
		digest := func(m tosca.Map) tosca.Value {
			one, _ := m[name].(tosca.Map)
			if one == nil {
				return nil
			}
			return tosca.Map{"file": one["file"], "interpreter": one["interpreter"], "digest": one["digest"], "with": one["with"]}
		}
		a, b := digest(before), digest(after)
		if a == nil && b == nil || a != nil && b != nil && tosca.Equal(a, b) {
			continue
		}
		text := func(m tosca.Map) tosca.Value {
			one, _ := m[name].(tosca.Map)
			switch {
			case one == nil:
				return nil
			case one["text"] != nil:
				return one["text"]
			}
			return tosca.String(tosca.Show(one["file"]) + " " + tosca.Show(one["digest"])[:12])
		}
		out = append(out, PropertyChange{Path: "program of " + tosca.KeyText(name), Pointer: tosca.Pointer(d.Name, tosca.KeyText(name)), Property: d.Name, Before: text(before),
			After: text(after), Effect: InPlace})
	}
	return out
}

func mergedKeys(a, b tosca.Map) tosca.Map {
	out := tosca.Map{}
	for k := range a {
		out[k] = tosca.Null{}
	}
	for k := range b {
		out[k] = tosca.Null{}
	}
	return out
}

// ShownType is the type of a resource as people call it: its own where programs make it.
func ShownType(typ string, properties map[string]tosca.Value) string {
	if own, ok := properties["own_type"].(tosca.String); ok && own != "" {
		return string(own)
	}
	return typ
}

// Shown is the type of a resource as people call it.
func (r *Resource) Shown() string {
	if r.Type != nil && fromOwn(r.Type, ownType) != nil {
		return r.Own.Name
	}
	if r.Type == nil {
		return r.Own.Name
	}
	return r.Type.Name
}

// Shown is the type of a resource as people call it.
func (r *Recorded) Shown() string { return ShownType(r.Type, r.Properties) }

// Shown is the type of a resource as people call it.
func (l *Live) Shown() string { return ShownType(l.Type, l.Properties) }
