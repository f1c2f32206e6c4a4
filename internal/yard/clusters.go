package yard

import (
	"context"
	"crypto/subtle"
	"net"
	"net/http"
	"slices"
	"strings"

	"brickrow/internal/cloud"
)

// A cluster has an interface of its own, at its own endpoint and with its own access: what runs in
// it is made, changed and removed there alone. The endpoint is a name of the stand-in's world; a
// request gets there with that name as its host.

// inClusters are the types of what runs in a cluster.
var inClusters = []string{"Workload", "Service"}

// clustersDomain is what follows the name of a cluster in its endpoint, before its region.
const clustersDomain = ".clusters."

// accessOf is what lets one into a cluster.
func (y *Yard) accessOf(id string) string { return "yard-" + y.sign("access/" + id)[:24] }

// clusterAt is the id of the cluster whose endpoint a request was sent to, and its region; "" where
// it was sent to the yard itself.
func clusterAt(host string) (id, region string) {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	name, rest, ok := strings.Cut(host, clustersDomain)
	region, isYard := strings.CutSuffix(rest, "."+cloud.StandInDomain)
	if !ok || !isYard {
		return "", ""
	}
	return "cluster~" + name, region
}

// enter lets a request into the interface that it was sent to: that of a cluster, or the yard's own.
func (y *Yard) enter(r *request, tokens map[string]string) *cloud.Problem {
	given := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
	same := func(want string) bool {
		return want != "" && subtle.ConstantTimeCompare([]byte(given), []byte(want)) == 1
	}
	cluster, region := clusterAt(r.Host)
	if cluster == "" {
		if !same(tokens[r.account]) {
			return refuse(http.StatusUnauthorized, "unauthorized", "use the token that stands in "+CredentialsFile, "the token is not one of the account %s", r.account)
		}
		return nil
	}
	r.cluster = cluster
	if region != r.region || !same(y.accessOf(cluster)) {
		return refuse(http.StatusUnauthorized, "unauthorized", "use the attribute access of the cluster", "the access is not that of the cluster %s in %s", cluster, r.region)
	}
	ctx := r.Context()
	var is *row
	err := y.look(ctx, func(t *tx) (err error) {
		is, err = t.find(ctx, r.account, r.region, cluster)
		return err
	})
	switch {
	case cloud.IsNotFound(err):
		return refuse(http.StatusNotFound, "no-cluster", "", "the cluster %s is not there any more", cluster)
	case err != nil:
		return refuse(http.StatusInternalServerError, "internal", "", "%v", err)
	case is.state == "creating" || is.state == "failed" || is.state == suspended:
		p := refuse(http.StatusServiceUnavailable, "not-up", "", "the cluster %s does not run: it is %s", cluster, is.state)
		p.Passing, p.RetryAfterMS = is.state == "creating", 1000
		return p
	}
	return nil
}

// reaches refuses what is not asked for at the interface that it belongs to.
func (r *request) reaches() *cloud.Problem {
	if r.cluster != "" && !r.inCluster() {
		return refuse(http.StatusForbidden, "elsewhere", "ask the cloud that the cluster stands in, with its own token", "the access of the cluster %s shows only what runs in it", r.cluster)
	}
	id := r.PathValue("id")
	if id == "" {
		return nil
	}
	id = strings.TrimPrefix(id, "op~")
	switch of := cloud.Inside(id); {
	case r.cluster != "" && of != r.cluster:
		return cloud.NotFound(r.PathValue("id") + " in the cluster " + r.cluster)
	case r.cluster == "" && of != "":
		return refuse(http.StatusForbidden, "elsewhere", "ask the endpoint of that cluster, with its access", "%s is inside the cluster %s", r.PathValue("id"), of)
	}
	return nil
}

// inCluster reports whether a request is for one of the parts of the interface that a cluster has too.
func (r *request) inCluster() bool {
	part, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/v1/"+r.account+"/"+r.region+"/"), "/")
	return slices.Contains([]string{"resources", "operations", "about", "feed"}, part)
}

// within finds the cluster that a creation is for, and refuses one that belongs to another interface.
func (t *tx) within(r *request, body cloud.Request) (string, error) {
	if !slices.Contains(inClusters, body.Type) {
		if r.cluster != "" {
			return "", refuse(http.StatusUnprocessableEntity, "unknown-type", "send it to the cloud that the cluster stands in", "a cluster has no %s", body.Type)
		}
		return "", nil
	}
	switch of := cloud.ClusterOf(body); {
	case r.cluster == "" && of == "" && len(body.Links["workload"]) > 0: // of before clusters had an interface
		return "", nil
	case r.cluster == "":
		return "", refuse(http.StatusForbidden, "elsewhere", "send it to the endpoint of its cluster, with its access", "a %s is made in its cluster", body.Type)
	case of != "" && of != r.cluster:
		return "", refuse(http.StatusUnprocessableEntity, "elsewhere", "send it to the endpoint of "+of, "it is to be in the cluster %s, and was sent to %s", of, r.cluster)
	}
	return r.cluster, nil
}

// clusters lists those of a place whose interface answers.
func (t *tx) clusters(ctx context.Context, r *request) ([]string, error) {
	rows, err := t.QueryContext(ctx, `select id from resources where account = ? and region = ? and type = 'Cluster'
		and state not in ('creating', 'failed', ?) order by seq`, r.account, r.region, suspended)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []string{}
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		out = append(out, id)
	}
	return out, rows.Err()
}
