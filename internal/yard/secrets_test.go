package yard_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// TestSecretsInTheYard marks secrets at several places of a request, and looks for
// them in what the yard shows and keeps. Its own rules go on working with them.
func TestSecretsInTheYard(t *testing.T) {
	dir := t.TempDir()
	y, err := yard.Open(dir, yard.Options{Library: shipped.Library, Speed: 1e6})
	if err != nil {
		t.Fatal(err)
	}
	defer y.Close()
	c := &httpcloud.Client{Base: "http://yard.local",
		HTTP: &http.Client{Transport: yard.Transport{Handler: y.Handler()}}, Tokens: y.Tokens()}
	b := &bench{Client: c, t: t}
	finish := func(op cloud.Operation, err error) string {
		t.Helper()
		for err == nil && !op.Ended() {
			time.Sleep(time.Millisecond)
			op, err = c.Operation(t.Context(), cloud.Ref{Target: here}, op.ID)
		}
		if err != nil || op.State != "done" {
			t.Fatalf("%+v %v", op, err)
		}
		return op.ResourceID
	}
	net := finish(c.Create(t.Context(), here, b.key(),
		cloud.Request{Type: "Network", Properties: props{"cidr": "10.66.0.0/16"},
			Secrets: []string{"/properties/cidr"}}))
	role := finish(c.Create(t.Context(), here, b.key(),
		cloud.Request{Type: "Role", Properties: props{"for": "function"}}))
	fn := finish(c.Create(t.Context(), here, b.key(), cloud.Request{Type: "Function", Links: links{"role": {role}},
		Properties: props{"runtime": "go-1", "env": map[string]any{"TOKEN": "hoarfrost-1", "open": "shown"}},
		Tags:       map[string]string{"pw": "hoarfrost-2", "crew/pw~": "hoarfrost-7", "desk": "snow"},
		Secrets:    []string{"/properties/env/TOKEN", "/tags/pw", "/tags/crew~1pw~0"}}))
	box := finish(c.Create(t.Context(), here, b.key(),
		cloud.Request{Type: "Bucket", Properties: props{"name": "hoarfrost-3"},
			Tags: map[string]string{"hoarfrost-4": "x"}, Secrets: []string{"/properties/name", "/tags"}}))

	secrets := []string{"10.66.0.0", "hoarfrost"}
	all, err := b.door().Everything(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(all)
	if err != nil {
		t.Fatal(err)
	}
	listing := string(text)
	for _, s := range secrets {
		if strings.Contains(listing, s) {
			t.Errorf("the listing of everything has %s: %s", s, listing)
		}
	}
	got := b.get(fn)
	env, _ := got.Properties["env"].(map[string]any)
	if env["open"] != "shown" || !strings.HasPrefix(fmt.Sprint(env["TOKEN"]), "fingerprint:") ||
		got.Tags["desk"] != "snow" || !strings.HasPrefix(got.Tags["pw"], "fingerprint:") ||
		!strings.HasPrefix(got.Tags["crew/pw~"], "fingerprint:") {
		t.Errorf("the function shows %v %v", got.Properties, got.Tags)
	}
	if r := b.get(box); r.Attributes["url"] != "https://hoarfrost-3.objects.yard.example" ||
		strings.Join(r.SecretAttributes, "") != "url" {
		t.Errorf("what follows from a secret: %v %v", r.Attributes, r.SecretAttributes)
	}

	// the rules know the values: a subnet has to be inside, a name is unique
	if _, err := c.Create(t.Context(), here, b.key(),
		cloud.Request{Type: "Subnet", Properties: props{"cidr": "10.67.1.0/24"},
			Links: links{"network": {net}}}); err == nil || !strings.Contains(err.Error(), "is not inside") {
		t.Errorf("a subnet outside: %v", err)
	}
	finish(c.Create(t.Context(), here, b.key(),
		cloud.Request{Type: "Subnet", Properties: props{"cidr": "10.66.1.0/24"}, Links: links{"network": {net}}}))
	_, err = c.Create(t.Context(), here, b.key(),
		cloud.Request{Type: "Bucket", Properties: props{"name": "hoarfrost-3"}, Secrets: []string{"/properties/name"}})
	if err == nil || !strings.Contains(err.Error(), "(secret) is taken") {
		t.Errorf("a name that is taken: %v", err)
	}
	if taken, id, err := c.NameTaken(t.Context(), here, "Bucket", "hoarfrost-3"); err != nil || !taken || id != box {
		t.Errorf("%v %v %v", taken, id, err)
	}

	// an edit of something else keeps them; one of theirs shows another fingerprint
	finish(c.Update(t.Context(), cloud.Ref{Target: here, ID: fn}, b.key(),
		cloud.Request{Properties: props{"timeout": "60 s"}}))
	if now := b.get(fn); fmt.Sprint(now.Properties["env"], now.Tags) != fmt.Sprint(got.Properties["env"], got.Tags) {
		t.Errorf("after an edit: %v %v", now.Properties, now.Tags)
	}
	finish(c.Update(t.Context(), cloud.Ref{Target: here, ID: fn}, b.key(),
		cloud.Request{Properties: props{"env": map[string]any{"TOKEN": "hoarfrost-5", "open": "shown"}},
			Secrets: []string{"/properties/env/TOKEN"}}))
	if now := b.get(fn); fmt.Sprint(now.Properties["env"]) == fmt.Sprint(got.Properties["env"]) {
		t.Errorf("another secret looks the same: %v", now.Properties)
	}
	if _, err := b.door().AddFault(t.Context(),
		yard.Fault{Name: "x", Reason: "hoarfrost-6 is wrong", Times: 1}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"yard.db", "yard.db-wal"} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			continue
		}
		for _, s := range secrets {
			if strings.Contains(string(text), s) {
				t.Errorf("%s has %s", name, s)
			}
		}
	}
}

// TestKeysBelongToAPlace sends one key from two accounts, and to two regions: none
// is answered with what another did.
func TestKeysBelongToAPlace(t *testing.T) {
	b := newBench(t)
	other := stack.Target{Account: "summit", Region: "alder-1"}
	far := stack.Target{Account: "workshop", Region: "birch-1"}
	ids := map[string]bool{}
	for _, place := range []stack.Target{here, other, far} {
		op, err := b.Create(t.Context(), place, "the key", cloud.Request{Type: "Topic"})
		if err != nil {
			t.Fatalf("%s: %v", place, err)
		}
		ids[op.ResourceID] = true
	}
	if len(ids) != 3 {
		t.Errorf("one was answered with another's: %v", ids)
	}
	b.clock.pass(time.Minute)
	mine := b.make("Topic", nil, nil)
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: mine}, "to delete"); err != nil {
		t.Fatal(err)
	}
	var p *cloud.Problem
	if op, err := b.Delete(t.Context(), cloud.Ref{Target: other, ID: mine}, "to delete"); !errors.As(err, &p) ||
		p.Status != http.StatusNotFound {
		t.Errorf("the deletion is answered to another account: %+v %v", op, err)
	}
}

// TestAPanicIsNoPassingError breaks the yard in the middle of a call.
func TestAPanicIsNoPassingError(t *testing.T) {
	y, err := yard.Open(t.TempDir(), yard.Options{Library: shipped.Library,
		Now: func() time.Time { panic("out of time") }})
	if err != nil {
		t.Fatal(err)
	}
	defer y.Close()
	c := &httpcloud.Client{Base: "http://yard.local",
		HTTP: &http.Client{Transport: yard.Transport{Handler: y.Handler()}}, Tokens: y.Tokens()}
	var p *cloud.Problem
	if _, err := c.List(t.Context(), here, ""); !errors.As(err, &p) || p.Passing ||
		!strings.Contains(err.Error(), "broke down: out of time") {
		t.Errorf("%v", err)
	}
}

// TestHalfARequestIsNotWaitedFor sends half a body and wants the connection
// closed.
func TestHalfARequestIsNotWaitedFor(t *testing.T) {
	y, err := yard.Open(t.TempDir(), yard.Options{Library: shipped.Library})
	if err != nil {
		t.Fatal(err)
	}
	defer y.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	srv := yard.Server(y.Handler())
	go srv.Serve(l)
	defer srv.Shutdown(context.WithoutCancel(t.Context()))
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	begun := time.Now()
	fmt.Fprintf(conn, "POST /v1/workshop/alder-1/resources HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nIdempotency-Key: k\r\nContent-Length: 1000\r\n\r\n{", y.Tokens()["workshop"])
	conn.SetReadDeadline(begun.Add(20 * time.Second))
	line, err := bufio.NewReader(conn).ReadString('\n')
	if took := time.Since(begun); took > 12*time.Second {
		t.Errorf("it is held open for %s: %q %v", took, line, err)
	}
}
