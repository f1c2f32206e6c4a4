package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

var shipped = profile.Read()

// sky is a cloud in memory whose operations take a second each.
type sky struct {
	mu        sync.Mutex
	resources map[string]cloud.Resource
	ops       map[string]*skyOp
	byKey     map[string]string
	calls     []string
	refuse    func(call string, try int) error // what a call is refused with
	tries     map[string]int
	read      func(r *cloud.Resource) // somebody changes a resource right after it was read
	atOnce    int
	most      int
}

type skyOp struct {
	cloud.Operation
	ends time.Time
	do   func()
}

func newSky() *sky {
	return &sky{resources: map[string]cloud.Resource{}, ops: map[string]*skyOp{}, byKey: map[string]string{},
		tries: map[string]int{}}
}

// wire is what JSON makes of properties on their way.
func wire(properties map[string]any) map[string]any {
	text, err := json.Marshal(properties)
	if err != nil {
		panic(err)
	}
	out := map[string]any{}
	if err := json.Unmarshal(text, &out); err != nil {
		panic(err)
	}
	return out
}

func (s *sky) Targets(context.Context) ([]stack.Target, error) { return nil, nil }

func (s *sky) About(context.Context, stack.Target) (*cloud.About, error) { return &cloud.About{}, nil }

func (s *sky) NameTaken(context.Context, stack.Target, string, string) (bool, string, error) {
	return false, "", nil
}

func (s *sky) List(context.Context, stack.Target, string) ([]cloud.Resource, error) { return nil, nil }

func (s *sky) Get(_ context.Context, ref cloud.Ref) (cloud.Resource, error) {
	id := ref.ID
	s.mu.Lock()
	defer s.mu.Unlock()
	r, ok := s.resources[id]
	if !ok {
		return r, cloud.NotFound(id)
	}
	if s.read != nil {
		changed := r
		s.read(&changed)
		s.resources[id] = changed
	}
	return r, nil
}

// begin starts an operation, once for a key.
func (s *sky) begin(call, key, id string, do func()) (cloud.Operation, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls = append(s.calls, call)
	s.tries[call]++
	if s.refuse != nil {
		if err := s.refuse(call, s.tries[call]); err != nil {
			return cloud.Operation{}, err
		}
	}
	if op := s.byKey[key]; op != "" {
		return s.ops[op].Operation, nil
	}
	o := &skyOp{Operation: cloud.Operation{ID: "op-" + key, ResourceID: id, State: "working", Step: "at it",
		NextMS: 1000}, ends: time.Now().Add(time.Second), do: do}
	s.ops[o.ID], s.byKey[key] = o, o.ID
	s.atOnce++
	s.most = max(s.most, s.atOnce)
	return o.Operation, nil
}

func (s *sky) Create(_ context.Context, _ stack.Target, key string, r cloud.Request) (cloud.Operation, error) {
	id := "id-" + r.Tags["node"] + "-" + key
	return s.begin("create "+r.Tags["node"], key, id, func() {
		s.resources[id] = cloud.Resource{ID: id, Type: r.Type, Properties: wire(r.Properties), Links: r.Links,
			Tags: r.Tags, Attributes: map[string]any{"url": "at-" + r.Tags["node"]}}
	})
}

func (s *sky) Update(_ context.Context, ref cloud.Ref, key string, r cloud.Request) (cloud.Operation, error) {
	id := ref.ID
	s.mu.Lock()
	now := s.resources[id].ETag
	s.mu.Unlock()
	if r.ETag != now {
		return cloud.Operation{}, &cloud.Problem{Type: "changed-meanwhile", Title: "changed meanwhile", Status: 412,
			Detail: id + " was changed meanwhile"}
	}
	return s.begin("update "+id, key, id, func() {
		res := s.resources[id]
		next := map[string]any{}
		for k, v := range res.Properties {
			next[k] = v
		}
		for k, v := range wire(r.Properties) {
			if next[k] = v; v == nil {
				delete(next, k)
			}
		}
		res.Properties = next
		s.resources[id] = res
	})
}

func (s *sky) Delete(_ context.Context, ref cloud.Ref, key string) (cloud.Operation, error) {
	id := ref.ID
	return s.begin("delete "+id, key, id, func() { delete(s.resources, id) })
}

func (s *sky) Operation(_ context.Context, _ cloud.Ref, id string) (cloud.Operation, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.ops[id]
	if o.State == "working" && !time.Now().Before(o.ends) {
		o.State = "done"
		s.atOnce--
		o.do()
	}
	return o.Operation, nil
}

// diary is a journal in memory.
type diary struct {
	mu      sync.Mutex
	entries map[string]Entry
	events  []Event
	changes []Change
	wish    Wishes
	broken  error
}

func (d *diary) Note(_ context.Context, e *Entry, ev *Event, changes []Change) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.broken != nil {
		return d.broken
	}
	if e != nil {
		d.entries[e.Step.ID] = *e
	}
	if ev != nil {
		d.events = append(d.events, *ev)
	}
	d.changes = append(d.changes, changes...)
	return nil
}

func (d *diary) Wishes(context.Context) (Wishes, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.wish, nil
}

const chain = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    keep: { type: string, default: 1 d }
  node_templates:
    queue: { type: Queue, properties: { keep: { $get_input: keep } } }
    topic: { type: Topic, properties: { label: { $get_attribute: [ queue, url ] } } }
    news: { type: Subscription, properties: { to: a@b.example }, requirements: [ { topic: topic } ] }
    other: { type: Topic }
`

// driver is a driver of a template on the sky, with the steps to build it.
func driver(t *testing.T, s *sky, recorded []*stack.Recorded, flags ...string) (*Driver, *diary, Plan) {
	t.Helper()
	f, findings := tosca.Read("t.yaml", []byte(chain), tosca.Source{Profile: shipped.Load})
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	var given []stack.Given
	for _, flag := range flags {
		g, err := stack.ParseFlag(flag, f.Service.Inputs)
		if err != nil {
			t.Fatal(err)
		}
		given = append(given, g)
	}
	w, _ := stack.Resolve(f, stack.Options{Given: given})
	plan := NewPlan(whatif.Compare(whatif.State{Wanted: w, Recorded: recorded, BaseRevision: 1}), seconds)
	book := &diary{entries: map[string]Entry{}}
	d := &Driver{RunID: "run", Stack: "s", Cloud: s, Journal: book, Wanted: w, Library: shipped.Library}
	d.Begin(recorded, nil, nil, nil)
	return d, book, plan
}

func TestDriverBuilds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, book, plan := driver(t, s, nil)
		began := time.Now()
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || !out.Complete || len(out.Failed) > 0 {
			t.Fatalf("%+v %v", out, err)
		}
		if took := time.Since(began).Round(100 * time.Millisecond); took != 3*time.Second {
			t.Errorf("a chain of three took %s", took)
		}
		if s.most != 2 {
			t.Errorf("%d at once, want 2", s.most)
		}
		for name, want := range map[string]string{"queue": "at-queue", "topic": "at-topic"} {
			rec := d.recorded[name]
			if rec == nil || rec.Attributes["url"] != tosca.String(want) {
				t.Errorf("%s is recorded as %+v", name, rec)
			}
		}
		if got := s.resources[d.recorded["topic"].ID].Properties["label"]; fmt.Sprint(got) != "at-queue" {
			t.Errorf("the late value is %v", got)
		}
		if links := d.recorded["news"].Links["topic"]; len(links) != 1 || links[0].ID != d.recorded["topic"].ID {
			t.Errorf("links: %v", links)
		}
		if tags := s.resources[d.recorded["news"].ID].Tags; tags["stack"] != "s" || tags["node"] != "news" {
			t.Errorf("tags: %v", tags)
		}
		if len(book.changes) != 4 || book.entries["create news"].State != Done {
			t.Errorf("%d changes, %+v", len(book.changes), book.entries["create news"])
		}
	})
}

func TestDriverUndoes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		s.refuse = func(call string, _ int) error {
			if call == "create news" {
				return &cloud.Problem{Title: "no", Detail: "no news today", Fix: "wait", Status: 422}
			}
			return nil
		}
		d, book, plan := driver(t, s, nil)
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || out.Complete || len(out.Failed) != 1 || out.Failed[0].Reason != "no news today; wait" ||
			out.CannotReturn {
			t.Fatalf("%+v %v", out, err)
		}
		out, err = d.Run(t.Context(), PlanUndo(plan, out.Entries))
		if err != nil || !out.Complete {
			t.Fatalf("%+v %v", out, err)
		}
		if len(s.resources) != 0 || len(d.recorded) != 0 {
			t.Errorf("left: %v, recorded: %v", s.resources, d.recorded)
		}
		var deleted []string
		for _, c := range s.calls {
			if strings.HasPrefix(c, "delete") {
				deleted = append(deleted, strings.Split(c, "-")[1])
			}
		}
		if slices.Index(deleted, "topic") > slices.Index(deleted, "queue") {
			t.Errorf("deleted in the order %v", deleted)
		}
		if last := book.events[len(book.events)-1]; last.State != IsUndone {
			t.Errorf("last event: %+v", last)
		}
	})
}

func TestDriverTriesAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		s.refuse = func(call string, try int) error {
			if call == "create queue" && try <= 3 {
				return &cloud.Problem{Title: "busy", Passing: true, RetryAfterMS: 2000}
			}
			if call == "create other" {
				return &cloud.Problem{Title: "always busy", Passing: true}
			}
			return nil
		}
		d, book, plan := driver(t, s, nil)
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || len(out.Failed) != 1 || !strings.Contains(out.Failed[0].Reason, "always busy; tried 8 times") {
			t.Fatalf("%+v %v", out.Failed, err)
		}
		shown := 0
		for _, e := range book.events {
			if e.Resource == "queue" && e.Step == "trying again in 2s" && e.Reason == "busy" {
				shown++
			}
		}
		if shown != 3 {
			t.Errorf("%d pauses are shown", shown)
		}
	})
}

func TestDriverSendsTheSameKeyAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, book, plan := driver(t, s, nil)
		ctx, kill := context.WithTimeout(t.Context(), 1500*time.Millisecond)
		defer kill()
		if _, err := d.Run(ctx, plan.Steps); !errors.Is(err, context.DeadlineExceeded) {
			t.Fatalf("killed: %v", err)
		}
		if st := book.entries["create topic"].State; st != Started {
			t.Fatalf("the topic is %s", st)
		}
		var entries []Entry
		for _, e := range book.entries {
			entries = append(entries, e)
		}
		var recorded []*stack.Recorded
		for _, ch := range book.changes {
			recorded = append(recorded, ch.(Put).Record)
		}
		d.Begin(recorded, nil, nil, entries)
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || !out.Complete || len(s.resources) != 4 {
			t.Errorf("resumed: %+v %v, %d resources", out, err, len(s.resources))
		}
	})
}

func TestDriverPutsBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, _, plan := driver(t, s, nil)
		if _, err := d.Run(t.Context(), plan.Steps); err != nil {
			t.Fatal(err)
		}
		var recorded []*stack.Recorded
		for _, r := range d.recorded {
			recorded = append(recorded, r)
		}
		id := d.recorded["queue"].ID
		d, _, plan = driver(t, s, recorded, "keep=2 d")
		d.RunID = "second"
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || !out.Complete || fmt.Sprint(s.resources[id].Properties["keep"]) != "2 d" {
			t.Fatalf("%v %v", err, s.resources[id].Properties)
		}
		if out, err = d.Run(t.Context(), PlanUndo(plan, out.Entries)); err != nil || !out.Complete {
			t.Fatal(err, out)
		}
		if got := fmt.Sprint(s.resources[id].Properties["keep"]); got != "1 d" {
			t.Errorf("put back: %s", got)
		}
		if got := tosca.Show(d.recorded["queue"].Properties["keep"]); got != "1 d" {
			t.Errorf("recorded: %s", got)
		}
	})
}

// TestDriverLeavesAChangeInBetween lets somebody change a resource by hand between
// reading and sending: the edit is refused, and undoing leaves the change alone.
func TestDriverLeavesAChangeInBetween(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, _, plan := driver(t, s, nil)
		if _, err := d.Run(t.Context(), plan.Steps); err != nil {
			t.Fatal(err)
		}
		var recorded []*stack.Recorded
		for _, r := range d.recorded {
			recorded = append(recorded, r)
		}
		id := d.recorded["queue"].ID
		d, _, plan = driver(t, s, recorded, "keep=2 d")
		d.RunID = "second"
		s.read = func(r *cloud.Resource) {
			if r.ID == id {
				r.ETag, r.Properties = "by hand", map[string]any{"keep": "9 d"}
			}
		}
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || out.Complete || len(out.Failed) != 1 ||
			!strings.Contains(out.Failed[0].Reason, "changed in the cloud meanwhile") {
			t.Fatalf("%v %+v", err, out)
		}
		s.read = nil
		if out, err = d.Run(t.Context(), PlanUndo(plan, out.Entries)); err != nil || !out.Complete {
			t.Fatal(err, out)
		}
		if got := fmt.Sprint(s.resources[id].Properties["keep"]); got != "9 d" {
			t.Errorf("after undoing it is %s", got)
		}
	})
}

func TestDriverIsCancelled(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, book, plan := driver(t, s, nil)
		time.AfterFunc(100*time.Millisecond, func() {
			book.mu.Lock()
			defer book.mu.Unlock()
			book.wish.Cancel = true
		})
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || !out.Cancelled || out.Complete || len(s.resources) != 2 {
			t.Errorf("%+v %v, %d resources", out, err, len(s.resources))
		}
	})
}

// TestDriverCancelledBefore begins nothing where somebody has asked to stop
// before, as when the process that was asked has ended.
func TestDriverCancelledBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, book, plan := driver(t, s, nil)
		book.wish.Cancel = true
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || !out.Cancelled || out.Complete || len(s.resources) != 0 {
			t.Errorf("%+v %v, %d resources", out, err, len(s.resources))
		}
	})
}

// TestDriverPauses begins nothing more while somebody wishes so, tells no step as left
// out, and goes on where the wish is taken back before all has come to its end.
func TestDriverPauses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, book, plan := driver(t, s, nil)
		pause := func(wanted bool) func() {
			return func() {
				book.mu.Lock()
				defer book.mu.Unlock()
				book.wish.Pause = wanted
			}
		}
		time.AfterFunc(100*time.Millisecond, pause(true))
		out, err := d.Run(t.Context(), plan.Steps)
		if err != nil || !out.Paused || out.Complete || len(s.resources) != 2 || len(out.Failed) > 0 {
			t.Fatalf("%+v %v, %d resources", out, err, len(s.resources))
		}
		for _, e := range book.events {
			if e.State == Skipped {
				t.Errorf("told as left out: %+v", e)
			}
		}
		pause(false)()
		time.AfterFunc(100*time.Millisecond, pause(true))
		time.AfterFunc(600*time.Millisecond, pause(false)) // while one is under way still
		if out, err := d.Run(t.Context(), plan.Steps); err != nil || out.Paused || !out.Complete || len(s.resources) != 4 {
			t.Errorf("%+v %v, %d resources", out, err, len(s.resources))
		}
	})
}

func TestDriverStopsWhenTheJournalBreaks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSky()
		d, book, plan := driver(t, s, nil)
		book.broken = errors.New("the disk is full")
		if _, err := d.Run(t.Context(), plan.Steps); err == nil || !strings.Contains(err.Error(), "the disk is full") {
			t.Errorf("%v", err)
		}
		if len(s.calls) > 0 {
			t.Errorf("called without a journal: %v", s.calls)
		}
	})
}
