package shareddb

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
)

// between is how much time is between two notes of one process that something was written, and restart how
// long it is before a connection that is listened on is made anew.
const (
	between = 50 * time.Millisecond
	restart = time.Second
)

// channel is what is listened to: that of the schema.
func (d *DB) channel() string { return "brickrow_" + d.schema }

// bell tells others that something was written, and hears them.
type bell struct {
	mu      sync.Mutex
	dirty   bool // something was written that nobody was told of yet
	ringing bool
	closed  bool
	tellers sync.WaitGroup

	heard     atomic.Int64
	listening atomic.Bool
	stop      context.CancelFunc
	listened  chan struct{}
	ears      map[chan struct{}]bool
}

// ring tells that something was written, soon: what is written all the time is not told of all the time.
func (b *bell) ring(d *DB) {
	b.heard.Add(1)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.dirty = true
	if b.ringing || b.closed {
		return
	}
	b.ringing = true
	b.tellers.Add(1)
	go func() {
		defer b.tellers.Done()
		for {
			b.mu.Lock()
			if !b.dirty {
				b.ringing = false
				b.mu.Unlock()
				return
			}
			b.dirty = false
			last := b.closed
			b.mu.Unlock()
			ctx, done := context.WithTimeout(context.Background(), 5*time.Second)
			_, _ = d.reads.Exec(ctx, "select pg_notify($1, '')", d.channel()) // who is not told looks by himself now and then
			done()
			if !last {
				time.Sleep(between)
			}
		}
	}()
}

// close tells of what was written last, and hears nothing more.
func (b *bell) close() {
	b.mu.Lock()
	b.closed = true
	stop, listened := b.stop, b.listened
	b.mu.Unlock()
	b.tellers.Wait()
	if stop != nil {
		stop()
		<-listened
	}
}

// Heard counts what was written by this process, and what others were heard to write. It is sure only while
// Listening.
func (d *DB) Heard() (n int64, sure bool) { return d.bell.heard.Load(), d.bell.listening.Load() }

// Listen tells of what anybody writes, until the context ends. Several writes in a short time may be
// told once.
func (d *DB) Listen(ctx context.Context) <-chan struct{} {
	ear := make(chan struct{}, 1)
	b := &d.bell
	b.mu.Lock()
	if b.ears == nil {
		b.ears = map[chan struct{}]bool{}
		var listen context.Context
		listen, b.stop = context.WithCancel(context.Background())
		b.listened = make(chan struct{})
		go func() {
			defer close(b.listened)
			d.listen(listen)
		}()
	}
	b.ears[ear] = true
	b.mu.Unlock()
	context.AfterFunc(ctx, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.ears, ear)
		close(ear)
	})
	return ear
}

func (d *DB) listen(ctx context.Context) {
	b := &d.bell
	tell := func() {
		b.heard.Add(1)
		b.mu.Lock()
		defer b.mu.Unlock()
		for ear := range b.ears {
			select {
			case ear <- struct{}{}:
			default: // it has not heard the last one yet
			}
		}
	}
	for ctx.Err() == nil {
		conn, err := pgx.ConnectConfig(ctx, d.config.ConnConfig.Copy())
		if err == nil {
			if _, err = conn.Exec(ctx, "listen "+pgx.Identifier{d.channel()}.Sanitize()); err == nil {
				b.listening.Store(true)
				tell() // what was written before that
				for err == nil {
					if _, err = conn.WaitForNotification(ctx); err == nil {
						tell()
					}
				}
				b.listening.Store(false)
			}
			_ = conn.Close(context.Background())
		}
		tell() // somebody may have written meanwhile
		t := time.NewTimer(restart)
		select {
		case <-ctx.Done():
			t.Stop()
		case <-t.C:
		}
	}
}
