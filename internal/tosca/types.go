package tosca

import (
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Base is what a data type comes down to.
type Base string

// The built-in types (TOSCA 2.0, section 9).
const (
	BaseString    Base = "string"
	BaseInteger   Base = "integer"
	BaseFloat     Base = "float"
	BaseBoolean   Base = "boolean"
	BaseBytes     Base = "bytes"
	BaseNil       Base = "nil"
	BaseTimestamp Base = "timestamp"
	BaseScalar    Base = "scalar"
	BaseVersion   Base = "version"
	BaseList      Base = "list"
	BaseMap       Base = "map"
	BaseStructure Base = "structure" // a data type with properties
)

var builtins = []Base{BaseString, BaseInteger, BaseFloat, BaseBoolean, BaseBytes, BaseNil, BaseTimestamp, BaseScalar, BaseVersion, BaseList, BaseMap}

// Type is a data type, resolved: its parent, its fields and its entries are
// known.
type Type struct {
	Pos
	Name        string
	Base        Base
	Parent      *Type // nil for a built-in type
	Description string
	Validation  *Expr
	Fields      []*Property        // of a structure, those of the parent first
	Key, Entry  *Type              // of a map or a list; nil is anything
	Units       map[string]float64 // of a scalar: how many canonical units one is
	Whole       bool               // of a scalar: amounts are integers
	Metadata    map[string]string

	seen seen
}

// seen remembers some plain values that suit a type, and what they became, so
// that "30 s" written a thousand times is looked at once.
type seen struct {
	mu sync.RWMutex
	m  map[Value]Value
}

const mostSeen = 512

// Seen is what a plain value became that was found to suit the type before.
func (t *Type) Seen(v Value) (Value, bool) {
	switch v.(type) {
	case String, Int, Bool, Scalar:
		t.seen.mu.RLock()
		defer t.seen.mu.RUnlock()
		out, ok := t.seen.m[v]
		return out, ok
	}
	return nil, false
}

func (t *Type) remember(v, out Value) {
	switch v.(type) {
	case String, Int, Bool, Scalar:
	default:
		return
	}
	if t.Base == BaseVersion || t.IsA("Secret") {
		return
	}
	switch out.(type) {
	case String, Int, Bool, Scalar:
		t.seen.mu.Lock()
		defer t.seen.mu.Unlock()
		if t.seen.m == nil {
			t.seen.m = map[Value]Value{}
		}
		if len(t.seen.m) < mostSeen {
			t.seen.m[v] = out
		}
	}
}

// Property is the definition of a property, an input or an attribute.
type Property struct {
	Pos
	Name        string
	Type        *Type
	Description string
	Required    bool
	Default     *Expr
	Fixed       *Expr // value: it cannot be anything else
	Validation  *Expr
	Metadata    map[string]string
	Status      string // supported, unsupported, experimental or deprecated; "" is supported

	constant struct { // the default, where it is the same for everyone
		once sync.Once
		is   bool
		v    Value
	}
}

// Optional reports whether a value need not be given.
func (p *Property) Optional() bool { return !p.Required || p.Default != nil || p.Fixed != nil }

// Constant is the default of the property where it calls no function and suits
// its type, so that it need not be computed again for every resource.
func (p *Property) Constant() (Value, bool) {
	c := &p.constant
	c.once.Do(func() {
		if p.Default == nil || p.Type == nil || p.Default.calls() {
			return
		}
		var findings Findings
		c.v = (&Env{Index: -1, Findings: &findings}).EvalAs(p.Default, p.Type, p.Name)
		c.is = Validate(p.Validation, c.v, p.Type, p.Default.Pos, p.Name, &findings) && len(findings) == 0
	})
	return c.v, c.is
}

// EntityType is a capability, relationship, interface, artifact, group or
// policy type, with what it inherits. Which fields have a meaning depends on
// its Kind.
type EntityType struct {
	Pos
	Kind, Name, Description string
	Parent                  *EntityType
	Metadata                map[string]string
	Properties, Attributes  []*Property
	Inputs                  []*Property // of an interface type
	Operations              []*Operation
	Interfaces              []*Interface
	Sources, Targets        []Key // valid_source_node_types; valid_target_node_types, targets or members
	Capabilities            []Key // valid_capability_types
	Relationships           []Key // valid_relationship_types
	Extensions              []string
}

// IsA reports whether the type is other or derives from it.
func (t *EntityType) IsA(other *EntityType) bool {
	for ; t != nil; t = t.Parent {
		if t == other {
			return true
		}
	}
	return false
}

// Root is the name of the type that t derives from in the end.
func (t *EntityType) Root() string {
	for t.Parent != nil {
		t = t.Parent
	}
	return t.Name
}

// Operation is one operation of an interface, defined or assigned.
type Operation struct {
	Pos
	Name, Description string
	Inputs            []*Property   // as defined
	Given             []*Assignment // as assigned
	Outputs           []*Assignment
	Primary           *Artifact // what carries it out; nil where nothing is said
	Dependencies      []*Artifact
}

// Interface is an interface of a type or of a node template.
type Interface struct {
	Pos
	Name       string
	Type       *EntityType // nil in an assignment
	Inputs     []*Property
	Given      []*Assignment
	Operations []*Operation
}

// Operation finds an operation by name; nil where there is none.
func (i *Interface) Operation(name string) *Operation {
	for _, o := range i.Operations {
		if o.Name == name {
			return o
		}
	}
	return nil
}

// Artifact is a file that belongs to a node: a script, a program. Where only a
// name was written, in an implementation, Name is that and File is empty.
type Artifact struct {
	Pos
	Name, File, Description string
	FilePos                 Pos
	Type                    string
	TypePos                 Pos
	Repository              *Key
	Properties              []*Assignment
	Content                 []byte // nil where it could not be read
	Checksum, Algorithm     string
}

// CapabilityDef is what a node type says of one capability.
type CapabilityDef struct {
	Pos
	Name                   string
	Type                   *EntityType
	Properties, Attributes []*Property // those of the type too
	Sources                []Key       // valid_source_node_types
}

// RequirementDef is what a node type says of one requirement. High is -1
// where there is no upper bound.
type RequirementDef struct {
	Pos
	Name, Node, Description  string // Node names a node type
	Capability, Relationship string
	Target                   *NodeType // nil is any
	TargetCapability         *EntityType
	Type                     *EntityType // of the relationship
	Filter                   *Expr
	Low, High                int
	Metadata                 map[string]string
}

// NodeType is a resource type, with what it inherits. Resource names the type
// of the cloud that it comes down to; it is empty for a type that is nothing in
// the cloud by itself.
type NodeType struct {
	Pos
	Name, Description string
	Resource          string
	Parent            *NodeType
	Metadata          map[string]string
	Properties        []*Property
	Attributes        []*Property
	Capabilities      []*CapabilityDef
	Requirements      []*RequirementDef
	Interfaces        []*Interface
	Artifacts         []*Artifact
}

// FunctionDef is the definition of a function in a template. Each signature
// has its arguments; the last one may be repeated where it is variadic.
type FunctionDef struct {
	Pos
	Name, Description string
}

// Library is a set of types: the shipped profile, or that and what a template
// adds. Types that were imported under a namespace stand under prefix:name.
type Library struct {
	Profile       string
	Data          map[string]*Type
	Nodes         map[string]*NodeType
	Capabilities  map[string]*EntityType
	Relationships map[string]*EntityType
	Interfaces    map[string]*EntityType
	Artifacts     map[string]*EntityType
	Groups        map[string]*EntityType
	Policies      map[string]*EntityType
	Functions     map[string]*FunctionDef
}

// NewLibrary holds the built-in types alone.
func NewLibrary() *Library {
	l := &Library{Data: map[string]*Type{}, Nodes: map[string]*NodeType{}, Capabilities: map[string]*EntityType{}, Relationships: map[string]*EntityType{},
		Interfaces: map[string]*EntityType{}, Artifacts: map[string]*EntityType{}, Groups: map[string]*EntityType{}, Policies: map[string]*EntityType{}, Functions: map[string]*FunctionDef{}}
	for _, b := range builtins {
		l.Data[string(b)] = builtinTypes[b]
	}
	return l
}

// builtinTypes are shared by all libraries, so that a type imported by two
// ways is one type.
var builtinTypes = func() map[Base]*Type {
	m := map[Base]*Type{}
	for _, b := range builtins {
		m[b] = &Type{Name: string(b), Base: b}
	}
	return m
}()

// IsA reports whether the node type name is or derives from of.
func (l *Library) IsA(name, of string) bool {
	return l.Nodes[name] != nil && l.Nodes[name].IsA(l.Nodes[of])
}

// IsA reports whether the type is other or derives from it.
func (t *NodeType) IsA(other *NodeType) bool {
	for ; t != nil; t = t.Parent {
		if t == other {
			return other != nil
		}
	}
	return false
}

// IsA reports whether the type is or derives from the one named.
func (t *Type) IsA(name string) bool {
	for ; t != nil; t = t.Parent {
		if t.Name == name {
			return true
		}
	}
	return false
}

// Property finds a property by name; nil where there is none.
func (t *NodeType) Property(name string) *Property { return find(t.Properties, name) }

// Attribute finds an attribute by name; nil where there is none.
func (t *NodeType) Attribute(name string) *Property { return find(t.Attributes, name) }

// Capability finds a capability by name; nil where there is none.
func (t *NodeType) Capability(name string) *CapabilityDef {
	i := slices.IndexFunc(t.Capabilities, func(c *CapabilityDef) bool { return c.Name == name })
	if i < 0 {
		return nil
	}
	return t.Capabilities[i]
}

// Interface finds an interface by name; nil where there is none.
func (t *NodeType) Interface(name string) *Interface {
	i := slices.IndexFunc(t.Interfaces, func(c *Interface) bool { return c.Name == name })
	if i < 0 {
		return nil
	}
	return t.Interfaces[i]
}

// Requirement finds a requirement by name; nil where there is none.
func (t *NodeType) Requirement(name string) *RequirementDef {
	i := slices.IndexFunc(t.Requirements, func(r *RequirementDef) bool { return r.Name == name })
	if i < 0 {
		return nil
	}
	return t.Requirements[i]
}

func find(list []*Property, name string) *Property {
	for _, p := range list {
		if p.Name == name {
			return p
		}
	}
	return nil
}

func names(list []*Property) []string {
	out := make([]string, len(list))
	for i, p := range list {
		out[i] = p.Name
	}
	return out
}

// Label is the type as a reader would write it.
func (t *Type) Label() string {
	switch {
	case t == nil:
		return "any value"
	case t.Entry != nil && (t.Name == "list" || t.Name == "map"):
		return t.Name + " of " + t.Entry.Label()
	}
	return t.Name
}

// misfit says why a value does not suit a type.
type misfit struct{ code, message, mend string }

// hidden is the misfit without the words of the value, which is secret, or has
// secret parts. Only what kind of value it is, and should be, may be said.
func (m *misfit) hidden(t *Type) *misfit {
	mend, _, quotes := strings.Cut(m.mend, ": ")
	if i := strings.Index(m.message, "expected "); i >= 0 {
		return &misfit{m.code, m.message[i:], mend}
	}
	if quotes || m.code == "unknown-property" || m.code == "missing-property" {
		mend = ""
	}
	return &misfit{m.code, "the value, which is secret, is not fit for " + t.article(), mend}
}

// hidesKeys reports whether the keys of a map are secret.
func (t *Type) hidesKeys() bool { return t != nil && t.Key != nil && t.Key.IsA("Secret") }

// HoldsSecret reports whether a value of the type is secret, or has parts that
// are.
func (t *Type) HoldsSecret() bool { return t.holdsSecret(0) }

func (t *Type) holdsSecret(depth int) bool {
	if t == nil || depth > maxDepth {
		return false
	}
	if t.IsA("Secret") || t.Key.holdsSecret(depth+1) || t.Entry.holdsSecret(depth+1) {
		return true
	}
	return slices.ContainsFunc(t.Fields, func(f *Property) bool { return f.Type.holdsSecret(depth + 1) })
}

var (
	versionPattern = regexp.MustCompile(`^\d+(\.\d+){0,3}([.-][0-9A-Za-z]+)*$`)
	scalarPattern  = regexp.MustCompile(`^([+-]?[0-9]+(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?)\s*([A-Za-z%µ°][^\s]*)$`)
)

// fit turns v into a value of the type without looking at validations. It
// leaves unknown and bad values alone, and keeps secrets secret; what the type
// says is secret becomes so, at any depth.
func (t *Type) fit(v Value) (Value, *misfit) {
	switch w := v.(type) {
	case Unknown:
		return v, nil
	case Secret:
		inner, m := t.fit(w.Value)
		if m != nil {
			return v, m.hidden(t)
		}
		return Hide(inner), nil
	}
	if t == nil {
		return v, nil
	}
	out, m := t.fitPlain(v)
	switch {
	case m != nil && t.HoldsSecret():
		return v, m.hidden(t)
	case m == nil && t.Base == BaseString && t.IsA("Secret"):
		return Hide(out), nil
	}
	return out, m
}

// fitPlain does it for a value that is neither unknown nor secret as a whole.
func (t *Type) fitPlain(v Value) (Value, *misfit) {
	mend := ""
	switch t.Base {
	case BaseString:
		switch v := v.(type) {
		case String:
			return v, nil
		case Int, Float, Bool:
			mend = fmt.Sprintf("put it in quotes: %q", Show(v))
		case Scalar:
			return String(v.Text), nil
		case Version:
			return String(v), nil
		}
	case BaseInteger:
		if _, ok := v.(Int); ok {
			return v, nil
		}
		if f, ok := v.(Float); ok && f == Float(int64(f)) {
			return Int(f), nil
		}
	case BaseFloat:
		switch v := v.(type) {
		case Float:
			return v, nil
		case Int:
			return Float(v), nil
		}
	case BaseBoolean:
		if _, ok := v.(Bool); ok {
			return v, nil
		}
		if s, ok := v.(String); ok && slices.Contains([]string{"yes", "no", "on", "off"}, strings.ToLower(string(s))) {
			mend = "write true or false"
		} else if ok && (s == "true" || s == "false") {
			mend = "write it without quotes"
		}
	case BaseNil:
		if _, ok := v.(Null); ok {
			return v, nil
		}
	case BaseVersion:
		text := Show(v)
		switch v.(type) {
		case Version, String, Int, Float:
			if versionPattern.MatchString(text) {
				return Version(text), nil
			}
			return v, &misfit{"bad-version", fmt.Sprintf("'%s' is not a version", text), "write it like 15 or 15.10"}
		}
	case BaseTimestamp:
		if s, ok := v.(String); ok {
			for _, layout := range []string{time.RFC3339Nano, time.DateOnly, "2006-01-02 15:04:05"} {
				if _, err := time.Parse(layout, string(s)); err == nil {
					return v, nil
				}
			}
			return v, &misfit{"bad-timestamp", fmt.Sprintf("'%s' is not a timestamp", string(s)), "write it like 2026-11-23T08:00:00Z"}
		}
	case BaseBytes:
		if s, ok := v.(String); ok {
			if _, err := base64.StdEncoding.DecodeString(string(s)); err != nil {
				return v, &misfit{"bad-bytes", "this is not base64", "encode the bytes as base64"}
			}
			return v, nil
		}
	case BaseScalar:
		return t.fitScalar(v)
	case BaseList:
		if l, ok := v.(List); ok {
			out := make(List, len(l))
			for i, e := range l {
				x, m := t.Entry.fit(e)
				if m != nil {
					return v, &misfit{m.code, fmt.Sprintf("element %d: %s", i, m.message), m.mend}
				}
				out[i] = x
			}
			return out, nil
		}
		mend = "write it as a list: [ " + Show(v) + " ]"
	case BaseMap:
		if mp, ok := v.(Map); ok {
			return t.fitMap(mp)
		}
	case BaseStructure:
		if mp, ok := v.(Map); ok {
			return t.fitStructure(mp)
		}
	}
	return v, &misfit{"wrong-type", fmt.Sprintf("expected %s, found %s", t.article(), KindName(v)), mend}
}

// fitMap fits the entries of a map, and its keys. Where the keys are secret, the
// map is.
func (t *Type) fitMap(mp Map) (Value, *misfit) {
	out := make(Map, len(mp))
	for _, k := range mp.Keys() {
		key, m := t.Key.fitKey(k, true)
		if m != nil {
			return mp, &misfit{m.code, "the key " + KeyText(k) + ": " + m.message, m.mend}
		}
		x, m := t.Entry.fit(mp[k])
		if m != nil {
			return mp, &misfit{m.code, KeyText(k) + ": " + m.message, m.mend}
		}
		out[key] = x
	}
	if t.Key != nil && t.Key.IsA("Secret") {
		return Hide(out), nil
	}
	return out, nil
}

// fitKey turns the key of a map into one of the type. What comes from JSON has
// text for keys: with read, text that spells a boolean or a number is one.
func (t *Type) fitKey(key string, read bool) (string, *misfit) {
	if t == nil {
		return key, nil
	}
	v := KeyValue(key)
	_, isText := v.(String)
	switch t.Base {
	case BaseString, BaseVersion, BaseScalar, BaseTimestamp, BaseBytes:
		v = String(KeyText(key))
	case BaseBoolean, BaseInteger, BaseFloat, BaseNil:
		if isText && read {
			v = KeyValue(typedKey + key)
		} else if isText {
			return key, &misfit{"wrong-type", fmt.Sprintf("expected %s, found a string", t.article()), "write it without quotes"}
		}
	}
	out, m := t.fit(v)
	if m != nil {
		return key, m
	}
	bare, _ := Bare(out)
	if k, ok := MapKey(bare); ok {
		return k, nil
	}
	return key, nil
}

func (t *Type) fitScalar(v Value) (Value, *misfit) {
	wrong := &misfit{code: "wrong-type"}
	switch v := v.(type) {
	case Scalar:
		return v, nil
	case Int, Float:
		wrong.code, wrong.message = "missing-unit", fmt.Sprintf("%s has no unit", Show(v))
	case String:
		number, unit := splitScalar(string(v))
		factor, ok := t.Units[unit]
		f, err := strconv.ParseFloat(number, 64)
		switch {
		case number == "" || unit == "" || err != nil:
			wrong.code, wrong.message = "bad-scalar", fmt.Sprintf("'%s' is not a number with a unit", string(v))
		case !ok:
			units := make([]string, 0, len(t.Units))
			for u := range t.Units {
				units = append(units, u)
			}
			slices.SortFunc(units, func(a, b string) int { return cmpFloat(t.Units[a], t.Units[b]) })
			return v, &misfit{"unknown-unit", fmt.Sprintf("%s has no unit '%s'", t.Name, unit), "the units are " + strings.Join(units, ", ")}
		case t.Whole && f*factor != float64(int64(f*factor)):
			return v, &misfit{"wrong-type", fmt.Sprintf("'%s' is not a whole number of %s", string(v), t.canonical()), ""}
		default:
			return Scalar{Text: number + " " + unit, Amount: f * factor}, nil
		}
	}
	if wrong.message == "" {
		wrong.message = fmt.Sprintf("expected %s, found %s", t.article(), KindName(v))
	}
	wrong.mend = "write a number and a unit, such as " + t.exampleScalar()
	return v, wrong
}

// splitScalar takes a number with a unit apart; both parts are empty where it
// is none.
func splitScalar(s string) (number, unit string) {
	m := scalarPattern.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return "", ""
	}
	return m[1], m[2]
}

// canonical is the unit that others are counted in.
func (t *Type) canonical() string {
	for u, f := range t.Units {
		if f == 1 {
			return u
		}
	}
	return "units"
}

func (t *Type) exampleScalar() string {
	best := ""
	for u, f := range t.Units {
		if best == "" || f < t.Units[best] || f == t.Units[best] && u < best {
			best = u
		}
	}
	if e := t.Metadata["example"]; e != "" {
		return e
	}
	return "1 " + best
}

func (t *Type) fitStructure(mp Map) (Value, *misfit) {
	out := Map{}
	for _, k := range mp.Keys() {
		f := find(t.Fields, k)
		if f == nil {
			return mp, &misfit{"unknown-property", fmt.Sprintf("%s has no property '%s'", t.Name, k), suggest(k, names(t.Fields))}
		}
		x, m := f.Type.fit(mp[k])
		if m != nil {
			return mp, &misfit{m.code, k + ": " + m.message, m.mend}
		}
		out[k] = x
	}
	for _, f := range t.Fields {
		if _, given := out[f.Name]; given {
			continue
		}
		if v, ok := f.Constant(); ok {
			out[f.Name] = v
		} else if f.Required && f.Default == nil {
			return mp, &misfit{"missing-property", fmt.Sprintf("%s needs the property '%s'", t.Name, f.Name), "add " + f.Name + ": " + f.Type.Label()}
		}
	}
	return out, nil
}

func (t *Type) article() string {
	label := t.Label()
	if strings.ContainsAny(label[:1], "aeiou") {
		return "an " + label
	}
	return "a " + label
}

// Fit turns v into a value of the type and applies its validations and those
// of its parts. Findings are reported at p; what is the thing in words. The
// value of a Secret type comes out marked as secret.
func (t *Type) Fit(v Value, p Pos, what string, findings *Findings) Value {
	if t != nil {
		if out, ok := t.Seen(v); ok {
			return out
		}
	}
	if isBad(v) {
		return v
	}
	out, m := t.fit(v)
	if m != nil {
		findings.Errorf(p, m.code, m.mend, "%s: %s", what, m.message)
		return Unknown{Bad: true}
	}
	if !t.validate(out, p, what, findings) {
		return Unknown{Bad: true}
	}
	if t != nil {
		t.remember(v, out)
	}
	return out
}

// Read turns what a cloud or a store holds into a value of the type, without
// looking at validations; what does not fit is kept as it is.
func (t *Type) Read(v Value) Value {
	if out, m := t.fit(v); m == nil {
		return out
	}
	if t.HoldsSecret() {
		return Hide(v)
	}
	return v
}

// EvalAs computes x as a value of type t. Other than Eval followed by Fit it
// reports each mistake at the part of x that is wrong.
func (env *Env) EvalAs(x *Expr, t *Type, what string) Value {
	switch {
	case t == nil:
		return env.Eval(x)
	case x.Kind == LiteralExpr && t.Base == BaseVersion:
		if _, isNumber := number(x.Value); isNumber {
			return t.Fit(String(x.Raw), x.Pos, what, env.Findings)
		}
	case x.Kind == ListExpr && t.Base == BaseList:
		out := make(List, len(x.Args))
		for i, a := range x.Args {
			out[i] = env.EvalAs(a, t.Entry, fmt.Sprintf("%s, element %d", what, i))
		}
		t.validateSelf(out, x.Pos, what, env.Findings)
		return out
	case x.Kind == MapExpr && t.Base == BaseMap:
		out := make(Map, len(x.Args))
		for i, k := range x.Keys {
			shown := KeyText(k.Name)
			if t.hidesKeys() {
				shown = SecretText
			}
			key, m := t.Key.fitKey(k.Name, false)
			if m != nil {
				env.Findings.Errorf(k.Pos, m.code, m.mend, "%s, key %s: %s", what, shown, m.message)
			} else if t.Key != nil {
				t.Key.validate(KeyValue(key), k.Pos, what+", key "+shown, env.Findings)
			}
			out[key] = env.EvalAs(x.Args[i], t.Entry, what+", "+shown)
		}
		t.validateSelf(out, x.Pos, what, env.Findings)
		if t.hidesKeys() && IsKnown(out) {
			return Hide(out)
		}
		return out
	case x.Kind == MapExpr && t.Base == BaseStructure:
		out := Map{}
		for i, k := range x.Keys {
			f := find(t.Fields, k.Name)
			if f == nil {
				env.Findings.Errorf(k.Pos, "unknown-property", suggest(k.Name, names(t.Fields)), "%s has no property '%s'", t.Name, k.Name)
				continue
			}
			out[k.Name] = env.EvalAs(x.Args[i], f.Type, what+", "+k.Name)
			Validate(f.Validation, out[k.Name], f.Type, x.Args[i].Pos, what+", "+k.Name, env.Findings)
		}
		for _, f := range t.Fields {
			if _, given := out[f.Name]; given {
				continue
			}
			if v, ok := f.Constant(); ok {
				out[f.Name] = v
			} else if f.Default != nil {
				out[f.Name] = env.EvalAs(f.Default, f.Type, what+", "+f.Name)
			} else if f.Required && f.Default == nil {
				env.Findings.Errorf(x.Pos, "missing-property", "add "+f.Name+": "+f.Type.Label(), "%s: the property '%s' is missing", what, f.Name)
			}
		}
		t.validateSelf(out, x.Pos, what, env.Findings)
		return out
	}
	return t.Fit(env.Eval(x), x.Pos, what, env.Findings)
}

// validateSelf applies the type's own validations, not those of its parts.
func (t *Type) validateSelf(v Value, p Pos, what string, findings *Findings) bool {
	ok := true
	for s := t; s != nil; s = s.Parent {
		ok = Validate(s.Validation, v, t, p, what, findings) && ok
	}
	return ok
}

func (t *Type) validate(v Value, p Pos, what string, findings *Findings) bool {
	ok := t.validateSelf(v, p, what, findings)
	part := func(v Value) Value { return v }
	if s, whole := v.(Secret); whole {
		v, part = s.Value, Hide
	}
	switch w := v.(type) {
	case List:
		if t != nil && t.Entry != nil {
			for i, e := range w {
				ok = t.Entry.validate(part(e), p, fmt.Sprintf("%s, element %d", what, i), findings) && ok
			}
		}
	case Map:
		if t == nil {
			break
		}
		for _, k := range w.Keys() {
			shown := KeyText(k)
			if t.hidesKeys() {
				shown = SecretText
			}
			if t.Key != nil {
				ok = t.Key.validate(part(KeyValue(k)), p, what+", key "+shown, findings) && ok
			}
			if t.Entry != nil {
				ok = t.Entry.validate(part(w[k]), p, what+", "+shown, findings) && ok
			}
			if f := find(t.Fields, k); f != nil {
				ok = f.Type.validate(part(w[k]), p, what+", "+k, findings) && ok
				ok = Validate(f.Validation, part(w[k]), f.Type, p, what+", "+k, findings) && ok
			}
		}
	}
	return ok
}

// Validate applies one validation to a value of type t. An unknown value
// passes: it is looked at again once it is known.
func Validate(validation *Expr, v Value, t *Type, p Pos, what string, findings *Findings) bool {
	if validation == nil || !IsKnown(v) {
		return true
	}
	env := &Env{Value: v, ValueType: t, Index: -1, Findings: findings}
	result, _ := Bare(env.Eval(validation))
	if result == Value(Bool(true)) || isBad(result) {
		return !isBad(result)
	}
	shown, wanted := "'"+Show(v)+"'", Describe(validation)
	if HasSecret(v) {
		shown = "the value given"
		if validation.names("valid_values") || validation.names("equal") {
			wanted = "one of those that the template allows"
		}
	}
	if t.HoldsSecret() && !HasSecret(v) {
		shown = "the value given"
	}
	if e := t.example(); e != "" && validation.names("matches") { // easier to read than a regular expression
		findings.Errorf(p, "invalid-value", "", "%s: %s is not allowed; write it like %s", what, shown, e)
		return false
	}
	findings.Errorf(p, "invalid-value", "", "%s: %s is not allowed; it must be %s", what, shown, wanted)
	return false
}

// example is a value of the type, as its metadata gives one; "" where it does
// not.
func (t *Type) example() string {
	for ; t != nil; t = t.Parent {
		if e := t.Metadata["example"]; e != "" {
			return e
		}
	}
	return ""
}

// Describe puts a validation into words: "at least 1 and at most 20".
func Describe(x *Expr) string {
	if x == nil {
		return ""
	}
	if x.Kind != CallExpr {
		return Show((&Env{Index: -1, Findings: new(Findings)}).Eval(x))
	}
	arg := func(i int) string {
		if i < len(x.Args) {
			return Describe(x.Args[i])
		}
		return "?"
	}
	onValue := func(words string) string {
		if x.Args[0].Kind == CallExpr && x.Args[0].Name == "length" {
			return "of length " + words
		}
		return words
	}
	switch x.Name {
	case "and", "or", "xor":
		parts := make([]string, len(x.Args))
		for i := range x.Args {
			parts[i] = arg(i)
		}
		return strings.Join(parts, " "+x.Name+" ")
	case "not":
		return "not " + arg(0)
	case "equal":
		return onValue(arg(1))
	case "greater_than":
		return onValue("more than " + arg(1))
	case "greater_or_equal":
		return onValue("at least " + arg(1))
	case "less_than":
		return onValue("less than " + arg(1))
	case "less_or_equal":
		return onValue("at most " + arg(1))
	case "valid_values":
		return "one of " + strings.Trim(arg(1), "[]")
	case "matches":
		return "text that matches " + arg(1)
	}
	return "$" + x.Name
}
