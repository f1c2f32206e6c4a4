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
}
