package precheck

import (
	"slices"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Site is what is known of a target.
type Site struct {
	Target stack.Target
	Stack  string // the one that is looked at
	About  *cloud.About
	All    []*stack.Live // everything that the target has
	// Taken tells for names that are unique in the whole cloud, by type/name,
	// the id of the owner, or "?" where it is in another account.
	Taken map[string]string
	byID  map[string]*stack.Live
}

// Named lists the names of the wanted resources that are unique in the whole
// cloud, as type and name.
func Named(w *stack.Wanted) [][2]string {
	c := newChecker(w)
	var out [][2]string
	for _, r := range w.Resources {
		for _, d := range r.Type.Properties {
			if name := c.text(r, d.Name); d.Metadata["cloud_name"] == "true" && name != "" {
				out = append(out, [2]string{r.Type.Name, name})
			}
		}
	}
	return out
}

func (s *Site) live(id string) *stack.Live {
	if s.byID == nil {
		s.byID = make(map[string]*stack.Live, len(s.All))
		for _, l := range s.All {
			s.byID[l.ID] = l
		}
	}
	return s.byID[id]
}

// Of is what the target has of a stack, by id.
func (s *Site) Of(name string) map[string]*stack.Live {
	out := map[string]*stack.Live{}
	for _, l := range s.All {
		if l.Tags["stack"] == name {
			out[l.ID] = l
		}
	}
	return out
}

// foreign reports whether a resource belongs to another stack, or to none.
func (s *Site) foreign(l *stack.Live) bool { return l.Tags["stack"] != s.Stack }

// granted lists the actions that grants of other stacks give to a role that is
// selected.
func (s *Site) granted(w *stack.Wanted, role string) []string {
	found := w.Existing(role)
	if found == nil {
		return nil
	}
	var out []string
	for _, l := range s.All {
		if l.Type == "Grant" && slices.Contains(l.Links["role"], found.ID) {
			list, _ := l.Properties["actions"].(tosca.List)
			for _, a := range list {
				out = append(out, tosca.Show(a))
			}
		}
	}
	return out
}

// id is the cloud id of a resource by name; "" where it is still to be made.
func (c *checker) id(cs *whatif.ChangeSet, name string) string {
	if f := c.Existing(name); f != nil {
		return f.ID
	}
	if ch := cs.Change(name); ch != nil && ch.Recorded != nil && ch.Kind != whatif.New && ch.Kind != whatif.Swap {
		return ch.Recorded.ID
	}
	return ""
}

// othersIn is how many addresses of a subnet others have.
func (c *checker) othersIn(subnet string) int {
	found := c.Existing(subnet)
	if c.site == nil || found == nil {
		return 0
	}
	n := 0
	for _, l := range c.site.All {
		if !c.site.foreign(l) || !slices.Contains(l.Links["subnet"], found.ID) {
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

// Against reports what the target would refuse of a change set: all that Rules
// reports, and what depends on what is there.
//
// With partial parts of the template could not be read, so that nothing is known
// of what would be removed.
func Against(s *Site, w *stack.Wanted, cs *whatif.ChangeSet, partial bool) tosca.Findings {
	c := newChecker(w)
	c.site, c.partial = s, partial
	c.rules()
	c.quotas(cs)
	for i := range cs.Changes {
		ch := &cs.Changes[i]
		if partial && ch.Wanted == nil {
			continue
		}
		c.permissions(ch)
		c.leaving(ch)
		if ch.Wanted == nil || ch.Kind == whatif.Same {
			continue
		}
		c.image(ch.Wanted)
		c.taken(cs, ch)
		c.neighbours(cs, ch)
		c.ready(cs, ch.Wanted)
	}
	return c.told()
}

// quotas holds what is made against what is left. What a swap replaces is
// there until the end.
func (c *checker) quotas(cs *whatif.ChangeSet) {
	made := map[string][]*whatif.Change{}
	var addresses []*whatif.Change
	for i := range cs.Changes {
		ch := &cs.Changes[i]
		if ch.Kind != whatif.New && ch.Kind != whatif.Swap {
			continue
		}
		made[ch.Type] = append(made[ch.Type], ch)
		if t := ch.Wanted.Type; t.Name == "Router" || t.Name == "Address" || t.Name == "LoadBalancer" || t.Name == "Service" {
			addresses = append(addresses, ch)
		}
	}
	for _, l := range c.site.About.Limits {
		if n, left := len(made[l.Type]), l.Most-l.Used; n > left {
			mend := "remove some that are not needed, or use another region"
			if slices.ContainsFunc(made[l.Type], func(ch *whatif.Change) bool { return ch.Kind == whatif.Swap }) {
				mend += "; the old part of a swap is there until the end"
			}
			c.findings.Errorf(made[l.Type][max(0, left)].Pos, "quota", mend, "this makes %d of %s, and of the %d there can be in %s %d are left", n, l.Type, l.Most, c.site.Target, max(0, left))
		}
	}
	if free := c.site.About.FreeAddresses; len(addresses) > free {
		c.findings.Errorf(addresses[free].Pos, "no-address", "remove some that are not needed, or use another region", "this takes %d public addresses, and %d are left in %s", len(addresses), free, c.site.Target)
	}
}

// permissions holds what a change takes against what the credentials may do.
func (c *checker) permissions(ch *whatif.Change) {
	verbs := map[whatif.Kind][]string{whatif.New: {cloud.VerbCreate}, whatif.Edit: {cloud.VerbChange}, whatif.Adopt: {cloud.VerbChange},
		whatif.Swap: {cloud.VerbCreate, cloud.VerbRemove}, whatif.Drop: {cloud.VerbRemove}}[ch.Kind]
	for _, verb := range verbs {
		if need := cloud.Action(ch.Type, verb); !c.site.About.May(need) {
			c.findings.Errorf(ch.Pos, "not-permitted", "ask for it, or use other credentials", "%s: the credentials of %s lack %s", ch.Name, c.site.Target.Account, need)
		}
	}
}

// leaving reports what others use and would be removed.
func (c *checker) leaving(ch *whatif.Change) {
	if ch.Kind != whatif.Drop && ch.Kind != whatif.Swap || ch.Recorded == nil || ch.Recorded.Keep {
		return
	}
	l := c.site.live(ch.Recorded.ID)
	if l == nil {
		return
	}
	for _, id := range l.UsedBy {
		if user := c.site.live(id); user != nil && c.site.foreign(user) {
			owner := "nobody's stack"
			if user.Tags["stack"] != "" {
				owner = "the stack " + user.Tags["stack"]
			}
			c.findings.Errorf(ch.Pos, "in-use", "change it there first", "%s cannot be removed: it is used by %s (%s) of %s", ch.Name, user.Node, id, owner)
		}
	}
}

func (c *checker) image(r *stack.Resource) {
	want := c.text(r, "image")
	if want == "" || r.Type.Name != "Server" && r.Type.Name != "ServerGroup" {
		return
	}
	var known []string
	for _, i := range c.site.About.Images {
		known = append(known, tosca.Show(tosca.FromJSON(i.Properties["name"])))
	}
	if !slices.Contains(known, want) {
		mend := "images here: " + strings.Join(known, ", ")
		c.at(r, "image", "no-such-image", mend, "%s: there is no image %s in %s", r.Name, want, c.site.Target.Region)
	}
}

// taken reports names that belong to something else. What this stack itself
// holds until the end of the run is told by the comparison.
func (c *checker) taken(cs *whatif.ChangeSet, ch *whatif.Change) {
	r := ch.Wanted
	_, property := c.unique(r)
	if property == "" {
		return
	}
	say := func(who string) {
		c.at(r, property, "name-taken", "choose another one", "%s: %s '%s' is taken by %s", r.Name, property, c.text(r, property), who)
	}
	if name := c.text(r, property); r.Type.Property(property).Metadata["cloud_name"] == "true" {
		id := c.site.Taken[r.Type.Name+"/"+name]
		switch l := c.site.live(id); {
		case id == "":
		case id == "?":
			say("another account")
		case l == nil || c.site.foreign(l) && !c.kept(ch, id):
			say(id)
		}
		return
	}
	for _, l := range c.site.All {
		if l.Type != r.Type.Name || !c.site.foreign(l) || c.kept(ch, l.ID) || bareText(l.Properties[property]) != c.text(r, property) {
			continue
		}
		same := true
		for requirement, name := range map[string]string{"zone": "Record", "network": "Route"} {
			if r.Type.Name == name {
				id := c.id(cs, c.target(r, requirement))
				same = id != "" && slices.Contains(l.Links[requirement], id)
			}
		}
		if r.Type.Name == "Record" && bareText(l.Properties["kind"]) != c.text(r, "kind") {
			same = false
		}
		if same {
			say(l.ID)
		}
	}
}

func bareText(v tosca.Value) string {
	bare, _ := tosca.Bare(v)
	return tosca.Show(bare)
}

// kept reports whether a resource is the one that a change takes back.
func (c *checker) kept(ch *whatif.Change, id string) bool {
	return ch.Recorded != nil && ch.Recorded.ID == id
}

// neighbours looks at what stands beside a resource already in what it rests
// on, made by others.
func (c *checker) neighbours(cs *whatif.ChangeSet, ch *whatif.Change) {
	r := ch.Wanted
	switch r.Type.Name {
	case "Subnet", "Router":
		id := c.id(cs, c.target(r, "network"))
		p, known := prefixOf(c.value(r, "cidr"))
		for _, l := range c.site.All {
			if id == "" || l.Type != r.Type.Name || !c.site.foreign(l) || !slices.Contains(l.Links["network"], id) {
				continue
			}
			if l.Type == "Router" {
				c.at(r, "network", "one-router", "use the router that is there", "%s: the network %s has a router already: %s", r.Name, id, l.ID)
			} else if q, ok := prefixOf(l.Properties["cidr"]); ok && known && q.Overlaps(p) {
				c.at(r, "cidr", "range-overlap", "choose a range that is free", "%s: the range %s overlaps %s of %s", r.Name, p, q, l.ID)
			}
		}
	case "Server":
		id := c.id(cs, c.target(r, "address"))
		l := c.site.live(id)
		if l == nil {
			return
		}
		for _, user := range l.UsedBy {
			mine := ch.Recorded != nil && ch.Recorded.ID == user
			if u := c.site.live(user); u != nil && !mine && (c.site.foreign(u) || ch.Kind == whatif.Swap) {
				c.at(r, "address", "address-taken", "use an address of its own", "%s: the address %s belongs to %s", r.Name, id, user)
			} else if mine && ch.Kind == whatif.Swap {
				c.at(r, "address", "address-taken", "take the address away from the old one first, in a deployment of its own", "%s: its old part holds the address %s until the end of the run", r.Name, id)
			}
		}
	case "Route":
		network, router := c.id(cs, c.target(r, "network")), c.site.live(c.id(cs, c.target(r, "via")))
		if router != nil && c.Resource(c.target(r, "via")) == nil && !slices.Contains(router.Links["network"], network) {
			c.at(r, "via", "wrong-network", "use the router of that network", "%s: the router %s is not in the network %s", r.Name, router.ID, c.target(r, "network"))
		}
	}
}

// ready reports things that are rested on and are not fit for it.
func (c *checker) ready(cs *whatif.ChangeSet, r *stack.Resource) {
	for _, l := range r.Links {
		for _, name := range l.Targets {
			live := c.site.live(c.id(cs, name))
			if live == nil {
				continue
			}
			if s := live.State; s == "failed" || s == "creating" || s == "deleting" {
				c.at(r, l.Requirement, "not-ready", "wait until it is ready, or mend it", "%s: what '%s' rests on, %s, is not ready (%s)", r.Name, l.Requirement, live.ID, s)
			}
		}
	}
}
