package profile

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"

	"brickrow/internal/cloud"
	"brickrow/internal/precheck"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// checker looks at the resources of one template with what is known of their
// types.
type checker struct{ *precheck.Checker }

// Template reports what the cloud would refuse for what stands in the template.
func (*Profile) Template(c *precheck.Checker) { checker{c}.rules() }

// Change reports what the target would refuse of a resource that is made or
// changed.
func (*Profile) Change(pc *precheck.Checker, ch *whatif.Change) {
	c := checker{pc}
	c.image(ch.Wanted)
	c.twinsThere(ch)
	c.neighbours(ch)
}

var rules = map[string]func(c checker, r *stack.Resource){
	"Network":      network,
	"Rules":        ports,
	"Route":        route,
	"Server":       func(c checker, r *stack.Resource) { c.role(r, "server") },
	"ServerGroup":  serverGroup,
	"LoadBalancer": listeners,
	"Subscription": subscription,
	"Database":     func(c checker, r *stack.Resource) { c.version(r, c.Text(r, "engine")) },
	"Record":       record,
	"Certificate":  certificate,
	"DnsRecords":   dnsRecords,
	"Function":     func(c checker, r *stack.Resource) { c.role(r, "function") },
	"Schedule":     schedule,
	"Cluster": func(c checker, r *stack.Resource) {
		c.version(r, "cluster")
		c.role(r, "cluster")
	},
	"Service": service,
}

func (c checker) rules() {
	for _, r := range c.Resources {
		if rule := rules[r.Type.Name]; rule != nil {
			rule(c, r)
		}
		if r.Type.Property("needs") != nil && c.Extent == precheck.Whole {
			c.needs(r)
		}
	}
	c.subnets()
	c.fullSubnets()
	c.sharedAddresses()
	for _, r := range c.ByType["Router"] {
		if first := c.First("Router", "network", r); first != r {
			c.At(r, "network", "one-router", "use the router that is there",
				"%s: the network %s has a router already: %s", r.Name, c.Target(r, "network"), first.Name)
		}
	}
}

func network(c checker, r *stack.Resource) {
	p, ok := prefixOf(c.Value(r, "cidr"))
	switch {
	case !ok:
	case p.Bits() < 8 || p.Bits() > 28:
		c.At(r, "cidr", "bad-range", "use /8 to /28", "%s: the range %s is too large or too small for a network",
			r.Name, p)
	case p != p.Masked():
		c.At(r, "cidr", "bad-range", "write "+p.Masked().String(),
			"%s: the range %s does not begin at its first address", r.Name, p)
	}
}

// subnets holds the ranges of subnets against their network and each other.
func (c checker) subnets() {
	list := c.ByType["Subnet"]
	for i, r := range list {
		p, ok := prefixOf(c.Value(r, "cidr"))
		if !ok {
			continue
		}
		if p != p.Masked() {
			c.At(r, "cidr", "bad-range", "write "+p.Masked().String(),
				"%s: the range %s does not begin at its first address", r.Name, p)
			continue
		}
		in := c.Target(r, "network")
		if whole, ok := prefixOf(c.Of(in, "cidr")); ok && (!whole.Contains(p.Addr()) || p.Bits() < whole.Bits()) {
			c.At(r, "cidr", "range-outside", "choose a range inside it", "%s: the range %s is not inside %s of %s",
				r.Name, p, whole, in)
		}
		for _, o := range list[:i] {
			if q, ok := prefixOf(c.Value(o, "cidr")); ok && c.Target(o, "network") == in && q.Overlaps(p) {
				c.At(r, "cidr", "range-overlap", "choose a range that is free", "%s: the range %s overlaps %s of %s",
					r.Name, p, q, o.Name)
			}
		}
	}
}

// room is how many servers a subnet has addresses for.
func room(p netip.Prefix) int { return max(0, 1<<(32-p.Bits())-5) }

// servers is how many addresses a resource takes in its first subnet.
func (c checker) servers(r *stack.Resource) int {
	switch r.Type.Name {
	case "Server":
		return 1
	case "ServerGroup":
		n, _ := c.Value(r, "want").(tosca.Int)
		return int(n)
	}
	return 0
}

// fullSubnets looks whether all servers find an address.
func (c checker) fullSubnets() {
	used := map[string]int{}
	for _, r := range c.Resources {
		n := c.servers(r)
		if n == 0 {
			continue
		}
		subnet := c.Target(r, "subnet")
		p, ok := prefixOf(c.Of(subnet, "cidr"))
		if !ok {
			continue
		}
		before := used[subnet] + c.othersIn(subnet)
		used[subnet] += n
		if before <= room(p) && before+n > room(p) {
			c.At(r, "subnet", "subnet-full", "use a larger subnet",
				"%s: the subnet %s has room for %d servers, and this would be number %d", r.Name, subnet, room(p),
				before+n)
		}
	}
}

// sharedAddresses finds public addresses that two servers want.
func (c checker) sharedAddresses() {
	owner := map[string]string{}
	for _, r := range c.ByType["Server"] {
		a := c.Target(r, "address")
		if a == "" {
			continue
		}
		if owner[a] != "" {
			c.At(r, "address", "address-taken", "use an address of its own", "%s: the address %s belongs to %s",
				r.Name, a, owner[a])
		}
		owner[a] = r.Name
	}
}

func ports(c checker, r *stack.Resource) {
	list, _ := c.Value(r, "allow").(tosca.List)
	for i, e := range list {
		rule, _ := e.(tosca.Map)
		text := tosca.Show(rule["ports"])
		if text == "any" {
			continue
		}
		low, high, isRange := strings.Cut(text, "-")
		a, errA := strconv.Atoi(low)
		b, errB := a, error(nil)
		if isRange {
			b, errB = strconv.Atoi(high)
		}
		if errA != nil || errB != nil || a < 1 || b > 65535 || a > b {
			c.At(r, "allow", "bad-ports", "use 1 to 65535, the lower one first", "%s, rule %d: %s are no ports",
				r.Name, i, text)
		}
	}
}

func route(c checker, r *stack.Resource) {
	router := c.Resource(c.Target(r, "via"))
	if router == nil {
		return
	}
	if on, mine := c.Target(router, "network"), c.Target(r, "network"); on != mine {
		c.At(r, "via", "wrong-network", "use the router of that network",
			"%s: the router %s is not in the network %s", r.Name, router.Name, mine)
	}
}

// role holds what a role is for against who takes it on.
func (c checker) role(r *stack.Resource, want string) {
	name := c.Target(r, "role")
	if v := c.Of(name, "for"); v != nil && tosca.Show(v) != want {
		c.At(r, "role", "wrong-role", "use a role for a "+want, "%s: the role %s is for a %s, not for a %s", r.Name,
			name, tosca.Show(v), want)
	}
}

func serverGroup(c checker, r *stack.Resource) {
	c.role(r, "server")
	low, okLow := c.Value(r, "min").(tosca.Int)
	want, okWant := c.Value(r, "want").(tosca.Int)
	high, okHigh := c.Value(r, "max").(tosca.Int)
	switch {
	case !okLow || !okWant || !okHigh:
	case low > want || want > high:
		c.At(r, "want", "bad-numbers", "make min ≤ want ≤ max", "%s: min %d, want %d, max %d do not fit together",
			r.Name, low, want, high)
	case want > 100:
		c.At(r, "want", "bad-numbers", "use at most 100", "%s: %d servers are too many for one group", r.Name, want)
	}
}

func listeners(c checker, r *stack.Resource) {
	seen := map[string]bool{}
	list, _ := c.Value(r, "listeners").(tosca.List)
	for _, e := range list {
		l, _ := e.(tosca.Map)
		port := tosca.Show(l["port"])
		if seen[port] {
			c.At(r, "listeners", "port-twice", "give each listener a port of its own",
				"%s: two listeners want port %s", r.Name, port)
		}
		seen[port] = true
	}
}

func subscription(c checker, r *stack.Resource) {
	if to := c.Text(r, "to"); to != "" && !strings.Contains(to, "@") && !strings.Contains(to, "://") {
		c.At(r, "to", "bad-address", "use a url or a mail address", "%s: a subscription cannot send to '%s'", r.Name,
			to)
	}
}

// majors are the major versions that there are.
var majors = map[string][]string{"relational": {"13", "14", "15", "16"}, "document": {"6", "7"},
	"cluster": {"4", "5", "6", "7"}}

func (c checker) version(r *stack.Resource, what string) {
	version := c.Text(r, "version")
	major, _, _ := strings.Cut(version, ".")
	if known := majors[what]; known != nil && version != "" && !slices.Contains(known, major) {
		if what != "cluster" {
			what += " database"
		}
		c.At(r, "version", "no-such-version", "versions: "+strings.Join(known, ", "),
			"%s: there is no version %s of a %s", r.Name, version, what)
	}
}

// exclude reports whether two records of a name in a zone cannot both be there: those of one
// kind, and a CNAME with any.
func exclude(kind, other string) bool { return kind == other || kind == "CNAME" || other == "CNAME" }

func record(c checker, r *stack.Resource) {
	for _, o := range c.ByType["Record"] {
		name, kind := c.Text(o, "name"), c.Text(o, "kind")
		if c.Text(r, "kind") == "CNAME" && kind != "" && kind != "CNAME" && name != "" && name == c.Text(r, "name") &&
			c.Target(o, "zone") == c.Target(r, "zone") {
			c.At(r, "kind", "name-taken", "give one of them another name",
				"%s: beside a CNAME there can be no other record of the name '%s', and %s is one", r.Name, name, o.Name)
		}
	}
	list, _ := c.Value(r, "values").(tosca.List)
	if c.Text(r, "kind") != "A" {
		return
	}
	for _, v := range list {
		if a, err := netip.ParseAddr(tosca.Show(v)); err != nil || !a.Is4() {
			c.At(r, "values", "bad-address", "use kind CNAME for a name",
				"%s: a record of kind A needs IPv4 addresses, not '%s'", r.Name, tosca.Show(v))
		}
	}
}

// dnsRecords reports values that no zone could have.
func dnsRecords(c checker, r *stack.Resource) {
	list, _ := c.Value(r, "values").(tosca.List)
	kind := strings.ToUpper(c.Text(r, "kind"))
	for _, v := range list {
		text, plain := v.(tosca.String)
		if !plain || kind == "" || kind == "TXT" && !strings.HasPrefix(string(text), `"`) {
			continue
		}
		bad := strings.ContainsAny(string(text), "\n\r")
		if !bad {
			rr, err := dns.NewRR("name.example. 300 IN " + kind + " " + string(text))
			bad = err != nil || rr == nil
		}
		if bad {
			c.At(r, "values", "bad-address", "write it as a zone file has it behind the kind", "%s: '%s' is no value of a record of the kind %s", r.Name, tosca.Show(v), kind)
		}
	}
}

func certificate(c checker, r *stack.Resource) {
	rec := c.Resource(c.Target(r, "record"))
	domain := c.Text(r, "domain")
	if rec == nil || domain == "" {
		return
	}
	zone := c.Of(c.Target(rec, "zone"), "domain")
	name := c.Text(rec, "name")
	if zone == nil || name == "" {
		return
	}
	fqdn := name + "." + tosca.Show(zone)
	if name == "@" {
		fqdn = tosca.Show(zone)
	}
	if fqdn != domain && !strings.HasSuffix(fqdn, "."+domain) {
		c.At(r, "record", "wrong-record", "use a record in the domain",
			"%s: the record %s does not prove anything about %s", r.Name, fqdn, domain)
	}
}

func schedule(c checker, r *stack.Resource) {
	limits := []int{59, 23, 31, 12, 7}
	every := c.Text(r, "every")
	for i, p := range strings.Fields(every) {
		p = strings.TrimPrefix(p, "*/")
		if p == "*" || i >= len(limits) {
			continue
		}
		for _, n := range strings.FieldsFunc(p, func(r rune) bool { return r == ',' || r == '-' }) {
			if v, err := strconv.Atoi(n); err != nil || v < 0 || v > limits[i] {
				c.At(r, "every", "bad-schedule", "write minute hour day month weekday, such as 30 2 * * *",
					"%s: '%s' is no schedule", r.Name, every)
				return
			}
		}
	}
}

func service(c checker, r *stack.Resource) {
	workload := c.Target(r, "workload")
	port, mine := c.Of(workload, "port"), c.Value(r, "target_port")
	if port != nil && mine != nil && !tosca.Equal(port, tosca.Null{}) && !tosca.Equal(port, mine) {
		c.At(r, "target_port", "wrong-port", "make it "+tosca.Show(port),
			"%s: the containers of %s listen on port %s, not on %s", r.Name, workload, tosca.Show(port),
			tosca.Show(mine))
	}
}

// needs holds what a program does when it starts against the grants of its
// role.
func (c checker) needs(r *stack.Resource) {
	list, _ := c.Value(r, "needs").(tosca.List)
	role := c.Target(r, "role")
	if r.Type.Name == "Workload" { // it acts as its cluster
		if cluster := c.Resource(c.Target(r, "cluster")); cluster != nil {
			role = c.Target(cluster, "role")
		} else {
			return
		}
	}
	var allowed []string
	for _, g := range c.ByType["Grant"] {
		if c.Target(g, "role") != role {
			continue
		}
		actions := c.Value(g, "actions")
		if actions == nil {
			return // not known yet
		}
		l, _ := actions.(tosca.List)
		for _, a := range l {
			allowed = append(allowed, tosca.Show(a))
		}
	}
	if role != "" && c.Resource(role) == nil { // a role that is there already
		if c.State == nil {
			return
		}
		allowed = append(allowed, granted(c.State, c.Wanted, role)...)
	}
	for _, need := range list {
		switch {
		case role == "":
			c.At(r, "needs", "permission", "give it a role with a grant of it", "%s needs %s, and has no role",
				r.Name, tosca.Show(need))
		case !slices.ContainsFunc(allowed, func(a string) bool { return cloud.Covers(a, tosca.Show(need)) }):
			c.At(r, "needs", "permission", fmt.Sprintf("add it to a Grant whose role is %s", role),
				"%s needs %s, and no grant of the role %s covers it: it would never become healthy", r.Name,
				tosca.Show(need), role)
		}
	}
}

// Unique yields a key that no two resources of a type may share, and the property
// that it is about; "" where it is not known, or there is none.
func (*Profile) Unique(c *precheck.Checker, r *stack.Resource) (key, property string) {
	return unique(c, r)
}

func unique(c *precheck.Checker, r *stack.Resource) (key, property string) {
	switch r.Type.Name {
	case "Bucket":
		return c.Text(r, "name"), "name"
	case "Zone":
		return c.Text(r, "domain"), "domain"
	case "Record":
		if name := c.Text(r, "name"); name != "" {
			return c.Target(r, "zone") + "/" + name + "/" + c.Text(r, "kind"), "name"
		}
	case "Route":
		if to := c.Text(r, "to"); to != "" {
			return c.Target(r, "network") + "/" + to, "to"
		}
	case "DnsRecords":
		if name := c.Text(r, "name"); name != "" {
			return strings.ToLower(c.Text(r, "zone") + "/" + name + "/" + c.Text(r, "kind")), "name"
		}
	}
	if in, name := uniqueIn(r.Type); in != "" && c.Text(r, name) != "" {
		return c.Target(r, in) + "/" + c.Text(r, name), name
	}
	return "", ""
}

// Twin reports whether a resource could not be there beside one that is behind the same connection.
func (*Profile) Twin(c *precheck.Checker, r *stack.Resource, l *stack.Live) bool {
	text := func(name string) string { return tosca.InClear(l.Properties[name]) }
	if r.Type.Name == "DnsRecords" {
		return fullName(c.Text(r, "name"), c.Text(r, "zone")) == fullName(text("name"), text("zone")) && exclude(strings.ToUpper(text("kind")), strings.ToUpper(c.Text(r, "kind")))
	}
	in, property := uniqueIn(r.Type)
	return in != "" && text(property) == c.Text(r, property) && (in == stack.Through || slices.Contains(l.Links[in], c.ID(c.Target(r, in))))
}

// fullName is a name in a zone with all its parts.
func fullName(name, zone string) string {
	switch {
	case name == "@":
		name = zone
	case !strings.HasSuffix(name, "."):
		name += "." + zone
	}
	return dns.CanonicalName(name)
}

// uniqueIn is the property of a type that no two may share that rest on the same by a requirement.
func uniqueIn(t *tosca.NodeType) (requirement, property string) {
	for _, d := range t.Properties {
		if in := d.Metadata["unique_in"]; in != "" {
			return in, d.Name
		}
	}
	return "", ""
}

func prefixOf(v tosca.Value) (netip.Prefix, bool) {
	if v == nil {
		return netip.Prefix{}, false
	}
	p, err := netip.ParsePrefix(tosca.Show(v))
	return p, err == nil
}

// granted lists the actions that grants of other stacks give to a role that is
// selected.
func granted(s *precheck.TargetState, w *stack.Wanted, role string) []string {
	found := w.Existing(role)
	if found == nil {
		return nil
	}
	var out []string
	for _, l := range s.Near() {
		if l.Type == "Grant" && slices.Contains(l.Links["role"], found.ID) {
			list, _ := l.Properties["actions"].(tosca.List)
			for _, a := range list {
				out = append(out, tosca.Show(a))
			}
		}
	}
	return out
}

// othersIn is how many addresses of a subnet others have.
func (c checker) othersIn(subnet string) int {
	found := c.Existing(subnet)
	if c.State == nil || found == nil {
		return 0
	}
	n := 0
	for _, l := range c.State.Near() {
		if !c.State.Foreign(l) || !slices.Contains(l.Links["subnet"], found.ID) {
			continue
		}
		switch l.Type {
		case "Server":
			n++
		case "ServerGroup":
			list, _ := l.Attributes["addresses"].(tosca.List)
			n += len(list)
		}
	}
	return n
}

func (c checker) image(r *stack.Resource) {
	want := c.Text(r, "image")
	if want == "" || r.Type.Name != "Server" && r.Type.Name != "ServerGroup" {
		return
	}
	var known []string
	for _, i := range c.State.About.Images {
		known = append(known, tosca.Show(tosca.FromJSON(i.Properties["name"])))
	}
	if !slices.Contains(known, want) {
		fix := "images here: " + strings.Join(known, ", ")
		c.At(r, "image", "no-such-image", fix, "%s: there is no image %s in %s", r.Name, want, c.State.Target.Region)
	}
}

// neighbours looks at what stands beside a resource already in what it rests
// on, made by others.
func (c checker) neighbours(ch *whatif.Change) {
	r := ch.Wanted
	switch r.Type.Name {
	case "Subnet", "Router":
		id := c.ID(c.Target(r, "network"))
		p, known := prefixOf(c.Value(r, "cidr"))
		for _, l := range c.State.Near() {
			if id == "" || l.Type != r.Type.Name || !c.State.Foreign(l) || !slices.Contains(l.Links["network"], id) {
				continue
			}
			if l.Type == "Router" {
				c.At(r, "network", "one-router", "use the router that is there",
					"%s: the network %s has a router already: %s", r.Name, id, l.ID)
			} else if q, ok := prefixOf(l.Properties["cidr"]); ok && known && q.Overlaps(p) {
				c.At(r, "cidr", "range-overlap", "choose a range that is free", "%s: the range %s overlaps %s of %s",
					r.Name, p, q, l.ID)
			}
		}
	case "Server":
		id := c.ID(c.Target(r, "address"))
		l := c.State.Live(id)
		if l == nil {
			return
		}
		for _, user := range l.UsedBy {
			mine := ch.Recorded != nil && ch.Recorded.ID == user
			if u := c.State.Live(user); u != nil && !mine && (c.State.Foreign(u) || ch.Kind == whatif.Swap) {
				c.At(r, "address", "address-taken", "use an address of its own", "%s: the address %s belongs to %s",
					r.Name, id, user)
			} else if mine && ch.Kind == whatif.Swap {
				c.At(r, "address", "address-taken",
					"take the address away from the old one first, in a deployment of its own",
					"%s: its old part holds the address %s until the end of the run", r.Name, id)
			}
		}
	case "Route":
		network, router := c.ID(c.Target(r, "network")), c.State.Live(c.ID(c.Target(r, "via")))
		if router != nil && c.Resource(c.Target(r, "via")) == nil &&
			!slices.Contains(router.Links["network"], network) {
			c.At(r, "via", "wrong-network", "use the router of that network",
				"%s: the router %s is not in the network %s", r.Name, router.ID, c.Target(r, "network"))
		}
	}
}

// twinsThere reports what others have in the target, and of which there can be
// one.
func (c checker) twinsThere(ch *whatif.Change) {
	r := ch.Wanted
	rests, can := map[string]string{"Record": "zone", "Route": "network", "Zone": ""}[r.Type.Name]
	_, property := unique(c.Checker, r)
	if !can || property == "" {
		return
	}
	id := ""
	if rests != "" {
		if id = c.ID(c.Target(r, rests)); id == "" {
			return // it is still to be made
		}
	}
	for _, l := range c.State.Near() {
		switch {
		case l.Type != r.Type.Name || !c.State.Foreign(l) || c.Kept(ch, l.ID):
		case id != "" && !slices.Contains(l.Links[rests], id):
		case tosca.InClear(l.Properties[property]) != c.Text(r, property):
		case r.Type.Name == "Record" && !exclude(tosca.InClear(l.Properties["kind"]), c.Text(r, "kind")):
		default:
			c.TakenBy(r, property, l.ID)
		}
	}
}

// There lists what a target has of a type.
func (p *Profile) There(s *precheck.TargetState, typ string) []*stack.Live {
	var out []*stack.Live
	if typ == "Image" {
		for _, r := range s.About.Images {
			out = append(out, r.Live(p.Library))
		}
		return out
	}
	for _, l := range s.Near() {
		if l.Type == typ {
			out = append(out, l)
		}
	}
	return out
}
