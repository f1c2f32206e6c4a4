package app

import (
	"strings"
	"testing"

	"brickrow/internal/run"
)

// TestPastRunsTellHowLong deploys twice in a cloud that is not too fast to be
// measured, and wants the estimate to follow what was measured.
func TestPastRunsTellHowLong(t *testing.T) {
	b := newBench(t, fastest)
	b.write("alerts.yaml", `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { huts: { type: integer, default: 1 } }
  node_templates:
    alerts: { type: Topic }
    hut: { type: Topic, count: { $get_input: huts } }
`)
	b.write("alerts.stack.yaml", "stack: alerts\ntemplate: alerts.yaml\ntarget: workshop/alder-1\n")
	if e := b.preview("alerts.stack.yaml").Estimate; e.Known() != 0 || !strings.Contains(e.Sure(), "nominal") {
		t.Errorf("nothing was built yet: %+v", e)
	}
	b.deploy(run.StatusDone, "alerts.stack.yaml")
	e := b.preview("alerts.stack.yaml", "huts=2").Estimate
	if e.Known() != 1 || e.Chain[0].Runs != 2 || !strings.HasPrefix(e.Sure(), "by 2 past runs") ||
		e.Low > e.Seconds || e.Seconds > e.High {
		t.Errorf("two topics were built: %+v, %s", e, e.Sure())
	}
	past, err := b.store.Timings(t.Context())
	if err != nil || len(past["Topic"]["create"]) != 2 {
		t.Fatal(past, err)
	}
	for _, ratio := range past["Topic"]["create"] {
		if ratio < 0.5 || ratio > 1000 { // this machine may be busy
			t.Errorf("a topic took %g times what the profile says", ratio)
		}
	}
	if plan := b.plan(b.preview("alerts.stack.yaml", "huts=2")); plan.Steps[0].Nominal <= 0 ||
		plan.Steps[0].Seconds != plan.Steps[0].Nominal*min(past["Topic"]["create"][0], past["Topic"]["create"][1]) &&
			plan.Steps[0].Seconds != plan.Steps[0].Nominal*max(past["Topic"]["create"][0], past["Topic"]["create"][1]) {
		t.Errorf("the plan does not follow past runs: %+v, %v", plan.Steps[0], past)
	}
	b.Speed = fastest + 1 // says nothing of the cloud
	b.deploy(run.StatusDone, "alerts.stack.yaml", "huts=5")
	if past, err = b.store.Timings(t.Context()); err != nil || len(past["Topic"]["create"]) != 2 {
		t.Error(past, err)
	}
	b.Speed = fastest
	b.deploy(run.StatusDone, "alerts.stack.yaml", "huts=20")
	if past, err = b.store.Timings(t.Context()); err != nil || len(past["Topic"]["create"]) != 9 {
		t.Error("more than the last nine count", past, err)
	}
}
