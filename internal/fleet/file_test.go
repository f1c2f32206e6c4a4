package fleet

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"brickrow/internal/stack"
)

const whole = `fleet: bulletin
stack: bulletin.stack.yaml
places:
  - { target: workshop/*, inputs: { site: { filled_by: region }, readers: 2 } }
  - { target: summit/birch-1, inputs: { forecasters: 4 }, careful: true }
  - workshop/alder-1
except: [ workshop/cedar-2 ]
waves: [ 1, 25 %, rest ]
at_once: 4
tolerate: 1
on_failure: hold
pause_between: 1.5 m
`

func TestRead(t *testing.T) {
	f, found := Read("bulletin.fleet.yaml", []byte(whole))
	if len(found) > 0 {
		t.Fatal(found)
	}
	if f.Fleet != "bulletin" || f.Stack != "bulletin.stack.yaml" || f.AtOnce != 4 || f.Tolerate != 1 || f.OnFailure != stack.Hold ||
		f.Pause != 90*time.Second || f.Ask || fmt.Sprint(f.Waves) != "[{1 0 false} {0 25 false} {0 0 true}]" {
		t.Errorf("%+v", f)
	}
	for target, want := range map[string]int{"workshop/birch-1": 0, "summit/birch-1": 1, "workshop/alder-1": 2, "workshop/cedar-2": -1,
		"summit/alder-1": -1} {
		at, _ := stack.ParseTarget(target)
		p, got := f.At(at), -1
		for i := range f.Places {
			if p == &f.Places[i] {
				got = i
			}
		}
		if got != want {
			t.Errorf("%s is place %d, want %d", target, got, want)
		}
	}
	p := f.Places[0]
	if at, _ := stack.ParseTarget("workshop/birch-1"); len(p.Filled) != 1 || p.Filled[0].Value(at) != "birch-1" || len(p.Inputs) != 1 ||
		p.Inputs[0].Name != "readers" || !f.Places[1].Careful {
		t.Errorf("%+v", f.Places)
	}
}

func TestReadMistakes(t *testing.T) {
	for _, test := range []struct{ was, is, want string }{
		{"fleet: bulletin\n", "", "1 missing-key"}, {"fleet: bulletin", "fleet: The Bulletin", "1 bad-name"},
		{"stack: bulletin.stack.yaml\n", "", "1 missing-key"}, {"stack: bulletin.stack.yaml", "stack:", "2 wrong-type"},
		{"workshop/*", "workshop", "4 bad-target"}, {"workshop/*", "'[/a'", "4 bad-target"}, {"target: workshop/*, ", "", "4 missing-key"},
		{"filled_by: region", "filled_by: ridge", "4 unknown-filler"}, {"careful: true", "careful: yes", "5 wrong-type"},
		{"careful: true", "carefull: true", "5 unknown-key"}, {"except: [ workshop/cedar-2 ]", "except: workshop/cedar-2", "7 wrong-type"},
		{"waves: [ 1, 25 %, rest ]", "waves: [ rest, 1 ]", "8 invalid-value"}, {"25 %", "125 %", "8 invalid-value"},
		{"[ 1, 25 %", "[ 0, 25 %", "8 invalid-value"}, {"[ 1, 25 %", "[ some, 25 %", "8 invalid-value"},
		{"at_once: 4", "at_once: 0", "9 invalid-value"}, {"at_once: 4", "at_once: four", "9 wrong-type"},
		{"tolerate: 1", "tolerate: -1", "10 invalid-value"}, {"on_failure: hold", "on_failure: stop", "11 invalid-value"},
		{"1.5 m", "soon", "12 invalid-value"}, {"pause_between", "pause", "12 unknown-key"}, {"waves: [", "waves: [[", "9 not-yaml"},
	} {
		text := strings.Replace(whole, test.was, test.is, 1)
		_, found := Read("a.fleet.yaml", []byte(text))
		if len(found) == 0 || fmt.Sprint(found[0].Line, " ", found[0].Code) != test.want {
			t.Errorf("%s: %v, want %s", test.is, found, test.want)
		}
	}
	if _, found := Read("a.fleet.yaml", nil); len(found) == 0 {
		t.Error("nothing is wrong with nothing")
	}
	if f, found := Read("a.fleet.yaml", []byte(strings.Replace(whole, "1.5 m", "ask", 1))); len(found) > 0 || !f.Ask {
		t.Error(found)
	}
}
