package whatif

import (
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// ResultChange is what becomes of a result of the stack.
type ResultChange struct {
	Name          string
	Kind          Kind        // new, edit or drop
	Before, After tosca.Value // nil where there is none
	Unknown       bool        // After is not known until it is built
	Causes        []Cause
	UsedBy        []string // other stacks that get it
	Pos           tosca.Pos
}

// Hit is a stack that uses results that would change, and what it would do then.
type Hit struct {
	Stack   string      `json:"stack"`
	Target  string      `json:"target"`
	Results []string    `json:"results"` // that it uses
	Changes []HitChange `json:"changes"`
	Unknown bool        `json:"unknown"`           // what they will be is not known before that is built
	Problem string      `json:"problem,omitempty"` // why it could not be deployed then
}

// HitChange is what a stack would do to one of its resources.
type HitChange struct {
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
}

// Words say what the stack would do.
func (h Hit) Words() string {
	who := h.Stack + " in " + h.Target + " reads " + strings.Join(h.Results, ", ")
	switch {
	case h.Problem != "":
		return who + ": " + h.Problem
	case len(h.Changes) == 0 && h.Unknown:
		return who + ": what it would do is known when that is built"
	case len(h.Changes) == 0:
		return who + ": it would change nothing"
	}
	var list []string
	for _, c := range h.Changes {
		list = append(list, string(c.Kind)+" "+c.Name)
	}
	if n := len(list); n > 6 {
		list = append(list[:5:5], fmt.Sprintf("%d more", n-5))
	}
	words := who + ": deployed then, it would " + strings.Join(list, ", ")
	if h.Unknown {
		words += ", with what is known when that is built"
	}
	return words
}

// Because are the causes in words.
func (r ResultChange) Because() []string {
	out := make([]string, len(r.Causes))
	for i, c := range r.Causes {
		out[i] = c.Text
	}
	return out
}

// Values is what the result is and will be, for people.
func (r ResultChange) Values() string {
	after := tosca.Show(r.After)
	switch {
	case r.Kind == Drop:
		return tosca.Show(r.Before)
	case r.Unknown:
		after = "set by the cloud"
	case r.Before != nil && tosca.HasSecret(r.After):
		after = "(secret, changed)"
	}
	if r.Kind == New {
		return after
	}
	return tosca.Show(r.Before) + " → " + after
}

// results compares the results that the stack will have with those that it has.
func (c *Comparison) results() {
	values, _ := c.Wanted.Results(c.attributes) // what cannot be computed is told when it is known
	seen := map[string]bool{}
	for _, o := range c.Wanted.Outputs {
		seen[o.Name] = true
		was, had := c.Results[o.Name]
		if c.awaitsLeftOut(values[o.Name]) {
			continue
		}
		r := ResultChange{Name: o.Name, Kind: Edit, Before: was, After: values[o.Name],
			Unknown: tosca.Waits(values[o.Name]), Pos: o.Pos()}
		switch {
		case !had:
			r.Kind = New
		case stack.Same(was, r.After), !r.Unknown && !tosca.IsKnown(r.After):
			continue
		}
		r.Causes = c.resultCauses(o, r)
		c.addResult(r)
	}
	for _, name := range tosca.Map(c.Results).Keys() {
		if seen[name] {
			continue
		}
		r := ResultChange{Name: name, Kind: Drop, Before: c.Results[name],
			Causes: []Cause{{Kind: Deletion, Text: "the stack is deleted"}}}
		if !c.Deleting {
			r.Causes = []Cause{{Kind: Template, Text: "it is no longer in the template"}}
			if was := c.baseOutput(name); was != nil {
				r.Pos = was.Pos()
				r.Causes = []Cause{{Kind: Template,
					Text: fmt.Sprintf("it is no longer in the template (it stood at %s)", r.Pos.Short()), Pos: r.Pos}}
			}
		}
		c.addResult(r)
	}
}

// addResult adds a change, and refuses it where another stack could not do
// without the result, or not with it as it would be.
func (c *Comparison) addResult(r ResultChange) {
	if c.ResultUsers != nil && r.Kind != New {
		r.UsedBy = c.ResultUsers(r.Name)
	}
	c.Set.Results = append(c.Set.Results, r)
	if c.BaseRevision > 0 && !c.Deleting {
		c.Set.Tally.Results++
	}
	if len(r.UsedBy) == 0 {
		return
	}
	at := r.Pos
	if at.File == "" {
		at = tosca.Pos{File: c.Stack}
	}
	users := strings.Join(r.UsedBy, ", ")
	switch {
	case r.Kind == Drop:
		c.Set.Findings.Errorf(at, "result-in-use", "let them do without it first, and deploy them",
			"the result '%s' cannot go: it is used by %s", r.Name, users)
	case !r.Unknown && kindOf(r.Before) != kindOf(r.After):
		c.Set.Findings.Errorf(at, "result-in-use", "give the new one a name of its own, and let them use that first",
			"the result '%s' cannot become %s, it is %s and used by %s", r.Name, kindOf(r.After), kindOf(r.Before),
			users)
	}
}

// kindOf is the kind of a value, in words; what was text when it was stored may
// be a version or have a unit.
func kindOf(v tosca.Value) string {
	bare, _ := tosca.Bare(v)
	switch bare.(type) {
	case tosca.Scalar, tosca.Version:
		return tosca.KindName(tosca.String(""))
	case tosca.Float:
		return tosca.KindName(tosca.Int(0))
	}
	return tosca.KindName(bare)
}

func (c *Comparison) baseOutput(name string) *stack.Output {
	if c.Base == nil {
		return nil
	}
	i := slices.IndexFunc(c.Base.Outputs, func(o stack.Output) bool { return o.Name == name })
	if i < 0 {
		return nil
	}
	return &c.Base.Outputs[i]
}

// resultCauses finds out why a result changes.
func (c *Comparison) resultCauses(o stack.Output, r ResultChange) []Cause {
	if r.Kind == New {
		return []Cause{{Kind: Template, Text: "it is in the template and not there yet: " + o.Pos().Short(),
			Pos: o.Pos()}}
	}
	out := c.changedSources(c.Wanted.OutputSources(o))
	for _, a := range append(tosca.Awaits(o.Value), tosca.Awaits(r.After)...) {
		up := c.Change(a.Resource)
		if up == nil || up.Kind == Same {
			continue
		}
		k := Cause{Kind: Upstream, Text: fmt.Sprintf("%s of %s %s changes", a.Name, mark(up.Kind), a.Resource),
			Resource: a.Resource, Pos: up.Pos}
		if !slices.ContainsFunc(out, func(have Cause) bool { return have.Text == k.Text }) {
			out = append(out, k)
		}
	}
	if was := c.baseOutput(r.Name); was != nil && was.Text() != o.Text() {
		text := fmt.Sprintf("the template says %s, said %s (%s)", o.Text(), was.Text(), o.Pos().Short())
		if tosca.HasSecret(r.Before) || tosca.HasSecret(r.After) {
			text = fmt.Sprintf("the template says something else for it (%s)", o.Pos().Short())
		}
		out = append(out, Cause{Kind: Template, Text: text, Pos: o.Pos()})
	}
	if len(out) == 0 {
		out = append(out, Cause{Kind: Template, Text: "what it is made of has changed (" + o.Pos().Short() + ")",
			Pos: o.Pos()})
	}
	return out
}
