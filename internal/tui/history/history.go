// Package history is the view of what became of a stack, or of all: a ladder whose rungs are
// the runs, the newest above.
package history

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// View shows what became of a stack, or of all.
type View struct {
	part.Shell
	all    bool // everybody's, else the stack's that all views are about
	list   []*app.History
	rungs  []app.Rung // that pass the filter
	of     part.Subject
	err    error
	ready  bool
	busy   bool
	again  bool
	sel    string // the run's id
	marked string // the run that others are compared with; "" is none
	filter part.Filter
	ladder
	line     line
	changes  map[string][]app.Changed // by the run's id
	fetching string
}

// New is the view.
func New(sh part.Shell) *View {
	return &View{Shell: sh, filter: part.NewFilter(), changes: map[string][]app.Changed{}}
}

// Name is what stands in the line of views.
func (v *View) Name() string { return "History" }

// Roams says that no stack has to be chosen.
func (v *View) Roams() bool { return true }

// Accepts takes the wish to see what has become of a resource.
func (v *View) Accepts(intent any) bool {
	_, ok := intent.(part.ShowTrail)
	return ok
}

// Typing reports whether the filter is being typed.
func (v *View) Typing() bool { return v.filter.Typing }

type read struct {
	list []*app.History
	of   part.Subject
	err  error
}

type changesRead struct {
	id   string
	list []app.Changed
	err  error
}

// Update hears a message.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case part.Opened:
		if !v.of.Is(v.Subject()) && !v.all {
			v.list, v.ready, v.marked = nil, false, ""
			if v.line.one = nil; v.line.on {
				return v.show(nil)
			}
		}
		return v.reload()
	case part.StoreChanged:
		if v.Front(v) {
			return v.reload()
		}
	case part.ShowTrail:
		return v.trailShown(msg)
	case lineRead:
		return v.lineLoaded(msg)
	case part.Patched:
		if msg.For == part.View(v) {
			v.line.patch.Hear(v, msg)
		}
	case read:
		return v.loaded(msg)
	case changesRead:
		v.fetching = ""
		if msg.err == nil {
			v.changes[msg.id] = msg.list
		}
		return v.fetch()
	case part.Click:
		if v.line.on {
			if i := v.line.at(msg.X, msg.Y); i >= 0 && v.line.patch.Written == nil {
				v.line.choose(i)
			}
		} else if i := v.at(msg.X, msg.Y); i >= 0 {
			return v.choose(i)
		}
	case part.Wheel:
		switch {
		case v.line.patch.Written != nil:
			v.line.patch.Scroll(3 * msg.By)
		case v.line.on:
			v.line.choose(v.line.index(v.line.sel) + msg.By)
		default:
			return v.move(msg.By)
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		if v.filter.Typing && v.line.on {
			return v.filter.Update(msg, v.layLine)
		}
		if v.filter.Typing {
			return tea.Batch(v.filter.Update(msg, v.lay), v.fetch())
		}
	}
	return nil
}

// reload reads what is shown again.
func (v *View) reload() tea.Cmd {
	if v.line.on {
		return v.loadLine()
	}
	return v.load()
}

// load reads the history in the background.
func (v *View) load() tea.Cmd {
	if v.again = v.busy; v.busy {
		return nil
	}
	about := v.Subject()
	if about.Name == "" {
		v.all = true
	}
	v.busy = true
	all := v.all
	return func() tea.Msg {
		out := read{of: about}
		switch {
		case all:
			out.list, out.err = v.App().Histories(v.Context())
		case about.Stack != nil:
			var h *app.History
			if h, out.err = v.App().History(v.Context(), about.Stack); out.err == nil {
				out.list = []*app.History{h}
			}
		}
		return out
	}
}

func (v *View) loaded(msg read) tea.Cmd {
	v.busy, v.ready = false, true
	v.list, v.err, v.of = msg.list, msg.err, msg.of
	for _, h := range msg.list {
		for _, r := range h.Runs {
			if !r.State.Ended() { // what it changes may become other
				delete(v.changes, r.ID)
			}
		}
	}
	v.lay()
	if v.again || !v.all && !msg.of.Is(v.Subject()) {
		return v.load()
	}
	return v.fetch()
}

// lay lists the rungs that pass the filter, and keeps the chosen one.
func (v *View) lay() {
	v.rungs = nil
	for _, g := range app.Rungs(v.list...) {
		text := g.Of.Stack.Name + " " + g.Of.Stack.Target.String() + " " + g.Words() + " " + g.Run.By + " " + strings.Join(g.Notes(), " ") + " " +
			strings.Join(g.Failed(), " ")
		if v.filter.Fits(text) {
			v.rungs = append(v.rungs, g)
		}
	}
	if v.index() < 0 && len(v.rungs) > 0 {
		v.sel, v.scroll = v.rungs[0].Run.ID, 0
	}
}

func (v *View) index() int { return v.find(v.sel) }

func (v *View) find(id string) int {
	return slices.IndexFunc(v.rungs, func(g app.Rung) bool { return g.Run.ID == id })
}

func (v *View) selected() *app.Rung {
	if i := v.index(); i >= 0 {
		return &v.rungs[i]
	}
	return nil
}

// fetch reads what the chosen run changed.
func (v *View) fetch() tea.Cmd {
	g := v.selected()
	if g == nil || v.fetching != "" {
		return nil
	}
	if _, known := v.changes[g.Run.ID]; known {
		return nil
	}
	v.fetching = g.Run.ID
	return func() tea.Msg {
		list, err := v.App().ChangedBy(v.Context(), g.Of, g.Run)
		return changesRead{g.Run.ID, list, err}
	}
}

func (v *View) move(by int) tea.Cmd { return v.choose(v.index() + by) }

func (v *View) choose(i int) tea.Cmd {
	if len(v.rungs) == 0 {
		return nil
	}
	g := v.rungs[max(0, min(len(v.rungs)-1, i))]
	v.sel, v.scroll = g.Run.ID, 0
	return v.fetch()
}

// aim makes a stack the one that all views are about: it is acted on, or opened.
func (v *View) aim(st *stack.Stack) {
	about := part.Subject{Name: st.Name, File: st.StackFile, Target: st.Target.String(), Stack: st}
	if !about.Is(v.Subject()) {
		v.About(about)
		v.of = about
	}
}

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	if v.filter.Typing {
		return v.filter.Bindings()
	}
	if v.line.on {
		return v.lineBindings()
	}
	g := v.selected()
	var keys []part.Binding
	if g != nil {
		compare := part.Bind(v.compare, "enter", "right", "l")
		if v.comparable() {
			words := "what it changed, in full"
			if v.marked != "" && v.marked != v.sel {
				words = "compare the two"
			}
			compare = compare.Shown("enter", words).As("Show it as a what-if")
		}
		keys = append(keys, compare)
		if g.Revision != nil && !g.Revision.Current && g.Revision.Stood() {
			words := fmt.Sprintf("go back to revision %d", g.Revision.Number)
			if v.all {
				words += " of " + g.Of.Stack.Name
			}
			keys = append(keys, part.Bind(v.goBack, "u").Shown("u", words).As("Go back to this revision"))
		}
		mark := part.Bind(part.Run(v.mark), "m")
		if g.Revision != nil {
			mark = mark.Shown("m", "mark, to compare").As("Mark a revision, to compare another with it")
		}
		keys = append(keys, mark)
	}
	keys = append(keys,
		part.Bind(func() tea.Cmd { return v.show(nil) }, "t").Shown("t", "what changed in the cloud").As("Show the runs, or what changed in the cloud"),
		part.Bind(v.turn, "a").Shown("a", v.turnWords()),
		part.Bind(part.Run(func() { v.filter.Typing = true }), "/").Shown("/", "filter"))
	switch {
	case v.filter.Active():
		keys = append(keys, part.Bind(part.Run(func() { v.filter.Input.SetValue(""); v.lay() }), "esc").Shown("esc", "show all"))
	case v.marked != "":
		keys = append(keys, part.Bind(part.Run(func() { v.marked = "" }), "esc").Shown("esc", "take the mark away"))
	}
	if len(v.list) > 0 {
		keys = append(keys, part.Bind(v.markdown, "y").Shown("y", "copy as Markdown"))
	}
	by := func(n int) func() tea.Cmd { return func() tea.Cmd { return v.move(n) } }
	return append(keys,
		part.Bind(by(-1), "up", "k").Shown("↑ ↓", "choose").As(""), part.Bind(by(1), "down", "j"),
		part.Bind(by(-len(v.rungs)), "home", "g"), part.Bind(by(len(v.rungs)), "end", "G"),
		part.Bind(part.Run(func() { v.scroll += 5 }), "pgdown").Shown("pgdn", "more of what it changed").As(""),
		part.Bind(part.Run(func() { v.scroll = max(0, v.scroll-5) }), "pgup"))
}

// turn shows everybody's history, or that of the stack alone.
func (v *View) turn() tea.Cmd {
	if v.Subject().Name == "" && v.all {
		v.Say("no stack is chosen")
		return nil
	}
	v.all, v.marked, v.line.marked = !v.all, "", 0
	return v.reload()
}

func (v *View) turnWords() string {
	if v.all {
		return "this stack alone"
	}
	return "everybody's"
}

func (v *View) mark() {
	g := v.selected()
	switch {
	case g.Revision == nil:
		v.Say("this run led to no revision that could be compared")
	case v.marked == v.sel:
		v.marked = ""
	default:
		v.marked = v.sel
		v.Say("marked; choose another one of %s and press enter", g.Of.Stack.Name)
	}
}

// between are the revisions that enter compares: the marked one with the chosen one, else the
// one before with the chosen one.
func (v *View) between() (from, to int, ok bool) {
	g := v.selected()
	if g == nil || g.Revision == nil {
		return 0, 0, false
	}
	if i := v.find(v.marked); i >= 0 && v.marked != v.sel {
		m := v.rungs[i]
		if m.Of.Stack.ID != g.Of.Stack.ID || m.Revision == nil {
			return 0, 0, false
		}
		return min(m.Revision.Number, g.Revision.Number), max(m.Revision.Number, g.Revision.Number), true
	}
	return g.Run.Base, g.Revision.Number, true
}

func (v *View) comparable() bool {
	_, _, ok := v.between()
	return ok
}

func (v *View) compare() tea.Cmd {
	from, to, ok := v.between()
	if !ok {
		v.Say("this run led to no revision that could be compared")
		return nil
	}
	st := v.selected().Of.Stack
	v.aim(st)
	return v.Send(part.ShowPreview{Make: func() (*app.Preview, error) { return v.App().CompareRevisions(v.Context(), st, from, to) }})
}

func (v *View) goBack() tea.Cmd {
	g := v.selected()
	v.aim(g.Of.Stack)
	return v.Send(part.ShowUndo{To: g.Revision.Number})
}

func (v *View) markdown() tea.Cmd {
	var out []string
	for _, h := range v.list {
		out = append(out, h.Markdown())
	}
	v.Say("copied as Markdown")
	return tea.SetClipboard(strings.Join(out, "\n"))
}

// Hint is the next step.
func (v *View) Hint() string {
	if v.line.on {
		return v.lineHint()
	}
	g := v.selected()
	switch {
	case v.filter.Typing:
		return "words of name, kind, state, who, notes; enter keeps it"
	case g == nil && v.filter.Active():
		return "esc shows all"
	case g == nil:
		return ""
	case v.marked != "" && v.marked != v.sel && v.comparable():
		return "enter compares it with the marked one"
	case g.Revision != nil && !g.Revision.Current && g.Revision.Stood():
		if g.Of.Stack.State == stack.Removed {
			return "removed: u shows what standing it up again would do"
		}
		return "u shows what going back to it would do"
	case g.Run.State == run.StatusHeld || g.Run.State == run.StatusStuck || g.Run.State == run.StatusPaused:
		return "4 shows how to go on"
	}
	return ""
}

// Status is how much is shown.
func (v *View) Status() string {
	if v.line.on {
		return v.lineStatus()
	}
	if !v.ready {
		return "reading …"
	}
	if v.all {
		return stack.Count(len(v.rungs), "run") + ", " + stack.Count(len(v.list), "stack")
	}
	return stack.Count(len(v.rungs), "run")
}
