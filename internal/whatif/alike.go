package whatif

import (
	"fmt"
	"strings"

	"brickrow/internal/tosca"
)

// Alike is changes of the resources of one node that are the same: of a count
// of twenty there is one to read.
type Alike struct {
	*Change
	Names []string // of all of them, in their order
}

// Alike groups the changes, without those that stay the same.
func (c *ChangeSet) Alike() []Alike {
	var out []Alike
	place := map[string]int{}
	for i := range c.Changes {
		ch := &c.Changes[i]
		if ch.Kind == Same {
			continue
		}
		node, _, counted := strings.Cut(ch.Name, "#")
		key := ""
		if counted {
			key = fmt.Sprint(node, ch.Kind, ch.Type, ch.OneWay, ch.Because, ch.Then)
			for _, p := range ch.Properties {
				key += fmt.Sprintf("\x00%s\x00%s\x00%s\x00%v%s%v", p.Path, tosca.Show(p.Before), tosca.Show(p.After), p.Unknown, p.Effect, p.ByHand)
			}
			if i, ok := place[key]; ok {
				out[i].Names = append(out[i].Names, ch.Name)
				continue
			}
			place[key] = len(out)
		}
		out = append(out, Alike{ch, []string{ch.Name}})
	}
	return out
}

// Title is the names in short: "pager#0 and 17 more", or all where they are few.
func (a Alike) Title() string {
	switch {
	case len(a.Names) <= 4:
		return strings.Join(a.Names, ", ")
	}
	return fmt.Sprintf("%s, %s and %d more", a.Names[0], a.Names[1], len(a.Names)-2)
}

// Rest is all names where the title does not give them; "" otherwise.
func (a Alike) Rest() string {
	if len(a.Names) <= 4 {
		return ""
	}
	return strings.Join(a.Names, ", ")
}
