package app

import (
	"context"
	"errors"
	"fmt"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// Backup is one of what a resource of a stack holds, or held.
type Backup struct {
	cloud.Backup
	There bool `json:"there"` // what it is of is in the cloud still
}

// Backups lists the backups of a stack, the newest first. They outlive it.
func (a *App) Backups(ctx context.Context, st *stack.Stack) ([]Backup, error) {
	c, ok := a.Cloud.(cloud.BackingUp)
	if !ok {
		return nil, nil
	}
	list, err := c.Backups(ctx, st.Target, st.Name)
	if err != nil {
		return nil, err
	}
	live, err := a.Cloud.List(ctx, st.Target, st.Name)
	if err != nil {
		return nil, err
	}
	there := map[string]bool{}
	for _, r := range live {
		there[r.ID] = true
	}
	var out []Backup
	for _, b := range list {
		if b.Stack == st.Name { // a cloud may list more
			out = append(out, Backup{b, there[b.Of]})
		}
	}
	return out, nil
}

// thinOut keeps only so many backups of each resource of which the run has taken one as its
// policy says. What cannot be removed is told, and is not worth failing for.
func (x *execution) thinOut(ctx context.Context) {
	most := map[string]int{}
	for _, s := range x.run.Plan.Steps {
		if e := x.driver.Entry(s.ID); e != nil && e.Backup != "" {
			most[s.Resource] = max(most[s.Resource], s.Backups)
		}
	}
	if len(most) == 0 {
		return
	}
	list, err := x.Backups(ctx, x.stack)
	kept, removed := map[string]int{}, 0
	for _, b := range list {
		n := most[b.Node]
		if kept[b.Node]++; n == 0 || kept[b.Node] <= n {
			continue
		}
		if e := x.Cloud.(cloud.BackingUp).RemoveBackup(ctx, x.stack.Target, b.ID); e != nil {
			err = errors.Join(err, e)
			continue
		}
		removed++
	}
	words := ""
	if removed > 0 {
		words = fmt.Sprintf("older backups removed: %d", removed)
	}
	if err != nil {
		words = "older backups could not all be removed: " + err.Error()
	}
	if words != "" {
		_ = x.store.Note(ctx, x.run, nil, &run.Event{Type: run.Aside, State: run.Working, Step: x.driver.Secrets.Hide(words)}, nil)
	}
}
