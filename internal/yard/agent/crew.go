package agent

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"runtime/metrics"
	"slices"
	"sync"
	"syscall"
	"time"
)

// agentWord is the only argument of a process in which scripts run. It ends with its standard input.
const agentWord = "run-scripts"

// inAgent is set in the environment of such a process, which begins none itself.
const inAgent = "BRICKROW_STAND_IN_AGENT"

// Serve runs scripts where a process was begun for that.
func Serve(args []string) (code int, is bool) {
	if len(args) != 1 || args[0] != agentWord {
		return 0, false
	}
	serve(os.Stdin, os.Stdout)
	return 0, true
}

// Most is how much memory the scripts of one process may take, in bytes.
const most = 384 << 20

// outOfMemory is how a process ends whose scripts took too much.
const outOfMemory = 77

// Crew is a number of processes in which scripts run. They begin when they are needed.
type Crew struct {
	mu    sync.Mutex
	idle  []*worker
	alive map[*worker]bool
	slots chan struct{}
	over  bool
}

// sideBySide is how many scripts run at once.
const sideBySide = 64

// NewCrew is one without any process yet.
func NewCrew() *Crew {
	return &Crew{alive: map[*worker]bool{}, slots: make(chan struct{}, sideBySide)}
}

// worker is one process, which carries out one script at a time.
type worker struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	out *bufio.Reader
}

// message is a line between the two processes.
type message struct {
	Request *Request `json:"request,omitempty"`
	Cancel  bool     `json:"cancel,omitempty"`
	Told    *told    `json:"told,omitempty"` // what was asked is answered
	Out     []byte   `json:"out,omitempty"`
	Err     []byte   `json:"err,omitempty"`
	Ask     *Ask     `json:"ask,omitempty"`
	Number  int      `json:"number,omitempty"` // of what is asked
	Answer  *Answer  `json:"answer,omitempty"`
}

type told struct {
	Number int    `json:"number"`
	Status int    `json:"status"`
	Body   string `json:"body"`
	Error  string `json:"error,omitempty"`
}

// Run carries out a script in a process of its own. What it writes comes as it is written.
func (c *Crew) Run(ctx context.Context, r *Request, stdout, stderr io.Writer, asker Asker) (Answer, error) {
	select {
	case c.slots <- struct{}{}:
		defer func() { <-c.slots }()
	case <-ctx.Done():
		return Answer{}, ctx.Err()
	}
	w, err := c.take()
	if err != nil {
		return Answer{}, err
	}
	a, err := w.run(ctx, r, stdout, stderr, asker)
	if err == nil && ctx.Err() == nil {
		c.back(w)
		return a, nil
	}
	c.end(w)
	if ctx.Err() != nil {
		return Answer{}, ctx.Err()
	}
	words := "the script broke off, as it may for want of memory: " + err.Error()
	if w.cmd.ProcessState != nil && (w.cmd.ProcessState.ExitCode() == outOfMemory || w.cmd.ProcessState.ExitCode() == 2) {
		words = fmt.Sprintf("it took more memory than the server has (%d MiB), and was ended", most>>20)
	}
	return Answer{Exit: 137, Problem: words}, nil
}

// take is a process that has nothing to do.
func (c *Crew) take() (*worker, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.over {
		return nil, errors.New("the stand-in is closing")
	}
	if n := len(c.idle); n > 0 {
		w := c.idle[n-1]
		c.idle = c.idle[:n-1]
		return w, nil
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if os.Getenv(inAgent) != "" {
		return nil, errors.New("the process that was to run scripts has taken itself for another one")
	}
	w := &worker{cmd: exec.Command(self, agentWord)}
	w.cmd.Env = []string{inAgent + "=1", "GOMAXPROCS=2"}
	w.cmd.Dir = "/"
	w.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if w.in, err = w.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := w.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	w.out = bufio.NewReaderSize(out, 64<<10)
	if err := w.cmd.Start(); err != nil {
		return nil, err
	}
	c.alive[w] = true
	return w, nil
}

// spare is how many processes wait for the next script.
var spare = 2 * runtime.GOMAXPROCS(0)

func (c *Crew) back(w *worker) {
	c.mu.Lock()
	keep := !c.over && len(c.idle) < spare
	if keep {
		c.idle = append(c.idle, w)
	}
	c.mu.Unlock()
	if !keep {
		c.end(w)
	}
}

// end ends a process, and waits for that.
func (c *Crew) end(w *worker) {
	_ = w.in.Close()
	_ = w.cmd.Process.Kill()
	_ = w.cmd.Wait()
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.alive, w)
	c.idle = slices.DeleteFunc(c.idle, func(o *worker) bool { return o == w })
}

// Close ends all processes, with the scripts that run in them.
func (c *Crew) Close() {
	c.mu.Lock()
	c.over = true
	var all []*worker
	for w := range c.alive {
		all = append(all, w)
	}
	idle := c.idle
	c.idle = nil
	c.mu.Unlock()
	for _, w := range all {
		if slices.Contains(idle, w) {
			c.end(w)
		} else {
			_ = w.cmd.Process.Kill() // who waits for it ends it
		}
	}
}

func (w *worker) send(m message) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = w.in.Write(append(text, '\n'))
	return err
}

func (w *worker) run(ctx context.Context, r *Request, stdout, stderr io.Writer, asker Asker) (Answer, error) {
	stop := context.AfterFunc(ctx, func() { _ = w.cmd.Process.Kill() })
	defer stop()
	if err := w.send(message{Request: r}); err != nil {
		return Answer{}, w.broken(err)
	}
	var sending sync.Mutex
	for {
		line, err := w.out.ReadBytes('\n')
		if err != nil {
			return Answer{}, w.broken(err)
		}
		var m message
		if err := decode(line, &m); err != nil {
			return Answer{}, w.broken(err)
		}
		switch {
		case m.Answer != nil:
			return *m.Answer, nil
		case m.Out != nil:
			_, _ = stdout.Write(m.Out)
		case m.Err != nil:
			_, _ = stderr.Write(m.Err)
		case m.Ask != nil:
			go func() {
				t := told{Number: m.Number}
				var err error
				if asker == nil {
					err = errors.New("there is no network here")
				} else {
					t.Status, t.Body, err = asker(ctx, *m.Ask)
				}
				if err != nil {
					t.Error = err.Error()
				}
				sending.Lock()
				defer sending.Unlock()
				_ = w.send(message{Told: &t})
			}()
		}
	}
}

// broken waits for a process that does not speak any more.
func (w *worker) broken(err error) error {
	_ = w.in.Close()
	ended := time.AfterFunc(time.Second, func() { _ = w.cmd.Process.Kill() })
	_ = w.cmd.Wait()
	ended.Stop()
	return err
}

// serve is the process in which scripts run.
func serve(in io.Reader, out io.Writer) {
	limitMemory()
	go watchMemory()
	lines := bufio.NewReaderSize(in, 64<<10)
	var mu sync.Mutex
	say := func(m message) {
		text, err := json.Marshal(m)
		if err != nil {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if _, err := out.Write(append(text, '\n')); err != nil {
			os.Exit(0) // nobody hears it
		}
	}
	var asked sync.Map // number → channel
	number := 0
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			return
		}
		var m message
		if decode(line, &m) != nil {
			return
		}
		switch {
		case m.Told != nil:
			if ch, ok := asked.LoadAndDelete(m.Told.Number); ok {
				ch.(chan told) <- *m.Told
			}
		case m.Request != nil:
			go func() {
				asker := func(ctx context.Context, a Ask) (int, string, error) {
					mu.Lock()
					number++
					n := number
					mu.Unlock()
					ch := make(chan told, 1)
					asked.Store(n, ch)
					say(message{Ask: &a, Number: n})
					select {
					case t := <-ch:
						if t.Error != "" {
							return 0, "", errors.New(t.Error)
						}
						return t.Status, t.Body, nil
					case <-ctx.Done():
						return 0, "", ctx.Err()
					}
				}
				stdout := &pieces{say: func(b []byte) { say(message{Out: b}) }}
				stderr := &pieces{say: func(b []byte) { say(message{Err: b}) }}
				a := Run(context.Background(), m.Request, stdout, stderr, asker)
				stdout.flush()
				stderr.flush()
				say(message{Answer: &a})
			}()
		}
	}
}

// pieces passes on what a script writes, in pieces that are worth a line, and no later than
// after a moment.
type pieces struct {
	mu    sync.Mutex
	buf   []byte
	timer *time.Timer
	say   func([]byte)
}

const (
	pieceSize = 16 << 10
	pieceWait = 50 * time.Millisecond
)

func (p *pieces) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.buf = append(p.buf, b...)
	switch {
	case len(p.buf) >= pieceSize:
		p.pass()
	case p.timer == nil:
		p.timer = time.AfterFunc(pieceWait, p.flush)
	}
	return len(b), nil
}

func (p *pieces) flush() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.pass()
}

func (p *pieces) pass() {
	if p.timer != nil {
		p.timer.Stop()
		p.timer = nil
	}
	if len(p.buf) > 0 {
		p.say(p.buf)
		p.buf = nil
	}
}

// watchMemory ends the process when its scripts take too much.
func watchMemory() {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	for {
		time.Sleep(20 * time.Millisecond)
		metrics.Read(sample)
		if sample[0].Value.Uint64() > most {
			os.Exit(outOfMemory)
		}
	}
}
