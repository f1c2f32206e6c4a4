package tui

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/notice"
	"brickrow/internal/run"
	"brickrow/internal/tui/part"
)

// notices tells of the end of a run to somebody who looks elsewhere. Which runs there are
// is asked when the store was written, not more often than once in a while.
type notices struct {
	going  map[string]string // runs that go on, with the names of their stacks
	asked  time.Time
	asking bool
	focus  focus
	input  time.Time // when a key was pressed last
	send   func(text string) tea.Cmd
}

// focus is whether somebody looks at the terminal, as far as it tells.
type focus int

const (
	untold focus = iota
	here
	elsewhere
)

const (
	oftenEnough = time.Second
	// away is how long no key was pressed, where the terminal does not tell whether
	// somebody looks.
	away = 20 * time.Second
)

// runsSeen is how the last runs of all stacks stand.
type runsSeen struct{ list []app.Overview }

// lookForEnds asks how the runs stand.
func (m *model) lookForEnds() tea.Cmd {
	n := &m.notices
	if n.asking || time.Since(n.asked) < oftenEnough {
		return nil
	}
	n.asking, n.asked = true, time.Now()
	return func() tea.Msg {
		list, err := m.app.Stacks(m.ctx)
		if err != nil {
			list = nil // it is asked again
		}
		return runsSeen{list}
	}
}

// seen notices which runs have ended since.
func (m *model) seen(msg runsSeen) tea.Cmd {
	n := &m.notices
	n.asking = false
	if msg.list == nil {
		return nil
	}
	going := map[string]string{}
	var cmds []tea.Cmd
	for _, o := range msg.list {
		switch r := o.Run; {
		case r == nil:
		case !r.State.Ended() && o.Holder != "":
			going[r.ID] = o.Stack.Name
		case n.going[r.ID] != "":
			cmds = append(cmds, m.ended(o.Stack.Name, r))
		}
	}
	n.going = going
	return tea.Batch(cmds...)
}

// ended tells of the end of a run, where nobody looks at it.
func (m *model) ended(name string, r *run.Record) tea.Cmd {
	n := &m.notices
	if n.focus == here || n.focus == untold && time.Since(n.input) < away {
		if m.about.Name != name || m.at == 0 {
			m.Say("%s: %s", name, r.Words())
		}
		return nil
	}
	return n.send(notice.Text(m.app.Preferences().Notify, name, r.Words()))
}

// title is what stands over the window.
func (n *notices) title(about part.Subject) string {
	for _, name := range n.going {
		if name == about.Name {
			return "… " + name + " · Brick Row"
		}
	}
	if len(n.going) > 0 {
		return fmt.Sprintf("… %d running · Brick Row", len(n.going))
	}
	if about.Name != "" {
		return "Brick Row · " + about.Name
	}
	return "Brick Row"
}

// nextNotice takes the next way to be told of the end of a run.
func (m *model) nextNotice() {
	p := m.app.Preferences()
	words := ""
	switch p.Notify {
	case notice.Desktop:
		p.Notify, words = notice.Bell, "the end of a run rings the bell"
	case notice.Bell:
		p.Notify, words = notice.None, "the end of a run is not told"
	default:
		p.Notify, words = notice.Desktop, "the end of a run is told by the desktop, and by the bell"
	}
	if err := m.app.SetPreferences(p); err != nil {
		m.Warn("%v", err)
		return
	}
	m.Say("%s, where nobody looks here", words)
}
