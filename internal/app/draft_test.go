package app

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/store"
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
	b.write("t.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs:\n    a: { type: string }\n    b: { type: integer, default: 1 }\n  node_templates:\n    topic: { type: Topic, properties: { label: { $get_input: a } } }\n")
	t.Setenv("A_NAME", "from outside")
	for _, test := range []struct {
		name, text string
		v          Values
		want       string
	}{
		{"sound", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: x }\n", Values{}, ""},
		{"no template", "stack: aa\ntemplate: gone.yaml\ntarget: workshop/alder-1\n", Values{}, "x.stack.yaml:2 no-template"},
		{"from the environment", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_env: A_NAME } }\n", Values{}, ""},
		{"from a variable that is not set", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_env: NO_NAME } }\n", Values{}, "x.stack.yaml:4 no-value"},
		{"from a file that is not there", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_file: gone } }\n", Values{}, "x.stack.yaml:4 no-value"},
		{"from a stack that is not there", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: { from_stack: { stack: gone, output: x } } }\n", Values{}, "x.stack.yaml:4 no-value"},
		{"missing, given by a flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\n", Values{Flags: []string{"a=x"}}, ""},
		{"a bad flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\n", Values{Flags: []string{"a"}}, "-i:0 bad-flag, t.yaml:5 missing-input"},
		{"no target", "stack: aa\ntemplate: t.yaml\ninputs: { a: x }\n", Values{}, "x.stack.yaml:1 missing-key"},
		{"a target by flag", "stack: aa\ntemplate: t.yaml\ninputs: { a: x }\n", Values{Target: "summit/birch-1"}, ""},
		{"a bad target by flag", "stack: aa\ntemplate: t.yaml\ninputs: { a: x }\n", Values{Target: "summit"}, "--target summit:0 bad-target, x.stack.yaml:1 missing-key"},
		{"another target by flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: x }\n", Values{Target: "summit/birch-1"}, "x.stack.yaml:3 pinned-target"},
		{"the same target by flag", "stack: aa\ntemplate: t.yaml\ntarget: workshop/alder-1\ninputs: { a: x }\n", Values{Target: "workshop/alder-1"}, ""},
		{"all at once", "stack: Aa\ntemplate: t.yaml\ntarget: workshop\ninputs: { b: x, c: 1 }\n", Values{}, "t.yaml:5 missing-input, x.stack.yaml:1 bad-name, x.stack.yaml:3 bad-target, x.stack.yaml:4 wrong-type, x.stack.yaml:4 unknown-input"},
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
	if p := b.preview(test); !p.Findings.HasErrors() || !strings.Contains(p.Findings[0].Message, "there is no stack 'ridge-base'") {
		t.Errorf("before the base is there: %v", p.Findings)
	}
	b.deploy(store.RunDone, "ridge-base.stack.yaml")
	if p := b.preview(test); p.Findings.HasErrors() {
		t.Errorf("with the base: %v", p.Findings)
	}
	text, err := os.ReadFile(filepath.Join(b.dir, test))
	if err != nil {
		t.Fatal(err)
	}
	b.write(test, strings.Replace(string(text), "output: domain", "output: domian", 1))
	if p := b.preview(test); len(p.Findings) == 0 || !strings.Contains(fmt.Sprint(p.Findings), "it has alarm_url, domain, network_id") {
		t.Errorf("a result that is not there: %v", p.Findings)
	}
}

func TestDeletingWhatOthersUse(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(store.RunDone, "ridge-base.stack.yaml")
	network := ""
	current, _, err := b.Store.Recorded(t.Context(), b.stack("ridge-base").ID)
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
		op, err = b.Cloud.Operation(t.Context(), target, op.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	p, err := b.WhatIfDelete(t.Context(), b.stack("ridge-base"))
	if err != nil || !p.Findings.HasErrors() || !strings.Contains(p.Findings[0].Message, "ridge_net cannot be removed: it is used by cellar") || !strings.Contains(p.Findings[0].Message, "the stack of-others") {
		t.Errorf("%v %v", p.Findings, err)
	}
	if _, err := b.Prepare(t.Context(), p, "hold"); err == nil {
		t.Error("it is deleted all the same")
	}
}

// requestSubnet asks for a subnet of another stack in a network.
func requestSubnet(network string) cloud.Request {
	return cloud.Request{Type: "Subnet", Properties: map[string]any{"cidr": "10.8.1.0/24"}, Links: map[string][]string{"network": {network}}, Tags: map[string]string{"stack": "of-others", "node": "cellar"}}
}

func TestUndoOfAnInterruptedDeletionIsRefused(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(store.RunDone, "ridge-base.stack.yaml")
	b.fault(yard.Fault{On: "delete", Type: "Network", Reason: "held", Times: 1})
	p, err := b.WhatIfDelete(t.Context(), b.stack("ridge-base"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "hold"); r.State != store.RunStuck || !strings.Contains(r.Reason, "ridge_net: held") {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	if _, err := b.Resume(t.Context(), b.stack("ridge-base"), true); err == nil || !strings.Contains(err.Error(), "cannot be undone") {
		t.Errorf("%v", err)
	}
}

func TestAOneWayEditIsMadeLast(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(store.RunDone, "ridge-base.stack.yaml")
	b.deploy(store.RunDone, test)
	before := b.listing("")
	b.fault(yard.Fault{Name: "forecasters", Times: 1})
	b.deploy(store.RunUndone, test, "db_version=16", "forecasters=3", "readers=5")
	b.wantSame("a version that was to go up", b.listing(""), before)
	b.fault(yard.Fault{Name: "readings_db", Times: 1})
	b.deploy(store.RunUndone, test, "db_version=16", "forecasters=3", "readers=5")
	b.wantSame("a version that could not go up", b.listing(""), before)
}

func TestASecondFailureLeavesItStuckAndResumes(t *testing.T) {
	b := newBench(t, 5000)
	b.deploy(store.RunDone, "ridge-base.stack.yaml")
	empty := b.listing("")
	b.fault(yard.Fault{Name: "public_gate", Times: 1})
	b.fault(yard.Fault{Name: "valley_net", On: "delete", Times: 1, Reason: "will not go"})
	r := b.carry(b.preview(test), "undo")
	if r.State != store.RunStuck || !strings.Contains(r.Reason, "will not go") || b.stack("bulletin-test").State != store.Stuck {
		t.Fatalf("%s: %s", r.State, r.Reason)
	}
	ticket, err := b.Resume(t.Context(), b.stack("bulletin-test"), false)
	if err != nil {
		t.Fatal(err)
	}
	if r, err = b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != store.RunUndone {
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
	if _, err := Open(Options{Home: filepath.Join(t.TempDir(), "home"), CloudURL: "http://127.0.0.1:1"}); err == nil || !strings.Contains(err.Error(), "there are no credentials") {
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
	out, err := exec.Command("go", "list", "-deps", "brickrow/internal/app", "brickrow/internal/demo").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, dep := range strings.Fields(string(out)) {
		for _, banned := range []string{"charm.land/", "github.com/charmbracelet/", "github.com/spf13/", "github.com/alecthomas/chroma", "brickrow/internal/tui", "brickrow/internal/cli"} {
			if strings.HasPrefix(dep, banned) {
				t.Errorf("the core needs %s", dep)
			}
		}
	}
	for pkg, banned := range map[string]string{"tosca": "stack", "stack": "cloud", "whatif": "run", "run": "store", "cloud": "store", "yard": "app"} {
		out, err := exec.Command("go", "list", "-deps", "brickrow/internal/"+pkg).Output()
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(out), "brickrow/internal/"+banned+"\n") {
			t.Errorf("%s needs %s: imports run downward only", pkg, banned)
		}
	}
}
