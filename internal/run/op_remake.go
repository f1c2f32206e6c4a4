package run

import (
	"context"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// remaking makes what a run has removed before its new part was made again, as it was
// recorded. It has another id in the cloud then.
type remaking struct {
	was *stack.Recorded
	req cloud.Request
}

func (m *remaking) prepare(ctx context.Context, t *task) (*ending, error) {
	orig := t.Driver.Entry(t.entry.Step.Of)
	if orig == nil || orig.Record == nil {
		return &ending{state: Done, shown: IsUndone, words: "nothing had been removed"}, nil
	}
	m.was = orig.Record
	live, err := t.read(ctx, m.was.Type, m.was.ID)
	if err == nil && live.State != "failed" {
		return &ending{state: Done, shown: IsUndone, words: "it is there still", changes: []Change{Put{m.was, t.entry.Step.Position}}}, nil
	}
	if err == nil { // its removal has failed half-way
		if err := t.removeNow(ctx, cloud.Ref{Target: t.Target, Type: m.was.Type, ID: m.was.ID}, Undoing); err != nil {
			return nil, at("removing what is left of it", err)
		}
	} else if !cloud.IsNotFound(err) {
		return nil, err
	}
	m.req = cloud.Request{Type: m.was.Type, Properties: map[string]any{}, Links: map[string][]string{}}
	t.tags(&m.req, m.was.Properties)
	for name, v := range m.was.Properties {
		if name != "tags" && !tosca.Equal(v, tosca.Null{}) {
			m.req.SetProperty(name, v)
		}
	}
	for requirement, links := range m.was.Links {
		for _, l := range links {
			id := l.ID
			if now := t.id(l.Name); now != "" { // it may have been made again itself
				id = now
			}
			m.req.Links[requirement] = append(m.req.Links[requirement], id)
		}
	}
	if err := t.clear(ctx, t.entry, "looking for what a former attempt left", Undoing); err != nil {
		return nil, err
	}
	t.entry.Shell, t.entry.Unsure = "", false
	return nil, nil
}

func (m *remaking) telling(*task) (State, string) { return Undoing, "making it again" }

func (m *remaking) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return t.Cloud.Create(ctx, t.Target, t.key(), m.req)
}

func (m *remaking) refused(_ context.Context, t *task, err error) (*ending, error) {
	t.entry.Unsure = t.entry.CloudID == "" && (t.resent || !cloud.Refused(err))
	return nil, err
}

func (m *remaking) record(ctx context.Context, t *task) (*ending, error) {
	if backup := t.Driver.Entry(t.entry.Step.Of).Backup; backup != "" {
		if err := t.fill(ctx, t.ref(), backup, Undoing); err != nil {
			return nil, err
		}
	}
	live, err := t.read(ctx, m.was.Type, t.entry.CloudID)
	if err != nil {
		return nil, at("reading it back", err)
	}
	now := *m.was
	now.ID, now.Attributes, now.Fingerprints = live.ID, live.Attributes, map[string]tosca.Value{}
	for name, v := range now.Properties {
		if tosca.HasSecret(v) {
			now.Fingerprints[name] = live.Properties[name]
		}
	}
	now.Links = map[string][]stack.LinkTo{}
	for requirement, links := range m.was.Links {
		for i, l := range links {
			now.Links[requirement] = append(now.Links[requirement], stack.LinkTo{Name: l.Name, ID: m.req.Links[requirement][i]})
		}
	}
	return &ending{state: Done, shown: IsUndone, words: "made again, as " + now.ID, changes: []Change{Put{&now, t.entry.Step.Position}}}, nil
}
