package parttest

import (
	"fmt"

	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Sizes are the numbers of resources that keys are measured with.
var Sizes = []int{1000, 10_000}

// Changes is a change set of n resources, in which each 200th rests on one before.
func Changes(n int) *whatif.ChangeSet {
	cs := &whatif.ChangeSet{Changes: make([]whatif.Change, 0, n)}
	for i := range n {
		ch := whatif.Change{Name: fmt.Sprint("r", i), Type: "Topic", Kind: whatif.Kinds[i%5],
			Recorded: &stack.Recorded{}}
		if i > 200 {
			ch.Needs = []string{fmt.Sprint("r", i-200)}
		}
		cs.Changes = append(cs.Changes, ch)
	}
	return cs
}
