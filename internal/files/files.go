// Package files reads and writes files with care: it reads regular files alone,
// up to a size, and writes each as a whole or not at all.
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"github.com/google/renameio/v2"
)

// Read reads a regular file of at most limit bytes. A folder, a device or a pipe
// is an error, and is not waited for.
func Read(path string, limit int64) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return Limited(f, limit)
}

// Limited reads a file that was opened, with the limits of Read, and closes it.
func Limited(f *os.File, limit int64) ([]byte, error) {
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if err := regular(f.Name(), info); err != nil {
		return nil, err
	}
	tooLarge := fmt.Errorf("%s has more than %d MiB, which is the most that is read", f.Name(), limit>>20)
	if info.Size() > limit {
		return nil, tooLarge
	}
	text, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(text)) > limit {
		return nil, tooLarge
	}
	return text, err
}

// ErrNotRegular says that something is no file that could be read or replaced.
var ErrNotRegular = errors.New("not a regular file")

func regular(path string, info fs.FileInfo) error {
	what := ""
	switch mode := info.Mode(); {
	case mode.IsRegular():
		return nil
	case mode.IsDir():
		what = "a folder"
	case mode&fs.ModeNamedPipe != 0:
		what = "a pipe"
	case mode&fs.ModeSocket != 0:
		what = "a socket"
	default:
		what = "a device"
	}
	return fmt.Errorf("%s is %s: %w", path, what, ErrNotRegular)
}

// Write replaces a file, or makes it, as a whole or not at all: it is written
// under a fresh name beside it, which nobody else has, and then renamed. A link
// is replaced, not followed; what is no file is left alone.
func Write(path string, data []byte, perm fs.FileMode) error {
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSymlink == 0 {
		if err := regular(path, info); err != nil {
			return err
		}
	}
	return renameio.WriteFile(path, data, perm, renameio.WithTempDir(filepath.Dir(path)))
}

// WriteAs does the same with these permissions, whatever the file that is replaced has.
func WriteAs(path string, data []byte, perm fs.FileMode) error {
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSymlink == 0 {
		if err := regular(path, info); err != nil {
			return err
		}
	}
	return renameio.WriteFile(path, data, perm, renameio.WithTempDir(filepath.Dir(path)), renameio.WithStaticPermissions(perm))
}

// Private refuses a file, or a folder, that others than its owner can get at;
// the error says what to do.
func Private(path string, info fs.FileInfo) error {
	if info.Mode().Perm()&0o077 == 0 {
		return nil
	}
	if info.IsDir() {
		return fmt.Errorf("others can open the data folder %s: run chmod 700 %s", path, path)
	}
	return fmt.Errorf("others can read %s: run chmod 600 %s", path, path)
}

// ReadPrivate reads a small file that nobody else may read, such as one with keys.
// Where there is none, it is written with what made yields; of several processes
// that do so the first one wins.
func ReadPrivate(path string, made func() ([]byte, error)) ([]byte, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := once(path, made); err != nil {
			return nil, fmt.Errorf("write %s: %w", path, err)
		}
		info, err = os.Stat(path)
	}
	if err != nil {
		return nil, err
	}
	if err := Private(path, info); err != nil {
		return nil, err
	}
	return Read(path, 1<<20)
}

func once(path string, made func() ([]byte, error)) error {
	data, err := made()
	if err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.Write(data)
	if err = errors.Join(err, tmp.Sync(), tmp.Close()); err != nil {
		return err
	}
	if err := os.Link(tmp.Name(), path); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

// MakeNew writes a file that is not there yet, with the folders above it.
func MakeNew(path string, data []byte) error { return makeNew(path, data, 0o755, 0o644) }

// MakeSecret does the same for what is its owner's alone.
func MakeSecret(path string, data []byte) error { return makeNew(path, data, 0o700, 0o600) }

func makeNew(path string, data []byte, folder, mode os.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(path), folder); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close())
}
