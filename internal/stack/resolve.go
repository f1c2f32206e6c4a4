package stack

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/tosca"
)

// Limits of what a template may make.
const (
	MaxCount     = 10_000 // resources of one node template
	MaxResources = 50_000 // of the whole template
)

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
	// Existing lists what there is of a resource type in the target, for nodes
	// that are selected. It is nil where the cloud is not asked; what would be
	// found is not known then.
	Existing func(typ string) []Found
	// Found answers look-ups as they were answered before, by node.
	Found map[string]Found
}

// Found is a resource that a look-up found in the cloud. Properties and
// Attributes are what it showed then.
type Found struct {
	Type, ID   string
	Properties map[string]tosca.Value
	Attributes map[string]tosca.Value
}

// Attributes answers for the attribute of a resource that is already built.
type Attributes func(resource, attribute string) (tosca.Value, bool)

// Resolve fills in the inputs of a template and expands it into resources.
// The result is usable as far as the findings allow.
func Resolve(f *tosca.File, o Options) (*Wanted, tosca.Findings) {
	var findings tosca.Findings
	w := &Wanted{File: f}
	r := &resolver{w: w, findings: &findings, options: o}
	w.resolver = r
	if f.Service == nil {
		return w, findings
	}
	n := len(f.Service.Nodes)
	w.byName, w.Resources, r.all = make(map[string]*Resource, n), make([]*Resource, 0, n), make([]*Resource, 0, n)
	w.root = &scope{file: f, service: f.Service, inputs: map[string]tosca.Value{}, instances: make(map[string][]*Resource, len(f.Service.Nodes))}
	r.fillInputs(f.Service, o)
	r.expand(w.root)
	for _, res := range r.all {
		if res.Found == nil && res.selected {
			r.look(res)
		}
	}
	for _, res := range r.all {
		r.link(res)
	}
	for _, res := range r.all {
		for _, p := range res.everyProperty() {
			r.value(p)
			if p.Expr != nil && p.Expr.Kind == tosca.LiteralExpr && tosca.HasSecret(p.Value) {
				findings.Warnf(p.Pos, "secret-in-clear", "make it an input of type Secret: { $get_input: … }", "%s: the secret '%s' stands in the template in clear", res.Name, p.Name)
			}
		}
	}
	r.applyPolicies(w.root)
	r.order()
	for _, out := range f.Service.Outputs {
		if out.Value != nil {
			w.Outputs = append(w.Outputs, Output{Name: out.Name, Description: out.Description, def: out, Value: r.output(w.root, out)})
		}
	}
	w.secrets = w.collectSecrets()
	findings = w.secrets.Findings(findings)
	findings.Sort()
	return w, findings
}

// Secrets are all secrets of the template and its inputs, as far as they are
// known. The set is only to be read; who adds to it takes a clone.
func (w *Wanted) Secrets() *tosca.Secrets { return w.secrets }

func (w *Wanted) collectSecrets() *tosca.Secrets {
	s := &tosca.Secrets{}
	for _, x := range w.secretExprs {
		x.Walk(func(x *tosca.Expr) {
			if x.Kind == tosca.LiteralExpr {
				s.Add(tosca.Hide(x.Value))
				s.AddText(x.Raw)
			}
		})
	}
	for _, in := range w.Inputs {
		s.Add(in.Value)
	}
	if w.resolver != nil {
		for _, res := range w.resolver.all {
			for _, p := range res.everyProperty() {
				if p.known {
					s.Add(p.Value)
				}
			}
		}
	}
	return s
}

// CheckAndResolve checks a template and resolves it, both at once. The findings
// are those of both, sorted.
func CheckAndResolve(f *tosca.File, o Options) (*Wanted, tosca.Findings) {
	checked := make(chan tosca.Findings, 1)
	go func() { checked <- tosca.Check(f) }()
	w, findings := Resolve(f, o)
	findings = append(<-checked, findings...)
	findings.Sort()
	return w, findings
}

// scope is one service template that is filled in: the template itself, or one
// that fills a node of another.
type scope struct {
	file      *tosca.File
	service   *tosca.ServiceTemplate
	outer     *Resource              // the node it fills; nil for the template itself
	prefix    string                 // of the names of its resources
	inputs    map[string]tosca.Value // of the template itself
	defaults  map[string]*Property   // inputs as properties, where it fills a node
	instances map[string][]*Resource // by node template
	inner     []*scope
	unsure    map[string]bool // nodes whose count could not be computed
}

// nodeAt is a node template in its scope.
type nodeAt struct {
	*tosca.NodeTemplate
	scope *scope
}

// resolver holds what the evaluation of one template shares.
type resolver struct {
	w        *Wanted
	options  Options
	findings *tosca.Findings
	all      []*Resource               // those that are filled or selected too; outer ones before inner ones
	attrs    Attributes                // nil until something is built
	memo     map[*Property]tosca.Value // what was evaluated apart from the resolving itself; nil in that
	trail    []*Property
	last     context // the one that lastEnv is for
	lastEnv  *tosca.Env
	room     []Resource
	props    []Property
	slots    []*Property
	places   []*Resource
	rels     []relation
	ends     *ends // what the next path comes to is put down here
}

func (r *resolver) fillInputs(s *tosca.ServiceTemplate, o Options) {
	given := map[string]Given{}
	known := make([]string, len(s.Inputs))
	for i, in := range s.Inputs {
		known[i] = in.Name
	}
	for _, g := range o.Given {
		in := s.Input(g.Name)
		switch {
		case in == nil:
			r.findings.Errorf(g.Origin.Pos, "unknown-input", tosca.Suggest(g.Name, known), "the template has no input '%s'", g.Name)
			continue
		case in.Fixed != nil:
			r.findings.Errorf(g.Origin.Pos, "fixed-property", "remove it", "the value of the input '%s' is fixed by the template", g.Name)
			continue
		}
		given[g.Name] = g
	}
	inputs := r.w.root.inputs
	for _, in := range s.Inputs {
		g, ok := given[in.Name]
		switch {
		case ok && in.Required && in.Type != nil && in.Type.Base != tosca.BaseNil && g.Value.Kind == tosca.LiteralExpr && tosca.Equal(g.Value.Value, tosca.Null{}):
			r.findings.Errorf(g.Origin.Pos, "missing-input", "fill it in", "the input '%s' (%s) has no value%s", in.Name, in.Type.Label(), describe(in))
			inputs[in.Name] = tosca.Unknown{Bad: true}
			continue
		case ok:
		case in.Fixed != nil:
			g = Given{Name: in.Name, Value: in.Fixed, Origin: Origin{Kind: OriginDefault, Pos: in.Fixed.Pos}}
		case in.Default != nil:
			g = Given{Name: in.Name, Value: in.Default, Origin: Origin{Kind: OriginDefault, Pos: in.Default.Pos}}
		case in.Required:
			inputs[in.Name] = tosca.Unknown{Bad: true}
			if !o.Lenient {
				r.findings.Errorf(in.Pos, "missing-input", fmt.Sprintf("add %s: to the inputs of the stack file, or give -i %s=…", in.Name, in.Name), "the input '%s' (%s) has no value%s", in.Name, in.Type.Label(), describe(in))
			}
			continue
		default:
			inputs[in.Name] = tosca.Null{}
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
			if g.Origin.Kind == OriginDefault { // the check has told it already
				*r.findings = (*r.findings)[:before]
			}
		}
		inputs[in.Name] = v
		if in.Type.HoldsSecret() && !tosca.IsKnown(v) { // it may not be said, though it is of no use
			r.w.secretExprs = append(r.w.secretExprs, x)
		}
		if g.Origin.Kind == OriginFlag {
			g.Origin.Via = in.Name
			if tosca.IsKnown(v) { // in the words of the value, which knows what is secret
				g.Origin.Via += "=" + tosca.Show(v)
			}
		}
		if tosca.HasSecret(v) && g.Origin.Via == "" && g.Origin.Kind != OriginDefault {
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

// context is where an expression stands: in a resource, in a relationship of
// one, or in neither.
type context struct {
	scope *scope
	self  *Resource
	rel   *relation
}

func (r *resolver) env(c context) *tosca.Env {
	if r.lastEnv != nil && r.last == c {
		return r.lastEnv
	}
	env := &tosca.Env{
		Input:    func(name string) (tosca.Value, bool) { return r.input(c.scope, name) },
		Node:     func(call *tosca.Expr, path []tosca.Value) tosca.Value { return r.node(c, call, path) },
		Index:    -1,
		Findings: r.findings,
	}
	if c.self != nil {
		env.Index = max(0, c.self.Index)
	}
	if c.rel != nil {
		env.Index, env.Relation = max(0, c.rel.source.Index), &c.rel.index
	}
	r.last, r.lastEnv = c, env
	return env
}

// input is the value of an input. Where the template fills a node it comes
// from the node's properties.
func (r *resolver) input(s *scope, name string) (tosca.Value, bool) {
	if s.outer == nil {
		v, ok := s.inputs[name]
		return v, ok
	}
	p := s.defaults[name]
	if p == nil {
		return nil, false
	}
	return r.value(p), true
}

// addInput makes a property of an input of a template that fills a node.
func (s *scope) addInput(in *tosca.Property) {
	p := &Property{Name: in.Name, Def: in, Pos: in.Pos, at: context{scope: s}}
	switch {
	case in.Fixed != nil:
		p.Expr = in.Fixed
	case s.mapped(in.Name) != nil:
		p.from = s.mapped(in.Name)
		p.Pos = p.from.Pos
	case in.Default != nil:
		p.Expr = in.Default
	}
	s.defaults[in.Name] = p
}

// mapped is the property of the outer node that an input gets its value from;
// nil where there is none.
func (s *scope) mapped(input string) *Property {
	for _, m := range s.service.Substitution.Properties {
		if m.To == input {
			return s.outer.Property(m.Name)
		}
	}
	return nil
}

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
			r.findings.Errorf(n.Pos, "bad-count", "split it into several stacks", "%s: with it the template makes more than %d resources", n.Name, MaxResources)
			count = 0
		}
		list := r.placesFor(count)
		for i := range count {
			res := r.resource()
			*res = Resource{Name: s.prefix + n.Name, Node: s.prefix + n.Name, Index: -1, Type: n.Def.Base(), Own: n.Def, Pos: n.Pos, template: n, scope: s, selected: n.Has("select")}
			if indexed {
				res.Name, res.Index = res.Name+"#"+strconv.Itoa(i), i
			}
			r.fill(res, n)
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
				if twin := r.w.byName[res.Name]; twin != nil {
					r.findings.Errorf(n.Pos, "duplicate-resource", "rename one of them", "two nodes make a resource %s; the other one is in %s", res.Name, twin.Pos.Short())
					continue
				}
				r.w.Resources = append(r.w.Resources, res)
				r.w.byName[res.Name] = res
			}
		}
		s.instances[n.Name] = list
	}
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
		r.findings.Errorf(call.Pos, "unknown-count", "compute the count from inputs", "%s: the count depends on another node, and must be known before there are any", n.Name)
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
			r.findings.Errorf(n.Count.Pos, "bad-count", fmt.Sprintf("use 0 to %d", MaxCount), "%s: the count %d is not possible", n.Name, v)
			return 0
		}
		return int(v)
	case tosca.Unknown:
		if !v.Bad {
			r.findings.Errorf(n.Count.Pos, "unknown-count", "compute the count from inputs", "%s: the count is only known when something is built", n.Name)
		}
		return 1
	default:
		r.findings.Errorf(n.Count.Pos, "wrong-type", "", "%s: the count must be an integer, not %s", n.Name, tosca.KindName(v))
	}
	return 0
}

// substitute fills a node with the template that says it can.
func (r *resolver) substitute(res *Resource, n *tosca.NodeTemplate) {
	var fits []*tosca.File
	for _, f := range res.scope.file.Substitutes(n.Def) {
		if filter := f.Service.Substitution.Filter; filter != nil && !r.holds(context{scope: res.scope, self: res}, filter) {
			continue
		}
		fits = append(fits, f)
	}
	switch {
	case len(fits) == 0:
		if len(res.scope.file.Substitutes(n.Def)) > 0 {
			r.findings.Errorf(n.TypePos, "no-substitute", "look at their substitution_filter", "%s: none of the templates that fill a %s suits it", res.Name, n.Type)
		}
		return
	case len(fits) > 1:
		r.findings.Errorf(n.TypePos, "ambiguous-substitute", "give them a substitution_filter, or import one of them", "%s: %d templates fill a %s: %s", res.Name, len(fits), n.Type, fits[0].Name+", "+fits[1].Name)
		return
	}
	f := fits[0]
	res.filled = &scope{file: f, service: f.Service, outer: res, prefix: res.Name + "/", defaults: map[string]*Property{}, instances: map[string][]*Resource{}}
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
		if p := r.assign(res, a, n.Attributes, at); p != nil {
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
	if i < 0 && d.Fixed == nil && d.Default == nil && d.Metadata == nil && (d.Name != "tags" || len(r.options.Tags) == 0) {
		return nil
	}
	p := r.propertyRoom()
	*p = Property{Name: d.Name, Def: d, Pos: res.Pos, at: at}
	tags := d.Name == "tags" && len(r.options.Tags) > 0
	switch {
	case d.Fixed != nil:
		p.Expr, p.Pos = d.Fixed, d.Fixed.Pos
		if i >= 0 {
			r.findings.Errorf(given[i].Pos, "fixed-property", "remove it", "the property '%s' of %s is fixed", d.Name, res.Own.Name)
		}
	case i >= 0:
		p.Expr, p.Pos = given[i].Value, given[i].Value.Pos
	case d.Metadata["from_artifact"] != "" && res.template.Artifact(d.Name) != nil:
		a := res.template.Artifact(d.Name)
		v := a.Text(d.Metadata["from_artifact"])
		p.Expr, p.Pos = &tosca.Expr{Pos: a.Pos, Value: v, Raw: tosca.Show(v)}, a.Pos
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

// value evaluates a property once; a property that needs itself is reported.
func (r *resolver) value(p *Property) tosca.Value {
	if r.memo == nil {
		if p.known {
			return p.Value
		}
	} else if v, ok := r.memo[p]; ok {
		return v
	}
	if p.Expr != nil && p.Expr.Kind == tosca.LiteralExpr && p.Def.Type != nil && p.Def.Validation == nil {
		if v, ok := p.Def.Type.Seen(p.Expr.Value); ok {
			return r.keep(p, v)
		}
	}
	if p.Expr == p.Def.Default && p.Expr != nil {
		if v, ok := p.Def.Constant(); ok {
			return r.keep(p, v)
		}
	}
	if i := slices.Index(r.trail, p); i >= 0 {
		var names []string
		for _, q := range append(slices.Clone(r.trail[i:]), p) {
			names = append(names, q.Whose())
		}
		r.findings.Errorf(p.Pos, "value-cycle", "break the circle", "%s: the value needs itself: %s", p.owner(), strings.Join(names, " → "))
		return tosca.Unknown{Bad: true}
	}
	r.trail = append(r.trail, p)
	what := p.owner() + ", " + p.Name
	var v tosca.Value
	switch {
	case p.from != nil:
		v = r.value(p.from)
		if p.Def.Type != nil && tosca.IsKnown(v) {
			v = p.Def.Type.Fit(v, p.from.Pos, what, r.findings)
		}
	case p.Expr == nil && p.Def.Required: // the outer node lacks a property, which was reported
		v = tosca.Unknown{Bad: true}
	case p.Expr == nil:
		v = tosca.Null{}
	case p.Def.Type == nil:
		v = tosca.Unknown{Bad: true}
	default:
		v = r.env(p.at).EvalAs(p.Expr, p.Def.Type, what)
	}
	if !tosca.Validate(p.Def.Validation, v, p.Def.Type, p.Pos, what, r.findings) {
		v = tosca.Unknown{Bad: true}
	}
	r.trail = r.trail[:len(r.trail)-1]
	return r.keep(p, v)
}

func (r *resolver) keep(p *Property, v tosca.Value) tosca.Value {
	if r.memo == nil {
		p.Value, p.known = v, true
	} else {
		r.memo[p] = v
	}
	return v
}

// applyPolicies marks the resources that policies keep or guard.
func (r *resolver) applyPolicies(s *scope) {
	for _, p := range s.service.Policies {
		if p.Def == nil {
			continue
		}
		root := p.Def.Root()
		for _, t := range p.Targets {
			r.mark(s, t.Name, root)
		}
	}
	for _, in := range s.inner {
		r.applyPolicies(in)
	}
}

// mark applies a policy to a node, to the members of a group, or to all that
// fills a node.
func (r *resolver) mark(s *scope, name, policy string) {
	if g := s.service.Group(name); g != nil && s.instances[name] == nil {
		for _, m := range g.Members {
			r.mark(s, m.Name, policy)
		}
		return
	}
	for _, res := range s.instances[name] {
		res.Keep = res.Keep || policy == "Keep"
		res.Guard = res.Guard || policy == "Guard"
		if res.filled != nil {
			for inner := range res.filled.instances {
				r.mark(res.filled, inner, policy)
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
		for _, l := range res.localLinks {
			needs = append(needs, l.Targets...)
		}
		for _, p := range res.Properties {
			for _, a := range tosca.Awaits(p.Value) {
				needs = append(needs, a.Resource)
			}
		}
		slices.Sort(needs)
		needs = slices.Compact(needs)
		if len(r.w.Selected) > 0 { // what is selected is there already
			needs = slices.DeleteFunc(needs, func(n string) bool { return r.w.byName[n] == nil })
		}
		res.Needs = needs
	}
	r.grantsFirst()
	if r.sorted() {
		return
	}
	_, cycles := r.w.Graph().Order()
	for _, c := range cycles {
		res := r.w.byName[c[0]]
		if i := slices.IndexFunc(c, func(n string) bool { return r.w.byName[n].scope.outer == nil }); i >= 0 {
			res = r.w.byName[c[i]] // where the template itself has a part in it
		}
		r.findings.Errorf(res.Pos, "cycle", "remove one of these references", "resources need each other in a circle: %s", strings.Join(c, " → "))
	}
}

// grantsFirst lets what acts as a role, and says what it does, rest on the
// grants of that role, as it could not become well before them. A grant on the
// resource itself, or on what needs it, comes after it all the same.
func (r *resolver) grantsFirst() {
	grants := map[string][]*Resource{}
	for _, res := range r.w.Resources {
		if res.Type.Name == "Grant" {
			for _, role := range res.Targets("role") {
				grants[role] = append(grants[role], res)
			}
		}
	}
	if len(grants) == 0 {
		return
	}
	for _, res := range r.w.Resources {
		p := res.Property("needs")
		if p == nil || Same(p.Value, tosca.Null{}) || Same(p.Value, tosca.List{}) {
			continue
		}
		for _, role := range res.Targets("role") {
			for _, g := range grants[role] {
				if !r.rests(g, res, map[string]bool{}) {
					res.Needs = append(res.Needs, g.Name)
				}
			}
		}
		slices.Sort(res.Needs)
		res.Needs = slices.Compact(res.Needs)
	}
}

// rests reports whether a resource needs another one, directly or by way of
// others, or is that one.
func (r *resolver) rests(res, on *Resource, seen map[string]bool) bool {
	if res == on {
		return true
	}
	seen[res.Name] = true
	for _, n := range res.Needs {
		if m := r.w.byName[n]; m != nil && !seen[n] && r.rests(m, on, seen) {
			return true
		}
	}
	return false
}

// sorted puts each resource after what it needs, otherwise in the order of
// names, as Graph.Order does; it is false where they need each other in a
// circle.
func (r *resolver) sorted() bool {
	list := slices.Clone(r.w.Resources)
	slices.SortFunc(list, func(a, b *Resource) int { return CompareNames(a.Name, b.Name) })
	out := r.w.Resources[:0:len(r.w.Resources)]
	var visit func(res *Resource) bool
	visit = func(res *Resource) bool {
		switch res.visit {
		case 2:
			return true
		case 1:
			return false
		}
		res.visit = 1
		for _, n := range res.Needs {
			if m := r.w.byName[n]; m != nil && !visit(m) {
				return false
			}
		}
		res.visit = 2
		out = append(out, res)
		return true
	}
	for _, res := range list {
		if !visit(res) {
			copy(r.w.Resources, list)
			return false
		}
	}
	return true
}

// apart is a resolver that evaluates with the attributes of what is built, and
// leaves what was resolved as it is.
func (r *resolver) apart(attrs Attributes, findings *tosca.Findings) *resolver {
	q := *r
	q.attrs, q.memo, q.trail, q.findings, q.lastEnv = attrs, map[*Property]tosca.Value{}, nil, findings, nil
	return &q
}

// Late evaluates the properties of a resource with the attributes of what is
// built. Properties that still wait stay unknown.
func (w *Wanted) Late(res *Resource, attrs Attributes) (map[string]tosca.Value, tosca.Findings) {
	var findings tosca.Findings
	out := make(map[string]tosca.Value, len(res.Properties))
	var r *resolver
	for _, p := range res.Properties {
		if !tosca.Waits(p.Value) {
			out[p.Name] = p.Value
			continue
		}
		if r == nil {
			r = w.resolver.apart(attrs, &findings)
		}
		out[p.Name] = r.value(p)
	}
	return out, findings
}

// Results evaluates the outputs with the attributes of what is built.
func (w *Wanted) Results(attrs Attributes) (map[string]tosca.Value, tosca.Findings) {
	var findings tosca.Findings
	r := w.resolver.apart(attrs, &findings)
	out := make(map[string]tosca.Value, len(w.Outputs))
	for _, o := range w.Outputs {
		out[o.Name] = r.output(w.root, o.def)
	}
	return out, findings
}

func (r *resolver) output(s *scope, o *tosca.Output) tosca.Value {
	v := r.env(context{scope: s}).EvalAs(o.Value, o.Type, "output "+o.Name)
	tosca.Validate(o.Validation, v, o.Type, o.Pos, "output "+o.Name, r.findings)
	return v
}
