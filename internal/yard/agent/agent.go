// Package agent is what carries out scripts on the servers of the stand-in cloud: a shell
// interpreter whose whole world is the files of one server. No other program can be run, no
// other file named, no network reached but the addresses of the same cloud, through Ask.
//
// Scripts run in a process of their own (Crew), so that one that takes too much memory, or
// breaks the interpreter, harms nobody.
package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// Limits bound what a script can take.
type Limits struct {
	Disk    int64         `json:"disk"`    // bytes in all files of a server
	Files   int           `json:"files"`   // and folders
	Results int           `json:"results"` // bytes of all results together
	Time    time.Duration `json:"time"`    // of the cloud's time; 0 is none
	Real    time.Duration `json:"real"`    // of real time; 0 is as Time
}

// Usual are the limits where nothing else is said.
var Usual = Limits{Disk: 32 << 20, Files: 4096, Results: 64 << 10, Time: 5 * time.Minute}

// Request is a script that is to be carried out.
type Request struct {
	Server  string            `json:"server"` // its id, which is its name
	Script  string            `json:"script"`
	Name    string            `json:"name"` // of the script, for what is said of it
	Environ map[string]string `json:"environ"`
	Stdin   string            `json:"stdin,omitempty"`
	Beside  map[string]string `json:"beside,omitempty"` // files beside the script, by path
	Files   Files             `json:"files"`
	Limits  Limits            `json:"limits"`
	Speed   float64           `json:"speed"` // how many times faster than real time a sleep is; 0 is 1
}

// Answer is what became of it. Files are those of the server as it left them; nil is that they
// are as they were.
type Answer struct {
	Exit    int               `json:"exit"`
	TookMS  int64             `json:"took_ms"`           // of the cloud's time
	Problem string            `json:"problem,omitempty"` // why it was ended, or could not begin; "" is that it came to its end by itself
	Results map[string]string `json:"results,omitempty"`
	Files   Files             `json:"files,omitempty"`
}

// Ask is a request to an address of the same cloud.
type Ask struct {
	Method  string   `json:"method"`
	URL     string   `json:"url"`
	Headers []string `json:"headers,omitempty"`
	Body    string   `json:"body,omitempty"`
}

// Asker answers what a script asks.
type Asker func(ctx context.Context, a Ask) (status int, body string, err error)

// script is one that is being carried out.
type script struct {
	req     *Request
	disk    *disk
	limits  Limits
	asker   Asker
	begun   time.Time
	virtual atomic.Int64 // how much longer it took in the cloud's time than in real time
	count   atomic.Int64

	mu      sync.Mutex
	results map[string]string
}

// ended is why a script was ended, as the cause of its context.
type ended struct{ words string }

func (e ended) Error() string { return e.words }

// Run carries out a script in this process.
func Run(ctx context.Context, r *Request, stdout, stderr io.Writer, asker Asker) Answer {
	s := &script{req: r, limits: r.Limits, asker: asker, begun: time.Now(), results: map[string]string{}}
	if s.limits.Disk == 0 {
		s.limits = Usual
		s.limits.Time, s.limits.Real = r.Limits.Time, r.Limits.Real
	}
	s.disk = newDisk(r.Files, s.limits)
	parsed, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(r.Script), r.Name)
	if err != nil {
		fmt.Fprintln(stderr, err)
		return Answer{Exit: 2, Problem: "it cannot be read: " + err.Error()}
	}
	for p, text := range r.Beside {
		p = at("/root/scripts", p)
		_ = s.disk.mkdir(at(p, ".."), true)
		if err := s.disk.put(p, []byte(text), 0o755); err != nil {
			return Answer{Exit: 1, Problem: err.Error()}
		}
	}
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	if s.limits.Time > 0 {
		real := s.limits.Real
		if real <= 0 {
			real = s.limits.Time
		}
		stop := time.AfterFunc(real, func() { end(s.tooLong()) })
		defer stop.Stop()
	}
	ctx = context.WithValue(ctx, endKey{}, end)
	runner, err := s.runner(stdout, stderr)
	if err != nil {
		return Answer{Exit: 1, Problem: err.Error()}
	}
	if err = enter(ctx, runner, "/root"); err == nil {
		err = runner.Run(ctx, parsed)
	}
	out := Answer{Results: s.results}
	var cause ended
	var status interp.ExitStatus
	isStatus := errors.As(err, &status)
	switch {
	case errors.As(context.Cause(ctx), &cause):
		out.Exit, out.Problem = 124, cause.words
	case ctx.Err() != nil:
		out.Exit, out.Problem = 130, "it was ended"
	case isStatus:
		out.Exit = int(status)
	case err != nil:
		out.Exit, out.Problem = 1, err.Error()
	}
	if out.Exit == 0 && s.disk.full { // echo and its like do not care
		out.Exit, out.Problem = 1, fmt.Sprintf("it wrote more than the server has room for (%d MiB)", s.limits.Disk>>20)
	}
	for p := range r.Beside { // they come with each script
		_ = s.disk.remove(at("/root/scripts", p), true)
	}
	out.Files = s.disk.kept()
	out.TookMS = time.Since(s.begun).Milliseconds() + s.virtual.Load()/int64(time.Millisecond)
	return out
}

type endKey struct{}

func (s *script) tooLong() error {
	return ended{fmt.Sprintf("it took longer than %s, and was ended", s.limits.Time)}
}

// environ is what the script finds set, and nothing of this process.
func (s *script) environ() expand.Environ {
	vars := map[string]string{"HOME": "/root", "PATH": "/bin", "SHELL": "/bin/sh", "USER": "root", "LANG": "C.UTF-8"}
	maps.Copy(vars, s.req.Environ)
	// No folder can be called that: so no file of this machine stands for a pipe.
	vars["TMPDIR"] = "/\x00"
	var list []string
	for k, v := range vars {
		list = append(list, k+"="+v)
	}
	slices.Sort(list)
	return expand.ListEnviron(list...)
}

func (s *script) runner(stdout, stderr io.Writer) (*interp.Runner, error) {
	r, err := interp.New(
		interp.Env(s.environ()),
		interp.StdIO(strings.NewReader(s.req.Stdin), stdout, stderr),
		interp.Dir("/"),
		interp.OpenHandler(func(ctx context.Context, p string, flag int, mode fs.FileMode) (io.ReadWriteCloser, error) {
			return s.disk.open(at(interp.HandlerCtx(ctx).Dir, p), flag, mode)
		}),
		interp.StatHandler(func(ctx context.Context, p string, _ bool) (fs.FileInfo, error) {
			return s.disk.stat(at(interp.HandlerCtx(ctx).Dir, p))
		}),
		interp.AccessHandler(func(ctx context.Context, p string, mode interp.AccessMode) error {
			st, err := s.disk.stat(at(interp.HandlerCtx(ctx).Dir, p))
			if err == nil && !st.IsDir() && mode == interp.AccessExec && st.Mode()&0o111 == 0 {
				err = failed("access", p, fs.ErrPermission)
			}
			return err
		}),
		interp.ReadDirHandler2(func(ctx context.Context, p string) ([]fs.DirEntry, error) {
			return s.disk.list(at(interp.HandlerCtx(ctx).Dir, p))
		}),
		interp.CallHandler(func(_ context.Context, args []string) ([]string, error) { return replaced(args), nil }),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return s.exec }),
	)
	if err != nil {
		return nil, err
	}
	return r, nil
}

// enter goes into a folder of the server, before anything else is done.
func enter(ctx context.Context, r *interp.Runner, dir string) error {
	quoted, err := syntax.Quote(dir, syntax.LangBash)
	if err != nil {
		return err
	}
	first, err := syntax.NewParser().Parse(strings.NewReader("cd "+quoted), "")
	if err != nil {
		return err
	}
	return r.Run(ctx, first)
}

// exec carries out a command: one of those that there are, or a script among the files.
func (s *script) exec(ctx context.Context, args []string) error {
	h := interp.HandlerCtx(ctx)
	name := args[0]
	if n, ok := strings.CutPrefix(name, "/bin/"); ok {
		name = n
	}
	if do := commands[name]; do != nil {
		c := &call{ctx: ctx, s: s, name: name, args: args[1:], dir: h.Dir, out: h.Stdout, err: h.Stderr, environ: map[string]string{}}
		if h.Stdin != nil {
			c.in = h.Stdin
		}
		if name == "env" {
			h.Env.Each(func(k string, v expand.Variable) bool {
				if v.Exported && k != "TMPDIR" {
					c.environ[k] = v.String()
				}
				return true
			})
		}
		return exit(do(c))
	}
	switch name {
	case "sh", "bash":
		return s.shell(ctx, h, args[1:])
	case "xargs":
		return s.xargs(ctx, h, args[1:])
	}
	if strings.Contains(name, "/") {
		return s.shell(ctx, h, args)
	}
	fmt.Fprintf(h.Stderr, "%s: there is no such command on the server; there are %s\n", name, strings.Join(names(), " "))
	return exit(127)
}

// exit is how a command ends.
func exit(code int) error {
	if code == 0 {
		return nil
	}
	return interp.ExitStatus(uint8(code))
}

// shell carries out a script that is among the files, or that is written behind -c.
func (s *script) shell(ctx context.Context, h interp.HandlerContext, args []string) error {
	if s.count.Add(1) > 10_000 {
		return ended{"it called too many scripts of its own"}
	}
	name, text, params := "sh", "", []string{}
	switch {
	case len(args) > 1 && args[0] == "-c":
		text, params = args[1], args[min(3, len(args)):]
	case len(args) > 0 && !strings.HasPrefix(args[0], "-"):
		name, params = args[0], args[1:]
		b, err := s.disk.read(at(h.Dir, args[0]))
		if err != nil {
			fmt.Fprintln(h.Stderr, err)
			return exit(127)
		}
		text = string(b)
	case len(args) == 0 && h.Stdin != nil:
		b, err := io.ReadAll(io.LimitReader(h.Stdin, 1<<20))
		if err != nil {
			return exit(1)
		}
		text = string(b)
	default:
		fmt.Fprintln(h.Stderr, "sh: write sh FILE, or sh -c TEXT")
		return exit(2)
	}
	parsed, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), name)
	if err != nil {
		fmt.Fprintln(h.Stderr, err)
		return exit(2)
	}
	r, err := s.runner(h.Stdout, h.Stderr)
	if err != nil {
		return err
	}
	var env []string
	h.Env.Each(func(k string, v expand.Variable) bool {
		if v.Exported {
			env = append(env, k+"="+v.String())
		}
		return true
	})
	var in io.Reader = bytes.NewReader(nil)
	if h.Stdin != nil && text != "" {
		in = h.Stdin
	}
	for _, o := range []interp.RunnerOption{interp.Env(expand.ListEnviron(env...)), interp.StdIO(in, h.Stdout, h.Stderr), interp.Params(append([]string{"--"}, params...)...)} {
		if err := o(r); err != nil {
			return err
		}
	}
	if err = enter(ctx, r, h.Dir); err == nil {
		err = r.Run(ctx, parsed)
	}
	if status := interp.ExitStatus(0); errors.As(err, &status) {
		return exit(int(status))
	}
	return err
}

// xargs carries out a command with the words of its input.
func (s *script) xargs(ctx context.Context, h interp.HandlerContext, args []string) error {
	most := 0
	for len(args) > 0 && strings.HasPrefix(args[0], "-") {
		switch a := args[0]; {
		case a == "-r":
		case strings.HasPrefix(a, "-n") && len(a) > 2:
			if _, err := fmt.Sscan(a[2:], &most); err != nil || most < 1 {
				fmt.Fprintf(h.Stderr, "xargs: %s is no number\n", a[2:])
				return exit(2)
			}
		case a == "-n" && len(args) > 1:
			if _, err := fmt.Sscan(args[1], &most); err != nil || most < 1 {
				fmt.Fprintf(h.Stderr, "xargs: %s is no number\n", args[1])
				return exit(2)
			}
			args = args[1:]
		default:
			fmt.Fprintf(h.Stderr, "xargs: there is -r and -n here, and no %s\n", a)
			return exit(2)
		}
		args = args[1:]
	}
	if len(args) == 0 {
		args = []string{"echo"}
	}
	var words []string
	if h.Stdin != nil {
		b, err := io.ReadAll(io.LimitReader(h.Stdin, 1<<20))
		if err != nil {
			return exit(1)
		}
		words = strings.Fields(string(b))
	}
	if len(words) == 0 {
		return nil
	}
	if most == 0 {
		most = len(words)
	}
	for some := range slices.Chunk(words, most) {
		var quoted []string
		for _, w := range append(slices.Clone(args), some...) {
			q, err := syntax.Quote(w, syntax.LangBash)
			if err != nil {
				return exit(1)
			}
			quoted = append(quoted, q)
		}
		if err := s.shell(ctx, h, []string{"-c", strings.Join(quoted, " ")}); err != nil {
			return err
		}
	}
	return nil
}

// sleep waits so long in the cloud's time.
func (s *script) sleep(ctx context.Context, d time.Duration) error {
	speed := s.req.Speed
	if speed <= 0 {
		speed = 1
	}
	end, _ := ctx.Value(endKey{}).(context.CancelCauseFunc)
	left := d
	if s.limits.Time > 0 {
		left = s.limits.Time - time.Since(s.begun) - time.Duration(s.virtual.Load())
	}
	late := left < d
	real := time.Duration(float64(min(d, max(0, left))) / speed)
	timer := time.NewTimer(real)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
	}
	s.virtual.Add(int64(min(d, max(0, left)) - real))
	if late && end != nil {
		end(s.tooLong())
		return context.Canceled
	}
	return nil
}

func (s *script) setResult(name, value string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	size := len(name) + len(value)
	for k, v := range s.results {
		if k != name {
			size += len(k) + len(v)
		}
	}
	if size > s.limits.Results {
		return fmt.Errorf("all results together have room for %d bytes", s.limits.Results)
	}
	s.results[name] = value
	return nil
}

func (s *script) ask(ctx context.Context, a Ask) (int, string, error) {
	if s.asker == nil {
		return 0, "", errors.New("there is no network here")
	}
	return s.asker(ctx, a)
}

// decode reads one line of JSON.
func decode(line []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(line))
	return d.Decode(into)
}
