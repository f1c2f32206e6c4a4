package tui

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/cli"
	"brickrow/internal/run"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// whatifView shows what a deployment, a way back or a deletion would do.
type whatifView struct {
	preview *app.Preview
	about   subject
	made    time.Time
	loading bool
	stale   bool
	err     error
	wall    wall
	seen    map[int]bool   // risks looked through
	risk    int            // the one marked; -1 is none
	only    bool           // only what changes
	by      grouping       // how the wall is grouped
	filter  filterLine     // what the wall is narrowed down by
	full    bool           // long values are shown whole
	onFail  string         // undo or hold
	scroll  int            // of the details
	links   []link         // in the details, of the last drawing
	focus   int            // the marked link; -1 is none
	back    []string       // where one has jumped from
	side    rect           // where the details are
	askings int            // begun so far
	play    *run.Rehearsal // of a failure at its resource; nil is none
}

func newWhatifView() *whatifView { return &whatifView{filter: newFilter(), focus: -1, risk: -1} }

// grouping is how the wall is grouped.
type grouping int

const (
	byCourse grouping = iota
	byType
	byKind
)

var groupWords = map[grouping]string{byCourse: "what rests on what", byType: "type", byKind: "change"}

// link is a line of the details that leads somewhere.
type link struct {
	line     int
	resource string    // another brick; "" is none
	pos      tosca.Pos // a place in a file
}

type previewLoaded struct {
	preview *app.Preview
	err     error
	about   subject
	asked   int // which asking it is of; 0 is one that is always heard
}

// open makes the what-if of the subject's file.
func (v *whatifView) open(m *model) tea.Cmd {
	if v.preview != nil && v.about.name == m.about.name && v.about.target == m.about.target && !v.stale && v.preview.Kind == "deploy" && m.about.stack != nil && v.preview.Stack != nil && m.about.stack.Updated.Equal(v.preview.Stack.Updated) && time.Since(v.made) < 5*time.Second {
		return nil
	}
	about := m.about
	if about.file == "" {
		v.preview, v.err, v.about = nil, errors.New("it is not known which stack file it came from; o in the stacks opens one"), about
		return nil
	}
	values := m.values(about.file)
	return v.start(m, func() (*app.Preview, error) {
		d, err := m.app.Load(m.ctx, about.file, values)
		if err != nil {
			return nil, err
		}
		return m.app.WhatIf(m.ctx, d, true)
	})
}

func (v *whatifView) openDelete(m *model) tea.Cmd {
	m.at = viewWhatIf
	st := m.about.stack
	return v.start(m, func() (*app.Preview, error) { return m.app.WhatIfDelete(m.ctx, st) })
}

func (v *whatifView) openUndo(m *model) tea.Cmd {
	st := m.about.stack
	return func() tea.Msg {
		ways, err := m.app.WaysOut(m.ctx, st)
		if err != nil {
			return failed{"undo", err}
		}
		if ways.Resume {
			t, err := m.app.Resume(m.ctx, st, true)
			return runStarted{ticket: t, err: err}
		}
		p, err := m.app.WhatIfUndo(m.ctx, st, 0)
		return previewLoaded{p, err, m.about, 0}
	}
}

func (v *whatifView) start(m *model, make func() (*app.Preview, error)) tea.Cmd {
	v.loading, v.err = true, nil
	if v.about.name != m.about.name || v.about.target != m.about.target {
		v.preview = nil
	}
	about := m.about
	v.askings++
	asked := v.askings
	return func() tea.Msg {
		p, err := make()
		return previewLoaded{p, err, about, asked}
	}
}

func (v *whatifView) loaded(m *model, msg previewLoaded) tea.Cmd {
	if msg.asked > 0 && msg.asked < v.askings {
		return nil // something else was asked since
	}
	v.play = nil
	v.loading, v.stale, v.err = false, false, msg.err
	if msg.err != nil {
		v.preview = nil
		if m.at == viewStacks {
			m.at = viewWhatIf
		}
		return nil
	}
	if msg.preview.Kind != "deploy" || msg.preview.Saved != "" {
		m.at = viewWhatIf
		m.about = msg.about
	}
	v.preview, v.about, v.made = msg.preview, msg.about, time.Now()
	v.seen, v.risk, v.scroll, v.focus, v.back = map[int]bool{}, -1, 0, -1, nil
	v.onFail = "undo"
	if msg.preview.Draft != nil {
		v.onFail = msg.preview.Draft.Stack.OnFailure
	}
	v.filter.input.SetValue("")
	v.lay()
	for _, ch := range msg.preview.Changes {
		if ch.Kind != whatif.Same {
			v.wall.choose(ch.Name)
			break
		}
	}
	return nil
}

// lay gives the wall its bricks: those that pass the filter, all or only what
// changes, in the groups that are asked for.
func (v *whatifView) lay() {
	if v.preview == nil {
		return
	}
	g := v.preview.Graph()
	groups := map[string][]string{}
	for _, ch := range v.preview.Changes {
		if v.only && ch.Kind == whatif.Same || !v.filter.fits(ch.Name+" "+ch.Type+" "+string(ch.Kind)) {
			delete(g, ch.Name)
			continue
		}
		label := map[grouping]string{byType: ch.Type, byKind: string(ch.Kind)}[v.by]
		groups[label] = append(groups[label], ch.Name)
	}
	if v.by == byCourse {
		v.wall.set(g)
		v.wall.within(v.preview.Graph())
		return
	}
	labels := slices.Sorted(maps.Keys(groups))
	if v.by == byKind {
		place := func(label string) int { return slices.Index(kindOrder, whatif.Kind(label)) }
		slices.SortFunc(labels, func(a, b string) int { return place(a) - place(b) })
	}
	var parts [][]string
	for i, l := range labels {
		parts = append(parts, groups[l])
		labels[i] = fmt.Sprintf("%d %s", len(groups[l]), l)
	}
	v.wall.group(g, labels, parts)
	v.wall.within(v.preview.Graph())
}

var kindOrder = []whatif.Kind{whatif.New, whatif.Edit, whatif.Swap, whatif.Drop, whatif.Adopt, whatif.Keep, whatif.Same}

func (v *whatifView) line() *filterLine { return &v.filter }

func (v *whatifView) filtered(*model) { v.lay() }

// choose goes to another brick, from which the details begin anew.
func (v *whatifView) choose(name string) {
	v.wall.choose(name)
	v.scroll, v.focus = 0, -1
}

func (v *whatifView) key(m *model, k string) (tea.Cmd, bool) {
	if v.focus >= 0 {
		if cmd, ok := v.linkKey(m, k); ok {
			return cmd, true
		}
	}
	if v.wall.walk(k) {
		v.scroll, v.focus = 0, -1
		return nil, true
	}
	switch k {
	case "pgdown":
		v.scroll += 5
		return nil, true
	case "pgup":
		v.scroll = max(0, v.scroll-5)
		return nil, true
	case "n", "N":
		v.nextChange(map[string]int{"n": 1, "N": -1}[k])
	case "enter":
		if len(v.links) == 0 {
			m.say(false, "nothing here leads further")
			return nil, true
		}
		v.focus = 0
		return nil, true
	case "backspace":
		v.goBack(m)
	case "esc":
		if !v.filter.active() {
			return nil, false
		}
		v.filter.input.SetValue("")
		v.lay()
	case "/":
		v.filter.typing = v.preview != nil
	case "g":
		v.by = (v.by + 1) % 3
		v.lay()
		m.say(false, "grouped by %s", groupWords[v.by])
	case "c":
		v.only = !v.only
		v.lay()
	case "v":
		v.full = !v.full
		m.say(false, "%s", map[bool]string{true: "long values are shown whole", false: "long values are cut short"}[v.full])
	case "tab":
		v.nextRisk()
	case "t":
		return v.openLine(m), true
	case "r":
		return v.again(m), true
	case "d":
		return v.deploy(m), true
	case "b":
		return v.letFail(m), true
	case "x":
		v.rehearse(m)
	case "o":
		v.onFail = map[string]string{"undo": "hold", "hold": "undo"}[v.onFail]
		m.say(false, "on failure: %s", failureWords[v.onFail])
	default:
		return v.outKey(m, k)
	}
	v.scroll, v.focus = 0, -1
	return nil, true
}

// linkKey handles the keys while a link of the details is marked.
func (v *whatifView) linkKey(m *model, k string) (tea.Cmd, bool) {
	switch k {
	case "down", "j":
		v.focus = min(v.focus+1, len(v.links)-1)
	case "up", "k":
		v.focus = max(0, v.focus-1)
	case "enter":
		return v.follow(m, v.links[v.focus]), true
	case "esc", "left", "h":
		v.focus = -1
	default:
		return nil, false
	}
	return nil, true
}

// follow goes where a link leads: to another brick, or to a line of a file.
func (v *whatifView) follow(m *model, l link) tea.Cmd {
	if l.resource == "" {
		cmd := m.open(viewDraft)
		m.draft.goTo(l.pos)
		return cmd
	}
	from := v.wall.sel
	if _, shown := v.wall.graph[l.resource]; !shown { // filtered out
		v.filter.input.SetValue("")
		v.only = false
		v.lay()
	}
	v.choose(l.resource)
	v.back = append(v.back, from)
	return nil
}

// goBack goes back to where one has jumped from.
func (v *whatifView) goBack(m *model) {
	if len(v.back) == 0 {
		m.say(false, "there is no brick to go back to")
		return
	}
	v.choose(v.back[len(v.back)-1])
	v.back = v.back[:len(v.back)-1]
}

// again asks anew: for a deployment the files and the cloud, for a saved change
// set the file.
func (v *whatifView) again(m *model) tea.Cmd {
	v.stale = true
	if v.preview != nil && v.preview.Saved != "" {
		return v.openSaved(m, v.preview.Saved)
	}
	return v.open(m)
}

// nextChange goes to the next resource that changes.
func (v *whatifView) nextChange(by int) {
	if v.preview == nil {
		return
	}
	var names []string
	for _, ch := range v.preview.Changes {
		if ch.Kind != whatif.Same {
			names = append(names, ch.Name)
		}
	}
	if len(names) == 0 {
		return
	}
	i := slices.Index(names, v.wall.sel)
	if i < 0 && by < 0 {
		i = 0
	}
	v.reveal(names[(i+by+len(names))%len(names)])
}

// nextRisk marks the next risk as looked at and goes to its resource.
func (v *whatifView) nextRisk() {
	if v.preview == nil || len(v.preview.Risks) == 0 {
		return
	}
	v.risk = (v.risk + 1) % len(v.preview.Risks)
	v.seen[v.risk] = true
	if name := v.preview.Risks[v.risk].Resource; name != "" {
		v.reveal(name)
	}
}

// reveal goes to a brick, also where the filter hides it.
func (v *whatifView) reveal(name string) {
	if _, shown := v.wall.graph[name]; !shown {
		v.filter.input.SetValue("")
		v.lay()
	}
	v.wall.choose(name)
}

func (v *whatifView) unseen() int {
	if v.preview == nil {
		return 0
	}
	return len(v.preview.Risks) - len(v.seen)
}

// openLine shows the selected resource in the template.
func (v *whatifView) openLine(m *model) tea.Cmd {
	if v.preview == nil {
		return nil
	}
	ch := v.preview.Change(v.wall.sel)
	if ch == nil {
		return nil
	}
	cmd := m.open(viewDraft)
	m.draft.goTo(ch.Pos)
	return cmd
}

// failureWords say what becomes of a run that fails.
var failureWords = map[string]string{"undo": "all is undone", "hold": "what is built is held"}

// deploy asks, and then starts the run.
func (v *whatifView) deploy(m *model) tea.Cmd {
	p := v.preview
	switch {
	case v.loading || p == nil:
		m.say(true, "there is no what-if yet")
		return nil
	case p.Kind == "compare":
		m.say(true, "this compares with %s and cannot be deployed; r asks what a deployment would do", p.Against)
		return nil
	case p.Findings.HasErrors():
		m.say(true, "mend what is wrong first: %s", p.Findings[0].Message)
		return nil
	case p.Empty() && p.Kind != "delete" && len(p.Old) == 0:
		m.say(false, "nothing to do: what is deployed is what is wanted")
		return nil
	case v.unseen() > 0:
		m.say(true, "look through %d more of the risks first: tab goes through them", v.unseen())
		return nil
	}
	word := ""
	if cli.NeedsName(p) {
		word = p.ChangeSet.Stack
	}
	question, onFailure := cli.Question(p), v.onFail
	if p.Kind != "delete" {
		question += " On failure: " + failureWords[onFailure] + "."
	}
	m.ask = newAsk(question, word, func(string) tea.Cmd {
		return func() tea.Msg {
			t, err := m.app.Prepare(m.ctx, p, onFailure)
			return runStarted{ticket: t, err: err}
		}
	})
	for _, risk := range p.Risks {
		m.ask.details = append(m.ask.details, "! "+string(risk.Kind)+"  "+risk.Text)
	}
	m.ask.details = m.ask.details[:min(4, len(m.ask.details))]
	return nil
}

// rehearse shows what would happen if the selected resource failed, or hides
// it again.
func (v *whatifView) rehearse(m *model) {
	if v.preview == nil {
		return
	}
	if v.play != nil && v.play.Resource == v.wall.sel {
		v.play = nil
		return
	}
	r, err := m.app.Rehearse(v.preview, v.wall.sel)
	if err != nil {
		m.say(false, "%v", err)
		return
	}
	v.play, v.scroll = r, 0
}

// letFail makes the stand-in cloud fail at the selected resource, to try out
// what then happens.
func (v *whatifView) letFail(m *model) tea.Cmd {
	if v.preview == nil || !m.app.StandIn() {
		m.say(false, "only the stand-in cloud can be made to fail")
		return nil
	}
	ch := v.preview.Change(v.wall.sel)
	if ch == nil || ch.Kind != whatif.New && ch.Kind != whatif.Edit && ch.Kind != whatif.Swap && ch.Kind != whatif.Adopt {
		m.say(false, "nothing is built or edited at %s: choose a brick that changes (n)", v.wall.sel)
		return nil
	}
	name := ch.Name
	m.ask = newAsk(fmt.Sprintf("Let the stand-in cloud fail once at %s. With which words?", name), "", func(words string) tea.Cmd {
		return func() tea.Msg {
			if err := m.app.LetFail(m.ctx, name, words); err != nil {
				return failed{"let it fail", err}
			}
			return done{fmt.Sprintf("the stand-in will fail once at %s: d deploys, and watch the undo", name)}
		}
	})
	m.ask.free = true
	m.ask.input.SetValue("no host has room for it")
	return nil
}

func (v *whatifView) click(m *model, x, y int) tea.Cmd {
	if n := v.wall.at(x, y); n != "" {
		v.choose(n)
		return nil
	}
	if v.side.contains(x, y) {
		for _, l := range v.links {
			if l.line == y-v.side.y-2+v.scroll {
				return v.follow(m, l)
			}
		}
	}
	return nil
}

func (v *whatifView) wheel(_ *model, by int) { v.scroll = max(0, v.scroll+by) }

func (v *whatifView) keys(m *model) []binding {
	if v.focus >= 0 {
		return []binding{{"enter", "go there"}, {"↑ ↓", "the next"}, {"esc", "leave the details"}, {"backspace", "back to the brick before"}}
	}
	var keys []binding
	p := v.preview
	if p == nil {
		return []binding{{"r", "ask again"}}
	}
	if v.deployable() {
		keys = append(keys, binding{"d", map[string]string{"deploy": "deploy", "undo": "go back", "delete": "delete"}[p.Kind]})
	}
	if len(p.Risks) > 0 {
		keys = append(keys, binding{"tab", "look through risks"})
	}
	if len(v.wall.graph) > 0 {
		keys = append(keys, binding{"n", "next change"}, binding{"enter", "because and then"}, binding{"g", "group"}, binding{"/", "filter"})
	}
	keys = append(keys, binding{"c", "only changes"}, binding{"t", "template line"})
	if v.deployable() {
		keys = append(keys, binding{"x", "if it failed here"}, binding{"s", "save, to deploy exactly that"})
	}
	keys = append(keys, binding{"m", "write it as Markdown"}, binding{"p", "draw it as SVG or PDF"}, binding{"a", "compare with something else"}, binding{"r", "ask again"},
		binding{"v", "long values whole or short"}, binding{"← ↓ ↑ →", "walk the wall"}, binding{"pgdn", "more of the details"}, binding{"backspace", "back to the brick before"})
	if p.Saved != "" && !p.Approved {
		keys = append(keys, binding{"A", "agree to it"})
	}
	if p.Kind != "delete" && v.deployable() {
		keys = append(keys, binding{"o", "on failure: undo or hold"})
	}
	if m.app.StandIn() && v.deployable() {
		keys = append(keys, binding{"b", "let the stand-in fail here"})
	}
	return keys
}

// deployable reports whether there is something to carry out, and nothing wrong
// with it.
func (v *whatifView) deployable() bool {
	p := v.preview
	return p != nil && p.Kind != "compare" && !p.Findings.HasErrors() && (!p.Empty() || p.Kind == "delete" || len(p.Old) > 0)
}

func (v *whatifView) hint(*model) string {
	p := v.preview
	switch {
	case v.loading:
		return "asking the cloud …"
	case v.filter.typing:
		return "type words of name, type or change; enter keeps the filter"
	case v.focus >= 0:
		return "what led to it, and what follows from it"
	case p == nil:
		return ""
	case v.stale:
		return "the files have changed: r makes it anew"
	case p.Kind == "compare":
		return "a comparison: r asks what a deployment would do"
	case p.Findings.HasErrors():
		return "next: mend what is wrong, 2 shows it"
	case v.unseen() > 0:
		return fmt.Sprintf("next: look through %d risk%s (tab), then d", v.unseen(), plural(v.unseen()))
	case p.Kind == "delete":
		return "this removes the stack: d deletes it, esc leaves it"
	case p.Empty():
		return "nothing to do: the cloud is as wanted"
	case p.Kind == "undo":
		return "what-if is current: d goes back to it"
	}
	return "what-if is current: d deploys it"
}

func plural(n int) string {
	if n == 1 {
		return ""
	}
	return "s"
}

func (v *whatifView) status(*model) string {
	if v.preview != nil && v.preview.Against != "" {
		return "compared with " + v.preview.Against
	}
	if v.made.IsZero() || v.preview == nil {
		return ""
	}
	return "compared with the cloud at " + v.made.Format("15:04:05")
}
