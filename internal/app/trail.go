package app

import (
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"hash/fnv"
	"maps"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/programs"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// The time line: each reading of the cloud is held against what was seen last, and only what
// has changed is kept.

// shapeDigest is that of the configuration of a resource, as the cloud shows it.
func shapeDigest(r *cloud.Resource) string {
	h := fnv.New128a()
	buf := append(make([]byte, 0, 512), r.Type...)
	buf = shapeOf(buf, r.Properties)
	for _, q := range sortedKeys(r.Links) {
		buf = append(append(buf, 0, 'l'), q...)
		for _, id := range r.Links[q] {
			buf = append(append(buf, 0), id...)
		}
	}
	for _, k := range sortedKeys(r.Tags) {
		if k == stack.StoreTag {
			continue
		}
		buf = append(append(append(append(buf, 0, 't'), k...), 0), r.Tags[k]...)
	}
	_, _ = h.Write(buf)
	return hex.EncodeToString(h.Sum(nil))
}

// shapeOf writes a value so that no other one is written alike.
func shapeOf(buf []byte, v any) []byte {
	switch v := v.(type) {
	case map[string]any:
		buf = append(buf, '{')
		for _, k := range sortedKeys(v) {
			buf = shapeOf(append(append(buf, k...), 0), v[k])
		}
		return append(buf, '}')
	case []any:
		buf = append(buf, '[')
		for _, e := range v {
			buf = shapeOf(buf, e)
		}
		return append(buf, ']')
	case string:
		return append(append(strconv.AppendInt(append(buf, 's'), int64(len(v)), 10), ':'), v...)
	case bool:
		return strconv.AppendBool(buf, v)
	case float64:
		return append(strconv.AppendFloat(append(buf, 'f'), v, 'g', -1, 64), ';')
	case json.Number:
		return append(append(append(buf, 'f'), v...), ';')
	}
	return append(buf, '0')
}

func sortedKeys[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// sighting is what was known of a target before it was looked at, and what is there.
type sighting struct {
	target  stack.Target
	store   string // the id of the store, by which its runs are told
	before  func() (store.Sights, error)
	digests map[string]string // of what is there, by id
}

// sight reads what is known of a target. That comes before looking: what somebody else sees
// meanwhile is no change then.
func (a *App) sight(ctx context.Context, t stack.Target) (*sighting, error) {
	s := &sighting{target: t, store: a.storeID(ctx), digests: map[string]string{}}
	var err error
	s.before, err = a.store.Sights(ctx, t)
	return s, err
}

// see adds what is there, and reads it with the types of the profile.
func (s *sighting) see(lib *tosca.Library, list ...cloud.Resource) []*stack.Live {
	out, digests := make([]*stack.Live, len(list)), make([]string, len(list))
	inParts(len(list), func(from, to int) {
		for i := from; i < to; i++ {
			out[i], digests[i] = list[i].Live(lib), shapeDigest(&list[i])
			out[i].By = stack.AuthorOf(list[i].ChangedBy, s.store)
		}
	})
	for i := range list {
		if list[i].State == cloud.Unreadable { // nothing is known of it
			digests[i] = unseen
		}
		s.digests[list[i].ID] = digests[i]
	}
	return out
}

// unseen is in the place of the digest of what could not be read.
const unseen = ""

// inParts does something with n things, on all processors where they are many.
func inParts(n int, do func(from, to int)) {
	parts := min(runtime.GOMAXPROCS(0), n/200+1)
	var wg sync.WaitGroup
	for i := range parts {
		wg.Go(func() { do(i*n/parts, (i+1)*n/parts) })
	}
	wg.Wait()
}

// note writes what has changed of a target since it was looked at last. Among says what of it
// was looked at; nil is the whole target.
func (a *App) note(ctx context.Context, s *sighting, there []*There, secrets *tosca.Secrets, among func(store.Sight) bool) error {
	before, err := s.before()
	if err != nil {
		return err
	}
	now := time.Now()
	var list []store.Seen
	seen := map[string]bool{}
	resources := 0
	byRuns := map[*stack.Stack][]int{} // what a run may have done, by its place in the list
	for _, r := range there {
		if r.Target != s.target || r.Gone {
			continue
		}
		d, looked := s.digests[r.ID]
		if !looked {
			continue
		}
		resources++
		seen[r.ID] = true
		if d == unseen || r.Owner == nil && r.Type == programs.Type { // that is not asked for at every look
			continue
		}
		x := store.Seen{Sight: store.Sight{ID: r.ID, Type: r.Type, Digest: d}}
		var st *stack.Stack
		if r.Owner != nil {
			x.Stack, x.Node, st = r.Owner.Stack, r.Owner.Node, r.Owner.Of
		}
		was, known := before.Known[r.ID]
		if known && was.Digest == d && was.Stack == x.Stack && was.Node == x.Node {
			continue
		}
		shape := stack.ShapeOf(r.Live)
		x.Was, x.Shape = was.Digest, &shape
		x.Trace = stack.Trace{Kind: stack.WasMade, At: r.Changed, By: r.ChangedBy}
		if r.By.Own && r.By.Stack == x.Stack {
			x.Trace.Run = r.By.Run
		}
		switch {
		case known:
			x.Trace.Kind = stack.WasChanged
			before, err := a.store.Shape(ctx, s.target, r.ID)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			if x.Trace.Differences = stack.Between(before, shape); len(x.Trace.Differences) == 0 { // it is another stack's
				x.Trace.Differences = owners(was, x.Sight)
			}
			if len(x.Trace.Differences) == 0 {
				x.Trace.Kind = ""
			}
		case !before.Looked && among == nil:
			x.Trace.Kind = stack.WasFound
		}
		if x.Trace.At.IsZero() {
			x.Trace.At = now
		}
		if st != nil && r.By.Kind == stack.Outside && len(r.Differs) == 0 { // else it is known, or somebody was at it since
			byRuns[st] = append(byRuns[st], len(list))
		}
		list = append(list, x)
	}
	for st, which := range byRuns {
		since := now
		for _, i := range which {
			if at := list[i].Trace.At; at.Before(since) {
				since = at
			}
		}
		doings, err := a.store.Doings(ctx, st.ID, since)
		if err != nil {
			return err
		}
		for _, i := range which {
			t := &list[i].Trace
			if t.Run = doings.At(list[i].Node, t.At); t.Run > 0 && t.Kind == stack.WasFound {
				t.Kind = stack.WasMade
			}
		}
	}
	removals, latest := map[int64]map[string]store.Removal{}, map[string]*stack.Stack{}
	for id, was := range before.Known {
		if seen[id] || among != nil && !among(was) {
			continue
		}
		x := store.Seen{Sight: was, Was: was.Digest, Trace: stack.Trace{Kind: stack.WasRemoved, At: now}}
		st := latest[was.Stack]
		if st == nil && was.Stack != "" { // as it is now: a run may have begun meanwhile
			if is, err := a.store.At(ctx, was.Stack, s.target); err == nil {
				st = is
				latest[was.Stack] = is
			}
		}
		if st != nil && running(st.State) { // what goes is what the run is doing: that is noted at its end
			continue
		}
		if st != nil {
			if removals[st.ID] == nil {
				var err error
				if removals[st.ID], err = a.store.Removals(ctx, st.ID); err != nil {
					return err
				}
			}
			if by, is := removals[st.ID][id]; is {
				x.Trace.Run, x.Trace.At = by.Run, by.At
			}
		}
		list = append(list, x)
	}
	if len(list) == 0 && among != nil {
		return nil
	}
	if among != nil { // somebody may have written a secret of another stack into it
		all, err := a.allSecrets(ctx)
		if err != nil {
			return err
		}
		secrets = secrets.Clone()
		secrets.Merge(all)
	}
	return a.store.NoteSeen(ctx, s.target, list, secrets, among == nil, resources)
}

// noteWhatIf notes what has become of the resources of a stack, as a what-if of it has shown
// them. What a run is doing is noted at its end.
func (a *App) noteWhatIf(ctx context.Context, p *Preview, s *surveyed, live map[string]*stack.Live) error {
	st := p.Stack
	if st == nil || running(st.State) {
		return nil
	}
	rec, err := a.allRecorded(ctx, st)
	if err != nil {
		return err
	}
	there := make(map[string]*There, len(live))
	list := make([]*There, 0, len(live))
	for id, l := range live {
		t := &There{Live: l, Target: st.Target, Owner: &Owner{Stack: st.Name, Node: cloud.Clean(l.Tags["node"]), Of: st}}
		there[id], list = t, append(list, t)
	}
	for _, records := range rec.lists() {
		for _, r := range records {
			if t := there[r.ID]; t != nil {
				t.Owner.Node = r.Name
			}
		}
	}
	for _, ch := range p.Changes {
		if ch.Recorded == nil || there[ch.Recorded.ID] == nil {
			continue
		}
		for _, c := range ch.Properties {
			if c.OffRecord {
				there[ch.Recorded.ID].Differs = append(there[ch.Recorded.ID].Differs, Differing{PropertyChange: c})
			}
		}
	}
	elsewhere := make(map[string]bool, len(s.All)) // by now
	for _, l := range s.All {
		elsewhere[l.ID] = true
	}
	return a.note(ctx, s.sight, list, rec.secrets, func(was store.Sight) bool { return was.Stack == st.Name && !elsewhere[was.ID] })
}

// owners tells that a resource is another stack's, or has another name there.
func owners(was, is store.Sight) []stack.PropertyChange {
	var out []stack.PropertyChange
	for _, c := range []struct{ path, before, after string }{{"stack", was.Stack, is.Stack}, {"node", was.Node, is.Node}} {
		if c.before == c.after {
			continue
		}
		p := stack.PropertyChange{Path: c.path, Pointer: tosca.Pointer(c.path), Property: c.path}
		if c.before != "" {
			p.Before = tosca.String(c.before)
		}
		if c.after != "" {
			p.After = tosca.String(c.after)
		}
		out = append(out, p)
	}
	return out
}

// Traces lists what has become of resources in the cloud, the newest first.
func (a *App) Traces(ctx context.Context, w stack.Which) ([]stack.Trace, error) {
	return a.store.Traces(ctx, w)
}

// TraceOf lists what has become of a resource, and of those that had the name that it has, or
// had last, in its stack before; the newest first.
func (a *App) TraceOf(ctx context.Context, p Place) ([]stack.Trace, error) {
	list, err := a.store.Traces(ctx, stack.Which{Target: p.Target.String(), ID: p.ID, Most: mostTraces})
	if err != nil || len(list) == 0 || list[0].Node == "" {
		return list, err
	}
	former, err := a.store.Traces(ctx, stack.Which{Target: p.Target.String(), Stack: list[0].Stack, Node: list[0].Node, Most: mostTraces})
	for _, t := range former {
		if t.ID != p.ID {
			list = append(list, t)
		}
	}
	slices.SortStableFunc(list, func(a, b stack.Trace) int { return b.At.Compare(a.At) })
	return list, err
}

// mostTraces is how many changes of a resource are shown; mostAll of a stack, or of all.
const mostTraces, mostAll = 200, 5000

// TracesOf lists what has become of the resources of a stack, or of all where there is none;
// the newest first.
func (a *App) TracesOf(ctx context.Context, st *stack.Stack) ([]stack.Trace, error) {
	w := stack.Which{Most: mostAll}
	if st != nil {
		w.Stack, w.Target = st.Name, st.Target.String()
	}
	return a.store.Traces(ctx, w)
}

// ResourceAt finds the id of a resource of a stack, given by its name there or by its id in
// the cloud; the names of those that were there before are taken too.
func (a *App) ResourceAt(ctx context.Context, st *stack.Stack, name string) (stack.Which, error) {
	w := stack.Which{Target: st.Target.String()}
	for _, by := range []stack.Which{{Target: w.Target, Stack: st.Name, Node: name}, {Target: w.Target, ID: name}} {
		list, err := a.store.Traces(ctx, stack.Which{Target: by.Target, Stack: by.Stack, Node: by.Node, ID: by.ID, Most: 1})
		if err != nil {
			return w, err
		}
		if len(list) > 0 {
			return by, nil
		}
	}
	return w, refusal("nothing is known of a resource %s of %s: neither a name nor an id of one that was seen", name, st.Name)
}

// WriteFormer works out what lets the files say of a resource what it was like at a time. It is
// a draft change like any other: deploying it brings that back.
func (a *App) WriteFormer(ctx context.Context, st *stack.Stack, name string, at time.Time) (*Written, error) {
	current, _, err := a.recorded(ctx, st)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(current, func(r *stack.Recorded) bool { return r.Name == name || r.ID == name })
	if i < 0 {
		return nil, refusal("%s has no resource %s now; 'brickrow undo %s' goes back to a revision in which it had", st.Name, name, st.Name)
	}
	rec := current[i]
	is, err := a.Cloud.Get(ctx, cloud.Ref{Target: st.Target, Type: rec.Type, ID: rec.ID})
	if err != nil {
		return nil, err
	}
	live := is.Live(a.Profile.Library)
	list, err := a.store.Traces(ctx, stack.Which{Target: st.Target.String(), ID: rec.ID, Since: at})
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	for _, r := range current {
		names[r.ID] = r.Name
	}
	d := &Drift{Stack: st, Asked: time.Now()}
	whole := map[string]*Differing{}
	for _, t := range list { // the newest first
		if t.Kind == stack.WasMade || t.Kind == stack.WasFound {
			return a.writeFormerOne(ctx, st, rec, at, names)
		}
		for _, c := range slices.Backward(t.Differences) {
			if c.Owner() || c.Property == "stack" || c.Property == "node" {
				continue
			}
			w := whole[c.Property]
			if w == nil {
				w = &Differing{Name: rec.Name, Type: rec.Type, ID: rec.ID, Pos: rec.Pos, PropertyChange: c}
				w.Path, w.Pointer = c.Property, tosca.Pointer(c.Property)
				if w.Whole = stack.There(rec, live, c.Property); c.Link {
					w.Whole = stack.TextList(live.Links[c.Property])
				}
				whole[c.Property] = w
			}
			if c.Link {
				w.Whole = c.Before
			} else {
				w.Whole = stack.With(w.Whole, c.Pointer, c.Before)
			}
		}
	}
	return a.writeWhole(ctx, d, rec, at, whole, names)
}

// writeWhole writes whole properties and links, the ids of which have the names of resources.
func (a *App) writeWhole(ctx context.Context, d *Drift, rec *stack.Recorded, at time.Time, whole map[string]*Differing, names map[string]string) (*Written, error) {
	for _, name := range slices.Sorted(maps.Keys(whole)) {
		w := whole[name]
		if ids, is := w.Whole.(tosca.List); is && w.Link {
			var to []string
			for _, id := range ids {
				to = append(to, cmp.Or(names[tosca.Show(id)], tosca.Show(id)))
			}
			w.Whole = stack.TextList(to)
		} else if id, is := w.Whole.(tosca.String); is && w.Link {
			w.Whole = tosca.String(cmp.Or(names[string(id)], string(id)))
		}
		d.Differs = append(d.Differs, *w)
	}
	if len(d.Differs) == 0 {
		return nil, refusal("%s had not changed by %s, as far as anybody looked", rec.Name, at.Local().Format("2006-01-02 15:04:05"))
	}
	return a.WriteBack(ctx, d)
}

// writeFormerOne is as WriteFormer for a time at which another resource stood for the node: it was
// as the revision wanted it that was deployed then, but for what was changed by hand since.
func (a *App) writeFormerOne(ctx context.Context, st *stack.Stack, rec *stack.Recorded, at time.Time, names map[string]string) (*Written, error) {
	runs, err := a.store.Runs(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(runs, func(r *run.Record) bool { // the newest first
		return r.State == run.StatusDone && r.Kind != run.KindAction && !r.Ended.After(at)
	})
	if i < 0 || runs[i].Kind == run.KindDelete || runs[i].Revision == 0 {
		return nil, refusal("%s was not deployed at %s", st.Name, at.Local().Format(time.DateTime))
	}
	then, err := a.RevisionWanted(ctx, st.ID, runs[i].Revision)
	if err != nil {
		return nil, err
	}
	now := a.wantedNow(ctx, st)
	var was, is *stack.Resource
	if then != nil && now != nil {
		is = now.Resource(rec.Name)
		for _, name := range append([]string{rec.Name}, rec.Formerly...) {
			if was == nil {
				was = then.Resource(name)
			}
		}
	}
	if was == nil || is == nil {
		return nil, refusal("%s had no %s at %s, in revision %d, or the files have none now", st.Name, rec.Name, at.Local().Format(time.DateTime), runs[i].Revision)
	}
	d := &Drift{Stack: st, Asked: time.Now()}
	whole := map[string]*Differing{}
	differing := func(property string, link bool, value tosca.Value) *Differing {
		w := &Differing{Name: rec.Name, Type: rec.Type, ID: rec.ID, Pos: rec.Pos, Whole: value}
		w.Path, w.Property, w.Pointer, w.Link = property, property, tosca.Pointer(property), link
		whole[property] = w
		return w
	}
	for _, def := range is.Type.Properties {
		a, b := was.Value(def.Name), is.Value(def.Name)
		if !tosca.Waits(a) && !tosca.Waits(b) && !stack.Same(a, b) {
			differing(def.Name, false, a)
		}
	}
	for _, q := range is.Type.Requirements {
		if a, b := was.Targets(q.Name), is.Targets(q.Name); !slices.Equal(a, b) {
			differing(q.Name, true, stack.TextList(a))
		}
	}
	byHand, err := a.store.Traces(ctx, stack.Which{Target: st.Target.String(), Stack: st.Name, Node: rec.Name, Since: runs[i].Ended, Until: at})
	if err != nil {
		return nil, err
	}
	for _, t := range slices.Backward(byHand) { // the newest first
		for _, c := range t.Differences {
			if !t.Foreign() || c.Owner() || c.Property == "stack" || c.Property == "node" {
				continue
			}
			w := whole[c.Property]
			if w == nil {
				w = differing(c.Property, c.Link, was.Value(c.Property))
			}
			if c.Link {
				w.Whole = c.After
			} else {
				w.Whole = stack.With(w.Whole, c.Pointer, c.After)
			}
		}
	}
	return a.writeWhole(ctx, d, rec, at, whole, names)
}

// Observed is one reading of a target.
type Observed struct {
	Target    stack.Target
	At        time.Time
	Resources int
	Differs   int            // of them that are not as recorded
	Broken    int            // how often a rule is not kept
	Unread    []stack.Unread // what could not be read
	Changes   []stack.Trace  // since somebody looked last, the newest first
	Problem   string         // why it did not answer; "" is that it did
}

// Observe looks at targets once, notes what has changed, and forgets what is older than keep.
func (a *App) Observe(ctx context.Context, keep time.Duration, targets ...stack.Target) ([]Observed, error) {
	last, err := a.store.LastTrace(ctx)
	if err != nil {
		return nil, err
	}
	v, err := a.Look(ctx, targets...)
	if err != nil {
		return nil, err
	}
	since, err := a.store.Traces(ctx, stack.Which{After: last})
	if err != nil {
		return nil, err
	}
	kept, _, err := a.Compliance(ctx, v)
	if err != nil {
		return nil, err
	}
	var out []Observed
	for _, in := range v.Targets {
		o := Observed{Target: in.Target, At: v.Asked, Problem: in.Problem}
		for _, r := range v.There {
			if r.Target != in.Target {
				continue
			}
			if !r.Gone {
				o.Resources++
			}
			if r.Odd() {
				o.Differs++
			}
			if r.Unread() {
				o.Unread = append(o.Unread, stack.Unread{Name: r.Name(), ID: r.ID, Through: r.Through, Why: r.Why})
			}
		}
		for _, k := range kept {
			if k.Resource.Target == in.Target && !k.Complies {
				o.Broken++
			}
		}
		for _, t := range since {
			if t.Target == in.Target {
				o.Changes = append(o.Changes, t)
			}
		}
		out = append(out, o)
	}
	return out, a.store.Forget(ctx, time.Now().Add(-keep))
}
