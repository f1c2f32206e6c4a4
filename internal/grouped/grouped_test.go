package grouped

import (
	"context"
	"errors"
	"sync"
	"testing"
)

// TestDo lets many write at the same time: each job is written once, in groups, in the order of its writer; a failing one, one that
// panics and one that nobody waits for are told to theirs alone.
func TestDo(t *testing.T) {
	var order []int
	groups := 0
	w := &Writer[*[]int]{Write: func(jobs []*Job[*[]int]) {
		groups++
		if len(jobs) > most {
			t.Errorf("%d at once", len(jobs))
		}
		for _, j := range jobs {
			j.Run(&order)
		}
	}}
	const writers, each = 30, 20
	var all sync.WaitGroup
	for n := range writers {
		all.Go(func() {
			for i := range each {
				if err := w.Do(t.Context(), func(to *[]int) error { *to = append(*to, n*each+i); return nil }); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	last, seen := map[int]int{}, map[int]bool{}
	for _, x := range order {
		if was, ok := last[x/each]; seen[x] || ok && x < was {
			t.Fatalf("%d is written twice, or before an earlier one", x)
		}
		last[x/each], seen[x] = x, true
	}
	if len(order) != writers*each || groups > len(order) {
		t.Errorf("%d are written in %d groups", len(order), groups)
	}
	failed := errors.New("no room")
	if err := w.Do(t.Context(), func(*[]int) error { return failed }); !errors.Is(err, failed) {
		t.Error(err)
	}
	gone, stop := context.WithCancel(t.Context())
	stop()
	if err := w.Do(gone, func(*[]int) error { t.Error("it is written"); return nil }); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	func() {
		defer func() {
			if recover() != "oh" {
				t.Error("it does not panic")
			}
		}()
		_ = w.Do(t.Context(), func(*[]int) error { panic("oh") })
	}()
	for !w.Idle() {
	}
}
