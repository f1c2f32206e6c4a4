package cli

import (
	"strings"
	"testing"
	"time"

	"brickrow/internal/run"
)

func TestPlainLines(t *testing.T) {
	for text, want := range map[string]string{
		"a\tb\r\nc\n":           "a\tb\nc\n",
		"ok \ufffd \x1b[31m":    "ok \ufffd ·[31m",
		"latin \xe9 \x07":       "latin \xe9 ·",
		"half \xe2\x82 and all": "half \xe2\x82 and all",
	} {
		if got := plainLines(text); got != want {
			t.Errorf("%q is printed as %q, want %q", text, got, want)
		}
	}
}

// TestLinesOfALog holds how a run is told where nobody watches: what became of a resource stands together, in the order in
// which resources were done with, each line with the day and in UTC; nothing is left out.
func TestLinesOfALog(t *testing.T) {
	at := time.Date(2026, 11, 26, 23, 30, 0, 0, time.FixedZone("", -5*3600))
	events := []run.Event{{State: run.Working, Step: "begins"}}
	for _, x := range []struct {
		name  string
		state run.State
	}{{"net", run.Working}, {"news", run.Working}, {"net", run.Settling}, {"news", run.Settling}, {"net", run.IsReady}, {"post", run.Working}, {"box", run.Skipped},
		{"news", run.HasFailed}, {"", run.Undoing}, {"net", run.Removing}, {"net", run.IsUndone}, {"post", run.Working}, {"", run.HasFailed}} {
		events = append(events, run.Event{Resource: x.name, State: x.state, Step: "x"})
	}
	for i := range events {
		events[i].Time = at.Add(time.Duration(i) * time.Second)
	}
	told := func(p *Program) string {
		var out strings.Builder
		p.Out = &out
		tell, stop := p.telling(&run.Record{}, false)
		for _, e := range events {
			tell(e)
		}
		stop()
		var words []string
		for line := range strings.Lines(out.String()) {
			f := strings.Fields(line)
			words = append(words, f[0][len(f[0])-3:]+f[1])
		}
		return strings.Join(words, " ")
	}
	if got, want := told(&Program{}), "00Z(run) 01Znet 03Znet 05Znet 07Zbox 02Znews 04Znews 08Znews 06Zpost 09Z(run) 10Znet 11Znet 12Zpost 13Z(run)"; got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if got := told(&Program{terminal: true}); strings.Contains(got, "Z") || len(strings.Fields(got)) != len(events) || !strings.Contains(got, "net :02news") {
		t.Errorf("in a terminal: %s", got)
	}
	if got := (&Program{}).clock(at); got != "2026-11-27T04:30:00Z" {
		t.Error(got)
	}
}
