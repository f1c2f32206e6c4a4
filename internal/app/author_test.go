package app

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/bundle"
	"brickrow/internal/run"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// starters is, for each starter, what fills in its marked inputs and a change
// to make afterwards.
var starters = map[string]struct{ fill, change []string }{
	"single-server":        {[]string{"public_key=ssh-ed25519 AAAAC3Nz warden"}, []string{"size=large"}},
	"two-part-network":     {nil, []string{"public_ranges=[ 10.70.0.0/24, 10.70.1.0/24, 10.70.2.0/24 ]"}},
	"balanced-servers":     {nil, []string{"servers=4"}},
	"database-with-client": {[]string{"password=frost-and-thaw-77"}, []string{"image=fern-13"}},
	"queue-and-workers":    {nil, []string{"workers=[ ash, birch, cedar ]"}},
	"static-site": {[]string{"domain=huts.kestrelridge.example", "bucket=kestrel-huts"},
		[]string{"domain=cabins.kestrelridge.example"}},
	"nightly-function":      {[]string{"bucket=kestrel-reports"}, []string{"every=0 4 * * *"}},
	"cluster-with-workload": {nil, []string{"replicas=3"}},
	"joined-valleys":        {nil, []string{"open_ports=80"}},
	"kept-servers":          {nil, []string{"posts=3"}},
	"scripted-servers":      {nil, []string{"watchers=3"}},
	"filled-station":        {nil, []string{"valleys=[ north, south, east ]"}},
	"house-bucket":          {[]string{"team=snow"}, []string{"team=rock"}},
}

// TestStarters deploys every starter, changes it, undoes the change and
// deletes it.
func TestStarters(t *testing.T) {
	long(t)
	list, err := Starters()
	if err != nil || len(list) != len(starters)+1 || list[len(list)-1].Name != EmptyStarter {
		t.Fatalf("%d starters, %v; %d are tested", len(list), err, len(starters))
	}
	for _, s := range list[:len(list)-1] {
		t.Run(s.Name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, 100_000)
			dir := filepath.Join(t.TempDir(), "new")
			if _, err := NewStack(s.Name, dir, s.Name, "workshop/alder-1"); err != nil {
				t.Fatal(err)
			}
			if _, err := NewStack(s.Name, dir, s.Name, "workshop/alder-1"); err == nil {
				t.Error("it wrote over what was there")
			}
			b.dir = dir
			file := s.Name + ".stack.yaml"
			text, err := os.ReadFile(filepath.Join(dir, file))
			if err != nil {
				t.Fatal(err)
			}
			for _, name := range []string{file, s.Name + ".yaml"} {
				if _, changed, findings := Format(name, []byte(readText(t, filepath.Join(dir, name)))); changed ||
					len(findings) > 0 {
					t.Errorf("%s is not in its form: %v", name, findings)
				}
			}
			marked := strings.Count(string(text), FillIn) - 1
			if want := len(starters[s.Name].fill); marked != want {
				t.Errorf("%d lines are marked, want %d:\n%s", marked, want, text)
			}
			if empty := b.codes(filepath.Join(dir, file), Values{}); (empty == "") != (marked == 0) {
				t.Errorf("with nothing filled in: %q", empty)
			}
			fill := starters[s.Name].fill
			b.deploy(run.StatusDone, file, fill...)
			before := b.listing("")
			b.deploy(run.StatusDone, file, append(fill, starters[s.Name].change...)...)
			if b.listing("") == before {
				t.Error("the change changed nothing")
			}
			p, err := b.WhatIfUndo(t.Context(), b.stack(s.Name), 0)
			if err != nil {
				t.Fatal(err)
			}
			if r := b.carry(p, "undo"); r.State != run.StatusDone {
				t.Fatalf("the undo ended %s: %s", r.State, r.Reason)
			}
			p, err = b.WhatIfDelete(t.Context(), b.stack(s.Name))
			if err != nil {
				t.Fatal(err)
			}
			if r := b.carry(p, "undo"); r.State != run.StatusDone {
				t.Fatalf("the deletion ended %s: %s", r.State, r.Reason)
			}
			if left := b.listing(""); left != "[]" && s.Name != "static-site" {
				t.Errorf("left over: %s", left)
			}
		})
	}
}

const head = "tosca_definitions_version: tosca_2_0\n"

// TestANodeFilledByAnotherTemplate deploys a template split over files, in
// which a node is filled by another template, with a count.
func TestANodeFilledByAnotherTemplate(t *testing.T) {
	long(t)
	b := newBench(t, 100_000)
	b.write("types/post.yaml", head+`imports: [ { profile: brickrow.cloud:1 } ]
node_types:
  AlarmPost:
    properties:
      valley: { type: string }
      wait: { type: Duration, default: 30 s }
    attributes:
      url: { type: string }
    capabilities:
      reach: { type: Usable }
    requirements:
      - zone: { capability: Usable, node: Zone, relationship: Uses }
`)
	b.write("post.yaml", head+`imports: [ types/post.yaml, { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    valley: { type: string }
    wait: { type: Duration }
  substitution_mappings:
    node_type: AlarmPost
    properties: { valley: valley, wait: wait }
    attributes: { url: where }
    capabilities: { reach: [ horn, use ] }
    requirements: [ { zone: [ name, zone ] } ]
  node_templates:
    horn:
      type: Topic
      properties: { label: { $concat: [ horn of , " ", { $get_input: valley } ] } }
    calls:
      type: Queue
      count: 2
      properties: { visible_after: { $get_input: wait }, label: { $concat: [ { $get_input: valley }, "-", $node_index ] } }
    name:
      type: Record
      properties: { name: { $get_input: valley }, kind: CNAME, values: [ { $get_attribute: [ horn, url ] } ] }
  outputs:
    where: { value: { $get_attribute: [ horn, url ] } }
`)
	b.write("ridge.yaml", head+`imports: [ post.yaml, { profile: brickrow.cloud:1 }, { url: types/post.yaml, namespace: ridge } ]
service_template:
  inputs:
    valleys: { type: list, entry_schema: string, default: [ north, south ] }
    wait: { type: Duration, default: 45 s }
  node_templates:
    names: { type: Zone, properties: { domain: kestrelridge.example } }
    alarm:
      type: AlarmPost
      directives: [ substitute ]
      count: { $length: [ { $get_input: valleys } ] }
      properties: { valley: { $get_input: [ valleys, $node_index ] }, wait: { $get_input: wait } }
      requirements: [ { zone: names } ]
    pager:
      type: Subscription
      properties: { to: { $concat: [ { $get_property: [ [ alarm, 0 ], valley ] }, "@kestrelridge.example" ] } }
      requirements: [ { topic: [ alarm, 0 ] } ]
    copy:
      type: Vault
      properties: { value: { $get_attribute: [ [ alarm, 1 ], url ] } }
  outputs:
    south: { value: { $get_attribute: [ [ alarm, 1 ], url ] } }
  policies:
    - guard: { type: Guard, targets: [ alarm ] }
`)
	b.write("ridge.stack.yaml", "stack: ridge\ntemplate: ridge.yaml\ntarget: workshop/alder-1\n")
	p := b.preview("ridge.stack.yaml")
	if len(p.Findings) > 0 {
		t.Fatal(p.Findings)
	}
	var names []string
	for _, ch := range p.Changes {
		names = append(names, ch.Name)
		if strings.HasPrefix(ch.Name, "alarm") != ch.Wanted.Guard {
			t.Errorf("%s: guard is %v", ch.Name, ch.Wanted.Guard)
		}
	}
	got := strings.Join(names, " ")
	for _, want := range []string{"alarm#0/horn", "alarm#1/calls#1", "alarm#1/name"} {
		if !strings.Contains(" "+got+" ", " "+want+" ") {
			t.Errorf("no %s in %s", want, got)
		}
	}
	b.carry(p, "undo")
	list := b.listing("ridge")
	for _, want := range []string{`"label": "horn of north"`, `"to": "north@kestrelridge.example"`,
		`"node": "alarm#1/calls#1"`, `"visible_after": "45 s"`, `"fqdn": "south.kestrelridge.example"`} {
		if !strings.Contains(list, want) {
			t.Errorf("no %s in the cloud: %s", want, list)
		}
	}
	// a change of the outer input reaches the inner resources, with its cause
	p = b.preview("ridge.stack.yaml", "wait=60 s")
	if p.Tally.Edit != 4 || !strings.Contains(p.Tally.String(), "4 edit") {
		t.Errorf("the tally is %s", p.Tally)
	}
	if ch := p.Change("alarm#0/calls#1"); ch == nil ||
		!strings.Contains(strings.Join(ch.Because, "\n"), "input wait is 60 s, was 45 s") {
		t.Errorf("the cause of alarm#0/calls#1 is not the input: %+v", ch)
	}
	// the archive of it is the same
	archive := filepath.Join(b.dir, "ridge.csar")
	if _, findings, err := Pack(b.dir, "ridge.yaml", archive); err != nil || len(findings) > 0 {
		t.Fatal(findings, err)
	}
	b.write("ridge.stack.yaml", "stack: ridge\ntemplate: ridge.csar\ntarget: workshop/alder-1\n")
	if p = b.preview("ridge.stack.yaml"); !p.Empty() || len(p.Findings) > 0 {
		t.Errorf("from the archive: %s %v", p.Tally, p.Findings)
	}
	// so is the resolved template
	text, err := p.Draft.Wanted.ResolvedTemplate()
	if err != nil {
		t.Fatal(err)
	}
	b.write("flat.yaml", string(text))
	b.write("ridge.stack.yaml", "stack: ridge\ntemplate: flat.yaml\ntarget: workshop/alder-1\n")
	p = b.preview("ridge.stack.yaml")
	if !p.Empty() || p.Findings.HasErrors() {
		t.Errorf("resolved: %s %v\n%s", p.Tally, p.Findings, text)
	}
	again, err := p.Draft.Wanted.ResolvedTemplate()
	if err != nil || string(again) != string(text) {
		t.Errorf("it does not resolve to itself: %v\n%s\n%s", err, text, again)
	}
	// the deployed revision can be read without any of the files
	if err := os.RemoveAll(b.dir); err != nil {
		t.Fatal(err)
	}
	rev, err := b.store.Revision(t.Context(), b.stack("ridge").ID, 1)
	if err != nil {
		t.Fatal(err)
	}
	if w, findings := b.resolveRevision(rev); findings.HasErrors() || len(w.Resources) != 11 {
		t.Errorf("the stored revision: %d resources, %v", len(w.Resources), findings)
	}
}

// TestResolvedTemplates resolves the demo's templates and the starters: what
// comes out resolves to itself and deploys to the same.
func TestResolvedTemplates(t *testing.T) {
	long(t)
	b := newBench(t, 100_000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, "bulletin-test.stack.yaml")
	p := b.preview("bulletin-test.stack.yaml")
	text, err := p.Draft.Wanted.ResolvedTemplate()
	if err != nil {
		t.Fatal(err)
	}
	for _, secret := range []string{"frost-and-thaw-77", "pager-secret-99"} {
		if strings.Contains(string(text), secret) {
			t.Errorf("the secret %s stands in it:\n%s", secret, text)
		}
	}
	b.write("flat.yaml", string(text))
	stackFile := "stack: bulletin-test\ntemplate: flat.yaml\ntarget: workshop/alder-1\ninputs:\n  db_password: { from_file: secrets/db_password }\n  oncall_token: { from_file: secrets/oncall_token }\n"
	b.write("flat.stack.yaml", stackFile)
	flat := b.preview("flat.stack.yaml")
	for _, ch := range flat.Changes {
		for _, c := range ch.Properties {
			if ch.Kind != whatif.Same && c.Path != "tags.desk" && c.Path != "tags" {
				t.Errorf("%s.%s: %v → %v", ch.Name, c.Path, c.Before, c.After)
			}
		}
	}
	if flat.Tally.New+flat.Tally.Drop+flat.Tally.Swap > 0 || flat.Findings.HasErrors() {
		t.Errorf("%s %v\n%s", flat.Tally, flat.Findings, text)
	}
	again, err := flat.Draft.Wanted.ResolvedTemplate()
	if err != nil || string(again) != string(text) {
		t.Errorf("it does not resolve to itself: %v\n%s", err, again)
	}
}

func TestLookUps(t *testing.T) {
	long(t)
	b := newBench(t, 100_000)
	b.write("base.yaml", head+`imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16, tags: { desk: snow } } }
    other: { type: Network, properties: { cidr: 10.1.0.0/16 } }
    key: { type: Key, properties: { public_key: k, label: wardens } }
`)
	b.write("base.stack.yaml", "stack: base\ntemplate: base.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "base.stack.yaml")
	b.write("top.yaml", head+`imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { family: { type: string, default: fern } }
  node_templates:
    net:
      type: Network
      directives: [ select ]
      node_filter: { $equal: [ { $get_property: [ SELF, tags, desk ] }, snow ] }
    image:
      type: Image
      directives: [ select ]
      node_filter: { $and: [ { $equal: [ { $get_property: [ SELF, family ] }, { $get_input: family } ] }, { $less_than: [ { $get_property: [ SELF, number ] }, 13 ] } ] }
    sub:
      type: Subnet
      properties: { cidr: 10.0.1.0/24, label: { $concat: [ in , " ", { $get_property: [ net, cidr ] } ] } }
      requirements: [ { network: net } ]
    server:
      type: Server
      properties: { size: small, image: { $get_property: [ image, name ] }, label: { $get_attribute: [ net, id ] } }
      requirements:
        - subnet: sub
        - key: { node: Key, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, label ] }, wardens ] } }
`)
	top := "stack: top\ntemplate: top.yaml\ntarget: workshop/alder-1\n"
	b.write("top.stack.yaml", top)
	if codes := b.codes(filepath.Join(b.dir, "top.yaml"), Values{}); codes != "" {
		t.Errorf("alone, without the cloud: %s", codes)
	}
	b.deploy(run.StatusDone, "top.stack.yaml")
	list := b.listing("top")
	for _, want := range []string{`"image": "fern-12"`, `"label": "in 10.0.0.0/16"`, `"label": "network~`} {
		if !strings.Contains(list, want) {
			t.Errorf("no %s in %s", want, list)
		}
	}
	if p := b.preview("top.stack.yaml"); !p.Empty() || len(p.Findings) > 0 {
		t.Errorf("a second time: %s %v", p.Tally, p.Findings)
	}
	// what is looked up is never changed or removed
	p, err := b.WhatIfDelete(t.Context(), b.stack("top"))
	if err != nil {
		t.Fatal(err)
	}
	if p.Tally.Drop != 2 {
		t.Errorf("deleting drops %d", p.Tally.Drop)
	}
	// another network has the tag now: the look-up is ambiguous, and says so
	b.write("base.yaml", strings.Replace(readText(t, filepath.Join(b.dir, "base.yaml")), "10.1.0.0/16 }",
		"10.1.0.0/16, tags: { desk: snow } }", 1))
	b.deploy(run.StatusDone, "base.stack.yaml")
	if codes := findingCodes(b.preview("top.stack.yaml")); codes != "ambiguous-selection" {
		t.Errorf("with two networks: %s", codes)
	}
	// only the other one has it: the what-if says that the look-up moved
	b.write("base.yaml", strings.Replace(readText(t, filepath.Join(b.dir, "base.yaml")),
		"10.0.0.0/16, tags: { desk: snow } }", "10.0.0.0/16 }", 1))
	b.deploy(run.StatusDone, "base.stack.yaml")
	b.write("top.yaml", strings.Replace(readText(t, filepath.Join(b.dir, "top.yaml")), "cidr: 10.0.1.0/24",
		"cidr: 10.1.1.0/24", 1))
	pv := b.preview("top.stack.yaml")
	if ch := pv.Change("sub"); ch == nil || ch.Kind != whatif.Swap ||
		!strings.Contains(strings.Join(ch.Because, "\n"), "the look-up net finds network~") {
		t.Errorf("the look-up moved: %+v %v", pv.Change("sub"), pv.Findings)
	}
	// an undo uses what was found then
	b.carry(pv, "undo")
	if p, err = b.WhatIfUndo(t.Context(), b.stack("top"), 1); err != nil || p.Change("sub").Kind != whatif.Swap {
		t.Fatalf("undo: %+v %v", p, err)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone ||
		!strings.Contains(b.listing("top"), `"cidr": "10.0.1.0/24"`) {
		t.Errorf("undo ended %s %s", r.State, r.Reason)
	}
	b.write("none.yaml", head+
		"imports: [ { profile: brickrow.cloud:1 } ]\nservice_template: { node_templates: { z: { type: Zone, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, domain ] }, x ] } } } }\n")
	if findings, err := b.CheckTarget(t.Context(), filepath.Join(b.dir, "none.yaml"),
		Values{Target: "workshop/alder-1"}); err != nil || len(findings) != 1 ||
		findings[0].Code != "nothing-selected" {
		t.Errorf("nothing to find: %v %v", findings, err)
	}
}

func readText(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func findingCodes(p *Preview) string {
	var codes []string
	for _, f := range p.Findings {
		codes = append(codes, f.Code)
	}
	return strings.Join(codes, " ")
}

func TestCredentialsAndTargets(t *testing.T) {
	long(t)
	home := filepath.Join(t.TempDir(), "home")
	a, err := Open(Options{Home: home})
	if err != nil {
		t.Fatal(err)
	}
	list, err := a.Targets(t.Context())
	if err != nil || len(list) != 6 || list[0].Who != "summit keeper" || list[0].Careful {
		t.Fatalf("%+v %v", list, err)
	}
	if err := a.Set(t.Context(), Careful, "summit/alder-1"); err != nil {
		t.Fatal(err)
	}
	if err := a.Set(t.Context(), Careful, "summit/nowhere"); err == nil {
		t.Error("a target that does not exist became careful")
	}
	file := filepath.Join(t.TempDir(), "x.stack.yaml")
	if err := os.WriteFile(file, []byte("stack: x1\ntemplate: x.yaml\ntarget: summit/alder-1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if d, err := a.Load(t.Context(), file, Values{}); err != nil || !d.Stack.Careful {
		t.Errorf("a stack in a careful target is not careful: %v", err)
	}
	a.Close()
	path := filepath.Join(home, yard.CredentialsFile)
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(Options{Home: home}); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("credentials that others can read: %v", err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("BRICKROW_TOKEN_WORKSHOP", "wrong")
	if a, err = Open(Options{Home: home}); err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	if list, err = a.Targets(t.Context()); err != nil || list[3].Problem == "" || list[0].Problem != "" {
		t.Errorf("with a wrong token in the environment: %+v %v", list, err)
	}
}

func TestArchivesAreOpenedWithCare(t *testing.T) {
	long(t)
	b := newBench(t, 1000)
	path := filepath.Join(b.dir, "a.csar")
	for name, data := range map[string]string{"empty": "", "text": "hello", "cut": "PK\x03\x04"} {
		if err := os.WriteFile(path, []byte(data), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := b.Load(t.Context(), path, Values{}); err == nil {
			t.Errorf("%s is read as an archive", name)
		}
	}
	if _, err := bundle.Open(bundle.Disk, filepath.Join(b.dir, "none.csar")); err == nil {
		t.Error("an archive that is not there is read")
	}
}

// TestInterruptedAndUnreadable looks at two findings that need more than a
// template.
func TestInterruptedAndUnreadable(t *testing.T) {
	long(t)
	b := newBench(t, 100_000)
	b.write("t.yaml", head+other+network)
	b.write("t.stack.yaml", "stack: tested\ntemplate: t.yaml\ntarget: workshop/alder-1\n")
	p := b.preview("t.stack.yaml")
	ticket, err := b.Prepare(t.Context(), p, "undo")
	if err != nil {
		t.Fatal(err)
	}
	if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil { // as if it had been killed
		t.Fatal(err)
	}
	p = b.preview("t.stack.yaml")
	if codes := findingCodes(p); codes != "interrupted" {
		t.Errorf("found %s", codes)
	}
	for what, make := range map[string]func() (*Preview, error){"deploy": func() (*Preview, error) { return p, nil },
		"delete": func() (*Preview, error) { return b.WhatIfDelete(t.Context(), b.stack("tested")) }} {
		p, err := make()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := b.Prepare(t.Context(), p, "undo"); err == nil ||
			!strings.Contains(err.Error(), "brickrow resume tested") {
			t.Errorf("%s: the way out is not told: %v", what, err)
		}
	}
	if err := os.WriteFile(filepath.Join(b.Home, targetsFile), []byte("careful: { a"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.set = set{} // what was read last counts for a moment
	if codes := b.codes(filepath.Join(b.dir, "t.stack.yaml"), Values{}); !strings.Contains(codes, "no-targets") {
		t.Errorf("found %s", codes)
	}
}

// TestStackFiles holds every stack file of the folder against the codes that
// stand in comments beside the offending lines.
func TestStackFiles(t *testing.T) {
	long(t)
	b := newBench(t, 1000)
	files, err := filepath.Glob("testdata/check/*.stack.yaml")
	if err != nil || len(files) < 8 {
		t.Fatalf("%d stack files: %v", len(files), err)
	}
	want := regexp.MustCompile(`# want (.*)$`)
	code := regexp.MustCompile(`"([^"]*)"`)
	for _, path := range files {
		findings, err := b.Check(t.Context(), path, Values{})
		if err != nil {
			t.Fatal(err)
		}
		got := map[int][]string{}
		for _, f := range findings {
			if f.File != path {
				t.Errorf("%s: %s", path, f)
			}
			got[f.Line] = append(got[f.Line], f.Code)
		}
		for i, line := range strings.Split(readText(t, path), "\n") {
			var codes []string
			if m := want.FindStringSubmatch(line); m != nil {
				for _, c := range code.FindAllStringSubmatch(m[1], -1) {
					codes = append(codes, c[1])
				}
			}
			slices.Sort(codes)
			slices.Sort(got[i+1])
			if !slices.Equal(codes, got[i+1]) {
				t.Errorf("%s:%d: found %q, want %q", path, i+1, got[i+1], codes)
			}
		}
	}
}
