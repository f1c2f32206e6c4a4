package whatif

import (
	"fmt"
	"slices"
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
			c.Set.Findings.Warnf(res.Pos, "never-recorded", "remove formerly, or write the name that was deployed",
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

// Renames reports whether one of the changes of a resource is but of its name.
func (ch *Change) Renames(c stack.PropertyChange) bool {
	return ch.Formerly != "" && c.Property == renamed
}

// nameCause says why a resource has another name.
func nameCause(ch *Change) Cause {
	return Cause{Kind: Template, Text: fmt.Sprintf("it is the same as %s, under another name: %s", ch.Formerly,
		ch.Pos.Short()), Pos: ch.Pos}
}

// mostCompared bounds how many are held against each other, of one type.
const mostCompared = 10_000

// perhapsRenamed finds what is new and what goes, and are so alike that one may have become the
// other.
func (c *Comparison) perhapsRenamed() {
	if c.Comparing || c.Deleting || c.Releasing != "" {
		return
	}
	goes, comes := map[string][]*Change{}, map[string][]*Change{}
	for i := range c.Set.Changes {
		switch ch := &c.Set.Changes[i]; ch.Kind {
		case Drop:
			if n := c.Wanted.Template(ch.Name); n == nil { // else its count is lower
				goes[ch.Type] = append(goes[ch.Type], ch)
			}
		case New:
			if ch.Wanted.Index < 0 && ch.Wanted.Name == ch.Wanted.Node && ch.Wanted.Template().Metadata[tosca.Formerly] == "" {
				comes[ch.Type] = append(comes[ch.Type], ch)
			}
		}
	}
	for typ, gone := range goes {
		if len(gone)*len(comes[typ]) > mostCompared {
			continue
		}
		for _, ch := range comes[typ] {
			var best *Change
			most := 0.0
			for _, was := range gone {
				if like := c.likeness(ch, was); like > most {
					best, most = was, like
				}
			}
			if best == nil || most < 0.6 && !(len(gone) == 1 && len(comes[typ]) == 1 && most > 0.3) {
				continue
			}
			gone = slices.DeleteFunc(slices.Clone(gone), func(g *Change) bool { return g == best })
			c.Set.Findings.Warnf(ch.Pos, "perhaps-renamed", fmt.Sprintf("where it is that, write metadata: { formerly: %s }, and it is renamed", best.Name),
				"%s is built anew and %s goes, and they are alike", ch.Name, best.Name)
		}
	}
}

// likeness is how much of what is stated of two resources is the same, from 0 to 1.
func (c *Comparison) likeness(ch, was *Change) float64 {
	same, all := 0, 0
	props, _ := c.Wanted.Late(ch.Wanted, c.attributes)
	for _, d := range ch.Wanted.Type.Properties {
		is, before := props[d.Name], was.Recorded.Properties[d.Name]
		usual, _ := d.Constant()
		if (is == nil || stack.Same(is, usual)) && (before == nil || stack.Same(before, usual)) {
			continue
		}
		if all++; is != nil && before != nil && stack.Same(is, before) {
			same++
		}
	}
	for _, d := range ch.Wanted.Type.Requirements {
		var names []string
		for _, l := range was.Recorded.Links[d.Name] {
			names = append(names, l.Name)
		}
		targets := ch.Wanted.Targets(d.Name)
		if len(names)+len(targets) == 0 {
			continue
		}
		if all++; slices.Equal(names, targets) {
			same++
		}
	}
	if all == 0 {
		return 1
	}
	return float64(same) / float64(all)
}
