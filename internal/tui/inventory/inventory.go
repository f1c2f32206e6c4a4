// Package inventory is the view of what is really there in the cloud: whose it is, what is
// not as it should be, and what uses what.
package inventory

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// View shows what is there.
type View struct {
	part.Shell
	inv     *app.Inventory
	err     error
	loading bool
	sel     app.Place
	by      grouping
	table   bool
	odd     bool // only what is not as it should be
	whole   bool // long values are shown whole
	filter  part.Filter
	shown   []*app.There // what passes the filter, in the order of the bands
	bands   []band
	version int // of what is shown
	places  map[app.Place]int
	said    []string // how many there are
	texts   []string // what the filter looks in, of all that is there
	textsOf *app.Inventory
	textsAt int          // how many keep not all rules
	legend  []*app.There // one for each mark
	rows    rows
	tight   rows // with as little of the details as can be, in a narrow window
	top     int
	list    part.Rect
	side    part.Rect
	at      int    // where the details begin on the screen
	scroll  int    // of the details
	links   []link // in the details, of the last drawing
	focus   int    // the marked link; -1 is none
	back    []app.Place
	patch   part.Patch
	heard   map[app.Place]bool
	lines   map[app.Place][]stack.Trace // the time lines that were read
	broken  map[app.Place][]app.Kept    // the rules that are not kept
	reading app.Place                   // whose time line is being read
	asking  bool
	follows *feed
}

// New is the view.
func New(sh part.Shell) *View {
	return &View{Shell: sh, filter: part.NewFilter(), focus: -1, heard: map[app.Place]bool{}, lines: map[app.Place][]stack.Trace{}}
}

// Name is what stands in the line of views.
func (v *View) Name() string { return "Cloud" }

// Roams says that no stack has to be chosen.
func (v *View) Roams() bool { return true }

// Accepts takes the wish to see a resource.
func (v *View) Accepts(intent any) bool {
	_, ok := intent.(part.ShowThere)
	return ok
}

// Typing reports whether the filter is being typed.
func (v *View) Typing() bool { return v.filter.Typing }

// grouping is how what is there is put into bands.
type grouping int

const (
	byOwner grouping = iota
	byType
	byState
	byTag
	byNode // the nodes that templates of their own fill
)

var groupWords = map[grouping]string{byOwner: "whose it is", byType: "type", byState: "state", byTag: "tag", byNode: "the node that they fill"}

// band is some of what is there under one title.
type band struct {
	title, place string
	from, to     int // in what is shown
	odd          int
}

// link is a line of the details that leads to another resource.
type link struct {
	line int
	to   app.Place
}

type (
	looked struct {
		inv *app.Inventory
		err error
	}
	happened struct{ at app.Place }
	askAgain struct{}
	changed  struct { // by hand
		words string
		at    app.Place
	}
)

// feed is what the cloud tells by itself.
type feed struct {
	places chan app.Place
	stop   context.CancelFunc
}

// Update hears a message.
func (v *View) Update(msg tea.Msg) tea.Cmd { return tea.Batch(v.update(msg), v.readLine()) }

// lineRead is the time line of a resource.
type lineRead struct {
	of   app.Place
	list []stack.Trace
}

// readLine reads the time line of the chosen resource, where it is not known.
func (v *View) readLine() tea.Cmd {
	r := v.selected()
	if r == nil || v.reading != (app.Place{}) || !v.Front(v) {
		return nil
	}
	of := r.Place()
	if _, known := v.lines[of]; known {
		return nil
	}
	v.reading = of
	return func() tea.Msg {
		list, err := v.App().TraceOf(v.Context(), of)
		if err != nil {
			list = nil // it is shown elsewhere that the store cannot be read
		}
		return lineRead{of, list}
	}
}

func (v *View) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case part.Opened:
		return v.open()
	case looked:
		return v.looked(msg)
	case happened:
		return v.happened(msg.at)
	case askAgain:
		return v.catchUp()
	case judged:
		if msg.inv == v.inv {
			v.broken = msg.broken
			v.lay()
		}
	case lineRead:
		v.lines[msg.of], v.reading = msg.list, app.Place{}
	case changed:
		v.Say("%s", msg.words)
		v.heard[msg.at] = true
		return v.catchUp()
	case part.Patched:
		if msg.For == part.View(v) {
			v.patch.Hear(v, msg)
		}
	case part.ShowThere:
		v.Bring(v)
		v.choose(app.Place(msg))
		if v.inv != nil && v.selected() == nil {
			v.Say("%s is not there any more", msg.ID)
		}
		return v.open()
	case part.StoreChanged:
		if v.Front(v) && v.inv != nil && !v.loading { // a run may have made it another stack's
			v.asking = false
			return v.catchUp()
		}
	case part.Click:
		return v.click(msg.X, msg.Y)
	case part.Wheel:
		if v.patch.Written != nil {
			v.patch.Scroll(3 * msg.By)
			return nil
		}
		v.move(0, msg.By)
	case tea.KeyPressMsg, tea.PasteMsg:
		if v.filter.Typing {
			return v.filter.Update(msg, v.lay)
		}
	}
	return nil
}

// open asks for what is there, where that is not known or may be old.
func (v *View) open() tea.Cmd {
	if v.loading || v.inv != nil && v.follows != nil {
		return v.catchUp()
	}
	return v.look()
}

func (v *View) look() tea.Cmd {
	if v.loading {
		return nil
	}
	v.loading = true
	return func() tea.Msg {
		inv, err := v.App().Look(v.Context())
		return looked{inv, err}
	}
}

func (v *View) looked(msg looked) tea.Cmd {
	v.loading, v.err = false, msg.err
	if msg.err != nil {
		if v.inv != nil {
			v.Warn("the cloud does not say what is there: %v", msg.err)
		}
		return nil
	}
	v.inv = msg.inv
	clear(v.lines)
	v.lay()
	return tea.Batch(v.judge(), v.followOn())
}

// judged is what what is there keeps of the rules, and does not.
type judged struct {
	inv    *app.Inventory
	broken map[app.Place][]app.Kept
}

// judge holds what is there against the rules.
func (v *View) judge() tea.Cmd {
	inv := v.inv
	return func() tea.Msg {
		list, _, err := v.App().Compliance(v.Context(), inv)
		if err != nil {
			return part.Failed{Doing: "hold what is there against the rules", Err: err}
		}
		out := judged{inv, map[app.Place][]app.Kept{}}
		for _, k := range app.Broken(list) {
			out.broken[k.Resource.Place()] = append(out.broken[k.Resource.Place()], k)
		}
		return out
	}
}

// followOn goes on hearing what the cloud tells.
func (v *View) followOn() tea.Cmd {
	if v.follows != nil {
		if len(v.heard) > 0 { // meanwhile
			return v.catchUp()
		}
		return nil
	}
	ctx, stop := context.WithCancel(v.Context())
	f := &feed{make(chan app.Place, 256), stop}
	v.follows = f
	targets := v.inv.Targets
	go func() {
		v.App().Follow(ctx, targets, func(p app.Place) {
			select {
			case f.places <- p:
			case <-ctx.Done():
			}
		})
		close(f.places)
	}()
	return v.listen()
}

// listen waits for what the cloud tells.
func (v *View) listen() tea.Cmd {
	f := v.follows
	return v.Wait(func() tea.Msg {
		p, ok := <-f.places
		if !ok {
			return nil
		}
		return happened{p}
	})
}

// patience is how long what happens is gathered, so that a run of a thousand steps does not
// ask a thousand times.
const patience = 400 * time.Millisecond

func (v *View) happened(p app.Place) tea.Cmd {
	v.heard[p] = true
	if v.asking || !v.Front(v) {
		return v.listen()
	}
	v.asking = true
	return tea.Batch(v.listen(), v.Later(patience, askAgain{}))
}

// catchUp asks for what has changed since.
func (v *View) catchUp() tea.Cmd {
	v.asking = false
	if v.loading || v.inv == nil { // it is asked for again then
		return nil
	}
	places := slices.Collect(maps.Keys(v.heard))
	v.heard = map[app.Place]bool{}
	v.loading = true
	inv := v.inv
	return func() tea.Msg {
		now, err := v.App().LookAgain(v.Context(), inv, places)
		return looked{now, err}
	}
}

// lay puts what passes the filter into bands, and keeps the selection.
func (v *View) lay() {
	v.version++
	v.shown, v.bands, v.legend = nil, nil, nil
	if v.inv == nil {
		return
	}
	if v.filter.Active() && v.textsOf != v.inv || v.textsAt != len(v.broken) {
		v.texts, v.textsOf = make([]string, len(v.inv.There)), v.inv
		v.textsAt = len(v.broken)
		for i, r := range v.inv.There {
			v.texts[i] = strings.ToLower(v.words(r))
		}
	}
	filter := v.filter.Words()
	titles := map[*app.There]string{}
	for i, r := range v.inv.There {
		if v.odd && !r.Odd() && v.broken[r.Place()] == nil || v.filter.Active() && !part.HasAll(v.texts[i], filter) {
			continue
		}
		v.shown = append(v.shown, r)
		titles[r] = v.title(r)
	}
	if v.by != byOwner {
		slices.SortStableFunc(v.shown, func(a, b *app.There) int {
			return cmp.Or(last(titles[a])-last(titles[b]), strings.Compare(titles[a], titles[b]))
		})
	}
	v.places = make(map[app.Place]int, len(v.shown))
	for i, r := range v.shown {
		v.places[r.Place()] = i
		place := ""
		if v.by == byOwner {
			place = r.Target.Account + " / " + r.Target.Region
		}
		if n := len(v.bands); n == 0 || v.bands[n-1].title != titles[r] || v.bands[n-1].place != place {
			v.bands = append(v.bands, band{title: titles[r], place: place, from: i})
		}
		b := &v.bands[len(v.bands)-1]
		b.to = i + 1
		if r.Odd() {
			b.odd++
		}
	}
	marks := map[string]bool{}
	for _, r := range v.shown {
		if l := v.lookOf(r); !marks[l.mark] {
			marks[l.mark] = true
			v.legend = append(v.legend, r)
		}
	}
	v.said = v.counts()
	if v.selected() == nil && len(v.shown) > 0 {
		v.sel, v.scroll, v.focus = v.first(), 0, -1
	}
}

// first is where one begins to look: at what is not as it should be, of the chosen stack where there are several.
func (v *View) first() app.Place {
	about, best, rank := v.Subject(), v.shown[0], 0
	for _, r := range v.shown {
		n := 0
		if o := r.Owner; o != nil && o.Of != nil && o.Of.Name == about.Name && o.Of.Target.String() == about.Target {
			n = 1
		}
		if r.Odd() {
			n += 2
		}
		if n > rank {
			best, rank = r, n
		}
	}
	return best.Place()
}

// noTag and noNode are the titles of what has none.
const noTag, noNode = "no tag", "standing for themselves"

func last(title string) int {
	if title == noTag || title == noNode {
		return 1
	}
	return 0
}

func (v *View) title(r *app.There) string {
	switch v.by {
	case byType:
		return r.Shown()
	case byNode:
		if r.Owner == nil || stack.FilledNode(r.Owner.Node) == "" {
			return noNode
		}
		return stack.FilledNode(r.Owner.Node) + " of " + r.Owner.Stack
	case byState:
		return stateOf(r)
	case byTag:
		var own []string
		for k, val := range r.Tags {
			if !stack.OwnTag(k) {
				own = append(own, k+"="+val)
			}
		}
		if len(own) == 0 {
			return noTag
		}
		slices.Sort(own)
		return strings.Join(own, " ")
	}
	switch {
	case r.Owner == nil:
		return "nobody's"
	case r.Owner.Of == nil:
		return r.Owner.Stack + ", of another store"
	}
	return r.Owner.Stack
}

func stateOf(r *app.There) string {
	if r.Gone {
		return "gone"
	}
	return r.State
}

// words are what the filter looks in.
func (v *View) words(r *app.There) string {
	out := []string{r.Name(), r.Shown(), r.ID, stateOf(r), r.Target.String()}
	if r.Owner != nil {
		out = append(out, r.Owner.Stack)
	} else {
		out = append(out, "nobody's")
	}
	for k, val := range r.Tags {
		out = append(out, k+"="+val)
	}
	if r.Odd() {
		out = append(out, "differs")
	}
	for _, k := range v.broken[r.Place()] {
		out = append(out, k.Rule.ID)
	}
	return strings.Join(out, " ")
}

// selected is the chosen resource; nil where none is.
func (v *View) selected() *app.There {
	if v.inv == nil {
		return nil
	}
	r := v.inv.At(v.sel)
	if r == nil || v.index() < 0 {
		return nil
	}
	return r
}

func (v *View) index() int {
	if i, shown := v.places[v.sel]; shown {
		return i
	}
	return -1
}

func (v *View) choose(p app.Place) {
	v.sel, v.scroll, v.focus = p, 0, -1
	if v.index() < 0 { // filtered out
		v.filter.Input.SetValue("")
		v.odd = false
		v.lay()
		v.sel = p
	}
}

// owner is the stack of the chosen resource, as all views may be about it; none is empty.
func (v *View) owner() part.Subject {
	r := v.selected()
	if r == nil || r.Owner == nil || r.Owner.Of == nil {
		return part.Subject{}
	}
	st := r.Owner.Of
	return part.Subject{Name: st.Name, File: st.StackFile, Target: st.Target.String(), Stack: st, Careful: st.Careful}
}

// take makes the stack of the chosen resource the one that all views are about: it was chosen, or is acted on.
func (v *View) take() {
	if about := v.owner(); about.Name != "" && !about.Is(v.Subject()) {
		v.About(about)
	}
}

// move goes about among the bricks: dx along them, dy from row to row.
func (v *View) move(dx, dy int) {
	i := v.index()
	if i < 0 || len(v.shown) == 0 {
		return
	}
	if dy != 0 {
		i = v.rows.beside(i, dy)
	}
	i = max(0, min(len(v.shown)-1, i+dx))
	v.sel, v.scroll, v.focus = v.shown[i].Place(), 0, -1
}

// next goes to the next resource that is not as it should be.
func (v *View) next(by int) {
	n, i := len(v.shown), v.index()
	for k := 1; k <= n; k++ {
		if r := v.shown[((i+k*by)%n+n)%n]; r.Odd() {
			v.choose(r.Place())
			return
		}
	}
	v.Say("nothing that is shown differs from the record")
}

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	keys := v.keys()
	if v.filter.Typing {
		return keys
	}
	for i, b := range keys {
		keys[i].Do = func() tea.Cmd { return tea.Batch(b.Do(), v.readLine()) }
	}
	return keys
}

func (v *View) keys() []part.Binding {
	if v.patch.Written != nil {
		return v.patch.Bindings(v.saveWritten)
	}
	if v.filter.Typing {
		return v.filter.Bindings()
	}
	again := part.Bind(v.look, "r").Shown("r", "ask again")
	if v.inv == nil {
		return []part.Binding{again}
	}
	r := v.selected()
	var keys []part.Binding
	if r != nil {
		keys = append(keys, v.oddKeys(r)...)
		if about := v.owner(); about.Name != "" && !about.Is(v.Subject()) {
			keys = append(keys, part.Bind(part.Run(v.take), "s").Shown("s", "choose "+about.Name).
				As("Choose the stack of what is marked, for all views"))
		}
		keys = append(keys, v.wholeKeys(r)...)
		if len(v.links) > 0 {
			keys = append(keys, part.Bind(part.Run(func() { v.focus = 0 }), "enter").Shown("enter", "what it uses").
				As("Walk along what it uses, and what uses it"))
		}
	}
	odd := part.Bind(part.Run(func() { v.next(1) }), "n")
	others := 0 // that differ, beside the chosen one
	for _, b := range v.bands {
		others += b.odd
	}
	if r != nil && r.Odd() {
		others--
	}
	if others > 0 {
		odd = odd.Shown("n", "next that differs").As("Go to the next that differs")
	}
	keys = append(keys, odd, part.Bind(part.Run(func() { v.next(-1) }), "N"),
		part.Bind(part.Run(func() { v.filter.Typing = true }), "/").Shown("/", "filter"))
	if v.filter.Active() || v.odd {
		keys = append(keys, part.Bind(part.Run(func() { v.filter.Input.SetValue(""); v.odd = false; v.lay() }), "esc").
			Shown("esc", "show all"))
	}
	keys = append(keys,
		part.Bind(part.Run(v.group), "g").Shown("g", "group"),
		part.Bind(part.Run(func() { v.table = !v.table; v.version++ }), "t").Shown("t", "table or bricks").As("Show a table, or bricks"),
		part.Bind(part.Run(func() { v.odd = !v.odd; v.lay() }), "c").Shown("c", "only what is amiss").
			As("Show only what is not as it should be, or all"),
		part.Bind(v.trail, "i").Shown("i", "its time line as a ladder").As("See what has become of it, as a ladder"),
		part.Bind(part.Run(func() { v.whole = !v.whole }), "v").Shown("v", "long values whole or short").
			As("Show long values whole, or short"),
		again)
	if r != nil {
		keys = append(keys, part.Bind(v.copy, "y").Shown("y", "copy its id"))
		keys = append(keys, v.handKeys(r)...)
	}
	if len(v.back) > 0 {
		keys = append(keys, part.Bind(part.Run(v.goBack), "backspace").Shown("backspace", "back to the one before").As(""))
	}
	go2 := func(dx, dy int) func() tea.Cmd { return part.Run(func() { v.move(dx, dy) }) }
	keys = append(keys, part.Bind(go2(0, -1), "up", "k").Shown("← ↓ ↑ →", "choose").As(""), part.Bind(go2(0, 1), "down", "j"),
		part.Bind(go2(-1, 0), "left", "h"), part.Bind(go2(1, 0), "right", "l"),
		part.Bind(go2(-len(v.shown), 0), "home"), part.Bind(go2(len(v.shown), 0), "end", "G"),
		part.Bind(part.Run(func() { v.scroll += 5 }), "pgdown").Shown("pgdn", "more of the details").As(""),
		part.Bind(part.Run(func() { v.scroll = max(0, v.scroll-5) }), "pgup"))
	if v.focus >= 0 {
		return append(v.linkKeys(), part.Hidden(keys)...)
	}
	return keys
}

// linkKeys are the keys while a link of the details is marked.
func (v *View) linkKeys() []part.Binding {
	next := part.Bind(part.Run(func() { v.focus = max(0, v.focus-1) }), "up", "k")
	if len(v.links) > 1 {
		next = next.Shown("↑ ↓", "the next").As("")
	}
	keys := []part.Binding{
		part.Bind(part.Run(v.follow), "enter").Shown("enter", "go there"),
		next,
		part.Bind(part.Run(func() { v.focus = min(v.focus+1, len(v.links)-1) }), "down", "j"),
		part.Bind(part.Run(func() { v.focus = -1 }), "esc", "left", "h").Shown("esc", "leave the details"),
	}
	if len(v.back) > 0 {
		keys = append(keys, part.Bind(part.Run(v.goBack), "backspace").Shown("backspace", "back to the one before").As(""))
	}
	return keys
}

func (v *View) follow() {
	if v.focus < 0 || v.focus >= len(v.links) {
		return
	}
	to := v.links[v.focus].to
	if v.inv.At(to) == nil {
		v.Say("%s is not in what the cloud has shown", to.ID)
		return
	}
	v.back = append(v.back, v.sel)
	v.choose(to)
	v.focus = 0
}

func (v *View) goBack() {
	to := v.back[len(v.back)-1]
	v.back = v.back[:len(v.back)-1]
	v.choose(to)
}

func (v *View) group() {
	v.by = (v.by + 1) % 5
	fills := func(r *app.There) bool { return r.Owner != nil && stack.FilledNode(r.Owner.Node) != "" }
	if v.by == byNode && !slices.ContainsFunc(v.inv.There, fills) {
		v.by = byOwner
	}
	v.lay()
	v.Say("grouped by %s", groupWords[v.by])
}

// trail shows what has become of the chosen resource.
func (v *View) trail() tea.Cmd {
	r := v.selected()
	if r == nil {
		return nil
	}
	return v.Send(part.ShowTrail{Of: r.Place(), Name: r.Name()})
}

func (v *View) copy() tea.Cmd {
	r := v.selected()
	if r == nil {
		return nil
	}
	v.Say("copied %s", r.ID)
	return tea.SetClipboard(r.ID)
}

func (v *View) click(x, y int) tea.Cmd {
	if v.patch.Written != nil {
		return nil
	}
	if i := v.rows.at(x-v.list.X, y-v.list.Y+v.top); v.list.Contains(x, y) && i >= 0 {
		v.choose(v.shown[i].Place())
		return nil
	}
	for i, l := range v.links {
		if v.side.Contains(x, y) && l.line == y-v.at+v.scroll {
			v.focus = i
			v.follow()
			break
		}
	}
	return nil
}

// Hint is the next step.
func (v *View) Hint() string {
	r := v.selected()
	switch {
	case v.patch.Written != nil:
		return v.patch.Hint()
	case v.inv == nil && v.loading:
		return "asking the cloud …"
	case v.inv == nil:
		return "r asks again"
	case v.filter.Typing:
		return "words of name, type, id, state, tags; enter keeps it"
	case v.focus >= 0:
		if len(v.back) == 0 {
			return "enter goes there"
		}
		return "enter goes there, backspace comes back"
	case r == nil && (v.filter.Active() || v.odd):
		return "esc shows all"
	case r != nil && r.Owner == nil && !r.Gone:
		return "a lets a node stand for it, w writes a template of all that is nobody's"
	case r == nil:
		return "nothing is there yet: 1, and deploy a stack"
	case r.Gone:
		return "next: p puts it back, w takes it out of the files"
	case len(r.Differs) > 0 && r.Owner != nil && r.Owner.Of != nil:
		return "next: p puts it back, w writes it"
	}
	return ""
}

// Status is when the cloud was asked.
func (v *View) Status() string {
	switch {
	case v.inv == nil:
		return ""
	case v.follows != nil:
		return "live since " + v.inv.Asked.Format("15:04")
	}
	return "asked at " + v.inv.Asked.Format("15:04:05")
}

// counts are the numbers of what is there, in words.
func (v *View) counts() []string {
	there, stacks, nobody, odd, unread := 0, map[string]bool{}, 0, 0, 0
	for _, r := range v.inv.There {
		if !r.Gone {
			there++
		}
		if r.Owner == nil {
			nobody++
		} else {
			stacks[r.Owner.Stack+"@"+r.Target.String()] = true
		}
		if r.Odd() {
			odd++
		}
		if r.Unread() {
			unread++
		}
	}
	out := []string{fmt.Sprintf("%d there", there), fmt.Sprintf("%d in %s", there-nobody, stack.Count(len(stacks), "stack")),
		fmt.Sprintf("%d nobody's", nobody)}
	if odd > 0 {
		out = append(out, fmt.Sprintf("≠ %d %s", odd, stack.NotAsRecorded))
	}
	if unread > 0 {
		out = append(out, fmt.Sprintf("? %d %s", unread, stack.NotKnown))
	}
	if n := len(v.broken); n > 0 {
		words := "do not keep all rules"
		if n == 1 {
			words = "does not keep all rules"
		}
		out = append(out, fmt.Sprintf("! %d %s", n, words))
	}
	return out
}
