// Package preview is the view that shows what a deployment, a way back or a
// deletion would do.
package preview

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// View shows what a deployment, a way back or a deletion would do.
type View struct {
	part.Shell
	preview *app.Preview
	about   part.Subject
	made    time.Time
	loading bool
	stale   bool
	heard   bool // while it was loaded, a file was said to have changed
	err     error
	wall    part.Wall
	seen    map[int]bool // risks looked through
	risk    int          // the one marked; -1 is none
	only    bool         // only what changes
	by      grouping     // how the wall is grouped
	filter  part.Filter  // what the wall is narrowed down by
	full    bool         // long values are shown whole
	onFail  stack.OnFailure
	scroll  int            // of the details
	links   []link         // in the details, of the last drawing
	focus   int            // the marked link; -1 is none
	back    []string       // where one has jumped from
	side    part.Rect      // where the details are
	askings int            // begun so far
	play    *run.Rehearsal // of a failure at its resource; nil is none
	written *app.Preview   // what the text that is being written would change
	quick   bool           // that is shown, until the cloud has answered
	chosen  []string       // the bricks that are chosen, to be deployed alone
	applied []string       // those that the what-if is of; none is all
	going   *goingBack     // a revision is chosen; nil is none
}

// New is the view.
func New(sh part.Shell) *View {
	return &View{Shell: sh, filter: part.NewFilter(), focus: -1, risk: -1}
}

// Name is what stands in the line of views.
func (v *View) Name() string { return "What-if" }

// Accepts takes all that would change a stack.
func (v *View) Accepts(intent any) bool {
	switch intent.(type) {
	case part.ShowWhatIf, part.ShowUndo, part.ShowPreview, part.ShowDeletion, part.ShowSaved:
		return true
	}
	return false
}

// Typing reports whether the filter is being typed.
func (v *View) Typing() bool { return v.filter.Typing }

// Update hears a message.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case part.Opened:
		if v.going != nil && !v.going.about.Is(v.Subject()) {
			v.going = nil
		}
		if v.going != nil {
			return nil
		}
		return v.open()
	case part.ShowWhatIf:
		v.going = nil
		v.Bring(v)
		return v.open()
	case part.ShowDeletion:
		v.going = nil
		v.Bring(v)
		st := v.Subject().Stack
		return v.start(func() (*app.Preview, error) { return v.App().WhatIfDelete(v.Context(), st) })
	case part.ShowPreview:
		v.going = nil
		v.Bring(v)
		return v.start(msg.Make)
	case part.ShowUndo:
		if msg.To == 0 {
			return v.undo()
		}
		v.going = nil
		v.Bring(v)
		st := v.Subject().Stack
		return v.start(func() (*app.Preview, error) { return v.App().WhatIfUndo(v.Context(), st, msg.To) })
	case part.ShowSaved:
		return v.openSaved(msg.Path)
	case part.InputsGiven:
		v.stale = v.preview != nil
	case part.FileChanged:
		v.heard = v.loading
		return v.compareText()
	case textRead:
		v.stale = v.stale || msg.other && msg.of == v.preview
	case part.Begin:
		v.preview, v.chosen, v.applied = nil, nil, nil
	case undoAsked:
		return v.askUndo(msg)
	case revisionsRead:
		v.revisions(msg)
	case previewLoaded:
		v.loaded(msg)
		if v.heard {
			v.heard = false
			return v.compareText()
		}
	case part.Compared:
		v.written = msg.Preview
		v.stale = v.stale || v.preview != nil && !isOf(v.preview, msg.Preview.Draft)
	case part.Click:
		return v.click(msg.X, msg.Y)
	case part.Wheel:
		v.scroll = max(0, v.scroll+msg.By)
	case tea.KeyPressMsg, tea.PasteMsg:
		if v.filter.Typing {
			return v.filter.Update(msg, v.lay)
		}
	}
	return nil
}

// grouping is how the wall is grouped.
type grouping int

const (
	byCourse grouping = iota
	byType
	byKind
	byNode // the nodes that templates of their own fill
)

var groupWords = map[grouping]string{byCourse: "what rests on what", byType: "type", byKind: "change", byNode: "the node that they fill"}

// itself is the group of what fills no node.
const itself = "on its own"

// link is a line of the details that leads somewhere.
type link struct {
	line     int
	resource string    // another brick; "" is none
	pos      tosca.Pos // a place in a file
}

type previewLoaded struct {
	preview *app.Preview
	err     error
	about   part.Subject
	asked   int // which asking it is of; 0 is one that is always heard
}

// open makes the what-if of the subject's file.
func (v *View) open() tea.Cmd {
	about := v.Subject()
	if p := v.preview; p != nil && v.about.Is(about) && !v.stale && p.Kind == run.KindDeploy && about.Stack != nil &&
		p.Stack != nil && about.Stack.Updated.Equal(p.Stack.Updated) && time.Since(v.made) < 5*time.Second {
		return nil
	}
	if about.File == "" {
		v.preview, v.err, v.about = nil, errors.New("it is not known which stack file it came from; o in the "+
			"stacks opens one"), about
		return nil
	}
	if !v.about.Is(about) {
		v.chosen, v.applied = nil, nil
	}
	values, only := v.Values(about.File), v.applied
	written := v.written
	defer func() { v.showWritten(written) }()
	return v.start(func() (*app.Preview, error) {
		d, err := v.App().Load(v.Context(), about.File, values)
		if err != nil {
			return nil, err
		}
		return v.App().WhatIf(v.Context(), d, only...)
	})
}

// textRead says whether the files are other ones than a what-if was made of.
type textRead struct {
	of    *app.Preview
	other bool
}

// compareText reads the files again: what is said to have changed may be what the what-if was made of.
func (v *View) compareText() tea.Cmd {
	p, about := v.preview, v.about
	if p == nil {
		return nil
	}
	if about.File == "" || p.Kind != run.KindDeploy || p.Saved != "" {
		v.stale = true
		return nil
	}
	values := v.Values(about.File)
	return func() tea.Msg {
		d, err := v.App().Load(v.Context(), about.File, values)
		return textRead{p, err != nil || !isOf(p, d)}
	}
}

// isOf reports whether a what-if was made of what a draft was read from.
func isOf(p *app.Preview, d *app.Draft) bool {
	return p.Draft != nil && d != nil && d.SameText(p.Draft)
}

// showWritten shows what the text that is being written would change, by the record,
// until the cloud has answered.
func (v *View) showWritten(p *app.Preview) {
	about := v.Subject()
	if p == nil || len(v.applied) > 0 || p.Draft == nil || p.Draft.Path != about.File || p.Findings.HasErrors() {
		return
	}
	v.loaded(previewLoaded{p, nil, about, v.askings})
	v.quick, v.loading = true, true
}

func (v *View) start(make func() (*app.Preview, error)) tea.Cmd {
	v.loading, v.err = true, nil
	about := v.Subject()
	if !v.about.Is(about) {
		v.preview = nil
	}
	v.askings++
	asked := v.askings
	return func() tea.Msg {
		p, err := make()
		return previewLoaded{p, err, about, asked}
	}
}

func (v *View) loaded(msg previewLoaded) {
	if msg.asked > 0 && msg.asked < v.askings {
		return // something else was asked since
	}
	v.play, v.quick = nil, false
	v.loading, v.stale, v.err = false, false, msg.err
	if msg.err != nil {
		v.preview = nil
		if msg.asked == 0 {
			v.Bring(v)
		}
		return
	}
	if msg.preview.Kind != run.KindDeploy || msg.preview.Saved != "" {
		v.Bring(v)
		v.About(msg.about)
	}
	v.preview, v.about, v.made = msg.preview, msg.about, time.Now()
	v.seen, v.risk, v.scroll, v.focus, v.back = map[int]bool{}, -1, 0, -1, nil
	v.onFail = stack.Undo
	if msg.preview.Draft != nil {
		v.onFail = msg.preview.Draft.Stack.OnFailure
	}
	v.filter.Input.SetValue("")
	v.lay()
	for _, ch := range msg.preview.Changes {
		if ch.Kind != whatif.Same {
			v.wall.Choose(ch.Name)
			break
		}
	}
}

// lay gives the wall its bricks: those that pass the filter, all or only what
// changes, in the groups that are asked for.
func (v *View) lay() {
	if v.preview == nil {
		return
	}
	g := v.preview.Graph()
	groups := map[string][]string{}
	for _, ch := range v.preview.Changes {
		if v.only && ch.Kind == whatif.Same || !v.filter.Fits(ch.Name+" "+ch.Type+" "+string(ch.Kind)) {
			delete(g, ch.Name)
			continue
		}
		label := map[grouping]string{byType: ch.Type, byKind: string(ch.Kind), byNode: cmp.Or(stack.FilledNode(ch.Name), itself)}[v.by]
		groups[label] = append(groups[label], ch.Name)
	}
	if v.by == byCourse {
		v.wall.Set(g)
		v.wall.Within(v.preview.Graph())
		return
	}
	labels := slices.Sorted(maps.Keys(groups))
	if i := slices.Index(labels, itself); i >= 0 {
		labels = append(slices.Delete(labels, i, i+1), itself)
	}
	if v.by == byKind {
		place := func(label string) int { return slices.Index(kindOrder, whatif.Kind(label)) }
		slices.SortFunc(labels, func(a, b string) int { return place(a) - place(b) })
	}
	var parts [][]string
	for i, l := range labels {
		parts = append(parts, groups[l])
		labels[i] = fmt.Sprintf("%d %s", len(groups[l]), l)
	}
	v.wall.Group(g, labels, parts)
	v.wall.Within(v.preview.Graph())
}

var kindOrder = []whatif.Kind{whatif.New, whatif.Edit, whatif.Swap, whatif.Drop, whatif.Adopt, whatif.Keep, whatif.Same}

// choose goes to another brick, from which the details begin anew.
func (v *View) choose(name string) {
	v.wall.Choose(name)
	v.scroll, v.focus = 0, -1
}

// anew makes what a key does one that begins the details anew.
func (v *View) anew(do func()) func() tea.Cmd {
	return func() tea.Cmd {
		do()
		v.scroll, v.focus = 0, -1
		return nil
	}
}

// WouldChange says what kind of run the what-if on the screen is of, and how much it would change.
func (v *View) WouldChange() (run.Kind, int) {
	if v.preview == nil || v.loading {
		return "", 0
	}
	return v.preview.Kind, len(v.preview.Changes) - v.preview.Tally.Same
}

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	p := v.preview
	if v.going != nil {
		return v.revisionKeys()
	}
	if v.filter.Typing {
		return v.filter.Bindings()
	}
	again := part.Bind(v.again, "r").Shown("r", "ask again")
	clear := part.Bind(part.Run(func() { v.filter.Input.SetValue(""); v.lay() }), "esc")
	if p == nil {
		return []part.Binding{again}
	}
	var keys []part.Binding
	deploy := part.Bind(v.deploy, "d")
	if v.deployable() && v.unseen() == 0 {
		words := map[run.Kind]string{run.KindDeploy: "deploy", run.KindUndo: "go back", run.KindDelete: "delete"}[p.Kind]
		if p.PutsBack() {
			words = "put back"
		}
		deploy = deploy.Shown("d", words)
	}
	keys = append(keys, deploy)
	if len(p.RiskLines()) > 0 {
		keys = append(keys, part.Bind(v.anew(v.nextRisk), "tab").Shown("tab", "look through risks"))
	}
	if len(v.wall.Graph) > 0 {
		next := part.Bind(v.anew(func() { v.nextChange(1) }), "n")
		if p.Tally.Same < len(p.Changes) {
			next = next.Shown("n", "next change").As("Go to the next change")
		}
		details := part.Bind(part.Run(func() { v.focus = 0 }), "enter").Shown("enter", "because and then").
			As("Show because and then")
		if len(v.links) == 0 {
			details = part.Bind(part.Run(func() { v.Say("nothing here leads further") }), "enter")
		}
		keys = append(keys,
			next,
			part.Bind(v.anew(func() { v.nextChange(-1) }), "N"),
			details,
			part.Bind(v.anew(v.group), "g").Shown("g", "group"))
	}
	keys = append(keys, part.Bind(part.Run(func() { v.filter.Typing = true }), "/").Shown("/", "filter"))
	only := part.Bind(v.anew(func() { v.only = !v.only; v.lay() }), "c")
	if n := p.Tally.Same; n > 0 && n < len(p.Changes) {
		only = only.Shown("c", "only changes").As("Show only what changes, or all")
	}
	if v.filter.Active() {
		keys = append(keys, clear.Shown("esc", "clear the filter"))
	}
	keys = append(keys,
		only,
		part.Bind(v.openLine, "t").Shown("t", "template line").As("Show the line of the template"))
	if v.deployable() {
		keys = append(keys, part.Bind(part.Run(v.rehearse), "x").Shown("x", "if it failed here").
			As("Show what would happen if it failed here"))
	}
	keys = append(keys, v.chosenKeys()...)
	keys = append(keys, v.outKeys()...)
	keys = append(keys, again,
		part.Bind(part.Run(v.whole), "v").Shown("v", "all of it, or short").
			As("Show long values, risks and notes whole, or short"))
	if p.Kind != run.KindDelete && v.deployable() {
		keys = append(keys, part.Bind(part.Run(v.turn), "o").Shown("o", "on failure: undo or hold").
			As("On failure undo, or hold"))
	}
	if v.App().StandIn() && v.deployable() {
		keys = append(keys, part.Bind(part.Run(v.letFail), "b").Shown("b", "let the stand-in fail here"))
	}
	if len(v.back) > 0 {
		keys = append(keys, part.Bind(part.Run(v.goBack), "backspace").Shown("backspace", "back to the brick before").
			As(""))
	}
	keys = append(keys, v.moves()...)
	if v.focus >= 0 { // the others do what they always do
		return append(v.linkKeys(), part.Hidden(keys)...)
	}
	return keys
}

// moves are the keys that go about on the wall and in the details.
func (v *View) moves() []part.Binding {
	var keys []part.Binding
	for i, b := range v.wall.Bindings() {
		walk := b.Do
		b.Do = v.anew(func() { walk() })
		if i == 0 {
			b = b.Shown("← ↓ ↑ →", "walk the wall").As("")
		}
		keys = append(keys, b)
	}
	return append(keys,
		part.Bind(part.Run(func() { v.scroll += 5 }), "pgdown").Shown("pgdn", "more of the details").As(""),
		part.Bind(part.Run(func() { v.scroll = max(0, v.scroll-5) }), "pgup"))
}

// linkKeys are the keys while a link of the details is marked.
func (v *View) linkKeys() []part.Binding {
	next := part.Bind(part.Run(func() { v.focus = max(0, v.focus-1) }), "up", "k")
	if len(v.links) > 1 {
		next = next.Shown("↑ ↓", "the next").As("")
	}
	keys := []part.Binding{
		part.Bind(func() tea.Cmd { return v.follow(v.links[v.focus]) }, "enter").Shown("enter", "go there"),
		next,
		part.Bind(part.Run(func() { v.focus = min(v.focus+1, len(v.links)-1) }), "down", "j"),
		part.Bind(part.Run(func() { v.focus = -1 }), "esc", "left", "h").Shown("esc", "leave the details"),
	}
	if len(v.back) > 0 {
		keys = append(keys, part.Bind(part.Run(v.goBack), "backspace").Shown("backspace", "back to the brick before").
			As(""))
	}
	return keys
}

// group groups the wall another way.
func (v *View) group() {
	v.by = (v.by + 1) % 4
	if v.by == byNode && !slices.ContainsFunc(v.preview.Changes, func(ch whatif.Change) bool { return stack.FilledNode(ch.Name) != "" }) {
		v.by = byCourse
	}
	v.lay()
	v.Say("grouped by %s", groupWords[v.by])
}

// whole shows long values whole, or cuts them short.
func (v *View) whole() {
	v.full = !v.full
	v.Say("%s", map[bool]string{true: "all is shown whole", false: "what is long is cut short"}[v.full])
}

// turn chooses what becomes of the run when it fails.
func (v *View) turn() {
	v.onFail = map[stack.OnFailure]stack.OnFailure{stack.Undo: stack.Hold, stack.Hold: stack.Undo}[v.onFail]
	v.Say("on failure: %s", failureWords[v.onFail])
}

// follow goes where a link leads: to another brick, or to a line of a file.
func (v *View) follow(l link) tea.Cmd {
	if l.resource == "" {
		return v.Send(part.ShowPlace{Pos: l.pos})
	}
	from := v.wall.Sel
	if _, shown := v.wall.Graph[l.resource]; !shown { // filtered out
		v.filter.Input.SetValue("")
		v.only = false
		v.lay()
	}
	v.choose(l.resource)
	v.back = append(v.back, from)
	return nil
}

// goBack goes back to where one has jumped from.
func (v *View) goBack() {
	v.choose(v.back[len(v.back)-1])
	v.back = v.back[:len(v.back)-1]
}

// again asks anew: for a deployment the files and the cloud, for a saved change
// set the file.
func (v *View) again() tea.Cmd {
	v.stale = true
	if v.preview != nil && v.preview.Saved != "" {
		return v.openSaved(v.preview.Saved)
	}
	return v.open()
}

// nextChange goes to the next resource that changes.
func (v *View) nextChange(by int) {
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
	i := slices.Index(names, v.wall.Sel)
	if i < 0 && by < 0 {
		i = 0
	}
	v.reveal(names[(i+by+len(names))%len(names)])
}

// nextRisk marks the next risk as looked at and goes to its resource.
func (v *View) nextRisk() {
	if v.preview == nil || len(v.preview.RiskLines()) == 0 {
		return
	}
	if v.risk++; v.risk == len(v.preview.RiskLines()) { // all were marked: none is
		v.risk = -1
		return
	}
	v.seen[v.risk] = true
	if name := v.preview.RiskLines()[v.risk].Resource; name != "" {
		v.reveal(name)
	}
}

// reveal goes to a brick, also where the filter hides it.
func (v *View) reveal(name string) {
	if _, shown := v.wall.Graph[name]; !shown {
		v.filter.Input.SetValue("")
		v.lay()
	}
	v.wall.Choose(name)
}

func (v *View) unseen() int {
	if v.preview == nil {
		return 0
	}
	return len(v.preview.RiskLines()) - len(v.seen)
}

// openLine shows the selected resource in the template.
func (v *View) openLine() tea.Cmd {
	ch := v.preview.Change(v.wall.Sel)
	if ch == nil {
		return nil
	}
	return v.Send(part.ShowPlace{Pos: ch.Pos})
}

// failureWords say what becomes of a run that fails.
var failureWords = map[stack.OnFailure]string{stack.Undo: "all is undone", stack.Hold: "what is built is held"}

// deploy asks, and then starts the run.
func (v *View) deploy() tea.Cmd {
	p := v.preview
	switch {
	case v.loading || p == nil:
		v.Warn("there is no what-if yet")
		return nil
	case p.Kind == run.KindDeploy && p.Saved == "" && len(v.chosen) > 0 && len(p.Only) == 0:
		return v.alone(v.chosen) // so that it is seen first
	case p.Kind == app.KindCompare:
		v.Warn("this compares with %s and cannot be deployed; r asks what a deployment would do", p.Against)
		return nil
	case p.Findings.HasErrors():
		v.Warn("fix what is wrong first: %s", p.Findings[0].Message)
		return nil
	case len(v.unsaved()) > 0:
		v.Warn("%s is not saved: 2, then ctrl+s; a deployment is of what stands on the disk",
			strings.Join(v.unsaved(), " and "))
		return nil
	case len(p.NotAsked()) > 0:
		v.Ask(part.NewAsk(app.AskQuestion(p.NotAsked()), "", func(string) tea.Cmd {
			v.App().AskPrograms.Store(true)
			return v.again()
		}))
		return nil
	case p.NothingToDo() && p.Kind != run.KindDelete:
		v.Say("nothing to do: what is deployed is what is wanted")
		return nil
	case v.unseen() > 0:
		v.Warn("look through %d more of the risks first: tab goes through them", v.unseen())
		return nil
	}
	word := p.Consent().Word()
	question, onFailure := p.Question(), v.onFail
	if p.Kind != run.KindDelete {
		question += " On failure: " + failureWords[onFailure] + "."
	}
	ask := part.NewAsk(question, word, func(string) tea.Cmd {
		return func() tea.Msg { return part.Begun(v.App().Prepare(v.Context(), p, onFailure)) }
	})
	for _, risk := range p.RiskLines()[:min(4, len(p.RiskLines()))] {
		ask.Details = append(ask.Details, "! "+string(risk.Kind)+"  "+risk.Text)
	}
	v.Ask(ask)
	return nil
}

// rehearse shows what would happen if the selected resource failed, or hides
// it again.
func (v *View) rehearse() {
	if v.play != nil && v.play.Resource == v.wall.Sel {
		v.play = nil
		return
	}
	r, err := v.App().Rehearse(v.preview, v.wall.Sel)
	if err != nil {
		v.Say("%v", err)
		return
	}
	v.play, v.scroll = r, 0
}

// letFail makes the stand-in cloud fail at the selected resource, to try out
// what then happens.
func (v *View) letFail() {
	ch := v.preview.Change(v.wall.Sel)
	if ch == nil || ch.Kind != whatif.New && ch.Kind != whatif.Edit && ch.Kind != whatif.Swap &&
		ch.Kind != whatif.Adopt {
		v.Say("nothing is built or edited at %s: choose a brick that changes (n)", v.wall.Sel)
		return
	}
	name := ch.Name
	ask := part.NewAsk(fmt.Sprintf("Let the stand-in cloud fail once at %s. With which words?", name), "",
		func(words string) tea.Cmd {
			return func() tea.Msg {
				if err := v.App().LetFail(v.Context(), name, words); err != nil {
					return part.Failed{Doing: "let it fail", Err: err}
				}
				return part.Done{Words: fmt.Sprintf("the stand-in will fail once at %s: d deploys, and watch the undo",
					name)}
			}
		})
	ask.Free = true
	ask.Input.SetValue("no host has room for it")
	v.Ask(ask)
}

func (v *View) click(x, y int) tea.Cmd {
	if n := v.wall.At(x, y); n != "" {
		v.choose(n)
		return nil
	}
	if v.side.Contains(x, y) {
		for _, l := range v.links {
			if l.line == y-v.side.Y-2+v.scroll {
				return v.follow(l)
			}
		}
	}
	return nil
}

// deployable reports whether there is something to carry out, and nothing wrong
// with it.
func (v *View) deployable() bool {
	p := v.preview
	return p != nil && !v.quick && len(v.unsaved()) == 0 && p.Kind != app.KindCompare && !p.Findings.HasErrors() && (!p.NothingToDo() || p.Kind == run.KindDelete)
}

// unsaved names the files that what is shown was read from and that are not saved.
func (v *View) unsaved() []string {
	p := v.preview
	if p == nil || p.Kind != run.KindDeploy || p.Draft == nil || p.Saved != "" {
		return nil
	}
	var out []string
	for path := range v.Values(p.Draft.Path).Texts {
		out = append(out, filepath.Base(path))
	}
	slices.Sort(out)
	return out
}

// Hint is the next step.
func (v *View) Hint() string {
	p := v.preview
	switch {
	case v.going != nil:
		return "next: enter shows what going back would do"
	case v.loading && v.quick:
		return "by the record; asking the cloud …"
	case v.loading:
		return "asking the cloud …"
	case v.filter.Typing:
		return "type words of name, type or change; enter keeps the filter"
	case v.focus >= 0:
		return "what led to it, and what follows from it"
	case p == nil:
		return ""
	case v.stale:
		return "the files have changed: r makes it anew"
	case p.Kind == app.KindCompare:
		return "a comparison: r asks what a deployment would do"
	case p.Findings.HasErrors():
		return "next: fix what is wrong, 2 shows it"
	case len(v.unsaved()) > 0:
		return "not saved: 2, then ctrl+s saves " + strings.Join(v.unsaved(), " and ")
	case v.unseen() > 0:
		return fmt.Sprintf("next: look through %d risk%s (tab), then d", v.unseen(), part.Plural(v.unseen()))
	case p.Kind == run.KindDelete:
		return "this removes the stack: d deletes it, esc leaves it"
	case len(p.NotAsked()) > 0:
		return "how it would be changed is not known: d asks " + strings.Join(p.NotAsked(), ", ")
	case p.Empty() && len(p.Unread) > 0:
		return "nothing to do as far as is known: could not be read: " + stack.UnreadNames(p.Unread)
	case p.NothingToDo():
		return "nothing to do: the cloud is as wanted"
	case p.Empty():
		return "nothing to change: d records what has become as it is wanted"
	case p.PutsBack():
		return "what-if is current: d puts it back"
	case p.Kind == run.KindUndo:
		return "what-if is current: d goes back to it"
	case len(p.Only) == 0 && len(v.chosen) > 0 && p.Kind == run.KindDeploy:
		return "i shows what the chosen alone would do"
	case len(p.Only) > 0:
		return "what-if is current: d deploys these alone"
	}
	return "what-if is current: d deploys it"
}

// Status is what it is compared with.
func (v *View) Status() string {
	if v.preview != nil && v.preview.Against != "" {
		return "compared with " + filepath.Base(v.preview.Against)
	}
	if v.made.IsZero() || v.preview == nil {
		return ""
	}
	return "compared with the cloud at " + v.made.Format("15:04:05")
}
