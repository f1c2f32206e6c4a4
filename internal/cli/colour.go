package cli

import (
	"bytes"
	"context"
	"fmt"
	"image/color"
	"io"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// coloured are the commands whose text has colours in a terminal. What it says it says without them.
var coloured = []string{"whatif", "show", "watch", "deploy", "undo", "delete", "resume", "drift", "stacks", "events", "history"}

// themeOf are the colours for what is written to a terminal; none where it is no terminal, or shows none.
func (p *Program) themeOf(to io.Writer) *part.Theme {
	file, ok := to.(*os.File)
	if !ok || !term.IsTerminal(file.Fd()) {
		return part.Look{}.Theme()
	}
	l := part.Look{Depth: colorprofile.Detect(file, os.Environ()), Strong: p.set.Get("contrast", "") == app.Strong}
	if l.Depth <= colorprofile.ASCII {
		return l.Theme()
	}
	ground := p.set.Get("ground", "")
	if fields := strings.Split(os.Getenv("COLORFGBG"), ";"); ground == "" && len(fields) > 1 {
		if n, err := strconv.Atoi(fields[len(fields)-1]); err == nil {
			ground = map[bool]string{true: "light", false: "dark"}[n == 7 || n > 8]
		}
	}
	if l.Light = ground == "light"; ground == "" {
		return part.Unsure()
	}
	return l.Theme()
}

// paint gives the text of a command its colours, where it goes to a terminal that has some.
func (p *Program) paint(name string) {
	p.theme = part.Look{}.Theme()
	if !slices.Contains(coloured, name) || p.spoken {
		return
	}
	if p.theme = p.themeOf(p.bare); p.theme.Kinds != nil {
		p.Out = plainWriter{&painter{to: p.bare, theme: p.theme}}
	}
}

// painter gives whole lines their colours by what stands in them.
type painter struct {
	to    io.Writer
	theme *part.Theme
	line  []byte
}

func (w *painter) Write(b []byte) (int, error) {
	w.line = append(w.line, b...)
	var out bytes.Buffer
	for {
		line, rest, whole := bytes.Cut(w.line, []byte("\n"))
		if !whole {
			break
		}
		out.WriteString(w.painted(string(line)))
		out.WriteByte('\n')
		w.line = append(w.line[:0], rest...)
	}
	if len(w.line) > 0 { // a question, or what is written over
		out.Write(w.line)
		w.line = w.line[:0]
	}
	if _, err := w.to.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(b), nil
}

var (
	changeLine = regexp.MustCompile(`^(\s*)(▲|◧|⇅|▽|◈|◇)( \S+\s+)(.*?)(\s\s+.*)?$`)
	eventLine  = regexp.MustCompile(`^(\S+  )(\S.*?)(\s+)(` + states() + `)(\s.*|$)`)
	labelLine  = regexp.MustCompile(`^(\s+(?:because|then|last|before|backup|used by|longest)\s\s+)(.*)$`)
	riskLine   = regexp.MustCompile(`^(! \S+\s+)(.*)$`)
	tallies    = regexp.MustCompile(`\b[1-9][0-9]* (new|edit|swap|drop|adopt)\b`)
)

func states() string {
	var list []string
	for s := range part.StateMarks {
		list = append(list, regexp.QuoteMeta(string(s)))
	}
	slices.Sort(list)
	return strings.Join(list, "|")
}

func inked(c color.Color, bold bool, text string) string {
	st := lipgloss.NewStyle().Bold(bold)
	if c != nil {
		st = st.Foreground(c)
	}
	return st.Render(text)
}

// painted is a line in its colours.
func (w *painter) painted(line string) string {
	t := w.theme
	if m := changeLine.FindStringSubmatch(line); m != nil {
		for k, p := range t.Kinds {
			if k.Mark() == m[2] {
				return m[1] + inked(p.Word, true, m[2]+m[3]+m[4]) + inked(t.Dim, false, m[5])
			}
		}
	}
	if m := eventLine.FindStringSubmatch(line); m != nil {
		p := t.States[run.State(m[4])]
		return inked(t.Dim, false, m[1]) + m[2] + m[3] + inked(p.Word, true, m[4]) + m[5]
	}
	if m := labelLine.FindStringSubmatch(line); m != nil {
		return inked(t.Dim, false, m[1]) + m[2]
	}
	if m := riskLine.FindStringSubmatch(line); m != nil {
		return inked(t.Hint, true, m[1]) + m[2]
	}
	if strings.HasPrefix(line, "run ") && strings.Contains(line, ": failed") || strings.HasPrefix(line, "✖") {
		return inked(t.States[run.HasFailed].Word, true, line)
	}
	return tallies.ReplaceAllStringFunc(line, func(m string) string {
		_, kind, _ := strings.Cut(m, " ")
		return inked(t.Kinds[whatif.Kind(kind)].Word, true, m)
	})
}

// wallOf draws the wall of a graph, as wide as the terminal, and no higher where it is drawn again and again; without
// colours where there are none.
func (p *Program) wallOf(g stack.Graph, again bool, of func(t *part.Theme, name string) part.Brick) string {
	width, most := 80, 200
	if file, ok := p.bare.(*os.File); ok {
		if w, h, err := term.GetSize(file.Fd()); err == nil && w > 20 && h > 4 {
			width = min(w, 200)
			if again {
				most = h - 2
			}
		}
	}
	t := *p.theme
	t.Ground, t.Text, t.SelGround = nil, nil, nil // on the terminal's own ground, and nothing is chosen
	var w part.Wall
	w.Set(g)
	w.Sel, w.Reach = "", nil
	height := min(w.Ideal(width), most)
	s := part.NewScreen(width, height, uv.Style{})
	w.Draw(s, part.R(0, 0, width, height), &t, func(name string) part.Brick { return of(&t, name) })
	lines := strings.Split(s.Render(), "\n")
	for i, l := range lines {
		if lines[i] = strings.TrimRight(l, " "); t.Bar == nil && p.theme.Outlined && t.Kinds == nil {
			lines[i] = strings.TrimRight(ansi.Strip(l), " ")
		}
	}
	return strings.Trim(strings.Join(lines, "\n"), "\n") + "\n"
}

// printWall prints a wall past what takes control characters away: all in it is ours, or was made harmless.
func (p *Program) printWall(g stack.Graph, of func(t *part.Theme, name string) part.Brick) {
	if len(g) > 0 {
		fmt.Fprintf(p.bare, "%s\n", p.wallOf(g, false, of))
	}
}

// whatifWall is the wall of a change set.
func (p *Program) whatifWall(pv *app.Preview) {
	p.printWall(pv.Graph(), func(t *part.Theme, name string) part.Brick {
		ch := pv.Change(name)
		if ch == nil {
			return part.Brick{Mark: whatif.Same.Mark(), Paint: t.Kinds[whatif.Same], Faint: true}
		}
		return part.Brick{Mark: ch.Kind.Mark(), Sub: ch.Shown(), Paint: t.Kinds[ch.Kind], Faint: ch.Kind == whatif.Same}
	})
}

// watchWall draws the wall of a run as it fills: again and again in the same place, or at the end where it is no
// terminal.
func (p *Program) watchWall(ctx context.Context, a *app.App, st *stack.Stack, r *run.Record) (tell func(run.Event), stop func(), err error) {
	setting, err := a.Setting(ctx, st, r)
	if err != nil {
		return nil, nil, err
	}
	seen := run.NewProgress(r.Plan, r.Started)
	lines, drawn := 0, time.Time{}
	draw := func() {
		wall := p.wallOf(setting.Graph, p.terminal, func(t *part.Theme, name string) part.Brick {
			return part.RunBrick(t, r, seen, setting.Graph, name, time.Now())
		})
		if lines > 0 {
			fmt.Fprint(p.bare, ansi.CursorUp(lines)+"\r"+ansi.EraseScreenBelow)
		}
		fmt.Fprint(p.bare, wall)
		lines, drawn = strings.Count(wall, "\n"), time.Now()
	}
	tell = func(e run.Event) {
		if seen.Apply(e); p.terminal && !p.quiet && time.Since(drawn) > 80*time.Millisecond {
			draw()
		}
	}
	return tell, draw, nil
}
