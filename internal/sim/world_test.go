// Package sim lives through made-up futures of the whole program, each of one seed: people with their files, a cloud that
// fails, hands in it, processes that end anywhere. Time is virtual. A truth that shares no code with the program watches
// the cloud's side of each call, and what the program says and does is held against it.
package sim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/profile"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// cloudURL is where the cloud of a world seems to be.
const cloudURL = "http://cloud.example"

// world is a future while it happens.
type world struct {
	seed   uint64
	dir    string // of all files of this world
	begun  time.Time
	yard   *yard.Yard
	cloud  yard.Transport
	tokens map[string]string
	truth  *truth
	models []*model
	people []*person
	hands  int // what hands have asked of the cloud
	filled int // how often something was put into what holds data

	built    map[*model][]*node  // the nodes of what was deployed last
	deployed map[*model]rules    // the policies of what was deployed last, as far as is sure
	ever     map[string]bool     // stack/node of what had the policy Keep at some time, or left its stack
	saved    map[*model]savedSet // change sets that were saved

	mu    sync.Mutex
	story []string
	wrong []string // what does not hold
	runs  []*running
	met   map[string]int // how often each act, fault and state was met
}

// person has a process, and another one after that has ended.
type person struct {
	w     *world
	name  string
	app   *app.App
	dead  func() // ends what the process does
	ctx   context.Context
	left  int // chances until the process is killed; 0 is that it is not
	ended bool
	stops map[string]int // what is to happen once so many chances have passed: see stall
	wakes time.Time
	mine  sync.WaitGroup // what its process does
	slept map[string]int
}

var errKilled = errors.New("the process was killed")

// empty is a world in which nothing has happened: its files are copied, as making the tables takes long.
func empty(dir string) error {
	if err := os.MkdirAll(filepath.Join(dir, "home"), 0o700); err != nil {
		return err
	}
	y, err := yard.Open(dir, yard.Options{Library: profile.Read().Library})
	if err != nil {
		return err
	}
	a, err := app.Open(app.Options{Home: filepath.Join(dir, "home"), Store: app.InFile, CloudURL: cloudURL, Tokens: y.Tokens()})
	if err != nil {
		return err
	}
	return errors.Join(a.Close(), y.Close())
}

// newWorld is a world in a folder that begins as an empty one.
func newWorld(dir string, seed uint64) (*world, error) {
	w := &world{seed: seed, dir: dir, begun: time.Now(), met: map[string]int{}, built: map[*model][]*node{}, deployed: map[*model]rules{}, ever: map[string]bool{}, saved: map[*model]savedSet{}}
	y, err := yard.Open(dir, yard.Options{Library: profile.Read().Library})
	if err != nil {
		return nil, err
	}
	w.yard, w.tokens, w.cloud = y, y.Tokens(), yard.Transport{Handler: y.Handler()}
	w.truth = newTruth(w)
	for _, name := range []string{"Ada", "Ben"} {
		w.people = append(w.people, &person{w: w, name: name, slept: map[string]int{}, stops: map[string]int{}})
	}
	return w, nil
}

func (w *world) close() {
	for _, p := range w.people {
		p.end()
	}
	if err := w.yard.Close(); err != nil {
		w.fault("the cloud does not close: %v", err)
	}
}

// clock is how long the world has lasted.
func (w *world) clock() time.Duration { return time.Since(w.begun) }

// tell adds a line to the story.
func (w *world) tell(format string, args ...any) {
	line := fmt.Sprintf("%9s  %s", w.clock().Round(time.Millisecond), w.scrub(fmt.Sprintf(format, args...)))
	w.mu.Lock()
	defer w.mu.Unlock()
	w.story = append(w.story, line)
}

// fault notes that something does not hold.
func (w *world) fault(format string, args ...any) {
	text := w.scrub(fmt.Sprintf(format, args...))
	w.tell("WRONG: %s", text)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.wrong = append(w.wrong, text)
}

func (w *world) meet(what string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.met[what]++
}

var chance = regexp.MustCompile(`[a-z]+~[a-z0-9]{4}-[a-z0-9]{4}|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}`)

// scrub takes out of words what is by chance: folders, ids.
func (w *world) scrub(text string) string {
	text = strings.ReplaceAll(text, w.dir+"/", "")
	return chance.ReplaceAllStringFunc(text, func(id string) string {
		if name := w.truth.nameOf(id); name != "" {
			return "<" + name + ">"
		}
		return "<id>"
	})
}

// process is the person's process; a new one where the last has ended.
func (p *person) process() *app.App {
	if p.app != nil && !p.ended {
		return p.app
	}
	p.end()
	p.ended, p.left, p.wakes = false, 0, time.Time{}
	clear(p.stops)
	p.ctx, p.dead = context.WithCancel(context.Background())
	a, err := app.Open(app.Options{Home: filepath.Join(p.w.dir, "home"), Store: app.InFile, Speed: 1, CloudURL: cloudURL,
		Tokens: p.w.tokens, Seams: app.Seams{Reach: p, Halt: p.halt, Around: p.around}})
	if err != nil {
		panic(fmt.Sprintf("open: %v", err))
	}
	p.app = a
	return a
}

// end ends the process, and waits for all that it did.
func (p *person) end() {
	if p.app == nil {
		return
	}
	p.dead()
	p.mine.Wait()
	if err := p.app.Close(); err != nil {
		p.w.fault("%s's store does not close: %v", p.name, err)
	}
	p.app = nil
}

// die counts a chance of the process to be killed, and says whether it is dead.
func (p *person) die(at string) error {
	p.w.mu.Lock()
	now := false
	if p.left > 0 && !p.ended {
		p.left--
		now = p.left == 0
		p.ended = now
	}
	ended := p.ended
	p.w.mu.Unlock()
	if now {
		p.w.tell("%s's process is killed %s", p.name, at)
		p.dead()
	}
	if ended {
		return errKilled
	}
	return nil
}

// jitter lets those who do something at the same time come one after the other, in an order that the seed and what they
// do decide alone.
func (p *person) jitter(what string) {
	p.w.mu.Lock()
	p.slept[what]++
	n := p.slept[what]
	p.w.mu.Unlock()
	h := fnv.New64a()
	fmt.Fprint(h, p.w.seed, p.name, what, n)
	time.Sleep(time.Duration(1 + h.Sum64()%1_000_000)) // up to a millisecond, in nanoseconds
}

func (p *person) halt(at string) error {
	p.jitter(at)
	p.sleeps()
	return p.die(at)
}

// due counts a chance of something, and says whether its time has come.
func (p *person) due(what string) bool {
	p.w.mu.Lock()
	defer p.w.mu.Unlock()
	if p.stops[what] == 0 || p.ended {
		return false
	}
	p.stops[what]--
	return p.stops[what] == 0
}

// sleeps lets the whole process stand still for some minutes, as a machine does that is put to sleep: leases run out.
func (p *person) sleeps() {
	if p.due("sleep") {
		p.w.mu.Lock()
		p.wakes = time.Now().Add(3 * time.Minute)
		p.w.mu.Unlock()
		p.w.meet("the machine sleeps")
		p.w.tell("%s's machine sleeps", p.name)
	}
	p.w.mu.Lock()
	wakes := p.wakes
	p.w.mu.Unlock()
	time.Sleep(time.Until(wakes))
}

func (p *person) around(write func() error) error {
	p.sleeps()
	if err := p.die("before it writes to the store"); err != nil {
		return err
	}
	if p.due("the disk is full") {
		p.w.meet("the disk is full")
		p.w.tell("%s's disk is full", p.name)
		return errors.New("the disk is full")
	}
	if err := write(); err != nil {
		return err
	}
	if p.due("the answer is lost") {
		p.w.meet("the answer is lost")
		p.w.tell("the store does not answer %s, and has written", p.name)
		return errors.New("the store did not answer")
	}
	return p.die("after it wrote to the store")
}

// RoundTrip is a call of the cloud.
func (p *person) RoundTrip(req *http.Request) (*http.Response, error) {
	c, err := p.w.truth.calls(req)
	if err != nil {
		return nil, err
	}
	p.jitter(c.words())
	p.sleeps()
	if err := p.die("before " + c.words()); err != nil {
		return nil, err
	}
	resp, err := p.w.cloud.RoundTrip(req)
	switch {
	case resp != nil:
		err = errors.Join(err, p.w.truth.answered(c, resp))
	case err != nil && c.changes():
		p.w.truth.lost(c)
	}
	if c.method != http.MethodGet && p.due("the cloud is silent") {
		p.w.meet("the cloud is silent")
		p.w.tell("the cloud does not answer %s: %s", p.name, c.words())
		select {
		case <-req.Context().Done():
			return nil, req.Context().Err()
		case <-time.After(10 * time.Minute):
			return nil, errors.New("the connection was closed")
		}
	}
	if p.due("the cloud talks nonsense") {
		p.w.meet("the cloud talks nonsense")
		p.w.tell("the cloud answers %s nonsense: %s", p.name, c.words())
		return &http.Response{StatusCode: http.StatusBadGateway, Status: "502 Bad Gateway", Header: http.Header{"Content-Type": {"text/html"}},
			Body: io.NopCloser(strings.NewReader("<html>snow</html>")), Request: req}, nil
	}
	if c.changes() {
		err = errors.Join(err, p.die("after "+c.words()))
	}
	if err != nil {
		return nil, err
	}
	return resp, nil
}

// thing is what is in the cloud, as its operator sees it.
type thing struct {
	yard.Listed
	text string // all that counts of it, as JSON
}

// there is what is in the cloud, by id; of one stack, or of all.
func (w *world) there(name string) map[string]thing {
	list, err := w.door().Everything(context.Background(), name)
	if err != nil {
		w.fault("the cloud does not list what is there: %v", err)
	}
	out := map[string]thing{}
	for _, l := range list {
		b, err := json.Marshal(map[string]any{"properties": l.Properties, "tags": l.Tags})
		if err != nil {
			panic(err)
		}
		out[l.ID] = thing{l, string(b)}
	}
	return out
}

func (w *world) door() *yard.Door {
	return &yard.Door{Base: cloudURL, HTTP: &http.Client{Transport: w.cloud}, Token: w.tokens[yard.Operator]}
}

// running is a run that somebody carries out.
type running struct {
	by     *person
	model  *model
	number int
	kind   run.Kind
	nodes  []*node           // that are deployed; nil where that is not what is written
	rules  rules             // as they are written; nil where what is deployed is not what is written
	was    rules             // of what was deployed before, as far as is sure
	fills  int               // how often something had been filled by then
	agreed map[string]string // what was agreed to, by resource: the kind of its change
	first  map[string]bool   // whose old one goes before the new one is made
	oneWay map[string]bool   // what cannot be put back
	ids    map[string]string // in the cloud, when it began
	before map[string]thing
	at     time.Duration
	ended  bool
	heard  bool   // that it was begun
	state  string // as far as this world has heard
}

// write writes the files of a stack.
func (w *world) write(m *model) {
	for name, text := range m.files() {
		path := filepath.Join(w.dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			panic(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			panic(err)
		}
	}
}

// stackOf is the stack of a model, as it is recorded; nil is none yet.
func (w *world) stackOf(a *app.App, m *model) *stack.Stack {
	st, err := a.Find(context.Background(), m.name)
	if err != nil {
		return nil
	}
	return st
}

// sorted are the keys of a map, in order.
func sorted[T any](m map[string]T) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
