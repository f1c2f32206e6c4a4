package app

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// only is the what-if of some resources alone.
func (b *bench) only(file string, flags []string, names ...string) (*Preview, error) {
	b.t.Helper()
	d, err := b.Load(b.t.Context(), filepath.Join(b.dir, file), Values{Flags: flags})
	if err != nil {
		b.t.Fatal(err)
	}
	return b.WhatIf(b.t.Context(), d, names...)
}

// doesWithout is what a preview would do, and what it leaves out, sorted.
func doesWithout(p *Preview) string {
	var does, leaves []string
	for _, ch := range p.Changes {
		if ch.Kind != whatif.Same {
			does = append(does, string(ch.Kind)+" "+ch.Name)
		}
	}
	for _, l := range p.LeftOut {
		leaves = append(leaves, string(l.Kind)+" "+l.Name)
	}
	slices.Sort(does)
	slices.Sort(leaves)
	return strings.Join(does, ", ") + " without " + strings.Join(leaves, ", ")
}

// Only some resources are deployed, with all that they need and what could not stay as it
// is beside them; the rest is left for later, and said so.
func TestDeployingOnlySome(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.terrace(terrace)
	file := "terrace.stack.yaml"
	b.write(file, "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	form2 := []string{"form=2"}
	for _, test := range []struct {
		names []string
		want  string
	}{
		{[]string{"note"}, "new note without new box, new gate, new gone#0, new hat, new may, new net, new post, new soft, new sub"},
		{[]string{"may"}, "new box, new hat, new may without new gate, new gone#0, new net, new note, new post, new soft, new sub"},
		{[]string{"post", "note"}, "new gate, new net, new note, new post, new sub without new box, new gone#0, new hat, new may, new soft"},
		{[]string{"gone"}, "new gone#0 without new box, new gate, new hat, new may, new net, new note, new post, new soft, new sub"},
		{[]string{"*"}, "new box, new gate, new gone#0, new hat, new may, new net, new note, new post, new soft, new sub without "},
	} {
		p, err := b.only(file, nil, test.names...)
		if err != nil || doesWithout(p) != test.want {
			t.Errorf("only %v: %v %s", test.names, err, doesWithout(p))
		}
	}
	if _, err := b.only(file, nil, "pst"); err == nil || !strings.Contains(err.Error(), "has no resource pst; did you mean 'post'?") {
		t.Errorf("%v", err)
	}

	// In parts it becomes the same as at once.
	for _, names := range [][]string{{"note"}, {"may"}, {"post"}} {
		p, err := b.only(file, nil, names...)
		if err != nil {
			t.Fatal(err)
		}
		r := b.carry(p, stack.Undo)
		if st := b.stack("terrace"); r.State != run.StatusDone || st.State != stack.Partial || !slices.Equal(r.Only, names) {
			t.Fatalf("%s %s, the stack is %s", r.State, r.Reason, st.State)
		}
		b.wantRecordIsLive("terrace")
	}
	p := b.preview(file)
	if got := doesWithout(p); got != "new gone#0, new soft without " {
		t.Errorf("then there is left: %s", got)
	}
	b.carry(p, stack.Undo)
	if st := b.stack("terrace"); st.State != stack.Ready {
		t.Errorf("the stack is %s", st.State)
	}

	// What a swap takes with it comes too.
	p, err := b.only(file, form2, "net")
	if err != nil {
		t.Fatal(err)
	}
	if got := doesWithout(p); got != "swap gate, swap net, swap post, swap soft, swap sub without drop gone#0, edit hat, edit may, edit note, new more#0, swap box" {
		t.Errorf("only net: %s", got)
	}
	if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	b.wantRecordIsLive("terrace")
	p, _ = b.only(file, form2, "note")
	if len(p.Changes) == 0 || p.Tally.Edit != 1 || !strings.Contains(fmt.Sprint(p.Change("note").Because), "left it out") {
		t.Errorf("%s because %v", doesWithout(p), p.Change("note").Because)
	}

	// A failure is undone to what was there, in parts too.
	before := b.listing("terrace")
	b.fault(yard.Fault{Name: "note", Times: 1})
	if r := b.carry(p, stack.Undo); r.State != run.StatusUndone || b.listing("terrace") != before {
		t.Errorf("%s %s", r.State, r.Reason)
	}
	back, err := b.WhatIfUndo(t.Context(), b.stack("terrace"), 0)
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(back, stack.Undo); r.State != run.StatusDone || b.stack("terrace").State != stack.Ready {
		t.Errorf("going back: %s %s", r.State, r.Reason)
	}
	if p := b.preview(file); !p.Empty() {
		t.Errorf("after going back: %s", doesWithout(p))
	}
}

// Each resource alone, over random ones: what is chosen comes into being, and nothing that
// was left out changes.
func TestOnlyEachOfThem(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 5000)
	b.terrace(terrace)
	file := "terrace.stack.yaml"
	b.write(file, "stack: terrace\ntemplate: terrace.yaml\ntarget: workshop/cedar-2\n")
	for _, name := range []string{"net", "sub", "gate", "post", "box", "hat", "may", "note", "gone", "more"} {
		b.deploy(run.StatusDone, file)
		p, err := b.only(file, []string{"form=2"}, name)
		if err != nil {
			t.Fatal(err)
		}
		untouched := map[string]string{}
		for name, tag := range b.etags("terrace") {
			untouched[name] = tag
		}
		for _, ch := range p.Changes {
			if ch.Kind != whatif.Same && ch.Recorded != nil {
				delete(untouched, ch.Name)
			}
		}
		if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
			t.Fatalf("only %s: %s %s", name, r.State, r.Reason)
		}
		now := b.etags("terrace")
		for other, tag := range untouched {
			if now[other] != tag {
				t.Errorf("only %s: %s was left out, and is not as it was", name, other)
			}
		}
		b.wantRecordIsLive("terrace")
		again, err := b.only(file, []string{"form=2"}, name)
		if err != nil || !again.Empty() {
			t.Errorf("only %s again: %v %s", name, err, doesWithout(again))
		}
		if r := b.carry(b.preview(file, "form=2"), stack.Undo); r.State != run.StatusDone {
			t.Fatalf("the rest after %s: %s %s", name, r.State, r.Reason)
		}
		if p := b.preview(file, "form=2"); !p.Empty() {
			t.Errorf("after %s and the rest: %s", name, doesWithout(p))
		}
		gone, err := b.WhatIfDelete(t.Context(), b.stack("terrace"))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(gone, stack.Undo); r.State != run.StatusDone || b.listing("terrace") != "[]" {
			t.Fatalf("%s %s", r.State, r.Reason)
		}
	}
}
