package tosca

import (
	"maps"
	"slices"
	"strings"
	"sync"
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

var builtins = []Base{BaseString, BaseInteger, BaseFloat, BaseBoolean, BaseBytes, BaseNil, BaseTimestamp, BaseScalar,
	BaseVersion, BaseList, BaseMap}

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

// In is the type of what a value of this type has under a key; of a list that of an
// element. It is nil where nothing tells it.
func (t *Type) In(key string) *Type {
	if t == nil {
		return nil
	}
	for _, f := range t.Fields {
		if f.Name == key {
			return f.Type
		}
	}
	return t.Entry
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
	// Adapter is the program that takes the file as its document, for those that say one.
	Adapter *Artifact
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

// Shipped are the names of the profiles that ship with the program, that of the cloud first.
var Shipped = []string{"brickrow.cloud:1", "brickrow.postgresql:1", "brickrow.dns:1"}

// ProfileFile is the name of the file that holds a profile.
func ProfileFile(name string) string { return strings.ReplaceAll(name, ":", "-") + ".yaml" }

// ShippedIn is the shipped profile that a type comes from; "" is none.
func (t *NodeType) ShippedIn() string {
	i := slices.IndexFunc(Shipped, func(name string) bool { return ProfileFile(name) == t.Pos.File })
	if i < 0 {
		return ""
	}
	return Shipped[i]
}

// Copy is a library with the same types.
func (l *Library) Copy() *Library {
	out := NewLibrary()
	out.Profile = l.Profile
	out.Add(l)
	return out
}

// Add adds the types of another library; those of the same name are taken to be the same.
func (l *Library) Add(other *Library) {
	maps.Copy(l.Data, other.Data)
	maps.Copy(l.Nodes, other.Nodes)
	maps.Copy(l.Capabilities, other.Capabilities)
	maps.Copy(l.Relationships, other.Relationships)
	maps.Copy(l.Interfaces, other.Interfaces)
	maps.Copy(l.Artifacts, other.Artifacts)
	maps.Copy(l.Groups, other.Groups)
	maps.Copy(l.Policies, other.Policies)
	maps.Copy(l.Functions, other.Functions)
}

// NewLibrary holds the built-in types alone.
func NewLibrary() *Library {
	l := &Library{Data: map[string]*Type{}, Nodes: map[string]*NodeType{}, Capabilities: map[string]*EntityType{},
		Relationships: map[string]*EntityType{},
		Interfaces:    map[string]*EntityType{}, Artifacts: map[string]*EntityType{}, Groups: map[string]*EntityType{},
		Policies: map[string]*EntityType{}, Functions: map[string]*FunctionDef{}}
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

// Given are the properties that a template can give: some follow from other parts of the node.
func (t *NodeType) Given() []*Property {
	return slices.DeleteFunc(slices.Clone(t.Properties), func(p *Property) bool {
		return p.Metadata["from_interface"] != "" || p.Metadata["from_own"] != ""
	})
}

// Carried is the property that holds what the operations of an interface carry out; nil where
// nobody carries them out.
func (t *NodeType) Carried(name string) *Property {
	for _, p := range t.Properties {
		if p.Metadata["from_interface"] == name || p.Metadata["from_own"] == "programs" && (name == "Resource" || name == "Actions") {
			return p
		}
	}
	return nil
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
