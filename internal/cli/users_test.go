package cli

import (
	"errors"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
)

// someone is a user of this machine, with a data folder of their own.
type someone struct {
	t    *testing.T
	bin  string
	home string
	name string
	as   *syscall.Credential
}

// newSomeone takes on a user of the machine; only root can.
func newSomeone(t *testing.T, bin, name string) *someone {
	t.Helper()
	u, err := user.Lookup(name)
	if err != nil {
		t.Fatal(err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	home, err := os.MkdirTemp("/tmp", "brickrow-"+name) // others have to get there
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(home) })
	if err := os.Chown(home, uid, gid); err != nil {
		t.Fatal(err)
	}
	return &someone{t, bin, home, name, &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
}

// run calls the program as that user and wants an exit code.
func (s *someone) run(want int, args ...string) string {
	s.t.Helper()
	cmd := exec.Command(s.bin, args...)
	cmd.Dir = s.home
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.home,
		"BRICKROW_HOME=" + filepath.Join(s.home, "data"), "BRICKROW_YARD_SPEED=5000", "TMPDIR=/tmp"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as}
	out, err := cmd.CombinedOutput()
	if code := cmd.ProcessState.ExitCode(); code != want {
		s.t.Fatalf("%s: brickrow %s: exit %d, want %d (%v)\n%s", s.name, strings.Join(args, " "), code, want, err, out)
	}
	return string(out)
}

// TestTwoUsersOfOneMachine lets one user save what another one agrees to: with
// data folders of their own, of which neither can read the other's.
func TestTwoUsersOfOneMachine(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can be two users")
	}
	desk, bin := desk(t)
	maker, second, third := newSomeone(t, bin, "daemon"), newSomeone(t, bin, "nobody"), newSomeone(t, bin, "games")
	project := filepath.Join(maker.home, "project")
	maker.run(0, "new", "single-server", project, "--target", "workshop/alder-1")
	file := filepath.Join(project, "single-server.stack.yaml")
	template := filepath.Join(project, "single-server.yaml")
	text, err := os.ReadFile(template)
	if err == nil {
		err = os.WriteFile(template, []byte(strings.Replace(string(text), "    hut_address:", "    spare: { type: Topic }\n    hut_address:", 1)), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	flags := []string{"-i", "public_key=ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIExampleExampleExampleExample somebody"}
	plan := filepath.Join(desk, "plan.json")
	who := strings.TrimSpace(second.run(0, "identity"))
	maker.run(0, "targets", "--approval", "workshop/alder-1", "--approver", who)
	maker.run(0, append([]string{"whatif", file, "--save", plan}, flags...)...)
	if out := maker.run(1, "deploy", plan, "--yes"); !strings.Contains(out, "agreement of a second person") {
		t.Errorf("%s", out)
	}
	if out := maker.run(1, "approve", plan); !strings.Contains(out, "another person has to approve it") {
		t.Errorf("%s", out)
	}
	if out := third.run(1, "approve", plan); !strings.Contains(out, "is not among those who may approve") {
		t.Errorf("%s", out)
	}
	if out := second.run(0, "approve", plan); !strings.Contains(out, "is approved by nobody") {
		t.Errorf("%s", out)
	}
	if out := second.run(1, "deploy", plan, "--yes"); !strings.Contains(out, "sealed to those who deploy") {
		t.Errorf("%s", out)
	}
	if out := maker.run(0, "deploy", plan, "--yes"); !strings.Contains(out, "done") {
		t.Errorf("%s", out)
	}
	if out := maker.run(0, "history", "single-server"); !strings.Contains(out, "approved by nobody") || !strings.Contains(out, "by daemon, approved by nobody, carried out by daemon") {
		t.Errorf("%s", out)
	}
	if out := maker.run(1, "act", "single-server", "hut_server", "restart", "--yes"); !strings.Contains(out, "save it with act … --save FILE") {
		t.Errorf("%s", out)
	}
	for name, args := range map[string][]string{"restart.json": {"act", "single-server", "hut_server", "restart"}, "leave.json": {"release", "single-server", "spare"}} {
		file := filepath.Join(desk, name)
		maker.run(0, append(args, "--save", file)...)
		if out := maker.run(1, "deploy", file, "--yes"); !strings.Contains(out, "agreement of a second person") {
			t.Errorf("%s: %s", name, out)
		}
		maker.run(0, "whatif", file)
		maker.run(0, "whatif", file, "--json")
		if out := second.run(0, "whatif", file); !strings.Contains(out, "saved by daemon") {
			t.Errorf("%s: %s", name, out)
		}
		second.run(0, "approve", file)
		if out := maker.run(0, "deploy", file, "--yes"); !strings.Contains(out, "done") {
			t.Errorf("%s: %s", name, out)
		}
	}
	if out := maker.run(0, "history", "single-server"); !strings.Contains(out, "restart hut_server: done") {
		t.Errorf("%s", out)
	}
	if out := maker.run(1, "deploy", filepath.Join(desk, "leave.json"), "--yes"); !strings.Contains(out, "has no resource spare") {
		t.Errorf("%s", out)
	}
	if out := maker.run(1, "delete", "single-server", "--yes", "--accept", "data"); !strings.Contains(out,
		"agreement of a second person") {
		t.Errorf("%s", out)
	}
}

// desk is a folder where several users meet, with the program in it, which all of them can run.
func desk(t *testing.T) (dir, bin string) {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "brickrow-desk")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	bin = filepath.Join(dir, "brickrow")
	program, err := os.ReadFile(binary(t))
	if err == nil {
		err = errors.Join(os.Chmod(dir, 0o1777), os.WriteFile(bin, program, 0o755))
	}
	if err != nil {
		t.Fatal(err)
	}
	return dir, bin
}
