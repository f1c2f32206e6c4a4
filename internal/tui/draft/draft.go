// Package draft is the view that shows a template and its stack file as text.
package draft

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/files"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// View shows the template, and the stack file, as text.
type View struct {
	part.Shell
	draft    *app.Draft
	findings tosca.Findings // of the draft, and of the target once it was asked
	tally    *app.Preview
	took     time.Duration
	path     string   // what is loaded
	files    []string // the template, the stack file, and what the template reads
	cur      int      // the one on the screen
	asked    asking   // of the target
	sources  map[string]source
	colours  highlighter
	line     int // the cursor, from 0
	top      int
	left     int // how many columns are scrolled away
	panel    int // 0 inputs, 1 help
	text     part.Rect
	loading  bool
	watched  []string
	readings int        // begun so far
	aim      *tosca.Pos // where to go when it is loaded; nil is nowhere
}

// New is the view.
func New(sh part.Shell) *View { return &View{Shell: sh} }

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
	case part.Click:
		if v.text.Contains(msg.X, msg.Y) {
			v.goLine(v.top + msg.Y - v.text.Y)
		}
	case part.Wheel:
		v.goLine(v.line + msg.By)
	}
	return nil
}

type loaded struct {
	draft *app.Draft
	files []string
	texts map[string]source
	tally *app.Preview
	took  time.Duration
	err   error
	asked int // which reading it is of
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
		v.draft, v.tally, v.line, v.top, v.cur = nil, nil, 0, 0, 0
		v.path = file
	}
	return v.load()
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

func (v *View) load() tea.Cmd {
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
	v.loading = true
	values := v.Values(path)
	return func() tea.Msg {
		began := time.Now()
		d, err := v.App().Load(v.Context(), path, values)
		if err != nil {
			return loaded{err: err, asked: asked}
		}
		out := newLoaded(d)
		out.asked = asked
		if d.Stack != nil {
			out.tally, out.err = v.App().WhatIfRecorded(v.Context(), d)
		}
		out.took = time.Since(began)
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
	was := v.file()
	v.draft, v.tally, v.took, v.asked, v.findings = msg.draft, msg.tally, msg.took, notAsked, msg.draft.Findings
	v.path, v.files, v.sources = msg.draft.Path, msg.files, msg.texts
	v.cur = max(0, slices.Index(v.files, was))
	v.watched = append(slices.Clone(v.files), app.RuleFolder(v.draft.Template))
	v.Watch(v.watched...)
	if about := v.Subject(); about.File == v.path && v.draft.Stack != nil {
		about.Careful = v.draft.Stack.Careful
		v.About(about)
	}
	if v.aim != nil {
		p := *v.aim
		v.aim = nil
		v.goTo(p)
	}
	v.line = max(0, min(v.line, len(v.shown())-1))
	draft := v.draft
	return tea.Tick(pause, func(time.Time) tea.Msg { return askTarget{draft} })
}

// ask holds the draft against its target, unless it has changed meanwhile or
// cannot be deployed anyway.
func (v *View) ask(msg askTarget) tea.Cmd {
	if msg.draft != v.draft || v.draft.Stack == nil || v.draft.Findings.HasErrors() || !v.Front(v) {
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
}

// newLoaded is a draft with its files.
func newLoaded(d *app.Draft) loaded {
	names, texts := readFiles(d)
	return loaded{draft: d, files: names, texts: texts}
}

// readFiles reads what a draft consists of: the template, the stack file, and the
// files that the template reads.
func readFiles(d *app.Draft) (names []string, texts map[string]source) {
	texts = map[string]source{}
	add := func(name, text string) {
		names = append(names, name)
		texts[name] = newSource(text)
	}
	add(d.Template, d.Text)
	if d.Stack != nil {
		text, _ := files.Read(d.Path, tosca.MaxBytes) // what is wrong with it is among the findings
		add(d.Path, string(text))
	}
	if d.Bundle != nil {
		others := d.Bundle.Files()
		root := strings.TrimSuffix(d.Template, filepath.FromSlash(d.Bundle.Entry))
		for _, path := range slices.Sorted(maps.Keys(others)) {
			add(filepath.Join(root, filepath.FromSlash(path)), string(others[path]))
		}
	}
	for _, name := range d.RuleFiles {
		if text, err := files.Read(name, tosca.MaxBytes); err == nil {
			add(name, string(text))
		}
	}
	return names, texts
}

func (v *View) fileChanged(path string) tea.Cmd {
	path = filepath.Clean(path)
	isNew := v.draft != nil &&
		filepath.Dir(path) == filepath.Clean(app.RuleFolder(v.draft.Template)) // a file of rules that comes or goes
	if isNew || slices.ContainsFunc(v.watched, func(w string) bool { return filepath.Clean(w) == path }) {
		return v.load()
	}
	return nil
}

func (v *View) edited(msg edited) tea.Cmd {
	if msg.err != nil {
		v.Warn("the editor ended badly: %v", msg.err)
	}
	file := v.file()
	return func() tea.Msg { return part.FileChanged{Path: file} }
}

func (v *View) file() string {
	if v.cur < len(v.files) {
		return v.files[v.cur]
	}
	return ""
}

func (v *View) shown() []string { return v.sources[v.file()].lines }

// findingsAt lists what was found in a line of the file on the screen.
func (v *View) findingsAt(line int) tosca.Findings {
	var out tosca.Findings
	for _, f := range v.findings {
		if f.File == v.file() && f.Line == line+1 {
			out = append(out, f)
		}
	}
	return out
}

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	read := part.Bind(v.load, "r").Shown("r", "read it again")
	if v.draft == nil {
		return []part.Binding{read}
	}
	by := func(n int) func() tea.Cmd { return part.Run(func() { v.goLine(v.line + n) }) }
	page := max(1, v.text.H-2)
	keys := []part.Binding{part.Bind(v.edit, "e").Shown("e", "edit it"),
		part.Bind(part.Run(v.give), "i").Shown("i", "give an input")}
	if len(v.files) > 1 {
		other := (v.cur + 1) % len(v.files)
		name := filepath.Base(v.files[other])
		keys = append(keys, part.Bind(part.Run(func() { v.cur, v.line, v.top = other, 0, 0 }), "f").Shown("f", name).
			As("Show "+name))
	}
	keys = append(keys, part.Bind(part.Run(func() { v.panel = 1 - v.panel }), "tab").Shown("tab", "inputs or help").
		As("Show the inputs, or help"))
	if len(v.findings) > 0 {
		keys = append(keys, part.Bind(part.Run(v.nextFinding), "n").Shown("n", "next finding").
			As("Go to the next finding"))
	}
	keys = append(keys, part.Bind(func() tea.Cmd { return v.Send(part.ShowWhatIf{}) }, "enter").
		Shown("enter", "what-if").As("Show the what-if"), read,
		part.Bind(by(-1), "up", "k").Shown("↑ ↓ g G", "move").As(""), part.Bind(by(1), "down", "j"),
		part.Bind(by(-page), "pgup", "ctrl+b"), part.Bind(by(page), "pgdown", "ctrl+f", "space"),
		part.Bind(part.Run(func() { v.left = 0; v.goLine(0) }), "home", "g"), part.Bind(by(len(v.shown())), "end", "G"))
	if longest := v.longest(); v.left > 0 || longest > v.text.W-10 {
		keys = append(keys, part.Bind(part.Run(func() { v.left = max(0, v.left-16) }), "left", "h").
			Shown("← →", "the rest of long lines").As(""),
			part.Bind(part.Run(func() {
				if v.left+v.text.W-10 < longest {
					v.left += 16
				}
			}), "right", "l"))
	}
	return keys
}

// goLine goes to a line of the file on the screen.
func (v *View) goLine(n int) { v.line = max(0, min(n, len(v.shown())-1)) }

// nextFinding goes to the next line with a finding, in either file.
func (v *View) nextFinding() {
	next := v.findings[0]
	for _, f := range v.findings {
		if f.File > v.file() || f.File == v.file() && f.Line-1 > v.line {
			next = f
			break
		}
	}
	v.goTo(next.Pos)
}

// goTo shows a place in one of the files, which may still have to be loaded.
func (v *View) goTo(p tosca.Pos) {
	if v.loading {
		v.aim = &p
	}
	i := slices.Index(v.files, p.File)
	if i < 0 {
		i = slices.IndexFunc(v.files, func(f string) bool { return filepath.Base(f) == filepath.Base(p.File) })
	}
	v.cur = max(0, i)
	v.line = max(0, p.Line-1)
}

// give takes a value for an input on top of the stack file, as -i does on the
// command line.
func (v *View) give() {
	if v.draft == nil || v.draft.File.Service == nil || len(v.draft.File.Service.Inputs) == 0 {
		v.Say("the template has no inputs")
		return
	}
	path := v.path
	ask := part.NewAsk("Give an input another value for now, as name=value; nothing at all takes back what was "+
		"given. The files stay as they are.", "", func(text string) tea.Cmd {
		name, _, ok := strings.Cut(text, "=")
		switch {
		case text == "":
			v.Give(path, nil)
		case !ok:
			v.Warn("write it as name=value, such as %s=…", v.draft.File.Service.Inputs[0].Name)
			return nil
		case v.draft.File.Service.Input(name) == nil:
			var names []string
			for _, in := range v.draft.File.Service.Inputs {
				names = append(names, in.Name)
			}
			v.Warn("the template has no input '%s'; %s", name,
				cmp.Or(tosca.Suggest(name, names), "the inputs are on the right"))
			return nil
		default:
			kept := slices.DeleteFunc(slices.Clone(v.Values(path).Flags),
				func(s string) bool { return strings.HasPrefix(s, name+"=") })
			v.Give(path, append(kept, text))
		}
		return v.load()
	})
	ask.Free = true
	service := v.draft.File.Service
	ask.Masked = func(text string) string {
		name, value, ok := strings.Cut(text, "=")
		if in := service.Input(name); !ok || in == nil || !in.Type.HoldsSecret() {
			return text
		}
		return name + "=" + strings.Repeat("•", len([]rune(value)))
	}
	v.Ask(ask)
}

// longest is how wide the longest line on the screen is.
func (v *View) longest() int {
	n := 0
	lines := v.shown()
	for _, line := range lines[min(v.top, len(lines)):min(v.top+v.text.H, len(lines))] {
		n = max(n, len([]rune(line)))
	}
	return n
}

// Hint is the next step.
func (v *View) Hint() string {
	switch {
	case v.draft == nil:
		return "reading …"
	case v.findings.HasErrors():
		for _, f := range v.findings {
			if f.Severity == tosca.Error && strings.HasPrefix(f.File, "-i") {
				return "next: i gives another value, i with nothing takes it back"
			}
		}
		return "next: n goes to the mistake, e fixes it"
	case v.draft.Stack == nil:
		return "a template alone; a stack file says where it goes"
	case v.tally != nil && v.tally.Empty():
		return "nothing to deploy by the record; 3 asks the cloud too"
	}
	return "next: 3 shows what deploying it would do"
}

// Status is which line of which file it is.
func (v *View) Status() string {
	if v.draft == nil {
		return ""
	}
	return fmt.Sprintf("%s · line %d of %d", filepath.Base(v.file()), v.line+1, len(v.shown()))
}
