package httpcloud

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

// in lets something be asked at the interface of a cluster, or at the cloud's own where none is
// named. What lets one into a cluster is read from the cloud, kept, and read again when it is no
// longer right.
func (c *Client) in(ctx context.Context, t stack.Target, cluster string, ask func(*Client) error) error {
	if c.Host != "" || !strings.HasPrefix(cluster, "cluster~") {
		return ask(c)
	}
	key := t.String() + " " + cluster
	for again := false; ; again = true {
		c.mu.Lock()
		in := c.clusters[key]
		c.mu.Unlock()
		if in == nil {
			is, err := c.Get(ctx, cloud.Ref{Target: t, Type: "Cluster", ID: cluster})
			if err != nil {
				return err
			}
			if in, err = c.Cluster(t, fmt.Sprint(is.Attributes["endpoint"]), fmt.Sprint(is.Attributes["access"])); err != nil {
				return fmt.Errorf("%s: %w", cluster, err)
			}
			c.mu.Lock()
			if c.clusters == nil {
				c.clusters = map[string]*Client{}
			}
			c.clusters[key] = in
			c.mu.Unlock()
			again = true
		}
		err := ask(in)
		var p *cloud.Problem
		if errors.As(err, &p) && (p.Status == http.StatusUnauthorized || p.Type == "no-cluster") {
			c.mu.Lock()
			delete(c.clusters, key)
			c.mu.Unlock()
			if !again {
				continue
			}
		}
		return err
	}
}

// Cluster is the interface of a cluster at its endpoint. A name that the stand-in gave is asked
// where the stand-in is: nobody else can resolve it.
func (c *Client) Cluster(t stack.Target, endpoint, access string) (*Client, error) {
	at, err := url.Parse(endpoint)
	if err != nil || at.Host == "" {
		return nil, errors.New("its endpoint is no address: " + cloud.Clean(endpoint))
	}
	in := &Client{Base: strings.TrimSuffix(endpoint, "/"), HTTP: Direct, Tokens: map[string]string{t.Account: access}, By: c.By, Host: at.Host}
	if strings.HasSuffix(at.Hostname(), "."+cloud.StandInDomain) {
		in.Base, in.HTTP = c.Base, c.HTTP
	}
	return in, nil
}

// Direct reaches what can be reached from here by its address.
var Direct = &http.Client{Timeout: 30 * time.Second}
