package app

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/yard"
)

// TestRandomChangesAndFaults deploys random changes, some with a fault, and
// wants of each run that it is done and nothing is left to do, or that it is
// undone and everything is as before.
func TestRandomChangesAndFaults(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 20000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	rnd := rand.New(rand.NewPCG(7, 11))
	pick := func(list ...string) string { return list[rnd.IntN(len(list))] }
	ended := map[run.Status]int{}
	for round := range 30 {
		flags := []string{
			fmt.Sprint("readers=", rnd.IntN(5)), fmt.Sprint("forecasters=", 1+rnd.IntN(5)),
			"image=" + pick("fern-11", "fern-12", "fern-13"), "db_size=" + pick("small", "medium", "large"),
			"db_version=" + pick("14", "15", "15.4", "16"), "db_storage=" + pick("20 GiB", "30 GiB", "40 GiB"),
			"oncall_token=" + pick("token-one", "token-two"), "domain=" + pick("kestrelridge.example", "other.example"),
		}
		p := b.preview(test, flags...)
		if p.Empty() {
			continue
		}
		if p.Findings.HasErrors() {
			t.Fatalf("round %d, %v: %v", round, flags, p.Findings)
		}
		before := b.listing("")
		if rnd.IntN(2) == 0 {
			var touched []string
			for _, ch := range p.Changes {
				if ch.Kind == "new" || ch.Kind == "edit" || ch.Kind == "swap" {
					touched = append(touched, ch.Name)
				}
			}
			if len(touched) == 0 {
				continue
			}
			b.fault(yard.Fault{Name: pick(touched...), Times: 1, At: pick("", "call", "last"),
				Mode: pick("fail", "fail", "busy", "lose")})
		}
		r := b.carry(p, "undo")
		b.clearFaults()
		ended[r.State]++
		switch r.State {
		case run.StatusDone:
			if left := b.preview(test, flags...); !left.Empty() {
				t.Fatalf("round %d, %v: %s is left to do", round, flags, left.Tally)
			}
			b.wantOnce(b.preview(test, flags...))
		case run.StatusUndone:
			b.wantSame(fmt.Sprintf("round %d, %v, undone after %s", round, flags, r.Reason), b.listing(""), before)
		default:
			t.Fatalf("round %d, %v: %s: %s", round, flags, r.State, r.Reason)
		}
	}
	if ended[run.StatusDone] < 5 || ended[run.StatusUndone] < 3 {
		t.Errorf("the rounds ended %v: too much alike", ended)
	}
}

// TestRandomKills ends runs at random moments, and goes on or undoes.
func TestRandomKills(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 2000)
	b.deploy(run.StatusDone, "ridge-base.stack.yaml")
	b.deploy(run.StatusDone, test)
	rnd := rand.New(rand.NewPCG(3, 5))
	pick := func(list ...string) string { return list[rnd.IntN(len(list))] }
	killed := 0
	for round := range 20 {
		flags := []string{
			fmt.Sprint("readers=", rnd.IntN(5)), fmt.Sprint("forecasters=", 1+rnd.IntN(5)), "image=" + pick("fern-11",
				"fern-12", "fern-13"),
			"db_size=" + pick("small", "medium", "large"), "oncall_token=" + pick("token-one", "token-two"),
			"domain=" + pick("kestrelridge.example", "other.example"),
		}
		p := b.preview(test, flags...)
		if p.Empty() {
			continue
		}
		before := b.listing("")
		ticket, err := b.Prepare(t.Context(), p, "undo")
		if err != nil {
			t.Fatal(err)
		}
		ctx, kill := context.WithTimeout(t.Context(), time.Duration(1+rnd.IntN(60))*time.Millisecond)
		_, err = b.Execute(ctx, ticket.Run.ID, ticket.Token)
		kill()
		way := []Way{On, Back}[rnd.IntN(2)]
		if err != nil {
			killed++
			if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil {
				t.Fatal(err)
			}
			if ticket, err = b.Resume(t.Context(), b.stack("bulletin-test"), way); err != nil {
				way = On // it has gone too far
				if ticket, err = b.Resume(t.Context(), b.stack("bulletin-test"), On); err != nil {
					t.Fatal(err)
				}
			}
			r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
			if err != nil || way == Back && r.State != run.StatusUndone || way == On && r.State != run.StatusDone {
				t.Fatalf("round %d, %v: %v %s: %s", round, flags, err, r.State, r.Reason)
			}
			if way == Back {
				b.wantSame(fmt.Sprintf("round %d, %v", round, flags), b.listing(""), before)
				continue
			}
		}
		b.wantOnce(b.preview(test, flags...))
	}
	if killed < 5 {
		t.Errorf("only %d runs were killed", killed)
	}
}
