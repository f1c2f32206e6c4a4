// Package tui is the full-screen interface. A model holds the state of the
// views; Update changes it with what the user does and what the store and the
// cloud say; View draws it into cells. All work is done by app, in commands
// that never block a key.
package tui

import (
	"context"
	"errors"
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/fsnotify/fsnotify"

	"brickrow/internal/app"
	"brickrow/internal/demo"
	"brickrow/internal/store"
)

// viewID names a view; it is also the digit that opens it.
type viewID int

// The views.
const (
	viewStacks viewID = 1 + iota
	viewDraft
	viewWhatIf
	viewRun
)

var viewNames = map[viewID]string{viewStacks: "Stacks", viewDraft: "Draft", viewWhatIf: "What-if", viewRun: "Run"}

// binding is a key of a view, with what it does.
type binding struct{ key, words string }

// view is one of the views of the interface.
type view interface {
	// key handles a key; ok is false where it means nothing here.
	key(m *model, key string) (cmd tea.Cmd, ok bool)
	draw(m *model, s *screen, r rect)
	click(m *model, x, y int) tea.Cmd
	wheel(m *model, by int)
	// keys lists the keys, the ones that matter now first.
	keys(m *model) []binding
	// hint is the next step in words.
	hint(m *model) string
	// status is the right side of the second line.
	status(m *model) string
}

// filtered is a view that can be narrowed down by words.
type filtered interface {
	line() *filterLine
	filtered(m *model) // the words have changed
}

// filter is the filter of the view on the screen while it is being typed; nil
// otherwise.
func (m *model) filter() filtered {
	if v, ok := m.views[m.at].(filtered); ok && v.line().typing {
		return v
	}
	return nil
}

// subject is the stack that the views are about. Stack is nil while it is only
// a stack file.
type subject struct {
	name   string
	file   string
	target string
	stack  *store.Stack
}

// model is the whole interface.
type model struct {
	app     *app.App
	ctx     context.Context
	w, h    int
	t       *theme
	at      viewID
	views   map[viewID]view
	about   subject
	notice  string
	bad     bool // the notice is of something that went wrong
	noticed time.Time
	ask     *ask
	palette *palette
	help    bool
	tabs    map[viewID]rect
	watcher *fsnotify.Watcher
	given   map[string][]string // inputs given here, as name=value, by file
	poured  flood
	drawn   time.Time // the last frame
	last    tea.View
	pending bool // another frame is due
	crashes int

	stacks *stacksView
	draft  *draftView
	whatif *whatifView
	run    *runView
}

// Run opens the interface until the user leaves it.
func Run(ctx context.Context, a *app.App, isDemo bool) error {
	m := newModel(ctx, a)
	var err error
	if m.watcher, err = fsnotify.NewWatcher(); err != nil {
		return fmt.Errorf("watch files: %w", err)
	}
	defer m.watcher.Close()
	if isDemo {
		m.stacks.folders = append(m.stacks.folders, demo.Project(a.Home))
	} else if wd, err := os.Getwd(); err == nil {
		m.stacks.folders = append(m.stacks.folders, wd)
	}
	p := tea.NewProgram(m, tea.WithContext(ctx))
	stop := signals(p)
	_, err = p.Run()
	stop()
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		return nil
	}
	return err
}

func newModel(ctx context.Context, a *app.App) *model {
	m := &model{app: a, ctx: ctx, t: &dark, at: viewStacks, w: 80, h: 24, given: map[string][]string{}, stacks: newStacksView(), draft: &draftView{}, whatif: newWhatifView(), run: &runView{follow: true}}
	m.views = map[viewID]view{viewStacks: m.stacks, viewDraft: m.draft, viewWhatIf: m.whatif, viewRun: m.run}
	return m
}

// values are the inputs that were given here for a file, on top of it.
func (m *model) values(file string) app.Values { return app.Values{Flags: m.given[file]} }

// Messages that are not of one view.
type (
	tick   struct{}
	failed struct {
		doing string
		err   error
	}
	fileChanged struct{ path string }
	done        struct{ words string }
)

func (m *model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, m.stacks.load(m), m.waitFiles(), pulse(m))
}

// pulse is the heartbeat of the interface: quick while a run is shown that is
// not over, slow otherwise.
func pulse(m *model) tea.Cmd {
	d := 700 * time.Millisecond
	if m.at == viewRun && m.run.live() {
		d = 120 * time.Millisecond
	}
	return tea.Tick(d, func(time.Time) tea.Msg { return tick{} })
}

// freshness tells whether the store has been written since it was last read.
// What only the time changes, such as a lock that runs out, is seen at the next
// reading, two seconds later at most.
type freshness struct {
	stamp string
	read  time.Time
}

// stale reports whether it is time to read again, and remembers that it was.
func (f *freshness) stale(m *model) bool {
	stamp := ""
	for _, name := range []string{"store.db", "store.db-wal"} {
		if info, err := os.Stat(filepath.Join(m.app.Home, name)); err == nil {
			stamp += fmt.Sprint(info.Size(), info.ModTime().UnixNano(), " ")
		}
	}
	if stamp == f.stamp && time.Since(f.read) < 2*time.Second {
		return false
	}
	f.stamp, f.read = stamp, time.Now()
	return true
}

// waitFiles waits for a change of a watched file.
func (m *model) waitFiles() tea.Cmd {
	if m.watcher == nil {
		return nil
	}
	return func() tea.Msg {
		for {
			select {
			case e, ok := <-m.watcher.Events:
				if !ok {
					return nil
				}
				if e.Op&^fsnotify.Chmod != 0 {
					time.Sleep(30 * time.Millisecond) // editors write in several steps
					return fileChanged{e.Name}
				}
			case _, ok := <-m.watcher.Errors:
				if !ok {
					return nil
				}
			}
		}
	}
}

// Update takes a message in. Nothing that goes wrong in it takes the interface
// down.
func (m *model) Update(msg tea.Msg) (_ tea.Model, cmd tea.Cmd) {
	defer m.guard("what a key or an answer began")
	if _, due := msg.(redraw); due {
		m.pending = false
		return m, nil
	}
	_, cmd = m.update(msg)
	cmd = m.guarded(cmd)
	if !m.pending && time.Since(m.drawn) < frameTime {
		m.pending = true
		cmd = tea.Batch(cmd, tea.Tick(frameTime, func(time.Time) tea.Msg { return redraw{} }))
	}
	return m, cmd
}

// frameTime is how long a frame is good for while more comes in: what happens
// meanwhile is drawn together, so that a thousand keys are not a thousand frames.
const frameTime = 16 * time.Millisecond

// redraw says that a frame is due.
type redraw struct{}

func (m *model) update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case brokenDown:
		m.broken("something in the background", msg.with)
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.t = &light
		if msg.IsDark() {
			m.t = &dark
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	case tea.PasteMsg:
		return m, m.typed(msg)
	case tea.MouseClickMsg:
		if msg.Button == tea.MouseLeft {
			return m, m.click(msg.X, msg.Y)
		}
	case tea.MouseWheelMsg:
		if m.palette == nil && !m.help {
			m.views[m.at].wheel(m, map[tea.MouseButton]int{tea.MouseWheelUp: -1, tea.MouseWheelDown: 1}[msg.Button])
		}
	case tick:
		if !m.bad && time.Since(m.noticed) > noticeTime { // the next step is told again
			m.notice = ""
		}
		return m, tea.Batch(pulse(m), m.stacks.refresh(m), m.run.refresh(m))
	case fileChanged:
		return m, tea.Batch(m.waitFiles(), m.draft.fileChanged(m, msg.path))
	case failed:
		m.say(true, "%s: %v", msg.doing, msg.err)
	case done:
		m.say(false, "%s", msg.words)
	case stacksLoaded:
		return m, m.stacks.loaded(m, msg)
	case draftLoaded:
		return m, m.draft.loaded(m, msg)
	case askTarget:
		return m, m.draft.ask(m, msg)
	case targetAnswered:
		m.draft.answered(m, msg)
	case previewLoaded:
		return m, m.whatif.loaded(m, msg)
	case runLoaded:
		return m, m.run.loaded(m, msg)
	case runStarted:
		return m, m.run.started(m, msg)
	case runFound:
		m.about.stack = msg.stack
		return m, m.run.open(m, msg.run)
	case edited:
		return m, m.draft.edited(m, msg)
	}
	return m, nil
}

// noticeTime is how long it is said that something was done.
const noticeTime = 6 * time.Second

func (m *model) say(bad bool, format string, args ...any) {
	m.bad, m.notice, m.noticed = bad, fmt.Sprintf(format, args...), time.Now()
}

// typed passes typing on to a line of input, where there is one.
func (m *model) typed(msg tea.Msg) tea.Cmd {
	switch {
	case m.ask != nil:
		return m.ask.update(msg)
	case m.palette != nil:
		return m.palette.update(m, msg)
	case m.filter() != nil:
		f := m.filter()
		cmd := f.line().typed(msg)
		f.filtered(m)
		return cmd
	}
	return nil
}

func (m *model) key(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	pressed, began := true, false
	if m.ask == nil || !m.ask.typing() { // text is welcome where there is a line for it
		if m.palette == nil && m.filter() == nil {
			pressed, began = m.poured.takes(time.Now(), msg.Text)
		}
	}
	switch {
	case k == "ctrl+c":
		return tea.Quit
	case k == "ctrl+z":
		return suspend
	case began:
		m.say(true, "a long text was poured in here; it was not taken for keys")
		return nil
	case !pressed:
		return nil
	}
	switch {
	case m.ask != nil:
		return m.askKey(k, msg)
	case m.palette != nil:
		return m.paletteKey(k, msg)
	case m.help:
		m.help = false
		return nil
	case m.filter() != nil:
		f := m.filter()
		before := f.line().input.Value()
		cmd := f.line().key(k, msg)
		if f.line().input.Value() != before || !f.line().typing {
			f.filtered(m)
		}
		return cmd
	}
	m.notice = ""
	if cmd, ok := m.views[m.at].key(m, k); ok {
		return cmd
	}
	switch k {
	case "q":
		return tea.Quit
	case "?":
		m.help = true
	case ":", "ctrl+p":
		m.palette = newPalette(m)
	case "1", "2", "3", "4":
		n, _ := strconv.Atoi(k)
		return m.open(viewID(n))
	case "esc":
		if m.at > viewStacks {
			return m.open(viewStacks)
		}
	}
	return nil
}

// open goes to a view; what it shows is loaded for the current subject.
func (m *model) open(v viewID) tea.Cmd {
	if v != viewStacks && m.about.name == "" {
		m.say(true, "choose a stack first")
		return nil
	}
	m.at = v
	switch v {
	case viewStacks:
		return m.stacks.load(m)
	case viewDraft:
		return m.draft.open(m)
	case viewWhatIf:
		return m.whatif.open(m)
	case viewRun:
		return m.run.open(m, "")
	}
	return nil
}

func (m *model) click(x, y int) tea.Cmd {
	if m.help {
		m.help = false
		return nil
	}
	for v, r := range m.tabs {
		if r.contains(x, y) {
			return m.open(v)
		}
	}
	if m.ask != nil || m.palette != nil {
		return nil
	}
	return m.views[m.at].click(m, x, y)
}

// View draws the frame, or is the last one while another is due in a moment.
func (m *model) View() tea.View {
	if m.pending && m.last.Content != "" {
		return m.last
	}
	m.last, m.drawn = m.view(), time.Now()
	return m.last
}

func (m *model) view() tea.View {
	v := tea.NewView(m.safeFrame())
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.BackgroundColor, v.ForegroundColor = m.t.ground, m.t.text
	v.WindowTitle = "Brick Row"
	if m.about.name != "" {
		v.WindowTitle += " · " + m.about.name
	}
	return v
}

// safeFrame is the frame, or what went wrong while it was drawn.
func (m *model) safeFrame() (text string) {
	defer func() {
		if broken := recover(); broken != nil {
			m.crashes++
			text = fmt.Sprintf("Drawing this broke down: %v\nThis is a defect of the program; nothing is lost. Details are in %s.\n1 goes to the stacks, q leaves.", broken, m.logCrash("drawing", broken))
		}
	}()
	return m.frame()
}

// The smallest terminal that the views are made for.
const minWidth, minHeight = 60, 16

// frame is the whole screen as styled text.
func (m *model) frame() string {
	s := newScreen(max(1, m.w), max(1, m.h), m.t.plain())
	if m.w < minWidth || m.h < minHeight {
		for i, line := range wrap(fmt.Sprintf("Brick Row needs %d×%d; this is %d×%d. Make the window larger, or q to leave.", minWidth, minHeight, m.w, m.h), m.w) {
			s.text(0, i, m.w, m.t.plain(), line)
		}
		return s.Render()
	}
	m.header(s)
	body := rect{0, 3, m.w, m.h - 5}
	if m.ask != nil {
		var strip rect
		body, strip = body.splitBottom(m.ask.height(m.w))
		m.ask.draw(m, s, strip)
	}
	if long := m.longNotice(); len(long) > 0 {
		var strip rect
		body, strip = body.splitBottom(len(long) + 1)
		s.line(strip.x, strip.y, strip.w, m.t.on(m.t.mortar), "─")
		for i, l := range long {
			s.text(strip.x+1, strip.y+1+i, strip.w-2, m.t.on(m.noticeColour()), l)
		}
	}
	if m.palette != nil {
		var strip rect
		body, strip = body.splitBottom(min(4+len(m.palette.commands), body.h-2))
		m.palette.draw(m, s, strip)
	}
	if m.help {
		m.drawHelp(s, body)
	} else {
		m.views[m.at].draw(m, s, body)
	}
	m.footer(s)
	return s.Render()
}

func (m *model) header(s *screen) {
	t := m.t
	x := s.text(0, 0, m.w, uv.Style{Fg: t.ground, Bg: t.accent, Attrs: uv.AttrBold}, " BRICK ROW ")
	end := m.w - 1
	if m.about.target != "" {
		st := uv.Style{Fg: t.bright, Bg: t.bar}
		label := " " + m.about.place() + " "
		if m.about.stack != nil && m.about.stack.Careful || m.draft.careful() {
			st = uv.Style{Fg: t.carefulText, Bg: t.careful, Attrs: uv.AttrBold}
			label = " careful: " + m.about.place() + " "
		}
		end = s.right(end, 0, m.w-x-4, st, label) - 2
	}
	if m.about.name != "" {
		x = s.text(x+2, 0, end-x-2, t.strong(), m.about.name)
		if st := m.about.stack; st != nil {
			mark, col := t.stackPaint(st.State)
			words := fmt.Sprintf("revision %d · ", st.Revision)
			if st.Revision == 0 {
				words = ""
			}
			x = s.text(x+2, 0, end-x-2, t.faint(), words)
			s.text(x, 0, end-x, t.on(col), mark+" "+string(st.State))
		} else {
			s.text(x+2, 0, end-x-2, t.faint(), "not deployed yet")
		}
	}
	m.tabs = map[viewID]rect{}
	x = 1
	s.line(0, 2, m.w, t.on(t.mortar), "─")
	for v := viewStacks; v <= viewRun; v++ {
		name := fmt.Sprintf("%d %s", v, viewNames[v])
		st := t.faint()
		if v == m.at {
			st = bold(t.on(t.accent))
			s.line(x, 2, width(name), t.on(t.accent), "▀")
		}
		m.tabs[v] = rect{x, 1, width(name), 1}
		x = s.text(x, 1, m.w-x, st, name) + 2
	}
	s.right(m.w-1, 1, m.w-x-1, t.faint(), m.views[m.at].status(m))
}

func (a subject) place() string {
	account, region, ok := cut(a.target)
	if !ok {
		return a.target
	}
	return account + " / " + region
}

func (m *model) footer(s *screen) {
	t := m.t
	y := m.h - 1
	s.line(0, y-1, m.w, t.on(t.mortar), "─")
	hint, col := m.views[m.at].hint(m), color.Color(t.hint)
	keys := m.views[m.at].keys(m)
	switch {
	case m.ask != nil && m.notice == "":
		hint, keys = "the question above waits for an answer", nil
	case m.palette != nil:
		hint, keys = "", nil
	}
	if m.notice != "" {
		hint, col = m.notice, m.noticeColour()
		if m.longNotice() != nil {
			hint = ""
		}
	}
	hint = clip(hint, m.hintRoom())
	x, end := 1, m.w-1-width(hint)
	for i, b := range append(keys[:min(6, len(keys))], binding{"?", "keys"}) {
		room := 9 // for the last one
		if i >= 6 || i == len(keys) {
			room = 0
		}
		if x+width(b.key)+1+width(b.words) > end-2-room || m.ask != nil || m.palette != nil {
			continue
		}
		x = s.text(x, y, end-x, t.strong(), b.key)
		x = s.text(x+1, y, end-x, t.faint(), b.words) + 3
	}
	s.text(end, y, width(hint)+1, t.on(col), hint)
}

// hintRoom is how long the hint in the footer may be.
func (m *model) hintRoom() int { return max((m.w-2)*3/5, m.w-72) }

// longNotice is a notice that has no room in the footer, in lines; nil where
// there is none.
func (m *model) longNotice() []string {
	if width(m.notice) <= m.hintRoom() {
		return nil
	}
	lines := wrap(m.notice, m.w-3)
	return lines[:min(len(lines), 6)]
}

func (m *model) noticeColour() color.Color {
	if m.bad {
		return m.t.states["failed"].word
	}
	return m.t.hint
}

func (m *model) drawHelp(s *screen, r rect) {
	t := m.t
	s.text(r.x+2, r.y+1, r.w, t.strong(), "Keys of "+viewNames[m.at])
	keys := append(append([]binding{}, m.views[m.at].keys(m)...), []binding{{"1 to 4", "the views"}, {": or ctrl+p", "all commands"}, {"?", "these keys"}, {"esc", "back"}, {"q", "leave; a run goes on without you"}}...)
	rows := max(1, r.h-5)
	for i, b := range keys {
		x, y := r.x+2+(i/rows)*48, r.y+3+i%rows
		s.text(x, y, 12, bold(t.hinted()), b.key)
		s.text(x+13, y, 34, t.plain(), b.words)
	}
	s.text(r.x+2, r.y+r.h-1, r.w, t.faint(), "any key goes back")
}

// panelTitle writes the title of a part of a view.
func (m *model) panelTitle(s *screen, r rect, title, faint string) {
	x := s.text(r.x, r.y, r.w, bold(m.t.hinted()), title)
	s.text(x+2, r.y, r.w-(x+2-r.x), m.t.faint(), faint)
}

func itoa(n int) string { return strconv.Itoa(n) }
