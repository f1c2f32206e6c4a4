package cli

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"
)

type toldReading struct {
	Target             string
	Resources, Differs int
	Changes            []toldTrace
	Problem            string
}

type toldTrace struct {
	Time, Kind, Stack, Resource, ID, Path string
	By                                    struct {
		Kind, Name string
		Run        int
	}
	Run           int
	Before, After any
	Relations     *struct{ Before, After []string }
}

// The cloud is observed, what has changed is told once, and a former configuration goes back
// into the files.
func TestObserving(t *testing.T) {
	s := newShell(t)
	observe := func(args ...string) map[string]toldReading {
		t.Helper()
		out, _ := s.run(0, append([]string{"observe", "--json"}, args...)...)
		got := map[string]toldReading{}
		for line := range strings.Lines(out) {
			var r toldReading
			if err := json.Unmarshal([]byte(line), &r); err != nil {
				t.Fatal(err)
			}
			got[r.Target] = r
		}
		return got
	}
	begun := observe()
	if at := begun["workshop/alder-1"]; len(begun) != 6 || at.Resources != 32 || at.Differs != 1 || len(at.Changes) != 6 {
		t.Errorf("%+v", begun)
	}
	if again := observe("--target", "workshop/alder-1"); len(again) != 1 || len(again["workshop/alder-1"].Changes) != 0 {
		t.Errorf("what has not changed is told again: %+v", again)
	}
	s.run(0, "deploy", s.file("bulletin-test.stack.yaml"), "-i", "db_size=medium", "--yes", "--accept", "data")
	out, _ := s.run(0, "history", "bulletin-test", "--resource", "readings_db")
	s.wants(out, "readings_db made by run 1", "readings_db changed by run 4", "size  small → medium")
	told := decode[struct {
		Resource string
		Changes  []toldTrace
	}](t, first(s.run(0, "history", "bulletin-test", "--resource", "readings_db", "--json")))
	if c := told.Changes; told.Resource != "readings_db" || len(c) < 2 || c[len(c)-1].Kind != "made" || c[0].Run != 4 {
		t.Errorf("%+v", told)
	}
	out, _ = s.run(0, "history", "--since", "1h", "--target", "workshop/alder-1")
	s.wants(out, "reader_rules changed by hand, by ", " found when it was looked at", "readings_db changed by run 4")
	if out, _ = s.run(0, "history", "--since", "now"); !strings.Contains(out, "nothing was seen to change") {
		t.Error(out)
	}
	if out, _ = s.run(0, "history", "bulletin-test", "--until", "yesterday"); !strings.Contains(out, "nothing was seen to change") {
		t.Error(out)
	}

	patch, _ := s.run(0, "history", "bulletin-test", "--resource", "reader_rules", "--since", "1h")
	s.wants(patch, "allow[1]  not set → ")
	moment := momentAfter(t, s, "made")
	_, errs := s.run(1, "history", "bulletin-test", "--resource", "readings_db", "--back-to", "3h")
	s.wants(errs, "was not deployed at")
	patch, _ = s.run(0, "history", "bulletin-test", "--resource", "readings_db", "--back-to", moment, "--patch")
	s.wants(patch, "@@", "small")
	s.run(2, "history", "bulletin-test", "--resource", "readings_db", "--back-to", moment, "--write")
	s.run(0, "history", "bulletin-test", "--resource", "readings_db", "--back-to", moment, "--write", "--yes")
	text, err := os.ReadFile(s.file("bulletin-test.stack.yaml"))
	if err != nil || !strings.Contains(string(text), "db_size: small") {
		t.Errorf("%v %s", err, text)
	}
	for _, args := range [][]string{{"observe", "--every", "1ms"}, {"observe", "--keep", "0"}, {"observe", "--target", "x"},
		{"history", "--back-to", "1h"}, {"history", "--since", "soon"}} {
		s.run(2, args...)
	}
	s.run(1, "history", "bulletin-test", "--resource", "no-such")
	s.run(1, "observe", "--target", "no/where")
}

// momentAfter is a moment after readings_db was made, and before it was changed.
func momentAfter(t *testing.T, s *shell, kind string) string {
	t.Helper()
	told := decode[struct{ Changes []toldTrace }](t, first(s.run(0, "history", "bulletin-test", "--resource", "readings_db", "--json")))
	for _, c := range told.Changes {
		if c.Kind == kind {
			at, err := time.Parse(time.RFC3339Nano, c.Time)
			if err != nil {
				t.Fatal(err)
			}
			return at.Add(time.Millisecond).Format(time.RFC3339Nano)
		}
	}
	t.Fatalf("it was not %s: %+v", kind, told)
	return ""
}
