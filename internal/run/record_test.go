package run

import (
	"testing"

	"brickrow/internal/stack"
)

// TestStackState holds the state that each run leaves its stack in.
func TestStackState(t *testing.T) {
	for _, test := range []struct {
		kind   Kind
		status Status
		prior  stack.State
		want   stack.State
	}{
		{KindDeploy, StatusWorking, stack.Empty, stack.Deploying},
		{KindUndo, StatusWorking, stack.Ready, stack.Deploying},
		{KindDelete, StatusWorking, stack.Ready, stack.Removing},
		{KindDeploy, StatusUndoing, stack.Ready, stack.Undoing},
		{KindDeploy, StatusDone, stack.Stuck, stack.Ready},
		{KindDelete, StatusDone, stack.Stuck, stack.Removed},
		{KindUndo, StatusHeld, stack.Ready, stack.Partial},
		{KindDelete, StatusStuck, stack.Ready, stack.Stuck},
		{KindDeploy, StatusUndone, stack.Empty, stack.Empty},
		{KindDeploy, StatusUndone, stack.Removed, stack.Removed},
		{KindDeploy, StatusUndone, stack.Stuck, stack.Partial},
		{KindDeploy, StatusUndone, stack.Deploying, stack.Ready}, // its run never came to its end
	} {
		r := Record{Kind: test.kind, State: test.status, Prior: test.prior}
		if got := r.StackState(); got != test.want {
			t.Errorf("%s %s, before %s: %q, want %q", test.kind, test.status, test.prior, got, test.want)
		}
	}
}
