package app

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/yard"
)

// meadow is a template in which values come from everywhere: literals in lines and in
// brackets, inputs with a default and with a value of the stack file, functions, counts.
const meadow = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    size: { type: string, default: small } # of the post
    keep:
      type: string
      default: 1 d # a day
    image: { type: string, default: fern-12 }
    hill: { type: string, default: high }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    other: { type: Network, properties: { cidr: 10.9.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    gate:
      type: Rules
      properties:
        # who is let in
        allow:
          - ports: "443" # the readers
            peer: 10.0.0.0/8
          - { ports: "80", peer: 10.0.0.0/8 } # the old ones
      requirements:
        - network: net
    gate2: { type: Rules, properties: { allow: [ { ports: "22", peer: 10.8.0.0/16 } ] }, requirements: [ { network: net } ] }
    post:
      type: Server
      properties:
        size: { $get_input: size }
        image: { $get_input: image }
        tags:
          team: snow # ours
      requirements:
        - subnet: sub
        - rules: gate
    line: { type: Queue, properties: { keep: { $get_input: keep } } }
    note: { type: Topic, properties: { label: { $concat: [ on-, { $get_input: hill } ] } } }
    box: { type: Bucket, properties: { name: meadow-box } }
    twin: { type: Topic, count: 2, properties: { label: twins } }
    lone: { type: Topic }
    pair: { type: Topic, count: 2, properties: { label: pair } }
`

func newMeadow(t *testing.T) *bench {
	b := newBench(t, 5000)
	b.t = t
	b.write("meadow.yaml", meadow)
	b.write("meadow.stack.yaml", "stack: terrace\ntemplate: meadow.yaml\ntarget: workshop/alder-1\ntags: { desk: snow }\ninputs:\n  image: fern-12 # as everywhere\n")
	b.deploy(run.StatusDone, "meadow.stack.yaml")
	return b
}

// live is a resource of the stack as the cloud has it.
func (b *bench) there(node string) cloud.Resource {
	b.t.Helper()
	list, err := b.Cloud.List(b.t.Context(), b.stack("terrace").Target, "terrace")
	if err != nil {
		b.t.Fatal(err)
	}
	for _, r := range list {
		if r.Tags["node"] == node {
			return r
		}
	}
	b.t.Fatalf("%s is not in the cloud", node)
	return cloud.Resource{}
}

var hands = 0

// byHand changes a resource in the cloud behind everybody's back.
func (b *bench) byHand(node string, change cloud.Request) {
	b.t.Helper()
	r := b.there(node)
	ref := cloud.Ref{Target: b.stack("terrace").Target, Type: r.Type, ID: r.ID}
	if change.Tags != nil {
		tags := maps.Clone(r.Tags)
		for k, v := range change.Tags {
			if tags[k] = v; v == "" {
				delete(tags, k)
			}
		}
		change.Tags = tags
	}
	hands++
	op, err := b.Cloud.Update(b.t.Context(), ref, fmt.Sprint("by hand ", hands), change)
	for err == nil && !op.Ended() {
		op, err = b.Cloud.Operation(b.t.Context(), ref, op.ID)
	}
	if err != nil || op.State != "done" {
		b.t.Fatal(node, err, op.Problem)
	}
}

func (b *bench) drift() *Drift {
	b.t.Helper()
	d, err := b.Drift(b.t.Context(), b.stack("terrace"))
	if err != nil {
		b.t.Fatal(err)
	}
	return d
}

func driftWords(d *Drift) []string {
	var out []string
	for _, c := range d.Differs {
		out = append(out, fmt.Sprintf("%s %s: %s → %s", c.Name, c.Path, tosca.Show(c.Before), tosca.Show(c.After)))
	}
	for _, r := range d.Gone {
		out = append(out, r.Name+" gone")
	}
	for _, l := range d.Unrecorded {
		out = append(out, l.Node+" unrecorded")
	}
	return out
}

func props(pairs ...any) map[string]any {
	out := map[string]any{}
	for i := 0; i+1 < len(pairs); i += 2 {
		out[pairs[i].(string)] = pairs[i+1]
	}
	return out
}

func rule(ports, peer string) map[string]any {
	return map[string]any{"direction": "in", "protocol": "tcp", "ports": ports, "peer": peer}
}

// All that was changed by hand is found, nothing else is; who and when comes with it.
func TestDriftIsFound(t *testing.T) {
	b := newMeadow(t)
	if d := b.drift(); !d.Empty() {
		t.Fatalf("as it was deployed it differs: %v", driftWords(d))
	}
	b.byHand("gate", cloud.Request{Properties: props("allow", []any{rule("443", "10.0.0.0/8"), rule("8443", "10.0.0.0/8"), rule("22", "10.8.0.0/16")})})
	b.byHand("post", cloud.Request{Properties: props("size", "medium"), Tags: map[string]string{"team": "ice", "theirs": "leave it"}})
	b.byHand("lone", cloud.Request{Tags: map[string]string{"node": "lonely"}})
	gone := b.there("note")
	op, err := b.Cloud.Delete(t.Context(), cloud.Ref{Target: b.stack("terrace").Target, Type: gone.Type, ID: gone.ID}, "by hand gone")
	for err == nil && !op.Ended() {
		op, err = b.Cloud.Operation(t.Context(), cloud.Ref{Target: b.stack("terrace").Target, Type: gone.Type, ID: gone.ID}, op.ID)
	}
	if _, err := b.Cloud.Create(t.Context(), b.stack("terrace").Target, "by hand new", cloud.Request{Type: "Topic",
		Tags: map[string]string{"stack": "terrace", "node": "guest"}}); err != nil {
		t.Fatal(err)
	}
	b.byHand("line", cloud.Request{Tags: map[string]string{"stack": ""}})
	d := b.drift()
	want := []string{"gate allow[1].ports: 80 → 8443", "gate allow[2]: – → {direction: in, peer: 10.8.0.0/16, ports: 22, protocol: tcp}",
		"line tags.stack: terrace → –", "lone tags.node: lone → lonely", "post tags.team: snow → ice", "post size: small → medium", "note gone", "guest unrecorded"}
	if got := driftWords(d); !slices.Equal(got, want) {
		t.Errorf("found\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for _, c := range d.Differs {
		if c.Since.IsZero() || !c.By.Hand() || !stack.Same(c.Wanted, c.Before) {
			t.Errorf("%s %s: since %s by %s, wanted %v", c.Name, c.Path, c.Since, c.By.Words(), c.Wanted)
		}
	}
	p, err := b.WhatIfPutBack(t.Context(), b.stack("terrace"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	if got := driftWords(b.drift()); !slices.Equal(got, []string{"guest unrecorded"}) {
		t.Errorf("put back, there is left %v", got)
	}
}

// What was accepted into the files counts as such: it is not put back along with something else, a deployment records it, also one
// that has nothing else to do, and then it is as recorded.
func TestAcceptedStays(t *testing.T) {
	b := newMeadow(t)
	size := func() string { return fmt.Sprint(b.there("post").Properties["size"]) }
	b.byHand("post", cloud.Request{Properties: props("size", "medium")})
	w, err := b.WriteBack(t.Context(), b.drift())
	if err != nil || len(w.Cannot) > 0 {
		t.Fatal(err, w.Cannot)
	}
	if err := b.SaveWritten(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	b.byHand("gate", cloud.Request{Properties: props("allow", []any{rule("22", "10.8.0.0/16")})})
	for pass := range 2 { // before it is deployed, and after
		p, err := b.WhatIfPutBack(t.Context(), b.stack("terrace"))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
			t.Fatalf("%s %s", r.State, r.Reason)
		}
		if size() != "medium" {
			t.Fatalf("the size is %s: what was accepted was put back", size())
		}
		if d := b.drift(); !d.Empty() {
			t.Errorf("there differs %v", driftWords(d))
		}
		if pass == 0 {
			b.deploy(run.StatusDone, "meadow.stack.yaml") // there is nothing to change
		}
		if d := b.drift(); !d.Empty() || d.Accepted > 0 {
			t.Errorf("%v, %d accepted", driftWords(d), d.Accepted)
		}
		if p := b.preview("meadow.stack.yaml"); len(p.Left) > 0 || !p.NothingToDo() {
			t.Errorf("it is told still: %+v", p.Left)
		}
		b.byHand("gate", cloud.Request{Properties: props("allow", []any{rule("23", "10.8.0.0/16")})})
	}
	// A tag and where a requirement leads are accepted and recorded as well.
	b.byHand("lone", cloud.Request{Tags: map[string]string{"team": "ice"}})
	if w, err = b.WriteBack(t.Context(), b.drift().Of("lone", "")); err == nil {
		err = b.SaveWritten(t.Context(), w)
	}
	if err != nil {
		t.Fatal(err)
	}
	if p := b.preview("meadow.stack.yaml"); p.NothingToDo() {
		t.Errorf("there is nothing to record: %+v", p.Left)
	}
	b.deploy(run.StatusDone, "meadow.stack.yaml")
	if d := b.drift(); d.Accepted > 0 || slices.ContainsFunc(d.Differs, func(c Differing) bool { return c.Name == "lone" }) {
		t.Errorf("%v, %d accepted", driftWords(d), d.Accepted)
	}
	// Of one resource a part is accepted, and another is not.
	b.byHand("post", cloud.Request{Properties: props("size", "large")})
	if w, err = b.WriteBack(t.Context(), b.drift().Of("post", "")); err == nil {
		err = b.SaveWritten(t.Context(), w)
	}
	if err != nil {
		t.Fatal(err)
	}
	b.byHand("post", cloud.Request{Tags: map[string]string{"team": "ice"}})
	if _, err := b.WhatIfPutBack(t.Context(), b.stack("terrace")); err == nil || !strings.Contains(err.Error(), "size of post is as the files say by now") {
		t.Error(err)
	}
}

// What was changed by hand is written to the very place that it comes from; comments and
// order stay, and the what-if is empty then. What no place can hold is told, with why.
func TestDriftIsWrittenBack(t *testing.T) {
	long(t)
	for _, c := range []struct {
		name   string
		change func(b *bench)
		want   []string // lines that are written
		cannot string
	}{
		{"a rule in lines is added and one is changed", func(b *bench) {
			b.byHand("gate", cloud.Request{Properties: props("allow", []any{rule("443", "10.0.0.0/8"), rule("8443", "10.0.0.0/8"), rule("22", "10.8.0.0/16")})})
		}, []string{`-          - { ports: "80", peer: 10.0.0.0/8 } # the old ones`, `+          - { ports: "8443", peer: 10.0.0.0/8 } # the old ones`,
			`+          - { ports: "22", peer: 10.8.0.0/16 }`}, ""},
		{"a rule in lines is changed", func(b *bench) {
			b.byHand("gate", cloud.Request{Properties: props("allow", []any{rule("444", "10.0.0.0/8"), rule("80", "10.0.0.0/8")})})
		}, []string{`-          - ports: "443" # the readers`, `+          - ports: "444" # the readers`}, ""},
		{"a rule in lines goes", func(b *bench) {
			b.byHand("gate", cloud.Request{Properties: props("allow", []any{rule("80", "10.0.0.0/8")})})
		}, []string{`-          - ports: "443" # the readers`, `-            peer: 10.0.0.0/8`}, ""},
		{"a rule in brackets is added", func(b *bench) {
			b.byHand("gate2", cloud.Request{Properties: props("allow", []any{rule("22", "10.8.0.0/16"), rule("23", "10.8.0.0/16")})})
		}, []string{`allow: [ { ports: "22", peer: 10.8.0.0/16 }, { ports: "23", peer: 10.8.0.0/16 } ] }, requirements: [ { network: net } ] }`}, ""},
		{"the default of an input", func(b *bench) { b.byHand("post", cloud.Request{Properties: props("size", "medium")}) },
			[]string{`+    size: { type: string, default: medium } # of the post`}, ""},
		{"the default of an input in lines", func(b *bench) { b.byHand("line", cloud.Request{Properties: props("keep", "2 d")}) },
			[]string{`-      default: 1 d # a day`, `+      default: 2 d # a day`}, ""},
		{"a tag in lines", func(b *bench) { b.byHand("post", cloud.Request{Tags: map[string]string{"team": "ice"}}) },
			[]string{`-          team: snow # ours`, `+          team: ice # ours`}, ""},
		{"a tag of the stack file", func(b *bench) { b.byHand("line", cloud.Request{Tags: map[string]string{"desk": "ice"}}) },
			[]string{`+    line: { type: Queue, properties: { keep: { $get_input: keep }, tags: { desk: ice } } }`}, ""},
		{"a property that the template has not", func(b *bench) { b.byHand("box", cloud.Request{Properties: props("keep_days", 30)}) },
			[]string{`+    box: { type: Bucket, properties: { name: meadow-box, keep_days: 30 } }`}, ""},
		{"a function cannot hold it", func(b *bench) { b.byHand("note", cloud.Request{Properties: props("label", "elsewhere")}) },
			nil, "note: it comes from { $concat: [ on-, { $get_input: hill } ] } (meadow.yaml:37), which cannot hold it; the property itself could, in the place of that"},
		{"one of several", func(b *bench) { b.byHand("twin#0", cloud.Request{Properties: props("label", "alone")}) },
			nil, "twin#0: meadow.yaml:39 stands for twin#1 too, which is not so: only all of them alike can be written"},
		{"all of several", func(b *bench) {
			b.byHand("pair#0", cloud.Request{Properties: props("label", "both")})
			b.byHand("pair#1", cloud.Request{Properties: props("label", "both")})
		}, []string{`+    pair: { type: Topic, count: 2, properties: { label: both } }`}, ""},
		{"it rests on another", func(b *bench) {
			b.byHand("post", cloud.Request{Links: map[string][]string{"rules": {b.there("gate2").ID}}})
		}, []string{`-        - rules: gate`, `+        - rules: gate2`}, ""},
		{"it rests on one more", func(b *bench) {
			b.byHand("post", cloud.Request{Links: map[string][]string{"rules": {b.there("gate").ID, b.there("gate2").ID}}})
		}, []string{`+        - rules: gate2`}, ""},
		{"it rests on none", func(b *bench) { b.byHand("post", cloud.Request{Links: map[string][]string{"rules": {}}}) },
			[]string{`-        - rules: gate`}, ""},
		{"it is not there any more", func(b *bench) {
			r := b.there("lone")
			ref := cloud.Ref{Target: b.stack("terrace").Target, Type: r.Type, ID: r.ID}
			op, err := b.Cloud.Delete(b.t.Context(), ref, "by hand")
			for err == nil && !op.Ended() {
				op, err = b.Cloud.Operation(b.t.Context(), ref, op.ID)
			}
		}, []string{`-    lone: { type: Topic }`}, ""},
		{"another name", func(b *bench) { b.byHand("gate", cloud.Request{Tags: map[string]string{"node": "door"}}) },
			[]string{`-    gate:`, `+    door:`, `+      metadata: { formerly: gate }`, `-        - rules: gate`, `+        - rules: door`}, ""},
		{"the name of another", func(b *bench) { b.byHand("gate", cloud.Request{Tags: map[string]string{"node": "box"}}) },
			nil, "gate: there is a 'box' already, in meadow.yaml"},
		{"the name of one of several", func(b *bench) { b.byHand("pair#0", cloud.Request{Tags: map[string]string{"node": "single"}}) },
			nil, "pair#0: it is one of several, or part of another node: put it back"},
		{"something was added", func(b *bench) {
			b.make(b.stack("terrace").Target, cloud.Request{Type: "Subnet", Properties: props("cidr", "10.0.7.0/24"), Links: map[string][]string{"network": {b.there("net").ID}},
				Tags: map[string]string{"stack": "terrace", "node": "upper", "desk": "snow"}})
		}, []string{`+    upper:`, `+      type: Subnet`, `+      properties:`, `+        cidr: 10.0.7.0/24`, `+      requirements:`, `+        - network: net`}, ""},
		{"something with a secret was added", func(b *bench) {
			b.make(b.stack("terrace").Target, cloud.Request{Type: "Vault", Properties: props("value", "hush-hush-77"), Secrets: []string{"/value"},
				Tags: map[string]string{"stack": "terrace", "node": "word", "desk": "snow"}})
		}, nil, "word: it has a secret, which the cloud does not tell: write a node for it, and adopt it by that"},
	} {
		t.Run(strings.ReplaceAll(c.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			b := newMeadow(t)
			c.change(b)
			w, err := b.WriteBack(t.Context(), b.drift())
			if err != nil {
				t.Fatal(err)
			}
			cannot := ""
			for _, u := range w.Cannot {
				cannot += u.Name + ": " + u.Why
			}
			if cannot != c.cannot {
				t.Errorf("cannot be written: %q, want %q", cannot, c.cannot)
			}
			var changed []string
			for line := range strings.Lines(w.Patch()) {
				if (strings.HasPrefix(line, "+") || strings.HasPrefix(line, "-")) && !strings.HasPrefix(line, "+++") && !strings.HasPrefix(line, "---") {
					changed = append(changed, strings.TrimSuffix(line, "\n"))
				}
			}
			for _, want := range c.want {
				if !slices.ContainsFunc(changed, func(s string) bool { return strings.HasSuffix(s, want) }) {
					t.Errorf("there is no line %q in\n%s", want, strings.Join(changed, "\n"))
				}
			}
			if len(changed) > 2*max(1, len(c.want)) || len(changed) == 0 != (c.want == nil) {
				t.Errorf("written are\n%s", strings.Join(changed, "\n"))
			}
			if c.cannot != "" {
				return
			}
			if err := b.SaveWritten(t.Context(), w); err != nil {
				t.Fatal(err)
			}
			if len(w.Left) > 0 {
				t.Errorf("deploying would change then: %v", w.Left)
			}
			if p := b.preview("meadow.stack.yaml"); !p.Empty() || p.Findings.HasErrors() {
				t.Errorf("the what-if is not empty: %s %v\n%s", doesWithout(p), p.Findings, readText(t, filepath.Join(b.dir, "meadow.yaml")))
			}
			if d := b.drift(); !d.Empty() {
				t.Errorf("it still differs: %v", driftWords(d))
			}
			text := readText(t, filepath.Join(b.dir, "meadow.yaml"))
			if _, moved, found := Format("meadow.yaml", []byte(text)); len(found) > 0 {
				t.Errorf("%v %t", found, moved)
			}
			b.deploy(run.StatusDone, "meadow.stack.yaml", "hill=low") // which goes on from there
		})
	}
}

// In a stack of sixty, fifteen changes by hand of all kinds are found, and no others; written
// back all at once, the what-if is empty, and the template differs in as many places.
func TestManyHandChanges(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.t = t
	var text strings.Builder
	text.WriteString(meadow)
	for i := range 42 {
		fmt.Fprintf(&text, "    hut_%d:\n      type: Queue # the queue of hut %d\n      properties:\n        keep: %d h # hours\n        tags: { hut: \"%d\", at: ridge }\n", i, i, i+1, i)
	}
	for i := range 4 {
		fmt.Fprintf(&text, "    bell_%d: { type: Subscription, properties: { to: bell%d@kestrelridge.example }, requirements: [ { topic: note } ] }\n", i, i)
	}
	b.write("meadow.yaml", text.String())
	b.write("meadow.stack.yaml", "stack: terrace\ntemplate: meadow.yaml\ntarget: workshop/alder-1\ntags: { desk: snow }\ninputs:\n  image: fern-12 # as everywhere\n")
	b.deploy(run.StatusDone, "meadow.stack.yaml")
	if n := len(b.look(b.stack("terrace").Target).There); n != 60 {
		t.Fatalf("%d are there", n)
	}
	gone := func(node string) {
		r := b.there(node)
		ref := cloud.Ref{Target: b.stack("terrace").Target, Type: r.Type, ID: r.ID}
		if err := b.carriedOut(t.Context(), ref, func(key string) (cloud.Operation, error) { return b.Cloud.Delete(t.Context(), ref, key) }); err != nil {
			t.Fatal(err)
		}
	}
	b.byHand("hut_0", cloud.Request{Properties: props("keep", "30 h")})
	b.byHand("hut_1", cloud.Request{Properties: props("visible_after", "45 s")})
	b.byHand("hut_2", cloud.Request{Tags: map[string]string{"hut": "two"}})
	b.byHand("hut_3", cloud.Request{Tags: map[string]string{"at": ""}})
	b.byHand("hut_4", cloud.Request{Tags: map[string]string{"theirs": "no drift"}}) // none
	b.byHand("hut_5", cloud.Request{Properties: props("keep", "40 h"), Tags: map[string]string{"hut": "five"}})
	b.byHand("gate", cloud.Request{Properties: props("allow", []any{rule("80", "10.0.0.0/8"), rule("8443", "10.8.0.0/16")})})
	b.byHand("gate2", cloud.Request{Properties: props("allow", []any{rule("22", "10.8.0.0/16"), rule("23", "10.8.0.0/16")})})
	b.byHand("post", cloud.Request{Properties: props("size", "medium"), Links: map[string][]string{"rules": {b.there("gate").ID, b.there("gate2").ID}}})
	b.byHand("line", cloud.Request{Properties: props("keep", "3 d")})
	b.byHand("box", cloud.Request{Properties: props("versioned", true)})
	b.byHand("pair#0", cloud.Request{Properties: props("label", "both")})
	b.byHand("pair#1", cloud.Request{Properties: props("label", "both")})
	gone("bell_2")
	gone("lone")
	b.byHand("gate2", cloud.Request{Tags: map[string]string{"node": "back_gate"}})
	at := b.stack("terrace").Target
	b.make(at, cloud.Request{Type: "Queue", Tags: map[string]string{"stack": "terrace", "node": "overflow", "desk": "snow"}, Properties: props("keep", "5 d")})
	b.make(at, cloud.Request{Type: "Rules", Tags: map[string]string{"stack": "terrace", "node": "cellar", "desk": "snow", "for": "box"},
		Properties: props("allow", []any{rule("99", "10.9.0.0/16")}), Links: map[string][]string{"network": {b.there("other").ID}}})
	want := []string{"bell_2 gone", "box versioned: false → true", "cellar unrecorded", "gate allow[0].ports: 443 → 80", "gate allow[1].peer: 10.0.0.0/8 → 10.8.0.0/16",
		"gate allow[1].ports: 80 → 8443", "gate2 allow[1]: – → {direction: in, peer: 10.8.0.0/16, ports: 23, protocol: tcp}", "gate2 tags.node: gate2 → back_gate", "hut_0 keep: 1 h → 30 h",
		"hut_1 visible_after: 30 s → 45 s", "hut_2 tags.hut: 2 → two", "hut_3 tags.at: ridge → –", "hut_5 keep: 6 h → 40 h", "hut_5 tags.hut: 5 → five",
		"line keep: 1 d → 3 d", "lone gone", "overflow unrecorded", "pair#0 label: pair → both", "pair#1 label: pair → both", "post rules: gate → [gate, gate2]", "post size: small → medium"}
	d := b.drift()
	got := driftWords(d)
	slices.Sort(got)
	if !slices.Equal(got, want) {
		t.Errorf("found\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	w, err := b.WriteBack(t.Context(), d)
	if err != nil || len(w.Cannot) > 0 || len(w.Left) > 0 {
		t.Fatalf("%v %+v %v\n%s", err, w.Cannot, w.Left, w.Patch())
	}
	plus, minus := 0, 0
	for line := range strings.Lines(w.Patch()) {
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"):
		case strings.HasPrefix(line, "+"):
			plus++
		case strings.HasPrefix(line, "-"):
			minus++
		}
	}
	if plus != 24 || minus != 14 {
		t.Errorf("%d lines come and %d go:\n%s", plus, minus, w.Patch())
	}
	copied := filepath.Join(t.TempDir(), "meadow.yaml") // any program that knows patches takes it, without having to search
	if err := os.WriteFile(copied, []byte(w.Files[0].Before), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("patch", "--fuzz=0", copied)
	cmd.Stdin = strings.NewReader(w.Patch())
	if said, err := cmd.CombinedOutput(); err != nil || strings.Contains(string(said), "offset") || readText(t, copied) != w.Files[0].After {
		t.Errorf("%v: %s", err, said)
	}
	if err := b.SaveWritten(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if p := b.preview("meadow.stack.yaml"); !p.Empty() || p.Findings.HasErrors() {
		t.Errorf("the what-if is not empty: %s %v", doesWithout(p), p.Findings)
	}
	b.deploy(run.StatusDone, "meadow.stack.yaml", "hill=low")
}

// A value that begins with $ is written so that it stays one: twice in a template, as it is in a stack file. The patch names files
// from where the program runs.
func TestDollarsAreWrittenBack(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("a.stack.yaml", "stack: dollars\ntemplate: a.yaml\ntarget: workshop/alder-1\ninputs: { label: $plain }\n")
	b.write("a.yaml", head+"imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { label: { type: string } }\n  node_templates:\n    one: { type: Topic, properties: { label: first } }\n    two: { type: Topic, properties: { label: { $get_input: label } } }\n")
	b.deploy(run.StatusDone, "a.stack.yaml")
	at := b.stack("dollars").Target
	for name, label := range map[string]string{"one": "$HOME it", "two": "$other"} {
		if _, err := b.Cloud.Update(t.Context(), cloud.Ref{Target: at, Type: "Topic", ID: b.idIn("dollars", name)}, "by hand "+name, cloud.Request{Properties: props("label", label)}); err != nil {
			t.Fatal(err)
		}
	}
	d, err := b.Drift(t.Context(), b.stack("dollars"))
	if err != nil {
		t.Fatal(err)
	}
	w, err := b.WriteBack(t.Context(), d)
	if err != nil || len(w.Cannot) > 0 {
		t.Fatal(err, w.Cannot)
	}
	t.Chdir(b.dir)
	if patch := w.Patch(); !strings.Contains(patch, "--- a/a.yaml\n+++ b/a.yaml\n") || !strings.Contains(patch, `label: "$$HOME it"`) || !strings.Contains(patch, `label: "$other"`) {
		t.Error(patch)
	}
	if err := b.SaveWritten(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if p := b.preview("a.stack.yaml"); !p.Empty() || p.Findings.HasErrors() {
		t.Errorf("%v %v", p.Changes, p.Findings)
	}
}

// A tag that somebody has set to the value of a secret is sealed in what a run notes, and is put back as it was when the run is undone.
func TestAMarkedTagIsPutBack(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("a.stack.yaml", "stack: marked\ntemplate: a.yaml\ntarget: workshop/alder-1\ninputs: { word: hoarfrost-of-a-secret }\n")
	text := head + "imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { word: { type: Secret } }\n  node_templates:\n    one: { type: Vault, properties: { value: { $get_input: word } } }\n    two: { type: Topic, properties: { label: LABEL, tags: { a: TAG } } }\n"
	write := func(label, tag string) {
		b.write("a.yaml", strings.NewReplacer("LABEL", label, "TAG", tag).Replace(text))
	}
	write("x", "b")
	b.deploy(run.StatusDone, "a.stack.yaml")
	at := b.stack("marked").Target
	if _, err := b.Cloud.Update(t.Context(), cloud.Ref{Target: at, Type: "Topic", ID: b.idIn("marked", "two")}, "by hand", cloud.Request{Tags: map[string]string{"theirs": "hoarfrost-of-a-secret", "a": "b", "stack": "marked", "node": "two"}}); err != nil {
		t.Fatal(err)
	}
	two := func() string {
		r, err := b.Cloud.Get(t.Context(), cloud.Ref{Target: at, Type: "Topic", ID: b.idIn("marked", "two")})
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(r.Tags, r.Properties)
	}
	was := two()
	write("y", "c")
	text += "    three: { type: Topic, properties: { label: { $get_attribute: [ two, url ] } } }\n"
	write("y", "c")
	b.fault(yard.Fault{Name: "three", At: "last", Times: 1, Reason: "no"})
	r := b.deploy(run.StatusUndone, "a.stack.yaml")
	if r.Receipt == nil || !r.Receipt.Equal {
		t.Errorf("%+v", r.Receipt)
	}
	b.wantSame("after undoing", two(), was)
	for _, name := range []string{"store.db", "store.db-wal"} {
		if text, err := os.ReadFile(filepath.Join(b.Home, name)); err == nil && strings.Contains(string(text), "hoarfrost-of-a-secret") {
			t.Errorf("%s has the secret in clear", name)
		}
	}
}

// A value that others get as well is written where all get it, and said so; or for one alone, and then the others stay as they are.
func TestSharedValues(t *testing.T) {
	b := newBench(t, 5000)
	b.t = t
	text := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { label: { type: string, default: snow }, more: { type: string, default: ice } }\n" +
		"  node_templates:\n    one: { type: Queue, properties: { label: { $get_input: label } } }\n    two: { type: Topic, properties: { label: { $concat: [ about-, { $get_input: label } ] } } }\n    three: { type: Topic, properties: { label: { $get_input: more } } }\n"
	b.write("terrace.yaml", text)
	b.write("terrace.stack.yaml", "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "terrace.stack.yaml")
	b.byHand("one", cloud.Request{Properties: props("label", "rain")})
	b.byHand("three", cloud.Request{Properties: props("label", "hail")})
	w, err := b.WriteBack(t.Context(), b.drift())
	if err != nil {
		t.Fatal(err)
	}
	if len(w.Shared) != 1 || w.Shared[0].Words() != "label of one comes from the input label, which two uses too" || len(w.Left) != 1 {
		t.Errorf("%+v, left %v", w.Shared, w.Left)
	}
	if w, err = b.WriteBackAlone(t.Context(), b.drift().Of("one", "")); err == nil {
		err = b.SaveWritten(t.Context(), w)
	}
	if err != nil {
		t.Fatal(err)
	}
	now, _ := os.ReadFile(filepath.Join(b.dir, "terrace.yaml"))
	if want := strings.Replace(text, "label: { $get_input: label }", "label: rain", 1); string(now) != want || fmt.Sprint(w.Left) != "[three (edit)]" || len(w.Shared) != 0 { // that was not chosen
		t.Errorf("left %v, cannot %+v:\n%s", w.Left, w.Cannot, now)
	}
}
