package app

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"brickrow/internal/files"
	"brickrow/internal/tosca"
)

// Document is a file as an editor holds it: its text with lines that end in \n, and how
// it stood on the disk.
type Document struct {
	Path string
	Text string
	// Disk is what stood there when it was read or written last; nil is no file.
	Disk []byte
	CRLF bool // its lines end in \r\n there
	BOM  bool // it begins with a byte order mark there
}

const byteOrderMark = "\ufeff"

// OpenDocument reads a file to be edited. What is no text in UTF-8 is refused.
func OpenDocument(path string) (*Document, error) {
	disk, err := files.Read(path, tosca.MaxBytes)
	if err != nil {
		return nil, err
	}
	if !utf8.Valid(disk) || bytes.IndexByte(disk, 0) >= 0 {
		return nil, refusal("%s is not UTF-8 text, so it cannot be edited here", path)
	}
	return document(path, disk), nil
}

func document(path string, disk []byte) *Document {
	d := &Document{Path: path, Disk: disk, CRLF: bytes.Contains(disk, []byte("\r\n"))}
	text, bom := strings.CutPrefix(string(disk), byteOrderMark)
	d.Text, d.BOM = strings.ReplaceAll(text, "\r\n", "\n"), bom
	return d
}

// bytes is a text as it would stand on the disk.
func (d *Document) bytes(text string) []byte {
	if d.CRLF {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	if d.BOM {
		text = byteOrderMark + text
	}
	return []byte(text)
}

// ChangedOnDisk says that a file was changed by somebody else since it was read.
type ChangedOnDisk struct {
	Path   string
	Theirs *Document // nil where the file is gone
}

func (c *ChangedOnDisk) Error() string {
	if c.Theirs == nil {
		return fmt.Sprintf("%s is not there any more", c.Path)
	}
	return fmt.Sprintf("%s was changed by somebody else", c.Path)
}

// Save writes the text of a document, as a whole or not at all, and yields the document
// as it stands then. Mode, owner and the ends of lines stay, a link is followed. A file
// that is not as it was read is not written over: the error is a ChangedOnDisk. With
// over it is.
func (d *Document) Save(text string, over Overwriting) (*Document, error) {
	path, err := filepath.EvalSymlinks(d.Path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err != nil {
		path = d.Path
	}
	mode := fs.FileMode(0o644)
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if d.Disk != nil && over == Respect {
			return nil, &ChangedOnDisk{Path: d.Path}
		}
	case err != nil:
		return nil, err
	default:
		mode = info.Mode().Perm()
		if err := unix.Access(path, unix.W_OK); err != nil {
			return nil, fmt.Errorf("%s cannot be written: %w", d.Path, err)
		}
		disk, err := files.Read(path, tosca.MaxBytes)
		if err != nil {
			return nil, err
		}
		if over == Respect && !bytes.Equal(disk, d.Disk) {
			return nil, &ChangedOnDisk{Path: d.Path, Theirs: document(d.Path, disk)}
		}
	}
	out := d.bytes(text)
	if err := files.Write(path, out, mode); err != nil {
		return nil, fmt.Errorf("%s was not saved, and the file is unchanged: %w", d.Path, err)
	}
	if info != nil {
		keepOwner(path, info)
	}
	return document(d.Path, out), nil
}

// Overwriting says whether what somebody else wrote may be written over.
type Overwriting bool

// What to do with what somebody else wrote.
const (
	Respect   Overwriting = false
	WriteOver Overwriting = true
)

// keepOwner leaves a file to whom it belonged, where that can be done.
func keepOwner(path string, was fs.FileInfo) {
	old, ok := was.Sys().(*syscall.Stat_t)
	if !ok {
		return
	}
	var now unix.Stat_t
	if unix.Stat(path, &now) == nil && (now.Uid != old.Uid || now.Gid != old.Gid) {
		_ = os.Chown(path, int(old.Uid), int(old.Gid)) // only the administrator can, and only there it matters
	}
}

// Unsaved is a text that was being written and is not saved.
type Unsaved struct {
	Path    string    `json:"path"`
	Text    string    `json:"text"`
	Was     string    `json:"was"` // digest of the file that it came from
	At      time.Time `json:"at"`
	Process int       `json:"process"` // that writes it

	file string
}

// unsavedFolder is where unsaved texts are kept, each sealed.
const unsavedFolder = "unsaved"

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:16])
}

// unsavedFile is where a process keeps the unsaved text of a file.
func (a *App) unsavedFile(path string, process int) string {
	return filepath.Join(a.Home, unsavedFolder, fmt.Sprintf("%s-%d", digest([]byte(whole(path))), process))
}

// whole is a path from the root on.
func whole(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// Keep keeps the text of a document that is not saved, sealed, so that it is there after
// a crash.
func (a *App) Keep(d *Document, text string) error {
	clear, err := json.Marshal(Unsaved{Path: whole(d.Path), Text: text, Was: digest(d.Disk), At: time.Now(),
		Process: os.Getpid()})
	if err != nil {
		return err
	}
	sealed, err := a.store.Seal(clear)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(a.Home, unsavedFolder), 0o700); err != nil {
		return err
	}
	file := a.unsavedFile(d.Path, os.Getpid())
	if err := a.hold(file); err != nil {
		return err
	}
	return files.Write(file, sealed, 0o600)
}

// lockEnd is the end of the name of a file that a process holds locked as long as it
// writes an unsaved text: when it ends, however it does, the lock is gone.
const lockEnd = ".lock"

// hold says that this process writes an unsaved text.
func (a *App) hold(file string) error {
	a.keepMu.Lock()
	defer a.keepMu.Unlock()
	if a.keeping[file] != nil {
		return nil
	}
	f, err := os.OpenFile(file+lockEnd, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return errors.Join(err, f.Close())
	}
	if a.keeping == nil {
		a.keeping = map[string]*os.File{}
	}
	a.keeping[file] = f
	return nil
}

// held reports whether a process writes an unsaved text still.
func held(file string) bool {
	f, err := os.Open(file + lockEnd)
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil
}

// gone removes files that may be gone already.
func gone(files ...string) error {
	var errs []error
	for _, file := range files {
		if err := os.Remove(file); !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// Forget forgets what is kept of a file by this process.
func (a *App) Forget(path string) error {
	file := a.unsavedFile(path, os.Getpid())
	err := gone(file, file+lockEnd)
	a.keepMu.Lock()
	defer a.keepMu.Unlock()
	if f := a.keeping[file]; f != nil {
		delete(a.keeping, file)
		err = errors.Join(err, f.Close())
	}
	return err
}

// Drop forgets an unsaved text.
func (a *App) Drop(u *Unsaved) error { return gone(u.file, u.file+lockEnd) }

// Unsaved lists what is kept of a file and was never saved, the newest first: what
// processes left that are no more, and with what others are busy now.
func (a *App) Unsaved(path string) (left []*Unsaved, busy []int, err error) {
	list, err := filepath.Glob(filepath.Join(a.Home, unsavedFolder, digest([]byte(whole(path)))+"-*"))
	if err != nil {
		return nil, nil, err
	}
	for _, file := range list {
		process, err := strconv.Atoi(file[strings.LastIndexByte(file, '-')+1:])
		if err != nil { // a lock
			continue
		}
		if held(file) {
			busy = append(busy, process)
			continue
		}
		u, err := a.unsaved(file)
		if err != nil {
			return left, busy, err
		}
		left = append(left, u)
	}
	slices.SortFunc(left, func(a, b *Unsaved) int { return b.At.Compare(a.At) })
	return left, busy, nil
}

func (a *App) unsaved(file string) (*Unsaved, error) {
	sealed, err := files.Read(file, 4*tosca.MaxBytes)
	if err != nil {
		return nil, err
	}
	clear, err := a.store.Unseal(sealed)
	if err != nil {
		return nil, fmt.Errorf("an unsaved text cannot be opened (%s): %w", file, err)
	}
	u := &Unsaved{file: file}
	return u, json.Unmarshal(clear, u)
}
