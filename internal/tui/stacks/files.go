package stacks

import (
	"os"
	"path/filepath"
	"slices"
	"time"

	"brickrow/internal/bundle"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
)

// files knows what stack files say, as long as they stay as they are. It is used by
// one reading at a time.
type files map[string]stackFile

type stackFile struct {
	changed time.Time
	size    int64
	about   part.Subject
}

// find looks for stack files of stacks that were never deployed.
func (f files) find(known []line, folders []string) []line {
	have, ofFleet := map[string]bool{}, map[string]bool{}
	for _, r := range known {
		have[r.id()] = true
		ofFleet[r.File] = ofFleet[r.File] || r.Stack != nil && r.Stack.Fleet != ""
		if r.File != "" {
			folders = append(folders, filepath.Dir(r.File))
		}
	}
	slices.Sort(folders)
	var out []line
	for _, dir := range slices.Compact(folders) {
		names, err := filepath.Glob(filepath.Join(dir, "*.stack.yaml"))
		if err != nil {
			continue
		}
		for _, path := range names {
			r := line{Subject: f.about(path), order: 1}
			if r.Name != "" && !have[r.id()] && !ofFleet[path] {
				have[r.id()] = true
				out = append(out, r)
			}
		}
	}
	return out
}

// about is what a stack file is about; nothing where it cannot be read.
func (f files) about(path string) part.Subject {
	info, err := os.Stat(path)
	if err != nil {
		return part.Subject{}
	}
	was, ok := f[path]
	if !ok || was.size != info.Size() || !was.changed.Equal(info.ModTime()) {
		was = stackFile{changed: info.ModTime(), size: info.Size()}
		if text, err := bundle.Disk.Open(path, 1<<20); err == nil {
			file, _ := stack.ReadFile(path, text, "")
			was.about = part.Subject{Name: file.Stack, File: path, Target: file.Target.String()}
		}
		f[path] = was
	}
	return was.about
}
