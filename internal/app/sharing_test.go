package app

import (
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// TestWhoIsNoMember opens a shared store with another identity: all but the secrets is there to be seen, a what-if too,
// and nothing can be done.
func TestWhoIsNoMember(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	url := postgrestest.Store(t)
	first, err := Open(Options{Home: b.Home, Store: url, Speed: 5000})
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	b.App = first
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")
	second, err := Open(Options{Home: filepath.Join(t.TempDir(), "second"), Store: url, Speed: 5000})
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	second.Cloud = first.Cloud // the same cloud
	other := &bench{App: second, t: t, dir: b.dir}
	b.write("secrets/db_password", "another-word-88\n")
	p := other.preview("bulletin-test.stack.yaml", "readers=4")
	found := false
	for _, f := range p.Findings {
		found = found || f.Code == "no-member"
	}
	if !found || p.Tally.New == 0 {
		t.Errorf("%v %v", p.Findings, p.Tally)
	}
	if ch := p.Change("readings_db"); ch != nil && ch.Kind != "same" { // whose password nobody can compare
		t.Errorf("readings_db: %v", ch)
	}
	if _, err := second.Prepare(t.Context(), p, stack.Undo); err == nil || !strings.Contains(err.Error(), "not a member") {
		t.Errorf("a deployment: %v", err)
	}
	st := other.stack("bulletin-test")
	results, err := second.Results(t.Context(), st)
	if err != nil || len(results) == 0 {
		t.Fatal(results, err)
	}
	for _, r := range results {
		if r.Name == "keeper_password" && r.Reveal() == "frost-and-thaw-77" {
			t.Error("a result that is secret is shown")
		}
	}
	d, err := second.Drift(t.Context(), st)
	if err != nil || !d.Empty() {
		t.Errorf("drift: %v %v", d, err)
	}
	if h, err := second.History(t.Context(), st); err != nil || len(h.Runs) != 1 {
		t.Errorf("%v %v", h, err)
	}
	outsidersWord(t, b, other)
}

// outsidersWord saves, as one who is no member, an action and that a target needs no approval, and approves what a
// member has saved: a member who carries it out is refused.
func outsidersWord(t *testing.T, member, outsider *bench) {
	t.Helper()
	const target = "workshop/alder-1"
	folder := t.TempDir()
	in := func(name string) string { return filepath.Join(folder, name) }
	refuses := func(what string, err error, because string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), because) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := outsider.SaveMark(t.Context(), target, false, nil, in("mark")); err != nil {
		t.Fatal(err)
	}
	_, _, err := member.CarryMark(t.Context(), in("mark"), "")
	refuses("a setting", err, "no member of the store")
	acts, err := outsider.WhatIfAct(t.Context(), outsider.stack("bulletin-test"), "reader#0", "restart", nil)
	if err == nil {
		err = outsider.SaveActs(acts, in("act"))
	}
	if err == nil {
		_, err = member.OpenSavedActs(t.Context(), in("act"))
	}
	refuses("an action", err, "no member of the store")
	p, err := member.WhatIfDelete(t.Context(), member.stack("bulletin-test"))
	if err != nil {
		t.Fatal(err)
	}
	if err := member.Save(p, in("ours")); err != nil {
		t.Fatal(err)
	}
	_, _, err = outsider.Approve(in("ours"), "a friend")
	refuses("an approval", err, "no member of the store")
}
