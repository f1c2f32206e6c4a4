package run

import (
	"fmt"
	"testing"
	"time"
)

func told(sec float64, resource string, state State, elapsed float64) Event {
	return Event{Time: time.Unix(1000, 0).Add(time.Duration(sec * float64(time.Second))), Resource: resource, State: state,
		Elapsed: time.Duration(elapsed * float64(time.Second))}
}

func spansIn(list []*Span) string {
	out := ""
	for _, s := range list {
		out += fmt.Sprintf("%s %.0f-%.0f %s; ", s.Step.ID, s.Began.Sub(time.Unix(1000, 0)).Seconds(), s.Ended.Sub(time.Unix(1000, 0)).Seconds(), s.State)
	}
	return out
}

func TestSpans(t *testing.T) {
	plan := Plan{Steps: []Step{
		{ID: "create net", Resource: "net", Action: Create, Phase: PhaseBuild},
		{ID: "create post", Resource: "post", Action: Create, Phase: PhaseBuild, Needs: []string{"create net"}, Swap: true},
		{ID: "delete post", Resource: "post", Action: Delete, Phase: PhaseSweep, Pair: "create post"},
		{ID: "update note", Resource: "note", Action: Update, Phase: PhaseBuild}}}
	events := []Event{told(0, "", Working, 0), told(1, "net", Working, 0), told(1, "note", Working, 0), told(3, "net", IsReady, 2),
		told(3, "post", Working, 0), told(4, "note", IsReady, 3), told(5, "post", HasFailed, 2), told(9, "post", Working, 0),
		told(12, "post", IsReady, 3), told(12, "post", Removing, 0), told(14, "post", Removed, 2)}
	spans := Spans(plan, events)
	want := "create net 1-3 ready; update note 1-4 ready; create post 3-12 ready; delete post 12-14 removed; "
	if got := spansIn(spans); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if n := len(spans[2].Events); n != 4 {
		t.Errorf("%d events of the one that was tried again", n)
	}
	chain := Chain(spans)
	if got := spansIn(chain); got != "create net 1-3 ready; create post 3-12 ready; delete post 12-14 removed; " {
		t.Errorf("the chain is %s", got)
	}

	undone := Spans(plan, append(events[:7:7], told(6, "post", Undoing, 0), told(7, "post", IsUndone, 1), told(7, "net", Undoing, 0)))
	if got := spansIn(undone[3:]); got != "undo create post 6-7 undone; undo create net 7--62135597800 undoing; " &&
		undone[4].Ended.IsZero() == false {
		t.Errorf("undone: %s", got)
	}
	if needs := undone[4].Step.Needs; len(needs) != 1 || needs[0] != "undo create post" {
		t.Errorf("the undoing waits for %v", needs)
	}
	if bare := Spans(Plan{}, events); len(bare) != 4 || bare[0].Step.Resource != "net" {
		t.Errorf("without a plan: %s", spansIn(bare))
	}

	// The same again, with a slower net and without the swap.
	slow := Chain(Spans(plan, []Event{told(0, "net", Working, 0), told(9, "net", IsReady, 9), told(9, "post", Working, 0), told(12, "post", IsReady, 3)}))
	if got := fmt.Sprint(Slower(slow, chain)); got != "[{post -6s false false} {post -2s false true}]" {
		t.Errorf("slower by %s", got)
	}
	if got := fmt.Sprint(Slower(slow[:1], nil)); got != "[{net 9s true false}]" {
		t.Errorf("slower by %s", got)
	}
	if got := Slower(chain, chain); len(got) != 0 {
		t.Errorf("not slower, but %v", got)
	}
}
