package run

import (
	"strings"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Status is how far a run is.
type Status string

// The statuses of a run.
const (
	StatusQueued  Status = "queued" // it waits for a worker
	StatusWorking Status = "working"
	StatusUndoing Status = "undoing"
	StatusDone    Status = "done"
	StatusUndone  Status = "undone"
	StatusHeld    Status = "held"
	StatusStuck   Status = "stuck"
	StatusPaused  Status = "paused" // nothing more has begun, as somebody wished

	StatusInterrupted Status = "interrupted" // nobody carries it out any more: it is shown, and not recorded
)

// Ended reports whether nobody carries the run out any more, by what it says itself.
func (s Status) Ended() bool { return s != StatusQueued && s != StatusWorking && s != StatusUndoing }

// Open reports whether somebody has to decide how the run goes on, once nobody
// carries it out any more.
func (s Status) Open() bool { return s != StatusDone && s != StatusUndone }

// Kind is what a run is for.
type Kind string

// The kinds of runs.
const (
	KindDeploy Kind = "deploy"
	KindUndo   Kind = "undo" // back to a former revision
	KindDelete Kind = "delete"
	KindAction Kind = "action" // something is done to what runs; the revision stays
)

// Record is a run of a stack, as it is recorded.
type Record struct {
	ID        string
	StackID   int64
	Number    int
	Kind      Kind
	State     Status
	Revision  int         // it leads to
	Base      int         // it began from
	Prior     stack.State // of the stack, before
	OnFailure stack.OnFailure
	Plan      Plan
	Tally     whatif.Tally
	Estimate  float64 // seconds
	By        string
	Started   time.Time
	Ended     time.Time
	SignedBy  string // the key of who prepared it, in a shared store
	// Receipt is what the cloud said at the end of a deletion, or of an undoing; nil is none.
	Receipt *stack.Receipt
	Reason  string
	Cancel  bool
	Pause   bool     // somebody wishes that nothing more begins
	Back    bool     // it is, or was, undoing
	Only    []string // the resources that were chosen, where others were left out
	Origin  Origin
	// Queue is where the run waits for a worker, or was given out to one; "" is that who began it carries it out.
	Queue    string
	Priority int
	Ask      string // what the job in the queue is known by
	// Alone says that nobody carries it out, though it has not ended. It is not stored.
	Alone bool
	// Timed says that how long its steps take is noted. It is not stored.
	Timed bool
	// Token is that of the lock under which the run is written. It is not stored.
	Token string
}

// Shown is how the run stands, by all that is known of it.
func (r *Record) Shown() Status {
	if r.Alone {
		return StatusInterrupted
	}
	return r.State
}

// Source is what the files of a run were, as their git repository tells.
type Source struct {
	Commit  string   `json:"commit,omitempty"`  // the last one, in full; "" is that they are in no repository
	Branch  string   `json:"branch,omitempty"`  // that was checked out; "" is none
	Changed bool     `json:"changed,omitempty"` // a file was not as it is in the commit
	Files   []string `json:"files,omitempty"`   // those that were not, relative to the repository
	Job     string   `json:"job,omitempty"`     // of the pipeline that it was made in, as BRICKROW_JOB says
}

// Origin is where a run came from.
type Origin struct {
	Host string `json:"host,omitempty"` // on which it was begun
	Source
	Note       string   `json:"note,omitempty"` // of the one who began it
	ApprovedBy []string `json:"approved_by,omitempty"`
	What       string   `json:"what,omitempty"` // of an action: what is done to what
	// Rollout is that of the fleet which the run belongs to, and Attempt its try in that place.
	Rollout string `json:"rollout,omitempty"`
	Attempt int    `json:"attempt,omitempty"`
}

// CommitText is the commit in short, with a word where a file was not as it is there; "" is
// none.
func (o *Origin) CommitText() string {
	if o.Commit == "" {
		return ""
	}
	text := o.Commit[:min(10, len(o.Commit))]
	if o.Branch != "" {
		text += " on " + o.Branch
	}
	if o.Changed {
		text += " and changes"
		if len(o.Files) > 0 {
			text += " in " + strings.Join(o.Files, ", ")
		}
	}
	return text
}

// stackStates is the state of a stack by the status and the kind of its last run.
var stackStates = map[Status]map[Kind]stack.State{
	StatusWorking: {KindDeploy: stack.Deploying, KindUndo: stack.Deploying, KindDelete: stack.Removing, KindAction: stack.Deploying},
	StatusUndoing: {KindDeploy: stack.Undoing, KindUndo: stack.Undoing, KindAction: stack.Undoing},
	StatusDone:    {KindDeploy: stack.Ready, KindUndo: stack.Ready, KindDelete: stack.Removed},
	StatusHeld:    {KindDeploy: stack.Partial, KindUndo: stack.Partial, KindAction: stack.Partial},
	StatusStuck:   {KindDeploy: stack.Stuck, KindUndo: stack.Stuck, KindDelete: stack.Stuck, KindAction: stack.Stuck},
}

// undoneStates is the state of a stack whose last run was undone, by that before the
// run.
var undoneStates = map[stack.State]stack.State{
	stack.Empty:     stack.Empty,
	stack.Ready:     stack.Ready,
	stack.Partial:   stack.Partial,
	stack.Removed:   stack.Removed,
	stack.Stuck:     stack.Partial, // what an earlier run had left half done is so again
	stack.Deploying: stack.Ready,
	stack.Undoing:   stack.Ready,
	stack.Removing:  stack.Ready,
}

// StackState is the state that the run leaves its stack in, as far as it is.
func (r *Record) StackState() stack.State {
	switch {
	case r.State == StatusDone && len(r.Only) > 0:
		return stack.Partial
	case r.State == StatusUndone, r.State == StatusQueued, r.State == StatusDone && r.Kind == KindAction:
		return undoneStates[r.Prior]
	case r.State == StatusPaused && r.Back:
		return stackStates[StatusUndoing][r.Kind]
	case r.State == StatusPaused:
		return stackStates[StatusWorking][r.Kind]
	}
	return stackStates[r.State][r.Kind]
}
