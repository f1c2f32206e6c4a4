package cli

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// TestReadOnlyHome calls each command that only looks on a folder of data that cannot be written, and wants what it says on one that
// can; those that change something say that it cannot be, and nothing of it is left anywhere.
func TestReadOnlyHome(t *testing.T) {
	s := newShell(t)
	file := filepath.Join(s.dir, "bulletin-test.stack.yaml")
	type call struct {
		code int
		args []string
	}
	calls := []call{{0, []string{"stacks"}}, {0, []string{"show", "bulletin-test"}}, {0, []string{"history", "bulletin-test"}}, {0, []string{"results", "ridge-base"}},
		{0, []string{"check", file}}, {0, []string{"whatif", file}}, {0, []string{"targets"}}, {0, []string{"store", "status"}}, {3, []string{"drift", "bulletin-test"}}, {0, []string{"cloud"}}}
	var before []string
	for i, c := range calls {
		got, out, errs := s.try(c.args...)
		calls[i].code = got
		if out == "" && errs == "" {
			t.Errorf("%v says nothing", c.args)
		}
		before = append(before, out)
	}
	t.Setenv("TMPDIR", t.TempDir())
	t.Setenv("XDG_RUNTIME_DIR", "")
	killed := exec.Command("true")
	if err := killed.Run(); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(os.TempDir(), fmt.Sprintf("brickrow-looks-%d-1", killed.Process.Pid)), 0o700); err != nil {
		t.Fatal(err)
	}
	if os.Getuid() == 0 {
		if err := unix.Mount(s.home, s.home, "", unix.MS_BIND, ""); err != nil {
			t.Skip("nothing can be mounted here: ", err)
		}
		t.Cleanup(func() { _ = unix.Unmount(s.home, unix.MNT_DETACH) })
		if err := unix.Mount("", s.home, "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_RDONLY, ""); err != nil {
			t.Skip("nothing can be mounted here: ", err)
		}
	} else {
		if err := os.Chmod(s.home, 0o500); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = os.Chmod(s.home, 0o700) })
	}
	for i, c := range calls {
		if code, out, errs := s.try(c.args...); code != c.code || len(out) < len(before[i])*9/10 {
			t.Errorf("%v: %d, was %d\n%s%s", c.args, code, c.code, out, errs)
		}
	}
	for _, args := range [][]string{{"deploy", file, "--yes"}, {"targets", "--careful", "workshop/alder-1"}, {"drift", "bulletin-test", "--put-back", "--yes"},
		{"delete", "bulletin-test", "--yes"}, {"whatif", file, "--save", filepath.Join(t.TempDir(), "x.json")}, {"observe"}, {"compliance", "--leave", "public-bucket"}, {"fleet", "cancel", "signs"}} {
		code, _, errs := s.try(args...)
		if code != 1 {
			t.Errorf("%v: exit %d", args, code)
		}
		s.wants(errs, "cannot be written: commands that only look work all the same")
	}
	if left, err := os.ReadDir(os.TempDir()); err != nil || len(left) > 0 {
		t.Errorf("%v is left, %v", left, err)
	}
}
