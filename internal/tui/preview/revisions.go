package preview

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/tui/part"
)

// goingBack is the list of the revisions that one can go back to; the what-if of the
// chosen one comes first.
type goingBack struct {
	about part.Subject
	list  []app.Revision
	at    int
	top   int
}

// revisionsRead are the revisions of a stack, with the one that is offered.
type revisionsRead struct {
	about  part.Subject
	list   []app.Revision
	former int
}

// undo undoes a run that waits, or shows the revisions that one can go back to.
func (v *View) undo() tea.Cmd {
	about := v.Subject()
	return func() tea.Msg {
		ways, err := v.App().WaysOut(v.Context(), about.Stack)
		if err != nil {
			return part.Failed{Doing: "undo", Err: err}
		}
		if ways.Resume {
			consent, err := v.App().UndoConsent(v.Context(), about.Stack)
			if err != nil {
				return part.Failed{Doing: "undo", Err: err}
			}
			return undoAsked{about, consent}
		}
		out := revisionsRead{about: about}
		if out.list, err = v.App().Revisions(v.Context(), about.Stack); err == nil {
			out.former, err = v.App().Former(v.Context(), about.Stack)
		}
		if err != nil {
			return part.Failed{Doing: "read the revisions", Err: err}
		}
		return out
	}
}

// undoAsked is a run that is to be undone, with what has to be agreed to.
type undoAsked struct {
	about   part.Subject
	consent app.Consent
}

// askUndo undoes a run that waits, where somebody agrees to what goes with it.
func (v *View) askUndo(msg undoAsked) tea.Cmd {
	begin := func(string) tea.Cmd {
		return func() tea.Msg { return part.Begun(v.App().Resume(v.Context(), msg.about.Stack, app.Back)) }
	}
	if len(msg.consent.Risks) == 0 {
		return begin("")
	}
	ask := part.NewAsk(app.UndoQuestion(msg.about.Stack), msg.consent.Word(), begin)
	for _, r := range msg.consent.Risks[:min(4, len(msg.consent.Risks))] {
		ask.Details = append(ask.Details, "! "+string(r.Kind)+"  "+r.Text)
	}
	v.Ask(ask)
	return nil
}

func (v *View) revisions(msg revisionsRead) {
	if msg.former == 0 {
		v.Warn("%s has no former revision to go back to", msg.about.Name)
		return
	}
	v.Bring(v)
	v.About(msg.about)
	v.going = &goingBack{about: msg.about, list: msg.list}
	for i, r := range msg.list {
		if r.Number == msg.former {
			v.going.at = i
		}
	}
}

// goBackTo asks what going back to the chosen revision would do.
func (v *View) goBackTo() tea.Cmd {
	g := v.going
	number := g.list[g.at].Number
	v.going = nil
	return func() tea.Msg {
		p, err := v.App().WhatIfUndo(v.Context(), g.about.Stack, number)
		return previewLoaded{p, err, g.about, 0}
	}
}

// revisionKeys are the keys while a revision is chosen.
func (v *View) revisionKeys() []part.Binding {
	g := v.going
	move := func(by int, keys ...string) part.Binding {
		return part.Bind(part.Run(func() { g.at = max(0, min(g.at+by, len(g.list)-1)) }), keys...)
	}
	return []part.Binding{part.Bind(v.goBackTo, "enter").Shown("enter", "what going back would do"),
		part.Bind(func() tea.Cmd {
			v.going = nil
			if v.preview == nil {
				return v.open()
			}
			return nil
		}, "esc").Shown("esc", "not now"),
		move(-1, "up", "k").Shown("↑ ↓", "choose").As(""), move(1, "down", "j"), move(-10, "pgup"), move(10, "pgdown")}
}

// drawRevisions lists the revisions, newest above.
func (v *View) drawRevisions(s *part.Screen, r part.Rect) {
	t, g := v.Theme(), v.going
	s.Text(r.X+1, r.Y, r.W-2, part.Bold(t.Hinted()), "Go back to which revision of "+g.about.Name+"?")
	rows := (r.H - 2) / 2
	g.top = max(0, min(g.top, g.at, len(g.list)-rows))
	if g.at >= g.top+rows {
		g.top = g.at - rows + 1
	}
	for i := range max(0, min(rows, len(g.list)-g.top)) {
		rev, y := g.list[g.top+i], r.Y+2+2*i
		st, faint := t.Plain(), t.Faint()
		if g.top+i == g.at {
			st = t.Strong()
			st.Bg, faint.Bg = t.Panel, t.Panel
			s.Fill(part.R(r.X, y, r.W, 2), st)
			s.Column(r.X, y, 2, t.On(t.Accent), "▌")
		}
		mark := ""
		switch {
		case rev.Current:
			mark = "deployed now"
		case !rev.Stood():
			mark = "never stood: its run failed"
		}
		x := s.Text(r.X+2, y, r.W, st, fmt.Sprintf("revision %-4d %s  by %s", rev.Number, rev.Created.Local().Format("2006-01-02 15:04"), rev.By))
		hint := t.Hinted()
		hint.Bg = st.Bg
		s.Text(x+2, y, r.X+r.W-x-3, hint, mark)
		words := rev.Words()
		if rev.Note != "" {
			words += "   " + rev.Note
		}
		s.Text(r.X+2, y+1, r.W-3, faint, words)
	}
}
