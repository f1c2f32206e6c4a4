package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/examples"
	"brickrow/internal/cloud"
	"brickrow/internal/helper"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// bench is an app on a folder of its own, with the demo's templates.
type bench struct {
	*App
	t    *testing.T
	dir  string
	made int // by hand
}

func TestMain(m *testing.M) {
	helper.Serve()
	postgrestest.Main(m)
}

// onShared has all tests run on a shared store.
var onShared = os.Getenv("BRICKROW_TEST_STORE") == "shared"

var storesMade sync.Map // URLs of shared stores, by the folder of the data

// storeOf is where the store of a folder is.
func storeOf(t testing.TB, home string) string {
	if !onShared {
		return InFile
	}
	if url, ok := storesMade.Load(home); ok {
		return url.(string)
	}
	url, _ := storesMade.LoadOrStore(home, postgrestest.Store(t))
	return url.(string)
}

func newBench(t *testing.T, speed float64) *bench {
	t.Helper()
	home := filepath.Join(t.TempDir(), "home")
	a, err := Open(Options{Home: home, Store: storeOf(t, home), Speed: speed})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close() })
	dir := t.TempDir()
	if err := os.CopyFS(dir, examples.Ridge); err != nil {
		t.Fatal(err)
	}
	dir = filepath.Join(dir, "kestrel-ridge")
	b := &bench{App: a, t: t, dir: dir}
	b.write("secrets/db_password", "frost-and-thaw-77\n")
	b.write("secrets/oncall_token", "pager-secret-99\n")
	return b
}

// long leaves a test out where only a short look is wanted, as under the race
// detector, which is many times slower.
func long(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("it takes long")
	}
}

func (b *bench) write(name, text string) string {
	b.t.Helper()
	path := filepath.Join(b.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		b.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		b.t.Fatal(err)
	}
	return path
}

func (b *bench) preview(file string, flags ...string) *Preview {
	b.t.Helper()
	d, err := b.Load(b.t.Context(), filepath.Join(b.dir, file), Values{Flags: flags})
	if err != nil {
		b.t.Fatal(err)
	}
	p, err := b.WhatIf(b.t.Context(), d)
	if err != nil {
		b.t.Fatal(err)
	}
	return p
}

func (b *bench) carry(p *Preview, onFailure stack.OnFailure) *run.Record {
	b.t.Helper()
	t, err := b.Prepare(b.t.Context(), p, onFailure)
	if err != nil {
		b.t.Fatal(err)
	}
	r, err := b.Execute(b.t.Context(), t.Run.ID, t.Token)
	if err != nil {
		b.t.Fatal(err)
	}
	return r
}

// deploy deploys a stack file and wants the run to end in a state.
func (b *bench) deploy(want run.Status, file string, flags ...string) *run.Record {
	b.t.Helper()
	r := b.carry(b.preview(file, flags...), "undo")
	if r.State != want {
		b.t.Fatalf("deploy %s %v ended %s (%s), want %s", file, flags, r.State, r.Reason, want)
	}
	return r
}

// listing is everything in the cloud, as JSON.
func (b *bench) listing(stackName string) string {
	b.t.Helper()
	list, err := b.Door.Everything(b.t.Context(), stackName)
	if err != nil {
		b.t.Fatal(err)
	}
	text, err := json.MarshalIndent(list, "", " ")
	if err != nil {
		b.t.Fatal(err)
	}
	return string(text)
}

func (b *bench) fault(f yard.Fault) {
	b.t.Helper()
	if f.Reason == "" {
		f.Reason = "the host caught fire"
	}
	if _, err := b.Door.AddFault(b.t.Context(), f); err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) clearFaults() {
	b.t.Helper()
	if err := b.Door.ClearFaults(b.t.Context()); err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) stack(name string) *stack.Stack {
	b.t.Helper()
	st, err := b.store.Find(b.t.Context(), name)
	if err != nil {
		b.t.Fatal(err)
	}
	return st
}

func (b *bench) wantSame(what, got, want string) {
	b.t.Helper()
	if got == want {
		return
	}
	g, w := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range min(len(g), len(w)) {
		if g[i] != w[i] {
			b.t.Fatalf("%s: line %d is %q, was %q", what, i+1, g[i], w[i])
		}
	}
	b.t.Fatalf("%s: %d lines, were %d", what, len(g), len(w))
}

const test = "bulletin-test.stack.yaml"

// everyChange makes each resource of the bulletin take part in the second
// deployment: new, edited or swapped.
var everyChange = []string{"readers=4", "forecasters=3", "image=fern-13", "db_size=large", "db_version=16",
	"db_storage=60 GiB", "alarm_url=https://elsewhere.example/alarm", "oncall_token=another-token"}

func TestWholeJob(t *testing.T) {
	t.Parallel()
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	if p := b.preview(test); !p.Empty() {
		t.Errorf("a what-if right after the deployment shows %s", p.Tally)
	}
	b.deploy(run.StatusDone, test, everyChange...)
	if p := b.preview(test, everyChange...); !p.Empty() {
		t.Errorf("a what-if after the second deployment shows %s", p.Tally)
	}
	back, err := b.WhatIfUndo(t.Context(), b.stack("bulletin-test"), 0)
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(back, "undo"); r.State != run.StatusUndone && r.State != run.StatusDone {
		t.Fatalf("going back ended %s: %s", r.State, r.Reason)
	}
	if p := b.preview(test); !p.Empty() {
		t.Errorf("a what-if after going back shows %s", p.Tally)
	}
	for _, name := range []string{"bulletin-test", "ridge-base"} { // the one uses results of the other
		gone, err := b.WhatIfDelete(t.Context(), b.stack(name))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(gone, "hold"); r.State != run.StatusDone {
			t.Fatalf("delete ended %s: %s", r.State, r.Reason)
		}
	}
	if left := b.listing("ridge-base"); left != "[]" {
		t.Errorf("after the deletion there is %s", left)
	}
	if st := b.stack("ridge-base"); st.State != stack.Removed {
		t.Errorf("the stack is %s", st.State)
	}
}

func TestFaultAtAnyResourceIsUndone(t *testing.T) {
	long(t)
	const parts = 4 // each has a cloud of its own, so that they run beside each other
	for part := range parts {
		t.Run(fmt.Sprint(part), func(t *testing.T) {
			t.Parallel()
			faultAtAny(t, func(i int) bool { return i%parts == part })
		})
	}
}

func faultAtAny(t *testing.T, mine func(i int) bool) {
	b := newBench(t, 20000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	empty := b.listing("")
	p := b.preview(test)
	for i, ch := range p.Changes {
		for _, at := range []string{"", "call"} {
			if !mine(i) {
				continue
			}
			b.fault(yard.Fault{Name: ch.Name, Type: ch.Type, Times: 1, At: at})
			r := b.deploy(run.StatusUndone, test)
			if !strings.Contains(r.Reason, "caught fire") || !strings.Contains(r.Reason, ch.Name) {
				t.Errorf("%s: the reason is %q", ch.Name, r.Reason)
			}
			b.wantSame("first deployment with a fault at "+ch.Name, b.listing(""), empty)
			b.clearFaults()
		}
	}
	b.deploy(run.StatusDone, test)
	full := b.listing("")
	for i, ch := range b.preview(test, everyChange...).Changes {
		if ch.Kind == "same" || !mine(i) {
			continue
		}
		b.fault(yard.Fault{Name: ch.Name, Times: 1})
		b.deploy(run.StatusUndone, test, everyChange...)
		b.wantSame("second deployment with a fault at "+ch.Name, b.listing(""), full)
		b.clearFaults()
		if p := b.preview(test); !p.Empty() {
			t.Fatalf("after the fault at %s the record differs: %s", ch.Name, p.Tally)
		}
	}
}

// TestKilledRunIsResumed ends the process of a run, in effect, at many points:
// the context is taken away, and another app goes on.
func TestKilledRunIsResumed(t *testing.T) {
	long(t)
	t.Parallel()
	for _, way := range []Way{On, Back} {
		for _, after := range []time.Duration{2, 10, 25, 45, 70, 100} {
			b := newBench(t, 400)
			b.deploy(run.StatusDone, "ridge-base.stack.yaml")
			before := b.listing("")
			ticket, err := b.Prepare(t.Context(), b.preview(test), "undo")
			if err != nil {
				t.Fatal(err)
			}
			ctx, kill := context.WithTimeout(t.Context(), after*time.Millisecond)
			_, err = b.Execute(ctx, ticket.Run.ID, ticket.Token)
			kill()
			if unlock := b.store.Unlock(t.Context(), ticket.Run.StackID,
				ticket.Token); unlock != nil { // as if the process were gone
				t.Fatal(unlock)
			}
			if err == nil {
				t.Fatalf("the run was over before %d ms", after)
			}
			other, err := Open(Options{Home: b.Home, Store: storeOf(b.t, b.Home), Speed: 5000})
			if err != nil {
				t.Fatal(err)
			}
			b.App = other
			again, err := b.Resume(t.Context(), b.stack("bulletin-test"), way)
			if err != nil {
				t.Fatal(err)
			}
			r, err := b.Execute(t.Context(), again.Run.ID, again.Token)
			if err != nil {
				t.Fatal(err)
			}
			if way == Back {
				if r.State != run.StatusUndone {
					t.Fatalf("undoing after %d ms ended %s: %s", after, r.State, r.Reason)
				}
				b.wantSame("undone after a kill", b.listing(""), before)
			} else {
				if r.State != run.StatusDone {
					t.Fatalf("resuming after %d ms ended %s: %s", after, r.State, r.Reason)
				}
				b.wantOnce(b.preview(test))
			}
			other.Close()
		}
	}
}

// wantOnce wants every resource of a preview in the cloud just once.
func (b *bench) wantOnce(p *Preview) {
	b.t.Helper()
	list, err := b.Cloud.List(b.t.Context(), p.Target, p.ChangeSet.Stack)
	if err != nil {
		b.t.Fatal(err)
	}
	count := map[string]int{}
	for _, r := range list {
		count[r.Tags["node"]]++
	}
	for _, ch := range p.Changes {
		if ch.Kind != "same" || count[ch.Name] != 1 {
			b.t.Errorf("%s: %s, %d times in the cloud", ch.Name, ch.Kind, count[ch.Name])
		}
	}
	if len(list) != len(p.Changes) {
		b.t.Errorf("%d resources in the cloud, %d wanted", len(list), len(p.Changes))
	}
}

func TestPassingTroubleIsOvercome(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.fault(yard.Fault{Mode: "lose", Times: 6})
	b.fault(yard.Fault{Mode: "busy", Times: 4})
	r := b.deploy(run.StatusDone, test)
	b.wantOnce(b.preview(test))
	events, err := b.store.Events(t.Context(), r.ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	again := 0
	for _, e := range events {
		if strings.HasPrefix(e.Step, "trying again in") {
			again++
		}
	}
	if again < 10 {
		t.Errorf("%d retries are shown, want at least 10", again)
	}
}

func TestKeptComesBack(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	frames := b.id("frames")
	remove := func() {
		t.Helper()
		p, err := b.WhatIfDelete(t.Context(), b.stack("bulletin-test"))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(p, "hold"); r.State != run.StatusDone ||
			!strings.Contains(r.Reason, "kept: frames ("+frames+")") {
			t.Fatalf("%s: %s", r.State, r.Reason)
		}
	}
	remove()
	left := b.listing("bulletin-test")
	if p := b.preview(test); p.Change("frames").Kind != "adopt" || p.Tally.Adopt != 1 {
		t.Fatalf("frames: %s, %+v", p.Change("frames").Kind, p.Tally)
	}
	b.fault(yard.Fault{Name: "nightly", Times: 1})
	b.deploy(run.StatusUndone, test)
	b.wantSame("undone", b.listing("bulletin-test"), left)
	b.deploy(run.StatusDone, test)
	if got := b.id("frames"); got != frames {
		t.Errorf("frames is %s now, was %s", got, frames)
	}
	b.wantOnce(b.preview(test))
	remove()
	if b.listing("bulletin-test") != left {
		t.Error("something else is left the second time")
	}
}

// TestPoliciesAloneAreDeployed adds and takes away policies and nothing else.
func TestPoliciesAloneAreDeployed(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	text := func(policies, label string) {
		b.write("p.yaml",
			"tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    queue: { type: Queue }\n    topic: { type: Topic, properties: { label: "+label+" } }\n    other: { type: Subscription, properties: { label: "+label+", to: a@b.example }, requirements: [ { topic: topic } ] }\n"+policies)
	}
	b.write("p.stack.yaml", "stack: policies\ntemplate: p.yaml\ntarget: workshop/alder-1\n")
	text("", "one")
	b.deploy(run.StatusDone, "p.stack.yaml")
	before := b.listing("")

	text("  policies: [ { k: { type: Keep, targets: [ queue ] } } ]\n", "two")
	b.fault(yard.Fault{Name: "other", Times: 1})
	b.deploy(run.StatusUndone, "p.stack.yaml")
	text("", "one")
	if p := b.preview("p.stack.yaml"); !p.Empty() {
		t.Errorf("after undoing: %s", p.Tally)
	}
	text("  policies: [ { k: { type: Keep, targets: [ queue ] } } ]\n", "one")
	if p := b.preview("p.stack.yaml"); p.Tally.String() != "1 edit" ||
		p.Change("queue").Properties[0].Path != "policies" {
		t.Fatalf("a policy that is new: %s", p.Tally)
	}
	b.deploy(run.StatusDone, "p.stack.yaml")
	b.wantSame("a policy makes no call", b.listing(""), before)
	if p := b.preview("p.stack.yaml"); !p.Empty() {
		t.Errorf("left to do: %s", p.Tally)
	}
	text("  policies: [ { g: { type: Guard, targets: [ queue ] } }, { k: { type: Keep, targets: [ queue ] } } ]\n",
		"one")
	b.deploy(run.StatusDone, "p.stack.yaml")
	text("", "one")
	b.deploy(run.StatusDone, "p.stack.yaml")
	text("  policies: [ { k: { type: Keep, targets: [ queue ] } } ]\n", "one")
	b.deploy(run.StatusDone, "p.stack.yaml")
	p, err := b.WhatIfDelete(t.Context(), b.stack("policies"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusDone || !strings.Contains(r.Reason, "kept: queue") {
		t.Errorf("%s: %s", r.State, r.Reason)
	}
}

// TestASwapThatTurnsOutNotToBeOne has a property that forces a swap and waits
// for an attribute, which then stays as it is.
func TestASwapThatTurnsOutNotToBeOne(t *testing.T) {
	b := newBench(t, 5000)
	b.write("late.yaml", `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    word: { type: string, default: one }
    label: { type: string, default: first }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    group:
      type: ServerGroup
      properties: { size: small, image: fern-12, max: 2, want: 1, env: { WORD: { $get_input: word } } }
      requirements: [ { subnet: sub } ]
    topic: { type: Topic }
    news:
      type: Subscription
      properties: { label: { $get_input: label }, to: { $concat: [ "http://", { $join: [ { $get_attribute: [ group, addresses ] } ] } ] } }
      requirements: [ { topic: topic } ]
`)
	file := filepath.Base(b.write("late.stack.yaml", "stack: late\ntemplate: late.yaml\ntarget: workshop/alder-1\n"))
	b.deploy(run.StatusDone, file)
	ids := func() string {
		list, err := b.Cloud.List(t.Context(), b.stack("late").Target, "late")
		if err != nil {
			t.Fatal(err)
		}
		out := ""
		for _, r := range list {
			out += r.Tags["node"] + "=" + r.ID + " "
		}
		return out
	}
	before := ids()
	for _, flags := range [][]string{{"word=two"}, {"word=three", "label=second"}} {
		if p := b.preview(file, flags...); p.Change("news").Kind != "swap" {
			t.Fatalf("%v: news is %s", flags, p.Change("news").Kind)
		}
		b.deploy(run.StatusDone, file, flags...)
		if got := ids(); got != before {
			t.Errorf("%v: %s, was %s", flags, got, before)
		}
		if p := b.preview(file, flags...); !p.Empty() {
			t.Errorf("%v: left to do: %s", flags, p.Tally)
		}
	}
}

func TestHoldKeepsWhatIsBuilt(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.fault(yard.Fault{Name: "readings_db", Times: 1})
	r := b.carry(b.preview(test), "hold")
	if r.State != run.StatusHeld || b.stack("bulletin-test").State != stack.Partial {
		t.Fatalf("the run is %s, the stack %s", r.State, b.stack("bulletin-test").State)
	}
	if strings.Contains(b.listing("bulletin-test"), `"type": "Database"`) {
		t.Error("the failed database was left behind")
	}
	again, err := b.Resume(t.Context(), b.stack("bulletin-test"), On)
	if err != nil {
		t.Fatal(err)
	}
	r, err = b.Execute(t.Context(), again.Run.ID, again.Token)
	if err != nil || r.State != run.StatusDone {
		t.Fatalf("resumed: %v, %s %s", err, r.State, r.Reason)
	}
	b.wantOnce(b.preview(test))
}

func TestStuckDeletionGoesOn(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.fault(yard.Fault{Name: "ridge_net", On: "delete", Times: 1})
	p, err := b.WhatIfDelete(t.Context(), b.stack("ridge-base"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusStuck {
		t.Fatalf("the deletion is %s", r.State)
	}
	again, err := b.Resume(t.Context(), b.stack("ridge-base"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := b.Execute(t.Context(), again.Run.ID, again.Token); err != nil || r.State != run.StatusDone {
		t.Fatalf("resumed: %v %s", err, r.State)
	}
	if left := b.listing(""); left != "[]" {
		t.Errorf("left: %s", left)
	}
}

func TestTwoDeploymentsAtOnce(t *testing.T) {
	b := newBench(t, 5000)
	first, second := b.preview("ridge-base.stack.yaml"), b.preview("ridge-base.stack.yaml")
	ticket, err := b.Prepare(t.Context(), first, "undo")
	if err != nil {
		t.Fatal(err)
	}
	var refused *Refusal
	if _, err := b.Prepare(t.Context(), second, "undo"); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "locked by") {
		t.Fatalf("the second deployment: %v", err)
	}
	if _, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Prepare(t.Context(), second, "undo"); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "moved on") {
		t.Fatalf("a what-if from before the first deployment: %v", err)
	}
}

func TestCancelUndoes(t *testing.T) {
	b := newBench(t, 50)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	before := b.listing("")
	ticket, err := b.Prepare(t.Context(), b.preview(test), "undo")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Cancel(t.Context(), ticket.Run, stack.Undo); err != nil {
		t.Fatal(err)
	}
	r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
	if err != nil || r.State != run.StatusUndone || !strings.Contains(r.Reason, "cancelled") {
		t.Fatalf("%v, %s: %s", err, r.State, r.Reason)
	}
	b.wantSame("after cancelling", b.listing(""), before)
}

func TestCancelTooLateToStopAnythingUndoesAllTheSame(t *testing.T) {
	b := newBench(t, 40)
	before := b.listing("")
	one := b.write("one.yaml",
		"tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    net: { type: Network, properties: { cidr: 10.0.0.0/8 } }\n    router: { type: Router, requirements: [ { network: net } ] }\n    cut: { type: Topic }\n")
	b.write("one.stack.yaml", "stack: one\ntemplate: "+filepath.Base(one)+"\ntarget: workshop/alder-1\n")
	ticket, err := b.Prepare(t.Context(), b.preview("one.stack.yaml"), "undo")
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan *run.Record)
	go func() {
		r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
		if err != nil {
			t.Error(err)
		}
		ended <- r
	}()
	for { // until the last step is under way
		events, err := b.store.Events(t.Context(), ticket.Run.ID, 0)
		if err != nil {
			t.Fatal(err)
		}
		if len(events) > 0 && events[len(events)-1].Resource == "router" {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	if _, err := b.Cancel(t.Context(), ticket.Run, stack.Undo); err != nil {
		t.Fatal(err)
	}
	if r := <-ended; r.State == run.StatusUndone {
		b.wantSame("after cancelling", b.listing(""), before)
	} else if r.State != run.StatusDone { // it was over before it noticed
		t.Errorf("the run is %s", r.State)
	}
}

func TestSecretsAreNowhereInClear(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	b.fault(yard.Fault{Name: "oncall", Times: 1})
	b.deploy(run.StatusUndone, test, "oncall_token=brand-new-token")
	shown, err := json.Marshal(b.preview(test, "oncall_token=brand-new-token").ChangeSet)
	if err != nil {
		t.Fatal(err)
	}
	texts := map[string][]byte{"the change set": shown}
	files, err := os.ReadDir(b.Home)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if f.IsDir() {
			continue
		}
		if texts[f.Name()], err = os.ReadFile(filepath.Join(b.Home, f.Name())); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range texts {
		for _, secret := range []string{"frost-and-thaw-77", "pager-secret-99", "brand-new-token"} {
			if strings.Contains(string(text), secret) {
				t.Errorf("%s shows the secret %s", name, secret)
			}
		}
	}
	results, err := b.Results(t.Context(), b.stack("bulletin-test"))
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range results {
		if text, _ := json.Marshal(r.Value); r.Name == "keeper_password" && string(text) != `"(secret)"` {
			t.Errorf("the secret result is %s", text)
		}
	}
}

func TestChangesByHandAreFoundAndPutBack(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	full := b.listing("")
	ids := map[string]string{}
	target := b.stack("bulletin-test").Target
	list, err := b.Cloud.List(t.Context(), target, "bulletin-test")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range list {
		ids[r.Tags["node"]] = r.ID
	}
	byHand := func(op cloud.Operation, err error) {
		t.Helper()
		for err == nil && !op.Ended() {
			op, err = b.Cloud.Operation(t.Context(), cloud.Ref{Target: target}, op.ID)
		}
		if err != nil || op.State == "failed" {
			t.Fatal(err, op.Problem)
		}
	}
	byHand(b.Cloud.Update(t.Context(), cloud.Ref{Target: target, ID: ids["readings"]}, "h1",
		cloud.Request{Properties: map[string]any{"visible_after": "90 s"},
			Tags: map[string]string{"stack": "bulletin-test", "node": "readings", "desk": "snow", "bill": "ridge"}}))
	byHand(b.Cloud.Update(t.Context(), cloud.Ref{Target: target, ID: ids["oncall"]}, "h2",
		cloud.Request{Properties: map[string]any{"value": "guessed"}}))
	byHand(b.Cloud.Delete(t.Context(), cloud.Ref{Target: target, ID: ids["nightly"]}, "h3"))
	p := b.preview(test)
	if got := p.Tally.String(); got != "1 new, 2 edit" {
		t.Fatalf("the what-if after changes by hand shows %s", got)
	}
	for name, words := range map[string]string{"readings": "changed by hand", "oncall": "changed by hand",
		"nightly": "gone from the cloud"} {
		if ch := p.Change(name); !strings.Contains(strings.Join(ch.Because, "; "), words) {
			t.Errorf("%s: because %v", name, ch.Because)
		}
	}
	if len(p.Left) != 1 || p.Left[0].Path != "tags.bill" {
		t.Errorf("left as it is: %v", p.Left)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if r, err := b.Cloud.Get(t.Context(), cloud.Ref{Target: target, ID: ids["readings"]}); err != nil ||
		r.Tags["bill"] != "ridge" || r.Tags["desk"] != "snow" {
		t.Errorf("the tag of others is gone: %v %v", r.Tags, err)
	}
	byHand(b.Cloud.Update(t.Context(), cloud.Ref{Target: target, ID: ids["readings"]}, "h4",
		cloud.Request{Tags: map[string]string{"stack": "bulletin-test", "node": "readings", "desk": "snow", "store": b.storeID(t.Context())}}))
	after := strings.ReplaceAll(b.listing(""), b.id("nightly"), ids["nightly"])
	b.wantSame("after putting back", after, full)
}

func (b *bench) id(node string) string { return b.idIn("bulletin-test", node) }

func (b *bench) idIn(stackName, node string) string {
	b.t.Helper()
	current, _, err := b.store.Recorded(b.t.Context(), b.stack(stackName).ID)
	if err != nil {
		b.t.Fatal(err)
	}
	for _, r := range current {
		if r.Name == node {
			return r.ID
		}
	}
	b.t.Fatalf("%s is not recorded", node)
	return ""
}
