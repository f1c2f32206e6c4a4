package cli

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"go.opentelemetry.io/collector/pdata/ptrace"

	"brickrow/internal/export"
)

func TestEventsAreChosen(t *testing.T) {
	s := newShell(t)
	list := func(args ...string) []export.Event {
		t.Helper()
		out, _ := s.run(0, append([]string{"events", "bulletin-test", "--json"}, args...)...)
		var all []export.Event
		for line := range strings.Lines(out) {
			all = append(all, decode[export.Event](t, line))
		}
		return all
	}
	all := list()
	failed := list("--state", "failed")
	if len(failed) == 0 || len(failed) >= len(all) {
		t.Fatalf("%d of %d events are of a failure", len(failed), len(all))
	}
	for _, e := range failed {
		if e.State != "failed" {
			t.Errorf("%+v", e)
		}
	}
	who := failed[0].Resource
	if got := list("--resource", who, "--state", "failed,undone"); len(got) != 2 || got[1].State != "undone" {
		t.Errorf("of %s: %+v", who, got)
	}
	for _, e := range list("--type", "Database") {
		if e.Type != "Database" {
			t.Errorf("%+v", e)
		}
	}
	if got := list("--since", "24h"); len(got) != len(all) {
		t.Errorf("a day ago: %d of %d", len(got), len(all))
	}
	if got := list("--since", all[len(all)-1].Time.Add(time.Second).Format(time.RFC3339)); len(got) != 0 {
		t.Errorf("from after the end: %+v", got)
	}
	for _, bad := range [][]string{{"--state", "broken"}, {"--since", "once"}, {"--since", "-5m"}, {"--json", "--cloudevents"}} {
		s.run(2, append([]string{"events", "bulletin-test"}, bad...)...)
	}
	_, errs := s.run(2, "watch", "bulletin-test", "--state", "broken")
	s.wants(errs, "there is no state 'broken'", "failed")
	out, _ := s.run(0, "events", "bulletin-test", "--follow") // of what is over, all there is
	whole, _ := s.run(0, "events", "bulletin-test")
	if out != whole {
		t.Errorf("followed:\n%s\nread:\n%s", out, whole)
	}
}

func TestSinceWhen(t *testing.T) {
	now := time.Date(2026, 11, 26, 14, 30, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{
		"5m": now.Add(-5 * time.Minute), "14:00": now.Add(-30 * time.Minute), "14:29:59": now.Add(-time.Second),
		"15:00": now.Add(-23*time.Hour - 30*time.Minute), "2026-11-26T15:30:00+02:00": now.Add(-time.Hour),
	} {
		if f, err := (&chosenEvents{since: text}).filter(now); err != nil || !f.Since.Equal(want) {
			t.Errorf("%s: %v %v", text, f.Since, err)
		}
	}
}

func TestTraceIsWritten(t *testing.T) {
	s := newShell(t)
	file := s.file("run.json")
	s.run(0, "trace", "bulletin-test", "-o", file)
	written, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	out, _ := s.run(0, "trace", "bulletin-test", "--run", "3", "-o", "-")
	if out != string(written) {
		t.Error("it is another one the second time")
	}
	traces, err := (&ptrace.JSONUnmarshaler{}).UnmarshalTraces(written)
	if err != nil || traces.SpanCount() < 7 { // the run, three steps, and three to take them back
		t.Errorf("%v, %d spans", err, traces.SpanCount())
	}
	spans := traces.ResourceSpans().At(0).ScopeSpans().At(0).Spans()
	for i := range spans.Len() {
		if sp := spans.At(i); sp.Name() == "update readings_db" && sp.Status().Code() != ptrace.StatusCodeError {
			t.Errorf("the step that failed is %v", sp.Status())
		}
	}
	s.run(2, "trace", "bulletin-test")
	s.run(1, "trace", "bulletin-test", "--run", "9", "-o", "-")
}

func TestCloudEvents(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "events", "bulletin-test", "--cloudevents")
	ids := map[string]bool{}
	for line := range strings.Lines(out) {
		e := decode[event.Event](t, line)
		if err := e.Validate(); err != nil || e.Source() != "/brickrow/workshop/alder-1/bulletin-test" || ids[e.ID()] {
			t.Errorf("%v: %s", err, line)
		}
		ids[e.ID()] = true
	}
	plain, _ := s.run(0, "events", "bulletin-test", "--json")
	if len(ids) != strings.Count(plain, "\n") {
		t.Errorf("%d of %d events", len(ids), strings.Count(plain, "\n"))
	}
	if again, _ := s.run(0, "events", "bulletin-test", "--cloudevents"); again != out {
		t.Error("an event is another one when it is written again")
	}
}
