package cloud

import (
	"context"
	"errors"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/stack"
)

// Mux sends each call to the cloud that it is for: to one that a type belongs to, to what is
// reached through a connection, or to the cloud of the targets.
type Mux struct {
	Targeted Cloud            // that of the targets, to which all other types belong
	Types    map[string]Cloud // by the type of resource
	Ways     Ways             // what is reached through connections; nil is nothing
}

var _ Cloud = (*Mux)(nil)

func (m *Mux) of(typ string) Cloud {
	if c := m.Types[typ]; c != nil {
		return c
	}
	return m.Targeted
}

// all are the clouds, each once, that of the targets first.
func (m *Mux) all() []Cloud {
	out := []Cloud{m.Targeted}
	for _, c := range m.Types {
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// each asks all clouds, side by side, and yields their answers in the order of all.
func each[T any](clouds []Cloud, ask func(Cloud) (T, error)) ([]T, error) {
	out := make([]T, len(clouds))
	var g errgroup.Group
	for i, c := range clouds {
		g.Go(func() (err error) {
			out[i], err = ask(c)
			return err
		})
	}
	return out, g.Wait()
}

// Targets lists the accounts and regions of the cloud that has them.
func (m *Mux) Targets(ctx context.Context) ([]stack.Target, error) { return m.Targeted.Targets(ctx) }

// About is what all clouds say of a target. One that does not know of it has
// nothing to say.
func (m *Mux) About(ctx context.Context, t stack.Target) (*About, error) {
	list, err := each(m.all(), func(c Cloud) (*About, error) {
		a, err := c.About(ctx, t)
		if c != m.Targeted && IsNotFound(err) {
			return nil, nil
		}
		return a, err
	})
	if err != nil {
		return nil, err
	}
	out := *list[0]
	for _, a := range list[1:] {
		if a != nil {
			out.Actions, out.Limits, out.Images = slices.Concat(out.Actions, a.Actions), slices.Concat(out.Limits,
				a.Limits), slices.Concat(out.Images, a.Images)
			out.FreeAddresses += a.FreeAddresses
			if a.AtOnce > 0 && (out.AtOnce == 0 || a.AtOnce < out.AtOnce) {
				out.AtOnce = a.AtOnce
			}
		}
	}
	return &out, nil
}

// NameTaken asks the cloud of a type.
func (m *Mux) NameTaken(ctx context.Context, t stack.Target, typ, name string) (taken bool, id string, err error) {
	return m.of(typ).NameTaken(ctx, t, typ, name)
}

// List lists what all clouds have, and what is reached through the connections.
func (m *Mux) List(ctx context.Context, t stack.Target, stackName string) ([]Resource, error) {
	lists, err := each(m.all(), func(c Cloud) ([]Resource, error) { return c.List(ctx, t, stackName) })
	if err != nil || m.Ways == nil {
		return slices.Concat(lists...), err
	}
	return m.Ways.Through(ctx, t, stackName, slices.Concat(lists...))
}

// Get reads one resource.
func (m *Mux) Get(ctx context.Context, r Ref) (Resource, error) {
	return to(ctx, m, r, func(c Cloud, r Ref, way Way) (Resource, error) {
		res, err := c.Get(ctx, r)
		return way.Resource(res), err
	})
}

// Create begins to make a resource.
func (m *Mux) Create(ctx context.Context, t stack.Target, key string, r Request) (Operation, error) {
	if r.Type == "" {
		return Operation{}, errors.New("a resource needs a type")
	}
	return to(ctx, m, Ref{Target: t, Type: r.Type, ID: through(r) + "/"}, func(c Cloud, ref Ref, way Way) (Operation, error) {
		o, err := c.Create(ctx, ref.Target, key, way.request(r))
		return way.operation(o), err
	})
}

// Update begins to change a resource.
func (m *Mux) Update(ctx context.Context, r Ref, key string, change Request) (Operation, error) {
	return to(ctx, m, r, func(c Cloud, r Ref, way Way) (Operation, error) {
		o, err := c.Update(ctx, r, key, way.request(change))
		return way.operation(o), err
	})
}

// Delete begins to remove a resource.
func (m *Mux) Delete(ctx context.Context, r Ref, key string) (Operation, error) {
	return to(ctx, m, r, func(c Cloud, r Ref, way Way) (Operation, error) {
		o, err := c.Delete(ctx, r, key)
		return way.operation(o), err
	})
}

// Operation reads how far an operation is.
func (m *Mux) Operation(ctx context.Context, r Ref, id string) (Operation, error) {
	return to(ctx, m, r, func(c Cloud, r Ref, way Way) (Operation, error) {
		o, err := c.Operation(ctx, r, id)
		return way.operation(o), err
	})
}

// Feed tells what happens in all clouds that tell it by themselves, until the first of them
// no longer does.
func (m *Mux) Feed(ctx context.Context, t stack.Target, after int64, tell func(Change)) error {
	g, ctx := errgroup.WithContext(ctx)
	var mu sync.Mutex
	for _, c := range m.all() {
		if f, feeds := c.(Feeding); feeds {
			g.Go(func() error {
				return f.Feed(ctx, t, after, func(ch Change) {
					mu.Lock()
					defer mu.Unlock()
					tell(ch)
				})
			})
		}
	}
	return g.Wait()
}
