package run

import (
	"context"
	"fmt"
	"strconv"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
)

// The actions that mean something here; a type may have others.
const (
	VerbBackup  = "backup"
	VerbRestore = "restore"
	VerbRestart = "restart"
	VerbScale   = "scale"
	VerbSuspend = "suspend"
	VerbResume  = "resume"
)

// inverse are the actions that take others back.
var inverse = map[string]string{VerbSuspend: VerbResume, VerbResume: VerbSuspend}

// Acting is what is to be done to a resource.
type Acting struct {
	Resource, Type, CloudID string
	Verb                    string
	With                    map[string]string
	Seconds                 float64 // likely
	Position                int
	Needs                   []string // the resources to which it is to be done before
}

// NewActions lists the steps of some actions.
func NewActions(list []Acting) Plan {
	var p Plan
	for _, a := range list {
		s := Step{ID: a.Verb + " " + a.Resource, Resource: a.Resource, Type: a.Type, Action: Act, Phase: PhaseBuild, CloudID: a.CloudID, Verb: a.Verb,
			With: a.With, Seconds: a.Seconds, Nominal: a.Seconds, Position: a.Position}
		for _, n := range a.Needs {
			s.Needs = append(s.Needs, a.Verb+" "+n)
		}
		for _, before := range p.Steps { // what is done to the same one comes one after the other
			if before.Resource == a.Resource {
				s.Needs = append(s.Needs, before.ID)
			}
		}
		p.Steps = append(p.Steps, s)
	}
	return p
}

// Scales is the property that says how many of it there are; "" is that it cannot be scaled.
func Scales(t *tosca.NodeType) string {
	if t == nil {
		return ""
	}
	return t.Metadata["scales"]
}

// acting does something to a resource that runs.
type acting struct {
	scale edit // where the action is to scale
	verb  string
}

func (a *acting) prepare(ctx context.Context, t *task) (*ending, error) {
	a.verb = t.entry.Step.Verb
	if t.entry.Record == nil {
		return nil, fmt.Errorf("%s is not recorded", t.entry.Step.Resource)
	}
	rec := t.entry.Record
	t.identify(rec.ID)
	live, err := t.read(ctx, rec.Type, rec.ID)
	if err != nil {
		return nil, err
	}
	switch {
	case a.byProgram(t):
	case a.verb == VerbScale:
		return a.prepareScale(t, live.Properties, live.ETag)
	case a.verb == VerbSuspend && live.State == cloud.Suspended, a.verb == VerbResume && live.State == "ready" && !t.resent:
		return &ending{state: Done, shown: a.shown(t), words: "it is so already"}, nil
	}
	return nil, nil
}

func (a *acting) prepareScale(t *task, properties map[string]tosca.Value, etag string) (_ *ending, err error) {
	if a.scale.res, a.scale.props, err = t.wanted(); err != nil {
		return nil, at("resolving", err)
	}
	name := Scales(a.scale.res.Type)
	n, err := strconv.Atoi(t.entry.Step.With["want"])
	if err != nil || name == "" {
		return nil, fmt.Errorf("%s cannot be scaled to '%s'", t.entry.Step.Resource, t.entry.Step.With["want"])
	}
	props := map[string]tosca.Value{}
	for k, v := range t.entry.Record.Properties { // what else differs from the template stays
		props[k] = v
	}
	props[name] = tosca.Int(n)
	a.scale.props = props
	if t.entry.State != Started || t.entry.Before == nil {
		v := properties[name]
		if v == nil {
			v = tosca.Null{}
		}
		t.entry.Before = &Snapshot{Properties: map[string]tosca.Value{name: v}, ETag: etag}
	}
	a.scale.req = cloud.Request{Properties: map[string]any{name: n}, ETag: t.entry.Before.ETag}
	return nil, nil
}

func (a *acting) shown(t *task) State {
	if t.entry.Step.Phase == PhaseUndo {
		return IsUndone
	}
	return IsReady
}

func (a *acting) telling(t *task) (State, string) {
	words := map[string]string{VerbBackup: "copying what it holds", VerbRestore: "filling it from " + t.entry.Step.With["backup"], VerbRestart: "restarting it",
		VerbScale: "scaling it to " + t.entry.Step.With["want"], VerbSuspend: "putting it to rest", VerbResume: "waking it up"}[a.verb]
	if words == "" {
		words = a.verb
	}
	if t.entry.Step.Phase == PhaseUndo {
		return Undoing, words
	}
	return Working, words
}

// byProgram reports whether a program of the resource does it, whatever it is.
func (a *acting) byProgram(t *task) bool {
	return t.entry.Record != nil && t.entry.Record.Properties["own_programs"] != nil
}

func (a *acting) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	switch {
	case a.byProgram(t):
	case a.verb == VerbScale:
		return t.Cloud.Update(ctx, t.ref(), t.key(), a.scale.req)
	case a.verb == VerbBackup || a.verb == VerbRestore:
		b, ok := t.Cloud.(cloud.BackingUp)
		if !ok {
			return cloud.Operation{}, cloud.NoBackups(t.entry.Step.Type)
		}
		if a.verb == VerbBackup {
			return b.Backup(ctx, t.ref(), t.key())
		}
		return b.Restore(ctx, t.ref(), t.key(), t.entry.Step.With["backup"])
	}
	c, ok := t.Cloud.(cloud.Acting)
	if !ok {
		return cloud.Operation{}, fmt.Errorf("this cloud cannot %s a %s", a.verb, t.entry.Step.Type)
	}
	return c.Act(ctx, t.ref(), t.key(), a.verb, t.entry.Step.With)
}

func (a *acting) refused(ctx context.Context, t *task, err error) (*ending, error) {
	if a.verb == VerbScale && !a.byProgram(t) {
		return a.scale.refused(ctx, t, err)
	}
	return nil, err
}

func (a *acting) record(ctx context.Context, t *task) (*ending, error) {
	words := map[string]string{VerbBackup: "copied", VerbRestore: "filled from " + t.entry.Step.With["backup"], VerbRestart: "restarted", VerbSuspend: "at rest", VerbResume: "awake"}[a.verb]
	if a.byProgram(t) {
		live, err := t.read(ctx, t.entry.Record.Type, t.entry.Record.ID)
		if err != nil {
			return nil, at("reading it back", err)
		}
		now := *t.entry.Record
		now.Attributes = live.Attributes
		return &ending{state: Done, shown: a.shown(t), words: a.verb + " is done", changes: []Change{Put{&now, t.entry.Step.Position}}}, nil
	}
	if a.verb == VerbScale {
		end, err := t.built(ctx, a.scale.res, a.scale.props)
		if err == nil {
			end.words = "there are " + t.entry.Step.With["want"]
		}
		return end, err
	}
	return &ending{state: Done, shown: a.shown(t), words: words}, nil
}
