package programs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/printed"
	"brickrow/internal/seal"
	"brickrow/internal/tosca"
)

// A call that changes something is carried out by a keeper: a process of its own, which no end
// of this one touches. It sees the program through to its end and leaves the answer, sealed,
// under the key of the call; so whoever sends the same again finds it there, and nothing is done
// twice or half.

// keeperWord is the first argument of a process that is a keeper; the folder of the calls follows.
const keeperWord = "keep-call"

// inKeeper is set in the environment of a keeper, which begins none itself.
const inKeeper = "BRICKROW_KEEPER"

// Serve carries out one call where a process was begun for that, and yields how it is to end. What is to be done
// comes on the standard input, sealed with the key of the folder: only who can read that can have it done.
func Serve(args []string) (code int, is bool) {
	if len(args) != 2 || args[0] != keeperWord {
		return 0, false
	}
	if err := keep(args[1], os.Stdin); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1, true
	}
	return 0, true
}

// errand is what a keeper is told, on its standard input.
type errand struct {
	Folder  string   `json:"folder"` // of the call
	Begun   string   `json:"begun"`  // the file that says that it was begun
	Slots   string   `json:"slots"`  // the file names of the places, without their numbers
	Program Program  `json:"program"`
	Path    string   `json:"path"` // what is run
	Dir     string   `json:"dir"`  // and where
	Call    call     `json:"call"`
	Secrets []string `json:"secrets"`

	lock *os.File // of the call, which the program has too: as long as it runs, no other one begins
}

// offFile is the name of a file in the folder of a call that says that somebody wants it to end.
const offFile = "off"

// grace is how long a program that is told to end has for that.
const grace = 5 * time.Second

func keep(dir string, in io.Reader) error {
	if _, err := os.Stat(filepath.Join(dir, "calls")); err != nil {
		return errors.New("this is not the folder of a store's calls")
	}
	box, err := seal.Open(dir)
	if err != nil {
		return err
	}
	sealed, err := io.ReadAll(io.LimitReader(in, 64<<20))
	if err != nil {
		return err
	}
	var e errand
	if err := box.UnsealJSON(string(sealed), &e); err != nil {
		return errors.New("what is to be done was not sealed with the key of this folder")
	}
	lock, mine, err := hold(filepath.Join(e.Folder, "lock"))
	if err != nil || !mine {
		return err
	}
	defer lock.Close()
	if _, err := os.Stat(filepath.Join(e.Folder, "answer")); err == nil { // another one has done it meanwhile
		return nil
	}
	steps, err := os.OpenFile(filepath.Join(e.Folder, "steps"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer steps.Close()
	// What is about to be done is on the disk before it begins, in a place of its own: a call that cannot be written down does not
	// begin.
	about, err := box.SealJSON(map[string]any{"operation": e.Call.Operation, "key": e.Call.Key, "type": e.Call.Type, "stack": e.Call.Stack,
		"node": e.Call.Node, "at": time.Now().UTC()})
	if err != nil {
		return err
	}
	if err := durable(e.Begun, []byte(about)); err != nil {
		return err
	}
	e.lock = lock
	ctx, off := context.WithCancel(context.Background())
	defer off()
	go func() { // the one who wants it to end is another process
		for !calledOff(e.Folder) {
			select {
			case <-ctx.Done():
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
		off()
	}()
	o := e.run(ctx, func(s Step) {
		if sealed, err := box.SealJSON(s); err == nil {
			_, _ = steps.WriteString(sealed + "\n")
		}
	})
	answer, err := box.SealJSON(o)
	if err != nil {
		return err
	}
	return files.Write(filepath.Join(e.Folder, "answer"), []byte(answer), 0o600)
}

// durable writes a file that is on the disk when it returns.
func durable(path string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := files.Write(path, data, 0o600); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// hold takes a lock that goes with this process; mine is false where another has it.
func hold(path string) (f *os.File, mine bool, err error) {
	if f, err = os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, false, err
	}
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return nil, false, f.Close()
	}
	if err != nil {
		return nil, false, errors.Join(err, f.Close())
	}
	return f, true, nil
}

// place waits for one of the places that the programs of a type have.
func (e *errand) place(ctx context.Context) (*os.File, error) {
	for {
		for i := range max(1, e.Program.AtOnce) {
			f, mine, err := hold(fmt.Sprintf("%s.%d", e.Slots, i))
			if err != nil || mine {
				return f, err
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// run carries the program out, to its end or that of its time.
func (e *errand) run(ctx context.Context, told func(Step)) *outcome {
	secrets := &tosca.Secrets{}
	secrets.AddText(e.Secrets...)
	place, err := e.place(ctx)
	if err != nil {
		return &outcome{Wrong: err.Error()}
	}
	defer place.Close()
	in, err := json.Marshal(e.Call)
	if err != nil {
		return &outcome{Wrong: err.Error()}
	}
	args := []string{e.Path}
	if e.Program.Interpreter != "" {
		args = []string{e.Program.Interpreter, e.Path}
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdin = bytes.NewReader(append(in, '\n'))
	cmd.Env = environment()
	cmd.Dir = e.Dir
	out := &lines{told: func(s Step) {
		s.Step = secrets.Hide(s.Step)
		told(s)
	}}
	errs := printed.New(secrets)
	cmd.Stdout, cmd.Stderr = out, errs
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if e.lock != nil {
		cmd.ExtraFiles = []*os.File{e.lock}
	}
	cmd.WaitDelay = time.Second // whoever keeps its output open is not waited for
	if err := cmd.Start(); err != nil {
		return &outcome{Wrong: "it cannot be started: " + err.Error(), Exit: -1}
	}
	group := -cmd.Process.Pid
	ended, why := make(chan struct{}), make(chan string, 1)
	go func() {
		limit := time.NewTimer(time.Duration(e.Program.TimeMS) * time.Millisecond)
		defer limit.Stop()
		words := ""
		select {
		case <-ended:
			why <- ""
			return
		case <-limit.C:
			words = fmt.Sprintf("it took longer than %s, and was ended", time.Duration(e.Program.TimeMS)*time.Millisecond)
		case <-ctx.Done():
			words = "it was called off"
		}
		_ = syscall.Kill(group, syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(grace):
			_ = syscall.Kill(group, syscall.SIGKILL)
		}
		why <- words
	}()
	err = cmd.Wait()
	close(ended)
	_ = syscall.Kill(group, syscall.SIGKILL) // its children end with it
	if len(bytes.TrimSpace(out.rest)) > 0 {
		out.line(out.rest)
	}
	o := &outcome{Answer: out.answer, Errors: errs.All(), Exit: cmd.ProcessState.ExitCode()}
	words := <-why
	switch {
	case words != "":
		o.Wrong = words
	case out.wrong != nil:
		o.Wrong = secrets.Hide(out.wrong.Error())
	case o.Answer == nil && o.Exit != 0:
		o.Wrong = fmt.Sprintf("it ended with exit code %d, and no answer", o.Exit)
		if s, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && s.Signaled() {
			o.Wrong = "it was ended by the signal " + s.Signal().String()
		}
	case o.Answer == nil:
		o.Wrong = "it gave no answer"
	case o.Exit != 0 && o.Answer.Problem == nil:
		o.Wrong = fmt.Sprintf("it answered, and ended with exit code %d", o.Exit)
	case err != nil && o.Exit == 0 && !errors.Is(err, exec.ErrWaitDelay):
		o.Wrong = secrets.Hide(err.Error())
	default:
		o.Wrong = o.Answer.fits(e.Call.Operation)
	}
	if p := o.answerProblem(); p != nil {
		p.Detail, p.Title, p.Fix, p.Type = secrets.Hide(cloud.Clean(p.Detail)), secrets.Hide(cloud.Clean(p.Title)), secrets.Hide(cloud.Clean(p.Fix)), cloud.Clean(p.Type)
	}
	return o
}

func (o *outcome) answerProblem() *cloud.Problem {
	if o.Answer == nil {
		return nil
	}
	return o.Answer.Problem
}

// environment is what a program finds set: enough to find others, and nothing that lets one in.
func environment() []string {
	out := []string{"LANG=C.UTF-8"}
	for _, name := range []string{"PATH", "HOME", "USER", "TMPDIR", "TZ"} {
		if v, set := os.LookupEnv(name); set {
			out = append(out, name+"="+v)
		}
	}
	return out
}

func hashed(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(sum[:])[:32]
}
