package stack

import (
	"regexp"
	"time"

	"brickrow/internal/tosca"
)

// Probe is a question that has to be answered well after a deployment, before it counts:
// the policy Probe of a template.
type Probe struct {
	Name    string
	Pos     tosca.Pos
	Targets []string // the resources that it is about
	// Question is what is asked, as far as it is known before anything is built.
	Question Question
	policy   *tosca.Policy
	scope    *scope
}

// Question is what a probe asks.
type Question struct {
	Kind   string      // http or tcp
	URL    tosca.Value // text; it may be unknown, or secret
	Expect int         // the status that is wanted
	Body   string      // a regular expression that the answer has to match; "" is any
	Within time.Duration
	Every  time.Duration
}

// probes finds the probes of a template, and of what fills its nodes.
func (r *resolver) probes(s *scope) {
	for _, p := range s.service.Policies {
		if p.Def == nil || p.Def.Root() != "Probe" {
			continue
		}
		out := &Probe{Name: s.prefix + p.Name, Pos: p.Pos, policy: p, scope: s}
		for _, t := range p.Targets {
			out.Targets = append(out.Targets, r.targeted(s, t.Name)...)
		}
		out.Question = r.question(out)
		if _, err := regexp.Compile(out.Question.Body); err != nil {
			r.findings.Errorf(p.Pos, "bad-pattern", "write one such as ^ok", "the body that the probe '%s' wants cannot be read: %v", p.Name, err)
		}
		if out.Question.Every <= 0 || out.Question.Within < 0 {
			r.findings.Errorf(p.Pos, "invalid-value", "write within: 2 m and every: 5 s, or the like",
				"the probe '%s' has to be asked again after a while, and for a while", p.Name)
		}
		r.w.Probes = append(r.w.Probes, out)
	}
	for _, in := range s.inner {
		r.probes(in)
	}
}

// targeted are the resources that a policy names: those of a node, or of the members of a
// group.
func (r *resolver) targeted(s *scope, name string) []string {
	var out []string
	if g := s.service.Group(name); g != nil && s.instances[name] == nil {
		for _, m := range g.Members {
			out = append(out, r.targeted(s, m.Name)...)
		}
		return out
	}
	for _, res := range s.instances[name] {
		if res.filled != nil {
			for inner := range res.filled.instances {
				out = append(out, r.targeted(res.filled, inner)...)
			}
			continue
		}
		out = append(out, res.Name)
	}
	return out
}

// Probe finds a probe by its name; nil where there is none.
func (w *Wanted) Probe(name string) *Probe {
	for _, p := range w.Probes {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Ask is what a probe asks with the attributes of what is built.
func (w *Wanted) Ask(p *Probe, attrs Attributes) (Question, tosca.Findings) {
	var findings tosca.Findings
	q := w.resolver.apart(attrs, &findings).question(p)
	return q, findings
}

// policyValues are the values of the properties of a policy.
func (r *resolver) policyValues(s *scope, p *tosca.Policy) map[string]tosca.Value {
	values := map[string]tosca.Value{}
	for _, d := range p.Def.Properties {
		x := d.Default
		for _, a := range p.Properties {
			if a.Name == d.Name {
				x = a.Value
			}
		}
		if x == nil {
			continue
		}
		what := d.Name + " of the policy " + p.Name
		v := r.env(context{scope: s}).EvalAs(x, d.Type, what)
		tosca.Validate(d.Validation, v, d.Type, x.Pos, what, r.findings)
		values[d.Name] = v
	}
	return values
}

func (r *resolver) question(p *Probe) Question {
	values := r.policyValues(p.scope, p.policy)
	q := Question{Kind: textOf(values["kind"]), URL: values["url"], Body: textOf(values["body"]), Within: lengthOf(values["within"]),
		Every: lengthOf(values["every"])}
	if n, ok := values["expect"].(tosca.Int); ok {
		q.Expect = int(n)
	}
	return q
}

func textOf(v tosca.Value) string {
	s, _ := v.(tosca.String)
	return string(s)
}

// lengthOf is a Duration.
func lengthOf(v tosca.Value) time.Duration {
	s, _ := v.(tosca.Scalar)
	return time.Duration(s.Amount * float64(time.Second))
}
