package whatif

import (
	"slices"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// LeftOut is a change that is not made, as only some resources were chosen.
type LeftOut struct {
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
}

// LeftOutTitle stands above what was not chosen.
const LeftOutTitle = "Left out"

// CompareOnly computes the change set of some resources, by their names or those of their
// nodes: their own changes, those of all that they need, and those of what could not stay
// as it is beside them. All others are left out. Unknown are the names that mean none.
func CompareOnly(s State, names []string) (set *ChangeSet, unknown []string) {
	s.Memory = nil
	all := Compare(s)
	chosen, unknown := all.closure(names)
	unknown = slices.DeleteFunc(unknown, func(name string) bool { // there may be none of it now
		return s.Wanted.File.Service != nil && s.Wanted.File.Service.Node(name) != nil
	})
	if len(unknown) > 0 {
		return all, unknown
	}
	s.only = chosen
	set = Compare(s)
	for i := range all.Changes {
		if ch := &all.Changes[i]; ch.changes() && !chosen[ch.Name] {
			set.LeftOut = append(set.LeftOut, LeftOut{ch.Name, ch.Kind})
		}
	}
	return set, nil
}

// changes reports whether anything happens to a resource.
func (ch *Change) changes() bool { return ch.Kind != Same || ch.Formerly != "" }

// closure is what has to change together with some resources.
func (c *ChangeSet) closure(names []string) (chosen map[string]bool, unknown []string) {
	chosen = map[string]bool{}
	var todo []string
	add := func(name string) {
		if !chosen[name] {
			chosen[name] = true
			todo = append(todo, name)
		}
	}
	for _, name := range names {
		found := false
		for i := range c.Changes {
			if stack.Means(name, c.Changes[i].Name) {
				found = true
				add(c.Changes[i].Name)
			}
		}
		if !found {
			unknown = append(unknown, name)
		}
	}
	rests := map[string][]string{} // what rests on a resource, now or then
	for i := range c.Changes {
		ch := &c.Changes[i]
		needs := ch.Needs
		if ch.Recorded != nil {
			needs = slices.Concat(needs, ch.Recorded.Needs)
		}
		for _, n := range needs {
			rests[n] = append(rests[n], ch.Name)
		}
	}
	for ; len(todo) > 0; todo = todo[1:] {
		ch := c.Change(todo[0])
		if ch == nil {
			continue
		}
		for _, n := range ch.Needs {
			if need := c.Change(n); need != nil && need.changes() {
				add(n)
			}
		}
		if ch.Kind != Swap && ch.Kind != Drop && ch.Kind != Keep {
			continue
		}
		for _, name := range rests[ch.Name] { // it could not stay as it is
			if on := c.Change(name); on != nil && on.changes() {
				add(name)
			}
		}
	}
	return chosen, unknown
}

// leaveOut makes a change that was not chosen none, and reports whether there is
// anything left to say of the resource.
func (c *Comparison) leaveOut(ch *Change) bool {
	if c.only == nil || c.only[ch.Name] || !ch.changes() {
		return true
	}
	delete(c.upstream, ch.Name)
	if ch.Recorded == nil || ch.Wanted == nil || ch.Kind == Adopt || ch.Formerly != "" {
		return false
	}
	*ch = Change{Name: ch.Name, Type: ch.Recorded.Type, Kind: Same, Pos: ch.Pos, Needs: ch.Recorded.Needs, Wanted: ch.Wanted,
		Recorded: ch.Recorded, Live: ch.Live}
	return true
}

// awaitsLeftOut reports whether a value waits for a resource that is left out.
func (c *Comparison) awaitsLeftOut(v tosca.Value) bool {
	return c.only != nil && slices.ContainsFunc(tosca.Awaits(v), func(a tosca.Attribute) bool { return c.Change(a.Resource) == nil })
}
