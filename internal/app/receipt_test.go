package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// TestWhatIsMadeOfWhatWasMadeAgain undoes a swap that removed first: what was labelled from its id is labelled from the new one.
func TestWhatIsMadeOfWhatWasMadeAgain(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 5000)
	b.t = t
	text := strings.Replace(signs, "label: { $get_attribute: [ hut, fqdn ] }", "label: { $get_attribute: [ hut, id ] }", 1) +
		"    next: { type: Topic, properties: { label: { $concat: [ behind-, { $get_attribute: [ hut, id ] } ] } } }\n"
	b.write("signs.yaml", text)
	b.write("signs.stack.yaml", "stack: terrace\ntemplate: signs.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "signs.stack.yaml")
	b.fault(yard.Fault{Name: "next", On: "update", Times: 1, Reason: "no room"})
	r := b.deploy(run.StatusUndone, "signs.stack.yaml", otherSign...)
	id := b.idIn("terrace", "hut")
	for name, want := range map[string]string{"last": id, "next": "behind-" + id} {
		live, err := b.Cloud.Get(t.Context(), cloud.Ref{Target: workshop, Type: "Topic", ID: b.idIn("terrace", name)})
		if err != nil || live.Properties["label"] != want {
			t.Errorf("%s is labelled %v, want %s (%v)", name, live.Properties["label"], want, err)
		}
	}
	b.wantRecordIs("terrace")
	if p := b.preview("signs.stack.yaml"); !p.Empty() {
		t.Errorf("there is left %s", doesWithout(p))
	}
	if r.Receipt == nil || !r.Receipt.Equal || !strings.Contains(r.Receipt.Words("terrace", ""), "made again: hut") {
		t.Errorf("the receipt is %+v", r.Receipt)
	}
}

// TestReceipts makes each sentence of a receipt false: somebody changes something during the run, a program says that something is
// gone and keeps it, or cannot be asked any more.
func TestReceipts(t *testing.T) {
	long(t)
	t.Parallel()
	b := newSigns(t)
	// Somebody changes something that the run does not touch, while it goes on.
	p := b.preview("signs.stack.yaml", "keep=3 d")
	ticket, err := b.Prepare(t.Context(), p, stack.Undo)
	if err != nil {
		t.Fatal(err)
	}
	b.fault(yard.Fault{Name: "last", Times: 1, Reason: "no room"})
	zone := b.idIn("terrace", "zone")
	o, err := b.Cloud.Update(t.Context(), cloud.Ref{Target: workshop, Type: "Zone", ID: zone}, "hand", cloud.Request{Properties: map[string]any{"label": "mine"}})
	for err == nil && !o.Ended() {
		o, err = b.Cloud.Operation(t.Context(), cloud.Ref{Target: workshop}, o.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
	if err != nil || r.State != run.StatusUndone {
		t.Fatalf("%v %s", err, r.State)
	}
	if got := r.Receipt; got == nil || got.Equal || len(got.Differs) != 1 || got.Differs[0].Name != "zone" || got.Differs[0].By == nil || got.Differs[0].By.Kind != stack.ByPerson ||
		got.Before == got.After || !strings.Contains(got.Words("terrace", ""), "not all is as before: label of zone is mine, was not set, by hand, by ") {
		t.Errorf("the receipt is %+v", got)
	}
	again, err := b.RunNumber(t.Context(), b.stack("terrace"), 0)
	if err != nil || again.Receipt == nil || again.Receipt.Equal || len(again.Receipt.Differs) != 1 {
		t.Errorf("stored, it is %+v %v", again.Receipt, err)
	}
	b.delete("terrace")
	if last, err := b.RunNumber(t.Context(), b.stack("terrace"), 0); err != nil || last.Receipt == nil || !last.Receipt.Whole() || last.Receipt.Asked != 4 {
		t.Errorf("deleted: %+v %v", last.Receipt, err)
	}
}

// TestReceiptsOfPrograms lets a program say that it has removed something, and keep it; and has one that cannot be asked any more.
func TestReceiptsOfPrograms(t *testing.T) {
	long(t)
	t.Parallel()
	b := newRota(t)
	b.deploy(run.StatusDone, "ward.stack.yaml")
	remove := func() *run.Record {
		t.Helper()
		p, err := b.WhatIfDelete(t.Context(), b.stack("ward"))
		if err != nil {
			t.Fatal(err)
		}
		return b.carry(p, stack.Hold)
	}
	b.write("wrong", `if [ $op = delete ]; then echo '{"gone":true}'; exit 0; fi`)
	r := remove()
	if r.State != run.StatusStuck || !strings.Contains(r.Reason, "its removal was answered, and rota-upper is there still") {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	b.write("wrong", `if [ $op = read ]; then exit 7; fi`) // it removes, and cannot be read
	ticket, err := b.Resume(t.Context(), b.stack("ward"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone || r.Receipt == nil || r.Receipt.Equal ||
		len(r.Receipt.Unreadable) != 1 || !strings.Contains(r.Reason, "whether all is gone is not known: rota (rota-upper) is not known") {
		t.Fatalf("%v %s: %s", err, r.State, r.Reason)
	}
	if err := os.Remove(filepath.Join(b.dir, "wrong")); err != nil {
		t.Fatal(err)
	}
	if left, err := b.LeftOf(t.Context(), b.stack("ward")); err != nil || len(left) != 1 || left[0].There || !strings.Contains(left[0].Left.Reason, "not known") {
		t.Errorf("left: %v %v", left, err)
	}
	gone, err := b.ForgetGone(t.Context(), b.stack("ward")) // it is asked for again
	if left, failed := b.LeftOf(t.Context(), b.stack("ward")); err != nil || failed != nil || len(gone) != 1 || len(left) != 0 || b.kept() != "" {
		t.Errorf("%v %v: gone %v, left %v", err, failed, gone, left)
	}
}
