package cloud

import (
	"context"
	"net/http"

	"brickrow/internal/tosca"
)

// Acting is a cloud that does something to what runs, beside changing what it is like.
type Acting interface {
	// Act begins an action of a resource, such as restart, suspend and resume, with its inputs.
	Act(ctx context.Context, r Ref, key, action string, inputs map[string]string) (Operation, error)
}

// Act begins an action of a resource.
func (m *Mux) Act(ctx context.Context, r Ref, key, action string, inputs map[string]string) (Operation, error) {
	return to(ctx, m, r, func(c Cloud, r Ref, way Way) (Operation, error) {
		if a, ok := c.(Acting); ok {
			o, err := a.Act(ctx, r, key, action, inputs)
			return way.operation(o), err
		}
		return Operation{}, noAction(action, r.Type)
	})
}

func noAction(action, typ string) *Problem {
	return &Problem{Type: "no-action", Title: "no such action", Status: http.StatusUnprocessableEntity,
		Detail: "this cloud cannot " + action + " a " + typ}
}

// Suspended is the state of what was put to rest.
const Suspended = "suspended"

// ActionsOf lists the actions that the cloud does to resources of a type.
func ActionsOf(t *tosca.NodeType) []string {
	var out []string
	if t == nil {
		return nil
	}
	if i := t.Interface("Actions"); i != nil {
		for _, o := range i.Operations {
			if o.Primary != nil {
				out = append(out, o.Name)
			}
		}
	}
	return out
}
