package cloud

import (
	"context"
	"errors"
	"strings"

	"brickrow/internal/stack"
)

// Ways reaches what is elsewhere than in the cloud of the targets: each through a connection. The
// ids of what is reached through one begin with the connection's own id, and a slash; there, they
// are without it.
type Ways interface {
	// Through lists what is reached through the connections of a target, of a stack, or "" of all. Of
	// a connection that does not answer it is what is recorded, in the state Unreadable.
	// What it shows at all, as it is seen from elsewhere, is left out of there: what the target shows,
	// and what several connections to one place show.
	Through(ctx context.Context, t stack.Target, stackName string, there []Resource) ([]Resource, error)
	// Reach yields what is at the end of a connection.
	Reach(ctx context.Context, t stack.Target, connection string) (End, error)
	// Ends are those of the connections of a target that lead anywhere, of a stack or "" of all.
	Ends(ctx context.Context, t stack.Target, stackName string) ([]End, error)
	// Lost reports whether what a connection leads to is not there any more, and with it all that
	// was reached through it.
	Lost(ctx context.Context, t stack.Target, connection string) bool
}

// Unreadable is the state of a resource that could not be read.
const Unreadable = stack.Unreadable

// End is what is at the end of a connection.
type End struct {
	Way
	Cloud  Cloud
	Target stack.Target // there
	Place  string       // what stands at the ends of one place is the same; "" is the target itself
}

// Way is how ids lead through a connection.
type Way struct {
	ID string // of the connection; "" is none
	// Inner says that only what is inside of something is there: that something itself is on this
	// side, as a cluster is.
	Inner bool
}

// through is the connection through which what a request makes is to be reached.
func through(r Request) string {
	if ids := r.Links[stack.Through]; len(ids) > 0 {
		return ids[0]
	}
	return ""
}

// connectionIDs is how the ids of connections begin.
const connectionIDs = "connection~"

// ConnectionID is the id of the connection that a text stands for.
func ConnectionID(text string) string { return connectionIDs + text }

// WayOf is the connection that an id says that it is reached through, and the id that it has there.
func WayOf(id string) (way, there string) {
	if first, rest, ok := strings.Cut(id, "/"); ok && strings.HasPrefix(first, connectionIDs) {
		return first, rest
	}
	return "", id
}

// to makes a call about a resource to where that is.
func to[T any](ctx context.Context, m *Mux, r Ref, call func(c Cloud, r Ref, way Way) (T, error)) (T, error) {
	way, there := WayOf(r.ID)
	if c := m.Types[r.Type]; c != nil || way == "" {
		return call(m.of(r.Type), r, Way{})
	}
	var none T
	if m.Ways == nil {
		return none, NotFound(r.ID)
	}
	end, err := m.Ways.Reach(ctx, r.Target, way)
	if err != nil {
		return none, err
	}
	out, err := call(end.Cloud, Ref{Target: end.Target, Type: r.Type, ID: there}, end.Way)
	if IsUnanswered(err) && there != "" && m.Ways.Lost(ctx, r.Target, way) {
		return none, NotFound(r.ID + ", nor what it was reached through")
	}
	return out, err
}

// IsNoWay reports whether err says that the connection to something is not recorded any more.
func IsNoWay(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Type == "no-way"
}

// IsUnanswered reports whether err says that a cloud could not be reached.
func IsUnanswered(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Type == "connection"
}

// request is a request as it is understood at the end of the way.
func (w Way) request(r Request) Request {
	if w.ID == "" || r.Links == nil {
		return r
	}
	links := map[string][]string{}
	for name, ids := range r.Links {
		if name != stack.Through {
			links[name] = mapped(ids, w.Inward)
		}
	}
	r.Links = links
	return r
}

// Inward is an id as it is called at the end of the way.
func (w Way) Inward(id string) string { return strings.TrimPrefix(id, w.ID+"/") }

// Outward is the id of a resource at the end of the way as it is called here.
func (w Way) Outward(id string) string {
	if w.ID == "" || id == "" || w.Inner && Inside(id) == "" {
		return id
	}
	return w.ID + "/" + id
}

func mapped(ids []string, f func(string) string) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = f(id)
	}
	return out
}

func (w Way) operation(o Operation) Operation {
	o.ResourceID, o.Backup = w.Outward(o.ResourceID), w.Outward(o.Backup)
	return o
}

// Resource is a resource as it is called where the way begins.
func (w Way) Resource(r Resource) Resource {
	if w.ID == "" || r.ID == "" {
		return r
	}
	links := map[string][]string{stack.Through: {w.ID}}
	for name, ids := range r.Links {
		links[name] = mapped(ids, w.Outward)
	}
	r.ID, r.Links, r.UsedBy = w.Outward(r.ID), links, mapped(r.UsedBy, w.Outward)
	return r
}

// ends are those of the connections of a stack, or "" of all; none where there are no ways.
func (m *Mux) ends(ctx context.Context, t stack.Target, stackName string) ([]End, error) {
	if m.Ways == nil {
		return nil, nil
	}
	return m.Ways.Ends(ctx, t, stackName)
}
