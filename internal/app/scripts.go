package app

import (
	"context"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

// Scripts lists what was, is and will be carried out on the servers of a stack, the oldest first;
// of one resource, or of all where the name is "".
func (a *App) Scripts(ctx context.Context, st *stack.Stack, resource string) ([]cloud.Script, error) {
	c, ok := a.Cloud.(cloud.Scripted)
	if !ok {
		return nil, nil
	}
	list, err := c.Scripts(ctx, st.Target, st.Name, "")
	if err != nil {
		return nil, err
	}
	var out []cloud.Script
	for _, s := range list {
		if s.Stack == st.Name && (resource == "" || s.Node == resource) {
			out = append(out, s)
		}
	}
	return out, nil
}
