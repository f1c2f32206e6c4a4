package draft

import (
	"fmt"
	"strings"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// Draw draws the text, beside it the inputs or help, and below what was found.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	t := v.Theme()
	if v.draft == nil {
		s.Text(r.X+3, r.Y+1, r.W-4, t.Faint(), "reading the template …")
		return
	}
	body, strip := r.SplitBottom(v.stripHeight())
	side := part.Rect{}
	if r.W >= 100 {
		body, side = body.SplitRight(min(62, r.W*2/5))
		s.Column(side.X, side.Y, side.H, t.On(t.Mortar), "│")
		side = part.R(side.X+2, side.Y, side.W-3, side.H)
	}
	v.text = body
	v.drawText(s, body)
	v.drawStrip(s, strip)
	if side.W > 0 {
		if v.panel == 0 {
			v.drawInputs(s, side)
		} else {
			v.drawHelp(s, side)
		}
	}
}

func (v *View) drawText(s *part.Screen, r part.Rect) {
	t := v.Theme()
	lines := v.shown()
	v.top = max(0, min(v.top, v.line-2))
	if v.line >= v.top+r.H-2 {
		v.top = v.line - r.H + 3
	}
	v.top = max(0, min(v.top, len(lines)-r.H))
	for i := range min(r.H, len(lines)-v.top) {
		n, y := v.top+i, r.Y+i
		ground := t.Ground
		number := t.Faint()
		if n == v.line {
			ground = t.Bar
			s.Fill(part.R(r.X, y, r.W-1, 1), uv.Style{Bg: ground})
			number = uv.Style{Fg: t.Hint, Bg: ground}
		}
		s.Right(r.X+6, y, 5, number, part.Itoa(n+1))
		if found := v.findingsAt(n); len(found) > 0 {
			mark, col := "!", t.Hint
			if found.HasErrors() {
				mark, col = "✖", t.States["failed"].Word
			}
			s.Text(r.X+7, y, 1, part.Bold(uv.Style{Fg: col, Bg: ground}), mark)
		}
		x, end, skip := r.X+9, r.X+r.W-1, v.left
		if skip > 0 {
			x = s.Text(x, y, 1, uv.Style{Fg: t.Dim, Bg: ground}, "…")
		}
		for _, p := range v.colours.line(v.sources[v.file()], n) {
			if x >= end {
				s.Text(end-1, y, 1, uv.Style{Fg: t.Dim, Bg: ground}, "…")
				break
			}
			text := []rune(p.text)
			cut := min(skip, len(text))
			skip -= cut
			x = s.Text(x, y, end-x, uv.Style{Fg: tokenColor(t, p), Bg: ground}, string(text[cut:]))
		}
	}
}

func (v *View) stripHeight() int {
	if v.draft == nil {
		return 2
	}
	return 2 + min(4, len(v.findings))
}

// drawStrip lists the findings near the cursor and the tally.
func (v *View) drawStrip(s *part.Screen, r part.Rect) {
	t := v.Theme()
	s.Line(r.X, r.Y, r.W, t.On(t.Mortar), "─")
	list := v.findings
	from := 0
	for i, f := range list {
		if f.File == v.file() && f.Line-1 <= v.line {
			from = i
		}
	}
	from = max(0, min(from, len(list)-4))
	y := r.Y + 1
	for _, f := range list[from:min(len(list), from+4)] {
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
	case len(list) > 4:
		x = s.Text(x, y, r.W, t.Faint(), fmt.Sprintf("%d findings, n goes through them   ", len(list)))
	case len(list) == 0:
		x = s.Text(x, y, r.W, t.On(t.States["ready"].Word), "■ nothing wrong found   ")
	}
	if v.tally != nil && !v.findings.HasErrors() {
		x = part.DrawTally(v.Theme(), s, x, y, r.X+r.W-x, v.tally.Tally)
		words := fmt.Sprintf("by the record, in %.1f ms", float64(v.took.Microseconds())/1000)
		switch v.asked {
		case askingNow:
			words = fmt.Sprintf("asking %s …", v.draft.Stack.Target)
		case answered:
			words = fmt.Sprintf("checked against %s", v.draft.Stack.Target)
		}
		s.Text(x+1, y, r.X+r.W-x-2, t.Faint(), words)
	}
}

// drawInputs lists the inputs with their values and where these come from.
func (v *View) drawInputs(s *part.Screen, r part.Rect) {
	t := v.Theme()
	part.PanelTitle(v.Theme(), s, r, "inputs", "value, and where it comes from")
	y := r.Y + 2
	values := map[string]stack.Input{}
	for _, in := range v.draft.Wanted.Inputs {
		values[in.Name] = in
	}
	if v.draft.File.Service == nil || len(v.draft.File.Service.Inputs) == 0 {
		s.Text(r.X, y, r.W, t.Faint(), "the template has no inputs")
		return
	}
	longest := 0
	for _, d := range v.draft.File.Service.Inputs {
		longest = max(longest, part.Width(d.Name))
	}
	longest = min(longest, r.W/3)
	for _, d := range v.draft.File.Service.Inputs {
		if y >= r.Y+r.H-1 {
			s.Text(r.X, y, r.W, t.Faint(), "…")
			return
		}
		in, ok := values[d.Name]
		s.Text(r.X, y, longest, t.On(t.Key), d.Name)
		x := r.X + longest + 2
		if !ok {
			s.Text(x, y, r.X+r.W-x, part.Bold(t.On(t.States["failed"].Word)), "no value yet")
		} else {
			s.Text(x, y, r.X+r.W-x, t.Strong(), tosca.Show(in.Value))
		}
		origin := d.Description
		if ok {
			origin = in.Origin.String()
			if in.Origin.Via != "" && in.Origin.Kind != stack.OriginFlag {
				origin = fmt.Sprintf("%s · line %d", in.Origin.Via, in.Origin.Pos.Line)
			}
		}
		s.Text(x, y+1, r.X+r.W-x, t.Faint(), origin)
		y += 2
	}
	v.drawLookups(s, part.R(r.X, y+1, r.W, r.Y+r.H-y-1))
}

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

// drawHelp says what the line of the cursor stands on.
func (v *View) drawHelp(s *part.Screen, r part.Rect) {
	t := v.Theme()
	if v.cur > 0 || v.draft.File.Service == nil {
		part.PanelTitle(v.Theme(), s, r, "help", "")
		s.Text(r.X, r.Y+2, r.W, t.Faint(), "stand on a node in the template: f shows it")
		return
	}
	line := v.line + 1
	var node *tosca.NodeTemplate
	for _, n := range v.draft.File.Service.Nodes {
		if n.Line <= line && (node == nil || n.Line > node.Line) {
			node = n
		}
	}
	var typ *tosca.NodeType
	if node != nil {
		typ = v.draft.File.Library.Nodes[node.Type]
	}
	if typ == nil {
		part.PanelTitle(v.Theme(), s, r, "help", "")
		s.Text(r.X, r.Y+2, r.W, t.Faint(), "stand on a node to see what its type offers")
		return
	}
	part.PanelTitle(v.Theme(), s, r, typ.Name, typ.Description)
	y := r.Y + 2
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
	case p.Metadata["swap"] == "true":
		parts = append(parts, "a change swaps it")
	case p.Metadata["swap_when"] != "":
		parts = append(parts, "going "+map[string]string{"down": "down",
			"shrink": "smaller"}[p.Metadata["swap_when"]]+" swaps it")
	}
	return strings.Join(parts, "; ")
}
