package cloud

import (
	"context"

	"brickrow/internal/stack"
)

// Asking is a cloud that answers for the addresses of its own resources: what a caller
// from outside would hear there.
type Asking interface {
	// Ask calls an address. Mine is false where none of the cloud's resources has it.
	Ask(ctx context.Context, t stack.Target, c Call) (r Reply, mine bool, err error)
}

// Call is what is asked of an address: by HTTP, a GET, or whether a port lets one in.
type Call struct {
	Kind string `json:"kind"` // http or tcp
	URL  string `json:"url"`
}

// Reply is what was heard.
type Reply struct {
	Status int    `json:"status"` // of HTTP
	Body   string `json:"body"`
	// Refused says why nobody has answered; "" is that somebody has.
	Refused string `json:"refused,omitempty"`
	By      string `json:"by,omitempty"` // the resource that has answered
}

// Ask asks the cloud of the targets, where that can be asked.
func (m *Mux) Ask(ctx context.Context, t stack.Target, c Call) (Reply, bool, error) {
	if a, ok := m.Targeted.(Asking); ok {
		if reply, mine, err := a.Ask(ctx, t, c); mine || err != nil {
			return reply, mine, err
		}
	}
	ends, err := m.ends(ctx, t, "")
	for _, e := range ends {
		if a, ok := e.Cloud.(Asking); ok {
			reply, mine, err := a.Ask(ctx, e.Target, c)
			if mine {
				reply.By = e.Outward(reply.By)
				return reply, mine, err
			}
		}
	}
	return Reply{}, false, err
}
