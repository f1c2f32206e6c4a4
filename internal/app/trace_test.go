package app

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"brickrow/internal/run"
)

// A run is sent as a trace where the environment says so; one that cannot be sent holds
// nothing up, and the run says so.
func TestARunIsTraced(t *testing.T) {
	var bytes atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, q *http.Request) { bytes.Add(q.ContentLength) }))
	defer server.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", server.URL)
	b := newBench(t, 5000)
	b.terrace(terrace)
	b.write("terrace.stack.yaml", "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	b.deploy(run.StatusDone, "terrace.stack.yaml")
	if bytes.Load() < 1000 {
		t.Errorf("%d bytes were sent", bytes.Load())
	}
	if last := b.lastEvent("terrace"); last.State != run.IsReady {
		t.Errorf("%+v", last)
	}
	server.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_TIMEOUT", "100")
	b.deploy(run.StatusDone, "terrace.stack.yaml", "form=2")
	if last := b.lastEvent("terrace"); last.Step != "the trace could not be sent" || !strings.Contains(last.Reason, "connection refused") {
		t.Errorf("%+v", last)
	}
}

func (b *bench) lastEvent(name string) run.Event {
	b.t.Helper()
	r, err := b.store.RunNumber(b.t.Context(), b.stack(name).ID, 0)
	if err != nil {
		b.t.Fatal(err)
	}
	list, err := b.Events(b.t.Context(), r.ID, 0)
	if err != nil || len(list) == 0 {
		b.t.Fatal(err)
	}
	return list[len(list)-1]
}
