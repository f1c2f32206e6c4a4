package stack

import (
	"cmp"
	"maps"
	"slices"

	"brickrow/internal/tosca"
)

// uses tells of each node which nodes look at it: by name in an expression, or by a
// requirement. It may tell of more than there are.
type uses struct {
	by    map[string]map[string]bool // in an expression
	links map[string]map[string]bool // by a requirement
	// deep says that an expression goes along a requirement, to what the node at its other
	// end has: then who rests on whom counts too.
	deep bool
	// any says that what looks at what cannot be told from that: a node_filter looks at
	// all, and a relationship at both of its ends.
	any bool
}

// usesOf finds out who looks at whom in a template that is resolved.
func usesOf(w *Wanted) *uses {
	u := &uses{by: map[string]map[string]bool{}, links: map[string]map[string]bool{}}
	for _, n := range w.File.Service.Nodes {
		u.add(n, w.root.instances[n.Name])
	}
	return u
}

// add adds what a node looks at.
func (u *uses) add(n *tosca.NodeTemplate, made []*Resource) {
	put := func(into map[string]map[string]bool, of string) {
		if of == n.Name {
			return
		}
		if into[of] == nil {
			into[of] = map[string]bool{}
		}
		into[of][n.Name] = true
	}
	walk := func(x *tosca.Expr) {
		u.deep = namesIn(x, func(of string) { put(u.by, of) }) || u.deep
	}
	given := func(list []*tosca.Assignment) {
		for _, a := range list {
			walk(a.Value)
		}
	}
	given(n.Properties)
	given(n.Attributes)
	for _, c := range n.Capabilities {
		given(c.Properties)
		given(c.Attributes)
	}
	for _, q := range n.Requirements {
		u.any = u.any || q.Filter != nil || q.Relationship != nil || q.Named != nil
		walk(q.Count)
		walk(q.Optional)
		walk(q.Index)
		put(u.links, q.Target)
	}
	u.any = u.any || n.Filter != nil || len(n.Directives) > 0
	for _, res := range made {
		u.any = u.any || res.related()
		for _, list := range [][]Link{res.Links, res.localLinks} {
			for _, l := range list {
				for _, rel := range l.relations {
					put(u.links, rel.target.template.Name)
				}
			}
		}
	}
}

// namesIn tells of the nodes that an expression names, and whether it goes further than
// to a property of one.
func namesIn(x *tosca.Expr, see func(string)) (deep bool) {
	x.Walk(func(x *tosca.Expr) {
		if x.Kind != tosca.CallExpr || len(x.Args) == 0 || x.Name != "get_property" && x.Name != "get_attribute" {
			deep = deep || x.Kind == tosca.CallExpr && (x.Name == "relationship_index" || x.Name == "get_artifact")
			return
		}
		deep = deep || len(x.Args) > 2
		first := x.Args[0]
		if first.Kind == tosca.ListExpr && len(first.Args) > 0 {
			first = first.Args[0]
		}
		see(first.Text())
	})
	return deep
}

// reach lists a node and all that look at it, by way of others too.
func (u *uses) reach(name string) map[string]bool {
	out := map[string]bool{name: true}
	for next := []string{name}; len(next) > 0; next = next[1:] {
		for _, users := range []map[string]bool{u.by[next[0]], u.links[next[0]]} {
			for user := range users {
				if !out[user] {
					out[user] = true
					next = append(next, user)
				}
			}
			if !u.deep { // who only rests on it looks at nothing of it
				break
			}
		}
	}
	return out
}

// Again resolves a template anew of which one node has other values since: only that node
// and what looks at it. What was found when it was resolved is before; the findings are
// those of all. It is false where more may be different, and all has to be resolved.
// It is for one at a time.
func (w *Wanted) Again(p *tosca.Patch, before tosca.Findings) (*Wanted, tosca.Findings, bool) {
	if w.root == nil || w.resolver == nil || len(w.Selected) > 0 || len(w.root.inner) > 0 || w.root.service.Node(p.Was.Name) != p.Was {
		return nil, nil, false
	}
	if w.uses == nil {
		w.uses = usesOf(w)
	}
	touched := w.uses.reach(p.Now.Name)
	f := p.File
	if w.uses.any || len(touched)*2 > len(f.Service.Nodes) {
		return nil, nil, false
	}
	var findings tosca.Findings
	out := &Wanted{File: f, Inputs: w.Inputs, secretExprs: w.secretExprs, uses: w.uses}
	old := w.resolver
	r := &resolver{w: out, findings: &findings, options: old.options}
	out.resolver = r
	out.root = &scope{file: f, service: f.Service, inputs: w.root.inputs, unsure: w.root.unsure,
		instances: maps.Clone(w.root.instances)}
	instead := map[*Resource]*Resource{}
	var fresh []*Resource
	for name := range touched {
		n := f.Service.Node(name)
		if n == nil || n.Def == nil {
			return nil, nil, false
		}
		list := make([]*Resource, 0, len(w.root.instances[name]))
		for _, was := range w.root.instances[name] {
			res := &Resource{Name: was.Name, Node: was.Node, Index: was.Index, Key: was.Key, Type: was.Type, Own: n.Def, Pos: n.Pos,
				Policies: was.Policies, template: n, scope: out.root, visit: was.visit}
			r.fill(res, n)
			if by := n.Metadata[tosca.KeyedBy]; by != "" && n.Count != nil && r.keyOf(res, by) != was.Key {
				return nil, nil, false
			}
			list, fresh = append(list, res), append(fresh, res)
			instead[was] = res
		}
		out.root.instances[name] = list
	}
	r.all = replaced(old.all, instead)
	out.Resources = replaced(w.Resources, instead)
	out.byName = maps.Clone(w.byName)
	for was, res := range instead {
		if out.byName[was.Name] == was {
			out.byName[was.Name] = res
		}
	}
	slices.SortFunc(fresh, func(a, b *Resource) int { return cmp.Or(a.Pos.Line-b.Pos.Line, a.Index-b.Index) })
	for _, res := range fresh {
		r.link(res)
	}
	for _, res := range fresh {
		r.evaluate(res)
	}
	for was, res := range instead {
		if res.rests = baseNeeds(res); !slices.Equal(was.rests, res.rests) { // another order, perhaps
			return nil, nil, false
		}
		res.Needs = was.Needs
	}
	for was, res := range instead { // a rule for a resource may be one for what it names
		if !slices.EqualFunc(was.localLinks, res.localLinks, func(a, b Link) bool { return slices.Equal(a.Targets, b.Targets) }) ||
			!slices.EqualFunc(was.Links, res.Links, func(a, b Link) bool { return a.Requirement == b.Requirement && slices.Equal(a.Targets, b.Targets) }) {
			return nil, nil, false
		}
	}
	if old.options.Orders != nil && !sameOrders(old.options.Orders, instead, w.Resources, out.Resources) {
		return nil, nil, false
	}
	if w.uses.add(p.Now, out.root.instances[p.Now.Name]); w.uses.any {
		return nil, nil, false
	}
	lines, ok := linesOf(f.Service, touched)
	if !ok && len(before) > 0 {
		return nil, nil, false
	}
	again := map[[2]int]bool{} // lines of outputs
	for _, o := range w.Outputs {
		looks := false
		deep := namesIn(o.def.Value, func(n string) { looks = looks || touched[n] })
		if looks || deep {
			from, to := o.def.Line, lastLine(o.def.Value, o.def.Line)
			again[[2]int{from, to}] = true
			o.Value = r.output(out.root, o.def)
		}
		out.Outputs = append(out.Outputs, o)
	}
	for _, p := range w.Probes {
		now := *p
		now.scope = out.root
		out.Probes = append(out.Probes, &now)
	}
	for _, f := range before {
		if f.File == p.File.Name && (lines(f.Line) || within(again, f.Line)) {
			continue
		}
		findings = append(findings, f)
	}
	out.secrets = w.secrets.Clone()
	for _, res := range fresh {
		for _, p := range res.everyProperty() {
			if p.known {
				out.secrets.Add(p.Value)
			}
		}
	}
	findings = out.secrets.Findings(findings)
	findings.Sort()
	return out, findings, true
}

// evaluate evaluates the properties of a resource.
func (r *resolver) evaluate(res *Resource) {
	for _, p := range res.everyProperty() {
		r.value(p)
		if p.Expr != nil && p.Expr.Kind == tosca.LiteralExpr && tosca.HasSecret(p.Value) {
			r.findings.Warnf(p.Pos, "secret-in-clear", "make it an input of type Secret: { $get_input: … }",
				"%s: the secret '%s' stands in the template in clear", res.Name, p.Name)
		}
	}
}

// replaced is a list with other resources in the place of some.
func replaced(list []*Resource, instead map[*Resource]*Resource) []*Resource {
	out := make([]*Resource, len(list))
	for i, res := range list {
		if out[i] = res; instead[res] != nil {
			out[i] = instead[res]
		}
	}
	return out
}

// baseNeeds are the resources that one rests on, by its links and by what it waits for.
func baseNeeds(res *Resource) []string {
	var needs []string
	for _, l := range res.Links {
		needs = append(needs, l.Targets...)
	}
	for _, l := range res.localLinks {
		needs = append(needs, l.Targets...)
	}
	for _, p := range res.Properties {
		for _, a := range tosca.Awaits(p.Value) {
			needs = append(needs, a.Resource)
		}
	}
	slices.Sort(needs)
	return slices.Compact(needs)
}

// sameOrders reports whether what should come after what is as it was.
func sameOrders(o Orders, instead map[*Resource]*Resource, before, now []*Resource) bool {
	was, is := o.After(before), o.After(now)
	if len(was) != len(is) {
		return false
	}
	for res, first := range was {
		to := res
		if instead[res] != nil {
			to = instead[res]
		}
		other := is[to]
		if len(other) != len(first) {
			return false
		}
		for i := range first {
			if first[i].Name != other[i].Name {
				return false
			}
		}
	}
	return true
}

// linesOf tells which lines belong to some nodes. It is not ok where that is unsure.
func linesOf(s *tosca.ServiceTemplate, names map[string]bool) (belongs func(line int) bool, ok bool) {
	nodes := slices.Clone(s.Nodes)
	slices.SortStableFunc(nodes, func(a, b *tosca.NodeTemplate) int { return a.Line - b.Line })
	belongs = func(line int) bool {
		i, found := slices.BinarySearchFunc(nodes, line, func(n *tosca.NodeTemplate, line int) int { return n.Line - line })
		if !found {
			i--
		}
		return i >= 0 && names[nodes[i].Name]
	}
	return belongs, len(nodes) > 0 && !names[nodes[len(nodes)-1].Name] // what is behind the last one is not told
}

// lastLine is the last line that an expression begins something in.
func lastLine(x *tosca.Expr, from int) int {
	x.Walk(func(x *tosca.Expr) { from = max(from, x.Line) })
	return from
}

func within(ranges map[[2]int]bool, line int) bool {
	for r := range ranges {
		if line >= r[0] && line <= r[1] {
			return true
		}
	}
	return false
}
