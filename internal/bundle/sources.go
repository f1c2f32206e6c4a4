package bundle

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"brickrow/internal/files"
)

// Sources are where files are read from: the disk, what an editor holds over it,
// or whatever else has files by path. A file may have up to limit bytes.
type Sources interface {
	// Open reads a file by its path, as the user writes it.
	Open(path string, limit int64) ([]byte, error)
	// Within reads a file of a folder by its slash-separated path, which cannot lead
	// out of it.
	Within(folder, path string, limit int64) ([]byte, error)
	// List lists the files of a folder by their paths. The error says so where there
	// is none (fs.ErrNotExist) or where it is a file (ErrNoFolder).
	List(folder string) ([]string, error)
}

// ErrNoFolder says that a path leads to a file.
var ErrNoFolder = errors.New("it is not a folder")

// Disk is the files of this machine.
var Disk Sources = disk{}

type disk struct{}

func (disk) Open(path string, limit int64) ([]byte, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("there is no file %s", path)
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, fmt.Errorf("%s is a folder; name a template or a stack file in it", path)
	case info.Size() > limit:
		return nil, fmt.Errorf("%s has %d MiB; up to %d MiB are read", path, info.Size()>>20, limit>>20)
	}
	return files.Read(path, limit)
}

func (disk) Within(folder, path string, limit int64) ([]byte, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	f, err := root.OpenFile(filepath.FromSlash(path), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return files.Limited(f, limit)
}

func (disk) List(folder string) ([]string, error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, syscall.ENOTDIR) {
		return nil, fmt.Errorf("%s: %w", folder, ErrNoFolder)
	}
	var out []string
	for _, e := range entries {
		if !e.IsDir() {
			out = append(out, filepath.Join(folder, e.Name()))
		}
	}
	return out, err
}

// Folders lists the folders in one, by their paths.
func (disk) Folders(folder string) ([]string, error) {
	entries, err := os.ReadDir(folder)
	var out []string
	for _, e := range entries {
		if e.IsDir() {
			out = append(out, filepath.Join(folder, e.Name()))
		}
	}
	return out, err
}

// Over is sources with texts that stand for some of their files, by path.
func Over(under Sources, texts map[string][]byte) Sources {
	o := over{under, make(map[string][]byte, len(texts))}
	for path, text := range texts {
		o.texts[whole(path)] = text
	}
	return o
}

type over struct {
	Sources
	texts map[string][]byte // by absolute path
}

// whole is a path from the root on.
func whole(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return filepath.Clean(path)
}

func (o over) Open(path string, limit int64) ([]byte, error) {
	if text, ok := o.texts[whole(path)]; ok {
		return text, nil
	}
	return o.Sources.Open(path, limit)
}

func (o over) Within(folder, path string, limit int64) ([]byte, error) {
	if text, ok := o.texts[whole(filepath.Join(folder, filepath.FromSlash(path)))]; ok {
		return text, nil
	}
	return o.Sources.Within(folder, path, limit)
}

// List has the files of the texts too, also of a folder that is still to be made.
func (o over) List(folder string) ([]string, error) {
	if _, ok := o.texts[whole(folder)]; ok {
		return nil, fmt.Errorf("%s: %w", folder, ErrNoFolder)
	}
	out, err := o.Sources.List(folder)
	for path := range o.texts {
		name := filepath.Join(folder, filepath.Base(path))
		if filepath.Dir(path) == whole(folder) && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	if len(out) > 0 && errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	slices.Sort(out)
	return out, err
}
