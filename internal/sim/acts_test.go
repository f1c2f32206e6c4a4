package sim

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/yard"
)

// act is something that happens. Its numbers are taken as they fit what is there then, so that it still means something when
// acts before it are left out.
type act struct {
	Do      string
	Who     int `json:",omitempty"`
	On      int `json:",omitempty"` // which stack
	A, B, C uint64
	Then    time.Duration // how long it is quiet after it
}

// does are the acts, and how often each is drawn.
var does = []struct {
	name  string
	often int
	do    func(w *world, p *person, m *model, x act)
}{
	{"edit", 22, func(w *world, p *person, m *model, x act) { w.change(p, m, "edits "+m.edit(x.A, x.B, x.C)) }},
	{"add", 7, func(w *world, p *person, m *model, x act) { w.change(p, m, "adds "+m.add(x.A, x.B)) }},
	{"drop", 4, func(w *world, p *person, m *model, x act) { w.change(p, m, "drops "+m.drop(x.A)) }},
	{"rename", 3, func(w *world, p *person, m *model, x act) { w.change(p, m, "renames "+m.rename(x.A, true)) }},
	{"rename anew", 1, func(w *world, p *person, m *model, x act) { w.change(p, m, "renames anew "+m.rename(x.A, false)) }},
	{"deploy", 24, (*world).deploy},
	{"look", 4, (*world).look},
	{"kill", 8, (*world).kill},
	{"take up", 8, (*world).takeUp},
	{"pause", 5, (*world).pause},
	{"cancel", 3, (*world).cancel},
	{"go back", 3, (*world).goBack},
	{"put back", 2, (*world).putBack},
	{"delete", 2, (*world).remove},
	{"hand", 5, (*world).hand},
	{"fault", 10, (*world).breaks},
	{"mend", 3, func(w *world, _ *person, _ *model, _ act) { w.mend() }},
	{"stall", 4, (*world).stall},
	{"fill", 4, (*world).fill},
	{"save", 3, (*world).save},
	{"deploy what was saved", 3, (*world).deploySaved},
	{"act", 3, (*world).act},
	{"observe", 4, (*world).observe},
	{"drift", 3, (*world).drift},
	{"tell", 1, (*world).tells},
	{"release", 1, (*world).release},
	{"leave", 2, (*world).leave},
}

// acts draws what happens in a future.
func acts(rnd *rand.Rand, n int) []act {
	sum := 0
	for _, d := range does {
		sum += d.often
	}
	list := []act{{Do: "deploy", Then: 200 * time.Second}}
	for range n - 1 {
		at := rnd.IntN(sum)
		name := ""
		for _, d := range does {
			if at -= d.often; at < 0 {
				name = d.name
				break
			}
		}
		x := act{Do: name, Who: rnd.IntN(2), On: rnd.IntN(2), A: rnd.Uint64N(1 << 30), B: rnd.Uint64N(1 << 30), C: rnd.Uint64N(1 << 30)}
		switch rnd.IntN(5) { // a moment, the middle of a run, its end, a while
		case 0, 1:
			x.Then = time.Duration(rnd.IntN(500)) * time.Millisecond
		case 2:
			x.Then = time.Duration(rnd.IntN(6_000)) * time.Millisecond
		case 3:
			x.Then = time.Duration(rnd.IntN(40_000)) * time.Millisecond
		default:
			x.Then = time.Duration(60+rnd.IntN(120)) * time.Second
		}
		list = append(list, x)
	}
	return list
}

func (w *world) do(x act) {
	i := slices.IndexFunc(does, func(d struct {
		name  string
		often int
		do    func(w *world, p *person, m *model, x act)
	}) bool {
		return d.name == x.Do
	})
	m := w.models[x.On%len(w.models)]
	w.meet(x.Do)
	w.meet(x.Do + " while " + w.state(m))
	does[i].do(w, w.people[x.Who%len(w.people)], m, x)
	time.Sleep(x.Then)
}

func (w *world) change(p *person, m *model, words string) {
	w.tell("%s %s in %s", p.name, words, m.name)
	w.write(m)
}

var background = context.Background()

// whatIf is what a deployment of the files would do; nil is that it is refused, or nothing.
func (w *world) whatIf(p *person, a *app.App, m *model) (*app.Preview, error) {
	d, err := a.Load(background, filepath.Join(w.dir, m.name+".stack.yaml"), app.Values{})
	if err != nil {
		return nil, err
	}
	return a.WhatIf(background, d)
}

// deploy deploys what the files say.
func (w *world) deploy(p *person, m *model, x act) {
	a := p.process()
	v, err := w.whatIf(p, a, m)
	if err != nil {
		w.cannot(p, "see what deploying "+m.name+" would do", err)
		return
	}
	w.carry(p, m, v, []stack.OnFailure{stack.Undo, stack.Undo, stack.Hold}[x.A%3], "deploys "+m.name)
}

// cannot tells that somebody could not do something. An error that the program gives no words for does not hold.
func (w *world) cannot(p *person, what string, err error) {
	var refused *app.Refusal
	switch {
	case p.ended:
		w.tell("%s cannot %s, as the process ended", p.name, what)
	case errors.As(err, &refused):
		for _, f := range refused.Findings {
			if f.Severity == tosca.Error {
				w.meet("refused: " + f.Code)
				w.tell("%s cannot %s: %s", p.name, what, f.Message)
				return
			}
		}
		w.tell("%s cannot %s: %v", p.name, what, err)
	default:
		w.meet("refused")
		w.tell("%s cannot %s: %v", p.name, what, err)
	}
}

// carry begins a run of what a preview of the files says, or of a stack as it is.
func (w *world) carry(p *person, m *model, v *app.Preview, then stack.OnFailure, words string) {
	var r rules
	if v.Kind == run.KindDeploy {
		r = m.rules()
	}
	w.carryWith(p, m, v, r, then, words)
}

// carryWith begins a run of what a preview says, with the policies that are deployed by it; nil is that they are not known.
func (w *world) carryWith(p *person, m *model, v *app.Preview, policies rules, then stack.OnFailure, words string) {
	a := p.app
	if v.ChangeSet == nil || v.Findings.HasErrors() {
		w.cannot(p, words, &app.Refusal{Findings: v.Findings})
		return
	}
	r := w.newRun(p, m, v.Kind)
	if r.rules = policies; v.Kind == run.KindDeploy {
		r.nodes = m.copies()
	}
	w.keeps(m, sorted(agreedIn(v)), policies)
	for _, ch := range v.Changes {
		r.agreed[ch.Name], r.first[ch.Name], r.oneWay[ch.Name] = string(ch.Kind), ch.DropFirst, ch.OneWay
		if ch.Recorded != nil {
			r.ids[ch.Name] = ch.Recorded.ID
		}
	}
	t, err := a.Prepare(background, v, then)
	w.asked(a, p, r, err)
	switch {
	case errors.Is(err, app.ErrNothingToDo):
		w.tell("%s %s: nothing to do", p.name, words)
		return
	case err != nil:
		w.cannot(p, words, err)
		return
	}
	for _, kind := range r.agreed {
		w.meet("change: " + kind)
	}
	w.tell("%s %s: run %d, %s, on failure %s", p.name, words, r.number, v.Tally, then)
	w.execute(p, m, t)
}

// newRun is a run that is about to be asked for. It is known also where its process ends before it has heard of it.
func (w *world) newRun(p *person, m *model, kind run.Kind) *running {
	r := &running{by: p, model: m, number: w.number(p.app, m) + 1, kind: kind, agreed: map[string]string{}, first: map[string]bool{}, oneWay: map[string]bool{}, ids: map[string]string{}, before: w.there(m.name), at: w.clock(), state: "broken off"}
	w.mu.Lock()
	defer w.mu.Unlock()
	r.was, r.fills = w.deployed[m], w.filled
	w.runs = slices.DeleteFunc(w.runs, func(x *running) bool { return x.model == m && x.number == r.number }) // it never came to be
	w.runs = append(w.runs, r)
	return r
}

// number is that of the last run of a stack; 0 is that there is none.
func (w *world) number(a *app.App, m *model) int {
	if st := w.stackOf(a, m); st != nil {
		if last, err := a.RunNumber(background, st, 0); err == nil && last != nil {
			return last.Number
		}
	}
	return 0
}

// asked forgets a run that was refused.
func (w *world) asked(a *app.App, p *person, r *running, err error) {
	if err == nil || p.ended || !errors.Is(err, app.ErrNothingToDo) && w.number(a, r.model) >= r.number {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.runs = slices.DeleteFunc(w.runs, func(x *running) bool { return x == r })
}

// execute carries a run out, in the background.
func (w *world) execute(p *person, m *model, t *app.Ticket) {
	a, ctx := p.app, p.ctx
	w.becomes(m, t.Run.Number, "under way")
	p.mine.Add(1)
	go func() {
		defer p.mine.Done()
		begun := w.clock()
		r, err := a.Execute(ctx, t.Run.ID, t.Token)
		if w.becomes(m, t.Run.Number, "broken off"); err == nil {
			w.becomes(m, t.Run.Number, string(r.State))
		}
		if took := w.clock() - begun; took > 2*time.Hour {
			w.fault("run %d of %s took %s", t.Run.Number, m.name, took)
		}
		if err != nil && !p.ended {
			w.tell("run %d of %s broke off: %v", t.Run.Number, m.name, err)
			w.meet("broke off")
			return
		}
		if err != nil {
			return
		}
		w.meet("ended: " + string(r.State))
		w.tell("run %d of %s is %s: %s", r.Number, m.name, r.State, r.Reason)
		if r.State.Ended() {
			w.ended(a, m, r)
		}
	}()
}

func (w *world) look(p *person, m *model, _ act) {
	a := p.process()
	if _, err := a.Stacks(background); err != nil {
		w.fault("%s cannot list the stacks: %v", p.name, err)
	}
	if v, err := w.whatIf(p, a, m); err == nil && v.ChangeSet != nil {
		w.tell("%s looks what deploying %s would do: %s", p.name, m.name, v.Tally)
	}
}

// kill lets a process end, at once or after some chances.
func (w *world) kill(p *person, _ *model, x act) {
	if p.app == nil || p.ended {
		return
	}
	if x.A%4 == 0 {
		w.tell("%s's process is killed", p.name)
		w.mu.Lock()
		p.ended = true
		w.mu.Unlock()
		p.dead()
		return
	}
	w.mu.Lock()
	p.left = 1 + int(x.B%60)
	w.mu.Unlock()
}

// takeUp goes on with a run, or undoes it.
func (w *world) takeUp(p *person, m *model, x act) {
	a := p.process()
	st := w.stackOf(a, m)
	if st == nil {
		return
	}
	w.takesUp(p, a, m, st, x.A%2 == 0)
}

// takesUp goes on with a run or undoes it, where one of them is offered, and says whether it was.
func (w *world) takesUp(p *person, a *app.App, m *model, st *stack.Stack, on bool) bool {
	ways, err := a.WaysOut(background, st)
	if err != nil || !ways.Resume && !ways.Undo {
		return false
	}
	way := app.On
	if ways.Undo && (!on || !ways.Resume) {
		way = app.Back
	}
	t, err := a.Resume(background, st, way)
	if err != nil {
		w.cannot(p, "take up the run of "+m.name+", going "+string(way), err)
		return false
	}
	w.meet("taken up: " + string(way))
	w.tell("%s takes up run %d of %s, going %s", p.name, t.Run.Number, m.name, way)
	w.execute(p, m, t)
	return true
}

// last is the last run of a stack, where it is under way.
func (w *world) last(a *app.App, m *model) *run.Record {
	st := w.stackOf(a, m)
	if st == nil {
		return nil
	}
	r, err := a.RunNumber(background, st, 0)
	if err != nil || r == nil || !r.State.Open() {
		return nil
	}
	return r
}

func (w *world) pause(p *person, m *model, _ act) {
	a := p.process()
	if r := w.last(a, m); r != nil {
		if err := a.Pause(background, r); err != nil {
			w.cannot(p, "pause "+m.name, err)
			return
		}
		w.tell("%s pauses run %d of %s", p.name, r.Number, m.name)
	}
}

func (w *world) cancel(p *person, m *model, x act) {
	a := p.process()
	if r := w.last(a, m); r != nil {
		words, err := a.Cancel(background, r, []stack.OnFailure{stack.Undo, stack.Hold}[x.A%2])
		if err != nil {
			w.cannot(p, "cancel "+m.name, err)
			return
		}
		w.tell("%s cancels run %d of %s: %s", p.name, r.Number, m.name, words)
	}
}

// goBack goes back to a former revision.
func (w *world) goBack(p *person, m *model, x act) {
	a := p.process()
	st := w.stackOf(a, m)
	if st == nil || st.Revision < 2 {
		return
	}
	to := 1 + int(x.A%uint64(st.Revision-1))
	v, err := a.WhatIfUndo(background, st, to)
	if err != nil {
		w.cannot(p, fmt.Sprintf("go back to revision %d of %s", to, m.name), err)
		return
	}
	w.carry(p, m, v, stack.Undo, fmt.Sprintf("goes back to revision %d of %s", to, m.name))
}

func (w *world) putBack(p *person, m *model, _ act) {
	a := p.process()
	st := w.stackOf(a, m)
	if st == nil {
		return
	}
	v, err := a.WhatIfPutBack(background, st)
	if err != nil {
		w.cannot(p, "put back "+m.name, err)
		return
	}
	w.carry(p, m, v, stack.Undo, "puts back "+m.name)
}

func (w *world) remove(p *person, m *model, _ act) {
	a := p.process()
	st := w.stackOf(a, m)
	if st == nil || st.State == stack.Removed {
		return
	}
	v, err := a.WhatIfDelete(background, st)
	if err != nil {
		w.cannot(p, "delete "+m.name, err)
		return
	}
	w.carry(p, m, v, stack.Hold, "deletes "+m.name)
}

// hand changes something in the cloud, past all stacks.
func (w *world) hand(_ *person, m *model, x act) {
	things := w.there(m.name)
	if len(things) == 0 {
		return
	}
	var ids []string
	for id := range things {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b string) int { // as ids are by chance
		return strings.Compare(things[a].Node+things[a].text, things[b].Node+things[b].text)
	})
	is := things[pick(ids, x.A)]
	method, body := http.MethodPatch, any(nil)
	properties := map[string]any{}
	if x.B%4 == 0 {
		method = http.MethodDelete
	} else {
		tags := map[string]string{}
		for k, v := range is.Tags {
			tags[k] = v
		}
		tags["touched"] = fmt.Sprint(x.C % 5)
		body = map[string]any{"tags": tags}
		if change := byHand[is.Type]; change != nil && x.B%4 == 1 {
			properties = change
			body = map[string]any{"properties": change}
		}
	}
	if err := w.asHand(method, is, body); err != nil {
		w.tell("a hand cannot %s %s of %s: %v", method, is.Node, m.name, err)
		w.truth.lost(&call{at: w.clock(), method: method, id: is.ID, by: hand}) // some of it may be done
		return
	}
	w.meet("hand: " + method)
	w.truth.byHand(method, is.ID, properties)
	w.tell("a hand: %s %s of %s %v", method, is.Node, m.name, properties)
}

// byHand is what hands change of a type.
var byHand = map[string]map[string]any{
	"Server": {"size": "xlarge"}, "Bucket": {"keep_days": 7}, "Queue": {"keep": "9 d"}, "Database": {"backup_days": 1},
	"Subnet": {"public": true}, "Record": {"ttl": "10 s"},
}

// breaks lets the cloud fail at something.
func (w *world) breaks(_ *person, m *model, x act) {
	f := yard.Fault{Times: pick([]int{1, 2, 3, 12}, x.B), Mode: pick([]string{"fail", "fail", "busy", "lose"}, x.C), At: pick([]string{"", "call", "last"}, x.B/7),
		On: pick([]string{"", "", "create", "update", "delete"}, x.B/31), Reason: "the cloud has a bad day"}
	if len(m.nodes) > 0 {
		n := pick(m.nodes, x.A)
		if last := m.at(m.last); last != nil && x.A%3 > 0 { // what was written last is what changes next
			n = last
		}
		if f.Name = n.name; n.count > 0 && !n.keyed {
			f.Name += "#0"
		}
	}
	if _, err := w.door().AddFault(background, f); err != nil {
		w.fault("a fault cannot be added: %v", err)
	}
	w.meet("fault: " + f.Mode)
	w.tell("the cloud is to %s at %s of %s, on %q at %q, %d times", f.Mode, f.Name, m.name, f.On, f.At, f.Times)
}

func (w *world) mend() {
	if err := w.door().ClearFaults(background); err != nil {
		w.fault("the faults cannot be cleared: %v", err)
	}
}

// wanted is what many futures together have to meet.
func wanted() (list []string) {
	for _, d := range does {
		list = append(list, d.name)
		for _, state := range states {
			list = append(list, d.name+" while "+state)
		}
	}
	return append(list, "ended: done", "ended: undone", "ended: held", "ended: paused", "ended: stuck", "broke off", "taken up: on", "taken up: back",
		"change: new", "change: edit", "change: swap", "change: drop", "change: same", "hand: PATCH", "hand: DELETE",
		"change: adopt", "change: kept", "fault: fail", "fault: busy", "fault: lose", "the machine sleeps", "the disk is full", "the answer is lost",
		"the cloud is silent", "the cloud talks nonsense", "a backup was promised", "a swap was to be filled", "a probe was asked", "it went one way",
		"what was saved can be deployed", "told", "left", "released", "act: restart", "act: scale", "act: backup", "act: restore",
		"trace: found", "trace: made", "trace: changed", "trace: removed")
}

// states are those in which a stack may be when something happens.
var states = []string{"nothing", "under way", "broken off", "done", "undone", "held", "paused", "stuck"}

// state is in which state a stack is, as far as this world has heard.
func (w *world) state(m *model) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, r := range slices.Backward(w.runs) {
		if r.model == m {
			return r.state
		}
	}
	return "nothing"
}

// becomes notes in which state a run is.
func (w *world) becomes(m *model, number int, state string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, r := range w.runs {
		if r.model == m && r.number == number {
			r.state, r.heard = state, true
		}
	}
}
