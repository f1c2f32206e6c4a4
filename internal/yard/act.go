package yard

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"brickrow/internal/cloud"
)

// How long it takes to put something to rest and to wake it up, at nominal speed.
const (
	suspendMS = 2_000
	resumeMS  = 4_000
)

// act begins to do something to a resource that runs.
func (y *Yard) act(ctx context.Context, r *request) (int, any, error) {
	var body struct {
		Action string `json:"action"`
	}
	key, err := r.body(&body)
	if err != nil {
		return 0, nil, err
	}
	digest := y.digest([]any{"act", body.Action, r.account, r.region, r.PathValue("id")})
	var out cloud.Operation
	err = y.inTx(ctx, func(t *tx) error {
		o, err := t.begin(ctx, r, key, digest)
		if err == nil && o == nil {
			o, err = t.actNow(ctx, r, key, digest, body.Action)
		}
		if err == nil {
			out = o.wire(t.now)
		}
		return err
	})
	return http.StatusAccepted, out, err
}

func (t *tx) actNow(ctx context.Context, r *request, key, digest, action string) (*op, error) {
	was, err := t.find(ctx, r.account, r.region, r.PathValue("id"))
	if err == nil {
		err = t.permitted(ctx, r.account, was.typ, cloud.VerbChange)
	}
	if err == nil {
		err = t.idle(ctx, was)
	}
	if err != nil {
		return nil, err
	}
	if !slices.Contains(cloud.ActionsOf(t.y.lib.Nodes[was.typ]), action) {
		return nil, refuse(http.StatusUnprocessableEntity, "no-action", "", "a %s has no action '%s'", was.typ, action)
	}
	takes := nominal(t.y.lib.Nodes[was.typ])
	var steps []step
	switch {
	case action == "restart" && was.state == "ready":
		steps = []step{{Name: "stopping", MS: max(1, takes/5)}, {Name: "starting", MS: max(1, takes/3)}, {Name: "healthy", MS: max(1, takes/5), Settling: true}}
	case action == "suspend" && was.state == "ready":
		steps = []step{{Name: "putting it to rest", MS: suspendMS}}
	case action == "resume" && was.state == suspended:
		steps = []step{{Name: "waking it up", MS: resumeMS}, {Name: "healthy", MS: max(1, takes/5), Settling: true}}
	default:
		return nil, refuse(http.StatusConflict, "no-action", "", "%s is %s, which leaves nothing to %s", was.id, was.state, action)
	}
	software, err := t.on(ctx, was.id)
	if err != nil {
		return nil, err
	}
	turns := map[string][2][]string{"restart": {toLeave, {"start"}}, "suspend": {{"suspend"}, nil}, "resume": {nil, {"resume"}}}[action]
	steps = around(software, steps, turns[0], turns[1], 0, members(was), false)
	if err := t.cutOff(ctx, was); err != nil {
		return nil, err
	}
	n, err := t.next(ctx, "operations")
	if err != nil {
		return nil, err
	}
	o := &op{id: fmt.Sprintf("op~%s-a%d", was.id, n), key: key, digest: digest, resourceID: was.id, kind: action, steps: steps}
	if err := t.start(ctx, r, o, was.node, was.typ); err != nil {
		return nil, err
	}
	if _, err := t.ExecContext(ctx, `update resources set state = 'updating', version = version + 1 where id = ?`, was.id); err != nil {
		return nil, err
	}
	return o, t.noted(ctx, was.id, "")
}

// suspended is the state of what was put to rest.
const suspended = "suspended"

// acted is the state of a resource to which something was done.
func (o *op) acted() (state string, is bool) {
	failed := o.failStep >= 0
	switch o.kind {
	case "suspend":
		if failed {
			return "ready", true
		}
		return suspended, true
	case "resume":
		if failed {
			return suspended, true
		}
		return "ready", true
	case "restart":
		return "ready", true
	}
	return "", false
}
