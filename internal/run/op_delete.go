package run

import (
	"context"
	"fmt"

	"brickrow/internal/cloud"
)

// removal removes a resource: one that is dropped, the old part of a swap, or what
// a step made that is undone, with all that its failed attempts left.
type removal struct{ made *Entry }

func (r *removal) prepare(ctx context.Context, t *task) (*ending, error) {
	s := t.entry.Step
	if s.Phase == PhaseUndo {
		r.made = t.Driver.Entry(s.Of)
		if r.made != nil {
			if err := t.clear(ctx, r.made, "looking for what was made", Undoing); err != nil {
				return nil, err
			}
		}
	}
	if t.entry.CloudID == "" { // it was refused before anything was made
		return &ending{state: Done, shown: r.shown(t), words: "nothing had been made"}, nil
	}
	if s.Backups > 0 {
		return nil, t.backUp(ctx, t.ref(), Removing)
	}
	return nil, nil
}

func (r *removal) telling(t *task) (State, string) {
	if t.entry.Step.Phase == PhaseUndo {
		return Undoing, "asking the cloud to remove it"
	}
	return Removing, "asking the cloud to remove it"
}

func (r *removal) ask(ctx context.Context, t *task) (cloud.Operation, error) {
	return t.Cloud.Delete(ctx, t.ref(), t.key())
}

func (r *removal) refused(ctx context.Context, t *task, err error) (*ending, error) {
	if cloud.IsNotFound(err) {
		t.entry.Asked = AskedGone
		return &ending{state: Done, shown: r.shown(t), words: "it was not there any more", changes: r.changes(t)}, nil
	}
	return nil, err
}

func (r *removal) record(ctx context.Context, t *task) (*ending, error) {
	if err := r.confirm(ctx, t); err != nil {
		return nil, err
	}
	return &ending{state: Done, shown: r.shown(t), changes: r.changes(t)}, nil
}

// What is known of a resource that was removed, beside that its removal was answered.
const (
	AskedGone = "gone"     // it was asked for, and is not there
	NotRead   = "unread: " // it could not be asked for: why
)

// confirm asks once more for what a program has removed, or what was reached through a connection: when the run is over there is no
// record left to ask by.
func (r *removal) confirm(ctx context.Context, t *task) error {
	rec := t.entry.Record
	if t.entry.Step.Phase == PhaseUndo && r.made != nil {
		t.mu.Lock()
		rec = t.recorded[t.entry.Step.Resource]
		t.mu.Unlock()
	}
	way, _ := cloud.WayOf(t.entry.CloudID)
	own := rec != nil && rec.ID == t.entry.CloudID && rec.Properties["own_programs"] != nil
	if way == "" && !own {
		return nil
	}
	_, err := t.Cloud.Get(ctx, t.ref())
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case cloud.IsNotFound(err):
		t.entry.Asked = AskedGone
	case err != nil:
		t.entry.Asked = NotRead + t.Secrets.Hide(cloud.Clean(err.Error()))
	default:
		return at("asking whether it is gone", fmt.Errorf("its removal was answered, and %s is there still", t.entry.CloudID))
	}
	return nil
}

func (r *removal) shown(t *task) State {
	if t.entry.Step.Phase == PhaseUndo {
		return IsUndone
	}
	return Removed
}

// changes leave the record alone where the step to undo had not reached it: a
// creation that failed never became the current record.
func (r *removal) changes(t *task) []Change {
	s := t.entry.Step
	switch {
	case t.kept[s.CloudID] != nil: // that it was left is over
		return []Change{Unkeep{s.CloudID}}
	case s.Phase != PhaseUndo && s.Swap:
		return []Change{RemoveOld{s.Resource, s.CloudID}}
	case s.Phase != PhaseUndo:
		return []Change{Remove{s.Resource}}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if now := t.recorded[s.Resource]; now == nil || now.ID != t.entry.CloudID {
		return nil
	}
	if r.made != nil && r.made.Record != nil && s.Swap {
		return []Change{Remove{s.Resource}, Restore{s.Resource, r.made.Record.ID}}
	}
	return []Change{Remove{s.Resource}}
}
