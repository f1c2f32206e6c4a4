package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// hits says what the stacks that use results of a preview would do, were they deployed after
// it: what their files would change then and do not now. The cloud is not asked for it.
func (a *App) hits(ctx context.Context, p *Preview) error {
	if p.Stack == nil || !slices.ContainsFunc(p.Results, func(r whatif.ResultChange) bool { return len(r.UsedBy) > 0 }) {
		return nil
	}
	uses, err := a.uses(ctx)
	if err != nil {
		return err
	}
	by := map[int64][]using{}
	var users []*stack.Stack
	for _, u := range uses {
		if !u.of(p.Stack) {
			continue
		}
		if by[u.Stack.ID] == nil {
			users = append(users, u.Stack)
		}
		by[u.Stack.ID] = append(by[u.Stack.ID], u)
	}
	for _, st := range users {
		h := whatif.Hit{Stack: st.Name, Target: st.Target.String()}
		instead := map[string]tosca.Value{}
		for _, u := range by[st.ID] {
			i := slices.IndexFunc(p.Results, func(r whatif.ResultChange) bool { return r.Name == u.Result && r.Kind != whatif.New })
			if i < 0 {
				continue
			}
			r := p.Results[i]
			h.Results = append(h.Results, r.Name)
			switch {
			case r.Kind == whatif.Drop:
				h.Problem = fmt.Sprintf("its input %s would have no value", u.Input)
			case r.Unknown: // whatever it will be, it is another one
				h.Unknown = true
				instead[u.Input] = tosca.Unknown{Of: []tosca.Attribute{{Resource: p.Stack.Name, Name: r.Name}}}
			default:
				instead[u.Input] = r.After
			}
		}
		if len(h.Results) == 0 {
			continue
		}
		if h.Problem == "" {
			h.Changes, h.Problem = a.wouldChange(ctx, st, instead)
		}
		p.Hits = append(p.Hits, h)
	}
	return nil
}

// wouldChange lists what the files of a stack would change with other values of some inputs,
// and would not, or not so, with those that they have.
func (a *App) wouldChange(ctx context.Context, st *stack.Stack, instead map[string]tosca.Value) (out []whatif.HitChange, problem string) {
	if st.StackFile == "" {
		return nil, "the files that it was deployed from are not known"
	}
	compared := func(v Values) (*Preview, error) {
		d, err := a.Load(ctx, st.StackFile, v)
		if err != nil {
			return nil, err
		}
		p, err := a.WhatIfRecorded(ctx, d)
		if err == nil && p.Findings.HasErrors() {
			for _, f := range p.Findings {
				if f.Severity == tosca.Error {
					return nil, fmt.Errorf("%s (%s)", f.Message, f.Short())
				}
			}
		}
		return p, err
	}
	now, err := compared(Values{})
	if err != nil {
		return nil, err.Error()
	}
	then, err := compared(Values{instead: instead})
	for _, v := range instead {
		if err != nil && tosca.Waits(v) { // that it is not known yet is no fault of it
			return nil, ""
		}
	}
	if err != nil {
		return nil, err.Error()
	}
	words := func(ch *whatif.Change) string {
		if ch == nil {
			return ""
		}
		var b strings.Builder
		for _, c := range ch.Properties {
			fmt.Fprintf(&b, "%s %s %s\n", c.Path, tosca.Show(c.Before), tosca.Show(c.After))
		}
		return string(ch.Kind) + b.String()
	}
	for i := range then.Changes {
		if ch := &then.Changes[i]; ch.Kind != whatif.Same && words(now.Change(ch.Name)) != words(ch) {
			out = append(out, whatif.HitChange{Name: ch.Name, Kind: ch.Kind})
		}
	}
	return out, ""
}
