package queue

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"brickrow/internal/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// TestGivenAgain lets a worker who never ends have two jobs, one of them with a long way behind it: once he counts as
// gone another one is given both, once, and the lanes are kept.
func TestGivenAgain(t *testing.T) {
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
	for name, at := range map[string]Place{"file": {Dir: t.TempDir()}, "shared": {URL: url}} {
		t.Run(name, func(t *testing.T) {
			open := func() *Queue {
				q, err := Open(t.Context(), at)
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(q.Close)
				return q
			}
			first, second := open(), open()
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
