package yard_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/yard"
)

// inside calls something inside of a resource and yields the status; out may be nil.
func (b *bench) inside(method, id, path string, body, out any) int {
	b.t.Helper()
	text, err := json.Marshal(body)
	if err != nil {
		b.t.Fatal(err)
	}
	req, err := http.NewRequestWithContext(b.t.Context(), method,
		fmt.Sprintf("%s/v1/%s/%s/resources/%s/%s", b.Base, here.Account, here.Region, id, path), bytes.NewReader(text))
	if err != nil {
		b.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+b.Tokens[here.Account])
	req.Header.Set("Content-Type", "application/json")
	resp, err := b.HTTP.Do(req)
	if err != nil {
		b.t.Fatal(err)
	}
	defer resp.Body.Close()
	if out != nil && resp.StatusCode == http.StatusOK {
		if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
			b.t.Fatal(err)
		}
	}
	return resp.StatusCode
}

func text(s string) map[string]string { return map[string]string{"text": s} }

// A bucket that holds objects is not removed, unless it says that they go with it; what it
// holds is copied and restored as any contents.
func TestObjectsInBuckets(t *testing.T) {
	b := newBench(t)
	id := b.make("Bucket", props{"name": "kestrel-frames"}, nil)
	empty := b.get(id).Attributes["contents_digest"]
	for _, key := range []string{"2026/dawn.png", "2026/noon.png"} {
		if got := b.inside("PUT", id, "objects?key="+key, text("frame of "+key), nil); got != http.StatusOK {
			t.Fatalf("it answers %d", got)
		}
	}
	var list []yard.Object
	b.inside("GET", id, "objects", nil, &list)
	if len(list) != 2 || list[0].Key != "2026/dawn.png" || list[0].Size != 22 || list[0].Text != nil {
		t.Errorf("%+v", list)
	}
	b.inside("GET", id, "objects?key=2026/noon.png", nil, &list)
	if len(list) != 1 || *list[0].Text != "frame of 2026/noon.png" {
		t.Errorf("%+v", list)
	}
	if got := b.inside("GET", id, "objects?key=none", nil, nil); got != http.StatusNotFound {
		t.Errorf("what is not there is answered with %d", got)
	}
	full := b.get(id).Attributes
	if fmt.Sprint(full["objects"]) != "2" || full["contents_digest"] == empty {
		t.Errorf("%v", full)
	}
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, Type: "Bucket", ID: id}, b.key()); kind(err) != "not-empty" ||
		!strings.Contains(err.Error(), "holds 2 objects") {
		t.Errorf("a full one: %v", err)
	}
	op, err := b.Backup(t.Context(), cloud.Ref{Target: here, Type: "Bucket", ID: id}, b.key())
	if err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Minute)
	for _, key := range []string{"2026/dawn.png", "2026/noon.png", "never there"} {
		b.inside("DELETE", id, "objects?key="+strings.ReplaceAll(key, " ", "%20"), nil, nil)
	}
	if now := b.get(id).Attributes; now["contents_digest"] != empty || fmt.Sprint(now["objects"]) != "0" {
		t.Errorf("emptied: %v", now)
	}
	if _, err := b.Restore(t.Context(), cloud.Ref{Target: here, Type: "Bucket", ID: id}, b.key(), op.Backup); err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Minute)
	if now := b.get(id).Attributes; now["contents_digest"] != full["contents_digest"] || fmt.Sprint(now["objects"]) != "2" {
		t.Errorf("restored: %v", now)
	}
	if err := b.change(id, props{"empties": true, "keep_days": 400}, nil); err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Minute)
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, Type: "Bucket", ID: id}, b.key()); err != nil {
		t.Errorf("one that is emptied: %v", err)
	}
	kept := b.make("Bucket", props{"name": "short-lived", "keep_days": 1}, nil)
	b.inside("PUT", kept, "objects?key=a", text("x"), nil)
	b.clock.pass(25 * time.Hour)
	if b.inside("GET", kept, "objects", nil, &list); len(list) != 0 {
		t.Errorf("after its days it holds %v", list)
	}
}

// Messages wait in a queue in their order; what was taken is hidden and comes back, unless it
// is removed; none waits longer than it is kept.
func TestMessagesInQueues(t *testing.T) {
	b := newBench(t)
	id := b.make("Queue", props{"keep": "1 h"}, nil)
	for i := range 3 {
		b.inside("POST", id, "messages", text(fmt.Sprint("reading ", i)), nil)
		b.clock.pass(time.Second)
	}
	if n := fmt.Sprint(b.get(id).Attributes["messages"]); n != "3" {
		t.Errorf("%s wait", n)
	}
	take := func(most int) (out []yard.Message) {
		b.inside("POST", id, "taken", map[string]int{"most": most}, &out)
		return out
	}
	first := take(2)
	if len(first) != 2 || first[0].Text != "reading 0" || first[0].Taken != 1 {
		t.Fatalf("%+v", first)
	}
	b.inside("DELETE", id, "messages?id="+first[0].ID, nil, nil)
	if rest := take(9); len(rest) != 1 || rest[0].Text != "reading 2" {
		t.Errorf("%+v", rest)
	}
	b.clock.pass(31 * time.Second)
	if back := take(9); len(back) != 2 || back[0].Text != "reading 1" || back[0].Taken != 2 {
		t.Errorf("%+v", back)
	}
	b.clock.pass(time.Hour)
	if late := take(9); len(late) != 0 {
		t.Errorf("%+v", late)
	}
	for _, path := range []string{"objects", "messages?id=x"} { // what is inside of other types
		topic := b.make("Topic", nil, nil)
		if got := b.inside("DELETE", topic, path, nil, nil); got != http.StatusUnprocessableEntity {
			t.Errorf("%s of a topic: %d", path, got)
		}
	}
}

// A function answers requests, and fails where its role may not do what it needs any more.
func TestRequestsToFunctions(t *testing.T) {
	b := newBench(t)
	queue := b.make("Queue", nil, nil)
	role := b.make("Role", props{"for": "function"}, nil)
	grant := b.make("Grant", props{"actions": []string{"queue:read"}}, links{"role": {role}, "on": {queue}})
	id := b.make("Function", props{"runtime": "go-1", "needs": []string{"queue:read"}}, links{"role": {role}})
	var got cloud.Reply
	if b.inside("POST", id, "requests", text("now"), &got); got.Status != http.StatusOK || got.By != id || !strings.Contains(got.Body, "go-1") {
		t.Errorf("%+v", got)
	}
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, Type: "Grant", ID: grant}, b.key()); err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Minute)
	if b.inside("POST", id, "requests", text("now"), &got); got.Status != http.StatusInternalServerError || !strings.Contains(got.Body, "lacks queue:read") {
		t.Errorf("%+v", got)
	}
}
