package stack

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/tosca"
)

// expand makes the resources of every node template.
func (r *resolver) expand(s *scope) {
	for _, n := range s.service.Nodes {
		if n.Def == nil {
			continue
		}
		count, indexed := 1, n.Count != nil
		if indexed {
			count = r.count(s, n)
		}
		if len(r.all)+count > MaxResources {
			r.findings.Errorf(n.Pos, "bad-count", "split it into several stacks",
				"%s: with it the template makes more than %d resources", n.Name, MaxResources)
			count = 0
		}
		list := r.placesFor(count)
		for i := range count {
			res := r.resource()
			*res = Resource{Name: s.prefix + n.Name, Node: s.prefix + n.Name, Index: -1, Type: n.Def.Base(),
				Own: n.Def, Pos: n.Pos, template: n, scope: s, selected: n.Has("select")}
			if indexed {
				res.Name, res.Index = res.Name+"#"+strconv.Itoa(i), i
			}
			r.fill(res, n)
			if by := n.Metadata[tosca.KeyedBy]; by != "" && indexed {
				res.Key = r.keyOf(res, by)
				res.Name = s.prefix + n.Name + "#" + cmp.Or(res.Key, strconv.Itoa(i))
			}
			list = append(list, res)
			r.all = append(r.all, res)
			switch {
			case res.selected:
				if found, ok := r.options.Found[res.Name]; ok {
					res.Found = &found
				}
				r.w.Selected = append(r.w.Selected, res)
			case n.Has("substitute"):
				r.substitute(res, n)
			case res.Type != nil:
				if twin := r.w.byName[res.Name]; twin != nil && twin.template == n {
					r.findings.Errorf(n.Pos, "duplicate-resource", "give each another value",
						"%s: two of its instances have the same %s", res.Name, n.Metadata[tosca.KeyedBy])
					continue
				} else if twin != nil {
					r.findings.Errorf(n.Pos, "duplicate-resource", "rename one of them",
						"two nodes make a resource %s; the other one is in %s", res.Name, twin.Pos.Short())
					continue
				}
				r.w.Resources = append(r.w.Resources, res)
				r.w.byName[res.Name] = res
			}
		}
		s.instances[n.Name] = list
	}
}

// keyOf is the value of the property by which a resource is told from the others of its
// count, as a part of its name; "" where it cannot be told. It has to come from inputs
// and the number alone.
func (r *resolver) keyOf(res *Resource, by string) string {
	p := res.Property(by)
	if p == nil { // which the check has told
		return ""
	}
	var told tosca.Findings
	apart := r.apart(nil, &told)
	env := *apart.env(p.at)
	later := tosca.Value(tosca.Unknown{Of: []tosca.Attribute{{Resource: res.Name}}})
	env.Node = func(*tosca.Expr, []tosca.Value) tosca.Value { return later }
	v := later
	if p.Expr != nil && p.Def.Type != nil {
		v = env.EvalAs(p.Expr, p.Def.Type, by)
	}
	if len(told) > 0 { // which is told when it is evaluated in its turn
		return ""
	}
	if !tosca.IsKnown(v) || tosca.HasSecret(v) || tosca.Show(v) == "" {
		r.findings.Errorf(p.Pos, "unknown-key-value", "let it come from inputs and $node_index, or take another property",
			"%s: its instances are told apart by '%s', which is not known before they are built, or is a secret",
			res.Node, by)
		return ""
	}
	return strings.Map(func(c rune) rune {
		if c < 0x80 && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("._-", c)) {
			return c
		}
		return '-'
	}, tosca.Show(v))
}

// FormerNames are the names under which a resource may be recorded, beside its own: those
// that formerly gives, and those of a count before keyed_by told its instances apart. The
// property and the value that tell them are there in that case.
func (res *Resource) FormerNames() []string {
	n := res.template
	prefix := strings.TrimSuffix(res.Node, n.Name)
	suffix := strings.TrimPrefix(res.Name, res.Node)
	var out []string
	if was := n.Metadata[tosca.Formerly]; was != "" {
		// beside it, or beside the node that its template fills, from where it was moved
		for prefix, s := prefix, res.scope; ; prefix, s = s.outer.scope.prefix, s.outer.scope {
			out = append(out, prefix+was+suffix)
			switch {
			case suffix == "":
				out = append(out, prefix+was+"#0")
			case res.Index == 0:
				out = append(out, prefix+was)
			}
			if s.outer == nil {
				break
			}
		}
	}
	for s := res.scope; s.outer != nil; s = s.outer.scope { // that of the node that it fills
		for _, was := range s.outer.FormerNames() {
			out = append(out, was+"/"+strings.TrimPrefix(res.Name, s.prefix))
		}
	}
	return out
}

// resource makes room for a resource, many at a time.
func (r *resolver) resource() *Resource {
	if len(r.room) == 0 {
		r.room = make([]Resource, 32)
	}
	res := &r.room[0]
	r.room = r.room[1:]
	return res
}

// slotsFor makes room for a list of up to n properties.
func (r *resolver) slotsFor(n int) []*Property {
	if len(r.slots) < n {
		r.slots = make([]*Property, max(n, 256))
	}
	out := r.slots[:0:n]
	r.slots = r.slots[n:]
	return out
}

// placesFor makes room for a list of n resources.
func (r *resolver) placesFor(n int) []*Resource {
	if len(r.places) < n {
		r.places = make([]*Resource, max(n, 128))
	}
	out := r.places[:0:n]
	r.places = r.places[n:]
	return out
}

// propertyRoom does the same for properties.
func (r *resolver) propertyRoom() *Property {
	if len(r.props) == 0 {
		r.props = make([]Property, 64)
	}
	p := &r.props[0]
	r.props = r.props[1:]
	return p
}

// count is how many resources a node template makes.
func (r *resolver) count(s *scope, n *tosca.NodeTemplate) int {
	env := *r.env(context{scope: s})
	env.Node = func(call *tosca.Expr, _ []tosca.Value) tosca.Value {
		r.findings.Errorf(call.Pos, "unknown-count", "compute the count from inputs",
			"%s: the count depends on another node, and must be known before there are any", n.Name)
		return tosca.Unknown{Bad: true}
	}
	before := len(*r.findings)
	defer func() {
		if len(*r.findings) > before {
			if s.unsure == nil {
				s.unsure = map[string]bool{}
			}
			s.unsure[n.Name] = true
		}
	}()
	value, _ := tosca.Bare(env.Eval(n.Count))        // how many there are is seen anyway
	if u, ok := value.(tosca.Unknown); ok && u.Bad { // reported when it was read
		before--
	}
	if f, ok := value.(tosca.Float); ok && f == tosca.Float(int64(f)) { // such as a quotient
		value = tosca.Int(f)
	}
	switch v := value.(type) {
	case tosca.Int:
		if v < 0 || v > MaxCount {
			r.findings.Errorf(n.Count.Pos, "bad-count", fmt.Sprintf("use 0 to %d", MaxCount),
				"%s: the count %d is not possible", n.Name, v)
			return 0
		}
		return int(v)
	case tosca.Unknown:
		if !v.Bad {
			r.findings.Errorf(n.Count.Pos, "unknown-count", "compute the count from inputs",
				"%s: the count is only known when something is built", n.Name)
		}
		return 1
	default:
		r.findings.Errorf(n.Count.Pos, "wrong-type", "", "%s: the count must be an integer, not %s", n.Name,
			tosca.KindName(v))
	}
	return 0
}

// substitute fills a node with the template that says it can.
func (r *resolver) substitute(res *Resource, n *tosca.NodeTemplate) {
	var fits []*tosca.File
	for _, f := range res.scope.file.Substitutes(n.Def) {
		if filter := f.Service.Substitution.Filter; filter != nil &&
			!r.holds(context{scope: res.scope, self: res}, filter) {
			continue
		}
		fits = append(fits, f)
	}
	switch {
	case len(fits) == 0:
		if len(res.scope.file.Substitutes(n.Def)) > 0 {
			r.findings.Errorf(n.TypePos, "no-substitute", "look at their substitution_filter",
				"%s: none of the templates that fill a %s suits it", res.Name, n.Type)
		}
		return
	case len(fits) > 1:
		r.findings.Errorf(n.TypePos, "ambiguous-substitute", "give them a substitution_filter, or import one of them",
			"%s: %d templates fill a %s: %s", res.Name, len(fits), n.Type, fits[0].Name+", "+fits[1].Name)
		return
	}
	f := fits[0]
	res.filled = &scope{file: f, service: f.Service, outer: res, prefix: res.Name + "/",
		defaults: map[string]*Property{}, instances: map[string][]*Resource{}}
	for _, in := range f.Service.Inputs {
		res.filled.addInput(in)
	}
	res.scope.inner = append(res.scope.inner, res.filled)
	r.expand(res.filled)
}

// holds evaluates a condition; what cannot be evaluated does not hold.
func (r *resolver) holds(c context, x *tosca.Expr) bool {
	v, _ := tosca.Bare(r.apart(nil, new(tosca.Findings)).env(c).Eval(x))
	return v == tosca.Value(tosca.Bool(true))
}

// fill lists the properties of a resource, in the order of its type, and what
// else its node assigns.
func (r *resolver) fill(res *Resource, n *tosca.NodeTemplate) {
	if res.selected {
		return
	}
	at := context{scope: res.scope, self: res}
	res.Properties = r.slotsFor(len(res.Own.Properties))
	for _, d := range res.Own.Properties {
		p := r.assign(res, d, n.Properties, at)
		if p == nil {
			continue
		}
		if res.Type != nil && res.Type.Property(d.Name) != nil {
			res.Properties = append(res.Properties, p)
		} else {
			res.locals = append(res.locals, p)
		}
	}
	for _, a := range res.Own.Attributes {
		if res.Type != nil && res.Type.Attribute(a.Name) != nil {
			continue
		}
		p := r.assign(res, a, n.Attributes, at)
		if x := outputOf(res, a.Name); p == nil && x != nil {
			p = &Property{Name: a.Name, Def: a, Pos: x.Pos, Expr: x, at: at}
		}
		if p != nil {
			res.ownAttributes = append(res.ownAttributes, p)
		}
	}
	for _, c := range res.Own.Capabilities {
		var given, attrs []*tosca.Assignment
		for _, a := range n.Capabilities {
			if a.Name == c.Name {
				given, attrs = a.Properties, a.Attributes
			}
		}
		for _, group := range []struct {
			defs  []*tosca.Property
			given []*tosca.Assignment
		}{{c.Properties, given}, {c.Attributes, attrs}} {
			for _, d := range group.defs {
				if p := r.assign(res, d, group.given, at); p != nil {
					if res.capabilities == nil {
						res.capabilities = map[string][]*Property{}
					}
					res.capabilities[c.Name] = append(res.capabilities[c.Name], p)
				}
			}
		}
	}
}

// assign makes a property of its definition and of what is given for it; nil
// where it has no value.
func (r *resolver) assign(res *Resource, d *tosca.Property, given []*tosca.Assignment, at context) *Property {
	i := len(given) - 1
	for ; i >= 0 && given[i].Name != d.Name; i-- {
	}
	if i < 0 && d.Fixed == nil && d.Default == nil && d.Metadata == nil &&
		(d.Name != "tags" || len(r.options.Tags) == 0) {
		return nil
	}
	p := r.propertyRoom()
	*p = Property{Name: d.Name, Def: d, Pos: res.Pos, at: at}
	tags := d.Name == "tags" && len(r.options.Tags) > 0
	switch {
	case d.Fixed != nil:
		p.Expr, p.Pos = d.Fixed, d.Fixed.Pos
		if i >= 0 {
			r.findings.Errorf(given[i].Pos, "fixed-property", "remove it", "the property '%s' of %s is fixed", d.Name,
				res.Own.Name)
		}
	case i >= 0:
		p.Expr, p.Pos = given[i].Value, given[i].Value.Pos
	case d.Metadata["from_artifact"] != "" && res.template.Artifact(d.Name) != nil:
		a := res.template.Artifact(d.Name)
		v := a.Text(d.Metadata["from_artifact"])
		p.Expr, p.Pos = &tosca.Expr{Pos: a.Pos, Value: v, Raw: tosca.Show(v)}, a.Pos
	case d.Metadata["from_own"] != "":
		if p.Expr = ownExpr(res, d); p.Expr == nil {
			return nil
		}
		p.Pos = p.Expr.Pos
	case d.Metadata["from_interface"] != "":
		if p.Expr = operations(res, d.Metadata["from_interface"]); p.Expr == nil {
			return nil
		}
		p.Pos = p.Expr.Pos
	case d.Default != nil:
		p.Expr = d.Default
	case tags:
		p.Expr = &tosca.Expr{Pos: res.Pos, Kind: tosca.MapExpr}
	default:
		return nil
	}
	if tags {
		p.Expr = withTags(p.Expr, r.options.Tags)
	}
	return p
}

// withTags adds the stack's tags where the node does not set them itself.
func withTags(x *tosca.Expr, tags map[string]string) *tosca.Expr {
	if x.Kind != tosca.MapExpr {
		return x
	}
	out := *x
	out.Keys, out.Args = slices.Clone(x.Keys), slices.Clone(x.Args)
	m := tosca.Map{}
	for k := range tags {
		m[k] = tosca.Null{}
	}
	for _, k := range m.Keys() {
		if !slices.ContainsFunc(x.Keys, func(have tosca.Key) bool { return have.Name == k }) {
			out.Keys = append(out.Keys, tosca.Key{Pos: x.Pos, Name: k})
			out.Args = append(out.Args, &tosca.Expr{Pos: x.Pos, Value: tosca.String(tags[k]), Raw: tags[k]})
		}
	}
	return &out
}
