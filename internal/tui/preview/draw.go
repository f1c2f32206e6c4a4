package preview

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// Draw draws the wall, the selected change beside it, and what to look at below.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	t := v.Theme()
	p := v.preview
	if v.going != nil {
		v.drawRevisions(s, r)
		return
	}
	if p == nil {
		y := r.Y + 1
		lines := []string{"asking the cloud what is there …"}
		if v.err != nil {
			lines = append([]string{"There is no what-if:"}, strings.Split(v.err.Error(), "\n")...)
		}
		for _, l := range lines {
			for _, piece := range part.Wrap(l, r.W-6) {
				s.Text(r.X+3, y, r.W-6, t.Plain(), piece)
				y++
			}
		}
		return
	}
	if len(p.Changes) == 0 && p.Findings.HasErrors() {
		s.Text(r.X+1, r.Y, r.W-2, t.Plain(), "There is no what-if until what is wrong below is fixed.")
	} else {
		v.drawTop(s, r)
	}
	body, strip := part.R(r.X, r.Y+2, r.W, r.H-2), part.Rect{}
	if lines := v.strip(t, r.W, r.H < tight && !v.full); len(lines) > 0 {
		most := min(mostStrip+1, r.H/2)
		switch {
		case v.full:
			most = r.H * 2 / 3
		case r.H < tight && v.risk < 0:
			most = max(3, min(4, r.H-13))
		}
		body, strip = body.SplitBottom(min(len(lines)+1, most))
		v.drawStrip(s, strip, lines)
	}
	if p.Findings.HasErrors() && len(p.Changes) == 0 {
		return
	}
	of := func(name string) part.Brick {
		ch := p.Change(name)
		b := part.Brick{Mark: ch.Kind.Mark(), Sub: beside(ch), More: func() string { return summary(ch) }, Paint: t.Kinds[ch.Kind], Faint: ch.Kind == whatif.Same}
		switch {
		case len(p.Only) == 0 && slices.Contains(v.chosen, name):
			b.Mark, b.Sub = "●", "chosen"
		case slices.ContainsFunc(p.LeftOut, func(l whatif.LeftOut) bool { return l.Name == name }):
			b.Sub = "left out"
		}
		return b
	}
	if r.W < 100 { // what matters has its name first, what is chosen is spelled out in the rest
		wall := max(body.H/2, min(v.wall.Least(r.W, of), body.H-4))
		top, bottom := body.SplitBottom(body.H - wall)
		v.drawWall(s, top, of)
		v.drawChange(s, part.R(bottom.X+1, bottom.Y, bottom.W-2, bottom.H))
		return
	}
	left, side := body.SplitRight(max(52, r.W*2/5))
	s.Column(side.X, side.Y, side.H, t.On(t.Mortar), "│")
	v.drawWall(s, left, of)
	v.drawChange(s, part.R(side.X+2, side.Y, side.W-3, side.H))
}

// drawWall draws the wall, over it the filter, and under it what takes longest.
func (v *View) drawWall(s *part.Screen, r part.Rect, of func(string) part.Brick) {
	p := v.preview
	if v.filter.Draw(v.Theme(), s, r.X+1, r.Y, r.W) {
		r.Y, r.H = r.Y+1, r.H-1
	}
	if way := p.Estimate.Way(); way != "" && p.Kind != app.KindCompare && r.H > 12 {
		lines := part.Wrap("longest: "+way, r.W-3)
		if len(lines) > 1 { // the ends tell most
			lines = []string{part.Clip("longest: "+way, r.W-3)}
		}
		if sure := " (" + p.Estimate.Sure() + ")"; part.Width(lines[0])+part.Width(sure) <= r.W-3 {
			lines[0] += sure
		} else if r.H > 24 {
			lines = append(lines, strings.Trim(sure, " ()"))
		}
		for i, l := range lines {
			s.Text(r.X+1, r.Y+r.H-len(lines)+i, r.W-3, v.Theme().Faint(), l)
		}
		r.H -= len(lines)
	}
	if len(v.wall.Graph) == 0 {
		words := "Nothing changes: what is deployed is what is wanted. c shows all."
		if v.filter.Active() {
			words = "No resource has these words in its name, type or change. esc clears the filter."
		}
		for i, l := range part.Wrap(words, r.W-4) {
			s.Text(r.X+2, r.Y+1+i, r.W-4, v.Theme().Plain(), l)
		}
		v.wall.Placed, v.wall.Rows = nil, nil
		return
	}
	if len(v.wall.Graph) < 20*r.H { // else there is no room, and it is not measured at each frame
		if free := r.H - v.wall.Ideal(r.W) - 2; free > 2 {
			n := v.drawAll(s, part.R(r.X+1, r.Y, r.W-2, free))
			r.Y, r.H = r.Y+n, r.H-n
		}
	}
	v.wall.Tall = true
	v.wall.Draw(s, r, v.Theme(), of)
}

// drawAll lists what changes above the wall, where there is room for it, and yields how many lines it took.
func (v *View) drawAll(s *part.Screen, r part.Rect) int {
	t := v.Theme()
	var list []*whatif.Change
	longest := 0
	for i := range v.preview.Changes {
		ch := &v.preview.Changes[i]
		if _, shown := v.wall.Graph[ch.Name]; shown && ch.Kind != whatif.Same {
			list = append(list, ch)
			longest = max(longest, part.Width(ch.Name))
		}
	}
	if len(list) < 2 {
		return 0
	}
	s.Text(r.X, r.Y, r.W, part.Bold(t.Hinted()), "what changes")
	longest = min(longest, r.W/3)
	rows := min(len(list), r.H-1)
	for i, ch := range list[:rows] {
		y, st := r.Y+1+i, t.On(t.Kinds[ch.Kind].Word)
		if i == rows-1 && rows < len(list) {
			s.Text(r.X+2, y, r.W, t.Faint(), fmt.Sprintf("… %d more: n goes through them", len(list)-i))
			break
		}
		if ch.Name == v.wall.Sel {
			st = part.Bold(st)
			s.Text(r.X, y, 1, t.On(t.Accent), "▸")
		}
		s.Text(r.X+2, y, longest+2, st, ch.Kind.Mark()+" "+part.Middle(ch.Name, longest))
		x := r.X + longest + 6
		x = s.Text(x, y, r.X+r.W-x, t.Faint(), ch.Shown()+"  ")
		s.Text(x, y, r.X+r.W-x, t.Plain(), summary(ch))
	}
	return rows + 2
}

// summary is what changes of a resource that stays or is swapped, in a line.
func summary(ch *whatif.Change) string {
	if ch.Kind != whatif.Edit && ch.Kind != whatif.Swap {
		return ""
	}
	var out []string
	for _, c := range ch.Properties {
		before, after := c.Words()
		out = append(out, fmt.Sprintf("%s %s → %s", c.Path, part.Clip(before, 24), part.Clip(after, 24)))
	}
	return strings.Join(out, ", ")
}

func (v *View) drawTop(s *part.Screen, r part.Rect) {
	t, p := v.Theme(), v.preview
	x := part.DrawTally(v.Theme(), s, r.X+1, r.Y, r.W-1, p.Tally)
	saved := ""
	if p.By != "" {
		saved = "saved by " + p.By
	}
	title := map[run.Kind]string{run.KindUndo: "way back, " + noteOf(p), run.KindDelete: "deletion of the stack",
		app.KindCompare: "a comparison", run.KindDeploy: saved}[p.Kind]
	if p.PutsBack() {
		title = noteOf(p)
	}
	if left := v.leftOut(); left != "" {
		title = left
	}
	if title != "" {
		x = s.Text(x, r.Y, r.W-x, part.Bold(t.Hinted()), title)
	}
	words := ""
	if !p.Empty() && p.Kind != app.KindCompare {
		words = p.Estimate.About()
	}
	if n := len(p.RiskLines()); n > 0 {
		if words != "" {
			words += " · "
		}
		words += fmt.Sprintf("%d risk%s", n, part.Plural(n))
	}
	if x+part.Width(words)+2 < r.W {
		s.Right(r.X+r.W-1, r.Y, r.W-x-2, part.Bold(t.Hinted()), words)
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
func (v *View) notes() []note {
	var out []note
	for _, f := range v.preview.Findings {
		if f.Severity == tosca.Warning {
			out = append(out, note{"·", "note", f.Message, f.Short()})
		}
	}
	for _, r := range v.preview.Results {
		if v.preview.BaseRevision == 0 && r.Kind == whatif.New ||
			v.preview.Kind == run.KindDelete && len(r.UsedBy) == 0 { // all of them are
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
	for _, h := range v.preview.Hits {
		out = append(out, note{"◧", "hits", h.Words(), ""})
	}
	for _, p := range v.preview.Probes {
		out = append(out, note{"?", "probe", p.Name + " " + p.Words() + ", before it counts", p.Pos.Short()})
	}
	for _, l := range v.preview.LeftOut {
		out = append(out, note{l.Kind.Mark(), "left out", l.Name + " (" + string(l.Kind) + ") was not chosen", ""})
	}
	for _, l := range v.preview.Left {
		out = append(out, note{"·", "left as is", l.Resource + ": " + l.Text, ""})
	}
	for _, r := range v.preview.ChangeSet.Old {
		out = append(out, note{whatif.Drop.Mark(), "old part", whatif.OldText(r), ""})
	}
	return out
}

// stripLine is a line under the wall: what is wrong, a risk, a note.
type stripLine struct {
	pieces []part.Span
	place  string
	risk   int // -1 is none
}

// beside is what stands under the name of a brick: what is done beside the change, or its
// type.
func beside(ch *whatif.Change) string {
	switch {
	case ch.Refills():
		return "keeps its data"
	case ch.BacksUp() > 0:
		return "backed up"
	case ch.Drains() > 0:
		return "finishes work"
	}
	return ch.Shown()
}

// strip lists what is wrong, the risks, and what else there is to know. The
// marked risk is spelled out, with what one could do; in short the others have a line each.
func (v *View) strip(t *part.Theme, w int, short bool) []stripLine {
	var out []stripLine
	add := func(head part.Span, text part.Span, fix, place string, risk int) {
		indent := part.S(text.Style, strings.Repeat(" ", part.Width(head.Text)))
		parts := part.Wrap(text.Text, w-3-part.Width(head.Text))
		if short && (risk < 0 || risk != v.risk) {
			parts, fix = []string{part.Clip(text.Text, w-3-part.Width(head.Text))}, ""
		}
		for k, piece := range parts {
			line := stripLine{pieces: []part.Span{head, part.S(text.Style, piece)}, risk: risk}
			if k == 0 && len(parts) == 1 {
				line.place = place
			}
			out, head = append(out, line), indent
		}
		for _, piece := range part.Wrap(fix, w-3-part.Width(indent.Text)) {
			out = append(out, stripLine{pieces: []part.Span{indent, part.S(t.Hinted(), piece)}, risk: risk})
		}
	}
	for _, f := range v.preview.Findings {
		if f.Severity == tosca.Error {
			st := part.Bold(t.On(t.States["failed"].Word))
			add(part.S(st, "✖ "), part.S(st, f.Message), f.Fix, f.Short(), -1)
		}
	}
	for i, risk := range v.preview.RiskLines() {
		label := t.Chosen()
		mark := " ! "
		if v.seen[i] {
			label, mark = uv.Style{Fg: t.Hint, Bg: t.Bar}, " √ "
		}
		head := fmt.Sprintf("%s%-12s ", mark, risk.Kind)
		if i != v.risk {
			out = append(out, stripLine{[]part.Span{part.S(label, head), part.S(t.Plain(), "  "+risk.Text)},
				risk.Pos.Short(), i})
			continue
		}
		before := len(out)
		add(part.S(t.Strong(), head+"  "), part.S(t.Strong(), risk.Text), risk.Fix, risk.Pos.Short(), i)
		out[before].pieces = append([]part.Span{part.S(label, head), part.S(t.Strong(), "  ")},
			out[before].pieces[1:]...)
	}
	for _, n := range v.notes() {
		add(part.S(t.Faint(), fmt.Sprintf(" %s %-12s   ", n.mark, n.label)), part.S(t.Plain(), n.text), "", n.place, -1)
	}
	return out
}

// mostStrip is how many lines the strip has at most, and tight how many there are for all where each counts.
const (
	mostStrip = 9
	tight     = 25
)

func (v *View) drawStrip(s *part.Screen, r part.Rect, lines []stripLine) {
	t := v.Theme()
	s.Line(r.X, r.Y, r.W, t.On(t.Mortar), "─")
	rows := max(0, r.H-1)
	from := 0
	for i, l := range lines { // all of the marked risk is in sight
		if l.risk >= 0 && l.risk == v.risk {
			from = max(from, i-rows+1)
		}
	}
	for i, l := range lines[from:min(len(lines), from+rows)] {
		y := r.Y + 1 + i
		if i == rows-1 && from+rows < len(lines) {
			s.Text(r.X+1, y, r.W-2, t.Faint(), fmt.Sprintf(" … %d more: v shows all", len(lines)-from-rows+1))
			break
		}
		x := s.Spans(r.X+1, y, r.W-2, l.pieces...)
		if x+2+part.Width(l.place) < r.X+r.W {
			s.Text(x+2, y, r.W, t.Faint(), l.place)
		}
	}
}

// detail is a line of the details, as pieces.
type detail []part.Span

// drawChange spells the selected change out.
func (v *View) drawChange(s *part.Screen, r part.Rect) {
	ch := v.preview.Change(v.wall.Sel)
	v.side, v.links = r, nil
	if _, shown := v.wall.Graph[v.wall.Sel]; ch == nil || !shown {
		v.focus = -1
		return
	}
	t := v.Theme()
	v.drawHead(s, r, ch)
	lines := v.details(ch, r.W)
	room := r.H - 2
	v.focus = min(v.focus, len(v.links)-1)
	if v.focus >= 0 { // keep it in sight
		at := v.links[v.focus].line
		v.scroll = max(min(v.scroll, at), at-room+2)
		lines[at] = append(detail{part.S(part.Bold(t.On(t.Accent)), "▸ ")}, lines[at][1:]...)
	}
	v.scroll = max(0, min(v.scroll, len(lines)-room))
	for i, l := range lines[v.scroll:min(len(lines), v.scroll+max(0, room))] {
		s.Spans(r.X, r.Y+2+i, r.W, l...)
	}
	s.MoreBelow(r, t, len(lines)-v.scroll-room)
	if below := len(lines) + 3; v.play == nil && r.H-below >= leastOther+2 {
		v.drawOthers(s, part.R(r.X, r.Y+below, r.W, r.H-below))
	}
}

// drawHead says which resource it is, and what is done with it.
func (v *View) drawHead(s *part.Screen, r part.Rect, ch *whatif.Change) {
	t := v.Theme()
	st := part.Bold(t.On(t.Kinds[ch.Kind].Word))
	x := s.Spans(r.X, r.Y, r.W, part.S(st, ch.Kind.Mark()+" "+ch.Name), part.S(t.Plain(), "  "), part.S(st, string(ch.Kind)))
	s.Text(x+2, r.Y, r.X+r.W-x-2, t.Faint(), ch.Shown()+" · "+ch.Pos.Short())
}

// leastOther is how many lines another change has at least, and otherWide how wide it wants to be.
const leastOther, otherWide = 6, 64

// drawOthers spells the other changes out below the selected one, in columns, as far as there is room.
func (v *View) drawOthers(s *part.Screen, r part.Rect) {
	t := v.Theme()
	var list []*whatif.Change
	for i := range v.preview.Changes {
		ch := &v.preview.Changes[i]
		if _, shown := v.wall.Graph[ch.Name]; shown && ch.Kind != whatif.Same && ch.Name != v.wall.Sel {
			list = append(list, ch)
		}
	}
	if len(list) == 0 {
		return
	}
	s.Line(r.X, r.Y, r.W, t.On(t.Mortar), "─")
	links := v.links // those of the selected one are what enter goes through
	defer func() { v.links = links }()
	r.Y, r.H = r.Y+1, r.H-2 // the last line says how many more there are
	columns := max(1, r.W/otherWide)
	w := (r.W+2)/columns - 2
	column, y := 0, 0
	for i, ch := range list {
		lines := v.details(ch, w)
		if y > 0 && y+2+min(len(lines), leastOther) > r.H {
			column, y = column+1, 0
		}
		if column == columns {
			s.Text(r.X, r.Y+r.H, r.W, t.Faint(), fmt.Sprintf("… %d more: n goes through them", len(list)-i))
			return
		}
		x := r.X + column*(w+2)
		v.drawHead(s, part.R(x, r.Y+y, w, 1), ch)
		rows := min(len(lines), r.H-y-1)
		for k, l := range lines[:rows] {
			s.Spans(x+2, r.Y+y+1+k, w-2, l...)
		}
		if rows < len(lines) {
			s.Text(x+2, r.Y+y+rows, w-2, t.Faint(), "…"+strings.Repeat(" ", w-3))
		}
		y += rows + 2
	}
}

func (v *View) details(ch *whatif.Change, w int) []detail {
	t := v.Theme()
	var out []detail
	add := func(pieces ...part.Span) { out = append(out, pieces) }
	if v.play != nil && v.play.Resource == ch.Name {
		for i, l := range v.play.Lines() {
			st := t.Plain()
			if i == 0 || !strings.HasPrefix(l, " ") {
				st = part.Bold(t.Hinted())
				if i > 0 {
					add()
				}
			}
			for k, piece := range part.Wrap(strings.TrimLeft(l, " "), w-2-len(l)+len(strings.TrimLeft(l, " "))) {
				indent := strings.Repeat(" ", len(l)-len(strings.TrimLeft(l, " ")))
				if k > 0 {
					indent += "  "
				}
				add(part.S(st, indent+piece))
			}
		}
		return out
	}
	if ch.Kind == whatif.Same {
		add(part.S(t.Faint(), "It stays as it is; no call is made."))
		if ch.Recorded != nil {
			add(part.S(t.Faint(), ch.Recorded.ID))
			add()
			for _, name := range propertyNames(ch.Recorded) {
				add(part.S(t.On(t.Key), pad(name, 16)+" "), part.S(t.Plain(), tosca.Show(ch.Recorded.Properties[name])))
			}
		}
	}
	longest := 8
	for _, c := range ch.Properties {
		longest = max(longest, part.Width(c.Path))
	}
	longest = min(longest, w/3)
	for _, c := range ch.Properties {
		out = append(out, v.property(ch, c, longest, w)...)
	}
	if wait := ch.Drains(); wait > 0 {
		add()
		for _, line := range part.Wrap("Before, it leaves its pools and has up to "+whatif.Length(wait.Seconds())+" to finish its work.", w-2) {
			add(part.S(t.Hinted(), line))
		}
	}
	if words := ch.BackupText(); words != "" {
		add()
		for _, line := range part.Wrap(strings.ToUpper(words[:1])+words[1:]+".", w-2) {
			add(part.S(t.Hinted(), line))
		}
	}
	if ch.OneWay {
		add()
		for _, line := range part.Wrap(strings.ToUpper(ch.LastText()[:1])+ch.LastText()[1:]+".", w-2) {
			add(part.S(t.Hinted(), line))
		}
	}
	title := func(words string) {
		add()
		add(part.S(part.Bold(t.Hinted()), words))
	}
	item := func(l link, st uv.Style, words string) {
		if l.resource != "" || l.pos.Line > 0 {
			l.line = len(out)
			v.links = append(v.links, l)
		}
		for i, piece := range part.Wrap(words, w-2) {
			indent := "  "
			if i > 0 {
				indent = "    "
			}
			add(part.S(t.Plain(), indent), part.S(st, piece))
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
		item(l, t.Plain(), k.Text)
	}
	for i, n := range ch.Then {
		if i == 0 {
			title(fmt.Sprintf("then, %d", len(ch.Then)))
		}
		if d := v.preview.Change(n); d != nil {
			item(link{resource: n}, t.On(t.Kinds[d.Kind].Word), d.Kind.Mark()+" "+n+"  "+string(d.Kind))
		}
	}
	for _, l := range v.preview.Left {
		if l.Resource == ch.Name {
			title("left as it is")
			item(link{}, t.Plain(), l.Text)
		}
	}
	if ups := v.wall.Users.Reach(ch.Name); len(ups) > 0 {
		title("rests on it")
		item(link{}, t.Plain(), strings.Join(ups, ", "))
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
	if n := w - part.Width(s); n >= 0 {
		return s + strings.Repeat(" ", n)
	}
	for part.Width(s) > w-1 { // the end of a path tells more than its beginning
		_, size := utf8.DecodeRuneInString(s)
		s = s[size:]
	}
	return "…" + s + strings.Repeat(" ", max(0, w-1-part.Width(s)))
}

// property is one property before and after, on one line where it fits.
func (v *View) property(ch *whatif.Change, c stack.PropertyChange, longest, w int) []detail {
	t := v.Theme()
	before, after := c.Words()
	name := part.S(t.On(t.Key), pad(c.Path, longest)+" ")
	effect := part.Span{}
	if c.Effect == stack.Swap && ch.Kind == whatif.Swap {
		effect = part.S(t.On(t.Kinds[whatif.Swap].Word), "  forces the swap")
	}
	lines := c.Lines()
	switch {
	case lines != nil && ch.Kind != whatif.Drop && ch.Kind != whatif.Keep:
		return v.lines(t, c.Path, w, lines)
	case ch.Kind == whatif.New:
		return v.values(t, name, longest, w, t.Strong(), after)
	case ch.Kind == whatif.Drop || ch.Kind == whatif.Keep:
		return v.values(t, name, longest, w, t.Faint(), before)
	}
	line := detail{name, part.S(t.Faint(), before), part.S(t.Faint(), " → "), part.S(t.Strong(), after), effect}
	if longest+1+part.Width(before)+3+part.Width(after)+part.Width(effect.Text) <= w {
		return []detail{line}
	}
	out := v.values(t, name, longest, w, t.Faint(), before)
	out = append(out, v.values(t, part.S(t.Faint(), strings.Repeat(" ", longest-1)+"→ "), longest, w, t.Strong(),
		after)...)
	if effect.Text != "" {
		out = append(out, detail{part.S(t.Plain(), strings.Repeat(" ", longest)), effect})
	}
	return out
}

// lines are those of a text that changes, under its name.
func (v *View) lines(t *part.Theme, path string, w int, lines []string) []detail {
	more := 0
	if most := 3 * shortest; !v.full && len(lines) > most+1 {
		more, lines = len(lines)-most, lines[:most]
	}
	out := []detail{{part.S(t.On(t.Key), part.Clip(path, w))}}
	for _, l := range lines {
		st := t.Faint()
		switch {
		case strings.HasPrefix(l, "+ "):
			st = t.Strong()
		case strings.HasPrefix(l, "  "):
			st = t.Plain()
		}
		out = append(out, detail{part.S(st, "  "+part.Clip(cloud.CleanLines(l), max(10, w-2)))})
	}
	if more > 0 {
		out = append(out, detail{part.S(t.Faint(), "  … "+stack.Count(more, "line")+" more, v shows all")})
	}
	return out
}

// shortest is how many lines of a long value are shown where it is cut short.
const shortest = 4

// values is a long value over several lines, under its name.
func (v *View) values(t *part.Theme, name part.Span, longest, w int, st uv.Style, text string) []detail {
	parts := part.Wrap(text, max(10, w-longest-2))
	more := 0
	if !v.full && len(parts) > shortest+1 {
		more = len(parts) - shortest
		parts = parts[:shortest]
	}
	var out []detail
	for i, piece := range parts {
		if i > 0 {
			name = part.S(st, strings.Repeat(" ", longest+1))
		}
		out = append(out, detail{name, part.S(st, piece)})
	}
	if more > 0 {
		out = append(out, detail{part.S(st, strings.Repeat(" ", longest+1)),
			part.S(t.Faint(), "… "+stack.Count(more, "line")+" more, v shows all")})
	}
	if len(out) == 0 {
		out = []detail{{name}}
	}
	return out
}
