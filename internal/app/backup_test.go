package app

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
	"brickrow/internal/yard"
)

// shelfTemplate is a stack of things that hold data: a database whose new one is filled, a disk that
// is only copied, and something that uses them.
const shelfTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { admin: { type: string, default: keeper }, version: { type: string, default: "15" }, kind: { type: string, default: plain }, keep: { type: string, default: 1 d } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    sub2: { type: Subnet, properties: { cidr: 10.0.2.0/24 }, requirements: [ { network: net } ] }
    db:
      type: Database
      properties: { engine: relational, version: { $get_input: version }, size: small, storage: 20 GiB, admin: { $get_input: admin }, password: paper-and-ink-77 }
      requirements: [ { subnet: sub }, { subnet: sub2 } ]
    disk: { type: Disk, properties: { size: 10 GiB, kind: { $get_input: kind } } }
    last: { type: Topic, properties: { label: { $concat: [ { $get_attribute: [ db, id ] }, { $get_attribute: [ disk, id ] } ] }, tags: { keep: { $get_input: keep } } } }
  policies:
    - copies: { type: Backup, targets: [ db ], properties: { restore: true, keep: 2 } }
    - plain: { type: Backup, targets: [ disk ] }
`

const words, stones = "all that was ever written", "stones"

func newShelf(t *testing.T) *bench {
	b := newBench(t, 5000)
	b.t = t
	b.write("shelf.yaml", shelfTemplate)
	b.write("shelf.stack.yaml", "stack: terrace\ntemplate: shelf.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "shelf.stack.yaml")
	b.fill("db", words)
	b.fill("disk", stones)
	return b
}

func (b *bench) fill(node, contents string) {
	b.t.Helper()
	if err := b.Door.Fill(b.t.Context(), yard.Filling{Stack: "terrace", Node: node, Contents: contents}); err != nil {
		b.t.Fatal(err)
	}
}

// digest is that of what the resource holds that is recorded under a name.
func (b *bench) digest(node string) string {
	b.t.Helper()
	current, _, err := b.store.Recorded(b.t.Context(), b.stack("terrace").ID)
	if err != nil {
		b.t.Fatal(err)
	}
	live, err := b.Cloud.List(b.t.Context(), b.stack("terrace").Target, "terrace")
	if err != nil {
		b.t.Fatal(err)
	}
	for _, r := range current {
		for _, l := range live {
			if r.Name == node && l.ID == r.ID {
				return fmt.Sprint(l.Attributes["contents_digest"])
			}
		}
	}
	return "none"
}

// copies are the digests of the backups of a resource, the newest first.
func (b *bench) copies(node string) (out []string) {
	b.t.Helper()
	list, err := b.Backups(b.t.Context(), b.stack("terrace"))
	if err != nil {
		b.t.Fatal(err)
	}
	for _, c := range list {
		if c.Node == node {
			out = append(out, c.Digest)
		}
	}
	return out
}

// A backup is taken before something goes; with restore the new one holds the same before
// anything uses it; so many are kept as the policy says, also when the stack is gone.
func TestBackups(t *testing.T) {
	long(t)
	b := newShelf(t)
	full, disk := b.digest("db"), b.digest("disk")
	if full == disk || full == "none" {
		t.Fatalf("the digests are %s and %s", full, disk)
	}
	p := b.preview("shelf.stack.yaml", "admin=warden", "kind=fast")
	risks := ""
	for _, r := range p.Risks {
		risks += r.Text + "; " + r.Fix + "\n"
	}
	b.has(risks, "db is swapped, and filled from a backup; what is written meanwhile is not in the new one",
		"disk is swapped; what it holds does not move by itself, and a backup is taken before it goes; the last 3 are kept",
		"write restore: true into the policy Backup")
	without := p.Estimate.Seconds
	b.carry(p, stack.Undo)
	if got := b.digest("db"); got != full {
		t.Errorf("the new database holds %s, the old one held %s", got, full)
	}
	if got := b.digest("disk"); got == disk {
		t.Error("the new disk is filled, though nobody asked for it")
	}
	if got := fmt.Sprint(b.copies("db"), b.copies("disk")); got != fmt.Sprint([]string{full}, []string{disk}) {
		t.Errorf("the backups are %s", got)
	}
	if p := b.preview("shelf.stack.yaml", "admin=warden", "kind=fast"); !p.Empty() {
		t.Errorf("then there is left %s", doesWithout(p))
	}
	for i, admin := range []string{"keeper", "ranger", "porter"} {
		b.fill("db", fmt.Sprint(words, i))
		full = b.digest("db")
		b.deploy(run.StatusDone, "shelf.stack.yaml", "kind=fast", "admin="+admin)
	}
	if got := b.copies("db"); len(got) != 2 || got[0] != full || b.digest("db") != full {
		t.Errorf("the backups are %s, it holds %s", got, b.digest("db"))
	}
	gone, err := b.WhatIfDelete(t.Context(), b.stack("terrace"))
	if err != nil {
		t.Fatal(err)
	}
	if d := gone.Change("db"); d.BacksUp() != 2 || gone.DataLost() == nil {
		t.Errorf("%d are kept, and is lost: %v", d.BacksUp(), gone.DataLost())
	}
	b.fill("db", "the last words")
	full = b.digest("db")
	if r := b.carry(gone, stack.Undo); r.State != run.StatusDone {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	if got := b.copies("db"); len(got) != 2 || got[0] != full {
		t.Errorf("when it is gone the backups are %s, it held %s", got, full)
	}
	if without <= 0 {
		t.Error("it takes no time")
	}
}

// The time of copying and filling is in the estimate.
func TestCopyingTakesTime(t *testing.T) {
	long(t)
	b := newShelf(t)
	with := b.preview("shelf.stack.yaml", "admin=warden").Estimate.Seconds
	text, _, _ := strings.Cut(shelfTemplate, "  policies:")
	b.write("shelf.yaml", text)
	b.deploy(run.StatusDone, "shelf.stack.yaml")
	p := b.preview("shelf.stack.yaml", "admin=warden")
	if without := p.Estimate.Seconds; with <= without {
		t.Errorf("it takes %g s with backups, and %g s without", with, without)
	}
	b.has(p.Risks[0].Text+p.Risks[0].Fix, "what it holds does not move by itself and goes with the old one", "the policy Backup")
}

// A policy Backup on what holds nothing is a finding, and so is a number of none.
func TestBackupsOfWhat(t *testing.T) {
	long(t)
	b := newBench(t, 5000)
	b.t = t
	b.write("shelf.stack.yaml", "stack: terrace\ntemplate: shelf.yaml\ntarget: workshop/alder-1\n")
	for _, c := range [][3]string{{"targets: [ disk ]", "targets: [ net ]", "net holds nothing that the policy plain could back up"},
		{"keep: 2", "keep: 0", "keep of the policy copies"}} {
		b.write("shelf.yaml", strings.Replace(shelfTemplate, c[0], c[1], 1))
		if got := fmt.Sprint(b.preview("shelf.stack.yaml").Findings); !strings.Contains(got, c[2]) {
			t.Errorf("%s: %s", c[1], got)
		}
	}
	b.write("gauges.yaml", gaugesTemplate+"  policies: [ copies: { type: Backup, targets: [ db ] } ]\n")
	b.write("gauges.stack.yaml", "stack: gauges\ntemplate: gauges.yaml\ntarget: workshop/alder-1\ninputs: { port: 5432, word: a-word }\n")
	if fs := b.preview("gauges.stack.yaml").Findings; len(fs) != 2 || fs[1].Code != "no-backups" || fs[1].Pos.Line != 22 {
		t.Errorf("a database of a server elsewhere: %v", fs)
	}
}

// A fault in it, and a kill at every moment: it ends as without that, nothing that was held
// is lost, and no backup is there twice, or of what was undone.
func TestKilledWhileCopying(t *testing.T) {
	long(t)
	for _, peril := range []struct {
		name      string
		faults    []yard.Fault
		flags     []string
		dropFirst bool
		gone      bool
	}{
		{"a swap", nil, []string{"admin=warden"}, false, false},
		{"a swap of what is only copied", nil, []string{"kind=fast"}, false, false},
		{"copying fails", []yard.Fault{{Name: "db", On: "backup", Times: 1}}, []string{"admin=warden"}, false, false},
		{"copying is refused", []yard.Fault{{Name: "db", On: "backup", At: "call", Times: 1}}, []string{"admin=warden"}, false, false},
		{"filling fails", []yard.Fault{{Name: "db", On: "restore", Times: 1}}, []string{"admin=warden"}, false, false},
		{"an answer is lost", []yard.Fault{{Name: "db", On: "backup", Mode: "lose", Times: 1}, {Name: "last", Times: 1}},
			[]string{"admin=warden", "keep=2 d"}, false, false},
		{"what comes after fails", []yard.Fault{{Name: "last", Times: 1}}, []string{"admin=warden", "keep=2 d"}, false, false},
		{"copying fails at the end", []yard.Fault{{Name: "disk", On: "backup", Times: 1}}, []string{"kind=fast"}, false, false},
		{"the old one goes first", []yard.Fault{{Name: "last", Times: 1}}, []string{"admin=warden", "keep=2 d"}, true, false},
		{"and cannot be filled again at once", []yard.Fault{{Name: "last", Times: 1}, {Name: "disk", On: "restore", Times: 1}},
			[]string{"kind=fast", "keep=2 d"}, true, false},
		{"what cannot be put back", []yard.Fault{{Name: "db", On: "update", Times: 1}}, []string{"version=16"}, false, false},
		{"all of it goes", []yard.Fault{{Name: "db", On: "backup", Times: 1}, {Name: "disk", On: "delete", Times: 1}}, nil, false, true},
	} {
		t.Run(strings.ReplaceAll(peril.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			b := newShelf(t)
			full, disk := b.digest("db"), b.digest("disk")
			for n := int64(0); ; n = later(n) {
				before, copies := b.idless("terrace"), fmt.Sprint(b.copies("db"), b.copies("disk"))
				for _, f := range peril.faults {
					b.fault(f)
				}
				p, err := b.preview("shelf.stack.yaml", peril.flags...), error(nil)
				if peril.gone {
					if p, err = b.WhatIfDelete(t.Context(), b.stack("terrace")); err != nil {
						t.Fatal(err)
					}
				}
				for i := range p.Changes {
					p.Changes[i].DropFirst = peril.dropFirst && p.Changes[i].Kind == whatif.Swap
				}
				ticket, err := b.Prepare(t.Context(), p, stack.Undo)
				if err != nil {
					t.Fatal(err)
				}
				var deaths []int64
				if n > 0 {
					deaths = []int64{n}
				}
				r, moments := b.ends(t, ticket, deaths...)
				for range 3 {
					if r.State != run.StatusStuck {
						break
					}
					again, err := b.Resume(t.Context(), b.stack("terrace"), On)
					if err != nil {
						t.Fatal(err)
					}
					if r, err = b.Execute(t.Context(), again.Run.ID, again.Token); err != nil {
						t.Fatal(err)
					}
				}
				b.clearFaults()
				what := fmt.Sprintf("killed at %d, %s", n, r.State)
				switch {
				case r.State == run.StatusUndone:
					if got := b.idless("terrace"); got != before {
						t.Fatalf("%s: before:\n%s\nafter:\n%s", what, before, got)
					}
					if got := fmt.Sprint(b.copies("db"), b.copies("disk")); got != copies {
						t.Fatalf("%s: backups before: %s, after: %s", what, copies, got)
					}
					if b.digest("db") != full || b.digest("disk") != disk {
						t.Fatalf("%s: they hold %s and %s, and not %s and %s", what, b.digest("db"), b.digest("disk"), full, disk)
					}
				case r.State != run.StatusDone:
					t.Fatalf("%s: %s", what, r.Reason)
				case peril.gone:
					if b.copies("db")[0] != full || b.copies("disk")[0] != disk || len(b.copies("db")) > 2 || len(b.copies("disk")) > 3 {
						t.Fatalf("%s: the backups are %s %s", what, b.copies("db"), b.copies("disk"))
					}
					b.deploy(run.StatusDone, "shelf.stack.yaml")
					b.fill("db", words)
				case b.digest("db") != full:
					t.Fatalf("%s: it holds %s, and not %s", what, b.digest("db"), full)
				case b.digest("disk") != disk && b.copies("disk")[0] != disk:
					t.Fatalf("%s: the backup of the disk is %s, and not %s", what, b.copies("disk")[0], disk)
				case len(b.copies("db")) > 2 || len(b.copies("disk")) > 3:
					t.Fatalf("%s: the backups are %s %s", what, b.copies("db"), b.copies("disk"))
				}
				b.wantRecordIs("terrace")
				if p := b.preview("shelf.stack.yaml"); !p.Empty() {
					b.carry(p, stack.Undo)
				}
				if p := b.preview("shelf.stack.yaml"); !p.Empty() {
					t.Fatalf("%s: there is left %s", what, doesWithout(p))
				}
				b.fill("disk", stones)
				if n > moments {
					break
				}
			}
		})
	}
}

// What a bucket or a queue holds is told before it goes: the cloud does not remove a bucket
// with it, unless the bucket says so, and messages are lost with their queue.
func TestWhatThingsHoldIsToldBefore(t *testing.T) {
	long(t)
	const template = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { name: { type: string, default: terrace-box } }
  node_templates:
    box: { type: Bucket, properties: { name: { $get_input: name } } }
    line: { type: Queue }
`
	b := newBench(t, 5000)
	b.t = t
	b.write("box.yaml", template)
	b.write("box.stack.yaml", "stack: terrace\ntemplate: box.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "box.stack.yaml")
	b.fill("box", "a frame")
	b.fill("line", "one")
	b.fill("line", "two")
	if p := b.preview("box.stack.yaml"); !p.Empty() || p.Findings.HasErrors() {
		t.Errorf("what is held is a change: %s %v", doesWithout(p), p.Findings)
	}
	gone := func() *Preview {
		p, err := b.WhatIfDelete(t.Context(), b.stack("terrace"))
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	for _, p := range []*Preview{gone(), b.preview("box.stack.yaml", "name=terrace-chest")} {
		b.has(fmt.Sprint(p.Findings), "box holds 1 object: the cloud does not remove it with them")
		if _, err := b.Prepare(t.Context(), p, stack.Undo); err == nil {
			t.Error("it is done all the same")
		}
	}
	b.write("box.yaml", strings.Replace(template, "{ $get_input: name } }", "{ $get_input: name }, empties: true }", 1))
	b.deploy(run.StatusDone, "box.stack.yaml")
	p := gone()
	risks := ""
	for _, r := range p.DataLost() {
		risks += r.Text + "\n"
	}
	b.has(risks, "box is removed with 1 object", "line is removed with 2 messages")
	if r := b.carry(p, stack.Undo); r.State != run.StatusDone {
		t.Errorf("%s %s", r.State, r.Reason)
	}
	if got := b.listing("terrace"); got != "" && got != "[]" {
		t.Errorf("there is left %s", got)
	}
}

// forgetful is a cloud that says that it has filled something, and has not.
type forgetful struct{ *cloud.Mux }

func (forgetful) Restore(context.Context, cloud.Ref, string, string) (cloud.Operation, error) {
	return cloud.NoWork, nil
}

// That the new one holds what the old one held is not believed but looked at.
func TestFillingIsLookedAt(t *testing.T) {
	long(t)
	b := newShelf(t)
	full := b.digest("db")
	b.Cloud = forgetful{b.Cloud.(*cloud.Mux)}
	r := b.deploy(run.StatusUndone, "shelf.stack.yaml", "admin=warden")
	b.has(r.Reason, "it does not hold what the backup holds")
	if got := b.digest("db"); got != full || len(b.copies("db")) != 0 {
		t.Errorf("it holds %s, and not %s; the backups are %v", got, full, b.copies("db"))
	}
}

// Who may remove and not change cannot back up: it is told before.
func TestCopyingTakesPermission(t *testing.T) {
	long(t)
	b := newShelf(t)
	if err := b.Door.Permit(t.Context(), yard.Permission{Account: "workshop", Actions: []string{"*:create", "*:remove", "topic:*"}}); err != nil {
		t.Fatal(err)
	}
	b.has(fmt.Sprint(b.preview("shelf.stack.yaml", "kind=fast").Findings), "disk: the credentials of workshop lack disk:change")
}
