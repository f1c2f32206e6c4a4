package httpcloud

import (
	"context"
	"net/http"
	"net/url"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

// Backup begins to copy what a resource holds.
func (c *Client) Backup(ctx context.Context, r cloud.Ref, key string) (cloud.Operation, error) {
	return c.change(ctx, r.Target, cloud.Inside(r.ID), http.MethodPost, of(r)+"/backups", key, "", nil)
}

// Restore begins to fill a resource from a backup.
func (c *Client) Restore(ctx context.Context, r cloud.Ref, key, backup string) (cloud.Operation, error) {
	return c.change(ctx, r.Target, cloud.Inside(r.ID), http.MethodPost, of(r)+"/restore", key, "", map[string]string{"backup": backup})
}

// Backups lists the backups of a stack, the newest first.
func (c *Client) Backups(ctx context.Context, t stack.Target, stackName string) ([]cloud.Backup, error) {
	var out []cloud.Backup
	err := c.call(ctx, http.MethodGet, place(t)+"/backups?"+url.Values{"stack": {stackName}}.Encode(), t.Account, nil, nil, &out)
	for i := range out {
		for _, text := range []*string{&out[i].ID, &out[i].Of, &out[i].Type, &out[i].Stack, &out[i].Node, &out[i].Digest} {
			*text = cloud.Clean(*text)
		}
	}
	return out, err
}

// RemoveBackup removes a backup.
func (c *Client) RemoveBackup(ctx context.Context, t stack.Target, id string) error {
	err := c.call(ctx, http.MethodDelete, place(t)+"/backups/"+url.PathEscape(id), t.Account, nil, nil, nil)
	if cloud.IsNotFound(err) {
		return nil
	}
	return err
}

// Scripts lists what was carried out on servers for a stack, or for one resource of it.
func (c *Client) Scripts(ctx context.Context, t stack.Target, stackName, resource string) ([]cloud.Script, error) {
	var out []cloud.Script
	err := c.call(ctx, http.MethodGet, place(t)+"/scripts?"+url.Values{"stack": {stackName}, "resource": {resource}}.Encode(), t.Account, nil, nil, &out)
	for i := range out {
		out[i] = out[i].Clean()
	}
	return out, err
}
