package inventory

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// rows are the lines of the list: titles of bands, and rows of bricks.
type rows struct {
	key    layoutOf
	lines  []row
	indent int    // where bricks begin
	inline bool   // titles stand beside their bricks
	high   int    // of a brick; with more than one line there is a free one under it
	cells  []cell // where each that is shown stands
}

// layoutOf is what a layout depends on.
type layoutOf struct {
	version, width, height int
	table                  bool
	sel                    app.Place // which has its name
}

// cell is where a brick stands: on which line, and from where. One too narrow for a name has only its mark.
type cell struct{ line, x, w int }

// bare is the width of a brick without a name, and named the least with one.
const bare, named = 2, 8

// mostNamed is how many there may be for names to be tried.
const mostNamed = 2000

// row is one line: the title of a band, some bricks, or both.
type row struct {
	band     int // whose title it has; -1 is none
	from, to int
	line     int // of those bricks; 0 is their first
}

// fit lays the bands out, with names where there is room for them, and with what they are where there is room for
// that too: each title on a line of its own, else beside its bricks; else with names that are cut, else with those
// alone of what is chosen and what is not as it should be.
func (l *rows) fit(v *View, w, h int) {
	key := layoutOf{version: v.version, width: w, height: h, table: v.table}
	few := len(v.shown) <= mostNamed
	if few && !v.table {
		key.sel = v.sel
	}
	if l.key == key && len(l.cells) == len(v.shown) {
		return
	}
	*l = rows{key: key, high: 1}
	if v.table {
		l.lay(v, w, func(int) int { return w })
		return
	}
	longest, title := 8, 0
	for _, r := range v.shown {
		longest = max(longest, min(26, part.Width(r.Name())))
	}
	for _, b := range v.bands {
		title = max(title, part.Width(b.title)+len(part.Itoa(b.to-b.from))+8)
	}
	type try struct {
		inline     bool
		high, wide int
		all        bool // have names
	}
	tries := []try{{false, 3, longest + 14, true}, {false, 2, longest + 4, true}, {false, 1, longest + 4, true},
		{true, 1, longest + 4, true}, {false, 1, min(longest+4, 20), true}, {true, 1, min(longest+4, 20), true},
		{true, 1, min(longest+4, 15), true}, {true, 1, min(longest+4, 24), false},
		{true, 1, min(longest+4, 16), false}}
	if !few {
		tries = nil
	}
	for _, t := range tries {
		l.inline, l.high = t.inline, t.high
		if l.indent = 3; l.inline {
			l.indent = min(title, w/2)
		}
		wide := t.wide
		if t.all { // what is left of a line widens them
			each := max(1, (w-l.indent+1)/(wide+1))
			wide = min(max(wide, (w-l.indent+1)/each-1), 20+10*t.high)
		}
		l.lay(v, w, func(i int) int {
			if r := v.shown[i]; t.all || r.Odd() || v.broken[r.Place()] != nil || r.Place() == v.sel {
				return wide
			}
			return bare
		})
		if len(l.lines) <= h {
			return
		}
	}
	l.inline, l.indent = true, min(title, w/2)
	l.lay(v, w, func(int) int { return bare })
}

// lay puts bricks of some widths one after the other.
func (l *rows) lay(v *View, w int, widthOf func(i int) int) {
	l.lines, l.cells = nil, make([]cell, len(v.shown))
	for b, is := range v.bands {
		title := b
		if !l.inline {
			if b > 0 {
				l.lines = append(l.lines, row{band: -1})
			}
			l.lines = append(l.lines, row{band: b})
			title = -1
		}
		x := l.indent
		for i := is.from; i < is.to; i++ {
			wide := widthOf(i)
			if i == is.from || x+wide > w {
				if i > is.from && l.high > 1 {
					l.lines = append(l.lines, row{band: -1})
				}
				for k := range l.high {
					l.lines = append(l.lines, row{title, i, i, k})
					title = -1
				}
				x = l.indent
			}
			last := len(l.lines) - l.high
			for k := range l.high {
				l.lines[last+k].to = i + 1
			}
			if l.key.table {
				x, wide = 0, w
			}
			l.cells[i] = cell{last, x, wide}
			x += wide + 1
		}
	}
}

// beside is what lies some rows above or below.
func (l *rows) beside(i, dy int) int {
	if i >= len(l.cells) {
		return i
	}
	from := l.cells[i]
	at := from.line
	for dy != 0 {
		step := 1
		if dy < 0 {
			step = -1
		}
		next := at + step
		for next >= 0 && next < len(l.lines) && (l.lines[next].from == l.lines[next].to || l.lines[next].line > 0) {
			next += step
		}
		if next < 0 || next >= len(l.lines) {
			break
		}
		at, dy = next, dy-step
	}
	if at == from.line {
		return i
	}
	best, far := l.lines[at].from, 1<<30
	for k := l.lines[at].from; k < l.lines[at].to; k++ {
		c := l.cells[k]
		if d := 2*c.x + c.w - 2*from.x - from.w; max(d, -d) < far {
			best, far = k, max(d, -d)
		}
	}
	return best
}

// at is what lies at a place of the list; -1 is nothing.
func (l *rows) at(x, y int) int {
	if y < 0 || y >= len(l.lines) {
		return -1
	}
	for i := l.lines[y].from; i < l.lines[y].to; i++ {
		if c := l.cells[i]; x >= c.x && x <= c.x+c.w {
			return i
		}
	}
	return -1
}

// leastDetail is how many lines there are at least for what is chosen.
const leastDetail = 5

// between is what stands between the counts.
const between = "   "

// Draw draws the bands, and beside them the chosen resource.
func (v *View) Draw(s *part.Screen, r part.Rect) {
	t := v.Theme()
	switch {
	case v.patch.Written != nil:
		v.patch.Draw(t, s, r)
		return
	case v.inv == nil && v.err != nil:
		for i, l := range part.Wrap("The cloud does not say what is there: "+v.err.Error(), r.W-6) {
			s.Text(r.X+3, r.Y+1+i, r.W-6, t.Plain(), l)
		}
		return
	case v.inv == nil:
		s.Text(r.X+3, r.Y+1, r.W-6, t.Plain(), "asking the cloud what is there …")
		return
	}
	said := v.said
	for len(said) > 2 && part.Width(strings.Join(said, between)) > r.W-2 { // what is amiss is said in any case
		said = slices.Delete(slices.Clone(said), 1, 2)
	}
	s.Text(r.X+1, r.Y, r.W-2, t.Plain(), strings.Join(said, between))
	body := part.R(r.X, r.Y+2, r.W, r.H-2)
	var problems []string
	for _, in := range v.inv.Targets {
		if in.Problem != "" {
			problems = append(problems, fmt.Sprintf("%s does not say what is in it: %s", in.Target, in.Problem))
		}
		for _, why := range in.Partly {
			problems = append(problems, fmt.Sprintf("not all that is in %s is known: %s", in.Target, why))
		}
	}
	for i, p := range problems[:min(len(problems), 3)] {
		s.Text(r.X+1, r.Y+1+i, r.W-2, t.On(t.States[run.HasFailed].Word), part.Clip(p, r.W-2))
		body.Y, body.H = body.Y+1, body.H-1
	}
	list, side := body.SplitRight(max(52, r.W*2/5))
	if r.W < 100 {
		v.tight.fit(v, body.W-1, body.H-leastDetail) // names come before details
		list, side = body.SplitBottom(min(body.H/2, max(leastDetail, body.H-len(v.tight.lines)-1)))
		s.Line(side.X, side.Y, side.W, t.On(t.Mortar), "─")
		side = part.R(side.X+1, side.Y+1, side.W-2, side.H-1)
	} else {
		s.Column(side.X, side.Y, side.H, t.On(t.Mortar), "│")
		side = part.R(side.X+2, side.Y, side.W-3, side.H)
	}
	if v.filter.Draw(t, s, list.X+1, list.Y, list.W) {
		list.Y, list.H = list.Y+1, list.H-1
	} else if v.odd {
		s.Text(list.X+1, list.Y, list.W-2, t.Hinted(), "only what is not as it should be   (esc shows all)")
		list.Y, list.H = list.Y+1, list.H-1
	}
	v.drawList(s, list)
	v.drawDetail(s, side)
}

func (v *View) drawList(s *part.Screen, r part.Rect) {
	t := v.Theme()
	if len(v.shown) == 0 {
		words := []string{"Nothing is there.", "", "What a stack makes appears here, and whatever else is in the targets.", "1 goes to the stacks; deploy one."}
		if v.filter.Active() {
			words = []string{"Nothing that is there has these words.", "", "esc shows all."}
		} else if v.odd {
			words = []string{"All is as it should be.", "", "esc shows all."}
		}
		for i, l := range words {
			s.Text(r.X+3, r.Y+i, r.W-4, t.Plain(), l)
		}
		v.rows = rows{}
		return
	}
	legend := r.H > 12
	if legend {
		r.H -= 2
	}
	v.list = r
	v.rows.fit(v, r.W-1, r.H)
	at := 0
	if i := v.index(); i >= 0 {
		at = v.rows.cells[i].line
	}
	first := at
	if before := first - 1; before >= 0 && v.rows.lines[before].band >= 0 && v.rows.lines[before].from == v.rows.lines[before].to { // with its title
		first--
	}
	v.top = max(0, min(v.top, first, max(0, len(v.rows.lines)-r.H)))
	if last := at + v.rows.high - 1; last >= v.top+r.H {
		v.top = last - r.H + 1
	}
	for y := 0; y < r.H && v.top+y < len(v.rows.lines); y++ {
		line := v.rows.lines[v.top+y]
		if line.band >= 0 {
			w := r.W
			if v.rows.inline {
				w = v.rows.indent
			}
			v.drawTitle(s, r.X, r.Y+y, w, v.bands[line.band])
		}
		for i := line.from; i < line.to; i++ {
			if v.table {
				v.drawTableRow(s, r.X, r.Y+y, r.W, v.shown[i])
			} else {
				c := v.rows.cells[i]
				v.drawBrick(s, part.R(r.X+c.x, r.Y+y, c.w, 1), v.shown[i], line.line)
			}
		}
	}
	if legend {
		v.drawLegend(s, part.R(r.X, r.Y+r.H+1, r.W, 1))
	}
}

func (v *View) drawTitle(s *part.Screen, x, y, w int, b band) {
	t := v.Theme()
	end := s.Text(x+1, y, w-2, t.Strong(), b.title)
	end = s.Text(end+2, y, w-(end-x)-2, t.Plain(), part.Itoa(b.to-b.from))
	if b.place != "" && end+2+part.Width(b.place) < x+w {
		end = s.Text(end+2, y, w-(end-x)-2, t.Faint(), b.place)
	}
	if b.odd > 0 && x+w-end > 6 {
		s.Text(end+2, y, w-(end-x)-2, part.Bold(t.On(t.Kinds[whatif.Edit].Word)), fmt.Sprintf("≠ %d", b.odd))
	}
}

// look is how a resource looks.
type look struct {
	mark, word string
	paint      part.Paint
}

func (v *View) lookOf(r *app.There) look {
	t := v.Theme()
	switch {
	case r.Gone:
		return look{"□", "gone", t.States[run.Removed]}
	case r.Stray():
		return look{"+", "in no record", t.Kinds[whatif.Adopt]}
	case len(r.Differs) > 0:
		return look{"≠", stack.NotAsRecorded, t.Kinds[whatif.Edit]}
	case r.Unread():
		return look{"?", stack.NotKnown, t.States[run.Waiting]}
	case v.broken[r.Place()] != nil && r.State != "failed":
		return look{"!", "does not keep all rules", part.Paint{Ground: t.Bar, Empty: t.Bar, Text: t.Hint, Word: t.Hint}}
	case r.State == "failed":
		return look{"✖", "failed", t.States[run.HasFailed]}
	case r.State == "creating", r.State == "updating":
		return look{"▶", r.State, t.States[run.Working]}
	case r.State == "suspended":
		return look{"◌", "at rest", t.States[run.Skipped]}
	case r.State == "deleting":
		return look{"▷", "deleting", t.States[run.Removing]}
	case r.Owner == nil:
		return look{"▫", "nobody's", t.States[run.Waiting]}
	case r.Owner.Kept:
		return look{"◇", "left there", t.Kinds[whatif.Keep]}
	case r.Owner.Old:
		return look{"⇅", "of a swap that is not over", t.Kinds[whatif.Swap]}
	}
	return look{"▪", stack.AsRecorded, t.Kinds[whatif.Same]}
}

// drawBrick draws one line of a brick: its name, what it is, or what is to know of it.
func (v *View) drawBrick(s *part.Screen, at part.Rect, r *app.There, line int) {
	t, l := v.Theme(), v.lookOf(r)
	st := uv.Style{Fg: l.paint.Text, Bg: l.paint.Ground}
	if r.Place() == v.sel {
		st = t.Chosen()
	}
	s.Fill(at, st)
	text := l.mark
	switch {
	case line == 1:
		text = r.Shown()
		if is := stateOf(r); is != "ready" {
			text += " · " + is
		}
		text = "   " + part.Clip(text, at.W-4)
	case line == 2:
		text = "   " + part.Clip(v.lately(r), at.W-4)
	case at.W >= named:
		text = " " + l.mark + " " + part.Middle(r.Name(), at.W-3)
	}
	s.Text(at.X, at.Y, at.W, st, text)
}

// lately is what is to know of a resource first: what is not as it should be, or when it last changed.
func (v *View) lately(r *app.There) string {
	switch {
	case len(r.Differs) > 0:
		return "differs in " + cloud.Clean(r.Differs[0].Path) + more(len(r.Differs)-1)
	case len(v.broken[r.Place()]) > 0:
		list := v.broken[r.Place()]
		return "not kept: " + list[0].Rule.ID + more(len(list)-1)
	case r.Changed.IsZero():
		return ""
	}
	return "changed " + part.Ago(r.Changed) + " " + r.By.Words()
}

// more says how many there are beside the first.
func more(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

func (v *View) drawTableRow(s *part.Screen, x, y, w int, r *app.There) {
	t, l := v.Theme(), v.lookOf(r)
	plain, faint, mark := t.Plain(), t.Faint(), t.On(l.paint.Word)
	if r.Place() == v.sel {
		ground := t.Bar
		plain, faint = part.Bold(uv.Style{Fg: t.Bright, Bg: ground}), uv.Style{Fg: t.Dim, Bg: ground}
		mark.Bg = ground
		s.Fill(part.R(x, y, w-1, 1), plain)
		s.Text(x, y, 1, uv.Style{Fg: t.Accent, Bg: ground}, "▌")
	}
	name, typ, id, state := 20, 13, 22, 8
	if w < 84 {
		id = 0
	}
	at := x + 2
	put := func(st uv.Style, width int, text string) {
		if width > 0 && at+2 < x+w {
			s.Text(at, y, min(width, x+w-at-1), st, part.Clip(text, min(width, x+w-at-1)))
			at += width + 1
		}
	}
	put(mark, 1, l.mark)
	put(plain, name, r.Name())
	put(faint, typ, r.Shown())
	put(faint, id, r.ID)
	put(plain, state, stateOf(r))
	put(faint, 20, when(r.Changed))
}

// drawLegend says what the marks mean that are in sight.
func (v *View) drawLegend(s *part.Screen, r part.Rect) {
	t := v.Theme()
	x := r.X + 1
	for _, is := range v.legend {
		l := v.lookOf(is)
		if x+part.Width(l.word)+4 > r.X+r.W {
			break
		}
		x = s.Text(x, r.Y, 2, part.Bold(t.On(l.paint.Word)), l.mark)
		x = s.Text(x+1, r.Y, r.W, t.Faint(), l.word) + 3
	}
}

// when says how long ago something was.
func when(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return part.Ago(at)
}

// drawDetail spells the chosen resource out.
func (v *View) drawDetail(s *part.Screen, r part.Rect) {
	is := v.selected()
	v.side, v.links = r, nil
	if is == nil {
		v.focus = -1
		return
	}
	t, l := v.Theme(), v.lookOf(is)
	x := s.Text(r.X, r.Y, r.W, part.Bold(t.On(l.paint.Word)), l.mark+" "+is.Name())
	s.Text(x+2, r.Y, r.X+r.W-x-2, t.Faint(), is.Shown()+" · "+is.ID)
	words := is.Target.Account + " / " + is.Target.Region + " · " + stateOf(is)
	if is.Owner != nil {
		words = is.Owner.Stack + " in " + words
	} else {
		words = "nobody's, in " + words
	}
	if !is.Changed.IsZero() {
		words += " · changed " + part.Ago(is.Changed)
		if is.By.Kind != stack.Outside {
			words += " " + is.By.Words()
		}
	}
	head := part.Wrap(words, r.W)
	head = head[:min(2, len(head))]
	for i, piece := range head {
		s.Text(r.X, r.Y+1+i, r.W, t.Faint(), piece)
	}
	lines := v.details(is, r.W)
	v.at = r.Y + 2 + len(head)
	room := r.Y + r.H - v.at
	if len(lines) > room {
		room--
	}
	v.focus = min(v.focus, len(v.links)-1)
	if v.focus >= 0 {
		at := v.links[v.focus].line
		v.scroll = max(min(v.scroll, at), at-room+2)
		lines[at] = append([]part.Span{part.S(part.Bold(t.On(t.Accent)), "▸ ")}, lines[at][1:]...)
	}
	v.scroll = max(0, min(v.scroll, len(lines)-room))
	for i, l := range lines[v.scroll:min(len(lines), v.scroll+max(0, room))] {
		s.Spans(r.X, v.at+i, r.W, l...)
	}
	if v.scroll+room < len(lines) {
		s.MoreBelow(r, t, len(lines)-v.scroll-room)
	}
}

// details are the lines of the chosen resource; they set the links.
func (v *View) details(is *app.There, w int) [][]part.Span {
	t := v.Theme()
	var out [][]part.Span
	add := func(pieces ...part.Span) { out = append(out, pieces) }
	title := func(text string) {
		if len(out) > 0 {
			add()
		}
		add(part.S(part.Bold(t.Hinted()), text))
	}
	switch {
	case is.Gone:
		for _, l := range part.Wrap(stack.GoneWords(is.ID), w) {
			add(part.S(t.Plain(), l))
		}
		v.timeLine(is, w, title, add)
		return out
	case is.Stray():
		for _, l := range part.Wrap(stack.StrayWords(is.By), w) {
			add(part.S(t.Plain(), l))
		}
	case is.Unread():
		for _, l := range part.Wrap("It could not be read, and is shown as last known: "+is.Why, w) {
			add(part.S(t.Plain(), l))
		}
	}
	if len(is.Differs) > 0 {
		v.differing(is, w, title, add)
	}
	if list := v.broken[is.Place()]; len(list) > 0 {
		title("rules that it does not keep")
		for _, k := range list {
			head := part.S(t.Hinted(), "  ! ")
			for _, l := range part.Wrap(fmt.Sprintf("%s: %s (since %s)", k.Rule.ID, k.Rule.Message, k.Since.Local().Format("2006-01-02 15:04")), w-4) {
				add(head, part.S(t.Plain(), l))
				head = part.S(t.Plain(), "    ")
			}
			for _, l := range part.Wrap(k.Rule.Fix, w-4) {
				add(part.S(t.Hinted(), "    "+l))
			}
		}
	}
	if len(is.Links) > 0 {
		title("uses")
		for _, q := range slices.Sorted(maps.Keys(is.Links)) {
			for _, id := range is.Links[q] {
				v.linkLine(&out, app.Place{Target: is.Target, ID: id}, q)
			}
		}
	}
	title("used by")
	if len(is.UsedBy) == 0 {
		add(part.S(t.Faint(), "  nothing in its target"))
	}
	for _, id := range is.UsedBy {
		v.linkLine(&out, app.Place{Target: is.Target, ID: id}, "")
	}
	v.timeLine(is, w, title, add)
	if len(is.Tags) > 0 {
		title("tags")
		for _, k := range slices.Sorted(maps.Keys(is.Tags)) {
			st := t.Plain()
			if k == "stack" || k == "node" {
				st = t.Faint()
			}
			value(&out, t, st, k, is.Tags[k], w, v.whole)
		}
	}
	for _, part := range []struct {
		title string
		of    map[string]tosca.Value
	}{{"properties", is.Properties}, {"attributes", is.Attributes}} {
		keys := slices.DeleteFunc(slices.Sorted(maps.Keys(part.of)), func(k string) bool { return k == "tags" || k == "id" })
		if len(keys) == 0 {
			continue
		}
		title(part.title)
		for _, k := range keys {
			value(&out, t, t.Plain(), k, tosca.Show(part.of[k]), w, v.whole)
		}
	}
	return out
}

// value adds a name with its value, in as many lines as that takes, up to four or all.
func value(out *[][]part.Span, t *part.Theme, st uv.Style, name, text string, w int, whole bool) {
	const column = 18
	head := fmt.Sprintf("  %-*s ", column-3, part.Clip(cloud.Clean(name), column-3))
	pieces := part.Wrap(cloud.Clean(text), max(10, w-column))
	if len(pieces) > 4 && !whole {
		pieces = append(pieces[:3:3], "… v shows all")
	}
	for _, p := range pieces {
		*out = append(*out, []part.Span{part.S(t.Faint(), head), part.S(st, p)})
		head = strings.Repeat(" ", column)
	}
}

// linkLine adds a line that leads to another resource.
func (v *View) linkLine(out *[][]part.Span, to app.Place, as string) {
	t := v.Theme()
	name, rest := to.ID, ""
	if is := v.inv.At(to); is != nil {
		name, rest = is.Name(), is.Shown()
		if as != "" {
			rest += " · as " + as
		}
	} else {
		rest = "not in what the cloud has shown"
	}
	v.links = append(v.links, link{len(*out), to})
	*out = append(*out, []part.Span{part.S(t.Faint(), "  "), part.S(t.Plain(), name), part.S(t.Faint(), "  "+rest)})
}

// differing adds what differs, in three columns: wanted, recorded, really there.
func (v *View) differing(is *app.There, w int, title func(string), add func(...part.Span)) {
	t := v.Theme()
	amber := part.Bold(t.On(t.Kinds[whatif.Edit].Word))
	title(stack.NotAsRecorded)
	third := max(8, (w-4)/3)
	three := func(st [3]uv.Style, text [3]string) {
		var columns [3][]string
		most := 0
		for i, c := range text {
			columns[i] = part.Wrap(c, third-1)
			if len(columns[i]) > 6 && !v.whole {
				columns[i] = append(columns[i][:5:5], "… v: all")
			}
			most = max(most, len(columns[i]))
		}
		for y := range most {
			line := []part.Span{part.S(t.Plain(), "  ")}
			for i, c := range columns {
				text := ""
				if y < len(c) {
					text = c[y]
				}
				line = append(line, part.S(st[i], text+strings.Repeat(" ", max(1, third-part.Width(text)))))
			}
			add(line...)
		}
	}
	three([3]uv.Style{t.Faint(), t.Faint(), t.Faint()}, [3]string{"wanted", "recorded", "really there"})
	for _, d := range is.Differs {
		add(part.S(t.Strong(), "  "+cloud.Clean(d.Path)))
		three([3]uv.Style{t.Plain(), t.Plain(), amber}, [3]string{shown(d.Wanted), shown(d.Before), shown(d.After)})
	}
}

// mostMarks is how many changes the strip of a time line has.
const mostMarks = 12

// timeLine adds what has become of a resource: a strip with a mark for each change, and the
// changes, the newest first.
func (v *View) timeLine(is *app.There, w int, title func(string), add func(...part.Span)) {
	t := v.Theme()
	list, known := v.lines[is.Place()]
	if known && len(list) == 0 {
		return
	}
	title("time line")
	if !known {
		add(part.S(t.Faint(), "  reading …"))
		return
	}
	strip := []part.Span{part.S(t.On(t.Mortar), "  ")}
	for _, one := range slices.Backward(list[:min(len(list), mostMarks)]) {
		mark, col := part.TraceLook(t, &one)
		strip = append(strip, part.S(t.On(t.Mortar), "──"), part.S(part.Bold(t.On(col)), mark))
	}
	add(append(strip, part.S(t.On(t.Mortar), "──"))...)
	for i, one := range list {
		if i == 8 && !v.whole {
			add(part.S(t.Faint(), fmt.Sprintf("  … %d earlier, v shows all", len(list)-i)))
			break
		}
		mark, col := part.TraceLook(t, &one)
		words := fmt.Sprintf("%s %s, %s", one.Kind, part.Ago(one.At), one.Who())
		if one.ID != is.ID {
			words += " (" + one.ID + ")"
		}
		head := part.S(part.Bold(t.On(col)), "  "+mark+" ")
		for _, l := range part.Wrap(words, w-4) {
			add(head, part.S(t.Plain(), l))
			head = part.S(t.Plain(), "    ")
		}
		for _, c := range one.Differences {
			for _, l := range part.Wrap(cloud.Clean(c.Path)+"  "+shown(c.Before)+" → "+shown(c.After), w-6) {
				add(part.S(t.Faint(), "      "+l))
			}
		}
	}
}

func shown(v tosca.Value) string {
	if v == nil {
		return "not set"
	}
	return cloud.Clean(tosca.Show(v))
}
