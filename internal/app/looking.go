package app

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

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
// way goes with the copy. What the databases keep for a moment alone, and locks, are left out. Copies of programs that were
// killed are removed.
func lookAt(home string) (dir string, err error) {
	base := os.Getenv("XDG_RUNTIME_DIR") // in memory, and this user's alone, where there is one
	if unix.Access(base, unix.W_OK) != nil {
		base = os.TempDir()
	}
	removeLeft(base)
	if dir, err = os.MkdirTemp(base, fmt.Sprintf("%s%d-", looks, os.Getpid())); err != nil {
		return "", err
	}
	for try := 0; ; try++ {
		var whole bool
		if whole, err = copyFolder(home, dir); err != nil || whole {
			break
		}
		if try == 4 {
			err = errors.New("another process writes to it all the time")
			break
		}
	}
	if err != nil {
		return "", errors.Join(err, os.RemoveAll(dir))
	}
	return dir, nil
}

// looks begins the names of copies; the number of the process that has it follows.
const looks = "brickrow-looks-"

// removeLeft removes the copies of this user's programs that do not run any more.
func removeLeft(base string) {
	list, err := os.ReadDir(base)
	if err != nil {
		return // then there is nothing that could be removed
	}
	for _, e := range list {
		name, is := strings.CutPrefix(e.Name(), looks)
		number, _, _ := strings.Cut(name, "-")
		process, err := strconv.Atoi(number)
		info, infoErr := e.Info()
		if !is || err != nil || infoErr != nil || !info.IsDir() || unix.Kill(process, 0) != unix.ESRCH {
			continue
		}
		if st, known := info.Sys().(*syscall.Stat_t); known && int(st.Uid) == os.Getuid() {
			_ = os.RemoveAll(filepath.Join(base, e.Name())) // it is tried again at the next look
		}
	}
}

// copyFolder copies a folder over what is there of it, and reports whether nothing of it was changed meanwhile.
func copyFolder(from, to string) (whole bool, err error) {
	copied := map[string]fs.FileInfo{}
	err = filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		below, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		to := filepath.Join(to, below)
		switch {
		case below == ".":
			return nil
		case e.IsDir():
			return os.MkdirAll(to, 0o700)
		case !e.Type().IsRegular() || strings.HasSuffix(below, "-shm") || strings.HasSuffix(below, ".lock"):
			return nil
		}
		info, err := copyFile(path, to)
		copied[path] = info
		return err
	})
	if err != nil {
		return false, err
	}
	for path, was := range copied {
		if is, err := os.Stat(path); err != nil || is.Size() != was.Size() || !is.ModTime().Equal(was.ModTime()) {
			return false, nil
		}
	}
	return true, nil
}

func copyFile(from, to string) (fs.FileInfo, error) {
	in, err := os.Open(from)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, info.Mode().Perm()&0o700|0o600)
	if err != nil {
		return nil, err
	}
	_, err = io.Copy(out, in)
	return info, errors.Join(err, out.Close())
}
