package stack

import (
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// MaxCount is how many resources one node template may make.
const MaxCount = 10_000

// Given is a value handed in for an input, before its type is known.
type Given struct {
	Name   string
	Value  *tosca.Expr // as written
	Origin Origin
}

// Options are what Resolve needs beside the template.
type Options struct {
	Given []Given // lowest precedence first
	Tags  map[string]string
	// Lenient leaves out the findings for inputs without a value: it is for
	// looking at a template alone.
	Lenient bool
}

// Attributes answers for the attribute of a resource that is already built.
type Attributes func(resource, attribute string) (tosca.Value, bool)

// Resolve fills in the inputs of a template and expands it into resources.
// The result is usable as far as the findings allow.
func Resolve(f *tosca.File, o Options) (*Wanted, tosca.Findings) {
	var findings tosca.Findings
	w := &Wanted{File: f, byName: map[string]*Resource{}}
	r := &resolver{w: w, findings: &findings, inputs: map[string]tosca.Value{}, nodes: map[string]*tosca.NodeTemplate{}, instances: map[string][]*Resource{}}
	w.resolver = r
	if f.Service == nil {
		return w, findings
	}
	r.fillInputs(f.Service, o)
	r.expand(f.Service, o.Tags)
	for _, res := range w.Resources {
		r.link(res)
	}
	for _, res := range w.Resources {
		for _, p := range res.Properties {
			r.property(res, p)
			if p.Expr.Kind == tosca.LiteralExpr && tosca.HasSecret(p.Value) {
				findings.Warnf(p.Pos, "secret-in-clear", "make it an input of type Secret: { $get_input: … }", "%s: the secret '%s' stands in the template in clear", res.Name, p.Name)
			}
		}
	}
	r.applyPolicies(f.Service)
	r.order()
	for _, out := range f.Service.Outputs {
		if out.Value != nil {
			w.Outputs = append(w.Outputs, Output{Name: out.Name, Description: out.Description, def: out, Value: r.output(out)})
		}
	}
	findings.Sort()
	return w, findings
}

// resolver holds what the evaluation of one template shares.
type resolver struct {
	w         *Wanted
	findings  *tosca.Findings
	inputs    map[string]tosca.Value
	nodes     map[string]*tosca.NodeTemplate
	instances map[string][]*Resource // by node template
	attrs     Attributes             // nil until something is built
	memo      map[*Property]tosca.Value
	trail     []*Property
}

func (r *resolver) fillInputs(s *tosca.ServiceTemplate, o Options) {
	given := map[string]Given{}
	known := make([]string, len(s.Inputs))
	for i, in := range s.Inputs {
		known[i] = in.Name
	}
	for _, g := range o.Given {
		if s.Input(g.Name) == nil {
			r.findings.Errorf(g.Origin.Pos, "unknown-input", tosca.Suggest(g.Name, known), "the template has no input '%s'", g.Name)
			continue
		}
		given[g.Name] = g
	}
	for _, in := range s.Inputs {
		g, ok := given[in.Name]
		switch {
		case ok:
		case in.Default != nil:
			g = Given{Name: in.Name, Value: in.Default, Origin: Origin{Kind: "default", Pos: in.Default.Pos}}
		case in.Required:
			r.inputs[in.Name] = tosca.Unknown{Bad: true}
			if !o.Lenient {
				r.findings.Errorf(in.Pos, "missing-input", fmt.Sprintf("add %s: to the inputs of the stack file, or give -i %s=…", in.Name, in.Name), "the input '%s' (%s) has no value%s", in.Name, in.Type.Label(), describe(in))
			}
			continue
		default:
			r.inputs[in.Name] = tosca.Null{}
			continue
		}
		env := &tosca.Env{Index: -1, Findings: r.findings}
		x := g.Value
		v := tosca.Value(tosca.Unknown{Bad: true})
		if in.Type != nil {
			before := len(*r.findings)
			v = env.EvalAs(x, in.Type, "input "+in.Name)
			if !tosca.Validate(in.Validation, v, in.Type, g.Origin.Pos, "input "+in.Name, r.findings) {
				v = tosca.Unknown{Bad: true}
			}
			if g.Origin.Kind == "default" { // the check has told it already
				*r.findings = (*r.findings)[:before]
			}
		}
		r.inputs[in.Name] = v
		if tosca.HasSecret(v) && g.Origin.Via == "" && g.Origin.Kind != "default" {
			r.findings.Warnf(g.Origin.Pos, "secret-in-clear", "write { from_env: … } or { from_file: … }", "the secret '%s' stands in a file in clear", in.Name)
		}
		r.w.Inputs = append(r.w.Inputs, Input{in.Name, v, g.Origin})
	}
}

func describe(in *tosca.Property) string {
	if in.Description == "" {
		return ""
	}
	return ": " + in.Description
}

func (r *resolver) env(self *Resource) *tosca.Env {
	index := -1
	if self != nil {
		index = self.Index
	}
	return &tosca.Env{
		Input:    func(name string) (tosca.Value, bool) { v, ok := r.inputs[name]; return v, ok },
		Node:     func(call *tosca.Expr, path []tosca.Value) tosca.Value { return r.node(self, call, path) },
		Index:    index,
		Findings: r.findings,
	}
}

// countEnv is where counts are evaluated: before there are any resources.
func (r *resolver) countEnv(n *tosca.NodeTemplate) *tosca.Env {
	env := r.env(nil)
	env.Node = func(call *tosca.Expr, _ []tosca.Value) tosca.Value {
		r.findings.Errorf(call.Pos, "unknown-count", "compute the count from inputs", "%s: the count depends on another node, and must be known before there are any", n.Name)
		return tosca.Unknown{Bad: true}
	}
	return env
}

// expand makes the resources of every node template.
func (r *resolver) expand(s *tosca.ServiceTemplate, tags map[string]string) {
	for _, n := range s.Nodes {
		t := r.w.File.Library.Nodes[n.Type]
		r.nodes[n.Name] = n
		if t == nil {
			continue
		}
		count, indexed := 1, n.Count != nil
		if indexed {
			value := r.countEnv(n).Eval(n.Count)
			if f, ok := value.(tosca.Float); ok && f == tosca.Float(int64(f)) { // such as a quotient
				value = tosca.Int(f)
			}
			switch v := value.(type) {
			case tosca.Int:
				count = int(v)
				if v < 0 || v > MaxCount {
					r.findings.Errorf(n.Count.Pos, "bad-count", fmt.Sprintf("use 0 to %d", MaxCount), "%s: the count is %d", n.Name, v)
					count = 0
				}
			case tosca.Unknown: // has been told
			default:
				r.findings.Errorf(n.Count.Pos, "wrong-type", "", "%s: the count must be an integer, not %s", n.Name, tosca.KindName(v))
			}
		}
		r.instances[n.Name] = []*Resource{}
		for i := range count {
			res := &Resource{Name: n.Name, Node: n.Name, Index: -1, Type: t, Pos: n.Pos}
			if indexed {
				res.Name, res.Index = fmt.Sprintf("%s#%d", n.Name, i), i
			}
			r.fill(res, n, tags)
			r.w.Resources = append(r.w.Resources, res)
			r.w.byName[res.Name] = res
			r.instances[n.Name] = append(r.instances[n.Name], res)
		}
	}
}

// fill lists the properties of a resource, in the order of its type.
func (r *resolver) fill(res *Resource, n *tosca.NodeTemplate, tags map[string]string) {
	given := make(map[string]*tosca.Assignment, len(n.Properties))
	for _, a := range n.Properties {
		given[a.Name] = a
	}
	for _, d := range res.Type.Properties {
		p := &Property{Name: d.Name, Def: d, Pos: res.Pos}
		a := given[d.Name]
		switch {
		case d.Fixed != nil:
			p.Expr, p.Pos = d.Fixed, d.Fixed.Pos
			if a != nil {
				r.findings.Errorf(a.Pos, "fixed-property", "remove it", "the property '%s' of %s is fixed", d.Name, res.Type.Name)
			}
		case a != nil:
			p.Expr, p.Pos = a.Value, a.Value.Pos
		case d.Default != nil:
			p.Expr = d.Default
		case d.Name == "tags" && len(tags) > 0:
			p.Expr = &tosca.Expr{Pos: res.Pos, Kind: tosca.MapExpr}
		default:
			continue
		}
		if d.Name == "tags" {
			p.Expr = withTags(p.Expr, tags)
		}
		res.Properties = append(res.Properties, p)
	}
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

// link finds the targets of a resource's requirements.
func (r *resolver) link(res *Resource) {
	n := r.nodes[res.Node]
	for _, d := range res.Type.Requirements {
		var l Link
		for _, q := range n.Requirements {
			if q.Name != d.Name {
				continue
			}
			targets, known := r.instances[q.Target]
			if !known {
				continue // the check reports it
			}
			if l.Pos.Line == 0 {
				l.Pos = q.TargetPos
			}
			for _, t := range r.choose(res, q, d, targets) {
				if !slices.Contains(l.Targets, t.Name) {
					l.Targets = append(l.Targets, t.Name)
				}
			}
		}
		if len(l.Targets) > 0 {
			l.Requirement = d.Name
			res.Links = append(res.Links, l)
		}
	}
}

// choose picks those of the resources of a node that a requirement means.
func (r *resolver) choose(res *Resource, q *tosca.Requirement, d *tosca.RequirementDef, targets []*Resource) []*Resource {
	if q.Index != nil {
		if t := r.pick(r.env(res).Eval(q.Index), q.Target, q.Index.Pos); t != nil {
			return []*Resource{t}
		}
		return nil
	}
	switch {
	case len(targets) == 0 && d.Low > 0:
		r.findings.Errorf(q.TargetPos, "no-such-resource", "give it a count of 1 or more", "%s needs %s, whose count is 0", res.Name, q.Target)
	case len(targets) > 1 && d.High == 1:
		r.findings.Errorf(q.TargetPos, "ambiguous-target", fmt.Sprintf("write [ %s, 0 ], or another index", q.Target), "there are %d of %s, and '%s' takes one", len(targets), q.Target, q.Name)
		return targets[:1]
	}
	return targets
}

// pick finds one of a node's resources by its index; it reports what is wrong
// and yields nil.
func (r *resolver) pick(index tosca.Value, node string, p tosca.Pos) *Resource {
	list := r.instances[node]
	i, ok := index.(tosca.Int)
	switch {
	case !tosca.IsKnown(index):
		return nil
	case !ok:
		r.findings.Errorf(p, "wrong-type", "", "an index must be an integer, not %s", tosca.KindName(index))
	case i < 0 || int(i) >= len(list):
		r.findings.Errorf(p, "no-such-resource", fmt.Sprintf("there are %d of it, counted from 0", len(list)), "there is no [ %s, %d ]", node, i)
	default:
		return list[i]
	}
	return nil
}

// property evaluates a property once; a property that needs itself is
// reported.
func (r *resolver) property(res *Resource, p *Property) tosca.Value {
	if r.memo == nil {
		r.memo = map[*Property]tosca.Value{}
	}
	if v, ok := r.memo[p]; ok {
		return v
	}
	if i := slices.Index(r.trail, p); i >= 0 {
		var names []string
		for _, q := range append(slices.Clone(r.trail[i:]), p) {
			names = append(names, q.Name)
		}
		r.findings.Errorf(p.Pos, "value-cycle", "break the circle", "%s: the value needs itself: %s", res.Name, strings.Join(names, " → "))
		return tosca.Unknown{Bad: true}
	}
	r.trail = append(r.trail, p)
	v := r.env(res).EvalAs(p.Expr, p.Def.Type, res.Name+", "+p.Name)
	if !tosca.Validate(p.Def.Validation, v, p.Def.Type, p.Pos, res.Name+", "+p.Name, r.findings) {
		v = tosca.Unknown{Bad: true}
	}
	r.trail = r.trail[:len(r.trail)-1]
	r.memo[p] = v
	if r.attrs == nil {
		p.Value = v
	}
	return v
}

// node answers get_property and get_attribute.
func (r *resolver) node(self *Resource, call *tosca.Expr, path []tosca.Value) tosca.Value {
	bad := tosca.Unknown{Bad: true}
	res := self
	name, isName := path[0].(tosca.String)
	switch {
	case isName && name == "SELF":
	case isName:
		list, known := r.instances[string(name)]
		switch {
		case !known:
			return bad
		case len(list) != 1:
			r.findings.Errorf(call.Args[0].Pos, "ambiguous-target", fmt.Sprintf("write [ %s, 0 ], or another index", name), "there are %d of %s: say which one", len(list), name)
			return bad
		}
		res = list[0]
	default:
		l, ok := path[0].(tosca.List)
		if !ok || len(l) != 2 {
			r.findings.Errorf(call.Args[0].Pos, "wrong-arguments", "write a name, or [ name, index ]", "the path must begin with a node")
			return bad
		}
		if _, known := r.instances[tosca.Show(l[0])]; !known {
			return bad
		}
		if res = r.pick(l[1], tosca.Show(l[0]), call.Args[0].Pos); res == nil {
			return bad
		}
	}
	if res == nil {
		return bad
	}
	what, ok := path[1].(tosca.String)
	if !ok {
		r.findings.Errorf(call.Args[1].Pos, "wrong-type", "", "expected the name of a property or attribute, found %s", tosca.KindName(path[1]))
		return bad
	}
	words := fmt.Sprintf("%s of %s", what, res.Name)
	if call.Name == "get_attribute" && res.Type.Attribute(string(what)) != nil {
		if r.attrs != nil {
			if v, known := r.attrs(res.Name, string(what)); known {
				return r.env(self).Descend(call, v, path[2:], words)
			}
		}
		return tosca.Unknown{Of: []tosca.Attribute{{Resource: res.Name, Name: string(what)}}}
	}
	p := res.Property(string(what))
	if p == nil {
		if res.Type.Property(string(what)) != nil {
			r.findings.Errorf(call.Args[1].Pos, "no-value", "", "%s is not set", words)
		}
		return bad
	}
	return r.env(self).Descend(call, r.property(res, p), path[2:], words)
}

func (r *resolver) applyPolicies(s *tosca.ServiceTemplate) {
	for _, p := range s.Policies {
		for _, t := range p.Targets {
			for _, res := range r.instances[t.Name] {
				res.Keep = res.Keep || p.Type == "Keep"
				res.Guard = res.Guard || p.Type == "Guard"
			}
		}
	}
}

// order sets what each resource needs and sorts them; cycles are reported.
func (r *resolver) order() {
	for _, res := range r.w.Resources {
		var needs []string
		for _, l := range res.Links {
			needs = append(needs, l.Targets...)
		}
		for _, p := range res.Properties {
			for _, a := range tosca.Awaits(p.Value) {
				needs = append(needs, a.Resource)
			}
		}
		slices.Sort(needs)
		res.Needs = slices.Compact(needs)
	}
	order, cycles := r.w.Graph().Order()
	for _, c := range cycles {
		res := r.w.byName[c[0]]
		r.findings.Errorf(res.Pos, "cycle", "remove one of these references", "resources need each other in a circle: %s", strings.Join(c, " → "))
	}
	if len(cycles) == 0 {
		for i, n := range order {
			r.w.Resources[i] = r.w.byName[n]
		}
	}
}

// Late evaluates the properties of a resource with the attributes of what is
// built. Properties that still wait stay unknown.
func (w *Wanted) Late(res *Resource, attrs Attributes) (map[string]tosca.Value, tosca.Findings) {
	var findings tosca.Findings
	out := make(map[string]tosca.Value, len(res.Properties))
	r := *w.resolver
	r.attrs, r.memo, r.trail, r.findings = attrs, nil, nil, &findings
	for _, p := range res.Properties {
		if len(tosca.Awaits(p.Value)) == 0 {
			out[p.Name] = p.Value
			continue
		}
		out[p.Name] = r.property(res, p)
	}
	return out, findings
}

// Results evaluates the outputs with the attributes of what is built.
func (w *Wanted) Results(attrs Attributes) (map[string]tosca.Value, tosca.Findings) {
	var findings tosca.Findings
	r := *w.resolver
	r.attrs, r.memo, r.trail, r.findings = attrs, nil, nil, &findings
	out := make(map[string]tosca.Value, len(w.Outputs))
	for _, o := range w.Outputs {
		out[o.Name] = r.output(o.def)
	}
	return out, findings
}

func (r *resolver) output(o *tosca.Output) tosca.Value {
	return r.env(nil).EvalAs(o.Value, o.Type, "output "+o.Name)
}
