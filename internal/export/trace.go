package export

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	semconv "go.opentelemetry.io/otel/semconv/v1.37.0"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	resourcepb "go.opentelemetry.io/proto/otlp/resource/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"

	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// Trace is a run as a trace of OpenTelemetry: one span for the run, and one for each step
// that has ended, with its attempts and inner steps as events and links to the steps that
// it waited for. Its ids follow from those of the run, so that they are the same whenever
// it is made.
func Trace(st *stack.Stack, r *run.Record, events []run.Event) *tracepb.ResourceSpans {
	spans := []*tracepb.Span{root(st, r, events)}
	steps := run.Spans(r.Plan, events)
	there := map[string]bool{}
	for _, s := range steps {
		there[s.Step.ID] = !s.Ended.IsZero()
	}
	for _, s := range steps {
		if !s.Ended.IsZero() {
			spans = append(spans, step(r, s, there))
		}
	}
	return &tracepb.ResourceSpans{
		SchemaUrl: semconv.SchemaURL,
		Resource: &resourcepb.Resource{Attributes: []*commonpb.KeyValue{
			text(string(semconv.ServiceNameKey), "brickrow"),
			text(string(semconv.CloudAccountIDKey), st.Target.Account),
			text(string(semconv.CloudRegionKey), st.Target.Region),
			text("brickrow.stack", st.Name),
		}},
		ScopeSpans: []*tracepb.ScopeSpans{{Scope: &commonpb.InstrumentationScope{Name: "brickrow"}, Spans: spans}},
	}
}

// Unfinished counts the steps of a run that are under way, and so are in no trace yet.
func Unfinished(r *run.Record, events []run.Event) (n int) {
	for _, s := range run.Spans(r.Plan, events) {
		if s.Ended.IsZero() {
			n++
		}
	}
	return n
}

// TraceID is the id of the trace of a run, and spanID that of one of its steps; "" is the
// run.
func TraceID(r *run.Record) []byte { return digest("trace", r.ID)[:16] }

func spanID(r *run.Record, step string) []byte { return digest("span", r.ID, step)[:8] }

func digest(parts ...string) []byte {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%d %s", len(p), p)
	}
	return h.Sum(nil)
}

func root(st *stack.Stack, r *run.Record, events []run.Event) *tracepb.Span {
	end := r.Ended
	if end.IsZero() {
		if end = r.Started; len(events) > 0 {
			end = events[len(events)-1].Time
		}
	}
	s := &tracepb.Span{TraceId: TraceID(r), SpanId: spanID(r, ""), Name: string(r.Kind) + " " + st.Name,
		Kind: tracepb.Span_SPAN_KIND_INTERNAL, StartTimeUnixNano: nano(r.Started), EndTimeUnixNano: nano(end),
		Attributes: []*commonpb.KeyValue{
			number("brickrow.run", int64(r.Number)), text("brickrow.kind", string(r.Kind)), text("brickrow.state", string(r.State)),
			number("brickrow.revision", int64(r.Revision)), text("brickrow.tally", r.Tally.String()),
			text(string(semconv.UserNameKey), r.By)}}
	for _, e := range events {
		if e.Resource == "" {
			s.Events = append(s.Events, spanEvent(e))
		}
	}
	switch r.State {
	case run.StatusDone:
		s.Status = &tracepb.Status{Code: tracepb.Status_STATUS_CODE_OK}
	case run.StatusUndone, run.StatusStuck, run.StatusHeld:
		s.Status = &tracepb.Status{Code: tracepb.Status_STATUS_CODE_ERROR, Message: r.Reason}
	}
	return s
}

// step is the span of a step; there says which others there are.
func step(r *run.Record, of *run.Span, there map[string]bool) *tracepb.Span {
	last := of.Events[len(of.Events)-1]
	s := &tracepb.Span{TraceId: TraceID(r), SpanId: spanID(r, of.Step.ID), ParentSpanId: spanID(r, ""),
		Name: string(of.Step.Action) + " " + of.Step.Resource, Kind: tracepb.Span_SPAN_KIND_INTERNAL,
		StartTimeUnixNano: nano(of.Began), EndTimeUnixNano: nano(of.Ended),
		Attributes: []*commonpb.KeyValue{
			text("brickrow.resource", of.Step.Resource), text("brickrow.resource.type", last.Type),
			text("brickrow.action", string(of.Step.Action)), text("brickrow.phase", string(of.Step.Phase)),
			text("brickrow.state", string(of.State)), number("brickrow.attempts", int64(max(1, last.Attempt)))}}
	if last.CloudID != "" {
		s.Attributes = append(s.Attributes, text(string(semconv.CloudResourceIDKey), last.CloudID))
	}
	for _, e := range of.Events {
		s.Events = append(s.Events, spanEvent(e))
	}
	for _, need := range of.Step.Needs {
		if there[need] {
			s.Links = append(s.Links, &tracepb.Span_Link{TraceId: TraceID(r), SpanId: spanID(r, need)})
		}
	}
	s.Status = &tracepb.Status{Code: tracepb.Status_STATUS_CODE_OK}
	if of.State == run.HasFailed {
		s.Status = &tracepb.Status{Code: tracepb.Status_STATUS_CODE_ERROR, Message: last.Reason}
	}
	return s
}

// spanEvent is an event of a run within a span.
func spanEvent(e run.Event) *tracepb.Span_Event {
	name := e.Step
	if name == "" {
		name = string(e.State)
	}
	out := &tracepb.Span_Event{TimeUnixNano: nano(e.Time), Name: name, Attributes: []*commonpb.KeyValue{
		text("brickrow.state", string(e.State))}}
	if e.Attempt > 0 {
		out.Attributes = append(out.Attributes, number("brickrow.attempt", int64(e.Attempt)))
	}
	if e.Reason != "" {
		out.Attributes = append(out.Attributes, text("brickrow.reason", e.Reason))
	}
	if e.Problem != "" {
		out.Attributes = append(out.Attributes, text(string(semconv.ErrorTypeKey), e.Problem))
	}
	return out
}

func nano(t time.Time) uint64 { return uint64(max(0, t.UnixNano())) }

func text(key, value string) *commonpb.KeyValue {
	return &commonpb.KeyValue{Key: key, Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: value}}}
}

func number(key string, value int64) *commonpb.KeyValue {
	return &commonpb.KeyValue{Key: key, Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_IntValue{IntValue: value}}}
}

// TraceJSON is a trace in the JSON of OTLP, in which ids are in hexadecimal.
func TraceJSON(spans *tracepb.ResourceSpans) ([]byte, error) {
	plain, err := protojson.MarshalOptions{UseEnumNumbers: true}.Marshal(&tracepb.TracesData{ResourceSpans: []*tracepb.ResourceSpans{spans}})
	if err != nil {
		return nil, err
	}
	var tree any
	if err := json.Unmarshal(plain, &tree); err != nil {
		return nil, err
	}
	if err := hexIDs(tree); err != nil {
		return nil, err
	}
	return json.MarshalIndent(tree, "", "  ")
}

// hexIDs writes the ids in a tree of JSON in hexadecimal: protojson has them in base64.
func hexIDs(tree any) error {
	switch tree := tree.(type) {
	case []any:
		for _, x := range tree {
			if err := hexIDs(x); err != nil {
				return err
			}
		}
	case map[string]any:
		for key, x := range tree {
			if id, ok := x.(string); ok && (key == "traceId" || key == "spanId" || key == "parentSpanId") {
				raw, err := base64.StdEncoding.DecodeString(id)
				if err != nil {
					return err
				}
				tree[key] = hex.EncodeToString(raw)
			} else if err := hexIDs(x); err != nil {
				return err
			}
		}
	}
	return nil
}
