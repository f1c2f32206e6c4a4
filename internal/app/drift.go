package app

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// Drift is where a stack in the cloud is not as it is recorded.
type Drift struct {
	Stack *stack.Stack
	Asked time.Time
	// Differs is what is neither as it is recorded, nor as the files want it by now.
	Differs []Differing
	Gone    []*stack.Recorded // recorded and wanted, and not there any more
	// Unrecorded are there with the tag of the stack, and in no record.
	Unrecorded []*stack.Live
	// Unread could not be read: whether these are as they are recorded is not known.
	Unread   []stack.Unread
	Accepted int // places that are not as recorded, and as the files say by now
	accepted []Differing
	secrets  *tosca.Secrets
	current  []*stack.Recorded
	live     map[string]*stack.Live // what is there of the stack, by id
}

// Empty reports whether nothing was found that is not as it is recorded. What could not be read may be otherwise all the same.
func (d *Drift) Empty() bool { return len(d.Differs)+len(d.Gone)+len(d.Unrecorded) == 0 }

// Standing is how the stack stands to its record.
func (d *Drift) Standing() stack.Standing {
	return stack.Standing{Differs: d.Resources(), Unread: len(d.Unread), Accepted: d.Accepted}
}

// Of is the part of it that is of one resource, and of those that the same node makes; of one
// that is in no record, what has its id.
func (d *Drift) Of(name, id string) *Drift {
	for _, l := range d.Unrecorded {
		if l.ID == id {
			return &Drift{Stack: d.Stack, Asked: d.Asked, current: d.current, live: d.live, Unrecorded: []*stack.Live{l}}
		}
	}
	node, _, _ := strings.Cut(name, "#")
	other := func(name string) bool {
		of, _, _ := strings.Cut(name, "#")
		return of != node
	}
	return &Drift{Stack: d.Stack, Asked: d.Asked, current: d.current, live: d.live,
		Differs: slices.DeleteFunc(slices.Clone(d.Differs), func(c Differing) bool { return other(c.Name) }),
		Gone:    slices.DeleteFunc(slices.Clone(d.Gone), func(r *stack.Recorded) bool { return other(r.Name) })}
}

// Differing is one place where a resource is not as it is recorded.
type Differing struct {
	Name, Type, ID string
	Pos            tosca.Pos // of the node, in the template it was deployed from
	// PropertyChange has what is recorded as Before, and what is there as After.
	stack.PropertyChange
	// Wanted is what the files say now, where they can be read; what was deployed where they
	// cannot.
	Wanted tosca.Value
	// Whole is the whole property as it is there, without tags that others have put there.
	Whole tosca.Value
	Since time.Time // when the resource was changed last; zero where the cloud does not tell
	By    stack.Author
}

// Accepted reports whether the files say already what is there.
func (d *Differing) Accepted() bool { return stack.Same(d.Wanted, d.After) }

// Drift asks the cloud for the resources of a stack, once, and holds them against the record.
func (a *App) Drift(ctx context.Context, st *stack.Stack) (*Drift, error) {
	if running(st.State) {
		return nil, refusal("%s is %s: what differs now is what the run is doing", st.Name, st.State)
	}
	return a.lookAt(ctx, st)
}

// lookAt asks the cloud for the resources of a stack, holds them against the record, and notes
// what has changed since somebody looked last.
func (a *App) lookAt(ctx context.Context, st *stack.Stack) (*Drift, error) {
	s, err := a.sight(ctx, st.Target)
	if err != nil {
		return nil, err
	}
	var list []cloud.Resource
	var rec allRecorded
	g, both := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		list, err = a.Cloud.List(both, st.Target, st.Name)
		return err
	})
	g.Go(func() (err error) {
		rec, err = a.allRecorded(both, st)
		return err
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	live := make(map[string]*stack.Live, len(list))
	for _, l := range s.see(a.Profile.Library, list...) {
		live[l.ID] = l
	}
	if err := a.askMissing(ctx, st, rec.current, live, s.see); err != nil { // it may have lost its tag
		return nil, err
	}
	drift := a.driftFrom(ctx, st, rec, live)
	if err := a.stillGone(ctx, drift); err != nil {
		return nil, err
	}
	there := make(map[string]*There, len(live))
	for id, l := range live {
		there[id] = &There{Live: l, Target: st.Target, Owner: &Owner{Stack: st.Name, Node: cloud.Clean(l.Tags["node"]), Of: st}}
	}
	for _, list := range rec.lists() {
		for _, r := range list {
			if t := there[r.ID]; t != nil {
				t.Owner.Node = r.Name
			}
		}
	}
	for _, d := range drift.Differs {
		if there[d.ID] == nil {
			continue
		}
		there[d.ID].Differs = append(there[d.ID].Differs, d)
	}
	if err := a.noteDiffers(ctx, drift); err != nil {
		return nil, err
	}
	return drift, a.note(ctx, s, slices.Collect(maps.Values(there)), drift.secrets, func(was store.Sight) bool { return was.Stack == st.Name })
}

// askMissing asks for what is recorded and was not listed, each by itself: it may be there all the same, such as what a run
// has made since, or be nobody knows how.
func (a *App) askMissing(ctx context.Context, st *stack.Stack, current []*stack.Recorded, live map[string]*stack.Live,
	see func(*tosca.Library, ...cloud.Resource) []*stack.Live) error {
	var mu sync.Mutex
	g, each := errgroup.WithContext(ctx)
	g.SetLimit(8)
	missing := slices.DeleteFunc(slices.Clone(current), func(r *stack.Recorded) bool { return live[r.ID] != nil })
	for _, r := range missing {
		g.Go(func() error {
			there, err := a.Cloud.Get(each, cloud.Ref{Target: st.Target, Type: r.Type, ID: r.ID})
			if cloud.IsNotFound(err) || each.Err() != nil {
				return each.Err()
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				live[r.ID] = &stack.Live{ID: r.ID, Type: r.Type, Node: r.Name, State: cloud.Unreadable, Why: cloud.Clean(err.Error()),
					Tags: map[string]string{"stack": st.Name, "node": r.Name}, Properties: map[string]tosca.Value{}, Attributes: map[string]tosca.Value{}}
				return nil
			}
			live[r.ID] = see(a.Profile.Library, there)[0]
			return nil
		})
	}
	return g.Wait()
}

// stillGone takes back that something is gone, and that something is in no record, where the stack has moved on while it was
// looked at: a run may have removed or made it meanwhile.
func (a *App) stillGone(ctx context.Context, d *Drift) error {
	if len(d.Gone)+len(d.Unrecorded) == 0 {
		return nil
	}
	now, err := a.store.ByID(ctx, d.Stack.ID)
	if err != nil {
		return err
	}
	if running(now.State) || now.Updated != d.Stack.Updated || now.Revision != d.Stack.Revision {
		d.Gone, d.Unrecorded = nil, nil
	}
	return nil
}

// Resources is how many differ, are gone or are in no record.
func (d *Drift) Resources() int {
	n := len(d.Gone) + len(d.Unrecorded)
	for i, c := range d.Differs { // by name
		if i == 0 || d.Differs[i-1].Name != c.Name {
			n++
		}
	}
	return n
}

// noteDiffers notes how a stack stands in the cloud, where that is other than it was: how much of it differs, what has
// failed and what is at rest.
func (a *App) noteDiffers(ctx context.Context, d *Drift) error {
	if err := a.noteSeen(ctx, d.Stack, d.current, d.live); err != nil {
		return err
	}
	n := d.Resources()
	if n == d.Stack.Differs {
		return nil
	}
	return a.store.NoteDiffers(ctx, d.Stack.ID, n)
}

// noteSeen notes what has failed and what is at rest of a stack.
func (a *App) noteSeen(ctx context.Context, st *stack.Stack, current []*stack.Recorded, live map[string]*stack.Live) error {
	failed, resting, can, unread := 0, 0, 0, 0
	for _, r := range current {
		if slices.ContainsFunc(a.ActionsOf(r), func(o *tosca.Operation) bool { return o.Name == run.VerbSuspend }) {
			can++
		}
		switch l := live[r.ID]; {
		case l == nil:
		case l.Unread():
			unread++
		case l.State == "failed":
			failed++
		case l.State == cloud.Suspended:
			resting++
		}
	}
	is := stack.SeenAs(failed, resting, can)
	if is == st.Seen || unread > 0 && failed == 0 { // what could not be read may be what was seen before
		return nil
	}
	return a.store.NoteSeenAs(ctx, st.ID, is)
}

// allRecorded is all that is recorded of a stack.
type allRecorded struct {
	current, old, kept []*stack.Recorded
	secrets            *tosca.Secrets // that are in it, and in the inputs of its revisions
}

func (a *App) allRecorded(ctx context.Context, st *stack.Stack) (r allRecorded, err error) {
	if r.current, r.old, err = a.recorded(ctx, st); err != nil {
		return r, err
	}
	if r.kept, err = a.store.Kept(ctx, st.ID); err != nil {
		return r, err
	}
	if r.secrets, err = a.secretsOf(ctx, st); err != nil {
		return r, err
	}
	for _, list := range r.lists() {
		for _, rec := range list {
			r.secrets.Add(tosca.Map(rec.Properties), tosca.Map(rec.Attributes))
		}
	}
	return r, nil
}

func (r *allRecorded) lists() [][]*stack.Recorded {
	return [][]*stack.Recorded{r.old, r.kept, r.current}
}

// driftFrom holds what the cloud has shown of a stack against the record. What the files say
// is read only where something differs.
func (a *App) driftFrom(ctx context.Context, st *stack.Stack, rec allRecorded, live map[string]*stack.Live) *Drift {
	out := &Drift{Stack: st, Asked: time.Now(), current: rec.current, live: live}
	names := map[string]string{}
	secrets := rec.secrets
	for _, list := range rec.lists() {
		for _, r := range list {
			names[r.ID] = r.Name
		}
	}
	wanted := sync.OnceValue(func() *stack.Wanted { return a.wantedNow(ctx, st) })
	attributes := sync.OnceValue(func() stack.Attributes { return recordedAttributes(rec.current) })
	changed := make([][]stack.PropertyChange, len(rec.current))
	inParts(len(rec.current), func(from, to int) {
		for i := from; i < to; i++ {
			r := rec.current[i]
			l, t := live[r.ID], a.Profile.Library.Nodes[r.Type]
			if l == nil || t == nil || l.Unread() {
				continue
			}
			l.Mark(secrets)
			changed[i] = stack.Drift(r, t, l, func(id string) string { return names[id] })
			for _, c := range stack.OwnerChanges(st.Name, r.Name, l) { // whose it is
				c.Before, c.After = c.After, c.Before
				changed[i] = append(changed[i], c)
			}
		}
	})
	found := map[*stack.Recorded][]stack.PropertyChange{}
	for i, r := range rec.current {
		if l := live[r.ID]; l != nil && l.Unread() {
			out.Unread = append(out.Unread, stack.Unread{Name: r.Name, ID: r.ID, Through: l.Through, Why: secrets.Hide(l.Why)})
		}
		switch {
		case live[r.ID] == nil && (wanted() == nil || wanted().Resource(r.Name) != nil):
			out.Gone = append(out.Gone, r)
		case len(changed[i]) > 0:
			found[r] = changed[i]
		}
	}
	if len(found) > 0 && wanted() != nil {
		now := wanted().Secrets().Clone()
		now.Merge(secrets)
		secrets = now
	}
	out.secrets = secrets
	for _, r := range rec.current {
		var props map[string]tosca.Value
		var res *stack.Resource
		for _, c := range found[r] {
			if res == nil && wanted() != nil {
				if res = wanted().Resource(r.Name); res != nil {
					props, _ = wanted().Late(res, attributes())
				}
			}
			l := live[r.ID]
			d := Differing{Name: r.Name, Type: r.Shown(), ID: r.ID, Pos: r.Pos, PropertyChange: c, Since: l.Changed, By: l.By}
			if d.Whole = c.After; !c.Link {
				d.Whole = secrets.Mark(stack.There(r, l, c.Property))
			}
			d.Before, d.After = secrets.Mark(c.Before), secrets.Mark(c.After)
			switch {
			case c.Owner():
				d.Wanted = d.Before
			case res != nil && c.Link:
				d.Wanted = stack.TextList(res.Targets(c.Property))
			case res != nil:
				d.Wanted = secrets.Mark(stack.At(props[c.Property], c.Pointer))
			}
			if d.Accepted() {
				out.Accepted++
				out.accepted = append(out.accepted, d)
				continue
			}
			out.Differs = append(out.Differs, d)
		}
	}
	for id, l := range live {
		if names[id] == "" && l.Tags["stack"] == st.Name && !l.Unread() && (l.Store == "" || l.Store == a.storeID(ctx)) {
			l.Mark(secrets)
			out.Unrecorded = append(out.Unrecorded, l)
		}
	}
	slices.SortFunc(out.Unrecorded, func(a, b *stack.Live) int {
		return cmp.Or(strings.Compare(a.Node, b.Node), strings.Compare(a.ID, b.ID))
	})
	slices.SortStableFunc(out.Differs, func(a, b Differing) int { return stack.CompareNames(a.Name, b.Name) })
	return out
}

// wantedNow is what the files of a stack say now; what was deployed, where they cannot be
// read; nil where there is neither.
func (a *App) wantedNow(ctx context.Context, st *stack.Stack) *stack.Wanted {
	if st.StackFile != "" {
		if d, err := a.Load(ctx, st.StackFile, Values{}); err == nil && d.Wanted != nil && d.Stack != nil && d.Stack.Stack == st.Name {
			return d.Wanted
		}
	}
	if st.Revision == 0 {
		return nil
	}
	w, err := a.RevisionWanted(ctx, st.ID, st.Revision)
	if err != nil {
		return nil
	}
	return w
}

// recordedAttributes answers expressions with what is recorded.
func recordedAttributes(current []*stack.Recorded) stack.Attributes {
	byName := make(map[string]*stack.Recorded, len(current))
	for _, r := range current {
		byName[r.Name] = r
	}
	return func(resource, name string) (tosca.Value, bool) {
		r := byName[resource]
		if r == nil {
			return nil, false
		}
		v, ok := r.Attributes[name]
		return v, ok
	}
}

// WhatIfPutBack is what would make a stack in the cloud as it is recorded: the revision that
// is deployed, once more.
func (a *App) WhatIfPutBack(ctx context.Context, st *stack.Stack) (*Preview, error) {
	if st.Revision == 0 {
		return nil, refusal("%s is not deployed: there is nothing to put back", st.Name)
	}
	d, err := a.Drift(ctx, st)
	if err != nil {
		return nil, err
	}
	if d.Accepted == 0 {
		return a.WhatIfUndo(ctx, st, st.Revision)
	}
	// What the files say by now stays: going back to the revision would undo it.
	var only, stay []string
	for _, c := range d.accepted {
		stay = append(stay, c.Name)
	}
	differs := func(name string) error {
		if i := slices.Index(stay, name); i >= 0 {
			return refusal("%s of %s is as the files say by now, and putting the rest of %s back would undo that: deploy the files first, which records it", d.accepted[i].Path, name, name)
		}
		if !slices.Contains(only, name) {
			only = append(only, name)
		}
		return nil
	}
	for _, c := range d.Differs {
		if err := differs(c.Name); err != nil {
			return nil, err
		}
	}
	for _, r := range d.Gone {
		if err := differs(r.Name); err != nil {
			return nil, err
		}
	}
	if len(only) == 0 {
		return nil, refusal("there is nothing to put back: what differs from the record is as the files say by now (%s); deploying them records it", strings.Join(stay, ", "))
	}
	return a.whatIfUndo(ctx, st, st.Revision, only)
}
