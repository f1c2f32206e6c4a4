package app

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// asks are the kinds of risks that have to be agreed to, with what they are about.
func (c Consent) asks() string {
	var out []string
	for _, r := range c.Risks {
		out = append(out, fmt.Sprint(r.Kind, " ", r.Resource))
	}
	return strings.TrimSpace(strings.Join(out, ", "))
}

// TestLosingDataIsAsked wants each verb by which data goes to ask for the same: the name, or --accept data.
func TestLosingDataIsAsked(t *testing.T) {
	long(t)
	t.Parallel()
	b := newShelf(t)
	want := func(what string, c Consent, asks string) {
		t.Helper()
		if got := c.asks(); got != asks || c.Word() != "terrace" && asks != "" {
			t.Errorf("%s asks for %q by the word %q, want %q", what, got, c.Word(), asks)
		}
		if err := c.Given(nil); (err == nil) != (asks == "") {
			t.Errorf("%s: a yes alone: %v", what, err)
		}
		if err := c.Given([]string{"data"}); err != nil {
			t.Errorf("%s: accepted: %v", what, err)
		}
	}
	// Types are known by what they are: under a namespace, and when what imported them is gone.
	spaced := strings.NewReplacer("{ profile: brickrow.cloud:1 }", "{ profile: brickrow.cloud:1, namespace: base }", "type: Network", "type: base:Network", "type: Subnet", "type: base:Subnet",
		"type: Database", "type: base:Database", "type: Disk", "type: base:Disk", "type: Topic", "type: base:Topic", "type: Backup", "type: base:Backup")
	b.write("shelf.yaml", spaced.Replace(shelfTemplate))
	if p := b.preview("shelf.stack.yaml"); !p.Empty() || p.Findings.HasErrors() {
		t.Fatalf("under a namespace it is another one: %v %v", p.Tally, p.Findings)
	}
	want("a swap under a namespace", b.preview("shelf.stack.yaml", "kind=fast").Consent(), "data disk")
	b.write("shelf.yaml", "tosca_definitions_version: tosca_2_0\nservice_template: { inputs: { admin: { type: string, default: keeper } } }\n")
	want("without the import", b.preview("shelf.stack.yaml").Consent(), "data db, data disk")
	b.write("shelf.yaml", shelfTemplate)
	del, err := b.WhatIfDelete(t.Context(), b.stack("terrace"))
	if err != nil {
		t.Fatal(err)
	}
	want("a deletion", del.Consent(), "data db, data disk")

	// A restore replaces what is there, and copies that first.
	b.actIn("terrace", run.StatusDone, "db", run.VerbBackup)
	backups, err := b.Backups(t.Context(), b.stack("terrace"))
	if err != nil || len(backups) == 0 {
		t.Fatal(err, backups)
	}
	b.fill("db", "what was written since")
	since := b.digest("db")
	acts, err := b.WhatIfAct(t.Context(), b.stack("terrace"), "db", run.VerbRestore, map[string]string{"backup": backups[0].ID})
	if err != nil {
		t.Fatal(err)
	}
	want("a restore", acts.Consent(), "data db")
	b.actIn("terrace", run.StatusDone, "db", run.VerbRestore, "backup", backups[0].ID)
	if b.digest("db") == since {
		t.Error("it was not restored")
	}
	if got := b.copies("db"); len(got) < 2 || got[0] != since {
		t.Errorf("what was there before is not in the last backup: %v, want %s", got, since)
	}
	throwaway := *acts
	throwaway.Stack = &stack.Stack{Name: "terrace", Throwaway: true}
	want("a restore of what may be thrown away", throwaway.Consent(), "")
	throwaway.careful = true
	want("and is careful all the same", throwaway.Consent(), "data db")

	// What a held run has made may have been used since.
	b.write("shelf.yaml", strings.Replace(shelfTemplate, "    last:", "    more: { type: Disk, properties: { size: 1 GiB, kind: plain } }\n    fails: { type: Topic, requirements: [] }\n    last:", 1))
	b.fault(yard.Fault{Name: "fails", Times: 1})
	if r := b.carry(b.preview("shelf.stack.yaml"), stack.Hold); r.State != run.StatusHeld {
		t.Fatal(r.State, r.Reason)
	}
	held, err := b.UndoConsent(t.Context(), b.stack("terrace"))
	if err != nil {
		t.Fatal(err)
	}
	want("undoing what is held", held, "data more")
}

// TestWhoseStackItIs deploys a stack from elsewhere than before, begins one under a name that is taken, and has two stores use one
// name: each is said, and nothing is done twice.
func TestWhoseStackItIs(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 5000)
	b.t, b.dir = t, t.TempDir()
	template := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { word: { type: string, default: a } }\n" +
		"  node_templates: { hut: { type: Topic, properties: { label: { $get_input: word } } } }\n"
	b.write("one/hut.yaml", template)
	b.write("one/hut.stack.yaml", "stack: hut\ntemplate: hut.yaml\ntarget: workshop/alder-1\n")
	git := func(dir string, args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=warden", "-c", "user.email=warden@hut.example"}, args...)...)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	b.deploy(run.StatusDone, "one/hut.stack.yaml")
	git(filepath.Join(b.dir, "one"), "init", "-q")
	git(filepath.Join(b.dir, "one"), "add", "-A")
	git(filepath.Join(b.dir, "one"), "commit", "-qm", "first")
	b.again(t, 5000) // what was read of the folder is known for as long as a process lasts
	if got := b.preview("one/hut.stack.yaml", "word=b").Consent().asks(); got != "" {
		t.Errorf("the same file, now in a repository, asks for %q", got)
	}
	b.deploy(run.StatusDone, "one/hut.stack.yaml", "word=b")
	git(b.dir, "clone", "-q", "one", "two") // another place, the same repository
	if got := b.preview("two/hut.stack.yaml", "word=c").Consent().asks(); got != "" {
		t.Errorf("a clone asks for %q", got)
	}
	if err := os.CopyFS(filepath.Join(b.dir, "three"), os.DirFS(filepath.Join(b.dir, "one"))); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(b.dir, "three", ".git")); err != nil {
		t.Fatal(err)
	}
	p := b.preview("three/hut.stack.yaml", "word=c")
	if p.Consent().asks() != "origin" || p.Consent().Given([]string{"data"}) == nil || p.Consent().Given([]string{"origin"}) != nil ||
		!strings.Contains(fmt.Sprint(p.Risks), "was so far deployed from hut.stack.yaml of the repository that began with") {
		t.Errorf("from elsewhere it asks for %q: %v", p.Consent().asks(), p.Risks)
	}
	if err := b.FreeName(t.Context(), "hut", "workshop/alder-1"); err == nil || !strings.Contains(err.Error(), "such as hut-2") {
		t.Errorf("a name that is taken: %v", err)
	}
	for _, at := range [][2]string{{"hut", "workshop/birch-1"}, {"hut-2", "workshop/alder-1"}} {
		if err := b.FreeName(t.Context(), at[0], at[1]); err != nil {
			t.Error(err)
		}
	}

	// Another store, in which nothing is known of the first one, with the same cloud.
	other, err := Open(Options{Home: filepath.Join(t.TempDir(), "other"), Store: InFile, Speed: 5000})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { other.Close() })
	mux, err := other.clouds(b.client)
	if err != nil {
		t.Fatal(err)
	}
	other.Cloud = mux
	d, err := other.Load(t.Context(), filepath.Join(b.dir, "one/hut.stack.yaml"), Values{})
	if err != nil {
		t.Fatal(err)
	}
	q, err := other.WhatIf(t.Context(), d)
	if err != nil || !strings.Contains(findingCodes(q), "other-store") || !q.Findings.HasErrors() {
		t.Fatalf("the name is that of a stack in another store: %v %v", err, q.Findings)
	}
	// A stack of that name that was there before: its deletion leaves what is the other's.
	o, err := b.Cloud.Create(t.Context(), workshop, "by-hand", cloud.Request{Type: "Topic", Tags: map[string]string{"stack": "shed", "node": "hut", "store": "0123456789ab"}})
	if err != nil {
		t.Fatal(err)
	}
	b.write("one/shed.stack.yaml", "stack: shed\ntemplate: hut.yaml\ntarget: workshop/birch-1\n")
	b.deploy(run.StatusDone, "one/shed.stack.yaml")
	del, err := b.WhatIfDelete(t.Context(), b.stack("shed"))
	if err != nil || del.Tally.Drop != 1 {
		t.Errorf("%v %v", err, del.Tally)
	}
	if _, err := b.Cloud.Get(t.Context(), cloud.Ref{Target: workshop, Type: "Topic", ID: o.ResourceID}); err != nil {
		t.Error(err)
	}
}
