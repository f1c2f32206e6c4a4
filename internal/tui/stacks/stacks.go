// Package stacks is the view that lists the stacks.
package stacks

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// line is one line of the list: a stack, or a stack file that was not
// deployed yet.
type line struct {
	part.Subject
	last  app.Overview // how its last run stands
	order int
	depth int // in the tree: under how many it stands
}

// View lists the stacks.
type View struct {
	part.Shell
	rows     []line
	folders  []string // where stack files are looked for
	sel      string   // name@target
	arrived  bool     // somebody has just come here
	removed  bool     // show removed ones
	tree     shape
	filter   part.Filter
	result   int // selected result
	ready    bool
	busy     bool
	again    bool // something has changed since it was read last
	list     part.Rect
	top      int
	outlines map[int64]outline
	contents *app.Contents // of the selected stack; nil is not known
	of       key           // what it is of
	asked    key           // what is being read
	next     tea.Cmd       // what typing has begun
	files    files
	wall     part.Wall

	beginning *beginning // nil while none is begun
}

// shape is how the list shows who uses whose results.
type shape int

const (
	flat   shape = iota
	tree         // under those whose results they use
	ground       // only those that use nobody's
)

var shapeWords = map[shape]string{flat: "all, by name", tree: "each under the one whose results it uses", ground: "without those that use the results of others"}

// shaped orders lines as a tree, or leaves out those that use others.
func (v *View) shaped(list []line) []line {
	if v.tree == flat {
		return list
	}
	here := map[int64]bool{}
	for _, r := range list {
		if r.Stack != nil {
			here[r.Stack.ID] = true
		}
	}
	var out []line
	done := map[int64]bool{}
	var add func(r line, depth int)
	add = func(r line, depth int) {
		if r.Stack == nil || !done[r.Stack.ID] {
			r.depth = depth
			out = append(out, r)
		}
		if r.Stack == nil || done[r.Stack.ID] || v.tree == ground {
			return
		}
		done[r.Stack.ID] = true
		for _, u := range list {
			if len(u.last.Uses) > 0 && slices.Contains(u.last.Uses, r.Stack.ID) {
				add(u, depth+1)
			}
		}
	}
	for _, r := range list {
		if !slices.ContainsFunc(r.last.Uses, func(id int64) bool { return here[id] }) {
			add(r, 0)
		}
	}
	if v.tree == tree {
		for _, r := range list { // those that use each other
			if r.Stack != nil && !done[r.Stack.ID] {
				add(r, 0)
			}
		}
	}
	return out
}

// New is the view; stack files are looked for in folders too.
func New(sh part.Shell, folders ...string) *View {
	return &View{Shell: sh, filter: part.NewFilter(), folders: folders, files: files{}, outlines: map[int64]outline{}}
}

// Name is what stands in the line of views.
func (v *View) Name() string { return "Stacks" }

// Roams says that no stack has to be chosen.
func (v *View) Roams() bool { return true }

// Accepts takes the wish to open a file.
func (v *View) Accepts(intent any) bool {
	_, ok := intent.(part.AskFor)
	return ok
}

// Typing reports whether the filter is being typed.
func (v *View) Typing() bool { return v.filter.Typing || v.beginning != nil && v.beginning.naming }

// Update hears a message.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case part.Opened:
		if about := v.Subject(); about.Name != "" { // it may have been chosen elsewhere
			v.sel, v.arrived = about.Name+"@"+about.Target, true
		}
		return v.load()
	case part.AskFor:
		v.askFile()
	case part.StoreChanged:
		if v.Front(v) {
			return v.load()
		}
		return v.readSubject()
	case subjectRead:
		if about := v.Subject(); about.Is(msg.about) {
			about.Stack = msg.stack
			v.About(about)
		}
	case stacksLoaded:
		return v.loaded(msg)
	case part.ShowDraft:
		v.opened(msg.Draft)
		return v.load() // which finds the stack, where it is deployed
	case startersRead, targetsRead:
		if v.beginning != nil {
			v.beginning.update(msg)
		}
	case part.Click:
		if b := v.beginning; b != nil {
			if !b.naming && b.list.Contains(msg.X, msg.Y) {
				b.choose(b.top + (msg.Y-b.list.Y)/max(1, b.each()))
			}
			return nil
		}
		return v.click(msg.Y)
	case part.Wheel:
		if b := v.beginning; b != nil {
			b.choose(b.at + msg.By)
			return nil
		}
		return v.move(msg.By)
	case outlinesRead:
		for _, o := range msg {
			v.outlines[o.of.id] = o
		}
	case contentsRead:
		return v.filled(msg)
	case tea.KeyPressMsg, tea.PasteMsg:
		if v.beginning != nil && v.beginning.naming {
			return v.beginKey(msg)
		}
		if v.filter.Typing {
			cmd := v.filter.Update(msg, v.filtered)
			cmd, v.next = tea.Batch(cmd, v.next), nil
			return cmd
		}
	}
	return nil
}

// opened goes to the stack of a draft that was opened, and looks for others
// beside it.
func (v *View) opened(d *app.Draft) {
	if d.Stack != nil {
		v.sel = d.Stack.Stack + "@" + d.Stack.Target.String()
		v.folders = append(v.folders, filepath.Dir(d.Path))
	}
}

type stacksLoaded struct {
	rows []line
	err  error
}

// key is a state of a stack.
type key struct {
	id      int64
	updated time.Time
}

func (r line) key() key {
	if r.Stack == nil {
		return key{}
	}
	return key{r.Stack.ID, r.Stack.Updated}
}

// outline is how a stack looks in the list.
type outline struct {
	of      key
	courses []int
}

// The answers to what is read after the list.
type (
	outlinesRead []outline
	contentsRead struct {
		of       key
		contents *app.Contents
		err      error
	}
)

func (r line) id() string { return r.Name + "@" + r.Target }

// load reads the stacks in the background.
func (v *View) load() tea.Cmd {
	if v.again = v.busy; v.busy {
		return nil
	}
	v.busy = true
	folders := slices.Clone(v.folders)
	return func() tea.Msg {
		var out stacksLoaded
		list, err := v.App().Stacks(v.Context())
		out.err = err
		for _, o := range list {
			st := o.Stack
			r := line{Subject: part.Subject{Name: st.Name, File: st.StackFile, Target: st.Target.String(), Stack: st},
				last: o}
			if st.State == stack.Removed {
				r.order = 2
			}
			out.rows = append(out.rows, r)
		}
		if err == nil {
			out.rows = append(out.rows, v.files.find(out.rows, folders)...)
		}
		slices.SortStableFunc(out.rows, func(a, b line) int {
			return cmp.Or(a.order-b.order, strings.Compare(a.Name, b.Name), strings.Compare(a.Target, b.Target))
		})
		return out
	}
}

// outline reads how stacks look that have changed, or are not known yet.
func (v *View) outline() tea.Cmd {
	var changed []*stack.Stack
	for _, r := range v.rows {
		if r.Stack != nil && v.outlines[r.Stack.ID].of != r.key() {
			changed = append(changed, r.Stack)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	return func() tea.Msg {
		var out outlinesRead
		for _, st := range changed {
			courses, err := v.App().Outline(v.Context(), st)
			if err != nil {
				return part.Failed{Doing: "read " + st.Name, Err: err}
			}
			out = append(out, outline{key{st.ID, st.Updated}, courses})
		}
		return out
	}
}

// fetch reads what is recorded of the selected stack: again where it has changed, or
// a run is changing it.
func (v *View) fetch() tea.Cmd {
	r := v.selected()
	if r == nil || r.Stack == nil {
		v.contents, v.of = nil, key{}
		return nil
	}
	now := r.key()
	if now.id != v.of.id {
		v.contents = nil
	}
	old := v.contents != nil && r.Stack.State.Moving() && time.Since(v.contents.Read) > time.Second
	if now == v.of && !old || now == v.asked {
		return nil
	}
	v.asked = now
	st := r.Stack
	return func() tea.Msg {
		c, err := v.App().Contents(v.Context(), st)
		return contentsRead{now, c, err}
	}
}

// shownContents is what is known of the selected stack; nothing while it is read.
func (v *View) shownContents() *app.Contents {
	if v.contents == nil {
		return &app.Contents{}
	}
	return v.contents
}

// subjectRead is the stack of the subject, as it is now.
type subjectRead struct {
	about part.Subject
	stack *stack.Stack
}

// readSubject reads the stack that the other views are about.
func (v *View) readSubject() tea.Cmd {
	about := v.Subject()
	if about.Stack == nil {
		return nil
	}
	return func() tea.Msg {
		st, err := v.App().At(v.Context(), about.Stack.Name, about.Stack.Target)
		if err != nil {
			return nil // the list tells it
		}
		return subjectRead{about, st}
	}
}

func (v *View) loaded(msg stacksLoaded) tea.Cmd {
	v.busy, v.ready = false, true
	if msg.err != nil {
		v.Warn("the stacks cannot be read: %v", msg.err)
		return nil
	}
	v.rows = msg.rows
	if v.sel == "" && len(v.visible()) > 0 {
		v.sel = v.visible()[0].id()
	}
	about := v.Subject()
	for _, r := range v.rows {
		if r.Subject.Is(about) {
			about.Stack = r.Stack
			v.About(about)
		}
	}
	var cmds []tea.Cmd
	if v.Front(v) {
		if v.arrived && v.selected() == nil { // what is chosen is in sight, whatever was looked for before
			v.filter.Input.SetValue("")
			v.tree = 0
		}
		v.arrived = false
		if rows := v.visible(); v.selected() == nil && len(rows) > 0 { // it is not there any more
			v.sel = rows[0].id()
		}
		cmds = append(cmds, v.aim())
	}
	if cmds = append(cmds, v.outline()); v.again {
		cmds = append(cmds, v.load())
	}
	return tea.Batch(cmds...)
}

// take makes the selected row the subject of all views: this is where one chooses it.
func (v *View) take() {
	if r := v.selected(); r != nil {
		v.About(r.Subject)
	} else {
		v.About(part.Subject{})
	}
}

// aim takes the selected row, and reads what is recorded of it.
func (v *View) aim() tea.Cmd {
	v.take()
	return v.fetch()
}

// visible lists the rows that pass the filter.
func (v *View) visible() []line {
	var out []line
	for _, r := range v.rows {
		if v.hidden(r) || v.folded(r) {
			continue
		}
		state := "empty"
		if r.Stack != nil {
			state = string(r.Stack.Shown())
		}
		if r.Stack != nil && r.Stack.Differs > 0 {
			state += " differs"
		}
		if v.filter.Fits(r.Name + " " + r.Target + " " + state) {
			out = append(out, r)
		}
	}
	return v.shaped(out)
}

// folded reports whether a stack is a place of a fleet, which stands in a view of its own: a filter finds it here too.
func (v *View) folded(r line) bool {
	return r.Stack != nil && r.Stack.Fleet != "" && !v.filter.Active() && !r.Is(v.Subject())
}

// hidden reports whether a stack is removed, and not wanted on the list; the chosen one stays.
func (v *View) hidden(r line) bool { return r.order == 2 && !v.removed && !r.Is(v.Subject()) }

// inFleets is how many stacks are not listed as they are places of fleets.
func (v *View) inFleets() (n int) {
	for _, r := range v.rows {
		if v.folded(r) && r.order != 2 {
			n++
		}
	}
	return n
}

func (v *View) selected() *line {
	for _, r := range v.visible() {
		if r.id() == v.sel {
			return &r
		}
	}
	return nil
}

func (v *View) move(by int) tea.Cmd {
	rows := v.visible()
	if len(rows) == 0 {
		return nil
	}
	i := slices.IndexFunc(rows, func(r line) bool { return r.id() == v.sel })
	v.sel = rows[max(0, min(len(rows)-1, i+by))].id()
	v.result = 0
	return v.aim()
}

// filled hears what is recorded of a stack.
func (v *View) filled(msg contentsRead) tea.Cmd {
	if msg.of == v.asked {
		v.asked = key{}
	}
	if msg.err != nil {
		v.Warn("what is recorded cannot be read: %v", msg.err)
		return nil
	}
	if r := v.selected(); r != nil && r.Stack != nil && r.Stack.ID == msg.of.id {
		v.contents, v.of = msg.contents, msg.of
		v.wall.Set(msg.contents.Graph)
	}
	return v.fetch()
}

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	if v.beginning != nil {
		return v.beginBindings()
	}
	if v.filter.Typing {
		return v.filter.Bindings()
	}
	r := v.selected()
	by := func(n int) func() tea.Cmd { return func() tea.Cmd { return v.move(n) } }
	var keys []part.Binding
	if r != nil {
		keys = append(keys, part.Bind(v.read, "enter", "right", "l").Shown("enter", "open it"))
	}
	if r != nil && len(v.shownContents().Results) > 0 {
		keys = append(keys,
			part.Bind(v.copy, "y").Shown("y", "copy the result"))
		keys = append(keys, part.CopyCommand(v, v.shownContents().Results, v.result)...)
		keys = append(keys,
			part.Bind(part.Run(func() { v.result = (v.result + 1) % len(v.shownContents().Results) }), "tab").
				Shown("tab", "next result").As("Mark the next result"))
	}
	keys = append(keys, part.Bind(v.begin, "n").Shown("n", "begin a new one").As("Begin a new stack"),
		part.Bind(part.Run(func() { v.filter.Typing = true }), "/").Shown("/", "filter"))
	if v.filter.Active() {
		keys = append(keys, part.Bind(v.clear, "esc").Shown("esc", "clear the filter"))
	}
	if r != nil && r.Stack != nil && r.Stack.State != stack.Removed {
		keys = append(keys, part.Bind(func() tea.Cmd { return v.Send(part.ShowDeletion{}) }, "x").
			Shown("x", "delete it"))
	}
	if r != nil && r.Stack != nil {
		undo := part.Bind(func() tea.Cmd { return v.Send(part.ShowUndo{}) }, "u")
		if (r.Stack.Revision != 1 || r.Stack.State != stack.Ready) &&
			!(r.last.Waits() && r.last.Run.Kind == run.KindDelete) {
			undo = undo.Shown("u", "undo, or go back")
		}
		keys = append(keys, undo)
	}
	if r != nil && r.Stack != nil && r.Stack.Revision > 0 && r.Stack.State != stack.Removed {
		st := r.Stack
		keys = append(keys, part.Bind(part.Run(func() { v.act(st) }), "c").Shown("c", "act: suspend, restart …").
			As("Act on what runs: suspend or resume the stack, restart, scale …"))
	}
	if slices.ContainsFunc(v.rows, func(r line) bool { return len(r.last.Uses) > 0 }) {
		keys = append(keys, part.Bind(func() tea.Cmd {
			v.tree = (v.tree + 1) % 3
			v.Say("%s", shapeWords[v.tree])
			v.filtered()
			cmd := v.next
			v.next = nil
			return cmd
		}, "t").Shown("t", "as a tree").As("Show who uses whose results as a tree, or hide those"))
	}
	return append(keys,
		part.Bind(func() tea.Cmd { v.removed = !v.removed; return v.aim() }, "r").Shown("r", "removed ones").
			As("Show removed stacks, or hide them"),
		part.Bind(part.Run(v.askFile), "o").Shown("o", "open a file").As(""),
		part.Bind(by(-1), "up", "k").Shown("↑ ↓", "choose").As(""), part.Bind(by(1), "down", "j"),
		part.Bind(by(-10), "pgup"), part.Bind(by(10), "pgdown"), part.Bind(by(-len(v.rows)), "home", "g"),
		part.Bind(by(len(v.rows)), "end", "G"))
}

// act asks what is to be done to a stack, or to one of its resources.
func (v *View) act(st *stack.Stack) {
	part.AskAct(v, fmt.Sprintf("What should be done? 'suspend' or 'resume' %s as a whole, or RESOURCE ACTION name=value, such as 'reader#0 restart'.", st.Name),
		func(words []string) tea.Cmd {
			if len(words) > 1 && !strings.Contains(words[1], "=") {
				return part.Act(v, st, words[0], words[1:])
			}
			return part.Act(v, st, "", words)
		})
}

func (v *View) read() tea.Cmd { return v.Send(part.ShowPlace{}) }

func (v *View) clear() tea.Cmd {
	v.filter.Input.SetValue("")
	return v.aim()
}

// copy puts the marked result on the clipboard.
func (v *View) copy() tea.Cmd {
	if v.result >= len(v.shownContents().Results) {
		return nil
	}
	v.Say("copied %s", v.shownContents().Results[v.result].Name)
	return tea.SetClipboard(v.shownContents().Results[v.result].Reveal())
}

// filtered hears that the words of the filter have changed.
func (v *View) filtered() {
	if rows := v.visible(); v.selected() == nil && len(rows) > 0 {
		v.sel = rows[0].id()
	}
	v.next = v.aim()
}

// Open reads a stack file, a template or a saved change set, and yields the wish to see it.
func Open(sh part.Shell, path string) tea.Msg {
	if app.IsSaved(path) {
		return part.ShowSaved{Path: path}
	}
	d, err := sh.App().Load(sh.Context(), path, app.Values{})
	if err != nil {
		return part.Failed{Doing: "open", Err: err}
	}
	return part.ShowDraft{Draft: d}
}

// askFile asks for a stack file or a template to open.
func (v *View) askFile() {
	ask := part.NewAsk("Which stack file, template or saved change set? The path may begin with ~", "",
		func(path string) tea.Cmd {
			path = part.InHome(path)
			return func() tea.Msg { return Open(v, path) }
		})
	ask.Free = true
	v.Ask(ask)
}

func (v *View) click(y int) tea.Cmd {
	rows := v.visible()
	if i := y - v.list.Y + v.top; i >= 0 && i < len(rows) && y >= v.list.Y && y < v.list.Y+v.list.H {
		if v.sel == rows[i].id() {
			return v.read()
		}
		v.sel = rows[i].id()
		return v.aim()
	}
	return nil
}

// Hint is the next step.
func (v *View) Hint() string {
	r := v.selected()
	switch {
	case v.filter.Typing:
		return "type words of name, target or state; enter keeps the filter"
	case v.beginning != nil:
		return v.beginning.hint()
	case r == nil:
		return "n begins a stack, o opens a stack file"
	case r.Stack == nil:
		return "not deployed yet: enter reads it, 3 shows what it would do"
	case r.Stack.State == stack.Removed:
		return "removed: 3 shows what standing it up again would do"
	case r.last.Waits():
		return "4 shows what happened and how to go on"
	case r.Stack.State == stack.Partial:
		return fmt.Sprintf("not wholly at revision %d: 3 and deploy, or u goes back to it", r.Stack.Revision)
	case r.Stack.State == stack.Deploying || r.Stack.State == stack.Undoing || r.Stack.State == stack.Removing:
		return "4 shows the run, live"
	}
	return "next: enter reads the template, 3 shows what would change"
}

// Status is how many stacks there are.
func (v *View) Status() string {
	if !v.ready {
		return "reading …"
	}
	hidden := 0
	for _, r := range v.rows {
		if v.hidden(r) {
			hidden++
		}
	}
	s := fmt.Sprintf("%d of %d stacks", len(v.visible()), len(v.rows)-v.inFleets())
	if hidden > 0 {
		s += fmt.Sprintf(", %d removed hidden", hidden)
	}
	return s
}
