package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"brickrow/internal/cloud"
	"brickrow/internal/programs"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Acts is something that is to be done to what runs: one action of one resource, or of all
// that have it, in their order.
type Acts struct {
	Stack *stack.Stack
	Verb  string
	With  map[string]string // the inputs of the action
	Parts []ActPart
	Note  string
	Queue *Queueing // where it waits for a worker; nil is that it is carried out here

	whole      bool
	careful    bool
	by         string   // who saved it and agreed; "" is that it was not saved
	approvedBy []string // of one that was saved
	before     string   // whose approvals are of something else
}

// ActPart is what is done to one resource.
type ActPart struct {
	Name, Type, ID string
	Says           string  // what the action does, as the type says
	Seconds        float64 // likely
	position       int
	needs          []string
}

// Actions lists the actions that resources of a type have.
func (a *App) Actions(typ string) []*tosca.Operation {
	if a == nil {
		return nil
	}
	t := a.Profile.Library.Nodes[typ]
	var out []*tosca.Operation
	for _, name := range cloud.ActionsOf(t) {
		for _, o := range a.Profile.Library.Interfaces["Actions"].Operations {
			if o.Name == name {
				out = append(out, o)
			}
		}
	}
	return out
}

// WhatIfAct says what an action would do. Without a resource it is done to all of the stack that
// have it: putting to rest begins with what rests on others, waking up with what carries them.
func (a *App) WhatIfAct(ctx context.Context, st *stack.Stack, resource, verb string, with map[string]string) (*Acts, error) {
	if st.Revision == 0 || st.State == stack.Removed {
		return nil, refusal("%s is not deployed: there is nothing that runs", st.Name)
	}
	current, _, err := a.recorded(ctx, st)
	if err != nil {
		return nil, err
	}
	in, err := a.settings()
	if err != nil {
		return nil, err
	}
	out := &Acts{Stack: st, Verb: verb, With: map[string]string{}, whole: resource == "",
		careful: st.Careful || slices.Contains(in.Careful, st.Target.String())}
	var names []string
	for i, r := range current {
		names = append(names, r.Name)
		if resource != "" && r.Name != resource {
			continue
		}
		list := a.ActionsOf(r)
		at := slices.IndexFunc(list, func(o *tosca.Operation) bool { return o.Name == verb })
		if at < 0 && resource == "" {
			continue
		}
		if at < 0 {
			var known []string
			for _, o := range list {
				known = append(known, o.Name)
			}
			if len(known) == 0 {
				return nil, refusal("%s is a %s, which has no actions", r.Name, r.Type)
			}
			return nil, refusal("a %s has no action '%s'; it has %s", r.Type, verb, strings.Join(known, ", "))
		}
		if byProgram(r) { // which alone knows what it takes
			maps.Copy(out.With, with)
		} else if err := a.inputsOf(list[at], with, out.With); err != nil {
			return nil, err
		}
		takes := whatif.Nominal(a.Profile.Library, a.Speed)
		seconds := takes(&whatif.Change{Type: r.Type, Name: r.Name, Recorded: r}, whatif.Edit)
		out.Parts = append(out.Parts, ActPart{Name: r.Name, Type: r.Type, ID: r.ID, Says: strings.TrimSuffix(list[at].Description, "."), Seconds: seconds,
			position: i})
	}
	switch {
	case len(out.Parts) == 0 && resource != "":
		return nil, refusal("%s has no resource %s%s", st.Name, resource, suggested(resource, names))
	case len(out.Parts) == 0:
		return nil, refusal("nothing in %s has the action '%s'", st.Name, verb)
	case resource == "" && verb != run.VerbSuspend && verb != run.VerbResume:
		return nil, refusal("a whole stack is suspended or resumed; name the resource for '%s'", verb)
	}
	if verb == run.VerbScale && slices.ContainsFunc(out.Parts, func(p ActPart) bool {
		return p.Type != programs.Type && run.Scales(a.Profile.Library.Nodes[p.Type]) == ""
	}) {
		return nil, refusal("%s cannot be scaled", resource)
	}
	out.order(stack.RecordedGraph(current))
	return out, nil
}

// inputsOf takes the inputs of an action over that are given, and refuses what does not suit.
func (a *App) inputsOf(o *tosca.Operation, given, into map[string]string) error {
	var known []string
	for _, in := range o.Inputs {
		known = append(known, in.Name)
		v, is := given[in.Name]
		if !is {
			return refusal("%s needs %s (%s): give it with -i %s=…", o.Name, in.Name, strings.ToLower(in.Description), in.Name)
		}
		if in.Type != nil && in.Type.Base == tosca.BaseInteger {
			if n, err := strconv.Atoi(v); err != nil || n < 0 {
				return refusal("%s takes a number for %s, not '%s'", o.Name, in.Name, v)
			}
		}
		into[in.Name] = v
	}
	for name := range given {
		if !slices.Contains(known, name) {
			return refusal("%s has no input %s%s", o.Name, name, suggested(name, known))
		}
	}
	return nil
}

// order has each part wait for those that come before it.
func (s *Acts) order(g stack.Graph) {
	acted := map[string]int{}
	for i, p := range s.Parts {
		acted[p.Name] = i
	}
	for name := range acted {
		for _, other := range g.Reach(name) { // what it rests on, however far down
			i, also := acted[other]
			switch {
			case !also || other == name:
			case s.Verb == run.VerbSuspend: // that goes to rest after it
				s.Parts[i].needs = append(s.Parts[i].needs, name)
			case s.Verb == run.VerbResume:
				s.Parts[acted[name]].needs = append(s.Parts[acted[name]].needs, other)
			}
		}
	}
	for i := range s.Parts {
		slices.Sort(s.Parts[i].needs)
	}
}

// What says it in few words: "restart reader#0", "suspend all that can be".
func (s *Acts) What() string {
	words := s.Verb
	if s.whole {
		return words + fmt.Sprintf(" the stack (%s)", stack.Count(len(s.Parts), "resource"))
	}
	words += " " + s.Parts[0].Name
	for _, name := range sortedKeys(s.With) {
		words += " " + name + "=" + s.With[name]
	}
	return words
}

// resource is the one that it is done to; "" is all of the stack.
func (s *Acts) resource() string {
	if s.whole {
		return ""
	}
	return s.Parts[0].Name
}

// changes are what is done to what, as it is saved.
func (s *Acts) changes() ([]byte, error) {
	type is struct {
		ID string `json:"id"`
	}
	type change struct {
		Name       string `json:"name"`
		Type       string `json:"type"`
		Kind       string `json:"kind"`
		Properties []is   `json:"properties"`
	}
	var list []change
	for _, p := range s.Parts {
		list = append(list, change{p.Name, p.Type, s.Verb, []is{{p.ID}}})
	}
	return json.Marshal(map[string]any{"base_revision": s.Stack.Revision, "changes": list})
}

// Interrupts reports whether what it is done to does not answer meanwhile, or loses something.
func (s *Acts) Interrupts() bool {
	return s.Verb == run.VerbRestart || s.Verb == run.VerbSuspend || s.Verb == run.VerbRestore
}

// Question asks whether it is to be done, with what it does.
func (s *Acts) Question() string {
	words := strings.ToUpper(s.Verb[:1]) + s.What()[1:] + fmt.Sprintf(" in %s / %s? ", s.Stack.Target.Account, s.Stack.Target.Region)
	if s.Verb == run.VerbRestore {
		return words + s.Parts[0].Says + ": " + s.Overwrites(s.Parts[0].Name) + "."
	}
	return words + s.Parts[0].Says + "."
}

// PrepareActs takes the lock and writes the run of some actions.
func (a *App) PrepareActs(ctx context.Context, acts *Acts) (*Ticket, error) {
	in, err := a.settings()
	if err != nil {
		return nil, err
	}
	if (slices.Contains(in.Approval, acts.Stack.Target.String()) || len(acts.Stack.Approvers) > 0) && len(acts.approvedBy) == 0 {
		return nil, refusal("what is done to %s in %s needs the agreement of a second person: save it with act … --save FILE, let somebody approve FILE, "+
			"then deploy FILE%s", acts.Stack.Name, acts.Stack.Target, also(acts.before))
	}
	st := acts.Stack
	t := &Ticket{Token: uuid.NewString()}
	if err := a.lock(ctx, st, t.Token); err != nil {
		return nil, err
	}
	if err := a.prepareActs(ctx, acts, t); err != nil {
		return nil, errors.Join(err, a.store.Unlock(ctx, st.ID, t.Token))
	}
	return t, nil
}

func (a *App) prepareActs(ctx context.Context, acts *Acts, t *Ticket) error {
	st := acts.Stack
	now, err := a.store.At(ctx, st.Name, st.Target)
	if err != nil {
		return err
	}
	if last, err := a.store.RunNumber(ctx, st.ID, 0); err == nil {
		if err := a.settled(ctx, st, last); err != nil {
			return err
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if now.Revision != st.Revision || now.State == stack.Stuck {
		return refusal("%s has moved on since: it is %s at revision %d now; look at it again", st.Name, now.State, now.Revision)
	}
	var list []run.Acting
	seconds := 0.0
	for _, p := range acts.Parts {
		if acts.Verb == run.VerbRestore && p.Type != programs.Type { // what is overwritten is copied first
			list = append(list, run.Acting{Resource: p.Name, Type: p.Type, CloudID: p.ID, Verb: run.VerbBackup, Seconds: p.Seconds, Position: p.position})
			seconds += p.Seconds
		}
		list = append(list, run.Acting{Resource: p.Name, Type: p.Type, CloudID: p.ID, Verb: acts.Verb, With: acts.With, Seconds: p.Seconds,
			Position: p.position, Needs: p.needs})
		seconds = max(seconds, p.Seconds)
	}
	of := &Preview{Note: acts.Note, By: acts.by, ApprovedBy: acts.approvedBy}
	o := origin(of)
	o.What = acts.What()
	r := &run.Record{ID: uuid.NewString(), StackID: st.ID, Kind: run.KindAction, State: run.StatusWorking, Base: now.Revision, Revision: now.Revision,
		Prior: now.State, OnFailure: stack.Undo, Plan: run.NewActions(list), Estimate: seconds, By: by(of), Origin: o}
	secrets, err := a.secretsOf(ctx, st)
	if err != nil {
		return err
	}
	if r.Plan.Baseline, _, err = a.baseline(ctx, st, secrets); err != nil {
		return err
	}
	acts.Queue.put(r)
	r.Token, t.Run = t.Token, r
	return a.store.StartRun(ctx, r, store.Begin{})
}
