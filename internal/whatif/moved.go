package whatif

import (
	"fmt"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// movedItems warns where something was taken from the middle of a list, or put
// into it, from which a node has its instances: they are told apart by their
// number, so that each becomes what its neighbour was.
func (c *Comparison) movedItems() {
	wanted, recorded := map[string]int{}, map[string]int{}
	for _, res := range c.Wanted.Resources {
		if res.Index >= 0 {
			wanted[res.Node]++
		}
	}
	for _, r := range c.Recorded {
		if node, _, indexed := strings.Cut(r.Name, "#"); indexed {
			recorded[node]++
		}
	}
	seen := map[string]bool{}
	for _, res := range c.Wanted.Resources {
		by := recorded[res.Node] - wanted[res.Node]
		if res.Index < 0 || seen[res.Node] || by == 0 || recorded[res.Node] == 0 {
			continue
		}
		seen[res.Node] = true
		if first, of, n := c.shifted(res.Node, wanted[res.Node], by); n > 0 {
			at := res.Pos
			if t := res.Template(); t.Count != nil {
				at = t.Count.Pos
			}
			what := "taken out of"
			if by < 0 {
				what = "put into"
			}
			c.Set.Findings.Warnf(at, "moved-items",
				"take from the end of the list, or add there; what stands before stays what it is",
				"something was %s the middle of a list: %s becomes what %s was, and so on (%d change); the "+
					"instances of %s are told apart by their number alone", what, first, of, n, res.Node)
		}
	}
}

// shifted looks whether the instances of a node that change become what those a
// few numbers further were. It yields the first of them, and how many there are.
func (c *Comparison) shifted(node string, count, by int) (first, of string, n int) {
	for i := range count {
		name := fmt.Sprintf("%s#%d", node, i)
		ch := c.Change(name)
		if ch == nil || ch.Kind != Edit && ch.Kind != Swap {
			continue
		}
		from := c.recorded[fmt.Sprintf("%s#%d", node, i+by)]
		if from == nil {
			if by < 0 && i < -by { // it is what was put in
				continue
			}
			return "", "", 0
		}
		for _, p := range ch.Properties {
			prop := ch.Wanted.Property(p.Property)
			if p.Link || prop == nil || tosca.Waits(prop.Value) ||
				!stack.Same(prop.Value, from.Properties[p.Property]) {
				return "", "", 0
			}
		}
		if n++; first == "" {
			first, of = name, from.Name
		}
	}
	return first, of, n
}
