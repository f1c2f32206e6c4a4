package run

import (
	"context"
	"fmt"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// revert sends what an edit replaced.
type revert struct {
	orig *Entry
	req  cloud.Request
}

func (p *revert) prepare(ctx context.Context, t *task) (*ending, error) {
	p.orig = t.Driver.Entry(t.entry.Step.Of)
	if p.orig == nil || p.orig.Before == nil || p.orig.Record == nil {
		return &ending{state: Done, shown: IsUndone, words: "nothing had been changed"}, nil
	}
	before := p.orig.Before
	t.identify(p.orig.Record.ID)
	p.req = cloud.Request{Properties: map[string]any{}, Links: before.Links}
	for name, v := range before.Properties {
		p.req.SetProperty(name, unmarked(v, p.orig.Record.Properties[name]))
	}
	if before.Tags != nil { // also none at all
		p.req.Tags = map[string]string{}
	}
	recorded := stack.TagMap(p.orig.Record.Properties["tags"])
	for name, v := range before.Tags {
		p.req.SetTag(name, unmarked(v, recorded[name]))
	}
	if before.NamesHidden {
		p.req.Secrets = append(p.req.Secrets, "/tags")
	}
	live, err := t.read(ctx, p.orig.Record.Type, p.orig.Record.ID)
	if err != nil {
		return p.refused(ctx, t, err)
	}
	if alike(live, p.orig) {
		return &ending{state: Done, shown: IsUndone, words: "it is put back", changes: p.changes(t)}, nil
	}
	p.req.ETag = live.ETag
	return nil, nil
}

func (p *revert) telling(*task) (State, string) { return Undoing, "putting it back" }

func (p *revert) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return t.Cloud.Update(ctx, t.ref(), t.key(), p.req)
}

// refused is the end where it was removed meanwhile, by whomever, or what it was reached through was: the words are the cloud's.
func (p *revert) refused(ctx context.Context, t *task, err error) (*ending, error) {
	if cloud.IsNotFound(err) {
		return &ending{state: Done, shown: IsUndone, words: t.Secrets.Hide(cloud.Clean(err.Error())) + ": nothing is put back", changes: p.changes(t)}, nil
	}
	return nil, err
}

func (p *revert) record(ctx context.Context, t *task) (*ending, error) {
	return &ending{state: Done, shown: IsUndone, changes: p.changes(t)}, nil
}

// changes put the record back too; what was adopted is kept again.
func (p *revert) changes(t *task) []Change {
	switch s := t.entry.Step; {
	case s.Adopt:
		return []Change{Remove{s.Resource}, Keep{s.Resource, p.orig.Record}}
	case s.From != "":
		return []Change{Remove{s.Resource}, Put{p.orig.Record, s.Position}}
	}
	return []Change{Put{p.orig.Record, t.entry.Step.Position}}
}

// unmarked is a value of a snapshot as it was there: where what is recorded is no secret, it is one only because somebody had
// written a secret into it, and was sealed for that.
func unmarked(v, recorded tosca.Value) tosca.Value {
	if tosca.HasSecret(recorded) {
		return v
	}
	bare, _ := tosca.Bare(v)
	return bare
}

// alike reports whether a resource still is what it was before an update.
func alike(live *stack.Live, e *Entry) bool {
	if live.State == "failed" { // what it is now is nothing whole
		return false
	}
	for name, v := range e.Before.Properties {
		v = unmarked(v, e.Record.Properties[name])
		if !stack.Same(stack.Seen(v, live.Properties[name], e.Record.Fingerprints[name]), v) {
			return false
		}
	}
	for name, ids := range e.Before.Links {
		if fmt.Sprint(live.Links[name]) != fmt.Sprint(ids) {
			return false
		}
	}
	if e.Before.Tags == nil {
		return true
	}
	prints := stack.TagMap(e.Record.Fingerprints["tags"])
	if e.Before.NamesHidden {
		others := len(stack.OtherTags(nil, e.Record, live))
		return stack.Same(live.Properties["tags"], e.Record.Fingerprints["tags"]) && others == len(e.Before.Others)
	}
	recorded := stack.TagMap(e.Record.Properties["tags"])
	for k, v := range e.Before.Tags {
		v = unmarked(v, recorded[k])
		now, there := live.Tags[k]
		if !there || !tosca.Equal(stack.Seen(v, tosca.String(now), prints[k]), v) {
			return false
		}
	}
	return len(live.Tags) == len(e.Before.Tags)
}
