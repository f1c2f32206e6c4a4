package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/demo"
	"brickrow/internal/run"
	"brickrow/internal/tui/part"
)

// tour is the strip that leads through the demo. Its ticks are those of what was really
// done, whatever keys did it.
type tour struct {
	demo.Tour
	asking, again bool
	ticked        string // the step that was done last
}

// tourSeen is how far somebody is in it.
type tourSeen struct {
	tour   demo.Tour
	ticked bool
	err    error
}

// beginTour begins the tour of the demo, or takes it up.
func (m *model) beginTour() {
	m.tour = &tour{Tour: demo.ReadTour(m.app.Home)}
}

// Plans is a view that has a what-if.
type plans interface{ WouldChange() (run.Kind, int) }

// checkTour asks what was done, in the background.
func (m *model) checkTour() tea.Cmd {
	t := m.tour
	if t == nil || t.Left || t.Over() {
		return nil
	}
	if t.again = t.asking; t.asking {
		return nil
	}
	t.asking = true
	looked := demo.Looked{Chosen: m.about.Name}
	if v, ok := m.views[m.at].(plans); ok {
		kind, n := v.WouldChange()
		looked.WhatIf = kind == run.KindDeploy && n > 0
	}
	now := t.Tour
	return func() tea.Msg {
		now.Done = append([]time.Time{}, now.Done...)
		ticked, err := now.Check(m.ctx, m.app, looked)
		return tourSeen{now, ticked, err}
	}
}

func (m *model) tourSeen(msg tourSeen) tea.Cmd {
	t := m.tour
	t.asking = false
	if msg.err == nil && msg.ticked && len(msg.tour.Done) > len(t.Done) {
		t.Done = msg.tour.Done
		t.ticked = demo.Steps[len(t.Done)-1].Name
		m.saveTour()
	}
	if t.again {
		return m.checkTour()
	}
	return nil
}

func (m *model) saveTour() {
	if err := m.tour.Save(m.app.Home); err != nil {
		m.Warn("how far the tour is cannot be kept: %v", err)
	}
}

// turnTour leaves the tour, or takes it up.
func (m *model) turnTour() tea.Cmd {
	m.tour.Left = !m.tour.Left
	m.saveTour()
	if m.tour.Left {
		m.Say("the tour waits where it is: ctrl+t takes it up")
	}
	return m.checkTour()
}

// tourKeys are the keys of the tour, where there is one.
func (m *model) tourKeys() []part.Binding {
	if m.tour == nil {
		return nil
	}
	words := "leave the tour"
	if m.tour.Left {
		words = "take the tour up"
	}
	keys := []part.Binding{part.Bind(m.turnTour, "ctrl+t").Shown("ctrl+t", words)}
	if m.again != nil {
		keys = append(keys, part.Bind(part.Run(m.askAgain)).As("Begin the demo and its tour again"))
	}
	return keys
}

// askAgain begins the demo again, which leaves the interface for a moment.
func (m *model) askAgain() {
	m.Ask(part.NewAsk("Begin the demo and its tour again? All that was done in it goes, with the files that were written there.", "",
		func(string) tea.Cmd {
			m.again()
			return tea.Quit
		}))
}

// tourLines are what the strip says at a width, in at most so many lines.
func (m *model) tourLines(w, most int) []string {
	t := m.tour
	if t.Over() {
		return part.Wrap("All of it is done. ctrl+t leaves the tour; : begins the demo and its tour again, and n in Stacks begins a stack of your own.", w)
	}
	s := t.Now()
	lines := part.Wrap(s.Text()+".", w)
	if len(lines) < most {
		lines = append(lines, part.Wrap(s.Why, w)...)
	}
	return lines[:min(len(lines), most)]
}

// tourStrip takes the room for the tour off the bottom, and draws it there.
func (m *model) tourStrip(s *part.Screen, body part.Rect) part.Rect {
	if m.tour == nil || m.tour.Left || m.palette != nil || m.help {
		return body
	}
	most := 4
	if m.h < 30 {
		most = 2
	}
	lines := m.tourLines(m.w-4, most)
	body, strip := body.SplitBottom(len(lines) + 1)
	t := m.t
	ground := uv.Style{Fg: t.Text, Bg: t.Panel}
	s.Fill(strip, ground)
	s.Line(strip.X, strip.Y, strip.W, t.On(t.Mortar), "─")
	done, all := len(m.tour.Done), len(demo.Steps)
	head := fmt.Sprintf(" tour  %s%s  ", strings.Repeat("■", done), strings.Repeat("□", all-done))
	x := s.Text(strip.X+1, strip.Y, strip.W, t.Hinted(), head)
	if step := m.tour.Now(); step != nil {
		x = s.Text(x, strip.Y, strip.X+strip.W-x, part.Bold(t.Hinted()), fmt.Sprintf("%d of %d: %s ", done+1, all, step.Name))
	}
	if m.tour.ticked != "" {
		s.Text(x, strip.Y, strip.X+strip.W-x, t.On(t.States[run.IsReady].Word), fmt.Sprintf(" ■ done: %s ", strings.ToLower(m.tour.ticked[:1])+m.tour.ticked[1:]))
	}
	s.Right(strip.X+strip.W-2, strip.Y, 24, t.Faint(), " ctrl+t leaves it ")
	for i, l := range lines {
		s.Text(strip.X+2, strip.Y+1+i, strip.W-4, ground, l)
	}
	return body
}
