package httpcloud

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

var here = stack.Target{Account: "workshop", Region: "alder-1"}

// answering is a client of a server that always answers the same.
func answering(t *testing.T, status int, header map[string]string, body string) *Client {
	t.Helper()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for k, v := range header {
			w.Header().Set(k, v)
		}
		w.WriteHeader(status)
		w.Write([]byte(body))
	}))
	t.Cleanup(srv.Close)
	return &Client{Base: srv.URL, HTTP: srv.Client(), Tokens: map[string]string{"workshop": "t"}}
}

func TestProblems(t *testing.T) {
	for _, test := range []struct {
		name    string
		status  int
		header  map[string]string
		body    string
		words   string
		passing bool
		after   time.Duration
	}{
		{"a problem", 422, nil, `{"type":"x","title":"a title","detail":"in detail","fix":"do this"}`, "in detail",
			false, 0},
		{"only a title", 422, nil, `{"type":"x","title":"a title"}`, "a title", false, 0},
		{"control characters", 422, nil, `{"title":"a","detail":"red \u001b[31m and \u0007"}`, "red ·[31m and ·",
			false, 0},
		{"no JSON", 500, nil, "<html>", "the cloud answered 500 Internal Server Error", false, 0},
		{"too many calls", 429, map[string]string{"Retry-After": "2"}, `{"title":"busy"}`, "busy", true,
			2 * time.Second},
		{"a gateway", 502, nil, "bad gateway", "the cloud answered 502 Bad Gateway", true, 0},
		{"out of service", 503, nil, `{"title":"later","retry_after_ms":150}`, "later", true, 150 * time.Millisecond},
	} {
		_, err := answering(t, test.status, test.header, test.body).Get(t.Context(), cloud.Ref{Target: here, ID: "x"})
		var p *cloud.Problem
		if !errors.As(err, &p) || p.Error() != test.words || p.Passing != test.passing || p.RetryAfter() != test.after {
			t.Errorf("%s: %v %+v", test.name, err, p)
		}
	}
	if _, err := answering(t, 404, nil, `{"title":"gone"}`).
		Get(t.Context(), cloud.Ref{Target: here, ID: "x"}); !cloud.IsNotFound(err) {
		t.Errorf("not there: %v", err)
	}
	if _, err := answering(t, 200, nil, `{"id":`).Get(t.Context(), cloud.Ref{Target: here, ID: "x"}); err == nil ||
		!strings.Contains(err.Error(), "cannot be read") {
		t.Errorf("half an answer: %v", err)
	}
}

func TestALostConnectionPasses(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter,
		*http.Request) {
		panic(http.ErrAbortHandler)
	}))
	defer srv.Close()
	c := &Client{Base: srv.URL, HTTP: srv.Client()}
	var p *cloud.Problem
	if _, err := c.Get(t.Context(), cloud.Ref{Target: here, ID: "x"}); !errors.As(err, &p) || !p.Passing {
		t.Errorf("a connection that is cut: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := c.Get(ctx, cloud.Ref{Target: here, ID: "x"}); !errors.Is(err, context.Canceled) {
		t.Errorf("a call given up: %v", err)
	}
}

func TestRequestsCarryWhatTheyMust(t *testing.T) {
	var got *http.Request
	var body map[string]any
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got, body = r, nil
		json.NewDecoder(r.Body).Decode(&body)
		w.Write([]byte(`{"id":"op","state":"done"}`))
	}))
	defer srv.Close()
	c := &Client{Base: srv.URL, HTTP: srv.Client(), Tokens: map[string]string{"workshop": "a-token"}}
	req := cloud.Request{Type: "Topic", Properties: map[string]any{"label": nil}, ETag: `"7"`}
	for _, test := range []struct {
		method, path, match string
		call                func() error
	}{
		{"POST", "/v1/workshop/alder-1/resources", "",
			func() error { _, err := c.Create(t.Context(), here, "key", req); return err }},
		{"PATCH", "/v1/workshop/alder-1/resources/a~b", `"7"`, func() error {
			_, err := c.Update(t.Context(), cloud.Ref{Target: here, ID: "a~b"}, "key", req)
			return err
		}},
		{"DELETE", "/v1/workshop/alder-1/resources/a%2Fb", "",
			func() error { _, err := c.Delete(t.Context(), cloud.Ref{Target: here, ID: "a/b"}, "key"); return err }},
	} {
		if err := test.call(); err != nil {
			t.Fatal(err)
		}
		if got.Method != test.method || got.URL.EscapedPath() != test.path ||
			got.Header.Get("Idempotency-Key") != "key" || got.Header.Get("Authorization") != "Bearer a-token" ||
			got.Header.Get("If-Match") != test.match {
			t.Errorf("%s %s %v", got.Method, got.URL.EscapedPath(), got.Header)
		}
		if label, sent := body["properties"]; test.method == "PATCH" &&
			(!sent || label.(map[string]any)["label"] != nil) {
			t.Errorf("a property that is taken away is sent as %v", body)
		}
	}
}

func TestWhatTheCloudSaysIsCleaned(t *testing.T) {
	c := answering(t, 200, nil,
		`{"items":[{"id":"x\u001b[2J","type":"Topic","tags":{"node\u0007":"n\u001b"},"attributes":{"list":["a\u001b"],"map":{"k":"v\u0000"}}}]}`)
	list, err := c.List(t.Context(), here, "")
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(list)
	if err != nil || strings.Contains(string(text), `\u00`) {
		t.Errorf("%s %v", text, err)
	}
}

// TestPagesAreAskedForAtOnce wants the pages of a list side by side where the
// cloud says where they begin, one after the other where it does not, and an
// error of any of them.
func TestPagesAreAskedForAtOnce(t *testing.T) {
	for _, starts := range []bool{true, false} {
		var now, most, calls atomic.Int32
		broken := atomic.Bool{}
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			calls.Add(1)
			n := now.Add(1)
			for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
			}
			time.Sleep(20 * time.Millisecond)
			defer now.Add(-1)
			after, _ := strconv.Atoi(r.URL.Query().Get("after"))
			page := map[string]any{"items": []map[string]any{{"id": strconv.Itoa(after)}},
				"next": strconv.Itoa(after + 1)}
			switch {
			case after == 5 && broken.Load():
				http.Error(w, "no", http.StatusTeapot)
				return
			case after == 6:
				page["next"] = ""
			case after == 0 && starts:
				page["starts"] = []string{"1", "2", "3", "4", "5", "6"}
			}
			json.NewEncoder(w).Encode(page)
		}))
		c := &Client{Base: srv.URL, HTTP: srv.Client(), Tokens: map[string]string{"workshop": "t"}}
		list, err := c.List(t.Context(), here, "")
		if err != nil || len(list) != 7 || list[0].ID != "0" || list[6].ID != "6" || calls.Load() != 7 {
			t.Errorf("%v %v after %d calls", list, err, calls.Load())
		}
		if (most.Load() > 2) != starts {
			t.Errorf("%d calls at once, where the cloud says where pages begin: %v", most.Load(), starts)
		}
		broken.Store(true)
		if _, err := c.List(t.Context(), here, ""); err == nil {
			t.Error("a page is missing, and nobody says so")
		}
		srv.Close()
	}
}
