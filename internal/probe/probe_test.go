package probe

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// answers is a cloud that has one address.
type answers struct {
	url   string
	reply cloud.Reply
	err   error
}

func (a answers) Ask(_ context.Context, _ stack.Target, c cloud.Call) (cloud.Reply, bool, error) {
	return a.reply, c.URL == a.url, a.err
}

func TestAsking(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == "/down" {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		fmt.Fprint(w, "ok, snow 42 cm")
	}))
	defer server.Close()
	own := answers{url: "http://gate.example", reply: cloud.Reply{Status: 200, Body: "the gate"}}
	shut := answers{url: "http://gate.example", reply: cloud.Reply{Refused: "no server is behind it"}}
	for _, test := range []struct {
		name string
		via  cloud.Asking
		q    stack.Question
		said string // "" is that it is not well
		err  string
	}{
		{"by http", nil, stack.Question{Kind: "http", URL: tosca.String(server.URL), Expect: 200, Body: `^ok.*\d+ cm`}, "it answers 200", ""},
		{"another status", nil, stack.Question{Kind: "http", URL: tosca.String(server.URL + "/down"), Expect: 200}, "", "it answers 503, and 200 is wanted: ok, snow"},
		{"that is wanted", nil, stack.Question{Kind: "http", URL: tosca.String(server.URL + "/down"), Expect: 503}, "it answers 503", ""},
		{"another answer", nil, stack.Question{Kind: "http", URL: tosca.String(server.URL), Expect: 200, Body: "rain"}, "", "its answer is not like rain: ok, snow 42 cm"},
		{"by tcp", nil, stack.Question{Kind: "tcp", URL: tosca.String(strings.Replace(server.URL, "http", "tcp", 1))}, "it lets one in", ""},
		{"nobody there", nil, stack.Question{Kind: "tcp", URL: tosca.String("tcp://127.0.0.1:1")}, "", "refused"},
		{"no port", nil, stack.Question{Kind: "tcp", URL: tosca.String("tcp://ridge")}, "", "no tcp://HOST:PORT"},
		{"of the cloud", own, stack.Question{Kind: "http", URL: tosca.String("http://gate.example"), Expect: 200, Body: "gate"}, "it answers 200", ""},
		{"of another", own, stack.Question{Kind: "http", URL: tosca.String(server.URL), Expect: 200}, "it answers 200", ""},
		{"that is shut", shut, stack.Question{Kind: "http", URL: tosca.String("http://gate.example"), Expect: 200}, "", "no server is behind it"},
		{"a cloud that is away", answers{err: errors.New("away")}, stack.Question{Kind: "http", URL: tosca.String("x")}, "", "did not answer: away"},
		{"not known", nil, stack.Question{Kind: "http", URL: tosca.Unknown{Of: []tosca.Attribute{{Resource: "gate", Name: "url"}}}}, "", "not known"},
	} {
		said, err := Ask(t.Context(), test.via, stack.Target{}, test.q)
		if said != test.said || (err == nil) != (test.err == "") || err != nil && !strings.Contains(err.Error(), test.err) {
			t.Errorf("%s: %q %v", test.name, said, err)
		}
	}
}
