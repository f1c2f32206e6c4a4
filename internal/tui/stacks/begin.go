package stacks

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// beginning is a stack that is about to be begun: the starters to choose from, and then
// what it is called and where it goes.
type beginning struct {
	starters []app.Starter
	at, top  int
	list     part.Rect
	wall     part.Wall

	naming  bool // a starter is chosen
	field   field
	name    textinput.Model
	folder  textinput.Model
	moved   bool // the folder was typed, and no longer follows the name
	targets []app.TargetInfo
	target  int
	asking  bool // for the targets
	problem error
}

// field is one of the fields of the form.
type field int

const (
	nameField field = iota
	folderField
	targetField
	fieldCount
)

type (
	startersRead struct {
		list []app.Starter
		err  error
	}
	targetsRead struct {
		list []app.TargetInfo
		err  error
	}
)

// begin shows the starters.
func (v *View) begin() tea.Cmd {
	v.beginning = &beginning{asking: true}
	return tea.Batch(
		func() tea.Msg {
			list, err := app.Starters()
			return startersRead{list, err}
		},
		func() tea.Msg {
			list, err := v.App().Targets(v.Context())
			return targetsRead{list, err}
		})
}

// chosen is the chosen starter; nil where there is none yet.
func (b *beginning) chosen() *app.Starter {
	if b.at < len(b.starters) {
		return &b.starters[b.at]
	}
	return nil
}

// choose goes to a starter.
func (b *beginning) choose(i int) {
	b.at = max(0, min(i, len(b.starters)-1))
	if s := b.chosen(); s != nil && s.Wanted != nil {
		b.wall = part.Wall{}
		b.wall.Set(s.Wanted.Graph())
		b.wall.Sel, b.wall.Reach = "", nil
	}
}

// update hears what was read.
func (b *beginning) update(msg tea.Msg) {
	switch msg := msg.(type) {
	case startersRead:
		b.starters, b.problem = msg.list, msg.err
		b.choose(0)
	case targetsRead:
		b.targets, b.asking = msg.list, false
		if msg.err != nil {
			b.problem = msg.err
		}
	}
}

// nameIt begins to ask what the stack is called, and where it goes.
func (v *View) nameIt() tea.Cmd {
	b := v.beginning
	s := b.chosen()
	if s == nil {
		return nil
	}
	b.naming, b.field, b.moved = true, nameField, false
	b.name, b.folder = part.NewInput(), part.NewInput()
	b.name.SetValue(s.Name)
	b.name.CursorEnd()
	b.folder.SetValue(v.folderFor(s.Name))
	b.folder.CursorEnd()
	b.target = max(0, slices.IndexFunc(b.targets, v.suits))
	return nil
}

// suits reports whether a target is one to begin in: one that is in use and is not a
// careful one.
func (v *View) suits(t app.TargetInfo) bool {
	used := false
	for _, r := range v.rows {
		if r.Target == t.Name {
			if r.Careful || r.Stack != nil && r.Stack.Careful {
				return false
			}
			used = true
		}
	}
	return used && t.Problem == "" && !t.Careful
}

// folderFor is the folder that a new stack goes into.
func (v *View) folderFor(name string) string {
	dir := "."
	if len(v.folders) > 0 {
		dir = v.folders[0]
	}
	if wd, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(wd, dir); err == nil && !strings.HasPrefix(rel, "..") {
			dir = rel
		}
	}
	return filepath.Join(dir, name)
}

// beginKey hears a key while the form is filled in.
func (v *View) beginKey(msg tea.Msg) tea.Cmd {
	b := v.beginning
	k, pressed := msg.(tea.KeyPressMsg)
	name := ""
	if pressed {
		name = k.String()
	}
	switch {
	case name == "esc":
		b.naming = false
		return nil
	case name == "enter" && b.field < targetField:
		b.field++
		return nil
	case name == "enter":
		return v.write()
	case name == "tab", name == "down" && b.field < targetField:
		b.field = (b.field + 1) % fieldCount
		return nil
	case name == "shift+tab", name == "up" && (b.field < targetField || b.target == 0):
		b.field = (b.field + fieldCount - 1) % fieldCount
		return nil
	case b.field == targetField:
		switch name {
		case "up", "left", "k":
			b.target = max(0, b.target-1)
		case "down", "right", "j":
			b.target = max(0, min(b.target+1, len(b.targets)-1))
		}
		return nil
	}
	var cmd tea.Cmd
	if b.field == nameField {
		before := b.name.Value()
		if b.name, cmd = part.EditLine(b.name, msg); b.name.Value() != before && !b.moved {
			b.folder.SetValue(v.folderFor(b.name.Value()))
			b.folder.CursorEnd()
		}
		return cmd
	}
	before := b.folder.Value()
	b.folder, cmd = part.EditLine(b.folder, msg)
	b.moved = b.moved || b.folder.Value() != before
	return cmd
}

// write writes the files, and opens the stack file at the first blank.
func (v *View) write() tea.Cmd {
	b := v.beginning
	target := ""
	if b.target < len(b.targets) {
		target = b.targets[b.target].Name
	}
	name, dir := strings.TrimSpace(b.name.Value()), part.InHome(strings.TrimSpace(b.folder.Value()))
	if dir == "" {
		v.Warn("say which folder it goes into")
		return nil
	}
	if !stack.GoodName(name) {
		b.field = nameField
	}
	if err := v.App().FreeName(v.Context(), name, target); err != nil {
		b.field = nameField
		v.Warn("%v", err)
		return nil
	}
	written, err := app.NewStack(b.chosen().Name, dir, name, target)
	if err != nil {
		v.Warn("%v", err)
		return nil
	}
	v.beginning = nil
	v.Say("written into %s: %s", dir, stack.Count(len(written), "file"))
	file := filepath.Join(dir, name+".stack.yaml")
	return func() tea.Msg {
		d, err := v.App().Load(v.Context(), file, app.Values{})
		if err != nil {
			return part.Failed{Doing: "open what was written", Err: err}
		}
		return part.ShowDraft{Draft: d, Fill: true}
	}
}

// beginBindings are the keys among the starters.
func (v *View) beginBindings() []part.Binding {
	b := v.beginning
	if b.naming { // the keys are heard where it is typed
		return []part.Binding{part.Bind(nil).Shown("tab", "next field").As(""), part.Bind(nil).Shown("enter", "on").As(""),
			part.Bind(nil).Shown("esc", "the starters").As("")}
	}
	to := func(by int) func() tea.Cmd { return part.Run(func() { b.choose(b.at + by) }) }
	return []part.Binding{
		part.Bind(v.nameIt, "enter", "right", "l").Shown("enter", "begin with it"),
		part.Bind(part.Run(func() { v.beginning = nil }), "esc", "left", "h").Shown("esc", "back").As(""),
		part.Bind(to(-1), "up", "k").Shown("↑ ↓", "choose").As(""), part.Bind(to(1), "down", "j"),
		part.Bind(to(-len(b.starters)), "home", "g"), part.Bind(to(len(b.starters)), "end", "G"),
	}
}

func (b *beginning) hint() string {
	switch {
	case !b.naming:
		return "next: enter begins with it"
	case b.field == targetField:
		return "↑ ↓ chooses the target, enter writes the files and opens them"
	}
	return "enter or tab goes to the next field, esc back to the starters"
}

// drawBegin draws the starters, with what the chosen one is.
func (v *View) drawBegin(s *part.Screen, r part.Rect) {
	t, b := v.Theme(), v.beginning
	part.PanelTitle(t, s, part.R(r.X+2, r.Y, r.W-4, 1), "begin a stack", "with a small one that works")
	one := b.chosen()
	if one == nil {
		words := "reading the starters …"
		if b.problem != nil {
			words = b.problem.Error()
		}
		s.Text(r.X+2, r.Y+2, r.W-4, t.Faint(), words)
		return
	}
	body := part.R(r.X, r.Y+2, r.W, r.H-2)
	left, right := body.SplitRight(body.W * 11 / 20)
	if r.W < 100 {
		left, right = body.SplitBottom(max(body.H/2, 9))
	} else {
		s.Column(right.X-1, right.Y, right.H, t.On(t.Mortar), "│")
		right = part.R(right.X+1, right.Y, right.W-2, right.H)
	}
	if b.naming {
		v.drawNaming(s, left)
	} else {
		b.drawList(t, s, left)
	}
	b.drawStarter(t, s, right, one)
}

// each is how many lines a starter has in the list.
func (b *beginning) each() int {
	if b.list.H < 2*len(b.starters) {
		return 1
	}
	return 2
}

func (b *beginning) drawList(t *part.Theme, s *part.Screen, r part.Rect) {
	b.list = r
	each := b.each()
	rows := max(1, r.H/each)
	b.top = max(0, min(max(b.top, b.at-rows+1), b.at))
	for i := b.top; i < min(len(b.starters), b.top+rows); i++ {
		y := r.Y + (i-b.top)*each
		st, dim, mark := t.Plain(), t.Faint(), "  "
		if i == b.at {
			s.Fill(part.R(r.X, y, r.W-1, each), uv.Style{Bg: t.Bar})
			st, dim, mark = part.Bold(uv.Style{Fg: t.Bright, Bg: t.Bar}), uv.Style{Fg: t.Dim, Bg: t.Bar}, "▸ "
		}
		s.Text(r.X+1, y, r.W-3, st, mark+b.starters[i].Name)
		if each > 1 {
			s.Text(r.X+3, y+1, r.W-5, dim, b.starters[i].Description)
		}
	}
}

// drawStarter says what a starter is: its wall, what it makes, and what is to be filled
// in.
func (b *beginning) drawStarter(t *part.Theme, s *part.Screen, r part.Rect, one *app.Starter) {
	y := r.Y
	for _, l := range part.Wrap(one.Description, r.W) {
		s.Text(r.X, y, r.W, t.Strong(), l)
		y++
	}
	y++
	line := func(st uv.Style, text string) {
		for _, l := range part.Wrap(text, r.W) {
			if y < r.Y+r.H {
				s.Text(r.X, y, r.W, st, l)
			}
			y++
		}
	}
	if len(one.Inputs) == 0 {
		line(t.On(t.States["ready"].Word), "■ nothing has to be filled in")
	}
	for _, in := range one.Fields {
		if !app.MustFill(in) {
			continue
		}
		about := in.Type.Label()
		if in.Description != "" {
			about += ": " + in.Description
		}
		x := s.Text(r.X, y, r.W, part.Bold(t.Hinted()), "to fill in  ")
		x = s.Text(x, y, r.W, part.Bold(t.On(t.Key)), in.Name)
		s.Text(x+2, y, r.X+r.W-x-2, t.Faint(), about)
		y++
	}
	if len(one.Wanted.Resources) == 0 {
		line(t.Faint(), "makes nothing yet; the Draft offers what can stand at each place while you write")
		return
	}
	line(t.Faint(), "makes "+strings.Join(counted(one.Wanted), ", "))
	if room := r.Y + r.H - y - 1; room >= 4 {
		b.wall.Draw(s, part.R(r.X, y+1, r.W, room), t, func(name string) part.Brick {
			brick := part.Brick{Mark: "▪", Paint: t.Kinds["same"], Faint: true}
			if res := one.Wanted.Resource(name); res != nil {
				brick.Sub = res.Shown()
			}
			return brick
		})
	}
}

// makes is how many resources of each type a template makes, in the order of names.
func makes(w *stack.Wanted) (names []string, count map[string]int) {
	count = map[string]int{}
	for _, res := range w.Resources {
		if count[res.Type.Name]++; count[res.Type.Name] == 1 {
			names = append(names, res.Type.Name)
		}
	}
	slices.Sort(names)
	return names, count
}

func counted(w *stack.Wanted) []string {
	names, count := makes(w)
	for i, n := range names {
		if count[n] > 1 {
			names[i] = fmt.Sprintf("%d %s", count[n], n)
		}
	}
	return names
}

// drawNaming draws the form.
func (v *View) drawNaming(s *part.Screen, r part.Rect) {
	t, b := v.Theme(), v.beginning
	y := r.Y
	input := func(f field, label string, in textinput.Model) {
		st := t.Faint()
		if b.field == f {
			st = part.Bold(t.Hinted())
		}
		x := s.Text(r.X+2, y, 10, st, label)
		x = max(x, r.X+11)
		if b.field == f {
			part.DrawInput(t, s, x, y, r.X+r.W-x-2, in)
		} else {
			text := []rune(in.Value()) // of a long path the end tells most
			if most := r.X + r.W - x - 2; len(text) > most {
				text = append([]rune("…"), text[len(text)-most+1:]...)
			}
			s.Text(x, y, r.X+r.W-x-2, t.Strong(), string(text))
		}
		y += 2
	}
	input(nameField, "name", b.name)
	input(folderField, "folder", b.folder)
	st := t.Faint()
	if b.field == targetField {
		st = part.Bold(t.Hinted())
	}
	s.Text(r.X+2, y, 10, st, "target")
	if b.asking {
		s.Text(r.X+11, y, r.W-12, t.Faint(), "asking the cloud …")
		return
	}
	if len(b.targets) == 0 {
		words := "none is known; it is filled in later"
		if b.problem != nil {
			words = b.problem.Error()
		}
		s.Text(r.X+11, y, r.W-12, t.Faint(), words)
		return
	}
	for i, info := range b.targets {
		if y >= r.Y+r.H-1 {
			s.Text(r.X+11, y, r.W-12, t.Faint(), fmt.Sprintf("and %d more", len(b.targets)-i))
			return
		}
		ground, mark := t.Ground, "  "
		if i == b.target {
			mark = "▸ "
			if b.field == targetField {
				ground = t.Bar
				s.Fill(part.R(r.X+10, y, r.W-12, 1), uv.Style{Bg: ground})
			}
		}
		name := uv.Style{Fg: t.Text, Bg: ground}
		if i == b.target {
			name = part.Bold(uv.Style{Fg: t.Bright, Bg: ground})
		}
		x := s.Text(r.X+11, y, r.W-12, name, mark+info.Name)
		if info.Careful {
			x = s.Text(x+1, y, r.W, t.Watch(), " careful ")
		}
		words, enough := room(info, b.chosen().Wanted)
		col := t.Dim
		if !enough {
			col = t.States["failed"].Word
		}
		s.Text(x+2, y, r.X+r.W-x-3, uv.Style{Fg: col, Bg: ground}, words)
		y++
	}
}

// room says what is left in a target of what a starter needs, the scarcest first, and
// whether that is enough.
func room(info app.TargetInfo, w *stack.Wanted) (words string, enough bool) {
	if info.Problem != "" {
		return info.Problem, false
	}
	names, count := makes(w)
	type left struct {
		name       string
		left, need int
	}
	var list []left
	for _, l := range info.Limits {
		if slices.Contains(names, l.Type) {
			list = append(list, left{l.Type, l.Most - l.Used, count[l.Type]})
		}
	}
	slices.SortStableFunc(list, func(a, b left) int { return (a.left - a.need) - (b.left - b.need) })
	enough = true
	var parts []string
	for _, l := range list {
		if enough = enough && l.left >= l.need; l.left < l.need {
			parts = append(parts, fmt.Sprintf("%s: %d left of %d needed", l.name, max(l.left, 0), l.need))
		} else if len(parts) < 2 {
			parts = append(parts, fmt.Sprintf("%s: %d left", l.name, l.left))
		}
	}
	if len(parts) == 0 {
		return "no limit here", true
	}
	return strings.Join(parts, " · "), enough
}
