package export

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// What is written is read back by the standard's own types, and is valid.
func TestCloudEvent(t *testing.T) {
	st := &stack.Stack{Name: "bulletin-test", Target: stack.Target{Account: "workshop", Region: "alder-1"}}
	r := &run.Record{ID: "0b54", Number: 7}
	at := time.Date(2026, 11, 26, 4, 5, 6, 700, time.FixedZone("", 3600))
	for _, test := range []struct {
		e                 run.Event
		typ, subject, seq string
	}{
		{run.Event{Seq: 3, Time: at, Resource: "reader#1", Type: "Server", State: run.HasFailed, Reason: "no \"host\" <b>\n", Elapsed: 1500 * time.Millisecond},
			"brickrow.resource.failed", "reader#1", "0b54/3"},
		{run.Event{Seq: 1, Time: at, State: run.Working, Step: "deploy begins"}, "brickrow.run.working", "", "0b54/1"},
	} {
		text, err := CloudEvent(st, r, test.e)
		if err != nil {
			t.Fatal(err)
		}
		var e event.Event
		if err := json.Unmarshal(text, &e); err != nil {
			t.Fatal(err, string(text))
		}
		var data Event
		if err := e.Validate(); err != nil || e.SpecVersion() != "1.0" || e.ID() != test.seq || e.Type() != test.typ || e.Subject() != test.subject ||
			e.Source() != "/brickrow/workshop/alder-1/bulletin-test" || !e.Time().Equal(at) || e.DataAs(&data) != nil || data.Reason != test.e.Reason ||
			data.Run != 7 || data.Elapsed != test.e.Elapsed.Milliseconds() {
			t.Errorf("%v: %s", err, text)
		}
	}
}
