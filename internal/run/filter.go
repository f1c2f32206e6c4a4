package run

import (
	"slices"
	"time"

	"brickrow/internal/stack"
)

// States are those that an event can tell of.
var States = []State{Waiting, Working, Settling, IsReady, HasFailed, Undoing, IsUndone, Removing, Removed, Kept, Skipped}

// Filter chooses events. What is empty chooses all.
type Filter struct {
	States []State
	// Resources are names, in which * stands for any letters; that of a node means all its
	// instances.
	Resources []string
	Types     []string
	Since     time.Time
}

// Matches reports whether an event is chosen.
func (f Filter) Matches(e Event) bool {
	return (len(f.States) == 0 || slices.Contains(f.States, e.State)) &&
		(len(f.Types) == 0 || slices.Contains(f.Types, e.Type)) &&
		(len(f.Resources) == 0 || slices.ContainsFunc(f.Resources, func(p string) bool { return stack.Means(p, e.Resource) })) &&
		!e.Time.Before(f.Since)
}
