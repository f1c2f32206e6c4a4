package cloud

import (
	"context"
	"time"

	"brickrow/internal/stack"
)

// Feeding is a cloud that tells by itself what happens to its resources.
type Feeding interface {
	// Feed tells each change in a target after a number, as it comes, until the context
	// ends or the connection is lost, which is an error. A number below 0 is from now on.
	Feed(ctx context.Context, t stack.Target, after int64, each func(Change)) error
}

// Change is that a resource is another one than before.
type Change struct {
	Seq   int64     `json:"seq"`
	Time  time.Time `json:"time"`
	ID    string    `json:"id"`
	Type  string    `json:"type"`
	State string    `json:"state"` // as of a resource, or removed
	Stack string    `json:"stack"`
	Node  string    `json:"node"`
}
