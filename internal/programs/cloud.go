package programs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/seal"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Type is the node type from which own types derive, and the one that this cloud has.
const Type = "ProgramResource"

// Known is a resource as this program knows it, without asking: what was sent and answered last.
type Known struct {
	Target      stack.Target       `json:"target"`
	ID          string             `json:"id"`
	Kind        string             `json:"kind"` // its own type
	Tags        map[string]string  `json:"tags"`
	Settings    map[string]any     `json:"settings"`
	Secrets     []string           `json:"secrets,omitempty"` // where they stand, as JSON Pointers below settings
	Facts       map[string]any     `json:"facts"`
	SecretFacts []string           `json:"secret_facts,omitempty"`
	Programs    map[string]Program `json:"programs"`
	Key         string             `json:"key,omitempty"`     // of its creation
	Through     string             `json:"through,omitempty"` // the id of the connection that it is reached through
	// Prints is what stood for its secrets when it was recorded, where it is known by its record
	// alone: this machine may have another key.
	Prints any `json:"-"`
}

// Cloud lets programs be the cloud of resources.
type Cloud struct {
	dir string
	box *seal.Box
	// Prints makes what stands for secrets, by which they are told apart; it is the same for all who share a store.
	Prints func() *seal.Box
	// Recorded lists what is recorded of a stack in a target, or of all stacks where the name is
	// "": resources may have been made on another machine.
	Recorded func(ctx context.Context, t stack.Target, stackName string) ([]Known, error)
	// Deployed reports whether a program, by what Identity tells of it, was part of a deployment from this store. No
	// other one is called; nil lets all be called.
	Deployed func(ctx context.Context, identity string) (bool, error)
	// Connected tells how a connection is set up.
	Connected func(ctx context.Context, t stack.Target, id string) (*Connection, error)

	mu   sync.Mutex
	ops  map[string]*operation // by key
	mine map[string]bool       // the files of what was written by this process: they are newer than any record
	// plans are answers to the same question: a what-if asks it with every letter.
	plans map[string]*Answer
}

// operation is a call under way in this process, or one that has ended.
type operation struct {
	id, kind, digest string
	folder           string // of the call
	begun            time.Time

	mu         sync.Mutex
	step       Step
	resourceID string
	ended      time.Time
	problem    *cloud.Problem
}

// Open opens the folder in which calls and what they made are kept; it is made where it is
// missing.
func Open(dir string) (*Cloud, error) {
	for _, d := range []string{"", "calls", "begun", "made", "bin", "slots"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, err
		}
	}
	b, err := seal.Open(dir)
	return &Cloud{dir: dir, box: b, Prints: func() *seal.Box { return b }, ops: map[string]*operation{}, mine: map[string]bool{}, plans: map[string]*Answer{}}, err
}

// Keep keeps the text of a program, for when its file is gone or another one.
func (c *Cloud) Keep(p Program, text []byte) error {
	path := c.binary(p)
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	return files.Write(path, text, 0o700)
}

func (c *Cloud) binary(p Program) string {
	return filepath.Join(c.dir, "bin", p.Digest[:min(len(p.Digest), 32)]+"-"+filepath.Base(p.File))
}

// path is what is run for a program: its file as it is now, where that is wanted and was deployed once, or as it was
// deployed with the resource.
func (c *Cloud) path(ctx context.Context, p Program, now bool) (string, error) {
	is, text, there := p.Now()
	if now && there {
		ok, err := c.may(ctx, is)
		if err != nil {
			return "", err
		}
		if ok {
			return c.binary(is), c.Keep(is, text)
		}
	}
	if ok, err := c.may(ctx, p); err != nil || !ok {
		return "", cmp.Or[error](err, &NotAskedError{p.File})
	}
	if p.Text != "" && Digest([]byte(p.Text)) == p.Digest {
		return c.binary(p), c.Keep(p, []byte(p.Text))
	}
	if _, err := os.Stat(c.binary(p)); err == nil {
		return c.binary(p), nil
	}
	switch {
	case !there:
		return "", fmt.Errorf("the program %s is neither there nor kept", p.File)
	case is.Digest != p.Digest:
		return "", fmt.Errorf("the program %s is another one than was deployed, and that one is not kept here", p.File)
	}
	return c.binary(p), c.Keep(p, text)
}

// Targets says that this cloud has none of its own.
func (c *Cloud) Targets(context.Context) ([]stack.Target, error) { return nil, nil }

// About says nothing of a target.
func (c *Cloud) About(context.Context, stack.Target) (*cloud.About, error) { return nil, nil }

// NameTaken knows of no names.
func (c *Cloud) NameTaken(context.Context, stack.Target, string, string) (bool, string, error) {
	return false, "", nil
}

// requested is a resource as a request wants it.
func requested(t stack.Target, r cloud.Request) (Known, error) {
	k := Known{Target: t, Tags: map[string]string{}, Settings: map[string]any{}, Facts: map[string]any{}}
	maps.Copy(k.Tags, r.Tags)
	return k, k.take(r)
}

// take takes over what a request names.
func (k *Known) take(r cloud.Request) error {
	if ids, there := r.Links[stack.Through]; there {
		k.Through = strings.Join(ids, "")
	}
	if v, there := r.Properties["own_type"]; there {
		k.Kind = fmt.Sprint(v)
	}
	if v, there := r.Properties["own_properties"]; there {
		k.Settings, k.Secrets = map[string]any{}, nil
		if m, ok := plain(v).(map[string]any); ok {
			k.Settings = m
		}
		for _, p := range r.Secrets {
			if rest, ok := strings.CutPrefix(p, "/properties/own_properties"); ok {
				k.Secrets = append(k.Secrets, rest)
			}
		}
	}
	if v, there := r.Properties["own_programs"]; there {
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		k.Programs = map[string]Program{}
		return json.Unmarshal(text, &k.Programs)
	}
	return nil
}

// plain is a value as encoding/json decodes it.
func plain(v any) any {
	text, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	var out any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if d.Decode(&out) != nil {
		return nil
	}
	return out
}

func (k *Known) stack() string { return k.Tags["stack"] }

// texts are the secrets that its programs are given or have told.
func (k *Known) texts() []string {
	v := cloud.HideAt(tosca.FromJSON(k.Settings), "", k.Secrets)
	out := secretTexts(v, false)
	for _, name := range k.SecretFacts {
		out = append(out, secretTexts(tosca.FromJSON(k.Facts[name]), true)...)
	}
	return out
}

func secretTexts(v tosca.Value, secret bool) (out []string) {
	switch w := v.(type) {
	case tosca.Secret:
		return secretTexts(w.Value, true)
	case tosca.Map:
		for _, e := range w {
			out = append(out, secretTexts(e, secret)...)
		}
	case tosca.List:
		for _, e := range w {
			out = append(out, secretTexts(e, secret)...)
		}
	case nil, tosca.Null, tosca.Bool:
	default:
		if secret {
			out = append(out, tosca.Show(w))
		}
	}
	return out
}

// program is that of an operation.
func (k *Known) program(name string) (Program, error) {
	p, there := k.Programs[name]
	if !there {
		return p, &cloud.Problem{Type: "cannot-change", Title: "no such operation", Status: http.StatusUnprocessableEntity,
			Detail: fmt.Sprintf("the type %s has no program for '%s'", k.Kind, name)}
	}
	if p.TimeMS <= 0 {
		p.TimeMS = usualTime.Milliseconds()
	}
	if p.AtOnce <= 0 {
		p.AtOnce = usualAtOnce
	}
	return p, nil
}

// errand makes ready a call about a resource.
func (c *Cloud) errand(ctx context.Context, k *Known, name, operation, key string) (*errand, error) {
	p, err := k.program(name)
	if err != nil {
		return nil, err
	}
	path, err := c.path(ctx, p, operation == opRead || operation == opDelete || operation == opList)
	if err != nil {
		return nil, err
	}
	dir := p.Folder
	if st, err := os.Stat(dir); dir == "" || err != nil || !st.IsDir() { // it came in an archive, or from elsewhere
		dir = filepath.Join(c.dir, "work", hashed(k.Kind))
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	e := &errand{Dir: dir, Folder: filepath.Join(c.dir, "calls", hashed(k.Kind, key)), Begun: filepath.Join(c.dir, "begun", hashed(k.Kind, key)), Slots: filepath.Join(c.dir, "slots", hashed(k.Kind)), Program: p, Path: path,
		Call: call{API: 1, Operation: operation, Key: key, Stack: k.stack(), Node: k.Tags["node"], Target: k.Target, Type: k.Kind, ID: k.ID,
			Properties: orEmpty(k.Settings), Previous: map[string]any{}, Attributes: orEmpty(k.Facts), Inputs: map[string]any{}},
		Secrets: k.texts()}
	if k.Through != "" {
		if e.Call.Connection, err = c.Connected(ctx, k.Target, k.Through); err != nil {
			return nil, err
		}
		e.Secrets = append(e.Secrets, e.Call.Connection.Secrets...)
	}
	return e, nil
}

func orEmpty(m map[string]any) map[string]any {
	if m == nil {
		return map[string]any{}
	}
	return m
}

// begin begins a call, unless the same was begun before, and lets it go on by itself.
func (c *Cloud) begin(kind, id string, e *errand, then func(o *operation, out *outcome) *cloud.Problem) (cloud.Operation, error) {
	e.Call.Operation = cmpOr(e.Call.Operation, kind)
	text, err := json.Marshal(e.Call)
	if err != nil {
		return cloud.Operation{}, err
	}
	c.mu.Lock()
	o := c.ops[e.Call.Key]
	if o != nil {
		c.mu.Unlock()
		if o.digest != hashed(string(text)) {
			return cloud.Operation{}, &cloud.Problem{Type: "key-used-before", Title: "key used before", Status: http.StatusUnprocessableEntity,
				Detail: "the key " + e.Call.Key + " was sent before with something else to do"}
		}
		return o.wire(), nil
	}
	o = &operation{id: "call~" + hashed(e.Call.Key)[:16], kind: kind, digest: hashed(string(text)), folder: e.Folder, begun: time.Now(), resourceID: id}
	c.ops[e.Call.Key] = o
	c.mu.Unlock()
	go func() {
		out, err := c.carry(context.Background(), e, o)
		var p *cloud.Problem
		switch {
		case err != nil:
			p = &cloud.Problem{Type: "program-failed", Title: "a program could not be called", Status: http.StatusBadGateway, Detail: err.Error()}
		default:
			p = then(o, out)
		}
		o.mu.Lock()
		o.problem, o.ended = p, time.Now()
		o.mu.Unlock()
	}()
	for range 20 { // most are short
		time.Sleep(5 * time.Millisecond)
		if w := o.wire(); w.Ended() {
			return w, nil
		}
	}
	return o.wire(), nil
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func (o *operation) wire() cloud.Operation {
	o.mu.Lock()
	defer o.mu.Unlock()
	w := cloud.Operation{ID: o.id, Kind: o.kind, ResourceID: o.resourceID, State: "working", Step: o.step.Step, StepNumber: max(1, o.step.Number),
		Steps: max(1, o.step.Of), ElapsedMS: time.Since(o.begun).Milliseconds()}
	if w.Step == "" {
		w.Step = "its program runs"
	}
	switch w.NextMS = min(500, max(20, w.ElapsedMS/5)); {
	case o.ended.IsZero():
	case o.problem != nil:
		w.State, w.Problem, w.NextMS = "failed", o.problem, 0
	default:
		w.State, w.NextMS = "done", 0
	}
	return w
}

// Operation reads how far a call is.
func (c *Cloud) Operation(_ context.Context, _ cloud.Ref, id string) (cloud.Operation, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, o := range c.ops {
		if o.id == id {
			return o.wire(), nil
		}
	}
	return cloud.Operation{}, cloud.NotFound("call " + id)
}

// How often a call is made again whose program says that its problem passes, and how long is waited between.
const (
	mostPasses = 8
	firstPause = 500 * time.Millisecond
	mostPause  = time.Minute
)

// carry lets a keeper carry a call out, and again by the same key as long as the program says that its problem passes.
func (c *Cloud) carry(ctx context.Context, e *errand, o *operation) (*outcome, error) {
	pause := firstPause
	for tries := 1; ; tries++ {
		out, err := c.once(ctx, e, o)
		if err != nil || out.Wrong != "" || out.Answer == nil || out.Answer.Problem == nil || !out.Answer.Problem.Passing || tries == mostPasses ||
			calledOff(e.Folder) {
			return out, err
		}
		wait := pause
		if after := out.Answer.Problem.RetryAfter(); after > 0 {
			wait = min(after, mostPause)
		}
		if o != nil {
			o.mu.Lock()
			o.step = Step{Step: fmt.Sprintf("trying again in %s: %s", wait.Round(10*time.Millisecond), out.Answer.Problem.Error())}
			o.mu.Unlock()
		}
		for end := time.Now().Add(wait); time.Now().Before(end) && !calledOff(e.Folder); {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(min(100*time.Millisecond, max(time.Until(end), 0))):
			}
		}
		if calledOff(e.Folder) {
			return out, nil
		}
		for _, name := range []string{e.Begun, filepath.Join(e.Folder, "answer")} {
			if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
		}
		pause = min(pause*2, mostPause)
	}
}

// calledOff reports whether somebody wants a call to end.
func calledOff(folder string) bool {
	_, err := os.Stat(filepath.Join(folder, offFile))
	return err == nil
}

// CallOff lets the program of a call that is under way be told to end: by SIGTERM, then SIGKILL.
func (c *Cloud) CallOff(_ context.Context, _ cloud.Ref, id string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, o := range c.ops {
		if o.id == id && o.folder != "" {
			return files.Write(filepath.Join(o.folder, offFile), nil, 0o600)
		}
	}
	return cloud.NotFound("call " + id)
}

// once lets a keeper carry a call out, and waits for its answer: one that is there, from one that is at it already, or from one that
// is begun. A call that was begun and of which nobody has an answer any more is not begun again: its outcome is lost.
func (c *Cloud) once(ctx context.Context, e *errand, o *operation) (*outcome, error) {
	out, err := c.carried(ctx, e, o)
	if err != nil && ctx.Err() == nil {
		if _, begun := os.Stat(e.Begun); begun == nil {
			return &outcome{Lost: true, Wrong: "it was begun, and its answer cannot be read: " + err.Error()}, nil
		}
	}
	return out, err
}

func (c *Cloud) carried(ctx context.Context, e *errand, o *operation) (*outcome, error) {
	if err := os.MkdirAll(e.Folder, 0o700); err != nil {
		return nil, err
	}
	for tried := false; ; {
		var out outcome
		sealed, err := os.ReadFile(filepath.Join(e.Folder, "answer"))
		if err == nil {
			return &out, c.box.UnsealJSON(string(sealed), &out)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if err := os.MkdirAll(e.Folder, 0o700); err != nil { // somebody may have tidied up
			return nil, err
		}
		lock, free, err := hold(filepath.Join(e.Folder, "lock"))
		if err != nil {
			return nil, err
		}
		if !free {
			c.await(ctx, e, o, nil)
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			continue
		}
		lock.Close()
		if _, err := os.Stat(e.Begun); err == nil {
			return &outcome{Lost: true, Wrong: "it was begun, and its answer was lost"}, nil
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if tried {
			return nil, errors.New("the call could not be written down, so it was not begun: see that the data folder can be written to, and that the disk has room")
		}
		tried = true
		ended, err := c.keeper(e)
		if err != nil {
			return nil, err
		}
		c.await(ctx, e, o, ended)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
}

// await waits until an answer is there, or nobody is at it any more.
func (c *Cloud) await(ctx context.Context, e *errand, o *operation, ended <-chan struct{}) {
	pause := 2 * time.Millisecond
	for {
		select {
		case <-ctx.Done():
			return
		case <-ended:
			return
		case <-time.After(pause):
		}
		pause = min(pause*3/2, 100*time.Millisecond)
		if _, err := os.Stat(filepath.Join(e.Folder, "answer")); err == nil {
			return
		}
		if text, err := os.ReadFile(filepath.Join(e.Folder, "steps")); err == nil {
			all := strings.Split(strings.TrimSpace(string(text)), "\n")
			var s Step
			if c.box.UnsealJSON(all[len(all)-1], &s) == nil && o != nil {
				o.mu.Lock()
				o.step = s
				o.mu.Unlock()
			}
		}
		if ended == nil {
			if lock, free, err := hold(filepath.Join(e.Folder, "lock")); err != nil || free {
				if free {
					lock.Close()
				}
				return
			}
		}
	}
}

// keeper begins one.
func (c *Cloud) keeper(e *errand) (<-chan struct{}, error) {
	if os.Getenv(inKeeper) != "" {
		return nil, errors.New("the process that was to carry out a call has taken itself for another one")
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	text, err := c.box.SealJSON(e)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self, keeperWord, c.dir)
	cmd.Env = append(environment(), inKeeper+"=1")
	cmd.Dir = "/"
	cmd.Stdin = strings.NewReader(text)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	return ended, nil
}

// ask makes a call that changes nothing.
func (c *Cloud) ask(ctx context.Context, k *Known, name, key string) (*Answer, error) {
	e, err := c.errand(ctx, k, name, name, key)
	if err != nil {
		return nil, err
	}
	out := e.run(ctx, func(Step) {})
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if out.Wrong != "" || out.Answer == nil || out.Answer.Problem != nil {
		return nil, out.problem(fmt.Sprintf("%s of %s by %s", name, k.Kind, e.Program.File))
	}
	return out.Answer, nil
}

// answered takes over what an answer says.
func (k *Known) answered(a *Answer) {
	if a.ID != nil {
		k.ID = *a.ID
	}
	if a.Attributes != nil {
		k.Facts = a.Attributes
	}
	k.SecretFacts = a.SecretAttributes
}

// isAs reports whether a program says of a resource that it is as it was asked for; what it does not tell is.
func (k *Known) isAs(a *Answer) bool {
	for name, v := range a.Properties {
		if was, asked := k.Settings[name]; asked && !reflect.DeepEqual(plain(v), plain(was)) {
			return false
		}
	}
	return true
}

// Create begins to make a resource.
func (c *Cloud) Create(ctx context.Context, t stack.Target, key string, r cloud.Request) (cloud.Operation, error) {
	k, err := requested(t, r)
	if err != nil {
		return cloud.Operation{}, err
	}
	k.Key = key
	e, err := c.errand(ctx, &k, opCreate, opCreate, key)
	if err != nil {
		return cloud.Operation{}, err
	}
	return c.begin(opCreate, "", e, func(o *operation, out *outcome) *cloud.Problem {
		var p *cloud.Problem
		made := out.Answer
		if out.Wrong != "" || made == nil || made.Problem != nil {
			p = out.problem("create of " + k.Kind + " by " + e.Program.File)
			if out.Wrong == "" { // it says by itself that there is nothing
				return p
			}
			made, err = c.ask(Carrying(context.Background()), &k, opRead, key) // by the same key
			switch {
			case err != nil:
				p.Detail += "; whether it has made something is not known: " + err.Error()
				return p
			case made.Gone || made.ID == nil:
				return p
			case out.Lost && k.isAs(made): // it is there as it was asked for: the answer alone is missing
				p = nil
			}
		}
		k.answered(made)
		if err := c.write(&k); err != nil && p == nil {
			p = &cloud.Problem{Type: "internal", Title: "it cannot be kept", Status: http.StatusInternalServerError, Detail: err.Error()}
		}
		o.mu.Lock()
		o.resourceID = k.ID
		o.mu.Unlock()
		return p
	})
}

// Update begins to change a resource.
func (c *Cloud) Update(ctx context.Context, r cloud.Ref, key string, change cloud.Request) (cloud.Operation, error) {
	k, err := c.findAny(ctx, r)
	if err != nil {
		return cloud.Operation{}, err
	}
	previous := k.Settings
	before := k.texts()
	if err := k.take(change); err != nil {
		return cloud.Operation{}, err
	}
	if change.Tags != nil && change.Tags["stack"] != k.stack() { // it comes to stand elsewhere
		if err := c.forget(k); err != nil {
			return cloud.Operation{}, err
		}
	}
	if change.Tags != nil {
		k.Tags = maps.Clone(change.Tags)
	}
	if _, there := change.Properties["own_properties"]; !there { // nothing that its programs know of
		done := cloud.Operation{ID: "call~none", Kind: opUpdate, ResourceID: r.ID, State: "done", Steps: 1, StepNumber: 1}
		return done, c.write(k)
	}
	e, err := c.errand(ctx, k, opUpdate, opUpdate, key)
	if err != nil {
		return cloud.Operation{}, err
	}
	e.Call.Previous = orEmpty(previous)
	e.Secrets = append(e.Secrets, before...)
	return c.begin(opUpdate, r.ID, e, func(_ *operation, out *outcome) *cloud.Problem {
		if out.Lost {
			if is, err := c.ask(Carrying(context.Background()), k, opRead, "read "+k.ID); err == nil && !is.Gone && is.ID != nil && k.isAs(is) {
				out = &outcome{Answer: is}
			}
		}
		if out.Wrong != "" || out.Answer == nil || out.Answer.Problem != nil {
			return out.problem("update of " + k.Kind + " by " + e.Program.File)
		}
		if *out.Answer.ID != r.ID {
			return (&outcome{Wrong: fmt.Sprintf("its answer has the id %s: an update keeps the id", *out.Answer.ID)}).problem("update of " + k.Kind + " by " + e.Program.File)
		}
		k.answered(out.Answer)
		return keeping(c.write(k))
	})
}

func keeping(err error) *cloud.Problem {
	if err == nil {
		return nil
	}
	return &cloud.Problem{Type: "internal", Title: "it cannot be kept", Status: http.StatusInternalServerError, Detail: err.Error()}
}

// Delete begins to remove a resource.
func (c *Cloud) Delete(ctx context.Context, r cloud.Ref, key string) (cloud.Operation, error) {
	c.mu.Lock()
	o := c.ops[key]
	c.mu.Unlock()
	if o != nil {
		return o.wire(), nil
	}
	k, err := c.find(ctx, r)
	if err != nil {
		return cloud.Operation{}, err
	}
	e, err := c.errand(ctx, k, opDelete, opDelete, key)
	if err != nil {
		return cloud.Operation{}, err
	}
	return c.begin(opDelete, r.ID, e, func(_ *operation, out *outcome) *cloud.Problem {
		if out.Lost {
			if is, err := c.ask(Carrying(context.Background()), k, opRead, "read "+k.ID); err == nil && is.Gone {
				out = &outcome{Answer: is}
			}
		}
		if out.Wrong != "" || out.Answer == nil || out.Answer.Problem != nil {
			return out.problem("delete of " + k.Kind + " by " + e.Program.File)
		}
		return keeping(c.forget(k))
	})
}

// Act begins an action of a resource.
func (c *Cloud) Act(ctx context.Context, r cloud.Ref, key, action string, inputs map[string]string) (cloud.Operation, error) {
	k, err := c.find(ctx, r)
	if err != nil {
		return cloud.Operation{}, err
	}
	e, err := c.errand(ctx, k, Action(action), opAction, key)
	if err != nil {
		return cloud.Operation{}, err
	}
	e.Call.Action = action
	for name, v := range inputs {
		e.Call.Inputs[name] = v
	}
	return c.begin(action, r.ID, e, func(_ *operation, out *outcome) *cloud.Problem {
		if out.Wrong != "" || out.Answer == nil || out.Answer.Problem != nil {
			return out.problem(action + " of " + k.Kind + " by " + e.Program.File)
		}
		k.answered(out.Answer)
		return keeping(c.write(k))
	})
}

// Action is the name of the program of an action, among those of a resource.
func Action(name string) string { return "action " + name }

// Get reads a resource.
func (c *Cloud) Get(ctx context.Context, r cloud.Ref) (cloud.Resource, error) {
	k, err := c.findAny(ctx, r)
	if err != nil {
		return cloud.Resource{}, err
	}
	return c.read(ctx, k)
}

func (c *Cloud) read(ctx context.Context, k *Known) (cloud.Resource, error) {
	a, err := c.ask(ctx, k, opRead, "read "+k.ID)
	if err != nil {
		return cloud.Resource{}, err
	}
	if a.Gone {
		return cloud.Resource{}, cloud.NotFound(k.ID)
	}
	is := *k
	is.answered(a)
	is.ID = k.ID
	if a.Properties != nil {
		is.Settings = map[string]any{}
		maps.Copy(is.Settings, k.Settings) // what it does not tell is as it was asked for
		for name, v := range a.Properties {
			if _, asked := k.Settings[name]; asked || v != nil && v != "" {
				is.Settings[name] = v
			}
		}
	}
	r := c.resource(&is)
	if k.Prints != nil {
		r.Properties["own_properties"] = recorded(r.Properties["own_properties"], k.Prints, is.Settings, k.Settings)
	}
	return r, nil
}

// recorded puts the recorded fingerprints in the place of those of secrets that are as they were.
func recorded(shown, prints, now, was any) any {
	switch s := shown.(type) {
	case string:
		if p, ok := prints.(string); ok && strings.HasPrefix(s, "fingerprint:") && reflect.DeepEqual(plain(now), plain(was)) {
			return p
		}
	case map[string]any:
		p, _ := prints.(map[string]any)
		n, _ := now.(map[string]any)
		w, _ := was.(map[string]any)
		out := map[string]any{}
		for key, v := range s {
			out[key] = recorded(v, p[key], n[key], w[key])
		}
		return out
	case []any:
		p, _ := prints.([]any)
		n, _ := now.([]any)
		w, _ := was.([]any)
		if len(p) != len(s) || len(n) != len(s) || len(w) != len(s) {
			return shown
		}
		out := make([]any, len(s))
		for i, v := range s {
			out[i] = recorded(v, p[i], n[i], w[i])
		}
		return out
	}
	return shown
}

// resource is what is known in the form of a cloud: secrets are fingerprints.
func (c *Cloud) resource(k *Known) cloud.Resource {
	settings := cloud.HideAt(tosca.FromJSON(k.Settings), "", k.Secrets)
	r := cloud.Resource{ID: k.ID, Type: Type, Account: k.Target.Account, Region: k.Target.Region, State: "ready", Tags: k.Tags, UsedBy: []string{},
		Links: map[string][]string{}, Properties: map[string]any{"own_type": k.Kind, "own_properties": plain(tosca.Reveal(c.Prints().Shown(settings)))},
		Attributes: map[string]any{stack.OwnAttributes: orEmpty(k.Facts)}}
	if k.Through != "" {
		r.Links[stack.Through] = []string{k.Through}
	}
	programs := map[string]any{}
	for name, p := range k.Programs {
		text, _ := json.Marshal(p) // texts and numbers always can
		var m map[string]any
		_ = json.Unmarshal(text, &m)
		programs[name] = m
	}
	r.Properties["own_programs"] = programs
	for _, name := range k.SecretFacts {
		r.SecretAttributes = append(r.SecretAttributes, tosca.Pointer(stack.OwnAttributes, name))
	}
	return r
}

// List lists the resources of a stack in a target; "" is of all, and with Listing also those that nobody has made from here. One that cannot be read is listed
// as it was known last, in the state Unreadable.
func (c *Cloud) List(ctx context.Context, t stack.Target, stackName string) ([]cloud.Resource, error) {
	known, err := c.all(ctx, t, stackName)
	if err != nil {
		return nil, err
	}
	out := make([]*cloud.Resource, len(known))
	var g errgroup.Group
	g.SetLimit(8)
	for i := range known {
		g.Go(func() error {
			r, err := c.read(ctx, &known[i])
			switch {
			case cloud.IsNotFound(err):
				return nil
			case ctx.Err() != nil:
				return ctx.Err()
			case err != nil:
				r = c.resource(&known[i])
				r.State, r.Why = cloud.Unreadable, cloud.Clean(err.Error())
			}
			out[i] = &r
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	list := []cloud.Resource{}
	for _, r := range out {
		if r != nil {
			list = append(list, *r)
		}
	}
	if stackName == "" {
		list = append(list, c.others(ctx, t, known)...)
	}
	return list, nil
}

// What is made is kept in a file each, sealed, below its target and stack.

func (c *Cloud) place(k *Known) string {
	return filepath.Join(c.dir, "made", hashed(k.Target.String(), k.stack()), hashed(k.Kind, k.ID))
}

func (c *Cloud) write(k *Known) error {
	sealed, err := c.box.SealJSON(k)
	if err != nil {
		return err
	}
	path := c.place(k)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	c.mu.Lock()
	c.mine[path] = true
	c.mu.Unlock()
	return files.Write(path, []byte(sealed), 0o600)
}

func (c *Cloud) forget(k *Known) error {
	err := os.Remove(c.place(k))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// all are the resources that are known of a target, sorted by node.
func (c *Cloud) all(ctx context.Context, t stack.Target, stackName string) ([]Known, error) {
	pattern := "*"
	if stackName != "" {
		pattern = hashed(t.String(), stackName)
	}
	paths, err := filepath.Glob(filepath.Join(c.dir, "made", pattern, "[^.]*"))
	if err != nil {
		return nil, err
	}
	var out []Known
	for _, p := range paths {
		text, err := os.ReadFile(p)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		var k Known
		if err == nil {
			err = c.box.UnsealJSON(string(text), &k)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p, err)
		}
		if k.Target == t {
			out = append(out, k)
		}
	}
	if c.Recorded != nil {
		more, err := c.Recorded(ctx, t, stackName)
		if err != nil {
			return nil, err
		}
		for _, k := range more {
			i := slices.IndexFunc(out, func(o Known) bool { return o.ID == k.ID && o.Kind == k.Kind })
			c.mu.Lock()
			newer := i >= 0 && c.mine[c.place(&out[i])]
			c.mu.Unlock()
			switch {
			case i < 0:
				out = append(out, k)
			case !newer: // it may have been changed from elsewhere
				out[i] = k
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Known) int { return strings.Compare(a.Tags["node"]+a.ID, b.Tags["node"]+b.ID) })
	return out, nil
}

func (c *Cloud) find(ctx context.Context, r cloud.Ref) (*Known, error) {
	list, err := c.all(ctx, r.Target, "")
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].ID == r.ID {
			return &list[i], nil
		}
	}
	return nil, cloud.NotFound(r.ID)
}

// Plan asks the program of a resource how it would be changed: in_place, swap or drop_first, because
// of which properties.
func (c *Cloud) Plan(ctx context.Context, k Known, previous map[string]any) (how string, because []string, err error) {
	e, err := c.errand(ctx, &k, opPlan, opPlan, "plan "+k.ID)
	if err != nil {
		return "", nil, err
	}
	e.Call.Previous = orEmpty(previous)
	text, err := json.Marshal([]any{e.Program.Digest, e.Call})
	if err != nil {
		return "", nil, err
	}
	question := hashed(string(text))
	c.mu.Lock()
	known := c.plans[question]
	c.mu.Unlock()
	if known != nil {
		return known.Plan, known.Because, nil
	}
	out := e.run(ctx, func(Step) {})
	if ctx.Err() != nil {
		return "", nil, ctx.Err()
	}
	if out.Wrong != "" || out.Answer == nil || out.Answer.Problem != nil {
		return "", nil, out.problem(fmt.Sprintf("plan of %s by %s", k.Kind, e.Program.File))
	}
	c.mu.Lock()
	c.plans[question] = out.Answer
	c.mu.Unlock()
	return out.Answer.Plan, out.Answer.Because, nil
}
