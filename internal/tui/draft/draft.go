// Package draft is the view in which a template and its stack file are read and written.
package draft

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// View shows the template, and the stack file, as text. In it one reads, until e begins to
// write; esc ends that.
type View struct {
	part.Shell
	draft    *app.Draft     // read last
	good     *app.Draft     // the last one that was resolved
	findings tosca.Findings // of the draft, and of the target once it was asked
	tally    *app.Preview   // what the last good draft would change
	took     time.Duration
	path     string   // what is loaded
	names    []string // of the files: the template, the stack file, and what the template reads
	cur      int      // the one on the screen
	files    map[string]*file
	asked    asking // of the target
	panel    panel
	side     part.Rect   // where it was drawn
	tabs     []part.Rect // of the files
	loading  bool
	again    bool // something was written since the reading began
	watched  []string
	readings int        // begun so far
	aim      *tosca.Pos // where to go when it is loaded; nil is nowhere
	work     *assist.Work
	editing  bool
	list     *list // what is offered; nil is nothing
	clip     string
	jumps    []assist.Location // where one has jumped from
	wall     part.Wall
	form     form
	filling  bool            // what was begun is to be filled in, once it is loaded
	keeping  bool            // the unsaved texts are soon kept
	offered  map[string]bool // unsaved texts that were asked about
}

// panel is what stands beside the text.
type panel int

const (
	inputs panel = iota
	help
	structure
	panels // how many there are
)

// New is the view.
func New(sh part.Shell) *View {
	return &View{Shell: sh, files: map[string]*file{}, offered: map[string]bool{}}
}

// Name is what stands in the line of views.
func (v *View) Name() string { return "Draft" }

// Accepts takes places of files.
func (v *View) Accepts(intent any) bool {
	_, ok := intent.(part.ShowPlace)
	return ok
}

// Update hears a message.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case part.Opened:
		return v.open()
	case part.ShowPlace:
		v.Bring(v)
		cmd := v.open()
		if msg.Pos.Line > 0 {
			v.goTo(msg.Pos)
		}
		return cmd
	case part.ShowDraft:
		v.filling = msg.Fill
		return v.show(msg.Draft)
	case part.FileChanged:
		return v.fileChanged(msg.Path)
	case loaded:
		return v.heard(msg)
	case askTarget:
		return v.ask(msg)
	case targetAnswered:
		v.answered(msg)
	case edited:
		return v.edited(msg)
	case keepNow:
		return v.keepNow()
	case kept:
		v.wasKept(msg)
	case rested:
		return v.rested(msg)
	case tried:
		v.tried(msg)
	case tea.KeyPressMsg:
		return v.key(msg)
	case tea.PasteMsg:
		return v.paste(msg)
	case part.Click:
		return v.click(msg.X, msg.Y)
	case part.Drag:
		if f := v.file(); f != nil && v.list == nil {
			f.Drag(msg.X, msg.Y)
		}
	case part.Wheel:
		if f := v.file(); f != nil {
			f.Scroll(3 * msg.By)
		}
	}
	return nil
}

type loaded struct {
	draft *app.Draft
	names []string
	docs  map[string]*app.Document // nil where a file cannot be shown
	tally *app.Preview
	took  time.Duration
	err   error
	asked int  // which reading it is of
	live  bool // it was read because something was written
	bases map[string]app.Bases
	sides map[string]sides
}

type edited struct{ err error }

// asking is how far the check against the target is.
type asking int

const (
	notAsked asking = iota
	askingNow
	answered
)

// pause is how long the draft must rest before the target is asked.
const pause = 300 * time.Millisecond

type askTarget struct{ draft *app.Draft }

type targetAnswered struct {
	draft *app.Draft // the one on the screen when it was asked
	tally *app.Preview
	err   error
}

// open loads the subject's file.
func (v *View) open() tea.Cmd {
	if file := v.Subject().File; v.path != file {
		v.leaveFiles()
		v.draft, v.good, v.tally, v.cur, v.names, v.editing, v.jumps = nil, nil, nil, 0, nil, false, nil
		v.form = form{}
		v.path = file
	}
	return v.load()
}

// leaveFiles forgets the files of another stack, except for those that are not saved.
func (v *View) leaveFiles() {
	for path, f := range v.files {
		if !f.dirty() {
			delete(v.files, path)
		}
	}
}

// show shows a draft that was opened from a file, which becomes the subject.
func (v *View) show(d *app.Draft) tea.Cmd {
	about := part.Subject{Name: filepath.Base(d.Path), File: d.Path}
	if f := d.Stack; f != nil {
		about.Name, about.Target, about.Careful = f.Stack, f.Target.String(), f.Careful
	}
	v.About(about)
	v.Bring(v)
	v.path = ""
	return v.open()
}

// reason is why the files are read.
type reason int

const (
	fresh   reason = iota // they are opened, or have changed on the disk
	written               // something was just written: it has to be quick
	settled               // nothing was written for a moment
)

// load reads the files, with what is written and not saved.
func (v *View) load() tea.Cmd { return v.reading(fresh) }

func (v *View) reading(why reason) tea.Cmd {
	live := why != fresh
	path := v.path
	v.readings++
	asked := v.readings
	if path == "" {
		name := v.Subject().Name
		return func() tea.Msg {
			return loaded{err: fmt.Errorf("it is not known which stack file %s came from; o in the stacks opens one",
				name), asked: asked}
		}
	}
	v.loading, v.again = true, false
	values, compare := v.Values(path), v.toCompare()
	values.Quick = why == written
	return func() tea.Msg {
		began := time.Now()
		d, err := v.App().Load(v.Context(), path, values)
		if err != nil {
			return loaded{err: err, asked: asked}
		}
		out := loaded{draft: d, asked: asked, live: live}
		if d.Stack != nil && !(live && d.Findings.HasErrors()) {
			out.tally, out.err = v.App().WhatIfRecorded(v.Context(), d)
		}
		out.took = time.Since(began)
		out.names, out.docs = readFiles(d, live)
		if !live {
			out.bases = v.App().Bases(v.Context(), d, out.names)
			for name, doc := range out.docs {
				b, have := compare[name]
				if !have {
					b.text = assist.NewText(doc.Text)
				}
				b.bases = out.bases[name]
				compare[name] = b
			}
		}
		out.sides = map[string]sides{}
		for name, b := range compare {
			out.sides[name] = b.compare()
		}
		return out
	}
}

func (v *View) heard(msg loaded) tea.Cmd {
	if msg.asked < v.readings {
		return nil // a later reading is under way
	}
	v.loading = false
	if msg.err != nil && msg.draft == nil {
		v.Warn("%v", msg.err)
		return nil
	}
	was := v.name()
	v.draft, v.took, v.asked, v.findings = msg.draft, msg.took, notAsked, msg.draft.Findings
	if !v.findings.HasErrors() || v.good == nil {
		v.good = v.draft
	}
	v.fieldsOf(v.draft)
	if msg.tally != nil && !v.findings.HasErrors() { // of a text that is wrong it says nothing
		v.tally = msg.tally
	}
	v.path = msg.draft.Path
	v.take(msg)
	for name, s := range msg.sides {
		if f := v.files[name]; f != nil {
			if msg.bases != nil {
				f.bases = msg.bases[name]
			}
			f.Sides, f.sided = s.of, s.version
		}
	}
	v.cur = max(0, slices.Index(v.names, was))
	v.watched = append(slices.Clone(v.names), app.RuleFolder(v.draft.Template))
	v.Watch(v.watched...)
	if v.missing() { // it may come into being beside the template, or in a folder there
		dir := filepath.Dir(v.draft.Template)
		inside, _ := os.ReadDir(dir) // then there is nothing to watch
		for _, e := range inside {
			v.Watch(filepath.Join(dir, e.Name()))
		}
	}
	if about := v.Subject(); about.File == v.path && v.draft.Stack != nil {
		about.Careful = v.draft.Stack.Careful
		v.About(about)
	}
	v.helper().Read(v.draft.Template, v.draft.File, v.draft.Wanted)
	v.setMarks()
	v.setWall()
	if v.aim != nil {
		p := *v.aim
		v.aim = nil
		v.goTo(p)
	}
	var cmds []tea.Cmd
	if v.filling {
		v.filling = false
		cmds = append(cmds, v.fillIn())
	}
	if v.again {
		cmds = append(cmds, v.reading(written))
	}
	if msg.live && msg.tally != nil && !msg.draft.InPart() {
		tally := msg.tally
		cmds = append(cmds, func() tea.Msg { return part.Compared{Preview: tally} })
	}
	if !msg.live {
		v.offerUnsaved()
	}
	draft := v.draft
	cmds = append(cmds, v.Later(pause, askTarget{draft}))
	return tea.Batch(cmds...)
}

// ask holds the draft against its target, unless it has changed meanwhile or
// cannot be deployed anyway.
func (v *View) ask(msg askTarget) tea.Cmd {
	if msg.draft != v.draft || v.loading {
		return nil
	}
	if v.draft.InPart() {
		return v.reading(settled)
	}
	if v.draft.Stack == nil || v.draft.Findings.HasErrors() || !v.Front(v) {
		return nil
	}
	v.asked = askingNow
	draft := v.draft
	return func() tea.Msg {
		p, err := v.App().WhatIf(v.Context(), draft)
		return targetAnswered{draft, p, err}
	}
}

func (v *View) answered(msg targetAnswered) {
	if msg.draft != v.draft {
		return
	}
	v.asked = notAsked
	if msg.err != nil {
		v.Warn("the target was not asked: %v", msg.err)
		return
	}
	v.asked, v.tally, v.findings = answered, msg.tally, msg.tally.Findings
	v.setMarks()
}

// missing reports whether a file is named that is not there: any that comes into being may be it.
func (v *View) missing() bool {
	return slices.ContainsFunc(v.findings, func(f tosca.Finding) bool { return f.Code == "no-such-file" })
}

func (v *View) fileChanged(path string) tea.Cmd {
	path = filepath.Clean(path)
	isNew := v.draft != nil &&
		filepath.Dir(path) == filepath.Clean(app.RuleFolder(v.draft.Template)) // a file of rules that comes or goes
	if isNew || v.missing() || slices.ContainsFunc(v.watched, func(w string) bool { return filepath.Clean(w) == path }) {
		return v.load()
	}
	return nil
}

func (v *View) edited(msg edited) tea.Cmd {
	if msg.err != nil {
		v.Warn("the editor ended badly: %v", msg.err)
	}
	file := v.name()
	return func() tea.Msg { return part.FileChanged{Path: file} }
}

// name is the path of the file on the screen.
func (v *View) name() string {
	if v.cur < len(v.names) {
		return v.names[v.cur]
	}
	return ""
}

// file is the file on the screen; nil where there is none.
func (v *View) file() *file { return v.files[v.name()] }

// line is the line of the cursor, from 0.
func (v *View) line() int {
	if f := v.file(); f != nil {
		return f.Cursor.Line
	}
	return 0
}

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	read := part.Bind(v.load, "r").Shown("r", "read it again")
	if v.draft == nil || v.file() == nil {
		return []part.Binding{read}
	}
	if f := v.file(); v.editing && f.Finder != nil {
		return f.Finder.Bindings()
	}
	if v.editing {
		return v.editBindings()
	}
	if v.form.on {
		return v.formBindings()
	}
	f := v.file()
	by := func(n int) func() tea.Cmd { return part.Run(func() { v.goLine(v.line() + n) }) }
	page := f.Page()
	keys := []part.Binding{part.Bind(v.edit, "e").Shown("e", "write here").As("Write here"),
		part.Bind(v.askInput, "i").Shown("i", "give an input")}
	if len(v.names) > 1 {
		other := (v.cur + 1) % len(v.names)
		name := filepath.Base(v.names[other])
		keys = append(keys, part.Bind(part.Run(func() { v.turnTo(other) }), "f").Shown("f", name).As("Show "+name))
	}
	keys = append(keys, part.Bind(part.Run(v.turnPanel), "tab").Shown("tab", "inputs, help, wall").
		As("Show the inputs, help or the wall"))
	if len(v.findings) > 0 {
		keys = append(keys, part.Bind(part.Run(v.nextFinding), "n").Shown("n", "next finding").
			As("Go to the next finding"))
	}
	keys = append(keys, part.Bind(func() tea.Cmd { return v.Send(part.ShowWhatIf{}) }, "enter").
		Shown("enter", "what-if").As("Show the what-if"),
		part.Bind(v.editElsewhere, "E").Shown("E", "your own editor").As("Open it in your own editor"))
	if v.panel == structure && len(v.wall.Graph) > 0 {
		keys = append(keys, v.wallBindings()...)
	}
	if len(v.Unsaved()) > 0 {
		keys = append(keys, part.Bind(part.Run(v.save), "ctrl+s").Shown("ctrl+s", "save"))
	}
	keys = append(keys, part.Bind(part.Run(func() { f.OpenFinder(false); v.editing = true }), "/", "ctrl+f").
		Shown("/", "find"), read,
		part.Bind(by(-1), "up", "k").Shown("↑ ↓ g G", "move").As(""), part.Bind(by(1), "down", "j"),
		part.Bind(by(-page), "pgup", "ctrl+b"), part.Bind(by(page), "pgdown", "space"),
		part.Bind(part.Run(func() { v.goLine(0) }), "home", "g"), part.Bind(by(len(f.Text.Lines)), "end", "G"),
		part.Bind(part.Run(func() { f.Left(false) }), "left", "h").Shown("← →", "along the line").As(""),
		part.Bind(part.Run(func() { f.Right(false) }), "right", "l"))
	return keys
}

// goLine goes to a line of the file on the screen.
func (v *View) goLine(n int) {
	if f := v.file(); f != nil {
		f.Vertical(n-f.Cursor.Line, false)
		v.followText()
	}
}

// turnTo shows another one of the files.
func (v *View) turnTo(i int) {
	v.cur, v.list = i, nil
	v.followText()
}

// turnPanel shows the next panel.
func (v *View) turnPanel() {
	v.panel = (v.panel + 1) % panels
	v.followText()
}

// nextFinding goes to the next line with a finding, in either file.
func (v *View) nextFinding() {
	next := v.findings[0]
	for _, f := range v.findings {
		if f.File > v.name() || f.File == v.name() && f.Line-1 > v.line() {
			next = f
			break
		}
	}
	v.goTo(next.Pos)
}

// goTo shows a place in one of the files, which may still have to be loaded.
func (v *View) goTo(p tosca.Pos) {
	if v.loading && v.draft == nil {
		v.aim = &p
	}
	i := slices.Index(v.names, p.File)
	if i < 0 {
		i = slices.IndexFunc(v.names, func(f string) bool { return filepath.Base(f) == filepath.Base(p.File) })
	}
	v.cur = max(0, i)
	if f := v.file(); f != nil {
		line := f.Text.Line(p.Line - 1)
		column := 0
		for n := range line { // it counts letters
			if p.Column--; p.Column <= 0 {
				column = n
				break
			}
		}
		f.Move(assist.Place{Line: max(0, p.Line-1), Column: column}, false)
		v.followText()
	}
}

// Hint is the next step.
func (v *View) Hint() string {
	f := v.file()
	switch {
	case v.draft == nil || f == nil:
		return "reading …"
	case v.form.on:
		return v.formHint()
	case v.editing && f.Finder != nil:
		return "type what to look for, esc ends the search"
	case v.editing && v.list != nil:
		return v.list.hint()
	case v.editing && f.Filling():
		return "fill it in; tab goes to the next blank"
	case v.editing && f.dirty():
		return "ctrl+s saves, esc reads"
	case v.editing:
		return "write; ctrl+space offers what can stand here, esc reads"
	case v.findings.HasErrors():
		for _, f := range v.findings {
			if f.Severity == tosca.Error && strings.HasPrefix(f.File, "-i") {
				return "next: i gives another value, i with nothing takes it back"
			}
		}
		return "next: n goes to the mistake, e writes there"
	case len(v.Unsaved()) > 0:
		return "not saved: ctrl+s saves " + strings.Join(v.Unsaved(), " and ")
	case v.draft.Stack == nil:
		return "a template alone; a stack file says where it goes"
	case v.tally != nil && v.tally.Empty():
		return "nothing to deploy by the record; 3 asks the cloud too"
	}
	return "next: 3 shows what deploying it would do"
}

// Status is which line of which file it is.
func (v *View) Status() string {
	f := v.file()
	if v.draft == nil || f == nil {
		return ""
	}
	words := ""
	if f.dirty() {
		words = "not saved · "
	}
	if v.editing {
		words += fmt.Sprintf("column %d · ", len([]rune(f.Line()[:f.Cursor.Column]))+1)
	}
	if w, _ := v.Size(); w >= 100 { // else the tabs have to do
		words += filepath.Base(v.name()) + " · "
	}
	return fmt.Sprintf("%sline %d of %d", words, f.Cursor.Line+1, len(f.Text.Lines))
}
