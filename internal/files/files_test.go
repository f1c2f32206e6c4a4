package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

func TestRead(t *testing.T) {
	dir := t.TempDir()
	good := filepath.Join(dir, "good")
	if err := os.WriteFile(good, []byte("0123456789"), 0o600); err != nil {
		t.Fatal(err)
	}
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(dir, "link")
	if err := os.Symlink("/dev/zero", link); err != nil {
		t.Fatal(err)
	}
	if text, err := Read(good, 10); err != nil || string(text) != "0123456789" {
		t.Errorf("%q %v", text, err)
	}
	for path, words := range map[string]string{good: "which is the most that is read", dir: "is a folder",
		pipe: "is a pipe", "/dev/zero": "is a device", link: "is a device",
		filepath.Join(dir, "none"): "no such file"} {
		done := make(chan error, 1)
		go func() {
			_, err := Read(path, 9)
			done <- err
		}()
		select {
		case err := <-done:
			if err == nil || !strings.Contains(err.Error(), words) {
				t.Errorf("%s: %v, want %q", path, err, words)
			}
			if irregular := words[:3] == "is "; irregular != errors.Is(err, ErrNotRegular) {
				t.Errorf("%s: %v", path, err)
			}
		case <-time.After(5 * time.Second):
			t.Fatalf("%s is waited for", path)
		}
	}
}

// TestWrite lays traps where a file is written: a link, a file of the name that
// an earlier version wrote under, a folder, a device.
func TestWrite(t *testing.T) {
	dir := t.TempDir()
	victim := filepath.Join(dir, "victim")
	target := filepath.Join(dir, "plan.json")
	for _, path := range []string{victim, target + ".part"} {
		if err := os.WriteFile(path, []byte("mine"), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(victim, target); err != nil {
		t.Fatal(err)
	}
	if err := Write(target, []byte("new"), 0o600); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{target: "new", victim: "mine", target + ".part": "mine"} {
		if text, err := os.ReadFile(path); err != nil || string(text) != want {
			t.Errorf("%s is %q (%v), want %q", path, text, err, want)
		}
	}
	if info, err := os.Lstat(target); err != nil || info.Mode() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	for _, path := range []string{dir, "/dev/null"} {
		if err := Write(path, []byte("new"), 0o600); !errors.Is(err, ErrNotRegular) {
			t.Errorf("%s is replaced: %v", path, err)
		}
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 3 {
		t.Errorf("something was left behind: %v %v", entries, err)
	}
}

// TestReadPrivate lets several make one file at once: all read the same. One that
// others can read is refused, and so is one that cannot be made.
func TestReadPrivate(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a key")
	got := make(chan string, 16)
	for i := range cap(got) {
		go func() {
			text, err := ReadPrivate(path, func() ([]byte, error) { return fmt.Appendf(nil, "key %d", i), nil })
			got <- fmt.Sprint(string(text), err)
		}()
	}
	first := <-got
	for range cap(got) - 1 {
		if other := <-got; other != first || !strings.HasPrefix(other, "key ") {
			t.Errorf("one has %q, another %q", first, other)
		}
	}
	if entries, err := os.ReadDir(filepath.Dir(path)); err != nil || len(entries) != 1 {
		t.Errorf("something was left behind: %v %v", entries, err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadPrivate(path, nil); err == nil || !strings.Contains(err.Error(), "chmod 600 "+path) {
		t.Errorf("others can read it: %v", err)
	}
	broken := errors.New("no chance")
	if _, err := ReadPrivate(path+"2", func() ([]byte, error) { return nil, broken }); !errors.Is(err, broken) {
		t.Errorf("%v", err)
	}
}

func TestPrivate(t *testing.T) {
	dir := t.TempDir()
	for mode, fits := range map[os.FileMode]bool{0o700: true, 0o755: false, 0o701: false, 0o770: false} {
		if err := os.Chmod(dir, mode); err != nil {
			t.Fatal(err)
		}
		info, err := os.Stat(dir)
		if err != nil {
			t.Fatal(err)
		}
		if err := Private(dir, info); (err == nil) != fits ||
			err != nil && !strings.Contains(err.Error(), "chmod 700 "+dir) {
			t.Errorf("%v: %v", mode, err)
		}
	}
}
