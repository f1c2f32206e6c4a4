package httpcloud

import (
	"context"
	"net/http"

	"brickrow/internal/cloud"
)

// Act begins an action of a resource.
func (c *Client) Act(ctx context.Context, r cloud.Ref, key, action string, _ map[string]string) (cloud.Operation, error) {
	return c.change(ctx, r.Target, cloud.Inside(r.ID), http.MethodPost, of(r)+"/actions", key, "", map[string]string{"action": action})
}
