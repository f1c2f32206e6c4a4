package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/programs"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// Inventory is what there is in the cloud, as it was asked for, and whose it is. It is only
// read; what has changed makes another one.
type Inventory struct {
	Asked   time.Time
	Targets []Inventoried
	// There is what is there or should be, by target, stack and course; nobody's come last.
	There []*There
	ids   map[Place]*There
	read  map[int64]readRecord // what is recorded of the stacks
}

// readRecord is what is recorded of a stack while it is as it was.
type readRecord struct {
	of deployedKey
	allRecorded
}

// Place is where something is in the cloud.
type Place struct {
	Target stack.Target
	ID     string
}

// Inventoried is a target that was asked, and why it did not answer.
type Inventoried struct {
	stack.Target
	Problem string
	Partly  []string // why not all of it is known
}

// There is a resource that is there, or is recorded and gone.
type There struct {
	*stack.Live // of what is gone, its type and id alone
	Target      stack.Target
	Owner       *Owner // nil is nobody's
	Gone        bool   // it is recorded and not there
	Differs     []Differing
	UsedBy      []string          // ids of what links to it, in the same target
	Tags        map[string]string // without secrets; Live has them as they are
}

// Owner is the stack that a resource belongs to.
type Owner struct {
	Stack string
	Node  string       // the name of the resource in it
	Of    *stack.Stack // nil where it is not in this store
	// Recorded is what is recorded of it; nil is nothing. Old says that it is what is left of
	// a swap, Kept that the stack has left it in the cloud.
	Recorded  *stack.Recorded
	Old, Kept bool
	course    int
}

// Name is what it is called: its name in its stack, else the one it has in the cloud, else
// its id.
func (t *There) Name() string {
	switch {
	case t.Owner != nil && t.Owner.Node != "":
		return t.Owner.Node
	case t.Live.Node != "":
		return cloud.Clean(t.Live.Node)
	}
	if name, ok := t.Properties["name"].(tosca.String); ok && name != "" {
		return cloud.Clean(string(name))
	}
	return t.ID
}

// Place is where it is.
func (t *There) Place() Place { return Place{t.Target, t.ID} }

// Odd reports whether it is not as it should be: it differs, is gone, or carries the tag of a
// stack that does not know it.
func (t *There) Odd() bool { return t.Gone || len(t.Differs) > 0 || t.Stray() }

// Stray reports whether it carries the tag of a stack of this store that does not know it.
func (t *There) Stray() bool { return t.Owner != nil && t.Owner.Of != nil && t.Owner.Recorded == nil }

// NewInventory is an inventory of what is known to be there.
func NewInventory(there ...*There) *Inventory {
	v := &Inventory{Asked: time.Now(), There: there, ids: map[Place]*There{}}
	for _, r := range there {
		v.ids[r.Place()] = r
	}
	return v
}

// At finds what is at a place; nil where nothing is.
func (v *Inventory) At(p Place) *There { return v.ids[p] }

// Named finds what is there of a stack by the name of its resource.
func (v *Inventory) Named(st *stack.Stack, name string) (*There, error) {
	var names []string
	for _, r := range v.There {
		if r.Owner == nil || r.Owner.Stack != st.Name || r.Target != st.Target || r.Gone {
			continue
		}
		if r.Owner.Node == name {
			return r, nil
		}
		names = append(names, r.Owner.Node)
	}
	return nil, refusal("%s has no resource %s in the cloud%s", st.Name, name, suggested(name, names))
}

func (a *App) now() time.Time {
	if a.clock != nil {
		return a.clock()
	}
	return time.Now()
}

// Look asks targets for all that is in them; none are all that there are. A target that does
// not answer is told, and is no error while another one does.
func (a *App) Look(ctx context.Context, targets ...stack.Target) (*Inventory, error) {
	if len(targets) == 0 {
		var err error
		if targets, err = a.Cloud.Targets(ctx); err != nil {
			return nil, fmt.Errorf("ask the cloud for its targets: %w", err)
		}
	}
	out := &Inventory{Asked: a.now()}
	lists := make([][]*stack.Live, len(targets))
	failed, partly := make([]error, len(targets)), make([][]string, len(targets))
	sights := make([]*sighting, len(targets))
	var g errgroup.Group
	g.SetLimit(4)
	for i, t := range targets {
		g.Go(func() error {
			if sights[i], failed[i] = a.sight(ctx, t); failed[i] != nil {
				return nil
			}
			ctx, unlisted := programs.Listing(ctx)
			list, err := a.Cloud.List(ctx, t, "")
			failed[i], partly[i] = err, unlisted.Why()
			lists[i] = sights[i].see(a.Profile.Library, list...)
			return nil
		})
	}
	_ = g.Wait()
	answered := len(targets) == 0
	there := map[stack.Target][]*stack.Live{}
	for i, t := range targets {
		in := Inventoried{Target: t, Partly: partly[i]}
		if failed[i] != nil {
			in.Problem = failed[i].Error()
		} else {
			answered, there[t] = true, lists[i]
		}
		out.Targets = append(out.Targets, in)
	}
	if !answered {
		return nil, fmt.Errorf("ask the cloud what is there: %w", errors.Join(failed...))
	}
	secrets, err := a.arrange(ctx, out, there)
	if err != nil {
		return nil, err
	}
	for i, s := range sights {
		if failed[i] == nil {
			if err := a.note(ctx, s, out.There, secrets, nil); err != nil {
				return nil, fmt.Errorf("note what has changed in %s: %w", s.target, err)
			}
		}
	}
	return out, nil
}

// arrange finds out whose it is what is there, and what is not as it should be. It yields the
// secrets of the stacks.
func (a *App) arrange(ctx context.Context, out *Inventory, there map[stack.Target][]*stack.Live) (*tosca.Secrets, error) {
	stacks, err := a.store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	read := out.read
	out.There, out.ids, out.read = nil, map[Place]*There{}, map[int64]readRecord{}
	secrets, err := a.allSecrets(ctx) // also of those elsewhere: somebody may have written theirs here
	if err != nil {
		return nil, err
	}
	for _, st := range stacks {
		if _, asked := there[st.Target]; !asked {
			continue
		}
		is, known := read[st.ID]
		if !known || is.of != keyOf(st) || running(st.State) {
			is.of = keyOf(st)
			if is.allRecorded, err = a.allRecorded(ctx, st); err != nil {
				return nil, err
			}
		}
		out.read[st.ID] = is
		secrets.Merge(is.secrets)
	}
	for _, t := range slices.SortedFunc(maps.Keys(there), compareTargets) {
		byID := make(map[string]*There, len(there[t]))
		for _, l := range there[t] {
			byID[l.ID] = &There{Live: l, Target: t}
		}
		for _, st := range stacks {
			if st.Target != t {
				continue
			}
			if err := a.own(ctx, st, out.read[st.ID].allRecorded, byID); err != nil {
				return nil, err
			}
		}
		for _, r := range byID {
			if r.Owner == nil && r.Live.Tags["stack"] != "" { // of another store
				r.Owner = &Owner{Stack: cloud.Clean(r.Live.Tags["stack"]), Node: cloud.Clean(r.Live.Tags["node"])}
			}
			for _, ids := range r.Links {
				for _, id := range ids {
					if to := byID[id]; to != nil && !slices.Contains(to.UsedBy, r.ID) {
						to.UsedBy = append(to.UsedBy, r.ID)
					}
				}
			}
			out.There = append(out.There, r)
			out.ids[r.Place()] = r
		}
	}
	for _, r := range out.There {
		r.Mark(secrets) // somebody may have written one there
		slices.Sort(r.UsedBy)
		r.Tags = make(map[string]string, len(r.Live.Tags))
		for k, v := range r.Live.Tags {
			r.Tags[secrets.Hide(k)] = secrets.Hide(v)
		}
	}
	slices.SortFunc(out.There, func(a, b *There) int {
		return cmp.Or(compareTargets(a.Target, b.Target), compareOwners(a.Owner, b.Owner), stack.CompareNames(a.Name(), b.Name()),
			strings.Compare(a.ID, b.ID))
	})
	return secrets, nil
}

func compareTargets(a, b stack.Target) int {
	return cmp.Or(strings.Compare(a.Account, b.Account), strings.Compare(a.Region, b.Region))
}

// compareOwners has nobody last, and the resources of a stack in the order of its courses.
func compareOwners(a, b *Owner) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return 1
	case b == nil:
		return -1
	}
	return cmp.Or(strings.Compare(a.Stack, b.Stack), a.course-b.course)
}

// own finds what belongs to a stack, and holds it against the record.
func (a *App) own(ctx context.Context, st *stack.Stack, rec allRecorded, byID map[string]*There) error {
	courses := map[string]int{}
	for i, course := range stack.RecordedGraph(rec.current).Courses() {
		for _, name := range course {
			courses[name] = i
		}
	}
	store := a.storeID(ctx)
	live := make(map[string]*stack.Live, len(rec.current))
	for i, list := range rec.lists() {
		for _, r := range list {
			is, kept := byID[r.ID], i == 1
			if is == nil || kept && is.Owner != nil { // what was kept may have come under another one
				continue
			}
			is.Owner = &Owner{Stack: st.Name, Node: r.Name, Of: st, Recorded: r, Old: i == 0, Kept: kept, course: courses[r.Name]}
			live[r.ID] = is.Live
		}
	}
	for id, is := range byID {
		if is.Owner == nil && is.Live.Tags["stack"] == st.Name && (is.Live.Store == "" || is.Live.Store == store) {
			is.Owner = &Owner{Stack: st.Name, Node: cloud.Clean(is.Live.Tags["node"]), Of: st, course: len(courses)}
			live[id] = is.Live
		}
	}
	if running(st.State) { // what differs is what the run is doing
		return nil
	}
	if err := a.askMissing(ctx, st, rec.current, live, func(lib *tosca.Library, list ...cloud.Resource) []*stack.Live {
		l := list[0].Live(lib)
		l.By = stack.AuthorOf(l.ChangedBy, store)
		return []*stack.Live{l}
	}); err != nil {
		return err
	}
	for _, r := range rec.current {
		if l := live[r.ID]; l != nil && byID[r.ID] == nil {
			byID[r.ID] = &There{Live: l, Target: st.Target, Owner: &Owner{Stack: st.Name, Node: r.Name, Of: st, Recorded: r, course: courses[r.Name]}}
		}
	}
	drift := a.driftFrom(ctx, st, rec, live)
	if err := a.stillGone(ctx, drift); err != nil {
		return err
	}
	for _, d := range drift.Differs {
		byID[d.ID].Differs = append(byID[d.ID].Differs, d)
	}
	for _, r := range drift.Gone {
		byID[r.ID] = &There{Live: &stack.Live{ID: r.ID, Type: r.Type, Node: r.Name, Tags: map[string]string{}}, Target: st.Target,
			Gone: true, Owner: &Owner{Stack: st.Name, Node: r.Name, Of: st, Recorded: r, course: courses[r.Name]}}
	}
	return a.noteDiffers(ctx, drift)
}

// LookAgain is an inventory in which some resources were asked for again, as something has
// happened to them.
func (a *App) LookAgain(ctx context.Context, v *Inventory, changed []Place) (*Inventory, error) {
	there := map[stack.Target][]*stack.Live{}
	for _, in := range v.Targets {
		if in.Problem == "" {
			there[in.Target] = nil
		}
	}
	anew := map[Place]bool{}
	for _, p := range changed {
		anew[p] = true
	}
	for _, r := range v.There {
		if !r.Gone && !anew[r.Place()] {
			l := *r.Live // somebody may be looking at that one
			l.Properties, l.Attributes = maps.Clone(l.Properties), maps.Clone(l.Attributes)
			there[r.Target] = append(there[r.Target], &l)
		}
	}
	sights := map[stack.Target]*sighting{}
	for p := range anew {
		if _, asked := there[p.Target]; asked && sights[p.Target] == nil {
			var err error
			if sights[p.Target], err = a.sight(ctx, p.Target); err != nil {
				return nil, err
			}
		}
	}
	var mu sync.Mutex
	var got []*There
	g, each := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for p := range anew {
		if _, asked := there[p.Target]; !asked {
			continue
		}
		g.Go(func() error {
			r, err := a.Cloud.Get(each, cloud.Ref{Target: p.Target, ID: p.ID, Type: v.typeOf(p)})
			if cloud.IsNotFound(err) {
				return nil
			}
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			got = append(got, &There{Live: sights[p.Target].see(a.Profile.Library, r)[0], Target: p.Target})
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, r := range got {
		there[r.Target] = append(there[r.Target], r.Live)
	}
	out := &Inventory{Asked: v.Asked, Targets: v.Targets, read: v.read}
	secrets, err := a.arrange(ctx, out, there)
	if err != nil {
		return nil, err
	}
	for t, s := range sights { // of these alone
		among := func(was store.Sight) bool { return anew[Place{t, was.ID}] }
		if err := a.note(ctx, s, out.There, secrets, among); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (v *Inventory) typeOf(p Place) string {
	if is := v.ids[p]; is != nil {
		return is.Type
	}
	return ""
}

// Follow tells what happens in targets while the context lasts, where the cloud tells it by
// itself; it begins again where the connection is lost. It ends at once with a cloud that
// does not.
func (a *App) Follow(ctx context.Context, targets []Inventoried, each func(Place)) {
	feeding, ok := a.Cloud.(cloud.Feeding)
	if !ok {
		return
	}
	var g errgroup.Group
	for _, t := range targets {
		if t.Problem != "" {
			continue
		}
		g.Go(func() error {
			for ctx.Err() == nil {
				_ = feeding.Feed(ctx, t.Target, -1, func(c cloud.Change) { each(Place{t.Target, c.ID}) })
				select {
				case <-ctx.Done():
				case <-time.After(time.Second):
				}
			}
			return nil
		})
	}
	_ = g.Wait()
}
