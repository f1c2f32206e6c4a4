package stack

import (
	"brickrow/internal/tosca"
)

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
