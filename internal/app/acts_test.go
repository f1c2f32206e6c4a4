package app

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

func (b *bench) act(want run.Status, resource, verb string, with ...string) *run.Record {
	b.t.Helper()
	return b.actIn("bulletin-test", want, resource, verb, with...)
}

func (b *bench) actIn(stackName string, want run.Status, resource, verb string, with ...string) *run.Record {
	b.t.Helper()
	in := map[string]string{}
	for i := 0; i+1 < len(with); i += 2 {
		in[with[i]] = with[i+1]
	}
	acts, err := b.WhatIfAct(b.t.Context(), b.stack(stackName), resource, verb, in)
	if err != nil {
		b.t.Fatal(err)
	}
	ticket, err := b.PrepareActs(b.t.Context(), acts)
	if err != nil {
		b.t.Fatal(err)
	}
	r, err := b.Execute(b.t.Context(), ticket.Run.ID, ticket.Token)
	if err != nil || r.State != want {
		b.t.Fatalf("%s %s: %v %s %s, want %s", verb, resource, err, r.State, r.Reason, want)
	}
	return r
}

// stateOfNode is the state and the resource of a node, as the cloud has it.
func (b *bench) node(name string) *There {
	b.t.Helper()
	for _, r := range b.look(b.stack("bulletin-test").Target).There {
		if r.Owner != nil && r.Owner.Stack == "bulletin-test" && r.Owner.Node == name {
			return r
		}
	}
	b.t.Fatalf("there is no %s", name)
	return nil
}

func actingBench(t *testing.T) *bench {
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")
	return b
}

// Each action does in the cloud what it says, is a run of its own in the history, and leaves
// revision and files as they were: but for scaling, which is recorded, the what-if stays empty.
func TestActions(t *testing.T) {
	long(t)
	b := actingBench(t)
	b.act(run.StatusDone, "reader#0", "restart")
	if r := b.node("reader#0"); r.State != "ready" {
		t.Error(r.State)
	}
	if err := b.Door.Fill(t.Context(), yard.Filling{Stack: "bulletin-test", Node: "readings_db", Contents: "ten winters"}); err != nil {
		t.Fatal(err)
	}
	was := b.node("readings_db").Attributes["contents_digest"]
	b.act(run.StatusDone, "readings_db", "backup")
	list, err := b.Backups(t.Context(), b.stack("bulletin-test"))
	if err != nil || len(list) != 1 {
		t.Fatalf("%v %+v", err, list)
	}
	if err := b.Door.Fill(t.Context(), yard.Filling{Stack: "bulletin-test", Node: "readings_db", Contents: "nothing"}); err != nil {
		t.Fatal(err)
	}
	b.act(run.StatusDone, "readings_db", "restore", "backup", list[0].ID)
	if is := b.node("readings_db").Attributes["contents_digest"]; fmt.Sprint(is) != fmt.Sprint(was) {
		t.Errorf("it holds %v, held %v", is, was)
	}
	if p := b.preview("bulletin-test.stack.yaml"); !p.Empty() {
		t.Errorf("the what-if is not empty: %s", doesWithout(p))
	}
	b.act(run.StatusDone, "forecasters", "scale", "want", "4")
	if r := b.node("forecasters"); fmt.Sprint(r.Properties["want"]) != "4" || r.Odd() {
		t.Errorf("%v %+v", r.Properties["want"], r.Differs)
	}
	if d, err := b.Drift(t.Context(), b.stack("bulletin-test")); err != nil || !d.Empty() {
		t.Errorf("%v %v", err, driftWords(d))
	}
	if p := b.preview("bulletin-test.stack.yaml"); doesWithout(p) != "edit forecasters without " {
		t.Errorf("after scaling: %s", doesWithout(p))
	}
	b.act(run.StatusDone, "", "suspend")
	for _, n := range []string{"reader#0", "reader#1", "forecasters", "readings_db"} {
		if r := b.node(n); r.State != "suspended" {
			t.Errorf("%s is %s", n, r.State)
		}
	}
	b.act(run.StatusDone, "", "suspend") // it is so already
	b.act(run.StatusDone, "", "resume")
	events, err := b.store.Events(t.Context(), b.last().ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	order := map[string]int{}
	for i, e := range events {
		if _, known := order[e.Resource]; !known {
			order[e.Resource] = i
		}
	}
	if order["readings_db"] > order["forecasters"] {
		t.Error("what it rests on wakes up after it")
	}
	h, err := b.History(t.Context(), b.stack("bulletin-test"))
	if err != nil {
		t.Fatal(err)
	}
	var words []string
	for _, g := range Rungs(h) {
		what, _, _ := strings.Cut(g.Words(), ":")
		words = append(words, what)
	}
	want := []string{"resume the stack (5 resources)", "suspend the stack (5 resources)", "suspend the stack (5 resources)", "scale forecasters want=4",
		"restore readings_db backup=" + list[0].ID, "backup readings_db", "restart reader#0", "deploy of revision 1"}
	if !slices.Equal(words, want) {
		t.Errorf("%q", words)
	}
	if st := b.stack("bulletin-test"); st.State != stack.Ready || st.Revision != 1 {
		t.Errorf("%s at %d", st.State, st.Revision)
	}
	if former, err := b.Former(t.Context(), b.stack("bulletin-test")); err != nil || former != 0 {
		t.Errorf("an action is a revision to go back to: %d %v", former, err)
	}
	for _, bad := range [][]string{{"reader#0", "backup"}, {"valley_net", "restart"}, {"nobody", "restart"}, {"forecasters", "scale"}, {"forecasters", "scale", "want", "many"},
		{"forecasters", "scale", "want", "3", "more", "2"}, {"", "restart"}, {"readings_db", "explode"}} {
		with := map[string]string{}
		for i := 2; i+1 < len(bad); i += 2 {
			with[bad[i]] = bad[i+1]
		}
		if _, err := b.WhatIfAct(t.Context(), b.stack("bulletin-test"), bad[0], bad[1], with); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
	b.act(run.StatusUndone, "readings_db", "restore", "backup", "backup~none")
	b.act(run.StatusUndone, "forecasters", "scale", "want", "99")
	if r := b.node("forecasters"); fmt.Sprint(r.Properties["want"]) != "4" || r.Odd() {
		t.Errorf("%v %+v", r.Properties["want"], r.Differs)
	}
}

func (b *bench) last() *run.Record {
	b.t.Helper()
	r, err := b.store.LastHead(b.t.Context(), b.stack("bulletin-test").ID)
	if err != nil {
		b.t.Fatal(err)
	}
	return r
}

// Putting a stack to rest that fails in the middle, and is killed there, wakes up what rests
// already, or brings it to its end.
func TestActionsKilled(t *testing.T) {
	long(t)
	t.Parallel()
	for _, fails := range []bool{false, true} {
		step := int64(1)
		for moment := int64(1); ; moment += step {
			b := actingBench(t)
			acts, err := b.WhatIfAct(t.Context(), b.stack("bulletin-test"), "", "suspend", nil)
			if err != nil {
				t.Fatal(err)
			}
			ticket, err := b.PrepareActs(t.Context(), acts)
			if err != nil {
				t.Fatal(err)
			}
			if fails {
				b.fault(yard.Fault{Name: "readings_db", On: "suspend", Times: 1})
			}
			way := On
			if moment%2 == 0 {
				way = Back
			}
			chances := b.mortal(moment)
			r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
			b.halt = nil
			over := err == nil && chances.Load() < moment
			if err != nil {
				if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil {
					t.Fatal(err)
				}
				again, err := b.Resume(t.Context(), b.stack("bulletin-test"), way)
				if err != nil {
					t.Fatalf("killed at %d: %v", moment, err)
				}
				if r, err = b.Execute(t.Context(), again.Run.ID, again.Token); err != nil {
					t.Fatalf("killed at %d: %v", moment, err)
				}
			}
			want := map[run.Status]string{run.StatusDone: "suspended", run.StatusUndone: "ready"}[r.State]
			for _, n := range []string{"reader#0", "forecasters", "readings_db"} {
				if is := b.node(n); want == "" || is.State != want {
					t.Errorf("fails %t, killed at %d: the run is %s (%s), %s is %s", fails, moment, r.State, r.Reason, n, is.State)
				}
			}
			if over {
				break
			}
			step = 3
		}
	}
}
