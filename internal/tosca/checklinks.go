package tosca

import (
	"fmt"
	"slices"
)

func (c *checker) requirements(n *NodeTemplate, t *NodeType) {
	count := map[string]int{}
	known := namesOfAll(t.Requirements)
	for _, q := range n.Requirements {
		count[q.Name]++
		at := place{n, t, nil}
		c.expr(q.Index, at)
		c.expr(q.Count, at)
		c.expr(q.Optional, at)
		d := t.Requirement(q.Name)
		if d == nil {
			count[nearest(q.Name, known)]++ // a typo is not a missing requirement too
			fix := suggest(q.Name, known)
			if t.Property(q.Name) != nil {
				fix = "it is a property: write it under properties"
			}
			c.findings.Errorf(q.Pos, "unknown-requirement", fix, "%s has no requirement '%s'", t.Name, q.Name)
			continue
		}
		c.target(q, d, t)
		c.link(q, d, n)
		if d.High >= 0 && count[q.Name] == d.High+1 {
			c.findings.Errorf(q.Pos, "too-many-requirements", "", "%s takes at most %d of '%s'", t.Name, d.High, q.Name)
		}
	}
	if n.lost {
		return
	}
	if s := c.template.Substitution; s != nil { // what is filled brings some along
		for _, m := range s.Requirements {
			if m.To == n.Name {
				count[m.Part.Name]++
			}
		}
	}
	for _, d := range t.Requirements {
		if count[d.Name] < d.Low {
			c.findings.Errorf(n.Pos, "missing-requirement",
				fmt.Sprintf("add - %s: with the name of a %s", d.Name, d.wanted()),
				"%s: the requirement '%s' of %s is missing", n.Name, d.Name, t.Name)
		}
	}
}

// wanted is what a requirement wants, in words.
func (d *RequirementDef) wanted() string {
	switch {
	case d.Node != "":
		return d.Node
	case d.Capability != "":
		return "node with the capability " + d.Capability
	}
	return "node"
}

// target looks whether the node that a requirement names is there and suits.
func (c *checker) target(q *Requirement, d *RequirementDef, t *NodeType) {
	target := c.template.Node(q.Target)
	found := d.Target
	switch {
	case target != nil && target.Def == nil:
		return
	case target != nil:
		found = target.Def
		filled := target.Has("substitute") && found.Resource == "" // what fills it is looked at when it is resolved
		if d.Target != nil && !filled && !found.IsA(d.Target) {
			c.findings.Errorf(q.TargetPos, "wrong-target", "", "'%s' wants %s; %s is %s", q.Name, article(d.Node),
				q.Target, article(target.Type))
			return
		}
		if q.Filter != nil {
			c.expr(q.Filter, place{typ: found})
		}
	case q.Target != "" && c.lib.Nodes[q.Target] != nil: // any node of the type
		found = c.lib.Nodes[q.Target]
		if d.Target != nil && !found.IsA(d.Target) {
			c.findings.Errorf(q.TargetPos, "wrong-target", "", "'%s' wants %s, not %s", q.Name, article(d.Node),
				article(q.Target))
			return
		}
		c.expr(q.Filter, place{typ: found})
	case q.Target != "":
		c.findings.Errorf(q.TargetPos, "unknown-node", suggest(q.Target, c.template.nodeNames()),
			"there is no node '%s'", q.Target)
		return
	default:
		c.expr(q.Filter, place{typ: found})
	}
	if found == nil {
		return
	}
	if q.Capability != nil && found.Capability(q.Capability.Name) == nil &&
		!slices.ContainsFunc(found.Capabilities, func(k *CapabilityDef) bool {
			return k.Type != nil && k.Type.IsA(c.lib.Capabilities[q.Capability.Name])
		}) {
		known := namesOfAll(found.Capabilities)
		c.findings.Errorf(q.Capability.Pos, "unknown-capability", suggest(q.Capability.Name, known),
			"%s has no capability '%s'", found.Name, q.Capability.Name)
	}
	capability := d.TargetCapability
	i := slices.IndexFunc(found.Capabilities, func(k *CapabilityDef) bool {
		if capability == nil {
			return d.Capability == "" || k.Name == d.Capability
		}
		return k.Type != nil && k.Type.IsA(capability)
	})
	switch {
	case i < 0:
		c.findings.Errorf(q.TargetPos, "wrong-target", "", "'%s' wants a node with the capability %s; %s has none",
			q.Name, d.Capability, found.Name)
	case len(found.Capabilities[i].Sources) > 0 &&
		!slices.ContainsFunc(found.Capabilities[i].Sources, func(k Key) bool { return t.IsA(c.lib.Nodes[k.Name]) }):
		c.findings.Errorf(q.TargetPos, "wrong-target", "", "the capability '%s' of %s is not for %s",
			found.Capabilities[i].Name, found.Name, article(t.Name))
	}
}

// link looks at the relationship of a requirement.
func (c *checker) link(q *Requirement, d *RequirementDef, n *NodeTemplate) {
	switch {
	case q.Named != nil:
		t := c.template.Relationship(q.Named.Name)
		if t == nil && c.lib.Relationships[q.Named.Name] == nil {
			known := namesOfAll(c.template.Relationships)
			c.findings.Errorf(q.Named.Pos, "unknown-relationship",
				suggest(q.Named.Name, append(known, typeNames(c.lib.Relationships)...)),
				"there is no relationship template or type '%s'", q.Named.Name)
			return
		}
		typ := c.lib.Relationships[q.Named.Name]
		if t != nil {
			typ = c.lib.Relationships[t.Type]
		} else {
			c.assigned(nil, typ.Properties, q.Pos, q.Name, typ.Name, place{}, nil)
		}
		c.linkType(q.Named.Pos, typ, d)
	case q.Relationship != nil:
		c.relationship(q.Relationship, d)
	case d.Type != nil:
		c.assigned(nil, d.Type.Properties, q.Pos, n.Name+", "+q.Name, d.Type.Name, place{}, nil)
	}
}

func (c *checker) linkType(p Pos, typ *EntityType, d *RequirementDef) {
	if typ != nil && d != nil && d.Type != nil && !typ.IsA(d.Type) {
		c.findings.Errorf(p, "wrong-relationship", "use "+d.Type.Name+", or a type that derives from it",
			"'%s' wants the relationship %s, not %s", d.Name, d.Type.Name, typ.Name)
	}
}

// relationship looks at a relationship template, or at what a requirement says
// of its relationship; then d is its definition.
func (c *checker) relationship(t *RelationshipTemplate, d *RequirementDef) {
	typ := c.lib.Relationships[t.Type]
	if t.Type == "" && d != nil {
		typ = d.Type
	}
	if typ == nil {
		if t.Type != "" {
			c.findings.Errorf(t.TypePos, "unknown-type", suggest(t.Type, typeNames(c.lib.Relationships)),
				"there is no relationship type '%s'", t.Type)
		}
		return
	}
	c.linkType(t.TypePos, typ, d)
	at := place{rel: typ}
	c.assigned(t.Properties, typ.Properties, t.Pos, "the relationship", typ.Name, at, nil)
	c.assigned(t.Attributes, typ.Attributes, t.Pos, "the relationship", typ.Name, at, nil)
	for _, i := range t.Interfaces {
		if !slices.ContainsFunc(typ.Interfaces, func(d *Interface) bool { return d.Name == i.Name }) {
			c.findings.Errorf(i.Pos, "unknown-interface", "", "%s has no interface '%s'", typ.Name, i.Name)
			continue
		}
		c.findings.Warnf(i.Pos, "not-carried-out", "",
			"the operations of '%s' are checked and kept, and not carried out yet", i.Name)
	}
}
