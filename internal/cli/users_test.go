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

	"brickrow/internal/postgres/postgrestest"
)

// someone is a user of this machine, with a data folder of their own.
type someone struct {
	t    *testing.T
	bin  string
	home string
	name string
	as   *syscall.Credential
	env  []string // more of it
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
	return &someone{t, bin, home, name, &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil}
}

// run calls the program as that user and wants an exit code.
func (s *someone) run(want int, args ...string) string {
	s.t.Helper()
	cmd := exec.Command(s.bin, args...)
	cmd.Dir = s.home
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.home,
		"BRICKROW_HOME=" + filepath.Join(s.home, "data"), "BRICKROW_YARD_SPEED=5000", "TMPDIR=/tmp"}
	cmd.Env = append(cmd.Env, s.env...)
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

// TestTeamOfThree lets three users share a store and a cloud: one makes, one agrees, one deploys. What is set of a target
// holds for all of them. One leaves: what he can read and do, before and after.
func TestTeamOfThree(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can be several users")
	}
	const secret = "hoarfrost-on-the-ridge-77"
	server := postgrestest.Start(t)
	m := newTeam(t, server.Database(t, "stores"), 5000, 0)
	desk, bin := desk(t)
	maker, second, third := newSomeone(t, bin, "daemon"), newSomeone(t, bin, "nobody"), newSomeone(t, bin, "games")
	all := []*someone{maker, second, third}
	for _, s := range all {
		s.env = []string{"BRICKROW_STORE=" + m.store, "BRICKROW_CLOUD=" + m.cloud}
	}
	maker.env, third.env = append(maker.env, "BRICKROW_TOKEN_WORKSHOP="+m.token), append(third.env, "BRICKROW_TOKEN_WORKSHOP="+m.token) // the second needs none
	write := func(name, text string) string {
		path := filepath.Join(desk, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	of := func(s *someone) string { return strings.TrimSpace(s.run(0, "identity")) }
	maker.run(0, "stacks")
	if out := third.run(0, "store", "status"); !strings.Contains(out, "you are not a member") {
		t.Error(out)
	}
	for name, s := range map[string]*someone{"ben": second, "cem": third} {
		maker.run(0, append([]string{"store", "members", "add", name}, strings.Fields(of(s))...)...)
	}
	maker.run(0, "targets", "--approval", "workshop/alder-1", "--approver", of(second))
	write("row.yaml", rowOf)
	file := write("row.stack.yaml", "template: row.yaml\nstack: row\ntarget: workshop/alder-1\ndeployers: [ \""+of(third)+"\" ]\n")
	// What is set of the target was set by somebody else, in another folder of data.
	if out := third.run(1, "deploy", file, "--yes", "-i", "word="+secret); !strings.Contains(out, "needs the agreement of a second person") {
		t.Error(out)
	}
	plan := filepath.Join(desk, "plan.json")
	maker.run(0, "whatif", file, "-i", "word="+secret, "--save", plan)
	if out := third.run(1, "deploy", plan, "--yes"); !strings.Contains(out, "needs the agreement of a second person") {
		t.Error(out)
	}
	if out := third.run(1, "approve", plan); !strings.Contains(out, "is not among those who may approve") {
		t.Error(out)
	}
	if out := second.run(0, "whatif", plan); strings.Contains(out, secret) || !strings.Contains(out, "6 new") {
		t.Error(out)
	}
	second.run(0, "approve", plan)
	if out := second.run(1, "deploy", plan, "--yes"); !strings.Contains(out, "brickrow: ") {
		t.Error(out)
	}
	if out := third.run(0, "deploy", plan, "--yes"); !strings.Contains(out, "done, at revision 1") {
		t.Error(out)
	}
	for _, s := range all { // all know by whom, from wherever
		if out := s.run(0, "history", "row"); !strings.Contains(out, "by daemon, approved by nobody, carried out by games") {
			t.Errorf("%s reads %s", s.name, out)
		}
	}
	free := filepath.Join(desk, "free.json")
	maker.run(0, "targets", "--no-approval", "workshop/alder-1", "--save", free)
	second.run(0, "approve", free)
	third.run(0, "deploy", free)
	third.run(0, "deploy", file, "--yes", "-i", "word="+secret, "-i", "size=medium")

	maker.run(0, "store", "members", "remove", "cem")
	if out := third.run(0, "show", "row"); !strings.Contains(out, "ready") { // the names and states of all
		t.Error(out)
	}
	third.run(0, "events", "row")
	third.run(0, "history", "row")
	for _, args := range [][]string{{"deploy", file, "--yes", "-i", "word=" + secret}, {"undo", "row", "--to", "1", "--yes"}, {"delete", "row", "--yes", "--accept", "data"},
		{"targets", "--careful", "workshop/alder-1"}, append([]string{"store", "members", "add", "cem"}, strings.Fields(of(third))...), {"act", "row", "post", "restart", "--yes"}} {
		if out := third.run(1, args...); !strings.Contains(out, "not a member of this store") {
			t.Errorf("%v: %s", args, out)
		}
	}
	if out := maker.run(0, "undo", "row", "--to", "1", "--yes"); !strings.Contains(out, "done, at revision") {
		t.Error(out)
	}
	if dump := server.Dump(t, "stores"); strings.Contains(dump, secret) {
		t.Error("the secret stands in the database")
	}
	for _, s := range all {
		if out, err := exec.Command("grep", "-rlF", secret, s.home, desk).Output(); err == nil {
			t.Errorf("the secret stands in %s", out)
		}
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
