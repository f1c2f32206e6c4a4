package app

import (
	"context"
	"errors"
	"time"

	"brickrow/internal/export"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

const (
	traceEvery   = 2 * time.Second // how often what has ended is sent
	tracePatient = 5 * time.Second // how long it may take to be sent
)

// trace sends the run as a trace while it goes on, where the environment says where to.
// What it yields sends the rest and waits for that. A trace that cannot be sent holds
// nothing up; the run says so at its end.
func (x *execution) trace(ctx context.Context) (end func()) {
	if !export.Wanted() {
		return func() {}
	}
	sender, err := export.NewSender(ctx)
	if err != nil {
		return func() { x.untraced(ctx, err) }
	}
	var events []run.Event
	read := func() error {
		after := int64(0)
		if len(events) > 0 {
			after = events[len(events)-1].Seq
		}
		fresh, err := x.store.Events(ctx, x.run.ID, after)
		events = append(events, fresh...)
		return err
	}
	if err = read(); err == nil {
		sender.Skip(x.stack, x.run, events)
	}
	send := func(ctx context.Context) error {
		ctx, stop := context.WithTimeout(ctx, tracePatient)
		defer stop()
		r, err := x.store.Run(ctx, x.run.ID) // its state is written by another goroutine
		if err == nil {
			err = read()
		}
		if err != nil {
			return err
		}
		return sender.Send(ctx, x.stack, r, events)
	}
	quit, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		beat := time.NewTicker(traceEvery)
		defer beat.Stop()
		for {
			select {
			case <-quit:
				return
			case <-ctx.Done():
				return
			case <-beat.C:
				_ = send(ctx) // it is sent again in a moment
			}
		}
	}()
	return func() {
		close(quit)
		<-done
		last := context.WithoutCancel(ctx)
		if err := errors.Join(err, send(last), sender.Close(last)); err != nil {
			x.untraced(last, err)
		}
	}
}

// untraced says that the trace was not sent.
func (x *execution) untraced(ctx context.Context, err error) {
	ev := run.Event{Type: run.Aside, State: run.Skipped, Step: "the trace could not be sent", Reason: err.Error()}
	_ = x.store.Note(ctx, x.run, nil, &ev, nil)
}

// Trace is a run of a stack as a trace of OpenTelemetry in the JSON of OTLP, and how many
// of its steps are under way, which are not in it.
func (a *App) Trace(ctx context.Context, st *stack.Stack, r *run.Record) (text []byte, underWay int, err error) {
	events, err := a.store.Events(ctx, r.ID, 0)
	if err != nil {
		return nil, 0, err
	}
	text, err = export.TraceJSON(export.Trace(st, r, events))
	return text, export.Unfinished(r, events), err
}
