package sim

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// asHand does something in the cloud itself, and waits for its end.
func (w *world) asHand(method string, is thing, body any) error {
	var operation struct {
		ID, State string
		Problem   *struct{ Title, Detail string }
	}
	base := cloudURL + "/v1/" + is.Account + "/" + is.Region
	ask := func(method, path string, body any) error {
		var payload io.Reader
		if body != nil {
			b, err := json.Marshal(body)
			if err != nil {
				return err
			}
			payload = bytes.NewReader(b)
		}
		req, err := http.NewRequestWithContext(background, method, base+path, payload)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+w.tokens[is.Account])
		req.Header.Set("From", "a hand")
		if body != nil || method == http.MethodDelete {
			w.hands++
			req.Header.Set("Idempotency-Key", fmt.Sprint("hand ", w.hands))
		}
		resp, err := w.cloud.RoundTrip(req)
		if err != nil {
			return err
		}
		answer, err := io.ReadAll(resp.Body)
		if err != nil {
			return err
		}
		if resp.StatusCode >= 300 {
			return &refusedByCloud{string(answer)}
		}
		return json.Unmarshal(answer, &operation)
	}
	if err := ask(method, "/resources/"+is.ID, body); err != nil {
		return err
	}
	for operation.State != "done" && operation.State != "failed" {
		time.Sleep(100 * time.Millisecond)
		if err := ask(http.MethodGet, "/operations/"+operation.ID, nil); err != nil {
			return err
		}
	}
	if operation.State == "failed" {
		return &refusedByCloud{operation.Problem.Title}
	}
	return nil
}

type refusedByCloud struct{ text string }

func (e *refusedByCloud) Error() string {
	var p struct{ Title string }
	if json.Unmarshal([]byte(e.text), &p) == nil {
		return p.Title
	}
	return e.text
}

// ended holds a run that has come to its end against what was agreed to, what was there, and what the truth knows.
func (w *world) ended(a *app.App, m *model, r *run.Record) {
	w.mu.Lock()
	var of *running
	for _, x := range w.runs {
		if x.model == m && x.number == r.Number {
			of = x
		}
	}
	w.mu.Unlock()
	if of == nil {
		w.fault("run %d of %s was begun by nobody", r.Number, m.name)
		return
	}
	if of.ended {
		w.fault("run %d of %s has come to its end twice", r.Number, m.name)
	}
	of.ended = r.State == run.StatusDone || r.State == run.StatusUndone
	now, hands := w.there(m.name), w.truth.handsSince(of.at)
	if r.State == run.StatusDone && r.Kind != run.KindAction {
		w.once(m, now, hands)
	}
	w.agreedTo(of, r.State)
	switch {
	case r.Kind == run.KindAction:
	case r.State == run.StatusUndone:
		w.undone(of, r, now, hands)
		w.asRecorded(a, of)
	case r.State == run.StatusDone && r.Kind == run.KindDelete:
		w.removed(of, r, now, hands)
	case r.State == run.StatusDone:
		w.done(of, now, hands)
	}
}

// once wants nothing to be there twice.
func (w *world) once(m *model, now map[string]thing, hands map[string]bool) {
	seen := map[string]string{}
	for _, id := range sorted(now) {
		is := now[id]
		if other := seen[is.Node]; other != "" && !hands[id] && !hands[other] && !w.stays(m, is.Node) {
			w.fault("%s of %s is there twice", is.Node, m.name)
		}
		seen[is.Node] = id
	}
}

// done wants what was agreed to, and nothing else.
func (w *world) done(of *running, now map[string]thing, hands map[string]bool) {
	by := map[string]string{} // ids by node; what was kept may be there beside it
	for _, id := range sorted(now) {
		node := now[id].Node
		if _, is := by[node]; is && (id == of.ids[node]) == (whatif.Kind(of.agreed[node]) == whatif.Swap) {
			continue
		}
		by[node] = id
	}
	touched := map[string]string{}
	did := w.truth.of(of.model.name, of.number)
	for _, c := range did {
		touched[c.id] = c.method
	}
	w.removedLast(of, did)
	for _, name := range sorted(of.agreed) {
		kind, was := whatif.Kind(of.agreed[name]), of.ids[name]
		id, there := by[name]
		if hands[id] || hands[was] || hands[of.model.name+"/"+name] {
			continue
		}
		wrong := ""
		switch kind {
		case whatif.New, whatif.Adopt:
			if !there {
				wrong = "is not there"
			}
		case whatif.Edit:
			if id != was {
				wrong = "is another thing, or gone"
			}
		case whatif.Same:
			if id != was {
				wrong = "is another thing, or gone"
			} else if touched[id] != "" {
				wrong = "was touched: " + touched[id]
			}
		case whatif.Swap:
			_, old := now[was]
			switch {
			case of.rules.has(name, "Keep") && of.was.has(name, "Keep") && !old:
				wrong = "is gone in its old form, which was to be kept"
			case old && !w.stays(of.model, name):
				wrong = "is there still in its old form"
			case !there || id == was && !old:
				wrong = "is not there in its new form"
			}
		case whatif.Drop:
			if _, old := now[was]; old {
				wrong = "is there still"
			}
		case whatif.Keep:
			if _, old := now[was]; !old {
				wrong = "is gone"
			}
		}
		if wrong == "" {
			wrong = w.copied(of, name, id, now)
		}
		if wrong != "" {
			w.fault("run %d of %s is done, and %s, which was to be %s, %s", of.number, of.model.name, name, kind, wrong)
		}
	}
}

// asRecorded wants what is recorded after an undo to be what is there, where no hand has been in it since the deployment before.
func (w *world) asRecorded(a *app.App, of *running) {
	w.mu.Lock()
	var before *running
	for _, r := range w.runs {
		if r.model == of.model && r.number == of.number-1 && r.kind == run.KindDeploy && r.state == "done" {
			before = r
		}
	}
	w.mu.Unlock()
	if before == nil || len(w.truth.handsSince(before.at)) > 0 {
		return
	}
	st := w.stackOf(a, of.model)
	if st == nil {
		return
	}
	d, err := a.Drift(background, st)
	if err != nil || len(d.Unread) > 0 {
		return
	}
	w.meet("an undo was held against its record")
	for _, x := range d.Differs {
		w.fault("run %d of %s is undone, and %s of %s is not as it is recorded", of.number, of.model.name, x.Path, x.Name)
	}
	for _, r := range d.Gone {
		w.fault("run %d of %s is undone, and %s is recorded and gone", of.number, of.model.name, r.Name)
	}
	if len(d.Unrecorded) > 0 {
		w.fault("run %d of %s is undone, and %d are there that are not recorded", of.number, of.model.name, len(d.Unrecorded))
	}
}

// removedLast wants a run to have removed what goes after all else was done, and asked.
func (w *world) removedLast(of *running, did []*call) {
	built := w.truth.askedAt(of.model.name, of.number) // the end of what can be put back
	if built > 0 {
		w.meet("a probe was asked")
	}
	once := map[string]bool{} // the ids of what cannot be put back
	for name, is := range of.oneWay {
		if is {
			once[of.ids[name]] = true
		}
	}
	for _, c := range did {
		if c.method != http.MethodDelete && !once[c.id] {
			built = max(built, c.at)
		}
	}
	last := built
	for _, c := range did {
		if c.method == http.MethodPatch && once[c.id] {
			w.meet("it went one way")
			if last = max(last, c.at); c.at < built {
				w.fault("run %d of %s has changed %s, which cannot be put back, before all else was done", of.number, of.model.name, w.truth.nameOf(c.id))
			}
		}
	}
	for _, name := range sorted(of.agreed) {
		if kind := whatif.Kind(of.agreed[name]); kind != whatif.Drop && kind != whatif.Swap || of.first[name] || of.ids[name] == "" {
			continue
		}
		for _, c := range did {
			if c.id == of.ids[name] && c.method == http.MethodDelete && c.at < last {
				w.fault("run %d of %s has removed %s before all else was done", of.number, of.model.name, name)
			}
		}
	}
}

// undone wants all to be there that was there, but for what hands have done, and the receipt to say so.
func (w *world) undone(of *running, r *run.Record, now map[string]thing, hands map[string]bool) {
	w.mu.Lock()
	filled := w.filled != of.fills
	w.mu.Unlock()
	equal := true
	for _, id := range sorted(of.before) {
		is, there := now[id]
		if there && is.text == of.before[id].text {
			continue
		}
		equal = false
		switch {
		case len(hands) > 0: // it, or what it rests on, may have been made again
		case !there:
			w.fault("run %d of %s is undone, and %s is gone", of.number, of.model.name, of.before[id].Node)
		default:
			w.fault("run %d of %s is undone, and %s is %s, was %s", of.number, of.model.name, is.Node, is.text, of.before[id].text)
		}
	}
	for _, id := range sorted(now) {
		if _, was := of.before[id]; !was {
			equal = false
			if len(hands) == 0 {
				w.fault("run %d of %s is undone, and %s, which it has made, is there", of.number, of.model.name, now[id].Node)
			}
		}
	}
	switch c := r.Receipt; {
	case c == nil:
		w.fault("run %d of %s is undone, and has no receipt", of.number, of.model.name)
	case len(c.Unreadable) == 0 && c.Equal && !equal:
		w.fault("the receipt of run %d of %s says that all is as before, and it is not", of.number, of.model.name)
	case len(c.Unreadable) == 0 && !c.Equal && equal && !filled:
		w.fault("the receipt of run %d of %s says that not all is as before, and it is: %+v %+v", of.number, of.model.name, c.Differs, c.Left)
	}
}

// removed wants nothing to be left but what the receipt names.
func (w *world) removed(of *running, r *run.Record, now map[string]thing, hands map[string]bool) {
	named := map[string]bool{}
	if r.Receipt == nil {
		w.fault("run %d of %s has deleted it, and has no receipt", of.number, of.model.name)
		return
	}
	for _, l := range r.Receipt.Left {
		named[l.ID] = true
		if _, there := now[l.ID]; !there {
			w.fault("the receipt of run %d of %s says that %s is left, and it is not", of.number, of.model.name, l.Name)
		}
	}
	for _, id := range sorted(now) {
		if !named[id] {
			w.fault("run %d of %s has deleted it, and %s is there, which its receipt does not name", of.number, of.model.name, now[id].Node)
		}
	}
	if r.Receipt.Equal && len(now) > 0 && len(r.Receipt.Left) == 0 {
		w.fault("the receipt of run %d of %s says that nothing is there, and there is something", of.number, of.model.name)
	}
}

// settle waits until nobody carries out anything.
func (w *world) settle() {
	for _, p := range w.people {
		p.mine.Wait()
	}
}

// conclude lets the future come to its end: whatever state a stack is in, what is offered leads out of it, all can be deployed
// then, nothing is left to do after it, and all can be deleted.
func (w *world) conclude() {
	w.tell("the future comes to its end")
	w.mend()
	for _, p := range w.people {
		w.mu.Lock()
		p.left = 0
		clear(p.stops)
		w.mu.Unlock()
	}
	w.settle()
	time.Sleep(time.Minute) // leases run out
	p := w.people[0]
	a := p.process()
	for _, m := range w.models {
		w.leadOut(p, a, m)
	}
	for _, m := range w.models {
		w.deployedAtLast(p, a, m)
	}
	w.nobodyElse()
	for _, m := range w.models {
		if m.unguard() {
			w.write(m)
			w.deployedAtLast(p, a, m)
		}
		w.deletedAtLast(p, a, m)
	}
	w.histories(a)
	if left := w.there(""); len(left) > 0 {
		for _, id := range sorted(left) {
			if is := left[id]; !w.ever[is.Stack+"/"+is.Node] {
				w.fault("at the end %s of %s is there", is.Node, is.Stack)
			}
		}
	}
	w.secrets()
}

// leadOut takes the ways out that are offered, at most three of them.
func (w *world) leadOut(p *person, a *app.App, m *model) {
	for step := range 4 {
		st := w.stackOf(a, m)
		if st == nil {
			return
		}
		r := w.last(a, m)
		if r == nil || r.State == run.StatusHeld {
			return
		}
		if step == 3 {
			w.fault("%s is %s after three ways out, its run %d is %s: %s", m.name, st.Shown(), r.Number, r.State, r.Reason)
			return
		}
		if step > 0 && r.State == run.StatusStuck {
			w.leaves(p, a, m, st)
		}
		if !w.takesUp(p, a, m, st, step == 0 || w.seed%2 == 0) {
			w.fault("%s is %s, its run %d is %s, and no way out is offered", m.name, st.Shown(), r.Number, r.State)
			return
		}
		w.settle()
	}
}

// deployedAtLast deploys a stack where nothing fails, and wants nothing to be left to do.
func (w *world) deployedAtLast(p *person, a *app.App, m *model) {
	for try := range 3 { // the first may have something left over from a run that was held
		if r := w.last(a, m); r != nil && r.State == run.StatusHeld {
			w.takesUp(p, a, m, w.stackOf(a, m), true)
			w.settle()
		}
		v, err := w.whatIf(p, a, m)
		if err != nil {
			w.fault("what deploying %s would do at last is not known: %v", m.name, err)
			return
		}
		if v.Findings.HasErrors() {
			w.cannot(p, "deploy "+m.name+" at last", &app.Refusal{Findings: v.Findings})
			if nodes := w.built[m]; nodes != nil && try == 0 { // as it was deployed, and without what guards
				m.nodes = nodes
				m.unguard()
				w.write(m)
				continue
			}
			return
		}
		if v.NothingToDo() {
			break
		}
		w.carry(p, m, v, stack.Undo, "deploys "+m.name+" at last")
		w.settle()
	}
	if r := w.last(a, m); r != nil {
		w.fault("%s cannot be deployed at last: run %d is %s: %s", m.name, r.Number, r.State, r.Reason)
		return
	}
	v, err := w.whatIf(p, a, m)
	switch {
	case err != nil:
		w.fault("what deploying %s would do after its deployment is not known: %v", m.name, err)
	case !v.Empty():
		var words []string
		for _, ch := range v.Changes {
			if ch.Kind != whatif.Same {
				words = append(words, string(ch.Kind)+" "+ch.Name+" because "+strings.Join(ch.Because, "; "))
			}
		}
		w.fault("%s was deployed, and there is left to do: %s", m.name, strings.Join(words, ", "))
	}
	if st := w.stackOf(a, m); st != nil {
		d, err := a.Drift(background, st)
		if err != nil {
			w.fault("how %s differs is not known: %v", m.name, err)
		} else if n := len(d.Differs) + len(d.Gone) + len(d.Unrecorded); n > 0 {
			w.fault("%s was deployed, and %d places differ", m.name, n)
		}
	}
}

func (w *world) deletedAtLast(p *person, a *app.App, m *model) {
	st := w.stackOf(a, m)
	if st == nil || st.State == stack.Removed {
		return
	}
	v, err := a.WhatIfDelete(background, st)
	if err != nil {
		w.fault("%s cannot be deleted at last: %v", m.name, err)
		return
	}
	w.carry(p, m, v, stack.Hold, "deletes "+m.name+" at last")
	w.settle()
	if st := w.stackOf(a, m); st == nil || st.State != stack.Removed {
		w.fault("%s was deleted at last, and is %s", m.name, st.Shown())
	}
}

// nobodyElse wants each run to have touched what belongs to its own stack alone.
func (w *world) nobodyElse() {
	w.truth.mu.Lock()
	var wrong []string
	for _, c := range w.truth.log {
		name, _, isRun := strings.Cut(c.by, "/")
		of, _, known := strings.Cut(w.truth.names[c.id], "/")
		if isRun && known && of != name {
			wrong = append(wrong, c.method+" of "+w.truth.names[c.id]+" by run "+c.by)
		}
		if c.by == "" {
			wrong = append(wrong, c.method+" of "+w.truth.names[c.id]+" by nobody")
		}
	}
	w.truth.mu.Unlock()
	for _, text := range wrong {
		w.fault("somebody else's was touched: %s", text)
	}
}

// secrets wants no secret to be in the store in clear.
func (w *world) secrets() {
	files, err := filepath.Glob(filepath.Join(w.dir, "home", "store.db*"))
	if err != nil {
		panic(err)
	}
	for _, file := range append(files, filepath.Join(w.dir, "yard.db"), filepath.Join(w.dir, "yard.db-wal")) {
		b, err := os.ReadFile(file)
		if err == nil && bytes.Contains(b, []byte("whisper-")) {
			w.fault("a secret is in %s in clear", filepath.Base(file))
		}
	}
	for _, line := range w.story {
		if strings.Contains(line, "whisper-") {
			w.fault("a secret is told")
			return
		}
	}
}
