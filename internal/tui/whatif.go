package tui

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cli"
	"brickrow/internal/run"
	"brickrow/internal/stack"
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
	onFail  string         // undo or hold
	scroll  int            // of the details
	play    *run.Rehearsal // of a failure at its resource; nil is none
}

type previewLoaded struct {
	preview *app.Preview
	err     error
	about   subject
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
		open, err := m.app.Interrupted(m.ctx, st)
		if err != nil {
			return failed{"undo", err}
		}
		if open {
			t, err := m.app.Resume(m.ctx, st, true)
			return runStarted{ticket: t, err: err}
		}
		p, err := m.app.WhatIfUndo(m.ctx, st, 0)
		return previewLoaded{p, err, m.about}
	}
}

func (v *whatifView) start(m *model, make func() (*app.Preview, error)) tea.Cmd {
	v.loading, v.err = true, nil
	if v.about.name != m.about.name || v.about.target != m.about.target {
		v.preview = nil
	}
	about := m.about
	return func() tea.Msg {
		p, err := make()
		return previewLoaded{p, err, about}
	}
}

func (v *whatifView) loaded(m *model, msg previewLoaded) tea.Cmd {
	v.play = nil
	v.loading, v.stale, v.err = false, false, msg.err
	if msg.err != nil {
		v.preview = nil
		return nil
	}
	if msg.preview.Kind != "deploy" {
		m.at = viewWhatIf
	}
	v.preview, v.about, v.made = msg.preview, msg.about, time.Now()
	v.seen, v.risk, v.scroll = map[int]bool{}, -1, 0
	v.onFail = "undo"
	if msg.preview.Draft != nil {
		v.onFail = msg.preview.Draft.Stack.OnFailure
	}
	v.lay()
	for _, ch := range msg.preview.Changes {
		if ch.Kind != whatif.Same {
			v.wall.choose(ch.Name)
			break
		}
	}
	return nil
}

// lay gives the wall its bricks: all, or only what changes.
func (v *whatifView) lay() {
	g := v.preview.Graph()
	if v.only {
		for _, ch := range v.preview.Changes {
			if ch.Kind == whatif.Same {
				delete(g, ch.Name)
			}
		}
	}
	v.wall.set(g)
}

func (v *whatifView) key(m *model, k string) (tea.Cmd, bool) {
	if v.wall.walk(k) {
		v.scroll = 0
		return nil, true
	}
	switch k {
	case "n", "N":
		v.nextChange(map[string]int{"n": 1, "N": -1}[k])
	case "pgdown":
		v.scroll += 5
		return nil, true
	case "pgup":
		v.scroll = max(0, v.scroll-5)
		return nil, true
	case "c":
		if v.preview != nil {
			v.only = !v.only
			v.lay()
		}
	case "tab":
		v.nextRisk()
	case "t":
		return v.openLine(m), true
	case "r":
		v.stale = true
		return v.open(m), true
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
		return nil, false
	}
	v.scroll = 0
	return nil, true
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
	v.wall.choose(names[(i+by+len(names))%len(names)])
}

// nextRisk marks the next risk as looked at and goes to its resource.
func (v *whatifView) nextRisk() {
	if v.preview == nil || len(v.preview.Risks) == 0 {
		return
	}
	v.risk = (v.risk + 1) % len(v.preview.Risks)
	v.seen[v.risk] = true
	if name := v.preview.Risks[v.risk].Resource; name != "" {
		v.wall.choose(name)
	}
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

func (v *whatifView) click(_ *model, x, y int) tea.Cmd {
	if n := v.wall.at(x, y); n != "" {
		v.wall.choose(n)
		v.scroll = 0
	}
	return nil
}

func (v *whatifView) wheel(_ *model, by int) { v.scroll = max(0, v.scroll+by) }

func (v *whatifView) keys(m *model) []binding {
	keys := []binding{{"d", "deploy"}}
	if v.preview != nil {
		keys[0].words = map[string]string{"deploy": "deploy", "undo": "go back", "delete": "delete"}[v.preview.Kind]
		if len(v.preview.Risks) > 0 {
			keys = append(keys, binding{"tab", "look through risks"})
		}
	}
	keys = append(keys, binding{"n", "next change"}, binding{"c", "only changes"}, binding{"t", "template line"}, binding{"x", "if it failed here"}, binding{"r", "ask again"}, binding{"← ↓ ↑ →", "walk the wall"}, binding{"pgdn", "more of the details"})
	if v.preview != nil && v.preview.Kind != "delete" {
		keys = append(keys, binding{"o", "on failure: undo or hold"})
	}
	if m.app.StandIn() {
		keys = append(keys, binding{"b", "let the stand-in fail here"})
	}
	return keys
}

func (v *whatifView) hint(*model) string {
	p := v.preview
	switch {
	case v.loading:
		return "asking the cloud …"
	case p == nil:
		return ""
	case v.stale:
		return "the files have changed: r makes it anew"
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
	if v.made.IsZero() || v.preview == nil {
		return ""
	}
	return "compared with the cloud at " + v.made.Format("15:04:05")
}

func (v *whatifView) draw(m *model, s *screen, r rect) {
	t := m.t
	p := v.preview
	if p == nil {
		y := r.y + 1
		lines := []string{"asking the cloud what is there …"}
		if v.err != nil {
			lines = append([]string{"There is no what-if:"}, strings.Split(v.err.Error(), "\n")...)
		}
		for _, l := range lines {
			for _, part := range wrap(l, r.w-6) {
				s.text(r.x+3, y, r.w-6, t.plain(), part)
				y++
			}
		}
		return
	}
	if len(p.Changes) == 0 && p.Findings.HasErrors() {
		s.text(r.x+1, r.y, r.w-2, t.plain(), "There is no what-if until what is wrong below is mended.")
	} else {
		v.drawTop(m, s, r)
	}
	body, strip := rect{r.x, r.y + 2, r.w, r.h - 2}, rect{}
	if n := v.stripLines(); n > 0 {
		body, strip = body.splitBottom(min(n+1, r.h/2))
		v.drawStrip(m, s, strip)
	}
	if p.Findings.HasErrors() && len(p.Changes) == 0 {
		return
	}
	of := func(name string) brick {
		ch := p.Change(name)
		return brick{mark: ch.Kind.Mark(), sub: ch.Type, paint: t.kinds[ch.Kind], faint: ch.Kind == whatif.Same}
	}
	if r.w < 100 {
		top, bottom := body.splitBottom(body.h / 2)
		v.wall.draw(s, top, t, of)
		v.drawChange(m, s, rect{bottom.x + 1, bottom.y, bottom.w - 2, bottom.h})
		return
	}
	left, side := body.splitRight(max(52, r.w*2/5))
	s.column(side.x, side.y, side.h, t.on(t.mortar), "│")
	v.wall.draw(s, left.inset(0), t, of)
	v.drawChange(m, s, rect{side.x + 2, side.y, side.w - 3, side.h})
}

func (v *whatifView) drawTop(m *model, s *screen, r rect) {
	t, p := m.t, v.preview
	x := drawTally(m, s, r.x+1, r.y, r.w-1, p.Tally)
	title := map[string]string{"undo": "way back, " + noteOf(p), "delete": "deletion of the stack"}[p.Kind]
	if title != "" {
		x = s.text(x, r.y, r.w-x, bold(t.hinted()), title)
	}
	words := ""
	if !p.Empty() {
		words = "about " + whatif.Length(p.Estimate.Seconds)
	}
	if n := len(p.Risks); n > 0 {
		words += fmt.Sprintf(" · %d risk%s", n, plural(n))
	}
	if x+width(words)+2 < r.w {
		s.right(r.x+r.w-1, r.y, r.w-x-2, bold(t.hinted()), words)
	}
}

func noteOf(p *app.Preview) string {
	if p.Revision == nil {
		return ""
	}
	return p.Revision.Note
}

func (v *whatifView) stripLines() int {
	n := len(v.preview.Risks)
	for _, f := range v.preview.Findings {
		if f.Severity == tosca.Error {
			n++
		}
	}
	return min(n, 8)
}

// drawStrip lists what is wrong and the risks.
func (v *whatifView) drawStrip(m *model, s *screen, r rect) {
	t := m.t
	s.line(r.x, r.y, r.w, t.on(t.mortar), "─")
	y := r.y + 1
	for _, f := range v.preview.Findings {
		if f.Severity != tosca.Error || y >= r.y+r.h {
			continue
		}
		x := s.text(r.x+1, y, r.w-2, bold(t.on(t.states["failed"].word)), "✖ "+f.Message)
		x = s.text(x+2, y, r.x+r.w-x-3, t.hinted(), f.Mend)
		s.text(x+2, y, r.x+r.w-x-3, t.faint(), f.Short())
		y++
	}
	rows := r.y + r.h - y
	from := max(0, min(v.risk-rows+1, len(v.preview.Risks)-rows))
	for i := from; i < len(v.preview.Risks) && y < r.y+r.h; i++ {
		risk := v.preview.Risks[i]
		label := uv.Style{Fg: t.selText, Bg: t.selGround, Attrs: uv.AttrBold}
		mark := " ! "
		if v.seen[i] {
			label, mark = uv.Style{Fg: t.hint, Bg: t.bar}, " √ "
		}
		x := s.text(r.x+1, y, 17, label, fmt.Sprintf("%s%-12s ", mark, risk.Kind))
		st := t.plain()
		if i == v.risk {
			st = t.strong()
		}
		x = s.text(x+2, y, r.w-x-3, st, risk.Text)
		s.text(x+2, y, r.x+r.w-x-3, t.faint(), risk.Pos.Short())
		y++
	}
}

// detail is a line of the details, as pieces.
type detail []span

// drawChange spells the selected change out.
func (v *whatifView) drawChange(m *model, s *screen, r rect) {
	ch := v.preview.Change(v.wall.sel)
	if ch == nil {
		return
	}
	t := m.t
	p := t.kinds[ch.Kind]
	x := s.spans(r.x, r.y, r.w, span{bold(t.on(p.word)), ch.Kind.Mark() + " " + ch.Name}, span{t.plain(), "  "}, span{bold(t.on(p.word)), string(ch.Kind)})
	s.text(x+2, r.y, r.x+r.w-x-2, t.faint(), ch.Type+" · "+ch.Pos.Short())
	lines := v.details(m, ch, r.w)
	room := r.h - 2
	v.scroll = max(0, min(v.scroll, len(lines)-room))
	for i, l := range lines[v.scroll:min(len(lines), v.scroll+max(0, room))] {
		s.spans(r.x, r.y+2+i, r.w, l...)
	}
	if v.scroll+room < len(lines) {
		s.right(r.x+r.w, r.y+r.h-1, r.w, bold(t.hinted()), fmt.Sprintf("%d more, pgdn", len(lines)-v.scroll-room))
	}
}

func (v *whatifView) details(m *model, ch *whatif.Change, w int) []detail {
	t := m.t
	var out []detail
	add := func(pieces ...span) { out = append(out, pieces) }
	if v.play != nil && v.play.Resource == ch.Name {
		for i, l := range cli.RehearsalLines(v.play) {
			st := t.plain()
			if i == 0 || !strings.HasPrefix(l, " ") {
				st = bold(t.hinted())
				if i > 0 {
					add()
				}
			}
			for k, part := range wrap(strings.TrimLeft(l, " "), w-2-len(l)+len(strings.TrimLeft(l, " "))) {
				indent := strings.Repeat(" ", len(l)-len(strings.TrimLeft(l, " ")))
				if k > 0 {
					indent += "  "
				}
				add(span{st, indent + part})
			}
		}
		return out
	}
	if ch.Kind == whatif.Same {
		add(span{t.faint(), "It stays as it is; no call is made."})
		if ch.Recorded != nil {
			add(span{t.faint(), ch.Recorded.ID})
			add()
			for _, name := range propertyNames(ch.Recorded) {
				add(span{t.on(t.key), pad(name, 16) + " "}, span{t.plain(), tosca.Show(ch.Recorded.Properties[name])})
			}
		}
	}
	longest := 8
	for _, c := range ch.Properties {
		longest = max(longest, width(c.Path))
	}
	longest = min(longest, w/3)
	for _, c := range ch.Properties {
		out = append(out, v.property(m, ch, c, longest, w)...)
	}
	if ch.OneWay {
		add()
		add(span{t.hinted(), "It cannot be put back in place, so it is made last."})
	}
	section := func(title string, lines []string) {
		if len(lines) == 0 {
			return
		}
		add()
		add(span{bold(t.hinted()), title})
		for _, l := range lines {
			for i, part := range wrap(l, w-2) {
				indent := "  "
				if i > 0 {
					indent = "    "
				}
				add(span{t.plain(), indent + part})
			}
		}
	}
	section("because", ch.Because)
	var then []string
	for _, n := range ch.Then {
		if d := v.preview.Change(n); d != nil {
			then = append(then, d.Kind.Mark()+" "+n+"  "+string(d.Kind))
		}
	}
	section("then", then)
	if ups := v.wall.users.Reach(ch.Name); len(ups) > 0 {
		section("rests on it", []string{strings.Join(ups, ", ")})
	}
	return out
}

func propertyNames(r *stack.Recorded) []string {
	var names []string
	for n, v := range r.Properties {
		if !tosca.Equal(v, tosca.Null{}) {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	return names
}

func pad(s string, w int) string {
	if n := w - width(s); n > 0 {
		return s + strings.Repeat(" ", n)
	}
	return clip(s, w)
}

// property is one property before and after, on one line where it fits.
func (v *whatifView) property(m *model, ch *whatif.Change, c stack.PropertyChange, longest, w int) []detail {
	t := m.t
	after := tosca.Show(c.After)
	if c.Unknown {
		after = "set by the cloud"
		if c.Link {
			after = tosca.Show(c.After) + " (a new one)"
			if c.Before == nil || tosca.Show(c.Before) != tosca.Show(c.After) {
				after = tosca.Show(c.After)
			}
		}
	}
	before := tosca.Show(c.Before)
	if c.Before == nil {
		before = "not set"
	}
	if c.After == nil {
		after = "taken away"
	}
	if tosca.HasSecret(c.After) {
		after = "(secret)"
		if c.Before != nil {
			after = "(secret, changed)"
		}
	}
	name := span{t.on(t.key), pad(c.Path, longest) + " "}
	effect := span{}
	if c.Effect == stack.Swap && ch.Kind == whatif.Swap {
		effect = span{t.on(t.kinds[whatif.Swap].word), "  forces the swap"}
	}
	switch {
	case ch.Kind == whatif.New:
		return values(name, longest, w, t.strong(), after)
	case ch.Kind == whatif.Drop || ch.Kind == whatif.Release:
		return values(name, longest, w, t.faint(), before)
	}
	line := detail{name, {t.faint(), before}, {t.faint(), " → "}, {t.strong(), after}, effect}
	if longest+1+width(before)+3+width(after)+width(effect.text) <= w {
		return []detail{line}
	}
	out := values(name, longest, w, t.faint(), before)
	out = append(out, values(span{t.faint(), strings.Repeat(" ", longest-1) + "→ "}, longest, w, t.strong(), after)...)
	if effect.text != "" {
		out = append(out, detail{{t.plain(), strings.Repeat(" ", longest)}, effect})
	}
	return out
}

// values is a long value over several lines, under its name.
func values(name span, longest, w int, st uv.Style, text string) []detail {
	var out []detail
	for i, part := range wrap(text, max(10, w-longest-2)) {
		if i > 0 {
			name = span{st, strings.Repeat(" ", longest+1)}
		}
		out = append(out, detail{name, {st, part}})
	}
	if len(out) == 0 {
		out = []detail{{name}}
	}
	return out
}
