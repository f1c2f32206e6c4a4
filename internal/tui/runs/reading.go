package runs

import (
	tea "charm.land/bubbletea/v2"

	"brickrow/internal/tui/part"
)

// Typing reports whether the filter of the events, or what to look for in them, is being
// typed.
func (v *View) Typing() bool { return v.log.filter.Typing || v.log.search.Typing }

// typed passes typing on to the line that takes it.
func (l *log) typed(msg tea.Msg) tea.Cmd {
	switch {
	case l.filter.Typing:
		return l.filter.Update(msg, l.filtered)
	case l.search.Typing:
		from := l.cursor
		return l.search.Update(msg, func() {
			if l.search.Active() && !l.next(from, -1) {
				l.next(from, 1)
			}
		})
	}
	return nil
}

// bindings are the keys of the events beside the wall.
func (l *log) bindings() []part.Binding {
	keys := []part.Binding{
		part.Bind(part.Run(l.read), "e").Shown("e", "read the events"),
		part.Bind(part.Run(func() { l.filter.Typing = true }), "/").Shown("/", "filter the events"),
	}
	if l.filter.Active() {
		keys = append(keys, part.Bind(part.Run(l.clear), "esc").Shown("esc", "clear the filter"))
	}
	follow := part.Bind(part.Run(func() { l.follow = !l.follow }), "f")
	if !l.follow {
		follow = follow.Shown("f", "follow the events")
	}
	return append(keys, follow)
}

// read marks the newest event, or the last in sight.
func (l *log) read() {
	l.reading = true
	if l.cursor = max(0, l.len()-1); !l.follow {
		l.cursor = max(0, min(l.top, l.len()-1))
	}
}

func (l *log) clear() {
	l.filter.Input.SetValue("")
	l.filtered()
}

// reading are the keys while an event is marked.
func (v *View) reading() []part.Binding {
	l := &v.log
	if l.choosing {
		return v.choosing()
	}
	move := func(by int, keys ...string) part.Binding { return part.Bind(part.Run(func() { l.move(by) }), keys...) }
	leave := part.Bind(part.Run(func() { l.reading = false }), "esc").Shown("esc", "back to the wall")
	if l.filter.Active() {
		leave = part.Bind(part.Run(l.clear), "esc").Shown("esc", "clear the filter")
	} else if l.search.Active() {
		leave = part.Bind(part.Run(func() { l.search.Input.SetValue("") }), "esc").Shown("esc", "end the search")
	}
	keys := []part.Binding{leave}
	e, ok := l.marked()
	if ok && e.Resource != "" {
		keys = append(keys, part.Bind(part.Run(func() {
			l.reading = false
			v.wall.Choose(e.Resource)
		}), "enter").Shown("enter", "its brick").As("Go to the brick of the event"))
		if pos := v.place(e.Resource); pos.Line > 0 {
			keys = append(keys, part.Bind(func() tea.Cmd { return v.Send(part.ShowPlace{Pos: pos}) }, "t").
				Shown("t", "template line").As("Show the line of the template"))
		}
	}
	if ok {
		keys = append(keys, part.Bind(func() tea.Cmd {
			v.Say("copied the message")
			return tea.SetClipboard(eventWords(e))
		}, "y").Shown("y", "copy the message"))
	}
	follow := part.Bind(part.Run(func() { l.follow = true; l.move(l.len()) }), "f")
	if !l.follow {
		follow = follow.Shown("f", "follow the newest").As("Follow the newest event")
	}
	keys = append(keys,
		part.Bind(part.Run(func() { l.filter.Typing = true }), "/").Shown("/", "filter"),
		part.Bind(part.Run(func() { l.search.Typing = true }), "s").Shown("s", "search"),
		part.Bind(part.Run(func() { l.choosing = true }), "o").Shown("o", "columns").As("Choose the columns"), follow,
		move(-1, "up", "k").Shown("↑ ↓", "older, newer").As(""), move(1, "down", "j"),
		move(-max(1, l.rows-1), "pgup").Shown("pgup pgdn", "a page").As(""), move(max(1, l.rows-1), "pgdown"),
		move(-l.len(), "home"), move(l.len(), "end"))
	if l.search.Active() {
		keys = append(keys,
			part.Bind(func() tea.Cmd { return v.seek(-1) }, "n").Shown("n N", "older, newer that has it").As("Search on"),
			part.Bind(func() tea.Cmd { return v.seek(1) }, "N"))
	}
	return keys
}

func (v *View) seek(by int) tea.Cmd {
	if !v.log.next(v.log.cursor+by, by) {
		v.Say("there is no other event with %q", v.log.search.Input.Value())
	}
	return nil
}

// choosing are the keys while columns are chosen.
func (v *View) choosing() []part.Binding {
	l := &v.log
	move := func(by int, keys ...string) part.Binding {
		return part.Bind(part.Run(func() { l.choice = (l.choice + by + len(columns)) % len(columns) }), keys...)
	}
	return []part.Binding{
		part.Bind(func() tea.Cmd {
			l.turn(columns[l.choice].name)
			v.keepColumns()
			return nil
		}, "space", "enter").Shown("space", "show or hide"),
		part.Bind(part.Run(func() { l.choosing = false }), "esc", "o").Shown("esc", "done").As("Columns are chosen"),
		move(-1, "up", "k").Shown("↑ ↓", "choose").As(""), move(1, "down", "j"),
	}
}

// keepColumns keeps the choice for the next time.
func (v *View) keepColumns() {
	if v.App() == nil {
		return
	}
	p := v.App().Preferences()
	p.Columns = v.log.columns
	if err := v.App().SetPreferences(p); err != nil {
		v.Warn("keep the columns: %v", err)
	}
}
