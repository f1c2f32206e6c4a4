package run

import (
	"context"
	"errors"
	"fmt"
	"maps"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// following lets a resource be of what something is now that was made again while a run was undone: it was made of an attribute of
// that, such as its id. What it is made of stands in the revision that the stack goes back to.
type following struct {
	res   *stack.Resource
	props map[string]tosca.Value
	req   cloud.Request
}

func (f *following) prepare(ctx context.Context, t *task) (*ending, error) {
	rec := t.entry.Record
	none := &ending{state: Done, shown: IsUndone, words: "nothing in it is of what was made again"}
	if t.Base == nil || rec == nil {
		return none, nil
	}
	f.res = t.Base.Resource(t.entry.Step.Resource)
	if f.res == nil {
		return none, nil
	}
	props, findings := t.Base.Late(f.res, t.attribute)
	if findings.HasErrors() {
		return nil, fmt.Errorf("%s (%s)", findings[0].Message, findings[0].Short())
	}
	t.Secrets.Add(tosca.Map(props))
	t.identify(rec.ID)
	f.props = maps.Clone(rec.Properties)
	f.req = cloud.Request{Properties: map[string]any{}}
	for name, v := range props {
		if v == nil || !tosca.IsKnown(v) || name == "tags" && tosca.Equal(v, tosca.Null{}) || stack.Same(v, rec.Properties[name]) {
			continue
		}
		f.props[name] = v
		if name == "tags" {
			t.tags(&f.req, props)
			continue
		}
		f.req.SetProperty(name, v)
	}
	if len(f.req.Properties) == 0 && f.req.Tags == nil {
		return none, nil
	}
	live, err := t.read(ctx, rec.Type, rec.ID)
	if err != nil {
		return nil, err
	}
	if f.req.Tags != nil { // what others have put there stays
		for _, k := range stack.OtherTags(props["tags"], rec, live) {
			f.req.SetTag(k, tosca.String(live.Tags[k]))
		}
	}
	f.req.ETag = live.ETag
	return nil, nil
}

func (f *following) telling(*task) (State, string) {
	return Undoing, "letting it be of what was made again"
}

func (f *following) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return t.Cloud.Update(ctx, t.ref(), t.key(), f.req)
}

func (f *following) refused(_ context.Context, _ *task, err error) (*ending, error) { return nil, err }

func (f *following) record(ctx context.Context, t *task) (*ending, error) {
	if t.entry.Record == nil {
		return nil, errors.New("it is not recorded")
	}
	live, err := t.read(ctx, t.entry.Record.Type, t.entry.CloudID)
	if err != nil {
		return nil, at("reading it back", err)
	}
	now := *t.entry.Record
	now.Properties, now.Attributes, now.Fingerprints = f.props, live.Attributes, maps.Clone(now.Fingerprints)
	for name, v := range f.props {
		if tosca.HasSecret(v) {
			if now.Fingerprints == nil {
				now.Fingerprints = map[string]tosca.Value{}
			}
			now.Fingerprints[name] = live.Properties[name]
		}
	}
	return &ending{state: Done, shown: IsUndone, words: "it is of what was made again", changes: []Change{Put{&now, t.entry.Step.Position}}}, nil
}

// PlanFollow lists the steps that let resources be of what was made again, each behind those that it is made of itself: of base, the
// revision that the stack goes back to.
func PlanFollow(base *stack.Wanted, recorded map[string]*stack.Recorded, made map[string]bool) []Step {
	if base == nil || len(made) == 0 {
		return nil
	}
	of := map[string]map[string]bool{} // by resource: what it is made of attributes of
	for _, r := range base.Resources {
		for _, p := range r.Properties {
			for _, a := range tosca.Awaits(p.Value) {
				if of[r.Name] == nil {
					of[r.Name] = map[string]bool{}
				}
				of[r.Name][a.Resource] = true
			}
		}
	}
	follows := map[string]bool{}
	for grown := true; grown; {
		grown = false
		for name, from := range of {
			if follows[name] || recorded[name] == nil {
				continue
			}
			for up := range from {
				if made[up] || follows[up] {
					follows[name], grown = true, true
					break
				}
			}
		}
	}
	var steps []Step
	for i, r := range base.Resources {
		if !follows[r.Name] {
			continue
		}
		s := Step{ID: "follow " + r.Name, Resource: r.Name, Type: recorded[r.Name].Type, Action: Follow, Phase: PhaseUndo, CloudID: recorded[r.Name].ID, Seconds: 1, Position: i}
		for up := range of[r.Name] {
			if follows[up] && up != r.Name {
				s.Needs = append(s.Needs, "follow "+up)
			}
		}
		steps = append(steps, s)
	}
	return steps
}
