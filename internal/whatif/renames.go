package whatif

import (
	"fmt"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// renamed is the path under which a change of a resource's name stands.
const renamed = "node"

// renames finds what is recorded under another name than it has now, and lets it stand
// for what it is: it is renamed, not dropped and made anew.
func (c *Comparison) renames() {
	c.formerly = map[string]string{}
	taken := map[string]bool{}
	back := c.laterNames()
	told := map[string]bool{}
	for _, res := range c.Wanted.Resources {
		if c.recorded[res.Name] != nil {
			continue
		}
		was := ""
		for _, name := range append(c.formerNames(res), back[res.Name]...) {
			if c.recorded[name] != nil && c.Wanted.Resource(name) == nil && !taken[name] {
				was = name
				break
			}
		}
		n := res.Template()
		switch {
		case was != "":
			rec := *c.recorded[was]
			rec.Name = res.Name
			c.recorded[res.Name], c.formerly[res.Name], taken[was] = &rec, was, true
		case n.Metadata[tosca.Formerly] != "" && c.BaseRevision > 0 && !c.Deleting && !c.Comparing && !told[res.Node] &&
			c.Wanted.Template(n.Metadata[tosca.Formerly]) == nil:
			told[res.Node] = true
			c.Set.Findings.Warnf(res.Pos, "never-recorded", "remove formerly, or write the name as it was deployed",
				"%s: nothing is recorded as %s, nor as %s, so that it is built anew", res.Name, n.Metadata[tosca.Formerly],
				res.Name)
		}
	}
}

// formerNames are the names under which a resource may be recorded.
func (c *Comparison) formerNames(res *stack.Resource) []string {
	out := res.FormerNames()
	if res.Key == "" {
		return out
	}
	by := res.Template().Metadata[tosca.KeyedBy]
	want := res.Property(by)
	for _, r := range c.Recorded { // by its number, before keyed_by was written
		number, ok := strings.CutPrefix(r.Name, res.Node+"#")
		if ok && strings.Trim(number, "0123456789") == "" && want != nil && r.Properties[by] != nil &&
			stack.Same(want.Value, r.Properties[by]) {
			out = append(out, r.Name)
		}
	}
	return out
}

// laterNames are the names that resources have, by those that they had before: on the way
// back to an earlier revision they get these again.
func (c *Comparison) laterNames() map[string][]string {
	out := map[string][]string{}
	for _, r := range c.Recorded {
		for i := len(r.Formerly) - 1; i >= 0; i-- {
			out[r.Formerly[i]] = append(out[r.Formerly[i]], r.Name)
		}
	}
	return out
}

// nameChange says that a resource is recorded under another name. It is the record that
// changes, and the tag by which the cloud shows whose it is.
func (c *Comparison) nameChange(ch *Change) []stack.PropertyChange {
	if ch.Formerly == "" {
		return nil
	}
	return []stack.PropertyChange{{Path: renamed, Pointer: tosca.Pointer(renamed), Property: renamed,
		Before: tosca.String(ch.Formerly), After: tosca.String(ch.Name), Effect: stack.InPlace}}
}

// nameCause says why a resource has another name.
func nameCause(ch *Change) Cause {
	return Cause{Kind: Template, Text: fmt.Sprintf("it is the same as %s, under another name: %s", ch.Formerly,
		ch.Pos.Short()), Pos: ch.Pos}
}
