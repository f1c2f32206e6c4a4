package store

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// TestATemplateIsKeptOnce writes revisions with the same template, and with another:
// each is read as it was, and only what differs takes room.
func TestATemplateIsKeptOnce(t *testing.T) { onBoth(t, testATemplateIsKeptOnce) }

func testATemplateIsKeptOnce(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	texts := []string{"one", "one", "one", "two", "two", "one"}
	files := map[string][]byte{"b.yaml": []byte(strings.Repeat("b", 5000))}
	for _, text := range texts {
		addRev(t, s, st, stack.Revision{Template: "t.yaml", Text: text, Files: files})
	}
	large := 0
	for i, text := range texts {
		rev, err := s.Revision(t.Context(), st.ID, i+1)
		if err != nil || rev.Text != text || len(rev.Files["b.yaml"]) != 5000 {
			t.Errorf("revision %d: %v %v", i+1, rev, err)
		}
		var size int
		if err := s.db.QueryRowContext(t.Context(), `select length(text) from revisions where number = ?`, i+1).
			Scan(&size); err != nil {
			t.Fatal(err)
		}
		if size > 1000 {
			large++
		}
	}
	if large != 3 {
		t.Errorf("%d of 6 revisions hold a template, want 3", large)
	}
}

// TestTidy thins runs that are over long enough, but the last one and those that
// somebody may go on with.
func TestTidy(t *testing.T) { onBoth(t, testTidy) }

func testTidy(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	long := time.Now().Add(-100 * 24 * time.Hour)
	for i, status := range []run.Status{run.StatusDone, run.StatusUndone, run.StatusHeld, run.StatusDone,
		run.StatusDone} {
		ended := long
		if i == 3 {
			ended = time.Now()
		}
		s.now = func() time.Time { return ended }
		r := newRun(t, s, st, fmt.Sprint("r", i))
		for _, state := range []run.State{run.Working, run.IsReady} {
			if err := s.Note(t.Context(), r, &run.Entry{Step: r.Plan.Steps[0], State: run.Done},
				&run.Event{Resource: "a", State: state}, nil); err != nil {
				t.Fatal(err)
			}
		}
		r.State = status
		if err := s.SetRun(t.Context(), r, 1); err != nil {
			t.Fatal(err)
		}
	}
	s.now = time.Now
	got, err := s.Tidy(t.Context(), time.Now().Add(-90*24*time.Hour))
	if err != nil || got.Runs != 2 || got.Events != 2 || got.After == 0 || got.After > got.Before {
		t.Errorf("%+v %v", got, err)
	}
	for i, thinned := range []bool{true, true, false, false, false} {
		r, err := s.Run(t.Context(), fmt.Sprint("r", i))
		if err != nil || (len(r.Plan.Steps) == 0) != thinned {
			t.Errorf("run %d: %+v %v", i, r.Plan, err)
		}
		events, err := s.Events(t.Context(), r.ID, 0)
		if err != nil || len(events) != map[bool]int{true: 1, false: 2}[thinned] {
			t.Errorf("run %d: %v %v", i, events, err)
		}
		journal, err := s.Journal(t.Context(), r.ID)
		if err != nil || (len(journal) > 0) != r.State.Open() {
			t.Errorf("run %d is %s, its journal has %d entries: %v", i, r.State, len(journal), err)
		}
	}
	if again, err := s.Tidy(t.Context(), time.Now().Add(-90*24*time.Hour)); err != nil || again.Runs != 0 ||
		again.Events != 0 {
		t.Errorf("%+v %v", again, err)
	}
}
