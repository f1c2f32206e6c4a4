package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/stack"
)

// Client is a Cloud over HTTP.
type Client struct {
	Base   string            // without a slash at the end
	HTTP   *http.Client      // its transport may be in-process
	Tokens map[string]string // bearer token by account
}

var _ Cloud = (*Client)(nil)

// maxAnswer bounds what is read of one answer, in bytes.
const maxAnswer = 64 << 20

// call sends one request and reads the answer into out.
func (c *Client) call(ctx context.Context, method, path, account string, header map[string]string, body, out any) error {
	var payload io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return fmt.Errorf("encode the request: %w", err)
		}
		payload = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.Base+path, payload)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Tokens[account])
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range header {
		if v != "" {
			req.Header.Set(k, v)
		}
	}
	resp, err := c.HTTP.Do(req)
	if err != nil {
		return passing(ctx, err)
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return passing(ctx, err)
	}
	if resp.StatusCode >= 400 {
		return problem(resp, answer)
	}
	if out == nil || len(answer) == 0 {
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(answer))
	d.UseNumber()
	if err := d.Decode(out); err != nil {
		return fmt.Errorf("the cloud's answer to %s %s cannot be read: %w", method, path, err)
	}
	return nil
}

// passing makes a Problem of a lost connection: the same call may be repeated.
func passing(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return &Problem{Type: "connection", Title: "the cloud did not answer", Detail: Clean("the cloud did not answer: " + err.Error()), Passing: true}
}

func problem(resp *http.Response, answer []byte) error {
	p := &Problem{}
	if json.Unmarshal(answer, p) != nil || p.Title == "" {
		p = &Problem{Type: "unreadable", Title: http.StatusText(resp.StatusCode), Detail: fmt.Sprintf("the cloud answered %s", resp.Status)}
	}
	p.Status, p.Title, p.Detail, p.Mend = resp.StatusCode, Clean(p.Title), Clean(p.Detail), Clean(p.Mend)
	if resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode >= 502 {
		p.Passing = true
	}
	if p.RetryAfterMS == 0 {
		if s, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil {
			p.RetryAfterMS = int64(s) * 1000
		}
	}
	return p
}

// IsNotFound reports whether err says that something is not there.
func IsNotFound(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusNotFound
}

// Refused reports whether err says that the cloud will not do something, so that
// it has not begun it either.
func Refused(err error) bool {
	var p *Problem
	return errors.As(err, &p) && !p.Passing && p.Status >= 400 && p.Status < 500
}

// IsChanged reports whether err says that the resource is not what it was when
// it was read (If-Match).
func IsChanged(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusPreconditionFailed
}

func place(t stack.Target) string {
	return "/v1/" + url.PathEscape(t.Account) + "/" + url.PathEscape(t.Region)
}

// Targets lists the accounts and regions there are.
func (c *Client) Targets(ctx context.Context) ([]stack.Target, error) {
	var out []stack.Target
	err := c.call(ctx, http.MethodGet, "/v1/targets", "", nil, nil, &out)
	return out, err
}

// List lists the resources of a target, in pages that are asked for side by side
// where the cloud says where they begin.
func (c *Client) List(ctx context.Context, t stack.Target, stackName string) ([]Resource, error) {
	first, starts, err := c.pages(ctx, t, stackName, "", "")
	if err != nil || len(starts) == 0 {
		return first, err
	}
	parts := make([][]Resource, len(starts))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for i, start := range starts {
		until := ""
		if i+1 < len(starts) {
			until = starts[i+1]
		}
		g.Go(func() (err error) {
			parts[i], _, err = c.pages(ctx, t, stackName, start, until)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return slices.Concat(append([][]Resource{first}, parts...)...), nil
}

// atOnce is how many pages are asked for at the same time.
const atOnce = 8

// pages reads the resources after a place of the list, page by page, up to
// another place. Without either it is the first page alone where the cloud says
// where the others begin.
func (c *Client) pages(ctx context.Context, t stack.Target, stackName, after, until string) (all []Resource, starts []string, err error) {
	for {
		var page struct {
			Items  []Resource `json:"items"`
			Next   string     `json:"next"`
			Starts []string   `json:"starts"`
		}
		q := url.Values{"stack": {stackName}, "after": {after}, "until": {until}}
		if err := c.call(ctx, http.MethodGet, place(t)+"/resources?"+q.Encode(), t.Account, nil, nil, &page); err != nil {
			return nil, nil, err
		}
		for _, r := range page.Items {
			all = append(all, r.clean())
		}
		if after == "" && len(page.Starts) > 0 {
			return all, page.Starts, nil
		}
		if after = page.Next; after == "" || after == until {
			return all, nil, nil
		}
	}
}

// Get reads one resource.
func (c *Client) Get(ctx context.Context, t stack.Target, id string) (Resource, error) {
	var r Resource
	err := c.call(ctx, http.MethodGet, place(t)+"/resources/"+url.PathEscape(id), t.Account, nil, nil, &r)
	return r.clean(), err
}

// Create begins to make a resource.
func (c *Client) Create(ctx context.Context, t stack.Target, key string, r Request) (Operation, error) {
	return c.change(ctx, http.MethodPost, place(t)+"/resources", t.Account, key, "", r)
}

// Update begins to change a resource.
func (c *Client) Update(ctx context.Context, t stack.Target, key, id string, r Request) (Operation, error) {
	return c.change(ctx, http.MethodPatch, place(t)+"/resources/"+url.PathEscape(id), t.Account, key, r.ETag, r)
}

// Delete begins to remove a resource.
func (c *Client) Delete(ctx context.Context, t stack.Target, key, id string) (Operation, error) {
	return c.change(ctx, http.MethodDelete, place(t)+"/resources/"+url.PathEscape(id), t.Account, key, "", nil)
}

func (c *Client) change(ctx context.Context, method, path, account, key, etag string, body any) (Operation, error) {
	var o Operation
	err := c.call(ctx, method, path, account, map[string]string{"Idempotency-Key": key, "If-Match": etag}, body, &o)
	return o.clean(), err
}

// Operation reads how far an operation is.
func (c *Client) Operation(ctx context.Context, t stack.Target, id string) (Operation, error) {
	var o Operation
	err := c.call(ctx, http.MethodGet, place(t)+"/operations/"+url.PathEscape(id), t.Account, nil, nil, &o)
	return o.clean(), err
}

// Operator calls what is not part of a cloud but of the stand-in: faults and
// the listing of everything.
func (c *Client) Operator(ctx context.Context, method, path string, body, out any) error {
	return c.call(ctx, method, "/operator/"+strings.TrimPrefix(path, "/"), "operator", nil, body, out)
}

func (o Operation) clean() Operation {
	o.Step = Clean(o.Step)
	if o.Problem != nil {
		o.Problem.Title, o.Problem.Detail, o.Problem.Mend = Clean(o.Problem.Title), Clean(o.Problem.Detail), Clean(o.Problem.Mend)
	}
	return o
}

// clean makes the texts that the cloud itself chose harmless for a terminal.
// Properties mirror the template and are kept; what shows them cleans them.
func (r Resource) clean() Resource {
	r.ID, r.Type, r.State = Clean(r.ID), Clean(r.Type), Clean(r.State)
	r.Attributes, _ = cleanJSON(r.Attributes).(map[string]any)
	tags := make(map[string]string, len(r.Tags))
	for k, v := range r.Tags {
		tags[Clean(k)] = Clean(v)
	}
	r.Tags = tags
	return r
}

func cleanJSON(x any) any {
	switch x := x.(type) {
	case string:
		return Clean(x)
	case []any:
		for i, e := range x {
			x[i] = cleanJSON(e)
		}
	case map[string]any:
		for k, e := range x {
			x[k] = cleanJSON(e)
		}
	}
	return x
}
