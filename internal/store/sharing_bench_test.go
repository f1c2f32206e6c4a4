package store

import (
	"fmt"
	"testing"

	"brickrow/internal/fleet"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// BenchmarkShared is what a deployment of a stack of 20 resources asks of a shared store, operation by operation:
// how often it waits for the server (trips/op), as messages are counted on the way, and how long it takes as a ratio
// to the shortest question there is.
func BenchmarkShared(b *testing.B) {
	p, through := postgrestest.NewProxy(b, postgrestest.Store(b))
	s, err := Open(b.Context(), Place{b.TempDir(), through}, types)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	n := 0
	once := func(counting bool) (trips, ops int) {
		n++
		count := func(what string, op func() error) {
			before := p.Sent()
			if err := op(); err != nil {
				b.Fatalf("%s: %v", what, err)
			}
			trips += p.Sent() - before
			ops++
			if counting && n == 4 {
				b.Logf("%-16s %d", what, p.Sent()-before)
			}
		}
		ctx := b.Context()
		var st *stack.Stack
		count("ensure", func() (err error) {
			st, err = s.Ensure(ctx, fmt.Sprint("stack-", n), place)
			return err
		})
		r := &run.Record{ID: fmt.Sprint("run-", n), StackID: st.ID, Token: "t", State: run.StatusWorking, Kind: run.KindDeploy}
		count("lock", func() error { _, err := s.Lock(ctx, st.ID, r.Token); return err })
		count("start", func() error {
			return s.StartRun(ctx, r, Begin{Revision: &stack.Revision{Text: "text"}, About: &About{}})
		})
		for i := range 20 {
			rec := &stack.Recorded{Name: fmt.Sprint("r", i), Type: "Topic", ID: fmt.Sprint(i), Properties: tosca.Map{"a": tosca.Hide(tosca.String("hoarfrost"))}}
			e := &run.Entry{Step: run.Step{ID: "create " + rec.Name, Resource: rec.Name}, State: run.Started}
			count("note begin", func() error { return s.Note(ctx, r, e, &run.Event{Resource: rec.Name}, nil) })
			count("wishes", func() error { _, err := s.Wishes(ctx, r.ID); return err })
			e.State = run.Done
			count("note end", func() error {
				return s.Note(ctx, r, e, &run.Event{Resource: rec.Name}, []run.Change{run.Put{Record: rec}})
			})
		}
		count("renew", func() error { _, err := s.Lock(ctx, st.ID, r.Token); return err })
		count("results", func() error { return s.SetResults(ctx, r, []stack.Result{{Name: "a", Value: tosca.String("b")}}) })
		r.State = run.StatusDone
		count("end", func() error { return s.SetRun(ctx, r, 1) })
		count("unlock", func() error { return s.Unlock(ctx, st.ID, r.Token) })
		for what, read := range map[string]func() error{
			"stacks":   func() error { _, err := s.Stacks(ctx); return err },
			"recorded": func() error { _, _, err := s.Recorded(ctx, st.ID); return err },
			"revision": func() error { _, err := s.Revision(ctx, st.ID, 1); return err },
			"results ": func() error { _, err := s.Results(ctx, st.ID); return err },
			"events":   func() error { _, err := s.Events(ctx, r.ID, 0); return err },
			"journal":  func() error { _, err := s.Journal(ctx, r.ID); return err },
			"runs":     func() error { _, err := s.Runs(ctx, st.ID); return err },
		} {
			count(what, read)
		}
		return trips, ops
	}
	for range 3 { // statements are prepared
		once(false)
	}
	trips, ops := 0, 0
	for b.Loop() {
		t, o := once(true)
		trips, ops = trips+t, ops+o
	}
	b.ReportMetric(float64(trips)/float64(ops), "trips/op")
}

// BenchmarkManyPlaces reads what is read again and again while a rollout goes on, with many places on a server.
func BenchmarkManyPlaces(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		s, err := Open(b.Context(), Place{b.TempDir(), postgrestest.Store(b)}, types)
		if err != nil {
			b.Fatal(err)
		}
		defer s.Close()
		r := &Rollout{ID: "r", Fleet: "posts", Kind: run.KindDeploy, State: fleet.Deploying, Token: "t"}
		var places []Prepared
		for i := range n {
			places = append(places, Prepared{PlaceOf: PlaceOf{Target: stack.Target{Account: fmt.Sprintf("hut-%04d", i/3), Region: fmt.Sprint("alder-", i%3)},
				Stack: fmt.Sprint("posts@", i), Wave: 1, State: fleet.Waiting, Kind: run.KindDeploy}, Body: []byte("what was looked at")})
		}
		if err := s.StartRollout(b.Context(), r, places, nil); err != nil {
			b.Fatal(err)
		}
		if err := s.write(b.Context(), func(tx transaction) error {
			return tx.Do(`insert into stacks(name, account, region, state, revision, description, stack_file, careful, created_ms, updated_ms)
				select stack, account, region, 'ready', 1, '', '', false, 1, 1 from places`)
		}); err != nil {
			b.Fatal(err)
		}
		for name, op := range map[string]func() error{
			"places": func() error { _, err := s.Places(b.Context(), r.ID); return err },
			"keys":   func() error { _, err := s.StackKeys(b.Context()); return err },
			"stacks": func() error { _, err := s.Stacks(b.Context()); return err },
			"one":    func() error { _, err := s.ByID(b.Context(), 1); return err },
		} {
			b.Run(fmt.Sprintf("%s/n=%d", name, n), func(b *testing.B) {
				for b.Loop() {
					if err := op(); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}
