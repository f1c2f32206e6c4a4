package export

import (
	"context"
	"fmt"
	"os"
	"strings"

	"go.opentelemetry.io/otel/exporters/otlp/otlptrace"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// Wanted reports whether the environment says that traces are sent somewhere, by the
// variables of OpenTelemetry.
func Wanted() bool {
	if strings.EqualFold(os.Getenv("OTEL_SDK_DISABLED"), "true") || strings.EqualFold(os.Getenv("OTEL_TRACES_EXPORTER"), "none") {
		return false
	}
	return os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT")+os.Getenv("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT") != ""
}

// Sender sends the spans of a run while it goes on, each once, over HTTP.
type Sender struct {
	client otlptrace.Client
	sent   map[string]bool // by id
}

// NewSender is a sender to where the environment says.
func NewSender(ctx context.Context) (*Sender, error) {
	for _, name := range []string{"OTEL_EXPORTER_OTLP_TRACES_PROTOCOL", "OTEL_EXPORTER_OTLP_PROTOCOL"} {
		if p := os.Getenv(name); p != "" && !strings.HasPrefix(p, "http/") {
			return nil, fmt.Errorf("%s is %s; traces are sent as http/protobuf", name, p)
		}
	}
	s := &Sender{client: otlptracehttp.NewClient(), sent: map[string]bool{}}
	return s, s.client.Start(ctx)
}

// Send sends the steps that have ended since, and once the run has ended itself the run,
// too.
func (s *Sender) Send(ctx context.Context, st *stack.Stack, r *run.Record, events []run.Event) error {
	trace := Trace(st, r, events)
	var fresh []*tracepb.Span
	for _, span := range trace.ScopeSpans[0].Spans {
		if !s.sent[string(span.SpanId)] && (len(span.ParentSpanId) > 0 || r.State.Ended()) {
			fresh = append(fresh, span)
		}
	}
	const most = 512
	for len(fresh) > 0 {
		n := min(most, len(fresh))
		trace.ScopeSpans[0].Spans = fresh[:n]
		if err := s.client.UploadTraces(ctx, []*tracepb.ResourceSpans{trace}); err != nil {
			return err
		}
		for _, span := range fresh[:n] {
			s.sent[string(span.SpanId)] = true
		}
		fresh = fresh[n:]
	}
	return nil
}

// Skip takes what has ended as sent: another process has sent it.
func (s *Sender) Skip(st *stack.Stack, r *run.Record, events []run.Event) {
	for _, span := range Trace(st, r, events).ScopeSpans[0].Spans {
		if len(span.ParentSpanId) > 0 && span.Status.GetCode() != tracepb.Status_STATUS_CODE_ERROR { // that is tried again
			s.sent[string(span.SpanId)] = true
		}
	}
}

// Close ends the sender.
func (s *Sender) Close(ctx context.Context) error { return s.client.Stop(ctx) }
