package run

import (
	"context"
	"fmt"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// backUp copies what a resource holds before it goes, or changes for good. That it is not
// there any more is no error: then there is nothing to copy.
func (t *task) backUp(ctx context.Context, r cloud.Ref, state State) error {
	c, err := t.backups()
	if err != nil {
		return err
	}
	if !t.resent {
		live, err := t.read(ctx, r.Type, r.ID)
		if cloud.IsNotFound(err) {
			return nil
		}
		if err != nil {
			return at("looking at what it holds", err)
		}
		last, err := t.lastBackup(ctx, c, func(b cloud.Backup) bool { return b.Of == r.ID })
		if err != nil {
			return err
		}
		mine := t.entry.Backup == last.ID || t.entry.Step.Phase == PhaseSweep // any other one may be removed meanwhile
		if last.ID != "" && mine && last.Digest != "" && last.Digest == digestOf(live) {
			t.entry.Backup = last.ID
			t.tell(ctx, *t.event(state, "what it holds is in "+last.ID+" already", ""))
			return nil
		}
	}
	if err := t.intend(ctx, t.event(state, "asking the cloud to copy what it holds", "")); err != nil {
		return err
	}
	op, err := t.call(ctx, func() (cloud.Operation, error) { return c.Backup(ctx, r, t.key()+" copies") })
	if cloud.IsNotFound(err) {
		return nil
	}
	if err == nil {
		err = t.follow(ctx, r, op, state)
	}
	if err != nil {
		return at("copying what it holds", err)
	}
	t.entry.Backup = op.Backup
	t.tell(ctx, *t.event(state, "what it holds is in "+op.Backup, ""))
	return nil
}

// fill fills a resource from a backup, and holds what it has then against that.
func (t *task) fill(ctx context.Context, r cloud.Ref, backup string, state State) error {
	c, err := t.backups()
	if err != nil {
		return err
	}
	doing := "filling it from " + backup
	op, err := t.call(ctx, func() (cloud.Operation, error) { return c.Restore(ctx, r, t.key()+" fills", backup) })
	if err == nil {
		err = t.follow(ctx, r, op, state)
	}
	if err != nil {
		return at(doing, err)
	}
	live, err := t.read(ctx, r.Type, r.ID)
	if err != nil {
		return at("looking at what it holds", err)
	}
	b, err := t.lastBackup(ctx, c, func(b cloud.Backup) bool { return b.ID == backup })
	if err != nil {
		return err
	}
	if is := digestOf(live); is != "" && b.Digest != "" && is != b.Digest {
		return at(doing, fmt.Errorf("it does not hold what the backup holds: its contents have the digest %s, and those of the backup %s",
			is, b.Digest))
	}
	t.tell(ctx, *t.event(state, "it holds what "+backup+" holds", ""))
	return nil
}

// forget removes the backup that a step took which is taken back.
func (t *task) forget(ctx context.Context, backup string) {
	c, err := t.backups()
	if err == nil {
		_, err = t.call(ctx, func() (cloud.Operation, error) { return cloud.Operation{}, c.RemoveBackup(ctx, t.Target, backup) })
	}
	if err != nil { // a backup too many is not worth failing for
		t.tell(ctx, *t.event(Undoing, backup+" is still there", err.Error()))
	}
}

func (t *task) backups() (cloud.BackingUp, error) {
	if c, ok := t.Cloud.(cloud.BackingUp); ok {
		return c, nil
	}
	return nil, cloud.NoBackups(t.entry.Step.Type)
}

// lastBackup is the newest backup of the stack of which something is true; one without an
// id where there is none.
func (t *task) lastBackup(ctx context.Context, c cloud.BackingUp, is func(cloud.Backup) bool) (out cloud.Backup, err error) {
	var list []cloud.Backup
	_, err = t.call(ctx, func() (op cloud.Operation, err error) {
		list, err = c.Backups(ctx, t.Target, t.Stack)
		return op, err
	})
	for _, b := range list {
		if is(b) && b.Taken.After(out.Taken) {
			out = b
		}
	}
	return out, err
}

// digestOf is the digest of what a resource holds; "" where the cloud does not tell.
func digestOf(live *stack.Live) string {
	if v := live.Attributes["contents_digest"]; v != nil {
		return tosca.InClear(v)
	}
	return ""
}
