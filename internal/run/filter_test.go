package run

import (
	"testing"
	"time"
)

func TestFilter(t *testing.T) {
	now := time.Now()
	e := Event{Resource: "reader#1", Type: "Server", State: HasFailed, Time: now}
	for _, test := range []struct {
		f    Filter
		want bool
	}{
		{Filter{}, true}, {Filter{States: []State{HasFailed, IsReady}}, true}, {Filter{States: []State{IsReady}}, false},
		{Filter{Resources: []string{"reader"}}, true}, {Filter{Resources: []string{"reader#1"}}, true},
		{Filter{Resources: []string{"read"}}, false}, {Filter{Resources: []string{"read*"}}, true}, {Filter{Resources: []string{"*"}}, true},
		{Filter{Resources: []string{"gate", "reader#*"}}, true}, {Filter{Resources: []string{"reader#2"}}, false},
		{Filter{Resources: []string{"["}}, false}, {Filter{Types: []string{"Server"}}, true}, {Filter{Types: []string{"Queue"}}, false},
		{Filter{Since: now.Add(-time.Second)}, true}, {Filter{Since: now}, true}, {Filter{Since: now.Add(time.Second)}, false},
		{Filter{States: []State{HasFailed}, Resources: []string{"gate"}}, false},
	} {
		if got := test.f.Matches(e); got != test.want {
			t.Errorf("%+v: %t", test.f, got)
		}
	}
	if inner := (Event{Resource: "station/alarm"}); !(Filter{Resources: []string{"station"}}).Matches(inner) ||
		!(Filter{Resources: []string{"*/alarm"}}).Matches(inner) {
		t.Error("what fills a node is not of it")
	}
	if (Filter{Resources: []string{"reader"}}).Matches(Event{State: Working}) {
		t.Error("the run itself is a resource")
	}
}
