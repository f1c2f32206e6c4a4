package app

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// huts writes a template with some nodes, and its stack file.
func (b *bench) huts(nodes string, inputs ...string) string {
	b.t.Helper()
	b.write("huts.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n"+
		"  inputs:\n    names: { type: list, entry_schema: string, default: [ alp, birch, crag ] }\n  node_templates:\n"+nodes+
		"  outputs:\n    used: { value: { $length: [ { $get_input: names } ] } }\n")
	text := "stack: huts\ntemplate: huts.yaml\ntarget: workshop/alder-1\n"
	if len(inputs) > 0 {
		text += "inputs:\n  " + strings.Join(inputs, "\n  ") + "\n"
	}
	b.write("huts.stack.yaml", text)
	return "huts.stack.yaml"
}

// nodesInCloud lists the resources of a stack as the cloud shows them, as node=id.
func (b *bench) nodesInCloud(name string) []string {
	b.t.Helper()
	list, err := b.Cloud.List(b.t.Context(), stack.Target{Account: "workshop", Region: "alder-1"}, name)
	if err != nil {
		b.t.Fatal(err)
	}
	var out []string
	for _, r := range list {
		out = append(out, r.Tags["node"]+"="+r.ID)
	}
	slices.Sort(out)
	return out
}

func kinds(p *Preview) string {
	var out []string
	for _, ch := range p.Changes {
		out = append(out, ch.Name+":"+string(ch.Kind))
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// A node that says what it formerly was called is renamed: nothing is dropped and made,
// undoing brings the old name back, and so does going back to the revision before.
func TestFormerly(t *testing.T) {
	long(t)
	const before = "    net: { type: Network, properties: { cidr: 10.1.0.0/16 } }\n    sub: { type: Subnet, properties: { cidr: 10.1.0.0/24 }, requirements: [ network: net ] }\n    post: { type: Topic, count: 2, properties: { tags: { desk: snow } } }\n"
	after := strings.NewReplacer("    net: {", "    valley: { metadata: { formerly: net },", "network: net", "network: valley",
		"    post: {", "    mast: { metadata: { formerly: post },").Replace(before)
	b := newBench(t, 500)
	file := b.huts(before)
	b.deploy(run.StatusDone, file)
	was := b.nodesInCloud("huts")
	everything := b.listing("huts")
	b.huts(after)
	p := b.preview(file)
	if got := kinds(p); got != "mast#0:edit mast#1:edit sub:same valley:edit" || len(p.Findings) > 0 {
		t.Fatalf("%s %v", got, p.Findings)
	}
	if ch := p.Change("valley"); ch.Formerly != "net" || len(ch.Properties) != 1 || ch.Properties[0].Path != "node" ||
		!strings.Contains(ch.Because[0], "it is the same as net, under another name: huts.yaml:") {
		t.Errorf("%+v", ch)
	}

	// it fails: all is as it was
	b.fault(yard.Fault{Name: "late", At: "call", Times: 1})
	b.huts(after + "    late: { type: Topic, requirements: [] }\n")
	r := b.carry(b.preview(file), "undo")
	if r.State != run.StatusUndone || !slices.Equal(b.nodesInCloud("huts"), was) || b.listing("huts") != everything {
		t.Fatalf("%s %s: %v, want %v", r.State, r.Reason, b.nodesInCloud("huts"), was)
	}
	b.wantAllRecorded("huts", "after an undone renaming")
	b.clearFaults()

	b.huts(after)
	b.deploy(run.StatusDone, file)
	renamed := strings.NewReplacer("net=", "valley=", "post#", "mast#").Replace(strings.Join(was, " "))
	got := b.nodesInCloud("huts")
	want := strings.Fields(renamed)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Fatalf("%v, want %v", got, want)
	}
	b.wantAllRecorded("huts", "after a renaming")
	if p := b.preview(file); !p.Empty() || len(p.Findings) > 0 { // it has no effect any more
		t.Errorf("%s %v", kinds(p), p.Findings)
	}

	// an edit and a swap together with the new name
	b.huts(strings.NewReplacer("10.1.0.0/16", "10.0.0.0/14", "mast:", "peak:", "formerly: post", "formerly: mast", "desk: snow",
		"desk: wind").Replace(after))
	b.deploy(run.StatusDone, file)
	b.wantAllRecorded("huts", "after a renaming with edits")
	if got := strings.Join(b.nodesInCloud("huts"), " "); !strings.Contains(got, "peak#1=") || strings.Contains(got, "mast") {
		t.Error(got)
	}

	// the way back gives the old names again
	p, err := b.WhatIfUndo(t.Context(), b.stack("huts"), 1)
	if err != nil {
		t.Fatal(err)
	}
	if p.Tally.New > 0 || p.Tally.Drop > 0 {
		t.Errorf("the way back: %s", kinds(p))
	}

	b.huts(before + "    odd: { type: Topic, metadata: { formerly: never } }\n")
	if p := b.preview(file); !slices.ContainsFunc(p.Findings, func(f tosca.Finding) bool { return f.Code == "never-recorded" }) {
		t.Errorf("%v", p.Findings)
	}
}

// A renaming that is killed at any moment goes on, or back.
func TestFormerlyKilled(t *testing.T) {
	long(t)
	for moment := int64(1); ; moment++ {
		b := newBench(t, 500)
		file := b.huts("    net: { type: Network, properties: { cidr: 10.1.0.0/16 } }\n    post: { type: Topic }\n")
		b.deploy(run.StatusDone, file)
		was := b.listing("huts")
		b.huts("    valley: { type: Network, metadata: { formerly: net }, properties: { cidr: 10.1.0.0/16, tags: { desk: snow } } }\n    post: { type: Topic }\n")
		ticket, err := b.Prepare(t.Context(), b.preview(file), "undo")
		if err != nil {
			t.Fatal(err)
		}
		way := On
		if moment%2 == 0 {
			way = Back
		}
		chances := b.mortal(moment)
		_, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
		b.halt = nil
		over := err == nil && chances.Load() < moment
		if err != nil {
			if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil {
				t.Fatal(err)
			}
			again, err := b.Resume(t.Context(), b.stack("huts"), way)
			if err != nil {
				t.Fatalf("at %d: %v", moment, err)
			}
			if _, err := b.Execute(t.Context(), again.Run.ID, again.Token); err != nil {
				t.Fatalf("at %d: %v", moment, err)
			}
		}
		b.wantAllRecorded("huts", fmt.Sprintf("killed at %d", moment))
		names := strings.Join(b.recordedNames("huts"), " ")
		if back := b.listing("huts") == was; names != "post valley" && !(back && names == "net post") {
			t.Errorf("killed at %d: %s", moment, names)
		}
		if over {
			return
		}
	}
}

// Instances that are told apart by a property keep what they have when another one goes
// from the middle of a list.
func TestKeyedBy(t *testing.T) {
	b := newBench(t, 500)
	node := "    hut: { type: Topic, count: { $length: [ { $get_input: names } ] }, properties: { label: { $get_input: [ names, $node_index ] } } }\n"
	file := b.huts(node)
	b.deploy(run.StatusDone, file)
	was := strings.Join(b.nodesInCloud("huts"), " ")
	keyed := strings.Replace(node, "type: Topic", "type: Topic, metadata: { keyed_by: label }", 1) +
		"    first: { type: Topic, properties: { label: { $get_property: [ [ hut, 0 ], label ] } } }\n"
	b.huts(keyed)
	p := b.preview(file)
	if got := kinds(p); got != "first:new hut#alp:edit hut#birch:edit hut#crag:edit" { // told apart by name from now on
		t.Fatal(got, p.Findings)
	}
	b.deploy(run.StatusDone, file)
	for number, name := range []string{"alp", "birch", "crag"} {
		was = strings.Replace(was, fmt.Sprintf("hut#%d=", number), "hut#"+name+"=", 1)
	}
	for _, one := range strings.Fields(was) {
		if !slices.Contains(b.nodesInCloud("huts"), one) {
			t.Errorf("%s is another one: %v", one, b.nodesInCloud("huts"))
		}
	}
	b.huts(keyed, "names: [ birch, dell, crag ]")
	p = b.preview(file)
	if got := kinds(p); got != "first:edit hut#alp:drop hut#birch:same hut#crag:same hut#dell:new" {
		t.Error(got)
	}
	b.deploy(run.StatusDone, file)
	b.wantAllRecorded("huts", "after one of a list has gone")
	b.huts(keyed, "names: [ birch, birch ]")
	if p := b.preview(file); !slices.ContainsFunc(p.Findings, func(f tosca.Finding) bool {
		return f.Code == "duplicate-resource" && strings.Contains(f.Message, "two of its instances have the same label")
	}) {
		t.Errorf("%v", p.Findings)
	}
	b.huts("    hut: { type: Topic, count: 2, metadata: { keyed_by: label }, properties: { label: { $get_attribute: [ gate, url ] } } }\n    gate: { type: Topic }\n")
	if p := b.preview(file); !slices.ContainsFunc(p.Findings, func(f tosca.Finding) bool { return f.Code == "unknown-key-value" }) {
		t.Errorf("%v", p.Findings)
	}
	text := func() string {
		b.huts(keyed)
		d, err := b.Load(t.Context(), filepath.Join(b.dir, file), Values{})
		if err != nil {
			t.Fatal(err)
		}
		out, err := d.Wanted.ResolvedTemplate()
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}()
	if !strings.Contains(text, "hut#birch") { // the resolved template deploys to the same
		t.Error(text)
	}
	b.write("resolved.yaml", text)
	b.write("huts.stack.yaml", "stack: huts\ntemplate: resolved.yaml\ntarget: workshop/alder-1\n")
	if p := b.preview(file); p.Change("hut#birch") == nil || p.Change("hut#birch").Kind != whatif.Same {
		t.Errorf("%s %v", kinds(p), p.Findings)
	}
}

// What nobody gives comes from where it is deployed, and by whom; what somebody gives
// comes first.
func TestFilledBy(t *testing.T) {
	b := newBench(t, 500)
	text := `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    place: { type: string, metadata: { filled_by: region } }
    whose: { type: string, default: nobody, metadata: { filled_by: account } }
    name: { type: string, metadata: { filled_by: stack } }
    beds: { type: integer, default: 3, validation: { $less_or_equal: [ $value, 4 ] }, metadata: { message: a hut has 4 bunks } }
    built: { type: string, default: somewhen, metadata: { filled_by: commit } }
  node_templates:
    hut: { type: Topic, count: { $get_input: beds }, properties: { label: { $join: [ [ { $get_input: place }, { $get_input: whose }, { $get_input: name }, { $get_input: built } ], " " ] } } }
`
	b.write("huts.yaml", text)
	b.write("huts.stack.yaml", "stack: huts\ntemplate: huts.yaml\ntarget: workshop/alder-1\n")
	p := b.preview("huts.stack.yaml")
	if len(p.Findings) > 0 {
		t.Fatal(p.Findings)
	}
	if got := tosca.Show(p.Draft.Wanted.Resource("hut#0").Property("label").Value); got != "alder-1 workshop huts somewhen" {
		t.Error(got)
	}
	origins := map[string]string{}
	for _, in := range p.Draft.Wanted.Inputs {
		origins[in.Name] = in.Origin.String()
	}
	if origins["place"] != "filled by region, huts.yaml:5" || !strings.HasPrefix(origins["built"], "default") {
		t.Errorf("%v", origins)
	}
	p = b.preview("huts.stack.yaml", "place=nowhere")
	if got := tosca.Show(p.Draft.Wanted.Resource("hut#0").Property("label").Value); got != "nowhere workshop huts somewhen" {
		t.Error(got)
	}
	p = b.preview("huts.stack.yaml", "beds=5")
	if len(p.Findings) != 1 || !strings.HasPrefix(p.Findings[0].Fix, "a hut has 4 bunks") {
		t.Errorf("%+v", p.Findings)
	}
	b.deploy(run.StatusDone, "huts.stack.yaml")
	if p, err := b.WhatIfUndo(t.Context(), b.stack("huts"), 1); err != nil || !p.Empty() { // a revision keeps what it was filled by
		t.Error(err, kinds(p))
	}
	d, err := b.Load(t.Context(), filepath.Join(b.dir, "huts.stack.yaml"), Values{Flags: []string{"place=here"}, Shell: true})
	if err != nil || len(d.Findings) > 0 {
		t.Error(err, d.Findings)
	}
	b.write("huts.yaml", strings.Replace(text, "name: { type: string,", "name: { type: Secret,", 1))
	d, err = b.Load(t.Context(), filepath.Join(b.dir, "huts.stack.yaml"), Values{Flags: []string{"name=hush"}, Shell: true})
	if err != nil || !slices.ContainsFunc(d.Findings, func(f tosca.Finding) bool { return f.Code == "secret-on-command-line" }) {
		t.Error(err, d.Findings)
	}
}

// What is new and is like what goes is told, with what makes it a renaming; what is not alike is
// not.
func TestPerhapsRenamed(t *testing.T) {
	b := newBench(t, 5000)
	file := b.huts("    net: { type: Network, properties: { cidr: 10.1.0.0/16 } }\n    sub: { type: Subnet, properties: { cidr: 10.1.0.0/24 }, requirements: [ { network: net } ] }\n" +
		"    post: { type: Topic }\n    line: { type: Queue, properties: { keep: 9 h, visible_after: 40 s } }\n    many: { type: Topic, count: 2, properties: { label: x } }\n")
	b.deploy(run.StatusDone, file)
	said := func(nodes string) []string {
		t.Helper()
		b.huts(nodes)
		var out []string
		for _, f := range b.preview(file).Findings {
			if f.Code == "perhaps-renamed" {
				out = append(out, f.Message)
			}
		}
		return out
	}
	got := said("    valley: { type: Network, properties: { cidr: 10.1.0.0/16 } }\n    slope: { type: Subnet, properties: { cidr: 10.1.0.0/24 }, requirements: [ { network: valley } ] }\n" +
		"    mast: { type: Topic }\n    queue: { type: Queue, properties: { keep: 9 h, visible_after: 50 s } }\n    many: { type: Topic, count: 1, properties: { label: x } }\n")
	want := []string{"valley is built anew and net goes, and they are alike", "slope is built anew and sub goes, and they are alike",
		"mast is built anew and post goes, and they are alike", "queue is built anew and line goes, and they are alike"}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := said("    valley: { type: Network, properties: { cidr: 10.9.0.0/16 } }\n    other: { type: Queue, properties: { keep: 1 h, visible_after: 5 s } }\n"); len(got) > 0 {
		t.Errorf("what is not alike: %q", got)
	}
	if got := said("    valley: { type: Network, metadata: { formerly: net }, properties: { cidr: 10.1.0.0/16 } }\n"); len(got) > 0 {
		t.Errorf("what is renamed: %q", got)
	}
}

// TestARenamingThatCannotBeUndoneAtOnce fails at a renaming, and at its undoing: gone back to by another process, the resource is
// recorded under its former name, and once.
func TestARenamingThatCannotBeUndoneAtOnce(t *testing.T) {
	t.Parallel()
	b := newBench(t, 20000)
	text := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n" +
		"    net: { type: Network, properties: { cidr: 10.1.0.0/16 } }\n"
	b.write("slope.stack.yaml", "stack: slope\ntemplate: slope.yaml\ntarget: workshop/alder-1\n")
	b.write("slope.yaml", text+"    one: { type: Subnet, properties: { cidr: 10.1.1.0/24 }, requirements: [ network: net ] }\n")
	b.deploy(run.StatusDone, "slope.stack.yaml")
	b.write("slope.yaml", text+"    two: { type: Subnet, metadata: { formerly: one }, properties: { cidr: 10.1.1.0/24, public: true }, requirements: [ network: net ] }\n")
	b.fault(yard.Fault{Name: "two", At: "last", Times: 2})
	if r := b.carry(b.preview("slope.stack.yaml"), stack.Undo); r.State != run.StatusStuck {
		t.Fatalf("it is %s: %s", r.State, r.Reason)
	}
	ticket, err := b.Resume(t.Context(), b.stack("slope"), Back)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusUndone {
		t.Fatalf("%v, it is %s: %s", err, r.State, r.Reason)
	}
	c, err := b.Contents(t.Context(), b.stack("slope"))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, r := range c.Resources {
		names = append(names, r.Name)
	}
	if fmt.Sprint(names) != "[net one]" {
		t.Errorf("recorded are %v", names)
	}
	if got := b.preview("slope.stack.yaml").Tally.String(); got != "1 edit" {
		t.Errorf("left to do is %s", got)
	}
}
