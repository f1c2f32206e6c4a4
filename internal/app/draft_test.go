package app

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/yard"
)

// codes lists the findings of a file as "file:line code".
func (b *bench) codes(path string, v Values) string {
	b.t.Helper()
	findings, err := b.Check(b.t.Context(), path, v)
	if err != nil {
		return err.Error()
	}
	var out []string
	for _, f := range findings {
		out = append(out, fmt.Sprintf("%s:%d %s", filepath.Base(f.File), f.Line, f.Code))
	}
	return strings.Join(out, ", ")
}

func TestLoading(t *testing.T) {
	b := newBench(t, 5000)
	b.write("t.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs:\n    a: { type: string }\n    b: { type: integer, default: 1 }\n  node_templates:\n    topic: { type: Topic, count: { $get_input: b }, properties: { label: { $get_input: a } } }\n")
	t.Setenv("A_NAME", "from outside")
	for _, test := range []struct {
		name, text string
		v          Values
		want       string
	}{
		{"sound", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: x }\n", Values{}, ""},
		{"no template", "stack: aa\ntemplate: gone.yaml\ntarget: workshop/alder-1\n", Values{},
			"x.stack.yaml:2 no-template"},
		{"from the environment",
			"stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_env: A_NAME } }\n", Values{},
			""},
		{"from a variable that is not set",
			"stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_env: NO_NAME } }\n", Values{},
			"x.stack.yaml:4 no-value"},
		{"from a file that is not there",
			"stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_file: gone } }\n", Values{},
			"x.stack.yaml:4 no-value"},
		{"from a stack that is not there",
			"stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_stack: { stack: gone, output: x } } }\n", Values{}, "x.stack.yaml:4 no-value"},
		{"missing, given by a flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\n",
			Values{Flags: []string{"a=x"}}, ""},
		{"a bad flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\n", Values{Flags: []string{"a"}},
			"-i:0 bad-flag, t.yaml:5 missing-input"},
		{"no target", "stack: aa\ntemplate: t.yaml\ninputs: { a: x }\n", Values{}, "x.stack.yaml:1 missing-key"},
		{"a target by flag", "stack: aa\ntemplate: t.yaml\ninputs: { a: x }\n", Values{Target: "summit/birch-1"}, ""},
		{"a bad target by flag", "stack: aa\ntemplate: t.yaml\ninputs: { a: x }\n", Values{Target: "summit"},
			"--target summit:0 bad-target, x.stack.yaml:1 missing-key"},
		{"another target by flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: x }\n",
			Values{Target: "summit/birch-1"}, "x.stack.yaml:3 pinned-target"},
		{"the same target by flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: x }\n",
			Values{Target: "workshop/alder-1"}, ""},
		{"all at once", "stack: Aa\ntemplate: t.yaml\ntarget: workshop\ninputs: { b: x, c: 1 }\n", Values{},
			"t.yaml:5 missing-input, x.stack.yaml:1 bad-name, x.stack.yaml:3 bad-target, x.stack.yaml:4 wrong-type, x.stack.yaml:4 unknown-input"},
	} {
		if got := b.codes(b.write("x.stack.yaml", test.text), test.v); got != test.want {
			t.Errorf("%s: %s, want %s", test.name, got, test.want)
		}
	}
	if got := b.codes(filepath.Join(b.dir, "t.yaml"), Values{}); got != "" {
		t.Errorf("a template alone: %s", got)
	}
	for path, words := range map[string]string{"gone.yaml": "there is no file", ".": "is a folder"} {
		if got := b.codes(filepath.Join(b.dir, path), Values{}); !strings.Contains(got, words) {
			t.Errorf("%s: %s", path, got)
		}
	}
}

func TestResultsOfAnotherStack(t *testing.T) {
	b := newBench(t, 5000)
	if p := b.preview(test); !p.Findings.HasErrors() ||
		!strings.Contains(p.Findings[0].Message, "there is no stack 'ridge-base'") {
		t.Errorf("before the base is there: %v", p.Findings)
	}
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	if p := b.preview(test); p.Findings.HasErrors() {
		t.Errorf("with the base: %v", p.Findings)
	}
	text, err := os.ReadFile(filepath.Join(b.dir, test))
	if err != nil {
		t.Fatal(err)
	}
	b.write(test, strings.Replace(string(text), "output: domain", "output: domian", 1))
	if p := b.preview(test); len(p.Findings) == 0 ||
		!strings.Contains(fmt.Sprint(p.Findings), "it has alarm_url, domain, network_id") {
		t.Errorf("a result that is not there: %v", p.Findings)
	}
}

func TestDeletingWhatOthersUse(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	network := ""
	current, _, err := b.store.Recorded(t.Context(), b.stack("ridge-base").ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range current {
		if r.Name == "ridge_net" {
			network = r.ID
		}
	}
	target := b.stack("ridge-base").Target
	op, err := b.Cloud.Create(t.Context(), target, "k", requestSubnet(network))
	for err == nil && !op.Ended() {
		op, err = b.Cloud.Operation(t.Context(), cloud.Ref{Target: target}, op.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	p, err := b.WhatIfDelete(t.Context(), b.stack("ridge-base"))
	if err != nil || !p.Findings.HasErrors() ||
		!strings.Contains(p.Findings[0].Message, "ridge_net cannot be removed: it is used by cellar") ||
		!strings.Contains(p.Findings[0].Message, "the stack of-others") {
		t.Errorf("%v %v", p.Findings, err)
	}
	if _, err := b.Prepare(t.Context(), p, "hold"); err == nil {
		t.Error("it is deleted all the same")
	}
}

// requestSubnet asks for a subnet of another stack in a network.
func requestSubnet(network string) cloud.Request {
	return cloud.Request{Type: "Subnet", Properties: map[string]any{"cidr": "10.8.1.0/24"},
		Links: map[string][]string{"network": {network}},
		Tags:  map[string]string{"stack": "of-others", "node": "cellar"}}
}

func TestUndoOfAnInterruptedDeletionIsRefused(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.fault(yard.Fault{On: "delete", Type: "Network", Reason: "held", Times: 1})
	p, err := b.WhatIfDelete(t.Context(), b.stack("ridge-base"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != run.StatusStuck || !strings.Contains(r.Reason, "ridge_net: held") {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	if _, err := b.Resume(t.Context(), b.stack("ridge-base"), Back); err == nil ||
		!strings.Contains(err.Error(), "cannot be undone") {
		t.Errorf("%v", err)
	}
}

func TestAOneWayEditIsMadeLast(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	before := b.listing("")
	b.fault(yard.Fault{Name: "forecasters", Times: 1})
	b.deploy(run.StatusUndone, test, "db_version=16", "forecasters=3", "readers=5")
	b.wantSame("a version that was to go up", b.listing(""), before)
	b.fault(yard.Fault{Name: "readings_db", Times: 1})
	b.deploy(run.StatusUndone, test, "db_version=16", "forecasters=3", "readers=5")
	b.wantSame("a version that could not go up", b.listing(""), before)
}

func TestASecondFailureLeavesItStuckAndResumes(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	empty := b.listing("")
	b.fault(yard.Fault{Name: "public_gate", Times: 1})
	b.fault(yard.Fault{Name: "valley_net", On: "delete", Times: 1, Reason: "will not go"})
	r := b.carry(b.preview(test), "undo")
	if r.State != run.StatusStuck || !strings.Contains(r.Reason, "will not go") ||
		b.stack("bulletin-test").State != stack.Stuck {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	ticket, err := b.Resume(t.Context(), b.stack("bulletin-test"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusUndone {
		t.Fatalf("%v %s: %s", err, r.State, r.Reason)
	}
	b.wantSame("after the second try", b.listing(""), empty)
}

func TestOpening(t *testing.T) {
	t.Setenv("BRICKROW_HOME", "/somewhere")
	if Home("") != "/somewhere" || Home("/else") != "/else" {
		t.Error("the folder of the data is not the one asked for")
	}
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(Options{Home: file}); err == nil {
		t.Error("a file is taken for a folder")
	}
	elsewhere, err := Open(Options{Home: filepath.Join(t.TempDir(), "home"), CloudURL: "http://127.0.0.1:1"})
	if err != nil {
		t.Fatal(err)
	}
	defer elsewhere.Close()
	if _, err := elsewhere.Cloud.List(t.Context(), stack.Target{Account: "hut-1", Region: "alder-1"}, ""); err == nil || !strings.Contains(err.Error(), "BRICKROW_TOKEN_HUT_1") {
		t.Errorf("a cloud elsewhere without credentials: %v", err)
	}
	for text, ok := range map[string]bool{"2": true, "0.5": true, "0": false, "-1": false, "x": false, "1e9": false} {
		t.Setenv("BRICKROW_YARD_SPEED", text)
		if _, err := Speed(0); (err == nil) != ok {
			t.Errorf("speed %s: %v", text, err)
		}
	}
}

// TestTheCoreHasNoInterface keeps interface packages out of the core.
func TestTheCoreHasNoInterface(t *testing.T) {
	long(t)
	out, err := exec.Command("go", "list", "-deps", "brickrow/internal/app", "brickrow/internal/demo").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, dep := range strings.Fields(string(out)) {
		for _, banned := range []string{"charm.land/", "github.com/charmbracelet/", "github.com/spf13/",
			"github.com/alecthomas/chroma", "brickrow/internal/tui", "brickrow/internal/cli"} {
			if strings.HasPrefix(dep, banned) {
				t.Errorf("the core needs %s", dep)
			}
		}
	}
	// The store is reached through the app alone, and neither interface knows the
	// other.
	out, err = exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}} ", "brickrow/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(out)) {
		pkg, imports, _ := strings.Cut(line, ":")
		for banned, by := range map[string]string{"brickrow/internal/store": "brickrow/internal/app",
			"brickrow/internal/cli": "brickrow/cmd/brickrow", "brickrow/internal/tui": "brickrow/cmd/brickrow"} {
			if strings.Contains(imports, " "+banned+" ") && pkg != by {
				t.Errorf("%s needs %s", pkg, banned)
			}
		}
	}
	// What knows types by their names is handed in.
	for line := range strings.Lines(string(out)) {
		pkg, imports, _ := strings.Cut(line, ":")
		if strings.Contains(imports, " brickrow/internal/profile ") && pkg != "brickrow/internal/app" &&
			pkg != "brickrow/internal/cli" {
			t.Errorf("%s needs the profile", pkg)
		}
	}
	for pkg, banned := range map[string]string{"tosca": "stack", "stack": "cloud", "whatif": "run", "run": "store",
		"cloud": "store", "yard": "app"} {
		out, err := exec.Command("go", "list", "-deps", "brickrow/internal/"+pkg).Output()
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(out), "brickrow/internal/"+banned+"\n") {
			t.Errorf("%s needs %s: imports run downward only", pkg, banned)
		}
	}
}

// TestOneBorder names files outside the template's folder in every way that there is.
// The template cannot open another folder; the stack file can, and a link in that
// folder leads nowhere.
func TestOneBorder(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("out/parts.yaml", "tosca_definitions_version: tosca_2_0\nprofile: parts\nimports: [ { profile: brickrow.cloud:1 } ]\nnode_types: { Bell: { derived_from: Topic } }\n")
	b.write("out/note.txt", "a note")
	b.write("secret.txt", "kept apart: nobody reads this")
	if err := os.Symlink("../secret.txt", filepath.Join(b.dir, "out", "link.yaml")); err != nil {
		t.Fatal(err)
	}
	const rest = "service_template:\n  node_templates:\n    hook: { type: Topic }\n"
	ways := map[string]string{
		"by file":             "imports: [ { profile: brickrow.cloud:1 }, ../out/parts.yaml ]\n" + rest,
		"by profile":          "imports: [ { profile: brickrow.cloud:1 }, { profile: ../out/parts } ]\n" + rest,
		"by repository":       "repositories: { o: ../out }\nimports: [ { profile: brickrow.cloud:1 }, { url: parts.yaml, repository: o } ]\n" + rest,
		"by whole path":       "repositories: { o: " + filepath.Join(b.dir, "out") + " }\nimports: [ { profile: brickrow.cloud:1 }, { url: parts.yaml, repository: o } ]\n" + rest,
		"by way of a folder":  "imports: [ { profile: brickrow.cloud:1 }, sub/../../out/parts.yaml ]\n" + rest,
		"an artifact":         "imports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    hook: { type: Topic, artifacts: { n: ../out/note.txt } }\n",
		"a link in a folder":  "imports: [ { profile: brickrow.cloud:1 }, ../out/link.yaml ]\n" + rest,
		"a secret beside it":  "imports: [ { profile: brickrow.cloud:1 }, ../secret.txt ]\n" + rest,
		"a profile beside it": "imports: [ { profile: brickrow.cloud:1 }, { profile: ../secret } ]\n" + rest,
	}
	for _, opened := range []string{"", "folders: ../out\n"} {
		b.write("in/a.stack.yaml", "stack: border\ntemplate: a.yaml\ntarget: workshop/alder-1\n"+opened)
		for name, text := range ways {
			b.write("in/a.yaml", "tosca_definitions_version: tosca_2_0\n"+text)
			d, err := b.Load(t.Context(), filepath.Join(b.dir, "in", "a.stack.yaml"), Values{})
			if err != nil {
				t.Fatal(name, err)
			}
			never := strings.HasPrefix(name, "by profile") || strings.HasSuffix(name, "beside it") || name == "by whole path" || name == "a link in a folder"
			if d.Findings.HasErrors() != (opened == "" || never) {
				t.Errorf("%s, with %q: %v", name, opened, d.Findings)
			}
			for _, f := range d.Findings {
				if strings.Contains(f.Message+f.Fix, "kept apart") || f.Severity == tosca.Error && f.Code != "outside-folder" &&
					name != "a link in a folder" && name != "by profile" {
					t.Errorf("%s: %+v", name, f)
				}
			}
		}
	}
}

// TestTextsThatAreNotSaved reads what an editor holds instead of what is on the
// disk: of the stack file, the template, and a file that it imports.
func TestTextsThatAreNotSaved(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("a.stack.yaml", "stack: tested\ntemplate: a.yaml\ntarget: workshop/alder-1\n")
	b.write("a.yaml", head+other+network)
	held := map[string][]byte{
		filepath.Join(b.dir,
			"a.yaml"): []byte("tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 }, b.yaml ]\nservice_template:\n  inputs: { words: { type: Words, default: told } }\n  node_templates:\n    hook: { type: Topic, properties: { label: { $get_input: words } } }\n"),
		filepath.Join(b.dir,
			"x/../b.yaml"): []byte("tosca_definitions_version: tosca_2_0\ndata_types: { Words: { derived_from: string } }\n"),
	}
	load := func(texts map[string][]byte) *Draft {
		d, err := b.Load(t.Context(), filepath.Join(b.dir, "a.stack.yaml"), Values{Texts: texts})
		if err != nil || d.Findings.HasErrors() {
			t.Fatal(err, d.Findings)
		}
		return d
	}
	if d := load(held); d.Wanted.Resource("hook") == nil || len(d.Bundle.Files()) != 1 {
		t.Errorf("%v, %d files", d.Wanted.Resources, len(d.Bundle.Files()))
	}
	if d := load(nil); d.Wanted.Resource("hook") != nil {
		t.Error("the disk has what only the editor holds")
	}
	held[filepath.Join(b.dir,
		"a.stack.yaml")] = []byte("stack: renamed\ntemplate: a.yaml\ntarget: summit/birch-1\ninputs: { words: other }\n")
	if d := load(held); d.Stack.Stack != "renamed" ||
		tosca.Show(d.Wanted.Resource("hook").Property("label").Value) != "other" {
		t.Errorf("%+v", d.Stack)
	}
	// rules too, also in a folder that is still to be made
	held[filepath.Join(b.dir, "rules", "new.yaml")] = []byte("rules: [ { id: none, message: no, expression: nonsense } ]\n")
	d, err := b.Load(t.Context(), filepath.Join(b.dir, "a.stack.yaml"), Values{Texts: held})
	if err != nil || !d.Findings.HasErrors() || d.Findings[0].Code != "broken-rule" {
		t.Errorf("%v %v", err, d.Findings)
	}
}

// TestOneDraftForAll reads a draft once for all who look at it, as long as nothing
// that it is made from changes.
func TestOneDraftForAll(t *testing.T) {
	b := newBench(t, 100_000)
	template := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 }, more.yaml ]\n" +
		"service_template:\n  inputs: { words: { type: Words } }\n  node_templates:\n" +
		"    hook: { type: Topic, properties: { label: { $get_input: words } } }\n"
	more := "tosca_definitions_version: tosca_2_0\ndata_types: { Words: { derived_from: string } }\n"
	b.write("a.yaml", template)
	b.write("more.yaml", more)
	b.write("a.stack.yaml", "stack: tested\ntemplate: a.yaml\ntarget: workshop/alder-1\ninputs: { words: { from_env: HUT_WORDS } }\n")
	t.Setenv("HUT_WORDS", "one")
	load := func(v Values) *Draft {
		d, err := b.Load(t.Context(), filepath.Join(b.dir, "a.stack.yaml"), v)
		if err != nil || d.Findings.HasErrors() {
			t.Fatal(err, d.Findings)
		}
		return d
	}
	first := load(Values{})
	if load(Values{}) != first {
		t.Error("a draft is read twice")
	}
	var g errgroup.Group // all at once, as the views do
	for range 4 {
		g.Go(func() error { _, err := b.WhatIf(t.Context(), first); return err })
		g.Go(func() error { _, err := b.WhatIfRecorded(t.Context(), first); return err })
	}
	if err := g.Wait(); err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func() Values{
		"a variable":    func() Values { t.Setenv("HUT_WORDS", "two"); return Values{} },
		"a flag":        func() Values { return Values{Flags: []string{"words=three"}} },
		"the template":  func() Values { b.write("a.yaml", template+"# more\n"); return Values{} },
		"what it reads": func() Values { b.write("more.yaml", more+"# more\n"); return Values{} },
		"rules": func() Values {
			b.write("rules/a.yaml", "rules: [ { id: none, message: no, require: 'true' } ]\n")
			return Values{}
		},
		"an unsaved text": func() Values {
			return Values{Texts: map[string][]byte{filepath.Join(b.dir, "more.yaml"): []byte(more + "# not saved\n")}}
		},
	} {
		before := load(Values{})
		if d := load(change()); d == before {
			t.Errorf("%s has changed, and the draft is the one from before", what)
		}
	}
}

// TestStagesStayAsTheyAre asks the target about one draft twice, and for a
// comparison: nothing of that is found in the draft afterwards.
func TestStagesStayAsTheyAre(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("a.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    best: { type: Image, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, family ] }, fern ] } }\n    box: { type: Bucket, properties: { name: taken-name, label: { $get_property: [ best, name ] } } }\n")
	for _, target := range []string{"workshop/alder-1", "nowhere/at-all"} {
		b.write("a.stack.yaml", "stack: tested\ntemplate: a.yaml\ntarget: "+target+"\n")
		d, err := b.Load(t.Context(), filepath.Join(b.dir, "a.stack.yaml"), Values{})
		if err != nil {
			t.Fatal(err)
		}
		shown := func() string {
			return fmt.Sprint(d.Findings, d.Parsed.Stack, d.Wanted.Lookups(),
				tosca.Show(d.Wanted.Resource("box").Property("label").Value))
		}
		before := shown()
		first, err := b.WhatIf(t.Context(), d)
		if err != nil {
			t.Fatal(err)
		}
		second, err := b.WhatIf(t.Context(), d)
		if err != nil || fmt.Sprint(first.Findings) != fmt.Sprint(second.Findings) || first.Tally != second.Tally {
			t.Errorf("%v: %v, and then %v", err, first.Findings, second.Findings)
		}
		if shown() != before {
			t.Errorf("it was\n%s\nand is\n%s", before, shown())
		}
		if (target == "nowhere/at-all") != first.Findings.HasErrors() {
			t.Errorf("%s: %v", target, first.Findings)
		}
	}
}
