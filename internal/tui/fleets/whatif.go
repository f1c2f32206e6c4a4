package fleets

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/fleet"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

// looking is a what-if of a fleet: while all places are looked at, and then what would happen in them.
type looking struct {
	file  string
	kind  run.Kind
	stop  context.CancelFunc
	done  atomic.Int64
	all   atomic.Int64
	pv    *app.FleetPreview // nil while they are looked at
	err   error
	alike map[string]int // how many places are as the first of them, by its target
	kinds int            // how many such firsts there are
	wrong int            // places in which nothing can be done
	down  int            // how far the details are scrolled
	long  bool           // there is more than is in sight
	of    drawnFor       // what the details are of
	lines []line
}

// lookedAt is what came of it.
type lookedAt struct {
	of  *looking
	pv  *app.FleetPreview
	err error
}

// begun says that a rollout was begun, or why not.
type begun struct {
	of  *looking
	msg tea.Msg
}

// ended reports whether a deployment could begin: none is under way, and there is a file that says what it does.
func (v *View) ended() bool {
	return v.whatif == nil && v.files[v.name] != "" && (v.r == nil || v.r.State.Ended())
}

// would looks what a deployment of the shown fleet would do, or its deletion.
func (v *View) would(kind run.Kind) func() tea.Cmd {
	return func() tea.Cmd {
		ctx, stop := context.WithCancel(v.Context())
		l := &looking{file: v.files[v.name], kind: kind, stop: stop}
		v.whatif, v.places, v.scroll = l, nil, 0
		v.lay()
		return func() tea.Msg {
			defer stop()
			if err := v.App().FleetIsFree(ctx, l.file); err != nil {
				return lookedAt{l, nil, err}
			}
			pv, err := v.App().FleetWhatIf(ctx, l.file, kind, app.Values{}, func(done, all int) {
				l.done.Store(int64(done))
				l.all.Store(int64(all))
			})
			return lookedAt{l, pv, err}
		}
	}
}

// looked shows what was looked at, unless it was left meanwhile.
func (v *View) looked(msg lookedAt) tea.Cmd {
	l := msg.of
	if v.whatif != l {
		return nil
	}
	if l.pv, l.err = msg.pv, msg.err; l.err != nil {
		return nil
	}
	l.alike, l.wrong = map[string]int{}, l.pv.WrongIn()
	v.places = nil
	for i, x := range l.pv.Places {
		first := x.SameAs
		if first == "" {
			first = x.Target.String()
			l.kinds++
		}
		l.alike[first]++
		p := app.PlaceOf{Position: i, Target: x.Target, Stack: x.Stack, Wave: x.Wave, Kind: x.Kind, State: fleet.Waiting, Careful: x.Careful, Tally: x.Tally}
		if x.Findings.HasErrors() {
			p.State = fleet.Failed
		}
		v.places = append(v.places, p)
	}
	if !v.chosen {
		v.waves = len(v.places) >= many
	}
	v.lay()
	return nil
}

// leave goes back to how the fleet stands.
func (v *View) leave() tea.Cmd {
	v.whatif.stop()
	v.whatif, v.ready, v.r, v.places, v.scroll = nil, false, nil, nil, 0
	v.lay()
	return v.load()
}

// bindings are the keys of a what-if.
func (l *looking) bindings(v *View) []part.Binding {
	var keys []part.Binding
	if l.pv != nil && l.wrong == 0 && !l.pv.Empty() {
		words := "deploy"
		if l.kind == run.KindDelete {
			words = "delete"
		}
		keys = append(keys, part.Bind(v.begin(nil), "d").Shown("d", words).As("Carry out what would happen in all places"),
			part.Bind(v.begin(&app.Queueing{}), "D").Shown("D", "let workers do it").As("Let workers carry it out"))
	}
	if !v.filter.Active() {
		keys = append(keys, part.Bind(v.leave, "esc").Shown("esc", "leave it"))
	}
	if l.pv != nil && (l.kinds > 1 || l.wrong > 0) {
		keys = append(keys, part.Bind(v.another, "tab").Shown("tab", "next that differs").As("Go to the next place in which something else would happen"))
	}
	if l.pv != nil {
		down := part.Bind(part.Run(func() { l.down += 5 }), "pgdown")
		if l.long {
			down = down.Shown("pgdn", "more of the details").As("")
		}
		keys = append(keys, down,
			part.Bind(part.Run(func() { l.down = max(0, l.down-5) }), "pgup"))
	}
	if l.pv != nil || l.err != nil {
		keys = append(keys, part.Bind(v.would(l.kind), "r").Shown("r", "look again"))
	}
	return keys
}

// another goes to the next place that is the first of those in which something else would happen.
func (v *View) another() tea.Cmd {
	at := slices.IndexFunc(v.shown, func(i int) bool { return v.places[i].Target == v.sel })
	for n := range v.shown {
		i := v.shown[(at+1+n)%len(v.shown)]
		if v.whatif.pv.Places[i].SameAs == "" {
			return v.choose(i)
		}
	}
	return nil
}

// begin asks, and begins a rollout: in a process of its own, or in a queue.
func (v *View) begin(q *app.Queueing) func() tea.Cmd {
	return func() tea.Cmd {
		l := v.whatif
		ask := part.NewAsk(l.pv.Question(), l.pv.Consent().Word(), func(string) tea.Cmd {
			return func() tea.Msg {
				r, err := v.App().StartFleet(v.Context(), l.pv, "", q)
				msg := v.carryOn(r, err)
				if _, done := msg.(part.Done); done {
					msg = part.Done{Words: fmt.Sprintf("rollout %d of %s begins", r.Number, r.Fleet)}
				}
				return begun{l, msg}
			}
		})
		for _, name := range l.pv.Leaving() {
			ask.Details = append(ask.Details, "▽ "+name+" has left the file, and is removed")
		}
		if n := l.pv.Lost(); n > 0 {
			ask.Details = append(ask.Details, "data would go in "+stack.Count(n, "case"))
		}
		if q != nil {
			ask.Details = append(ask.Details, "It waits in the queue "+app.UsualQueue+" until workers take it.")
		}
		v.Ask(ask)
		return nil
	}
}

// begins hears what came of it.
func (v *View) begins(msg begun) tea.Cmd {
	tell := func() tea.Msg { return msg.msg }
	if _, failed := msg.msg.(part.Failed); failed || v.whatif != msg.of {
		return tell
	}
	return tea.Batch(v.leave(), tell)
}

// title says what is looked at.
func (l *looking) title() string {
	if l.kind == run.KindDelete {
		return "fleet · what a deletion would do"
	}
	return "fleet · what a deployment would do"
}

// hint is the next step in words.
func (l *looking) hint() string {
	switch {
	case l.err != nil:
		return "r looks again, esc leaves it"
	case l.pv == nil:
		return "nothing is changed; esc leaves it"
	case l.wrong > 0:
		return "nothing can begin while something is wrong: tab goes there"
	case l.pv.Empty():
		return "there is nothing to do; esc leaves it"
	case l.kind == run.KindDelete:
		return "nothing is deleted yet: d deletes it"
	}
	return "nothing is changed yet: d deploys it"
}

// drawHead says how far it is, or what would happen in all places.
func (l *looking) drawHead(t *part.Theme, s *part.Screen, r part.Rect) {
	if l.pv == nil {
		words := "looking …"
		if all := l.all.Load(); all > 0 {
			words = fmt.Sprintf("%d of %d places looked at", l.done.Load(), all)
		}
		s.Text(r.X+1, r.Y, r.W-2, t.Strong(), words)
		return
	}
	x := s.Text(r.X+1, r.Y, r.W-2, t.Strong(), stack.Count(len(l.pv.Places), "place"))
	put := func(st uv.Style, text string) {
		x = s.Text(x+3, r.Y, max(0, r.X+r.W-x-4), st, text)
	}
	if l.wrong == len(l.pv.Places) {
		put(t.On(t.States[run.HasFailed].Word), "✖ nothing can be done in any of them")
		return
	}
	put(t.Plain(), l.pv.Tally.String())
	if l.wrong > 0 {
		put(t.On(t.States[run.HasFailed].Word), fmt.Sprintf("✖ nothing can be done in %d", l.wrong))
	}
	same := 0
	for _, n := range l.alike {
		same = max(same, n)
	}
	if rest := len(l.pv.Places) - same; rest > 0 {
		put(t.Faint(), fmt.Sprintf("the same in %d, something else in %d", same, rest))
	} else {
		put(t.Faint(), "the same in all")
	}
}

// order is the order in which the bricks of a place stand, what is new on top of what stays.
var order = []whatif.Kind{whatif.Drop, whatif.Swap, whatif.Edit, whatif.New, whatif.Adopt, whatif.Keep, whatif.Same}

func countOf(y whatif.Tally, k whatif.Kind) int {
	switch k {
	case whatif.Drop:
		return y.Drop
	case whatif.Swap:
		return y.Swap
	case whatif.Edit:
		return y.Edit
	case whatif.New:
		return y.New
	case whatif.Adopt:
		return y.Adopt
	case whatif.Keep:
		return y.Keep
	}
	return y.Same
}

// most is the gravest that would happen.
func most(y whatif.Tally) whatif.Kind {
	for _, k := range order {
		if countOf(y, k) > 0 {
			return k
		}
	}
	return whatif.Same
}

// bricks draws what would happen to the resources of a place, a brick each; where there is no room for all, in their
// proportion.
func bricks(t *part.Theme, s *part.Screen, x, y, room int, tally whatif.Tally, on func(part.Paint) uv.Style) {
	all := 0
	for _, k := range order {
		all += countOf(tally, k)
	}
	left := room
	for _, k := range order {
		n := countOf(tally, k)
		if n > 0 && all > room {
			n = max(1, n*room/all)
		}
		n = min(n, left)
		mark := k.Mark()
		if k == whatif.Same {
			mark = "▪"
		}
		s.Text(x, y, n, on(t.Kinds[k]), strings.Repeat(mark, n))
		x, left = x+n, left-n
	}
}

// drawnFor is what details were made for.
type drawnFor struct {
	place, wide int
	theme       *part.Theme
}

// line is one of the details of a place.
type line struct {
	style uv.Style
	text  string
}

// drawPlace draws what would happen in the chosen place, as far as it is scrolled.
func (l *looking) drawPlace(v *View, s *part.Screen, r part.Rect) {
	p := v.selected()
	if p == nil || r.H < 1 {
		return
	}
	if of := (drawnFor{p.Position, r.W, v.Theme()}); of != l.of {
		l.of, l.lines = of, l.details(v.Theme(), p, r.W)
	}
	l.down, l.long = max(0, min(l.down, len(l.lines)-r.H)), len(l.lines) > r.H
	for y, at := range l.lines[l.down:min(len(l.lines), l.down+r.H)] {
		if rest := len(l.lines) - l.down - r.H; y == r.H-1 && rest > 0 {
			at = line{v.Theme().Faint(), stack.Count(rest+1, "line") + " more: pgdn"}
		}
		s.Text(r.X, r.Y+y, r.W, at.style, at.text)
	}
}

// details say what would happen in a place.
func (l *looking) details(t *part.Theme, p *app.PlaceOf, w int) (out []line) {
	x := &l.pv.Places[p.Position]
	put := func(st uv.Style, indent, text string) {
		for _, words := range part.Wrap(text, w-part.Width(indent)) {
			out = append(out, line{st, indent + words})
			indent = strings.Repeat(" ", part.Width(indent))
		}
	}
	blank := func() { out = append(out, line{}) }
	put(t.Strong(), "", p.Target.Account+" / "+p.Target.Region)
	put(t.Faint(), "", p.Stack)
	about := fmt.Sprintf("wave %d", p.Wave)
	if x.Careful {
		about += " · careful: it asks before it begins"
	}
	put(t.Plain(), "", about)
	if x.Kind == run.KindDelete && l.kind == run.KindDeploy {
		put(t.On(t.Kinds[whatif.Drop].Word), "", "it has left the file, and is removed")
	}
	first := x.SameAs
	if first == "" {
		first = x.Target.String()
	}
	if n := l.alike[first]; n > 1 {
		put(t.Faint(), "", "the same in "+stack.Count(n, "place"))
	} else if len(l.pv.Places) > 1 {
		put(t.Faint(), "", "like no other place")
	}
	if len(x.Inputs) > 0 {
		blank()
		put(t.Faint(), "", "its own values")
		put(t.Plain(), "", inputs(x.Inputs))
	}
	for _, f := range x.Findings {
		if f.Severity != tosca.Error {
			continue
		}
		blank()
		put(t.On(t.States[run.HasFailed].Word), "✖ ", cloud.Clean(f.Message))
		put(t.Faint(), "  ", fmt.Sprintf("%s, line %d", filepath.Base(f.File), f.Line))
		if f.Fix != "" {
			put(t.Plain(), "  ", cloud.Clean(f.Fix))
		}
	}
	if x.Findings.HasErrors() {
		return out
	}
	for _, risk := range x.Lost {
		blank()
		put(t.Hinted(), "! ", risk.Text)
	}
	i := slices.IndexFunc(l.pv.Places, func(o app.FleetPlace) bool { return o.Target.String() == first })
	blank()
	for _, c := range l.pv.Places[i].Preview.Alike() {
		paint := t.Kinds[c.Kind]
		put(t.On(paint.Word), c.Kind.Mark()+" ", fmt.Sprintf("%s %s  (%s)", c.Kind, c.Title(), c.About()))
		if c.Kind == whatif.New {
			continue
		}
		if c.Kind == whatif.Edit || c.Kind == whatif.Swap {
			for _, pr := range c.Properties {
				put(t.Plain(), "    ", propertyWords(pr))
			}
		}
		for n, why := range c.Because {
			if n == 0 {
				put(t.Faint(), "    ", "because "+why)
			}
		}
	}
	switch n := x.Tally.Same; {
	case n == 1:
		put(t.Faint(), "▪ ", "1 stays as it is")
	case n > 1:
		put(t.Faint(), "▪ ", fmt.Sprintf("%d stay as they are", n))
	}
	return out
}

// propertyWords say how a property changes.
func propertyWords(c stack.PropertyChange) string {
	before, after := c.Words()
	return cloud.Clean(fmt.Sprintf("%s %s → %s", c.Path, before, after))
}
