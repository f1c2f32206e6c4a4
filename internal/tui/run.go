package tui

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// runView shows a run: the wall filling, the events, and when each resource
// was worked on. It only reads; the run belongs to a process of its own.
type runView struct {
	about    subject
	run      *store.Run
	events   []run.Event
	holder   string
	ways     app.Ways // where it did not come to its end
	graph    stack.Graph
	pos      map[string]tosca.Pos
	results  []store.Result
	before   time.Duration // how long the last run like it took
	wall     wall
	now      map[string]progress
	follow   bool
	top      int // of the events
	busy     bool
	none     bool // the stack has had no run
	pane     int  // on small screens: 0 events, 1 times, 2 results
	result   int
	err      error
	failures []run.Event
	fresh    freshness
}

// progress is how far a resource is in the run.
type progress struct {
	state        run.State
	step, reason string
	typ          string
	began, ended time.Time
	seconds      float64 // nominal, of its step
	planned      bool
	failed       bool      // at some point of the run
	past         []segment // what was done to it before
	swap         bool      // a new one is built, and the old one goes
	old          segment   // the removal of the old one
}

// segment is a stretch of time in which one thing was done to a resource.
type segment struct {
	state        run.State
	began, ended time.Time
}

type runLoaded struct {
	about   subject
	run     *store.Run
	events  []run.Event
	first   bool
	holder  string
	ways    app.Ways
	graph   stack.Graph
	pos     map[string]tosca.Pos
	results []store.Result
	before  time.Duration
	err     error
}

type runStarted struct {
	ticket *app.Ticket
	err    error
}

func (v *runView) live() bool { return v.run != nil && !v.run.State.Ended() }

// open shows the last run of the subject.
func (v *runView) open(m *model, runID string) tea.Cmd {
	if v.about.name != m.about.name || v.about.target != m.about.target || runID != "" {
		*v = runView{follow: true}
		v.about = m.about
	}
	return v.load(m, runID)
}

func (v *runView) refresh(m *model) tea.Cmd {
	if m.at != viewRun || v.busy || v.run == nil && !v.none || !v.fresh.stale(m) {
		return nil
	}
	return v.load(m, "")
}

// load reads the run and the events that are new.
func (v *runView) load(m *model, runID string) tea.Cmd {
	st := m.about.stack
	if st == nil {
		v.none = true
		return nil
	}
	v.busy = true
	about, shown, after, known := m.about, v.run, int64(0), v.graph != nil
	if len(v.events) > 0 {
		after = v.events[len(v.events)-1].Seq
	}
	return func() tea.Msg {
		out := runLoaded{about: about}
		if runID != "" {
			out.run, out.err = m.app.Store.Run(m.ctx, runID)
		} else {
			out.run, out.err = m.app.Store.RunNumber(m.ctx, st.ID, 0)
		}
		if out.err != nil {
			return out
		}
		if shown == nil || shown.ID != out.run.ID {
			after, known, out.first = 0, false, true
		}
		ended := shown != nil && shown.ID == out.run.ID && shown.State.Ended() != out.run.State.Ended()
		if out.events, out.err = m.app.Store.Events(m.ctx, out.run.ID, after); out.err != nil {
			return out
		}
		if out.holder, out.err = m.app.Store.LockHolder(m.ctx, st.ID); out.err != nil {
			return out
		}
		if s := out.run.State; s == store.RunHeld || s == store.RunStuck || !s.Ended() && out.holder == "" {
			now, err := m.app.Store.At(m.ctx, st.Name, st.Target)
			if err == nil {
				out.ways, err = m.app.WaysOut(m.ctx, now)
			}
			if out.err = err; err != nil {
				return out
			}
		}
		if !known || ended {
			out.fill(m, st)
		}
		return out
	}
}

// fill reads what does not change while a run goes on.
func (l *runLoaded) fill(m *model, st *store.Stack) {
	l.graph, l.pos = stack.Graph{}, map[string]tosca.Pos{}
	recorded, old, err := m.app.Store.Recorded(m.ctx, st.ID)
	if err != nil {
		l.err = err
		return
	}
	for _, r := range append(old, recorded...) {
		l.graph[r.Name], l.pos[r.Name] = r.Needs, r.Pos
	}
	if l.run.Revision > 0 {
		if w, err := m.app.RevisionWanted(m.ctx, st.ID, l.run.Revision); err == nil {
			for _, r := range w.Resources {
				l.graph[r.Name], l.pos[r.Name] = r.Needs, r.Pos
			}
		}
	}
	for _, s := range l.run.Plan.Steps { // what is removed already
		if _, ok := l.graph[s.Resource]; ok {
			continue
		}
		l.graph[s.Resource] = nil
	}
	resource := map[string]string{} // by step
	for _, s := range l.run.Plan.Steps {
		resource[s.ID] = s.Resource
	}
	for _, s := range l.run.Plan.Steps {
		if s.Half == run.Sweep && l.run.Kind == "delete" {
			for _, u := range s.Needs { // each is removed after what rests on it
				name := resource[u]
				if !slices.Contains(l.graph[name], s.Resource) {
					l.graph[name] = append(l.graph[name], s.Resource)
				}
			}
		}
	}
	if l.results, err = m.app.Results(m.ctx, st); err != nil {
		l.err = err
	}
	if l.before, err = m.app.Store.LastDuration(m.ctx, st.ID, l.run.Kind, l.run.Number); err != nil {
		l.err = err
	}
}

func (v *runView) loaded(m *model, msg runLoaded) tea.Cmd {
	v.busy = false
	if msg.about.name != m.about.name || msg.about.target != m.about.target {
		return nil
	}
	if errors.Is(msg.err, store.ErrNotFound) {
		v.none = true
		return nil
	}
	if v.err = msg.err; v.err != nil {
		return nil
	}
	v.about, v.none = msg.about, false
	if msg.first {
		v.events, v.now, v.follow, v.top, v.failures = nil, map[string]progress{}, true, 0, nil
	}
	v.run, v.holder, v.ways = msg.run, msg.holder, msg.ways
	if msg.graph != nil {
		v.graph, v.pos, v.results, v.before = msg.graph, msg.pos, msg.results, msg.before
		v.wall.set(v.graph)
	}
	if msg.first {
		for _, s := range v.run.Plan.Steps {
			p := v.now[s.Resource]
			if !p.planned || s.Half != run.Sweep {
				v.now[s.Resource] = progress{state: run.Waiting, typ: s.Type, seconds: s.Seconds, planned: true, swap: s.Swap && s.Half == run.Build}
			}
		}
	}
	if msg.graph != nil && len(v.now) > 0 && !v.now[v.wall.sel].planned {
		v.wall.choose(v.timed()[0])
	}
	for _, e := range msg.events {
		v.apply(e)
	}
	v.events = append(v.events, msg.events...)
	return nil
}

// apply follows one event.
func (v *runView) apply(e run.Event) {
	if e.Resource == "" {
		return
	}
	p := v.now[e.Resource]
	if p.swap && (e.State == run.Removing || e.State == run.Removed || e.State == run.Kept || e.State == run.HasFailed && !p.old.began.IsZero()) {
		v.applyOld(e, p)
		return
	}
	if p.began.IsZero() || (p.state == run.Waiting || p.state == run.Skipped) && e.State != run.Skipped || e.State == run.Undoing && p.state != run.Undoing || e.State == run.Removing && p.state == run.IsReady {
		if e.State != run.Skipped {
			if !p.began.IsZero() {
				p.past = append(p.past, segment{p.state, p.began, p.ended})
			}
			p.began, p.ended = e.Time.Add(-e.Elapsed), time.Time{}
		}
	}
	p.state, p.step, p.reason, p.typ = e.State, e.Step, e.Reason, e.Type
	switch e.State {
	case run.IsReady, run.HasFailed, run.IsUndone, run.Removed, run.Kept:
		p.ended = e.Time
	}
	if e.State == run.HasFailed {
		v.failures = append(v.failures, e)
		p.failed = true
	}
	v.now[e.Resource] = p
	if e.State == run.HasFailed && len(v.failures) == 1 {
		v.wall.choose(e.Resource)
	}
}

// applyOld follows the removal of the old part of a swap; the new part stays
// what it is.
func (v *runView) applyOld(e run.Event, p progress) {
	if p.old.began.IsZero() {
		p.old.began = e.Time.Add(-e.Elapsed)
	}
	p.old.state = e.State
	p.step = map[run.State]string{run.Removing: "the old one goes", run.Kept: "the old one stays", run.HasFailed: "the old one is stuck"}[e.State]
	if e.State != run.Removing {
		p.old.ended = e.Time
	}
	if e.State == run.HasFailed {
		p.failed = true
		v.failures = append(v.failures, e)
	}
	v.now[e.Resource] = p
}

// started goes to a run that was just prepared, and sets its process going.
func (v *runView) started(m *model, msg runStarted) tea.Cmd {
	if msg.err != nil {
		m.say(true, "%s", strings.ReplaceAll(msg.err.Error(), "\n", "; "))
		return nil
	}
	if err := m.app.Spawn(msg.ticket); err != nil {
		m.say(true, "%v; 'brickrow resume %s' goes on", err, m.about.name)
		return nil
	}
	m.at = viewRun
	m.whatif.preview = nil
	return func() tea.Msg { // the stack may be new: find it, then show the run
		st, err := m.app.StackOf(m.ctx, msg.ticket.Run)
		if err != nil {
			return failed{"show the run", err}
		}
		return runFound{st, msg.ticket.Run.ID}
	}
}

type runFound struct {
	stack *store.Stack
	run   string
}

func (v *runView) key(m *model, k string) (tea.Cmd, bool) {
	if v.wall.walk(k) {
		return nil, true
	}
	switch k {
	case "pgup":
		v.follow, v.top = false, max(0, v.top-8)
	case "pgdown":
		v.top += 8
	case "f":
		v.follow = !v.follow
	case "tab":
		v.pane = (v.pane + 1) % 3
		if len(v.results) > 0 && m.w >= 100 {
			v.result = (v.result + 1) % len(v.results)
		}
	case "y":
		return v.copy(m), true
	case "t":
		return v.openLine(m), true
	case "c":
		return v.cancel(m), true
	case "R":
		return v.resume(m, false), true
	case "u":
		return m.whatif.openUndo(m), true
	case "enter":
		if v.run != nil && v.run.State.Ended() {
			return m.open(viewWhatIf), true
		}
	default:
		return nil, false
	}
	return nil, true
}

// copy copies the message of the failure, or the marked result.
func (v *runView) copy(m *model) tea.Cmd {
	if len(v.failures) > 0 && (v.run == nil || v.run.State != store.RunDone) {
		m.say(false, "copied the message")
		return tea.SetClipboard(v.failures[0].Resource + ": " + v.failures[0].Reason)
	}
	if v.result < len(v.results) && v.run != nil && v.run.State == store.RunDone {
		return m.copy(v.results[v.result])
	}
	return nil
}

func (v *runView) openLine(m *model) tea.Cmd {
	p, ok := v.pos[v.wall.sel]
	if !ok || p.Line == 0 {
		return nil
	}
	cmd := m.open(viewDraft)
	m.draft.goTo(p)
	return cmd
}

func (v *runView) cancel(m *model) tea.Cmd {
	if !v.live() {
		m.say(false, "the run is over")
		return nil
	}
	r := v.run
	m.ask = newAsk(fmt.Sprintf("Stop run %d of %s? What is under way comes to its end, then all of it is undone.", r.Number, m.about.name), "", func(string) tea.Cmd {
		return func() tea.Msg {
			if err := m.app.Cancel(m.ctx, r); err != nil {
				return failed{"cancel", err}
			}
			return done{"the run was asked to stop"}
		}
	})
	return nil
}

func (v *runView) resume(m *model, undo bool) tea.Cmd {
	st := m.about.stack
	if v.run == nil || st == nil || !v.unfinished() {
		m.say(false, "there is nothing to go on with")
		return nil
	}
	return func() tea.Msg {
		t, err := m.app.Resume(m.ctx, st, undo)
		return runStarted{t, err}
	}
}

// unfinished reports whether the run waits for somebody to go on with it.
func (v *runView) unfinished() bool {
	if v.run == nil {
		return false
	}
	return v.run.State == store.RunHeld || v.run.State == store.RunStuck || v.live() && v.holder == ""
}

func (v *runView) click(_ *model, x, y int) tea.Cmd {
	if n := v.wall.at(x, y); n != "" {
		v.wall.choose(n)
	}
	return nil
}

func (v *runView) wheel(_ *model, by int) {
	v.top = max(0, v.top+by)
	v.follow = v.follow && by > 0
}

func (v *runView) keys(m *model) []binding {
	var keys []binding
	switch {
	case v.unfinished():
		keys = append(keys, binding{"R", "resume"})
		if v.ways.Undo {
			keys = append(keys, binding{"u", "undo"})
		}
	case v.live():
		keys = append(keys, binding{"c", "cancel and undo"})
	case v.run != nil && v.run.State == store.RunDone && len(v.results) > 0:
		keys = append(keys, binding{"y", "copy the result"}, binding{"tab", "next result"})
	}
	keys = append(keys, binding{"t", "template line"})
	if len(v.failures) > 0 {
		keys = append(keys, binding{"y", "copy the message"})
	}
	if !v.follow {
		keys = append(keys, binding{"f", "follow the events"})
	}
	if m.w < 100 {
		keys = append(keys, binding{"tab", "events, times, results"})
	}
	return append(keys, binding{"pgup pgdn", "older, newer events"}, binding{"← ↓ ↑ →", "walk the wall"})
}

func (v *runView) hint(*model) string {
	switch {
	case v.none || v.run == nil:
		return ""
	case v.live() && v.holder == "":
		if v.ways.Undo {
			return "its process is gone: R goes on, u undoes it"
		}
		return "its process is gone: R goes on"
	case v.live():
		return "you can leave this: the run goes on"
	case v.run.State == store.RunUndone:
		return "next: mend the cause, then what-if again (3)"
	case v.run.State == store.RunHeld:
		return "held: mend it and deploy again, R resumes, u undoes"
	case v.run.State == store.RunStuck:
		return "stuck: take away what holds it, then R goes on"
	case v.run.Kind == "delete":
		return "removed; 3 shows what standing it up again would do"
	}
	return "next: y copies a result; 2 to change something"
}

func (v *runView) status(*model) string {
	if v.run == nil {
		return ""
	}
	return fmt.Sprintf("run %d · %s · by %s · begun %s", v.run.Number, v.run.Kind, v.run.By, v.run.Started.Local().Format("15:04:05"))
}
