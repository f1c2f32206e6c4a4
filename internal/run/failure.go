package run

import (
	"slices"
	"strings"
	"time"
)

// Failure is a failure of a run, with all that its events tell of it.
type Failure struct {
	Event          // by which the step ended
	Words   string // of the cloud alone
	Undoing bool   // it came while things were taken back
	// Tried is what was done in the attempt that failed, oldest first.
	Tried []Tried
}

// Tried is one thing that was done before a failure.
type Tried struct {
	Time  time.Time
	Took  time.Duration // until the next one
	Words string
	// Refused is what the cloud said when it refused, for a moment, and Times how often.
	Refused string
	Times   int
}

// Failures folds the events of a run into what went wrong in it, oldest first. What went
// wrong and was put right by a later attempt is not among it.
func Failures(events []Event) []Failure {
	var out []Failure
	under := map[string][]Event{} // what happened in the attempt that is under way
	undoing := false
	for _, e := range events {
		switch {
		case e.Resource == "":
			undoing = undoing || e.State == Undoing
			continue
		case e.State == HasFailed:
			f := Failure{Event: e, Words: strings.TrimSuffix(e.Reason, "; "+e.Fix), Undoing: undoing}
			f.Tried = tried(under[e.Resource], e.Time)
			out = append(out, f)
			delete(under, e.Resource)
		case e.State == IsReady || e.State == Removed || e.State == Kept || e.State == IsUndone:
			out = slices.DeleteFunc(out, func(f Failure) bool {
				return f.Resource == e.Resource && (e.State != IsUndone || f.Undoing)
			})
			delete(under, e.Resource)
		case e.State == Skipped:
		default:
			under[e.Resource] = append(under[e.Resource], e)
		}
	}
	return out
}

// tried says what was done by events, the last of them until a time.
func tried(events []Event, until time.Time) []Tried {
	var out []Tried
	for i, e := range events {
		end := until
		if i+1 < len(events) {
			end = events[i+1].Time
		}
		t := Tried{Time: e.Time, Took: end.Sub(e.Time), Words: e.Step}
		if e.Reason != "" { // a refusal that was waited for
			t.Refused, t.Times = e.Reason, 1
			if last := len(out) - 1; last >= 0 && out[last].Refused == t.Refused {
				out[last].Times++
				out[last].Took += t.Took
				continue
			}
			if strings.HasPrefix(e.Step, "trying again") {
				t.Words = "it refused for the moment"
			}
		}
		out = append(out, t)
	}
	return out
}

// Behind are, by the resource of each step that failed, the resources of all steps that
// wait for it, one way or another, in order.
func Behind(plan Plan, journal []Entry) map[string][]string {
	state := map[string]EntryState{}
	steps := plan.Steps
	undoing := false
	for _, e := range journal {
		state[e.Step.ID] = e.State
		undoing = undoing || e.Step.Phase == PhaseUndo
	}
	if undoing {
		steps = PlanUndo(plan, journal)
	}
	next := map[string][]Step{}
	for _, s := range steps {
		for _, need := range s.Needs {
			next[need] = append(next[need], s)
		}
	}
	out := map[string][]string{}
	for _, s := range steps {
		if state[s.ID] != Failed {
			continue
		}
		seen := map[string]bool{s.Resource: true}
		for todo := next[s.ID]; len(todo) > 0; todo = todo[1:] {
			if n := todo[0]; !state[n.ID].Good() && !seen[n.Resource] {
				seen[n.Resource] = true
				out[s.Resource] = append(out[s.Resource], n.Resource)
				todo = append(todo, next[n.ID]...)
			}
		}
		slices.Sort(out[s.Resource])
	}
	return out
}

// Standing says how the rest stands after a failure; last is what the run said last of
// itself.
func (r *Record) Standing(last string) string {
	switch r.Shown() {
	case StatusInterrupted:
		return "its process has ended: nothing more begins; what it had asked the cloud for may still come to its end there"
	case StatusUndoing:
		return "what this run has done is being undone; nothing that was there before has been removed"
	case StatusUndone:
		return strings.TrimPrefix(last, "undone: ")
	case StatusHeld:
		return "what is built stays; what failed was cleared away"
	case StatusQueued:
		return "it waits for a worker"
	case StatusPaused:
		return "it is paused: nothing more begins until somebody goes on"
	case StatusStuck:
		return "it stands still until somebody decides"
	case StatusWorking:
		return "what is under way comes to its end first"
	}
	return string(r.State)
}
