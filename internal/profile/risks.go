package profile

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// ChangeRisks raises what one change lets somebody do or reach.
func (*Profile) ChangeRisks(c *whatif.Comparison, ch *whatif.Change) {
	permissionRisks(c, ch)
	switch ch.Type {
	case "Bucket":
		publicRisk(c, ch)
	case "Subnet":
		publicSubnetRisk(c, ch)
	}
	keepsLess(c, ch)
}

// Risks raises the ports that others can reach.
func (*Profile) Risks(c *whatif.Comparison) { openRisks(c) }

// Conflicts finds ranges, names and networks that what leaves still holds.
func (*Profile) Conflicts(c *whatif.Comparison, ch *whatif.Change) {
	rangeConflict(c, ch)
	routerConflict(c, ch)
	nameConflict(c, ch)
}

// permissionRisks raises what a role may do that it could not do before.
func permissionRisks(c *whatif.Comparison, ch *whatif.Change) {
	if ch.Wanted == nil || ch.Kind == whatif.Same {
		return
	}
	say := func(fix, format string, args ...any) {
		c.Raise(whatif.Risk{Kind: whatif.RiskPermission, Resource: ch.Name, Pos: ch.Pos, Fix: fix,
			Text: fmt.Sprintf(format, args...)})
	}
	for _, p := range ch.Properties {
		if p.Link && p.Property == "role" && ch.Kind != whatif.New && p.Before != nil && p.After != nil &&
			ch.Type != "Grant" && tosca.Show(p.Before) != tosca.Show(p.After) {
			say("look at the grants of the new role", "%s acts as %s, was %s", ch.Name, tosca.Show(p.After),
				tosca.Show(p.Before))
		}
	}
	postgresRisks(ch, say)
	if ch.Type != "Grant" {
		return
	}
	role, on := ch.Wanted.Targets("role"), ch.Wanted.Targets("on")
	fresh := ch.Kind == whatif.New
	if len(role) == 1 && fresh {
		if up := c.Change(role[0]); up == nil || up.Kind == whatif.New { // nobody acts as it yet
			role = nil
		}
	}
	now, _ := ch.Wanted.Value("actions").(tosca.List)
	before, _ := ch.Was("actions").(tosca.List)
	var added, wild []string
	for _, a := range now {
		if slices.ContainsFunc(before, func(b tosca.Value) bool { return tosca.Equal(a, b) }) {
			continue
		}
		if text := tosca.InClear(a); strings.Contains(text, "*") {
			wild = append(wild, text)
		} else {
			added = append(added, text)
		}
	}
	if len(wild) > 0 {
		say("name the actions that are needed", "%s allows everything that %s stands for, on %s", ch.Name,
			strings.Join(wild, " and "), whatif.Few(on))
	}
	if len(added) > 0 && len(role) > 0 {
		say("", "%s lets %s do %s on %s", ch.Name, role[0], strings.Join(added, " and "), whatif.Few(on))
	}
	for _, p := range ch.Properties {
		if p.Link && p.Property == "on" && !fresh {
			var more []string
			for _, n := range names(p.After) {
				if !slices.Contains(names(p.Before), n) {
					more = append(more, n)
				}
			}
			if len(more) > 0 {
				say("", "%s reaches %s too", ch.Name, whatif.Few(more))
			}
		}
	}
}

// names lists the names of a link as it stands in a change.
func names(v tosca.Value) []string {
	switch v := v.(type) {
	case tosca.String:
		return strings.Split(string(v), ", ")
	case tosca.List:
		out := make([]string, len(v))
		for i, e := range v {
			out[i] = tosca.Show(e)
		}
		return out
	}
	return nil
}

func publicRisk(c *whatif.Comparison, ch *whatif.Change) {
	if ch.Wanted == nil || !tosca.Equal(ch.Wanted.Value("public_read"), tosca.Bool(true)) {
		return
	}
	standing := ch.Kind == whatif.Same || tosca.Equal(ch.Was("public_read"), tosca.Bool(true))
	c.Raise(whatif.Risk{Kind: whatif.RiskOpen, Resource: ch.Name, Pos: ch.Pos, Standing: standing,
		Text: ch.Name + " can be read by everyone", Fix: "set public_read to false"})
}

// keepsLess raises that what is older than is kept from now on goes at once.
func keepsLess(c *whatif.Comparison, ch *whatif.Change) {
	if c.Comparing || ch.Wanted == nil || ch.Recorded == nil || ch.Kind != whatif.Edit {
		return
	}
	for _, p := range ch.Properties {
		if p.Property != "keep_days" && p.Property != "backup_days" {
			continue
		}
		was, before := p.Before.(tosca.Int)
		is, after := p.After.(tosca.Int)
		what := map[string]string{"keep_days": "what it holds", "backup_days": "backups"}[p.Property]
		switch {
		case !after, before && is >= was, !before && p.Property == "backup_days":
			continue
		case !before:
			c.Raise(whatif.Risk{Kind: whatif.RiskData, Resource: ch.Name, Pos: ch.Pos, Fix: "copy what is needed from it first",
				Text: fmt.Sprintf("%s keeps %s for %d days, and kept it for ever: what is older goes", ch.Name, what, is)})
		default:
			c.Raise(whatif.Risk{Kind: whatif.RiskData, Resource: ch.Name, Pos: ch.Pos, Fix: "copy what is needed from it first",
				Text: fmt.Sprintf("%s keeps %s for %d days, and kept it for %d: what is older goes", ch.Name, what, is, was)})
		}
	}
}

// publicSubnetRisk raises a subnet that becomes public: what is in it may be
// reached from outside then.
func publicSubnetRisk(c *whatif.Comparison, ch *whatif.Change) {
	if ch.Wanted == nil || !bareTrue(ch.Wanted.Value("public")) {
		return
	}
	r := whatif.Risk{Kind: whatif.RiskOpen, Resource: ch.Name, Pos: ch.Pos,
		Text: ch.Name + " becomes public: what is in it can be reached from outside, where its rules let it",
		Fix:  "set public to false"}
	if ch.Recorded == nil {
		r.Text = ch.Name + " is public: what is in it can be reached from outside, where its rules let it"
	}
	if r.Standing = ch.Kind == whatif.Same || bareTrue(ch.Was("public")); r.Standing {
		r.Text = ch.Name + " is public"
	}
	if p := ch.Wanted.Property("public"); p != nil {
		r.Pos = p.Pos
	}
	if users := c.Users(ch.Name); len(users) > 0 {
		r.Text += " (" + whatif.Few(users) + ")"
	}
	c.Raise(r)
}

func bareTrue(v tosca.Value) bool {
	v, _ = tosca.Bare(v)
	return v == tosca.Value(tosca.Bool(true))
}

// openRisks raises the ports that everyone can reach, per rules and port, with
// the resources behind them: those that become reachable apart from those that
// were before.
func openRisks(c *whatif.Comparison) {
	users := map[string][]string{} // of rules, as wanted
	for i := range c.Set.Changes {
		if ch := &c.Set.Changes[i]; ch.Wanted != nil && ch.Type != "Rules" {
			for _, r := range ch.Wanted.Targets("rules") {
				users[r] = append(users[r], ch.Name)
			}
		}
	}
	// what could be reached before, by resource and port
	reached := map[string]bool{}
	for i := range c.Set.Changes {
		ch := &c.Set.Changes[i]
		if ch.Recorded == nil {
			continue
		}
		for _, l := range ch.Recorded.Links["rules"] {
			if rules := c.Change(l.Name); rules != nil && rules.Recorded != nil {
				for _, port := range openPorts(rules.Was("allow")) {
					reached[ch.Name+" "+port] = true
				}
			}
		}
		if ch.Type == "Rules" {
			for _, port := range openPorts(ch.Was("allow")) {
				reached[ch.Name+" "+port] = true
			}
		}
	}
	for i := range c.Set.Changes {
		ch := &c.Set.Changes[i]
		if ch.Type != "Rules" || ch.Wanted == nil {
			continue
		}
		widerRisks(c, ch)
		for _, port := range openPorts(ch.Wanted.Value("allow")) {
			var fresh, standing []string
			for _, u := range users[ch.Name] {
				if reached[u+" "+port] {
					standing = append(standing, u)
				} else {
					fresh = append(fresh, u)
				}
			}
			r := whatif.Risk{Kind: whatif.RiskOpen, Resource: ch.Name, Pos: ch.Pos,
				Fix:  "narrow the peer of the rule",
				Text: fmt.Sprintf("%s lets everyone (0.0.0.0/0) reach %s", ch.Name, port)}
			if prop := ch.Wanted.Property("allow"); prop != nil {
				r.Pos = prop.Pos
			}
			switch {
			case len(fresh) > 0:
				r.Text += " of " + whatif.Few(fresh)
			case reached[ch.Name+" "+port]:
				r.Standing = true
				if len(standing) > 0 {
					r.Text += " of " + whatif.Few(standing)
				}
			}
			c.Raise(r)
		}
	}
}

// widerRisks raises the ports of rules that are there already and that more can
// reach than before, though not everyone: because the peer of a rule is another
// one, or because addresses outside of private networks come in.
func widerRisks(c *whatif.Comparison, ch *whatif.Change) {
	if ch.Recorded == nil || ch.Kind == whatif.Same {
		return
	}
	before := letIn(ch.Was("allow"))
	for _, now := range letIn(ch.Wanted.Value("allow")) {
		if now.peer.Bits() == 0 {
			continue // told apart
		}
		var others []string
		covered := false
		for _, old := range before {
			if !old.opens(now) {
				continue
			}
			if old.peer.Bits() <= now.peer.Bits() && old.peer.Contains(now.peer.Addr()) {
				covered = true
			}
			others = append(others, old.peer.String())
		}
		if covered || len(others) == 0 && now.peer.Addr().IsPrivate() {
			continue
		}
		r := whatif.Risk{Kind: whatif.RiskOpen, Resource: ch.Name, Pos: ch.Pos, Fix: "narrow the peer of the rule",
			Text: fmt.Sprintf("%s lets %s reach %s", ch.Name, now.peer, now.port)}
		if len(others) > 0 {
			r.Text += ", which only " + whatif.Few(others) + " could"
		}
		if prop := ch.Wanted.Property("allow"); prop != nil {
			r.Pos = prop.Pos
		}
		c.Raise(r)
	}
}

// gap is one rule that lets traffic in.
type gap struct {
	port, protocol string
	low, high      int
	peer           netip.Prefix
}

// opens reports whether a gap lets the ports of another one through.
func (g gap) opens(o gap) bool {
	return g.low <= o.low && o.high <= g.high && (g.protocol == "any" || g.protocol == o.protocol)
}

// letIn lists the rules that let traffic in.
func letIn(allow tosca.Value) []gap {
	allow, _ = tosca.Bare(allow)
	list, _ := allow.(tosca.List)
	var out []gap
	for _, e := range list {
		rule, _ := e.(tosca.Map)
		peer, err := netip.ParsePrefix(tosca.Show(rule["peer"]))
		if err != nil || tosca.Show(rule["direction"]) == "out" {
			continue
		}
		g := gap{port: portWords(rule), protocol: tosca.Show(rule["protocol"]), low: 1, high: 65535, peer: peer}
		if ports := tosca.Show(rule["ports"]); ports != "any" {
			low, high, isRange := strings.Cut(ports, "-")
			if !isRange {
				high = low
			}
			var errs [2]error
			g.low, errs[0] = strconv.Atoi(low)
			g.high, errs[1] = strconv.Atoi(high)
			if errs[0] != nil || errs[1] != nil {
				continue
			}
		}
		out = append(out, g)
	}
	return out
}

// portWords says which ports a rule is about: "ports 8000-8010 (tcp)".
func portWords(rule tosca.Map) string {
	ports := tosca.Show(rule["ports"])
	word := "port "
	if ports == "any" {
		word = "port: "
	} else if strings.Contains(ports, "-") {
		word = "ports "
	}
	return word + ports + " (" + tosca.Show(rule["protocol"]) + ")"
}

func openPorts(allow tosca.Value) []string {
	allow, _ = tosca.Bare(allow)
	list, _ := allow.(tosca.List)
	var out []string
	for _, e := range list {
		rule, _ := e.(tosca.Map)
		if tosca.Show(rule["direction"]) != "out" && strings.HasSuffix(tosca.Show(rule["peer"]), "/0") {
			out = append(out, portWords(rule))
		}
	}
	return out
}

// rangeConflict finds a subnet whose range is still held by one that leaves the
// same network in the sweep at the end.
func rangeConflict(c *whatif.Comparison, ch *whatif.Change) {
	if ch.Type != "Subnet" {
		return
	}
	p := ch.Wanted.Property("cidr")
	if p == nil || len(ch.Wanted.Links) == 0 || len(ch.Wanted.Links[0].Targets) == 0 {
		return
	}
	wanted, err := netip.ParsePrefix(tosca.InClear(p.Value))
	if err != nil {
		return
	}
	network := c.ID(ch.Wanted.Links[0].Targets[0])
	for _, old := range leaving(c) {
		if old.Type != "Subnet" || len(old.Links["network"]) == 0 || old.Links["network"][0].ID != network {
			continue
		}
		if held, err := netip.ParsePrefix(tosca.InClear(old.Properties["cidr"])); err == nil && held.Overlaps(wanted) {
			c.Set.Findings.Errorf(p.Pos, "range-still-taken",
				"choose a range that is free, or deploy without "+old.Name+" first",
				"%s wants %s, and %s holds %s until the sweep at the end", ch.Name, wanted, old.Name, held)
		}
	}
}

// routerConflict finds a network whose one router leaves it at the end of the run only.
func routerConflict(c *whatif.Comparison, ch *whatif.Change) {
	if ch.Type != "Router" || len(ch.Wanted.Targets("network")) == 0 {
		return
	}
	network := ch.Wanted.Targets("network")[0]
	id, up := c.ID(network), c.Change(network)
	if id == "" || up != nil && (up.Kind == whatif.New || up.Kind == whatif.Swap) { // the network is still to be made
		return
	}
	for _, old := range leaving(c) {
		if old.Type == "Router" && slices.ContainsFunc(old.Links["network"], func(l stack.LinkTo) bool { return l.ID == id }) {
			c.Set.Findings.Errorf(ch.Pos, "one-router", "keep the name of the node, or deploy without "+old.Name+" first",
				"%s is to be the router of %s, and %s is that until the end of the run", ch.Name, network, old.Name)
		}
	}
}

// leaving are the resources that are there until the end of the run.
func leaving(c *whatif.Comparison) []*stack.Recorded {
	out := slices.Clone(c.Old)
	for _, other := range c.Set.Changes {
		if other.Recorded != nil && (other.Kind == whatif.Drop || other.Kind == whatif.Swap && !other.DropFirst) {
			out = append(out, other.Recorded)
		}
	}
	return out
}

// nameConflict raises names within something else that what leaves holds until the end of
// the run.
func nameConflict(c *whatif.Comparison, ch *whatif.Change) {
	place, property := "", ""
	switch ch.Type {
	case "Record":
		place, property = "zone", "name"
	case "Route":
		place, property = "network", "to"
	case "Zone":
		property = "domain"
	case "DnsRecords":
		place, property = stack.Through, "name"
	default:
		if place, property = uniqueIn(ch.Wanted.Type); place == "" {
			return
		}
	}
	p := ch.Wanted.Property(property)
	if p == nil {
		return
	}
	in := ""
	if place != "" {
		targets := ch.Wanted.Targets(place)
		if len(targets) != 1 {
			return
		}
		up := c.Change(targets[0])
		if in = c.ID(targets[0]); in == "" || up != nil && (up.Kind == whatif.New || up.Kind == whatif.Swap) { // it is still to be made
			return
		}
	}
	for _, old := range leaving(c) {
		switch {
		case old.Type != ch.Type || !stack.Same(old.Properties[property], p.Value):
		case place != "" && !slices.ContainsFunc(old.Links[place], func(l stack.LinkTo) bool { return l.ID == in }):
		case ch.Type == "DnsRecords" && !stack.Same(old.Properties["zone"], ch.Wanted.Value("zone")):
		case (ch.Type == "Record" || ch.Type == "DnsRecords") && !exclude(tosca.InClear(old.Properties["kind"]), tosca.InClear(ch.Wanted.Value("kind"))):
		default:
			c.Set.Findings.Errorf(p.Pos, "name-still-taken", "choose another "+property+", keep the name of the node, or deploy without "+old.Name+" first",
				"%s wants the %s '%s', and %s holds it until the end of the run", ch.Name, property, tosca.Show(p.Value), old.Name)
		}
	}
}

// postgresRisks raises what a role of a PostgreSQL server may do that it could not do before.
func postgresRisks(ch *whatif.Change, say func(fix, format string, args ...any)) {
	switch ch.Type {
	case "PostgresRole":
		for _, may := range [][2]string{{"superuser", "do everything in its server"}, {"create_roles", "make roles"}, {"bypass_row_security", "see every row"}, {"replication", "copy the whole server"}} {
			if stack.Same(ch.Wanted.Value(may[0]), tosca.Bool(true)) && !stack.Same(ch.Was(may[0]), tosca.Bool(true)) {
				say("", "%s may %s", ch.Name, may[1])
			}
		}
		for _, p := range ch.Properties {
			if p.Property == "member_of" && ch.Kind != whatif.New && p.After != nil {
				say("", "%s may do what %s may", ch.Name, tosca.Show(p.After))
			}
		}
	case "PostgresGrant":
		for _, p := range ch.Properties {
			if p.Property == "privileges" && ch.Kind != whatif.New && p.After != nil && !stack.Same(p.Before, p.After) {
				say("", "%s lets %s do %s on %s", ch.Name, whatif.Few(ch.Wanted.Targets("to")), tosca.Show(p.After), whatif.Few(ch.Wanted.Targets("on")))
			}
		}
	}
}
