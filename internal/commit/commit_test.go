package commit

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"

	"brickrow/internal/bundle"
)

var _ bundle.Sources = (*Tree)(nil)

// repository is a repository with two commits, the second tagged.
func repository(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	r, err := git.PlainInit(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	w, err := r.Worktree()
	if err != nil {
		t.Fatal(err)
	}
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Add(name); err != nil {
			t.Fatal(err)
		}
	}
	when := &object.Signature{Name: "warden", Email: "warden@kestrelridge.example", When: time.Unix(1e9, 0)}
	write("a.yaml", "one\n")
	write("sub/b.yaml", "two\n")
	if _, err := w.Commit("first", &git.CommitOptions{Author: when}); err != nil {
		t.Fatal(err)
	}
	write("a.yaml", "one more\n")
	second, err := w.Commit("second", &git.CommitOptions{Author: when})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.CreateTag("v1", second, nil); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("not committed\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestAt(t *testing.T) {
	dir := repository(t)
	for revision, want := range map[string]string{"HEAD": "one more\n", "v1": "one more\n", "HEAD~1": "one\n"} {
		tree, err := At(filepath.Join(dir, "sub", "gone", "x.yaml"), revision)
		if err != nil {
			t.Errorf("%s: %v", revision, err)
			continue
		}
		if got, err := tree.Open(filepath.Join(dir, "a.yaml"), 100); err != nil || string(got) != want {
			t.Errorf("%s: %q %v", revision, got, err)
		}
		if again, err := At(dir, tree.Hash[:8]); err != nil || again.Hash != tree.Hash {
			t.Errorf("%s: %v", tree.Hash, err)
		}
	}
	tree, err := At(dir, "HEAD")
	if err != nil {
		t.Fatal(err)
	}
	if Last(dir) != tree.Hash || Last(t.TempDir()) != "" {
		t.Error(Last(dir), tree.Hash)
	}
	if got, err := tree.Within(dir, "sub/b.yaml", 100); err != nil || string(got) != "two\n" {
		t.Errorf("%q %v", got, err)
	}
	if list, err := tree.List(filepath.Join(dir, "sub")); err != nil || !slices.Equal(list, []string{filepath.Join(dir, "sub", "b.yaml")}) {
		t.Error(list, err)
	}
	if list, err := tree.List(dir); err != nil || len(list) != 1 {
		t.Error(list, err)
	}
	for what, err := range map[string]error{
		"a file that is not there": errorOf(tree.Open(filepath.Join(dir, "none.yaml"), 100)),
		"a file outside":           errorOf(tree.Open(filepath.Join(dir, "..", "x.yaml"), 100)),
		"a folder outside":         errorOf(tree.List(filepath.Dir(dir))),
		"a folder not there":       errorOf(tree.List(filepath.Join(dir, "none"))),
	} {
		if !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := errorOf(tree.List(filepath.Join(dir, "a.yaml"))); !errors.Is(err, bundle.ErrNoFolder) {
		t.Error(err)
	}
	if err := errorOf(tree.Open(filepath.Join(dir, "a.yaml"), 3)); err == nil {
		t.Error("it is too large")
	}
	if _, err := At(dir, "nothing"); err == nil || !strings.Contains(err.Error(), "has no commit nothing") {
		t.Error(err)
	}
	if _, err := At(t.TempDir(), "HEAD"); !errors.Is(err, ErrNoRepository) {
		t.Error(err)
	}
}

func errorOf[T any](_ T, err error) error { return err }

func TestSides(t *testing.T) {
	for _, test := range []struct{ was, now, want string }{
		{"a\nb\n", "a\nb\n", "..."},
		{"a\nb\n", "a\nx\nb\n", ".+.."},
		{"a\nb\nc\n", "a\nx\nc\n", ".~.."},
		{"a\nb\nc\n", "a\nc\n", "-.."},
		{"a\nb\n", "a\n", "-."},
		{"", "a\n", "+."},
		{"a\nb\nc\n", "a\nx\ny\nc\n", ".~+.."},
		{"a\nb\nc\nd\n", "a\nx\nd\n", ".~.."},
	} {
		var got strings.Builder
		for _, s := range Sides(test.was, test.now) {
			fmt.Fprint(&got, string(".+~-"[s]))
		}
		if got.String() != test.want {
			t.Errorf("%q to %q: %s, want %s", test.was, test.now, got.String(), test.want)
		}
	}
}
