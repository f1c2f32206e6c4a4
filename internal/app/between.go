package app

import (
	"context"
	"strconv"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// WhatIfFrom compares a draft with something else than what is deployed: with
// a revision of its stack, or with another stack file. With to it is that
// revision of the stack that is compared, and not the draft. The cloud is not
// asked, and the result cannot be deployed.
func (a *App) WhatIfFrom(ctx context.Context, d *Draft, from, to string) (*Preview, error) {
	if d.Stack == nil {
		return nil, refusal("%s is a template alone; a what-if needs a stack file, which says where it goes", d.Path)
	}
	p := &Preview{Draft: d, Kind: KindCompare}
	if d.Findings.HasErrors() && to == "" {
		p.ChangeSet = &whatif.ChangeSet{Stack: d.Stack.Stack, Target: d.Stack.Target, Findings: d.Findings}
		return p, nil
	}
	wanted, against := d.Wanted, from
	var base *stack.Wanted
	var err error
	if to != "" {
		if wanted, err = a.revisionOf(ctx, d, to); err != nil {
			return nil, err
		}
	}
	if isNumber(from) {
		against = "revision " + from
		base, err = a.revisionOf(ctx, d, from)
	} else {
		var other *Draft
		if other, err = a.Load(ctx, from, Values{}); err == nil && other.Findings.HasErrors() {
			err = &Refusal{Findings: other.Findings}
		}
		if err == nil {
			base = other.Wanted
		}
	}
	if err != nil {
		return nil, err
	}
	if to != "" {
		against += " (this is revision " + to + ")"
	}
	p.ChangeSet = a.between(base, wanted, whatif.State{Stack: d.Stack.Stack, Target: d.Stack.Target, TagsPos: d.Stack.TagsPos})
	p.ChangeSet.Against = against
	if to == "" {
		p.Findings = append(append(tosca.Findings{}, d.Findings...), p.Findings...)
	}
	return p, nil
}

// between holds what was wanted against what is wanted instead, as if the former had been
// built. About says whose it is. Was may be nil, which is nothing.
func (a *App) between(was, is *stack.Wanted, about whatif.State) *whatif.ChangeSet {
	about.Wanted = is
	if was != nil {
		about.Results, _ = was.Results(asIfAttributes(was))
		about.Recorded, about.Base = asIfBuilt(was), was
		about.BaseRevision, about.BaseInputs, about.BaseFound = 1, was.Inputs, was.Lookups()
	}
	about.Comparing, about.Knowledge = true, a.Profile
	cs := whatif.Compare(about)
	cs.BaseRevision = 0
	return cs
}

func isNumber(text string) bool {
	_, err := strconv.Atoi(text)
	return err == nil
}

// revisionOf resolves a revision of the stack that a draft is of, by its
// number.
func (a *App) revisionOf(ctx context.Context, d *Draft, text string) (*stack.Wanted, error) {
	number, err := strconv.Atoi(text)
	if err != nil {
		return nil, refusal("'%s' is not the number of a revision", text)
	}
	st, err := a.store.At(ctx, d.Stack.Stack, d.Stack.Target)
	if err != nil {
		return nil, refusal("%s was never deployed to %s: it has no revision %d", d.Stack.Stack, d.Stack.Target, number)
	}
	rev, err := a.store.Revision(ctx, st.ID, number)
	if err != nil {
		return nil, refusal("%s has no revision %d", st.Name, number)
	}
	wanted, _ := a.resolveRevision(rev)
	return wanted, nil
}

// asIfBuilt is what would be recorded of a template if it had been deployed.
// What only the cloud can know is a name for itself, so that it is the same on
// both sides.
func asIfBuilt(w *stack.Wanted) []*stack.Recorded {
	attrs := asIfAttributes(w)
	var out []*stack.Recorded
	for _, res := range w.Resources {
		props, _ := w.Late(res, attrs)
		r := &stack.Recorded{Name: res.Name, Type: res.Type.Name, ID: "as if " + res.Name, Properties: props,
			Links: map[string][]stack.LinkTo{}, Attributes: map[string]tosca.Value{},
			Fingerprints: map[string]tosca.Value{}, Needs: res.Needs, Pos: res.Pos, Policies: res.Policies}
		for _, d := range res.Type.Attributes {
			r.Attributes[d.Name], _ = attrs(res.Name, d.Name)
		}
		for _, l := range res.Links {
			for _, n := range l.Targets {
				r.Links[l.Requirement] = append(r.Links[l.Requirement], stack.LinkTo{Name: n, ID: idAsIf(w, n)})
			}
		}
		out = append(out, r)
	}
	return out
}

// asIfAttributes answers for the attributes of what would be built.
func asIfAttributes(w *stack.Wanted) stack.Attributes {
	attribute := func(res *stack.Resource, d *tosca.Property) tosca.Value {
		name := tosca.String(d.Name + " of " + res.Name)
		switch {
		case d.Type == nil:
			return name
		case d.Type.Base == tosca.BaseInteger:
			return tosca.Int(0)
		case d.Type.Base == tosca.BaseList:
			return tosca.List{name}
		}
		return d.Type.Read(name)
	}
	return func(resource, name string) (tosca.Value, bool) {
		res := w.Resource(resource)
		if res == nil {
			return nil, false
		}
		d := res.Type.Attribute(name)
		if d == nil {
			return nil, false
		}
		return attribute(res, d), true
	}
}

func idAsIf(w *stack.Wanted, name string) string {
	if f := w.Existing(name); f != nil {
		return f.ID
	}
	return "as if " + name
}
