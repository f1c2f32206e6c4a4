package app

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/internal/fleet"
	"brickrow/internal/queue"
	"brickrow/internal/run"
	"brickrow/internal/tosca"
)

// TestPlacesSideBySide carries a rollout out in all places of the stand-in at once, with one that fails, and again; a
// place in which something has moved on since it was looked at is left alone.
func TestPlacesSideBySide(t *testing.T) {
	b := newBench(t, 5000)
	file := filepath.Join(b.dir, "fleets", "signs.fleet.yaml")
	look := func() *FleetPreview {
		t.Helper()
		p, err := b.FleetWhatIf(t.Context(), file, run.KindDeploy, Values{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	p := look()
	if len(p.Places) != 6 || p.Tally.New != 18 || p.Places[1].SameAs == "" {
		t.Fatalf("%d places, %v, %q", len(p.Places), p.Tally, p.Places[1].SameAs)
	}
	if err := b.LetFail(t.Context(), "post", "no room"); err != nil {
		t.Fatal(err)
	}
	r, err := b.StartFleet(t.Context(), p, "a note", nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.StartFleet(t.Context(), p, "", nil); err == nil || !strings.Contains(err.Error(), "has not come to its end") {
		t.Errorf("begun twice: %v", err)
	}
	if r, err = b.CarryFleet(t.Context(), r.ID, r.Token, nil); err != nil || r.State != fleet.Partial {
		t.Fatalf("%+v %v", r, err)
	}
	if r, err = b.RetryFleet(t.Context(), "signs", nil); err != nil {
		t.Fatal(err)
	}
	if r, err = b.CarryFleet(t.Context(), r.ID, r.Token, nil); err != nil || r.State != fleet.Ready {
		t.Fatalf("%+v %v", r, err)
	}
	if p = look(); !p.Empty() {
		t.Errorf("it is not as it was wanted: %v", p.Tally)
	}

	// Looked at, and then changed by hand in one place.
	b.write("fleets/signs.yaml", strings.Replace(readText(t, filepath.Join(b.dir, "fleets", "signs.yaml")), "default: 2 d", "default: 4 d", 1))
	p = look()
	r, err = b.StartFleet(t.Context(), p, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	st := b.stack("signs@workshop.alder-1")
	list, err := b.Cloud.List(t.Context(), st.Target, st.Name)
	if err != nil {
		t.Fatal(err)
	}
	v := b.look(st.Target)
	for _, l := range list {
		if l.Type == "Queue" {
			if err := b.ChangeByHand(t.Context(), v.At(Place{st.Target, l.ID}), "keep=9 d"); err != nil {
				t.Fatal(err)
			}
		}
	}
	if r, err = b.CarryFleet(t.Context(), r.ID, r.Token, nil); err != nil || r.State != fleet.Partial {
		t.Errorf("%+v %v", r, err)
	}
	_, places, _, err := b.LastRollout(t.Context(), "signs")
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range places {
		if moved := x.Stack == st.Name; moved != (x.State == fleet.Failed) || moved && !strings.Contains(x.Reason, "moved on") {
			t.Errorf("%s is %s: %s", x.Stack, x.State, x.Reason)
		}
	}
}

// TestPlacesGivenOutTwice lets three workers be given each place of a rollout at the same time, and two see to its waves
// one after the other: each place is carried out once, and none is said to have failed.
func TestPlacesGivenOutTwice(t *testing.T) {
	b := newBench(t, 5000)
	p, err := b.FleetWhatIf(t.Context(), filepath.Join(b.dir, "fleets", "signs.fleet.yaml"), run.KindDeploy, Values{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, err := b.StartFleet(t.Context(), p, "", &Queueing{})
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	var mu sync.Mutex
	var under sync.WaitGroup
	dies, die := context.WithCancel(t.Context())
	defer die()
	w := &work{App: b.App, soft: t.Context(), WorkerOptions: WorkerOptions{Told: func(words string) {
		mu.Lock()
		said = append(said, words)
		mu.Unlock()
	}}}
	under.Go(func() {
		drained := &work{App: b.App, soft: dies, WorkerOptions: w.WorkerOptions}
		var not queue.NotNow
		if err := drained.fleet(t.Context(), r.ID); !errors.As(err, &not) {
			t.Errorf("who takes nothing more carries it on: %v", err)
		}
		if err := w.fleet(t.Context(), r.ID); err != nil {
			t.Error(err)
		}
	})
	given := map[string]bool{}
	for range 600 {
		now, places, _, err := b.LastRollout(t.Context(), "signs")
		if err != nil {
			t.Fatal(err)
		}
		if now.State.Ended() {
			r = now
			break
		}
		for _, x := range places {
			if x.State == fleet.Begun && !given[x.Stack] {
				given[x.Stack] = true
				die()
				for range 3 {
					under.Go(func() {
						j := queue.Job{What: jobPlace, ID: r.ID, Part: x.Position}
						var not queue.NotNow
						err := w.place(t.Context(), j)
						for errors.As(err, &not) {
							time.Sleep(20 * time.Millisecond)
							err = w.place(t.Context(), j)
						}
						if err != nil {
							t.Error(err)
						}
					})
				}
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	under.Wait()
	if r.State != fleet.Ready || len(given) != 6 {
		t.Errorf("%d given out: %s, %s\n%s", len(given), r.State, r.Reason, strings.Join(said, "\n"))
	}
	for stack := range given {
		if list, err := b.store.Runs(t.Context(), b.stack(stack).ID); err != nil || len(list) != 1 {
			t.Errorf("%s has %d runs, %v", stack, len(list), err)
		}
	}
	if onShared {
		return
	}
	db, err := sql.Open("sqlite", filepath.Join(b.Home, queue.File))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	n := 0
	if err := db.QueryRow(`select count(*) from river_job where json(args) like '%"place"%'`).Scan(&n); err != nil || n != 6 {
		t.Errorf("six places were put into the queue %d times, %v", n, err)
	}
}

// TestOneWrongLetterInAFleetFile takes no running place away: a target that is not there is an error, so is a second file of the same
// name, and what leaves is named and has to be accepted.
func TestOneWrongLetterInAFleetFile(t *testing.T) {
	b := newBench(t, 5000)
	file := filepath.Join(b.dir, "fleets", "signs.fleet.yaml")
	look := func(path string) (*FleetPreview, error) {
		return b.FleetWhatIf(t.Context(), path, run.KindDeploy, Values{}, nil)
	}
	text := "fleet: signs\nstack: signs.stack.yaml\nplaces:\n  - { target: workshop/alder-1, inputs: { site: a } }\n  - { target: workshop/birch-1, inputs: { site: b } }\n"
	b.write("fleets/signs.fleet.yaml", text)
	p, err := look(file)
	if err != nil {
		t.Fatal(err)
	}
	r, err := b.StartFleet(t.Context(), p, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if r, err = b.CarryFleet(t.Context(), r.ID, r.Token, nil); err != nil || r.State != fleet.Ready {
		t.Fatalf("%+v %v", r, err)
	}
	b.write("fleets/signs.fleet.yaml", strings.Replace(text, "birch-1", "brich-1", 1))
	if _, err := look(file); err == nil || !strings.Contains(err.Error(), "there is no target workshop/brich-1") {
		t.Errorf("a target that is not there: %v", err)
	}
	b.write("fleets/signs.fleet.yaml", strings.Replace(text, "  - { target: workshop/birch-1, inputs: { site: b } }\n", "", 1))
	p, err = look(file)
	if err != nil {
		t.Fatal(err)
	}
	if got := p.Consent().asks(); !strings.Contains(got, "leaving workshop/birch-1") || p.Consent().Given([]string{"data"}) == nil || p.Consent().Given([]string{"data", "leaving"}) != nil ||
		!strings.Contains(p.Question(), "1 of them has left the file and is removed: workshop/birch-1") || p.Consent().Word() != "signs" {
		t.Errorf("a place that leaves asks for %q: %s", got, p.Question())
	}
	b.write("fleets/copy.fleet.yaml", text)
	if _, err := look(file); err == nil || !strings.Contains(err.Error(), "[duplicate-fleet]") && !strings.Contains(err.Error(), "says that it is the fleet signs, too") {
		t.Errorf("two files of one name: %v", err)
	}
	findings, err := b.Check(t.Context(), file, Values{})
	if err != nil || !slices.ContainsFunc(findings, func(f tosca.Finding) bool { return f.Code == "duplicate-fleet" }) {
		t.Errorf("%v %v", err, findings)
	}
}
