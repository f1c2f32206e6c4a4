package run

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// edit changes a resource in place, or takes back under the stack what it had left
// in the cloud.
type edit struct {
	res   *stack.Resource
	props map[string]tosca.Value
	req   cloud.Request
}

func (u *edit) prepare(ctx context.Context, t *task) (_ *ending, err error) {
	if u.res, u.props, err = t.wanted(); err != nil {
		return nil, at("resolving", err)
	}
	rec := t.entry.Record
	if rec == nil {
		return nil, fmt.Errorf("%s is not recorded", u.res.Name)
	}
	live, err := t.read(ctx, rec.Type, rec.ID)
	if err != nil {
		return nil, err
	}
	t.identify(rec.ID)
	if t.entry.State == Started && t.entry.Before != nil { // sent before: the same again
		u.req = t.repeat(u.res, u.props)
		return nil, u.backUp(ctx, t)
	}
	changes := append(stack.Diff(u.res, u.props, rec, live, t.id), stack.OwnerChanges(t.Stack, u.res.Name, live)...)
	changes = append(changes, stack.ProgramChanges(u.res, rec)...)
	switch {
	case len(changes) == 0 && t.entry.Step.Adopt:
		t.entry.Before = snapshot(nil, rec, live)
		return t.built(ctx, u.res, u.props, Unkeep{rec.ID})
	case len(changes) == 0:
		t.entry.Before = snapshot(nil, rec, live)
		now := *rec
		now.Needs, now.Pos, now.Policies = u.res.Needs, u.res.Pos, u.res.Policies
		return &ending{state: Unchanged, shown: IsReady, words: "nothing to change in the cloud",
			changes: []Change{Put{&now, t.entry.Step.Position}}}, nil
	case needsSwap(changes):
		return nil, errors.New("it would have to be replaced now; make a new what-if")
	}
	if t.Store != "" && live.Store != t.Store && !slices.ContainsFunc(changes, func(c stack.PropertyChange) bool { return c.Property == "tags" }) {
		changes = append(changes, stack.PropertyChange{Property: "tags"}) // it is told whose it is, as it is changed anyway
	}
	t.entry.Before = snapshot(changes, rec, live)
	u.req = t.repeat(u.res, u.props)
	return nil, u.backUp(ctx, t)
}

// backUp copies what the resource holds, before an edit that cannot be put back.
func (u *edit) backUp(ctx context.Context, t *task) error {
	if t.entry.Step.Backups == 0 {
		return nil
	}
	return t.backUp(ctx, t.ref(), Working)
}

func (u *edit) telling(*task) (State, string) { return Working, "asking the cloud to change it" }

func (u *edit) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return t.Cloud.Update(ctx, t.ref(), t.key(), u.req)
}

func (u *edit) refused(ctx context.Context, t *task, err error) (*ending, error) {
	if cloud.Refused(err) && !t.resent { // nothing was begun, so there is nothing to put back
		t.entry.Before = nil
	}
	if cloud.IsChanged(err) {
		err = fmt.Errorf("%w; it was changed in the cloud meanwhile, by somebody else, and is left as it is: make "+
			"a new what-if", err)
	}
	return nil, err
}

func (u *edit) record(ctx context.Context, t *task) (*ending, error) {
	if t.entry.Step.Adopt {
		return t.built(ctx, u.res, u.props, Unkeep{t.entry.Record.ID})
	}
	return t.built(ctx, u.res, u.props)
}

// repeat makes the request that changes just what the snapshot holds.
func (t *task) repeat(res *stack.Resource, props map[string]tosca.Value) cloud.Request {
	b := t.entry.Before
	req := cloud.Request{Properties: map[string]any{}, Links: map[string][]string{}, ETag: b.ETag}
	for name := range b.Properties {
		req.SetProperty(name, props[name])
	}
	for name := range b.Links {
		req.Links[name] = []string{}
		for _, l := range res.Links {
			if l.Requirement == name {
				for _, n := range l.Targets {
					req.Links[name] = append(req.Links[name], t.id(n))
				}
			}
		}
	}
	if b.Tags != nil {
		t.tags(&req, props)
		for _, k := range b.Others { // what others have put there stays
			if _, mine := req.Tags[k]; !mine {
				req.SetTag(k, b.Tags[k])
			}
		}
	}
	return req
}

// snapshot keeps what an update is about to replace.
func snapshot(changes []stack.PropertyChange, rec *stack.Recorded, live *stack.Live) *Snapshot {
	s := &Snapshot{Properties: map[string]tosca.Value{}, Links: map[string][]string{}, ETag: live.ETag}
	for _, c := range changes {
		switch {
		case c.Link:
			s.Links[c.Property] = append([]string{}, live.Links[c.Property]...)
		case c.Property == "tags":
			s.Tags, s.Others = map[string]tosca.Value{}, stack.OtherTags(nil, rec, live)
			recorded := stack.TagMap(rec.Properties["tags"])
			if _, s.NamesHidden = rec.Properties["tags"].(tosca.Secret); s.NamesHidden {
				maps.Copy(s.Tags, recorded)
			}
			for k, v := range live.Tags {
				if !s.NamesHidden || stack.OwnTag(k) || slices.Contains(s.Others, k) {
					s.Tags[k] = stack.Restorable(recorded[k], tosca.String(v))
				}
			}
			if live.Store != "" {
				s.Tags[stack.StoreTag] = tosca.String(live.Store)
			}
		default:
			v := stack.Restorable(rec.Properties[c.Property], live.Properties[c.Property])
			if v == nil {
				v = tosca.Null{}
			}
			s.Properties[c.Property] = v
		}
	}
	return s
}
