package draft

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/assist"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// wideEnough is how wide the view must be for a panel to stand beside the text.
const wideEnough = 100

// Draw draws the text, beside it the inputs, help or the wall, and below what was found.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	t := v.Theme()
	f := v.file()
	if v.draft == nil || f == nil {
		s.Text(r.X+3, r.Y+1, r.W-4, t.Faint(), "reading the template …")
		return
	}
	body, strip := r.SplitBottom(v.stripHeight())
	v.side = part.Rect{}
	switch {
	case r.W >= wideEnough:
		wide := 62
		if r.W >= 180 {
			wide = 90
		}
		body, v.side = body.SplitRight(min(wide, r.W*2/5))
		s.Column(v.side.X, v.side.Y, v.side.H, t.On(t.Mortar), "│")
		v.side = part.R(v.side.X+2, v.side.Y, v.side.W-3, v.side.H)
	case v.panel != inputs || v.form.on: // one above the other
		body, v.side = body.SplitBottom(body.H / 2)
		s.Line(v.side.X, v.side.Y, v.side.W, t.On(t.Mortar), "─")
		v.side = part.R(v.side.X+1, v.side.Y+1, v.side.W-2, v.side.H-1)
	}
	if len(v.names) > 1 {
		v.drawTabs(s, part.R(body.X, body.Y, body.W, 1))
		body.Y, body.H = body.Y+1, body.H-1
	}
	f.Editing = v.editing
	f.Draw(t, s, body)
	v.drawStrip(s, strip)
	if v.panel != structure && v.side.W >= 56 && v.side.H >= 44 && len(v.wall.Graph) > 0 { // there is room for the wall too
		var below part.Rect
		v.side, below = v.side.SplitBottom(v.side.H / 2)
		v.drawWall(s, below)
	}
	if v.side.W > 0 {
		switch v.panel {
		case inputs:
			v.drawInputs(s, v.side)
		case help:
			v.drawHelp(s, v.side)
		default:
			v.drawWall(s, v.side)
		}
	}
	if v.list != nil && v.editing {
		at := v.list.entries[v.list.chosen].from
		x, y := f.CursorCell()
		x -= part.Width(f.Line()[min(at.Column, f.Cursor.Column):f.Cursor.Column])
		v.list.draw(t, s, part.R(r.X, r.Y, r.W, strip.Y-r.Y), x, y, f.BlanksBelow())
	}
}

// drawTabs lists the files.
func (v *View) drawTabs(s *part.Screen, r part.Rect) {
	t := v.Theme()
	v.tabs = v.tabs[:0]
	x := r.X + 1
	from := 0
	wide := func(i int) int { return part.Width(filepath.Base(v.names[i])) + 5 }
	for used := 0; ; from++ { // so that the one on the screen is in sight
		used = 0
		for i := from; i <= v.cur; i++ {
			used += wide(i)
		}
		if used <= r.W-4 || from >= v.cur {
			break
		}
	}
	for range from {
		v.tabs = append(v.tabs, part.Rect{})
	}
	for i := from; i < len(v.names); i++ {
		name := filepath.Base(v.names[i])
		st := t.Faint()
		if i == v.cur {
			st = part.Bold(uv.Style{Fg: t.Bright, Bg: t.Bar})
		}
		mark := " "
		if f := v.files[v.names[i]]; f != nil && f.dirty() {
			mark = "●"
		}
		if x+wide(i) > r.X+r.W-2 && i > v.cur {
			s.Text(x, r.Y, 8, t.Faint(), fmt.Sprintf("+%d", len(v.names)-i))
			return
		}
		v.tabs = append(v.tabs, part.R(x, r.Y, wide(i)-1, 1))
		s.Fill(part.R(x, r.Y, wide(i)-1, 1), uv.Style{Bg: st.Bg})
		at := s.Text(x+1, r.Y, r.W, st, name)
		s.Text(at+1, r.Y, 1, uv.Style{Fg: t.Accent, Bg: st.Bg}, mark)
		x += wide(i)
	}
}

// mostFindings is how many findings the strip shows at once.
const mostFindings = 4

func (v *View) stripHeight() int {
	if v.draft == nil {
		return 2
	}
	if _, h := v.Size(); h < 30 {
		return 2 + min(2, len(v.findings))
	}
	return 2 + min(mostFindings, len(v.findings))
}

// drawStrip lists the findings near the cursor and the tally.
func (v *View) drawStrip(s *part.Screen, r part.Rect) {
	t := v.Theme()
	s.Line(r.X, r.Y, r.W, t.On(t.Mortar), "─")
	list := v.findings
	room := r.H - 2
	from := 0
	for i, f := range list {
		if same(f.File, v.name()) && f.Line-1 <= v.line() {
			from = i
		}
	}
	from = max(0, min(from, len(list)-room))
	y := r.Y + 1
	for _, f := range list[from:min(len(list), from+room)] {
		mark, col := "!", t.Hint
		if f.Severity == tosca.Error {
			mark, col = "✖", t.States["failed"].Word
		}
		x := s.Text(r.X+1, y, 2, part.Bold(t.On(col)), mark)
		x = s.Text(x+1, y, r.W-4, t.Faint(), f.Short()+"  ")
		x = s.Text(x, y, r.X+r.W-x-1, t.Strong(), f.Message)
		if f.Fix != "" {
			s.Text(x+2, y, r.X+r.W-x-3, t.Hinted(), f.Fix)
		}
		y++
	}
	x := r.X + 1
	switch {
	case len(list) > room:
		x = s.Text(x, y, r.W, t.Faint(), stack.Count(len(list), "finding")+"   ")
	case !slices.ContainsFunc(list, againstTheText):
		x = s.Text(x, y, r.W, t.On(t.States["ready"].Word), "■ nothing wrong found   ")
	}
	if v.tally == nil || v.tally.ChangeSet == nil {
		if v.findings.HasErrors() {
			s.Text(x, y, r.X+r.W-x-1, t.Faint(), "not compared yet: what is wrong comes first")
		}
		return
	}
	words := fmt.Sprintf("by the record, in %.1f ms", float64(v.took.Microseconds())/1000)
	switch {
	case v.draft != v.good && v.findings.HasErrors():
		words = "from before the mistake"
	case v.findings.HasErrors():
		return
	case v.loading && v.editing:
		words = "by the record, reading …"
	case v.asked == askingNow:
		words = fmt.Sprintf("asking %s …", v.draft.Stack.Target)
	case v.asked == answered:
		words = fmt.Sprintf("checked against %s", v.draft.Stack.Target)
	}
	x = part.DrawTally(t, s, x, y, r.X+r.W-x, v.tally.Tally)
	s.Text(x+1, y, r.X+r.W-x-2, t.Faint(), words)
}

// againstTheText reports whether a finding says that something is wrong with the text: one
// of the last run does not.
func againstTheText(f tosca.Finding) bool { return f.Code != "failed-last-time" }

// drawLookups lists what nodes that are selected stand for, once the target
// was asked.
func (v *View) drawLookups(s *part.Screen, r part.Rect) {
	if v.asked != answered || len(v.tally.Lookups) == 0 || r.H < 3 {
		return
	}
	part.PanelTitle(v.Theme(), s, r, "found in the cloud", "by nodes that are selected")
	for i, l := range v.tally.Lookups {
		if i+2 >= r.H {
			return
		}
		x := s.Text(r.X, r.Y+2+i, r.W/2, v.Theme().On(v.Theme().Key), l.Name)
		x = s.Text(x+2, r.Y+2+i, r.X+r.W-x-2, v.Theme().Strong(), cloud.Clean(l.ID))
		s.Text(x+2, r.Y+2+i, r.X+r.W-x-2, v.Theme().Faint(), cloud.Clean(l.Moved))
	}
}

// nodeAt is the node that the cursor stands in; nil where it stands in none.
func (v *View) nodeAt() *assist.Symbol {
	f := v.file()
	if f == nil || f.Plain {
		return nil
	}
	for _, y := range v.helper().Symbols(v.name()) {
		if y.Section == "node_templates" && y.At.Line <= f.Cursor.Line && f.Cursor.Line < y.To {
			return y
		}
	}
	return nil
}

// drawHelp says what stands at the cursor, and below what the node's type offers.
func (v *View) drawHelp(s *part.Screen, r part.Rect) {
	t := v.Theme()
	y := r.Y
	end := r.Y + r.H
	f := v.file()
	var h *assist.Help
	if f != nil && !f.Plain {
		h = v.helper().Hover(v.name(), f.Cursor)
	}
	if h != nil {
		for i, line := range part.Wrap(h.Title, r.W) {
			if i < 2 {
				s.Text(r.X, y, r.W, part.Bold(t.Hinted()), line)
				y++
			}
		}
		for i, l := range h.Lines {
			st := t.Plain()
			if i > 0 {
				st = t.Faint()
			}
			for _, line := range part.Wrap(l, r.W) {
				if y < end {
					s.Text(r.X, y, r.W, st, line)
				}
				y++
			}
		}
		y++
	}
	node := v.nodeAt()
	var typ *tosca.NodeType
	if node != nil && v.good != nil {
		typ = v.good.File.Library.Nodes[node.Type]
	}
	if typ == nil {
		if h == nil {
			part.PanelTitle(t, s, r, "help", "")
			s.Text(r.X, r.Y+2, r.W, t.Faint(), "stand on a word to see what it means")
		}
		return
	}
	if h != nil && y < end {
		s.Line(r.X, y-1, r.W, t.On(t.Mortar), "╌")
	}
	v.drawType(s, part.R(r.X, y, r.W, end-y), typ)
}

// drawType says what a type offers.
func (v *View) drawType(s *part.Screen, r part.Rect, typ *tosca.NodeType) {
	t := v.Theme()
	y := r.Y
	for i, line := range part.Wrap(typ.Name+"  "+typ.Description, r.W) {
		if y < r.Y+r.H {
			if rest, ok := strings.CutPrefix(line, typ.Name); ok && i == 0 {
				x := s.Text(r.X, y, r.W, part.Bold(t.Hinted()), typ.Name)
				s.Text(x, y, r.X+r.W-x, t.Faint(), rest)
			} else {
				s.Text(r.X, y, r.W, t.Faint(), line)
			}
		}
		y++
	}
	y++
	for _, p := range typ.Properties {
		if y >= r.Y+r.H {
			return
		}
		x := s.Text(r.X, y, r.W/3, part.Bold(t.On(t.Key)), p.Name)
		x = s.Text(x+2, y, r.X+r.W-x-2, t.Plain(), p.Type.Label())
		s.Text(x+2, y, r.X+r.W-x-2, t.Hinted(), given(p))
		y++
		for _, line := range part.Wrap(legal(p), r.W-4) {
			if y < r.Y+r.H {
				s.Text(r.X+2, y, r.W-2, t.Faint(), line)
			}
			y++
		}
	}
	y++
	for _, q := range typ.Requirements {
		if y >= r.Y+r.H {
			return
		}
		x := s.Text(r.X, y, r.W/3, t.On(t.Call), q.Name)
		many := ""
		switch {
		case q.Low == 0 && q.High == 1:
			many = ", optional"
		case q.High < 0:
			many = fmt.Sprintf(", %d or more", q.Low)
		}
		s.Text(x+1, y, r.X+r.W-x-1, t.Faint(), "rests on "+article(q.Node)+" "+q.Node+many)
		y++
	}
}

// article is a or an.
func article(word string) string {
	if word != "" && strings.ContainsRune("AEIOUaeiou", rune(word[0])) {
		return "an"
	}
	return "a"
}

// given says whether a property must be given.
func given(p *tosca.Property) string {
	switch {
	case p.Default != nil:
		return "default " + tosca.Describe(p.Default)
	case p.Required:
		return "must be given"
	}
	return ""
}

// legal is what a property means, what it may be, and an example.
func legal(p *tosca.Property) string {
	var parts []string
	if p.Description != "" {
		parts = append(parts, p.Description)
	}
	if p.Validation != nil {
		parts = append(parts, tosca.Describe(p.Validation))
	} else if e := p.Metadata["example"]; e != "" && p.Default == nil && !strings.Contains(p.Description, "such as") {
		parts = append(parts, "such as "+e)
	}
	switch {
	case stack.Swaps(p.Metadata):
		parts = append(parts, "a change swaps it")
	case p.Metadata["swap_when"] != "":
		parts = append(parts, "going "+map[string]string{"down": "down",
			"shrink": "smaller"}[p.Metadata["swap_when"]]+" swaps it")
	}
	return strings.Join(parts, "; ")
}

// setWall gives the wall the resources of the last good draft.
func (v *View) setWall() {
	if v.good == nil || v.good.Wanted == nil {
		return
	}
	v.wall.Set(v.good.Wanted.Graph())
	v.followText()
}

// followText chooses the brick of the node that the cursor stands in.
func (v *View) followText() {
	if v.panel != structure || v.cur > 0 {
		return
	}
	node := v.nodeAt()
	if node == nil || nodeOf(v.wall.Sel) == node.Name {
		return
	}
	for _, name := range []string{node.Name, node.Name + "#0"} {
		if _, have := v.wall.Graph[name]; have {
			v.wall.Choose(name)
		}
	}
}

// nodeOf is the node of the template that a resource comes from.
func nodeOf(resource string) string {
	name, _, _ := strings.Cut(resource, "/")
	if i := strings.LastIndexByte(name, '#'); i > 0 {
		return name[:i]
	}
	return name
}

// followWall puts the cursor to the node of the chosen brick.
func (v *View) followWall() {
	if len(v.names) == 0 {
		return
	}
	for _, y := range v.helper().Symbols(v.names[0]) {
		if f := v.files[v.names[0]]; y.Section == "node_templates" && y.Name == nodeOf(v.wall.Sel) && f != nil {
			v.cur = 0
			f.Move(y.At, false)
			return
		}
	}
}

// wallBindings walk the wall, and the cursor with it.
func (v *View) wallBindings() []part.Binding {
	walk := func(dx, dy int) func() tea.Cmd {
		return part.Run(func() {
			v.wall.Move(dx, dy)
			v.followWall()
		})
	}
	return []part.Binding{part.Bind(walk(-1, 0), "shift+left", "H").Shown("shift+↑ ↓ ← →", "walk the wall").As(""),
		part.Bind(walk(0, -1), "shift+down", "J"), part.Bind(walk(0, 1), "shift+up", "K"), part.Bind(walk(1, 0), "shift+right", "L")}
}

// drawWall draws the structure as the text stands, with what would change.
func (v *View) drawWall(s *part.Screen, r part.Rect) {
	t := v.Theme()
	words := "the structure, as the text stands"
	if v.draft != v.good {
		words = "from before the mistake"
	}
	part.PanelTitle(t, s, r, "wall", words)
	if len(v.wall.Graph) == 0 {
		s.Text(r.X, r.Y+2, r.W, t.Faint(), "no resource yet")
		return
	}
	kinds := map[string]whatif.Kind{}
	if v.tally != nil && v.tally.ChangeSet != nil {
		for _, ch := range v.tally.Changes {
			kinds[ch.Name] = ch.Kind
		}
	}
	of := func(name string) part.Brick {
		k, known := kinds[name]
		if !known {
			k = whatif.Same
		}
		b := part.Brick{Mark: k.Mark(), Paint: t.Kinds[k], Faint: k == whatif.Same}
		if res := v.good.Wanted.Resource(name); res != nil {
			b.Sub = res.Shown()
		}
		return b
	}
	about, chosen := 0, v.good.Wanted.Resource(v.wall.Sel)
	if chosen != nil {
		if about = 4; r.H < 14 {
			about = 2
		}
	}
	top, bottom := part.R(r.X, r.Y+1, r.W, r.H-1).SplitBottom(about)
	v.wall.Draw(s, top, t, of)
	if chosen == nil {
		return
	}
	x := s.Text(bottom.X, bottom.Y+1, bottom.W, part.Bold(t.Hinted()), chosen.Name)
	x = s.Text(x+2, bottom.Y+1, bottom.X+bottom.W-x-2, t.Faint(), chosen.Shown())
	if k, known := kinds[chosen.Name]; known {
		s.Text(x+2, bottom.Y+1, bottom.X+bottom.W-x-2, part.Bold(t.On(t.Kinds[k].Word)), k.Mark()+" "+string(k))
	}
	if about < 4 {
		return
	}
	needs := slices.Clone(v.wall.Graph[chosen.Name])
	slices.Sort(needs)
	s.Text(bottom.X, bottom.Y+2, bottom.W, t.Faint(), "rests on "+orNothing(needs))
	users := slices.Clone(v.wall.Users[chosen.Name])
	slices.Sort(users)
	s.Text(bottom.X, bottom.Y+3, bottom.W, t.Faint(), "carries "+orNothing(users))
}

func orNothing(names []string) string {
	if len(names) == 0 {
		return "nothing"
	}
	return strings.Join(slices.Compact(names), ", ")
}
