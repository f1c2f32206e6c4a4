package runs

import (
	"slices"
	"sort"
	"strings"

	"brickrow/internal/run"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// log is what has happened in the run, the newest last: all of it, and of that what
// passes the filter. It is followed, or read with a cursor.
type log struct {
	all     []run.Event
	texts   []string // of the first events, as they are searched
	passing []int    // what passes the filter; all where there is none
	filter  part.Filter
	search  part.Filter
	columns []string // that are shown

	follow  bool // the newest are in sight
	top     int  // the first in sight
	reading bool // one is marked
	cursor  int  // the marked one
	rows    int  // how many were in sight

	choosing bool // which columns are shown
	choice   int
}

func newLog(columns []string) log {
	return log{filter: part.NewFilter(), search: part.NewFilter(), columns: columns, follow: true}
}

// len is how many events pass the filter, and at the one at a place among them.
func (l *log) len() int {
	if l.filter.Active() {
		return len(l.passing)
	}
	return len(l.all)
}

func (l *log) at(i int) run.Event { return l.all[l.index(i)] }

func (l *log) index(i int) int {
	if l.filter.Active() {
		return l.passing[i]
	}
	return i
}

// marked is the event that is marked, where one is.
func (l *log) marked() (run.Event, bool) {
	if !l.reading || l.cursor >= l.len() {
		return run.Event{}, false
	}
	return l.at(l.cursor), true
}

// last is the number of the last event; 0 is none.
func (l *log) last() int64 {
	if len(l.all) == 0 {
		return 0
	}
	return l.all[len(l.all)-1].Seq
}

// add adds what has happened since.
func (l *log) add(events []run.Event) {
	from := len(l.all)
	l.all = append(l.all, events...)
	if l.filter.Active() {
		l.pass(from)
	}
	if l.follow {
		l.cursor = max(0, l.len()-1)
	}
}

// text is an event as it is searched, in small letters.
func (l *log) text(i int) string {
	for len(l.texts) <= i {
		e := l.all[len(l.texts)]
		l.texts = append(l.texts, strings.ToLower(strings.Join([]string{e.Resource, e.Type, string(e.State), eventWords(e),
			e.CloudID, e.Problem}, " ")))
	}
	return l.texts[i]
}

// pass looks which events pass the filter, from a place on.
func (l *log) pass(from int) {
	words := l.filter.Words()
	for i := from; i < len(l.all); i++ {
		if part.HasAll(l.text(i), words) {
			l.passing = append(l.passing, i)
		}
	}
}

// filtered hears that the words of the filter are others. The mark stays at what it
// was, or goes to the event before it.
func (l *log) filtered() {
	was := len(l.all) - 1
	if !l.follow && l.cursor < len(l.passing) {
		was = l.passing[l.cursor]
	} else if !l.follow && l.passing == nil {
		was = min(l.cursor, was)
	}
	l.passing = nil
	if l.filter.Active() {
		l.passing = []int{}
		l.pass(0)
		l.cursor = max(0, sort.SearchInts(l.passing, was+1)-1)
	} else {
		l.cursor = max(0, was)
	}
	l.top = l.cursor
}

// move moves the mark; at the newest event it follows again.
func (l *log) move(by int) {
	l.cursor = max(0, min(l.cursor+by, l.len()-1))
	l.follow = l.cursor >= l.len()-1
}

// scroll moves what is in sight where none is marked.
func (l *log) scroll(by int) {
	if l.reading {
		l.move(by)
		return
	}
	l.top = max(0, l.top+by)
	l.follow = l.follow && by > 0
}

// next marks the next event that has the words of the search, by steps of 1 or -1;
// from says where to begin. It reports whether there is one.
func (l *log) next(from, by int) bool {
	words := l.search.Words()
	for i := from; i >= 0 && i < l.len(); i += by {
		if part.HasAll(l.text(l.index(i)), words) {
			l.cursor, l.follow = i, false
			return true
		}
	}
	return false
}

// Columns are those that can be chosen. The mark, the resource and what happened are
// always there.
var columns = []struct {
	name  string
	width int
	text  func(e run.Event) string
}{
	{"time", 8, func(e run.Event) string { return e.Time.Local().Format("15:04:05") }},
	{"state", 8, func(e run.Event) string { return string(e.State) }},
	{"type", 14, func(e run.Event) string { return ofResource(e, e.Type) }},
	{"elapsed", 8, func(e run.Event) string { return ofResource(e, whatif.Length(e.Elapsed.Seconds())) }},
	{"attempt", 7, func(e run.Event) string {
		if e.Attempt == 0 {
			return ""
		}
		return part.Itoa(e.Attempt)
	}},
	{"cloud id", 20, func(e run.Event) string { return e.CloudID }},
}

// usual are the columns that are shown where nobody has chosen.
var usual = []string{"time"}

// ofResource is a text about a resource; of the run there is none.
func ofResource(e run.Event, text string) string {
	if e.Resource == "" {
		return ""
	}
	return text
}

func (l *log) shows(column string) bool {
	if l.columns == nil {
		return slices.Contains(usual, column)
	}
	return slices.Contains(l.columns, column)
}

// turn shows a column that was not shown, or no longer.
func (l *log) turn(column string) {
	chosen := []string{}
	for _, c := range columns {
		if l.shows(c.name) != (c.name == column) {
			chosen = append(chosen, c.name)
		}
	}
	l.columns = chosen
}

// eventWords say what happened.
func eventWords(e run.Event) string {
	words := e.Step
	if e.Reason != "" {
		if words != "" {
			words += ": "
		}
		words += e.Reason
	}
	if words != "" {
		return words
	}
	switch e.State {
	case run.Skipped, run.Kept:
		return string(e.State)
	}
	return string(e.State) + " after " + whatif.Length(e.Elapsed.Seconds())
}
