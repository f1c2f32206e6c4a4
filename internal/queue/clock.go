package queue

import (
	"context"
	"sync/atomic"
	"time"
)

// clock tells the time of the database: those who let jobs wait, those who are given them and the database itself may be on
// machines whose clocks differ, and a job comes when it is time by one of them alone.
type clock struct {
	here  func() time.Time
	ask   func(context.Context) (time.Time, error)
	ahead atomic.Int64 // of what is here, in nanoseconds
}

// align asks for the time of the database. Where it does not answer, what is known stays: so will not what is asked of it next.
func (c *clock) align(ctx context.Context) {
	if c == nil {
		return
	}
	began := c.here()
	if there, err := c.ask(ctx); err == nil {
		ended := c.here()
		c.ahead.Store(int64(there.Sub(began.Add(ended.Sub(began) / 2))))
	}
}

// Now is the time of the database.
func (c *clock) Now() time.Time { return c.here().Add(time.Duration(c.ahead.Load())) }

// NowOrNil is none: the database takes its own.
func (c *clock) NowOrNil() *time.Time { return nil }

// written is the clock for what is written along with a job, where River would take the time from here.
type written struct{ *clock }

// NowOrNil is the time of the database.
func (w written) NowOrNil() *time.Time {
	now := w.Now()
	return &now
}
