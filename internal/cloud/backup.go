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

// asBackingUp is the cloud of a type where that can back up.
func (m *Mux) asBackingUp(typ string) (BackingUp, error) {
	if b, ok := m.of(typ).(BackingUp); ok {
		return b, nil
	}
	return nil, NoBackups(typ)
}

// NoBackups is the refusal of a cloud that cannot back up what is of a type.
func NoBackups(typ string) *Problem {
	return &Problem{Type: "no-backups", Title: "no backups", Status: 422, Detail: "this cloud cannot back up a " + typ,
		Fix: "take it out of the policy Backup"}
}

// Backup begins to copy what a resource holds.
func (m *Mux) Backup(ctx context.Context, r Ref, key string) (Operation, error) {
	b, err := m.asBackingUp(r.Type)
	if err != nil {
		return Operation{}, err
	}
	return b.Backup(ctx, r, key)
}

// Restore begins to fill a resource from a backup.
func (m *Mux) Restore(ctx context.Context, r Ref, key, backup string) (Operation, error) {
	b, err := m.asBackingUp(r.Type)
	if err != nil {
		return Operation{}, err
	}
	return b.Restore(ctx, r, key, backup)
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
	return out, nil
}

// RemoveBackup removes a backup from whichever cloud has it.
func (m *Mux) RemoveBackup(ctx context.Context, t stack.Target, id string) error {
	for _, c := range m.all() {
		if b, ok := c.(BackingUp); ok {
			if err := b.RemoveBackup(ctx, t, id); err != nil {
				return err
			}
		}
	}
	return nil
}
