package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/store"
)

// TestSavedChangeSets saves a change set, lets it be approved and deploys
// exactly that; and refuses it where anything was changed.
func TestSavedChangeSets(t *testing.T) {
	long(t)
	b := newBench(t, 100_000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")
	file := filepath.Join(b.dir, "plan.json")
	save := func(flags ...string) {
		t.Helper()
		if err := b.Save(b.preview("bulletin-test.stack.yaml", flags...), file); err != nil {
			t.Fatal(err)
		}
	}
	refused := func(words string) {
		t.Helper()
		p, err := b.OpenSaved(t.Context(), file)
		if err == nil && p.Findings.HasErrors() {
			err = &Refusal{Findings: p.Findings}
		}
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("opening it: %v, want %q", err, words)
		}
	}
	save("readers=4")
	if !IsSaved(file) || IsSaved(filepath.Join(b.dir, "bulletin.yaml")) {
		t.Error("a saved change set is not told from a template")
	}
	text := readText(t, file)
	for _, secret := range []string{"frost-and-thaw-77", "pager-secret-99"} {
		if strings.Contains(text, secret) {
			t.Errorf("the file shows %s", secret)
		}
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("it is meant for nobody else, and is %v %v", info.Mode(), err)
	}

	// somebody changes the file
	for _, change := range [][2]string{{`"kind": "new"`, `"kind": "edit"`},
		{`"stack": "bulletin-test"`, `"stack": "bulletin-tess"`},
		{`"target": "workshop/alder-1"`, `"target": "summit/alder-1"`}} {
		if !strings.Contains(text, change[0]) {
			t.Fatalf("there is no %s in %s", change[0], text)
		}
		b.write("plan.json", strings.Replace(text, change[0], change[1], 1))
		refused("was changed after it was saved")
	}
	b.write("plan.json", text)

	// the cloud was changed by hand
	o, err := b.Cloud.Update(t.Context(), cloud.Ref{Target: workshop, ID: b.id("readings")}, "by-hand-1",
		cloud.Request{Properties: map[string]any{"keep": "2 d"}})
	for err == nil && !o.Ended() {
		o, err = b.Cloud.Operation(t.Context(), cloud.Ref{Target: workshop}, o.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	refused("readings: edit now, was the same")
	o, err = b.Cloud.Update(t.Context(), cloud.Ref{Target: workshop, ID: b.id("readings")}, "by-hand-2",
		cloud.Request{Properties: map[string]any{"keep": "4 d"}})
	for err == nil && !o.Ended() {
		o, err = b.Cloud.Operation(t.Context(), cloud.Ref{Target: workshop}, o.ID)
	}
	if err != nil {
		t.Fatal(err)
	}

	// the files it was made from do not matter any more, approval does
	if err := b.Set(t.Context(), NeedsApproval, "workshop/alder-1"); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Prepare(t.Context(), b.preview("bulletin-test.stack.yaml", "readers=5"), "undo"); err == nil ||
		!strings.Contains(err.Error(), "second person") {
		t.Errorf("it went without approval: %v", err)
	}
	p, err := b.OpenSaved(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Prepare(t.Context(), p, "undo"); err == nil || !strings.Contains(err.Error(), "second person") {
		t.Errorf("what was saved went without approval: %v", err)
	}
	other, err := Open(Options{Home: filepath.Join(t.TempDir(), "other"), Speed: 5000})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if _, _, err := b.Approve(file, identity.User()); err == nil {
		t.Error("one can approve one's own")
	}
	if _, _, err := b.Approve(file, "warden"); err == nil {
		t.Error("one can approve one's own under another name")
	}
	_, in, err := other.Approve(file, identity.User()) // two keys are two people, whatever their names
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := other.Approve(file, "warden"); err == nil {
		t.Error("one can approve twice under two names")
	}
	if p, err := b.OpenSaved(t.Context(), file); err != nil || !p.Approved {
		t.Errorf("agreed: %v %+v", err, p)
	}
	approved := readText(t, in)
	b.write(filepath.Base(in), strings.Replace(approved, `"by": "`+identity.User()+`"`, `"by": "keeper"`, 1))
	if p, err = b.OpenSaved(t.Context(), file); err != nil || p.Approved {
		t.Fatalf("an approval that is not genuine counts: %v", err)
	}
	if _, err := b.Prepare(t.Context(), p, "undo"); err == nil || !strings.Contains(err.Error(), "the approval of keeper is not of what") {
		t.Errorf("an approval that is not genuine: %v", err)
	}
	b.write(filepath.Base(in), approved)

	// only those may approve that are named, where some are
	me, err := b.Me()
	if err != nil {
		t.Fatal(err)
	}
	them, err := other.Me()
	if err != nil {
		t.Fatal(err)
	}
	for _, named := range []struct{ who, words string }{{me.Public().String(), "is not among those who may approve"},
		{them.Public().String(), ""}} {
		if err := b.Set(t.Context(), NeedsApproval, "workshop/alder-1", named.who); err == nil {
			t.Error("who may approve is another one without anybody's agreement")
		}
		if err := b.markAgreed(t.Context(), NeedsApproval, "workshop/alder-1", true, []string{named.who}, ""); err != nil {
			t.Fatal(err)
		}
		if named.words != "" {
			refused(named.words)
		} else if _, err := b.OpenSaved(t.Context(), file); err != nil {
			t.Error(err)
		}
	}

	// those who are not to deploy read it, and cannot open what is sealed
	if _, err := other.OpenSaved(t.Context(), file); err == nil ||
		!strings.Contains(err.Error(), "sealed to those who deploy") {
		t.Errorf("opened by one who only approves: %v", err)
	}
	for _, name := range []string{"bulletin.yaml", "bulletin-test.stack.yaml", "secrets/db_password"} {
		if err := os.Remove(filepath.Join(b.dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	if p, err = b.OpenSaved(t.Context(), file); err != nil {
		t.Fatal(err)
	}
	r := b.carry(p, "undo")
	if r.State != run.StatusDone || !strings.Contains(r.By, "approved by "+identity.User()) ||
		strings.Count(b.listing("bulletin-test"), `"Server"`) != 4 {
		t.Errorf("it ended %s by %q", r.State, r.By)
	}
	refused("the stack was at revision 1, it is at 2")

	// a way back and a deletion need it too, and are saved like others
	for kind, preview := range map[string]func() (*Preview, error){
		"undo":   func() (*Preview, error) { return b.WhatIfUndo(t.Context(), b.stack("bulletin-test"), 1) },
		"delete": func() (*Preview, error) { return b.WhatIfDelete(t.Context(), b.stack("bulletin-test")) },
	} {
		p, err := preview()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := b.Prepare(t.Context(), p, "undo"); err == nil || !strings.Contains(err.Error(), "second person") {
			t.Errorf("%s went without approval: %v", kind, err)
		}
		saved := filepath.Join(b.dir, kind+".json")
		if err := b.Save(p, saved); err != nil {
			t.Fatal(err)
		}
		if _, _, err := other.Approve(saved, "warden"); err != nil {
			t.Fatal(err)
		}
		if p, err = b.OpenSaved(t.Context(), saved); err != nil || string(p.Kind) != kind || !p.Approved {
			t.Errorf("%s, opened again: %+v %v", kind, p, err)
		}
	}
	if p, err = b.OpenSaved(t.Context(), filepath.Join(b.dir, "delete.json")); err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusDone {
		t.Errorf("the deletion ended %s: %s", r.State, r.Reason)
	}
}

// TestTakingAgreementAway lets a target need no agreement any more: a second person agrees to that too, and it stands among what
// was done to the store. What was approved under a name before counts for nothing when something else is saved there.
func TestTakingAgreementAway(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.t, b.dir = t, t.TempDir()
	other, err := Open(Options{Home: filepath.Join(t.TempDir(), "other"), Store: InFile, Speed: 5000})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	const target = "workshop/alder-1"
	if err := b.Set(t.Context(), NeedsApproval, target); err != nil {
		t.Fatal(err)
	}
	if err := b.Unset(t.Context(), NeedsApproval, target); err == nil || !strings.Contains(err.Error(), "--no-approval workshop/alder-1 --save FILE") {
		t.Fatalf("taken away by one alone: %v", err)
	}
	file := filepath.Join(b.dir, "free.json")
	if err := b.SaveMark(t.Context(), target, true, nil, file); err != nil {
		t.Fatal(err)
	}
	if _, _, err := other.Approve(file, "keeper"); err != nil {
		t.Fatal(err)
	}
	if err := b.SaveMark(t.Context(), target, false, nil, file); err != nil { // something else, under the same name
		t.Fatal(err)
	}
	if _, _, err := b.CarryMark(t.Context(), file, ""); err == nil || !strings.Contains(err.Error(), "second person") {
		t.Errorf("without agreement to it: %v", err)
	}
	if _, _, err := b.Approve(file, "somebody else"); err == nil {
		t.Error("one agrees to one's own under another name")
	}
	if _, _, err := other.Approve(file, "keeper"); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(file, 0o666); err != nil {
		t.Fatal(err)
	}
	if _, _, err := b.CarryMark(t.Context(), file, ""); err == nil || !strings.Contains(err.Error(), "others can write") {
		t.Errorf("one that others can write: %v", err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, is, err := b.CarryMark(t.Context(), file, "the season is over"); err != nil || !is {
		t.Fatal(err)
	}
	in, err := b.settings()
	if err != nil || len(in.Approval) > 0 {
		t.Errorf("%v %v", err, in.Approval)
	}
	acts, err := b.store.Acts(t.Context())
	if err != nil || len(acts) != 2 || acts[1].Act != store.ApprovalOff || acts[1].On != target || !strings.Contains(acts[1].Note, "approved by keeper") {
		t.Errorf("%v %+v", err, acts)
	}
}
