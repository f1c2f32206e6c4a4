package tui

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"brickrow/internal/demo"
)

// terminal is the real program in a real terminal, driven by keys.
type terminal struct {
	t       *testing.T
	socket  string
	session string
}

// built is the program, made once for all tests, in a folder that TestMain takes away.
var built struct {
	sync.Once
	dir, bin string
	err      error
}

// build is the program.
func build(t *testing.T) string {
	t.Helper()
	built.Do(func() {
		if built.dir, built.err = os.MkdirTemp("", "brickrow-built-"); built.err != nil {
			return
		}
		built.bin = filepath.Join(built.dir, "brickrow")
		if out, err := exec.Command("go", "build", "-o", built.bin, "brickrow/cmd/brickrow").CombinedOutput(); err != nil {
			built.err = fmt.Errorf("%w\n%s", err, out)
		}
	})
	if built.err != nil {
		t.Fatalf("build: %v", built.err)
	}
	return built.bin
}

func newTerminal(t *testing.T, w, h int, command ...string) *terminal {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Fatal("these tests need tmux; make test installs it")
	}
	x := &terminal{t, filepath.Join(t.TempDir(), "tmux"), "brickrow"}
	x.tmux(append([]string{"new-session", "-d", "-s", x.session, "-x", fmt.Sprint(w), "-y", fmt.Sprint(h)},
		command...)...)
	t.Cleanup(func() { exec.Command("tmux", "-S", x.socket, "kill-server").Run() })
	return x
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-u", "-S", x.socket, "-f", "/dev/null"}, args...)...).
		CombinedOutput()
	if err != nil {
		x.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (x *terminal) keys(keys ...string) {
	x.t.Helper()
	for _, k := range keys {
		x.tmux("send-keys", "-t", x.session, k)
		time.Sleep(60 * time.Millisecond)
	}
}

func (x *terminal) screen() string {
	x.t.Helper()
	return x.tmux("capture-pane", "-p", "-t", x.session)
}

// wait waits for words on the screen.
func (x *terminal) wait(words ...string) {
	x.t.Helper()
	seen := ""
	for range 400 {
		seen = x.screen()
		missing := false
		for _, w := range words {
			missing = missing || !strings.Contains(seen, w)
		}
		if !missing {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	x.t.Fatalf("%q does not come:\n%s", words, seen)
}

func TestInATerminal(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	t.Setenv("BRICKROW_YARD_SPEED", "12")
	x := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	x.wait("BRICK ROW", "bulletin-test", "ridge-base")
	x.keys("Down", "2")
	x.wait("tosca_definitions_version", "nothing wrong found")
	x.keys("3")
	x.wait("1 new", "2 edit", "look through 1 risk")
	x.keys("Tab")
	x.wait("d deploys it")
	x.keys("d")
	x.wait("Deploy bulletin-test: 1 new, 2 edit in workshop / alder-1?")
	x.keys("y")
	x.wait("4 Run", "left", "you can leave this")

	// The run goes on without the interface, and is there again.
	x.keys("q")
	time.Sleep(200 * time.Millisecond)
	y := newTerminal(t, 80, 24, bin, "demo", "--home", home)
	y.wait("bulletin-test")
	y.keys("Down", "4")
	y.wait("■ done after", "at revision 4")
	y.keys("1", "/")
	y.wait("filter")
	y.tmux("send-keys", "-t", y.session, "-l", "ridge")
	y.keys("Enter", "x")
	y.wait("deletion of the stack", "cannot go: it is used by") // the bulletins use its results
	y.keys("1", "/", "Escape", "/")
	y.tmux("send-keys", "-t", y.session, "-l", "bulletin-live")
	y.keys("Enter", "x")
	y.wait("deletion of the stack", "look through")
	y.keys("Tab", "Tab", "d")
	y.wait("Delete bulletin-live", "Type bulletin-live")
	y.tmux("send-keys", "-t", y.session, "-l", "bulletin-live")
	y.keys("Enter")
	y.wait("nothing is there any more")
}

func TestTheFileIsWatched(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	x := newTerminal(t, 142, 42, "env", "EDITOR=true", bin, "demo", "--home", home)
	x.wait("bulletin-test")
	x.keys("Down", "2")
	x.wait("nothing wrong found")
	path := filepath.Join(demo.Project(home), "bulletin.yaml")
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(strings.Replace(string(text), "type: Queue", "type: Quue", 1)),
		0o600); err != nil {
		t.Fatal(err)
	}
	x.wait("there is no node type 'Quue'", "did you mean 'Queue'?")
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
	x.wait("nothing wrong found")
	x.keys("e")
	x.wait("2 Draft", "nothing wrong found")
}

// TestKilledInTheMiddle kills the process of a run with signal 9 and goes on
// from the screen.
func TestKilledInTheMiddle(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	t.Setenv("BRICKROW_YARD_SPEED", "4")
	x := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	x.wait("bulletin-test")
	x.keys("Down", "3")
	x.wait("look through 1 risk")
	x.keys("Tab", "d")
	x.wait("Deploy bulletin-test")
	x.keys("y")
	x.wait("placing it on a host")
	kill(t, home)
	x.wait("its process has ended", "R goes on")
	x.keys("R")
	x.wait("■ done after", "results")
	list, err := exec.Command(bin, "yard", "resources", "--stack", "bulletin-test", "--home", home).CombinedOutput()
	if err != nil || strings.Count(string(list), "Server ") != 3 {
		t.Errorf("servers in the cloud (%v):\n%s", err, list)
	}
}

// kill ends the process that carries out a run on a data folder.
func kill(t *testing.T, home string) {
	t.Helper()
	signalTo(t, home, "carry-out\x00", syscall.SIGKILL)
}

// signalTo sends a signal to the process of ours that has a word and a data folder
// among its arguments.
func signalTo(t *testing.T, home, word string, sig syscall.Signal) {
	t.Helper()
	procs, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range procs {
		line, err := os.ReadFile(p)
		if err != nil || !strings.Contains(string(line), word) || !strings.Contains(string(line), home) {
			continue
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(p)))
		if err != nil {
			t.Fatal(err)
		}
		if err := syscall.Kill(pid, sig); err != nil {
			t.Fatal(err)
		}
		return
	}
	t.Fatalf("there is no process with %q", word)
}

func TestNoTerminalAndSmallTerminal(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	cmd := exec.Command(bin, "demo", "--home", home)
	if out, err := cmd.CombinedOutput(); err == nil || cmd.ProcessState.ExitCode() != 2 ||
		!strings.Contains(string(out), "needs a terminal") {
		t.Errorf("without a terminal: %v\n%s", err, out)
	}
	x := newTerminal(t, 40, 8, bin, "demo", "--home", home)
	x.wait("Brick Row needs 60×16; this is 40×8")
	x.tmux("resize-window", "-t", x.session, "-x", "80", "-y", "24")
	x.wait("bulletin-test")
	x.keys("C-z") // no shell could go on with it
	x.wait("bulletin-test", "there is no shell in this terminal")
	x.keys("?")
	x.wait("leave; a run goes on")
	y := newTerminal(t, 100, 30, bin, "--home", home, filepath.Join(demo.Project(home), "bulletin-live.stack.yaml")) // a file alone
	y.wait("bulletin-live  revision 1", "tosca_definitions_version", "e write here")
}

// TestSignalsGiveTheTerminalBack ends and stops the interface by signals, and
// wants the shell's screen and mouse back.
func TestSignalsGiveTheTerminalBack(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	for _, sig := range []syscall.Signal{syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGTSTP} {
		x := newTerminal(t, 100, 30, "bash", "--norc")
		x.tmux("send-keys", "-t", x.session, "-l", bin+" demo --home "+home)
		x.keys("Enter")
		x.wait("BRICK ROW", "bulletin-test")
		signalTo(t, home, "demo\x00", sig)
		if sig == syscall.SIGTSTP {
			x.wait("Stopped")
		}
		x.keys("Enter", "e", "c", "h", "o", "Space", "b", "a", "c", "k", "Enter")
		x.wait("\nback")
		if out := x.tmux("display-message", "-p", "-t", x.session,
			"#{alternate_on}#{mouse_any_flag}"); strings.TrimSpace(out) != "00" {
			t.Errorf("%v leaves screen and mouse as %s", sig, out)
		}
		if sig == syscall.SIGTSTP {
			x.keys("f", "g", "Enter")
			x.wait("BRICK ROW", "bulletin-test")
			x.keys("q")
		}
	}
}

// TestPausedAndLeft pauses a run with a key, closes the interface, and goes on in another
// one.
func TestPausedAndLeft(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	t.Setenv("BRICKROW_YARD_SPEED", "6")
	x := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	x.wait("BRICK ROW", "bulletin-test", "ridge-base")
	x.keys("Down", "3")
	x.wait("1 new", "2 edit", "look through 1 risk")
	x.keys("Tab", "d")
	x.wait("Deploy bulletin-test")
	x.keys("y")
	x.wait("4 Run", "you can leave this", "p pause")
	x.keys("p")
	x.wait("‖ paus", "nothing more begins")
	x.wait("‖ paused at", "p go on")
	x.keys("q")
	time.Sleep(200 * time.Millisecond)
	out, err := exec.Command(bin, "stacks", "--home", home).CombinedOutput()
	if err != nil || !strings.Contains(string(out), "did not come to its end") {
		t.Errorf("%v: %s", err, out)
	}
	y := newTerminal(t, 80, 24, bin, "demo", "--home", home)
	y.wait("bulletin-test")
	y.keys("Down", "4")
	y.wait("‖ paused at", "p go on")
	y.keys("R")
	y.wait("■ done after", "at revision 4")
}

// TestFleetInATerminal lets a fleet begin, closes the interface, and finds it done in another one.
func TestFleetInATerminal(t *testing.T) {
	bin, home := build(t), filepath.Join(t.TempDir(), "home")
	t.Setenv("BRICKROW_YARD_SPEED", "20")
	x := newTerminal(t, 142, 42, bin, "demo", "--home", home)
	x.wait("BRICK ROW", "bulletin-test")
	x.keys("7")
	x.wait("signs was not deployed yet")
	x.keys("d")
	x.wait("6 places", "18 new", "the same in all")
	x.keys("d")
	x.wait("Deploy signs in 6 places")
	x.keys("y")
	x.wait("of 6 places done", "enter its run")
	x.keys("q")
	y := newTerminal(t, 80, 24, bin, "demo", "--home", home)
	y.wait("bulletin-test")
	y.keys("7")
	y.wait("6 of 6 places done", "fleet · rollout 1 · ready")
}
