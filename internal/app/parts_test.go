package app

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/assist"
	"brickrow/internal/run"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// apart moves a node to a file of its own, as the help offers it; ok is false where it
// does not.
func (b *bench) apart(template, node string, flags ...string) (assist.Refactoring, bool) {
	b.t.Helper()
	path := filepath.Join(b.dir, template)
	w := b.Assist(b.t.Context())
	d, err := b.Load(b.t.Context(), path, Values{Flags: flags})
	if err != nil {
		b.t.Fatal(err)
	}
	w.Recorded = func(name, target string) []string { return b.App.recordedNames(b.t.Context(), name+"@"+target) }
	w.Set(path, assist.NewText(d.Text))
	w.Read(path, d.File, d.Wanted)
	for _, s := range w.Symbols(path) {
		if s.Section != "node_templates" || s.Name != node {
			continue
		}
		for _, r := range w.Refactorings(path, s.At) {
			if strings.HasPrefix(r.Title, "move ") {
				for p, edits := range r.Edits {
					if err := os.WriteFile(p, []byte(w.Text(p).ApplyAll(edits).String()), 0o600); err != nil {
						b.t.Fatal(err)
					}
				}
				for p, text := range r.Files {
					if err := os.WriteFile(p, []byte(text), 0o600); err != nil {
						b.t.Fatal(err)
					}
				}
				return r, true
			}
		}
	}
	return assist.Refactoring{}, false
}

// untouched tells what a what-if would do beside giving other names; "" is nothing.
func untouched(p *Preview) string {
	var out []string
	for _, f := range p.Findings {
		if f.Severity != tosca.Hint {
			out = append(out, f.String())
		}
	}
	for _, ch := range p.Changes {
		if ch.Kind == whatif.Same || ch.Kind == whatif.Edit && len(ch.Properties) == 1 && ch.Properties[0].Path == "node" {
			continue
		}
		out = append(out, ch.Name+" "+string(ch.Kind)+": "+strings.Join(ch.Because, "; "))
	}
	return strings.Join(out, "\n")
}

// A node of any starter moves to a file of its own with what needs it, and nothing that
// is deployed changes but its name.
func TestMovedToAFileOfItsOwn(t *testing.T) {
	long(t)
	list, err := Starters()
	if err != nil {
		t.Fatal(err)
	}
	type place struct {
		name, file, template string
		flags                []string
	}
	places := []place{{"bulletin", test, "bulletin.yaml", nil}}
	for _, s := range list[:len(list)-1] {
		places = append(places, place{s.Name, s.Name + ".stack.yaml", s.Name + ".yaml", starters[s.Name].fill})
	}
	for _, s := range places {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, 100_000)
			if s.name == "bulletin" {
				b.deploy(run.StatusDone, "ridge-base.stack.yaml")
			} else {
				dir := filepath.Join(t.TempDir(), "new")
				if _, err := NewStack(s.name, dir, s.name, "workshop/alder-1"); err != nil {
					t.Fatal(err)
				}
				b.dir = dir
			}
			b.deploy(run.StatusDone, s.file, s.flags...)
			text := readText(t, filepath.Join(b.dir, s.template))
			d, err := b.Load(t.Context(), filepath.Join(b.dir, s.template), Values{})
			if err != nil {
				t.Fatal(err)
			}
			var moved, stay []string
			for _, n := range d.File.Service.Nodes {
				r, ok := b.apart(s.template, n.Name)
				if !ok {
					stay = append(stay, n.Name)
					continue
				}
				moved = append(moved, n.Name)
				after := readText(t, filepath.Join(b.dir, s.template))
				if bad := untouched(b.preview(s.file, s.flags...)); bad != "" {
					t.Errorf("%s:\n%s\n%s", r.Title, bad, after)
					for p, text := range r.Files {
						t.Logf("%s:\n%s", p, text)
					}
				}
				for p := range r.Files {
					if _, changed, found := Format(p, []byte(readText(t, p))); changed || len(found) > 0 {
						t.Errorf("%s is not in its form: %v", filepath.Base(p), found)
					}
					if err := os.Remove(p); err != nil {
						t.Fatal(err)
					}
				}
				b.write(s.template, text)
			}
			if len(moved) < len(stay) {
				t.Errorf("of the nodes %v can move, and %v cannot", moved, stay)
			}
		})
	}
}

// What was moved is deployed, and undone: the resources are those that were there.
func TestMovedAndDeployed(t *testing.T) {
	long(t)
	b := newBench(t, 100_000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	ids := func() string {
		var out []string
		for _, n := range b.nodesInCloud("bulletin-test") {
			_, id, _ := strings.Cut(n, "=")
			out = append(out, id)
		}
		slices.Sort(out)
		return strings.Join(out, " ")
	}
	if got := b.Assist(t.Context()).Results("workshop/alder-1")["ridge-base"]; !slices.Contains(got, "domain") {
		t.Errorf("the results of ridge-base are offered as %v", got)
	}
	was, everything := ids(), b.listing("bulletin-test")
	for _, node := range []string{"readings_db", "hut_alerts"} { // one behind the other
		if _, ok := b.apart("bulletin.yaml", node); !ok {
			t.Fatalf("%s cannot move", node)
		}
		b.deploy(run.StatusDone, test)
		if ids() != was {
			t.Fatalf("other resources are there after %s moved", node)
		}
		b.wantAllRecorded("bulletin-test", "after "+node+" moved")
		if p := b.preview(test); !p.Empty() {
			t.Errorf("%s", kinds(p))
		}
	}
	p, err := b.WhatIfUndo(t.Context(), b.stack("bulletin-test"), 1)
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone || ids() != was || b.listing("bulletin-test") != everything {
		t.Errorf("%s %s\n%s\nwant\n%s", r.State, r.Reason, b.listing("bulletin-test"), everything)
	}
	if _, ok := b.apart("bulletin.yaml", "valley_net"); ok { // what is left needs it, all of it but a few
		if bad := untouched(b.preview(test)); bad != "" {
			t.Error(bad)
		}
	}
}
