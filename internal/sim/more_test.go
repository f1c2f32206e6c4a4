package sim

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
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

// holding are the resources of a stack that hold data, by name.
func (w *world) holding(m *model) map[string]thing {
	out := map[string]thing{}
	for _, is := range w.there(m.name) {
		if is.Type == "Database" || is.Type == "Disk" {
			out[is.Node] = is
		}
	}
	return out
}

// fill puts something into what holds data.
func (w *world) fill(_ *person, m *model, x act) {
	things := w.holding(m)
	if len(things) == 0 {
		return
	}
	node := pick(sorted(things), x.A)
	w.mu.Lock()
	w.filled++
	n := w.filled
	w.mu.Unlock()
	if err := w.door().Fill(background, yard.Filling{Stack: m.name, Node: node, Contents: fmt.Sprintf("snow %d", n)}); err != nil {
		w.tell("%s of %s cannot be filled: %v", node, m.name, err)
		return
	}
	w.tell("%s of %s is filled", node, m.name)
}

// backups are those that the cloud has of a stack.
func (w *world) backups(m *model) (list []cloud.Backup) {
	req, err := http.NewRequestWithContext(background, http.MethodGet, cloudURL+"/v1/"+place.Account+"/"+place.Region+"/backups?stack="+m.name, nil)
	if err != nil {
		panic(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.tokens[place.Account])
	resp, err := w.cloud.RoundTrip(req)
	if err == nil {
		err = json.NewDecoder(resp.Body).Decode(&list)
	}
	if err != nil {
		w.fault("the backups of %s cannot be read: %v", m.name, err)
	}
	return list
}

// copied wants the backups that policies promise: what was kept before it went, and what the new one of a swap holds.
func (w *world) copied(of *running, name, id string, now map[string]thing) string {
	was, there := of.before[of.ids[name]]
	w.mu.Lock()
	touched := w.filled != of.fills
	w.mu.Unlock()
	kind := whatif.Kind(of.agreed[name])
	if !there || touched || kind != whatif.Swap && kind != whatif.Drop || was.Type != "Database" && was.Type != "Disk" && was.Type != "Bucket" {
		return ""
	}
	backs := func(r rules) bool { return r.has(name, "Backup") || r.has(name, "Backup and restore") }
	if backs(of.was) && (kind == whatif.Drop || backs(of.rules)) && !of.was.has(name, "Keep") && !of.rules.has(name, "Keep") {
		w.meet("a backup was promised")
		if !slices.ContainsFunc(w.backups(of.model), func(b cloud.Backup) bool {
			return b.Of == was.ID && b.Digest == was.Attributes["contents_digest"] && b.Taken.Sub(w.begun) >= of.at.Truncate(time.Millisecond)
		}) {
			return "has no backup of what it held"
		}
	}
	if is := now[id]; kind == whatif.Swap && of.rules.has(name, "Backup and restore") && of.was.has(name, "Backup and restore") && is.Type == was.Type {
		w.meet("a swap was to be filled")
		if is.Attributes["contents_digest"] != was.Attributes["contents_digest"] {
			return "does not hold what the old one held"
		}
	}
	return ""
}

// stays reports whether something may stay in the cloud when its stack lets it go.
func (w *world) stays(m *model, name string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.ever[m.name+"/"+name]
}

// agreedTo takes in the policies of what was deployed, and wants those that guard to have been obeyed.
func (w *world) agreedTo(of *running, state run.Status) {
	for _, name := range sorted(of.agreed) {
		kind := whatif.Kind(of.agreed[name])
		if (kind == whatif.Swap || kind == whatif.Drop) && of.was.has(name, "Guard") && (of.rules.has(name, "Guard") || of.kind == run.KindDelete) {
			w.fault("run %d of %s was to %s %s, which is guarded", of.number, of.model.name, kind, name)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case state == run.StatusUndone || of.kind == run.KindAction:
	case state == run.StatusDone && of.rules != nil:
		w.deployed[of.model] = of.rules
		if of.nodes != nil {
			w.built[of.model] = of.nodes
		}
	default:
		delete(w.deployed, of.model)
	}
}

// keeps notes what has the policy Keep from now on, by whatever name.
func (w *world) keeps(m *model, names []string, r rules) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, name := range names {
		if r.has(name, "Keep") {
			w.ever[m.name+"/"+name] = true
		}
	}
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

// observe looks at the target, and wants what is told of who did what to be so.
func (w *world) observe(p *person, _ *model, _ act) {
	a := p.process()
	if _, err := a.Observe(background, 30*24*time.Hour, place); err != nil {
		w.cannot(p, "observe "+place.String(), err)
		return
	}
	traces, err := a.TracesOf(background, nil)
	if err != nil {
		w.cannot(p, "hear what became of resources", err)
		return
	}
	for _, t := range traces {
		w.meet("trace: " + string(t.Kind))
		if wrong := w.truth.denies(t); wrong != "" {
			w.fault("it is told that %s of %s was %s %s, run %d, and %s", t.Node, t.Stack, t.Kind, t.Who(), t.Run, wrong)
		}
	}
}

// denies says what of a trace is not so; "" is nothing.
func (t *truth) denies(trace stack.Trace) string {
	if trace.Kind == stack.WasFound {
		return ""
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	byHand, byRun := false, map[string]bool{}
	for _, c := range t.log {
		if c.id == trace.ID || c.refused && c.node == trace.Stack+"/"+trace.Node {
			byHand = byHand || c.by == hand
			byRun[c.by] = true
		}
	}
	switch {
	case trace.Foreign() && !byHand:
		return "no hand has touched it"
	case !trace.Foreign() && trace.Run > 0 && !byRun[fmt.Sprintf("%s/%d", trace.Stack, trace.Run)]:
		return "that run has not touched it"
	case !trace.Foreign() && trace.Run == 0 && len(byRun) == 1 && byHand:
		return "a hand alone has touched it"
	case trace.Kind == stack.WasRemoved && t.last[trace.ID] != nil && t.last[trace.ID].method != http.MethodDelete:
		return "it was not removed"
	}
	return ""
}

// touched notes that a run does something to a resource that is no call of its own.
func (t *truth) touched(id string, r *running) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.log = append(t.log, &call{at: t.w.clock(), method: http.MethodPut, id: id, by: fmt.Sprintf("%s/%d", r.model.name, r.number)})
}

// drift asks how a stack differs, where nobody changes it, and holds that against what hands have done.
func (w *world) drift(p *person, m *model, _ act) {
	a := p.process()
	st := w.stackOf(a, m)
	if st == nil || w.state(m) != "done" {
		return
	}
	d, err := a.Drift(background, st)
	if err != nil {
		w.cannot(p, "see how "+m.name+" differs", err)
		return
	}
	told := map[string]bool{}
	for _, x := range d.Differs {
		told[x.ID] = true
		if !w.truth.by(hand, x.ID) && !w.truth.by("act", x.ID) {
			w.fault("%s of %s is said to differ, and no hand has touched it", x.Name, m.name)
		}
	}
	for _, r := range d.Gone {
		told[r.ID] = true
		if w.truth.lastOf(r.ID) != http.MethodDelete {
			w.fault("%s of %s is said to be gone, and is not", r.Name, m.name)
		}
	}
	now := w.there(m.name)
	for _, u := range d.Unrecorded {
		if _, there := now[u.ID]; !there {
			w.fault("a %s is said to be there for %s, and is not", u.Type, m.name)
		}
	}
	if len(d.Unread) > 0 {
		return
	}
	w.mu.Lock()
	var of *running
	for _, r := range slices.Backward(w.runs) {
		if r.model == m {
			of = r
			break
		}
	}
	w.mu.Unlock()
	for id, c := range w.truth.lastByHand(of.at) {
		is, there := now[id]
		if told[id] || d.Accepted > 0 || there && is.Stack != m.name || w.stays(m, strings.TrimPrefix(w.truth.nameOf(id), m.name+"/")) {
			continue
		}
		if _, was := of.before[id]; !was && !there || !strings.HasPrefix(w.truth.nameOf(id), m.name+"/") {
			continue
		}
		node, _, _ := strings.Cut(strings.TrimPrefix(w.truth.nameOf(id), m.name+"/"), "#")
		if c.method == http.MethodDelete && !there && m.at(node) != nil || len(c.properties) > 0 && there {
			w.fault("%s was changed by a hand, and it is not told that it differs", w.truth.nameOf(id))
		}
	}
}

// by reports whether somebody has touched a resource; "act" is an action.
func (t *truth) by(who, id string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.ContainsFunc(t.log, func(c *call) bool {
		return c.id == id && (c.by == who || who == "act" && c.method == http.MethodPut)
	})
}

// lastOf is what was done last to a resource.
func (t *truth) lastOf(id string) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if c := t.last[id]; c != nil {
		return c.method
	}
	return ""
}

// lastByHand is what hands did since a moment, where nobody did anything after it.
func (t *truth) lastByHand(at time.Duration) map[string]*call {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := map[string]*call{}
	for id, c := range t.last {
		if c.by == hand && c.at > at {
			out[id] = c
		}
	}
	return out
}

// tells asks for all that is told of a stack, in which no secret may be.
func (w *world) tells(p *person, m *model, _ act) {
	a := p.process()
	st := w.stackOf(a, m)
	if st == nil {
		return
	}
	r, err := a.RunNumber(background, st, 0)
	if err != nil || r == nil {
		return
	}
	var texts bytes.Buffer
	put := func(x any, err error) {
		if err == nil {
			_ = json.NewEncoder(&texts).Encode(x) // what cannot be told tells nothing
		}
	}
	put(a.Report(background, st, r))
	put(a.History(background, st))
	put(a.Results(background, st))
	put(a.Contents(background, st))
	put(a.Events(background, r.ID, 0))
	put(a.Comparison(background, st, r))
	put(a.Drift(background, st))
	trace, _, err := a.Trace(background, st, r)
	put(string(trace), err)
	if picture, err := a.DrawStack(background, st); err == nil {
		put(picture, nil)
	}
	if v, err := w.whatIf(p, a, m); err == nil {
		put(v.Changes, nil)
		put(v.Findings, nil)
	}
	if bytes.Contains(texts.Bytes(), []byte("whisper-")) {
		at := bytes.Index(texts.Bytes(), []byte("whisper-"))
		w.fault("a secret of %s is told: …%s", m.name, texts.Bytes()[max(0, at-100):at+10])
	}
	w.meet("told")
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

// histories wants each run to be told once, in order, with its end.
func (w *world) histories(a *app.App) {
	list, err := a.Histories(background)
	if err != nil {
		w.fault("the histories cannot be read: %v", err)
		return
	}
	for _, h := range list {
		told := map[int]*run.Record{}
		for _, r := range h.Runs {
			if told[r.Number] != nil {
				w.fault("run %d of %s is told twice", r.Number, h.Stack.Name)
			}
			told[r.Number] = r
		}
		w.mu.Lock()
		runs := slices.Clone(w.runs)
		w.mu.Unlock()
		for _, of := range runs {
			if of.model.name != h.Stack.Name {
				continue
			}
			r := told[of.number]
			switch {
			case r == nil && of.heard:
				w.fault("run %d of %s is not told", of.number, h.Stack.Name)
			case r != nil && r.Kind != of.kind:
				w.fault("run %d of %s was %s, and is told as %s", of.number, h.Stack.Name, of.kind, r.Kind)
			case r != nil && of.ended && string(r.State) != of.state:
				w.fault("run %d of %s was %s, and is told as %s", of.number, h.Stack.Name, of.state, r.State)
			case r != nil:
				delete(told, of.number)
			}
		}
		for _, n := range slices.Sorted(maps.Keys(told)) {
			w.fault("run %d of %s is told, and nobody has begun it", n, h.Stack.Name)
		}
	}
}
