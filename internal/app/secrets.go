package app

import (
	"context"
	"errors"
	"sync"

	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// knownSecrets are those of all stacks, as they were read last.
type knownSecrets struct {
	sync.Mutex
	of   map[int64]store.StackKey // how the stacks were then
	sets map[int64]*tosca.Secrets // of those that have some
}

// secretsOf are those of a stack, also those that its revisions had before.
func (a *App) secretsOf(ctx context.Context, st *stack.Stack) (*tosca.Secrets, error) {
	key := store.StackKey{ID: st.ID, Updated: st.Updated.UnixMilli(), Revision: int64(st.Revision), State: string(st.State)}
	a.secrets.Lock()
	defer a.secrets.Unlock()
	if a.secrets.of[st.ID] != key || running(st.State) {
		found, err := a.store.SecretsIn(ctx, []int64{st.ID})
		if err != nil && !errors.Is(err, store.ErrNoMember) {
			return nil, err
		}
		if a.secrets.of == nil {
			a.secrets.of, a.secrets.sets = map[int64]store.StackKey{}, map[int64]*tosca.Secrets{}
		}
		if delete(a.secrets.sets, st.ID); found[st.ID] != nil {
			a.secrets.sets[st.ID] = found[st.ID]
		}
		a.secrets.of[st.ID] = key
	}
	return a.secrets.sets[st.ID].Clone(), nil // nil is none
}

// allSecrets are the secrets of all stacks that are there: somebody may have written one of them somewhere else. They are
// wanted at the end of each run, so those of stacks that are as they were are not read again.
func (a *App) allSecrets(ctx context.Context) (*tosca.Secrets, error) {
	a.secrets.Lock()
	defer a.secrets.Unlock()
	keys, err := a.store.StackKeys(ctx)
	if err != nil {
		return nil, err
	}
	is := make(map[int64]store.StackKey, len(keys))
	var changed []int64
	for _, k := range keys {
		is[k.ID] = k
		if a.secrets.of[k.ID] != k {
			changed = append(changed, k.ID)
		}
	}
	found, err := a.store.SecretsIn(ctx, changed)
	if err != nil {
		return nil, err
	}
	if a.secrets.sets == nil {
		a.secrets.sets = map[int64]*tosca.Secrets{}
	}
	for id := range a.secrets.of {
		if _, there := is[id]; !there {
			delete(a.secrets.sets, id)
		}
	}
	for _, id := range changed {
		delete(a.secrets.sets, id)
		if set := found[id]; set != nil {
			a.secrets.sets[id] = set
		}
	}
	a.secrets.of = is
	all := &tosca.Secrets{}
	for _, set := range a.secrets.sets {
		all.Merge(set)
	}
	return all, nil
}
