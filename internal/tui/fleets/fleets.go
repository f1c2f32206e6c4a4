// Package fleets is the view of one stack in many places: a grid, accounts down and regions across, or an overview
// wave by wave where there are very many.
package fleets

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/fleet"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// View shows how the last rollout of a fleet stands.
type View struct {
	part.Shell
	fleets  []*app.Rollout    // the last rollout of each fleet
	folders []string          // where fleet files are looked for
	files   map[string]string // of fleets, by their names
	whatif  *looking          // a what-if that is shown instead; nil is none
	name    string            // the fleet that is shown
	r       *app.Rollout
	places  []app.PlaceOf
	holder  string
	err     error
	ready   bool
	busy    bool
	again   bool
	sel     stack.Target
	waves   bool // the overview by wave
	chosen  bool // whether to show it was chosen by hand
	filter  part.Filter
	shown   []int // the places that pass the filter
	grid    grid
	scroll  int
	detail  map[string]app.PlaceDetail // by target and run
	reading string
	hits    []hit
}

// grid is how places lie: accounts down, regions across.
type grid struct {
	accounts, regions []string
	at                map[stack.Target]int // which place
}

// hit is where a place was drawn.
type hit struct {
	part.Rect
	place int
}

// many is from how many places the overview by wave is shown first.
const many = 300

// New is the view; fleet files are looked for in folders too.
func New(sh part.Shell, folders ...string) *View {
	return &View{Shell: sh, folders: folders, filter: part.NewFilter(), detail: map[string]app.PlaceDetail{}}
}

// Name is what stands in the line of views.
func (v *View) Name() string { return "Fleet" }

// Roams says that no stack has to be chosen.
func (v *View) Roams() bool { return true }

// Accepts reports that nobody sends it anything.
func (v *View) Accepts(any) bool { return false }

// Typing reports whether the filter is being typed.
func (v *View) Typing() bool { return v.filter.Typing }

// Moves reports whether places are under way, or being looked at.
func (v *View) Moves() bool {
	if l := v.whatif; l != nil {
		return l.pv == nil && l.err == nil
	}
	return v.r != nil && !v.r.State.Ended()
}

type read struct {
	fleets []*app.Rollout
	files  map[string]string
	r      *app.Rollout
	places []app.PlaceOf
	holder string
	err    error
}

type detailRead struct {
	key string
	of  app.PlaceDetail
	err error
}

// Update hears a message.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case part.Opened:
		v.files = nil // they are looked for again
		return v.load()
	case part.StoreChanged:
		if v.Front(v) {
			return v.load()
		}
	case read:
		return v.loaded(msg)
	case lookedAt:
		return v.looked(msg)
	case begun:
		return v.begins(msg)
	case detailRead:
		v.reading = ""
		if msg.err == nil {
			v.detail[msg.key] = msg.of
		}
		return v.look()
	case part.Click:
		for _, h := range v.hits {
			if msg.X >= h.X && msg.X < h.X+h.W && msg.Y >= h.Y && msg.Y < h.Y+h.H {
				return v.choose(h.place)
			}
		}
	case part.Wheel:
		return v.move(msg.By, 0)
	case tea.KeyPressMsg, tea.PasteMsg:
		if v.filter.Typing {
			return tea.Batch(v.filter.Update(msg, v.lay), v.look())
		}
	}
	return nil
}

// load reads how the fleet stands, in the background.
func (v *View) load() tea.Cmd {
	if v.again = v.busy; v.busy {
		return nil
	}
	v.busy = true
	name, folders, files := v.name, slices.Clone(v.folders), v.files
	return func() tea.Msg {
		var out read
		if out.fleets, out.err = v.App().Fleets(v.Context()); out.err != nil {
			return out
		}
		if files == nil { // not at each change of the store, of which there are many while something runs
			for _, r := range out.fleets { // behind the folder that one works in: somebody else's may be elsewhere
				if dir := filepath.Dir(r.File); !slices.Contains(folders, dir) {
					folders = append(folders, dir)
				}
			}
			files = app.FleetFiles(folders)
		}
		out.files = files
		deployed := func() bool {
			return slices.ContainsFunc(out.fleets, func(r *app.Rollout) bool { return r.Fleet == name })
		}
		if !deployed() && out.files[name] == "" && len(out.fleets) > 0 {
			name = slices.MaxFunc(out.fleets, func(a, b *app.Rollout) int { return a.Started.Compare(b.Started) }).Fleet
		}
		if deployed() {
			out.r, out.places, out.holder, out.err = v.App().LastRollout(v.Context(), name)
		}
		return out
	}
}

// names are those of all fleets: which were deployed, and which there are files of.
func (v *View) names() []string {
	var out []string
	for _, r := range v.fleets {
		out = append(out, r.Fleet)
	}
	out = slices.AppendSeq(out, maps.Keys(v.files))
	slices.Sort(out)
	return slices.Compact(out)
}

func (v *View) loaded(msg read) tea.Cmd {
	v.busy, v.ready, v.err = false, true, msg.err
	v.fleets, v.files = msg.fleets, msg.files
	switch {
	case v.whatif != nil: // which stays as it was looked at
	case msg.err == nil:
		if msg.r != nil && (v.r == nil || msg.r.ID != v.r.ID) {
			v.scroll = 0
			if !v.chosen {
				v.waves = len(msg.places) >= many
			}
		}
		v.r, v.places, v.holder = msg.r, msg.places, msg.holder
		if v.r != nil {
			v.name = v.r.Fleet
		} else if names := v.names(); v.files[v.name] == "" && len(names) > 0 {
			v.name = names[0]
		}
		v.lay()
	}
	if v.again {
		return v.load()
	}
	return v.look()
}

// lay puts the places that pass the filter where they belong, and keeps the chosen one.
func (v *View) lay() {
	v.grid = grid{at: map[stack.Target]int{}}
	v.shown = v.shown[:0]
	for i := range v.places {
		p := &v.places[i]
		if !v.filter.Fits(fmt.Sprintf("%s %s wave %d %s", p.Target, p.State, p.Wave, p.Reason)) {
			continue
		}
		v.shown = append(v.shown, i)
		v.grid.at[p.Target] = i
		if !slices.Contains(v.grid.regions, p.Target.Region) {
			v.grid.regions = append(v.grid.regions, p.Target.Region)
		}
	}
	seen := map[string]bool{}
	for _, i := range v.shown {
		if a := v.places[i].Target.Account; !seen[a] {
			seen[a] = true
			v.grid.accounts = append(v.grid.accounts, a)
		}
	}
	slices.Sort(v.grid.accounts)
	slices.Sort(v.grid.regions)
	if _, there := v.grid.at[v.sel]; !there && len(v.shown) > 0 {
		v.sel = v.places[v.shown[0]].Target
	}
}

// selected is the chosen place; nil is none.
func (v *View) selected() *app.PlaceOf {
	if i, ok := v.grid.at[v.sel]; ok {
		return &v.places[i]
	}
	return nil
}

func (v *View) choose(i int) tea.Cmd {
	v.sel = v.places[i].Target
	if v.whatif != nil {
		v.whatif.down = 0
	}
	return v.look()
}

// keyOf tells one state of a place from another.
func keyOf(r *app.Rollout, p *app.PlaceOf) string {
	return fmt.Sprintf("%s %d %s %s %d", r.ID, p.Position, p.State, p.RunID, p.Steps)
}

// look reads what there is to know of the chosen place.
func (v *View) look() tea.Cmd {
	p := v.selected()
	if p == nil || v.reading != "" || v.whatif != nil {
		return nil
	}
	key := keyOf(v.r, p)
	if _, known := v.detail[key]; known {
		return nil
	}
	if len(v.detail) > 200 {
		clear(v.detail)
	}
	v.reading = key
	r, at := v.r, *p
	return func() tea.Msg {
		d, err := v.App().PlaceDetail(v.Context(), r, &at)
		return detailRead{key, d, err}
	}
}

// move moves the choice by rows and columns; in the overview all is one line.
func (v *View) move(rows, columns int) tea.Cmd {
	if len(v.shown) == 0 {
		return nil
	}
	if v.waves {
		i := slices.IndexFunc(v.shown, func(i int) bool { return v.places[i].Target == v.sel })
		i = max(0, min(len(v.shown)-1, i+columns+rows*v.across()))
		return v.choose(v.shown[i])
	}
	g := v.grid
	row, col := slices.Index(g.accounts, v.sel.Account)+rows, slices.Index(g.regions, v.sel.Region)+columns
	row, col = max(0, min(len(g.accounts)-1, row)), max(0, min(len(g.regions)-1, col))
	best, far := -1, 1<<30
	for t, i := range g.at { // the nearest one there is
		a, r := slices.Index(g.accounts, t.Account), slices.Index(g.regions, t.Region)
		d := abs(a-row)*100 + abs(r-col)
		if rows == 0 && a != row {
			d += 1 << 20
		}
		if d < far || d == far && i < best {
			best, far = i, d
		}
	}
	return v.choose(best)
}

func abs(n int) int { return max(n, -n) }

// Bindings are the keys that do something now.
func (v *View) Bindings() []part.Binding {
	if v.filter.Typing {
		return v.filter.Bindings()
	}
	var keys []part.Binding
	p := v.selected()
	switch {
	case v.whatif != nil:
		keys = v.whatif.bindings(v)
	case p != nil:
		keys = append(keys, part.Bind(v.open, "enter").Shown("enter", "its run"))
		if p.State == fleet.Asks || p.Careful && p.State == fleet.Waiting {
			keys = append(keys, part.Bind(v.agree, "y").Shown("y", "agree to it").As("Agree to what is done in this place"))
		}
	}
	if v.ended() {
		keys = append(keys, part.Bind(v.would(run.KindDeploy), "d").Shown("d", "what a deployment would do").As("See what a deployment of the fleet would do"))
	}
	if v.r != nil && v.whatif == nil {
		switch {
		case v.r.State == fleet.Between:
			keys = append(keys, part.Bind(v.resume, "p").Shown("p", "next wave").As("Let the next wave begin"))
		case v.r.State == fleet.Paused, !v.r.State.Ended() && v.holder == "" && v.r.Queue == "":
			keys = append(keys, part.Bind(v.resume, "p").Shown("p", "go on").As("Go on with the fleet"))
		case !v.r.State.Ended():
			keys = append(keys, part.Bind(v.steer((*app.App).PauseFleet, "nothing more begins; p goes on"), "p").Shown("p", "pause").As("Pause the fleet"))
		}
		if !v.r.State.Ended() {
			keys = append(keys, part.Bind(v.stop, "x").Shown("x", "stop").As("Stop the fleet"))
		} else if v.r.State == fleet.Partial || v.r.State == fleet.Stopped || v.r.State == fleet.Cancelled {
			keys = append(keys, part.Bind(v.retry, "r").Shown("r", "retry what failed, and go on").As("Retry where the fleet failed"))
		}
		if v.ended() && v.r.State != fleet.Removed {
			keys = append(keys, part.Bind(v.would(run.KindDelete), "x").Shown("x", "what a deletion would do").As("See what a deletion of the fleet would do"))
		}
	}
	if len(v.places) > 0 {
		words := "waves"
		if v.waves {
			words = "grid"
		}
		keys = append(keys, part.Bind(part.Run(func() { v.waves, v.chosen, v.scroll = !v.waves, true, 0 }), "w").Shown("w", words).As("Show the fleet as a grid, or wave by wave"))
		if _, _, _, failed, asks := v.counts(); failed+asks > 0 && v.whatif == nil {
			keys = append(keys, part.Bind(v.failed, "tab").Shown("tab", "next that failed or asks").As("Go to the next place that failed, or asks"))
		}
		keys = append(keys, part.Bind(part.Run(func() { v.filter.Typing = true }), "/").Shown("/", "filter"))
	}
	if len(v.names()) > 1 && v.whatif == nil {
		keys = append(keys, part.Bind(v.next, "f").Shown("f", "another fleet"))
	}
	if v.filter.Active() {
		keys = append(keys, part.Bind(part.Run(func() { v.filter.Input.SetValue(""); v.lay() }), "esc").Shown("esc", "show all"))
	}
	if len(v.shown) == 0 {
		return keys
	}
	by := func(rows, columns int) func() tea.Cmd { return func() tea.Cmd { return v.move(rows, columns) } }
	return append(keys, part.Bind(by(-1, 0), "up", "k").Shown("↑ ↓ ← →", "choose").As(""), part.Bind(by(1, 0), "down", "j"),
		part.Bind(by(0, -1), "left", "h"), part.Bind(by(0, 1), "right", "l"), part.Bind(by(-1<<20, 0), "home", "g"), part.Bind(by(1<<20, 0), "end", "G"))
}

// open shows the run in the chosen place.
func (v *View) open() tea.Cmd {
	p := v.selected()
	d, known := v.detail[keyOf(v.r, p)]
	if !known || d.Stack == nil {
		v.Say("nothing was done there yet")
		return nil
	}
	v.About(part.Subject{Name: d.Stack.Name, File: d.Stack.StackFile, Target: d.Stack.Target.String(), Stack: d.Stack, Careful: d.Stack.Careful})
	return v.Send(part.ShowRun{})
}

// steer does something with the rollout in the background.
func (v *View) steer(do func(*app.App, contextOf, string) error, said string) func() tea.Cmd {
	return func() tea.Cmd {
		name := v.name
		return func() tea.Msg {
			if err := do(v.App(), v.Context(), name); err != nil {
				return part.Failed{Err: err}
			}
			return part.Done{Words: said}
		}
	}
}

func (v *View) stop() tea.Cmd {
	v.Ask(part.NewAsk(fmt.Sprintf("Stop rollout %d of %s? What is under way comes to its end, nothing more begins.", v.r.Number, v.name), "", func(string) tea.Cmd {
		return v.steer((*app.App).CancelFleet, "it stops when what is under way has come to its end")()
	}))
	return nil
}

// carryOn carries a rollout on that was locked here, in a process of its own.
func (v *View) carryOn(r *app.Rollout, err error) tea.Msg {
	if err == nil && r != nil && r.Queue == "" {
		err = v.App().SpawnFleet(r)
	}
	if err != nil {
		return part.Failed{Err: err}
	}
	return part.Done{Words: "it goes on"}
}

func (v *View) resume() tea.Cmd {
	name := v.name
	return func() tea.Msg { return v.carryOn(v.App().ResumeFleet(v.Context(), name)) }
}

func (v *View) retry() tea.Cmd {
	n := 0
	for _, p := range v.places {
		if p.State == fleet.Failed {
			n++
		}
	}
	left := len(v.places) - n
	for _, p := range v.places {
		if p.State == fleet.Ready || p.State == fleet.Removed {
			left--
		}
	}
	name := v.name
	question := fmt.Sprintf("Try again in %s where %s failed", stack.Count(n, "place"), name)
	if left > 0 {
		question += fmt.Sprintf(", and go on with %d that were not begun", left)
	}
	v.Ask(part.NewAsk(question+"?", "", func(string) tea.Cmd {
		return func() tea.Msg { return v.carryOn(v.App().RetryFleet(v.Context(), name, nil)) }
	}))
	return nil
}

// agree agrees to what is done in the chosen place, by its name.
func (v *View) agree() tea.Cmd {
	p := v.selected()
	name, target := v.name, p.Target.String()
	v.Ask(part.NewAsk(fmt.Sprintf("%s in %s / %s is careful: %s. Agree to it?", p.Stack, p.Target.Account, p.Target.Region, p.Tally), name, func(string) tea.Cmd {
		return func() tea.Msg {
			if _, err := v.App().ApprovePlace(v.Context(), name, target); err != nil {
				return part.Failed{Err: err}
			}
			return part.Done{Words: "agreed to " + target}
		}
	}))
	return nil
}

// failed goes to the next place that failed.
func (v *View) failed() tea.Cmd {
	at := slices.IndexFunc(v.shown, func(i int) bool { return v.places[i].Target == v.sel })
	for n := range v.shown {
		i := v.shown[(at+1+n)%len(v.shown)]
		if s := v.places[i].State; s == fleet.Failed || s == fleet.Asks {
			return v.choose(i)
		}
	}
	v.Say("no place has failed, and none asks")
	return nil
}

// next shows the next fleet.
func (v *View) next() tea.Cmd {
	names := v.names()
	v.name = names[(slices.Index(names, v.name)+1)%len(names)]
	v.chosen, v.ready, v.r, v.places = false, false, nil, nil
	v.lay()
	return v.load()
}

// counts are how many places are in which state.
func (v *View) counts() (done, under, waiting, failed, asks int) {
	for _, p := range v.places {
		switch {
		case p.State == fleet.Failed:
			failed++
		case p.State.Over():
			done++
		case p.State.Under():
			under++
		case p.State == fleet.Asks:
			asks++
		default:
			waiting++
		}
	}
	return
}

// title is the fleet, and how it stands.
func (v *View) title() (name, about string) {
	switch {
	case v.whatif != nil:
		return v.name, v.whatif.title()
	case v.r != nil:
		return v.name, fmt.Sprintf("fleet · rollout %d · %s", v.r.Number, v.r.State)
	case v.files[v.name] != "":
		return v.name, "fleet · not deployed yet"
	}
	return "", ""
}

// Status is the right side of the second line.
func (v *View) Status() string {
	if names := v.names(); len(names) > 1 {
		return fmt.Sprintf("%d of %d fleets", slices.Index(names, v.name)+1, len(names))
	}
	return ""
}

// Hint is the next step in words.
func (v *View) Hint() string {
	switch {
	case v.whatif != nil:
		return v.whatif.hint()
	case v.r == nil && v.ended():
		return "d looks what a deployment would do in all places"
	case v.r == nil:
		return ""
	}
	_, _, _, failed, asks := v.counts()
	switch {
	case asks > 0 && v.r.State != fleet.Paused:
		if asks == 1 {
			return "a careful place asks: tab goes there, y agrees to it"
		}
		return fmt.Sprintf("%d careful places ask: tab goes there, y agrees to the chosen one", asks)
	case v.r.State == fleet.Between:
		return fmt.Sprintf("wave %d is over: p lets the next one begin", v.r.EndedWave)
	case v.r.State == fleet.Paused:
		return "nothing more begins: p goes on"
	case !v.r.State.Ended() && v.holder == "" && v.r.Queue == "":
		return "nobody carries it on any more: p goes on"
	case !v.r.State.Ended() && v.holder == "":
		return "it waits for a worker: 'brickrow worker' is one"
	case v.r.State.Ended() && failed > 0:
		return "tab goes to what failed, r tries it again"
	case !v.r.State.Ended():
		return "enter shows the run of a place"
	}
	return "all places are done"
}

// since is how long the rollout has taken.
func (v *View) since() time.Duration {
	if v.r.Ended.IsZero() {
		return time.Since(v.r.Started)
	}
	return v.r.Ended.Sub(v.r.Started)
}

// wavesOf lists the places that are shown by their waves.
func (v *View) wavesOf() [][]int {
	var out [][]int
	last := 0
	for _, i := range v.shown {
		if w := v.places[i].Wave; len(out) == 0 || w != last {
			out, last = append(out, nil), w
		}
		out[len(out)-1] = append(out[len(out)-1], i)
	}
	return out
}

// inputs are the values of a place in words.
func inputs(list []stack.Input) string {
	parts := make([]string, len(list))
	for i, in := range list {
		parts[i] = in.Name + " " + show(in.Value)
	}
	return strings.Join(parts, ", ")
}
