package run

import (
	"context"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// creation makes a resource: a new one, or the new part of a swap. A swap that
// turns out not to be one, when all that it rests on is known, goes on as an edit.
type creation struct {
	res   *stack.Resource
	props map[string]tosca.Value
	req   cloud.Request
}

func (c *creation) prepare(ctx context.Context, t *task) (_ *ending, err error) {
	if c.res, c.props, err = t.wanted(); err != nil {
		return nil, at("resolving", err)
	}
	if t.entry.Step.Swap && !t.entry.Step.Forced && t.entry.State == "" && t.entry.Record != nil && t.entry.Record.Type == c.res.Type.Name {
		live, err := t.read(ctx, t.entry.Record.Type, t.entry.Record.ID)
		if err == nil && !needsSwap(stack.Diff(c.res, c.props, t.entry.Record, live, t.id)) {
			return &ending{as: Update}, nil
		}
	}
	c.req = cloud.Request{Type: c.res.Type.Name, Properties: map[string]any{}, Links: map[string][]string{}}
	t.tags(&c.req, c.props)
	for name, v := range c.props {
		if name != "tags" && !tosca.Equal(v, tosca.Null{}) {
			c.req.SetProperty(name, v)
		}
	}
	for _, l := range c.res.Links {
		for _, n := range l.Targets {
			c.req.Links[l.Requirement] = append(c.req.Links[l.Requirement], t.id(n))
		}
	}
	if err := t.clear(ctx, t.entry, "looking for what a former attempt left", Working); err != nil {
		return nil, err
	}
	t.entry.Shell, t.entry.Unsure = "", false
	return nil, nil
}

func (c *creation) telling(*task) (State, string) { return Working, "asking the cloud for it" }

func (c *creation) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return t.Cloud.Create(ctx, t.Target, t.key(), c.req)
}

func (c *creation) refused(ctx context.Context, t *task, err error) (*ending, error) {
	t.entry.Unsure = t.entry.CloudID == "" && (t.resent || !cloud.Refused(err))
	return nil, err
}

func (c *creation) record(ctx context.Context, t *task) (*ending, error) {
	if t.entry.Step.Filled {
		if err := c.filled(ctx, t); err != nil {
			return nil, err
		}
	}
	if t.entry.Step.Swap {
		return t.built(ctx, c.res, c.props, Retire{c.res.Name})
	}
	return t.built(ctx, c.res, c.props)
}

// filled fills the new part of a swap from a backup of the old one: as late as can be, so
// that little is written to the old one after it.
func (c *creation) filled(ctx context.Context, t *task) error {
	backup := ""
	if before := t.Driver.Entry(t.entry.Step.Backup); before != nil { // the old one has gone
		backup = before.Backup
	} else if was := t.entry.Record; was != nil {
		if err := t.backUp(ctx, cloud.Ref{Target: t.Target, Type: was.Type, ID: was.ID}, Settling); err != nil {
			return err
		}
		backup = t.entry.Backup
	}
	if backup == "" { // there was nothing any more
		t.tell(ctx, *t.event(Settling, "the old one was not there any more: nothing to fill it with", ""))
		return nil
	}
	return t.fill(ctx, t.ref(), backup, Settling)
}

func needsSwap(changes []stack.PropertyChange) bool {
	for _, c := range changes {
		if c.Effect == stack.Swap {
			return true
		}
	}
	return false
}
