package cloud

import (
	"context"
	"time"
)

// Draining is a cloud that lets a resource finish its work: it leaves its pools, gets
// nothing more to do, and has so long for what it is at.
type Draining interface {
	// Drain begins it. A resource that has no work is done at once.
	Drain(ctx context.Context, r Ref, key string, wait time.Duration) (Operation, error)
	// Refill begins to bring a resource back into its pools.
	Refill(ctx context.Context, r Ref, key string) (Operation, error)
}

// NoWork is what a cloud without draining answers: there is nothing to wait for.
var NoWork = Operation{Kind: "drain", State: "done"}

// Drain lets a resource finish its work, where its cloud can do that.
func (m *Mux) Drain(ctx context.Context, r Ref, key string, wait time.Duration) (Operation, error) {
	return m.drains(ctx, r, func(d Draining, r Ref) (Operation, error) { return d.Drain(ctx, r, key, wait) })
}

// Refill brings a resource back into its pools, where its cloud can do that.
func (m *Mux) Refill(ctx context.Context, r Ref, key string) (Operation, error) {
	return m.drains(ctx, r, func(d Draining, r Ref) (Operation, error) { return d.Refill(ctx, r, key) })
}

func (m *Mux) drains(ctx context.Context, r Ref, ask func(Draining, Ref) (Operation, error)) (Operation, error) {
	return to(ctx, m, r, func(c Cloud, r Ref, way Way) (Operation, error) {
		if d, ok := c.(Draining); ok {
			o, err := ask(d, r)
			return way.operation(o), err
		}
		return NoWork, nil
	})
}
