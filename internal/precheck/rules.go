// Package precheck holds a template against the rules of the cloud before
// anything is touched: what a call would be refused for is a finding with the
// template's line. Rules looks at the template alone; Against looks at the
// target too, at its quotas, names, ranges, images and permissions.
package precheck

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// checker looks at the resources of one template.
type checker struct {
	*stack.Wanted
	findings tosca.Findings
	byType   map[string][]*stack.Resource
	site     *Site // nil where the target is not asked
	partial  bool  // there may be more in the template than is known
}

func newChecker(w *stack.Wanted) *checker {
	c := &checker{Wanted: w, byType: map[string][]*stack.Resource{}}
	for _, r := range w.Resources {
		c.byType[r.Type.Name] = append(c.byType[r.Type.Name], r)
	}
	return c
}

// Rules reports what the cloud would refuse for what stands in the template.
// Values that only the cloud can know are left out.
//
// With partial parts of the template could not be read: what is missing then is
// no finding.
func Rules(w *stack.Wanted, partial bool) tosca.Findings {
	c := newChecker(w)
	c.partial = partial
	c.rules()
	return c.told()
}

// told are the findings without the secrets that the rules had to look at.
func (c *checker) told() tosca.Findings {
	out := c.Secrets().Findings(c.findings)
	out.Sort()
	return out
}

func (c *checker) rules() {
	for _, r := range c.Resources {
		if rule := rules[r.Type.Name]; rule != nil {
			rule(c, r)
		}
		if r.Type.Property("needs") != nil && !c.partial {
			c.needs(r)
		}
	}
	c.twins()
	c.subnets()
	c.fullSubnets()
	c.sharedAddresses()
	for _, r := range c.byType["Router"] {
		if first := c.first("Router", "network", r); first != r {
			c.at(r, "network", "one-router", "use the router that is there", "%s: the network %s has a router already: %s", r.Name, c.target(r, "network"), first.Name)
		}
	}
}

var rules = map[string]func(c *checker, r *stack.Resource){
	"Network":      network,
	"Rules":        ports,
	"Route":        route,
	"Server":       func(c *checker, r *stack.Resource) { c.role(r, "server") },
	"ServerGroup":  serverGroup,
	"LoadBalancer": listeners,
	"Subscription": subscription,
	"Database":     func(c *checker, r *stack.Resource) { c.version(r, c.text(r, "engine")) },
	"Record":       record,
	"Certificate":  certificate,
	"Function":     func(c *checker, r *stack.Resource) { c.role(r, "function") },
	"Schedule":     schedule,
	"Cluster": func(c *checker, r *stack.Resource) {
		c.version(r, "cluster")
		c.role(r, "cluster")
	},
	"Service": service,
}

// value is a property that is known, also where it is secret; nil otherwise.
func (c *checker) value(r *stack.Resource, name string) tosca.Value {
	if p := r.Property(name); p != nil && tosca.IsKnown(p.Value) {
		bare, _ := tosca.Bare(p.Value)
		return bare
	}
	return nil
}

func (c *checker) text(r *stack.Resource, name string) string {
	if v := c.value(r, name); v != nil {
		return tosca.Show(v)
	}
	return ""
}

// at reports something at a property or a requirement of a resource.
func (c *checker) at(r *stack.Resource, name, code, mend, format string, args ...any) {
	p := r.Pos
	if prop := r.Property(name); prop != nil {
		p = prop.Pos
	}
	for _, l := range r.Links {
		if l.Requirement == name {
			p = l.Pos
		}
	}
	c.findings.Errorf(p, code, mend, format, args...)
}

// target is the name of the first resource that a requirement names.
func (c *checker) target(r *stack.Resource, requirement string) string {
	for _, l := range r.Links {
		if l.Requirement == requirement && len(l.Targets) > 0 {
			return l.Targets[0]
		}
	}
	return ""
}

// of is a property of a resource by name, wanted or selected; nil where it is
// not known.
func (c *checker) of(name, property string) tosca.Value {
	if r := c.Resource(name); r != nil {
		return c.value(r, property)
	}
	if f := c.Existing(name); f != nil {
		return f.Properties[property]
	}
	return nil
}

// first is the first resource of a type whose requirement names the same
// target as r's.
func (c *checker) first(typ, requirement string, r *stack.Resource) *stack.Resource {
	for _, o := range c.byType[typ] {
		if c.target(o, requirement) == c.target(r, requirement) {
			return o
		}
	}
	return r
}

func prefixOf(v tosca.Value) (netip.Prefix, bool) {
	if v == nil {
		return netip.Prefix{}, false
	}
	p, err := netip.ParsePrefix(tosca.Show(v))
	return p, err == nil
}

func network(c *checker, r *stack.Resource) {
	p, ok := prefixOf(c.value(r, "cidr"))
	switch {
	case !ok:
	case p.Bits() < 8 || p.Bits() > 28:
		c.at(r, "cidr", "bad-range", "use /8 to /28", "%s: the range %s is too large or too small for a network", r.Name, p)
	case p != p.Masked():
		c.at(r, "cidr", "bad-range", "write "+p.Masked().String(), "%s: the range %s does not begin at its first address", r.Name, p)
	}
}

// subnets holds the ranges of subnets against their network and each other.
func (c *checker) subnets() {
	list := c.byType["Subnet"]
	for i, r := range list {
		p, ok := prefixOf(c.value(r, "cidr"))
		if !ok {
			continue
		}
		if p != p.Masked() {
			c.at(r, "cidr", "bad-range", "write "+p.Masked().String(), "%s: the range %s does not begin at its first address", r.Name, p)
			continue
		}
		in := c.target(r, "network")
		if whole, ok := prefixOf(c.of(in, "cidr")); ok && (!whole.Contains(p.Addr()) || p.Bits() < whole.Bits()) {
			c.at(r, "cidr", "range-outside", "choose a range inside it", "%s: the range %s is not inside %s of %s", r.Name, p, whole, in)
		}
		for _, o := range list[:i] {
			if q, ok := prefixOf(c.value(o, "cidr")); ok && c.target(o, "network") == in && q.Overlaps(p) {
				c.at(r, "cidr", "range-overlap", "choose a range that is free", "%s: the range %s overlaps %s of %s", r.Name, p, q, o.Name)
			}
		}
	}
}

// room is how many servers a subnet has addresses for.
func room(p netip.Prefix) int { return max(0, 1<<(32-p.Bits())-5) }

// servers is how many addresses a resource takes in its first subnet.
func (c *checker) servers(r *stack.Resource) int {
	switch r.Type.Name {
	case "Server":
		return 1
	case "ServerGroup":
		n, _ := c.value(r, "want").(tosca.Int)
		return int(n)
	}
	return 0
}

// fullSubnets looks whether all servers find an address.
func (c *checker) fullSubnets() {
	used := map[string]int{}
	for _, r := range c.Resources {
		n := c.servers(r)
		if n == 0 {
			continue
		}
		subnet := c.target(r, "subnet")
		p, ok := prefixOf(c.of(subnet, "cidr"))
		if !ok {
			continue
		}
		before := used[subnet] + c.othersIn(subnet)
		used[subnet] += n
		if before <= room(p) && before+n > room(p) {
			c.at(r, "subnet", "subnet-full", "use a larger subnet", "%s: the subnet %s has room for %d servers, and this would be number %d", r.Name, subnet, room(p), before+n)
		}
	}
}

// sharedAddresses finds public addresses that two servers want.
func (c *checker) sharedAddresses() {
	owner := map[string]string{}
	for _, r := range c.byType["Server"] {
		a := c.target(r, "address")
		if a == "" {
			continue
		}
		if owner[a] != "" {
			c.at(r, "address", "address-taken", "use an address of its own", "%s: the address %s belongs to %s", r.Name, a, owner[a])
		}
		owner[a] = r.Name
	}
}

func ports(c *checker, r *stack.Resource) {
	list, _ := c.value(r, "allow").(tosca.List)
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
			c.at(r, "allow", "bad-ports", "use 1 to 65535, the lower one first", "%s, rule %d: %s are no ports", r.Name, i, text)
		}
	}
}

func route(c *checker, r *stack.Resource) {
	router := c.Resource(c.target(r, "via"))
	if router == nil {
		return
	}
	if on, mine := c.target(router, "network"), c.target(r, "network"); on != mine {
		c.at(r, "via", "wrong-network", "use the router of that network", "%s: the router %s is not in the network %s", r.Name, router.Name, mine)
	}
}

// role holds what a role is for against who takes it on.
func (c *checker) role(r *stack.Resource, want string) {
	name := c.target(r, "role")
	if v := c.of(name, "for"); v != nil && tosca.Show(v) != want {
		c.at(r, "role", "wrong-role", "use a role for a "+want, "%s: the role %s is for a %s, not for a %s", r.Name, name, tosca.Show(v), want)
	}
}

func serverGroup(c *checker, r *stack.Resource) {
	c.role(r, "server")
	low, okLow := c.value(r, "min").(tosca.Int)
	want, okWant := c.value(r, "want").(tosca.Int)
	high, okHigh := c.value(r, "max").(tosca.Int)
	switch {
	case !okLow || !okWant || !okHigh:
	case low > want || want > high:
		c.at(r, "want", "bad-numbers", "make min ≤ want ≤ max", "%s: min %d, want %d, max %d do not fit together", r.Name, low, want, high)
	case want > 100:
		c.at(r, "want", "bad-numbers", "use at most 100", "%s: %d servers are too many for one group", r.Name, want)
	}
}

func listeners(c *checker, r *stack.Resource) {
	seen := map[string]bool{}
	list, _ := c.value(r, "listeners").(tosca.List)
	for _, e := range list {
		l, _ := e.(tosca.Map)
		port := tosca.Show(l["port"])
		if seen[port] {
			c.at(r, "listeners", "port-twice", "give each listener a port of its own", "%s: two listeners want port %s", r.Name, port)
		}
		seen[port] = true
	}
}

func subscription(c *checker, r *stack.Resource) {
	if to := c.text(r, "to"); to != "" && !strings.Contains(to, "@") && !strings.Contains(to, "://") {
		c.at(r, "to", "bad-address", "use a url or a mail address", "%s: a subscription cannot send to '%s'", r.Name, to)
	}
}

// majors are the major versions that there are.
var majors = map[string][]string{"relational": {"13", "14", "15", "16"}, "document": {"6", "7"}, "cluster": {"4", "5", "6", "7"}}

func (c *checker) version(r *stack.Resource, what string) {
	version := c.text(r, "version")
	major, _, _ := strings.Cut(version, ".")
	if known := majors[what]; known != nil && version != "" && !slices.Contains(known, major) {
		if what != "cluster" {
			what += " database"
		}
		c.at(r, "version", "no-such-version", "versions: "+strings.Join(known, ", "), "%s: there is no version %s of a %s", r.Name, version, what)
	}
}

func record(c *checker, r *stack.Resource) {
	list, _ := c.value(r, "values").(tosca.List)
	if c.text(r, "kind") != "A" {
		return
	}
	for _, v := range list {
		if a, err := netip.ParseAddr(tosca.Show(v)); err != nil || !a.Is4() {
			c.at(r, "values", "bad-address", "use kind CNAME for a name", "%s: a record of kind A needs IPv4 addresses, not '%s'", r.Name, tosca.Show(v))
		}
	}
}

func certificate(c *checker, r *stack.Resource) {
	rec := c.Resource(c.target(r, "record"))
	domain := c.text(r, "domain")
	if rec == nil || domain == "" {
		return
	}
	zone := c.of(c.target(rec, "zone"), "domain")
	name := c.text(rec, "name")
	if zone == nil || name == "" {
		return
	}
	fqdn := name + "." + tosca.Show(zone)
	if name == "@" {
		fqdn = tosca.Show(zone)
	}
	if fqdn != domain && !strings.HasSuffix(fqdn, "."+domain) {
		c.at(r, "record", "wrong-record", "use a record in the domain", "%s: the record %s does not prove anything about %s", r.Name, fqdn, domain)
	}
}

func schedule(c *checker, r *stack.Resource) {
	limits := []int{59, 23, 31, 12, 7}
	every := c.text(r, "every")
	for i, p := range strings.Fields(every) {
		p = strings.TrimPrefix(p, "*/")
		if p == "*" || i >= len(limits) {
			continue
		}
		for _, n := range strings.FieldsFunc(p, func(r rune) bool { return r == ',' || r == '-' }) {
			if v, err := strconv.Atoi(n); err != nil || v < 0 || v > limits[i] {
				c.at(r, "every", "bad-schedule", "write minute hour day month weekday, such as 30 2 * * *", "%s: '%s' is no schedule", r.Name, every)
				return
			}
		}
	}
}

func service(c *checker, r *stack.Resource) {
	workload := c.target(r, "workload")
	port, mine := c.of(workload, "port"), c.value(r, "target_port")
	if port != nil && mine != nil && !tosca.Equal(port, tosca.Null{}) && !tosca.Equal(port, mine) {
		c.at(r, "target_port", "wrong-port", "make it "+tosca.Show(port), "%s: the containers of %s listen on port %s, not on %s", r.Name, workload, tosca.Show(port), tosca.Show(mine))
	}
}

// needs holds what a program does when it starts against the grants of its
// role.
func (c *checker) needs(r *stack.Resource) {
	list, _ := c.value(r, "needs").(tosca.List)
	role := c.target(r, "role")
	if r.Type.Name == "Workload" { // it acts as its cluster
		if cluster := c.Resource(c.target(r, "cluster")); cluster != nil {
			role = c.target(cluster, "role")
		} else {
			return
		}
	}
	var allowed []string
	for _, g := range c.byType["Grant"] {
		if c.target(g, "role") != role {
			continue
		}
		actions := c.value(g, "actions")
		if actions == nil {
			return // not known yet
		}
		l, _ := actions.(tosca.List)
		for _, a := range l {
			allowed = append(allowed, tosca.Show(a))
		}
	}
	if role != "" && c.Resource(role) == nil { // a role that is there already
		if c.site == nil {
			return
		}
		allowed = append(allowed, c.site.granted(c.Wanted, role)...)
	}
	for _, need := range list {
		switch {
		case role == "":
			c.at(r, "needs", "permission", "give it a role with a grant of it", "%s needs %s, and has no role", r.Name, tosca.Show(need))
		case !slices.ContainsFunc(allowed, func(a string) bool { return cloud.Covers(a, tosca.Show(need)) }):
			c.at(r, "needs", "permission", fmt.Sprintf("add it to a Grant whose role is %s", role), "%s needs %s, and no grant of the role %s covers it: it would never become healthy", r.Name, tosca.Show(need), role)
		}
	}
}

// unique yields a key that no two resources of a type may share, and the
// property that it is about; "" where it is not known, or there is none.
func (c *checker) unique(r *stack.Resource) (key, property string) {
	switch r.Type.Name {
	case "Bucket":
		return c.text(r, "name"), "name"
	case "Zone":
		return c.text(r, "domain"), "domain"
	case "Record":
		if name := c.text(r, "name"); name != "" {
			return c.target(r, "zone") + "/" + name + "/" + c.text(r, "kind"), "name"
		}
	case "Route":
		if to := c.text(r, "to"); to != "" {
			return c.target(r, "network") + "/" + to, "to"
		}
	}
	return "", ""
}

// twins finds resources of the template that cannot both be.
func (c *checker) twins() {
	seen := map[string]*stack.Resource{}
	for _, r := range c.Resources {
		key, property := c.unique(r)
		if key == "" {
			continue
		}
		key = r.Type.Name + " " + key
		if o := seen[key]; o != nil {
			c.at(r, property, "name-taken", "choose another one", "%s: %s '%s' is what %s has already", r.Name, property, c.text(r, property), o.Name)
			continue
		}
		seen[key] = r
	}
}
