package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"brickrow/internal/bundle"
	"brickrow/internal/cloud"
	"brickrow/internal/fleet"
	"brickrow/internal/identity"
	"brickrow/internal/queue"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// What interfaces show of fleets.
type (
	Rollout    = store.Rollout
	PlaceOf    = store.PlaceOf
	FleetState = fleet.State
	inRollout  struct {
		id, fleet string
		attempt   int
	}
	rolledPlace struct {
		Saved    *Saved `json:"saved"`
		Revision []byte `json:"revision,omitempty"` // packed, without its template and files
	}
)

// FleetPreview is what a rollout would do in all places.
type FleetPreview struct {
	File   *fleet.File
	Kind   run.Kind
	Places []FleetPlace
	Tally  whatif.Tally // of all
	parts  map[string][]byte
}

// FleetPlace is what a rollout would do in one place.
type FleetPlace struct {
	Target  stack.Target
	Stack   string
	Wave    int
	Kind    run.Kind // delete where the place has left the file
	Careful bool
	Tally   whatif.Tally
	// SameAs is the first place in which the very same would happen; "" is that this is the first one.
	SameAs   string
	Preview  *Preview       // of the first of those that are alike; nil of the others
	Findings tosca.Findings // what is wrong there
	Lost     []whatif.Risk  // what has to be agreed to: data that would go, or that the place leaves
	Second   bool           // a second person has to agree to it, when its turn comes
	Inputs   []stack.Input  // those whose values the fleet file gives to the place; secrets are hidden
	same     bool           // nothing would happen
	body     []byte
	part     string
}

// StackIn is the name of the stack of a fleet in a place.
func StackIn(fleetName string, t stack.Target) string {
	return fleetName + "@" + t.Account + "." + t.Region
}

// ReadFleet reads a fleet file and the places that it means, in the order in which they come.
func (a *App) ReadFleet(ctx context.Context, path string, v Values) (*fleet.File, []stack.Target, error) {
	text, err := v.sources().Open(path, tosca.MaxBytes)
	if err != nil {
		return nil, nil, refusal("%v", err)
	}
	f, findings := fleet.Read(path, text)
	if findings.HasErrors() {
		return nil, nil, &Refusal{Findings: findings}
	}
	known, err := a.Cloud.Targets(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("ask the cloud for its targets: %w", err)
	}
	wrong := unknownPlaces(f, known)
	more, err := a.otherFleet(ctx, f)
	if err != nil {
		return nil, nil, err
	}
	if wrong = append(wrong, more...); wrong.HasErrors() {
		return nil, nil, &Refusal{Findings: wrong}
	}
	places := []stack.Target{}
	for i := range f.Places {
		for _, t := range known {
			if f.At(t) == &f.Places[i] {
				places = append(places, t)
			}
		}
	}
	return f, places, nil
}

// FleetName is the name that is meant by a fleet file, or by a name itself.
func (a *App) FleetName(ctx context.Context, text string) (string, error) {
	if b, err := (Values{}).sources().Open(text, tosca.MaxBytes); err == nil {
		f, findings := fleet.Read(text, b)
		if findings.HasErrors() {
			return "", &Refusal{Findings: findings}
		}
		return f.Fleet, nil
	}
	if _, err := a.store.LastRollout(ctx, text); err != nil {
		return "", refusal("'%s' is neither a fleet file nor a fleet that was deployed", text)
	}
	return text, nil
}

// asFleet is the number of places that are looked at at the same time.
const lookedAtOnce = 4

// FleetFiles are the fleet files of folders and of those right below them, by the names of their fleets. One that says none has
// that of the file: whoever looks at it is told what is wrong.
func FleetFiles(folders []string) map[string]string {
	out := map[string]string{}
	for _, dir := range folders {
		list, _ := filepath.Glob(filepath.Join(dir, "*.fleet.yaml")) // of a folder with odd letters there are none
		below, _ := filepath.Glob(filepath.Join(dir, "*", "*.fleet.yaml"))
		for _, path := range append(list, below...) {
			name := ""
			if text, err := bundle.Disk.Open(path, tosca.MaxBytes); err == nil {
				f, _ := fleet.Read(path, text)
				name = f.Fleet
			}
			if name == "" {
				name = cloud.Clean(strings.TrimSuffix(filepath.Base(path), ".fleet.yaml"))
			}
			if out[name] == "" {
				out[name] = path
			}
		}
	}
	return out
}

// FleetIsFree refuses a fleet whose last rollout has not come to its end.
func (a *App) FleetIsFree(ctx context.Context, path string) error {
	name, err := a.FleetName(ctx, path)
	if err != nil {
		return err
	}
	r, err := a.store.LastRollout(ctx, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && r.State.Ended() {
		return nil
	}
	if err != nil {
		return err
	}
	return refusal("rollout %d of the fleet %s has not come to its end: it is %s; 'brickrow fleet show %s' shows it", r.Number, name, r.State, name)
}

// FleetWhatIf looks what a deployment would do in all places of a fleet file, or their deletion. Told is called with
// how many have been looked at.
func (a *App) FleetWhatIf(ctx context.Context, path string, kind run.Kind, v Values, told func(done, all int)) (*FleetPreview, error) {
	if err := v.open(path); err != nil {
		return nil, err
	}
	f, targets, err := a.ReadFleet(ctx, path, v)
	if err != nil {
		return nil, err
	}
	p := &FleetPreview{File: f, Kind: kind, parts: map[string][]byte{}}
	members, err := a.store.MembersOf(ctx, f.Fleet)
	if err != nil {
		return nil, err
	}
	there := map[string]*stack.Stack{}
	for _, st := range members {
		if st.State != stack.Removed && st.State != stack.Empty {
			there[st.Name] = st
		}
	}
	if kind == run.KindDeploy {
		for _, t := range targets {
			p.Places = append(p.Places, FleetPlace{Target: t, Stack: StackIn(f.Fleet, t), Kind: run.KindDeploy, Careful: f.At(t).Careful})
			delete(there, StackIn(f.Fleet, t))
		}
	}
	// What has left the file goes, in the order of the places that it had; a deletion is of all.
	for _, st := range members {
		if there[st.Name] != nil {
			p.Places = append(p.Places, FleetPlace{Target: st.Target, Stack: st.Name, Kind: run.KindDelete, Careful: st.Careful})
		}
	}
	for i, wave := range fleet.Divide(f.Waves, len(p.Places)) {
		p.Places[i].Wave = wave
	}
	file := filepath.Join(filepath.Dir(f.Path), filepath.FromSlash(f.Stack))
	var mu sync.Mutex
	done := 0
	g, each := errgroup.WithContext(ctx)
	g.SetLimit(lookedAtOnce)
	for i := range p.Places {
		g.Go(func() error {
			if err := a.lookAtPlace(each, p, &p.Places[i], there, file, v, &mu); err != nil {
				return fmt.Errorf("%s: %w", p.Places[i].Target, err)
			}
			mu.Lock()
			defer mu.Unlock()
			if done++; told != nil {
				told(done, len(p.Places))
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	first := map[string]int{}
	for i := range p.Places {
		x := &p.Places[i]
		p.Tally = addTally(p.Tally, x.Tally)
		if x.Preview == nil {
			continue
		}
		key := a.alike(x)
		if j, ok := first[key]; ok {
			x.SameAs, x.Preview = p.Places[j].Target.String(), nil
		} else {
			first[key] = i
		}
	}
	return p, nil
}

func addTally(a, b whatif.Tally) whatif.Tally {
	return whatif.Tally{New: a.New + b.New, Edit: a.Edit + b.Edit, Swap: a.Swap + b.Swap, Drop: a.Drop + b.Drop, Same: a.Same + b.Same,
		Adopt: a.Adopt + b.Adopt, Keep: a.Keep + b.Keep, Results: a.Results + b.Results, Old: a.Old + b.Old}
}

// lookAtPlace makes the what-if of one place, and keeps what it is begun with.
func (a *App) lookAtPlace(ctx context.Context, p *FleetPreview, x *FleetPlace, there map[string]*stack.Stack, file string, v Values, mu *sync.Mutex) error {
	var pv *Preview
	var err error
	if x.Kind == run.KindDelete {
		pv, err = a.WhatIfDelete(ctx, there[x.Stack])
	} else {
		at := v
		at.Target, at.Flags = x.Target.String(), nil
		var whole *Parsed
		if whole, err = a.parse(file, at); err != nil {
			return err
		}
		if whole.Stack == nil {
			return refusal("%s is not a stack file: 'stack' in %s names one", file, p.File.Path)
		}
		d := a.placed(ctx, whole, p.File.At(x.Target), x.Target, x.Stack, at)
		if hash := v.commit(); hash != "" {
			of := *d
			of.Commit = hash
			d = &of
		}
		d.Stack.Careful = d.Stack.Careful || x.Careful
		pv, err = a.WhatIf(ctx, d)
	}
	if err != nil {
		return err
	}
	second, err := a.approvalNeeded(pv)
	if err != nil {
		return err
	}
	x.Second = second && x.Kind == run.KindDeploy && !pv.Empty() || second && x.Kind == run.KindDelete
	x.Preview, x.Tally, x.Careful, x.Lost = pv, pv.Tally, x.Careful || pv.Careful() || x.Second, pv.Consent().Risks
	if x.Kind == run.KindDelete && p.Kind == run.KindDeploy {
		x.Lost = append(x.Lost, whatif.Risk{Kind: whatif.RiskLeaving, Resource: x.Target.String(),
			Text: fmt.Sprintf("%s has left the file of the fleet %s: what is there is removed (%s)", x.Target, p.File.Fleet, x.Tally)})
	}
	x.same = pv.Empty()
	if x.Kind == run.KindDeploy && pv.Revision != nil {
		x.Inputs = ownInputs(pv.Revision, p.File.Path)
	}
	if x.Findings = pv.Findings; x.Findings.HasErrors() {
		return nil
	}
	return a.packPlace(p, x, pv, mu)
}

// packPlace keeps what was looked at, the template once for all that have the same.
func (a *App) packPlace(p *FleetPreview, x *FleetPlace, pv *Preview, mu *sync.Mutex) error {
	me, err := a.Me()
	if err != nil {
		return err
	}
	s, err := a.saved(pv, me)
	if err != nil {
		return err
	}
	if s.ChangeSet, err = essence(s.ChangeSet); err != nil {
		return err
	}
	s.Careful, s.OnFailure = x.Careful, p.File.OnFailure
	s.Signature = me.Sign(s.content())
	body := rolledPlace{Saved: s}
	if x.Kind == run.KindDeploy {
		small, whole := *pv.Revision, *pv.Revision
		small.Text, small.Files = "", nil
		whole.Inputs, whole.Tags, whole.Found = nil, nil, nil
		if body.Revision, err = store.PackRevision(small); err != nil {
			return err
		}
		part, err := store.PackRevision(whole)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(part)
		x.part = hex.EncodeToString(sum[:])
		mu.Lock()
		p.parts[x.part] = part
		mu.Unlock()
	}
	x.body, err = json.Marshal(body)
	return err
}

// essence is what a change set is held against later, and nothing else of it.
func essence(changes []byte) ([]byte, error) {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(changes, &all); err != nil {
		return nil, err
	}
	var list []map[string]json.RawMessage
	if err := json.Unmarshal(all["changes"], &list); err != nil {
		return nil, err
	}
	for i, c := range list {
		list[i] = map[string]json.RawMessage{"name": c["name"], "kind": c["kind"], "properties": c["properties"]}
	}
	text, err := json.Marshal(list)
	if err != nil {
		return nil, err
	}
	return json.Marshal(map[string]json.RawMessage{"base_revision": all["base_revision"], "changes": text, "lookups": all["lookups"]})
}

// alike tells whether the same would happen in two places: what becomes of which resource and which property, with
// what is the place's own, its names, ids and numbers of revisions, left out.
func (a *App) alike(x *FleetPlace) string {
	own := strings.NewReplacer(x.Stack, "(stack)", x.Target.String(), "(target)", x.Target.Account, "(account)", x.Target.Region, "(region)")
	var b strings.Builder
	fmt.Fprintln(&b, x.Kind, x.Findings.HasErrors())
	for _, c := range x.Preview.Changes {
		if c.Kind == whatif.Same {
			continue
		}
		fmt.Fprintln(&b, c.Kind, c.Name, c.Type)
		if c.Kind == whatif.New || c.Kind == whatif.Drop {
			continue
		}
		for _, pr := range c.Properties {
			fmt.Fprintln(&b, pr.Path, pr.Effect, own.Replace(tosca.Show(pr.Before)), own.Replace(tosca.Show(pr.After)))
		}
	}
	if x.Findings.HasErrors() {
		for _, f := range x.Findings {
			fmt.Fprintln(&b, f.Code, own.Replace(f.Message))
		}
	}
	return b.String()
}

// Empty reports whether nothing would happen anywhere.
func (p *FleetPreview) Empty() bool {
	return !slices.ContainsFunc(p.Places, func(x FleetPlace) bool { return !x.nothing() })
}

func (x *FleetPlace) nothing() bool { return x.Kind == run.KindDeploy && x.same }

// Wrong lists the places in which something is wrong, each kind of it once.
func (p *FleetPreview) Wrong() []FleetPlace {
	var out []FleetPlace
	for _, x := range p.Places {
		if x.Findings.HasErrors() && x.Preview != nil {
			out = append(out, x)
		}
	}
	return out
}

// WrongIn is in how many places something is wrong.
func (p *FleetPreview) WrongIn() (n int) {
	for _, x := range p.Places {
		if x.Findings.HasErrors() {
			n++
		}
	}
	return n
}

// Leaving are the places that have left the file, and are removed by a deployment.
func (p *FleetPreview) Leaving() (out []string) {
	for _, x := range p.Places {
		if x.Kind == run.KindDelete && p.Kind == run.KindDeploy {
			out = append(out, x.Target.String())
		}
	}
	return out
}

// Lost is in how many cases data would go.
func (p *FleetPreview) Lost() (n int) {
	for _, x := range p.Places {
		for _, r := range x.Lost {
			if r.Kind == whatif.RiskData {
				n++
			}
		}
	}
	return n
}

// Question asks whether it shall be done, with the numbers.
func (p *FleetPreview) Question() string {
	what := "Deploy"
	if p.Kind == run.KindDelete {
		what = "Delete"
	}
	leaving := p.Leaving()
	text := fmt.Sprintf("%s %s in %s: %s", what, p.File.Fleet, stack.Count(len(p.Places), "place"), p.Tally)
	switch len(leaving) {
	case 0:
	case 1:
		text += "; 1 of them has left the file and is removed: " + leaving[0]
	default:
		text += fmt.Sprintf("; %d of them have left the file and are removed: %s", len(leaving), stack.Few(leaving))
	}
	return text + "?"
}

// StartFleet writes a rollout that was looked at. It is carried on by CarryFleet here or, with a queue, by workers.
func (a *App) StartFleet(ctx context.Context, p *FleetPreview, note string, q *Queueing) (*Rollout, error) {
	if wrong := p.Wrong(); len(wrong) > 0 {
		return nil, refusal("something is wrong in %s: look at the what-if", wrong[0].Target)
	}
	if !a.store.Member() {
		return nil, &Refusal{Message: store.ErrNoMember.Error()}
	}
	if p.Empty() {
		return nil, ErrNothingToDo
	}
	f := p.File
	path, err := filepath.Abs(f.Path)
	if err != nil {
		return nil, err
	}
	r := &Rollout{ID: uuid.NewString(), Fleet: f.Fleet, Kind: p.Kind, File: path, State: fleet.Deploying, AtOnce: f.AtOnce, Tolerate: f.Tolerate,
		OnFailure: f.OnFailure, Pause: f.Pause, Asks: f.Ask, By: identity.User(), Token: uuid.NewString(),
		Origin: run.Origin{Host: identity.Host(), Note: strings.TrimSpace(note)}}
	if p.Kind == run.KindDelete {
		r.State = fleet.Removing
	}
	if !f.Ask && f.Pause == 0 {
		r.Behind = len(p.Places)
	}
	if q != nil {
		r.Queue, r.Priority, r.Ask = q.Queue, q.Priority, uuid.NewString()
		if r.Queue == "" {
			r.Queue = queue.Usual
		}
		if r.Priority == 0 {
			r.Priority = queue.Normal
		}
	}
	places := make([]store.Prepared, len(p.Places))
	for i, x := range p.Places {
		state := fleet.Waiting
		if x.nothing() {
			state = fleet.Ready
		}
		places[i] = store.Prepared{PlaceOf: PlaceOf{Target: x.Target, Stack: x.Stack, Wave: x.Wave, Kind: x.Kind, State: state, Careful: x.Careful,
			Tally: x.Tally, Part: x.part}, Body: x.body}
	}
	if err := a.store.StartRollout(ctx, r, places, p.parts); err != nil {
		return nil, err
	}
	return r, a.handOn(ctx, r)
}

// handOn gives a rollout that is locked here to the workers of its queue, where it has one.
func (a *App) handOn(ctx context.Context, r *Rollout) error {
	if r.Queue == "" {
		return nil
	}
	if err := a.store.UnlockRollout(ctx, r.ID, r.Token); err != nil {
		return err
	}
	return a.enqueueFleet(ctx, r)
}

func (a *App) enqueueFleet(ctx context.Context, r *Rollout) error {
	q, err := a.openQueue(ctx)
	if err != nil {
		return err
	}
	return q.Put(ctx, queue.Item{Job: queue.Job{What: jobFleet, ID: r.ID, Ask: r.Ask}, Queue: r.Queue, Priority: r.Priority})
}

// PlaceTook is how long a place has taken, or takes so far.
func PlaceTook(p PlaceOf) time.Duration {
	switch {
	case p.Begun.IsZero():
		return 0
	case p.Ended.IsZero():
		return time.Since(p.Begun)
	}
	return p.Ended.Sub(p.Begun)
}

// Fleets lists the last rollout of each fleet.
func (a *App) Fleets(ctx context.Context) ([]*Rollout, error) { return a.store.LastRollouts(ctx) }

// LastRollout is that of a fleet, with its places and who carries it on.
func (a *App) LastRollout(ctx context.Context, name string) (r *Rollout, places []PlaceOf, holder string, err error) {
	if r, err = a.store.LastRollout(ctx, name); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = refusal("the fleet %s was not deployed yet", name)
		}
		return nil, nil, "", err
	}
	if places, err = a.store.Places(ctx, r.ID); err != nil {
		return nil, nil, "", err
	}
	holder, _, err = a.store.RolloutHolder(ctx, r.ID)
	return r, places, holder, err
}

// MembersOf lists the stacks of a fleet, removed ones too.
func (a *App) MembersOf(ctx context.Context, name string) ([]*stack.Stack, error) {
	return a.store.MembersOf(ctx, name)
}

// PlaceDetail is what there is to know of one place of a rollout.
type PlaceDetail struct {
	// Inputs are those whose values the fleet file gives to the place; secrets are hidden.
	Inputs []stack.Input
	Events []run.Event // of its run, the last ones
	Stack  *stack.Stack
}

// ownInputs are those whose values come from a fleet file.
func ownInputs(rev *stack.Revision, file string) (out []stack.Input) {
	for _, in := range rev.Inputs {
		if in.Origin.Pos.File == file || filepath.Base(in.Origin.Pos.File) == filepath.Base(file) {
			out = append(out, in)
		}
	}
	return out
}

// lastEvents is how many events of the run of a place are told.
const lastEvents = 12

// PlaceDetail reads what there is to know of a place.
func (a *App) PlaceDetail(ctx context.Context, r *Rollout, p *PlaceOf) (PlaceDetail, error) {
	var out PlaceDetail
	if body, _, err := a.store.PlaceBody(ctx, r.ID, p.Position); err == nil { // for who is no member it stays empty
		var b rolledPlace
		if json.Unmarshal(body, &b) == nil && b.Revision != nil {
			if rev, err := store.UnpackRevision(b.Revision); err == nil {
				out.Inputs = ownInputs(rev, r.File)
			}
		}
	}
	st, err := a.store.At(ctx, p.Stack, p.Target)
	if err == nil {
		out.Stack = st
	} else if !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	if p.RunID != "" {
		list, err := a.store.Events(ctx, p.RunID, 0)
		if err != nil {
			return out, err
		}
		out.Events = list[max(0, len(list)-lastEvents):]
	}
	return out, nil
}
