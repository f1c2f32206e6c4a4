package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"

	"brickrow/internal/commit"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Whence is where a revision came from: a stack file in a repository, which is told by its first commit, or a file.
type Whence struct {
	Repository string `json:"repository,omitempty"` // the first commit; "" is none, or that not all of it is here
	Path       string `json:"path,omitempty"`       // of the stack file in the repository
	Host       string `json:"host,omitempty"`       // the machine on which File is
	File       string `json:"file"`                 // the stack file, in full
}

// Words say where that is.
func (w Whence) Words() string {
	switch {
	case w.Repository != "":
		return fmt.Sprintf("%s of the repository that began with %s", w.Path, w.Repository[:min(10, len(w.Repository))])
	case w.Path != "":
		return w.Path + " of a repository (" + w.File + ")"
	}
	return w.File
}

// same reports whether two revisions came from the same place, as far as can be told.
func (w Whence) same(o Whence) bool {
	switch {
	case w.Repository != "" && o.Repository != "":
		return w.Repository == o.Repository && w.Path == o.Path
	case w.Path != "" && o.Path != "": // of one of them not all of the repository was there
		return w.Path == o.Path
	}
	return w.File == o.File
}

// whence is where a stack file is.
func (a *App) whence(path string) Whence {
	file, err := filepath.Abs(path)
	if err != nil {
		file = path
	}
	a.whenceMu.Lock()
	defer a.whenceMu.Unlock()
	if w, known := a.whences[file]; known {
		return w
	}
	w := Whence{File: file}
	if real, err := filepath.EvalSymlinks(file); err == nil {
		w.File = real
	}
	w.Repository, w.Path = commit.First(file)
	if a.whences == nil {
		a.whences = map[string]Whence{}
	}
	a.whences[file] = w
	return w
}

// whenceOf is where a revision says that it came from; false where it does not say.
func whenceOf(rev *stack.Revision) (w Whence, known bool) {
	if rev == nil || rev.Origin == "" || json.Unmarshal([]byte(rev.Origin), &w) != nil {
		return w, false
	}
	return w, true
}

// origins raises the risk that a stack was deployed from elsewhere so far, or refuses one whose name is that of a stack in another
// store.
func (a *App) origins(ctx context.Context, p *Preview, s *surveyed) error {
	d := p.Draft
	if s != nil {
		if list := s.OfOtherStore(); len(list) > 0 {
			var names []string
			for _, l := range list {
				names = append(names, l.Node)
			}
			p.Findings.Errorf(d.Stack.TargetPos, "other-store", "choose another name for the stack, or use the store that it is in (--store)",
				"%s in %s is a stack of another store (%s) already: %s", d.Stack.Stack, d.Stack.Target, list[0].Store, stack.Few(names))
		}
	}
	w := a.whence(d.Path)
	text, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if p.Revision != nil && p.Revision.Origin == "" {
		p.Revision.Origin = string(text)
	}
	if p.Stack == nil || p.Stack.Revision == 0 || p.Stack.State == stack.Removed || p.Stack.State == stack.Empty {
		return nil
	}
	origin, err := a.store.OriginOf(ctx, p.Stack.ID, p.Stack.Revision)
	if err != nil {
		return err
	}
	was, known := whenceOf(&stack.Revision{Origin: origin})
	if is, saved := whenceOf(p.Revision); saved {
		w = is
	}
	if known && !was.same(w) && p.Kind == run.KindDeploy {
		p.ChangeSet.Risks = append([]whatif.Risk{{Kind: whatif.RiskOrigin, Pos: tosca.Pos{File: d.Path, Line: 1, Column: 1},
			Text: fmt.Sprintf("%s in %s was so far deployed from %s, and this is %s", p.Stack.Name, p.Stack.Target, was.Words(), w.Words()),
			Fix:  "see that it is the same stack; another one needs another name"}}, p.ChangeSet.Risks...)
	}
	return nil
}

// FreeName refuses the name of a new stack that is taken in a target, and proposes one that is free.
func (a *App) FreeName(ctx context.Context, name, target string) error {
	t, ok := stack.ParseTarget(target)
	if !ok {
		return nil
	}
	taken := func(name string) (bool, error) {
		st, err := a.store.At(ctx, name, t)
		if err != nil {
			return false, unless(err, store.ErrNotFound)
		}
		return st.State != stack.Removed && (st.State != stack.Empty || st.Revision > 0), nil
	}
	is, err := taken(name)
	if err != nil || !is {
		return err
	}
	free := ""
	for i := 2; free == ""; i++ {
		next := fmt.Sprintf("%s-%d", name, i)
		if is, err = taken(next); err != nil {
			return err
		}
		if !is {
			free = next
		}
	}
	return refusal("there is a stack %s in %s already: what is deployed under that name would take its place; call the new one something else, such as %s", name, t, free)
}

// unless is an error that is another one than what is expected.
func unless(err, expected error) error {
	if errors.Is(err, expected) {
		return nil
	}
	return err
}
