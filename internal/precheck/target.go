package precheck

import (
	"maps"
	"slices"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// TargetState is what is known of a target.
type TargetState struct {
	Unlisted []string // why not all that is there is known
	Store    string   // the id of the store that asks
	Target   stack.Target
	Stack    string // the one that is looked at
	About    *cloud.About
	All      []*stack.Live // everything that the target has
	// Taken tells for names that are unique in the whole cloud, by type/name,
	// the id of the owner, or "?" where it is in another account.
	Taken map[string]string
	// Mine are the ids of what is recorded of the stack and has lost the tag that says so.
	Mine map[string]bool
	// Elsewhere is what is known of the places that connections of the stack lead to, by the names
	// of the connections. One that does not answer yet is missing.
	Elsewhere map[string]*TargetState
	Way       string // the id of the connection that leads there; "" is the target itself
	byID      map[string]*stack.Live
	near      []*stack.Live
}

// Near lists what stands in the target itself, or at the end of the way. It is not to be changed.
func (s *TargetState) Near() []*stack.Live {
	if s.near == nil { // asked for each change that is held against it
		s.near = slices.DeleteFunc(slices.Clone(s.All), func(l *stack.Live) bool {
			way, _ := cloud.WayOf(l.ID)
			return way != s.Way
		})
	}
	return s.near
}

// at is what is known of where a change is made; nil where nothing is.
func (s *TargetState) at(ch *whatif.Change) *TargetState {
	if connection := through(ch); connection != "" {
		return s.Elsewhere[connection]
	}
	return s
}

// through is the connection through which what a change is about is reached; "" is none.
func through(ch *whatif.Change) string {
	if ch.Wanted != nil {
		return ch.Wanted.Through()
	}
	if ch.Recorded != nil {
		for _, l := range ch.Recorded.Links[stack.Through] {
			return l.Name
		}
	}
	return ""
}

// Named lists the names of the wanted resources that are unique in the whole
// cloud, as type and name: of those that are reached through a connection, or
// through none where that is "".
func Named(k Knowledge, w *stack.Wanted, connection string) [][2]string {
	c := newChecker(k, w)
	var out [][2]string
	for _, r := range w.Resources {
		if r.Through() != connection {
			continue
		}
		for _, d := range r.Type.Properties {
			if name := c.Text(r, d.Name); d.Metadata["cloud_name"] == "true" && name != "" {
				out = append(out, [2]string{r.Type.Name, name})
			}
		}
	}
	return out
}

// Live is a resource of the target by its cloud id; nil where there is none.
func (s *TargetState) Live(id string) *stack.Live {
	if s.byID == nil {
		s.byID = make(map[string]*stack.Live, len(s.All))
		for _, l := range s.All {
			s.byID[l.ID] = l
		}
	}
	return s.byID[id]
}

// Of is what the target has of a stack, by id.
func (s *TargetState) Of(name string) map[string]*stack.Live {
	out := map[string]*stack.Live{}
	for _, l := range s.All {
		if l.Tags["stack"] == name && !s.otherStore(l) || name == s.Stack && s.Mine[l.ID] {
			out[l.ID] = l
		}
	}
	return out
}

// Foreign reports whether a resource belongs to another stack, or to none.
func (s *TargetState) Foreign(l *stack.Live) bool {
	return (l.Tags["stack"] != s.Stack || s.otherStore(l)) && !s.Mine[l.ID]
}

// otherStore reports whether a resource says that it is of a stack in another store.
func (s *TargetState) otherStore(l *stack.Live) bool {
	return l.Store != "" && s.Store != "" && l.Store != s.Store
}

// OfOtherStore is what carries the name of the stack, and belongs to a stack of that name in another store.
func (s *TargetState) OfOtherStore() (out []*stack.Live) {
	for _, l := range s.All {
		if l.Tags["stack"] == s.Stack && s.otherStore(l) && !s.Mine[l.ID] {
			out = append(out, l)
		}
	}
	return out
}

// ID is the cloud id of a resource by name; "" where it is still to be made.
func (c *Checker) ID(name string) string {
	if f := c.Existing(name); f != nil {
		return f.ID
	}
	if ch := c.Changes.Change(name); ch != nil && ch.Recorded != nil && ch.Kind != whatif.New &&
		ch.Kind != whatif.Swap {
		return ch.Recorded.ID
	}
	return ""
}

// Against reports what the target would refuse of a change set: all that Rules
// reports, and what depends on what is there.
//
// Of a partial template nothing is known of what would be removed.
func Against(k Knowledge, s *TargetState, w *stack.Wanted, cs *whatif.ChangeSet, extent Extent) tosca.Findings {
	c := newChecker(k, w)
	c.State, c.Changes, c.Extent = s, cs, extent
	k.Template(c)
	c.twins()
	c.places()
	c.quotas(cs)
	for i := range cs.Changes {
		ch := &cs.Changes[i]
		if extent == Partial && ch.Wanted == nil {
			continue
		}
		c.State = s
		c.leaving(ch)
		if c.State = s.at(ch); c.State == nil { // it is checked when it is there, but for what stands there already
			c.State = s
			c.takenBehind(ch)
			continue
		}
		c.permissions(ch)
		if ch.Wanted == nil || ch.Kind == whatif.Same {
			continue
		}
		c.taken(ch)
		c.ready(ch.Wanted)
		k.Change(c, ch)
	}
	return c.told()
}

// quotas holds what is made against what is left. What a swap replaces is
// there until the end.
func (c *Checker) quotas(cs *whatif.ChangeSet) {
	c.quotasAt(cs, c.State)
	for _, name := range slices.Sorted(maps.Keys(c.State.Elsewhere)) {
		c.quotasAt(cs, c.State.Elsewhere[name])
	}
}

func (c *Checker) quotasAt(cs *whatif.ChangeSet, at *TargetState) {
	made := map[string][]*whatif.Change{}
	var addresses []*whatif.Change
	for i := range cs.Changes {
		ch := &cs.Changes[i]
		if ch.Kind != whatif.New && ch.Kind != whatif.Swap || c.State.at(ch) != at {
			continue
		}
		made[ch.Type] = append(made[ch.Type], ch)
		if ch.Wanted.Type.Metadata["public_address"] == "true" {
			addresses = append(addresses, ch)
		}
	}
	for _, l := range at.About.Limits {
		if n, left := len(made[l.Type]), l.Most-l.Used; n > left {
			fix := "remove some that are not needed, or use another region"
			if slices.ContainsFunc(made[l.Type], func(ch *whatif.Change) bool { return ch.Kind == whatif.Swap }) {
				fix += "; the old part of a swap is there until the end"
			}
			c.findings.Errorf(made[l.Type][max(0, left)].Pos, "quota", fix,
				"this makes %d of %s; %s allows %d, and %d are left", n, l.Type, at.Target, l.Most,
				max(0, left))
		}
	}
	if free := at.About.FreeAddresses; len(addresses) > free {
		c.findings.Errorf(addresses[free].Pos, "no-address", "remove some that are not needed, or use another region",
			"this takes %d public addresses, and %d are left in %s", len(addresses), free, at.Target)
	}
}

// permissions holds what a change takes against what the credentials may do.
func (c *Checker) permissions(ch *whatif.Change) {
	verbs := map[whatif.Kind][]string{whatif.New: {cloud.VerbCreate}, whatif.Edit: {cloud.VerbChange},
		whatif.Adopt: {cloud.VerbChange},
		whatif.Swap:  {cloud.VerbCreate, cloud.VerbRemove}, whatif.Drop: {cloud.VerbRemove}}[ch.Kind]
	if (ch.BacksUp() > 0 || ch.Refills() || ch.Drains() > 0) && !slices.Contains(verbs, cloud.VerbChange) {
		verbs = append(verbs, cloud.VerbChange) // as what it does before it goes takes
	}
	for _, verb := range verbs {
		if need := cloud.Action(ch.Type, verb); !c.State.About.May(need) {
			c.findings.Errorf(ch.Pos, "not-permitted", "ask for it, or use other credentials",
				"%s: the credentials of %s lack %s", ch.Name, c.State.Target.Account, need)
		}
	}
}

// leaving reports what others use and would be removed.
func (c *Checker) leaving(ch *whatif.Change) {
	if ch.Kind != whatif.Drop && ch.Kind != whatif.Swap || ch.Recorded == nil || ch.Recorded.Keep || ch.Wanted != nil && ch.Wanted.Keep {
		return
	}
	l := c.State.Live(ch.Recorded.ID)
	if l == nil {
		return
	}
	held, unless := stack.Holding(c.knowledge.Type(l.Type), l)
	if empties := l.Properties[unless]; unless != "" && !(empties != nil && tosca.Equal(empties, tosca.Bool(true))) {
		c.findings.Errorf(ch.Pos, "not-empty", "empty it first, write "+unless+": true and deploy that first, or give it the policy Keep",
			"%s holds %s: the cloud does not remove it with them", ch.Name, held)
	}
	for _, id := range l.UsedBy {
		if user := c.State.Live(id); user != nil && c.State.Foreign(user) {
			owner := "nobody's stack"
			if user.Tags["stack"] != "" {
				owner = "the stack " + user.Tags["stack"]
			}
			c.findings.Errorf(ch.Pos, "in-use", "change it there first",
				"%s cannot be removed: it is used by %s (%s) of %s", ch.Name, user.Node, id, owner)
		}
	}
}

// taken reports names that belong to something else. What this stack itself
// holds until the end of the run is told by the comparison.
func (c *Checker) taken(ch *whatif.Change) {
	r := ch.Wanted
	_, property := c.knowledge.Unique(c, r)
	if property == "" {
		return
	}
	if r.Type.Property(property).Metadata["cloud_name"] == "true" {
		id := c.State.Taken[r.Type.Name+"/"+c.Text(r, property)]
		switch l := c.State.Live(id); {
		case id == "":
		case id == "?":
			c.TakenBy(r, property, "another account")
		case l == nil || c.State.Foreign(l) && !c.Kept(ch, id):
			c.TakenBy(r, property, id)
		}
	}
}

// takenBehind reports a name that something has already behind the connection that a change is made through.
func (c *Checker) takenBehind(ch *whatif.Change) {
	if ch.Wanted == nil || ch.Kind != whatif.New && ch.Kind != whatif.Swap {
		return
	}
	_, property := c.knowledge.Unique(c, ch.Wanted)
	connection := c.ID(through(ch))
	if property == "" || connection == "" {
		return
	}
	for _, l := range c.State.All {
		if way, _ := cloud.WayOf(l.ID); way == connection && l.Type == ch.Type && c.State.Foreign(l) && !c.Kept(ch, l.ID) && c.knowledge.Twin(c, ch.Wanted, l) {
			c.At(ch.Wanted, property, "name-taken", "choose another one, or adopt that by its id, "+l.ID, "%s: %s '%s' is taken by %s",
				ch.Name, property, c.Text(ch.Wanted, property), l.ID)
			return
		}
	}
}

// TakenBy reports a name that somebody else has.
func (c *Checker) TakenBy(r *stack.Resource, property, who string) {
	c.At(r, property, "name-taken", "choose another one", "%s: %s '%s' is taken by %s",
		r.Name, property, c.Text(r, property), who)
}

// Kept reports whether a resource is the one that a change takes back.
func (c *Checker) Kept(ch *whatif.Change, id string) bool {
	return ch.Recorded != nil && ch.Recorded.ID == id
}

// ready reports things that are rested on and are not fit for it.
func (c *Checker) ready(r *stack.Resource) {
	for _, l := range r.Links {
		for _, name := range l.Targets {
			live := c.State.Live(c.ID(name))
			if live == nil {
				continue
			}
			if s := live.State; s == "failed" || s == "creating" || s == "deleting" {
				c.At(r, l.Requirement, "not-ready", "wait until it is ready, or fix it",
					"%s: what '%s' rests on, %s, is not ready (%s)", r.Name, l.Requirement, live.ID, s)
			}
		}
	}
}
