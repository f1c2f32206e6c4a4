package run

import "brickrow/internal/stack"

// Change is a small change of what is recorded of a stack. A step makes some of
// them, in their order, together with its outcome.
type Change interface{ change() }

// The changes of the record.
type (
	// Retire makes the current record of a resource an old part.
	Retire struct{ Name string }
	// Remove takes the current record of a resource away.
	Remove struct{ Name string }
	// RemoveOld takes an old part away, by its id in the cloud.
	RemoveOld struct{ Name, ID string }
	// Restore makes an old part the current record again.
	Restore struct{ Name, ID string }
	// Keep notes what has left the stack and stays in the cloud.
	Keep struct {
		Name   string
		Record *stack.Recorded
	}
	// Unkeep forgets what was kept and is back in the stack.
	Unkeep struct{ ID string }
	// Put makes a record the current one.
	Put struct {
		Record   *stack.Recorded
		Position int
	}
)

func (Retire) change()    {}
func (Remove) change()    {}
func (RemoveOld) change() {}
func (Restore) change()   {}
func (Keep) change()      {}
func (Unkeep) change()    {}
func (Put) change()       {}
