package export

import (
	"compress/gzip"
	"context"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"go.opentelemetry.io/collector/pdata/ptrace"
	"go.opentelemetry.io/collector/pdata/ptrace/ptraceotlp"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

var (
	begun = time.Date(2026, 11, 26, 4, 0, 0, 0, time.UTC)
	ridge = &stack.Stack{Name: "bulletin-test", Target: stack.Target{Account: "workshop", Region: "alder-1"}}
)

// story is a run in which a step fails, is tried again and is done, with another one behind
// it.
func story() (*run.Record, []run.Event) {
	r := &run.Record{ID: "0b54", Number: 7, Kind: run.KindDeploy, State: run.StatusDone, Started: begun, Ended: begun.Add(9 * time.Second),
		Plan: run.Plan{Steps: []run.Step{{ID: "create net", Resource: "net", Action: run.Create, Phase: run.PhaseBuild},
			{ID: "create post", Resource: "post", Action: run.Create, Phase: run.PhaseBuild, Needs: []string{"create net"}}}}}
	at := func(sec int, e run.Event) run.Event {
		e.Time = begun.Add(time.Duration(sec) * time.Second)
		return e
	}
	return r, []run.Event{at(0, run.Event{State: run.Working, Step: "deploy begins: 2 new"}),
		at(1, run.Event{Resource: "net", Type: "Network", State: run.Working, Attempt: 1}),
		at(3, run.Event{Resource: "net", Type: "Network", State: run.HasFailed, Reason: "no range", Problem: "bad-range", Attempt: 1}),
		at(4, run.Event{Resource: "net", Type: "Network", State: run.Working, Attempt: 2}),
		at(5, run.Event{Resource: "net", Type: "Network", State: run.IsReady, CloudID: "network~7", Attempt: 2}),
		at(5, run.Event{Resource: "post", Type: "Server", State: run.Working, Attempt: 1}),
		at(8, run.Event{Resource: "post", Type: "Server", State: run.IsReady, Attempt: 1})}
}

// What is written is read by another program's types: spans, parents, times and links.
func TestTraceIsRead(t *testing.T) {
	r, events := story()
	text, err := TraceJSON(Trace(ridge, r, events))
	if err != nil {
		t.Fatal(err)
	}
	traces, err := (&ptrace.JSONUnmarshaler{}).UnmarshalTraces(text)
	if err != nil {
		t.Fatal(err, string(text))
	}
	if traces.SpanCount() != 3 {
		t.Fatalf("%d spans in %s", traces.SpanCount(), text)
	}
	res := traces.ResourceSpans().At(0)
	for key, want := range map[string]string{"service.name": "brickrow", "cloud.account.id": "workshop", "cloud.region": "alder-1"} {
		if v, ok := res.Resource().Attributes().Get(key); !ok || v.Str() != want {
			t.Errorf("%s is %v", key, v)
		}
	}
	spans := map[string]ptrace.Span{}
	list := res.ScopeSpans().At(0).Spans()
	for i := range list.Len() {
		spans[list.At(i).Name()] = list.At(i)
	}
	root, net, post := spans["deploy bulletin-test"], spans["create net"], spans["create post"]
	if !root.ParentSpanID().IsEmpty() || root.Status().Code() != ptrace.StatusCodeOk || root.EndTimestamp().AsTime() != r.Ended {
		t.Errorf("the run: %v %v", root.Status().Code(), root.EndTimestamp().AsTime())
	}
	for _, s := range []ptrace.Span{net, post} {
		if s.ParentSpanID() != root.SpanID() || s.TraceID() != root.TraceID() || s.TraceID().IsEmpty() || s.SpanID().IsEmpty() ||
			s.Kind() != ptrace.SpanKindInternal || s.Status().Code() != ptrace.StatusCodeOk {
			t.Errorf("%s hangs in the air", s.Name())
		}
	}
	if net.StartTimestamp().AsTime() != begun.Add(time.Second) || net.EndTimestamp().AsTime() != begun.Add(5*time.Second) || net.Events().Len() != 4 {
		t.Errorf("net: %v to %v, %d events", net.StartTimestamp(), net.EndTimestamp(), net.Events().Len())
	}
	if v, _ := net.Attributes().Get("brickrow.attempts"); v.Int() != 2 {
		t.Errorf("%d attempts", v.Int())
	}
	if v, _ := net.Attributes().Get("cloud.resource_id"); v.Str() != "network~7" {
		t.Errorf("its id is %s", v.Str())
	}
	if post.Links().Len() != 1 || post.Links().At(0).SpanID() != net.SpanID() || net.Links().Len() != 0 {
		t.Errorf("post waited for %d", post.Links().Len())
	}
	r.State, r.Reason = run.StatusStuck, "no"
	if s := Trace(ridge, r, events[:3]).ScopeSpans[0].Spans; len(s) != 2 || s[0].Status.Message != "no" || s[1].Status.Message != "no range" ||
		string(s[1].SpanId) != string(spanID(r, "create net")) {
		t.Errorf("%v", s)
	}
	if n := Unfinished(r, events[:6]); n != 1 {
		t.Errorf("%d are under way", n)
	}
}

// receiver takes what is sent as OTLP over HTTP.
type receiver struct {
	mu    sync.Mutex
	spans map[string]int // by name
	ids   map[string]string
}

func (rc *receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	body := io.Reader(q.Body)
	if q.Header.Get("Content-Encoding") == "gzip" {
		body, _ = gzip.NewReader(q.Body)
	}
	raw, _ := io.ReadAll(body)
	in := ptraceotlp.NewExportRequest()
	if err := in.UnmarshalProto(raw); err != nil || q.URL.Path != "/v1/traces" {
		http.Error(w, "that is no trace", http.StatusBadRequest)
		return
	}
	rc.mu.Lock()
	defer rc.mu.Unlock()
	for i := range in.Traces().ResourceSpans().Len() {
		list := in.Traces().ResourceSpans().At(i).ScopeSpans().At(0).Spans()
		for j := range list.Len() {
			rc.spans[list.At(j).Name()]++
			rc.ids[list.At(j).Name()] = list.At(j).TraceID().String() + list.At(j).SpanID().String()
		}
	}
	out, _ := ptraceotlp.NewExportResponse().MarshalProto()
	w.Header().Set("Content-Type", "application/x-protobuf")
	_, _ = w.Write(out)
}

// A trace that is sent while the run goes on has each span once, with the ids of the one
// that is written later.
func TestTraceIsSent(t *testing.T) {
	rc := &receiver{spans: map[string]int{}, ids: map[string]string{}}
	server := httptest.NewServer(rc)
	defer server.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", server.URL)
	if !Wanted() {
		t.Fatal("it is not wanted")
	}
	s, err := NewSender(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	r, events := story()
	r.State = run.StatusWorking
	for n := range len(events) + 1 {
		if err := s.Send(t.Context(), ridge, r, events[:n]); err != nil {
			t.Fatal(err)
		}
	}
	if rc.spans["deploy bulletin-test"] != 0 {
		t.Error("the run is told as over while it goes on")
	}
	r.State = run.StatusDone
	if err := s.Send(t.Context(), ridge, r, events); err != nil {
		t.Fatal(err)
	}
	for _, span := range Trace(ridge, r, events).ScopeSpans[0].Spans {
		ids := span.TraceId
		if rc.spans[span.Name] == 0 || rc.ids[span.Name] != hex.EncodeToString(append(ids[:16:16], span.SpanId...)) {
			t.Errorf("%s came %d times, as %s", span.Name, rc.spans[span.Name], rc.ids[span.Name])
		}
	}
	if err := s.Close(context.WithoutCancel(t.Context())); err != nil {
		t.Error(err)
	}
	t.Setenv("OTEL_EXPORTER_OTLP_PROTOCOL", "grpc")
	if _, err := NewSender(t.Context()); err == nil {
		t.Error("it would be sent in another way than asked for")
	}
	t.Setenv("OTEL_SDK_DISABLED", "true")
	if Wanted() {
		t.Error("it is wanted, though it is switched off")
	}
}
