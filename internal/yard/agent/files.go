package agent

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// File is a file or a folder of a server. Of a folder Text is nil.
type File struct {
	Mode    uint32 `json:"mode"` // as in fs.FileMode: permissions, and whether it is a folder
	Text    []byte `json:"text,omitempty"`
	Changed int64  `json:"changed,omitempty"` // in milliseconds of real time
}

// Files are all files of a server, by their paths from / on.
type Files map[string]File

// Size is how many bytes are in all files together.
func (f Files) Size() int64 {
	n := int64(0)
	for _, file := range f {
		n += int64(len(file.Text))
	}
	return n
}

// Text is the file at a path in a folder, or its index.html where the path is a folder; false where
// there is none.
func (f Files) Text(folder, p string) (string, bool) {
	name := at(folder, "."+path.Clean("/"+p))
	file, there := f[name]
	if there && fs.FileMode(file.Mode).IsDir() {
		file, there = f[path.Join(name, "index.html")]
	}
	return string(file.Text), there && !fs.FileMode(file.Mode).IsDir()
}

// disk is the whole world of a script: files in memory, as many and as much as the server has
// room for. Nothing outside of it can be named.
type disk struct {
	mu      sync.Mutex
	files   Files
	size    int64
	changed bool
	full    bool // something could not be written
	limits  Limits
}

func newDisk(files Files, l Limits) *disk {
	d := &disk{files: Files{}, limits: l}
	for p, f := range files {
		d.files[p] = f
		d.size += int64(len(f.Text))
	}
	for _, p := range []string{"/", "/bin", "/dev", "/etc", "/root", "/tmp", "/var", "/var/log"} {
		if _, there := d.files[p]; !there {
			d.files[p] = File{Mode: uint32(fs.ModeDir | 0o755)}
		}
	}
	return d
}

// kept are the files as they are to be kept: without what every server has.
func (d *disk) kept() Files {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := Files{}
	for p, f := range d.files {
		if p != "/" && p != "/bin" && p != "/dev" && !strings.HasPrefix(p, "/tmp/") {
			out[p] = f
		}
	}
	return out
}

// at is a path from / on, however it was written.
func at(dir, p string) string {
	if !strings.HasPrefix(p, "/") {
		p = dir + "/" + p
	}
	return path.Clean("/" + p)
}

func failed(op, p string, err error) error { return &fs.PathError{Op: op, Path: p, Err: err} }

var errFull = errors.New("no space left on the server")

// info is a file as scripts look at it.
type info struct {
	name string
	f    File
}

func (i info) Name() string               { return i.name }
func (i info) Size() int64                { return int64(len(i.f.Text)) }
func (i info) Mode() fs.FileMode          { return fs.FileMode(i.f.Mode) }
func (i info) ModTime() time.Time         { return time.UnixMilli(i.f.Changed) }
func (i info) IsDir() bool                { return i.Mode().IsDir() }
func (i info) Sys() any                   { return &syscall.Stat_t{} }
func (i info) Type() fs.FileMode          { return i.Mode().Type() }
func (i info) Info() (fs.FileInfo, error) { return i, nil }

func (d *disk) stat(p string) (fs.FileInfo, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if p == "/dev/null" {
		return info{"null", File{Mode: uint32(fs.ModeDevice | fs.ModeCharDevice | 0o666)}}, nil
	}
	if dir, name := path.Split(p); dir == "/bin/" && commands[name] != nil {
		return info{name, File{Mode: 0o755}}, nil
	}
	f, there := d.files[p]
	if !there {
		return nil, failed("stat", p, fs.ErrNotExist)
	}
	return info{path.Base(p), f}, nil
}

// list is what is in a folder, by name.
func (d *disk) list(p string) ([]fs.DirEntry, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f, there := d.files[p]
	switch {
	case !there:
		return nil, failed("open", p, fs.ErrNotExist)
	case !fs.FileMode(f.Mode).IsDir():
		return nil, failed("open", p, errors.New("it is no folder"))
	}
	var out []fs.DirEntry
	for _, name := range d.inside(p) {
		out = append(out, info{path.Base(name), d.files[name]})
	}
	return out, nil
}

// inside are the paths of what is directly in a folder.
func (d *disk) inside(p string) []string {
	var out []string
	for name := range d.files {
		if name != "/" && path.Dir(name) == p {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// below are the paths of all that is in a folder, and the folder itself, the deepest last.
func (d *disk) below(p string) []string {
	var out []string
	for name := range d.files {
		if name == p || strings.HasPrefix(name, strings.TrimSuffix(p, "/")+"/") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// put writes a file as a whole; what was there keeps its permissions.
func (d *disk) put(p string, text []byte, mode fs.FileMode) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.write(p, text, mode)
}

func (d *disk) write(p string, text []byte, mode fs.FileMode) error {
	was, there := d.files[p]
	dir, isDir := d.files[path.Dir(p)]
	switch {
	case there && fs.FileMode(was.Mode).IsDir():
		return failed("open", p, errors.New("it is a folder"))
	case !isDir || !fs.FileMode(dir.Mode).IsDir():
		return failed("open", p, fs.ErrNotExist)
	case path.Dir(p) == "/bin" || path.Dir(p) == "/dev":
		return failed("open", p, fs.ErrPermission)
	case !there && len(d.files) >= d.limits.Files:
		return failed("open", p, errors.New("the server has no room for more files"))
	case d.size-int64(len(was.Text))+int64(len(text)) > d.limits.Disk:
		d.full = true
		return failed("write", p, errFull)
	}
	if there {
		mode = fs.FileMode(was.Mode)
	}
	d.size += int64(len(text)) - int64(len(was.Text))
	d.files[p] = File{Mode: uint32(mode.Perm()), Text: text, Changed: time.Now().UnixMilli()}
	d.changed = true
	return nil
}

func (d *disk) read(p string) ([]byte, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if p == "/dev/null" {
		return nil, nil
	}
	f, there := d.files[p]
	switch {
	case !there:
		return nil, failed("open", p, fs.ErrNotExist)
	case fs.FileMode(f.Mode).IsDir():
		return nil, failed("read", p, errors.New("it is a folder"))
	}
	return f.Text, nil
}

func (d *disk) mkdir(p string, parents bool) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if f, there := d.files[p]; there {
		if parents && fs.FileMode(f.Mode).IsDir() {
			return nil
		}
		return failed("mkdir", p, fs.ErrExist)
	}
	var missing []string
	for up := p; ; up = path.Dir(up) {
		f, there := d.files[up]
		if there && !fs.FileMode(f.Mode).IsDir() {
			return failed("mkdir", up, errors.New("it is no folder"))
		}
		if there {
			break
		}
		missing = append(missing, up)
	}
	if len(missing) > 1 && !parents {
		return failed("mkdir", path.Dir(p), fs.ErrNotExist)
	}
	if len(d.files)+len(missing) > d.limits.Files {
		return failed("mkdir", p, errors.New("the server has no room for more files"))
	}
	for _, m := range missing {
		d.files[m] = File{Mode: uint32(fs.ModeDir | 0o755), Changed: time.Now().UnixMilli()}
	}
	d.changed = true
	return nil
}

// remove removes a file, or a folder with all that is in it where that is wished.
func (d *disk) remove(p string, all bool) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	f, there := d.files[p]
	switch {
	case !there:
		return failed("remove", p, fs.ErrNotExist)
	case p == "/" || p == "/bin" || p == "/dev":
		return failed("remove", p, fs.ErrPermission)
	case fs.FileMode(f.Mode).IsDir() && !all && len(d.inside(p)) > 0:
		return failed("remove", p, errors.New("the folder is not empty"))
	}
	for _, name := range d.below(p) {
		d.size -= int64(len(d.files[name].Text))
		delete(d.files, name)
	}
	d.changed = true
	return nil
}

func (d *disk) chmod(p string, mode fs.FileMode) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	f, there := d.files[p]
	if !there {
		return failed("chmod", p, fs.ErrNotExist)
	}
	f.Mode = f.Mode&^uint32(fs.ModePerm) | uint32(mode.Perm())
	d.files[p], d.changed = f, true
	return nil
}

// open opens a file as scripts do.
func (d *disk) open(p string, flag int, mode fs.FileMode) (io.ReadWriteCloser, error) {
	if p == "/dev/null" {
		return null{}, nil
	}
	writes := flag&(os.O_WRONLY|os.O_RDWR) != 0
	d.mu.Lock()
	defer d.mu.Unlock()
	f, there := d.files[p]
	switch {
	case there && fs.FileMode(f.Mode).IsDir():
		return nil, failed("open", p, errors.New("it is a folder"))
	case !there && (!writes || flag&os.O_CREATE == 0):
		return nil, failed("open", p, fs.ErrNotExist)
	case there && flag&os.O_EXCL != 0:
		return nil, failed("open", p, fs.ErrExist)
	case !writes:
		return &handle{d: d, path: p, in: bytes.NewReader(f.Text)}, nil
	}
	if !there || flag&os.O_TRUNC != 0 {
		if err := d.write(p, nil, mode); err != nil {
			return nil, err
		}
	}
	return &handle{d: d, path: p, mode: mode}, nil
}

// handle is a file that is open for reading, or for writing at its end.
type handle struct {
	d    *disk
	path string
	mode fs.FileMode
	in   *bytes.Reader
}

func (h *handle) Read(b []byte) (int, error) {
	if h.in == nil {
		return 0, failed("read", h.path, fs.ErrPermission)
	}
	return h.in.Read(b)
}

func (h *handle) Write(b []byte) (int, error) {
	if h.in != nil {
		return 0, failed("write", h.path, fs.ErrPermission)
	}
	h.d.mu.Lock()
	defer h.d.mu.Unlock()

	if err := h.d.extend(h.path, b, h.mode); err != nil {
		return 0, err
	}
	return len(b), nil
}

// extend writes something at the end of a file.
func (d *disk) extend(p string, b []byte, mode fs.FileMode) error {
	f, there := d.files[p]
	if !there { // somebody has removed it meanwhile
		return d.write(p, slices.Clone(b), mode)
	}
	if d.size+int64(len(b)) > d.limits.Disk {
		d.full = true
		return failed("write", p, errFull)
	}
	d.size += int64(len(b))
	f.Text, f.Changed = append(f.Text, b...), time.Now().UnixMilli()
	d.files[p], d.changed = f, true
	return nil
}

func (h *handle) Close() error { return nil }

type null struct{}

func (null) Read([]byte) (int, error)    { return 0, io.EOF }
func (null) Write(b []byte) (int, error) { return len(b), nil }
func (null) Close() error                { return nil }
