package cli

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/internal/postgres/postgrestest"
)

// TestManyPrograms lets eight programs work on one store for a while: deployments, deletions, some of them through
// workers, all of them killed at random, and on a server the server too. In the end each stack can be brought to its
// end, what is recorded is what is there, and nothing is there twice. BRICKROW_LONG=10m says for how long.
func TestManyPrograms(t *testing.T) {
	length, err := time.ParseDuration(os.Getenv("BRICKROW_LONG"))
	if err != nil {
		t.Skip("BRICKROW_LONG=10m lets it take ten minutes")
	}
	t.Run("file", func(t *testing.T) { manyPrograms(t, length, nil) })
	t.Run("shared", func(t *testing.T) {
		s := postgrestest.Start(t)
		s.Stop()
		s.Durable = true
		s.Run(t)
		manyPrograms(t, length, s)
	})
}

func manyPrograms(t *testing.T, length time.Duration, s *postgrestest.Server) {
	store := ""
	if s != nil {
		store = s.Database(t, "stores")
	}
	m := newTeam(t, store, 40, 0)
	m.file("row.yaml", rowOf)
	const stacks = 4 // a target takes no more databases
	for i := range stacks {
		m.file(fmt.Sprintf("row%d.stack.yaml", i), fmt.Sprintf("template: row.yaml\nstack: row-%d\ntarget: workshop/alder-1\nthrowaway: true\n", i))
	}
	who := func(i int) string { return "ann" }
	if s != nil {
		who = func(i int) string { return []string{"ann", "ben"}[i%2] }
		m.run(0, "ann", "stacks")
		m.run(0, "ann", append([]string{"store", "members", "add", "ben"}, strings.Fields(m.run(0, "ben", "identity"))...)...)
	} else {
		m.run(0, "ann", "stacks")
	}
	until := time.Now().Add(length)
	var mu sync.Mutex
	counts := map[string]int{}
	note := func(what string) {
		mu.Lock()
		counts[what]++
		mu.Unlock()
	}
	var wait sync.WaitGroup
	for p := range 8 {
		wait.Go(func() {
			rnd := rand.New(rand.NewPCG(uint64(p), 7))
			for time.Now().Before(until) {
				stack := fmt.Sprint("row-", rnd.IntN(stacks))
				file := strings.Replace(stack, "-", "", 1) + ".stack.yaml"
				var args []string
				switch kind := rnd.IntN(10); {
				case p < 2:
					args = []string{"worker", "--name", fmt.Sprint("w", p), "--at-once", "3"}
				case kind < 4:
					args = []string{"deploy", file, "--yes", "-i", "size=" + []string{"small", "medium", "large"}[rnd.IntN(3)]}
				case kind < 6:
					args = []string{"deploy", file, "--yes", "--queue", "-i", "size=" + []string{"small", "medium"}[rnd.IntN(2)]}
				case kind < 7:
					args = []string{"delete", stack, "--yes"}
				case kind < 9:
					args = []string{"resume", stack}
				default:
					args = []string{"undo", stack, "--yes"}
				}
				cmd := m.command(who(p), args...)
				var out strings.Builder
				cmd.Stdout, cmd.Stderr = &out, &out
				if err := cmd.Start(); err != nil {
					t.Error(err)
					return
				}
				done := make(chan struct{})
				go func() { _ = cmd.Wait(); close(done) }()
				patience := time.Duration(200+rnd.IntN(3000)) * time.Millisecond
				if p < 2 {
					patience *= 4
				}
				select {
				case <-done:
					note("ended " + args[0])
					if strings.Contains(out.String(), "panic") || strings.Contains(out.String(), "hoarfrost") {
						t.Errorf("%v: %s", args, out.String())
					}
				case <-time.After(patience):
					_ = cmd.Process.Kill()
					<-done
					note("killed " + args[0])
				}
			}
		})
	}
	if s != nil {
		wait.Go(func() {
			rnd := rand.New(rand.NewPCG(99, 7))
			for time.Until(until) > 20*time.Second {
				time.Sleep(time.Duration(8+rnd.IntN(15)) * time.Second)
				s.Kill()
				time.Sleep(time.Duration(rnd.IntN(3000)) * time.Millisecond)
				s.Run(t)
				note("server killed")
			}
		})
	}
	wait.Wait()
	t.Log(counts)
	// All of it is brought to its end.
	for i := range stacks {
		stack := fmt.Sprint("row-", i)
		m.until(stack+" comes to its end", func() bool {
			for _, args := range [][]string{{"cancel", stack}, {"resume", stack}} {
				cmd := m.command("ann", args...)
				done := time.AfterFunc(60*time.Second, func() { _ = cmd.Process.Kill() })
				_ = cmd.Run()
				done.Stop()
			}
			out, _ := m.command("ann", "stacks", "--removed", "--json").CombinedOutput()
			if !strings.Contains(string(out), `"`+stack+`"`) {
				return true // it was never begun
			}
			cmd := m.command("ann", "deploy", fmt.Sprintf("row%d.stack.yaml", i), "--yes", "-i", "size=medium")
			text, err := cmd.CombinedOutput()
			if err != nil {
				t.Logf("%s: %s", stack, text[max(0, len(text)-300):])
			}
			return err == nil
		})
		if len(m.runs(stack)) == 0 {
			continue
		}
		m.run(0, "ann", "whatif", fmt.Sprintf("row%d.stack.yaml", i), "-i", "size=medium", "--expect-none")
		m.run(0, "ann", "drift", stack)
		if got := m.there(stack); len(got) != 6 {
			t.Errorf("%s: there is %v", stack, got)
		}
		for _, n := range m.there(stack) {
			if n != 1 {
				t.Errorf("%s: something is there %d times", stack, n)
			}
		}
	}
	if out := m.run(0, "ann", "store", "status"); !strings.Contains(out, "nobody holds a lock") {
		t.Error(out)
	}
	for i := range stacks {
		if stack := fmt.Sprint("row-", i); len(m.runs(stack)) > 0 {
			m.run(0, "ann", "delete", stack, "--yes")
		}
	}
	if n, twice := m.everywhere(); n != 0 || len(twice) > 0 {
		t.Errorf("%d resources are left", n)
	}
	if out, _ := exec.Command("grep", "-rl", "hoarfrost", m.dir+"/ann").Output(); len(out) > 0 {
		t.Errorf("a secret is in %s", out)
	}
}

// runs is what 'history' says of a stack; "" where there is none.
func (m *team) runs(stack string) string {
	out, err := m.command("ann", "history", stack).Output()
	if err != nil {
		return ""
	}
	return string(out)
}
