package run

import (
	"strings"
	"testing"
)

// TestRehearse plays failures at each kind of step.
func TestRehearse(t *testing.T) {
	plan := Plan{Steps: []Step{
		{ID: "create net", Resource: "net", Action: Create, Phase: PhaseBuild, Seconds: 4},
		{ID: "create sub", Resource: "sub", Action: Create, Phase: PhaseBuild, Seconds: 3,
			Needs: []string{"create net"}},
		{ID: "update queue", Resource: "queue", Action: Update, Phase: PhaseBuild, Seconds: 2, CloudID: "queue~1"},
		{ID: "create slow", Resource: "slow", Action: Create, Phase: PhaseBuild, Seconds: 9},
		{ID: "update db", Resource: "db", Action: Update, Phase: PhaseOneWay, Seconds: 5, CloudID: "db~1"},
		{ID: "delete old", Resource: "old", Action: Delete, Phase: PhaseSweep, Seconds: 1, CloudID: "old~1"},
	}}
	names := func(list []Played) string {
		var out []string
		for _, p := range list {
			out = append(out, string(p.Action)+" "+p.Resource)
		}
		return strings.Join(out, ", ")
	}
	r, err := Rehearse(plan, "sub", 0)
	if err != nil {
		t.Fatal(err)
	}
	if r.At != 7 || names(r.Done) != "update queue, create net" || names(r.Ended) != "create slow" ||
		strings.Join(r.Never, ", ") != "delete old, update db" {
		t.Errorf("it fails at %v; done %s; ended %s; never %v", r.At, names(r.Done), names(r.Ended), r.Never)
	}
	if got := names(r.Undo); !r.Returns || strings.Index(got, "delete sub") > strings.Index(got, "delete net") ||
		!strings.Contains(got, "put back queue") || !strings.Contains(got, "delete slow") || len(r.Undo) != 4 {
		t.Errorf("undoing: %v %s", r.Returns, got)
	}
	if r.Undo[0].Start != 9 || r.Undone <= 9 || len(r.Left) != 0 {
		t.Errorf("undoing begins at %v and ends at %v, left %v", r.Undo[0].Start, r.Undone, r.Left)
	}
	if r, err = Rehearse(plan, "old", 0); err != nil || r.Returns || len(r.Undo) != 0 ||
		strings.Join(r.Left, " ") != "db net queue slow sub" {
		t.Errorf("a failure in the sweep: %+v %v", r, err)
	}
	if r, err = Rehearse(plan, "db", 0); err != nil || !r.Returns || len(r.Undo) != 5 {
		t.Errorf("a failure of the edit that cannot be put back: %+v %v", r, err)
	}
	if r, err = Rehearse(plan, "net", 1); err != nil || names(r.Ended) != "" || r.At < 4 {
		t.Errorf("one at a time: %+v %v", r, err)
	}
	if _, err = Rehearse(plan, "nobody", 0); err == nil {
		t.Error("it rehearses what is not in the plan")
	}
}
