// Package tui is the shell of the full-screen interface. It knows no view: it
// holds a list of them, passes on what they are to hear, and draws what is around
// them. All work is done by app, in commands that never block a key.
package tui

import (
	"context"
	"errors"
	"fmt"
	"image/color"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/fsnotify/fsnotify"

	"brickrow/internal/app"
	"brickrow/internal/tui/draft"
	"brickrow/internal/tui/fleets"
	"brickrow/internal/tui/history"
	"brickrow/internal/tui/inventory"
	"brickrow/internal/tui/part"
	"brickrow/internal/tui/preview"
	"brickrow/internal/tui/runs"
	"brickrow/internal/tui/stacks"
)

// views are the views, in the order of their digits. The first is where the
// interface begins, and where esc leads.
func views(sh part.Shell, folders []string) []part.View {
	return []part.View{
		stacks.New(sh, folders...),
		draft.New(sh),
		preview.New(sh),
		runs.New(sh),
		inventory.New(sh),
		history.New(sh),
		fleets.New(sh, folders...),
	}
}

// model is the whole interface.
type model struct {
	app      *app.App
	ctx      context.Context
	w, h     int
	t        *part.Theme
	look     part.Look
	grounded bool // the ground was told, and is not asked for
	views    []part.View
	at       int   // the view on the screen
	way      []int // the views that led there, where they did
	about    part.Subject
	notice   string
	bad      bool // the notice is of something that went wrong
	noticed  time.Time
	ask      *part.Ask
	palette  *palette
	help     bool
	tabs     []part.Rect
	watcher  *fsnotify.Watcher
	changed  <-chan struct{}     // the store was written
	given    map[string][]string // inputs given here, as name=value, by file
	held     map[string][]byte   // texts that are not saved, by file
	told     []tea.Msg           // what all views are still to hear
	poured   flood
	drawn    time.Time // the last frame
	last     tea.View
	pending  bool // another frame is due
	moving   bool // a beat is under way
	crashes  int
	tour     *tour  // nil where there is none
	again    func() // begins the demo again, once this has ended
	notices  notices
	first    tea.Cmd                              // what was begun before the first frame
	later    func(time.Duration, tea.Msg) tea.Cmd // tells a message after a time
	wait     func(func() tea.Msg) tea.Cmd
}

// Options are what the interface opens with.
type Options struct {
	Folders          []string // stack files are looked for in them
	File             string   // a stack file, a template or a saved change set that is opened; "" is none
	Ground, Contrast string   // "dark" or "light", "usual" or "strong"; "" leaves it to the terminal, and to what was chosen
	Again            func()   // of the demo, which has a tour: begins it again once the interface has ended; nil is no demo
}

// Run opens the interface until the user leaves it.
func Run(ctx context.Context, a *app.App, o Options) error {
	m := newModel(ctx, a, o.Folders...)
	m.grounded = o.Ground != ""
	m.look.Light = o.Ground == "light"
	if o.Contrast != "" {
		m.look.Strong = o.Contrast == app.Strong
	}
	m.see(m.look)
	if m.again = o.Again; o.Again != nil {
		m.beginTour()
	}
	var err error
	if m.watcher, err = fsnotify.NewWatcher(); err != nil {
		return fmt.Errorf("watch files: %w", err)
	}
	defer m.watcher.Close()
	m.changed = a.Changes(ctx)
	m.begin()
	if o.File != "" {
		m.first = tea.Batch(m.first, func() tea.Msg { return stacks.Open(m, o.File) })
	}
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithFPS(30))
	stop := signals(p)
	_, err = p.Run()
	stop()
	if kept := m.keep(); kept != nil {
		err = errors.Join(err, fmt.Errorf("keep what is not saved: %w", kept))
	}
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		return nil
	}
	return err
}

func newModel(ctx context.Context, a *app.App, folders ...string) *model {
	m := &model{app: a, ctx: ctx, w: 80, h: 24, given: map[string][]string{}, held: map[string][]byte{}}
	m.see(part.Look{Depth: colorprofile.TrueColor, Strong: a.Preferences().Contrast == app.Strong})
	m.notices = notices{input: time.Now(), send: func(text string) tea.Cmd { return tea.Raw(text) }}
	m.views = views(m, folders)
	m.wait = func(wait func() tea.Msg) tea.Cmd { return wait }
	m.later = func(d time.Duration, msg tea.Msg) tea.Cmd {
		return tea.Tick(d, func(time.Time) tea.Msg { return msg })
	}
	return m
}

// What a view knows of the shell.

func (m *model) App() *app.App            { return m.app }
func (m *model) Context() context.Context { return m.ctx }
func (m *model) Theme() *part.Theme       { return m.t }
func (m *model) Size() (w, h int)         { return m.w, m.h }
func (m *model) Subject() part.Subject    { return m.about }
func (m *model) About(s part.Subject)     { m.about = s }
func (m *model) Ask(a *part.Ask)          { m.ask = a }

func (m *model) Values(file string) app.Values {
	v := app.Values{Flags: m.given[file], LastRun: true}
	if len(m.held) > 0 {
		v.Texts = maps.Clone(m.held)
	}
	return v
}

func (m *model) Hold(file string, text []byte) {
	if text == nil {
		delete(m.held, file)
	} else {
		m.held[file] = text
	}
}

func (m *model) Give(file string, flags []string) {
	m.given[file] = flags
	m.told = append(m.told, part.InputsGiven{File: file})
}

func (m *model) Say(format string, args ...any) {
	m.bad, m.notice, m.noticed = false, fmt.Sprintf(format, args...), time.Now()
}

// Warn says that something did not go as it should.
func (m *model) Warn(format string, args ...any) {
	m.Say(format, args...)
	m.bad = true
}

// Send sends an intent to the view that takes it.
func (m *model) Send(intent any) tea.Cmd {
	for _, v := range m.views {
		if v.Accepts(intent) {
			return v.Update(intent)
		}
	}
	return nil
}

func (m *model) Front(v part.View) bool { return m.views[m.at] == v }

// Bring brings a view to the front; esc leads back to where one came from.
func (m *model) Bring(v part.View) {
	to := max(0, slices.Index(m.views, v))
	if to == m.at {
		return
	}
	if i := slices.Index(m.way, to); i >= 0 { // one is on the way back
		m.way = m.way[:i]
	} else {
		m.way = append(m.way, m.at)
	}
	m.at = to
}

// goBack goes to the view that led here, else to the first.
func (m *model) goBack() tea.Cmd {
	to, way := 0, m.way
	if n := len(way); n > 0 {
		to, way = way[n-1], way[:n-1]
	}
	cmd := m.open(to)
	m.way = way
	return cmd
}

func (m *model) Later(d time.Duration, msg tea.Msg) tea.Cmd { return m.later(d, msg) }

func (m *model) Wait(wait func() tea.Msg) tea.Cmd { return m.wait(wait) }

// Watch watches the folders of files: editors replace files as they save.
func (m *model) Watch(files ...string) {
	if m.watcher == nil {
		return
	}
	have := m.watcher.WatchList()
	for _, f := range files {
		dir := filepath.Dir(f)
		if info, err := os.Stat(f); err == nil && info.IsDir() {
			dir = f
		}
		if !slices.Contains(have, dir) {
			_ = m.watcher.Add(dir) // without it, it is read again on demand
			have = append(have, dir)
		}
	}
}

// Messages of the shell itself.
type (
	beat   struct{} // something moves
	glance struct{} // what only the time changes, such as a lock that runs out
	hushed struct{} // a notice has been read
	redraw struct{} // a frame is due
)

// How often what moves is drawn, and the store is read though nothing was written
// to it; how long it is said that something was done; and how long a frame is good
// for while more comes in: what happens meanwhile is drawn together, so that a
// thousand keys are not a thousand frames.
const (
	beatTime   = 120 * time.Millisecond
	glanceTime = 5 * time.Second
	noticeTime = 6 * time.Second
	frameTime  = 16 * time.Millisecond
)

// patience is how long the first frame waits for what it is to show.
const patience = 40 * time.Millisecond

// begin reads what the first view shows, so that the first frame shows it where that
// is quick; otherwise it comes when it is there.
func (m *model) begin() {
	m.first = m.guarded(m.views[m.at].Update(part.Opened{}))
	if m.first == nil {
		return
	}
	read := make(chan tea.Msg, 1)
	go func(first tea.Cmd) { read <- first() }(m.first)
	select {
	case msg := <-read:
		m.first = m.update(msg)
	case <-time.After(patience):
		m.first = func() tea.Msg { return <-read }
	}
}

func (m *model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, m.first, m.waitFiles(), m.waitStore(), m.later(glanceTime, glance{}))
}

// waitStore waits until the store is written.
func (m *model) waitStore() tea.Cmd {
	if m.changed == nil {
		return nil
	}
	return func() tea.Msg {
		if _, ok := <-m.changed; !ok {
			return nil
		}
		return part.StoreChanged{}
	}
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
					return watched{part.FileChanged{Path: e.Name}}
				}
			case _, ok := <-m.watcher.Errors:
				if !ok {
					return nil
				}
			}
		}
	}
}

// watched is a change that the watcher saw.
type watched struct{ part.FileChanged }

// Update takes a message in. Nothing that goes wrong in it takes the interface
// down.
func (m *model) Update(msg tea.Msg) (_ tea.Model, cmd tea.Cmd) {
	defer m.guard("what a key or an answer began")
	if _, due := msg.(redraw); due {
		m.pending = false
		return m, nil
	}
	silent := m.notice == ""
	cmd = m.guarded(m.update(msg))
	switch msg.(type) {
	case tourSeen:
	case glance, part.StoreChanged, watched, part.Done:
		cmd = tea.Batch(cmd, m.checkTour())
	default: // what is on the screen may be all that the step is about
		if t := m.tour; t != nil && !t.Over() && t.Now().Looks {
			cmd = tea.Batch(cmd, m.checkTour())
		}
	}
	if !m.pending && time.Since(m.drawn) < frameTime {
		m.pending = true
		cmd = tea.Batch(cmd, m.later(frameTime, redraw{}))
	}
	if silent && m.notice != "" && !m.bad {
		cmd = tea.Batch(cmd, m.later(noticeTime, hushed{}))
	}
	if mover, ok := m.views[m.at].(part.Mover); ok && !m.moving && mover.Moves() {
		m.moving = true
		cmd = tea.Batch(cmd, m.later(beatTime, beat{}))
	}
	return m, cmd
}

func (m *model) update(msg tea.Msg) tea.Cmd {
	var cmds []tea.Cmd
	switch msg := msg.(type) {
	case brokenDown:
		m.broken("something in the background", msg.with)
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if !m.grounded {
			m.look.Light = !msg.IsDark()
			m.see(m.look)
		}
	case tea.ColorProfileMsg:
		m.look.Depth = msg.Profile
		m.see(m.look)
	case tea.FocusMsg:
		m.notices.focus = here
	case tea.BlurMsg:
		m.notices.focus = elsewhere
	case tourSeen:
		cmds = append(cmds, m.tourSeen(msg))
	case runsSeen:
		cmds = append(cmds, m.seen(msg))
	case tea.KeyPressMsg:
		m.notices.input = time.Now()
		cmds = append(cmds, m.key(msg))
	case tea.PasteMsg:
		cmds = append(cmds, m.typed(msg))
	case tea.MouseClickMsg:
		if msg.Button == tea.MouseLeft {
			cmds = append(cmds, m.click(msg.X, msg.Y))
		}
	case tea.MouseMotionMsg:
		if msg.Button == tea.MouseLeft && m.ask == nil && m.palette == nil && !m.help {
			cmds = append(cmds, m.views[m.at].Update(part.Drag{X: msg.X, Y: msg.Y}))
		}
	case tea.MouseWheelMsg:
		if m.palette == nil && !m.help {
			cmds = append(cmds, m.views[m.at].Update(part.Wheel{By: map[tea.MouseButton]int{tea.MouseWheelUp: -1,
				tea.MouseWheelDown: 1}[msg.Button]}))
		}
	case beat:
		m.moving = false
	case glance:
		cmds = append(cmds, m.tell(part.StoreChanged{}), relieve, m.lookForEnds(), m.later(glanceTime, glance{}))
	case hushed: // the next step is told again
		if !m.bad && time.Since(m.noticed) >= noticeTime {
			m.notice = ""
		}
	case part.StoreChanged:
		cmds = append(cmds, m.waitStore(), m.tell(msg), m.lookForEnds())
	case watched:
		cmds = append(cmds, m.waitFiles(), m.tell(msg.FileChanged))
	case part.Acting:
		msg.Confirm(m)
	case part.Failed:
		words := strings.ReplaceAll(msg.Err.Error(), "\n", "; ")
		if msg.Doing != "" {
			words = msg.Doing + ": " + words
		}
		m.Warn("%s", words)
	case part.Done:
		m.Say("%s", msg.Words)
	default:
		cmds = append(cmds, m.tell(msg))
	}
	for len(m.told) > 0 {
		next := m.told[0]
		m.told = m.told[1:]
		cmds = append(cmds, m.tell(next))
	}
	return tea.Batch(cmds...)
}

// tell lets all views hear a message.
func (m *model) tell(msg tea.Msg) tea.Cmd {
	var cmds []tea.Cmd
	for _, v := range m.views {
		cmds = append(cmds, v.Update(msg))
	}
	return tea.Batch(cmds...)
}

// typing reports whether the view on the screen is being typed into.
func (m *model) typing() bool {
	v, ok := m.views[m.at].(part.Typist)
	return ok && v.Typing()
}

// captures reports whether the view on the screen takes a key that is the shell's.
func (m *model) captures(k string) bool {
	v, ok := m.views[m.at].(part.Capturer)
	return ok && m.typing() && v.Captures(k)
}

// hush takes a notice away that has been there for a moment, while somebody types.
func (m *model) hush() {
	if time.Since(m.noticed) > time.Second {
		m.notice = ""
	}
}

// leave ends the interface. What is not saved is told; it is kept either way.
func (m *model) leave() tea.Cmd {
	var names []string
	for _, v := range m.views {
		if k, ok := v.(part.Keeper); ok {
			names = append(names, k.Unsaved()...)
		}
	}
	if len(names) == 0 {
		return tea.Quit
	}
	m.Ask(part.NewAsk(fmt.Sprintf("There are changes of %s that are not saved. They are kept, sealed, and offered "+
		"when you come back. Leave?", strings.Join(names, " and ")), "", func(string) tea.Cmd { return tea.Quit }))
	return nil
}

// keep keeps what is not saved for the next time.
func (m *model) keep() error {
	var errs []error
	for _, v := range m.views {
		if k, ok := v.(part.Keeper); ok {
			errs = append(errs, k.Keep())
		}
	}
	return errors.Join(errs...)
}

// typed passes typing on to what takes it.
func (m *model) typed(msg tea.Msg) tea.Cmd {
	switch {
	case m.ask != nil:
		return m.ask.Update(msg)
	case m.palette != nil:
		return m.palette.update(msg)
	}
	return m.views[m.at].Update(msg)
}

func (m *model) key(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	pressed, began := true, false
	if m.ask == nil || !m.ask.Typing() { // text is welcome where there is a line for it
		if m.palette == nil && !m.typing() {
			pressed, began = m.poured.takes(time.Now(), msg.Text)
		}
	}
	captured := m.ask == nil && m.palette == nil && !m.help && m.captures(k)
	switch {
	case captured:
		return m.views[m.at].Update(msg)
	case k == "ctrl+c":
		return tea.Quit
	case k == "ctrl+z" && alone():
		m.Warn("there is no shell in this terminal that could go on with it; q leaves")
		return nil
	case k == "ctrl+z":
		return suspend
	case began:
		m.Warn("a long text was poured in here; it was not taken for keys")
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
	case k == "f1":
		m.help = true
		return nil
	case k == "ctrl+p":
		m.palette = newPalette(m)
		return nil
	case k == "ctrl+t" && m.tour != nil:
		return m.turnTour()
	case m.typing():
		m.hush()
		return m.views[m.at].Update(msg)
	}
	m.notice = ""
	if cmd, ok := part.Press(m.views[m.at].Bindings(), msg); ok {
		return cmd
	}
	cmd, _ := part.Press(m.bindings(), msg)
	return cmd
}

// bindings are the keys that do something in every view.
func (m *model) bindings() []part.Binding {
	var keys []part.Binding
	for i, v := range m.views {
		keys = append(keys, part.Bind(func() tea.Cmd { return m.open(i) }, part.Itoa(i+1)).As("Go to "+v.Name()))
	}
	keys[0] = keys[0].Shown(fmt.Sprintf("1 to %d", len(m.views)), "the views").As(keys[0].Command)
	keys = append(keys,
		part.Bind(part.Run(func() { m.palette = newPalette(m) }), ":", "ctrl+p").Shown(": or ctrl+p", "all commands").
			As(""),
		part.Bind(func() tea.Cmd { return m.Send(part.AskFor{}) }).As("Open a stack file or a template"),
		part.Bind(part.Run(m.swapTheme)).As("Switch between dark and light colours"),
		part.Bind(part.Run(m.swapContrast)).As("Switch between strong and usual contrast"),
		part.Bind(part.Run(m.nextNotice)).As("How the end of a run is told: desktop, bell, or not"),
		part.Bind(part.Run(func() { m.help = true }), "?", "f1").Shown("?", "these keys").As("Show the keys of this view"))
	if m.at > 0 || len(m.way) > 0 {
		keys = append(keys, part.Bind(m.goBack, "esc").Shown("esc", "back").As(""))
	}
	return append(append(keys, m.tourKeys()...), part.Bind(m.leave, "q").
		Shown("q", "leave; a run goes on"))
}

// open goes to a view; what it shows is loaded for the current subject.
func (m *model) open(i int) tea.Cmd {
	v := m.views[i]
	if roamer, ok := v.(part.Roamer); m.about.Name == "" && !(ok && roamer.Roams()) {
		m.Warn("choose a stack first")
		return nil
	}
	m.at, m.way = i, nil
	return v.Update(part.Opened{})
}

func (m *model) click(x, y int) tea.Cmd {
	if m.help {
		m.help = false
		return nil
	}
	for i, r := range m.tabs {
		if r.Contains(x, y) {
			return m.open(i)
		}
	}
	if m.ask != nil || m.palette != nil {
		return nil
	}
	return m.views[m.at].Update(part.Click{X: x, Y: y})
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
	v.BackgroundColor, v.ForegroundColor = m.t.Ground, m.t.Text
	v.WindowTitle = m.notices.title(m.about)
	v.ReportFocus = true
	return v
}

// safeFrame is the frame, or what went wrong while it was drawn.
func (m *model) safeFrame() (text string) {
	defer func() {
		if broken := recover(); broken != nil {
			m.crashes++
			text = fmt.Sprintf("Drawing this broke down: %v\nThis is a defect of the program; nothing is lost. "+
				"Details are in %s.\n1 goes to the stacks, q leaves.", broken, m.logCrash("drawing", broken))
		}
	}()
	return m.frame()
}

// The smallest terminal that the views are made for.
const minWidth, minHeight = 60, 16

// frame is the whole screen as styled text.
func (m *model) frame() string {
	s := part.NewScreen(max(1, m.w), max(1, m.h), m.t.Plain())
	if m.w < minWidth || m.h < minHeight {
		for i, line := range part.Wrap(fmt.Sprintf("Brick Row needs %d×%d; this is %d×%d. Make the window larger, "+
			"or q to leave.", minWidth, minHeight, m.w, m.h), m.w) {
			s.Text(0, i, m.w, m.t.Plain(), line)
		}
		return s.Render()
	}
	m.header(s)
	body := m.tourStrip(s, part.R(0, 3, m.w, m.h-5))
	if m.ask != nil {
		var strip part.Rect
		body, strip = body.SplitBottom(m.ask.Height(m.w))
		m.ask.Draw(m.t, s, strip)
	}
	if long := m.longNotice(); len(long) > 0 {
		var strip part.Rect
		body, strip = body.SplitBottom(len(long) + 1)
		s.Line(strip.X, strip.Y, strip.W, m.t.On(m.t.Mortar), "─")
		for i, l := range long {
			s.Text(strip.X+1, strip.Y+1+i, strip.W-2, m.t.On(m.noticeColour()), l)
		}
	}
	if m.palette != nil {
		var strip part.Rect
		body, strip = body.SplitBottom(min(4+len(m.palette.commands), body.H-2))
		m.palette.draw(m.t, s, strip)
	}
	if m.help {
		m.drawHelp(s, body)
	} else {
		m.views[m.at].Draw(s, body)
	}
	m.footer(s)
	return s.Render()
}

func (m *model) header(s *part.Screen) {
	t := m.t
	x := s.Text(0, 0, m.w, t.Brand(), " BRICK ROW ")
	end := m.w - 1
	if m.about.Target != "" {
		st := uv.Style{Fg: t.Bright, Bg: t.Bar}
		label := " " + m.about.Place() + " "
		if m.about.Careful || m.about.Stack != nil && m.about.Stack.Careful {
			st = t.Watch()
			label = " careful: " + m.about.Place() + " "
		}
		end = s.Right(end, 0, m.w-x-4, st, label) - 2
	}
	if m.about.Name != "" {
		x = s.Text(x+2, 0, end-x-2, t.Strong(), m.about.Name)
		if st := m.about.Stack; st != nil {
			mark, col := t.StackPaint(st.Shown())
			words := fmt.Sprintf("revision %d · ", st.Revision)
			if st.Revision == 0 {
				words = ""
			}
			x = s.Text(x+2, 0, end-x-2, t.Faint(), words)
			s.Text(x, 0, end-x, t.On(col), mark+" "+string(st.Shown()))
		} else {
			s.Text(x+2, 0, end-x-2, t.Faint(), "not deployed yet")
		}
	}
	m.tabs = m.tabs[:0]
	x = 1
	s.Line(0, 2, m.w, t.On(t.Mortar), "─")
	all, gap, x0 := 0, 2, 0 // where the name of the view on the screen ends
	for _, v := range m.views {
		all += part.Width(v.Name()) + 4
	}
	if all > m.w {
		gap = 1
	}
	for i, v := range m.views {
		name := fmt.Sprintf("%d %s", i+1, v.Name())
		st := t.Faint()
		if i == m.at {
			st = part.Bold(t.On(t.Accent))
			s.Line(x, 2, part.Width(name), t.On(t.Accent), "▀")
		}
		m.tabs = append(m.tabs, part.R(x, 1, part.Width(name), 1))
		if i == m.at {
			x0 = x + part.Width(name)
		}
		x = s.Text(x, 1, m.w-x, st, name) + gap
	}
	switch status := m.views[m.at].Status(); {
	case status == "":
	case x+part.Width(status) < m.w:
		s.Right(m.w-1, 1, m.w-x-1, t.Faint(), status)
	default: // on the line below there is room
		s.Right(m.w-1, 2, m.w-x0-2, t.Faint(), " "+status+" ")
	}
}

func (m *model) footer(s *part.Screen) {
	t := m.t
	y := m.h - 1
	s.Line(0, y-1, m.w, t.On(t.Mortar), "─")
	hint, col := m.views[m.at].Hint(), color.Color(t.Hint)
	keys := shown(m.views[m.at].Bindings())
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
	hint = part.Clip(hint, m.hintRoom())
	x, end := 1, m.w-1-part.Width(hint)
	most, help := min(6, len(keys)), "?"
	if m.typing() { // where it would be a letter
		help = "f1"
	}
	for i, b := range append(keys[:most:most], part.Bind(nil).Shown(help, "keys")) {
		room := 9 // for the last one
		if i == most {
			room = 0
		}
		h := b.Help()
		if x+part.Width(h.Key)+1+part.Width(h.Desc) > end-2-room || m.ask != nil || m.palette != nil {
			continue
		}
		x = s.Text(x, y, end-x, t.Strong(), h.Key)
		x = s.Text(x+1, y, end-x, t.Faint(), h.Desc) + 3
	}
	s.Text(end, y, part.Width(hint)+1, t.On(col), hint)
}

// hintRoom is how long the hint in the footer may be.
func (m *model) hintRoom() int {
	if m.w < 100 { // it tells more than the keys, which are one key away
		return m.w - 12
	}
	return max((m.w-2)*3/5, m.w-72)
}

// longNotice is a notice that has no room in the footer, in lines; nil where
// there is none.
func (m *model) longNotice() []string {
	if part.Width(m.notice) <= m.hintRoom() {
		return nil
	}
	lines := part.Wrap(m.notice, m.w-3)
	return lines[:min(len(lines), 6)]
}

func (m *model) noticeColour() color.Color {
	if m.bad {
		return m.t.States["failed"].Word
	}
	return m.t.Hint
}

func (m *model) drawHelp(s *part.Screen, r part.Rect) {
	t := m.t
	v := m.views[m.at]
	s.Text(r.X+2, r.Y+1, r.W, t.Strong(), "Keys of "+v.Name())
	rows, x := max(1, r.H-5), r.X+2
	for column := range slices.Chunk(m.helpOf(v), rows) { // each as wide as what stands in it
		keys, words := 0, 0
		for _, b := range column {
			keys, words = max(keys, part.Width(b.Help().Key)), max(words, part.Width(b.Help().Desc))
		}
		for i, b := range column {
			s.Text(x, r.Y+3+i, keys, part.Bold(t.Hinted()), b.Help().Key)
			s.Text(x+keys+2, r.Y+3+i, max(0, r.X+r.W-x-keys-2), t.Plain(), b.Help().Desc)
		}
		x += keys + 2 + words + 3
	}
	s.Text(r.X+2, r.Y+r.H-1, r.W, t.Faint(), "any key goes back")
}

// helpOf are the keys of a view and of the shell; of those of the shell only the ones that are no letters while
// somebody types.
func (m *model) helpOf(v part.View) []part.Binding {
	if m.typing() {
		return append(shown(v.Bindings()), part.Bind(nil).Shown("ctrl+p", "all commands"), part.Bind(nil).Shown("f1", "these keys"))
	}
	return shown(append(v.Bindings(), m.bindings()...))
}

// shown are the bindings that footer and help show.
func shown(list []part.Binding) []part.Binding {
	return slices.DeleteFunc(slices.Clone(list), func(b part.Binding) bool { return b.Help().Key == "" })
}
