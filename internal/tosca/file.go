package tosca

import (
	"slices"
)

// Limits on what is read, so that no text can exhaust the machine.
const (
	MaxBytes = 16 << 20 // of one file
	maxDepth = 100      // of nesting
)

// File is a template, read.
type File struct {
	Name         string // as findings show it
	Path         string // among the files of the template
	Profile      string // where the file is one
	Description  string
	Metadata     map[string]string
	Library      *Library
	Repositories map[string]string // folders, by name
	Imports      []*File           // those read, each once in the whole tree
	Service      *ServiceTemplate  // nil where the file has none
}

// Substitutes lists the files among the imports, and their imports, whose
// service template fills a node of the type.
func (f *File) Substitutes(t *NodeType) []*File {
	var out []*File
	for _, g := range f.Imports {
		if s := g.Service; s != nil && s.Substitution != nil && s.Substitution.Type == t {
			out = append(out, g)
		}
		for _, h := range g.Substitutes(t) {
			if !slices.Contains(out, h) {
				out = append(out, h)
			}
		}
	}
	return out
}

// ServiceTemplate is the part of a file that describes resources.
type ServiceTemplate struct {
	Pos
	Description   string
	Metadata      map[string]string
	Inputs        []*Property
	Nodes         []*NodeTemplate
	Relationships []*RelationshipTemplate
	Groups        []*Group
	Outputs       []*Output
	Policies      []*Policy
	Substitution  *Substitution // nil where it fills no node
	empty         bool          // it has no nodes, and says so
	byName        map[string]*NodeTemplate
}

// NodeTemplate describes one resource, or several alike where Count is set.
type NodeTemplate struct {
	Pos
	Name, Type, Description string
	TypePos                 Pos
	Def                     *NodeType // nil where the type is unknown
	Metadata                map[string]string
	Directives              []Key
	Copy                    *Key
	Count                   *Expr
	Filter                  *Expr // node_filter
	Properties              []*Assignment
	Attributes              []*Assignment
	Capabilities            []*CapabilityAssignment
	Requirements            []*Requirement
	Interfaces              []*Interface
	Artifacts               []*Artifact
	lost                    bool // some of it could not be read: what is missing may be in it
	// For is the requirement that a node was made for, where a requirement
	// selects its target by itself.
	For string
}

// Has reports whether the node has a directive.
func (n *NodeTemplate) Has(directive string) bool {
	return slices.ContainsFunc(n.Directives, func(k Key) bool { return k.Name == directive })
}

// Artifact finds an artifact by name; nil where there is none.
func (n *NodeTemplate) Artifact(name string) *Artifact {
	list := n.Artifacts
	if n.Def != nil {
		list = append(slices.Clip(list), n.Def.Artifacts...)
	}
	for _, a := range list {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// Assignment gives a property its value.
type Assignment struct {
	Pos
	Name  string
	Value *Expr
}

// CapabilityAssignment gives the properties of a capability their values.
type CapabilityAssignment struct {
	Pos
	Name                   string
	Properties, Attributes []*Assignment
}

// Requirement connects a node to another one. Index is nil where the target
// has no count, or all of them are meant. Without a target, or with a type as
// one, the node is found by its type and by Filter.
type Requirement struct {
	Pos
	Name         string
	Target       string
	TargetPos    Pos
	Index        *Expr
	Capability   *Key
	Relationship *RelationshipTemplate // nil, or one without a name where it is written here
	Named        *Key                  // names a relationship template, or a type
	Filter       *Expr
	Count        *Expr
	Optional     *Expr
}

// RelationshipTemplate gives a relationship its properties.
type RelationshipTemplate struct {
	Pos
	Name, Type, Description string
	TypePos                 Pos
	Copy                    *Key
	Properties, Attributes  []*Assignment
	Interfaces              []*Interface
}

// Group holds nodes together.
type Group struct {
	Pos
	Name, Type, Description string
	TypePos                 Pos
	Members                 []Key
	Properties, Attributes  []*Assignment
}

// Output is a result of the stack.
type Output struct {
	Pos
	Name, Description string
	Type              *Type // nil where the template does not say
	Validation        *Expr
	Value             *Expr
	Metadata          map[string]string
}

// Policy applies a policy type to nodes.
type Policy struct {
	Pos
	Name, Type string
	TypePos    Pos
	Def        *EntityType // nil where the type is unknown
	Targets    []Key
	Properties []*Assignment
}

// Substitution says that a service template fills nodes of a type.
type Substitution struct {
	Pos
	TypeName string
	Type     *NodeType // nil where it is unknown
	Filter   *Expr
	// Properties maps a property of the node to an input, Attributes one to an
	// output, Capabilities and Requirements one to a node of the template and
	// its capability or requirement.
	Properties, Attributes     []Mapping
	Capabilities, Requirements []Mapping
}

// Mapping is one line of a substitution: Name on the outside is To on the
// inside, or Part of To.
type Mapping struct {
	Pos
	Name  string
	ToPos Pos
	To    string
	Part  Key // empty where only a name stands
}

// Input finds an input by name; nil where there is none.
func (s *ServiceTemplate) Input(name string) *Property { return find(s.Inputs, name) }

// Node finds a node template by name; nil where there is none.
func (s *ServiceTemplate) Node(name string) *NodeTemplate { return s.byName[name] }

// Group finds a group by name; nil where there is none.
func (s *ServiceTemplate) Group(name string) *Group {
	for _, g := range s.Groups {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// Relationship finds a relationship template by name; nil where there is none.
func (s *ServiceTemplate) Relationship(name string) *RelationshipTemplate {
	for _, t := range s.Relationships {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// nodeNames lists the names of the node templates.
func (s *ServiceTemplate) nodeNames() []string {
	names := make([]string, 0, len(s.Nodes))
	for _, n := range s.Nodes {
		if n.For == "" {
			names = append(names, n.Name)
		}
	}
	return names
}
