package yard

import (
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
)

// behaviour is what a type does beyond its properties and links.
type behaviour struct {
	quota      int                                     // per account and region; 0 is without limit
	check      func(c *change) *cloud.Problem          // the rules of the cloud
	steps      func(c *change, ms int64) []step        // of a creation; nil is one step
	editSteps  func(c *change, ms int64) []step        // of an update; nil is one step of half the time
	attributes func(c *change) (map[string]any, error) // of the resource as it will be
	unique     func(c *change) string                  // a key that no two resources may share
}

func (c *change) steps() []step {
	b, ms := behaviours[c.typ.Name], nominal(c.typ)
	if c.kind == "update" {
		if b.editSteps != nil {
			return b.editSteps(c, ms)
		}
		return []step{{Name: "updating", MS: max(800, ms/2)}}
	}
	if b.steps != nil {
		return b.steps(c, ms)
	}
	return []step{{Name: "creating", MS: ms}}
}

func none(*change) (map[string]any, error) { return nil, nil }

// once keeps an attribute that was given at the creation.
func once(name string, make func(c *change) (any, error)) func(c *change) (map[string]any, error) {
	return func(c *change) (map[string]any, error) {
		if c.before != nil {
			return nil, nil
		}
		v, err := make(c)
		return map[string]any{name: v}, err
	}
}

// tail is the second part of an id, for names that follow from it.
func (c *change) tail() string {
	return c.id[strings.LastIndexByte(c.id, '~')+1:]
}

func (c *change) host(service string) string {
	return fmt.Sprintf("%s.%s.%s.%s", c.tail(), service, c.region, cloud.StandInDomain)
}

var behaviours = map[string]behaviour{
	"Network": {quota: 5, check: checkNetwork, attributes: none},
	"Subnet":  {check: checkSubnet, attributes: subnetAttributes},
	"Router":  {check: checkRouter, attributes: once("address", publicAddress)},
	"Rules":   {check: checkRules, attributes: none},
	"Address": {quota: 5, attributes: once("address", publicAddress)},
	"Key": {attributes: func(c *change) (map[string]any, error) {
		return map[string]any{"fingerprint": "sha256:" + c.y.digest(c.text("public_key"))[:32]}, nil
	}},
	"Server":       {quota: 40, check: checkServer, steps: serverSteps, attributes: serverAttributes},
	"ServerGroup":  {check: checkServerGroup, steps: groupSteps, editSteps: groupSteps, attributes: groupAttributes},
	"LoadBalancer": {check: checkLoadBalancer, steps: balancerSteps, attributes: balancerAttributes},
	"Bucket": {attributes: func(c *change) (map[string]any, error) {
		return map[string]any{"url": "https://" + c.text("name") + ".objects.yard.example"}, nil
	}, unique: func(c *change) string { return "Bucket/" + c.text("name") }},
	"Queue": {attributes: once("url",
		func(c *change) (any, error) { return "https://" + c.host("queues") + "/" + c.account, nil })},
	"Topic": {attributes: once("url",
		func(c *change) (any, error) { return "https://" + c.host("topics") + "/" + c.account, nil })},
	"Subscription": {check: checkSubscription, attributes: none},
	"Database": {quota: 4, check: checkDatabase, steps: databaseSteps, editSteps: databaseEdit,
		attributes: databaseAttributes},
	"Cache": {attributes: func(c *change) (map[string]any, error) {
		return map[string]any{"endpoint": c.host("cache"), "port": 6400}, nil
	}},
	"Role":  {attributes: none},
	"Grant": {attributes: none},
	"Vault": {attributes: func(c *change) (map[string]any, error) {
		return map[string]any{"version": c.y.digest(c.text("value"))[:8]}, nil
	}},
	"Zone": {attributes: once("servers", func(c *change) (any, error) {
		return []string{"ns1." + c.tail() + ".names.yard.example", "ns2." + c.tail() + ".names.yard.example"}, nil
	}), unique: func(c *change) string { return "Zone/" + c.account + "/" + c.region + "/" + c.text("domain") }},
	"Record": {check: checkRecord, attributes: recordAttributes, unique: func(c *change) string {
		return fmt.Sprintf("Record/%s/%s/%s", c.targets["zone"][0].id, c.text("name"), c.text("kind"))
	}},
	"Route": {check: checkRoute, attributes: none, unique: func(c *change) string {
		return fmt.Sprintf("Route/%s/%s", c.targets["network"][0].id, c.text("to"))
	}},
	"Disk":        {attributes: none},
	"Certificate": {check: checkCertificate, steps: certificateSteps, attributes: certificateAttributes},
	"Cluster": {quota: 3, check: checkCluster, steps: clusterSteps, editSteps: clusterSteps,
		attributes: clusterAttributes},
	"Workload": {steps: workloadSteps, editSteps: workloadSteps, attributes: func(c *change) (map[string]any, error) {
		return map[string]any{"ready": c.number("replicas")}, nil
	}},
	"Service": {check: checkService, steps: func(_ *change, ms int64) []step {
		return []step{{Name: "finding workloads", MS: ms / 3},
			{Name: "allocating an address", MS: ms * 2 / 3, Settling: true}}
	}, attributes: serviceAttributes},
	"Function": {check: checkFunction, attributes: once("url",
		func(c *change) (any, error) { return "https://" + c.host("functions"), nil })},
	"Software": {check: checkSoftware, steps: softwareSteps, editSteps: softwareSteps, attributes: softwareAttributes},
	"Schedule": {check: checkSchedule, attributes: func(c *change) (map[string]any, error) {
		return map[string]any{"next": "at " + c.text("every")}, nil
	}},
}

func bad(kind, fix, format string, args ...any) *cloud.Problem {
	return refuse(http.StatusUnprocessableEntity, kind, fix, format, args...)
}

func checkNetwork(c *change) *cloud.Problem {
	p, err := netip.ParsePrefix(c.text("cidr"))
	if err != nil || p.Bits() < 8 || p.Bits() > 28 {
		return bad("bad-range", "use /8 to /28", "the range %s is too large or too small for a network", c.text("cidr"))
	}
	if p != p.Masked() {
		return bad("bad-range", "write "+p.Masked().String(), "the range %s does not begin at its first address", p)
	}
	return nil
}

func checkSubnet(c *change) *cloud.Problem {
	p, err := netip.ParsePrefix(c.text("cidr"))
	if err != nil || p != p.Masked() {
		return bad("bad-range", "write it like 10.40.1.0/24", "the range %s does not begin at its first address",
			c.text("cidr"))
	}
	network := c.targets["network"][0]
	whole, err := netip.ParsePrefix(fmt.Sprint(network.properties["cidr"]))
	if err != nil || !whole.Contains(p.Addr()) || p.Bits() < whole.Bits() {
		return bad("range-outside", "choose a range inside it", "the range %s is not inside the network's %v", p,
			network.properties["cidr"])
	}
	siblings, err := c.resources(c.ctx,
		`where type = 'Subnet' and id <> ? and id in (select from_id from links where to_id = ?) order by id`, c.id,
		network.id)
	if err != nil {
		return bad("internal", "", "%v", err)
	}
	for _, s := range siblings {
		if q, err := netip.ParsePrefix(fmt.Sprint(s.properties["cidr"])); err == nil && q.Overlaps(p) {
			return bad("range-overlap", "choose a range that is free", "the range %s overlaps %s of %s", p, q, s.id)
		}
	}
	return nil
}

func subnetAttributes(c *change) (map[string]any, error) {
	p, err := netip.ParsePrefix(c.text("cidr"))
	if err != nil {
		return nil, err
	}
	return map[string]any{"free_addresses": max(0, 1<<(32-p.Bits())-4)}, nil
}

func checkRouter(c *change) *cloud.Problem {
	for _, id := range c.targets["network"][0].usedBy {
		if strings.HasPrefix(id, "router~") && id != c.id {
			return bad("one-router", "use the router that is there", "the network %s has a router already: %s",
				c.targets["network"][0].id, id)
		}
	}
	return nil
}

func checkRules(c *change) *cloud.Problem {
	list, _ := c.properties["allow"].(tosca.List)
	for i, e := range list {
		rule, _ := e.(tosca.Map)
		low, high, isRange := strings.Cut(tosca.Show(rule["ports"]), "-")
		if low == "any" {
			continue
		}
		a, errA := strconv.Atoi(low)
		b, errB := a, error(nil)
		if isRange {
			b, errB = strconv.Atoi(high)
		}
		if errA != nil || errB != nil || a < 1 || b > 65535 || a > b {
			return bad("bad-ports", "use 1 to 65535, the lower one first", "rule %d: %s are no ports", i,
				tosca.Show(rule["ports"]))
		}
	}
	return nil
}

func checkImage(c *change) *cloud.Problem {
	if !c.changed("image") || slices.Contains(images[c.region], c.text("image")) {
		return nil
	}
	return bad("no-such-image", "images here: "+strings.Join(images[c.region], ", "), "there is no image %s in %s",
		c.text("image"), c.region)
}

func checkRole(c *change, want string) *cloud.Problem {
	for _, role := range c.targets["role"] {
		if role.properties["for"] != want {
			return bad("wrong-role", "use a role for a "+want, "the role %s is for a %v, not for a %s", role.id,
				role.properties["for"], want)
		}
	}
	return nil
}

func checkServer(c *change) *cloud.Problem {
	for _, a := range c.targets["address"] {
		for _, user := range a.usedBy {
			if user != c.id {
				return bad("address-taken", "use an address of its own", "the address %s belongs to %s", a.id, user)
			}
		}
	}
	if p := checkImage(c); p != nil {
		return p
	}
	return checkRole(c, "server")
}

func serverSteps(_ *change, ms int64) []step {
	return []step{{Name: "placing it on a host", MS: ms * 3 / 10}, {Name: "starting the image", MS: ms * 4 / 10},
		{Name: "first sign of life", MS: ms * 3 / 10, Settling: true}}
}

func serverAttributes(c *change) (map[string]any, error) {
	out := map[string]any{"public_address": ""}
	if a := c.targets["address"]; len(a) > 0 {
		out["public_address"] = a[0].attributes["address"]
	}
	if c.before != nil {
		return out, nil
	}
	list, err := c.privateAddresses(1)
	if err == nil {
		out["private_address"] = list[0]
	}
	return out, err
}

// privateAddresses picks the lowest free addresses of the first subnet.
func (c *change) privateAddresses(n int) ([]string, error) {
	subnet := c.targets["subnet"][0]
	p, err := netip.ParsePrefix(fmt.Sprint(subnet.properties["cidr"]))
	if err != nil {
		return nil, err
	}
	taken, err := c.takenAddresses(subnet)
	if err != nil {
		return nil, err
	}
	addr := p.Addr()
	for range 4 { // the first four are the subnet's own
		addr = addr.Next()
	}
	out := []string{}
	for ; len(out) < n && p.Contains(addr.Next()); addr = addr.Next() {
		if !taken[addr.String()] {
			out = append(out, addr.String())
		}
	}
	if len(out) < n {
		return nil, bad("subnet-full", "use a larger subnet", "the subnet %s has only %d free addresses", subnet.id,
			len(out))
	}
	return out, nil
}

// reserved are the addresses that a group once had.
func (c *change) reserved(group string) ([]string, error) {
	var list string
	err := c.QueryRowContext(c.ctx, `select value from meta where name = ?`, "addresses/"+group).Scan(&list)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return strings.Fields(list), err
}

// takenAddresses are the private addresses that others have in a subnet, or
// that are reserved for them.
func (c *change) takenAddresses(subnet *row) (map[string]bool, error) {
	users, err := c.resources(c.ctx, `where id in (select from_id from links where to_id = ?)`, subnet.id)
	if err != nil {
		return nil, err
	}
	taken := map[string]bool{}
	for _, u := range users {
		if u.id == c.id {
			continue
		}
		if a, ok := u.attributes["private_address"].(string); ok {
			taken[a] = true
		}
		held, err := c.reserved(u.id)
		if err != nil {
			return nil, err
		}
		for _, a := range held {
			taken[a] = true
		}
		list, _ := u.attributes["addresses"].([]any)
		for _, a := range list {
			taken[fmt.Sprint(a)] = true
		}
	}
	return taken, nil
}

func checkServerGroup(c *change) *cloud.Problem {
	low, want, high := c.number("min"), c.number("want"), c.number("max")
	if low > want || want > high {
		return bad("bad-numbers", "make min ≤ want ≤ max", "min %d, want %d, max %d do not fit together", low, want,
			high)
	}
	if want > 100 {
		return bad("bad-numbers", "use at most 100", "%d servers are too many for one group", want)
	}
	if p := checkImage(c); p != nil {
		return p
	}
	return checkRole(c, "server")
}

func groupSteps(c *change, ms int64) []step {
	want, have := c.number("want"), int64(0)
	first := "launching servers"
	if c.before != nil {
		first, ms = "updating the group", ms/2
		fmt.Sscan(fmt.Sprint(c.before.attributes["healthy"]), &have)
		if c.changed("size") || c.changed("env") {
			have, first = 0, "replacing servers one by one"
		}
	}
	list := []step{{Name: first, MS: ms}}
	for i := have; i < want; i++ {
		list = append(list, step{Name: fmt.Sprintf("%d of %d healthy", i, want), MS: 4000, Settling: true})
	}
	return list
}

func groupAttributes(c *change) (map[string]any, error) {
	list, err := c.groupAddresses(int(c.number("want")))
	return map[string]any{"addresses": list, "healthy": c.number("want")}, err
}

// groupAddresses keeps the addresses that a group has. Those that it gives up
// stay reserved for it, and it takes them again before others when it grows: so
// a group that is put back to its former size is what it was.
func (c *change) groupAddresses(want int) ([]string, error) {
	if c.before == nil {
		return c.privateAddresses(want)
	}
	list := []string{}
	have, _ := c.before.attributes["addresses"].([]any)
	for _, a := range have {
		list = append(list, fmt.Sprint(a))
	}
	if len(list) >= want {
		_, err := c.ExecContext(c.ctx,
			`insert into meta(name, value) values(?, ?) on conflict(name) do update set value = excluded.value`,
			"addresses/"+c.id, strings.Join(list, " "))
		return list[:want], err
	}
	once, err := c.reserved(c.id)
	if err != nil {
		return nil, err
	}
	free, err := c.privateAddresses(want + len(once))
	if err != nil { // the subnet is nearly full
		if free, err = c.privateAddresses(want); err != nil {
			return nil, err
		}
	}
	taken, err := c.takenAddresses(c.targets["subnet"][0])
	if err != nil {
		return nil, err
	}
	for _, a := range append(once, free...) {
		if len(list) < want && !taken[a] && !slices.Contains(list, a) {
			list = append(list, a)
		}
	}
	return list, nil
}

func checkLoadBalancer(c *change) *cloud.Problem {
	seen := map[string]bool{}
	list, _ := c.properties["listeners"].(tosca.List)
	for _, e := range list {
		l, _ := e.(tosca.Map)
		port := tosca.Show(l["port"])
		if seen[port] {
			return bad("port-twice", "give each listener a port of its own", "two listeners want port %s", port)
		}
		seen[port] = true
	}
	return nil
}

func balancerSteps(c *change, ms int64) []step {
	list, _ := c.properties["listeners"].(tosca.List)
	noun := "listeners"
	if len(list) == 1 {
		noun = "listener"
	}
	return []step{{Name: "allocating an address", MS: ms / 4},
		{Name: fmt.Sprintf("registering %d %s", len(list), noun), MS: ms / 4},
		{Name: "waiting for targets", MS: ms / 2, Settling: true}}
}

func balancerAttributes(c *change) (map[string]any, error) {
	if c.before != nil {
		return nil, nil
	}
	a, err := publicAddress(c)
	return map[string]any{"address": a, "url": "http://" + c.host("balancers")}, err
}

func checkSubscription(c *change) *cloud.Problem {
	to := c.text("to")
	if !strings.Contains(to, "@") && !strings.Contains(to, "://") {
		return bad("bad-address", "use a url or a mail address", "a subscription cannot send to '%s'", to)
	}
	return nil
}

func checkDatabase(c *change) *cloud.Problem { return c.checkVersion(c.text("engine")) }

func databaseSteps(_ *change, ms int64) []step {
	return []step{{Name: "allocating storage", MS: ms * 3 / 10}, {Name: "starting the engine", MS: ms / 2},
		{Name: "first backup", MS: ms / 5, Settling: true}}
}

func databaseEdit(c *change, ms int64) []step {
	var list []step
	if c.changed("storage") {
		list = append(list, step{Name: "growing the storage", MS: ms / 5})
	}
	if c.changed("version") || c.changed("size") {
		list = append(list, step{Name: "restarting the engine", MS: ms * 3 / 10, Settling: true})
	}
	return append(list, step{Name: "applying settings", MS: ms / 10})
}

func databaseAttributes(c *change) (map[string]any, error) {
	port := 5400
	if c.text("engine") == "document" {
		port = 7200
	}
	return map[string]any{"endpoint": c.host("db"), "port": port}, nil
}

// checkRecord refuses addresses that are none, and a name that stands for another name and
// for something else at once.
func checkRecord(c *change) *cloud.Problem {
	others, err := c.resources(c.ctx, `where type = 'Record' and id <> ? and id in (select from_id from links where to_id = ? and
		requirement = 'zone')`, c.id, c.targets["zone"][0].id)
	if err != nil {
		return bad("internal", "", "%v", err)
	}
	for _, o := range others {
		kind := fmt.Sprint(o.properties["kind"])
		if fmt.Sprint(o.properties["name"]) == c.text("name") && kind != c.text("kind") && (kind == "CNAME" || c.text("kind") == "CNAME") {
			return bad("name-taken", "choose another name, or remove the other record first",
				"the name %s has a record of kind %s: beside a CNAME there can be no other", c.text("name"), kind)
		}
	}
	if c.text("kind") != "A" {
		return nil
	}
	list, _ := c.properties["values"].(tosca.List)
	for _, v := range list {
		if a, err := netip.ParseAddr(tosca.Show(v)); err != nil || !a.Is4() {
			return bad("bad-address", "use kind CNAME for a name",
				"a record of kind A needs IPv4 addresses, not '%s'", tosca.Show(v))
		}
	}
	return nil
}

func recordAttributes(c *change) (map[string]any, error) {
	domain := fmt.Sprint(c.targets["zone"][0].properties["domain"])
	if c.text("name") == "@" {
		return map[string]any{"fqdn": domain}, nil
	}
	return map[string]any{"fqdn": c.text("name") + "." + domain}, nil
}

func checkFunction(c *change) *cloud.Problem { return checkRole(c, "function") }

func checkSchedule(c *change) *cloud.Problem {
	parts := strings.Fields(c.text("every"))
	limits := []int{59, 23, 31, 12, 7}
	for i, p := range parts {
		p = strings.TrimPrefix(p, "*/")
		if p == "*" {
			continue
		}
		for _, n := range strings.FieldsFunc(p, func(r rune) bool { return r == ',' || r == '-' }) {
			if v, err := strconv.Atoi(n); err != nil || v < 0 || v > limits[i] {
				return bad("bad-schedule", "write minute hour day month weekday, such as 30 2 * * *",
					"'%s' is no schedule", c.text("every"))
			}
		}
	}
	return nil
}
