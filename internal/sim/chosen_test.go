package sim

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// savedSet is a change set that was saved: what was to be agreed to then.
type savedSet struct {
	path   string
	agreed map[string]string
	rules  rules
}

// place is where the stacks of a world are.
var place = stack.Target{Account: "workshop", Region: "alder-1"}

// stall lets something else than its end happen to a process, some chances from now.
func (w *world) stall(p *person, _ *model, x act) {
	what := pick([]string{"sleep", "the disk is full", "the answer is lost", "the cloud is silent", "the cloud talks nonsense"}, x.A)
	w.mu.Lock()
	defer w.mu.Unlock()
	p.stops[what] = 1 + int(x.B%40)
}

func agreedIn(v *app.Preview) map[string]string {
	out := map[string]string{}
	for _, ch := range v.Changes {
		out[ch.Name] = string(ch.Kind)
	}
	return out
}

// save saves what a deployment would do.
func (w *world) save(p *person, m *model, _ act) {
	v, err := w.whatIf(p, p.process(), m)
	if err != nil || v.ChangeSet == nil || v.Findings.HasErrors() || v.Empty() {
		return
	}
	s := savedSet{filepath.Join(w.dir, m.name+".changes.json"), agreedIn(v), m.rules()}
	if err := p.app.Save(v, s.path); err != nil {
		w.cannot(p, "save what deploying "+m.name+" would do", err)
		return
	}
	w.saved[m] = s
	w.tell("%s saves what deploying %s would do: %s", p.name, m.name, v.Tally)
}

// deploySaved deploys what was saved: that, or nothing.
func (w *world) deploySaved(p *person, m *model, _ act) {
	s, is := w.saved[m]
	if !is {
		return
	}
	v, err := p.process().OpenSaved(background, s.path)
	if err != nil {
		w.cannot(p, "deploy what was saved of "+m.name, err)
		return
	}
	if v.Findings.HasErrors() {
		w.cannot(p, "deploy what was saved of "+m.name, &app.Refusal{Findings: v.Findings})
		return
	}
	w.meet("what was saved can be deployed")
	if got := agreedIn(v); !maps.Equal(got, s.agreed) {
		w.fault("what was saved of %s was %v, and is deployed as %v", m.name, s.agreed, got)
	}
	w.carryWith(p, m, v, s.rules, stack.Undo, "deploys what was saved of "+m.name)
}

// act lets a resource do something.
func (w *world) act(p *person, m *model, x act) {
	things := w.there(m.name)
	var can []string
	for _, id := range sortedBy(things) {
		if verbs[things[id].Type] != nil {
			can = append(can, id)
		}
	}
	a := p.process()
	st := w.stackOf(a, m)
	if len(can) == 0 || st == nil {
		return
	}
	is := things[pick(can, x.A)]
	verb := pick(verbs[is.Type], x.B)
	with := map[string]string{}
	switch verb {
	case "scale":
		with["want"] = fmt.Sprint(1 + x.C%3)
	case "restore":
		for _, b := range w.backups(m) {
			if b.Of == is.ID {
				with["backup"] = b.ID
			}
		}
		if len(with) == 0 {
			return
		}
	}
	acts, err := a.WhatIfAct(background, st, is.Node, verb, with)
	if err != nil {
		w.cannot(p, verb+" "+is.Node+" of "+m.name, err)
		return
	}
	r := w.newRun(p, m, run.KindAction)
	t, err := a.PrepareActs(background, acts)
	w.asked(a, p, r, err)
	if err != nil {
		w.cannot(p, verb+" "+is.Node+" of "+m.name, err)
		return
	}
	if verb == "scale" || verb == "restore" {
		w.truth.touched(is.ID, r)
	}
	w.meet("act: " + verb)
	w.tell("%s: %s %s of %s, run %d", p.name, verb, is.Node, m.name, r.number)
	w.execute(p, m, t)
}

// verbs are the actions that are taken, by type.
var verbs = map[string][]string{"Server": {"restart"}, "Database": {"backup", "restart", "restore"}, "Disk": {"backup", "restore"}, "ServerGroup": {"restart", "scale"}, "Workload": {"scale"}, "Cluster": {"scale"}}

// sortedBy are ids in an order that is not by chance.
func sortedBy(things map[string]thing) []string {
	ids := slices.Collect(maps.Keys(things))
	slices.SortFunc(ids, func(a, b string) int {
		return strings.Compare(things[a].Node+things[a].text, things[b].Node+things[b].text)
	})
	return ids
}

// release lets a resource leave its stack.
func (w *world) release(p *person, m *model, x act) {
	a := p.process()
	st := w.stackOf(a, m)
	if st == nil || len(m.nodes) == 0 {
		return
	}
	n := pick(m.nodes, x.A)
	name := n.name
	if n.count > 0 || len(n.req) > 0 || slices.ContainsFunc(m.nodes, func(o *node) bool {
		return slices.ContainsFunc(o.req, func(r need) bool { return r.node == name })
	}) {
		return
	}
	v, err := a.WhatIfRelease(background, st, name)
	if err != nil {
		w.cannot(p, "release "+name+" of "+m.name, err)
		return
	}
	w.mu.Lock()
	w.ever[m.name+"/"+name] = true
	w.ever["/"] = true // it is nobody's then
	w.mu.Unlock()
	m.nodes = slices.DeleteFunc(m.nodes, func(o *node) bool { return o == n })
	w.write(m)
	w.meet("released")
	w.carryWith(p, m, v, nil, stack.Undo, "releases "+name+" of "+m.name)
}

// leave gives up what a stuck run cannot get rid of.
func (w *world) leave(p *person, m *model, _ act) {
	a := p.process()
	if st := w.stackOf(a, m); st != nil {
		w.leaves(p, a, m, st)
	}
}

// leaves gives up whatever the last run is stuck at, and says whether there was something.
func (w *world) leaves(p *person, a *app.App, m *model, st *stack.Stack) bool {
	r := w.last(a, m)
	if r == nil || r.State != run.StatusStuck {
		return false
	}
	name, _, _ := strings.Cut(r.Reason, ":")
	if _, after, is := strings.Cut(r.Reason, "undoing is stuck: "); is {
		name, _, _ = strings.Cut(after, ":")
	}
	l, err := a.WhatLeaves(background, st, name)
	if err == nil {
		for _, part := range l.Parts {
			w.mu.Lock()
			w.ever[m.name+"/"+part.Name] = true
			w.mu.Unlock()
		}
		err = a.Leave(background, st, l)
	}
	if err != nil {
		w.cannot(p, "leave "+name+" of "+m.name, err)
		return false
	}
	w.meet("left")
	w.tell("%s leaves %s of %s in the cloud", p.name, name, m.name)
	return true
}
