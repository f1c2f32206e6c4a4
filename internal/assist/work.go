package assist

import (
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"brickrow/internal/bundle"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Work is the texts that are being worked on, with what was read of them last. It
// may be asked by several at once.
type Work struct {
	// From is where files are read that nobody has open.
	From bundle.Sources
	// Library is the types where a template could never be read.
	Library *tosca.Library
	// Profiles are the names of those that can be imported, and Load reads one; nil where nothing can.
	Profiles []string
	Load     func(name string) (*tosca.Library, bool)
	// There lists what the target has of a type, by the name that a property takes;
	// nil where that is not known.
	There func(target, typ string) []string
	// Recorded lists the resources that are deployed of a stack, by its name and target; nil
	// where that is not known.
	Recorded func(stack, target string) []string
	// Results lists the names of the results of each stack, by the name that another one
	// finds it under from a target; nil where that is not known.
	Results func(target string) map[string][]string
	// Targets lists those that a stack can go to; nil where that is not known.
	Targets func() []string

	mu   sync.Mutex
	docs map[string]*doc // by absolute path
}

// doc is one file.
type doc struct {
	path    string
	text    *Text
	outline *Outline
	was     *Text // a former text, with its outline
	old     *Outline
	open    bool
	file    *tosca.File   // read last, as a whole; nil where it never was
	wanted  *stack.Wanted // and resolved
	changed bool          // since then
	asked   time.Time     // when it was looked for on the disk
}

// New is an empty work over files.
func New(from bundle.Sources, library *tosca.Library, profiles ...string) *Work {
	return &Work{From: from, Library: library, Profiles: profiles, docs: map[string]*doc{}}
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return filepath.Clean(path)
}

// Set opens a file, or gives it another text.
func (w *Work) Set(path string, text *Text) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.docs[absolute(path)]
	if d == nil {
		d = &doc{path: absolute(path)}
		w.docs[d.path] = d
	}
	if d.outline != nil && d.text != nil {
		d.was, d.old = d.text, d.outline
	}
	d.text, d.outline, d.open, d.changed = text, nil, true, true
}

// Close forgets the text of a file: from then on it is what stands on the disk.
func (w *Work) Close(path string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if d := w.docs[absolute(path)]; d != nil {
		d.open, d.text, d.outline = false, nil, nil
	}
}

// Text is the text of a file; nil where there is none.
func (w *Work) Text(path string) *Text {
	w.mu.Lock()
	defer w.mu.Unlock()
	if d := w.doc(path); d != nil {
		return d.text
	}
	return nil
}

// Kind tells what a file is.
func (w *Work) Kind(path string) FileKind {
	w.mu.Lock()
	defer w.mu.Unlock()
	if d := w.doc(path); d != nil {
		return d.outline.Kind
	}
	return OtherFile
}

// StackFiles lists the stack files beside a template that name it, by their paths.
func (w *Work) StackFiles(path string) []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	var out []string
	if d := w.doc(path); d != nil {
		for _, s := range w.stackFiles(d) {
			out = append(out, s.path)
		}
	}
	return out
}

// InFleet reports whether a fleet file beside a stack file names it.
func (w *Work) InFleet(path string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	return d != nil && len(w.filesBeside(d, ".fleet", func(f *doc) bool {
		return f.outline.Kind == FleetFile && absolute(beside(f.path, f.outline.Root("stack"))) == d.path
	})) > 0
}

// Read hands over how a template was read and resolved. One that could not be read
// as a whole is not taken: what was known before says more.
func (w *Work) Read(path string, f *tosca.File, wanted *stack.Wanted) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if f == nil || f.Library == nil || f.Service == nil && len(f.Imports) == 0 && len(f.Library.Nodes) == 0 {
		return
	}
	d := w.docs[absolute(path)]
	if d == nil {
		d = &doc{path: absolute(path)}
		w.docs[d.path] = d
	}
	d.file, d.wanted, d.changed = f, wanted, false
}

// settled is how long what was read from the disk counts.
const settled = 300 * time.Millisecond

// doc is a file with its text; nil where it cannot be read.
func (w *Work) doc(path string) *doc {
	path = absolute(path)
	d := w.docs[path]
	if d == nil {
		d = &doc{path: path}
	}
	if !d.open && time.Since(d.asked) > settled { // it may have changed on the disk
		d.asked = time.Now()
		text, err := w.From.Open(path, tosca.MaxBytes)
		if err != nil {
			d.text = nil
			w.docs[path] = d
			return nil
		}
		if d.text == nil || d.text.String() != string(text) {
			d.text, d.outline = NewText(string(text)), nil
		}
		w.docs[path] = d
	}
	if d.text == nil {
		return nil
	}
	if d.outline == nil {
		if d.was != nil {
			d.outline = d.text.OutlineAfter(d.was, d.old)
		} else {
			d.outline = d.text.Outline()
		}
		d.was, d.old = nil, nil
		if d.outline.Kind == OtherFile { // nothing in it says what it is to be
			d.outline.Kind = kindByName(d.path)
		}
	}
	return d
}

// kindByName is what a file is to be, by its name.
func kindByName(path string) FileKind {
	switch name := filepath.Base(path); {
	case strings.Contains(name, ".stack."):
		return StackFile
	case strings.Contains(name, ".fleet."):
		return FleetFile
	case strings.Contains(name, ".rules."):
		return Rules
	}
	return OtherFile
}

// template is the template that a file belongs to: itself, or the one that a stack
// file names, which a fleet file names in its turn.
func (w *Work) template(d *doc) *doc {
	if d.outline.Kind == FleetFile {
		s := w.doc(beside(d.path, d.outline.Root("stack")))
		if d.outline.Root("stack") == "" || s == nil || s.outline.Kind != StackFile {
			return nil
		}
		d = s
	}
	if d.outline.Kind != StackFile {
		return d
	}
	name := d.outline.Root("template")
	if name == "" || bundle.IsArchive(name) {
		return nil
	}
	return w.doc(beside(d.path, name))
}

// beside is the path of a file that another one names.
func beside(path, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(filepath.Dir(path), filepath.FromSlash(name))
}

// library is the types that a file knows.
func (w *Work) library(d *doc) *tosca.Library {
	if d != nil && d.file != nil && len(d.file.Library.Nodes) > 0 {
		return d.file.Library
	}
	return w.Library
}

// nodeType is a type by its name, also one that the text defines and nobody has read
// yet.
func (w *Work) nodeType(d *doc, name string) *tosca.NodeType {
	lib := w.library(d)
	for range 16 {
		if t := lib.Nodes[name]; t != nil {
			return t
		}
		s := d.outline.Symbol("node_types", name)
		if s == nil {
			for _, f := range w.family(d) {
				if s = f.outline.Symbol("node_types", name); s != nil {
					break
				}
			}
		}
		if s == nil {
			return nil
		}
		name = s.Type // what it is derived from
	}
	return nil
}

// stackFiles lists the stack files beside a template that name it.
func (w *Work) stackFiles(d *doc) []*doc {
	return w.filesBeside(d, ".stack", func(s *doc) bool {
		return s.outline.Kind == StackFile && absolute(beside(s.path, s.outline.Root("template"))) == d.path
	})
}

// fleetFiles lists the fleet files beside a template whose stack file names it.
func (w *Work) fleetFiles(d *doc) []*doc {
	return w.filesBeside(d, ".fleet", func(f *doc) bool {
		t := w.template(f)
		return f.outline.Kind == FleetFile && t != nil && t.path == d.path
	})
}

// filesBeside lists the files beside another one that end in a word and .yaml and suit.
func (w *Work) filesBeside(d *doc, word string, suits func(*doc) bool) []*doc {
	list, err := w.From.List(filepath.Dir(d.path))
	if err != nil {
		return nil
	}
	for path := range w.docs {
		if filepath.Dir(path) == filepath.Dir(d.path) && w.docs[path].open && !slices.Contains(list, path) {
			list = append(list, path)
		}
	}
	var out []*doc
	for _, path := range list {
		if !strings.HasSuffix(path, word+".yaml") && !strings.HasSuffix(path, word+".yml") {
			continue
		}
		if s := w.doc(path); s != nil && suits(s) {
			out = append(out, s)
		}
	}
	return out
}
