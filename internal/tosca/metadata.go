package tosca

import "slices"

// Metadata that mean something, by their names.
const (
	// FilledBy says in an input where its value comes from where nobody gives one:
	// account, region, stack, user or commit.
	FilledBy = "filled_by"
	// Message is shown beside the rule of a validation that fails.
	Message = "message"
	// Formerly says in a node under which name its resource is recorded.
	Formerly = "formerly"
	// KeyedBy says in a node with a count by which of its properties its instances are
	// told apart, and named.
	KeyedBy = "keyed_by"
)

// Fillers are what filled_by can be.
var Fillers = []string{"account", "commit", "region", "stack", "user"}

// metadata looks at the metadata of the template that mean something.
func (c *checker) inputMetadata(in *Property) {
	by := in.Metadata[FilledBy]
	if by == "" {
		return
	}
	switch {
	case !slices.Contains(Fillers, by):
		c.findings.Errorf(in.Pos, "unknown-filler", suggest(by, Fillers), "the input '%s' cannot be filled by '%s'",
			in.Name, by)
	case in.Fixed != nil:
		c.findings.Warnf(in.Pos, "no-effect", "remove one of the two", "the value of the input '%s' is fixed, so that "+
			"filled_by does nothing", in.Name)
	case in.Type.HoldsSecret():
		c.findings.Errorf(in.Pos, "unknown-filler", "", "the input '%s' is a secret, which nothing fills", in.Name)
	}
}

func (c *checker) nodeMetadata(n *NodeTemplate) {
	if by := n.Metadata[KeyedBy]; by != "" {
		switch {
		case n.Count == nil:
			c.findings.Warnf(n.Pos, "no-effect", "add a count, or remove it",
				"%s has no count, so that keyed_by does nothing", n.Name)
		case n.Def != nil && n.Def.Property(by) == nil:
			c.findings.Errorf(n.Pos, "unknown-property", suggest(by, names(n.Def.Properties)),
				"keyed_by: %s has no property '%s'", n.Type, by)
		}
	}
	if was := n.Metadata[Formerly]; was != "" && c.template.Node(was) != nil {
		c.findings.Warnf(n.Pos, "no-effect", "remove formerly, or that node",
			"%s was formerly %s, but there is a node of that name still, whose resource it is", n.Name, was)
	}
}

// unusedInputs tells of the inputs that nothing uses. Where something is wrong, or was
// not read, what uses them may be lost.
func (c *checker) unusedInputs(s *ServiceTemplate) {
	if len(s.Nodes) == 0 || s.Substitution != nil || c.findings.HasErrors() ||
		slices.ContainsFunc(s.Nodes, func(n *NodeTemplate) bool { return n.lost || n.Def == nil }) {
		return
	}
	used := map[string]bool{}
	see := func(x *Expr) {
		x.Walk(func(x *Expr) {
			if x.Kind == CallExpr && x.Name == "get_input" && len(x.Args) > 0 {
				used[x.Args[0].Text()] = true
			}
		})
	}
	given := func(list []*Assignment) {
		for _, a := range list {
			see(a.Value)
		}
	}
	faces := func(list []*Interface) {
		for _, i := range list {
			given(i.Given)
			for _, o := range i.Operations {
				given(o.Given)
			}
		}
	}
	relation := func(t *RelationshipTemplate) {
		if t != nil {
			given(t.Properties)
			given(t.Attributes)
			faces(t.Interfaces)
		}
	}
	for _, n := range s.Nodes {
		see(n.Count)
		see(n.Filter)
		given(n.Properties)
		given(n.Attributes)
		for _, p := range n.Capabilities {
			given(p.Properties)
			given(p.Attributes)
		}
		for _, q := range n.Requirements {
			see(q.Filter)
			see(q.Count)
			see(q.Optional)
			see(q.Index)
			relation(q.Relationship)
		}
		faces(n.Interfaces)
		for _, a := range n.Artifacts {
			given(a.Properties)
		}
	}
	for _, t := range s.Relationships {
		relation(t)
	}
	for _, g := range s.Groups {
		given(g.Properties)
		given(g.Attributes)
	}
	for _, p := range s.Policies {
		given(p.Properties)
	}
	for _, o := range s.Outputs {
		see(o.Value)
		see(o.Validation)
	}
	for _, in := range s.Inputs {
		if !used[in.Name] && in.Type != nil {
			c.findings.Hintf(in.Pos, "unused-input", "use it as { $get_input: "+in.Name+" }, or remove it",
				"nothing uses the input '%s'", in.Name)
		}
	}
}
