package tui

import (
	"fmt"
	"slices"
	"strings"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cli"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

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
	if lines := v.strip(t, r.w); len(lines) > 0 {
		body, strip = body.splitBottom(min(len(lines)+1, mostStrip+1, r.h/2))
		v.drawStrip(m, s, strip, lines)
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
		v.drawWall(m, s, top, of)
		v.drawChange(m, s, rect{bottom.x + 1, bottom.y, bottom.w - 2, bottom.h})
		return
	}
	left, side := body.splitRight(max(52, r.w*2/5))
	s.column(side.x, side.y, side.h, t.on(t.mortar), "│")
	v.drawWall(m, s, left, of)
	v.drawChange(m, s, rect{side.x + 2, side.y, side.w - 3, side.h})
}

// drawWall draws the wall, over it the filter, and under it what takes longest.
func (v *whatifView) drawWall(m *model, s *screen, r rect, of func(string) brick) {
	p := v.preview
	if v.filter.draw(m, s, r.x+1, r.y, r.w) {
		r.y, r.h = r.y+1, r.h-1
	}
	if way := p.Estimate.Way(); way != "" && p.Kind != "compare" && r.h > 12 {
		lines := wrap("longest: "+way, r.w-3)
		if len(lines) > 1 { // the ends tell most
			lines = []string{clip("longest: "+way, r.w-3)}
		}
		if sure := " (" + p.Estimate.Sure() + ")"; width(lines[0])+width(sure) <= r.w-3 {
			lines[0] += sure
		} else if r.h > 24 {
			lines = append(lines, strings.Trim(sure, " ()"))
		}
		for i, l := range lines {
			s.text(r.x+1, r.y+r.h-len(lines)+i, r.w-3, m.t.faint(), l)
		}
		r.h -= len(lines)
	}
	if len(v.wall.graph) == 0 {
		words := "Nothing changes: what is deployed is what is wanted. c shows all."
		if v.filter.active() {
			words = "No resource has these words in its name, type or change. esc clears the filter."
		}
		for i, l := range wrap(words, r.w-4) {
			s.text(r.x+2, r.y+1+i, r.w-4, m.t.plain(), l)
		}
		v.wall.placed, v.wall.rows = nil, nil
		return
	}
	v.wall.draw(s, r, m.t, of)
}

func (v *whatifView) drawTop(m *model, s *screen, r rect) {
	t, p := m.t, v.preview
	x := drawTally(m, s, r.x+1, r.y, r.w-1, p.Tally)
	title := map[string]string{"undo": "way back, " + noteOf(p), "delete": "deletion of the stack", "compare": "a comparison", "deploy": p.By}[p.Kind]
	if title != "" {
		x = s.text(x, r.y, r.w-x, bold(t.hinted()), title)
	}
	words := ""
	if !p.Empty() && p.Kind != "compare" {
		words = "about " + whatif.Length(p.Estimate.Seconds)
	}
	if n := len(p.Risks); n > 0 {
		if words != "" {
			words += " · "
		}
		words += fmt.Sprintf("%d risk%s", n, plural(n))
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

// note is something to know that needs no looking through.
type note struct{ mark, label, text, place string }

// notes lists the warnings, and what a deployment leaves as it is.
func (v *whatifView) notes() []note {
	var out []note
	for _, f := range v.preview.Findings {
		if f.Severity == tosca.Warning {
			out = append(out, note{"·", "note", f.Message, f.Short()})
		}
	}
	for _, r := range v.preview.Results {
		if v.preview.BaseRevision == 0 && r.Kind == whatif.New || v.preview.Kind == "delete" && len(r.UsedBy) == 0 { // all of them are
			continue
		}
		text := r.Name + ": " + r.Values()
		if len(r.UsedBy) > 0 {
			text += " · used by " + strings.Join(r.UsedBy, ", ")
		}
		if because := r.Because(); len(because) > 0 && r.Kind == whatif.Edit {
			text += " · because " + strings.Join(because, "; ")
		}
		out = append(out, note{r.Kind.Mark(), "result", text, r.Pos.Short()})
	}
	for _, l := range v.preview.Left {
		out = append(out, note{"·", "left as is", l.Resource + ": " + l.Text, ""})
	}
	return out
}

// stripLine is a line under the wall: what is wrong, a risk, a note.
type stripLine struct {
	pieces []span
	place  string
	risk   int // -1 is none
}

// strip lists what is wrong, the risks, and what else there is to know. The
// marked risk is spelled out, with what one could do.
func (v *whatifView) strip(t *theme, w int) []stripLine {
	var out []stripLine
	add := func(head span, text span, mend, place string, risk int) {
		indent := span{text.st, strings.Repeat(" ", width(head.text))}
		parts := wrap(text.text, w-3-width(head.text))
		for k, part := range parts {
			line := stripLine{pieces: []span{head, {text.st, part}}, risk: risk}
			if k == 0 && len(parts) == 1 {
				line.place = place
			}
			out, head = append(out, line), indent
		}
		for _, part := range wrap(mend, w-3-width(indent.text)) {
			out = append(out, stripLine{pieces: []span{indent, {t.hinted(), part}}, risk: risk})
		}
	}
	for _, f := range v.preview.Findings {
		if f.Severity == tosca.Error {
			st := bold(t.on(t.states["failed"].word))
			add(span{st, "✖ "}, span{st, f.Message}, f.Mend, f.Short(), -1)
		}
	}
	for i, risk := range v.preview.Risks {
		label := uv.Style{Fg: t.selText, Bg: t.selGround, Attrs: uv.AttrBold}
		mark := " ! "
		if v.seen[i] {
			label, mark = uv.Style{Fg: t.hint, Bg: t.bar}, " √ "
		}
		head := fmt.Sprintf("%s%-12s ", mark, risk.Kind)
		if i != v.risk {
			out = append(out, stripLine{[]span{{label, head}, {t.plain(), "  " + risk.Text}}, risk.Pos.Short(), i})
			continue
		}
		before := len(out)
		add(span{t.strong(), head + "  "}, span{t.strong(), risk.Text}, risk.Mend, risk.Pos.Short(), i)
		out[before].pieces = append([]span{{label, head}, {t.strong(), "  "}}, out[before].pieces[1:]...)
	}
	for _, n := range v.notes() {
		add(span{t.faint(), fmt.Sprintf(" %s %-12s   ", n.mark, n.label)}, span{t.plain(), n.text}, "", n.place, -1)
	}
	return out
}

// mostStrip is how many lines the strip has at most.
const mostStrip = 9

func (v *whatifView) drawStrip(m *model, s *screen, r rect, lines []stripLine) {
	t := m.t
	s.line(r.x, r.y, r.w, t.on(t.mortar), "─")
	rows := max(0, r.h-1)
	from := 0
	for i, l := range lines { // all of the marked risk is in sight
		if l.risk >= 0 && l.risk == v.risk {
			from = max(from, i-rows+1)
		}
	}
	for i, l := range lines[from:min(len(lines), from+rows)] {
		y := r.y + 1 + i
		if i == rows-1 && from+rows < len(lines) {
			s.text(r.x+1, y, r.w-2, t.faint(), fmt.Sprintf(" … %d more", len(lines)-from-rows+1))
			break
		}
		x := s.spans(r.x+1, y, r.w-2, l.pieces...)
		if x+2+width(l.place) < r.x+r.w {
			s.text(x+2, y, r.w, t.faint(), l.place)
		}
	}
}

// detail is a line of the details, as pieces.
type detail []span

// drawChange spells the selected change out.
func (v *whatifView) drawChange(m *model, s *screen, r rect) {
	ch := v.preview.Change(v.wall.sel)
	v.side, v.links = r, nil
	if _, shown := v.wall.graph[v.wall.sel]; ch == nil || !shown {
		v.focus = -1
		return
	}
	t := m.t
	p := t.kinds[ch.Kind]
	x := s.spans(r.x, r.y, r.w, span{bold(t.on(p.word)), ch.Kind.Mark() + " " + ch.Name}, span{t.plain(), "  "}, span{bold(t.on(p.word)), string(ch.Kind)})
	s.text(x+2, r.y, r.x+r.w-x-2, t.faint(), ch.Type+" · "+ch.Pos.Short())
	lines := v.details(m, ch, r.w)
	room := r.h - 2
	v.focus = min(v.focus, len(v.links)-1)
	if v.focus >= 0 { // keep it in sight
		at := v.links[v.focus].line
		v.scroll = max(min(v.scroll, at), at-room+2)
		lines[at] = append(detail{{bold(t.on(t.accent)), "▸ "}}, lines[at][1:]...)
	}
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
	title := func(words string) {
		add()
		add(span{bold(t.hinted()), words})
	}
	item := func(l link, st uv.Style, words string) {
		if l.resource != "" || l.pos.Line > 0 {
			l.line = len(out)
			v.links = append(v.links, l)
		}
		for i, part := range wrap(words, w-2) {
			indent := "  "
			if i > 0 {
				indent = "    "
			}
			add(span{t.plain(), indent}, span{st, part})
		}
	}
	var said []string
	for _, k := range ch.Causes {
		if slices.Contains(said, k.Text) {
			continue
		}
		if len(said) == 0 {
			title("because")
		}
		said = append(said, k.Text)
		l := link{pos: k.Pos}
		if k.Resource != "" && v.preview.Change(k.Resource) != nil {
			l = link{resource: k.Resource}
		}
		item(l, t.plain(), k.Text)
	}
	for i, n := range ch.Then {
		if i == 0 {
			title(fmt.Sprintf("then, %d", len(ch.Then)))
		}
		if d := v.preview.Change(n); d != nil {
			item(link{resource: n}, t.on(t.kinds[d.Kind].word), d.Kind.Mark()+" "+n+"  "+string(d.Kind))
		}
	}
	for _, l := range v.preview.Left {
		if l.Resource == ch.Name {
			title("left as it is")
			item(link{}, t.plain(), l.Text)
		}
	}
	if ups := v.wall.users.Reach(ch.Name); len(ups) > 0 {
		title("rests on it")
		item(link{}, t.plain(), strings.Join(ups, ", "))
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
		return v.values(t, name, longest, w, t.strong(), after)
	case ch.Kind == whatif.Drop || ch.Kind == whatif.Keep:
		return v.values(t, name, longest, w, t.faint(), before)
	}
	line := detail{name, {t.faint(), before}, {t.faint(), " → "}, {t.strong(), after}, effect}
	if longest+1+width(before)+3+width(after)+width(effect.text) <= w {
		return []detail{line}
	}
	out := v.values(t, name, longest, w, t.faint(), before)
	out = append(out, v.values(t, span{t.faint(), strings.Repeat(" ", longest-1) + "→ "}, longest, w, t.strong(), after)...)
	if effect.text != "" {
		out = append(out, detail{{t.plain(), strings.Repeat(" ", longest)}, effect})
	}
	return out
}

// shortest is how many lines of a long value are shown where it is cut short.
const shortest = 4

// values is a long value over several lines, under its name.
func (v *whatifView) values(t *theme, name span, longest, w int, st uv.Style, text string) []detail {
	parts := wrap(text, max(10, w-longest-2))
	more := 0
	if !v.full && len(parts) > shortest+1 {
		more = len(parts) - shortest
		parts = parts[:shortest]
	}
	var out []detail
	for i, part := range parts {
		if i > 0 {
			name = span{st, strings.Repeat(" ", longest+1)}
		}
		out = append(out, detail{name, {st, part}})
	}
	if more > 0 {
		out = append(out, detail{{st, strings.Repeat(" ", longest+1)}, {t.faint(), fmt.Sprintf("… %d lines more, v shows them", more)}})
	}
	if len(out) == 0 {
		out = []detail{{name}}
	}
	return out
}
