package programs

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"reflect"
	"slices"
	"strings"
	"syscall"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
)

// Check is one thing that a program has to do as the protocol says.
type Check struct {
	Name   string `json:"check"`
	Passes bool   `json:"passes"`
	Said   string `json:"said"` // what was heard
}

// trial holds the programs of a type against the protocol, on a scratch name.
type trial struct {
	cloud   *Cloud
	known   Known
	other   map[string]any // the properties of an edit; nil where none can be made
	secrets *tosca.Secrets
	checks  []Check
	n       int
	stamp   string
}

// Conform holds the programs of a type against the protocol: it makes a resource on a scratch name,
// reads, changes and removes it, sends keys twice, and kills programs in the middle. What it made it
// removes. Other are the properties that an edit has; nil is none.
func Conform(ctx context.Context, k Known, other map[string]any) ([]Check, error) {
	dir, err := os.MkdirTemp("", "brickrow-type-test")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	c, err := Open(dir)
	if err != nil {
		return nil, err
	}
	t := &trial{cloud: c, known: k, other: other, secrets: &tosca.Secrets{}, stamp: fmt.Sprint(time.Now().UnixNano())}
	t.secrets.AddText(k.texts()...)
	t.all(ctx)
	return t.checks, ctx.Err()
}

func (t *trial) key(name string) string {
	t.n++
	return fmt.Sprintf("type-test/%s/%s/%d", t.stamp, name, t.n)
}

func (t *trial) note(name string, passes bool, format string, args ...any) bool {
	t.checks = append(t.checks, Check{name, passes, t.secrets.Hide(fmt.Sprintf(format, args...))})
	return passes
}

// call calls a program, and looks at what any call has to keep to.
func (t *trial) call(ctx context.Context, operation, key, id string, change func(*call)) (*outcome, error) {
	k := t.known
	k.ID = id
	e, err := t.cloud.errand(ctx, &k, operation, operation, key)
	if err != nil {
		return nil, err
	}
	e.Secrets = nil // that nothing hides what it tells
	if change != nil {
		change(&e.Call)
	}
	told := ""
	o := e.run(ctx, func(s Step) { told += s.Step + "\n" })
	answer, _ := json.Marshal(o.Answer)
	for what, text := range map[string]string{"a step": told, "its standard error": o.Errors} {
		if t.secrets.In(text) {
			t.note("no secret is told", false, "%s of %s has one in it", what, operation)
		}
	}
	if o.Answer != nil && o.Answer.Problem != nil && t.secrets.In(string(answer)) {
		t.note("no secret is told", false, "the problem of %s has one in it", operation)
	}
	return o, nil
}

// good reports whether a call was answered as it has to be, and notes it.
func (t *trial) good(name string, o *outcome, err error) bool {
	switch {
	case err != nil:
		return t.note(name, false, "%v", err)
	case o.Wrong != "" || o.Answer == nil || o.Answer.Problem != nil:
		return t.note(name, false, "%s", o.problem("it").Detail)
	}
	return true
}

func idOf(o *outcome) string {
	if o == nil || o.Answer == nil || o.Answer.ID == nil {
		return ""
	}
	return *o.Answer.ID
}

func (t *trial) all(ctx context.Context) {
	key := t.key("create")
	made, err := t.call(ctx, opCreate, key, "", nil)
	if !t.good("create makes it", made, err) {
		return
	}
	id := idOf(made)
	t.note("create makes it", true, "its id is %s", id)
	ids := map[string]bool{id: true}
	defer func() {
		for id := range ids {
			_, _ = t.call(context.WithoutCancel(ctx), opDelete, t.key("clear"), id, nil)
		}
	}()
	if again, err := t.call(ctx, opCreate, key, "", nil); t.good("the same key makes nothing twice", again, err) {
		ids[idOf(again)] = true
		t.note("the same key makes nothing twice", idOf(again) == id, "sent twice, it answered %s and then %s", id, idOf(again))
	}
	t.reads(ctx, id, t.known.Settings, "read tells what was made")
	if o, err := t.call(ctx, opRead, key, "", nil); err == nil {
		t.note("read finds by the key of the creation", idOf(o) == id, "asked without an id, it answered %s", said(o))
	}
	t.lists(ctx, id)
	if _, can := t.known.Programs[opUpdate]; can && t.other != nil {
		t.updates(ctx, id)
	}
	t.killed(ctx, ids)
	gone := t.key("delete")
	if o, err := t.call(ctx, opDelete, gone, id, nil); t.good("delete removes it", o, err) {
		delete(ids, id)
		o, err = t.call(ctx, opRead, t.key("read"), id, nil)
		t.note("delete removes it", err == nil && o.Answer != nil && o.Answer.Gone, "read afterwards answered %s", said(o))
		o, err = t.call(ctx, opDelete, gone, id, nil)
		t.note("delete of what is gone is no failure", err == nil && o.Wrong == "" && o.Answer != nil && o.Answer.Gone, "it answered %s", said(o))
	}
	if !slices.ContainsFunc(t.checks, func(c Check) bool { return c.Name == "no secret is told" }) && !t.secrets.Empty() {
		t.note("no secret is told", true, "none was in steps, problems and standard error")
	}
}

// said is an answer in a few words.
func said(o *outcome) string {
	switch {
	case o == nil:
		return "nothing"
	case o.Wrong != "":
		return o.Wrong
	}
	text, _ := json.Marshal(o.Answer)
	return shortly(text)
}

// reads holds what a resource is against what was asked for.
func (t *trial) reads(ctx context.Context, id string, want map[string]any, name string) {
	o, err := t.call(ctx, opRead, t.key("read"), id, nil)
	if !t.good(name, o, err) {
		return
	}
	secret := func(key string) bool {
		return slices.ContainsFunc(t.known.Secrets, func(p string) bool { return cloud.Below(p, tosca.Pointer(key)) })
	}
	for _, key := range slices.Sorted(maps.Keys(want)) {
		if is, told := o.Answer.Properties[key]; told && !secret(key) && !reflect.DeepEqual(plain(is), plain(want[key])) {
			t.note(name, false, "%s is %v, and was asked to be %v", key, is, want[key])
			return
		}
	}
	t.note(name, idOf(o) == id, "its id is %s", idOf(o))
}

func (t *trial) lists(ctx context.Context, id string) {
	if _, can := t.known.Programs[opList]; !can {
		return
	}
	o, err := t.call(ctx, opList, t.key("list"), "", nil)
	if !t.good("list names it once", o, err) {
		return
	}
	n := 0
	for _, a := range o.Answer.Items {
		if a.ID != nil && *a.ID == id {
			n++
		}
	}
	t.note("list names it once", n == 1, "%s is there %d times among %d", id, n, len(o.Answer.Items))
}

func (t *trial) updates(ctx context.Context, id string) {
	key, before := t.key("update"), t.known.Settings
	change := func(c *call) { c.Properties, c.Previous = t.other, before }
	o, err := t.call(ctx, opUpdate, key, id, change)
	if !t.good("update changes it", o, err) {
		return
	}
	t.note("update keeps the id", idOf(o) == id, "it answered %s", idOf(o))
	if again, err := t.call(ctx, opUpdate, key, id, change); t.good("the same update twice is one", again, err) {
		t.note("the same update twice is one", idOf(again) == id, "it answered %s", idOf(again))
	}
	t.known.Settings = t.other
	t.reads(ctx, id, t.other, "update changes it")
	if o, err := t.call(ctx, opUpdate, t.key("back"), id, func(c *call) { c.Properties, c.Previous = before, t.other }); err == nil && o.Wrong == "" {
		t.known.Settings = before
	}
}

// killed kills a creation in the middle, and sends the same key again.
func (t *trial) killed(ctx context.Context, ids map[string]bool) {
	for _, after := range []time.Duration{5 * time.Millisecond, 30 * time.Millisecond, 120 * time.Millisecond} {
		key := t.key("killed")
		k := t.known
		k.Settings = t.elsewhere(key)
		e, err := t.cloud.errand(ctx, &k, opCreate, opCreate, key)
		if err != nil {
			return
		}
		t.killOne(e, after)
		o := e.run(ctx, func(Step) {})
		if o.Wrong != "" || idOf(o) == "" {
			if o.Answer != nil && o.Answer.Problem != nil {
				return // it cannot be made twice beside each other
			}
			t.note("killed in the middle, the same key goes on", false, "killed after %s, then it said: %s", after, said(o))
			return
		}
		id := idOf(o)
		ids[id] = true
		if again := e.run(ctx, func(Step) {}); idOf(again) != id {
			ids[idOf(again)] = true
			t.note("killed in the middle, the same key goes on", false, "killed after %s, it made %s and then %s", after, id, idOf(again))
			return
		}
		if o, err := t.call(ctx, opDelete, t.key("clear"), id, nil); err == nil && o.Wrong == "" {
			delete(ids, id)
		}
	}
	t.note("killed in the middle, the same key goes on", true, "at three moments")
}

// elsewhere are the properties with another scratch name in them, so that nothing stands in the way.
func (t *trial) elsewhere(key string) map[string]any {
	out := map[string]any{}
	for k, v := range t.known.Settings {
		if s, ok := v.(string); ok && strings.HasPrefix(s, Scratch) {
			v = s + "-" + hashed(key)[:6]
		}
		out[k] = v
	}
	return out
}

// Scratch is what the names begin with on which a type is tried.
const Scratch = "scratch-"

// killOne runs a program and kills it, and all that it began, after a while.
func (t *trial) killOne(e *errand, after time.Duration) {
	in, err := json.Marshal(e.Call)
	if err != nil {
		return
	}
	args := []string{e.Path}
	if e.Program.Interpreter != "" {
		args = []string{e.Program.Interpreter, e.Path}
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdin, cmd.Env, cmd.Dir = strings.NewReader(string(in)+"\n"), environment(), e.Dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if cmd.Start() != nil {
		return
	}
	timer := time.AfterFunc(after, func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
	_ = cmd.Wait()
	timer.Stop()
}
