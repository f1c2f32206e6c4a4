package yard

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/cloud"
)

// ask answers for the addresses of what stands in the yard: what a caller from outside
// would hear there.
func (y *Yard) ask(ctx context.Context, r *request) (int, any, error) {
	var c cloud.Call
	if err := json.NewDecoder(io.LimitReader(r.Body, maxBody)).Decode(&c); err != nil {
		return 0, nil, refuse(http.StatusBadRequest, "bad-request", "", "the call cannot be read: %v", err)
	}
	out, err := y.reply(ctx, c.URL, c.Kind, func(*tx) (string, string, error) { return r.account, "", nil })
	return http.StatusOK, out, err
}

// reply is what is heard at an address: by one of an account, from outside or from the private
// address of a server.
func (y *Yard) reply(ctx context.Context, address, kind string, who func(t *tx) (account, from string, err error)) (out cloud.Reply, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" {
		return out, refuse(http.StatusUnprocessableEntity, "bad-request", "write it like http://HOST/PATH or tcp://HOST:PORT",
			"'%s' is no address", address)
	}
	port := map[string]string{"http": "80", "https": "443"}[u.Scheme]
	if u.Port() != "" {
		port = u.Port()
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return out, refuse(http.StatusUnprocessableEntity, "bad-request", "add the port", "'%s' has no port", address)
	}
	err = y.look(ctx, func(t *tx) error {
		account, from, err := who(t)
		if err != nil {
			return err
		}
		c := call{kind: kind, scheme: u.Scheme, port: n, path: u.Path}
		row, err := t.at(ctx, u.Hostname(), 0)
		if row == nil && err == nil && from != "" {
			if row, err = t.beside(ctx, account, u.Hostname()); row != nil {
				c.from, _ = netip.ParseAddr(from)
			}
		}
		if err != nil {
			return err
		}
		if row == nil {
			return refuse(http.StatusNotFound, "not-mine", "", "no resource of this cloud has the address %s", u.Hostname())
		}
		out, err = t.answer(ctx, row, c)
		if row.account == account { // otherwise it is not theirs to know
			out.By = row.id
		}
		return err
	})
	return out, err
}

// beside finds the server of an account that has a private address; nil where there is none.
func (t *tx) beside(ctx context.Context, account, address string) (*row, error) {
	if _, err := netip.ParseAddr(address); err != nil {
		return nil, nil
	}
	rows, err := t.resources(ctx, `where account = ? and type in ('Server', 'ServerGroup') and attributes like ? order by seq`, account, `%"`+address+`"%`)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0], nil
}

// at finds the resource that has an address or a name: its own, or by a record. It is nil
// where there is none.
func (t *tx) at(ctx context.Context, host string, depth int) (*row, error) {
	const far = 8 // names that stand for names
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	rows, err := t.resources(ctx, `where attributes like ? order by seq`, "%"+strings.NewReplacer("%", "", "_", "_").Replace(host)+"%")
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if r.typ == "Record" && fmt.Sprint(r.attributes["fqdn"]) == host && depth < far {
			values, _ := r.properties["values"].([]any)
			for _, v := range values {
				if found, err := t.at(ctx, fmt.Sprint(v), depth+1); found != nil || err != nil {
					return found, err
				}
			}
		}
	}
	for _, r := range rows {
		for _, name := range []string{"address", "public_address", "endpoint", "url"} {
			text, _ := r.attributes[name].(string)
			if u, err := url.Parse(text); err == nil && u.Host != "" {
				text = u.Hostname()
			}
			if r.typ != "Record" && strings.EqualFold(text, host) {
				return r, nil
			}
		}
	}
	return nil, nil
}

// call is a call of a port.
type call struct {
	kind, scheme string
	port         int
	path         string
	from         netip.Addr // the private address that it comes from; none is from outside
}

func shut(format string, args ...any) (cloud.Reply, error) {
	return cloud.Reply{Refused: fmt.Sprintf(format, args...)}, nil
}

// answer is what one hears at a resource.
func (t *tx) answer(ctx context.Context, r *row, c call) (cloud.Reply, error) {
	if r.state != "ready" && r.state != "updating" {
		return shut("%s is %s", r.id, r.state)
	}
	if open, err := t.letsIn(ctx, r, c); err != nil || !open {
		if err != nil {
			return cloud.Reply{}, err
		}
		if c.from.IsValid() {
			return shut("the rules of %s do not let %s reach port %d", r.id, c.from, c.port)
		}
		return shut("the rules of %s let nobody from outside reach port %d", r.id, c.port)
	}
	switch r.typ {
	case "LoadBalancer":
		return t.balanced(ctx, r, c)
	case "Service":
		if port := whole(r.properties["port"]); port != c.port {
			return shut("%s listens on port %d, not on %d", r.id, port, c.port)
		}
		rows, err := t.resources(ctx, `where id = ?`, first(r.links["workload"]))
		if err != nil {
			return cloud.Reply{}, err
		}
		if len(rows) == 0 || whole(rows[0].properties["replicas"]) == 0 || rows[0].state == "failed" {
			return t.nobody(c, "no container is behind it")
		}
		return t.page(ctx, rows[0], c)
	case "Address":
		rows, err := t.resources(ctx, `where id in (select from_id from links where to_id = ?)`, r.id)
		if err != nil || len(rows) == 0 {
			return cloud.Reply{Refused: "nobody has the address " + r.id}, err
		}
		return t.answer(ctx, rows[0], c)
	case "Database", "Cache":
		if port := whole(r.attributes["port"]); c.kind != "tcp" || port != c.port {
			return shut("%s speaks no HTTP; it listens on port %d", r.id, port)
		}
		return cloud.Reply{}, nil
	case "Server", "Function", "Bucket", "Queue", "Topic":
		return t.page(ctx, r, c)
	}
	return shut("%s answers nobody", r.id)
}

// balanced is what one hears at a load balancer: what stands behind it.
func (t *tx) balanced(ctx context.Context, r *row, c call) (cloud.Reply, error) {
	listeners, _ := r.properties["listeners"].([]any)
	i := slices.IndexFunc(listeners, func(l any) bool { return whole(asMap(l)["port"]) == c.port })
	if i < 0 {
		return shut("%s has no listener on port %d", r.id, c.port)
	}
	rows, err := t.resources(ctx, `where type in ('Server', 'ServerGroup') and state in ('ready', 'updating') and id in
		(select from_id from links where to_id = ? and requirement = 'behind') order by seq`, r.id)
	if err != nil {
		return cloud.Reply{}, err
	}
	why := "no server is behind " + r.id
	if to := whole(asMap(listeners[i])["target_port"]); to > 0 {
		c.port = to
	}
	for _, behind := range rows {
		if behind.typ != "Server" && whole(behind.attributes["healthy"]) == 0 {
			continue
		}
		reply, err := t.page(ctx, behind, c)
		if err != nil || reply.Refused == "" {
			return reply, err
		}
		why = reply.Refused
	}
	return t.nobody(c, why)
}

// nobody is what one hears where nothing is behind: a connection, and over HTTP a refusal.
func (t *tx) nobody(c call, why string) (cloud.Reply, error) {
	if c.kind == "tcp" {
		return cloud.Reply{}, nil
	}
	return cloud.Reply{Status: http.StatusServiceUnavailable, Body: why}, nil
}

// page is what the program of a resource answers.
func (t *tx) page(ctx context.Context, r *row, c call) (cloud.Reply, error) {
	if r.typ == "Server" || r.typ == "ServerGroup" {
		if reply, ok, err := t.serves(ctx, r, c); ok || err != nil {
			return reply, err
		}
	}
	if c.kind == "tcp" {
		return cloud.Reply{}, nil
	}
	words := []string{"ok", r.typ}
	if r.node != "" {
		words = append(words, r.node)
	}
	for _, name := range []string{"image", "runtime"} {
		if v, ok := r.shown[name].(string); ok {
			words = append(words, v)
		}
	}
	return cloud.Reply{Status: http.StatusOK, Body: strings.Join(words, " ")}, nil
}

// letsIn reports whether the rules of a resource let a call through.
func (t *tx) letsIn(ctx context.Context, r *row, c call) (bool, error) {
	ids := r.links["rules"]
	if len(ids) == 0 {
		return true, nil
	}
	for _, id := range ids {
		rows, err := t.resources(ctx, `where id = ?`, id)
		if err != nil {
			return false, err
		}
		for _, rules := range rows {
			list, _ := rules.properties["allow"].([]any)
			for _, x := range list {
				if m, _ := x.(map[string]any); opens(m, c) {
					return true, nil
				}
			}
		}
	}
	return false, nil
}

// opens reports whether a rule lets a call through: from where it comes, or from anywhere.
func opens(rule map[string]any, c call) bool {
	text := func(name, otherwise string) string {
		if s, ok := rule[name].(string); ok {
			return s
		}
		return otherwise
	}
	peer, err := netip.ParsePrefix(text("peer", ""))
	if text("direction", "in") != "in" || text("protocol", "tcp") == "udp" || err != nil || peer.Bits() > 0 && !(c.from.IsValid() && peer.Contains(c.from)) {
		return false
	}
	from, to, between := strings.Cut(fmt.Sprint(rule["ports"]), "-")
	if from == "any" {
		return true
	}
	low, err := strconv.Atoi(strings.TrimSpace(from))
	high := low
	if between && err == nil {
		high, err = strconv.Atoi(strings.TrimSpace(to))
	}
	return err == nil && low <= c.port && c.port <= high
}

// whole is a number of JSON; what is none is 0.
func whole(x any) int {
	n, _ := strconv.Atoi(fmt.Sprint(x))
	return n
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}
