package app

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

func (b *bench) look(targets ...stack.Target) *Inventory {
	b.t.Helper()
	v, err := b.Look(b.t.Context(), targets...)
	if err != nil {
		b.t.Fatal(err)
	}
	return v
}

// oddWords are what an inventory says of what is not as it should be, and of what is not of
// the stack.
func oddWords(v *Inventory) []string {
	var out []string
	for _, r := range v.There {
		words := r.Name()
		switch {
		case r.Owner == nil:
			words = r.Type + " is nobody's"
		case r.Owner.Of == nil:
			words += " of " + r.Owner.Stack + " elsewhere"
		case r.Gone:
			words += " gone"
		case r.Stray():
			words += " stray"
		case len(r.Differs) == 0:
			continue
		}
		for _, d := range r.Differs {
			words += " " + d.Path
		}
		out = append(out, words)
	}
	return out
}

// What is there is found with whose it is: by the record, also where a tag is lost; by the tag,
// also where no record knows it; and what is nobody's. What has happened since is asked for
// alone, and yields the same as asking for all.
func TestInventory(t *testing.T) {
	b := newMeadow(t)
	v := b.look()
	if got := oddWords(v); len(got) > 0 || len(v.There) != 14 || len(v.Targets) != 6 {
		t.Fatalf("as it was deployed: %d in %d targets, %v", len(v.There), len(v.Targets), got)
	}
	names := map[string]*There{}
	for i, r := range v.There {
		names[r.Name()] = r
		if r.Owner.course < v.There[max(0, i-1)].Owner.course {
			t.Errorf("%s stands behind what rests on it", r.Name())
		}
	}
	if net, sub := names["net"], names["sub"]; !slices.Equal(sub.Links["network"], []string{net.ID}) || !slices.Contains(net.UsedBy, sub.ID) ||
		!slices.Contains(net.UsedBy, names["gate"].ID) || v.At(net.Place()) != net {
		t.Errorf("%+v uses %+v", sub, net)
	}
	var changed []Place
	did := func(p Place, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		changed = append(changed, p)
	}
	made := func(r cloud.Request) {
		did(Place{names["net"].Target, b.make(names["net"].Target, r)}, nil)
	}
	did(names["post"].Place(), b.ChangeByHand(t.Context(), names["post"], "size=medium"))
	did(names["gate"].Place(), b.ChangeByHand(t.Context(), names["gate"], `allow=[{ports: "80", peer: 10.0.0.0/8}]`))
	did(names["line"].Place(), b.ChangeByHand(t.Context(), names["line"], "tags.stack="))
	did(names["lone"].Place(), b.RemoveByHand(t.Context(), names["lone"]))
	made(cloud.Request{Type: "Topic", Tags: map[string]string{"stack": "terrace", "node": "guest"}})
	made(cloud.Request{Type: "Topic", Tags: map[string]string{"stack": "hut", "node": "bell"}})
	made(cloud.Request{Type: "Queue"})
	want := []string{"bell of hut elsewhere", "line tags.stack", "lone gone", "gate allow[0].ports allow[1]", "post size", "guest stray", "Queue is nobody's"}
	anew := b.look()
	for what, is := range map[string]func() (*Inventory, error){
		"all":  func() (*Inventory, error) { return anew, nil },
		"some": func() (*Inventory, error) { return b.LookAgain(t.Context(), v, changed) },
		"none": func() (*Inventory, error) { return b.LookAgain(t.Context(), anew, nil) }} {
		now, err := is()
		if err != nil {
			t.Fatal(err)
		}
		if got := oddWords(now); !slices.Equal(got, want) {
			t.Errorf("asked for %s again it is\n%s\nwant\n%s", what, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	for _, bad := range []string{"size", "=x", "colour=red", "size: [", "size=enormous"} {
		if err := b.ChangeByHand(t.Context(), names["post"], bad); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
	if _, err := b.Look(t.Context(), stack.Target{Account: "nowhere", Region: "at-all"}); err == nil {
		t.Error("a target that is not there said what is in it")
	}
	some := b.look(stack.Target{Account: "nowhere", Region: "at-all"}, names["net"].Target)
	if len(oddWords(some)) != len(want) || some.Targets[0].Problem == "" || some.Targets[1].Problem != "" {
		t.Errorf("with one that does not answer: %v, %+v", oddWords(some), some.Targets)
	}
}

// What the cloud tells by itself is heard, and a secret that somebody has written elsewhere is
// not shown.
func TestInventoryFollows(t *testing.T) {
	long(t)
	b := newMeadow(t)
	b.deploy("done", "ridge-base.stack.yaml")
	b.deploy("done", "bulletin-test.stack.yaml")
	v := b.look()
	ctx, stop := context.WithTimeout(t.Context(), 10*time.Second)
	defer stop()
	heard := make(chan Place, 100)
	go b.Follow(ctx, v.Targets, func(p Place) { heard <- p })
	time.Sleep(100 * time.Millisecond)
	target := stack.Target{Account: "workshop", Region: "alder-1"}
	id := b.make(target, cloud.Request{Type: "Topic", Properties: map[string]any{"label": "it is frost-and-thaw-77, really"}})
	for p := range heard {
		if p.ID == id {
			break
		}
	}
	now, err := b.LookAgain(ctx, v, []Place{{target, id}})
	if err != nil {
		t.Fatal(err)
	}
	is := now.At(Place{target, id})
	if is == nil || is.Owner != nil || strings.Contains(fmt.Sprint(is.Properties), "frost-and-thaw-77") || !tosca.HasSecret(is.Properties["label"]) {
		t.Errorf("%+v", is)
	}
}
