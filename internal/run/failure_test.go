package run

import (
	"testing"
	"time"
)

func TestFailures(t *testing.T) {
	at := time.Now()
	events := func(list ...Event) []Event {
		for i := range list {
			list[i].Time = at.Add(time.Duration(i) * time.Second)
		}
		return list
	}
	story := events(
		Event{State: Working, Step: "deploy begins"},
		Event{Resource: "db", State: Working, Step: "asking the cloud for it"},
		Event{Resource: "db", State: Working, Step: "trying again in 1 s", Reason: "too much at once"},
		Event{Resource: "net", State: IsReady},
		Event{Resource: "db", State: Working, Step: "trying again in 2 s", Reason: "too much at once"},
		Event{Resource: "db", State: Working, Step: "growing the storage, 1/2"},
		Event{Resource: "db", State: HasFailed, Step: "growing the storage", Reason: "no room; take less", Fix: "take less", Problem: "room"},
		Event{State: Undoing, Step: UndoWords(2)},
		Event{Resource: "db", State: Undoing, Step: "asking the cloud to remove it"},
		Event{Resource: "db", State: IsUndone},
		Event{Resource: "net", State: HasFailed, Reason: "in use"})
	list := Failures(story)
	if len(list) != 2 || list[0].Words != "no room" || list[0].Undoing || list[1].Resource != "net" || !list[1].Undoing {
		t.Fatalf("%+v", list)
	}
	tried := list[0].Tried
	if len(tried) != 3 || tried[1].Times != 2 || tried[1].Took != 3*time.Second || tried[1].Refused != "too much at once" ||
		tried[2].Words != "growing the storage, 1/2" || tried[2].Took != time.Second {
		t.Errorf("%+v", tried)
	}
	again := append(story, events(Event{Resource: "net", State: Undoing}, Event{Resource: "net", State: IsUndone})...)
	if list := Failures(again); len(list) != 1 || list[0].Resource != "db" {
		t.Errorf("once it was taken back at last there is %+v", list)
	}
	held := append(story[:7:7], events(Event{Resource: "db", State: Working}, Event{Resource: "db", State: IsReady})...)
	if list := Failures(held); len(list) != 0 {
		t.Errorf("once it went through there is %+v", list)
	}
}
