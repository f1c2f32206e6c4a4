// Package whatif compares what is wanted with what was recorded and what is
// really there, and says what a deployment would do: each change with its
// properties, its causes and what follows from it, the risks, and how long it
// would take. It changes nothing.
package whatif

import (
	"encoding/json"
	"fmt"
	"slices"
	"sync"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Kind is what happens to a resource.
type Kind string

// The kinds of change.
const (
	New   Kind = "new"
	Edit  Kind = "edit"
	Swap  Kind = "swap"
	Drop  Kind = "drop"
	Same  Kind = "same"
	Adopt Kind = "adopt" // was kept in the cloud, comes back under the stack
	Keep  Kind = "kept"  // leaves the stack, stays in the cloud
)

// Kinds lists the kinds that a tally counts, in the order of the screen.
var Kinds = []Kind{New, Edit, Swap, Drop, Same}

// Change is what happens to one resource.
type Change struct {
	Name       string
	Type       string
	Kind       Kind
	Properties []stack.PropertyChange
	Causes     []Cause
	Because    []string // the causes, in words
	Then       []string // resources that change because of it
	Needs      []string
	// Formerly is the name under which it is recorded, where that is another one.
	Formerly string
	// FirstFor is what it is linked to, which goes first itself, where that is why this one does.
	FirstFor string
	// DropFirst says of a swap that the old one has to go before the new one is made: no two
	// can be there at once.
	DropFirst bool
	// Forced says of a swap that a program wants it so.
	Forced bool
	// NotAsked is the file of a program that would say whether an edit is made in place or by a swap, and was not asked, as
	// it was never deployed; "" is none.
	NotAsked string
	// OneWay says that the edit could not be put back in place, such as a
	// version that only goes up. It is made last, when all else has succeeded.
	OneWay   bool
	Pos      tosca.Pos
	Wanted   *stack.Resource // nil for a drop
	Recorded *stack.Recorded // nil for a new one
	Live     *stack.Live     // nil where the cloud was not asked
}

// LastText says of an edit that goes one way why it waits, and what the way round is.
func (ch *Change) LastText() string {
	text := "it cannot be put back, so it is made last, when all else has succeeded; going back would make a new one"
	switch {
	case ch.Wanted == nil || !stack.HoldsData(ch.Wanted.Type):
	case ch.BacksUp() > 0 && ch.Wanted.Restore:
		text += ", filled from a backup; one is taken before"
	case ch.BacksUp() > 0:
		text += " without what this one holds, of which a backup is taken before; the policy's restore would fill it"
	case !stack.HasBackups(ch.Wanted.Type):
		text += ", without what this one holds"
	default:
		text += ", without what this one holds: the policy Backup would take a backup of that first"
	}
	return text
}

// BacksUp is how many backups are kept of what the resource holds, of which one is taken
// before it goes, or is changed for good; 0 is that none is taken.
func (ch *Change) BacksUp() int {
	if ch.Recorded == nil || ch.Kind != Swap && ch.Kind != Drop && !ch.OneWay {
		return 0
	}
	is := ch.Recorded.Policies
	if ch.Wanted != nil {
		is.Keep, is.Backup = is.Keep || ch.Wanted.Keep, max(is.Backup, ch.Wanted.Backup)
	}
	if is.Keep && ch.Kind != Edit {
		return 0
	}
	return is.Backup
}

// Shown is the type of what changes as people call it: its own where programs make it.
func (ch *Change) Shown() string {
	switch {
	case ch.Wanted != nil:
		return ch.Wanted.Shown()
	case ch.Recorded != nil:
		return ch.Recorded.Shown()
	}
	return ch.Type
}

// Refills reports whether the new one of a swap is filled from a backup of the old one.
func (ch *Change) Refills() bool {
	return ch.Kind == Swap && ch.Recorded != nil && ch.Wanted != nil && ch.Wanted.Restore && ch.Recorded.Type == ch.Wanted.Type.Name
}

// BackupText says when what the resource holds is copied, and where that goes; "" is that
// it is not.
func (ch *Change) BackupText() string {
	n := ch.BacksUp()
	kept := "; the last one is kept"
	if n > 1 {
		kept = fmt.Sprintf("; the last %d are kept", n)
	}
	switch {
	case ch.Refills() && ch.DropFirst:
		return "a backup is taken before it goes, and the new one is filled from that before anything uses it" + kept
	case ch.Refills() && n == 0:
		return "the new one is filled from a backup before anything uses it"
	case ch.Refills():
		return "the new one is filled from a backup before anything uses it; another one is taken when the old one goes" + kept
	case n > 0 && ch.OneWay:
		return "a backup is taken before that" + kept
	case n > 0:
		return "a backup is taken before it goes" + kept
	}
	return ""
}

// Risk is something to look at before deploying.
type Risk struct {
	Kind     RiskKind  `json:"kind"`
	Resource string    `json:"resource"` // "" where it is about the stack
	Text     string    `json:"text"`
	Fix      string    `json:"fix,omitempty"` // what one could do
	Pos      tosca.Pos `json:"-"`
	// Standing says that it was there before, and stays.
	Standing bool `json:"standing,omitempty"`
}

// MarshalJSON gives the risk with its place in the template.
func (r Risk) MarshalJSON() ([]byte, error) {
	type plain Risk
	return json.Marshal(struct {
		plain
		File string `json:"file,omitempty"`
		Line int    `json:"line,omitempty"`
	}{plain(r), r.Pos.File, r.Pos.Line})
}

// Tally counts changes by kind.
type Tally struct {
	New  int `json:"new"`
	Edit int `json:"edit"`
	Swap int `json:"swap"`
	Drop int `json:"drop"`
	Same int `json:"same"`
	// What comes back under the stack, and what leaves it and stays.
	Adopt int `json:"adopt,omitempty"`
	Keep  int `json:"kept,omitempty"`
	// Results counts the results of a stack that change, where it is there already.
	Results int `json:"results,omitempty"`
	// Old counts the parts that former runs have left, and that go at the end.
	Old int `json:"old,omitempty"`
}

// Of is the count of one kind.
func (t Tally) Of(k Kind) int {
	return map[Kind]int{New: t.New, Edit: t.Edit, Swap: t.Swap, Drop: t.Drop, Same: t.Same, Adopt: t.Adopt,
		Keep: t.Keep}[k]
}

// String is the tally without what stays the same: "3 new, 2 edit".
func (t Tally) String() string {
	s := ""
	for _, k := range []Kind{New, Edit, Swap, Drop, Adopt, Keep} {
		if n := t.Of(k); n > 0 {
			if s != "" {
				s += ", "
			}
			s += fmt.Sprintf("%d %s", n, k)
		}
	}
	if t.Results > 0 {
		if s != "" {
			s += ", "
		}
		if s += fmt.Sprintf("%d result", t.Results); t.Results > 1 {
			s += "s"
		}
	}
	if t.Old > 0 {
		if s != "" {
			s += ", "
		}
		if s += fmt.Sprintf("%d old part", t.Old); t.Old > 1 {
			s += "s"
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
	BaseRevision int    // 0 where the stack is empty
	Against      string // what it was compared with, where that is not what is deployed
	Tally        Tally
	Changes      []Change // every resource, the ones that stay the same too; each after what it needs
	Risks        []Risk   // those that the change set brings; they are to be looked through
	Standing     []Risk   // those that were there before
	Lookups      []LookedUp
	Results      []ResultChange
	Hits         []Hit  // who uses results that would change, and what they would do then
	Left         []Left // what is not as it is recorded, and a deployment leaves as it is
	// Unread are resources of the stack that could not be read: they are compared as they were known last.
	Unread []stack.Unread
	// LeftOut are the changes that are not made, as only some resources were chosen.
	LeftOut []LeftOut
	// Probes are what is asked before the run counts.
	Probes []Probe
	// Old are the parts of swaps that former runs have left, as recorded. They go
	// at the end, or are kept, whatever else the change set does.
	Old      []*stack.Recorded
	Estimate Estimate
	Findings tosca.Findings

	index   map[string]int // of changes, by name; made when it is asked for
	indexed sync.Once
}

// Left is something in the cloud that is not as it is recorded and that a
// deployment leaves as it is.
type Left struct {
	Resource string `json:"resource"`
	Path     string `json:"path"`
	Text     string `json:"text"`
	// Accepted says that it is just what is wanted by now, and that a run records it so.
	Accepted bool `json:"-"`
}

// Accepted names the resources of which something has become what is wanted, in order.
func (c *ChangeSet) Accepted() []string {
	var out []string
	for _, l := range c.Left {
		if l.Accepted && !slices.Contains(out, l.Resource) {
			out = append(out, l.Resource)
		}
	}
	return out
}

// OldText says of an old part of a swap what becomes of it.
func OldText(r *stack.Recorded) string {
	if r.Keep {
		return fmt.Sprintf("the old part of %s (%s), which a former run has left, leaves the stack and stays in "+
			"the cloud", r.Name, r.ID)
	}
	return fmt.Sprintf("the old part of %s (%s), which a former run has left, is removed at the end", r.Name, r.ID)
}

// LookedUp is what a node that is selected stands for.
type LookedUp struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	ID    string `json:"id"`
	Moved string `json:"moved,omitempty"` // that it found something else before, in words
}

// Empty reports whether nothing would change: no result either, and nothing that
// a former run has left would go.
func (c *ChangeSet) Empty() bool {
	if len(c.Results)+len(c.Old) > 0 {
		return false
	}
	for _, ch := range c.Changes {
		if ch.Kind != Same {
			return false
		}
	}
	return true
}

// Change finds a change by the resource's name; nil where there is none.
func (c *ChangeSet) Change(name string) *Change {
	c.indexed.Do(func() {
		c.index = make(map[string]int, len(c.Changes))
		for i := len(c.Changes) - 1; i >= 0; i-- {
			c.index[c.Changes[i].Name] = i
		}
	})
	if i, ok := c.index[name]; ok {
		return &c.Changes[i]
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
	ByHand  string       `json:"by_hand,omitempty"` // put back, conflict
}

type jsonResult struct {
	Name    string      `json:"name"`
	Kind    Kind        `json:"kind"`
	Before  tosca.Value `json:"before"`
	After   tosca.Value `json:"after"`
	Unknown bool        `json:"unknown"`
	Because []string    `json:"because"`
	UsedBy  []string    `json:"used_by"`
}

type jsonOld struct {
	Resource string `json:"resource"`
	Type     string `json:"type"`
	ID       string `json:"id"`
	Kind     Kind   `json:"kind"` // drop or kept
}

type jsonChange struct {
	Name       string         `json:"name"`
	Type       string         `json:"type"`
	Kind       Kind           `json:"kind"`
	Formerly   string         `json:"formerly,omitempty"` // the name that it has had
	Properties []jsonProperty `json:"properties"`
	Because    []string       `json:"because"`
	Causes     []jsonCause    `json:"causes"`
	Then       []string       `json:"then"`
	DropFirst  bool           `json:"drop_first,omitempty"`    // the old one goes before the new one is made
	NotAsked   string         `json:"not_asked,omitempty"`     // the program that would say whether it is a swap, and was not asked
	Drains     float64        `json:"drain_seconds,omitempty"` // how long it has to finish its work before
	Backup     int            `json:"backup,omitempty"`        // how many are kept; one is taken before
	Restore    bool           `json:"restore,omitempty"`       // the new one is filled from a backup of the old one
	// Last says that it is made last, as it cannot be put back.
	Last  bool      `json:"last,omitempty"`
	Patch []patchOp `json:"patch"`
}

type jsonCause struct {
	Kind     CauseKind `json:"kind"`
	Text     string    `json:"text"`
	Path     string    `json:"path,omitempty"`
	Resource string    `json:"resource,omitempty"`
	File     string    `json:"file,omitempty"`
	Line     int       `json:"line,omitempty"`
}

// patchOp is one operation of a JSON Patch (RFC 6902) on a resource.
type patchOp struct {
	Op    string      `json:"op"`
	Path  string      `json:"path"`
	Value tosca.Value `json:"value,omitempty"`
}

// patch turns changes into a JSON Patch. Links stand under /links, another name is
// /name, all else stands under /properties. What only the cloud can know is null.
func (ch *Change) patch() []patchOp {
	out := []patchOp{}
	for _, p := range ch.Properties {
		path := "/properties" + p.Pointer
		switch {
		case p.Link:
			path = "/links" + p.Pointer
		case p.Path == renamed && ch.Formerly != "":
			path = "/name"
		}
		switch {
		case p.After == nil:
			out = append(out, patchOp{Op: "remove", Path: path})
		case p.Before == nil:
			out = append(out, patchOp{Op: "add", Path: path, Value: p.After})
		default:
			out = append(out, patchOp{Op: "replace", Path: path, Value: p.After})
		}
	}
	return out
}

// MarshalJSON is the stable form of whatif --json. Resources that stay the
// same are counted and not listed.
func (c *ChangeSet) MarshalJSON() ([]byte, error) {
	out := struct {
		Stack    string         `json:"stack"`
		Target   string         `json:"target"`
		Base     int            `json:"base_revision"`
		Against  string         `json:"against,omitempty"`
		Tally    Tally          `json:"tally"`
		Changes  []jsonChange   `json:"changes"`
		Risks    []Risk         `json:"risks"`
		Seconds  float64        `json:"estimate_seconds"`
		Estimate Estimate       `json:"estimate"`
		Results  []jsonResult   `json:"results"`
		Hits     []Hit          `json:"hits"`
		Left     []Left         `json:"left"`
		LeftOut  []LeftOut      `json:"left_out"`
		Probes   []jsonProbe    `json:"probes"`
		Old      []jsonOld      `json:"old"`
		Lookups  []LookedUp     `json:"lookups"`
		Unread   []stack.Unread `json:"unreadable"`
		Findings tosca.Findings `json:"findings"`
	}{c.Stack, c.Target.String(), c.BaseRevision, c.Against, c.Tally, []jsonChange{}, append(append([]Risk{},
		c.Risks...), c.Standing...), c.Estimate.Seconds, c.Estimate, []jsonResult{}, []Hit{}, append([]Left{}, c.Left...),
		append([]LeftOut{}, c.LeftOut...), c.jsonProbes(),
		[]jsonOld{}, append([]LookedUp{}, c.Lookups...), append([]stack.Unread{}, c.Unread...), append(tosca.Findings{}, c.Findings...)}
	for _, r := range c.Old {
		kind := Drop
		if r.Keep {
			kind = Keep
		}
		out.Old = append(out.Old, jsonOld{r.Name, r.Type, r.ID, kind})
	}
	for _, r := range c.Results {
		out.Results = append(out.Results,
			jsonResult{r.Name, r.Kind, r.Before, r.After, r.Unknown, r.Because(), append([]string{}, r.UsedBy...)})
	}
	for _, h := range c.Hits {
		h.Changes = append([]HitChange{}, h.Changes...)
		out.Hits = append(out.Hits, h)
	}
	for _, ch := range c.Changes {
		if ch.Kind == Same {
			continue
		}
		j := jsonChange{ch.Name, ch.Type, ch.Kind, ch.Formerly, []jsonProperty{}, append([]string{}, ch.Because...),
			[]jsonCause{}, append([]string{}, ch.Then...), ch.DropFirst, ch.NotAsked, ch.Drains().Seconds(), ch.BacksUp(), ch.Refills(), ch.OneWay, ch.patch()}
		for _, k := range ch.Causes {
			j.Causes = append(j.Causes, jsonCause{k.Kind, k.Text, k.Path, k.Resource, k.Pos.File, k.Pos.Line})
		}
		for _, p := range ch.Properties {
			j.Properties = append(j.Properties,
				jsonProperty{p.Path, p.Before, p.After, p.Unknown, p.Effect, ch.offRecord(p)})
		}
		out.Changes = append(out.Changes, j)
	}
	return json.Marshal(out)
}
