package fleets

import (
	"fmt"
	"testing"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/fleet"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part/parttest"
	"brickrow/internal/whatif"
)

// manyPlaces is a rollout under way in n places.
func manyPlaces(n int) read {
	r := &app.Rollout{ID: "r", Fleet: "huts", Number: 3, State: fleet.Deploying, Tolerate: 5, Started: time.Now().Add(-time.Minute)}
	states := []fleet.State{fleet.Ready, fleet.Ready, fleet.Working, fleet.Failed, fleet.Waiting, fleet.Begun}
	out := read{fleets: []*app.Rollout{r}, r: r, holder: "somebody"}
	for i, wave := range fleet.Divide([]fleet.Wave{{Count: 1}, {Percent: 25}, {Rest: true}}, n) {
		out.places = append(out.places, app.PlaceOf{Position: i, Target: stack.Target{Account: fmt.Sprintf("hut-%03d", i/3), Region: []string{"alder-1", "birch-1", "cedar-2"}[i%3]},
			Stack: fmt.Sprint("huts@", i), Wave: wave, State: states[i%len(states)], Tally: whatif.Tally{New: 20}, Steps: i % 20, Reason: "no host has room"})
	}
	return out
}

// manyLooked is what a deployment would do in n places, two kinds of it.
func manyLooked(n int) *looking {
	l := &looking{kind: run.KindDeploy, stop: func() {}}
	of := manyPlaces(n)
	pv := &app.FleetPreview{File: &fleet.File{Fleet: "huts"}, Kind: run.KindDeploy}
	for i, p := range of.places {
		x := app.FleetPlace{Target: p.Target, Stack: p.Stack, Wave: p.Wave, Kind: run.KindDeploy, Tally: whatif.Tally{New: 12, Edit: 3, Same: 5 * (i % 2)}}
		if i < 2 {
			changes := &whatif.ChangeSet{}
			for k := range 20 {
				changes.Changes = append(changes.Changes, whatif.Change{Name: fmt.Sprint("post", k), Type: "Server", Kind: whatif.New})
			}
			x.Preview = &app.Preview{ChangeSet: changes}
		} else {
			x.SameAs = of.places[i%2].Target.String()
		}
		pv.Places = append(pv.Places, x)
	}
	l.pv = pv
	return l
}

// BenchmarkKey is from a key to the frame, and from what was read to the frame, with 300 and 1,000 places.
func BenchmarkKey(b *testing.B) {
	for _, n := range []int{300, 1000} {
		sh := parttest.New(b, nil)
		for _, waves := range []bool{false, true} {
			v := New(sh)
			v.waves, v.chosen = waves, true
			v.loaded(manyPlaces(n))
			v.reading = "nothing is read here"
			name := "grid"
			if waves {
				name = "waves"
			}
			b.Run(fmt.Sprint(name, "/", n), func(b *testing.B) { sh.Keys(b, v, "jlkhjl") })
			w := New(sh)
			w.waves, w.chosen, w.whatif = waves, true, manyLooked(n)
			w.looked(lookedAt{w.whatif, w.whatif.pv, nil})
			b.Run(fmt.Sprint(name, "-whatif/", n), func(b *testing.B) { sh.Keys(b, w, "jlkhjl") })
			b.Run(fmt.Sprint(name, "-read/", n), func(b *testing.B) {
				all := manyPlaces(n)
				for b.Loop() {
					v.loaded(all)
					sh.Styled(v)
				}
			})
		}
	}
}

// TestWalking reaches every place by walking, and what is chosen is in sight.
func TestWalking(t *testing.T) {
	sh := parttest.New(t, nil)
	for _, waves := range []bool{false, true} {
		v := New(sh)
		v.waves, v.chosen = waves, true
		v.loaded(manyPlaces(301))
		v.reading = "nothing is read here"
		seen := map[stack.Target]bool{}
		step := func(rows, columns int) {
			v.move(rows, columns)
			seen[v.sel] = true
			sh.Styled(v)
			for _, h := range v.hits {
				if v.places[h.place].Target == v.sel {
					return
				}
			}
			t.Fatalf("waves %v: %s is not in sight", waves, v.sel)
		}
		step(-1<<20, 0)
		for range 400 {
			step(0, 1)
			if waves {
				continue
			}
			if v.sel.Region == "cedar-2" {
				step(1, 0)
				step(0, -1)
				step(0, -1)
			}
		}
		if len(seen) != 301 {
			t.Errorf("waves %v: %d places were reached", waves, len(seen))
		}
	}
}
