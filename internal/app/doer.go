package app

import (
	"context"
	"strings"
	"time"

	"brickrow/internal/run"
)

// Doer is who has done something: the member of the store, and the user on which machine.
type Doer struct {
	Member string `json:"member"` // "" where the store is in a file
	User   string `json:"user"`
	Host   string `json:"host"`
	// Words are all that is said of it: who saved it, who approved it, who carried it out.
	Words string `json:"words,omitempty"`
}

// DoerOf is who has prepared a run.
func (a *App) DoerOf(ctx context.Context, r *run.Record) Doer {
	user := r.By
	if i := strings.LastIndex(user, ", carried out by "); i >= 0 {
		user = user[i+len(", carried out by "):]
	}
	return Doer{a.memberNamed(ctx, r.SignedBy), user, r.Origin.Host, r.By}
}

// memberNamed is the name of the member who has a signing key.
func (a *App) memberNamed(ctx context.Context, key string) string {
	if key == "" {
		return ""
	}
	a.whenceMu.Lock()
	defer a.whenceMu.Unlock()
	name, known := a.named[key]
	if !known {
		if name = a.store.MemberNamed(ctx, key); a.named == nil {
			a.named = map[string]string{}
		}
		a.named[key] = name
	}
	return name
}

// StoreAct is something that was done to the store as a whole: who was let in or out, what was set of targets.
type StoreAct struct {
	Time time.Time `json:"time"`
	By   Doer      `json:"by"`
	Act  string    `json:"act"` // member-in, member-out, approval-on, approval-off, limit, set
	On   string    `json:"on"`
	Note string    `json:"note"`
}

// StoreActs lists what was done to the store as a whole, the newest first.
func (a *App) StoreActs(ctx context.Context) ([]StoreAct, error) {
	list, err := a.store.Acts(ctx)
	out := []StoreAct{}
	for i := len(list) - 1; i >= 0; i-- {
		user, host, _ := strings.Cut(list[i].By, "@")
		out = append(out, StoreAct{list[i].At.UTC(), Doer{a.store.MemberOf(ctx, list[i]), user, host, ""}, list[i].Act, list[i].On, list[i].Note})
	}
	return out, err
}
