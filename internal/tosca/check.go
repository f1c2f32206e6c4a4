package tosca

import (
	"fmt"
	"strings"
)

// Check looks at the names and references of a template: types, properties,
// requirements, inputs and functions. It needs no inputs; values are looked at
// when the template is resolved.
func Check(f *File) Findings {
	c := &checker{file: f, lib: f.Library}
	if f.Service != nil {
		c.service(f.Service)
	}
	c.findings.Sort()
	return c.findings
}

type checker struct {
	file     *File
	lib      *Library
	template *ServiceTemplate
	findings Findings
}

func (c *checker) service(s *ServiceTemplate) {
	c.template = s
	for _, in := range s.Inputs {
		c.input(in)
	}
	for _, n := range s.Nodes {
		c.node(n)
	}
	for _, o := range s.Outputs {
		c.expr(o.Value, nil)
	}
	for _, p := range s.Policies {
		c.policy(p)
	}
	if len(s.Nodes) == 0 {
		c.findings.Warnf(s.Pos, "no-nodes", "add node_templates", "the service template has no nodes: nothing would be built")
	}
}

func (c *checker) input(in *Property) {
	if in.Default != nil && in.Type != nil {
		constant := true
		in.Default.Walk(func(x *Expr) { constant = constant && x.Kind != CallExpr })
		if !constant {
			c.findings.Errorf(in.Default.Pos, "not-constant", "", "the default of the input '%s' must be a plain value", in.Name)
			return
		}
		env := &Env{Index: -1, Findings: &c.findings}
		v := env.EvalAs(in.Default, in.Type, "default of the input "+in.Name)
		Validate(in.Validation, v, in.Type, in.Default.Pos, "default of the input "+in.Name, &c.findings)
	}
}

func (c *checker) node(n *NodeTemplate) {
	if strings.ContainsAny(n.Name, "#/ \t") {
		c.findings.Errorf(n.Pos, "bad-name", "use letters, digits, _ and -", "'%s' cannot be the name of a node", n.Name)
	}
	c.expr(n.Count, nil)
	t := c.lib.Nodes[n.Type]
	if t == nil {
		if n.Type != "" {
			mend := suggest(n.Type, typeNames(c.lib.Nodes))
			if len(c.lib.Nodes) == 0 {
				mend = "import the profile: imports: [ { profile: brickrow.cloud:1 } ]"
			}
			c.findings.Errorf(n.TypePos, "unknown-type", mend, "there is no node type '%s'", n.Type)
		}
		for _, a := range n.Properties {
			c.expr(a.Value, n)
		}
		return
	}
	given := map[string]bool{}
	for _, a := range n.Properties {
		given[a.Name] = true
		if t.Property(a.Name) == nil {
			given[nearest(a.Name, names(t.Properties))] = true // a typo is not a missing property too
			mend := suggest(a.Name, names(t.Properties))
			if t.Requirement(a.Name) != nil {
				mend = fmt.Sprintf("it is a requirement: write it under requirements as - %s: …", a.Name)
			}
			c.findings.Errorf(a.Pos, "unknown-property", mend, "%s has no property '%s'", t.Name, a.Name)
		}
		c.expr(a.Value, n)
	}
	for _, p := range t.Properties {
		if p.Required && p.Default == nil && p.Fixed == nil && !given[p.Name] {
			c.findings.Errorf(n.Pos, "missing-property", "add "+p.Name+": "+exampleOf(p), "%s: the property '%s' of %s is missing", n.Name, p.Name, t.Name)
		}
	}
	c.requirements(n, t)
}

// exampleOf is a value to put in for a property that is missing.
func exampleOf(p *Property) string {
	if e := p.Metadata["example"]; e != "" {
		return e
	}
	return p.Type.Label()
}

func (c *checker) requirements(n *NodeTemplate, t *NodeType) {
	count := map[string]int{}
	known := make([]string, len(t.Requirements))
	for i, d := range t.Requirements {
		known[i] = d.Name
	}
	for _, q := range n.Requirements {
		count[q.Name]++
		c.expr(q.Index, n)
		d := t.Requirement(q.Name)
		if d == nil {
			c.findings.Errorf(q.Pos, "unknown-requirement", suggest(q.Name, known), "%s has no requirement '%s'", t.Name, q.Name)
			continue
		}
		target := c.template.Node(q.Target)
		switch {
		case target == nil:
			c.findings.Errorf(q.TargetPos, "unknown-node", suggest(q.Target, c.template.nodeNames()), "there is no node '%s'", q.Target)
		case c.lib.Nodes[target.Type] != nil && !c.lib.IsA(target.Type, d.Node):
			c.findings.Errorf(q.TargetPos, "wrong-target", "", "'%s' wants a %s; %s is a %s", q.Name, d.Node, q.Target, target.Type)
		}
		if d.High >= 0 && count[q.Name] == d.High+1 {
			c.findings.Errorf(q.Pos, "too-many-requirements", "", "%s takes at most %d of '%s'", t.Name, d.High, q.Name)
		}
	}
	for _, d := range t.Requirements {
		if count[d.Name] < d.Low {
			c.findings.Errorf(n.Pos, "missing-requirement", fmt.Sprintf("add - %s: with the name of a %s", d.Name, d.Node), "%s: the requirement '%s' of %s is missing", n.Name, d.Name, t.Name)
		}
	}
}

func (c *checker) policy(p *Policy) {
	if p.Type == "" {
		c.findings.Errorf(p.Pos, "missing-type", "add type: Keep, or another policy type", "the policy '%s' has no type", p.Name)
	} else if c.lib.Pols[p.Type] == nil {
		c.findings.Errorf(p.Pos, "unknown-type", suggest(p.Type, typeNames(c.lib.Pols)), "there is no policy type '%s'", p.Type)
	} else if p.Type != "Keep" && p.Type != "Guard" {
		c.findings.Errorf(p.Pos, "not-supported-yet", "", "the policy type %s is not supported yet", p.Type)
	}
	for _, t := range p.Targets {
		if c.template.Node(t.Name) == nil {
			c.findings.Errorf(t.Pos, "unknown-node", suggest(t.Name, c.template.nodeNames()), "there is no node '%s'", t.Name)
		}
	}
	for _, a := range p.Properties {
		c.findings.Errorf(a.Pos, "unknown-property", "", "the policy type %s has no property '%s'", p.Type, a.Name)
	}
}

// expr checks the references inside an expression; n is the node it stands
// in, nil outside one.
func (c *checker) expr(x *Expr, n *NodeTemplate) {
	x.Walk(func(x *Expr) {
		if x.Kind != CallExpr {
			return
		}
		switch x.Name {
		case "get_input":
			name, ok := x.Args[0].Value.(String)
			if ok && c.template.Input(string(name)) == nil {
				c.findings.Errorf(x.Args[0].Pos, "unknown-input", suggest(string(name), names(c.template.Inputs)), "there is no input '%s'", string(name))
			}
		case "get_property", "get_attribute":
			c.path(x, n)
		}
	})
}

// path checks the path of get_property or get_attribute.
func (c *checker) path(x *Expr, self *NodeTemplate) {
	first := x.Args[0]
	if first.Kind == ListExpr && len(first.Args) > 0 {
		first = first.Args[0]
	}
	name, ok := first.Value.(String)
	if !ok {
		return
	}
	node := c.template.Node(string(name))
	if name == "SELF" {
		if node = self; node == nil {
			c.findings.Errorf(first.Pos, "self-outside-node", "name the node", "SELF stands only inside a node template")
			return
		}
	}
	if node == nil {
		c.findings.Errorf(first.Pos, "unknown-node", suggest(string(name), c.template.nodeNames()), "there is no node '%s'", string(name))
		return
	}
	t := c.lib.Nodes[node.Type]
	what, ok := x.Args[1].Value.(String)
	if t == nil || !ok {
		return
	}
	switch what {
	case "CAPABILITY", "RELATIONSHIP", "TARGET", "SOURCE":
		c.findings.Errorf(x.Args[1].Pos, "not-supported-yet", "name the node itself", "going along %s in a path is not supported yet", string(what))
		return
	}
	isProperty, isAttribute := t.Property(string(what)) != nil, t.Attribute(string(what)) != nil
	if x.Name == "get_property" && !isProperty {
		mend := suggest(string(what), names(t.Properties))
		if isAttribute {
			mend = "it is an attribute: use $get_attribute"
		}
		c.findings.Errorf(x.Args[1].Pos, "unknown-property", mend, "%s has no property '%s'", t.Name, string(what))
	}
	if x.Name == "get_attribute" && !isAttribute && !isProperty {
		c.findings.Errorf(x.Args[1].Pos, "unknown-attribute", suggest(string(what), names(t.Attributes)), "%s has no attribute '%s'", t.Name, string(what))
	}
}
