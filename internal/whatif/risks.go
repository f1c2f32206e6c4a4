package whatif

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// RiskKind tells what a risk is.
type RiskKind string

// The kinds of risk.
const (
	RiskData         RiskKind = "data"         // data goes, or does not move along
	RiskInterruption RiskKind = "interruption" // something that others rely on is away for a while
	RiskOpen         RiskKind = "open"         // everyone can reach what they could not
	RiskPermission   RiskKind = "permission"   // somebody may do more
	RiskSecret       RiskKind = "secret"       // a secret changes
	RiskCareful      RiskKind = "careful"      // the target is a careful one
)

// DataLost lists the risks that data goes for good.
func (c *ChangeSet) DataLost() []Risk {
	var out []Risk
	for _, r := range c.Risks {
		if r.Kind == RiskData {
			out = append(out, r)
		}
	}
	return out
}

// risks raises what should be looked at.
func (c *comparer) risks() {
	if c.Careful && !c.set.Empty() {
		c.raise(Risk{Kind: RiskCareful, Text: fmt.Sprintf("%s in %s is careful", c.set.Stack, c.set.Target)})
	}
	for i := range c.set.Changes {
		ch := &c.set.Changes[i]
		if !c.Comparing {
			c.dataRisk(ch)
			c.interruptionRisk(ch)
			c.secretRisks(ch)
		}
		c.permissionRisks(ch)
		switch ch.Type {
		case "Bucket":
			c.publicRisk(ch)
		case "Subnet":
			c.publicSubnetRisk(ch)
		}
	}
	c.openRisks()
}

func (c *comparer) raise(r Risk) {
	if r.Standing {
		c.set.Standing = append(c.set.Standing, r)
		return
	}
	c.set.Risks = append(c.set.Risks, r)
}

func (c *comparer) dataRisk(ch *Change) {
	if ch.Recorded == nil {
		return
	}
	t := c.Wanted.File.Library.Nodes[ch.Recorded.Type]
	if t == nil || t.Metadata["holds_data"] != "true" {
		return
	}
	kept := ch.Recorded.Keep || ch.Wanted != nil && ch.Wanted.Keep
	r := Risk{Kind: RiskData, Resource: ch.Name, Pos: ch.Pos}
	switch {
	case ch.Kind == Swap && kept:
		r.Text = ch.Name + " is swapped; the old one stays in the cloud, what it holds does not move by itself"
		r.Mend = "move the data afterwards, then remove the old one by hand"
	case ch.Kind == Swap:
		r.Text = ch.Name + " is swapped; what it holds does not move by itself and goes with the old one"
		r.Mend = "give it the policy Keep and deploy that first, so that the old one stays"
	case ch.Kind == Drop:
		r.Text = ch.Name + " is removed with all it holds; the policy Keep would leave it"
		r.Mend = "give it the policy Keep and deploy that first"
	default:
		return
	}
	c.raise(r)
}

// interruptionRisk raises edits that restart something that others rely on.
func (c *comparer) interruptionRisk(ch *Change) {
	if ch.Kind != Edit || len(ch.Properties) == 0 {
		return
	}
	var what []string
	for _, p := range ch.Properties {
		if d := ch.Wanted.Type.Property(p.Property); d != nil && !p.Link && d.Metadata["restarts"] == "true" && !slices.Contains(what, p.Property) {
			what = append(what, p.Property)
		}
	}
	if len(what) == 0 {
		return
	}
	text := fmt.Sprintf("%s restarts when its %s changes, and is away meanwhile", ch.Name, strings.Join(what, " and "))
	if users := c.users(ch.Name); len(users) > 0 {
		text += " for " + few(users)
	}
	c.raise(Risk{Kind: RiskInterruption, Resource: ch.Name, Pos: ch.Pos, Mend: "deploy it when nobody needs it", Text: text})
}

// users lists what rests on a resource.
func (c *comparer) users(name string) []string {
	if c.dependents == nil {
		c.dependents = c.set.Graph().Dependents()
	}
	return slices.Clone(c.dependents[name])
}

// few is a list of names that is not too long.
func few(names []string) string {
	stack.SortNames(names)
	if len(names) > 4 {
		return fmt.Sprintf("%s and %d others", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}

// was is what a property of a resource is now: in the cloud where it was
// asked, in the record otherwise.
func (ch *Change) was(property string) tosca.Value {
	switch {
	case ch.Live != nil:
		return ch.Live.Properties[property]
	case ch.Recorded != nil:
		return ch.Recorded.Properties[property]
	}
	return nil
}

// permissionRisks raises what a role may do that it could not do before.
func (c *comparer) permissionRisks(ch *Change) {
	if ch.Wanted == nil || ch.Kind == Same {
		return
	}
	say := func(mend, format string, args ...any) {
		c.raise(Risk{Kind: RiskPermission, Resource: ch.Name, Pos: ch.Pos, Mend: mend, Text: fmt.Sprintf(format, args...)})
	}
	for _, p := range ch.Properties {
		if p.Link && p.Property == "role" && ch.Kind != New && p.Before != nil && p.After != nil && ch.Type != "Grant" && tosca.Show(p.Before) != tosca.Show(p.After) {
			say("look at the grants of the new role", "%s acts as %s, was %s", ch.Name, tosca.Show(p.After), tosca.Show(p.Before))
		}
	}
	if ch.Type != "Grant" {
		return
	}
	role, on := ch.Wanted.Targets("role"), ch.Wanted.Targets("on")
	fresh := ch.Kind == New
	if len(role) == 1 && fresh {
		if up := c.change(role[0]); up == nil || up.Kind == New { // nobody acts as it yet
			role = nil
		}
	}
	now, _ := value(ch.Wanted, "actions").(tosca.List)
	before, _ := ch.was("actions").(tosca.List)
	var added, wild []string
	for _, a := range now {
		if slices.ContainsFunc(before, func(b tosca.Value) bool { return tosca.Equal(a, b) }) {
			continue
		}
		if text := bareText(a); strings.Contains(text, "*") {
			wild = append(wild, text)
		} else {
			added = append(added, text)
		}
	}
	if len(wild) > 0 {
		say("name the actions that are needed", "%s allows everything that %s stands for, on %s", ch.Name, strings.Join(wild, " and "), few(on))
	}
	if len(added) > 0 && len(role) > 0 {
		say("", "%s lets %s do %s on %s", ch.Name, role[0], strings.Join(added, " and "), few(on))
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
				say("", "%s reaches %s too", ch.Name, few(more))
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

func value(res *stack.Resource, name string) tosca.Value {
	if p := res.Property(name); p != nil {
		return p.Value
	}
	return nil
}

// secretRisks raises secrets that change: what uses them must learn it.
func (c *comparer) secretRisks(ch *Change) {
	if ch.Kind != Edit && ch.Kind != Swap && ch.Kind != Adopt || ch.Wanted == nil {
		return
	}
	for _, p := range ch.Properties {
		if p.Before == nil || p.After == nil || !tosca.HasSecret(p.After) && !tosca.HasSecret(p.Before) {
			continue
		}
		users := c.users(ch.Name)
		text := fmt.Sprintf("%s of %s is another secret", p.Path, ch.Name)
		if len(users) > 0 {
			text += "; " + few(users) + " may need to learn it"
		}
		c.raise(Risk{Kind: RiskSecret, Resource: ch.Name, Pos: ch.Pos, Text: text, Mend: "see that nobody goes on with the old one"})
	}
}

func (c *comparer) publicRisk(ch *Change) {
	if ch.Wanted == nil || !tosca.Equal(value(ch.Wanted, "public_read"), tosca.Bool(true)) {
		return
	}
	standing := ch.Kind == Same || tosca.Equal(ch.was("public_read"), tosca.Bool(true))
	c.raise(Risk{Kind: RiskOpen, Resource: ch.Name, Pos: ch.Pos, Standing: standing, Text: ch.Name + " can be read by everyone", Mend: "set public_read to false"})
}

// publicSubnetRisk raises a subnet that becomes public: what is in it may be
// reached from outside then.
func (c *comparer) publicSubnetRisk(ch *Change) {
	if ch.Wanted == nil || ch.Recorded == nil || !bareTrue(value(ch.Wanted, "public")) {
		return
	}
	r := Risk{Kind: RiskOpen, Resource: ch.Name, Pos: ch.Pos, Text: ch.Name + " becomes public: what is in it can be reached from outside, where its rules let it", Mend: "set public to false"}
	if r.Standing = ch.Kind == Same || bareTrue(ch.was("public")); r.Standing {
		r.Text = ch.Name + " is public"
	}
	if p := ch.Wanted.Property("public"); p != nil {
		r.Pos = p.Pos
	}
	if users := c.users(ch.Name); len(users) > 0 {
		r.Text += " (" + few(users) + ")"
	}
	c.raise(r)
}

func bareTrue(v tosca.Value) bool {
	v, _ = tosca.Bare(v)
	return v == tosca.Value(tosca.Bool(true))
}

// openRisks raises the ports that everyone can reach, per rules and port, with
// the resources behind them: those that become reachable apart from those that
// were before.
func (c *comparer) openRisks() {
	users := map[string][]string{} // of rules, as wanted
	for i := range c.set.Changes {
		if ch := &c.set.Changes[i]; ch.Wanted != nil && ch.Type != "Rules" {
			for _, r := range ch.Wanted.Targets("rules") {
				users[r] = append(users[r], ch.Name)
			}
		}
	}
	// what could be reached before, by resource and port
	reached := map[string]bool{}
	for i := range c.set.Changes {
		ch := &c.set.Changes[i]
		if ch.Recorded == nil {
			continue
		}
		for _, l := range ch.Recorded.Links["rules"] {
			if rules := c.change(l.Name); rules != nil && rules.Recorded != nil {
				for _, port := range openPorts(rules.was("allow")) {
					reached[ch.Name+" "+port] = true
				}
			}
		}
		if ch.Type == "Rules" {
			for _, port := range openPorts(ch.was("allow")) {
				reached[ch.Name+" "+port] = true
			}
		}
	}
	for i := range c.set.Changes {
		ch := &c.set.Changes[i]
		if ch.Type != "Rules" || ch.Wanted == nil {
			continue
		}
		c.widerRisks(ch)
		for _, port := range openPorts(value(ch.Wanted, "allow")) {
			var fresh, standing []string
			for _, u := range users[ch.Name] {
				if reached[u+" "+port] {
					standing = append(standing, u)
				} else {
					fresh = append(fresh, u)
				}
			}
			r := Risk{Kind: RiskOpen, Resource: ch.Name, Pos: ch.Pos, Mend: "narrow the peer of the rule", Text: fmt.Sprintf("%s lets everyone (0.0.0.0/0) reach %s", ch.Name, port)}
			if prop := ch.Wanted.Property("allow"); prop != nil {
				r.Pos = prop.Pos
			}
			switch {
			case len(fresh) > 0:
				r.Text += " of " + few(fresh)
			case reached[ch.Name+" "+port]:
				r.Standing = true
				if len(standing) > 0 {
					r.Text += " of " + few(standing)
				}
			}
			c.raise(r)
		}
	}
}

// widerRisks raises the ports of rules that are there already and that more can
// reach than before, though not everyone: because the peer of a rule is another
// one, or because addresses outside of private networks come in.
func (c *comparer) widerRisks(ch *Change) {
	if ch.Recorded == nil || ch.Kind == Same {
		return
	}
	before := letIn(ch.was("allow"))
	for _, now := range letIn(value(ch.Wanted, "allow")) {
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
		r := Risk{Kind: RiskOpen, Resource: ch.Name, Pos: ch.Pos, Mend: "narrow the peer of the rule", Text: fmt.Sprintf("%s lets %s reach %s", ch.Name, now.peer, now.port)}
		if len(others) > 0 {
			r.Text += ", which only " + few(others) + " could"
		}
		if prop := ch.Wanted.Property("allow"); prop != nil {
			r.Pos = prop.Pos
		}
		c.raise(r)
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
