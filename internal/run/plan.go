// Package run carries a change set out. A Plan is the list of its steps; a
// Schedule, which is pure, says which steps may start; the Driver makes the
// calls, keeps the journal and tells what happens as events.
//
// A run has phases. The build makes everything new, edits in place, and
// makes the new part of every swap. The sweep removes what is dropped and the
// old parts of swaps, in reverse order, and begins only when the whole build
// has succeeded. Between them stand the edits that cannot be put back, such as
// a version that only goes up, one at a time. So until the first of these has
// succeeded nothing has been destroyed, and a failed run can be undone: what
// was made is removed, what was edited is put back.
package run

import (
	"fmt"
	"slices"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Action is what a step does in the cloud.
type Action string

// The actions.
const (
	Create  Action = "create"
	Update  Action = "update"
	Delete  Action = "delete"
	Rename  Action = "rename"  // in the record, and by the tag that says whose it is
	Release Action = "release" // taken out of the record, left in the cloud
	Revert  Action = "put back"
	Drain   Action = "drain"      // it leaves its pools and finishes its work
	Refill  Action = "refill"     // it comes back into its pools
	Remake  Action = "make again" // what was removed before its new part was made
	Follow  Action = "follow"     // what was made of an attribute of something that was made again
	Probe   Action = "probe"      // a question that has to be answered well
	Act     Action = "act"        // what its type can do beside: restart, scale, suspend and so on
)

// Phase is the part of a run that a step belongs to.
type Phase string

// The phases, and the undoing.
const (
	PhaseBuild  Phase = "build"
	PhaseProbe  Phase = "probe"   // the questions that have to be answered well before it counts
	PhaseOneWay Phase = "one way" // edits that cannot be put back
	PhaseSweep  Phase = "sweep"
	PhaseUndo   Phase = "undo"
)

// Step is one thing to do to one resource.
type Step struct {
	ID       string   `json:"id"`
	Resource string   `json:"resource"`
	Type     string   `json:"type"`
	Action   Action   `json:"action"`
	Phase    Phase    `json:"phase"`
	Needs    []string `json:"needs"` // ids of steps that must be done before
	CloudID  string   `json:"cloud_id,omitempty"`
	From     string   `json:"from,omitempty"`   // of a renaming: the name that it has
	Swap     bool     `json:"swap,omitempty"`   // the new or the old part of a swap
	Forced   bool     `json:"forced,omitempty"` // of a swap: what makes the resource wants it so
	Adopt    bool     `json:"adopt,omitempty"`  // what was kept comes back under the stack
	Pair     string   `json:"pair,omitempty"`   // of an old part: the step of the new one
	Of       string   `json:"of,omitempty"`     // of an undoing: the step that it takes back
	// Backups is how many backups are kept of what the resource holds, of which one is taken
	// before it goes, or is changed for good; 0 is that none is taken.
	Backups int `json:"backups,omitempty"`
	// Filled says that what is made is filled from a backup of the old one: one that is taken
	// then, or where the old one has gone first, that of the step Backup.
	Filled bool   `json:"filled,omitempty"`
	Backup string `json:"backup,omitempty"`
	// Verb is what is done to it, of an action, and With its inputs.
	Verb string            `json:"verb,omitempty"`
	With map[string]string `json:"with,omitempty"`
	// Wait is how many seconds a draining may take, and of what makes or edits a resource how
	// many that has to finish its work, should it be taken back.
	Wait     float64 `json:"wait,omitempty"`
	Seconds  float64 `json:"seconds"`  // likely, for the order and the forecast
	Nominal  float64 `json:"nominal"`  // seconds, as the profile says
	Position int     `json:"position"` // of the resource in the stack
}

// Final reports whether the step is one that undoing cannot take back, once it is done.
func (s *Step) Final() bool {
	return (s.Phase == PhaseSweep || s.Phase == PhaseOneWay) && s.Action != Drain
}

// Plan is what a run is to do.
type Plan struct {
	Steps []Step `json:"steps"`
	// Baseline is each resource of the stack before the run, by cloud id, so that
	// an undo can show that all is as it was. It is dropped when the run has ended.
	Baseline map[string]Was `json:"baseline,omitempty"`
	// Accepted are the resources of which something has become what is wanted, which is recorded at the end.
	Accepted []string `json:"accepted,omitempty"`
	// AtOnce is how many steps are under way at once when it begins, and Told how many the
	// target says that it takes; 0 is not known.
	AtOnce int `json:"at_once,omitempty"`
	Told   int `json:"told,omitempty"`
}

// NewPlan lists the steps of a change set. Duration yields the seconds a change
// takes.
func NewPlan(cs *whatif.ChangeSet, takes whatif.Duration) Plan {
	var p Plan
	building := map[string]string{}
	for _, ch := range cs.Changes {
		switch ch.Kind {
		case whatif.New, whatif.Swap:
			building[ch.Name] = "create " + ch.Name
		case whatif.Edit, whatif.Adopt:
			building[ch.Name] = "update " + ch.Name
		}
		if ch.OneWay { // nothing of the build waits for it: its attributes stay
			delete(building, ch.Name)
		}
	}
	before := goingFirst(cs)
	var leaving []Step
	var leavingRecords []*stack.Recorded
	lastOneWay := ""
	for i, ch := range cs.Changes {
		s := Step{ID: building[ch.Name], Resource: ch.Name, Type: ch.Type, Phase: PhaseBuild,
			Swap: ch.Kind == whatif.Swap, Forced: ch.Forced, Seconds: takes(&ch, ch.Kind), Position: i}
		for _, n := range ch.Needs {
			if building[n] != "" {
				s.Needs = append(s.Needs, building[n])
			}
		}
		if ch.Formerly != "" && ch.Recorded != nil {
			r := Step{ID: "rename " + ch.Formerly, Resource: ch.Name, Type: ch.Recorded.Type, Action: Rename,
				Phase: PhaseBuild, CloudID: ch.Recorded.ID, From: ch.Formerly, Position: i}
			p.Steps = append(p.Steps, r)
			s.Needs = append(s.Needs, r.ID)
		}
		switch ch.Kind {
		case whatif.New:
			s.Action = Create
		case whatif.Swap:
			s.Filled = ch.Refills()
			if ch.DropFirst {
				old := Step{ID: removalFirst(ch.Name), Resource: ch.Name, Type: ch.Recorded.Type, Action: Delete, Phase: PhaseBuild,
					Needs: slices.Clone(s.Needs), CloudID: ch.Recorded.ID, Backups: ch.BacksUp(), Position: i}
				if before.waitedFor[ch.Name] { // what it needs is made after it has gone
					old.Needs = nil
				}
				old.Seconds = takes(&ch, whatif.Drop) + copying(&ch, takes)
				if ch.Recorded.Drain > 0 {
					d := draining(ch.Name, ch.Recorded, i)
					d.Phase, d.Needs = PhaseBuild, slices.Clone(old.Needs)
					p.Steps = append(p.Steps, d)
					old.Needs = append(old.Needs, d.ID)
				}
				old.Needs = append(old.Needs, before.of[ch.Name]...)
				p.Steps = append(p.Steps, old)
				s.Action, s.Swap = Create, false
				s.Needs = append(s.Needs, old.ID)
				if s.Filled {
					s.Backup = old.ID
					s.Seconds += takes(&ch, whatif.Fills)
				}
				break
			}
			if s.Filled {
				s.Seconds += takes(&ch, whatif.Backs) + takes(&ch, whatif.Fills)
			}
			s.Action, s.CloudID = Create, ch.Recorded.ID
			leaving = append(leaving, removalOf(ch, s.ID, takes))
			leavingRecords = append(leavingRecords, ch.Recorded)
		case whatif.Edit, whatif.Adopt:
			s.Action, s.CloudID, s.Adopt = Update, ch.Recorded.ID, ch.Kind == whatif.Adopt
			if ch.OneWay {
				s.ID, s.Phase, s.Needs = "update "+ch.Name, PhaseOneWay, nil
				s.Backups, s.Seconds = ch.BacksUp(), s.Seconds+copying(&ch, takes)
				if lastOneWay != "" {
					s.Needs = []string{lastOneWay}
				}
				lastOneWay = s.ID
			}
		case whatif.Drop, whatif.Keep:
			leaving = append(leaving, removalOf(ch, "", takes))
			leavingRecords = append(leavingRecords, ch.Recorded)
			continue
		default:
			continue
		}
		if ch.Wanted != nil && ch.Wanted.Drain > 0 && (s.Action == Create || ch.Restarts()) {
			s.Wait = ch.Wanted.Drain.Seconds()
		}
		if ch.Restarts() && ch.Recorded.Drain > 0 {
			d := draining(s.Resource, ch.Recorded, i)
			d.Phase, d.Needs = s.Phase, slices.Clone(s.Needs)
			p.Steps = append(p.Steps, d)
			s.Needs = append(s.Needs, d.ID)
		}
		p.Steps = append(p.Steps, s)
	}
	for i, r := range cs.Old {
		s := Step{ID: "delete old " + r.Name + " " + r.ID, Resource: r.Name, Type: r.Type, Action: Delete,
			Phase: PhaseSweep, CloudID: r.ID, Swap: true, Backups: r.Backup, Position: i}
		if r.Keep {
			s.Action, s.Backups = Release, 0
		}
		leaving = append(leaving, s)
		leavingRecords = append(leavingRecords, r)
	}
	for i, probe := range cs.Probes {
		name := ProbeName(probe.Name)
		p.Steps = append(p.Steps, Step{ID: name, Resource: name, Type: "Probe", Action: Probe, Phase: PhaseProbe,
			Seconds: probeSeconds, Position: len(cs.Changes) + i})
	}
	leaving = reversed(leaving, leavingRecords)
	drains := map[int]Step{}
	for i, s := range leaving {
		if r := leavingRecords[i]; s.Action == Delete && r.Drain > 0 {
			d := draining(s.Resource, r, s.Position)
			d.Phase, d.Swap, d.Needs = PhaseSweep, s.Swap, slices.Clone(s.Needs)
			d.Pair = s.Pair
			for j, on := range leavingRecords { // what serves the requests ends after them
				if slices.ContainsFunc(on.Links[stack.Hosting], func(l stack.LinkTo) bool { return l.ID == r.ID }) {
					leaving[j].Needs, d.Needs = append(leaving[j].Needs, d.ID), nil
				}
			}
			drains[i] = d
		}
	}
	for i, s := range leaving {
		if d, ok := drains[i]; ok {
			p.Steps = append(p.Steps, d)
			s.Needs = append(s.Needs, d.ID)
		}
		p.Steps = append(p.Steps, s)
	}
	return p
}

// firsts are the old parts of swaps that go before the new ones are made, and in which order.
type firsts struct {
	of        map[string][]string // the removals that come before that of a resource: of what is linked to it
	waitedFor map[string]bool     // whether the removal of another one waits for that of a resource
}

func goingFirst(cs *whatif.ChangeSet) firsts {
	out := firsts{map[string][]string{}, map[string]bool{}}
	names := map[string]string{} // by their ids
	for _, ch := range cs.Changes {
		if ch.DropFirst {
			names[ch.Recorded.ID] = ch.Name
		}
	}
	for _, ch := range cs.Changes {
		if !ch.DropFirst {
			continue
		}
		for _, links := range ch.Recorded.Links {
			for _, l := range links {
				if on := names[l.ID]; on != "" {
					out.of[on], out.waitedFor[ch.Name] = append(out.of[on], removalFirst(ch.Name)), true
				}
			}
		}
	}
	return out
}

func removalFirst(name string) string { return "remove " + name + " first" }

// draining is the step in which a resource finishes its work.
func draining(name string, r *stack.Recorded, position int) Step {
	return Step{ID: "drain " + name + " " + r.ID, Resource: name, Type: r.Type, Action: Drain, CloudID: r.ID,
		Wait: r.Drain.Seconds(), Seconds: r.Drain.Seconds(), Position: position}
}

// copying is how many seconds the backup takes that comes before a change.
func copying(ch *whatif.Change, takes whatif.Duration) float64 {
	if ch.BacksUp() == 0 {
		return 0
	}
	return takes(ch, whatif.Backs)
}

// ProbeName is what a probe is called in a run, beside the resources.
func ProbeName(name string) string { return "probe " + name }

// probeSeconds is how long a probe is thought to take where nothing is known.
const probeSeconds = 1

// removalOf is the step that takes a resource away, or out of the record where
// it is to be kept.
func removalOf(ch whatif.Change, pair string, takes whatif.Duration) Step {
	s := Step{ID: "delete " + ch.Name, Resource: ch.Name, Type: ch.Recorded.Type, Action: Delete, Phase: PhaseSweep,
		CloudID: ch.Recorded.ID, Swap: pair != "", Pair: pair, Backups: ch.BacksUp(), Seconds: takes(&ch, whatif.Drop) + copying(&ch, takes)}
	if ch.Kind == whatif.Keep || ch.Recorded.Keep || ch.Wanted != nil && ch.Wanted.Keep {
		s.Action, s.Seconds = Release, 0
	}
	return s
}

// reversed lets each removal wait for those of what rests on it. What rests on
// what is told by the ids of links: a name may stand for several parts, of which
// all but one are old. Where there is no link, as when a value is used, the name
// means the part that is the current one.
func reversed(steps []Step, records []*stack.Recorded) []Step {
	byID, byName := map[string]int{}, map[string]int{}
	for i, r := range records {
		byID[r.ID] = i
		if _, taken := byName[r.Name]; !taken { // the old parts stand behind
			byName[r.Name] = i
		}
	}
	for i, r := range records {
		linked := map[string]bool{}
		for _, list := range r.Links {
			for _, l := range list {
				linked[l.Name] = true
				if j, ok := byID[l.ID]; ok && !slices.Contains(steps[j].Needs, steps[i].ID) {
					steps[j].Needs = append(steps[j].Needs, steps[i].ID)
				}
			}
		}
		if byName[r.Name] != i {
			continue
		}
		for _, n := range r.Needs {
			if j, ok := byName[n]; ok && !linked[n] && !slices.Contains(steps[j].Needs, steps[i].ID) {
				steps[j].Needs = append(steps[j].Needs, steps[i].ID)
			}
		}
	}
	return steps
}

// EntryState is how far a step is.
type EntryState string

// The states of a journal entry.
const (
	Started   EntryState = "started"
	Done      EntryState = "done"
	Edited    EntryState = "edited"    // done, as an edit: a swap turned out not to be needed
	Unchanged EntryState = "unchanged" // it turned out that there was nothing to do
	Failed    EntryState = "failed"
	Again     EntryState = "again" // failed, and to be tried again
	Left      EntryState = "left"  // failed, and given up
)

// Good reports whether the step has ended, and does not stand in the way of others.
func (s EntryState) Good() bool { return s == Done || s == Edited || s == Unchanged || s == Left }

// Entry is what the journal says of one step. It is written before the call
// and again with the outcome.
type Entry struct {
	Step    Step
	State   EntryState
	Attempt int
	CloudID string // of the resource made or changed
	Reason  string // of a failure
	// Shell is what a former attempt of a creation left in the cloud; the next
	// one clears it away first.
	Shell string
	// Unsure says of a failed creation that the cloud may have made something of
	// which nobody knows the id.
	Unsure bool
	Before *Snapshot
	Record *stack.Recorded // what was recorded before
	// Backup is that of what the resource held, where one was taken.
	Backup string
	// Asked is what is known of a resource that was removed: AskedGone, or NotRead with why; "" is no more than that.
	Asked string
}

// Snapshot is what an update replaced: the request that puts it back.
type Snapshot struct {
	Properties map[string]tosca.Value // nil values were not set
	Links      map[string][]string
	Tags       map[string]tosca.Value
	// Others are the tags that others have put there. NamesHidden says that all
	// tags are secret, so that the cloud does not show their names either.
	Others      []string
	NamesHidden bool
	ETag        string // of the resource that was read
}

// PlanUndo lists what takes back the steps of a journal, in reverse order.
func PlanUndo(plan Plan, journal []Entry) []Step {
	return planUndo(plan, journal, func(e Entry) bool {
		recorded := e.State == Unchanged && e.Step.Action == Update // only the record has changed
		return hasFailed(e) || e.State == Done || e.State == Edited || e.State == Started || recorded
	})
}

// PlanUndoFailed lists what takes away what failed steps left behind.
func PlanUndoFailed(plan Plan, journal []Entry) []Step { return planUndo(plan, journal, hasFailed) }

func hasFailed(e Entry) bool { return e.State == Failed || e.State == Again }

func planUndo(plan Plan, journal []Entry, which func(Entry) bool) []Step {
	entries := map[string]Entry{}
	for _, e := range journal {
		if (e.Step.Phase == PhaseBuild || e.Step.Phase == PhaseOneWay || e.Step.Phase == PhaseSweep && !e.Step.Final()) && which(e) {
			entries[e.Step.ID] = e
		}
	}
	var steps []Step
	index := map[string]int{}
	for _, s := range plan.Steps {
		e, ok := entries[s.ID]
		if !ok {
			continue
		}
		u := Step{ID: fmt.Sprintf("undo %s (%d)", s.ID, e.Attempt), Of: s.ID, Resource: s.Resource, Type: s.Type,
			Phase: PhaseUndo, Action: Delete, CloudID: e.CloudID, Swap: e.Step.Swap, Adopt: e.Step.Adopt,
			Seconds: s.Seconds / 2, Position: s.Position, From: s.From}
		switch e.Step.Action {
		case Create:
		case Act:
			u.Action, u.Verb = Act, inverse[s.Verb]
			if s.Verb == VerbScale {
				u.Action = Revert
			}
			if u.Action == Act && u.Verb == "" { // it leaves nothing to take back
				continue
			}
		case Update, Rename:
			u.Action = Revert
		case Delete:
			u.Action, u.CloudID = Remake, ""
		case Drain:
			u.Action = Refill
		default: // what is not known is not taken back by a removal: the driver refuses it
			u.Action = "undo of " + e.Step.Action
		}
		index[s.ID] = len(steps)
		steps = append(steps, u)
	}
	for _, s := range plan.Steps {
		i, ok := index[s.ID]
		if !ok {
			continue
		}
		for _, need := range s.Needs {
			if j, also := index[need]; also {
				steps[j].Needs = append(steps[j].Needs, steps[i].ID)
			}
		}
	}
	for i := range slices.Clone(steps) { // what works by now finishes its work before that is taken back
		u := &steps[i]
		e := entries[u.Of]
		if e.Step.Wait == 0 || e.Step.Action == Drain || !e.State.Good() || u.Action != Delete && u.Action != Revert {
			continue
		}
		d := Step{ID: "drain before " + u.ID, Resource: u.Resource, Type: u.Type, Action: Drain, Phase: PhaseUndo, CloudID: u.CloudID,
			Needs: slices.Clone(u.Needs), Wait: e.Step.Wait, Seconds: e.Step.Wait, Position: u.Position}
		for j := range steps { // what serves the requests ends after them
			if on := &steps[j]; on.Type == "Software" && on.Action == Delete && slices.Contains(entries[on.Of].Step.Needs, u.Of) {
				on.Needs, d.Needs = append(on.Needs, d.ID), nil
			}
		}
		u.Needs = append(u.Needs, d.ID)
		steps = append(steps, d) // u is not used any more: it may be another one's now
	}
	return steps
}

// State is the state of a resource in a run, as events tell it.
type State string

// The states of a resource in a run.
const (
	Waiting   State = "waiting"
	Working   State = "working"
	Settling  State = "settling" // exists, not healthy yet
	IsReady   State = "ready"
	HasFailed State = "failed"
	Undoing   State = "undoing"
	IsUndone  State = "undone"
	Removing  State = "removing"
	Removed   State = "removed"
	Kept      State = "kept"
	Skipped   State = "skipped"
)

// Event is one thing that happened in a run. Resource is empty where it is
// about the run as a whole.
type Event struct {
	Seq      int64
	Time     time.Time
	Resource string
	Type     string
	State    State
	Step     string // the inner step
	Reason   string
	Elapsed  time.Duration // since the step began
	CloudID  string
	Attempt  int    // of the step, from 1; 0 where it belongs to none
	Problem  string // of a refusal: its kind, as the cloud names it
	Fix      string // of a refusal: what the cloud says would mend it; it ends Reason too
}

// Aside is the type of an event that is about the run, and says nothing of how it stands.
const Aside = "aside"

// sortSteps orders steps by id, so that nothing depends on the order of maps.
func sortSteps(steps []Step) {
	slices.SortFunc(steps, func(a, b Step) int {
		if a.ID < b.ID {
			return -1
		}
		return 1
	})
}
