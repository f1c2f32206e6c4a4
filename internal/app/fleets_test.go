package app

import (
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/fleet"
	"brickrow/internal/run"
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
