package app

import (
	"context"
	"path/filepath"

	"brickrow/internal/commit"
	"brickrow/internal/tosca"
)

// Side tells how a line differs from another text.
type Side = commit.Side

// What a line can be, against another text.
const (
	Alike   = commit.Alike
	Added   = commit.Added
	Altered = commit.Altered
	Removed = commit.Removed
)

// Sides tell of each line of a text how it differs from what it was.
func Sides(was, now string) []Side { return commit.Sides(was, now) }

// Bases are what a file is compared with line by line; nil where there is no such text.
type Bases struct {
	Committed *string // in the last commit
	Deployed  *string // in the revision that is deployed
}

// Bases finds for files of a draft what they were: in the last commit, and in the revision
// that is deployed.
func (a *App) Bases(ctx context.Context, d *Draft, names []string) map[string]Bases {
	out := map[string]Bases{}
	tree, err := commit.At(d.Path, "HEAD")
	for _, name := range names {
		if err != nil { // it is in no repository
			break
		}
		if text, err := tree.Open(name, tosca.MaxBytes); err == nil {
			b := out[name]
			b.Committed = textOf(name, text)
			out[name] = b
		}
	}
	if d.Stack == nil || d.Bundle == nil {
		return out
	}
	st, err := a.store.At(ctx, d.Stack.Stack, d.Stack.Target)
	if err != nil || st.Revision == 0 {
		return out
	}
	rev, err := a.store.Revision(ctx, st.ID, st.Revision)
	if err != nil {
		return out
	}
	b := out[d.Template]
	b.Deployed = textOf(d.Template, []byte(rev.Text))
	out[d.Template] = b
	root := d.Template[:max(0, len(d.Template)-len(d.Bundle.Entry))]
	for path, text := range rev.Files {
		name := filepath.Join(root, filepath.FromSlash(path))
		b := out[name]
		b.Deployed = textOf(name, text)
		out[name] = b
	}
	return out
}

func textOf(name string, bytes []byte) *string {
	text := document(name, bytes).Text
	return &text
}
