package app

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Drift is where a stack in the cloud is not as it is recorded.
type Drift struct {
	Stack   *stack.Stack
	Asked   time.Time
	Differs []Differing
	Gone    []*stack.Recorded // recorded, and not there any more
	// Unrecorded are there with the tag of the stack, and in no record.
	Unrecorded []*stack.Live
}

// Empty reports whether all is as it is recorded.
func (d *Drift) Empty() bool { return len(d.Differs)+len(d.Gone)+len(d.Unrecorded) == 0 }

// Differing is one place where a resource is not as it is recorded.
type Differing struct {
	Name, Type, ID string
	Pos            tosca.Pos // of the node, in the template it was deployed from
	// PropertyChange has what is recorded as Before, and what is there as After.
	stack.PropertyChange
	// Wanted is what the files say now, where they can be read; what was deployed where they
	// cannot.
	Wanted    tosca.Value
	Since     time.Time // when the resource was changed last; zero where the cloud does not tell
	ChangedBy string    // and by whom
}

// Drift asks the cloud for the resources of a stack, once, and holds them against the record.
func (a *App) Drift(ctx context.Context, st *stack.Stack) (*Drift, error) {
	if running(st.State) {
		return nil, refusal("%s is %s: what differs now is what the run is doing", st.Name, st.State)
	}
	list, err := a.Cloud.List(ctx, st.Target, st.Name)
	if err != nil {
		return nil, err
	}
	live := map[string]*stack.Live{}
	for _, r := range list {
		live[r.ID] = r.Live(a.Profile.Library)
	}
	current, _, err := a.recorded(ctx, st)
	if err != nil {
		return nil, err
	}
	for _, r := range current {
		if live[r.ID] != nil {
			continue
		}
		there, err := a.Cloud.Get(ctx, cloud.Ref{Target: st.Target, Type: r.Type, ID: r.ID}) // it may have lost its tag
		if err == nil {
			live[r.ID] = there.Live(a.Profile.Library)
		} else if !cloud.IsNotFound(err) {
			return nil, fmt.Errorf("ask the cloud whether %s is there still: %w", r.ID, err)
		}
	}
	return a.driftFrom(ctx, st, live)
}

// driftFrom holds what the cloud has shown of a stack against the record.
func (a *App) driftFrom(ctx context.Context, st *stack.Stack, live map[string]*stack.Live) (*Drift, error) {
	current, old, err := a.recorded(ctx, st)
	if err != nil {
		return nil, err
	}
	kept, err := a.store.Kept(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	out := &Drift{Stack: st, Asked: time.Now()}
	names := map[string]string{}
	secrets := &tosca.Secrets{}
	for _, list := range [][]*stack.Recorded{old, kept, current} {
		for _, r := range list {
			names[r.ID] = r.Name
			secrets.Add(tosca.Map(r.Properties), tosca.Map(r.Attributes))
		}
	}
	wanted := a.wantedNow(ctx, st)
	if wanted != nil {
		secrets = wanted.Secrets().Clone()
		for _, r := range current {
			secrets.Add(tosca.Map(r.Properties), tosca.Map(r.Attributes))
		}
	}
	for _, r := range current {
		l := live[r.ID]
		t := a.Profile.Library.Nodes[r.Type]
		if l == nil {
			out.Gone = append(out.Gone, r)
			continue
		}
		if t == nil {
			continue
		}
		l.Mark(secrets)
		var props map[string]tosca.Value
		var res *stack.Resource
		changes := stack.Drift(r, t, l, func(id string) string { return names[id] })
		for _, tag := range [][3]string{{"stack", st.Name, l.Tags["stack"]}, {"node", r.Name, l.Tags["node"]}} { // whose it is
			if tag[1] != tag[2] {
				changes = append(changes, stack.PropertyChange{Path: "tags." + tag[0], Pointer: "/tags/" + tag[0], Property: tag[0], ByHand: true,
					Effect: stack.InPlace, Before: tosca.String(tag[1]), After: tosca.String(tag[2])})
			}
		}
		for _, c := range changes {
			if res == nil && wanted != nil {
				if res = wanted.Resource(r.Name); res != nil {
					props, _ = wanted.Late(res, recordedAttributes(current))
				}
			}
			d := Differing{Name: r.Name, Type: r.Type, ID: r.ID, Pos: r.Pos, PropertyChange: c, Since: l.Changed, ChangedBy: l.ChangedBy}
			d.Before, d.After = secrets.Mark(c.Before), secrets.Mark(c.After)
			switch {
			case c.Property == "stack" || c.Property == "node":
				d.Wanted = d.Before
			case res != nil && c.Link:
				d.Wanted = stack.TextList(res.Targets(c.Property))
			case res != nil:
				d.Wanted = secrets.Mark(stack.At(props[c.Property], c.Pointer))
			}
			out.Differs = append(out.Differs, d)
		}
	}
	for id, l := range live {
		if names[id] == "" {
			l.Mark(secrets)
			out.Unrecorded = append(out.Unrecorded, l)
		}
	}
	slices.SortFunc(out.Unrecorded, func(a, b *stack.Live) int {
		return cmp.Or(strings.Compare(a.Node, b.Node), strings.Compare(a.ID, b.ID))
	})
	slices.SortStableFunc(out.Differs, func(a, b Differing) int { return stack.CompareNames(a.Name, b.Name) })
	return out, nil
}

// wantedNow is what the files of a stack say now; what was deployed, where they cannot be
// read; nil where there is neither.
func (a *App) wantedNow(ctx context.Context, st *stack.Stack) *stack.Wanted {
	if st.StackFile != "" {
		if d, err := a.Load(ctx, st.StackFile, Values{}); err == nil && d.Wanted != nil && d.Stack != nil && d.Stack.Stack == st.Name {
			return d.Wanted
		}
	}
	if st.Revision == 0 {
		return nil
	}
	w, err := a.RevisionWanted(ctx, st.ID, st.Revision)
	if err != nil {
		return nil
	}
	return w
}

// recordedAttributes answers expressions with what is recorded.
func recordedAttributes(current []*stack.Recorded) stack.Attributes {
	byName := make(map[string]*stack.Recorded, len(current))
	for _, r := range current {
		byName[r.Name] = r
	}
	return func(resource, name string) (tosca.Value, bool) {
		r := byName[resource]
		if r == nil {
			return nil, false
		}
		v, ok := r.Attributes[name]
		return v, ok
	}
}
