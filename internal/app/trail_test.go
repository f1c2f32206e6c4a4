package app

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

func (b *bench) traces(w stack.Which) []string {
	b.t.Helper()
	list, err := b.Traces(b.t.Context(), w)
	if err != nil {
		b.t.Fatal(err)
	}
	var out []string
	for _, t := range list {
		who := "by hand"
		if t.Run > 0 {
			who = fmt.Sprint("run ", t.Run)
		}
		words := fmt.Sprintf("%s %s %s", t.Node, t.Kind, who)
		for _, c := range t.Differences {
			words += fmt.Sprintf(", %s: %s → %s", c.Path, tosca.Show(c.Before), tosca.Show(c.After))
		}
		out = append(out, words)
	}
	slices.Reverse(out)
	return out
}

// Every change is in the time line once, by whom it was made: by a run, by hand, whoever looked
// first, and in which order.
func TestTimeLine(t *testing.T) {
	long(t)
	b := newMeadow(t)
	if got := b.traces(stack.Which{Stack: "terrace"}); len(got) != 14 || slices.ContainsFunc(got, func(s string) bool { return !strings.HasSuffix(s, " made run 1") }) {
		t.Errorf("after the first run: %v", got)
	}
	at := b.stack("terrace").Target
	before := len(b.traces(stack.Which{}))
	b.look(at)
	b.look(at)
	b.drift()
	if got := b.traces(stack.Which{}); len(got) != before {
		t.Errorf("looking again adds %v", got[before:])
	}
	v := b.look(at)
	names := map[string]*There{}
	for _, r := range v.There {
		names[r.Name()] = r
	}
	do := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	do(b.ChangeByHand(t.Context(), names["post"], "size=medium"))
	do(b.ChangeByHand(t.Context(), names["post"], "tags.seen=yes"))
	b.drift()
	do(b.RemoveByHand(t.Context(), names["lone"]))
	b.look(at)
	id := b.make(at, cloud.Request{Type: "Queue"})
	b.look(at)
	b.byHand("post", cloud.Request{Links: map[string][]string{"rules": {names["gate"].ID, names["gate2"].ID}}})
	do(b.ChangeByHand(t.Context(), names["post"], "size=large"))
	p, err := b.WhatIfPutBack(t.Context(), b.stack("terrace"))
	do(err)
	if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	b.deploy(run.StatusDone, "meadow.stack.yaml", "image=fern-11") // a swap
	want := []string{
		"post changed by hand, size: small → medium, tags.seen: – → yes",
		"lone removed by hand",
		" made by hand",
		"lone made run 2",
		"post changed by hand, rules: gate → [gate, gate2], size: medium → large", // which the what-if has seen
		"post changed run 2, rules: [gate, gate2] → gate, size: large → small",
		"post made run 3", "post removed run 3"}
	got := b.traces(stack.Which{})[before:]
	for i := range got { // ids say nothing here
		got[i] = strings.NewReplacer(names["gate"].ID, "gate", names["gate2"].ID, "gate2").Replace(got[i])
		if words, changes, is := strings.Cut(got[i], ", "); is {
			if size, rules, both := strings.Cut(changes, ", rules: "); both {
				got[i] = words + ", rules: " + rules + ", " + size
			}
		}
	}
	slices.Sort(got[3:6])
	slices.Sort(got[6:])
	if !slices.Equal(got, want) {
		t.Errorf("the time line is\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if one := b.traces(stack.Which{Stack: "terrace", Node: "lone"}); !slices.Equal(one, []string{"lone made run 1", "lone removed by hand", "lone made run 2"}) {
		t.Errorf("of one: %v", one)
	}
	if one := b.traces(stack.Which{ID: id}); !slices.Equal(one, []string{" made by hand"}) {
		t.Errorf("of nobody's: %v", one)
	}
	g, err := b.WhatIfDelete(t.Context(), b.stack("terrace"))
	do(err)
	if r := b.carry(g, stack.Undo); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	n := 0
	for _, words := range b.traces(stack.Which{Stack: "terrace"}) {
		if strings.HasSuffix(words, "removed run 4") {
			n++
		}
	}
	if n != 14 {
		t.Errorf("%d were removed by the deletion", n)
	}
}

// The files say again what a resource was like before it was swapped, with what was changed by
// hand then; deploying them brings that back.
func TestBackToBeforeASwap(t *testing.T) {
	long(t)
	b := newMeadow(t)
	b.byHand("post", cloud.Request{Tags: map[string]string{"team": "ice", "seen": "yes"}})
	b.byHand("post", cloud.Request{Links: map[string][]string{"rules": {b.there("gate").ID, b.there("gate2").ID}}})
	b.drift()
	time.Sleep(5 * time.Millisecond)
	moment := time.Now()
	b.write("meadow.yaml", strings.Replace(meadow, "image: { type: string, default: fern-12 }", "image: { type: string, default: fern-11 }", 1))
	b.deploy(run.StatusDone, "meadow.stack.yaml", "image=fern-11", "size=large")
	if p := b.preview("meadow.stack.yaml", "image=fern-12"); p.Change("post").Kind != whatif.Swap {
		t.Fatalf("post is no %s", p.Change("post").Kind)
	}
	b.write("meadow.stack.yaml", "stack: terrace\ntemplate: meadow.yaml\ntarget: workshop/alder-1\ntags: { desk: snow }\ninputs: { image: fern-11, size: large }\n")
	w, err := b.WriteFormer(t.Context(), b.stack("terrace"), "post", moment)
	if err != nil || len(w.Cannot) > 0 {
		t.Fatalf("%v %+v", err, w)
	}
	if err := b.SaveWritten(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	b.deploy(run.StatusDone, "meadow.stack.yaml")
	is := b.there("post")
	if got := fmt.Sprintln(is.Properties["image"], is.Properties["size"], is.Tags["team"], is.Tags["seen"], len(is.Links["rules"])); got != "fern-12 small ice yes 2\n" {
		t.Errorf("it is %s\n%s", got, w.Patch())
	}
	if _, err := b.WriteFormer(t.Context(), b.stack("terrace"), "post", moment.Add(-time.Hour)); err == nil || !strings.Contains(err.Error(), "was not deployed at") {
		t.Error(err)
	}
}

// A secret is nowhere in what is kept of the cloud, and that it has changed is told.
func TestTimeLineHidesSecrets(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")
	at := b.stack("bulletin-test").Target
	id := b.make(at, cloud.Request{Type: "Topic", Properties: map[string]any{"label": "frost-and-thaw-77"}, Tags: map[string]string{"is": "frost-and-thaw-77"}})
	b.look(at)
	v := b.look(at)
	if err := b.ChangeByHand(t.Context(), v.At(Place{at, id}), "label=it was frost-and-thaw-77"); err != nil {
		t.Fatal(err)
	}
	b.look(at)
	b.write("secrets/db_password", "another-thaw-88\n")
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")
	all := strings.Join(b.traces(stack.Which{}), "\n")
	if strings.Contains(all, "frost-and-thaw") || strings.Contains(all, "another-thaw") || !strings.Contains(all, "label: (secret) → ") ||
		!strings.Contains(all, "readings_db changed run 2, password: fingerprint:") {
		t.Error(all)
	}
	files, err := filepath.Glob(filepath.Join(b.Home, "store*"))
	if err != nil || len(files) == 0 && !onShared {
		t.Fatal(files, err)
	}
	for _, f := range files {
		for _, secret := range []string{"frost-and-thaw-77", "another-thaw-88"} {
			if strings.Contains(readText(t, f), secret) {
				t.Errorf("%s has %s in clear", f, secret)
			}
		}
	}
}
