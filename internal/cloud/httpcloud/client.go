// Package httpcloud asks a cloud over HTTP: the stand-in, or whatever speaks the
// same.
package httpcloud

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

// Client is a cloud over HTTP.
type Client struct {
	Base   string            // without a slash at the end
	HTTP   *http.Client      // its transport may be in-process
	Tokens map[string]string // bearer token by account
	By     string            // who asks, as the cloud is told
	// Without says, in words, what mends it that there is no token of an account; nil lets the cloud say so.
	Without func(account string) error
	// Host is the name that is asked where that is another one than Base is reached by. It is
	// the endpoint of a cluster: everything is asked of that one then.
	Host string

	mu       sync.Mutex
	clusters map[string]*Client // by target and id
}

var _ cloud.Cloud = (*Client)(nil)

// maxAnswer bounds what is read of one answer, in bytes.
const maxAnswer = 64 << 20

// call sends one request and reads the answer into out.
func (c *Client) call(ctx context.Context, method, path, account string, header map[string]string, body,
	out any) error {
	var payload io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return fmt.Errorf("encode the request: %w", err)
		}
		payload = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.Base+path, payload)
	if err == nil {
		err = c.lacks(account)
	}
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Tokens[account])
	if c.Host != "" {
		req.Host = c.Host
	}
	if by := cloud.Doer(ctx, c.By); by != "" {
		req.Header.Set("From", by)
	}
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

// lacks is the error where there is nothing to be let into an account with.
func (c *Client) lacks(account string) error {
	if account == "" || c.Without == nil || c.Tokens[account] != "" {
		return nil
	}
	return c.Without(account)
}

// passing makes a Problem of a lost connection: the same call may be repeated.
func passing(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return &cloud.Problem{Type: "connection", Title: "the cloud did not answer",
		Detail: cloud.Clean("the cloud did not answer: " + err.Error()), Passing: true}
}

func problem(resp *http.Response, answer []byte) error {
	p := &cloud.Problem{}
	if json.Unmarshal(answer, p) != nil || p.Title == "" {
		p = &cloud.Problem{Type: "unreadable", Title: http.StatusText(resp.StatusCode),
			Detail: fmt.Sprintf("the cloud answered %s", resp.Status)}
	}
	p.Status, p.Title, p.Detail, p.Fix = resp.StatusCode, cloud.Clean(p.Title), cloud.Clean(p.Detail), cloud.Clean(p.Fix)
	if resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode >= 502 {
		p.Passing = true
	}
	if p.RetryAfterMS == 0 {
		p.RetryAfterMS = retryAfter(resp.Header.Get("Retry-After"), time.Now()).Milliseconds()
	}
	return p
}

// mostRetryAfter is the longest that is waited because a cloud says so.
const mostRetryAfter = time.Minute

// retryAfter reads the header Retry-After (RFC 9110, 10.2.3): seconds, or a date; 0 is that it says nothing.
func retryAfter(text string, now time.Time) time.Duration {
	var d time.Duration
	if s, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64); err == nil {
		d = time.Duration(min(max(s, 0), int64(mostRetryAfter/time.Second))) * time.Second
	} else if at, err := http.ParseTime(text); err == nil {
		d = max(at.Sub(now), 0)
	}
	return min(d, mostRetryAfter)
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
func (c *Client) List(ctx context.Context, t stack.Target, stackName string) ([]cloud.Resource, error) {
	first, starts, clusters, err := c.pages(ctx, t, stackName, "", "")
	if err != nil || len(starts)+len(clusters) == 0 {
		return first, err
	}
	parts := make([][]cloud.Resource, len(starts)+len(clusters))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for i, id := range clusters {
		g.Go(func() error {
			return c.in(ctx, t, id, func(in *Client) (err error) {
				parts[len(starts)+i], err = in.List(ctx, t, stackName)
				if cloud.IsNotFound(err) { // it has gone meanwhile, and all in it
					err = nil
				}
				return err
			})
		})
	}
	for i, start := range starts {
		until := ""
		if i+1 < len(starts) {
			until = starts[i+1]
		}
		g.Go(func() (err error) {
			parts[i], _, _, err = c.pages(ctx, t, stackName, start, until)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return slices.Concat(append([][]cloud.Resource{first}, parts...)...), nil
}

// atOnce is how many pages are asked for at the same time.
const atOnce = 8

// pages reads the resources after a place of the list, page by page, up to
// another place. Without either it is the first page alone where the cloud says
// where the others begin. Clusters are those that are to be asked for what is inside them.
func (c *Client) pages(ctx context.Context, t stack.Target, stackName, after,
	until string) (all []cloud.Resource, starts, clusters []string, err error) {
	for {
		var page struct {
			Items    []cloud.Resource `json:"items"`
			Next     string           `json:"next"`
			Starts   []string         `json:"starts"`
			Clusters []string         `json:"clusters"`
		}
		q := url.Values{"stack": {stackName}, "after": {after}, "until": {until}}
		if err := c.call(ctx, http.MethodGet, place(t)+"/resources?"+q.Encode(), t.Account, nil, nil,
			&page); err != nil {
			return nil, nil, nil, err
		}
		clusters = append(clusters, page.Clusters...)
		for _, r := range page.Items {
			all = append(all, r.Clean())
		}
		if after == "" && len(page.Starts) > 0 {
			return all, page.Starts, clusters, nil
		}
		if after = page.Next; after == "" || after == until {
			return all, nil, clusters, nil
		}
	}
}

func of(r cloud.Ref) string { return place(r.Target) + "/resources/" + url.PathEscape(r.ID) }

// Get reads one resource.
func (c *Client) Get(ctx context.Context, r cloud.Ref) (cloud.Resource, error) {
	var out cloud.Resource
	err := c.in(ctx, r.Target, cloud.Inside(r.ID), func(in *Client) error {
		return in.call(ctx, http.MethodGet, of(r), r.Target.Account, nil, nil, &out)
	})
	return out.Clean(), err
}

// Create begins to make a resource.
func (c *Client) Create(ctx context.Context, t stack.Target, key string, r cloud.Request) (cloud.Operation, error) {
	return c.change(ctx, t, cloud.ClusterOf(r), http.MethodPost, place(t)+"/resources", key, "", r)
}

// Update begins to change a resource.
func (c *Client) Update(ctx context.Context, r cloud.Ref, key string, change cloud.Request) (cloud.Operation, error) {
	return c.change(ctx, r.Target, cloud.Inside(r.ID), http.MethodPatch, of(r), key, change.ETag, change)
}

// Delete begins to remove a resource.
func (c *Client) Delete(ctx context.Context, r cloud.Ref, key string) (cloud.Operation, error) {
	return c.change(ctx, r.Target, cloud.Inside(r.ID), http.MethodDelete, of(r), key, "", nil)
}

// change begins to change something, which is inside a cluster where one is named.
func (c *Client) change(ctx context.Context, t stack.Target, cluster, method, path, key, etag string, body any) (cloud.Operation, error) {
	var o cloud.Operation
	err := c.in(ctx, t, cluster, func(in *Client) error {
		return in.call(ctx, method, path, t.Account, map[string]string{"Idempotency-Key": key, "If-Match": etag}, body, &o)
	})
	return o.Clean(), err
}

// Operation reads how far an operation is.
func (c *Client) Operation(ctx context.Context, r cloud.Ref, id string) (cloud.Operation, error) {
	var o cloud.Operation
	err := c.in(ctx, r.Target, cloud.Inside(r.ID), func(in *Client) error {
		return in.call(ctx, http.MethodGet, place(r.Target)+"/operations/"+url.PathEscape(id), r.Target.Account, nil, nil, &o)
	})
	return o.Clean(), err
}

// About asks a target about itself.
func (c *Client) About(ctx context.Context, t stack.Target) (*cloud.About, error) {
	a := &cloud.About{}
	err := c.call(ctx, http.MethodGet, place(t)+"/about", t.Account, nil, nil, a)
	a.Who = cloud.Clean(a.Who)
	for i := range a.Images {
		a.Images[i] = a.Images[i].Clean()
	}
	return a, err
}

// NameTaken asks whether a name that is unique in the whole cloud belongs to
// somebody, and to whom where one may know it: the id of a resource of the
// account, or "".
func (c *Client) NameTaken(ctx context.Context, t stack.Target, typ, name string) (taken bool, id string, err error) {
	var out struct {
		Taken bool   `json:"taken"`
		ID    string `json:"id"`
	}
	q := url.Values{"type": {typ}, "name": {name}}
	err = c.call(ctx, http.MethodGet, place(t)+"/names?"+q.Encode(), t.Account, nil, nil, &out)
	return out.Taken, cloud.Clean(out.ID), err
}

// Ask calls an address of one of the cloud's resources.
func (c *Client) Ask(ctx context.Context, t stack.Target, call cloud.Call) (r cloud.Reply, mine bool, err error) {
	err = c.call(ctx, http.MethodPost, place(t)+"/ask", t.Account, nil, call, &r)
	if cloud.IsNotFound(err) {
		return r, false, nil
	}
	r.Body, r.Refused = cloud.Clean(r.Body), cloud.Clean(r.Refused)
	return r, err == nil, err
}

// Drain begins to let a resource finish its work.
func (c *Client) Drain(ctx context.Context, r cloud.Ref, key string, wait time.Duration) (cloud.Operation, error) {
	return c.change(ctx, r.Target, cloud.Inside(r.ID), http.MethodPost, of(r)+"/drain", key, "", map[string]int64{"wait_ms": wait.Milliseconds()})
}

// Refill begins to bring a resource back into its pools.
func (c *Client) Refill(ctx context.Context, r cloud.Ref, key string) (cloud.Operation, error) {
	return c.change(ctx, r.Target, cloud.Inside(r.ID), http.MethodDelete, of(r)+"/drain", key, "", nil)
}
