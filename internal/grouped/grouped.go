// Package grouped lets what several want to write at the same time be written together.
package grouped

import (
	"context"
	"sync"
)

// most is how many jobs are written at once at most.
const most = 64

// Job is something to write, in a transaction of the type T.
type Job[T any] struct {
	Err   error // why nothing of it was kept
	Panic any   // what it has panicked with; nothing of it was kept then either
	ctx   context.Context
	do    func(T) error
	done  chan struct{}
}

// Run carries it out in a transaction, unless nobody waits for it any more.
func (j *Job[T]) Run(tx T) {
	defer func() { j.Panic = recover() }()
	if j.Err = j.ctx.Err(); j.Err == nil {
		j.Err = j.do(tx)
	}
}

// Writer has one that writes, whoever wants it to.
type Writer[T any] struct {
	// Write writes jobs, and notes in each what became of it. It is called by one at a time.
	Write   func([]*Job[T])
	mu      sync.Mutex
	waiting []*Job[T]
	working bool // somebody writes what waits
}

// Do lets something be written, in the order in which it was asked for, and waits for it. It panics with what the job has
// panicked with.
func (w *Writer[T]) Do(ctx context.Context, do func(T) error) error {
	j := &Job[T]{ctx: ctx, do: do, done: make(chan struct{})}
	w.mu.Lock()
	w.waiting = append(w.waiting, j)
	if !w.working {
		w.working = true
		go w.work()
	}
	w.mu.Unlock()
	<-j.done
	if j.Panic != nil {
		panic(j.Panic)
	}
	return j.Err
}

// Idle reports whether nothing waits, and nothing is being written.
func (w *Writer[T]) Idle() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return !w.working && len(w.waiting) == 0
}

// work writes until nothing waits any more.
func (w *Writer[T]) work() {
	for {
		w.mu.Lock()
		n := min(len(w.waiting), most)
		jobs := w.waiting[:n:n]
		w.waiting = w.waiting[n:]
		if n == 0 {
			w.waiting, w.working = nil, false
			w.mu.Unlock()
			return
		}
		w.mu.Unlock()
		w.Write(jobs)
		for _, j := range jobs {
			close(j.done)
		}
	}
}
