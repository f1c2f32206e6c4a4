package app

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

const hamlet = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  node_templates:
    net: { type: Network, properties: { cidr: 10.7.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.7.1.0/24 }, requirements: [ { network: net } ] }
    store: { type: Bucket, properties: { name: hamlet-store, keep_days: 9 } }
    bell: { type: Topic }
`

// byHandHamlet makes by hand what hamlet says, and yields the ids by node.
func (b *bench) byHandHamlet() map[string]string {
	at := stack.Target{Account: "workshop", Region: "alder-1"}
	ids := map[string]string{}
	ids["net"] = b.make(at, cloud.Request{Type: "Network", Properties: props("cidr", "10.7.0.0/16"), Tags: map[string]string{"for": "us"}})
	ids["sub"] = b.make(at, cloud.Request{Type: "Subnet", Properties: props("cidr", "10.7.1.0/24"), Links: map[string][]string{"network": {ids["net"]}}})
	ids["store"] = b.make(at, cloud.Request{Type: "Bucket", Properties: props("name", "hamlet-store", "keep_days", 7)})
	return ids
}

func adopting(ids map[string]string, nodes ...string) string {
	text := "stack: hamlet\ntemplate: hamlet.yaml\ntarget: workshop/alder-1\nadopt:\n"
	for _, n := range nodes {
		text += fmt.Sprintf("  %s: %s\n", n, ids[n])
	}
	return text
}

// What is there already comes under a stack: the what-if says so and what it would change, the
// run changes that and whose it is, undoing gives it back as it was, and all else goes on as with
// what the stack has made itself.
func TestAdopting(t *testing.T) {
	b := newBench(t, 5000)
	ids := b.byHandHamlet()
	b.write("hamlet.yaml", hamlet)
	b.write("hamlet.stack.yaml", adopting(ids, "net", "sub", "store"))
	was := b.look()
	p := b.preview("hamlet.stack.yaml")
	if p.Findings.HasErrors() || p.Tally.Adopt != 3 || p.Tally.New != 1 {
		t.Fatalf("%s %v", p.Tally, p.Findings)
	}
	if c := p.Change("store"); c.Kind != whatif.Adopt || len(c.Properties) != 1 || c.Properties[0].Path != "keep_days" || len(p.Change("net").Properties) != 0 {
		t.Errorf("%+v", c)
	}
	b.fault(yard.Fault{Name: "bell", On: "create", Times: 9})
	if r := b.carry(p, stack.Undo); r.State != run.StatusUndone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	b.clearFaults()
	if d := differing(was, b.look()); len(d) > 0 {
		t.Errorf("undone, it is not as it was: %v", d)
	}
	b.deploy(run.StatusDone, "hamlet.stack.yaml")
	now := b.look()
	for _, node := range []string{"net", "sub", "store"} {
		r := now.At(Place{was.There[0].Target, ids[node]})
		if r == nil || r.Owner == nil || r.Owner.Stack != "hamlet" || r.Owner.Node != node || r.Tags["stack"] != "hamlet" || r.Odd() {
			t.Errorf("%s: %+v", node, r)
		}
	}
	if net := now.At(Place{was.There[0].Target, ids["net"]}); net.Tags["for"] != "us" {
		t.Errorf("a tag is gone: %v", net.Tags)
	}
	if p := b.preview("hamlet.stack.yaml"); !p.Empty() || p.Findings.HasErrors() {
		t.Errorf("the next what-if: %s %v", p.Tally, p.Findings)
	}
	b.write("other.stack.yaml", strings.Replace(adopting(ids, "net"), "stack: hamlet", "stack: other", 1))
	if p := b.preview("other.stack.yaml"); !strings.Contains(fmt.Sprint(p.Findings), "belongs to the stack hamlet, as net") {
		t.Errorf("another stack takes it: %v", p.Findings)
	}
	g, err := b.WhatIfDelete(t.Context(), b.stack("hamlet"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(g, stack.Undo); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if left := b.look(); len(left.There) > 0 {
		t.Errorf("%d are left", len(left.There))
	}
}

// differing lists what is not the same in two inventories, by id.
func differing(was, is *Inventory) []string {
	var out []string
	text := func(r *There) string {
		if r == nil {
			return "nothing"
		}
		owner := "nobody's"
		if r.Owner != nil {
			owner = r.Owner.Stack + "/" + r.Owner.Node
		}
		return fmt.Sprint(owner, r.Properties, r.Links, r.Tags)
	}
	for _, v := range []*Inventory{was, is} {
		for _, r := range v.There {
			if a, b := text(was.At(r.Place())), text(is.At(r.Place())); a != b && !slices.Contains(out, a+" became "+b) {
				out = append(out, a+" became "+b)
			}
		}
	}
	return out
}

// What cannot come under a stack is said, with what mends it.
func TestWhatCannotBeAdopted(t *testing.T) {
	long(t)
	for _, c := range []struct {
		name, adopt, template, want string
	}{
		{"no such node", "  nett: NET\n", hamlet, "there is no node 'nett'"},
		{"no such id", "  net: network~none\n", hamlet, "there is no network~none in workshop/alder-1"},
		{"another type", "  net: STORE\n", hamlet, "is a Bucket, and net is a Network"},
		{"twice", "  net: NET\n  net2: NET\n", hamlet + "    net2: { type: Network, properties: { cidr: 10.7.0.0/16 } }\n", "is to be net already"},
		{"it would be swapped", "  net: NET\n", strings.Replace(hamlet, "10.7.0.0/16", "10.6.0.0/15", 1), "its cidr is 10.7.0.0/16, and another one would be built"},
		{"a list", "  net: [ a ]\n", hamlet, "'net' must be the id of a resource"},
	} {
		t.Run(strings.ReplaceAll(c.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			b := newBench(t, 5000)
			ids := b.byHandHamlet()
			b.write("hamlet.yaml", c.template)
			b.write("hamlet.stack.yaml", "stack: hamlet\ntemplate: hamlet.yaml\ntarget: workshop/alder-1\nadopt:\n"+
				strings.NewReplacer("NET", ids["net"], "STORE", ids["store"]).Replace(c.adopt))
			p := b.preview("hamlet.stack.yaml")
			if !slices.ContainsFunc(p.Findings, func(f tosca.Finding) bool { return f.Code == "cannot-adopt" || c.name == "a list" }) || !strings.Contains(fmt.Sprint(p.Findings), c.want) {
				t.Errorf("%v, want %s", p.Findings, c.want)
			}
			if _, err := b.Prepare(t.Context(), p, stack.Undo); err == nil {
				t.Error("it is carried out all the same")
			}
		})
	}
}

// What leaves a stack stays in the cloud as it is, and another stack can take it; what others
// speak of cannot leave.
func TestReleasing(t *testing.T) {
	b := newMeadow(t)
	was := b.look()
	id := b.there("box").ID
	if _, err := b.WhatIfRelease(t.Context(), b.stack("terrace"), "net"); err == nil || !strings.Contains(err.Error(), "meadow.yaml:14 speaks of it still") {
		t.Errorf("net is released: %v", err)
	}
	for _, bad := range []string{"twin#0", "nothing"} {
		if _, err := b.WhatIfRelease(t.Context(), b.stack("terrace"), bad); err == nil {
			t.Errorf("%s is released", bad)
		}
	}
	p, err := b.WhatIfRelease(t.Context(), b.stack("terrace"), "box")
	if err != nil || p.Findings.HasErrors() || p.Tally.Keep != 1 || p.Tally.New+p.Tally.Edit+p.Tally.Drop > 0 {
		t.Fatalf("%v %+v", err, p)
	}
	if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if now := b.look(); len(now.There) != len(was.There) || !now.At(Place{b.stack("terrace").Target, id}).Owner.Kept {
		t.Errorf("%v", differing(was, now))
	}
	if p := b.preview("meadow.stack.yaml"); p.Tally.Adopt != 1 { // the files have it still
		t.Errorf("%s", p.Tally)
	}
	w, err := b.WriteReleased(t.Context(), b.stack("terrace"), "box")
	if err != nil || strings.Count(w.Patch(), "\n-") != 1 {
		t.Fatalf("%v %s", err, w.Patch())
	}
	if err := b.SaveWritten(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if p := b.preview("meadow.stack.yaml"); !p.Empty() {
		t.Errorf("%s", doesWithout(p))
	}
	b.write("store.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    kept: { type: Bucket, properties: { name: meadow-box, tags: { desk: snow } } }\n")
	b.write("store.stack.yaml", "stack: store\ntemplate: store.yaml\ntarget: workshop/alder-1\nadopt: { kept: "+id+" }\n")
	if p := b.preview("store.stack.yaml"); p.Findings.HasErrors() || p.Tally.Adopt != 1 || len(p.Change("kept").Properties) > 0 {
		t.Fatalf("%s %v", p.Tally, p.Findings)
	}
	b.deploy(run.StatusDone, "store.stack.yaml")
	if o := b.look().At(Place{b.stack("store").Target, id}).Owner; o.Stack != "store" || o.Node != "kept" || o.Kept {
		t.Errorf("%+v", o)
	}
	if p := b.preview("meadow.stack.yaml"); !p.Empty() {
		t.Errorf("the former stack: %s", doesWithout(p))
	}
}

// A target with forty resources made by hand is captured, adopted as a whole with an empty
// what-if, and then changed to the team's own form by ordinary edits.
func TestCapturing(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	at := stack.Target{Account: "workshop", Region: "alder-1"}
	net := b.make(at, cloud.Request{Type: "Network", Properties: props("cidr", "10.7.0.0/16"), Tags: map[string]string{"team": "ridge", "name": "the Net"}})
	n := 1
	made := func(r cloud.Request) string {
		n++
		if r.Tags == nil {
			r.Tags = map[string]string{}
		}
		r.Tags["team"] = "ridge"
		return b.make(at, r)
	}
	on := func(pairs ...string) map[string][]string {
		out := map[string][]string{}
		for i := 0; i+1 < len(pairs); i += 2 {
			out[pairs[i]] = append(out[pairs[i]], pairs[i+1])
		}
		return out
	}
	var subs, rules []string
	for i := range 4 {
		subs = append(subs, made(cloud.Request{Type: "Subnet", Properties: props("cidr", fmt.Sprintf("10.7.%d.0/24", i)), Links: on("network", net)}))
		rules = append(rules, made(cloud.Request{Type: "Rules", Properties: props("allow", []any{rule(fmt.Sprint(8000+i), "10.0.0.0/8")}), Links: on("network", net)}))
	}
	for i := range 10 {
		made(cloud.Request{Type: "Server", Properties: props("size", "small", "image", "fern-12", "user_data", strings.Repeat(fmt.Sprintf("echo line %d\n", i), 9)),
			Links: on("subnet", subs[i%4], "rules", rules[i%4])})
	}
	for i := range 8 {
		topic := made(cloud.Request{Type: "Topic", Properties: props("label", fmt.Sprintf("alerts %d", i))})
		made(cloud.Request{Type: "Subscription", Properties: props("to", fmt.Sprintf("hut%d@kestrelridge.example", i)), Links: on("topic", topic)})
	}
	for i := range 5 {
		made(cloud.Request{Type: "Bucket", Properties: props("name", fmt.Sprintf("ridge-store-%d", i), "versioned", i%2 == 0), Tags: map[string]string{"n": fmt.Sprint(i)}})
	}
	if n != 40 {
		t.Fatalf("%d are there", n)
	}
	p, err := b.Capture(t.Context(), Capturing{Target: at, Unowned: true}, "ridge")
	if err != nil || len(p.Nodes) != 40 || len(p.Files) != 10 || strings.Contains(p.Template, "~") {
		t.Fatalf("%v %d nodes, %d files, %v\n%s", err, len(p.Nodes), len(p.Files), p.Notes, p.Template)
	}
	b.write("ridge.yaml", p.Template)
	b.write("ridge.stack.yaml", p.StackFile)
	for path, text := range p.Files {
		b.write(path, text)
	}
	was := b.look()
	pv := b.preview("ridge.stack.yaml")
	if pv.Findings.HasErrors() || pv.Tally.Adopt != 40 || pv.Tally.New+pv.Tally.Edit+pv.Tally.Swap+pv.Tally.Drop > 0 {
		t.Fatalf("%s %v\n%s", pv.Tally, pv.Findings, p.Template)
	}
	for _, ch := range pv.Changes {
		if len(ch.Properties) > 0 {
			t.Errorf("adopting would change %s: %+v", ch.Name, ch.Properties)
		}
	}
	for _, name := range []string{"ridge.yaml", "ridge.stack.yaml"} {
		text := readText(t, filepath.Join(b.dir, name))
		if now, _, found := Format(name, []byte(text)); len(found) > 0 || string(now) != text {
			t.Errorf("%s is not in the common form: %v\n%s", name, found, now)
		}
	}
	b.deploy(run.StatusDone, "ridge.stack.yaml")
	now := b.look()
	for _, r := range was.There {
		is := now.At(r.Place())
		if is == nil || is.Owner == nil || is.Owner.Stack != "ridge" || is.Odd() || fmt.Sprint(is.Properties) != fmt.Sprint(r.Properties) || fmt.Sprint(is.Links) != fmt.Sprint(r.Links) {
			t.Errorf("%s became %+v", r.ID, is)
		}
	}
	if pv := b.preview("ridge.stack.yaml"); !pv.Empty() || pv.Findings.HasErrors() {
		t.Errorf("the next what-if: %s %v", pv.Tally, pv.Findings)
	}
	text := strings.Replace(p.Template, "    the_net:\n", "    ridge_net:\n      metadata: { formerly: the_net }\n", 1)
	text = strings.ReplaceAll(strings.ReplaceAll(text, "network: the_net", "network: ridge_net"), "fern-12", "fern-11")
	b.write("ridge.yaml", text)
	b.write("ridge.stack.yaml", strings.Replace(p.StackFile, "  the_net:", "  ridge_net:", 1))
	pv = b.preview("ridge.stack.yaml")
	if pv.Findings.HasErrors() || pv.Tally.Swap != 10 || pv.Tally.New+pv.Tally.Drop > 0 || pv.Change("ridge_net").Formerly != "the_net" {
		t.Errorf("%s %v", pv.Tally, pv.Findings)
	}
	b.deploy(run.StatusDone, "ridge.stack.yaml")
}

// Adopting that fails and is killed at any moment, and goes on or back, leaves what was there as
// it was, or all of it under the stack.
func TestAdoptingKilled(t *testing.T) {
	long(t)
	t.Parallel()
	for _, fails := range []bool{false, true} {
		for moment := int64(1); ; moment = later(moment) {
			b := newBench(t, 5000)
			ids := b.byHandHamlet()
			b.write("hamlet.yaml", hamlet)
			b.write("hamlet.stack.yaml", adopting(ids, "net", "sub", "store"))
			was := b.look()
			ticket, err := b.Prepare(t.Context(), b.preview("hamlet.stack.yaml"), stack.Undo)
			if err != nil {
				t.Fatal(err)
			}
			if fails {
				b.fault(yard.Fault{Name: "bell", On: "create", Times: 9})
			}
			way := On
			if moment%2 == 0 {
				way = Back
			}
			chances := b.mortal(moment)
			r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
			b.halt = nil
			over := err == nil && chances.Load() < moment
			if err != nil {
				if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil {
					t.Fatal(err)
				}
				again, err := b.Resume(t.Context(), b.stack("hamlet"), way)
				if err != nil {
					t.Fatalf("killed at %d: %v", moment, err)
				}
				if r, err = b.Execute(t.Context(), again.Run.ID, again.Token); err != nil {
					t.Fatalf("killed at %d: %v", moment, err)
				}
			}
			b.clearFaults()
			switch now := b.look(); r.State {
			case run.StatusUndone:
				if d := differing(was, now); len(d) > 0 {
					t.Errorf("fails %t, killed at %d: %v", fails, moment, d)
				}
			case run.StatusDone:
				for _, node := range []string{"net", "sub", "store"} {
					if o := now.At(Place{was.There[0].Target, ids[node]}); o == nil || o.Owner == nil || o.Owner.Node != node || o.Odd() {
						t.Errorf("fails %t, killed at %d: %s is %+v", fails, moment, node, o)
					}
				}
			default:
				t.Errorf("fails %t, killed at %d: %s %s", fails, moment, r.State, r.Reason)
			}
			if p := b.preview("hamlet.stack.yaml"); !p.Empty() { // it goes on as if nothing had been
				b.carry(p, stack.Undo)
			}
			if p := b.preview("hamlet.stack.yaml"); !p.Empty() {
				t.Errorf("fails %t, killed at %d, deployed again: %s", fails, moment, doesWithout(p))
			}
			if over {
				break
			}
		}
	}
}

// Twenty nodes get other names at once, with one real swap among them.
func TestManyRenames(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	var before, after strings.Builder
	before.WriteString("    net: { type: Network, properties: { cidr: 10.1.0.0/16 } }\n")
	after.WriteString("    valley: { type: Network, metadata: { formerly: net }, properties: { cidr: 10.1.0.0/16 } }\n")
	for i := range 18 {
		fmt.Fprintf(&before, "    queue_%d: { type: Queue, properties: { keep: %d h } }\n", i, i+1)
		fmt.Fprintf(&after, "    line_%d: { type: Queue, metadata: { formerly: queue_%d }, properties: { keep: %d h } }\n", i, i, i+1)
	}
	before.WriteString("    sub: { type: Subnet, properties: { cidr: 10.1.0.0/24 }, requirements: [ { network: net } ] }\n")
	after.WriteString("    slope: { type: Subnet, metadata: { formerly: sub }, properties: { cidr: 10.1.9.0/24 }, requirements: [ { network: valley } ] }\n")
	file := b.huts(before.String())
	b.deploy(run.StatusDone, file)
	was := b.nodesInCloud("huts")
	b.huts(after.String())
	p := b.preview(file)
	if p.Findings.HasErrors() || p.Tally.Swap != 1 || p.Tally.Edit != 19 || p.Tally.New+p.Tally.Drop > 0 || p.Change("slope").Kind != whatif.Swap {
		t.Fatalf("%s %v", p.Tally, p.Findings)
	}
	renamed := 0
	for _, ch := range p.Changes {
		if ch.Formerly != "" {
			renamed++
		}
	}
	if renamed != 20 {
		t.Errorf("%d are renamed", renamed)
	}
	if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	same := 0
	for _, now := range b.nodesInCloud("huts") {
		name, id, _ := strings.Cut(now, "=")
		former := strings.NewReplacer("valley", "net", "line_", "queue_", "slope", "sub").Replace(name)
		if slices.Contains(was, former+"="+id) {
			same++
		}
	}
	if same != 19 {
		t.Errorf("%d are what they were", same)
	}
	if p := b.preview(file); !p.Empty() {
		t.Errorf("the next what-if: %s", doesWithout(p))
	}
	if d, err := b.Drift(t.Context(), b.stack("huts")); err != nil || !d.Empty() {
		t.Errorf("%v %v", err, driftWords(d))
	}
	list, err := b.Traces(t.Context(), stack.Which{Stack: "huts", Node: "line_3"})
	if err != nil || len(list) != 1 || list[0].Run != 2 || list[0].Kind != stack.WasChanged {
		t.Errorf("%v %+v", err, list)
	}
}

// The last resource of a stack can be released as well: what is left is a template without nodes.
func TestReleasingTheLast(t *testing.T) {
	long(t)
	for name, text := range map[string]string{"alone": "    one: { type: Topic, properties: { label: x } }\n", "before outputs": "    one:\n      type: Topic\n      properties: { label: x }\n  outputs: { words: { value: yes } }\n"} {
		b := newBench(t, 100_000)
		b.write("a.stack.yaml", "stack: lonely\ntemplate: a.yaml\ntarget: workshop/alder-1\n")
		b.write("a.yaml", head+"imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n"+text)
		b.deploy(run.StatusDone, "a.stack.yaml")
		p, err := b.WhatIfRelease(t.Context(), b.stack("lonely"), "one")
		if err != nil || p.Findings.HasErrors() {
			t.Fatal(name, err, p.Findings)
		}
		if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
			t.Fatal(name, r.State, r.Reason)
		}
		if list, _, err := b.store.Recorded(t.Context(), b.stack("lonely").ID); err != nil || len(list) != 0 {
			t.Errorf("%s: recorded are %v, %v", name, list, err)
		}
		w, err := b.WriteReleased(t.Context(), b.stack("lonely"), "one")
		if err != nil || w == nil {
			t.Fatal(name, err)
		}
		if err := b.SaveWritten(t.Context(), w); err != nil {
			t.Fatal(name, err)
		}
		if p := b.preview("a.stack.yaml"); p.Findings.HasErrors() || p.Tally.Drop > 0 {
			t.Errorf("%s: %v", name, p.Findings)
		}
	}
}
