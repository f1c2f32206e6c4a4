// Package parttest tests a view by itself: it is a shell that remembers what the
// view wanted of it.
package parttest

import (
	"context"
	"fmt"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/app"
	"brickrow/internal/tui/part"
)

// Shell is a shell without an interface around it. Its zero value is dark and has
// no size.
type Shell struct {
	A       *app.App
	W, H    int
	Said    string // last
	Asked   *part.Ask
	Sent    []any
	Given   map[string][]string
	Held    map[string][]byte
	subject part.Subject
	ctx     context.Context
}

// New is a shell of 142 columns and 44 rows around an app, which a view that only
// draws does not need.
func New(tb testing.TB, a *app.App) *Shell {
	return &Shell{A: a, W: 142, H: 44, Given: map[string][]string{}, Held: map[string][]byte{}, ctx: tb.Context()}
}

func (s *Shell) App() *app.App            { return s.A }
func (s *Shell) Context() context.Context { return s.ctx }
func (s *Shell) Theme() *part.Theme       { return part.Look{Depth: colorprofile.TrueColor}.Theme() }
func (s *Shell) Size() (w, h int)         { return s.W, s.H }
func (s *Shell) Subject() part.Subject    { return s.subject }
func (s *Shell) About(a part.Subject)     { s.subject = a }
func (s *Shell) Values(file string) app.Values {
	return app.Values{Flags: s.Given[file], Texts: s.Held}
}
func (s *Shell) Give(file string, flags []string) { s.Given[file] = flags }
func (s *Shell) Say(format string, args ...any)   { s.Said = fmt.Sprintf(format, args...) }
func (s *Shell) Warn(format string, args ...any)  { s.Say(format, args...) }
func (s *Shell) Ask(a *part.Ask)                  { s.Asked = a }
func (s *Shell) Front(part.View) bool             { return true }
func (s *Shell) Bring(part.View)                  {}
func (s *Shell) Watch(...string)                  {}
func (s *Shell) Wait(func() tea.Msg) tea.Cmd      { return nil }

func (s *Shell) Later(_ time.Duration, msg tea.Msg) tea.Cmd { return func() tea.Msg { return msg } }

func (s *Shell) Hold(file string, text []byte) {
	if s.Held[file] = text; text == nil {
		delete(s.Held, file)
	}
}

func (s *Shell) Send(intent any) tea.Cmd {
	s.Sent = append(s.Sent, intent)
	return nil
}

// Key presses a key that writes a letter, and reports whether the view has it.
func Key(v part.View, letter rune) bool {
	_, done := part.Press(v.Bindings(), tea.KeyPressMsg{Code: letter, Text: string(letter)})
	return done
}

// Frame is what the view draws, as plain text.
func (s *Shell) Frame(v part.View) string { return ansi.Strip(s.Styled(v)) }

// Styled is what the view draws, with its hint and its status, as the terminal
// gets it.
func (s *Shell) Styled(v part.View) string {
	screen := part.NewScreen(s.W, s.H, s.Theme().Plain())
	v.Draw(screen, part.R(0, 3, s.W, s.H-5))
	screen.Text(0, s.H-1, s.W, s.Theme().Plain(), v.Hint())
	screen.Right(s.W, 0, s.W, s.Theme().Plain(), v.Status())
	return screen.Render()
}

// Keys measures how long it takes from a key to the frame that shows it.
func (s *Shell) Keys(b *testing.B, v part.View, letters string) {
	s.Styled(v)
	i := 0
	for b.Loop() {
		if !Key(v, rune(letters[i%len(letters)])) {
			b.Fatalf("%c does nothing", letters[i%len(letters)])
		}
		s.Styled(v)
		i++
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/1000, "ms/key")
}
