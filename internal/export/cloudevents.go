// Package export writes what happens in runs in the forms that other tools read.
package export

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// Event is an event of a run, as JSON has it. It is the same in every form.
type Event struct {
	Run      int       `json:"run"`
	Seq      int64     `json:"seq"`
	Time     time.Time `json:"time"` // in UTC
	Resource string    `json:"resource"`
	Type     string    `json:"type"`
	State    run.State `json:"state"`
	Step     string    `json:"step"`
	Reason   string    `json:"reason"`
	Elapsed  int64     `json:"elapsed_ms"`
	CloudID  string    `json:"cloud_id"`
	Attempt  int       `json:"attempt"`
	Problem  string    `json:"problem"`
	Fix      string    `json:"fix"`
}

// EventOf is an event of a run for others.
func EventOf(r *run.Record, e run.Event) Event {
	return Event{r.Number, e.Seq, e.Time.UTC(), e.Resource, e.Type, e.State, e.Step, e.Reason, e.Elapsed.Milliseconds(),
		e.CloudID, e.Attempt, e.Problem, e.Fix}
}

// CloudEvent is an event of a run as a CloudEvent (1.0) in JSON. Its id is the same
// whenever it is written: the run's and its number.
func CloudEvent(st *stack.Stack, r *run.Record, e run.Event) ([]byte, error) {
	out := event.New(event.CloudEventsVersionV1)
	out.SetID(fmt.Sprintf("%s/%d", r.ID, e.Seq))
	out.SetSource(fmt.Sprintf("/brickrow/%s/%s", st.Target, st.Name))
	out.SetTime(e.Time.UTC())
	what := "run"
	if e.Resource != "" {
		what = "resource"
		out.SetSubject(e.Resource)
	}
	out.SetType("brickrow." + what + "." + string(e.State))
	if err := out.SetData("application/json", EventOf(r, e)); err != nil {
		return nil, err
	}
	return json.Marshal(out)
}
