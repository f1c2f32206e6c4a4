package app

import (
	"context"
	"sync"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// limits are how much the targets take at once. Runs that this process carries out share
// that of their target.
type limits struct {
	mu   sync.Mutex
	told map[stack.Target]int
	live map[stack.Target]*run.Limit
}

// hear hears what a target says of itself.
func (l *limits) hear(t stack.Target, atOnce int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.told == nil {
		l.told = map[stack.Target]int{}
	}
	l.told[t] = atOnce
}

// of is the limit of a target; one that begins is made of what is told and learned.
func (l *limits) of(t stack.Target, told, learned int) *run.Limit {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.live == nil {
		l.live = map[stack.Target]*run.Limit{}
	}
	if l.live[t] == nil {
		l.live[t] = run.NewLimit(told, learned)
	}
	return l.live[t]
}

// says is how much a target takes at once, as it said last; 0 is nothing.
func (l *limits) says(t stack.Target) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.told[t]
}

// learn keeps what was learned of a target while a run went on.
func (x *execution) learn(ctx context.Context) error {
	if x.driver == nil || x.driver.Limit == nil {
		return nil
	}
	if n := x.driver.Limit.Learned(); n > 0 {
		return x.store.SetAtOnce(ctx, x.stack.Target, n)
	}
	return nil
}
