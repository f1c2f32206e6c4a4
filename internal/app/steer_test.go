package app

import (
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// stuck makes the terrace, and a run of it that gets stuck.
func stuck(t *testing.T, begin func(b *bench) *Preview, faults ...yard.Fault) (*bench, *run.Record) {
	t.Helper()
	b := newBench(t, 5000)
	b.terrace(terrace)
	b.write("terrace.stack.yaml", "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	b.deploy(run.StatusDone, "terrace.stack.yaml")
	p := begin(b)
	for _, f := range faults {
		b.fault(f)
	}
	r := b.carry(p, stack.Undo)
	if r.State != run.StatusStuck {
		t.Fatalf("it is %s, not stuck: %s", r.State, r.Reason)
	}
	return b, r
}

func deletion(b *bench) *Preview {
	p, err := b.WhatIfDelete(b.t.Context(), b.stack("terrace"))
	if err != nil {
		b.t.Fatal(err)
	}
	return p
}

// leave gives a resource up and goes on, and yields how that ended and what was given up.
func (b *bench) leave(name string) (*run.Record, string) {
	b.t.Helper()
	st := b.stack("terrace")
	l, err := b.WhatLeaves(b.t.Context(), st, name)
	if err != nil {
		b.t.Fatal(err)
	}
	if err := b.Leave(b.t.Context(), st, l); err != nil {
		b.t.Fatal(err)
	}
	if now := b.stack("terrace"); now.State != stack.Stuck {
		b.t.Errorf("after leaving, the stack is %s: it has to stand still", now.State)
	}
	if err := b.Leave(b.t.Context(), st, &Leaving{Run: &run.Record{ID: l.Run.ID}}); err != nil {
		b.t.Errorf("leaving nothing: %v", err)
	}
	ticket, err := b.Resume(b.t.Context(), b.stack("terrace"), On)
	if err != nil {
		b.t.Fatal(err)
	}
	r, err := b.Execute(b.t.Context(), ticket.Run.ID, ticket.Token)
	if err != nil {
		b.t.Fatal(err)
	}
	return r, strings.Join(l.Words(), "\n")
}

func (b *bench) left() []LeftBehind {
	b.t.Helper()
	list, err := b.LeftOf(b.t.Context(), b.stack("terrace"))
	if err != nil {
		b.t.Fatal(err)
	}
	return list
}

// A resource that cannot be removed is given up with what it uses; the rest goes, and a
// later deletion gets rid of it.
func TestLeavingAResource(t *testing.T) {
	b, _ := stuck(t, deletion, yard.Fault{Name: "post", On: "delete", Reason: "somebody is inside"})
	if _, err := b.WhatLeaves(t.Context(), b.stack("terrace"), "box"); err == nil || !strings.Contains(err.Error(), "it is at post") {
		t.Errorf("leaving what is not stuck: %v", err)
	}
	r, words := b.leave("post")
	b.has(words, "post (Server server~", "somebody is inside", "sub (Subnet", "post uses it", "net (Network", "gate (Rules")
	if r.State != run.StatusDone || b.stack("terrace").State != stack.Removed || !strings.Contains(r.Reason, "nothing is there any more but what is left: ") {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	left := b.left()
	if len(left) != 4 {
		t.Fatalf("%d are left", len(left))
	}
	for _, l := range left {
		if !l.There || l.Left.Run != r.Number {
			t.Errorf("%+v", l)
		}
	}
	if r := b.carry(deletion(b), stack.Undo); r.State != run.StatusStuck { // the fault is still there
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	b.clearFaults()
	ticket, err := b.Resume(t.Context(), b.stack("terrace"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone ||
		!strings.Contains(r.Reason, "nothing of terrace is left") {
		t.Fatalf("%v %s: %s", err, r.State, r.Reason)
	}
	if left := b.left(); len(left) != 0 || b.listing("terrace") != "[]" {
		t.Errorf("%v and %s", left, b.listing("terrace"))
	}
}

// What was left comes back under the stack when it is stood up again.
func TestWhatWasLeftComesBack(t *testing.T) {
	b, _ := stuck(t, deletion, yard.Fault{Name: "box", On: "delete", Reason: "it is full of snow"})
	b.leave("box")
	b.clearFaults()
	p := b.preview("terrace.stack.yaml")
	if p.Tally.Adopt != 1 {
		t.Fatalf("%s %v", p.Tally, p.Findings)
	}
	if r := b.carry(p, stack.Undo); r.State != run.StatusDone || len(b.left()) != 0 {
		t.Fatalf("%s: %s, left %v", r.State, r.Reason, b.left())
	}
	b.wantRecordIsLive("terrace")
}

// A resource that undoing cannot take back is given up too; the receipt says so.
func TestLeavingWhileUndoing(t *testing.T) {
	b, _ := stuck(t, func(b *bench) *Preview { return b.preview("terrace.stack.yaml", "form=2") },
		yard.Fault{Name: "post", On: "create", Times: 1, Reason: "no room"}, yard.Fault{Name: "box", On: "delete", Reason: "it is full of snow"})
	r, _ := b.leave("box")
	if r.State != run.StatusUndone {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	if rep := b.report("terrace"); !strings.Contains(rep.Standing, "not all is as before: left in the cloud: box (") {
		t.Errorf("%s", rep.Standing)
	}
	b.clearFaults()
	if left := b.left(); len(left) != 1 || !left[0].There {
		t.Fatalf("%+v", left)
	}
	if p := b.preview("terrace.stack.yaml"); !p.Empty() { // the old box is in the record again
		t.Errorf("%s", p.Tally)
	}
	if r := b.carry(deletion(b), stack.Undo); r.State != run.StatusDone || b.listing("terrace") != "[]" || len(b.left()) != 0 {
		t.Errorf("%s: %s", r.State, r.Reason)
	}
}

// The old part of a swap that cannot go is given up.
func TestLeavingAnOldPart(t *testing.T) {
	long(t)
	b, _ := stuck(t, func(b *bench) *Preview { return b.preview("terrace.stack.yaml", "form=2") },
		yard.Fault{Name: "sub", On: "delete", Reason: "frozen"})
	r, words := b.leave("sub")
	b.has(words, "sub (Subnet", "net (Network")
	if r.State != run.StatusDone || b.stack("terrace").State != stack.Ready {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	b.clearFaults()
	if p := b.preview("terrace.stack.yaml", "form=2"); !p.Empty() || p.Tally.Old > 0 {
		t.Errorf("%s", p.Tally)
	}
	if r := b.carry(deletion(b), stack.Undo); r.State != run.StatusDone || b.listing("terrace") != "[]" {
		t.Errorf("%s: %s", r.State, r.Reason)
	}
}

// Of what has failed, one can be tried again alone.
func TestRetryingOne(t *testing.T) {
	b, _ := stuck(t, deletion, yard.Fault{Name: "box", On: "delete", Reason: "it is full of snow"},
		yard.Fault{Name: "note", On: "delete", Reason: "somebody reads it"})
	if _, err := b.Resume(t.Context(), b.stack("terrace"), On, "net"); err == nil || !strings.Contains(err.Error(), "what has failed: box, note") {
		t.Errorf("%v", err)
	}
	b.clearFaults()
	ticket, err := b.Resume(t.Context(), b.stack("terrace"), On, "note")
	if err != nil {
		t.Fatal(err)
	}
	r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
	if err != nil || r.State != run.StatusStuck {
		t.Fatalf("%v %s", err, r.State)
	}
	rep := b.report("terrace")
	if len(rep.Failures) != 1 || rep.Failures[0].Resource != "box" {
		t.Errorf("%+v", rep.Failures)
	}
	if ticket, err = b.Resume(t.Context(), b.stack("terrace"), On); err != nil {
		t.Fatal(err)
	}
	if r, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone {
		t.Errorf("%v %s", err, r.State)
	}
}

// Whether a run is undone or held may be chosen while it goes on, and when it is stopped.
func TestChoosingWhileItRuns(t *testing.T) {
	b := newBench(t, 5000)
	b.terrace(terrace)
	b.write("terrace.stack.yaml", "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	start := func() *Ticket {
		t.Helper()
		ticket, err := b.Prepare(t.Context(), b.preview("terrace.stack.yaml"), stack.Undo)
		if err != nil {
			t.Fatal(err)
		}
		return ticket
	}
	end := func(ticket *Ticket, want run.Status) {
		t.Helper()
		r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
		if err != nil || r.State != want {
			t.Fatalf("%v %s, want %s", err, r.State, want)
		}
	}
	ticket := start()
	b.fault(yard.Fault{Name: "post", Times: 1})
	if err := b.ChooseOnFailure(t.Context(), ticket.Run, stack.Hold); err != nil {
		t.Fatal(err)
	}
	end(ticket, run.StatusHeld)
	if err := b.ChooseOnFailure(t.Context(), b.report("terrace").Run, stack.Undo); err == nil {
		t.Error("it can be chosen when it is too late")
	}
	if _, err := b.Cancel(t.Context(), b.report("terrace").Run, stack.Hold); err == nil || !strings.Contains(err.Error(), "it is held") {
		t.Errorf("%v", err)
	}
	back, err := b.Resume(t.Context(), b.stack("terrace"), Back)
	if err != nil {
		t.Fatal(err)
	}
	end(back, run.StatusUndone)

	ticket = start()
	if _, err := b.Cancel(t.Context(), ticket.Run, stack.Hold); err != nil {
		t.Fatal(err)
	}
	end(ticket, run.StatusHeld)
	on, err := b.Resume(t.Context(), b.stack("terrace"), On)
	if err != nil {
		t.Fatal(err)
	}
	end(on, run.StatusDone)
}
