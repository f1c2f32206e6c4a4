package programs

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/files"
)

// NotAskedError says that a program was not called, as it is not one that was deployed from this store: whoever only
// looks does not run what a change brings along.
type NotAskedError struct{ File string }

func (e *NotAskedError) Error() string {
	return fmt.Sprintf("its program %s was not asked: it is not the one that was deployed; look at it, then --ask-programs lets it be asked", e.File)
}

// Identity is what a program is told by, all that belongs to it included: its own text, the file of its interpreter
// where that stands beside it, and the files that it depends on, as they are now. Own is that of its own text
// alone.
func (p Program) Identity() string {
	parts := []string{p.Own(), p.Interpreter}
	beside := slices.Sorted(maps.Keys(p.With))
	if strings.Contains(p.Interpreter, "/") && !filepath.IsAbs(p.Interpreter) {
		beside = append(beside, p.Interpreter)
	}
	for _, name := range beside {
		digest := p.With[name]
		if p.Folder != "" {
			if text, err := files.Read(filepath.Join(p.Folder, filepath.FromSlash(name)), maxBeside); err == nil {
				digest = Digest(text)
			}
		}
		parts = append(parts, name, digest)
	}
	return "whole:" + Digest([]byte(strings.Join(parts, "\x00")))
}

// maxBeside is how large a file that a program depends on may be, in bytes.
const maxBeside = 64 << 20

// Own is what the text of a program alone is told by.
func (p Program) Own() string { return "own:" + p.Digest }

// Now is a program as its file is now; false where there is no such file.
func (p Program) Now() (Program, []byte, bool) {
	if p.Folder == "" {
		return p, nil, false
	}
	text, err := os.ReadFile(filepath.Join(p.Folder, filepath.FromSlash(p.File)))
	if err != nil {
		return p, nil, false
	}
	p.Digest = Digest(text)
	return p, text, true
}

// carrying marks a context in which a run is carried out, to which somebody has agreed.
type carrying struct{}

// Carrying lets the programs that were deployed be called though what they depend on has changed since: who agreed to
// a run wants it to come to its end.
func Carrying(ctx context.Context) context.Context { return context.WithValue(ctx, carrying{}, true) }

// may reports whether a program may be called.
func (c *Cloud) may(ctx context.Context, p Program) (bool, error) {
	if c.Deployed == nil {
		return true, nil
	}
	identity := p.Identity()
	if ctx.Value(carrying{}) != nil {
		identity = p.Own()
	}
	return c.Deployed(ctx, identity)
}
