package sim

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

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
