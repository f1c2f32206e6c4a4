package stack

import (
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// relation is one relationship between two resources.
type relation struct {
	requirement string
	source      *Resource
	target      *Resource
	index       int // among those of the same requirement
	capability  string
	typ         *tosca.EntityType // nil where nothing is said of it
	properties  []*Property
}

// look finds the existing resource that a node selects.
func (r *resolver) look(res *Resource) {
	n := res.template
	if r.options.Existing == nil || n.Filter == nil || n.Def.Resource == "" {
		return
	}
	all := r.options.Existing(n.Def.Resource)
	var fits []Found
	for _, f := range all {
		candidate := &Resource{Name: res.Name, Type: res.Type, Own: res.Own, Index: -1, Found: &f, selected: true}
		if r.holds(context{scope: res.scope, self: candidate}, n.Filter) {
			fits = append(fits, f)
		}
	}
	if by := n.Def.Metadata["newest"]; by != "" && len(fits) > 1 {
		newest := slices.MaxFunc(fits, func(a, b Found) int {
			order, _ := tosca.Compare(a.Properties[by], b.Properties[by])
			return order
		})
		fits = []Found{newest}
	}
	switch len(fits) {
	case 1:
		res.Found = &fits[0]
	case 0:
		fix := fmt.Sprintf("there is no %s in the target", n.Type)
		if len(all) > 0 {
			fix = fmt.Sprintf("there are %d: %s", len(all), nameFound(all))
		}
		r.findings.Errorf(n.Pos, "nothing-selected", fix, "%s: no %s in the target satisfies the node_filter",
			res.Name, n.Type)
	default:
		r.findings.Errorf(n.Pos, "ambiguous-selection", "say more in the node_filter",
			"%s: the node_filter suits %d of %s: %s", res.Name, len(fits), n.Type, nameFound(fits))
	}
}

func nameFound(list []Found) string {
	var names []string
	for _, f := range list {
		names = append(names, f.ID)
		if len(names) == 5 && len(list) > 5 {
			return strings.Join(names, ", ") + ", …"
		}
	}
	return strings.Join(names, ", ")
}

// link finds the targets of a resource's requirements.
func (r *resolver) link(res *Resource) {
	if res.selected {
		return
	}
	for _, d := range res.Own.Requirements {
		l := Link{Requirement: d.Name}
		if outer := res.mappedRequirement(d.Name); outer != nil {
			l.Pos, l.Targets, l.relations = outer.Pos, outer.Targets, outer.relations
		}
		for _, q := range res.template.Requirements {
			if q.Name != d.Name {
				continue
			}
			if l.Pos.Line == 0 {
				l.Pos = q.TargetPos
			}
			for _, t := range r.targets(res, q, d) {
				rel := r.relate(res, t, q, d, len(l.relations))
				l.relations = append(l.relations, rel)
				for _, real := range r.concrete(t, q, d) {
					if !slices.Contains(l.Targets, real.Name) {
						l.Targets = append(l.Targets, real.Name)
					}
				}
			}
		}
		switch {
		case len(l.relations) == 0:
		case res.Type != nil && res.Type.Requirement(d.Name) != nil:
			res.Links = append(res.Links, l)
		default:
			res.localLinks = append(res.localLinks, l)
		}
	}
}

// mappedRequirement is the link of the outer node that becomes this one's.
func (res *Resource) mappedRequirement(name string) *Link {
	s := res.scope
	if s.outer == nil {
		return nil
	}
	for _, m := range s.service.Substitution.Requirements {
		if m.To == res.template.Name && m.Part.Name == name {
			return s.outer.link(m.Name)
		}
	}
	return nil
}

// link finds a link of a resource by its requirement; nil where there is none.
func (res *Resource) link(requirement string) *Link {
	for _, list := range [][]Link{res.Links, res.localLinks} {
		for i := range list {
			if list[i].Requirement == requirement {
				return &list[i]
			}
		}
	}
	return nil
}

// targets finds the resources that a requirement means.
func (r *resolver) targets(res *Resource, q *tosca.Requirement, d *tosca.RequirementDef) []*Resource {
	at := context{scope: res.scope, self: res}
	optional := false
	if q.Optional != nil {
		b, _ := r.env(at).Eval(q.Optional).(tosca.Bool)
		optional = bool(b)
	}
	list, known := res.scope.instances[q.Target]
	byType := !known && (q.Target == "" || res.scope.file.Library.Nodes[q.Target] != nil)
	switch {
	case byType && d.Target != nil && q.Target != "" && !res.scope.file.Library.Nodes[q.Target].IsA(d.Target):
		return nil // the check reports it
	case byType:
		list = r.suitable(res, q, d)
	case !known:
		return nil // the check reports it
	case q.Index != nil:
		if t := r.pick(at, r.env(at).Eval(q.Index), q.Target, q.Index.Pos); t != nil {
			return []*Resource{t}
		}
		return nil
	case q.Filter != nil:
		list = slices.DeleteFunc(slices.Clone(list),
			func(t *Resource) bool { return !r.holds(context{scope: res.scope, self: t}, q.Filter) })
	}
	what := q.Target
	if what == "" {
		what = d.Node
	}
	want := -1
	if q.Count != nil {
		n, ok := r.env(at).Eval(q.Count).(tosca.Int)
		if !ok || n < 0 {
			r.findings.Errorf(q.Count.Pos, "wrong-type", "write a number",
				"the count of the requirement '%s' must be an integer", q.Name)
			return nil
		}
		if int(n) > len(list) && !optional {
			r.uncertain(res.scope, q.Target, q.Count.Pos, "no-such-resource", "",
				"%s wants %d of %s, and there are %d", res.Name, n, what, len(list))
		}
		want = int(n)
		return list[:min(want, len(list))]
	}
	switch {
	case len(list) == 0 && d.Low > 0 && !optional:
		fix, why := "give it a count of 1 or more", "whose count is 0"
		if byType || q.Filter != nil {
			fix, why = "look at its node_filter", "and no node suits"
		}
		r.uncertain(res.scope, q.Target, q.TargetPos, "no-such-resource", fix, "%s needs %s, %s", res.Name, what, why)
	case len(list) > 1 && (d.High == 1 || byType):
		fix := fmt.Sprintf("write [ %s, 0 ], or another index", what)
		if byType {
			fix = "name one: " + list[0].Name + " or " + list[1].Name
		}
		r.uncertain(res.scope, q.Target, q.TargetPos, "ambiguous-target", fix,
			"there are %d of %s, and '%s' takes one", len(list), what, q.Name)
		return list[:1]
	}
	return list
}

// suitable finds the resources of the template that a requirement without a
// node could mean.
func (r *resolver) suitable(res *Resource, q *tosca.Requirement, d *tosca.RequirementDef) []*Resource {
	want := d.Target
	if t := res.scope.file.Library.Nodes[q.Target]; t != nil {
		want = t
	}
	var out []*Resource
	for _, n := range res.scope.service.Nodes {
		for _, t := range res.scope.instances[n.Name] {
			if t == res || want != nil && !t.Own.IsA(want) ||
				q.Filter != nil && !r.holds(context{scope: res.scope, self: t}, q.Filter) {
				continue
			}
			if d.Filter != nil && !r.holds(context{scope: res.scope, self: t}, d.Filter) {
				continue
			}
			out = append(out, t)
		}
	}
	return out
}

// relate makes the relationship between two resources, with its properties.
func (r *resolver) relate(res, target *Resource, q *tosca.Requirement, d *tosca.RequirementDef, index int) *relation {
	if len(r.rels) == 0 {
		r.rels = make([]relation, 64)
	}
	rel := &r.rels[0]
	r.rels = r.rels[1:]
	*rel = relation{requirement: d.Name, source: res, target: target, index: index}
	if d.TargetCapability != nil {
		for _, c := range target.Own.Capabilities {
			if c.Type.IsA(d.TargetCapability) {
				rel.capability = c.Name
				break
			}
		}
	}
	if q.Capability != nil && target.Own.Capability(q.Capability.Name) != nil {
		rel.capability = q.Capability.Name
	}
	typ, given := d.Type, q.Relationship
	lib := res.scope.file.Library
	if q.Named != nil {
		if given = res.scope.service.Relationship(q.Named.Name); given == nil {
			typ = lib.Relationships[q.Named.Name]
		}
	}
	var props, attrs []*tosca.Assignment
	if given != nil {
		if t := lib.Relationships[given.Type]; t != nil {
			typ = t
		}
		props, attrs = given.Properties, given.Attributes
	}
	if typ == nil {
		return rel
	}
	rel.typ = typ
	at := context{scope: res.scope, rel: rel}
	for _, group := range []struct {
		defs  []*tosca.Property
		given []*tosca.Assignment
	}{{typ.Properties, props}, {typ.Attributes, attrs}} {
		for _, def := range group.defs {
			if p := r.assign(res, def, group.given, at); p != nil {
				rel.properties = append(rel.properties, p)
			}
		}
	}
	return rel
}

// concrete is the resources that a target comes down to: itself, or the part
// of what fills it that has the capability.
func (r *resolver) concrete(t *Resource, q *tosca.Requirement, d *tosca.RequirementDef) []*Resource {
	if !t.template.Has("substitute") {
		return []*Resource{t}
	}
	if t.filled == nil {
		return nil // reported already
	}
	sub := t.filled.service.Substitution
	for _, m := range sub.Capabilities {
		c := t.Own.Capability(m.Name)
		switch {
		case c == nil, q.Capability != nil && q.Capability.Name != m.Name &&
			(c.Type == nil || c.Type.Name != q.Capability.Name):
			continue
		case d.TargetCapability != nil && !c.Type.IsA(d.TargetCapability):
			continue
		}
		var out []*Resource
		for _, inner := range t.filled.instances[m.To] {
			for _, x := range r.concrete(inner, &tosca.Requirement{}, d) {
				if d.Target != nil && x.Type != nil && d.Target.Base() != nil && !x.Type.IsA(d.Target.Base()) {
					r.findings.Errorf(q.TargetPos, "wrong-target", "", "'%s' wants %s; what fills %s is %s", q.Name,
						d.Node, t.Name, x.Type.Name)
					return nil
				}
				out = append(out, x)
			}
		}
		return out
	}
	r.findings.Errorf(q.TargetPos, "no-capability", "add it to the capabilities of its substitution_mappings",
		"the template that fills %s does not say which of its nodes '%s' can rest on", t.Name, q.Name)
	return nil
}

// uncertain reports what follows from how many resources a node has, unless
// its count could not be computed: it would mislead.
func (r *resolver) uncertain(s *scope, node string, p tosca.Pos, code, fix, format string, args ...any) {
	if !s.unsure[node] {
		r.findings.Errorf(p, code, fix, format, args...)
	}
}

// pick finds one of a node's resources by its index; it reports what is wrong
// and yields nil.
func (r *resolver) pick(c context, index tosca.Value, node string, p tosca.Pos) *Resource {
	list := c.scope.instances[node]
	i, ok := index.(tosca.Int)
	switch {
	case !tosca.IsKnown(index):
		return nil
	case !ok:
		r.findings.Errorf(p, "wrong-type", "", "an index must be an integer, not %s", tosca.KindName(index))
	case i < 0 || int(i) >= len(list):
		r.uncertain(c.scope, node, p, "no-such-resource",
			fmt.Sprintf("there are %d of it, counted from 0", len(list)), "there is no [ %s, %d ]", node, i)
	default:
		return list[i]
	}
	return nil
}

// node answers get_property, get_attribute and get_artifact.
func (r *resolver) node(c context, call *tosca.Expr, path []tosca.Value) tosca.Value {
	bad := tosca.Unknown{Bad: true}
	name, isName := path[0].(tosca.String)
	res := c.self
	switch {
	case isName && name == "SELF":
		if res == nil && c.rel == nil {
			return bad // the check reports it
		}
	case isName:
		list, known := c.scope.instances[string(name)]
		switch {
		case !known:
			return bad
		case len(list) != 1:
			r.uncertain(c.scope, string(name), call.Args[0].Pos, "ambiguous-target",
				fmt.Sprintf("write [ %s, 0 ], or another index", name), "there are %d of %s: say which one",
				len(list), name)
			return bad
		}
		res = list[0]
	default:
		l, ok := path[0].(tosca.List)
		if !ok || len(l) != 2 {
			r.findings.Errorf(call.Args[0].Pos, "wrong-arguments", "write a name, or [ name, index ]",
				"the path must begin with a node")
			return bad
		}
		if _, known := c.scope.instances[tosca.Show(l[0])]; !known {
			return bad
		}
		if res = r.pick(c, l[1], tosca.Show(l[0]), call.Args[0].Pos); res == nil {
			return bad
		}
	}
	if call.Name == "get_artifact" {
		return r.artifact(res, call, path)
	}
	w := walk{resolver: r, at: c, call: call, path: path}
	if res == nil || isName && name == "SELF" && c.rel != nil {
		return w.relation(c.rel, 1)
	}
	return w.resource(res, 1)
}

func (r *resolver) artifact(res *Resource, call *tosca.Expr, path []tosca.Value) tosca.Value {
	if res == nil {
		return tosca.Unknown{Bad: true}
	}
	if a := res.template.Artifact(tosca.Show(path[1])); a != nil {
		return tosca.String(a.File)
	}
	return tosca.Unknown{Bad: true} // the check reports it
}

// walk follows the path of a graph function.
type walk struct {
	*resolver
	at   context
	call *tosca.Expr
	path []tosca.Value
}

// ends is what a path comes to, for those who want to write it down anew.
type ends struct {
	list []end
	all  bool // along ALL: a list of them
}

// end is one thing that a path comes to, and what is left of the path.
type end struct {
	property  *Property
	resource  string // of an attribute
	attribute string
	call      string // the function that asked
	output    *tosca.Output
	scope     *scope // of output
	rest      []tosca.Value
}

func (w walk) reached(e end, i int) {
	if w.ends != nil {
		e.rest, e.call = w.path[i:], w.call.Name
		w.ends.list = append(w.ends.list, e)
	}
}

func (w walk) fail(i int, code, fix, format string, args ...any) tosca.Value {
	p := w.call.Pos
	if i < len(w.call.Args) {
		p = w.call.Args[i].Pos
	}
	w.findings.Errorf(p, code, fix, format, args...)
	return tosca.Unknown{Bad: true}
}

// word is the name at a place of the path.
func (w walk) word(i int) (string, bool) {
	if i >= len(w.path) {
		return "", false // the check reports it
	}
	s, ok := w.path[i].(tosca.String)
	if !ok {
		w.fail(i, "wrong-type", "", "expected the name of a property or attribute, found %s", tosca.KindName(w.path[i]))
	}
	return string(s), ok
}

// resource goes on from a resource.
func (w walk) resource(res *Resource, i int) tosca.Value {
	word, ok := w.word(i)
	if !ok {
		return tosca.Unknown{Bad: true}
	}
	switch word {
	case "CAPABILITY":
		name, ok := w.word(i + 1)
		if !ok {
			return tosca.Unknown{Bad: true}
		}
		d := res.Own.Capability(name)
		if d == nil {
			return tosca.Unknown{Bad: true} // the check reports it
		}
		return w.within(res.capabilities[name], d.Properties, i+2, fmt.Sprintf("capability %s of %s", name, res.Name))
	case "RELATIONSHIP":
		return w.relationships(res, i+1)
	}
	what := fmt.Sprintf("%s of %s", word, res.Name)
	if res.selected {
		return w.found(res, word, i, what)
	}
	if w.call.Name == "get_attribute" && res.Own.Attribute(word) != nil {
		return w.descend(w.attribute(res, word, i), i+1, what)
	}
	p := res.Property(word)
	if p == nil {
		if res.Own.Property(word) != nil {
			return w.fail(i, "no-value", "", "%s is not set", what)
		}
		return tosca.Unknown{Bad: true} // the check reports it
	}
	w.reached(end{property: p}, i+1)
	return w.descend(w.value(p), i+1, what)
}

func (w walk) descend(v tosca.Value, i int, what string) tosca.Value {
	return w.env(w.at).Descend(w.call, v, w.path[i:], what)
}

// found answers for a resource that is selected.
func (w walk) found(res *Resource, name string, i int, what string) tosca.Value {
	if res.Found == nil {
		w.reached(end{resource: res.Name, attribute: name}, i+1)
		return tosca.Unknown{Of: []tosca.Attribute{{Resource: res.Name, Name: name}}}
	}
	w.reached(end{resource: res.Name, attribute: name}, i+1)
	v, ok := res.Found.Properties[name]
	if w.call.Name == "get_attribute" && !ok {
		v, ok = res.Found.Attributes[name]
	}
	if !ok {
		return w.fail(i, "no-value", "", "%s, which is %s, is not set", what, res.Found.ID)
	}
	return w.descend(v, i+1, what)
}

// attribute is the value of an attribute: of the cloud, of the template, or of
// what fills the node.
func (w walk) attribute(res *Resource, name string, i int) tosca.Value {
	if res.filled != nil {
		for _, m := range res.filled.service.Substitution.Attributes {
			if m.Name != name {
				continue
			}
			if m.Part.Name != "" {
				if list := res.filled.instances[m.To]; len(list) > 0 {
					return w.attribute(list[0], m.Part.Name, i)
				}
			}
			for _, o := range res.filled.service.Outputs {
				if o.Name == m.To {
					if w.reached(end{output: o, scope: res.filled}, i+1); w.ends != nil {
						return tosca.Unknown{} // it is written down, and evaluated there
					}
					return w.output(res.filled, o)
				}
			}
		}
		return w.fail(i, "no-value", "add it to the attributes of its substitution_mappings",
			"the template that fills %s does not give its attribute '%s'", res.Name, name)
	}
	if res.Type == nil {
		return tosca.Unknown{Bad: true}
	}
	if res.Type.Attribute(name) == nil {
		for _, p := range res.ownAttributes {
			if p.Name == name {
				w.reached(end{property: p}, i+1)
				return w.value(p)
			}
		}
		return w.fail(i, "no-value", "give it a value under attributes", "the attribute '%s' of %s has no value",
			name, res.Name)
	}
	w.reached(end{resource: res.Name, attribute: name}, i+1)
	if w.attrs != nil {
		if v, known := w.attrs(res.Name, name); known {
			return v
		}
	}
	return tosca.Unknown{Of: []tosca.Attribute{{Resource: res.Name, Name: name}}}
}

// within answers for the properties of a capability or a relationship.
func (w walk) within(list []*Property, defs []*tosca.Property, i int, what string) tosca.Value {
	word, ok := w.word(i)
	if !ok {
		return tosca.Unknown{Bad: true}
	}
	for _, p := range list {
		if p.Name == word {
			w.reached(end{property: p}, i+1)
			return w.descend(w.value(p), i+1, fmt.Sprintf("%s of the %s", word, what))
		}
	}
	if !slices.ContainsFunc(defs, func(d *tosca.Property) bool { return d.Name == word }) {
		return tosca.Unknown{Bad: true} // the check reports it
	}
	return w.fail(i, "no-value", "", "%s of the %s is not set", word, what)
}

// relationships goes on along a requirement, to one target or to all.
func (w walk) relationships(res *Resource, i int) tosca.Value {
	if i >= len(w.path) {
		return tosca.Unknown{Bad: true} // the check reports it
	}
	var index tosca.Value = tosca.Int(0)
	name := w.path[i]
	if l, ok := name.(tosca.List); ok && len(l) == 2 {
		name, index = l[0], l[1]
	} else if i+1 < len(w.path) {
		if _, isIndex := w.path[i+1].(tosca.Int); isIndex || w.path[i+1] == tosca.Value(tosca.String("ALL")) {
			i++
			index = w.path[i]
		}
	}
	if res.Own.Requirement(tosca.Show(name)) == nil {
		return tosca.Unknown{Bad: true} // the check reports it
	}
	var list []*relation
	if l := res.link(tosca.Show(name)); l != nil {
		list = l.relations
	}
	if index == tosca.Value(tosca.String("ALL")) {
		if w.ends != nil {
			w.ends.all = true
		}
		out := make(tosca.List, len(list))
		for k, rel := range list {
			out[k] = w.relation(rel, i+1)
		}
		return out
	}
	n, ok := index.(tosca.Int)
	if !ok || n < 0 || int(n) >= len(list) {
		for _, q := range res.template.Requirements {
			if res.scope.unsure[q.Target] {
				return tosca.Unknown{Bad: true}
			}
		}
		return w.fail(i, "no-such-resource", "", "%s has %d of the requirement '%s', and no number %s", res.Name,
			len(list), tosca.Show(name), tosca.Show(index))
	}
	return w.relation(list[n], i+1)
}

// relation goes on from a relationship.
func (w walk) relation(rel *relation, i int) tosca.Value {
	word, ok := w.word(i)
	if !ok {
		return tosca.Unknown{Bad: true}
	}
	switch word {
	case "TARGET":
		return w.resource(rel.target, i+1)
	case "SOURCE":
		return w.resource(rel.source, i+1)
	case "CAPABILITY":
		var defs []*tosca.Property
		if d := rel.target.Own.Capability(rel.capability); d != nil {
			defs = d.Properties
		}
		return w.within(rel.target.capabilities[rel.capability], defs, i+1,
			fmt.Sprintf("capability %s of %s", rel.capability, rel.target.Name))
	}
	var defs []*tosca.Property
	if rel.typ != nil {
		defs = rel.typ.Properties
	}
	return w.within(rel.properties, defs, i, "relationship "+rel.requirement+" of "+rel.source.Name)
}
