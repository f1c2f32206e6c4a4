package yard_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// document is the yard's own description of its interface, as it serves it.
var document = sync.OnceValues(func() (routers.Router, error) {
	req := httptest.NewRequest(http.MethodGet, "/v1/openapi.json", nil)
	w := httptest.NewRecorder()
	(&yard.Yard{}).Handler().ServeHTTP(w, req)
	doc, err := openapi3.NewLoader().LoadFromData(w.Body.Bytes())
	if err == nil {
		err = doc.Validate(context.Background())
	}
	if err != nil {
		return nil, err
	}
	return gorillamux.NewRouter(doc)
})

// held holds all that passes to and fro against the document.
type held struct {
	t    testing.TB
	next http.RoundTripper
}

func (h held) RoundTrip(req *http.Request) (*http.Response, error) {
	if strings.HasPrefix(req.URL.Path, "/operator/") || strings.HasSuffix(req.URL.Path, "/feed") {
		return h.next.RoundTrip(req)
	}
	router, err := document()
	if err != nil {
		h.t.Errorf("the document: %v", err)
		return h.next.RoundTrip(req)
	}
	var body []byte
	if req.Body != nil {
		if body, err = io.ReadAll(req.Body); err != nil {
			return nil, err
		}
	}
	again := func() *http.Request {
		r := req.Clone(context.WithoutCancel(req.Context()))
		r.Body = io.NopCloser(bytes.NewReader(body))
		r.URL.Host, r.URL.Scheme, r.Host = "", "", "" // the document is about any host
		return r
	}
	route, params, err := router.FindRoute(again())
	if err != nil {
		h.t.Errorf("%s %s is not in the document: %v", req.Method, req.URL.Path, err)
		return h.next.RoundTrip(req)
	}
	in := &openapi3filter.RequestValidationInput{Request: again(), PathParams: params, Route: route,
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}}
	wrong := openapi3filter.ValidateRequest(context.Background(), in)
	req.Body = io.NopCloser(bytes.NewReader(body))
	resp, err := h.next.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	answer, err := io.ReadAll(resp.Body)
	if err != nil {
		return nil, err
	}
	resp.Body = io.NopCloser(bytes.NewReader(answer))
	if wrong != nil && resp.StatusCode < 400 {
		h.t.Errorf("%s %s is answered %d, though the document forbids it: %v", req.Method, req.URL, resp.StatusCode, wrong)
	}
	out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: resp.StatusCode, Header: resp.Header,
		Body: io.NopCloser(bytes.NewReader(answer)), Options: in.Options}
	if err := openapi3filter.ValidateResponse(context.Background(), out); err != nil {
		h.t.Errorf("%s %s: the answer is not as the document says: %v", req.Method, req.URL.Path, err)
	}
	return resp, nil
}

// The document is valid, has every path, and notices what is not as it says.
func TestTheDocument(t *testing.T) {
	if _, err := document(); err != nil {
		t.Fatal(err)
	}
	b := newBench(t)
	quiet := &told{TB: t}
	lie := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"id":"x"}`))
	})
	client := &httpcloud.Client{Base: b.Base, Tokens: b.Tokens,
		HTTP: &http.Client{Transport: held{quiet, yard.Transport{Handler: lie}}}}
	_, _ = client.Get(t.Context(), cloud.Ref{Target: here, ID: "x"})
	_, _ = client.Create(t.Context(), here, "", cloud.Request{Type: "Topic"})
	if quiet.n < 3 { // two answers, and a key that is missing
		t.Errorf("%d lies are noticed", quiet.n)
	}
}

type told struct {
	testing.TB
	n int
}

func (t *told) Errorf(string, ...any) { t.n++ }

// The feed tells what happens, to all who follow it, from where they were told last.
func TestTheFeed(t *testing.T) {
	b := newBench(t)
	follow := func(after int64, n int) (*[]cloud.Change, func()) {
		t.Helper()
		var list []cloud.Change
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		done := make(chan struct{})
		begun := make(chan struct{})
		go func() {
			defer close(done)
			close(begun)
			err := b.Feed(ctx, here, after, func(c cloud.Change) {
				if list = append(list, c); len(list) == n {
					stop()
				}
			})
			if !errors.Is(err, context.Canceled) {
				t.Errorf("the feed ends with %v after %d", err, len(list))
			}
		}()
		<-begun
		return &list, func() { <-done }
	}
	all, wait := follow(0, 6)
	id := b.make("Topic", nil, nil)
	op, err := b.Update(t.Context(), cloud.Ref{Target: here, Type: "Topic", ID: id}, "k1", cloud.Request{Properties: props{"label": "snow"}})
	if err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Minute)
	if _, err := b.Operation(t.Context(), cloud.Ref{Target: here, ID: id}, op.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: id}, "k2"); err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Minute)
	wait()
	var states []string
	for i, c := range *all {
		states = append(states, c.State)
		if c.ID != id || c.Type != "Topic" || i > 0 && c.Seq <= (*all)[i-1].Seq || c.Time.IsZero() {
			t.Errorf("%+v", c)
		}
	}
	if got := strings.Join(states, " "); got != "creating ready updating ready deleting removed" {
		t.Errorf("it told %s", got)
	}
	rest, wait := follow((*all)[3].Seq, 2)
	wait()
	if len(*rest) != 2 || (*rest)[0] != (*all)[4] {
		t.Errorf("from the fourth on it told %+v", *rest)
	}
	err = b.Feed(t.Context(), stack.Target{Account: "nobody", Region: "alder-1"}, -1, func(cloud.Change) {})
	if kind(err) != "unknown-target" {
		t.Errorf("of a target that there is not: %v", err)
	}
}
