package store

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/internal/fleet"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/profile"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

var place = stack.Target{Account: "workshop", Region: "alder-1"}

func types() *tosca.Library { return profile.Read().Library }

func TestMain(m *testing.M) { postgrestest.Main(m) }

// opener opens the store whose user's folder is dir.
type opener func(t *testing.T, dir string) *Store

func openAt(t *testing.T, at Place) *Store {
	t.Helper()
	s, err := Open(t.Context(), at, types)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func open(t *testing.T, dir string) *Store { return openAt(t, Place{Dir: dir}) }

// onBoth holds the store in a file and the shared one to the same.
func onBoth(t *testing.T, test func(t *testing.T, open opener)) {
	t.Run("file", func(t *testing.T) { test(t, open) })
	t.Run("shared", func(t *testing.T) {
		url := postgrestest.Store(t)
		test(t, func(t *testing.T, dir string) *Store { return openAt(t, Place{Dir: dir, URL: url}) })
	})
}

func ensure(t *testing.T, s *Store, name string) *stack.Stack {
	t.Helper()
	st, err := s.Ensure(t.Context(), name, place)
	if err != nil {
		t.Fatal(err)
	}
	return st
}

func TestStacks(t *testing.T) { onBoth(t, testStacks) }

func testStacks(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	if _, err := s.At(t.Context(), "nobody", place); !errors.Is(err, ErrNotFound) {
		t.Errorf("a stack that is not there: %v", err)
	}
	st := ensure(t, s, "bulletin-test")
	if again := ensure(t, s, "bulletin-test"); again.ID != st.ID || again.State != stack.Empty || again.Revision != 0 {
		t.Errorf("ensured again: %+v", again)
	}
	begin(t, s, &run.Record{ID: "r", StackID: st.ID, State: run.StatusDone},
		Begin{About: &About{Description: "words", File: "/a/file", Careful: true}})
	got, err := s.Find(t.Context(), "bulletin-test")
	if err != nil || got.Description != "words" || got.StackFile != "/a/file" || !got.Careful {
		t.Errorf("%+v %v", got, err)
	}
	if _, err := s.Find(t.Context(), "buletin-test"); !errors.Is(err, ErrNotFound) ||
		!strings.Contains(err.Error(), "did you mean 'bulletin-test'?") {
		t.Errorf("a typo: %v", err)
	}
	other := stack.Target{Account: "summit", Region: "birch-1"}
	if _, err := s.Ensure(t.Context(), "bulletin-test", other); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Find(t.Context(), "bulletin-test"); err == nil ||
		!strings.Contains(err.Error(), "bulletin-test@summit/birch-1") {
		t.Errorf("two of one name: %v", err)
	}
	if got, err := s.Find(t.Context(), "bulletin-test@summit/birch-1"); err != nil || got.Target != other {
		t.Errorf("%+v %v", got, err)
	}
}

func TestRevisionsKeepSecretsSealed(t *testing.T) { onBoth(t, testRevisionsKeepSecretsSealed) }

func testRevisionsKeepSecretsSealed(t *testing.T, open opener) {
	dir := t.TempDir()
	s := open(t, dir)
	st := ensure(t, s, "a-stack")
	rev := stack.Revision{Template: "t.yaml", Text: "text: of the template, with a hoarfrost password",
		Tags: map[string]string{"desk": "snow"}, By: "somebody", Note: "a note", Inputs: []stack.Input{
			{Name: "token", Value: tosca.Secret{Value: tosca.String("very-secret-hoarfrost")},
				Origin: stack.Origin{Kind: "flag", Via: "token=(secret)"}},
			{Name: "table", Value: tosca.Map{"a": tosca.List{tosca.Int(1), tosca.Secret{Value: tosca.Int(4711)}}}},
			{Name: "none", Value: tosca.Null{}},
		}}
	for want := 1; want <= 2; want++ {
		if n := addRev(t, s, st, rev); n != want {
			t.Fatalf("revision %d, want %d", n, want)
		}
	}
	got, err := s.Revision(t.Context(), st.ID, 2)
	if err != nil || got.Text != rev.Text || got.Tags["desk"] != "snow" || got.By != "somebody" ||
		got.Note != "a note" || len(got.Inputs) != 3 {
		t.Fatalf("%+v %v", got, err)
	}
	if v, secret := tosca.Bare(got.Inputs[0].Value); !secret || v != tosca.String("very-secret-hoarfrost") ||
		got.Inputs[0].Origin.Kind != "flag" {
		t.Errorf("token is %#v", got.Inputs[0])
	}
	if v := got.Inputs[1].Value; !tosca.HasSecret(v) || !tosca.Equal(v, rev.Inputs[1].Value) {
		t.Errorf("table is %v", v)
	}
	if list, err := s.Revisions(t.Context(), st.ID); err != nil || !slices.Equal(list, []int{2, 1}) {
		t.Errorf("revisions %v %v", list, err)
	}
	if _, err := s.Revision(t.Context(), st.ID, 9); !errors.Is(err, ErrNotFound) {
		t.Errorf("a revision that is not there: %v", err)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "*"))
	for _, f := range files {
		text, err := os.ReadFile(f)
		if info, bad := os.Stat(f); bad == nil && info.IsDir() {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(text), "hoarfrost") || strings.Contains(string(text), "4711") {
			t.Errorf("%s holds a secret", f)
		}
	}
}

func TestTheKeyIsTheOwners(t *testing.T) {
	dir := t.TempDir()
	open(t, dir).Close()
	path := filepath.Join(dir, KeyFile)
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key: %v %v", info, err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), Place{Dir: dir}, types); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a key that others can read: %v", err)
	}
	if err := os.WriteFile(path, []byte("not a key"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), Place{Dir: dir}, types); err == nil || !strings.Contains(err.Error(), "is not a key") {
		t.Errorf("a key that is none: %v", err)
	}
}

func TestAnotherKeyOpensNothing(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	st := ensure(t, s, "a-stack")
	addRev(t, s, st, stack.Revision{Inputs: []stack.Input{{Name: "token",
		Value: tosca.Secret{Value: tosca.String("x")}}}})
	s.Close()
	if err := os.Remove(filepath.Join(dir, KeyFile)); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), Place{Dir: dir}, types); err == nil || !strings.Contains(err.Error(), "put it back from a backup") {
		t.Errorf("without the key: %v", err)
	}
	other := t.TempDir()
	open(t, other).Close()
	key, err := os.ReadFile(filepath.Join(other, KeyFile))
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, KeyFile), key, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := open(t, dir).Revision(t.Context(), st.ID, 1); err == nil ||
		!strings.Contains(err.Error(), "does not fit") {
		t.Errorf("with another key: %v", err)
	}
}

func newRun(t *testing.T, s *Store, st *stack.Stack, id string) *run.Record {
	t.Helper()
	r := &run.Record{ID: id, StackID: st.ID, Kind: "deploy", State: run.StatusWorking, Revision: 1,
		Prior: stack.Empty, OnFailure: "undo", By: "somebody",
		Plan: run.Plan{Steps: []run.Step{{ID: "create a", Resource: "a", Action: run.Create, Phase: run.PhaseBuild}},
			Baseline: map[string]run.Was{"x": {Name: "y", Type: "Topic"}}}, Tally: whatif.Tally{New: 1}, Estimate: 4.5}
	begin(t, s, r, Begin{})
	return r
}

// begin starts a run under a lock of its own.
func begin(t testing.TB, s *Store, r *run.Record, b Begin) {
	t.Helper()
	r.Token = "the lock"
	if _, err := s.Lock(t.Context(), r.StackID, r.Token); err != nil {
		t.Fatal(err)
	}
	if err := s.StartRun(t.Context(), r, b); err != nil {
		t.Fatal(err)
	}
}

// addRev writes a revision, with a run that leads to it.
func addRev(t *testing.T, s *Store, st *stack.Stack, rev stack.Revision) int {
	t.Helper()
	r := &run.Record{ID: fmt.Sprint("to ", time.Now().UnixNano()), StackID: st.ID, State: run.StatusDone}
	begin(t, s, r, Begin{Revision: &rev})
	return r.Revision
}

func TestRuns(t *testing.T) { onBoth(t, testRuns) }

func testRuns(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	first, second := newRun(t, s, st, "r1"), newRun(t, s, st, "r2")
	if first.Number != 1 || second.Number != 2 {
		t.Errorf("numbers %d and %d", first.Number, second.Number)
	}
	got, err := s.RunNumber(t.Context(), st.ID, 0)
	if err != nil || got.ID != "r2" || got.Plan.Steps[0].ID != "create a" || got.Plan.Baseline["x"].Name != "y" ||
		got.Tally.New != 1 || got.Estimate != 4.5 || !got.Ended.IsZero() {
		t.Errorf("%+v %v", got, err)
	}
	if got, _ := s.At(t.Context(), "a-stack", place); got.State != stack.Deploying {
		t.Errorf("the stack is %s", got.State)
	}
	wishes := func(want run.Wishes) {
		t.Helper()
		if got, err := s.Wishes(t.Context(), "r1"); got != want || err != nil {
			t.Errorf("wishes: %+v %v, want %+v", got, err, want)
		}
	}
	wishes(run.Wishes{})
	if err := s.RequestPause(t.Context(), "r1", true); err != nil {
		t.Fatal(err)
	}
	wishes(run.Wishes{Pause: true})
	if err := s.RequestCancel(t.Context(), "r1", stack.Hold); err != nil { // who waits cannot be cancelled
		t.Fatal(err)
	}
	wishes(run.Wishes{Cancel: true})
	if got, err := s.Head(t.Context(), "r1"); err != nil || got.OnFailure != stack.Hold || !got.Cancel {
		t.Errorf("%+v %v", got, err)
	}
	first.State, first.Reason = run.StatusDone, "because"
	if err := s.SetRun(t.Context(), first, 1); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.Run(t.Context(), "r1"); got.State != run.StatusDone || got.Reason != "because" ||
		got.Ended.IsZero() {
		t.Errorf("%+v", got)
	}
	if got, _ := s.At(t.Context(), "a-stack", place); got.State != stack.Ready || got.Revision != 1 {
		t.Errorf("%+v", got)
	}
	if d, err := s.LastDone(t.Context(), st.ID, "deploy", 2); err != nil || d.ID != "r1" || len(d.Plan.Steps) == 0 {
		t.Errorf("last time %v %v", d, err)
	}
	if last, err := s.LastRuns(t.Context()); err != nil || last[st.ID].ID != "r2" {
		t.Errorf("last runs %v %v", last, err)
	}
	if _, err := s.Run(t.Context(), "r9"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a run that is not there: %v", err)
	}
	for state, ended := range map[run.Status]bool{run.StatusWorking: false, run.StatusUndoing: false,
		run.StatusDone: true, run.StatusUndone: true, run.StatusHeld: true, run.StatusStuck: true} {
		if state.Ended() != ended {
			t.Errorf("%s: ended is %v", state, state.Ended())
		}
	}
}

func recorded(name, id string, secret string) *stack.Recorded {
	return &stack.Recorded{Name: name, Type: "Vault", ID: id,
		Properties:   map[string]tosca.Value{"value": tosca.Secret{Value: tosca.String(secret)}},
		Links:        map[string][]stack.LinkTo{"on": {{Name: "x", ID: "id-x"}}},
		Attributes:   map[string]tosca.Value{"id": tosca.String(id)},
		Fingerprints: map[string]tosca.Value{"value": tosca.String("fp")}, Needs: []string{"x"}, Policies: stack.Policies{Keep: true},
		Pos: tosca.Pos{File: "t.yaml", Line: 3, Column: 5}}
}

// names lists the recorded resources as name=id, old ones in brackets.
func names(t *testing.T, s *Store, st *stack.Stack) string {
	t.Helper()
	current, old, err := s.Recorded(t.Context(), st.ID)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, r := range current {
		out = append(out, r.Name+"="+r.ID)
	}
	for _, r := range old {
		out = append(out, "["+r.Name+"="+r.ID+"]")
	}
	return strings.Join(out, " ")
}

func TestRecordChanges(t *testing.T) { onBoth(t, testRecordChanges) }

func testRecordChanges(t *testing.T, open opener) {
	if testing.Short() {
		t.Skip("nothing goes on at once in it")
	}
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	r := newRun(t, s, st, "r1")
	for _, step := range []struct {
		what string
		ch   []run.Change
		want string
	}{
		{"a is built", []run.Change{run.Put{Record: recorded("a", "1", "s"), Position: 2}}, "a=1"},
		{"b is built, and comes first", []run.Change{run.Put{Record: recorded("b", "2", "s"), Position: 1}}, "b=2 a=1"},
		{"a is swapped", []run.Change{run.Retire{Name: "a"}, run.Put{Record: recorded("a", "3", "s"), Position: 2}},
			"b=2 a=3 [a=1]"},
		{"the swap is undone", []run.Change{run.Remove{Name: "a"}, run.Restore{Name: "a", ID: "1"}}, "b=2 a=1"},
		{"a is swapped again", []run.Change{run.Retire{Name: "a"},
			run.Put{Record: recorded("a", "4", "s"), Position: 2}}, "b=2 a=4 [a=1]"},
		{"the old one is swept", []run.Change{run.RemoveOld{Name: "a", ID: "1"}}, "b=2 a=4"},
		{"nothing", nil, "b=2 a=4"},
		{"b is dropped", []run.Change{run.Remove{Name: "b"}}, "a=4"},
	} {
		if err := s.Note(t.Context(), r, nil, nil, step.ch); err != nil {
			t.Fatalf("%s: %v", step.what, err)
		}
		if got := names(t, s, st); got != step.want {
			t.Errorf("%s: %s, want %s", step.what, got, step.want)
		}
	}
	current, _, err := s.Recorded(t.Context(), st.ID)
	if err != nil {
		t.Fatal(err)
	}
	got := current[0]
	if got.Type != "Vault" || !tosca.HasSecret(got.Properties["value"]) || got.Links["on"][0].ID != "id-x" ||
		got.Fingerprints["value"] != tosca.String("fp") || !slices.Equal(got.Needs, []string{"x"}) || !got.Keep ||
		got.Pos.Line != 3 {
		t.Errorf("%+v", got)
	}
}

func TestJournal(t *testing.T) { onBoth(t, testJournal) }

func testJournal(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	r := newRun(t, s, st, "r1")
	e := &run.Entry{Step: r.Plan.Steps[0], State: run.Started, Attempt: 1, Record: recorded("a", "1", "before"),
		Before: &run.Snapshot{Properties: map[string]tosca.Value{"value": tosca.Secret{Value: tosca.String("old")},
			"label": tosca.Null{}}, Links: map[string][]string{"on": {"x"}},
			Tags: map[string]tosca.Value{"a": tosca.String("b")}}}
	for i := range 3 {
		ev := &run.Event{Resource: "a", Type: "Vault", State: run.Working, Step: fmt.Sprint("step ", i),
			Elapsed: 1500 * time.Millisecond, CloudID: "id"}
		if err := s.Note(t.Context(), r, e, ev, nil); err != nil {
			t.Fatal(err)
		}
		if ev.Seq != int64(i+1) {
			t.Errorf("event %d has number %d", i, ev.Seq)
		}
		e.State, e.CloudID, e.Reason = run.Failed, "id", "a reason"
	}
	list, err := s.Journal(t.Context(), "r1")
	if err != nil || len(list) != 1 {
		t.Fatalf("%v %v", list, err)
	}
	got := list[0]
	if got.State != run.Failed || got.CloudID != "id" || got.Reason != "a reason" || got.Step.ID != "create a" ||
		got.Record.ID != "1" || got.Before.Tags["a"] != tosca.String("b") || got.Before.Links["on"][0] != "x" {
		t.Errorf("%+v", got)
	}
	if v, secret := tosca.Bare(got.Before.Properties["value"]); !secret || v != tosca.String("old") ||
		got.Before.Properties["label"] != (tosca.Null{}) {
		t.Errorf("before: %#v", got.Before.Properties)
	}
	// An edit of links alone, or of tags alone, is put back too.
	for _, before := range []*run.Snapshot{{Links: map[string][]string{"on": {"x"}}},
		{Tags: map[string]tosca.Value{"a": tosca.String("b")}}, {}, nil} {
		e.Before = before
		if err := s.Note(t.Context(), r, e, nil, nil); err != nil {
			t.Fatal(err)
		}
		list, err := s.Journal(t.Context(), "r1")
		if err != nil || (list[0].Before == nil) != (before == nil) {
			t.Errorf("%+v became %+v (%v)", before, list[0].Before, err)
		}
	}
	events, err := s.Events(t.Context(), "r1", 1)
	if err != nil || len(events) != 2 || events[0].Step != "step 1" || events[0].Elapsed != 1500*time.Millisecond ||
		events[0].Time.IsZero() {
		t.Errorf("%+v %v", events, err)
	}
}

func TestResults(t *testing.T) { onBoth(t, testResults) }

func testResults(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	r := newRun(t, s, st, "r1")
	if err := s.SetResults(t.Context(), r,
		[]stack.Result{{Name: "url", Description: "where", Value: tosca.String("x")},
			{Name: "password", Value: tosca.Secret{Value: tosca.String("p")}}}); err != nil {
		t.Fatal(err)
	}
	list, err := s.Results(t.Context(), st.ID)
	if err != nil || len(list) != 2 || list[0].Name != "password" || !tosca.HasSecret(list[0].Value) ||
		list[1].Description != "where" {
		t.Errorf("%+v %v", list, err)
	}
	for _, step := range []struct{ run, url, password, was, wasPassword string }{
		{"r1", "x", "q", "", "(secret)"}, // it changed within the run, as when it goes on after a crash
		{"r2", "y", "q", "x", ""}, {"r2", "y", "q", "x", ""}, {"r3", "y", "q", "", ""}, {"r4", "x", "p", "y", "(secret)"},
	} {
		one := *r
		one.ID = step.run
		if err := s.SetResults(t.Context(), &one, []stack.Result{{Name: "url", Value: tosca.String(step.url), Command: "look $value"},
			{Name: "password", Value: tosca.Secret{Value: tosca.String(step.password)}}}); err != nil {
			t.Fatal(err)
		}
		list, err := s.Results(t.Context(), st.ID)
		if err != nil {
			t.Fatal(err)
		}
		shown := func(v tosca.Value) string {
			if v == nil {
				return ""
			}
			return tosca.Show(v)
		}
		if got := shown(list[1].Was); got != step.was || shown(list[0].Was) != step.wasPassword || list[1].Command != "look $value" {
			t.Errorf("%+v: %+v", step, list)
		}
	}
	if err := s.SetResults(t.Context(), r, nil); err != nil {
		t.Fatal(err)
	}
	if list, _ := s.Results(t.Context(), st.ID); len(list) != 0 {
		t.Errorf("after taking them away: %v", list)
	}
}

func TestLocks(t *testing.T) { onBoth(t, testLocks) }

func testLocks(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	pass := func(d time.Duration) { // lets time go by for the lease
		if _, err := s.exec(t.Context(), `update locks set until_ms = until_ms - ?`,
			d.Milliseconds()); err != nil {
			t.Fatal(err)
		}
	}
	if from, err := s.Lock(t.Context(), st.ID, "mine"); err != nil || from != "" {
		t.Fatalf("%q %v", from, err)
	}
	var locked *LockedError
	if _, err := s.Lock(t.Context(), st.ID, "yours"); !errors.As(err, &locked) ||
		!strings.Contains(locked.Holder, fmt.Sprint(os.Getpid())) {
		t.Errorf("locked twice: %v", err)
	}
	pass(Lease / 2)
	if _, err := s.Lock(t.Context(), st.ID, "mine"); err != nil {
		t.Errorf("renewing: %v", err)
	}
	pass(Lease * 3 / 4)
	if _, err := s.Lock(t.Context(), st.ID, "yours"); err == nil {
		t.Error("a renewed lock is taken over")
	}
	if holder, _ := s.LockHolder(t.Context(), st.ID); holder == "" {
		t.Error("nobody holds the lock")
	}
	pass(Lease)
	if holder, _ := s.LockHolder(t.Context(), st.ID); holder != "" {
		t.Errorf("%s still holds the lock", holder)
	}
	if from, err := s.Lock(t.Context(), st.ID, "yours"); err != nil || from == "" {
		t.Errorf("taking over: %q %v", from, err)
	}
	if err := s.Unlock(t.Context(), st.ID, "mine"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Lock(t.Context(), st.ID, "mine"); err == nil {
		t.Error("the former holder has given the lock away")
	}
	if err := s.Unlock(t.Context(), st.ID, "yours"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Lock(t.Context(), st.ID, "mine"); err != nil {
		t.Errorf("after unlocking: %v", err)
	}
}

func TestALockOfAnEndedProcessIsFree(t *testing.T) { onBoth(t, testALockOfAnEndedProcessIsFree) }

func testALockOfAnEndedProcessIsFree(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	if _, err := s.Lock(t.Context(), st.ID, "gone"); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("true")
	if err := cmd.Run(); err != nil {
		t.Skip("there is no program to start and end")
	}
	if _, err := s.exec(t.Context(), `update locks set pid = ?`, cmd.Process.Pid); err != nil {
		t.Fatal(err)
	}
	if holder, _ := s.LockHolder(t.Context(), st.ID); holder != "" {
		t.Errorf("%s holds the lock", holder)
	}
	if from, err := s.Lock(t.Context(), st.ID, "mine"); err != nil || from == "" {
		t.Errorf("%q %v", from, err)
	}
}

func TestOnlyOneGetsTheLock(t *testing.T) { onBoth(t, testOnlyOneGetsTheLock) }

func testOnlyOneGetsTheLock(t *testing.T, open opener) {
	dir := t.TempDir()
	st := ensure(t, open(t, dir), "a-stack")
	var got sync.Map
	var wait sync.WaitGroup
	for i := range 6 {
		s := open(t, dir)
		wait.Go(func() {
			if _, err := s.Lock(t.Context(), st.ID, fmt.Sprint("token ", i)); err == nil {
				got.Store(i, true)
			}
		})
	}
	wait.Wait()
	n := 0
	got.Range(func(any, any) bool { n++; return true })
	if n != 1 {
		t.Errorf("%d hold the lock", n)
	}
}

// TestWhoLostTheLockWritesNothing wants every write of a run refused once another
// process has its lock.
func TestWhoLostTheLockWritesNothing(t *testing.T) { onBoth(t, testWhoLostTheLockWritesNothing) }

func testWhoLostTheLockWritesNothing(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	r := newRun(t, s, st, "r1")
	if err := s.Unlock(t.Context(), st.ID, r.Token); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Lock(t.Context(), st.ID, "another"); err != nil {
		t.Fatal(err)
	}
	for name, write := range map[string]func() error{
		"a note":      func() error { return s.Note(t.Context(), r, nil, &run.Event{Resource: "a"}, nil) },
		"the state":   func() error { return s.SetRun(t.Context(), r, 1) },
		"the results": func() error { return s.SetResults(t.Context(), r, nil) },
		"a new run": func() error {
			return s.StartRun(t.Context(), &run.Record{ID: "r2", StackID: st.ID, Token: r.Token}, Begin{})
		},
		"going on": func() error { return s.ContinueRun(t.Context(), r, []string{"create a"}) },
	} {
		if err := write(); !errors.Is(err, ErrLockLost) {
			t.Errorf("%s is written without the lock: %v", name, err)
		}
	}
	if events, err := s.Events(t.Context(), r.ID, 0); err != nil || len(events) != 0 {
		t.Errorf("%v %v", events, err)
	}
}

// BenchmarkNote is the cost of one durable entry of the journal.
func BenchmarkNote(b *testing.B) {
	s, err := Open(b.Context(), Place{Dir: b.TempDir()}, types)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	st, err := s.Ensure(b.Context(), "a-stack", place)
	if err != nil {
		b.Fatal(err)
	}
	r := &run.Record{ID: "r", StackID: st.ID}
	begin(b, s, r, Begin{})
	for b.Loop() {
		e := &run.Entry{Step: run.Step{ID: "create a"}, State: run.Done}
		if err := s.Note(b.Context(), r, e, &run.Event{Resource: "a"},
			[]run.Change{run.Put{Record: &stack.Recorded{Name: "a"}}}); err != nil {
			b.Fatal(err)
		}
	}
}

// Past runs tell how good estimates were, but for those that are short, were paused, or
// went elsewhere.
func TestEstimates(t *testing.T) { onBoth(t, testEstimates) }

func testEstimates(t *testing.T, open opener) {
	if testing.Short() {
		t.Skip("nothing goes on at once in it")
	}
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	for i, estimate := range []float64{0.2, 4.5, 4.5} {
		r := newRun(t, s, st, fmt.Sprint("e", i))
		r.State = run.StatusDone
		if i == 2 {
			if err := s.Note(t.Context(), r, nil, &run.Event{State: run.Waiting, Step: "paused"}, nil); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.SetRun(t.Context(), r, i+1); err != nil {
			t.Fatal(err)
		}
		if _, err := s.exec(t.Context(), `update runs set estimate = ? where id = ?`, estimate, r.ID); err != nil {
			t.Fatal(err)
		}
	}
	later := time.Now().Add(time.Hour)
	if list, err := s.Estimates(t.Context(), place, later); err != nil || len(list) != 1 || list[0].Estimate != 4.5 {
		t.Errorf("%v %v", list, err)
	}
	if list, err := s.Estimates(t.Context(), stack.Target{Account: "summit", Region: "alder-1"}, later); err != nil || len(list) != 0 {
		t.Errorf("elsewhere: %v %v", list, err)
	}
}

// The last nine timings of each type and action count, the newest first, whatever else there is.
func TestTimings(t *testing.T) { onBoth(t, testTimings) }

func testTimings(t *testing.T, open opener) {
	if testing.Short() {
		t.Skip("nothing goes on at once in it")
	}
	s := open(t, t.TempDir())
	if past, err := s.Timings(t.Context()); err != nil || len(past) != 0 {
		t.Errorf("nothing has run yet: %v %v", past, err)
	}
	newRun(t, s, ensure(t, s, "a-stack"), "r1")
	want := map[string]map[run.Action][]float64{}
	for i, of := range []struct {
		typ    string
		action run.Action
		n      int
	}{{"Topic", run.Create, 30}, {"Topic", run.Delete, 9}, {"Queue", run.Create, 1}, {"Zone", run.Remake, 10}} {
		for n := range of.n {
			if _, err := s.exec(t.Context(), `insert into timings(run_id, step, type, action, ratio, at_ms) values('r1', ?, ?, ?, ?, ?)`,
				fmt.Sprint(i, " ", n), of.typ, of.action, float64(n), 1000+10*n+i); err != nil {
				t.Fatal(err)
			}
		}
		if want[of.typ] == nil {
			want[of.typ] = map[run.Action][]float64{}
		}
		for n := of.n - 1; n >= max(0, of.n-9); n-- {
			want[of.typ][of.action] = append(want[of.typ][of.action], float64(n))
		}
	}
	if past, err := s.Timings(t.Context()); err != nil || !reflect.DeepEqual(past, want) {
		t.Errorf("%v, %v; want %v", past, err, want)
	}
}

// TestSecretsInStacks finds what is secret in stacks, at whatever depth and in whatever table, by the stack it is in.
// What nobody carries out any more is interrupted, wherever it is read; what waits for a worker or was paused is not.
func TestHowAStackStands(t *testing.T) { onBoth(t, testHowAStackStands) }

func testHowAStackStands(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	st := ensure(t, s, "a-stack")
	r := newRun(t, s, st, "r1")
	wants := func(what string, of stack.State, is run.Status) {
		t.Helper()
		one, err := s.ByID(t.Context(), st.ID)
		if err != nil {
			t.Fatal(err)
		}
		all, err := s.Stacks(t.Context())
		if err != nil || len(all) != 1 {
			t.Fatal(err)
		}
		last, err := s.LastRuns(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		runs, err := s.Runs(t.Context(), st.ID)
		if err != nil || len(runs) != 1 {
			t.Fatal(err)
		}
		by, err := s.Run(t.Context(), r.ID)
		if err != nil {
			t.Fatal(err)
		}
		if one.Shown() != of || all[0].Shown() != of {
			t.Errorf("%s: the stack is %s, %s, want %s", what, one.Shown(), all[0].Shown(), of)
		}
		if last[st.ID].Shown() != is || runs[0].Shown() != is || by.Shown() != is {
			t.Errorf("%s: the run is %s, %s, %s, want %s", what, last[st.ID].Shown(), runs[0].Shown(), by.Shown(), is)
		}
	}
	wants("it is carried out", stack.Deploying, run.StatusWorking)
	if err := s.Unlock(t.Context(), st.ID, r.Token); err != nil {
		t.Fatal(err)
	}
	wants("its process is gone", stack.Interrupted, run.StatusInterrupted)
	if _, err := s.Lock(t.Context(), st.ID, r.Token); err != nil {
		t.Fatal(err)
	}
	r.State = run.StatusPaused
	if err := s.SetRun(t.Context(), r, 0); err != nil {
		t.Fatal(err)
	}
	if err := s.Unlock(t.Context(), st.ID, r.Token); err != nil {
		t.Fatal(err)
	}
	wants("it is paused", stack.Paused, run.StatusPaused)
	for seen, want := range map[stack.State]stack.State{stack.SeenAs(0, 0, 3): stack.Ready, stack.SeenAs(0, 1, 3): "partly at rest", stack.SeenAs(0, 3, 3): "at rest", stack.SeenAs(1, 3, 3): "amiss"} {
		if got := (&stack.Stack{State: stack.Ready, Seen: seen}).Shown(); got != want {
			t.Errorf("%s: %s, want %s", seen, got, want)
		}
	}
}

func TestSecretsInStacks(t *testing.T) { onBoth(t, testSecretsInStacks) }

func testSecretsInStacks(t *testing.T, open opener) {
	if testing.Short() {
		t.Skip("nothing goes on at once in it")
	}
	s := open(t, t.TempDir())
	st, other := ensure(t, s, "a-stack"), ensure(t, s, "b-stack")
	in := func(name string, v tosca.Value) stack.Input { return stack.Input{Name: name, Value: v} }
	secret := func(text string) tosca.Value { return tosca.Secret{Value: tosca.String(text)} }
	addRev(t, s, st, stack.Revision{Inputs: []stack.Input{in("old", secret("an-older-secret"))}})
	addRev(t, s, st, stack.Revision{Inputs: []stack.Input{in("token", tosca.List{tosca.Map{"deep": secret("the-input-of-it")}}), in("plain", tosca.String("not-a-secret"))}})
	r := newRun(t, s, st, "r1")
	if err := s.Note(t.Context(), r, nil, nil, []run.Change{run.Put{Record: recorded("a", "1", "hoarfrost-of-a")}, run.Put{Record: recorded("b", "2", "hoarfrost-of-b")}}); err != nil {
		t.Fatal(err)
	}
	keys, err := s.StackKeys(t.Context())
	if err != nil || len(keys) != 2 {
		t.Fatalf("%v, %v", keys, err)
	}
	found, err := s.SecretsIn(t.Context(), []int64{st.ID, other.ID, 4711})
	if err != nil || len(found) != 1 {
		t.Fatalf("%v, %v", found, err)
	}
	now, err := s.ByID(t.Context(), st.ID)
	if err != nil {
		t.Fatal(err)
	}
	for text, is := range map[string]bool{"hoarfrost-of-a": true, "hoarfrost-of-b": true, "not-a-secret": false, "the-input-of-it": true, "an-older-secret": true} {
		if got := found[st.ID].Hide("x " + text + " y"); (got != "x "+text+" y") != is {
			t.Errorf("at revision %d %s is shown as %s", now.Revision, text, got)
		}
	}
	var ids []int64
	for i := range int64(1200) { // more than are asked for at once
		ids = append(ids, i+1000)
	}
	if found, err := s.SecretsIn(t.Context(), append(ids, st.ID)); err != nil || len(found) != 1 {
		t.Errorf("%v, %v", found, err)
	}
	if err := s.Note(t.Context(), r, nil, nil, []run.Change{run.Remove{Name: "a"}}); err != nil {
		t.Fatal(err)
	}
	if after, err := s.StackKeys(t.Context()); err != nil || slices.Equal(keys, after) {
		t.Errorf("it has another key when something has changed: %v, %v", after, err)
	}
	if _, err := s.ByID(t.Context(), 4711); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// TestAgreementsAtTheSameTime keeps both of two who agree to a place at the same time: the second one is told to look again.
func TestAgreementsAtTheSameTime(t *testing.T) { onBoth(t, testAgreementsAtTheSameTime) }

func testAgreementsAtTheSameTime(t *testing.T, open opener) {
	s := open(t, t.TempDir())
	r := &Rollout{ID: "r", Fleet: "posts", Number: 1, Kind: run.KindDeploy, State: fleet.Deploying, Token: "t"}
	if err := s.StartRollout(t.Context(), r, []Prepared{{PlaceOf: PlaceOf{Target: place, Stack: "posts@x", Wave: 1, State: fleet.Asks, Kind: run.KindDeploy, Careful: true}}}, nil); err != nil {
		t.Fatal(err)
	}
	first, err := s.PlaceIn(t.Context(), "r", 0)
	if err != nil || len(first) != 1 {
		t.Fatalf("%v %v", first, err)
	}
	second := first[0]
	if done, err := s.SetApprovals(t.Context(), &first[0], "r", []string{"ann"}); !done || err != nil {
		t.Fatalf("%t %v", done, err)
	}
	if done, err := s.SetApprovals(t.Context(), &second, "r", []string{"ben"}); done || err != nil {
		t.Fatalf("the second one: %t %v", done, err)
	}
	again, err := s.PlaceIn(t.Context(), "r", 0)
	if err != nil || string(again[0].Approvals) != `["ann"]` {
		t.Fatalf("%s %v", again[0].Approvals, err)
	}
	if done, err := s.SetApprovals(t.Context(), &again[0], "r", []string{"ann", "ben"}); !done || err != nil {
		t.Fatalf("%t %v", done, err)
	}
}
