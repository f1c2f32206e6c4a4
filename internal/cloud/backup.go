package cloud

import (
	"context"
	"time"

	"brickrow/internal/stack"
)

// Backup is a copy of what a resource held. It outlives the resource, and its stack.
type Backup struct {
	ID     string    `json:"id"`
	Of     string    `json:"of"` // the id of the resource
	Type   string    `json:"type"`
	Stack  string    `json:"stack"`
	Node   string    `json:"node"`
	Taken  time.Time `json:"taken"`
	Digest string    `json:"digest"` // of the contents
}

// BackingUp is a cloud that copies what a resource holds, and fills one from such a copy.
type BackingUp interface {
	// Backup begins to copy what a resource holds; the operation says which backup it makes.
	Backup(ctx context.Context, r Ref, key string) (Operation, error)
	// Restore begins to fill a resource from a backup.
	Restore(ctx context.Context, r Ref, key, backup string) (Operation, error)
	// Backups lists those of a stack, the newest first; "" is all.
	Backups(ctx context.Context, t stack.Target, stackName string) ([]Backup, error)
	// RemoveBackup removes one; that there is none is no error.
	RemoveBackup(ctx context.Context, t stack.Target, id string) error
}

// NoBackups is the refusal of a cloud that cannot back up what is of a type.
func NoBackups(typ string) *Problem {
	return &Problem{Type: "no-backups", Title: "no backups", Status: 422, Detail: "this cloud cannot back up a " + typ,
		Fix: "take it out of the policy Backup"}
}

// Backup begins to copy what a resource holds.
func (m *Mux) Backup(ctx context.Context, r Ref, key string) (Operation, error) {
	return m.backsUp(ctx, r, func(b BackingUp, r Ref) (Operation, error) { return b.Backup(ctx, r, key) })
}

// Restore begins to fill a resource from a backup.
func (m *Mux) Restore(ctx context.Context, r Ref, key, backup string) (Operation, error) {
	return m.backsUp(ctx, r, func(b BackingUp, r Ref) (Operation, error) {
		_, there := WayOf(backup)
		return b.Restore(ctx, r, key, there)
	})
}

func (m *Mux) backsUp(ctx context.Context, r Ref, ask func(BackingUp, Ref) (Operation, error)) (Operation, error) {
	return to(ctx, m, r, func(c Cloud, r Ref, way Way) (Operation, error) {
		if b, ok := c.(BackingUp); ok {
			o, err := ask(b, r)
			return way.operation(o), err
		}
		return Operation{}, NoBackups(r.Type)
	})
}

// Backups lists those of all clouds, each cloud's newest first.
func (m *Mux) Backups(ctx context.Context, t stack.Target, stackName string) ([]Backup, error) {
	var out []Backup
	for _, c := range m.all() {
		if b, ok := c.(BackingUp); ok {
			list, err := b.Backups(ctx, t, stackName)
			if err != nil {
				return nil, err
			}
			out = append(out, list...)
		}
	}
	ends, err := m.ends(ctx, t, stackName)
	for _, e := range ends {
		if b, ok := e.Cloud.(BackingUp); ok {
			list, err := b.Backups(ctx, e.Target, stackName)
			if err != nil && !IsUnanswered(err) {
				return nil, err
			}
			for _, backup := range list {
				backup.ID, backup.Of = e.Outward(backup.ID), e.Outward(backup.Of)
				out = append(out, backup)
			}
		}
	}
	return out, err
}

// RemoveBackup removes a backup from whichever cloud has it.
func (m *Mux) RemoveBackup(ctx context.Context, t stack.Target, id string) error {
	if way, there := WayOf(id); way != "" && m.Ways != nil {
		end, err := m.Ways.Reach(ctx, t, way)
		if err != nil {
			return err
		}
		if b, ok := end.Cloud.(BackingUp); ok {
			return b.RemoveBackup(ctx, end.Target, there)
		}
		return nil
	}
	for _, c := range m.all() {
		if b, ok := c.(BackingUp); ok {
			if err := b.RemoveBackup(ctx, t, id); err != nil {
				return err
			}
		}
	}
	return nil
}
