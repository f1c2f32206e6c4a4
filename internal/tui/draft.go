package tui

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/alecthomas/chroma/v2"
	"github.com/alecthomas/chroma/v2/lexers"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// draftView shows the template, and the stack file, as text.
type draftView struct {
	draft    *app.Draft
	tally    *app.Preview
	took     time.Duration
	path     string   // what is loaded
	files    []string // the template, the stack file, and what the template reads
	cur      int      // the one on the screen
	asked    asking   // of the target
	lines    map[string][][]token
	line     int // the cursor, from 0
	top      int
	left     int // how many columns are scrolled away
	panel    int // 0 inputs, 1 help
	text     rect
	loading  bool
	watched  []string
	readings int        // begun so far
	aim      *tosca.Pos // where to go when it is loaded; nil is nowhere
}

// token is a piece of a highlighted line, before the theme is known.
type token struct {
	kind chroma.TokenType
	text string
}

type draftLoaded struct {
	draft  *app.Draft
	tally  *app.Preview
	took   time.Duration
	opened bool // it becomes the subject
	err    error
	asked  int // which reading it is of
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

func (v *draftView) careful() bool {
	return v.draft != nil && v.draft.Stack != nil && v.draft.Stack.Careful
}

// open loads the subject's file.
func (v *draftView) open(m *model) tea.Cmd {
	if v.path != m.about.file {
		v.draft, v.tally, v.line, v.top, v.cur = nil, nil, 0, 0, 0
	}
	v.path = m.about.file
	return v.load(m)
}

func (v *draftView) load(m *model) tea.Cmd {
	path := v.path
	v.readings++
	asked := v.readings
	if path == "" {
		return func() tea.Msg {
			return draftLoaded{err: fmt.Errorf("it is not known which stack file %s came from; o in the stacks opens one", m.about.name), asked: asked}
		}
	}
	v.loading = true
	values := m.values(path)
	return func() tea.Msg {
		began := time.Now()
		d, err := m.app.Load(m.ctx, path, values)
		if err != nil {
			return draftLoaded{err: err, asked: asked}
		}
		out := draftLoaded{draft: d, asked: asked}
		if d.Stack != nil {
			out.tally, out.err = m.app.WhatIf(m.ctx, d, false)
		}
		out.took = time.Since(began)
		return out
	}
}

func (v *draftView) loaded(m *model, msg draftLoaded) tea.Cmd {
	if !msg.opened && msg.asked < v.readings {
		return nil // a later reading is under way
	}
	v.loading = false
	if msg.err != nil && msg.draft == nil {
		m.say(true, "%v", msg.err)
		return nil
	}
	v.draft, v.tally, v.took = msg.draft, msg.tally, msg.took
	v.path = msg.draft.Path
	v.readFiles(m)
	if v.aim != nil {
		p := *v.aim
		v.aim = nil
		v.goTo(p)
	}
	v.line = max(0, min(v.line, len(v.shown())-1))
	if msg.opened {
		m.at = viewDraft
		m.about = subject{name: filepath.Base(msg.draft.Path), file: msg.draft.Path}
		if f := msg.draft.Stack; f != nil {
			m.about.name, m.about.target = f.Stack, f.Target.String()
			m.stacks.sel = m.about.name + "@" + m.about.target
			m.stacks.folders = append(m.stacks.folders, filepath.Dir(msg.draft.Path))
			return v.load(m)
		}
	}
	draft := v.draft
	return tea.Tick(pause, func(time.Time) tea.Msg { return askTarget{draft} })
}

// ask holds the draft against its target, unless it has changed meanwhile or
// cannot be deployed anyway.
func (v *draftView) ask(m *model, msg askTarget) tea.Cmd {
	if msg.draft != v.draft || v.draft.Stack == nil || v.draft.Findings.HasErrors() || m.at != viewDraft {
		return nil
	}
	v.asked = askingNow
	path, values, draft := v.path, m.values(v.path), v.draft
	return func() tea.Msg {
		out := targetAnswered{draft: draft}
		d, err := m.app.Load(m.ctx, path, values)
		if err == nil {
			out.tally, err = m.app.WhatIf(m.ctx, d, true)
		}
		out.err = err
		return out
	}
}

func (v *draftView) answered(m *model, msg targetAnswered) {
	if msg.draft != v.draft {
		return
	}
	v.asked = notAsked
	if msg.err != nil {
		m.say(true, "the target was not asked: %v", msg.err)
		return
	}
	v.asked, v.tally, v.draft.Findings = answered, msg.tally, msg.tally.Findings
}

// readFiles reads what the draft consists of: the template, the stack file,
// and the files that the template reads.
func (v *draftView) readFiles(m *model) {
	d := v.draft
	was := v.file()
	v.asked = notAsked
	v.files, v.lines = []string{d.Template}, map[string][][]token{d.Template: highlight(d.Text)}
	if d.Stack != nil {
		v.files = append(v.files, d.Path)
		if text, err := files.Read(d.Path, tosca.MaxBytes); err == nil {
			v.lines[d.Path] = highlight(string(text))
		}
	}
	if d.Bundle != nil {
		others := d.Bundle.Files()
		root := strings.TrimSuffix(d.Template, filepath.FromSlash(d.Bundle.Entry))
		for _, path := range slices.Sorted(maps.Keys(others)) {
			name := filepath.Join(root, filepath.FromSlash(path))
			v.files = append(v.files, name)
			v.lines[name] = highlight(string(others[path]))
		}
	}
	for _, name := range d.RuleFiles {
		if text, err := files.Read(name, tosca.MaxBytes); err == nil {
			v.files = append(v.files, name)
			v.lines[name] = highlight(string(text))
		}
	}
	v.cur = max(0, slices.Index(v.files, was))
	v.watch(m, v.files)
}

// watch watches the folders of the files: editors replace files as they save.
func (v *draftView) watch(m *model, files []string) {
	if m.watcher == nil {
		return
	}
	v.watched = files
	have := m.watcher.WatchList()
	for _, f := range files {
		if dir := filepath.Dir(f); !slices.Contains(have, dir) {
			_ = m.watcher.Add(dir) // without it, r reads the file again
		}
	}
	if dir := app.RuleFolder(v.draft.Template); !slices.Contains(have, dir) {
		_ = m.watcher.Add(dir) // it may not be there
	}
}

func (v *draftView) fileChanged(m *model, path string) tea.Cmd {
	path = filepath.Clean(path)
	isNew := v.draft != nil && filepath.Dir(path) == filepath.Clean(app.RuleFolder(v.draft.Template)) // a file of rules that comes or goes
	if isNew || slices.ContainsFunc(v.watched, func(w string) bool { return filepath.Clean(w) == path }) {
		m.whatif.stale = true
		return v.load(m)
	}
	return nil
}

func (v *draftView) edited(m *model, msg edited) tea.Cmd {
	if msg.err != nil {
		m.say(true, "the editor ended badly: %v", msg.err)
	}
	m.whatif.stale = true
	return v.load(m)
}

// highlight splits a YAML text into coloured lines.
func highlight(text string) [][]token {
	lexer := chroma.Coalesce(lexers.Get("yaml"))
	it, err := lexer.Tokenise(nil, text)
	if err != nil {
		var out [][]token
		for l := range strings.SplitSeq(text, "\n") {
			out = append(out, []token{{chroma.Text, l}})
		}
		return out
	}
	lines := [][]token{nil}
	for tok := range it.Stdlib() {
		for i, part := range strings.Split(tok.Value, "\n") {
			if i > 0 {
				lines = append(lines, nil)
			}
			n := len(lines) - 1
			lines[n] = append(lines[n], pieces(tok.Type, strings.ReplaceAll(part, "\t", "    "))...)
		}
	}
	if n := len(lines); n > 1 && len(lines[n-1]) == 0 {
		lines = lines[:n-1]
	}
	return lines
}

// callPattern is the name of a function in a template.
var callPattern = regexp.MustCompile(`\$[a-z_]+`)

// pieces splits a token so that the names of functions stand alone.
func pieces(kind chroma.TokenType, text string) []token {
	var out []token
	add := func(s string) {
		if s != "" {
			out = append(out, token{kind, s})
		}
	}
	for !kind.InCategory(chroma.Comment) {
		at := callPattern.FindStringIndex(text)
		if at == nil {
			break
		}
		add(text[:at[0]])
		add(text[at[0]:at[1]])
		text = text[at[1]:]
	}
	add(text)
	return out
}

func (v *draftView) file() string {
	if v.cur < len(v.files) {
		return v.files[v.cur]
	}
	return ""
}

func (v *draftView) shown() [][]token { return v.lines[v.file()] }

// findingsAt lists what was found in a line of the file on the screen.
func (v *draftView) findingsAt(line int) tosca.Findings {
	var out tosca.Findings
	for _, f := range v.draft.Findings {
		if f.File == v.file() && f.Line == line+1 {
			out = append(out, f)
		}
	}
	return out
}

func (v *draftView) key(m *model, k string) (tea.Cmd, bool) {
	page := max(1, v.text.h-2)
	switch k {
	case "up", "k":
		v.line--
	case "down", "j":
		v.line++
	case "pgup", "ctrl+b":
		v.line -= page
	case "pgdown", "ctrl+f", "space":
		v.line += page
	case "left", "h":
		v.left = max(0, v.left-16)
	case "right", "l":
		if longest := v.longest(); v.left+v.text.w-10 < longest {
			v.left += 16
		}
	case "home", "g":
		v.line, v.left = 0, 0
	case "end", "G":
		v.line = len(v.shown())
	case "n":
		v.nextFinding(m)
	case "f":
		if len(v.files) < 2 {
			m.say(false, "this is a template alone; there is no other file")
			return nil, true
		}
		v.cur, v.line, v.top = (v.cur+1)%len(v.files), 0, 0
	case "tab":
		v.panel = 1 - v.panel
	case "r":
		return v.load(m), true
	case "e":
		return v.edit(m), true
	case "i":
		return v.give(m), true
	case "enter":
		return m.open(viewWhatIf), true
	default:
		return nil, false
	}
	v.line = max(0, min(v.line, len(v.shown())-1))
	return nil, true
}

// nextFinding goes to the next line with a finding, in either file.
func (v *draftView) nextFinding(m *model) {
	if v.draft == nil || len(v.draft.Findings) == 0 {
		m.say(false, "nothing wrong was found")
		return
	}
	next := v.draft.Findings[0]
	for _, f := range v.draft.Findings {
		if f.File > v.file() || f.File == v.file() && f.Line-1 > v.line {
			next = f
			break
		}
	}
	v.goTo(next.Pos)
}

// goTo shows a place in one of the files, which may still have to be loaded.
func (v *draftView) goTo(p tosca.Pos) {
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
func (v *draftView) give(m *model) tea.Cmd {
	if v.draft == nil || v.draft.File.Service == nil || len(v.draft.File.Service.Inputs) == 0 {
		m.say(false, "the template has no inputs")
		return nil
	}
	path := v.path
	m.ask = newAsk("Give an input another value for now, as name=value; nothing at all takes back what was given. The files stay as they are.", "", func(text string) tea.Cmd {
		name, _, ok := strings.Cut(text, "=")
		switch {
		case text == "":
			delete(m.given, path)
		case !ok:
			m.say(true, "write it as name=value, such as %s=…", v.draft.File.Service.Inputs[0].Name)
			return nil
		case v.draft.File.Service.Input(name) == nil:
			var names []string
			for _, in := range v.draft.File.Service.Inputs {
				names = append(names, in.Name)
			}
			m.say(true, "the template has no input '%s'; %s", name, cmp.Or(tosca.Suggest(name, names), "the inputs are on the right"))
			return nil
		default:
			kept := slices.DeleteFunc(slices.Clone(m.given[path]), func(s string) bool { return strings.HasPrefix(s, name+"=") })
			m.given[path] = append(kept, text)
		}
		m.whatif.stale = true
		return v.load(m)
	})
	m.ask.free = true
	service := v.draft.File.Service
	m.ask.masked = func(text string) string {
		name, value, ok := strings.Cut(text, "=")
		if in := service.Input(name); !ok || in == nil || !in.Type.HoldsSecret() {
			return text
		}
		return name + "=" + strings.Repeat("•", len([]rune(value)))
	}
	return nil
}

// edit opens the user's editor on the file, at the line.
func (v *draftView) edit(m *model) tea.Cmd {
	if v.draft == nil {
		return nil
	}
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		for _, name := range []string{"nano", "vi"} {
			if _, err := exec.LookPath(name); err == nil {
				editor = name
				break
			}
		}
	}
	if editor == "" {
		m.say(true, "set the variable EDITOR to your editor; the file is %s", v.file())
		return nil
	}
	words := strings.Fields(editor)
	args := words[1:]
	switch filepath.Base(words[0]) {
	case "vi", "vim", "nvim", "nano", "emacs", "micro", "kak", "ne", "joe":
		args = append(args, fmt.Sprintf("+%d", v.line+1))
	}
	return tea.Exec(editorProcess{exec.Command(words[0], append(args, v.file())...)}, func(err error) tea.Msg { return edited{err} })
}

// editorProcess is an editor that has the terminal for a moment at least: one
// that ends at once would come back while the drawing of the screen is still
// being stopped, which would then stop it for good.
type editorProcess struct{ *exec.Cmd }

func (e editorProcess) SetStdin(r io.Reader)  { e.Stdin = r }
func (e editorProcess) SetStdout(w io.Writer) { e.Stdout = w }
func (e editorProcess) SetStderr(w io.Writer) { e.Stderr = w }

func (e editorProcess) Run() error {
	began := time.Now()
	err := e.Cmd.Run()
	time.Sleep(100*time.Millisecond - time.Since(began))
	return err
}

func (v *draftView) click(_ *model, x, y int) tea.Cmd {
	if v.text.contains(x, y) {
		v.line = max(0, min(v.top+y-v.text.y, len(v.shown())-1))
	}
	return nil
}

func (v *draftView) wheel(m *model, by int) { v.key(m, map[int]string{-1: "up", 1: "down"}[by]) }

func (v *draftView) keys(*model) []binding {
	other := "the stack file"
	if len(v.files) > 1 {
		other = filepath.Base(v.files[(v.cur+1)%len(v.files)])
	}
	return []binding{{"e", "edit it"}, {"i", "give an input"}, {"f", other}, {"tab", "inputs or help"}, {"n", "next finding"}, {"enter", "what-if"}, {"r", "read it again"}, {"↑ ↓ g G", "move"}, {"← →", "the rest of long lines"}}
}

// longest is how wide the longest line on the screen is.
func (v *draftView) longest() int {
	n := 0
	lines := v.shown()
	for _, line := range lines[min(v.top, len(lines)):min(v.top+v.text.h, len(lines))] {
		w := 0
		for _, p := range line {
			w += len([]rune(p.text))
		}
		n = max(n, w)
	}
	return n
}

func (v *draftView) hint(*model) string {
	switch {
	case v.draft == nil:
		return "reading …"
	case v.draft.Findings.HasErrors():
		for _, f := range v.draft.Findings {
			if f.Severity == tosca.Error && strings.HasPrefix(f.File, "-i") {
				return "next: i gives another value, i with nothing takes it back"
			}
		}
		return "next: n goes to the mistake, e mends it"
	case v.draft.Stack == nil:
		return "a template alone; a stack file says where it goes"
	case v.tally != nil && v.tally.Empty():
		return "nothing to deploy by the record; 3 asks the cloud too"
	}
	return "next: 3 shows what deploying it would do"
}

func (v *draftView) status(*model) string {
	if v.draft == nil {
		return ""
	}
	return fmt.Sprintf("%s · line %d of %d", filepath.Base(v.file()), v.line+1, len(v.shown()))
}

func (v *draftView) draw(m *model, s *screen, r rect) {
	t := m.t
	if v.draft == nil {
		s.text(r.x+3, r.y+1, r.w-4, t.faint(), "reading the template …")
		return
	}
	body, strip := r.splitBottom(v.stripHeight())
	side := rect{}
	if r.w >= 100 {
		body, side = body.splitRight(min(62, r.w*2/5))
		s.column(side.x, side.y, side.h, t.on(t.mortar), "│")
		side = rect{side.x + 2, side.y, side.w - 3, side.h}
	}
	v.text = body
	v.drawText(m, s, body)
	v.drawStrip(m, s, strip)
	if side.w > 0 {
		if v.panel == 0 {
			v.drawInputs(m, s, side)
		} else {
			v.drawHelp(m, s, side)
		}
	}
}

func (v *draftView) drawText(m *model, s *screen, r rect) {
	t := m.t
	lines := v.shown()
	v.top = max(0, min(v.top, v.line-2))
	if v.line >= v.top+r.h-2 {
		v.top = v.line - r.h + 3
	}
	v.top = max(0, min(v.top, len(lines)-r.h))
	for i := range min(r.h, len(lines)-v.top) {
		n, y := v.top+i, r.y+i
		ground := t.ground
		number := t.faint()
		if n == v.line {
			ground = t.bar
			s.fill(rect{r.x, y, r.w - 1, 1}, uv.Style{Bg: ground})
			number = uv.Style{Fg: t.hint, Bg: ground}
		}
		s.right(r.x+6, y, 5, number, itoa(n+1))
		if found := v.findingsAt(n); len(found) > 0 {
			mark, col := "!", t.hint
			if found.HasErrors() {
				mark, col = "✖", t.states["failed"].word
			}
			s.text(r.x+7, y, 1, bold(uv.Style{Fg: col, Bg: ground}), mark)
		}
		x, end, skip := r.x+9, r.x+r.w-1, v.left
		if skip > 0 {
			x = s.text(x, y, 1, uv.Style{Fg: t.dim, Bg: ground}, "…")
		}
		for _, p := range lines[n] {
			if x >= end {
				s.text(end-1, y, 1, uv.Style{Fg: t.dim, Bg: ground}, "…")
				break
			}
			text := []rune(p.text)
			cut := min(skip, len(text))
			skip -= cut
			x = s.text(x, y, end-x, uv.Style{Fg: tokenColor(t, p), Bg: ground}, string(text[cut:]))
		}
	}
}

func (v *draftView) stripHeight() int {
	if v.draft == nil {
		return 2
	}
	return 2 + min(4, len(v.draft.Findings))
}

// drawStrip lists the findings near the cursor and the tally.
func (v *draftView) drawStrip(m *model, s *screen, r rect) {
	t := m.t
	s.line(r.x, r.y, r.w, t.on(t.mortar), "─")
	list := v.draft.Findings
	from := 0
	for i, f := range list {
		if f.File == v.file() && f.Line-1 <= v.line {
			from = i
		}
	}
	from = max(0, min(from, len(list)-4))
	y := r.y + 1
	for _, f := range list[from:min(len(list), from+4)] {
		mark, col := "!", t.hint
		if f.Severity == tosca.Error {
			mark, col = "✖", t.states["failed"].word
		}
		x := s.text(r.x+1, y, 2, bold(t.on(col)), mark)
		x = s.text(x+1, y, r.w-4, t.faint(), f.Short()+"  ")
		x = s.text(x, y, r.x+r.w-x-1, t.strong(), f.Message)
		if f.Mend != "" {
			s.text(x+2, y, r.x+r.w-x-3, t.hinted(), f.Mend)
		}
		y++
	}
	x := r.x + 1
	switch {
	case len(list) > 4:
		x = s.text(x, y, r.w, t.faint(), fmt.Sprintf("%d findings, n goes through them   ", len(list)))
	case len(list) == 0:
		x = s.text(x, y, r.w, t.on(t.states["ready"].word), "■ nothing wrong found   ")
	}
	if v.tally != nil && !v.draft.Findings.HasErrors() {
		x = drawTally(m, s, x, y, r.x+r.w-x, v.tally.Tally)
		words := fmt.Sprintf("by the record, in %.1f ms", float64(v.took.Microseconds())/1000)
		switch v.asked {
		case askingNow:
			words = fmt.Sprintf("asking %s …", v.draft.Stack.Target)
		case answered:
			words = fmt.Sprintf("checked against %s", v.draft.Stack.Target)
		}
		s.text(x+1, y, r.x+r.w-x-2, t.faint(), words)
	}
}

// narrow is the width below which only what is there is counted.
const narrow = 100

// drawTally writes the numbers of a change set with their marks.
func drawTally(m *model, s *screen, x, y, w int, tally whatif.Tally) int {
	end := x + w
	for _, k := range append(slices.Clone(whatif.Kinds), whatif.Adopt, whatif.Keep) {
		if tally.Of(k) == 0 && (k == whatif.Adopt || k == whatif.Keep || w < narrow) {
			continue
		}
		st := bold(m.t.on(m.t.kinds[k].word))
		if tally.Of(k) == 0 || k == whatif.Same {
			st = m.t.faint()
		}
		x = s.text(x, y, end-x, st, fmt.Sprintf("%s %d %s", k.Mark(), tally.Of(k), k)) + 3
	}
	if tally.Results > 0 {
		x = s.text(x, y, end-x, bold(m.t.hinted()), fmt.Sprintf("%d result%s", tally.Results, plural(tally.Results))) + 3
	}
	return x
}

// drawInputs lists the inputs with their values and where these come from.
func (v *draftView) drawInputs(m *model, s *screen, r rect) {
	t := m.t
	m.panelTitle(s, r, "inputs", "value, and where it comes from")
	y := r.y + 2
	values := map[string]stack.Input{}
	for _, in := range v.draft.Wanted.Inputs {
		values[in.Name] = in
	}
	if v.draft.File.Service == nil || len(v.draft.File.Service.Inputs) == 0 {
		s.text(r.x, y, r.w, t.faint(), "the template has no inputs")
		return
	}
	longest := 0
	for _, d := range v.draft.File.Service.Inputs {
		longest = max(longest, width(d.Name))
	}
	longest = min(longest, r.w/3)
	for _, d := range v.draft.File.Service.Inputs {
		if y >= r.y+r.h-1 {
			s.text(r.x, y, r.w, t.faint(), "…")
			return
		}
		in, ok := values[d.Name]
		s.text(r.x, y, longest, t.on(t.key), d.Name)
		x := r.x + longest + 2
		if !ok {
			s.text(x, y, r.x+r.w-x, bold(t.on(t.states["failed"].word)), "no value yet")
		} else {
			s.text(x, y, r.x+r.w-x, t.strong(), tosca.Show(in.Value))
		}
		origin := d.Description
		if ok {
			origin = in.Origin.String()
			if in.Origin.Via != "" && in.Origin.Kind != stack.OriginFlag {
				origin = fmt.Sprintf("%s · line %d", in.Origin.Via, in.Origin.Pos.Line)
			}
		}
		s.text(x, y+1, r.x+r.w-x, t.faint(), origin)
		y += 2
	}
	v.drawLookups(m, s, rect{r.x, y + 1, r.w, r.y + r.h - y - 1})
}

// drawLookups lists what nodes that are selected stand for, once the target
// was asked.
func (v *draftView) drawLookups(m *model, s *screen, r rect) {
	if v.asked != answered || len(v.tally.Lookups) == 0 || r.h < 3 {
		return
	}
	m.panelTitle(s, r, "found in the cloud", "by nodes that are selected")
	for i, l := range v.tally.Lookups {
		if i+2 >= r.h {
			return
		}
		x := s.text(r.x, r.y+2+i, r.w/2, m.t.on(m.t.key), l.Name)
		x = s.text(x+2, r.y+2+i, r.x+r.w-x-2, m.t.strong(), cloud.Clean(l.ID))
		s.text(x+2, r.y+2+i, r.x+r.w-x-2, m.t.faint(), cloud.Clean(l.Moved))
	}
}

// drawHelp says what the line of the cursor stands on.
func (v *draftView) drawHelp(m *model, s *screen, r rect) {
	t := m.t
	if v.cur > 0 || v.draft.File.Service == nil {
		m.panelTitle(s, r, "help", "")
		s.text(r.x, r.y+2, r.w, t.faint(), "stand on a node in the template: f shows it")
		return
	}
	line := v.line + 1
	var node *tosca.NodeTemplate
	for _, n := range v.draft.File.Service.Nodes {
		if n.Line <= line && (node == nil || n.Line > node.Line) {
			node = n
		}
	}
	var typ *tosca.NodeType
	if node != nil {
		typ = v.draft.File.Library.Nodes[node.Type]
	}
	if typ == nil {
		m.panelTitle(s, r, "help", "")
		s.text(r.x, r.y+2, r.w, t.faint(), "stand on a node to see what its type offers")
		return
	}
	m.panelTitle(s, r, typ.Name, typ.Description)
	y := r.y + 2
	for _, p := range typ.Properties {
		if y >= r.y+r.h {
			return
		}
		x := s.text(r.x, y, r.w/3, bold(t.on(t.key)), p.Name)
		x = s.text(x+2, y, r.x+r.w-x-2, t.plain(), p.Type.Label())
		s.text(x+2, y, r.x+r.w-x-2, t.hinted(), given(p))
		y++
		for _, line := range wrap(legal(p), r.w-4) {
			if y < r.y+r.h {
				s.text(r.x+2, y, r.w-2, t.faint(), line)
			}
			y++
		}
	}
	y++
	for _, q := range typ.Requirements {
		if y >= r.y+r.h {
			return
		}
		x := s.text(r.x, y, r.w/3, t.on(t.call), q.Name)
		many := ""
		switch {
		case q.Low == 0 && q.High == 1:
			many = ", optional"
		case q.High < 0:
			many = fmt.Sprintf(", %d or more", q.Low)
		}
		s.text(x+1, y, r.x+r.w-x-1, t.faint(), "rests on "+article(q.Node)+" "+q.Node+many)
		y++
	}
}

// article is a or an.
func article(word string) string {
	if word != "" && strings.ContainsRune("AEIOUaeiou", rune(word[0])) {
		return "an"
	}
	return "a"
}

// given says whether a property must be given.
func given(p *tosca.Property) string {
	switch {
	case p.Default != nil:
		return "default " + tosca.Describe(p.Default)
	case p.Required:
		return "must be given"
	}
	return ""
}

// legal is what a property means, what it may be, and an example.
func legal(p *tosca.Property) string {
	var parts []string
	if p.Description != "" {
		parts = append(parts, p.Description)
	}
	if p.Validation != nil {
		parts = append(parts, tosca.Describe(p.Validation))
	} else if e := p.Metadata["example"]; e != "" && p.Default == nil && !strings.Contains(p.Description, "such as") {
		parts = append(parts, "such as "+e)
	}
	switch {
	case p.Metadata["swap"] == "true":
		parts = append(parts, "a change swaps it")
	case p.Metadata["swap_when"] != "":
		parts = append(parts, "going "+map[string]string{"down": "down", "shrink": "smaller"}[p.Metadata["swap_when"]]+" swaps it")
	}
	return strings.Join(parts, "; ")
}
