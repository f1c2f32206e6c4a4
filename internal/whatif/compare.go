package whatif

import (
	"fmt"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// State is what Compare holds against each other.
type State struct {
	Stack        string
	Target       stack.Target
	BaseRevision int
	Wanted       *stack.Wanted
	Recorded     []*stack.Recorded
	Kept         []*stack.Recorded // has left the stack and stays in the cloud
	Old          []*stack.Recorded // parts of former swaps that are still to be removed
	// Strays are the names, among those recorded, of what is in no record and
	// only carries the tag of the stack.
	Strays map[string]bool
	// AtOnce is how many changes are under way at once; 0 is Limit.
	AtOnce int
	Margin Margin // by how much estimates were off here
	// PartOf says which run deployed the base only in part; "" is none.
	PartOf string

	only map[string]bool // what is to change; nil is all
	// Deleting says that nothing is wanted any more.
	Deleting bool
	// Releasing is the resource that is to leave the stack and stay in the cloud; "" is none.
	Releasing string
	// Comparing says that two are held against each other, and that nothing is
	// to be carried out: there is no risk to data then.
	Comparing bool
	// Results are those that the stack has now, and ResultUsers lists the other
	// stacks whose current revision gets one of them; nil where nobody knows.
	Results     map[string]tosca.Value
	ResultUsers func(name string) []string
	// Live is what the cloud shows, by id; nil where it was not asked, and
	// the record then stands in for it.
	Live map[string]*stack.Live
	// BaseInputs are the inputs of the recorded revision.
	BaseInputs []stack.Input
	// Secrets are those of all former revisions; nil is none.
	Secrets *tosca.Secrets
	// BaseFound is what the look-ups of the recorded revision found.
	BaseFound map[string]stack.Found
	// Base is the recorded revision, resolved; nil where it is not at hand.
	Base *stack.Wanted
	// TagsPos is where the stack file gives tags to all resources.
	TagsPos tosca.Pos
	// Careful says that the target is a careful one, or the stack.
	Careful  bool
	Duration Duration
	// Plan asks the program of a resource how a change can be made: in_place, swap or drop_first,
	// because of which properties; nil, or an empty answer, is that nobody knows better, and NotAsked with the program's
	// file that it was not asked.
	Plan func(rec *stack.Recorded, wanted map[string]tosca.Value) (how string, because []string)
	// Past lists how long such changes of a type took in past runs, as ratios
	// to Duration; nil where nothing is known of them.
	Past func(typ string, k Kind) []float64
	// Knowledge may be nil.
	Knowledge Knowledge
	// Foreseen are the ids that some resources will have that are still to be made, by their names.
	Foreseen map[string]string
	// Memory keeps what was compared for the next time; nil keeps nothing.
	Memory *Memory
}

// Knowledge is what is known of resource types by their names, beside what the
// types say of themselves.
type Knowledge interface {
	// Type is the type of a cloud by its name there; nil where it is not known.
	Type(name string) *tosca.NodeType
	// ChangeRisks raises what one change may bring about.
	ChangeRisks(c *Comparison, ch *Change)
	// Risks raises what changes may bring about together.
	Risks(c *Comparison)
	// Conflicts reports why the run could not make a resource, new or in a swap,
	// while what leaves is still there.
	Conflicts(c *Comparison, ch *Change)
}

// Limit is how many changes are under way at once where nobody knows how many the target
// takes.
const Limit = 16

// Duration is how long a change takes, in seconds, as the given kind.
type Duration func(ch *Change, k Kind) float64

// Backs and Fills are no changes of their own, and take time beside one: that what a
// resource holds is copied, and that one is filled from such a copy.
const (
	Backs Kind = "backup"
	Fills Kind = "restore"
)

// copySeconds is how long copying takes nominally.
var copySeconds = map[Kind]float64{Backs: 5, Fills: 6}

// Nominal is the time of a change by the profile, for a cloud that is speed
// times faster than nominal.
func Nominal(lib *tosca.Library, speed float64) Duration {
	return func(ch *Change, k Kind) float64 {
		if s, ok := copySeconds[k]; ok {
			return s / speed
		}
		share := map[Kind]float64{New: 1, Swap: 1, Edit: 0.5, Drop: 0.4}[k]
		if k == Adopt && len(ch.Properties) > 0 { // it is changed as well
			share = 0.5
		}
		typ := ch.Type
		if k == Drop && ch.Recorded != nil {
			typ = ch.Recorded.Type
		}
		number := func(name string) float64 {
			var v tosca.Value
			if ch.Wanted == nil {
				v = ch.Recorded.Properties[name]
			} else if p := ch.Wanted.Property(name); p != nil {
				v = p.Value
			}
			n, _ := v.(tosca.Int)
			return float64(n)
		}
		if ch.Wanted != nil && ch.Wanted.Own != nil && ch.Wanted.Shown() != ch.Type { // programs know nothing of the speed
			return share * stack.NominalSeconds(ch.Wanted.Own, number)
		}
		return share * stack.NominalSeconds(lib.Nodes[typ], number) / speed
	}
}

// Compare computes the change set.
func Compare(s State) *ChangeSet {
	room := len(s.Wanted.Resources) + max(0, len(s.Recorded)-len(s.Wanted.Resources))
	c := &Comparison{
		State: s,
		Set: &ChangeSet{Stack: s.Stack, Target: s.Target, BaseRevision: s.BaseRevision,
			Changes: make([]Change, 0, room)},
		recorded:   make(map[string]*stack.Recorded, len(s.Recorded)),
		index:      make(map[string]int, room),
		upstream:   map[string][]string{},
		inputs:     map[string]stack.Input{},
		baseInputs: map[string]stack.Input{},
	}
	c.Recorded = c.withoutBackups(s.Recorded)
	for _, r := range c.Recorded {
		c.recorded[r.Name] = r
	}
	for _, in := range s.Wanted.Inputs {
		c.inputs[in.Name] = in
	}
	for _, in := range s.BaseInputs {
		c.baseInputs[in.Name] = in
	}
	for _, res := range s.Wanted.Selected {
		if res.Found != nil {
			c.Set.Lookups = append(c.Set.Lookups,
				LookedUp{res.Name, res.Found.Type, res.Found.ID, c.movedLookup(res.Name)})
		}
	}
	c.renames()
	c.compareAll()
	for _, r := range c.dropped() {
		if ch := c.drop(r); c.leaveOut(&ch) {
			c.add(ch)
		}
	}
	if !s.Comparing && s.only == nil {
		c.Set.Old, c.Set.Tally.Old = s.Old, len(s.Old)
	}
	c.results()
	c.goFirst()
	c.follow()
	c.risks()
	c.conflicts()
	c.perhapsRenamed()
	c.movedItems()
	c.probes()
	c.estimate()
	c.Set.hide(c.secrets())
	return c.Set
}

// secrets are those of both sides.
func (c *Comparison) secrets() *tosca.Secrets {
	recorded := c.recordedSecrets()
	if recorded.Empty() {
		return c.Wanted.Secrets()
	}
	s := c.Wanted.Secrets().Clone()
	s.Merge(recorded)
	return s
}

// recordedSecrets are those of what is recorded.
func (c *Comparison) recordedSecrets() *tosca.Secrets {
	if c.Memory != nil && c.Memory.secrets != nil {
		return c.Memory.secrets
	}
	s := &tosca.Secrets{}
	if c.Secrets != nil {
		s.Merge(c.Secrets)
	}
	for _, r := range c.Recorded {
		s.Add(tosca.Map(r.Properties), tosca.Map(r.Attributes))
	}
	for _, in := range c.BaseInputs {
		s.Add(in.Value)
	}
	if c.Memory != nil {
		c.Memory.secrets = s
	}
	return s
}

// hide takes the secrets out of all words of the change set, and marks what
// repeats one.
func (c *ChangeSet) hide(secrets *tosca.Secrets) {
	if secrets.Empty() {
		return
	}
	for i := range c.Changes {
		ch := &c.Changes[i]
		if ch.Kind == Same {
			continue
		}
		for j := range ch.Causes {
			ch.Causes[j].Text = secrets.Hide(ch.Causes[j].Text)
		}
		for j := range ch.Because {
			ch.Because[j] = secrets.Hide(ch.Because[j])
		}
		for j := range ch.Properties {
			p := &ch.Properties[j]
			p.Before, p.After = secrets.Mark(p.Before), secrets.Mark(p.After)
		}
	}
	for i := range c.Results {
		r := &c.Results[i]
		r.Before, r.After = secrets.Mark(r.Before), secrets.Mark(r.After)
		for j := range r.Causes {
			r.Causes[j].Text = secrets.Hide(r.Causes[j].Text)
		}
	}
	for _, list := range [][]Risk{c.Risks, c.Standing} {
		for i := range list {
			list[i].Text, list[i].Fix = secrets.Hide(list[i].Text), secrets.Hide(list[i].Fix)
		}
	}
	for i := range c.Left {
		c.Left[i].Text = secrets.Hide(c.Left[i].Text)
	}
	for i := range c.Probes {
		c.Probes[i].Question.URL = secrets.Mark(c.Probes[i].Question.URL)
		c.Probes[i].Question.Body = secrets.Hide(c.Probes[i].Question.Body)
	}
	for i := range c.Lookups {
		c.Lookups[i].Moved = secrets.Hide(c.Lookups[i].Moved)
	}
	c.Findings = secrets.Findings(c.Findings)
}

// Comparison is a comparison under way. Who knows a type by its name asks it, and
// raises what he finds.
type Comparison struct {
	State
	// Set is what comes of it so far.
	Set                *ChangeSet
	recorded           map[string]*stack.Recorded
	index              map[string]int      // of a change in the set
	upstream           map[string][]string // resources whose change causes this one
	inputs, baseInputs map[string]stack.Input
	formerly           map[string]string // the names under which resources are recorded, by those they have
	dependents         stack.Graph       // of all resources; nil until it is asked for
}

func (c *Comparison) add(ch Change) {
	c.index[ch.Name] = len(c.Set.Changes)
	c.Set.Changes = append(c.Set.Changes, ch)
	switch ch.Kind {
	case New:
		c.Set.Tally.New++
	case Edit:
		c.Set.Tally.Edit++
	case Swap:
		c.Set.Tally.Swap++
	case Drop:
		c.Set.Tally.Drop++
	case Same:
		c.Set.Tally.Same++
	case Adopt:
		c.Set.Tally.Adopt++
	case Keep:
		c.Set.Tally.Keep++
	}
}

// Change is the change of a resource already compared; nil before that.
func (c *Comparison) Change(name string) *Change {
	if i, ok := c.index[name]; ok {
		return &c.Set.Changes[i]
	}
	return nil
}

// attributes answers with what is known of a resource before the run: what is
// rebuilt, or may move in an edit, is not known.
func (c *Comparison) attributes(name, attribute string) (tosca.Value, bool) {
	ch := c.Change(name)
	if ch == nil || ch.Recorded == nil || ch.Kind == New || ch.Kind == Swap {
		return nil, false
	}
	if ch.Kind == Edit {
		if d := ch.Wanted.Type.Attribute(attribute); d != nil && d.Metadata["moves"] == "true" {
			return nil, false
		}
	}
	attrs := ch.Recorded.Attributes
	if ch.Live != nil {
		attrs = ch.Live.Attributes
	}
	v, ok := attrs[attribute]
	if d := ch.Wanted.Type.Attribute(attribute); ok && d != nil && d.Type != nil {
		v = d.Type.Read(v)
	}
	return v, ok
}

// ID is the cloud id that a resource keeps, or "" where it gets a new one.
func (c *Comparison) ID(name string) string {
	if ch := c.Change(name); ch != nil && ch.Recorded != nil && ch.Kind != New && ch.Kind != Swap {
		return ch.Recorded.ID
	}
	if f := c.Wanted.Existing(name); f != nil {
		return f.ID
	}
	return c.Foreseen[name]
}

func (c *Comparison) wanted(res *stack.Resource) Change {
	ch := Change{Name: res.Name, Type: res.Type.Name, Pos: res.Pos, Needs: res.Needs, Wanted: res,
		Recorded: c.recorded[res.Name], Kind: New, Formerly: c.formerly[res.Name]}
	props, findings := c.Wanted.Late(res, c.attributes)
	c.Set.Findings = append(c.Set.Findings, findings...)
	rec := ch.Recorded
	if rec != nil && c.Live != nil {
		if ch.Live = c.Live[rec.ID]; ch.Live == nil {
			ch.Recorded = nil
			ch.say(Cause{Kind: Gone, Text: fmt.Sprintf("%s is gone from the cloud", rec.ID)})
			rec, ch.Formerly = nil, ""
		}
	}
	if rec == nil && c.adopt(&ch, props) {
		return ch
	}
	switch {
	case rec == nil:
		c.newProperties(&ch, props)
	case rec.Type != ch.Type:
		ch.Kind = Swap
		ch.say(Cause{Kind: Template, Text: fmt.Sprintf("its type is %s, was %s (%s)", ch.Type, rec.Type,
			res.Pos.Short()), Pos: res.Template().TypePos})
		c.newProperties(&ch, props)
	default:
		ch.Properties = append(c.nameChange(&ch), stack.Diff(res, props, rec, ch.Live, c.ID)...)
		if ch.Formerly == "" {
			ch.Properties = append(ch.Properties, stack.OwnerChanges(c.Stack, res.Name, ch.Live)...)
		}
		ch.Properties = append(ch.Properties, policyChange(res, rec)...)
		ch.Properties = append(ch.Properties, stack.ProgramChanges(res, rec)...)
		ch.Kind = Same
		for _, p := range ch.Properties {
			if p.Effect == stack.Swap {
				ch.Kind = Swap
			} else if ch.Kind == Same {
				ch.Kind = Edit
			}
		}
		c.planned(&ch, props)
		ch.OneWay = ch.Kind == Edit && slices.ContainsFunc(ch.Properties,
			func(p stack.PropertyChange) bool { return oneWay(ch.Wanted.Type, p) })
		for _, p := range ch.Properties {
			c.cause(&ch, p)
		}
		c.left(&ch, props)
	}
	ch.DropFirst = ch.Kind == Swap && (ch.DropFirst || dropsFirst(&ch))
	return ch
}

// NotAsked begins the answer of Plan where a program was not asked.
const NotAsked = "not asked: "

// planned lets a program say how an edit is made, where it does.
func (c *Comparison) planned(ch *Change, props map[string]tosca.Value) {
	if c.Plan == nil || ch.Kind != Edit || ch.Live != nil && ch.Live.Unread() || stack.Programs(ch.Wanted.Own, ch.Wanted.Template())["plan"] == nil {
		return
	}
	about := slices.DeleteFunc(slices.Clone(ch.Properties), func(p stack.PropertyChange) bool { return stack.OwnProperty(ch.Wanted, p) == nil })
	if len(about) == 0 || tosca.Waits(props[about[0].Property]) {
		return
	}
	how, because := c.Plan(ch.Recorded, props)
	if file, not := strings.CutPrefix(how, NotAsked); not {
		ch.NotAsked = file
		return
	}
	if how != "swap" && how != stack.DropFirst {
		return
	}
	ch.Kind, ch.Forced, ch.DropFirst = Swap, true, how == stack.DropFirst
	for i, p := range ch.Properties {
		if stack.OwnProperty(ch.Wanted, p) != nil && (len(because) == 0 || slices.Contains(because, p.Path)) {
			ch.Properties[i].Effect = stack.Swap
		}
	}
}

// dropsFirst reports whether the old part of a swap has to go before the new one is made:
// its type says so, or what forces the swap, or a name that no two can have stays.
func dropsFirst(ch *Change) bool {
	t := ch.Wanted.Type
	if ch.Wanted.Own.Metadata["swap"] == stack.DropFirst {
		return true
	}
	for _, p := range ch.Properties {
		d := t.Property(p.Property)
		if own := stack.OwnProperty(ch.Wanted, p); own != nil {
			d = own
		}
		if p.Effect == stack.Swap && !p.Link && d != nil && d.Metadata["swap"] == stack.DropFirst {
			return true
		}
	}
	for _, name := range uniqueProperties(t) {
		if p := ch.Wanted.Property(name); p != nil && ch.Recorded.Type == t.Name && stack.Same(ch.Recorded.Properties[name], p.Value) {
			return true
		}
	}
	return false
}

// withoutBackups lets nothing promise a backup of what has none: a revision may still say so.
func (c *Comparison) withoutBackups(recorded []*stack.Recorded) []*stack.Recorded {
	for i, r := range recorded {
		if t := c.typeNamed(r.Type); r.Backup > 0 && t != nil && stack.HoldsData(t) && !stack.HasBackups(t) {
			now := *r
			now.Backup, now.Restore = 0, false
			recorded = slices.Clone(recorded)
			recorded[i] = &now
		}
	}
	return recorded
}

// goFirst lets what is linked to the old part of a swap that goes first go before that, where it is
// swapped as well.
func (c *Comparison) goFirst() {
	var first []*Change
	for i := range c.Set.Changes {
		if ch := &c.Set.Changes[i]; ch.DropFirst {
			first = append(first, ch)
		}
	}
	for i := 0; i < len(first); i++ { // it grows: what is linked to one of these goes before it
		for _, name := range c.holders(first[i]) {
			ch := c.Change(name)
			if ch == nil || ch.Kind != Swap || ch.DropFirst || ch.Recorded.Name != name {
				continue
			}
			ch.DropFirst, ch.FirstFor = true, first[i].Name
			first = append(first, ch)
		}
	}
}

// holders are what is linked to the old part of a swap, by the record: it cannot go while
// they are there.
func (c *Comparison) holders(ch *Change) []string {
	var out []string
	for _, r := range c.Recorded {
		for _, links := range r.Links {
			if slices.ContainsFunc(links, func(l stack.LinkTo) bool { return l.ID == ch.Recorded.ID }) && !slices.Contains(out, r.Name) {
				out = append(out, r.Name)
			}
		}
	}
	return out
}

// policies is the path under which a change of a resource's policies stands.
const policies = "policies"

// policyChange says that other policies than recorded apply to a resource. It
// needs no call: it is the record that changes.
func policyChange(res *stack.Resource, rec *stack.Recorded) []stack.PropertyChange {
	if res.Policies == rec.Policies {
		return nil
	}
	list := func(p stack.Policies) tosca.Value {
		l := tosca.List{}
		for _, name := range p.Names() {
			l = append(l, tosca.String(name))
		}
		return l
	}
	return []stack.PropertyChange{{Path: policies, Pointer: tosca.Pointer(policies), Property: policies,
		Before: list(rec.Policies), After: list(res.Policies), Effect: stack.InPlace}}
}

// oneWay reports whether putting a change of a property back would need a
// swap.
func oneWay(t *tosca.NodeType, p stack.PropertyChange) bool {
	d := t.Property(p.Property)
	return d != nil && !p.Link && stack.SwapNeeded(d.Metadata, p.After, p.Before)
}

// adopt takes back under the stack what it had left in the cloud under the
// same name, where that still can become what is wanted.
func (c *Comparison) adopt(ch *Change, props map[string]tosca.Value) bool {
	for _, r := range c.Kept {
		live := c.Live[r.ID]
		if r.Name != ch.Name || r.Type != ch.Type || live == nil || r.Left != nil && live.State != "ready" {
			continue
		}
		changes := stack.Diff(ch.Wanted, props, r, live, c.ID)
		if i := slices.IndexFunc(changes, func(p stack.PropertyChange) bool { return p.Effect == stack.Swap }); i >= 0 {
			if !r.Taken {
				continue
			}
			c.Set.Findings.Errorf(ch.Pos, "cannot-adopt", fmt.Sprintf("write %s as it is there: %s", changes[i].Path, tosca.Show(changes[i].Before)),
				"%s (%s) cannot come under the stack as it is: its %s is %s, and another one would be built", ch.Name, r.ID, changes[i].Path,
				tosca.Show(changes[i].Before))
		}
		ch.Kind, ch.Recorded, ch.Live, ch.Properties = Adopt, r, live, changes
		if r.Taken {
			ch.say(Cause{Kind: Kept, Text: fmt.Sprintf("it is there as %s, and comes under the stack (%s)", r.ID, r.Pos.Short()), Pos: r.Pos})
			return true
		}
		word := "kept"
		if r.Left != nil {
			word = "left"
		}
		ch.say(Cause{Kind: Kept, Text: fmt.Sprintf("it was %s in the cloud as %s and comes back under the stack", word, r.ID)})
		return true
	}
	return false
}

// newProperties lists what a resource is built with.
func (c *Comparison) newProperties(ch *Change, props map[string]tosca.Value) {
	for _, p := range ch.Wanted.Properties {
		v := props[p.Name]
		if v == nil || tosca.Equal(v, tosca.Null{}) {
			continue
		}
		switch p.Def.Metadata["from_own"] {
		case "type", "programs":
			continue
		case "properties":
			for _, c := range stack.Parts(p.Name, v) {
				c.Path = strings.TrimPrefix(c.Path, p.Name+".")
				ch.Properties = append(ch.Properties, c)
			}
			continue
		}
		if p.Def.Metadata["from_interface"] != "" {
			ch.Properties = append(ch.Properties, stack.Parts(p.Name, v)...)
			continue
		}
		ch.Properties = append(ch.Properties,
			stack.PropertyChange{Path: p.Name, Pointer: tosca.Pointer(p.Name), Property: p.Name, After: v,
				Unknown: tosca.Waits(v), Effect: stack.InPlace})
	}
	for _, l := range ch.Wanted.Links {
		unknown := slices.ContainsFunc(l.Targets, func(n string) bool { return c.ID(n) == "" })
		ch.Properties = append(ch.Properties,
			stack.PropertyChange{Path: l.Requirement, Pointer: tosca.Pointer(l.Requirement), Property: l.Requirement,
				Link: true, After: tosca.String(strings.Join(l.Targets, ", ")), Unknown: unknown,
				Effect: stack.InPlace})
	}
	if len(ch.Causes) > 0 {
		return
	}
	if causes := c.countCauses(ch.Name); len(causes) > 0 {
		ch.say(causes...)
		return
	}
	ch.say(Cause{Kind: Template, Text: "it is in the template and not yet built: " + ch.Pos.Short(), Pos: ch.Pos})
}

var marks = map[Kind]string{New: "▲", Edit: "◧", Swap: "⇅", Drop: "▽", Same: "▪", Adopt: "◈", Keep: "◇"}

// Mark is the sign of a kind of change.
func (k Kind) Mark() string { return marks[k] }

func mark(k Kind) string { return k.Mark() }

// dropped lists the recorded resources that are not wanted any more.
func (c *Comparison) dropped() []*stack.Recorded {
	var out []*stack.Recorded
	another := map[string]bool{} // those that have another name now
	for _, was := range c.formerly {
		another[was] = true
	}
	for _, r := range c.Recorded {
		if c.Wanted.Resource(r.Name) == nil && !another[r.Name] {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *stack.Recorded) int { return stack.CompareNames(a.Name, b.Name) })
	return out
}

func (c *Comparison) drop(r *stack.Recorded) Change {
	ch := Change{Name: r.Name, Type: r.Type, Kind: Drop, Pos: r.Pos, Needs: r.Needs, Recorded: r}
	n := c.Wanted.Template(r.Name)
	switch {
	case r.Left != nil:
		ch.say(Cause{Kind: Deletion, Text: fmt.Sprintf("the stack is deleted; run %d had left this: %s", r.Left.Run, r.Left.Reason)})
	case c.Strays[r.Name]:
		ch.say(Cause{Kind: Deletion, Text: "the stack is deleted; this is in no record, but carries the stack's tag"})
	case c.Deleting:
		ch.say(Cause{Kind: Deletion, Text: "the stack is deleted"})
	case r.Name == c.Releasing:
		ch.say(Cause{Kind: Kept, Text: "it is released: it leaves the stack and stays in the cloud as " + r.ID})
	case n != nil:
		ch.say(c.fewer(r.Name, n)...)
	default:
		ch.say(Cause{Kind: Template, Text: fmt.Sprintf("it is no longer in the template (it stood at %s)",
			r.Pos.Short()), Pos: r.Pos})
	}
	if c.Live != nil {
		if ch.Live = c.Live[r.ID]; ch.Live == nil {
			ch.say(Cause{Kind: Gone, Text: r.ID + " is gone from the cloud already"})
		}
	}
	switch {
	case r.Name == c.Releasing:
		ch.Kind = Keep
	case r.Keep:
		ch.Kind = Keep
		ch.say(Cause{Kind: Kept, Text: "the policy Keep keeps it in the cloud"})
	}
	for name, v := range r.Properties {
		if !tosca.Equal(v, tosca.Null{}) {
			ch.Properties = append(ch.Properties,
				stack.PropertyChange{Path: name, Pointer: tosca.Pointer(name), Property: name, Before: v,
					Effect: stack.InPlace})
		}
	}
	slices.SortFunc(ch.Properties, func(a, b stack.PropertyChange) int { return strings.Compare(a.Path, b.Path) })
	return ch
}

// follow turns the causes around: what follows from each change.
func (c *Comparison) follow() {
	down := stack.Graph{}
	for name, ups := range c.upstream {
		if _, ok := down[name]; !ok {
			down[name] = nil
		}
		for _, up := range ups {
			down[up] = append(down[up], name)
		}
	}
	for i := range c.Set.Changes {
		ch := &c.Set.Changes[i]
		if ch.Kind != Same {
			ch.Then = down.Reach(ch.Name)
		}
	}
}

// conflicts finds what the run could not do: guards, and names or ranges that
// the old resource still holds while the new one is built.
func (c *Comparison) conflicts() {
	leaving := map[string]string{} // unique name to the resource that goes
	kept := map[string]string{}    // unique name to the id of what the stack has kept
	for _, r := range c.Kept {
		adopted := c.Change(r.Name) != nil && c.Change(r.Name).Kind == Adopt && c.Change(r.Name).Recorded == r
		if live := c.Live[r.ID]; adopted || c.Live != nil && live == nil {
			continue
		}
		for _, d := range uniqueProperties(c.typeNamed(r.Type)) {
			kept[r.Type+"/"+tosca.InClear(r.Properties[d])] = r.ID
		}
	}
	for _, r := range c.Old {
		for _, d := range uniqueProperties(c.typeNamed(r.Type)) {
			leaving[r.Type+"/"+tosca.InClear(r.Properties[d])] = "the old part of " + r.Name
		}
	}
	for _, ch := range c.Set.Changes {
		guarded := ch.Wanted != nil && ch.Wanted.Guard || ch.Recorded != nil && ch.Recorded.Guard
		if guarded && (ch.Kind == Swap || ch.Kind == Drop) {
			verb := "swap"
			if ch.Kind == Drop {
				verb = "drop"
			}
			c.Set.Findings.Errorf(ch.Pos, "guarded",
				"take it out of the policy Guard first, in a deployment of its own",
				"%s is guarded, and this would %s it", ch.Name, verb)
		}
		if ch.DropFirst {
			held := slices.DeleteFunc(c.holders(&ch), func(name string) bool {
				other := c.Change(name)
				return other != nil && other.DropFirst
			})
			if len(held) > 0 {
				c.Set.Findings.Errorf(ch.Pos, "name-still-taken", "give the new one another name, or take the old one away in a deployment of its own",
					"%s has to go before the new one can be made, and cannot: %s needs it", ch.Name, Few(held))
			}
			if ch.Recorded.Keep || ch.Wanted.Keep {
				c.Set.Findings.Errorf(ch.Pos, "name-still-taken", "take it out of the policy Keep, or give the new one another name",
					"%s has to go before the new one can be made, and the policy Keep keeps it", ch.Name)
			}
			continue
		}
		if (ch.Kind == Drop || ch.Kind == Swap) && ch.Recorded != nil {
			for _, d := range uniqueProperties(c.typeNamed(ch.Recorded.Type)) {
				leaving[ch.Recorded.Type+"/"+tosca.InClear(ch.Recorded.Properties[d])] = ch.Name
			}
		}
	}
	for i := range c.Set.Changes {
		ch := &c.Set.Changes[i]
		if ch.Kind != New && ch.Kind != Swap || ch.Wanted == nil {
			continue
		}
		if c.Knowledge != nil {
			c.Knowledge.Conflicts(c, ch)
		}
		for _, d := range uniqueProperties(ch.Wanted.Type) {
			p := ch.Wanted.Property(d)
			if p == nil {
				continue
			}
			if id := kept[ch.Type+"/"+tosca.InClear(p.Value)]; id != "" {
				c.Set.Findings.Errorf(p.Pos, "name-still-taken",
					fmt.Sprintf("choose another %s, or remove what was kept in the cloud", d),
					"%s wants the %s '%s', which %s holds: the stack has kept it in the cloud", ch.Name, d,
					tosca.Show(p.Value), id)
			}
			if old := leaving[ch.Type+"/"+tosca.InClear(p.Value)]; old != "" {
				c.Set.Findings.Errorf(p.Pos, "name-still-taken",
					fmt.Sprintf("deploy without %s first, or choose another %s", ch.Name, d),
					"%s wants the %s '%s', which %s holds until the sweep at the end", ch.Name, d,
					tosca.Show(p.Value), old)
			}
		}
	}
}

// uniqueProperties lists the properties that no two resources may share.
func uniqueProperties(t *tosca.NodeType) []string {
	var out []string
	if t != nil {
		for _, p := range t.Properties {
			if p.Metadata["cloud_name"] == "true" {
				out = append(out, p.Name)
			}
		}
	}
	return out
}
