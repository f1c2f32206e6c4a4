package draft

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// form is the list of the inputs, in which a value is edited in place.
type form struct {
	on     bool // the marks move in it
	at     int
	top    int
	typing bool
	fresh  bool // nothing was typed yet: all of the value is selected
	input  textinput.Model
	legal  []string // that the value can be; nil is anything
	would  *app.Preview
	wrong  string // what is wrong with the value
	asked  int    // how often it was asked what it would change
	// resting says that a moment without a letter is waited for.
	resting bool
	rows    []part.Rect
	first   int // the input of the first row
	// of is the last draft whose text was YAML: an input that has no value yet, which is an error, is shown as well.
	of *app.Draft
}

// tried says what a value would change.
type tried struct {
	asked int
	tally *app.Preview
	wrong string
}

// fields are the inputs of the template.
func (v *View) fields() []*tosca.Property {
	if v.form.of == nil || v.form.of.File.Service == nil {
		return nil
	}
	return v.form.of.File.Service.Inputs
}

// fieldsOf takes over the inputs of what was read.
func (v *View) fieldsOf(d *app.Draft) {
	marked := ""
	if list := v.fields(); v.form.at < len(list) {
		marked = list[v.form.at].Name
	}
	if v.form.of == nil || !slices.ContainsFunc(d.Findings, func(f tosca.Finding) bool { return f.Code == "not-yaml" }) {
		v.form.of = d
	}
	list := v.fields()
	if i := slices.IndexFunc(list, func(in *tosca.Property) bool { return in.Name == marked }); i >= 0 {
		v.form.at = i
		return
	}
	if v.form.typing { // it is for an input that is gone
		v.form.typing, v.form.would = false, nil
		v.Warn("%s is no longer an input of the template", marked)
	}
	v.form.on = v.form.on && len(list) > 0
	v.form.at = max(0, min(v.form.at, len(list)-1))
}

// askInput goes into the list of the inputs.
func (v *View) askInput() tea.Cmd {
	if len(v.fields()) == 0 {
		v.Say("the template has no inputs")
		return nil
	}
	v.panel, v.form.on = inputs, true
	v.form.at = min(v.form.at, len(v.fields())-1)
	return nil
}

// given is what an input was given here for now.
func (v *View) given(name string) (text string, ok bool) {
	for _, flag := range v.Values(v.path).Flags {
		if n, value, _ := strings.Cut(flag, "="); n == name {
			return value, true
		}
	}
	return "", false
}

// value is the value of an input as it would be typed.
func (v *View) value(in *tosca.Property) string {
	if text, ok := v.given(in.Name); ok {
		return text
	}
	for _, i := range v.form.of.Wanted.Inputs {
		if i.Name == in.Name && !tosca.HasSecret(i.Value) {
			return tosca.Show(i.Value)
		}
	}
	return ""
}

// formBindings are the keys in the list of the inputs.
func (v *View) formBindings() []part.Binding {
	list := v.fields()
	if v.form.typing { // the keys are heard where it is typed
		keys := []part.Binding{part.Bind(nil).Shown("enter", "for now").As("")}
		if v.draft.Stack != nil {
			keys = append(keys, part.Bind(nil).Shown("ctrl+s", "into the stack file").As(""))
		}
		return append(keys, part.Bind(nil).Shown("esc", "leave it so").As(""))
	}
	to := func(by int) func() tea.Cmd {
		return part.Run(func() { v.form.at = max(0, min(v.form.at+by, len(list)-1)) })
	}
	in := list[v.form.at]
	keys := []part.Binding{
		part.Bind(part.Run(v.typeValue), "enter", "i").Shown("enter", "another value").As("Give it another value"),
	}
	if _, ok := v.given(in.Name); ok {
		keys = append(keys,
			part.Bind(v.intoFile, "w").Shown("w", "into the stack file").As("Write the value into the stack file"),
			part.Bind(func() tea.Cmd { return v.giveNow(in.Name, nil) }, "x").Shown("x", "take it back").
				As("Take the given value back"))
	}
	return append(keys,
		part.Bind(part.Run(func() { v.form.on = false }), "esc", "tab").Shown("esc", "the text").As(""),
		part.Bind(to(-1), "up", "k").Shown("↑ ↓", "choose").As(""), part.Bind(to(1), "down", "j"),
		part.Bind(to(-len(list)), "home", "g"), part.Bind(to(len(list)), "end", "G"),
		part.Bind(part.Run(func() { v.toInput(in.Name) }), "t").Shown("t", "its line").As("Go to the line of the input"))
}

// toInput goes to where an input is defined.
func (v *View) toInput(name string) {
	v.form.on = false
	for i, file := range v.names {
		if i > 0 || v.files[file] == nil {
			break
		}
		for _, s := range v.helper().Symbols(file) {
			if s.Section == "inputs" && s.Name == name {
				v.turnTo(i)
				v.files[file].Move(s.At, false)
			}
		}
	}
}

// typeValue begins to type a value.
func (v *View) typeValue() {
	in := v.fields()[v.form.at]
	v.form.typing, v.form.input, v.form.would, v.form.wrong = true, part.NewInput(), nil, ""
	v.form.input.SetValue(v.value(in))
	v.form.input.CursorEnd()
	v.form.fresh = v.form.input.Value() != ""
	v.form.legal = tosca.Legal(in.Type, in.Validation)
}

// formKey hears a key while a value is typed.
func (v *View) formKey(k tea.KeyPressMsg) tea.Cmd {
	if part.Full(v.form.input, k) {
		return nil
	}
	in := v.fields()[v.form.at]
	before := v.form.input.Value()
	var cmd tea.Cmd
	switch k.String() {
	case "esc":
		v.form.typing, v.form.would = false, nil
		return nil
	case "enter":
		v.form.typing, v.form.would = false, nil
		return v.giveNow(in.Name, &before)
	case "ctrl+s":
		v.form.typing, v.form.would = false, nil
		return v.writeValue(in, before)
	case "up", "down":
		if n := len(v.form.legal); n > 0 {
			i := slices.Index(v.form.legal, before)
			if k.String() == "down" {
				i = (i + 1) % n
			} else {
				i = (max(i, 0) + n - 1) % n
			}
			v.form.input.SetValue(v.form.legal[i])
			v.form.input.CursorEnd()
		}
	default:
		if v.form.fresh && (k.Text != "" || k.String() == "backspace" || k.String() == "delete") { // all of it is selected
			v.form.input.SetValue("")
		}
		v.form.input, cmd = part.EditLine(v.form.input, k)
	}
	v.form.fresh = false
	if v.form.input.Value() != before {
		cmd = tea.Batch(cmd, v.try(in))
	}
	return cmd
}

// flags are what is given for now, with another value of an input; nil takes it back.
func (v *View) flags(name string, value *string) []string {
	kept := slices.DeleteFunc(slices.Clone(v.Values(v.path).Flags),
		func(s string) bool { return strings.HasPrefix(s, name+"=") })
	if value != nil {
		kept = append(kept, name+"="+*value)
	}
	return kept
}

// try asks what the value that is typed would change, once nothing was typed for a moment.
func (v *View) try(in *tosca.Property) tea.Cmd {
	v.form.asked++
	if v.form.resting {
		return nil
	}
	v.form.resting = true
	asked := v.form.asked
	return tea.Tick(restBeforeTry, func(time.Time) tea.Msg { return rested{asked, in} })
}

// restBeforeTry is how long nothing is typed before a value is tried.
const restBeforeTry = 120 * time.Millisecond

// rested says that a moment has gone since a letter was typed.
type rested struct {
	asked int
	in    *tosca.Property
}

func (v *View) rested(msg rested) tea.Cmd {
	v.form.resting = false
	switch {
	case !v.form.typing:
		return nil
	case msg.asked != v.form.asked: // more was typed
		v.form.asked--
		return v.try(msg.in)
	}
	return v.tryNow(msg.in)
}

// tryNow asks what the value that is typed would change, by the record.
func (v *View) tryNow(in *tosca.Property) tea.Cmd {
	asked, path, text := v.form.asked, v.path, v.form.input.Value()
	values := v.Values(path)
	values.Flags = v.flags(in.Name, &text)
	return func() tea.Msg {
		out := tried{asked: asked}
		d, err := v.App().Load(v.Context(), path, values)
		if err != nil {
			return out
		}
		for _, f := range d.Findings {
			if f.Severity == tosca.Error {
				out.wrong = f.Message
				return out
			}
		}
		if d.Stack != nil {
			out.tally, _ = v.App().WhatIfRecorded(v.Context(), d) // the tally is a help, not more
		}
		return out
	}
}

func (v *View) tried(msg tried) {
	if msg.asked == v.form.asked && v.form.typing {
		v.form.would, v.form.wrong = msg.tally, msg.wrong
	}
}

// giveNow gives an input a value for now, as -i does on the command line; nil takes it
// back.
func (v *View) giveNow(name string, value *string) tea.Cmd {
	v.Give(v.path, v.flags(name, value))
	return v.load()
}

// intoFile writes the value that was given for now into the stack file.
func (v *View) intoFile() tea.Cmd {
	in := v.fields()[v.form.at]
	text, _ := v.given(in.Name)
	return v.writeValue(in, text)
}

// writeValue writes a value into the stack file, and saves that.
func (v *View) writeValue(in *tosca.Property, text string) tea.Cmd {
	if v.draft.Stack == nil {
		v.Warn("this is a template alone: enter gives the value for now")
		return nil
	}
	value, err := app.InputText(in, text)
	if err != nil {
		v.Warn("%v", err)
		return nil
	}
	path := v.draft.Path
	f, err := v.ensure(path)
	if err != nil {
		v.Warn("%v", err)
		return nil
	}
	if f.doc == nil {
		v.Warn("%s can only be read here", filepath.Base(path))
		return nil
	}
	v.helper().Set(path, f.Text)
	edits, err := v.helper().SetInput(path, in.Name, value)
	if err != nil {
		v.Warn("%v", err)
		return nil
	}
	f.Apply(edits)
	cmd := v.wrote()
	if !v.write(path, f, app.Respect) {
		return cmd
	}
	v.Say("%s has %s now", filepath.Base(path), in.Name)
	return tea.Batch(cmd, v.giveNow(in.Name, nil))
}

// clickInput marks an input, and edits the marked one.
func (v *View) clickInput(x, y int) tea.Cmd {
	for i, r := range v.form.rows {
		if !r.Contains(x, y) {
			continue
		}
		if again := v.form.on && v.form.at == v.form.first+i; again {
			v.typeValue()
		}
		v.read()
		v.form.on, v.form.at = true, v.form.first+i
	}
	return nil
}

// drawInputs lists the inputs with their values and where these come from.
func (v *View) drawInputs(s *part.Screen, r part.Rect) {
	t := v.Theme()
	list := v.fields()
	v.form.rows = v.form.rows[:0]
	if len(list) == 0 {
		part.PanelTitle(t, s, r, "inputs", "")
		s.Text(r.X, r.Y+2, r.W, t.Faint(), "the template has no inputs")
		return
	}
	values := map[string]stack.Input{}
	for _, in := range v.form.of.Wanted.Inputs {
		values[in.Name] = in
	}
	longest := 0
	for _, d := range list {
		longest = max(longest, part.Width(d.Name))
	}
	longest = min(longest, r.W/3)
	rows := max(1, (r.H-2)/2)
	extra := 0
	if v.form.on {
		extra = 3
	}
	if len(list)*2+extra > r.H-2 {
		rows = max(1, (r.H-2-extra)/2)
	}
	v.form.top = max(0, min(v.form.top, len(list)-rows))
	if v.form.on {
		v.form.top = max(min(v.form.top, v.form.at), v.form.at-rows+1)
	}
	v.form.first = v.form.top
	title := "value, and where it comes from"
	if hidden := len(list) - rows; hidden > 0 {
		title = fmt.Sprintf("%d to %d of %d", v.form.top+1, min(v.form.top+rows, len(list)), len(list))
	}
	part.PanelTitle(t, s, r, "inputs", title)
	y := r.Y + 2
	for i := v.form.top; i < len(list) && i < v.form.top+rows; i++ {
		d := list[i]
		in, have := values[d.Name]
		height := 2
		if marked := v.form.on && i == v.form.at; marked {
			height += v.drawMarked(s, part.R(r.X, y, r.W, r.Y+r.H-y), d, longest)
		} else {
			s.Text(r.X, y, longest, t.On(t.Key), d.Name)
			x := r.X + longest + 2
			if !have {
				s.Text(x, y, r.X+r.W-x, part.Bold(t.On(t.States["failed"].Word)), "no value yet")
			} else {
				s.Text(x, y, r.X+r.W-x, t.Strong(), tosca.Show(in.Value))
			}
		}
		origin := d.Description
		if have {
			origin = v.origin(in)
		}
		x := r.X + longest + 2
		s.Text(x, y+1, r.X+r.W-x, t.Faint(), origin)
		v.form.rows = append(v.form.rows, part.R(r.X, y, r.W, height))
		y += height
	}
	v.drawLookups(s, part.R(r.X, y+1, r.W, r.Y+r.H-y-1))
}

// origin is where the value of an input comes from, in few words.
func (v *View) origin(in stack.Input) string {
	if in.Origin.Via != "" && in.Origin.Kind != stack.OriginFlag {
		return fmt.Sprintf("%s · line %d", in.Origin.Via, in.Origin.Pos.Line)
	}
	return in.Origin.String()
}

// drawMarked draws the input that is marked: its value, or the line in which it is
// typed, and what it is. It yields how many lines more it took than two.
func (v *View) drawMarked(s *part.Screen, r part.Rect, d *tosca.Property, longest int) int {
	t := v.Theme()
	ground := uv.Style{Bg: t.Bar}
	s.Fill(part.R(r.X-1, r.Y, r.W+1, 1), ground)
	s.Text(r.X-1, r.Y, 1, uv.Style{Fg: t.Accent, Bg: t.Bar}, "▌")
	s.Text(r.X, r.Y, longest, part.Bold(uv.Style{Fg: t.Hint, Bg: t.Bar}), d.Name)
	x := r.X + longest + 2
	if v.form.typing {
		in := v.form.input
		if d.Type.HoldsSecret() {
			at := in.Position()
			in.SetValue(strings.Repeat("•", len([]rune(in.Value()))))
			in.SetCursor(at)
		}
		part.DrawInput(t, s, x, r.Y, r.X+r.W-x, in)
		if v.form.fresh {
			s.Text(x, r.Y, r.X+r.W-x-1, t.Chosen(), in.Value())
		}
	} else {
		value := "no value yet"
		for _, in := range v.form.of.Wanted.Inputs {
			if in.Name == d.Name {
				value = tosca.Show(in.Value)
			}
		}
		s.Text(x, r.Y, r.X+r.W-x, part.Bold(uv.Style{Fg: t.Bright, Bg: t.Bar}), value)
	}
	about := d.Type.Label()
	for _, l := range assist.About(d) {
		if !strings.HasPrefix(l, "Changing it") {
			about += " · " + l
		}
	}
	lines := part.Wrap(about, r.W-2)
	lines = lines[:min(len(lines), 4)]
	y := r.Y + 2
	for _, l := range lines {
		s.Text(r.X+1, y, r.W-1, t.Hinted(), l)
		y++
	}
	if v.form.typing {
		switch {
		case v.form.wrong != "":
			lines := part.Wrap("✖ "+v.form.wrong, r.W-2)
			for i, l := range lines[:min(len(lines), 3)] {
				s.Text(r.X+1, y+i, r.W-1, t.On(t.States["failed"].Word), l)
			}
			y += min(len(lines), 3) - 1
		case v.form.would != nil:
			part.DrawTally(t, s, r.X+1, y, r.W-1, v.form.would.Tally)
		default:
			s.Text(r.X+1, y, r.W-1, t.Faint(), "what it would change is told while you type")
		}
		y++
	}
	return y - r.Y - 2
}

// formHint is the next step in the list of the inputs.
func (v *View) formHint() string {
	if !v.form.typing {
		return "enter gives another value, esc goes to the text"
	}
	if len(v.form.legal) > 0 {
		return "type a value, or choose with ↑ ↓"
	}
	if v.form.fresh {
		return "type another value, → goes into this one"
	}
	return "type a value; what it would change is told below"
}
