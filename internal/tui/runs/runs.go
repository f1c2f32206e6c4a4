// Package runs is the view that shows a run of a stack, live.
package runs

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
)

// View shows a run: the wall filling, the events, and when each resource was
// worked on. It only reads; the run belongs to a process of its own.
type View struct {
	part.Shell
	about    part.Subject
	news     *app.News // what was heard last; nil is nothing yet
	run      *run.Record
	setting  *app.Setting
	before   map[string]time.Duration // how long the step of a resource took before
	compared string                   // how long it took beside the last one of its kind
	report   *app.Report              // what went wrong; nil where nothing did, or it was not read yet
	why      bool                     // it is shown whole
	whyTop   int
	whyLong  bool // it is longer than the screen
	progress *run.Progress
	log      log
	scripts  scripts
	wall     part.Wall
	busy     bool
	again    bool // something has happened since it was asked last
	asked    int  // how often it was asked
	none     bool // the stack has had no run
	pane     int  // on small screens: 0 events, 1 times, 2 results
	result   int
	err      error
}

// New is the view.
func New(sh part.Shell) *View { return fresh(sh, part.Subject{}) }

// fresh is a view of which nothing has been read.
func fresh(sh part.Shell, about part.Subject) *View {
	v := &View{Shell: sh, about: about}
	var chosen []string
	if a := sh.App(); a != nil {
		chosen = a.Preferences().Columns
	}
	v.log = newLog(chosen)
	return v
}

// Name is what stands in the line of views.
func (v *View) Name() string { return "Run" }

// Accepts takes the wish to see the last run of a stack; runs are begun elsewhere.
func (v *View) Accepts(intent any) bool {
	_, ok := intent.(part.ShowRun)
	return ok
}

// Moves reports whether the run goes on.
func (v *View) Moves() bool { return v.live() }

// Update hears a message.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case part.Opened:
		return v.open("")
	case part.ShowRun:
		v.Bring(v)
		return v.open("")
	case part.StoreChanged:
		if v.Front(v) && (v.run != nil || v.none) {
			return v.load("")
		}
	case part.Begin:
		return v.begin(msg.Ticket)
	case found:
		about := v.Subject()
		if st := msg.stack; st != nil && (about.Name != st.Name || about.Target != st.Target.String()) {
			// something of another stack was acted on, as from the Cloud view
			about = part.Subject{Name: st.Name, File: st.StackFile, Target: st.Target.String(), Careful: st.Careful}
		}
		about.Stack = msg.stack
		v.About(about)
		return v.open(msg.run)
	case heard:
		return v.heard(msg)
	case scriptsHeard:
		return v.heardScripts(msg)
	case askScripts:
		if v.scripts.waiting = false; v.Front(v) {
			return v.loadScripts()
		}
	case leaving:
		v.askToLeave(msg)
	case explained:
		if v.run != nil && msg.report != nil && msg.report.Run.ID == v.run.ID {
			v.report = msg.report
		}
	case part.Click:
		if n := v.wall.At(msg.X, msg.Y); n != "" {
			v.wall.Choose(n)
		}
	case part.Wheel:
		v.log.scroll(msg.By)
	case tea.KeyPressMsg, tea.PasteMsg:
		return v.log.typed(msg)
	}
	return nil
}

type heard struct {
	about   part.Subject
	asked   int
	news    *app.News
	first   bool         // it is another run than the one shown
	setting *app.Setting // nil where it was not read again
	err     error
}

func (v *View) live() bool { return v.run != nil && !v.run.State.Ended() }

// open shows a run of the subject; "" is the last one.
func (v *View) open(id string) tea.Cmd {
	if about := v.Subject(); !v.about.Is(about) || id != "" {
		asked := v.asked
		*v = *fresh(v.Shell, about)
		v.asked = asked
	}
	return v.load(id)
}

// load reads the events that are new, and all about the run where it is another
// one.
func (v *View) load(id string) tea.Cmd {
	about := v.Subject()
	st := about.Stack
	if st == nil {
		v.none = true
		return nil
	}
	if v.again = v.busy; v.busy && id == "" {
		return nil
	}
	v.busy = true
	v.asked++
	asked, known, live, after := v.asked, "", v.live(), v.log.last()
	if v.run != nil && v.setting != nil {
		known = v.run.ID
	}
	return func() tea.Msg {
		out := heard{about: about, asked: asked}
		if out.news, out.err = v.App().News(v.Context(), st, id, known, after); out.err != nil || out.news == nil {
			return out
		}
		r := out.news.Run
		out.first = r.ID != known
		if out.first {
			out.setting, out.err = v.App().Setting(v.Context(), st, r)
		} else if live && r.State.Ended() { // with its results
			if r, out.err = v.App().RunNumber(v.Context(), st, r.Number); out.err == nil {
				out.setting, out.err = v.App().Setting(v.Context(), st, r)
			}
		}
		return out
	}
}

func (v *View) heard(msg heard) tea.Cmd {
	if msg.asked != v.asked {
		return nil // something else was asked since
	}
	v.busy = false
	if !msg.about.Is(v.Subject()) {
		return nil
	}
	if v.err = msg.err; v.err != nil {
		return nil
	}
	if v.none = msg.news == nil; v.none {
		return nil
	}
	v.about, v.news = msg.about, msg.news
	if msg.setting != nil {
		v.setting = msg.setting
		v.wall.Set(v.setting.Graph)
	}
	if msg.first {
		v.progress = run.NewProgress(msg.news.Run.Plan, msg.news.Run.Started)
		v.log = newLog(v.log.columns)
	} else {
		msg.news.Run.Plan = v.run.Plan
	}
	v.run = msg.news.Run
	if msg.setting != nil {
		v.takeFormer()
	}
	if msg.setting != nil && v.progress.Counts().All > 0 {
		if p := v.progress.Part(v.wall.Sel); p == nil || !p.Planned {
			v.wall.Choose(v.run.Plan.Steps[0].Resource)
		}
	}
	failed := len(v.progress.Failures)
	for _, e := range msg.news.Events {
		v.progress.Apply(e)
	}
	if failed == 0 && len(v.progress.Failures) > 0 {
		v.wall.Choose(v.progress.Failures[0].Resource)
	}
	v.log.add(msg.news.Events)
	if msg.setting != nil && v.run.State.Ended() {
		v.compared = v.setting.Former.Compared(v.run, v.log.all)
	}
	if msg.first {
		v.report, v.why = nil, false
	}
	var cmds []tea.Cmd
	if len(v.progress.Failures) > failed || len(v.progress.Failures) > 0 && (msg.setting != nil || msg.first) {
		cmds = append(cmds, v.explain())
	}
	cmds = append(cmds, v.loadScripts())
	if v.again {
		cmds = append(cmds, v.load(""))
	}
	return tea.Batch(cmds...)
}

// takeFormer looks how long the step of each resource took before.
func (v *View) takeFormer() {
	v.before, v.compared = map[string]time.Duration{}, ""
	for _, s := range v.run.Plan.Steps {
		took, known := v.setting.Former.Of[s.ID]
		if _, have := v.before[s.Resource]; known && (!have || s.Phase != run.PhaseSweep) {
			v.before[s.Resource] = took
		}
	}
}

type explained struct{ report *app.Report }

// explain asks what went wrong.
func (v *View) explain() tea.Cmd {
	st, r := v.about.Stack, v.run
	if st == nil {
		return nil
	}
	return func() tea.Msg {
		report, err := v.App().Report(v.Context(), st, r)
		if err != nil {
			return part.Failed{Doing: "explain what went wrong", Err: err}
		}
		return explained{report}
	}
}

// failure is the failure that is explained: that of the marked brick, or the first.
func (v *View) failure() *app.Explanation {
	if v.report == nil || len(v.report.Failures) == 0 {
		return nil
	}
	for i := range v.report.Failures {
		if v.report.Failures[i].Resource == v.wall.Sel {
			return &v.report.Failures[i]
		}
	}
	return &v.report.Failures[0]
}

// found is the stack of a run that was begun; it may be new.
type found struct {
	stack *stack.Stack
	run   string
}

// begin goes to a run that was just prepared, and sets its process going.
func (v *View) begin(t *app.Ticket) tea.Cmd {
	if err := v.App().Spawn(t); err != nil {
		v.Warn("%v; 'brickrow resume %s' goes on", err, v.Subject().Name)
		return nil
	}
	v.Bring(v)
	return func() tea.Msg {
		st, err := v.App().StackOf(v.Context(), t.Run)
		if err != nil {
			return part.Failed{Doing: "show the run", Err: err}
		}
		return found{st, t.Run.ID}
	}
}

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	switch {
	case v.log.filter.Typing:
		return v.log.filter.Bindings()
	case v.log.search.Typing:
		return v.log.search.Bindings()
	case v.log.reading:
		return v.reading()
	case v.why && v.failure() != nil:
		return v.whyKeys()
	case v.scripts.reading:
		return v.scriptKeys()
	}
	var keys []part.Binding
	small := false
	if w, _ := v.Size(); w < 100 {
		small = true
	}
	ready := v.run != nil && v.run.State == run.StatusDone && len(v.results()) > 0
	undo := part.Bind(func() tea.Cmd { return v.Send(part.ShowUndo{}) }, "u")
	switch {
	case v.unfinished():
		on := part.Bind(v.resume, "R", "p").Shown("R", "resume")
		if v.run.State == run.StatusPaused { // with the key that held it up
			on = on.Shown("p", "go on").As("Go on with the run")
		}
		keys = append(keys, on)
		if v.news.Ways.Undo {
			undo = undo.Shown("u", "undo")
		}
		keys = append(keys, undo)
		keys = append(keys, v.leaving()...)
	case v.live():
		keys = append(keys, v.steering()...)
	case ready:
		keys = append(keys, part.Bind(v.copy, "y").Shown("y", "copy the result"))
		keys = append(keys, part.CopyCommand(v, v.results(), v.result)...)
		if !small {
			keys = append(keys, part.Bind(part.Run(func() { v.result = (v.result + 1) % len(v.results()) }), "tab").
				Shown("tab", "next result").As("Mark the next result"))
		}
	}
	if v.place(v.wall.Sel).Line > 0 {
		keys = append(keys, part.Bind(v.openLine, "t").Shown("t", "template line").As("Show the line of the template"))
	}
	if v.failure() != nil {
		keys = append(keys, part.Bind(part.Run(func() { v.why, v.whyTop = true, 0 }), "w").Shown("w", "why, whole").
			As("Explain what went wrong"))
	}
	if len(v.scripts.list) > 0 {
		keys = append(keys, part.Bind(part.Run(v.readScripts), "s").Shown("s", "scripts").As("Show the scripts on its servers"))
	}
	if len(v.failures()) > 0 && v.run.State != run.StatusDone {
		keys = append(keys, part.Bind(v.copy, "y").Shown("y", "copy the message"))
	}
	if v.run != nil {
		keys = append(keys, v.log.bindings()...)
	}
	if small {
		keys = append(keys, part.Bind(part.Run(func() { v.pane = (v.pane + 1) % 3 }), "tab").
			Shown("tab", "events, times, results").As("Show events, times or results"))
	}
	if v.run != nil && v.run.State.Ended() {
		keys = append(keys, part.Bind(func() tea.Cmd { return v.Send(part.ShowWhatIf{}) }, "enter"))
	}
	if !v.unfinished() && v.run != nil {
		keys = append(keys, undo)
	}
	if len(v.log.all) == 0 {
		return keys
	}
	keys = append(keys,
		part.Bind(part.Run(func() { v.log.follow, v.log.top = false, max(0, v.log.top-8) }), "pgup").
			Shown("pgup pgdn", "older, newer events").As(""),
		part.Bind(part.Run(func() { v.log.top += 8 }), "pgdown"))
	for i, b := range v.wall.Bindings() {
		if i == 0 {
			b = b.Shown("← ↓ ↑ →", "walk the wall").As("")
		}
		keys = append(keys, b)
	}
	return keys
}

// copy copies the message of the failure, or the marked result.
func (v *View) copy() tea.Cmd {
	if f := v.failures(); len(f) > 0 && v.run.State != run.StatusDone {
		v.Say("copied the message")
		if v.report != nil && len(v.report.Failures) > 0 {
			return tea.SetClipboard(v.report.Markdown())
		}
		return tea.SetClipboard(f[0].Resource + ": " + f[0].Reason)
	}
	if v.result >= len(v.results()) {
		return nil
	}
	r := v.results()[v.result]
	v.Say("copied %s", r.Name)
	return tea.SetClipboard(r.Reveal())
}

func (v *View) openLine() tea.Cmd {
	return v.Send(part.ShowPlace{Pos: v.place(v.wall.Sel)})
}

// unfinished reports whether the run waits for somebody to go on with it.
func (v *View) unfinished() bool { return v.news != nil && v.news.Waits() }

// failures are what went wrong in the run.
func (v *View) failures() []run.Event {
	if v.progress == nil {
		return nil
	}
	return v.progress.Failures
}

// results are those that the run has led to.
func (v *View) results() []stack.Result {
	if v.setting == nil {
		return nil
	}
	return v.setting.Results
}

// place is where a resource stands in the template.
func (v *View) place(name string) tosca.Pos {
	if v.setting == nil {
		return tosca.Pos{}
	}
	return v.setting.Places[name]
}

// Hint is the next step.
func (v *View) Hint() string {
	switch {
	case v.log.filter.Typing:
		return "type words of resource, type, state or message; enter keeps the filter"
	case v.log.search.Typing:
		return "type what to look for; enter goes there"
	case v.log.choosing:
		return "space shows a column, or hides it; esc is done"
	case v.why && v.failure() != nil:
		return "y copies it all for a ticket; t goes to the line"
	case v.scripts.reading:
		return "enter goes to the brick; y copies what it printed"
	case v.log.reading:
		if e, ok := v.log.marked(); !ok || e.Resource == "" {
			return "/ filters, s searches, o chooses columns"
		}
		return "enter goes to the brick; / filters, o chooses columns"
	case v.none || v.run == nil:
		return ""
	case v.run.State == run.StatusPaused:
		return "paused: nothing more begins until p goes on" + v.orUndo()
	case v.live() && v.news.Holder == "":
		return "its process is gone: R goes on" + v.orUndo()
	case v.live():
		return "you can leave this: the run goes on"
	case v.run.State == run.StatusUndone:
		return "next: fix the cause, then what-if again (3)"
	case v.run.State == run.StatusHeld:
		return "held: fix it and deploy again, R resumes, u undoes"
	case v.run.State == run.StatusStuck:
		return "stuck: take away what holds it, then R goes on; or L leaves it"
	case v.run.Kind == run.KindDelete:
		return "removed; 3 shows what standing it up again would do"
	}
	return "next: y copies a result; 2 to change something"
}

// Status is which run it is.
func (v *View) Status() string {
	if v.run == nil {
		return ""
	}
	return fmt.Sprintf("run %d · %s · by %s · begun %s", v.run.Number, v.run.Kind, v.run.By,
		v.run.Started.Local().Format("15:04:05"))
}
