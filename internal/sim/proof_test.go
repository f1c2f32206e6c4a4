package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

var (
	proofFlag = flag.Bool("proof", false, "build the program with each known mistake, and want it found")
	onlyFlag  = flag.String("mistake", "", "those mistakes alone whose names this regular expression fits")
	keepTo    = flag.String("keep-to", "", "a folder into which the future is written by which each mistake was found")
)

// within is in how many futures a mistake has to be found.
const within = 2000

// mistake is a change of one place of the program that makes it wrong.
type mistake struct{ name, file, old, new string }

// mistakes are those that the simulation has to find.
var mistakes = []mistake{
	{"a key without the attempt", "run/operation.go", `return fmt.Sprintf("%s/%s/%d", run, step, attempt)`, `return fmt.Sprintf("%s/%s", run, step)`},
	{"a key without the run", "run/operation.go", `return fmt.Sprintf("%s/%s/%d", run, step, attempt)`, `return fmt.Sprintf("%s/%d", step, attempt)`},
	{"a key without the step", "run/operation.go", `return fmt.Sprintf("%s/%s/%d", run, step, attempt)`, `return fmt.Sprintf("%s/%d", run, attempt)`},
	{"the journal is not written before the call", "run/operation.go", "	t.entry.State = Started\n	return t.note(ctx, t.entry, ev, nil)", "	t.entry.State = Started\n	return nil"},
	{"what an edit replaces is not kept", "run/op_update.go", "	t.entry.Before = snapshot(changes, rec, live)\n	u.req", "	u.req"},
	{"a lost answer is no doubt", "run/op_create.go", `t.entry.Unsure = t.entry.CloudID == "" && (t.resent || !cloud.Refused(err))`, `t.entry.Unsure = false`},
	{"what a former attempt left is not cleared away", "run/operation.go", "	left := []cloud.Ref{{", "	return nil\n	left := []cloud.Ref{{"},
	{"a swap that turned out to be an edit is a swap", "run/operation.go", "		e.State = Edited\n", "		e.State = Done\n"},
	{"the sweep does not wait for the building", "run/schedule.go", "return s.left[PhaseBuild]+s.left[PhaseProbe]+s.left[PhaseOneWay] == 0", "return s.left[PhaseProbe]+s.left[PhaseOneWay] == 0"},
	{"the sweep does not wait for the probes", "run/schedule.go", "return s.left[PhaseBuild]+s.left[PhaseProbe]+s.left[PhaseOneWay] == 0", "return s.left[PhaseBuild]+s.left[PhaseOneWay] == 0"},
	{"what goes one way does not wait", "run/schedule.go", "return s.left[PhaseBuild]+s.left[PhaseProbe] == 0", "return true"},
	{"a failure does not stop the rest", "run/schedule.go", "			s.stopped = true\n		}\n		return", "		}\n		return"},
	{"an edit of a swap leaves its old part to be removed", "run/schedule.go", "if state == Unchanged || state == Edited {", "if state == Unchanged {"},
	{"all can be brought back", "run/schedule.go", "if st.Final() && st.state != \"\"", "if false && st.Final() && st.state != \"\""},
	{"what is kept is removed", "run/plan.go", "if ch.Kind == whatif.Keep || ch.Recorded.Keep || ch.Wanted != nil && ch.Wanted.Keep {", "if false {"},
	{"what is kept is removed where it is swapped", "run/plan.go", "if ch.Kind == whatif.Keep || ch.Recorded.Keep || ch.Wanted != nil && ch.Wanted.Keep {", "if ch.Kind == whatif.Keep {"},
	{"no backup before it goes", "run/plan.go", "Pair: pair, Backups: ch.BacksUp(), Seconds", "Pair: pair, Seconds"},
	{"removals come in any order", "run/plan.go", "	leaving = reversed(leaving, leavingRecords)\n", ""},
	{"removals wait by names alone", "run/plan.go", "if j, ok := byID[l.ID]; ok && !slices.Contains(steps[j].Needs, steps[i].ID) {", "if j, ok := byID[l.ID]; ok && false {"},
	{"the old part of a swap is not recorded", "run/op_create.go", "return t.built(ctx, c.res, c.props, Retire{c.res.Name})", "return t.built(ctx, c.res, c.props)"},
	{"a swap is not filled", "run/op_create.go", "	if t.entry.Step.Filled {", "	if false {"},
	{"an undo forgets what was put back", "run/op_revert.go", "	return []Change{Put{p.orig.Record, t.entry.Step.Position}}", "	return nil"},
	{"an undo does not put tags back", "run/op_revert.go", "	if before.Tags != nil { // also none at all", "	if false {"},
	{"an undo does not put links back", "run/op_revert.go", "Properties: map[string]any{}, Links: before.Links}", "Properties: map[string]any{}}"},
	{"all seems to be put back already", "run/op_revert.go", "	if alike(live, p.orig) {", "	if true {"},
	{"what is gone holds an undo up", "run/op_revert.go", "	if cloud.IsNotFound(err) {", "	if false {"},
	{"the undo of a creation leaves it", "run/op_delete.go", "	if t.entry.CloudID == \"\" { // it", "	if s.Phase == PhaseUndo { // it"},
	{"the undo of a creation keeps its record", "run/op_delete.go", "		return []Change{Remove{s.Resource}, Restore{s.Resource, r.made.Record.ID}}", "		return []Change{Restore{s.Resource, r.made.Record.ID}}"},
	{"the undo of a swap forgets the old one", "run/op_delete.go", "		return []Change{Remove{s.Resource}, Restore{s.Resource, r.made.Record.ID}}", "		return []Change{Remove{s.Resource}}"},
	{"a removal is recorded as one of an old part", "run/op_delete.go", "	case s.Phase != PhaseUndo && s.Swap:\n		return []Change{RemoveOld{s.Resource, s.CloudID}}", "	case s.Phase != PhaseUndo && s.Swap:\n		return []Change{Remove{s.Resource}}"},
	{"what was removed first is not made again", "run/op_remake.go", "	if orig == nil || orig.Record == nil {", "	if true {"},
	{"what is made again is empty", "run/op_remake.go", `	if backup := t.Driver.Entry(t.entry.Step.Of).Backup; backup != "" {`, `	if backup := t.Driver.Entry(t.entry.Step.Of).Backup; backup != "" && false {`},
	{"a renaming leaves the old name", "run/op_rename.go", "changes: []Change{Remove{t.entry.Step.From}, Put{&rec, t.entry.Step.Position}}", "changes: []Change{Put{&rec, t.entry.Step.Position}}"},
	{"a renaming is not told to the cloud", "run/op_rename.go", "	n.req.SetTag(stack.NodeTag, tosca.String(to))\n", ""},
	{"a lock is taken from who holds it", "store/locks.go", "where locks.token = excluded.token or locks.until_ms <= `+now+` or locks.token = ?`", "where locks.token = excluded.token or locks.until_ms >= 0 or locks.token = ?`"},
	{"a lock is never taken over", "store/locks.go", "where locks.token = excluded.token or locks.until_ms <= `+now+` or locks.token = ?`", "where locks.token = excluded.token or locks.token = ?`"},
	{"a receipt calls all equal", "app/receipt.go", "	out.Equal = len(after)+len(out.Unreadable) == 0\n", "	out.Equal = true\n"},
	{"a receipt does not name what carries the tag", "app/receipt.go", `		out.Left = append(out.Left, stack.ReceiptLeft{Name: cloud.Clean(r.Tags[stack.NodeTag]), ID: id, Why: "it carries the tag of the stack"})`, `		_ = r`},
	{"a receipt asks for what was removed alone", "app/receipt.go", `		if is || r.Tags[stack.StackTag] == x.stack.Name && (other == "" || other == store) {`, `		if _ = other; is && store != "" {`},
	{"a run of another process is a hand", "stack/truth.go", "Store: m[4], Own: m[4] == store}", "Store: m[4]}"},
	{"a deletion can be undone", "app/resume.go", "if w.Undo = w.Resume && r.Kind != run.KindDelete; w.Undo {", "if w.Undo = w.Resume; w.Undo {"},
	{"what failed is not tried again", "app/resume.go", "			steps = append(steps, e.Step.ID)\n", ""},
	{"a run that is taken up keeps the old token", "app/resume.go", "r.State, r.Token = run.StatusWorking, t.Token", "r.State = run.StatusWorking"},
	{"what was tagged by others is known", "run/operation.go", `if r.Tags["stack"] == t.Stack && r.Tags["node"] == t.entry.Step.Resource && !t.known(r.ID) {`, `if r.Tags["stack"] == t.Stack && r.Tags["node"] == t.entry.Step.Resource {`},
	{"tags of others are lost", "run/op_update.go", "		for _, k := range b.Others { // what others have put there stays", "		for _, k := range b.Others[:0] {"},
}

// internal is the folder of the packages.
const internal = ".."

// TestMistakesAreCurrent wants each mistake to fit the program as it is.
func TestMistakesAreCurrent(t *testing.T) {
	for _, m := range mistakes {
		b, err := os.ReadFile(filepath.Join(internal, m.file))
		if err != nil {
			t.Fatal(err)
		}
		if n := strings.Count(string(b), m.old); n != 1 {
			t.Errorf("%s: its place is there %d times in %s", m.name, n, m.file)
		}
	}
}

// TestProof builds the program with each mistake, and wants it found.
func TestProof(t *testing.T) {
	if !*proofFlag {
		t.Skip("make sim-proof")
	}
	found, only := 0, regexp.MustCompile(*onlyFlag)
	for _, m := range mistakes {
		if !only.MatchString(m.name) {
			continue
		}
		begun := time.Now()
		n, words, err := m.find(t)
		switch {
		case err != nil:
			t.Errorf("%s: %v", m.name, err)
		case n == 0:
			t.Errorf("NOT FOUND in %d futures (%s): %s", within, time.Since(begun).Round(time.Second), m.name)
		default:
			found++
			t.Logf("found after %4d futures (%s): %s: %s", n, time.Since(begun).Round(time.Second), m.name, words)
		}
	}
	t.Logf("%d mistakes were found", found)
}

// find lives through futures with the mistake until one goes wrong; n is how many that took, 0 that none did.
func (m mistake) find(t *testing.T) (n int, words string, err error) {
	dir := t.TempDir()
	file, err := filepath.Abs(filepath.Join(internal, m.file))
	if err != nil {
		return 0, "", err
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return 0, "", err
	}
	with, overlay, binary := filepath.Join(dir, "with.go"), filepath.Join(dir, "overlay.json"), filepath.Join(dir, "sim.test")
	if err := os.WriteFile(with, []byte(strings.Replace(string(b), m.old, m.new, 1)), 0o600); err != nil {
		return 0, "", err
	}
	list, err := json.Marshal(map[string]any{"Replace": map[string]string{file: with}})
	if err == nil {
		err = os.WriteFile(overlay, list, 0o600)
	}
	if err != nil {
		return 0, "", err
	}
	if out, err := exec.CommandContext(t.Context(), "go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", binary, ".").CombinedOutput(); err != nil {
		return 0, "", fmt.Errorf("it does not build: %s", out)
	}
	args := []string{"-test.run", "^TestFutures$", "-test.v", "-test.timeout", "20m", "-first-only", "-first", fmt.Sprint(*firstFlag), "-futures", fmt.Sprint(within)}
	if *keepTo == "" {
		args = append(args, "-big")
	} else {
		args = append(args, "-keep", filepath.Join(*keepTo, strings.ReplaceAll(m.name, " ", "-")+".jsonl"))
	}
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	out, err := cmd.CombinedOutput()
	if err == nil {
		return 0, "", nil
	}
	lived := regexp.MustCompile(`(\d+) futures in`).FindSubmatch(out)
	if lived != nil {
		_, err = fmt.Sscan(string(lived[1]), &n)
	} else if n, err = 1, nil; ctx.Err() != nil { // it hangs, which is found too
		return n, "the futures do not end", nil
	}
	at := 0
	for _, sign := range []string{"WRONG: ", "the future of seed ", "panic: "} {
		if at = max(0, bytes.Index(out, []byte(sign))); at > 0 {
			break
		}
	}
	words, _, _ = strings.Cut(string(out[at:min(len(out), at+300)]), "\n\n")
	return max(n, 1), strings.ReplaceAll(words, "\n", " "), err
}
