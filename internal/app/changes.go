package app

import (
	"context"
	"path/filepath"
	"slices"
	"time"

	"github.com/fsnotify/fsnotify"
)

// quiet is how long the store is left alone after a change was told, so that a
// run that writes all the time is not told of all the time.
const quiet = 80 * time.Millisecond

// Changes tells that the store was written, by this process or by another one,
// until the context ends. Several writes in a short time are told once. Where the
// store cannot be watched it is looked at now and then.
func (a *App) Changes(ctx context.Context) <-chan struct{} {
	out := make(chan struct{}, 1)
	if heard := a.store.Listen(ctx); heard != nil {
		go a.tellOfShared(ctx, heard, out)
		return out
	}
	w, err := fsnotify.NewWatcher()
	if err == nil {
		err = w.Add(a.Home)
	}
	go func() {
		defer close(out)
		var events chan fsnotify.Event
		var look <-chan time.Time
		if err == nil {
			defer w.Close()
			events = w.Events
		} else {
			t := time.NewTicker(time.Second)
			defer t.Stop()
			look = t.C
		}
		stamp := a.stamp()
		for {
			select {
			case <-ctx.Done():
				return
			case e := <-events:
				if !slices.Contains(DataFiles[:2], filepath.Base(e.Name)) {
					continue
				}
			case <-look:
			}
			if now := a.stamp(); now == stamp {
				continue
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(quiet):
			}
			stamp = a.stamp()
			select {
			case out <- struct{}{}:
			default: // nobody has heard the last one yet
			}
		}
	}()
	return out
}

// unheard is how long nothing is heard of a shared store before it is looked at all the same.
const unheard = 5 * time.Second

// tellOfShared tells of what was written to a shared store.
func (a *App) tellOfShared(ctx context.Context, heard <-chan struct{}, out chan<- struct{}) {
	defer close(out)
	look := time.NewTicker(unheard)
	defer look.Stop()
	stamp := ""
	for {
		select {
		case <-ctx.Done():
			return
		case <-heard:
		case <-look.C:
		}
		if a.stamp() == stamp {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(quiet):
		}
		stamp = a.stamp()
		select {
		case out <- struct{}{}:
		default: // nobody has heard the last one yet
		}
	}
}
