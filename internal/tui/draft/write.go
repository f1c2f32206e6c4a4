package draft

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// edit begins to write in the text.
func (v *View) edit() tea.Cmd {
	f := v.file()
	switch {
	case f == nil:
		return nil
	case f.doc == nil:
		why := fmt.Errorf("%s is in an archive", filepath.Base(v.name()))
		if _, err := os.Stat(v.name()); err == nil {
			_, why = app.OpenDocument(v.name())
		}
		if why == nil { // it could not be edited when it was read
			return v.load()
		}
		v.Warn("it can only be read here: %v", why)
		return nil
	}
	v.editing = true
	v.helper().Set(v.name(), f.Text)
	return nil
}

// read ends the writing.
func (v *View) read() {
	v.editing, v.list = false, nil
	if f := v.file(); f != nil {
		f.Finder = nil
		f.Move(f.Cursor, false)
	}
}

// Typing reports whether the text is being written.
func (v *View) Typing() bool { return v.editing && v.file() != nil || v.form.typing }

// Captures takes the keys by which editors copy and undo.
func (v *View) Captures(k string) bool { return v.editing && (k == "ctrl+c" || k == "ctrl+z") }

// editBindings are the keys while it is written.
func (v *View) editBindings() []part.Binding {
	f := v.file()
	do := func(what func()) func() tea.Cmd {
		return func() tea.Cmd {
			what()
			v.list = nil
			v.followText()
			return v.wrote()
		}
	}
	save := part.Bind(do(v.save), "ctrl+s")
	if f.dirty() || f.away {
		save = save.Shown("ctrl+s", "save")
	}
	back := part.Bind(do(func() { v.said(f.Undo(), "there is nothing to take back") }), "ctrl+z")
	if f.Undoable() {
		back = back.Shown("ctrl+z", "take back")
	}
	again := part.Bind(do(func() { v.said(f.Redo(), "there is nothing to do again") }), "ctrl+y", "ctrl+shift+z")
	if f.Redoable() {
		again = again.Shown("ctrl+y", "do again").As("Do again what was taken back")
	}
	keys := []part.Binding{
		save,
		part.Bind(func() tea.Cmd { v.offer(asked); return nil }, "ctrl+space", "ctrl+@").Shown("ctrl+space", "what can stand here").
			As("Offer what can stand here"),
		part.Bind(part.Run(v.read), "esc").Shown("esc", "read").As("End writing"),
		part.Bind(part.Run(v.offerFixes), "ctrl+o", "alt+enter").Shown("ctrl+o", "fix, or write it otherwise").
			As("Fix it, or write it differently"),
		back, again,
		part.Bind(func() tea.Cmd { f.OpenFinder(false); return nil }, "ctrl+f").Shown("ctrl+f", "find"),
		part.Bind(func() tea.Cmd { f.OpenFinder(true); return nil }, "ctrl+r").Shown("ctrl+r", "replace"),
		part.Bind(func() tea.Cmd { return v.copied(f.Copy()) }, "ctrl+c").Shown("ctrl+c x v", "copy, cut, paste").As("Copy"),
		part.Bind(func() tea.Cmd {
			text := f.Cut()
			return tea.Batch(v.copied(text), do(func() {})())
		}, "ctrl+x").As("Cut"),
		part.Bind(do(func() { f.Paste(v.clip) }), "ctrl+v").As("Paste"),
		part.Bind(part.Run(f.SelectAll), "ctrl+a").Shown("ctrl+a", "select all"),
		part.Bind(part.Run(v.define), "alt+j").Shown("alt+j", "where it is defined").As("Go to where it is defined"),
		part.Bind(part.Run(v.askName), "alt+n").Shown("alt+n", "another name, everywhere").
			As("Give it another name, everywhere"),
		part.Bind(do(f.Comment), "alt+c").Shown("alt+c", "comment, or none").As("Make a comment of it, or none"),
		part.Bind(do(func() { f.MoveLines(-1) }), "alt+up").Shown("alt+↑ ↓", "move lines").As("Move the lines up"),
		part.Bind(do(func() { f.MoveLines(1) }), "alt+down").As("Move the lines down"),
		part.Bind(do(v.format), "alt+l").Shown("alt+l", "put it in its form").As("Put the file in its one form"),
		part.Bind(part.Run(v.turnPanel), "alt+p").Shown("alt+p", "inputs, help, wall").As("Show the inputs, help or the wall"),
	}
	if len(v.jumps) > 0 {
		keys = append(keys, part.Bind(part.Run(v.jumpBack), "alt+k").Shown("alt+k", "back from there").As("Go back from there"))
	}
	if len(v.findings) > 0 {
		keys = append(keys, part.Bind(part.Run(v.nextFinding), "alt+m").Shown("alt+m", "next finding").As("Go to the next finding"))
	}
	if len(v.names) > 1 {
		keys = append(keys, part.Bind(part.Run(func() { v.turnTo((v.cur + 1) % len(v.names)) }), "alt+.").
			Shown("alt+. ,", "the other files").As("Show the next file"),
			part.Bind(part.Run(func() { v.turnTo((v.cur + len(v.names) - 1) % len(v.names)) }), "alt+,").As("Show the file before"))
	}
	if f.theirs != nil {
		keys = append(keys, part.Bind(v.takeTheirs).As("Take what stands on the disk instead"))
	}
	return keys
}

// said says something where a thing was not done.
func (v *View) said(done bool, otherwise string) {
	if !done {
		v.Say("%s", otherwise)
	}
}

func (v *View) copied(text string) tea.Cmd {
	v.clip = text
	return tea.SetClipboard(text) // of the terminal too, where it has one
}

// key hears a key while it is written.
func (v *View) key(k tea.KeyPressMsg) tea.Cmd {
	if v.form.typing {
		return v.formKey(k)
	}
	f := v.file()
	if f == nil || !v.editing {
		return nil
	}
	if v.list != nil {
		if cmd, done := v.listKey(k); done {
			return cmd
		}
	}
	if f.Finder != nil && k.String() != "ctrl+s" {
		cmd := f.Finder.Key(f.Model, k)
		v.followText()
		return tea.Batch(cmd, v.wrote())
	}
	if cmd, ok := part.Press(v.editBindings(), k); ok {
		return cmd
	}
	if k.String() == "enter" && f.OnExample() { // the example is taken
		if f.NextBlank() {
			v.offer(typed)
		} else {
			f.Deselect()
		}
		return nil
	}
	if k.String() == "tab" && f.NextBlank() {
		v.offer(typed)
		return nil
	}
	if f.Type(k) {
		v.typed(k)
	}
	return v.wrote()
}

// typed offers what may follow what was just typed.
func (v *View) typed(k tea.KeyPressMsg) {
	f := v.file()
	v.followText()
	offering := v.list != nil
	v.list = nil
	head := f.Line()[:f.Cursor.Column]
	switch {
	case f.Cursor != f.Anchor:
	case k.Text != "" && strings.ContainsAny(k.Text[:1], "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ_$0123456789"),
		offering && k.Text == "-", offering && k.String() == "backspace" && head != "" && !strings.HasSuffix(head, " "):
		v.helper().Set(v.name(), f.Text)
		v.offer(typed)
	case k.Text == " " && (strings.HasSuffix(head, ": ") || strings.HasSuffix(head, "[ ") || strings.HasSuffix(head, ", ") ||
		strings.HasSuffix(head, "- ")), k.Text == ".", k.String() == "enter" && strings.HasSuffix(head, "- "):
		v.helper().Set(v.name(), f.Text)
		v.offer(typed)
	}
}

// paste writes a text that was poured in.
func (v *View) paste(msg tea.PasteMsg) tea.Cmd {
	if v.form.typing {
		var cmd tea.Cmd
		v.form.input, cmd = part.EditLine(v.form.input, msg)
		return tea.Batch(cmd, v.try(v.fields()[v.form.at]))
	}
	f := v.file()
	if f == nil || !v.editing {
		return nil
	}
	v.list = nil
	if f.Finder != nil {
		return f.Finder.Update(f.Model, msg)
	}
	if said := f.Paste(msg.Content); said != "" {
		v.Say("%s", said)
	}
	v.followText()
	return v.wrote()
}

func (v *View) click(x, y int) tea.Cmd {
	for i, r := range v.tabs {
		if r.Contains(x, y) {
			v.turnTo(i)
			return nil
		}
	}
	if v.list != nil {
		if i := v.list.at(x, y); i >= 0 {
			v.list.chosen = i
			return v.accept()
		}
		v.list = nil
	}
	f := v.file()
	switch {
	case f != nil && f.Area().Contains(x, y):
		f.Click(x, y)
		v.followText()
	case v.panel == structure && v.wall.At(x, y) != "":
		v.wall.Choose(v.wall.At(x, y))
		v.followWall()
	case v.panel == inputs:
		return v.clickInput(x, y)
	}
	return nil
}

// define goes to where the name at the cursor is defined.
func (v *View) define() {
	f := v.file()
	l, ok := v.helper().Definition(v.name(), f.Cursor)
	if !ok {
		v.Say("there is no name here that is defined in these files")
		return
	}
	v.jumps = append(v.jumps, assist.Location{Path: v.name(), Range: assist.Range{From: f.Cursor, To: f.Cursor}})
	v.jump(l)
}

func (v *View) jumpBack() {
	l := v.jumps[len(v.jumps)-1]
	v.jumps = v.jumps[:len(v.jumps)-1]
	v.jump(l)
}

func (v *View) jump(l assist.Location) {
	f, err := v.ensure(l.Path)
	if err != nil {
		v.Warn("%v", err)
		return
	}
	v.turnTo(slices.IndexFunc(v.names, func(n string) bool { return same(n, l.Path) }))
	f.Move(l.From, false)
	v.followText()
}

// askName asks for another name of what stands at the cursor.
func (v *View) askName() {
	f, path := v.file(), v.name()
	at := f.Cursor
	r, ok := v.helper().Renamable(path, at)
	if !ok {
		v.Say("there is no name here that is defined in these files")
		return
	}
	old := f.Text.Slice(r)
	a := part.NewAsk("Another name for "+old+", in this template and all stack files beside it:", "", func(to string) tea.Cmd {
		edits, err := v.helper().Rename(path, at, to)
		if err != nil {
			v.Warn("%v", err)
			return nil
		}
		return v.apply(edits)
	})
	a.Free = true
	a.Input.SetValue(old)
	v.Ask(a)
}

// apply makes edits of several files.
func (v *View) apply(edits map[string][]assist.Edit) tea.Cmd {
	for path, list := range edits {
		f, err := v.ensure(path)
		if err != nil {
			v.Warn("%v", err)
			return nil
		}
		if f.doc == nil {
			v.Warn("%s can only be read here", filepath.Base(path))
			return nil
		}
		f.Apply(list)
	}
	v.editing = true
	return v.wrote()
}

// format puts the file in its one form.
func (v *View) format() {
	f := v.file()
	out, changed, findings := app.Format(v.name(), []byte(f.Text.String()))
	switch {
	case findings.HasErrors():
		i := slices.IndexFunc(findings, func(f tosca.Finding) bool { return f.Severity == tosca.Error })
		v.Warn("it cannot be put in its form: %s", findings[i].Message)
	case !changed:
		v.Say("it is in its form already")
	default:
		f.Apply([]assist.Edit{f.Text.Difference(assist.NewText(string(out)))})
	}
}

// firstNode begins to write where a template has no nodes yet.
func (v *View) firstNode() tea.Cmd {
	f := v.file()
	if v.draft == nil || v.draft.File.Service == nil || len(v.draft.File.Service.Nodes) > 0 || f == nil {
		return nil
	}
	for n, line := range f.Text.Lines {
		if head, ok := strings.CutSuffix(line, "node_templates: {}"); ok && strings.TrimSpace(head) == "" {
			v.panel, v.editing = help, true
			at := assist.Place{Line: n, Column: len(line) - len(" {}")}
			f.Apply([]assist.Edit{{Range: assist.Range{From: at, To: assist.Place{Line: n, Column: len(line)}}}})
			f.Move(at, false)
			f.Newline()
			cmd := v.wrote()
			v.offer(asked)
			return cmd
		}
	}
	return nil
}

// fillIn goes through what is to be filled in, in the stack file.
func (v *View) fillIn() tea.Cmd {
	i := slices.Index(v.names, v.path)
	f := v.files[v.path]
	if i < 0 || f == nil || f.doc == nil {
		return nil
	}
	var blanks []assist.Range
	for n, line := range f.Text.Lines {
		at := strings.Index(line, "# "+app.FillIn)
		colon := strings.Index(line, ":")
		if at < 0 || colon < 0 || colon > at {
			continue
		}
		value := assist.Range{From: assist.Place{Line: n, Column: colon + 2}, To: assist.Place{Line: n, Column: colon + 2}}
		if _, variable, ok := strings.Cut(line[:at], "from_env: "); ok {
			name, _, _ := strings.Cut(variable, " ")
			value.From.Column = strings.Index(line, "from_env: ") + len("from_env: ")
			value.To.Column = value.From.Column + len(name)
		}
		blanks = append(blanks, value)
	}
	v.turnTo(i)
	if len(blanks) == 0 {
		v.turnTo(0)
		return v.firstNode()
	}
	v.panel = help
	v.editing = true
	f.GoThrough(blanks)
	return v.wrote()
}
