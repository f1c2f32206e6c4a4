package app

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// ReadOnlyError says that the folder of the data cannot be written, where something has to be.
type ReadOnlyError struct{ Home string }

func (e *ReadOnlyError) Error() string {
	return "the folder of the data, " + e.Home + ", cannot be written: commands that only look work all the same, such as 'brickrow stacks'; for others choose another one with --home"
}

// readOnly reports whether there is a folder of data that cannot be written.
func readOnly(home string) bool {
	info, err := os.Stat(home)
	if err != nil || !info.IsDir() {
		return false
	}
	err = unix.Access(home, unix.W_OK)
	return errors.Is(err, unix.EROFS) || errors.Is(err, unix.EACCES)
}

// lookAt copies a folder of data that cannot be written to where it can be: what a command that only looks notes along the
// way goes with the copy. What the databases keep for a moment alone, and locks, are left out.
func lookAt(home string) (dir string, err error) {
	if dir, err = os.MkdirTemp("", "brickrow-looks-"); err != nil {
		return "", err
	}
	err = filepath.WalkDir(home, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		below, err := filepath.Rel(home, path)
		if err != nil {
			return err
		}
		to := filepath.Join(dir, below)
		switch {
		case below == ".":
			return nil
		case e.IsDir():
			return os.Mkdir(to, 0o700)
		case !e.Type().IsRegular() || strings.HasSuffix(below, "-shm") || strings.HasSuffix(below, ".lock"):
			return nil
		}
		return copyFile(path, to)
	})
	if err != nil {
		return "", errors.Join(err, os.RemoveAll(dir))
	}
	return dir, nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm()&0o700|0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
