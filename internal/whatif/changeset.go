// Package whatif compares what is wanted with what was recorded and what is
// really there, and says what a deployment would do: each change with its
// properties, its causes and what follows from it, the risks, and how long it
// would take. It changes nothing.
package whatif

import (
	"encoding/json"
	"fmt"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Kind is what happens to a resource.
type Kind string

// The kinds of change.
const (
	New     Kind = "new"
	Edit    Kind = "edit"
	Swap    Kind = "swap"
	Drop    Kind = "drop"
	Same    Kind = "same"
	Adopt   Kind = "adopt"   // was kept in the cloud, comes back under the stack
	Release Kind = "release" // leaves the stack, stays in the cloud
)

// Kinds lists the kinds that a tally counts, in the order of the screen.
var Kinds = []Kind{New, Edit, Swap, Drop, Same}

// Change is what happens to one resource.
type Change struct {
	Name       string
	Type       string
	Kind       Kind
	Properties []stack.PropertyChange
	Because    []string // causes, in words
	Then       []string // resources that change because of it
	Needs      []string
	// OneWay says that the edit could not be put back in place, such as a
	// version that only goes up. It is made last, when all else has succeeded.
	OneWay   bool
	Pos      tosca.Pos
	Wanted   *stack.Resource // nil for a drop
	Recorded *stack.Recorded // nil for a new one
	Live     *stack.Live     // nil where the cloud was not asked
}

// Risk is something to look at before deploying.
type Risk struct {
	Kind     string    `json:"kind"` // data, open
	Resource string    `json:"resource"`
	Text     string    `json:"text"`
	Pos      tosca.Pos `json:"-"`
}

// Tally counts changes by kind.
type Tally struct {
	New  int `json:"new"`
	Edit int `json:"edit"`
	Swap int `json:"swap"`
	Drop int `json:"drop"`
	Same int `json:"same"`
	// What comes back under the stack, and what leaves it and stays.
	Adopt   int `json:"adopt,omitempty"`
	Release int `json:"release,omitempty"`
}

// Of is the count of one kind.
func (t Tally) Of(k Kind) int {
	return map[Kind]int{New: t.New, Edit: t.Edit, Swap: t.Swap, Drop: t.Drop, Same: t.Same, Adopt: t.Adopt, Release: t.Release}[k]
}

// String is the tally without what stays the same: "3 new, 2 edit".
func (t Tally) String() string {
	s := ""
	for _, k := range []Kind{New, Edit, Swap, Drop, Adopt, Release} {
		if n := t.Of(k); n > 0 {
			if s != "" {
				s += ", "
			}
			s += fmt.Sprintf("%d %s", n, k)
		}
	}
	if s == "" {
		return "no changes"
	}
	return s
}

// ChangeSet is what a deployment would do.
type ChangeSet struct {
	Stack        string
	Target       stack.Target
	BaseRevision int // 0 where the stack is empty
	Tally        Tally
	Changes      []Change // every resource, the ones that stay the same too; each after what it needs
	Risks        []Risk
	Estimate     float64  // seconds
	Path         []string // the critical path of the build
	Findings     tosca.Findings
}

// Empty reports whether nothing would change.
func (c *ChangeSet) Empty() bool {
	for _, ch := range c.Changes {
		if ch.Kind != Same {
			return false
		}
	}
	return true
}

// Change finds a change by the resource's name; nil where there is none.
func (c *ChangeSet) Change(name string) *Change {
	for i := range c.Changes {
		if c.Changes[i].Name == name {
			return &c.Changes[i]
		}
	}
	return nil
}

// Graph is the graph of all resources in the change set.
func (c *ChangeSet) Graph() stack.Graph {
	g := make(stack.Graph, len(c.Changes))
	for _, ch := range c.Changes {
		g[ch.Name] = ch.Needs
	}
	return g
}

type jsonProperty struct {
	Path    string       `json:"path"`
	Before  tosca.Value  `json:"before"`
	After   tosca.Value  `json:"after"`
	Unknown bool         `json:"unknown"`
	Effect  stack.Effect `json:"effect"`
}

type jsonChange struct {
	Name       string         `json:"name"`
	Type       string         `json:"type"`
	Kind       Kind           `json:"kind"`
	Properties []jsonProperty `json:"properties"`
	Because    []string       `json:"because"`
	Then       []string       `json:"then"`
}

// MarshalJSON is the stable form of whatif --json. Resources that stay the
// same are counted and not listed.
func (c *ChangeSet) MarshalJSON() ([]byte, error) {
	out := struct {
		Stack    string       `json:"stack"`
		Target   string       `json:"target"`
		Base     int          `json:"base_revision"`
		Tally    Tally        `json:"tally"`
		Changes  []jsonChange `json:"changes"`
		Risks    []Risk       `json:"risks"`
		Estimate float64      `json:"estimate_seconds"`
	}{c.Stack, c.Target.String(), c.BaseRevision, c.Tally, []jsonChange{}, append([]Risk{}, c.Risks...), c.Estimate}
	for _, ch := range c.Changes {
		if ch.Kind == Same {
			continue
		}
		j := jsonChange{ch.Name, ch.Type, ch.Kind, []jsonProperty{}, append([]string{}, ch.Because...), append([]string{}, ch.Then...)}
		for _, p := range ch.Properties {
			j.Properties = append(j.Properties, jsonProperty{p.Path, p.Before, p.After, p.Unknown, p.Effect})
		}
		out.Changes = append(out.Changes, j)
	}
	return json.Marshal(out)
}
