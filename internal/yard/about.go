package yard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"sort"
	"strconv"
	"strings"

	"database/sql"

	"brickrow/internal/cloud"
)

// about says what a target has, and what the one who asks may do.
func (y *Yard) about(ctx context.Context, r *request) (int, any, error) {
	out := cloud.About{Who: r.account + " keeper"}
	err := y.look(ctx, func(t *tx) error {
		var err error
		if out.Actions, err = t.actions(ctx, r.account); err != nil {
			return err
		}
		for typ, b := range behaviours {
			if b.quota == 0 {
				continue
			}
			l := cloud.Limit{Type: typ, Most: b.quota}
			if err := t.QueryRowContext(ctx,
				`select count(*) from resources where account = ? and region = ? and type = ?`, r.account, r.region,
				typ).Scan(&l.Used); err != nil {
				return err
			}
			out.Limits = append(out.Limits, l)
		}
		sort.Slice(out.Limits, func(i, j int) bool { return out.Limits[i].Type < out.Limits[j].Type })
		if out.AtOnce, err = t.atOnce(ctx, r.account); err != nil {
			return err
		}
		taken, err := t.publicTaken(ctx, r.region)
		if err != nil {
			return err
		}
		for _, p := range publicRanges[r.region] {
			prefix := netip.MustParsePrefix(p)
			out.FreeAddresses += 1<<(32-prefix.Bits()) - 2
		}
		out.FreeAddresses -= len(taken)
		return nil
	})
	if r.cluster != "" { // of the rest of the account nothing is told; of addresses there are some, or none
		return http.StatusOK, cloud.About{Who: "the access of " + r.cluster, Actions: []string{"*:*"}, AtOnce: out.AtOnce, FreeAddresses: out.FreeAddresses}, err
	}
	for _, name := range images[r.region] {
		family, number, _ := strings.Cut(name, "-")
		n, _ := strconv.Atoi(number)
		out.Images = append(out.Images, cloud.Resource{ID: "image~" + name, Type: "Image", Account: r.account,
			Region: r.region, State: "ready",
			Properties: map[string]any{"name": name, "family": family, "number": n}, Attributes: map[string]any{},
			Links: map[string][]string{}})
	}
	return http.StatusOK, out, err
}

// names says whether a name that is unique in the whole cloud is taken.
func (y *Yard) names(ctx context.Context, r *request) (int, any, error) {
	var out struct {
		Taken bool   `json:"taken"`
		ID    string `json:"id"`
	}
	typ, name := r.URL.Query().Get("type"), r.URL.Query().Get("name")
	err := y.look(ctx, func(t *tx) error {
		id, account, err := t.holder(ctx, typ+"/"+name, "")
		if out.Taken = id != ""; account == r.account { // otherwise it is not theirs to know
			out.ID = id
		}
		return err
	})
	return http.StatusOK, out, err
}

// Permission is what the token of an account may do.
type Permission struct {
	Account string   `json:"account"`
	Actions []string `json:"actions"`
}

// permit sets what the token of an account may do.
func (y *Yard) permit(ctx context.Context, r *request) (int, any, error) {
	var p Permission
	if err := json.NewDecoder(io.LimitReader(r.Body, maxBody)).Decode(&p); err != nil {
		return 0, nil, refuse(http.StatusBadRequest, "bad-request", "", "the permission cannot be read: %v", err)
	}
	if !slices.Contains(y.accounts, p.Account) {
		return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request",
			"accounts are "+strings.Join(y.accounts, ", "), "there is no account %s", p.Account)
	}
	for _, a := range p.Actions {
		if kind, verb, ok := strings.Cut(a, ":"); !ok || kind == "" || verb == "" {
			return 0, nil, refuse(http.StatusUnprocessableEntity, "bad-request", "write it like server:create or *:*",
				"'%s' is no action", a)
		}
	}
	err := y.inTx(ctx, func(t *tx) error {
		_, err := t.ExecContext(ctx,
			`insert into meta(name, value) values(?, ?) on conflict(name) do update set value = excluded.value`,
			"actions/"+p.Account, strings.Join(p.Actions, " "))
		return err
	})
	return http.StatusOK, p, err
}

// actions are what the token of an account may do: all, unless it was said
// otherwise.
func (t *tx) actions(ctx context.Context, account string) ([]string, error) {
	var list string
	err := t.QueryRowContext(ctx, `select value from meta where name = ?`, "actions/"+account).Scan(&list)
	if errors.Is(err, sql.ErrNoRows) {
		return []string{"*:*"}, nil
	}
	return strings.Fields(list), err
}

// permitted refuses what the token of an account may not do.
func (t *tx) permitted(ctx context.Context, account, typ, verb string) error {
	allowed, err := t.actions(ctx, account)
	if err != nil {
		return err
	}
	need := cloud.Action(typ, verb)
	if slices.ContainsFunc(allowed, func(a string) bool { return cloud.Covers(a, need) }) {
		return nil
	}
	return refuse(http.StatusForbidden, "not-permitted", "ask for the permission "+need,
		"the credentials of %s lack %s", account, need)
}

// publicRanges are the public addresses of each region.
var publicRanges = map[string][]string{"alder-1": {"203.0.113.0/25"}, "birch-1": {"203.0.113.128/25"},
	"cedar-2": {"198.51.100.0/24"}}

// publicTaken are the public addresses of a region that belong to somebody.
func (t *tx) publicTaken(ctx context.Context, region string) (map[string]bool, error) {
	q, err := t.QueryContext(ctx,
		`select json_extract(attributes, '$.address') from resources where region = ? and json_extract(attributes,
			'$.address') is not null`, region)
	if err != nil {
		return nil, err
	}
	defer q.Close()
	taken := map[string]bool{}
	for q.Next() {
		var a string
		if err := q.Scan(&a); err != nil {
			return nil, err
		}
		taken[a] = true
	}
	return taken, q.Err()
}

// publicAddress picks the lowest free address of the region's public ranges.
func publicAddress(c *change) (any, error) {
	taken, err := c.publicTaken(c.ctx, c.region)
	if err != nil {
		return nil, err
	}
	for _, r := range publicRanges[c.region] {
		p := netip.MustParsePrefix(r)
		for addr := p.Addr().Next(); p.Contains(addr.Next()); addr = addr.Next() {
			if !taken[addr.String()] {
				return addr.String(), nil
			}
		}
	}
	return nil, bad("no-address", "remove an address that is not needed", "there is no public address left in %s",
		c.region)
}

// The types whose rules stand by themselves.

func checkRoute(c *change) *cloud.Problem {
	network, router := c.targets["network"][0], c.targets["via"][0]
	if on := router.links["network"]; len(on) == 0 || on[0] != network.id {
		return bad("wrong-network", "use the router of that network", "the router %s is not in the network %s",
			router.id, network.id)
	}
	return nil
}

func checkCertificate(c *change) *cloud.Problem {
	for _, record := range c.targets["record"] {
		fqdn := fmt.Sprint(record.attributes["fqdn"])
		if domain := c.text("domain"); fqdn != domain && !strings.HasSuffix(fqdn, "."+domain) {
			return bad("wrong-record", "use a record in the domain", "the record %s does not prove anything about %s",
				fqdn, domain)
		}
	}
	return nil
}

func certificateSteps(_ *change, ms int64) []step {
	return []step{{Name: "issuing", MS: ms * 2 / 5}, {Name: "waiting for proof", MS: ms * 3 / 5, Settling: true}}
}

func certificateAttributes(c *change) (map[string]any, error) {
	if c.before != nil {
		return nil, nil
	}
	return map[string]any{"fingerprint": "sha256:" + c.y.digest([]any{c.id, c.text("domain")})[:32],
		"expires": c.y.now().AddDate(0, 3, 0).UTC().Format("2006-01-02")}, nil
}

// majorsOf are the major versions of what has versions.
var majorsOf = map[string][]string{"relational": {"13", "14", "15", "16"}, "document": {"6", "7"},
	"cluster": {"4", "5", "6", "7"}}

// checkVersion refuses versions that there are not.
func (c *change) checkVersion(what string) *cloud.Problem {
	major, _, _ := strings.Cut(c.text("version"), ".")
	if !slices.Contains(majorsOf[what], major) {
		return bad("no-such-version", "versions: "+strings.Join(majorsOf[what], ", "),
			"there is no version %s of a %s", c.text("version"), what)
	}
	return nil
}

func checkCluster(c *change) *cloud.Problem {
	if p := c.checkVersion("cluster"); p != nil {
		return p
	}
	return checkRole(c, "cluster")
}

func clusterSteps(c *change, ms int64) []step {
	list := []step{{Name: "starting the control", MS: ms}}
	have, want := int64(0), c.number("nodes")
	if c.before != nil {
		fmt.Sscan(fmt.Sprint(c.before.properties["nodes"]), &have)
		list[0] = step{Name: "changing the control", MS: ms / 3}
		if c.changed("version") || c.changed("node_size") {
			have = 0
		}
	}
	for i := have; i < want; i++ {
		list = append(list, step{Name: fmt.Sprintf("%d of %d nodes joined", i, want), MS: 10_000, Settling: true})
	}
	return list
}

func clusterAttributes(c *change) (map[string]any, error) {
	if c.before != nil {
		return nil, nil
	}
	return map[string]any{"endpoint": "https://" + c.host("clusters"),
		"ca": "sha256:" + c.y.digest([]any{"ca", c.id})[:32], "access": c.y.accessOf(c.id)}, nil
}

func workloadSteps(c *change, ms int64) []step {
	list := []step{{Name: "pulling the image", MS: ms / 2}}
	want := max(1, c.number("replicas"))
	for i := range want {
		list = append(list, step{Name: fmt.Sprintf("%d of %d ready", i, want), MS: ms / 2 / want, Settling: true})
	}
	return list
}

func checkService(c *change) *cloud.Problem {
	port := c.targets["workload"][0].properties["port"]
	if port != nil && fmt.Sprint(port) != c.text("target_port") {
		return bad("wrong-port", fmt.Sprintf("make target_port %v", port),
			"the containers listen on port %v, not on %s", port, c.text("target_port"))
	}
	return nil
}

func serviceAttributes(c *change) (map[string]any, error) {
	if c.before != nil {
		return nil, nil
	}
	a, err := publicAddress(c)
	return map[string]any{"address": a, "url": "http://" + c.host("services")}, err
}
