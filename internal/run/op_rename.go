package run

import (
	"context"
	"fmt"
	"slices"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// rename records a resource under another name. The cloud is told it by the tag that
// says which node a resource is; nothing else of it changes.
type rename struct{ req cloud.Request }

func (n *rename) prepare(ctx context.Context, t *task) (*ending, error) {
	rec, to := t.entry.Record, t.entry.Step.Resource
	if rec == nil {
		return nil, fmt.Errorf("%s is not recorded", t.entry.Step.From)
	}
	live, err := t.read(ctx, rec.Type, rec.ID)
	if err != nil {
		return nil, err
	}
	t.identify(rec.ID)
	if t.entry.Before == nil { // otherwise it was sent before: the same again
		t.entry.Before = snapshot([]stack.PropertyChange{{Property: "tags"}}, rec, live)
		if live.Tags["node"] == to {
			return n.record(ctx, t)
		}
	}
	b := t.entry.Before
	n.req = cloud.Request{ETag: b.ETag}
	for name, v := range b.Tags {
		n.req.SetTag(name, v)
	}
	n.req.SetTag(stack.NodeTag, tosca.String(to))
	if t.Store != "" {
		n.req.SetTag(stack.StoreTag, tosca.String(t.Store))
	}
	if b.NamesHidden {
		n.req.Secrets = append(n.req.Secrets, "/tags")
	}
	return nil, nil
}

func (n *rename) telling(t *task) (State, string) {
	return Working, "giving it its new name; it was " + t.entry.Step.From
}

func (n *rename) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return t.Cloud.Update(ctx, t.ref(), t.key(), n.req)
}

func (n *rename) refused(ctx context.Context, t *task, err error) (*ending, error) {
	if cloud.Refused(err) && !t.resent { // nothing was begun, so there is nothing to put back
		t.entry.Before = nil
	}
	return nil, err
}

func (n *rename) record(_ context.Context, t *task) (*ending, error) {
	rec := *t.entry.Record
	rec.Name, rec.Formerly = t.entry.Step.Resource, append(slices.Clone(rec.Formerly), rec.Name)
	return &ending{state: Done, shown: IsReady, words: "it was " + t.entry.Step.From,
		changes: []Change{Remove{t.entry.Step.From}, Put{&rec, t.entry.Step.Position}}}, nil
}
