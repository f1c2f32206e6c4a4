package app

import (
	"context"
	"errors"
	"time"

	"brickrow/internal/identity"
	"brickrow/internal/profile"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// What the store says of itself, as the interfaces show it.
type (
	Member     = store.Member
	MovedTable = store.MovedTable
	Moved      = store.Moved
)

// ErrNoMember says that the secrets of a shared store are not to be read by this user.
var ErrNoMember = store.ErrNoMember

// StoreStatus is where the store is, whose it is, and what is in it.
type StoreStatus struct {
	store.Status
	Member   bool             `json:"member"`             // whether its secrets are to be read
	Members  []Member         `json:"members,omitempty"`  // of a shared store
	Unsigned []store.Unsigned `json:"unsigned,omitempty"` // what no member stands for, of a shared store
	Locks    []StackLock      `json:"locks"`
}

// StackLock is a lock that is held now.
type StackLock struct {
	Stack  string    `json:"stack"`
	Target string    `json:"target"`
	Holder string    `json:"holder"`
	Until  time.Time `json:"until"` // it is renewed all the time
}

// StoreStatus looks at the store.
func (a *App) StoreStatus(ctx context.Context) (out StoreStatus, err error) {
	if out.Status, err = a.store.Status(ctx); err != nil {
		return out, err
	}
	out.Member = a.store.Member()
	if a.Shared() {
		if out.Members, err = a.store.Members(ctx); err != nil {
			return out, err
		}
		if out.Unsigned, err = a.store.Unsigned(ctx); err != nil {
			return out, err
		}
	}
	held, err := a.store.Locks(ctx)
	if err != nil {
		return out, err
	}
	list, err := a.store.Stacks(ctx)
	if err != nil {
		return out, err
	}
	out.Locks = []StackLock{}
	for _, st := range list {
		if l, ok := held[st.ID]; ok {
			out.Locks = append(out.Locks, StackLock{st.Name, st.Target.String(), l.Holder, l.Until})
		}
	}
	return out, nil
}

// Members lists who can read the secrets of a shared store.
func (a *App) Members(ctx context.Context) ([]Member, error) { return a.store.Members(ctx) }

// AddMember lets somebody read the secrets of a shared store; line is what 'brickrow identity' prints for him.
func (a *App) AddMember(ctx context.Context, name, line, note string) error {
	return a.store.AddMember(ctx, name, line, note)
}

// RemoveMember seals the secrets of a shared store with a new key, for all members but one. It says how many
// they are.
func (a *App) RemoveMember(ctx context.Context, name, note string) (int, error) {
	return a.store.RemoveMember(ctx, name, note)
}

// MoveStore brings the store from one place to another.
func MoveStore(ctx context.Context, home, from, to string, told func(MovedTable)) (Moved, error) {
	home = Home(home)
	if err := MakeHome(home); err != nil {
		return Moved{}, err
	}
	place, err := StorePlace(home, to)
	if err != nil {
		return Moved{}, err
	}
	if place.URL == "" {
		if err := MakeHome(place.Dir); err != nil {
			return Moved{}, err
		}
	}
	if a, err := Open(Options{Home: home, Store: from}); err == nil { // else Move says why
		_, err = a.settings() // what a file says of targets comes along
		if err := errors.Join(err, a.Close()); err != nil {
			return Moved{}, err
		}
	}
	at, err := StorePlace(home, from)
	if err != nil {
		return Moved{}, err
	}
	return store.Move(ctx, at, place, shippedTypes, told)
}

// GiveUpMove lets a store be used again whose moving was broken off.
func GiveUpMove(ctx context.Context, home, from string) error {
	at, err := StorePlace(Home(home), from)
	if err != nil {
		return err
	}
	return store.GiveUpMove(ctx, at, shippedTypes)
}

func shippedTypes() *tosca.Library { return profile.Read().Library }

// IdentityOf is who the user of a folder of data is to others; it is made where there is none yet.
func IdentityOf(home string) (*identity.Identity, error) {
	home = Home(home)
	if err := MakeHome(home); err != nil {
		return nil, err
	}
	return identity.Open(home)
}
