package tosca

// place is where an expression stands: what SELF means there.
type place struct {
	node *NodeTemplate
	typ  *NodeType   // of node, or of what a filter looks at
	rel  *EntityType // inside a relationship
}

// expr checks the references inside an expression that stands at a place.
func (c *checker) expr(x *Expr, at place) {
	x.Walk(func(x *Expr) {
		if x.Kind != CallExpr {
			return
		}
		switch x.Name {
		case "get_input":
			name, ok := x.Args[0].Value.(String)
			if ok && c.template != nil && c.template.Input(string(name)) == nil {
				c.findings.Errorf(x.Args[0].Pos, "unknown-input", suggest(string(name), names(c.template.Inputs)),
					"there is no input '%s'", string(name))
			}
		case "get_property", "get_attribute":
			c.path(x, at)
		case "get_artifact":
			c.artifactOf(x, at)
		case "matches":
			if s, ok := x.Args[1].Value.(String); ok && x.Args[1].Kind == LiteralExpr {
				if _, err := compile(string(s)); err != nil {
					c.findings.Errorf(x.Args[1].Pos, "bad-pattern", "",
						"the regular expression %q cannot be read: %v", shortened(string(s)), err)
				}
			}
		}
	})
}

// first finds the node that a path begins at, and its type; ok is false where
// it cannot be known, or was reported.
func (c *checker) first(x *Expr, at place) (n *NodeTemplate, t *NodeType, ok bool) {
	first := x.Args[0]
	if first.Kind == ListExpr && len(first.Args) > 0 {
		first = first.Args[0]
	}
	name, isText := first.Value.(String)
	if !isText {
		return nil, nil, false
	}
	if name == "SELF" {
		if at.typ == nil && at.node == nil && at.rel == nil {
			c.findings.Errorf(first.Pos, "self-outside-node", "name the node",
				"SELF stands only inside a node template")
			return nil, nil, false
		}
		return at.node, at.typ, true
	}
	if c.template == nil {
		return nil, nil, false
	}
	n = c.template.Node(string(name))
	if n == nil {
		c.findings.Errorf(first.Pos, "unknown-node", suggest(string(name), append(c.template.nodeNames(), "SELF")),
			"there is no node '%s'", string(name))
		return nil, nil, false
	}
	return n, n.Def, true
}

func (c *checker) artifactOf(x *Expr, at place) {
	n, _, ok := c.first(x, at)
	if !ok || n == nil {
		return
	}
	if name, isText := x.Args[1].Value.(String); isText && n.Artifact(string(name)) == nil {
		known := namesOfAll(n.Artifacts)
		c.findings.Errorf(x.Args[1].Pos, "unknown-artifact", suggest(string(name), known), "%s has no artifact '%s'",
			n.Name, string(name))
	}
}

// path checks the path of get_property or get_attribute.
func (c *checker) path(x *Expr, at place) {
	node, t, ok := c.first(x, at)
	if !ok {
		return
	}
	rel := at.rel
	if t != nil {
		rel = nil
	}
	for i := 1; i < len(x.Args); i++ {
		word, isText := x.Args[i].Value.(String)
		if !isText {
			if x.Args[i].Kind == LiteralExpr {
				c.findings.Errorf(x.Args[i].Pos, "wrong-type", "",
					"expected the name of a property or attribute, found %s", KindName(x.Args[i].Value))
			}
			return
		}
		next := func() (string, bool) { // the name after a word
			if i++; i >= len(x.Args) {
				c.findings.Errorf(x.Args[i-1].Pos, "wrong-arguments", "name it", "the path ends after %s", word)
				return "", false
			}
			a := x.Args[i]
			if a.Kind == ListExpr && len(a.Args) > 0 {
				a = a.Args[0]
			}
			s, isText := a.Value.(String)
			return string(s), isText
		}
		switch word {
		case "CAPABILITY":
			name, known := next()
			if !known || t == nil {
				return
			}
			d := t.Capability(name)
			if d == nil {
				list := namesOfAll(t.Capabilities)
				c.findings.Errorf(x.Args[i].Pos, "unknown-capability", suggest(name, list),
					"%s has no capability '%s'", t.Name, name)
				return
			}
			if i++; i < len(x.Args) {
				c.last(x, i, "the capability "+name, d.Properties, d.Attributes)
			} else {
				c.tooShort(x)
			}
			return
		case "RELATIONSHIP":
			name, known := next()
			if !known || t == nil {
				return
			}
			d := t.Requirement(name)
			if d == nil {
				list := namesOfAll(t.Requirements)
				c.findings.Errorf(x.Args[i].Pos, "unknown-requirement", suggest(name, list),
					"%s has no requirement '%s'", t.Name, name)
				return
			}
			if i+1 < len(x.Args) {
				switch v := x.Args[i+1].Value.(type) {
				case Int:
					i++
				case String:
					if v == "ALL" {
						i++
					}
				}
			}
			rel, t = d.Type, d.Target
			if node != nil {
				for _, q := range node.Requirements {
					if target := c.template.Node(q.Target); q.Name == name && target != nil {
						t, node = target.Def, target
						break
					}
				}
			}
			if i+1 < len(x.Args) && x.Args[i+1].Value == Value(String("TARGET")) {
				i++
				continue
			}
			if i+1 < len(x.Args) && rel != nil {
				c.last(x, i+1, "the relationship "+rel.Name, rel.Properties, rel.Attributes)
			} else if i+1 >= len(x.Args) {
				c.tooShort(x)
			}
			return
		case "TARGET", "SOURCE":
			if rel == nil {
				c.findings.Errorf(x.Args[i].Pos, "wrong-path", "go along RELATIONSHIP first", "a node has no %s", word)
			}
			return // what is at the other end is known when it is resolved
		}
		if t != nil {
			c.last(x, i, t.Name, t.Properties, t.Attributes)
		} else if rel != nil {
			c.last(x, i, "the relationship "+rel.Name, rel.Properties, rel.Attributes)
		}
		return
	}
	c.tooShort(x)
}

func (c *checker) tooShort(x *Expr) {
	c.findings.Errorf(x.Pos, "wrong-arguments", "write it as "+functions[x.Name].usage,
		"the path of $%s does not come to a property", x.Name)
}

// last checks the name of a property or attribute in a path.
func (c *checker) last(x *Expr, i int, of string, properties, attributes []*Property) {
	what, ok := x.Args[i].Value.(String)
	if !ok {
		return
	}
	isProperty, isAttribute := find(properties, string(what)) != nil, find(attributes, string(what)) != nil
	if x.Name == "get_property" && !isProperty {
		fix := suggest(string(what), append(names(properties), pathWords...))
		if isAttribute {
			fix = "it is an attribute: use $get_attribute"
		}
		c.findings.Errorf(x.Args[i].Pos, "unknown-property", fix, "%s has no property '%s'", of, string(what))
	}
	if x.Name == "get_attribute" && !isAttribute && !isProperty {
		c.findings.Errorf(x.Args[i].Pos, "unknown-attribute",
			suggest(string(what), append(names(attributes), pathWords...)), "%s has no attribute '%s'", of,
			string(what))
	}
}
