package queue

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"brickrow/internal/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// sharedURL is an empty place in a server.
func sharedURL(t testing.TB) string {
	t.Helper()
	url := postgrestest.Store(t)
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	var schema string
	if err := conn.QueryRow(t.Context(), `show search_path`).Scan(&schema); err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(t.Context(), `create schema `+schema); err != nil {
		t.Fatal(err)
	}
	return url
}

// places are the places of queues, in a file and on a server.
func places(t testing.TB) map[string]Place {
	return map[string]Place{"file": {Dir: t.TempDir()}, "shared": {URL: sharedURL(t)}}
}

func opened(t testing.TB, at Place) *Queue {
	t.Helper()
	q, err := Open(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(q.Close)
	return q
}

// TestOnlyWhatOneIsLetInFor has jobs for three accounts, one of which has a name that fits nowhere, and seeing to waves: who
// is let into two is given those and no more at once than he has room for, the first by priority; the rest is there for who comes later.
func TestOnlyWhatOneIsLetInFor(t *testing.T) {
	const odd = "Hut/ä b"
	for name, at := range places(t) {
		t.Run(name, func(t *testing.T) {
			q := opened(t, at)
			job := func(id, account string) Job { return Job{What: "run", ID: id, Account: account, Ask: "1"} }
			if err := q.Put(t.Context()); err != nil {
				t.Fatal(err)
			}
			if err := q.Put(t.Context(), Item{job("last", "hut"), Usual, Last}, Item{job("else", "ridge"), Usual, First}, Item{job("odd", odd), Usual, Normal},
				Item{job("first", "hut"), Usual, First}, Item{Job{What: "fleet", ID: "waves", Ask: "1"}, Usual, Normal},
				Item{job("other", "hut"), "others", First}); err != nil {
				t.Fatal(err)
			}
			work := func(name string, accounts ...string) (given chan string, stop func()) {
				ctx, end := context.WithCancel(context.Background())
				given, ended := make(chan string), make(chan struct{})
				go func() {
					defer close(ended)
					if err := q.Work(ctx, ctx, name, []string{Usual}, accounts, 1, func(ctx context.Context, j Job) error {
						if j.Account != "" {
							select {
							case given <- j.ID:
							case <-ctx.Done():
							}
						}
						return nil
					}); err != nil && ctx.Err() == nil {
						t.Error(err)
					}
				}()
				return given, func() { end(); <-ended }
			}
			wants := func(given chan string, want ...string) {
				t.Helper()
				for _, id := range want {
					select {
					case got := <-given:
						if got != id {
							t.Errorf("%s is given, not %s", got, id)
						}
					case <-time.After(20 * time.Second):
						t.Fatal("nothing is given; next would be", id)
					}
				}
				select {
				case got := <-given:
					t.Errorf("%s is given too", got)
				case <-time.After(700 * time.Millisecond):
				}
			}
			given, stop := work("one", "hut", odd)
			wants(given, "first", "odd", "last")
			stop()
			given, stop = work("two", "ridge")
			wants(given, "else")
			stop()
		})
	}
}

// BenchmarkGiven is how long it takes from putting a job until it is given, where 2,000 wait that nobody there is let in for, as a
// ratio between a worker with 3,000 accounts and one with ten.
func BenchmarkGiven(b *testing.B) {
	few := 0.0
	for _, accounts := range []int{10, 3000} {
		b.Run(fmt.Sprint("accounts=", accounts), func(b *testing.B) {
			q := opened(b, Place{URL: sharedURL(b)})
			var wait []Item
			for i := range 2000 {
				wait = append(wait, Item{Job{What: "run", ID: "w", Account: fmt.Sprint("other_", i), Ask: "1"}, Usual, Normal})
			}
			for chunk := range slices.Chunk(wait, 200) {
				if err := q.Put(b.Context(), chunk...); err != nil {
					b.Fatal(err)
				}
			}
			var names []string
			for i := range accounts {
				names = append(names, fmt.Sprint("hut_", i))
			}
			ctx, stop := context.WithCancel(context.Background())
			given, ended := make(chan struct{}), make(chan struct{})
			go func() {
				defer close(ended)
				_ = q.Work(ctx, ctx, "one", []string{Usual}, names, 8, func(context.Context, Job) error { given <- struct{}{}; return nil })
			}()
			defer func() { stop(); <-ended }()
			next := 0
			put := func() {
				next++
				if err := q.Put(b.Context(), Item{Job{What: "run", ID: fmt.Sprint(next), Account: "hut_3", Ask: "1"}, Usual, Normal}); err != nil {
					b.Fatal(err)
				}
				<-given
			}
			put() // it is there
			var took time.Duration
			for b.Loop() {
				time.Sleep(100 * time.Millisecond) // it has looked, and waits to be told
				begun := time.Now()
				put()
				took += time.Since(begun)
			}
			each := took.Seconds() * 1000 / float64(b.N)
			if accounts == 10 {
				few = each
			}
			b.ReportMetric(each, "ms-until-given")
			b.ReportMetric(each/few, "of-ten-accounts")
		})
	}
}

// TestGivenAgain lets a worker who never ends have two jobs, one of them with a long way behind it: once he counts as
// gone another one is given both, once, and the lanes are kept.
func TestGivenAgain(t *testing.T) {
	for name, at := range places(t) {
		t.Run(name, func(t *testing.T) {
			first, second := opened(t, at), opened(t, at)
			ctx, stop := context.WithCancel(context.Background())
			given, never := make(chan Job, 9), make(chan struct{})
			ended := make(chan struct{}, 2)
			work := func(q *Queue, name string, accounts []string, do func(context.Context, Job) error) {
				go func() {
					if err := q.Work(ctx, ctx, name, []string{Usual}, accounts, 4, do); err != nil && ctx.Err() == nil {
						t.Error(err)
					}
					ended <- struct{}{}
				}()
			}
			t.Cleanup(func() {
				close(never)
				stop()
				<-ended
				<-ended
			})
			for _, j := range []Job{{What: "run", ID: "a", Account: "hut", Ask: "1"}, {What: "run", ID: "b", Account: "hut", Ask: "2 behind somebody"}, {What: "run", ID: "a", Account: "hut", Ask: "1"}} {
				if err := first.Put(t.Context(), Item{j, Usual, Normal}); err != nil {
					t.Fatal(err)
				}
			}
			work(first, "one", []string{"hut"}, func(_ context.Context, j Job) error {
				given <- j
				<-never
				return nil
			})
			next := func() Job {
				t.Helper()
				select {
				case j := <-given:
					return j
				case <-time.After(20 * time.Second):
					t.Fatal("nothing is given")
				}
				return Job{}
			}
			if a, b := next(), next(); a.ID == b.ID {
				t.Error("given twice:", a, b)
			}
			work(second, "two", []string{"hut"}, func(_ context.Context, j Job) error {
				given <- j
				return nil
			})
			if n, err := second.GiveAgain(t.Context(), "two"); n != 0 || err != nil {
				t.Errorf("of one who is there: %d, %v", n, err)
			}
			if n, err := second.GiveAgain(t.Context(), "one"); n != 2 || err != nil {
				t.Errorf("%d are given again, %v", n, err)
			}
			if n, err := second.GiveAgain(t.Context(), "one"); n != 0 || err != nil {
				t.Errorf("twice: %d, %v", n, err)
			}
			for range 2 {
				if j := next(); j.Ask != map[string]string{"a": "1 behind one", "b": "2 behind one"}[j.ID] {
					t.Errorf("%+v", j)
				}
			}
			select {
			case j := <-given:
				t.Error("and once more:", j)
			case <-time.After(300 * time.Millisecond):
			}
		})
	}
}

// TestClocksApart has one who lets jobs wait and one who is given them, whose clocks are an hour behind and ahead of the
// server's and the other way round: each job comes at once, and one that cannot be done now comes again when it said.
func TestClocksApart(t *testing.T) {
	for _, hours := range []time.Duration{1, -1} {
		at := Place{URL: sharedURL(t)}
		of := func(by time.Duration) *Queue {
			q, err := open(t.Context(), at, func() time.Time { return time.Now().Add(by) })
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(q.Close)
			return q
		}
		puts, works := of(hours*time.Hour), of(-hours*time.Hour)
		ctx, stop := context.WithCancel(context.Background())
		given, ended := make(chan struct{}, 9), make(chan struct{})
		go func() {
			defer close(ended)
			if err := works.Work(ctx, ctx, "one", []string{Usual}, []string{"hut"}, 1, func(context.Context, Job) error {
				given <- struct{}{}
				return NotNow{After: time.Second}
			}); err != nil && ctx.Err() == nil {
				t.Error(err)
			}
		}()
		if err := puts.Put(t.Context(), Item{Job{What: "run", ID: "a", Account: "hut", Ask: "1"}, Usual, Normal}); err != nil {
			t.Fatal(err)
		}
		for range 2 {
			select {
			case <-given:
			case <-time.After(20 * time.Second):
				t.Errorf("with clocks %d hours apart nothing is given", 2*hours)
			}
		}
		stop()
		<-ended
	}
}
