package tosca

// Walk calls f for every expression of a service template: those of its nodes,
// relationships, groups, policies and outputs, and everything inside them.
func (s *ServiceTemplate) Walk(f func(*Expr)) {
	for _, n := range s.Nodes {
		n.Walk(f)
	}
	for _, t := range s.Relationships {
		t.walk(f)
	}
	for _, g := range s.Groups {
		walkAll(g.Properties, f)
		walkAll(g.Attributes, f)
	}
	for _, p := range s.Policies {
		walkAll(p.Properties, f)
	}
	for _, o := range s.Outputs {
		o.Value.Walk(f)
		o.Validation.Walk(f)
	}
}

// Walk calls f for every expression of a node, and everything inside it.
func (n *NodeTemplate) Walk(f func(*Expr)) {
	n.Count.Walk(f)
	n.Filter.Walk(f)
	walkAll(n.Properties, f)
	walkAll(n.Attributes, f)
	for _, c := range n.Capabilities {
		walkAll(c.Properties, f)
		walkAll(c.Attributes, f)
	}
	for _, q := range n.Requirements {
		q.Filter.Walk(f)
		q.Count.Walk(f)
		q.Optional.Walk(f)
		q.Index.Walk(f)
		q.Relationship.walk(f)
	}
	walkFaces(n.Interfaces, f)
	for _, a := range n.Artifacts {
		walkAll(a.Properties, f)
	}
}

func (t *RelationshipTemplate) walk(f func(*Expr)) {
	if t != nil {
		walkAll(t.Properties, f)
		walkAll(t.Attributes, f)
		walkFaces(t.Interfaces, f)
	}
}

func walkFaces(list []*Interface, f func(*Expr)) {
	for _, i := range list {
		walkAll(i.Given, f)
		for _, o := range i.Operations {
			walkAll(o.Given, f)
		}
	}
}

func walkAll(list []*Assignment, f func(*Expr)) {
	for _, a := range list {
		a.Value.Walk(f)
	}
}
