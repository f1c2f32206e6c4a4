package sim

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// holding are the resources of a stack that hold data, by name.
func (w *world) holding(m *model) map[string]thing {
	out := map[string]thing{}
	for _, is := range w.there(m.name) {
		if is.Type == "Database" || is.Type == "Disk" {
			out[is.Node] = is
		}
	}
	return out
}

// fill puts something into what holds data.
func (w *world) fill(_ *person, m *model, x act) {
	things := w.holding(m)
	if len(things) == 0 {
		return
	}
	node := pick(sorted(things), x.A)
	w.mu.Lock()
	w.filled++
	n := w.filled
	w.mu.Unlock()
	if err := w.door().Fill(background, yard.Filling{Stack: m.name, Node: node, Contents: fmt.Sprintf("snow %d", n)}); err != nil {
		w.tell("%s of %s cannot be filled: %v", node, m.name, err)
		return
	}
	w.tell("%s of %s is filled", node, m.name)
}

// backups are those that the cloud has of a stack.
func (w *world) backups(m *model) (list []cloud.Backup) {
	req, err := http.NewRequestWithContext(background, http.MethodGet, cloudURL+"/v1/"+place.Account+"/"+place.Region+"/backups?stack="+m.name, nil)
	if err != nil {
		panic(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.tokens[place.Account])
	resp, err := w.cloud.RoundTrip(req)
	if err == nil {
		err = json.NewDecoder(resp.Body).Decode(&list)
	}
	if err != nil {
		w.fault("the backups of %s cannot be read: %v", m.name, err)
	}
	return list
}

// copied wants the backups that policies promise: what was kept before it went, and what the new one of a swap holds.
func (w *world) copied(of *running, name, id string, now map[string]thing) string {
	was, there := of.before[of.ids[name]]
	w.mu.Lock()
	touched := w.filled != of.fills
	w.mu.Unlock()
	kind := whatif.Kind(of.agreed[name])
	if !there || touched || kind != whatif.Swap && kind != whatif.Drop || was.Type != "Database" && was.Type != "Disk" && was.Type != "Bucket" {
		return ""
	}
	backs := func(r rules) bool { return r.has(name, "Backup") || r.has(name, "Backup and restore") }
	if backs(of.was) && (kind == whatif.Drop || backs(of.rules)) && !of.was.has(name, "Keep") && !of.rules.has(name, "Keep") {
		w.meet("a backup was promised")
		if !slices.ContainsFunc(w.backups(of.model), func(b cloud.Backup) bool {
			return b.Of == was.ID && b.Digest == was.Attributes["contents_digest"] && b.Taken.Sub(w.begun) >= of.at.Truncate(time.Millisecond)
		}) {
			return "has no backup of what it held"
		}
	}
	if is := now[id]; kind == whatif.Swap && of.rules.has(name, "Backup and restore") && of.was.has(name, "Backup and restore") && is.Type == was.Type {
		w.meet("a swap was to be filled")
		if is.Attributes["contents_digest"] != was.Attributes["contents_digest"] {
			return "does not hold what the old one held"
		}
	}
	return ""
}

// stays reports whether something may stay in the cloud when its stack lets it go.
func (w *world) stays(m *model, name string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.ever[m.name+"/"+name]
}

// agreedTo takes in the policies of what was deployed, and wants those that guard to have been obeyed.
func (w *world) agreedTo(of *running, state run.Status) {
	for _, name := range sorted(of.agreed) {
		kind := whatif.Kind(of.agreed[name])
		if (kind == whatif.Swap || kind == whatif.Drop) && of.was.has(name, "Guard") && (of.rules.has(name, "Guard") || of.kind == run.KindDelete) {
			w.fault("run %d of %s was to %s %s, which is guarded", of.number, of.model.name, kind, name)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case state == run.StatusUndone || of.kind == run.KindAction:
	case state == run.StatusDone && of.rules != nil:
		w.deployed[of.model] = of.rules
		if of.nodes != nil {
			w.built[of.model] = of.nodes
		}
	default:
		delete(w.deployed, of.model)
	}
}

// keeps notes what has the policy Keep from now on, by whatever name.
func (w *world) keeps(m *model, names []string, r rules) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, name := range names {
		if r.has(name, "Keep") {
			w.ever[m.name+"/"+name] = true
		}
	}
}
