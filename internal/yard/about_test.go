package yard_test

import (
	"errors"
	"net/http"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// TestAbout asks a target about itself as things are made in it.
func TestAbout(t *testing.T) {
	b := newBench(t)
	about := func() *cloud.About {
		t.Helper()
		a, err := b.About(t.Context(), here)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	used := func(a *cloud.About, typ string) cloud.Limit {
		i := slices.IndexFunc(a.Limits, func(l cloud.Limit) bool { return l.Type == typ })
		if i < 0 {
			t.Fatalf("no limit of %s in %+v", typ, a.Limits)
		}
		return a.Limits[i]
	}
	first := about()
	if first.Who != "workshop keeper" || !first.May("server:create") ||
		used(first, "Network") != (cloud.Limit{Type: "Network", Most: 5}) || len(first.Images) != 4 ||
		first.FreeAddresses < 100 {
		t.Errorf("an empty target: %+v", first)
	}
	b.make("Network", props{"cidr": "10.0.0.0/16"}, nil)
	b.make("Address", nil, nil)
	if now := about(); used(now, "Network").Used != 1 || now.FreeAddresses != first.FreeAddresses-1 {
		t.Errorf("with a network and an address: %+v", now)
	}
	if far, err := b.About(t.Context(), stack.Target{Account: "workshop", Region: "cedar-2"}); err != nil ||
		len(far.Images) != 3 || used(far, "Network").Used != 0 {
		t.Errorf("another region: %+v %v", far, err)
	}
}

func TestNames(t *testing.T) {
	b := newBench(t)
	id := b.make("Bucket", props{"name": "kestrel-frames"}, nil)
	for _, test := range []struct {
		account, name, id string
		taken             bool
	}{{"workshop", "kestrel-frames", id, true}, {"summit", "kestrel-frames", "", true}, {"workshop", "kestrel-other",
		"", false}} {
		taken, got, err := b.NameTaken(t.Context(), stack.Target{Account: test.account, Region: "alder-1"}, "Bucket",
			test.name)
		if err != nil || taken != test.taken || got != test.id {
			t.Errorf("%s for %s: %v %q %v", test.name, test.account, taken, got, err)
		}
	}
}

func TestPermissions(t *testing.T) {
	b := newBench(t)
	topic := b.make("Topic", nil, nil)
	permit := func(actions ...string) error {
		return b.door().Permit(t.Context(), yard.Permission{Account: "workshop", Actions: actions})
	}
	if err := permit("topic:change", "queue:*"); err != nil {
		t.Fatal(err)
	}
	refused := func(what string, err error) {
		t.Helper()
		var p *cloud.Problem
		if !errors.As(err, &p) {
			t.Fatalf("%s: %v", what, err)
		}
		if p.Type != "not-permitted" || p.Status != http.StatusForbidden || !strings.Contains(p.Detail, what) {
			t.Errorf("%s: %+v", what, p)
		}
	}
	_, err := b.begin("Topic", nil, nil)
	refused("topic:create", err)
	_, err = b.Delete(t.Context(), cloud.Ref{Target: here, ID: topic}, b.key())
	refused("topic:remove", err)
	if _, err := b.Update(t.Context(), cloud.Ref{Target: here, ID: topic}, b.key(),
		cloud.Request{Properties: props{"label": "x"}}); err != nil {
		t.Errorf("what is permitted: %v", err)
	}
	if _, err := b.begin("Queue", nil, nil); err != nil {
		t.Errorf("everything with queues: %v", err)
	}
	for _, bad := range []string{"", "topic", "topic:", ":create"} {
		if permit(bad) == nil {
			t.Errorf("%q was taken for an action", bad)
		}
	}
	if err := permit("*:*"); err != nil {
		t.Fatal(err)
	}
	if _, err := b.begin("Topic", nil, nil); err != nil {
		t.Errorf("everything: %v", err)
	}
}
