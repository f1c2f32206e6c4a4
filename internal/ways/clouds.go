package ways

import (
	"context"
	"errors"
	"net/url"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/stack"
)

// Elsewhere is the kind of connection that leads to a place in another cloud of the same interface:
// CloudConnection, with endpoint, account, region and token.
type Elsewhere struct{ From *httpcloud.Client } // the cloud of the targets

// Open yields the place.
func (e Elsewhere) Open(c Connection) (cloud.End, error) {
	endpoint := strings.TrimSuffix(c.Settings.Text("endpoint"), "/")
	if at, err := url.Parse(endpoint); err != nil || at.Host == "" {
		return cloud.End{}, errors.New("its endpoint is no address: " + cloud.Clean(endpoint))
	}
	t := stack.Target{Account: c.Settings.Text("account"), Region: c.Settings.Text("region")}
	place := endpoint + " " + t.String()
	if endpoint == e.From.Base && t == c.Target {
		place = ""
	}
	return cloud.End{Target: t, Place: place, Cloud: &httpcloud.Client{Base: endpoint, HTTP: httpcloud.Direct, By: e.From.By,
		Tokens: map[string]string{t.Account: c.Settings.Text("token")}}}, nil
}

// Answers asks the place about itself.
func (Elsewhere) Answers(ctx context.Context, end cloud.End) error {
	_, err := end.Cloud.About(ctx, end.Target)
	return err
}

// Clusters is the kind of connection that leads into a cluster: ClusterConnection, with endpoint and
// access.
type Clusters struct{ Via *httpcloud.Client } // the cloud in which names of the stand-in are asked for

// Open yields the inside of the cluster.
func (k Clusters) Open(c Connection) (cloud.End, error) {
	in, err := k.Via.Cluster(c.Target, c.Settings.Text("endpoint"), c.Settings.Text("access"))
	return cloud.End{Cloud: in, Target: c.Target, Way: cloud.Way{Inner: true}}, err
}

// Answers asks the cluster for what is inside it.
func (Clusters) Answers(ctx context.Context, end cloud.End) error {
	_, err := end.Cloud.About(ctx, end.Target)
	return err
}
