package programs

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
)

var here = stack.Target{Account: "workshop", Region: "alder-1"}

// wanted is a request for a resource that a shell program makes.
func wanted(dir, program string, atOnce int) cloud.Request {
	one := map[string]any{"file": "it", "interpreter": "sh", "text": program, "digest": Digest([]byte(program)), "folder": dir, "time_ms": 10_000, "at_once": atOnce}
	return cloud.Request{Type: Type, Properties: map[string]any{"own_type": "Thing", "own_properties": map[string]any{"name": "a"},
		"own_programs": map[string]any{"create": one, "read": one, "update": one, "delete": one}}, Tags: map[string]string{"stack": "ward", "node": "it"}}
}

func ends(t *testing.T, c *Cloud, o cloud.Operation, err error) cloud.Operation {
	t.Helper()
	for err == nil && !o.Ended() {
		time.Sleep(10 * time.Millisecond)
		o, err = c.Operation(t.Context(), cloud.Ref{Target: here}, o.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	return o
}

func opened(t *testing.T, dir string) *Cloud {
	t.Helper()
	c, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

const slow = `in=$(cat); case $in in *'"operation":"create"'*) echo begun >> calls; echo '{"step":"half","number":1,"of":2}'; sleep 0.6; echo ended >> calls;; esac
echo '{"id":"thing-1"}'`

// A process that goes while a program runs ends nothing: whoever sends the same key again hears
// the same answer, and the program ran once, to its end.
func TestTheSameKeyInAnotherProcess(t *testing.T) {
	dir, work := t.TempDir(), t.TempDir()
	c := opened(t, dir)
	o, err := c.Create(t.Context(), here, "key-1", wanted(work, slow, 1))
	if err != nil || o.Ended() {
		t.Fatalf("%v %+v", err, o)
	}
	var wait sync.WaitGroup
	for range 3 { // as if this process were gone, and others came
		wait.Go(func() {
			other := opened(t, dir)
			o, err := other.Create(t.Context(), here, "key-1", wanted(work, slow, 1))
			if o = ends(t, other, o, err); o.State != "done" || o.ResourceID != "thing-1" {
				t.Errorf("%+v %+v", o, o.Problem)
			}
		})
	}
	wait.Wait()
	if calls, _ := os.ReadFile(filepath.Join(work, "calls")); string(calls) != "begun\nended\n" {
		t.Errorf("it ran: %q", calls)
	}
	other := wanted(work, slow, 1)
	other.Properties["own_properties"] = map[string]any{"name": "b"}
	if _, err := c.Create(t.Context(), here, "key-1", other); err == nil || !strings.Contains(err.Error(), "sent before with something else") {
		t.Errorf("the same key for something else: %v", err)
	}
	// Later too, from another process, when all is done.
	last := opened(t, dir)
	o, err = last.Create(t.Context(), here, "key-1", wanted(work, slow, 1))
	if o = ends(t, last, o, err); o.State != "done" {
		t.Errorf("%+v", o.Problem)
	}
	if calls, _ := os.ReadFile(filepath.Join(work, "calls")); string(calls) != "begun\nended\n" {
		t.Errorf("it ran again: %q", calls)
	}
	list, err := last.List(t.Context(), here, "ward")
	if err != nil || len(list) != 1 || list[0].ID != "thing-1" {
		t.Errorf("%v %+v", err, list)
	}
}

// A call that may have begun runs no second time: not where its answer could not be kept, as on a full disk, nor where all that
// was kept of calls has vanished. Where it cannot be written down that it begins, it does not begin. What is there is found by the key.
func TestRunsOnce(t *testing.T) {
	made := `in=$(cat); case $in in *'"operation":"create"'*) echo begun >> calls; VANISH; echo '{"id":"thing-1"}';; *'"operation":"delete"'*) rm -f calls; echo '{}';;
*) if [ -e calls ]; then echo '{"id":"thing-1","properties":{"name":"a"}}'; else echo '{"gone":true}'; fi;; esac`
	for name, vanish := range map[string]string{
		"the folder of calls goes":     "rm -rf DIR/calls",
		"that of this call":            "rm -rf DIR/calls/*",
		"it becomes one of somebody":   "rm -rf DIR/calls; echo x > DIR/calls",
		"its keeper dies":              "kill -9 $PPID",
		"it says something unreadable": "echo '{{{'; exit 0",
		"it fails, and has made it":    "exit 3",
		"the keeper dies and all goes": "rm -rf DIR/calls; kill -9 $PPID",
	} {
		t.Run(name, func(t *testing.T) {
			dir, work := t.TempDir(), t.TempDir()
			program := strings.ReplaceAll(strings.Replace(made, "VANISH", vanish, 1), "DIR", dir)
			for i := range 4 {
				c := opened2(dir)
				if c == nil { // what is there in its place is in the way
					if err := os.RemoveAll(filepath.Join(dir, "calls")); err != nil {
						t.Fatal(err)
					}
					c = opened(t, dir)
				}
				o, err := c.Create(t.Context(), here, "key-1", wanted(work, program, 1))
				for err == nil && !o.Ended() {
					time.Sleep(10 * time.Millisecond)
					o, err = c.Operation(t.Context(), cloud.Ref{Target: here}, o.ID)
				}
				if err != nil {
					t.Logf("try %d: %v", i, err)
				} else if o.ResourceID != "thing-1" {
					t.Errorf("try %d: %s %+v", i, o.State, o.Problem)
				}
			}
			if calls, _ := os.ReadFile(filepath.Join(work, "calls")); string(calls) != "begun\n" {
				t.Errorf("it ran: %q", calls)
			}
		})
	}
	// Where nothing can be written down, nothing begins.
	dir, work := t.TempDir(), t.TempDir()
	c := opened(t, dir)
	if err := os.RemoveAll(filepath.Join(dir, "begun")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "begun"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	o, err := c.Create(t.Context(), here, "key-1", wanted(work, strings.Replace(made, "VANISH", "true", 1), 1))
	for err == nil && !o.Ended() {
		time.Sleep(10 * time.Millisecond)
		o, err = c.Operation(t.Context(), cloud.Ref{Target: here}, o.ID)
	}
	if err == nil && o.State == "done" {
		t.Error("it is done, and was not written down")
	}
	if _, err := os.Stat(filepath.Join(work, "calls")); err == nil {
		t.Error("it ran")
	}
}

func opened2(dir string) *Cloud {
	c, err := Open(dir)
	if err != nil {
		return nil
	}
	return c
}

// Only who has the key of a folder can have a call of it carried out.
func TestAKeeperAsksForTheKey(t *testing.T) {
	dir := t.TempDir()
	opened(t, dir)
	for text, in := range map[string]string{"was not sealed": dir, "not the folder": t.TempDir()} {
		if err := keep(in, strings.NewReader(`{"program":{"text":"touch /tmp/x"}}`)); err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%s: %v", in, err)
		}
	}
	for _, args := range [][]string{nil, {"keep-call"}, {"deploy", "keep-call"}} {
		if _, is := Serve(args); is {
			t.Errorf("%v is taken for a keeper", args)
		}
	}
}

// Of a type as many programs run at once as it says, in however many processes.
func TestAsManyAtOnce(t *testing.T) {
	dir, work := t.TempDir(), t.TempDir()
	program := `in=$(cat); mkdir run.$$; set -- run.*; echo $# >> most; sleep 0.15; rmdir run.$$; echo '{"id":"thing-'$$'"}'`
	var wait sync.WaitGroup
	for i := range 8 {
		wait.Go(func() {
			c := opened(t, dir)
			o, err := c.Create(t.Context(), here, fmt.Sprint("key-", i), wanted(work, program, 3))
			if o = ends(t, c, o, err); o.State != "done" {
				t.Errorf("%+v", o.Problem)
			}
		})
	}
	wait.Wait()
	text, _ := os.ReadFile(filepath.Join(work, "most"))
	if n := strings.Count(string(text), "\n"); n != 8 {
		t.Errorf("%d calls", n)
	}
	if strings.ContainsAny(string(text), "45678") {
		t.Errorf("at once: %q", text)
	}
}

// What is wrong with a program is found, and what is right is not.
func TestConform(t *testing.T) {
	good := `in=$(cat); field() { printf '%s' "$in" | sed -n 's/.*"'$1'":"\([^"]*\)".*/\1/p'; }
op=$(field operation); key=$(printf '%s' "$in" | sed 's/.*"key":"\([^"]*\)".*/\1/' | tr -c 'a-z0-9\n' _); id=$(field id)
name=$(printf '%s' "$in" | sed 's/.*"properties":{\([^}]*\)}.*/\1/' | sed -n 's/.*"name":"\([^"]*\)".*/\1/p')
mkdir -p keys things
answer() { printf '{"id":"%s","properties":{"name":"%s"}}\n' "$1" "$(cat things/$1)"; }
case $op in
create) if [ ! -e keys/$key ]; then n=$$; echo $n > keys/.$key; mv keys/.$key keys/$key; fi; id=$(cat keys/$key); echo $name > things/$id; answer $id ;;
read) if [ -z "$id" ]; then id=$(cat keys/$key); fi; if [ -e things/$id ]; then answer $id; else echo '{"gone":true}'; fi ;;
update) echo $name > things/$id; answer $id ;;
delete) rm -f things/$id; echo '{"gone":true}' ;;
esac`
	for what, test := range map[string]struct{ from, to, fails string }{
		"all as it should be":     {"", "", ""},
		"makes another each time": {"if [ ! -e keys/$key ]; then n", "if true; then n", "the same key makes nothing twice"},
		"forgets the edit":        {"update) echo $name > things/$id;", "update)", "update changes it"},
		"removes nothing":         {"delete) rm -f things/$id;", "delete)", "delete removes it"},
		"another id by an edit":   {"update) echo $name > things/$id; answer $id ;;", `update) echo '{"id":"other"}' ;;`, "update keeps the id"},
		"tells the secret":        {"create) ", `create) echo "$in" >&2; `, "no secret is told"},
		"fails the second time":   {"delete) rm -f things/$id;", "delete) rm things/$id || exit 1;", "delete of what is gone is no failure"},
		"no key at reading":       {`if [ -z "$id" ]; then id=$(cat keys/$key); fi;`, "", "read finds by the key of the creation"},
	} {
		program := strings.Replace(good, test.from, test.to, 1)
		r := wanted(t.TempDir(), program, 4)
		k, err := requested(here, r)
		if err != nil {
			t.Fatal(err)
		}
		k.Settings = map[string]any{"name": "scratch-1", "word": "hunter2-of-the-huts"}
		k.Secrets = []string{"/word"}
		checks, err := Conform(t.Context(), k, map[string]any{"name": "scratch-2", "word": "hunter2-of-the-huts"})
		if err != nil {
			t.Fatal(err)
		}
		failed := ""
		for _, c := range checks {
			if !c.Passes {
				failed += c.Name + "; "
			}
			if strings.Contains(c.Said, "hunter2") {
				t.Errorf("%s: the secret is told: %s", what, c.Said)
			}
		}
		if test.fails == "" && failed != "" || !strings.Contains(failed, test.fails) {
			t.Errorf("%s: failed is %q of %+v", what, failed, checks)
		}
		left, _ := os.ReadDir(filepath.Join(k.Programs["create"].Folder, "things"))
		if len(left) > 0 && test.fails != "delete removes it" && test.fails != "the same key makes nothing twice" && test.fails != "delete of what is gone is no failure" {
			t.Errorf("%s: it left %v", what, left)
		}
	}
}

// FuzzLines lets anything be printed: there is an answer, or words about what is wrong.
func FuzzLines(f *testing.F) {
	for _, s := range []string{`{"id":"a"}`, "{\"step\":\"x\"}\n{\"gone\":true}", "no", "{}\n{}", `{"id":1}`, "{\"step\":\"x\",\"number\":1,\"of\":-3}\n", "\x00", `{"problem":{"status":"x"}}`} {
		f.Add([]byte(s), 3)
	}
	f.Fuzz(func(t *testing.T, text []byte, at int) {
		whole, parts := &lines{}, &lines{}
		_, _ = whole.Write(text)
		at = max(0, min(at, len(text)))
		_, _ = parts.Write(text[:at])
		_, _ = parts.Write(text[at:])
		if (whole.wrong == nil) != (parts.wrong == nil) || (whole.answer == nil) != (parts.answer == nil) || whole.steps != parts.steps {
			t.Errorf("in parts it is another: %v %v", whole.wrong, parts.wrong)
		}
		if whole.answer != nil {
			for _, op := range []string{opCreate, opRead, opUpdate, opDelete, opPlan, opList, opAction} {
				_ = whole.answer.fits(op)
			}
			_ = (&outcome{Answer: whole.answer}).problem("it")
		}
	})
}

// BenchmarkRead reads resources beside each other: a program starts once a call.
func BenchmarkRead(b *testing.B) {
	c, err := Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	work := b.TempDir()
	program := `cat > /dev/null; echo x >> calls; echo '{"id":"thing-1"}'`
	k, err := requested(here, wanted(work, program, 4))
	if err != nil {
		b.Fatal(err)
	}
	k.ID = "thing-1"
	n := 0
	for b.Loop() {
		n++
		if _, err := c.read(context.Background(), &k); err != nil {
			b.Fatal(err)
		}
	}
	text, _ := os.ReadFile(filepath.Join(work, "calls"))
	b.ReportMetric(float64(strings.Count(string(text), "x"))/float64(n), "starts/call")
}

// TestMain lets the test binary be one of the processes that are begun.
func TestMain(m *testing.M) {
	if code, is := Serve(os.Args[1:]); is {
		os.Exit(code)
	}
	os.Exit(m.Run())
}
