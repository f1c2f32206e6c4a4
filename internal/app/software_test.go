package app

import (
	"fmt"
	"io/fs"
	"os"
	"strings"
	"testing"

	"brickrow/examples"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// wardTemplate has the same script on two servers with other inputs, one of which reads what the
// other's has said, and a group; what serves requests finishes them before it goes.
const wardTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
node_types:
  Page: { derived_from: Software, attributes: { told: { type: string } } }
service_template:
  inputs: { size: { type: string, default: small }, image: { type: string, default: fern-12 }, word: { type: string, default: frost } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    gate: { type: LoadBalancer, properties: { listeners: [ { port: 80, target_port: 8080 } ] }, requirements: [ { subnet: sub } ] }
    post: { type: Server, properties: { size: { $get_input: size }, image: { $get_input: image } }, requirements: [ { subnet: sub }, { behind: gate } ] }
    hut: { type: Server, properties: { size: small, image: fern-12 }, requirements: [ { subnet: sub } ] }
    team: { type: ServerGroup, properties: { size: small, image: fern-12, want: 2, max: 4 }, requirements: [ { subnet: sub } ] }
    first:
      type: Page
      requirements: [ { host: post } ]
      interfaces: { Lifecycle: { inputs: { word: { $get_input: word } }, operations: {
        create: { implementation: scripts/up.sh, outputs: { said: [ SELF, told ] } }, start: scripts/start.sh, stop: scripts/stop.sh, delete: scripts/stop.sh } } }
    second:
      type: Software
      requirements: [ { host: hut } ]
      interfaces: { Lifecycle: { inputs: { word: { $get_attribute: [ first, told ] } }, operations: { create: scripts/up.sh } } }
    each:
      type: Software
      requirements: [ { host: team } ]
      interfaces: { Lifecycle: { operations: { create: scripts/each.sh } } }
  policies:
    - finish: { type: Drain, targets: [ post ], properties: { wait: 1 m } }
  outputs:
    said: { value: { $get_attribute: [ second, results, said ] } }
    gate: { value: { $get_attribute: [ gate, url ] } }
`

func newWard(t *testing.T) *bench {
	b := newBench(t, 2000)
	b.t = t
	b.write("ward.yaml", wardTemplate)
	b.write("ward.stack.yaml", "stack: ward\ntemplate: ward.yaml\ntarget: workshop/alder-1\n")
	b.write("scripts/up.sh", "echo \"told $word\"\nmkdir -p /www\necho $word > /www/index.html\nresult said \"$word!\"\n")
	b.write("scripts/start.sh", "service page start 8080 /www\n")
	b.write("scripts/stop.sh", "service page stop\n")
	b.write("scripts/each.sh", "echo $BRICKROW_SERVER\n")
	b.deploy(run.StatusDone, "ward.stack.yaml")
	return b
}

func (b *bench) said(name string) string {
	b.t.Helper()
	list, err := b.Results(b.t.Context(), b.stack("ward"))
	if err != nil {
		b.t.Fatal(err)
	}
	for _, r := range list {
		if r.Name == name {
			return r.Reveal()
		}
	}
	return ""
}

// ran is what was carried out for a node, with how it ended.
func (b *bench) ran(node string) string {
	b.t.Helper()
	list, err := b.Scripts(b.t.Context(), b.stack("ward"), node)
	if err != nil {
		b.t.Fatal(err)
	}
	var out []string
	for _, s := range list {
		out = append(out, s.Operation+" "+s.State)
	}
	return strings.Join(out, ", ")
}

func TestSoftwareOnServers(t *testing.T) {
	long(t)
	t.Parallel()
	b := newWard(t)
	if got := b.said("said"); got != "frost!!" {
		t.Errorf("what went from script to script: %q", got)
	}
	b.wantSame("the group", b.ran("each"), "create done, create done")
	// Another script is an edit, and its line is why.
	b.write("scripts/up.sh", "echo \"told $word\"\nmkdir -p /www\necho $word > /www/index.html\nresult said \"$word?\"\n")
	p := b.preview("ward.stack.yaml")
	if p.Tally.Edit != 2 || p.Tally.Swap+p.Tally.New+p.Tally.Drop != 0 || !strings.Contains(strings.Join(p.Change("first").Because, " "), "scripts/up.sh has changed (up.sh:4)") {
		t.Errorf("%v: %v", p.Tally, p.Change("first").Because)
	}
	if b.carry(p, "undo").State != run.StatusDone || b.said("said") != "frost??" {
		t.Errorf("after the edit: %q", b.said("said"))
	}
	if p := b.preview("ward.stack.yaml"); !p.Empty() {
		t.Errorf("there is something to do still: %v", p.Tally)
	}
	// A swapped server gets the whole of it anew; nothing is cut off; the old one says goodbye.
	before := b.cutOff()
	b.deploy(run.StatusDone, "ward.stack.yaml", "image=fern-13")
	b.wantSame("on the swapped server", b.ran("first"), "create done, start done, create done, create done, start done, stop done, delete done")
	if n := b.cutOff() - before; n != 0 {
		t.Errorf("%d requests were cut off", n)
	}
	b.deploy(run.StatusDone, "ward.stack.yaml", "image=fern-13", "size=medium") // in place, with a restart
	if got := b.ran("first"); !strings.HasSuffix(got, "delete done, stop done, start done") {
		t.Errorf("around the restart: %s", got)
	}
	b.delete("ward")
}

func (b *bench) delete(name string) {
	b.t.Helper()
	p, err := b.WhatIfDelete(b.t.Context(), b.stack(name))
	if err != nil {
		b.t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusDone {
		b.t.Fatalf("it cannot be deleted: %s", r.Reason)
	}
	if left := b.listing(name); left != "[]" {
		b.t.Errorf("left: %s", left)
	}
}

// Whatever goes wrong with a script, all is as it was.
func TestSoftwareIsUndone(t *testing.T) {
	long(t)
	t.Parallel()
	b := newWard(t)
	before := b.listing("ward")
	why := func(want string, flags ...string) {
		t.Helper()
		r := b.deploy(run.StatusUndone, "ward.stack.yaml", flags...)
		report, err := b.Report(t.Context(), b.stack("ward"), r)
		if err != nil || len(report.Failures) == 0 || !strings.Contains(report.Markdown(), want) {
			t.Errorf("wanted %q: %v %s", want, err, report.Markdown())
		}
		b.wantSame("the cloud after "+want, b.listing("ward"), before)
	}
	was := "echo \"told $word\"\nmkdir -p /www\necho $word > /www/index.html\nresult said \"$word!\"\n"
	b.write("scripts/up.sh", "echo no room here >&2\nexit 3\n")
	why("exit code 3: no room here")
	b.write("scripts/up.sh", was)
	for _, mode := range []string{"silent", "endless"} {
		b.fault(yard.Fault{Name: "second", Mode: mode, Times: 1})
		why(map[string]string{"silent": "did not answer", "endless": "took longer"}[mode], "word=thaw")
		b.clearFaults()
	}
	b.fault(yard.Fault{Name: "second", At: "last", Times: 1})
	why("caught fire", "image=fern-13", "word=thaw")
	b.clearFaults()
	b.fault(yard.Fault{Name: "first", Mode: "unheard", Times: 1})
	b.fault(yard.Fault{Name: "second", Mode: "slow", Times: 1})
	b.deploy(run.StatusDone, "ward.stack.yaml", "word=thaw")
	b.wantSame("the word", b.said("said"), "thaw!!")
	b.delete("ward")
}

// Adapters keep servers as documents say, and tell what they changed.
func TestAdapters(t *testing.T) {
	long(t)
	t.Parallel()
	b := newKept(t)
	last := func(node string) string {
		t.Helper()
		list, err := b.Scripts(t.Context(), b.stack("ward"), node)
		if err != nil || len(list) == 0 {
			t.Fatal(node, err)
		}
		s := list[len(list)-1]
		return fmt.Sprint(s.Operation, " ", s.State, " ", s.Changed != nil && *s.Changed, " ", strings.Join(s.Messages, ", "), s.Problem)
	}
	b.wantSame("the packages", last("base#0"), "create done true installed tide, installed lamp, started tide on port 8080")
	b.wantSame("the settings", last("page#0"), "create done true wrote /etc/tide.conf, wrote /srv/page/index.html, restarted tide")
	b.deploy(run.StatusDone, "ward.stack.yaml", "greeting=shut")
	b.wantSame("the settings", last("page#0"), "update done true changed /srv/page/index.html, restarted tide")
	b.write("packages.yaml", "packages: [ tide ]\nabsent: [ lamp ]\nservices: { tide: { port: 8080, folder: /srv/page } }\n")
	b.deploy(run.StatusDone, "ward.stack.yaml", "greeting=shut")
	b.wantSame("the packages", last("base#0"), "update done true removed lamp")
	b.write("packages.yaml", "# the same\npackages: [ tide ]\nabsent: [ lamp ]\nservices: { tide: { port: 8080, folder: /srv/page } }\n")
	b.deploy(run.StatusDone, "ward.stack.yaml", "greeting=shut")
	b.wantSame("the packages", last("base#0"), "update done false ")
	for text, want := range map[string]string{"echo this is no JSON": "did not print one JSON object", "echo '{}'; echo '{}'": "something comes behind it",
		"exit 4": "exit code 4", `echo '{"outputs":{},"changed":"perhaps"}'`: "did not print one JSON object"} {
		b.write("adapters/settings", text)
		r := b.deploy(run.StatusUndone, "ward.stack.yaml", "greeting=shut")
		report, err := b.Report(t.Context(), b.stack("ward"), r)
		if err != nil || !strings.Contains(report.Markdown(), want) {
			t.Errorf("%s: %v %s", text, err, report.Markdown())
		}
	}
	b.delete("ward")
}

// newKept has one server of the starter of kept servers.
func newKept(t *testing.T) *bench {
	b := newBench(t, 2000)
	if err := os.CopyFS(b.dir, must(fs.Sub(examples.Starters, "starters/kept-servers"))); err != nil {
		t.Fatal(err)
	}
	b.write("ward.stack.yaml", "stack: ward\ntemplate: kept-servers.yaml\ntarget: workshop/alder-1\ninputs: { posts: 1 }\n")
	b.deploy(run.StatusDone, "ward.stack.yaml")
	return b
}

func must(f fs.FS, err error) fs.FS {
	if err != nil {
		panic(err)
	}
	return f
}

// Software that cannot say goodbye is given up, and goes with its server.
func TestSoftwareThatCannotGo(t *testing.T) {
	long(t)
	t.Parallel()
	b := newWard(t)
	b.write("scripts/stop.sh", "exit 9\n")
	b.deploy(run.StatusDone, "ward.stack.yaml") // an edit; stop is called later
	p, err := b.WhatIfDelete(t.Context(), b.stack("ward"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusStuck || !strings.Contains(r.Reason, "exit code 9") {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	l, err := b.WhatLeaves(t.Context(), b.stack("ward"), "first")
	if err != nil || len(l.Parts) != 1 {
		t.Fatalf("%v %+v", err, l)
	}
	if err := b.Leave(t.Context(), b.stack("ward"), l); err != nil {
		t.Fatal(err)
	}
	ticket, err := b.Resume(t.Context(), b.stack("ward"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone {
		t.Fatalf("%v %s", err, r.Reason)
	}
	b.wantSame("what is left", b.listing("ward"), "[]")
}

// What was set up by scripts is captured with them, and they are the same.
func TestSoftwareIsCaptured(t *testing.T) {
	long(t)
	t.Parallel()
	b := newKept(t)
	st := b.stack("ward")
	p, err := b.Capture(t.Context(), Capturing{Target: st.Target, Stack: "ward"}, "copy")
	if err != nil {
		t.Fatal(err)
	}
	b.write("copied/copy.yaml", p.Template)
	for path, text := range p.Files {
		b.write("copied/"+path, text)
	}
	d, err := b.Load(t.Context(), b.dir+"/copied/copy.yaml", Values{})
	if err != nil || d.Findings.HasErrors() {
		t.Fatalf("%v %v\n%s", err, d.Findings, p.Template)
	}
	current, _, err := b.store.Recorded(t.Context(), st.ID)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, r := range current {
		if ops := r.Properties["operations"]; ops != nil {
			n++
			if res := d.Wanted.Resource(p.Nodes[r.ID]); res == nil || !stack.Same(res.Value("operations"), ops) {
				t.Errorf("%s is captured as %v", r.Name, res)
			}
		}
	}
	if n != 2 {
		t.Errorf("%d of software", n)
	}
}
