package tosca

import "slices"

// Metadata that mean something, by their names.
const (
	// FilledBy says in an input where its value comes from where nobody gives one:
	// account, region, stack, user or commit.
	FilledBy = "filled_by"
	// Message is shown beside the rule of a validation that fails.
	Message = "message"
	// Command, of an output, is a command that is ready to be run with it: $value stands for
	// its value, as a word of a shell.
	Command = "command"
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
	if was := n.Metadata[Formerly]; was != "" && c.template.Node(was) != nil &&
		c.template.Substitution == nil { // there the name may be one beside the node that it fills
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
	s.Walk(func(x *Expr) {
		if x.Kind == CallExpr && x.Name == "get_input" && len(x.Args) > 0 {
			used[x.Args[0].Text()] = true
		}
	})
	for _, in := range s.Inputs {
		if !used[in.Name] && in.Type != nil {
			c.findings.Hintf(in.Pos, "unused-input", "use it as { $get_input: "+in.Name+" }, or remove it",
				"nothing uses the input '%s'", in.Name)
		}
	}
}
