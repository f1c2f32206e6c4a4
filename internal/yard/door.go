package yard

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"brickrow/internal/cloud"
)

// Door is the operator's way into a stand-in, this process's or one that is served:
// its faults, its permissions, and the listing of everything. No cloud has one.
type Door struct {
	Base  string // without a slash at the end
	HTTP  *http.Client
	Token string // of the operator
}

func (d *Door) call(ctx context.Context, method, path string, body, out any) error {
	payload, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, d.Base+"/operator/"+path, bytes.NewReader(payload))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+d.Token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := d.HTTP.Do(req)
	if err != nil {
		return fmt.Errorf("the stand-in did not answer: %w", err)
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, 64<<20))
	if err != nil {
		return fmt.Errorf("the stand-in did not answer: %w", err)
	}
	if resp.StatusCode >= 400 {
		p := &cloud.Problem{}
		if json.Unmarshal(answer, p) != nil || p.Title == "" {
			return fmt.Errorf("there is no stand-in at %s: it answered %s", d.Base, resp.Status)
		}
		p.Status = resp.StatusCode
		return p
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(answer, out)
}

// Everything lists the resources of a stack in all targets, sorted by place, stack,
// node and id; "" lists those of all stacks.
func (d *Door) Everything(ctx context.Context, stackName string) ([]Listed, error) {
	list := []Listed{}
	err := d.call(ctx, http.MethodGet, "resources?stack="+url.QueryEscape(stackName), nil, &list)
	return list, err
}

// Faults lists the faults, AddFault adds one and yields it with its number, and
// ClearFaults takes all away.
func (d *Door) Faults(ctx context.Context) ([]Fault, error) {
	var list []Fault
	err := d.call(ctx, http.MethodGet, "faults", nil, &list)
	return list, err
}

// AddFault lets the stand-in fail on purpose.
func (d *Door) AddFault(ctx context.Context, f Fault) (Fault, error) {
	var made Fault
	err := d.call(ctx, http.MethodPost, "faults", f, &made)
	return made, err
}

// ClearFaults takes all faults away.
func (d *Door) ClearFaults(ctx context.Context) error {
	return d.call(ctx, http.MethodDelete, "faults", nil, nil)
}

// Permit says what the token of an account may do.
func (d *Door) Permit(ctx context.Context, p Permission) error {
	return d.call(ctx, http.MethodPut, "permissions", p, nil)
}
