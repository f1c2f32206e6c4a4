// Package commit reads files as they are in a commit of the git repository that they are
// in. It changes nothing, and needs no git program.
package commit

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/utils/diff"
	"github.com/sergi/go-diff/diffmatchpatch"

	"brickrow/internal/bundle"
)

// Tree is the files of a commit. It is a bundle.Sources.
type Tree struct {
	Hash string // of the commit, in full
	root string // of the working tree, in full
	tree *object.Tree
}

// ErrNoRepository says that a file is in no repository.
var ErrNoRepository = errors.New("it is in no git repository")

// At finds the commit that a revision names, such as HEAD~2, a tag, or the beginning of
// its hash, in the repository that a path is in. The path need not be there.
func At(path, revision string) (*Tree, error) {
	repository, root, err := open(path)
	if err != nil {
		return nil, err
	}
	hash, err := repository.ResolveRevision(plumbing.Revision(revision))
	if err != nil {
		return nil, fmt.Errorf("the repository %s has no commit %s: %w", root, revision, err)
	}
	c, err := repository.CommitObject(*hash)
	if err != nil {
		return nil, fmt.Errorf("%s is no commit of %s: %w", revision, root, err)
	}
	tree, err := c.Tree()
	if err != nil {
		return nil, fmt.Errorf("read the commit %s: %w", revision, err)
	}
	return &Tree{Hash: hash.String(), root: root, tree: tree}, nil
}

// Last is the last commit of the repository that a path is in; "" where there is none.
func Last(path string) string {
	repository, _, err := open(path)
	if err != nil {
		return ""
	}
	head, err := repository.Head()
	if err != nil {
		return ""
	}
	return head.Hash().String()
}

// Branch is the branch that is checked out in the repository that a path is in; "" where there is none.
func Branch(path string) string {
	repository, _, err := open(path)
	if err != nil {
		return ""
	}
	head, err := repository.Head()
	if err != nil || !head.Name().IsBranch() {
		return ""
	}
	return head.Name().Short()
}

// First is the first commit of the repository that a file is in, from which each clone of it begins, and the path of the file in
// it. The commit is "" where there is none, or not all of them are here; the path is "" where the file is in no repository.
func First(path string) (hash, name string) {
	repository, root, err := open(path)
	if err != nil {
		return "", ""
	}
	if name, err = (&Tree{root: root}).within(path); err != nil {
		return "", ""
	}
	if shallow, err := repository.Storer.Shallow(); err != nil || len(shallow) > 0 {
		return "", name
	}
	head, err := repository.Head()
	if err != nil {
		return "", name
	}
	c, err := repository.CommitObject(head.Hash())
	for err == nil && c.NumParents() > 0 {
		c, err = c.Parent(0)
	}
	if err != nil {
		return "", name
	}
	return c.Hash.String(), name
}

// Name is a path relative to the repository, or as it is where it is in no part of it.
func (t *Tree) Name(path string) string {
	if name, err := t.within(path); err == nil {
		return name
	}
	return path
}

// open opens the repository that a path is in.
func open(path string) (*git.Repository, string, error) {
	dir, err := filepath.Abs(path)
	if err != nil {
		return nil, "", err
	}
	for { // the nearest folder that there is
		if info, err := os.Stat(dir); err == nil && info.IsDir() {
			break
		}
		up := filepath.Dir(dir)
		if up == dir {
			return nil, "", ErrNoRepository
		}
		dir = up
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	r, err := git.PlainOpenWithOptions(dir, &git.PlainOpenOptions{DetectDotGit: true, EnableDotGitCommonDir: true})
	if errors.Is(err, git.ErrRepositoryNotExists) {
		return nil, "", fmt.Errorf("%s: %w", path, ErrNoRepository)
	}
	if err != nil {
		return nil, "", fmt.Errorf("open the repository of %s: %w", path, err)
	}
	work, err := r.Worktree()
	if err != nil {
		return nil, "", fmt.Errorf("the repository of %s has no working tree: %w", path, err)
	}
	return r, work.Filesystem.Root(), nil
}

// within is the path of a file in the tree. The error says so where it lies outside.
func (t *Tree) within(path string) (string, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	for dir, rest := filepath.Dir(abs), filepath.Base(abs); ; { // links above it are followed
		if real, err := filepath.EvalSymlinks(dir); err == nil {
			abs = filepath.Join(real, rest)
			break
		}
		up := filepath.Dir(dir)
		if up == dir {
			break
		}
		dir, rest = up, filepath.Join(filepath.Base(dir), rest)
	}
	rel, err := filepath.Rel(t.root, abs)
	if err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return "", fmt.Errorf("%s lies outside of the repository %s: %w", path, t.root, fs.ErrNotExist)
	}
	return filepath.ToSlash(rel), nil
}

func (t *Tree) short() string { return t.Hash[:min(10, len(t.Hash))] }

// Open reads a file by its path.
func (t *Tree) Open(path string, limit int64) ([]byte, error) {
	rel, err := t.within(path)
	if err != nil {
		return nil, err
	}
	f, err := t.tree.File(rel)
	if errors.Is(err, object.ErrFileNotFound) {
		return nil, fmt.Errorf("there is no file %s in the commit %s: %w", path, t.short(), fs.ErrNotExist)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s from the commit %s: %w", path, t.short(), err)
	}
	if f.Size > limit {
		return nil, fmt.Errorf("%s has %d MiB; up to %d MiB are read", path, f.Size>>20, limit>>20)
	}
	r, err := f.Reader()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, limit+1))
}

// Within reads a file of a folder by its slash-separated path.
func (t *Tree) Within(folder, path string, limit int64) ([]byte, error) {
	return t.Open(filepath.Join(folder, filepath.FromSlash(path)), limit)
}

// List lists the files of a folder by their paths.
func (t *Tree) List(folder string) ([]string, error) {
	rel, err := t.within(folder)
	if err != nil {
		return nil, err
	}
	tree := t.tree
	if rel != "." {
		if e, err := t.tree.FindEntry(rel); err == nil && e.Mode.IsFile() {
			return nil, fmt.Errorf("%s: %w", folder, bundle.ErrNoFolder)
		}
		if tree, err = t.tree.Tree(rel); err != nil {
			return nil, fmt.Errorf("there is no folder %s in the commit %s: %w", folder, t.short(), fs.ErrNotExist)
		}
	}
	var out []string
	for _, e := range tree.Entries {
		if e.Mode.IsFile() {
			out = append(out, filepath.Join(folder, e.Name))
		}
	}
	slices.Sort(out)
	return out, nil
}

// Side tells how a line differs from another text.
type Side byte

// What a line can be, against another text.
const (
	Alike   Side = iota
	Added        // it is not there
	Altered      // it is another one there
	Removed      // behind it there were lines that are gone
)

// Sides tell of each line of a text how it differs from what it was.
func Sides(was, now string) []Side {
	out := make([]Side, strings.Count(now, "\n")+1)
	if was == now {
		return out
	}
	// what both begin and end with, in whole lines, is left out: mostly that is nearly all
	same := 0
	for same < min(len(was), len(now)) && was[same] == now[same] {
		same++
	}
	same = strings.LastIndexByte(now[:same], '\n') + 1
	tail := 0
	for tail < min(len(was), len(now))-same && was[len(was)-1-tail] == now[len(now)-1-tail] {
		tail++
	}
	if i := strings.IndexByte(now[len(now)-tail:], '\n'); i >= 0 {
		tail -= i + 1
	} else {
		tail = 0
	}
	line, gone := strings.Count(now[:same], "\n"), 0
	for _, d := range diff.Do(was[same:len(was)-tail], now[same:len(now)-tail]) {
		n := strings.Count(d.Text, "\n")
		if !strings.HasSuffix(d.Text, "\n") {
			n++
		}
		switch d.Type {
		case diffmatchpatch.DiffDelete:
			gone += n
			continue
		case diffmatchpatch.DiffInsert:
			for i := range n {
				if line+i < len(out) {
					if out[line+i] = Added; i < gone {
						out[line+i] = Altered
					}
				}
			}
			gone = max(0, gone-n)
		}
		if gone > 0 && d.Type == diffmatchpatch.DiffEqual && line > 0 {
			if out[line-1] == Alike {
				out[line-1] = Removed
			}
		}
		if d.Type == diffmatchpatch.DiffEqual {
			gone = 0
		}
		line += n
	}
	if gone > 0 && line > 0 && line <= len(out) && out[line-1] == Alike {
		out[line-1] = Removed
	}
	return out
}
