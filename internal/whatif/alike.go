package whatif

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// Alike is changes that are the same, such as those of a count of twenty, or of
// a tag that everything gets: there is one to read.
type Alike struct {
	*Change
	Names []string // of all of them, in their order
	types []string
	apart bool // they stand in several places of the template
}

// gravity is the order in which changes are read: first what goes.
var gravity = []Kind{Drop, Swap, Keep, Edit, New, Adopt}

// Alike groups the changes, without those that stay the same. What is removed or
// replaced stands first.
func (c *ChangeSet) Alike() []Alike {
	var out []Alike
	place := map[string]int{}
	for i := range c.Changes {
		ch := &c.Changes[i]
		if ch.Kind == Same {
			continue
		}
		node, _, counted := strings.Cut(ch.Name, "#")
		if ch.Kind == Edit {
			node, counted = "", true
		}
		if counted {
			key := fmt.Sprint(node, ch.Kind, ch.OneWay, ch.Because, ch.Then)
			for _, p := range ch.Properties {
				key += fmt.Sprintf("\x00%s\x00%s\x00%s\x00%v%s%v", p.Path, tosca.Show(p.Before), tosca.Show(p.After),
					p.Unknown, p.Effect, p.OffRecord)
			}
			if i, ok := place[key]; ok {
				a := &out[i]
				a.Names = append(a.Names, ch.Name)
				a.apart = a.apart || a.Pos != ch.Pos
				if !slices.Contains(a.types, ch.Shown()) {
					a.types = append(a.types, ch.Shown())
				}
				continue
			}
			place[key] = len(out)
		}
		out = append(out, Alike{Change: ch, Names: []string{ch.Name}, types: []string{ch.Shown()}})
	}
	many := func(a Alike) int { return min(1, len(a.Names)/5) } // what is the same all over stands last
	slices.SortStableFunc(out, func(a, b Alike) int {
		return cmp.Or(slices.Index(gravity, a.Kind)-slices.Index(gravity, b.Kind), many(a)-many(b))
	})
	return out
}

// Title is the names in short: "pager#0, pager#1 and 16 more", or all where they
// are few.
func (a Alike) Title() string {
	if len(a.Names) <= 4 {
		return strings.Join(a.Names, ", ")
	}
	return fmt.Sprintf("%s, %s and %d more", a.Names[0], a.Names[1], len(a.Names)-2)
}

// About is the type and the place in the template, where there is one.
func (a Alike) About() string {
	types := strings.Join(a.types, ", ")
	if len(a.types) > 3 {
		types = fmt.Sprintf("%d types", len(a.types))
	}
	if a.apart || a.Pos.Line == 0 {
		return types
	}
	return types + ", " + a.Pos.Short()
}

// Rest is all names where the title does not give them; "" otherwise.
func (a Alike) Rest() string {
	if len(a.Names) <= 4 {
		return ""
	}
	return strings.Join(a.Names, ", ")
}
