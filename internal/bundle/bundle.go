// Package bundle opens a template with the files that it refers to: from a
// folder, from an archive (CSAR, a ZIP), or as they were stored with a
// revision. It remembers what was read, so that all of it can be stored or
// packed.
package bundle

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"brickrow/internal/tosca"
)

// Limits on archives, so that none can exhaust the machine.
const (
	maxArchive = 64 << 20 // bytes, packed and unpacked
	maxFiles   = 2_000
)

// Bundle is a template and what it refers to.
type Bundle struct {
	Name  string // of the template, as findings show it
	Entry string // path of the template within the bundle
	Text  []byte

	// Beside are folders out of the template's own that may be read too, by their
	// paths from it, with slashes.
	Beside []string

	open func(path string) ([]byte, error)
	mu   sync.Mutex
	read map[string][]byte
	away map[string]bool // that were asked for and could not be read
}

// IsArchive tells an archive from a template by its name.
func IsArchive(name string) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return ext == ".csar" || ext == ".zip"
}

// Open opens a template, or an archive with one.
func Open(from Sources, name string) (*Bundle, error) {
	limit := int64(tosca.MaxBytes)
	if IsArchive(name) {
		limit = maxArchive
	}
	data, err := from.Open(name, limit)
	switch {
	case err != nil:
		return nil, err
	case IsArchive(name):
		return Archive(name, data)
	}
	return Folder(from, name, data), nil
}

// Folder is a template whose text is at hand, with its folder.
func Folder(from Sources, name string, text []byte) *Bundle {
	b := &Bundle{Name: name, Entry: filepath.Base(name), Text: text, read: map[string][]byte{}}
	b.open = func(p string) ([]byte, error) {
		folder := filepath.Dir(name)
		if beside, inside, ok := b.beside(p); ok {
			folder, p = filepath.Join(folder, filepath.FromSlash(beside)), inside
		}
		return from.Within(folder, p, tosca.MaxBytes)
	}
	return b
}

// beside tells in which of the folders beside the template's own a path lies, and where.
func (b *Bundle) beside(p string) (folder, inside string, ok bool) {
	own, err := filepath.Abs(filepath.Dir(b.Name))
	if !strings.HasPrefix(p, "../") {
		return "", "", false
	}
	if err != nil {
		return "", "", false
	}
	for _, folder := range b.Beside {
		inside, err := filepath.Rel(filepath.Join(own, filepath.FromSlash(folder)), filepath.Join(own, filepath.FromSlash(p)))
		if err == nil && filepath.IsLocal(inside) {
			return folder, filepath.ToSlash(inside), true
		}
	}
	return "", "", false
}

// Stored is a template whose files are all at hand.
func Stored(name, entry string, text []byte, files map[string][]byte) *Bundle {
	if entry == "" {
		entry = filepath.Base(name)
	}
	beside := map[string]bool{}
	for p := range files {
		if strings.HasPrefix(p, "../") {
			beside[path.Dir(p)] = true
		}
	}
	return &Bundle{Name: name, Entry: entry, Text: text, read: map[string][]byte{},
		Beside: slices.Sorted(maps.Keys(beside)),
		open: func(p string) ([]byte, error) {
			if b, ok := files[p]; ok {
				return b, nil
			}
			return nil, fs.ErrNotExist
		}}
}

// Profiles answers the imports of profiles by name.
type Profiles = func(name string) (*tosca.Library, bool)

// Source is what the reader of templates asks.
func (b *Bundle) Source(profiles Profiles) tosca.Source {
	beyond := func(p string) bool {
		_, _, ok := b.beside(p)
		return ok
	}
	return tosca.Source{Entry: b.Entry, Profile: profiles, Beyond: beyond, Open: func(p string) ([]byte, error) {
		text, err := b.open(p)
		b.mu.Lock()
		defer b.mu.Unlock()
		if err == nil {
			b.read[p] = text
			return text, nil
		}
		if b.away == nil {
			b.away = map[string]bool{}
		}
		b.away[p] = true
		return nil, err
	}}
}

// Read reads the template and checks it.
func (b *Bundle) Read(profiles Profiles) (*tosca.File, tosca.Findings) {
	f, findings := tosca.Read(b.Name, b.Text, b.Source(profiles))
	return f, append(findings, tosca.Check(f)...)
}

// Files lists what was read beside the template, by path.
func (b *Bundle) Files() map[string][]byte {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(b.read)
}

// Same reports whether another bundle has the text, and each of the files that were
// read.
func (b *Bundle) Same(o *Bundle) bool {
	return b.Name == o.Name && b.Entry == o.Entry && bytes.Equal(b.Text, o.Text) && b.SameFiles(o)
}

// Take takes over what another bundle has read beside its text.
func (b *Bundle) Take(o *Bundle) {
	files, away := o.Files(), o.missing()
	b.mu.Lock()
	defer b.mu.Unlock()
	b.read, b.away = files, away
}

// missing lists what was asked for and could not be read.
func (b *Bundle) missing() map[string]bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(b.away)
}

// SameFiles reports whether another bundle has each of the files that were read, and none of those that could not be.
func (b *Bundle) SameFiles(o *Bundle) bool {
	for path := range b.missing() {
		if _, err := o.open(path); err == nil {
			return false
		}
	}
	for path, text := range b.Files() {
		if other, err := o.open(path); err != nil || !bytes.Equal(text, other) {
			return false
		}
	}
	return true
}

// Archive opens an archive. Nothing of it is written anywhere; names that
// point out of it, links, and archives that unpack to too much are refused.
func Archive(name string, data []byte) (*Bundle, error) {
	refuse := func(format string, args ...any) (*Bundle, error) {
		return nil, fmt.Errorf("%s cannot be read as an archive: %s", name, fmt.Sprintf(format, args...))
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return refuse("it is no ZIP file (%v)", err)
	}
	if len(z.File) > maxFiles {
		return refuse("it holds %d files; up to %d are read", len(z.File), maxFiles)
	}
	files := map[string][]byte{}
	left := int64(maxArchive)
	for _, f := range z.File {
		p := path.Clean(f.Name)
		switch {
		case strings.HasSuffix(f.Name, "/"):
			continue
		case path.IsAbs(f.Name) || p == ".." || strings.HasPrefix(p, "../") ||
			strings.ContainsAny(f.Name, "\\\x00") || strings.Contains(f.Name, ":"):
			return refuse("%q points out of it", f.Name)
		case !f.Mode().IsRegular():
			return refuse("%s is a link, not a file", f.Name)
		case files[p] != nil:
			return refuse("%s is in it twice", p)
		}
		r, err := f.Open()
		if err != nil {
			return refuse("%s: %v", f.Name, err)
		}
		text, err := io.ReadAll(io.LimitReader(r, left+1))
		r.Close()
		if err != nil {
			return refuse("%s: %v", f.Name, err)
		}
		if left -= int64(len(text)); left < 0 {
			return refuse("it unpacks to more than %d MiB", maxArchive>>20)
		}
		files[p] = append([]byte{}, text...)
	}
	entry, err := entryOf(files)
	if err != nil {
		return refuse("%v", err)
	}
	if len(files[entry]) > tosca.MaxBytes {
		return refuse("its template has more than %d MiB", tosca.MaxBytes>>20)
	}
	return Stored(filepath.Join(name, filepath.FromSlash(entry)), entry, files[entry], files), nil
}

// entryOf finds the template of an archive: TOSCA.meta names it, or it is the
// only YAML file at the root.
func entryOf(files map[string][]byte) (string, error) {
	meta, ok := files["TOSCA.meta"]
	if !ok {
		meta, ok = files["TOSCA-Metadata/TOSCA.meta"]
	}
	if ok {
		for line := range strings.Lines(string(meta)) {
			key, value, _ := strings.Cut(line, ":")
			value = strings.TrimSpace(value)
			switch key {
			case "CSAR-Version":
				if value != "2.0" {
					return "", fmt.Errorf("its version is %s; 2.0 can be read", value)
				}
			case "Entry-Definitions":
				if files[path.Clean(value)] == nil {
					return "", fmt.Errorf("its template %s is not in it", value)
				}
				return path.Clean(value), nil
			}
		}
		return "", errors.New("TOSCA.meta does not name its template (Entry-Definitions)")
	}
	var found []string
	for p := range files {
		if ext := path.Ext(p); !strings.Contains(p, "/") && (ext == ".yaml" || ext == ".yml") {
			found = append(found, p)
		}
	}
	if len(found) != 1 {
		return "", fmt.Errorf("it has no TOSCA.meta, and %d YAML files at its root instead of one", len(found))
	}
	return found[0], nil
}

// Pack writes a template and all that it reads as an archive. The same files
// give the same bytes. What lies outside the folder cannot be packed.
func (b *Bundle) Pack(w io.Writer, by string) error {
	files := b.Files()
	files[b.Entry] = b.Text
	files["TOSCA.meta"] = []byte("CSAR-Version: 2.0\nCreated-By: " + by + "\nEntry-Definitions: " + b.Entry + "\n")
	z := zip.NewWriter(w)
	for _, p := range slices.Sorted(maps.Keys(files)) {
		if strings.HasPrefix(p, "../") {
			return fmt.Errorf("%s lies outside the folder and cannot be packed: copy it into the folder", p)
		}
		h := &zip.FileHeader{Name: p, Method: zip.Deflate, Modified: time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)}
		h.SetMode(0o644)
		f, err := z.CreateHeader(h)
		if err == nil {
			_, err = f.Write(files[p])
		}
		if err != nil {
			return err
		}
	}
	return z.Close()
}
