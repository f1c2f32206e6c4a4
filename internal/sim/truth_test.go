package sim

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
)

// truth knows who did what in the cloud, and when: it reads each call that changes something, as the cloud gets it.
type truth struct {
	w     *world
	mu    sync.Mutex
	names map[string]string // of what is, or was, in the cloud, by id: stack/node
	last  map[string]*call  // the last change, by id
	log   []*call
	asked map[string]time.Duration // when each run had a question of a probe answered last
	keys  map[string]bool          // that were sent before
	ops   map[string]string
}

// call is a call of the cloud.
type call struct {
	at         time.Duration
	method     string
	path       string // after the region
	id         string
	verb       string // what is asked of it: drain, backups …
	node       string // stack/node, as the tags of a creation say
	of         string // stack/node of what it is about, as far as is known
	typ        string
	by         string // hut/3, hand; "" is somebody who only looks
	key        string
	properties map[string]any
	tags       map[string]string
	refused    bool
	again      bool // it was sent before
}

const hand = "hand"

func newTruth(w *world) *truth {
	return &truth{w: w, names: map[string]string{}, last: map[string]*call{}, asked: map[string]time.Duration{}, keys: map[string]bool{}, ops: map[string]string{}}
}

func (t *truth) nameOf(id string) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.names[id]
}

var byRun = regexp.MustCompile(`\(run (\d+) of ([^,]+), store`)

// calls reads a call before it is made.
func (t *truth) calls(req *http.Request) (*call, error) {
	c := &call{at: t.w.clock(), method: req.Method, key: req.Header.Get("Idempotency-Key")}
	parts := strings.SplitN(strings.TrimPrefix(req.URL.Path, "/v1/"), "/", 3)
	if len(parts) == 3 {
		c.path = parts[2]
	} else {
		c.path = req.URL.Path
	}
	if m := byRun.FindStringSubmatch(req.Header.Get("From")); m != nil {
		c.by = m[2] + "/" + m[1]
	}
	kind, rest, _ := strings.Cut(c.path, "/")
	rest, after, _ := strings.Cut(rest, "/")
	if inner, verb, _ := strings.Cut(after, "/"); strings.Contains(inner, "~") { // it is in a cluster
		rest, after = rest+"/"+inner, verb
	}
	c.verb = after
	t.mu.Lock()
	switch kind {
	case "resources":
		c.id, c.of = rest, t.names[rest]
	case "operations":
		c.of = t.ops[rest]
	}
	t.mu.Unlock()
	if req.Body == nil {
		return c, nil
	}
	body, err := io.ReadAll(req.Body)
	if err != nil {
		return nil, err
	}
	req.Body = io.NopCloser(bytes.NewReader(body))
	var sent struct {
		Type       string
		Properties map[string]any
		Tags       map[string]string
	}
	if c.changes() && len(body) > 0 && json.Unmarshal(body, &sent) == nil {
		c.typ, c.properties, c.tags = sent.Type, sent.Properties, sent.Tags
		if n := sent.Tags["node"]; n != "" {
			c.node = sent.Tags["stack"] + "/" + n
		}
	}
	return c, nil
}

// changes reports whether a call makes, changes or removes something.
func (c *call) changes() bool {
	return c.method == http.MethodPost && c.path == "resources" || c.id != "" && (c.method == http.MethodPatch || c.method == http.MethodDelete) && c.verb == ""
}

// words tell a call without what is by chance.
func (c *call) words() string {
	what := c.path
	if c.node != "" {
		what = c.node
	}
	if c.of != "" && c.of != c.node {
		what += " of " + c.of
	}
	return strings.TrimSpace(c.method + " " + chance.ReplaceAllString(what, "<id>"))
}

// lost takes in a call whose answer was lost: it may be done.
func (t *truth) lost(c *call) {
	t.mu.Lock()
	defer t.mu.Unlock()
	c.refused = true
	t.log = append(t.log, c)
}

// answered takes in what the cloud has said to a call.
func (t *truth) answered(c *call, resp *http.Response) error {
	if c.path == "ask" {
		t.mu.Lock()
		t.asked[c.by] = t.w.clock()
		t.mu.Unlock()
	}
	if !c.changes() {
		return nil
	}
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return err
	}
	resp.Body = io.NopCloser(bytes.NewReader(body))
	t.mu.Lock()
	defer t.mu.Unlock()
	c.at = t.w.clock()
	c.refused = resp.StatusCode >= 300
	if resp.StatusCode >= 500 { // it may be done all the same
		t.log = append(t.log, c)
	}
	if c.refused {
		return nil
	}
	var op struct {
		ID         string
		ResourceID string `json:"resource_id"`
	}
	if err := json.Unmarshal(body, &op); err != nil {
		return nil
	}
	if c.id == "" {
		c.id = op.ResourceID
	}
	t.ops[op.ID] = cmp.Or(c.node, t.names[c.id])
	if c.key != "" && t.keys[c.key] {
		c.again = true
		return nil
	}
	t.keys[c.key] = true
	t.note(c)
	return nil
}

// note takes in a change.
func (t *truth) note(c *call) {
	if c.node != "" {
		t.names[c.id] = c.node
	}
	t.last[c.id] = c
	t.log = append(t.log, c)
}

// byHand notes what hands have done.
func (t *truth) byHand(method, id string, properties map[string]any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.note(&call{at: t.w.clock(), method: method, path: "resources/" + id, id: id, by: hand, properties: properties})
}

// of is what a run has changed, in order.
func (t *truth) of(name string, number int) []*call {
	by := name + "/" + strconv.Itoa(number)
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []*call
	for _, c := range t.log {
		if c.by == by {
			out = append(out, c)
		}
	}
	return out
}

// handsSince are the ids and the names that hands have touched since a moment.
func (t *truth) handsSince(at time.Duration) map[string]bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := map[string]bool{}
	for _, c := range t.log {
		if c.by == hand && c.at >= at {
			out[c.id], out[t.names[c.id]] = true, true
		}
	}
	return out
}

func (c *call) String() string { return fmt.Sprintf("%s %s by %s", c.method, c.id, c.by) }

// askedAt is when a run had a question of a probe answered last; 0 is never.
func (t *truth) askedAt(name string, number int) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.asked[name+"/"+strconv.Itoa(number)]
}
