package stack

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

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
	// Orders may be nil.
	Orders Orders
	// Fill is what inputs with filled_by get where nobody gives them a value: account,
	// region, stack, user, commit. One that is missing is not known.
	Fill map[string]string
}

// Orders knows resource types by their names, and what comes before what though
// neither names the other.
type Orders interface {
	// After lists by resource what it should come after.
	After(all []*Resource) map[*Resource][]*Resource
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
	r := &resolver{w: w, findings: &findings, options: o, bounds: tosca.NewBounds()}
	w.resolver = r
	if f.Service == nil {
		return w, findings
	}
	n := len(f.Service.Nodes)
	w.byName, w.Resources, r.all = make(map[string]*Resource, n), make([]*Resource, 0, n), make([]*Resource, 0, n)
	w.root = &scope{file: f, service: f.Service, inputs: map[string]tosca.Value{},
		instances: make(map[string][]*Resource, len(f.Service.Nodes))}
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
		r.evaluate(res)
	}
	r.applyPolicies(w.root)
	r.order()
	r.probes(w.root)
	for _, out := range f.Service.Outputs {
		if out.Value != nil {
			w.Outputs = append(w.Outputs,
				Output{Name: out.Name, Description: out.Description, def: out, Value: r.output(w.root, out)})
		}
	}
	r.bounds, r.lastEnv = nil, nil // what is asked later is asked by several at once
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
	bounds   *tosca.Bounds // nil apart from the resolving itself
	ends     *ends         // what the next path comes to is put down here
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
			r.findings.Errorf(g.Origin.Pos, "unknown-input", tosca.Suggest(g.Name, known),
				"the template has no input '%s'", g.Name)
			continue
		case in.Fixed != nil:
			r.findings.Errorf(g.Origin.Pos, "fixed-property", "remove it",
				"the value of the input '%s' is fixed by the template", g.Name)
			continue
		}
		given[g.Name] = g
	}
	inputs := r.w.root.inputs
	for _, in := range s.Inputs {
		g, ok := given[in.Name]
		switch {
		case ok && in.Required && in.Type != nil && in.Type.Base != tosca.BaseNil &&
			g.Value.Kind == tosca.LiteralExpr && tosca.Equal(g.Value.Value, tosca.Null{}):
			r.findings.Errorf(g.Origin.Pos, "missing-input", "fill it in", "the input '%s' (%s) has no value%s",
				in.Name, in.Type.Label(), describe(in))
			inputs[in.Name] = tosca.Unknown{Bad: true}
			continue
		case ok:
		case in.Fixed == nil && o.Fill[in.Metadata[tosca.FilledBy]] != "":
			by := in.Metadata[tosca.FilledBy]
			g = Given{Name: in.Name, Value: &tosca.Expr{Pos: in.Pos, Value: tosca.String(o.Fill[by]), Raw: o.Fill[by]},
				Origin: Origin{Kind: OriginFilled, Pos: in.Pos, Via: by}}
		case in.Fixed != nil:
			g = Given{Name: in.Name, Value: in.Fixed, Origin: Origin{Kind: OriginDefault, Pos: in.Fixed.Pos}}
		case in.Default != nil:
			g = Given{Name: in.Name, Value: in.Default, Origin: Origin{Kind: OriginDefault, Pos: in.Default.Pos}}
		case in.Required:
			inputs[in.Name] = tosca.Unknown{Bad: true}
			if !o.Lenient {
				fix := fmt.Sprintf("add %s: to the inputs of the stack file, or give -i %s=…", in.Name, in.Name)
				if by := in.Metadata[tosca.FilledBy]; by != "" {
					fix = fmt.Sprintf("the %s is not known here: %s", by, fix)
				}
				r.findings.Errorf(in.Pos, "missing-input", fix,
					"the input '%s' (%s) has no value%s", in.Name, in.Type.Label(), describe(in))
			}
			continue
		default:
			inputs[in.Name] = tosca.Null{}
			continue
		}
		told := r.findings
		if g.Origin.Kind == OriginDefault { // the check of the template tells it
			told = new(tosca.Findings)
		}
		env := &tosca.Env{Index: -1, Findings: told}
		x := g.Value
		v := tosca.Value(tosca.Unknown{Bad: true})
		if in.Type != nil {
			v = env.EvalAs(x, in.Type, "input "+in.Name)
			before := len(*told)
			if !tosca.Validate(in.Validation, v, in.Type, g.Origin.Pos, "input "+in.Name, told) {
				v = tosca.Unknown{Bad: true}
			}
			told.Explain(before, in.Metadata[tosca.Message])
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
			r.findings.Warnf(g.Origin.Pos, "secret-in-clear", "write { from_env: … } or { from_file: … }",
				"the secret '%s' stands in a file in clear", in.Name)
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
		Bounds:   r.bounds,
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
			names = append(names, q.Owner())
		}
		r.findings.Errorf(p.Pos, "value-cycle", "break the circle", "%s: the value needs itself: %s", p.owner(),
			strings.Join(names, " → "))
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
	before := len(*r.findings)
	if !tosca.Validate(p.Def.Validation, v, p.Def.Type, p.Pos, what, r.findings) {
		v = tosca.Unknown{Bad: true}
	}
	r.findings.Explain(before, p.Def.Metadata[tosca.Message])
	r.trail = r.trail[:len(r.trail)-1]
	return r.keep(p, v)
}

func (r *resolver) keep(p *Property, v tosca.Value) tosca.Value {
	if r.memo == nil {
		v = r.bounds.Keep(v, p.Pos, r.findings)
		p.Value, p.known = v, true
	} else {
		r.memo[p] = v
	}
	return v
}

// applyPolicies marks the resources that policies keep, guard, drain or back up.
func (r *resolver) applyPolicies(s *scope) {
	for _, p := range s.service.Policies {
		if p.Def == nil {
			continue
		}
		is := Policies{Keep: p.Def.Root() == "Keep", Guard: p.Def.Root() == "Guard"}
		if p.Def.Root() == "Drain" {
			is.Drain = max(time.Millisecond, lengthOf(r.policyValues(s, p)["wait"]))
		}
		if p.Def.Root() == "Backup" {
			values := r.policyValues(s, p)
			is.Backup, is.Restore = 1, tosca.Equal(values["restore"], tosca.Bool(true))
			if n, ok := values["keep"].(tosca.Int); ok {
				is.Backup = max(1, int(n))
			}
		}
		for _, t := range p.Targets {
			data, without := r.mark(s, t.Name, is)
			if without != nil && is.Backup > 0 {
				r.findings.Errorf(t.Pos, "no-backups", "take it out of the policy; the policy Keep keeps it, and its server has means of its own",
					"no backup can be taken of %s, a %s", without.Name, without.Type.Name)
			}
			if data || without != nil || is.Backup == 0 {
				continue
			}
			r.findings.Errorf(t.Pos, "wrong-target", "take it out of the policy",
				"%s holds nothing that the policy %s could back up", t.Name, p.Name)
		}
	}
	for _, in := range s.inner {
		r.applyPolicies(in)
	}
}

// mark applies a policy to a node, to the members of a group, or to all that
// fills a node, and reports whether any of it holds data, or there is none of it now, and one that
// holds data of which no backup can be taken.
func (r *resolver) mark(s *scope, name string, policy Policies) (data bool, without *Resource) {
	inner := func(s *scope, name string) {
		more, one := r.mark(s, name, policy)
		data, without = data || more, cmp.Or(without, one)
	}
	if g := s.service.Group(name); g != nil && s.instances[name] == nil {
		for _, m := range g.Members {
			inner(s, m.Name)
		}
		return data, without
	}
	for _, res := range s.instances[name] {
		switch {
		case res.filled != nil || !HoldsData(res.Type):
		case !HasBackups(res.Type):
			without = res
		default:
			data = true
			res.Backup, res.Restore = max(res.Backup, policy.Backup), res.Restore || policy.Restore
		}
		res.Keep, res.Guard = res.Keep || policy.Keep, res.Guard || policy.Guard
		res.Drain = max(res.Drain, policy.Drain)
		if res.filled != nil {
			for _, name := range slices.Sorted(maps.Keys(res.filled.instances)) {
				inner(res.filled, name)
			}
		}
	}
	return data || len(s.instances[name]) == 0, without
}
