package draft

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/bundle"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/tui/part/editor"
)

// file is one file on the screen.
type file struct {
	*editor.Model
	doc    *app.Document // as it stands on the disk; nil where it cannot be written
	theirs *app.Document // what somebody else wrote meanwhile; nil is nothing
	away   bool          // it is not on the disk now, as while branches are switched: what stood there last is shown

	bases   app.Bases
	sided   int // the version that the sides are of
	checked int // the version that changed tells of
	changed bool
	now     string // the whole text, where it is another one
	kept    int    // the version that is kept
	version int    // the one that was read last
}

// newFile shows a document. One without a place on the disk can only be read.
func newFile(path, text string, doc *app.Document) *file {
	f := &file{Model: editor.New(text), doc: doc, checked: -1, kept: -1, sided: -1}
	ext := filepath.Ext(path)
	f.Plain = ext != ".yaml" && ext != ".yml"
	return f
}

// dirty reports whether the text is another one than on the disk.
func (f *file) dirty() bool {
	if f.doc == nil {
		return false
	}
	if f.checked != f.Version {
		f.checked, f.now = f.Version, f.Text.String()
		if f.changed = f.now != f.doc.Text; !f.changed {
			f.now = ""
		}
	}
	return f.changed
}

// readFiles reads what a draft consists of: the template, the stack file, and the files
// that the template reads. With live only their names are needed.
func readFiles(d *app.Draft, live bool) (names []string, docs map[string]*app.Document) {
	docs = map[string]*app.Document{}
	add := func(name string, text []byte) {
		names = append(names, name)
		if live {
			return
		}
		doc, err := app.OpenDocument(name)
		if err != nil { // within an archive, or what cannot be edited
			doc = &app.Document{Text: strings.ReplaceAll(string(text), "\r\n", "\n")}
		}
		docs[name] = doc
	}
	add(d.Template, []byte(d.Text))
	if d.Stack != nil {
		add(d.Path, nil)
	}
	if d.Bundle != nil {
		others := d.Bundle.Files()
		root := strings.TrimSuffix(d.Template, filepath.FromSlash(d.Bundle.Entry))
		for _, path := range slices.Sorted(maps.Keys(others)) {
			add(filepath.Join(root, filepath.FromSlash(path)), others[path])
		}
	}
	for _, name := range d.RuleFiles {
		add(name, nil)
	}
	return names, docs
}

// take takes over the files that were read. One that is being written stays as it is.
func (v *View) take(msg loaded) {
	v.names = slices.Clone(msg.names)
	for path, f := range v.files { // those that were opened beside, and what is not saved
		if !slices.Contains(v.names, path) && (f.dirty() || slices.Contains(v.watched, path)) {
			v.names = append(v.names, path)
		}
	}
	for name, doc := range msg.docs {
		f := v.files[name]
		if f != nil && doc.Path != "" {
			f.away = false
		}
		switch {
		case f == nil:
			v.files[name] = newFile(name, doc.Text, onDisk(doc))
		case doc.Path == "" && f.doc != nil:
			f.away = true
			v.Warn("%s is not on the disk: it is shown as last read, and read again when it is back", filepath.Base(name))
			continue
		case doc.Path == "":
			f.SetText(doc.Text)
		case f.dirty():
			if f.theirs = nil; string(doc.Disk) != string(f.doc.Disk) {
				f.theirs = doc
				v.Warn("%s was changed by somebody else while you write; saving asks first", filepath.Base(name))
			}
		default:
			f.doc, f.checked = doc, -1
			f.SetText(doc.Text)
		}
	}
	for name, f := range v.files {
		if f.version != f.Version || msg.docs[name] != nil {
			f.version = f.Version
			v.helper().Set(name, f.Text)
		}
	}
}

// beside is a file whose lines are to be compared with what they were.
type beside struct {
	text    *editor.Text
	version int
	bases   app.Bases
}

// sides tell how the lines of a file differ.
type sides struct {
	of      [2][]app.Side
	version int
}

// compare tells how the lines of a file differ from what they were.
func (b beside) compare() sides {
	out := sides{version: b.version}
	text := b.text.String()
	for i, base := range []*string{b.bases.Committed, b.bases.Deployed} {
		if base != nil && len(text) < mostCompared {
			out.of[i] = app.Sides(*base, text)
		}
	}
	return out
}

// mostCompared is how long a text may be whose lines are compared.
const mostCompared = 4 << 20

// toCompare lists the files whose lines have changed since they were compared.
func (v *View) toCompare() map[string]beside {
	out := map[string]beside{}
	for name, f := range v.files {
		if f.sided != f.Version {
			out[name] = beside{f.Text, f.Version, f.bases}
		}
	}
	return out
}

// onDisk is a document that can be written; nil is none.
func onDisk(doc *app.Document) *app.Document {
	if doc.Path == "" {
		return nil
	}
	return doc
}

// ensure opens a file beside the others.
func (v *View) ensure(path string) (*file, error) {
	for _, name := range v.names {
		if same(name, path) {
			return v.files[name], nil
		}
	}
	doc, err := app.OpenDocument(path)
	if err != nil {
		return nil, err
	}
	v.files[path] = newFile(path, doc.Text, doc)
	v.names, v.watched = append(v.names, path), append(v.watched, path)
	v.Watch(path)
	return v.files[path], nil
}

// same reports whether two paths are one.
func same(a, b string) bool {
	one, err := filepath.Abs(a)
	two, err2 := filepath.Abs(b)
	return err == nil && err2 == nil && one == two
}

// helper is the help for texts.
func (v *View) helper() *assist.Work {
	if v.work == nil {
		if a := v.App(); a != nil {
			v.work = a.Assist(v.Context())
		} else {
			v.work = assist.New(bundle.Disk, tosca.NewLibrary())
		}
	}
	return v.work
}

// wrote tells all that the text on the screen is another one.
func (v *View) wrote() tea.Cmd {
	var cmds []tea.Cmd
	for name, f := range v.files {
		if f.Version == f.version {
			continue
		}
		f.version = f.Version
		v.helper().Set(name, f.Text)
		if f.dirty() {
			v.Hold(name, []byte(f.now))
		} else {
			v.Hold(name, nil)
		}
		if !v.keeping {
			v.keeping = true
			cmds = append(cmds, v.Later(keepEvery, keepNow{}))
		}
		if v.loading {
			v.again = true
		} else {
			cmds = append(cmds, v.reading(written))
		}
	}
	return tea.Batch(cmds...)
}

// keepEvery is how old what would be lost may be.
const keepEvery = 600 * time.Millisecond

type (
	keepNow struct{}
	kept    struct {
		versions map[string]int
		err      error
	}
)

// keepNow keeps what is not saved, in the background.
func (v *View) keepNow() tea.Cmd {
	v.keeping = false
	versions := map[string]int{}
	texts := map[string]*editor.Text{}
	docs := map[string]*app.Document{}
	for name, f := range v.files {
		if f.doc != nil && f.kept != f.Version {
			versions[name], docs[name] = f.Version, f.doc
			if f.dirty() {
				texts[name] = f.Text
			}
		}
	}
	if len(versions) == 0 {
		return nil
	}
	a := v.App()
	return func() tea.Msg {
		out := kept{versions: versions}
		for name := range versions {
			if text := texts[name]; text != nil {
				out.err = errors.Join(out.err, a.Keep(docs[name], text.String()))
			} else {
				out.err = errors.Join(out.err, a.Forget(name))
			}
		}
		return out
	}
}

func (v *View) wasKept(msg kept) {
	if msg.err != nil {
		v.Warn("what is not saved cannot be kept for after a crash: %v", msg.err)
		return
	}
	for name, version := range msg.versions {
		if f := v.files[name]; f != nil {
			f.kept = version
		}
	}
}

// Unsaved names the files that are not saved.
func (v *View) Unsaved() []string {
	var out []string
	for name, f := range v.files {
		if f.dirty() {
			out = append(out, filepath.Base(name))
		}
	}
	slices.Sort(out)
	return out
}

// Keep keeps what is not saved for the next time.
func (v *View) Keep() error {
	if cmd := v.keepNow(); cmd != nil {
		return cmd().(kept).err
	}
	return nil
}

// offerUnsaved asks what to do with the texts that were never saved.
func (v *View) offerUnsaved() {
	if v.App() == nil {
		return
	}
	for _, name := range v.names {
		f := v.files[name]
		if f == nil || f.doc == nil || v.offered[name] {
			continue
		}
		v.offered[name] = true
		left, busy, err := v.App().Unsaved(name)
		switch {
		case err != nil:
			v.Warn("%v", err)
			continue
		case len(busy) > 0:
			v.Warn("another Brick Row (process %d) is writing %s too; whoever saves second is asked", busy[0], filepath.Base(name))
		}
		for i, u := range left {
			if u.Text == f.doc.Text || i > 0 { // it was saved after all, or there is a newer one
				_ = v.App().Drop(u)
			}
		}
		if len(left) == 0 || left[0].Text == f.doc.Text || f.dirty() {
			continue
		}
		v.Ask(v.unsavedQuestion(name, f, left[0]))
		return // the others are asked about when it is answered
	}
}

func (v *View) unsavedQuestion(name string, f *file, u *app.Unsaved) *part.Ask {
	a := part.NewAsk(fmt.Sprintf("There are changes of %s from %s that were never saved. Take them up again? n throws them away.",
		filepath.Base(name), u.At.Format("2 Jan 15:04:05")), "", func(string) tea.Cmd {
		v.turnTo(slices.Index(v.names, name))
		f.Apply([]assist.Edit{f.Text.Difference(assist.NewText(u.Text))})
		v.editing = true
		if err := v.App().Drop(u); err != nil {
			v.Warn("%v", err)
		}
		cmd := v.wrote()
		v.offerUnsaved()
		return cmd
	})
	a.Details = difference(f.doc.Text, u.Text, 6)
	a.Else = func() tea.Cmd {
		if err := v.App().Drop(u); err != nil {
			v.Warn("%v", err)
		} else {
			v.Say("they were thrown away")
		}
		v.offerUnsaved()
		return nil
	}
	return a
}

// difference shows how two texts differ, in a few lines.
func difference(from, to string, most int) []string {
	a, b := assist.NewText(from), assist.NewText(to)
	same := 0
	for same < min(len(a.Lines), len(b.Lines)) && a.Lines[same] == b.Lines[same] {
		same++
	}
	tail := 0
	for tail < min(len(a.Lines), len(b.Lines))-same && a.Lines[len(a.Lines)-1-tail] == b.Lines[len(b.Lines)-1-tail] {
		tail++
	}
	var out []string
	add := func(sign string, lines []string, room int) {
		for i, l := range lines {
			if i == room && len(lines) > room+1 {
				out = append(out, fmt.Sprintf("%s … and %s more", sign, stack.Count(len(lines)-i, "line")))
				return
			}
			out = append(out, sign+" "+l)
		}
	}
	out = append(out, fmt.Sprintf("line %d:", same+1))
	add("−", a.Lines[same:len(a.Lines)-tail], most/2)
	add("+", b.Lines[same:len(b.Lines)-tail], most/2)
	return out
}

// save saves all files that are not.
func (v *View) save() {
	var saved []string
	for _, name := range v.names {
		f := v.files[name]
		if f == nil || !f.dirty() {
			continue
		}
		if !v.write(name, f, app.Respect) {
			return
		}
		saved = append(saved, filepath.Base(name))
	}
	switch {
	case len(saved) > 0:
		v.Say("%s saved", strings.Join(saved, ", "))
	case v.file() != nil && v.file().doc == nil:
		v.Warn("this file can only be read here")
	case v.file() != nil && v.file().away:
		v.Warn("it is not on the disk now, and nothing was written: it is read again when it is back")
	default:
		v.Say("it is saved already")
	}
}

// write writes one file, and reports whether it did.
func (v *View) write(name string, f *file, over app.Overwriting) bool {
	doc, err := f.doc.Save(f.Text.String(), over)
	var changed *app.ChangedOnDisk
	switch {
	case errors.As(err, &changed):
		v.askOver(name, f, changed)
		return false
	case err != nil:
		v.Warn("%v", err)
		return false
	}
	f.doc, f.theirs, f.checked, f.kept = doc, nil, -1, -1
	v.Hold(name, nil)
	if err := v.App().Forget(name); err != nil {
		v.Warn("%v", err)
	}
	return true
}

// askOver asks whether what somebody else wrote is to be written over.
func (v *View) askOver(name string, f *file, c *app.ChangedOnDisk) {
	base := filepath.Base(name)
	question := base + " is not there any more. Write it again?"
	var details []string
	if c.Theirs != nil {
		f.theirs = c.Theirs
		question = fmt.Sprintf("%s was changed by somebody else while you wrote. Write over it? (In : you can take theirs instead.) "+
			"− is what they have, + is what you have", base)
		details = difference(c.Theirs.Text, f.Text.String(), 8)
	}
	a := part.NewAsk(question, "", func(string) tea.Cmd {
		if v.write(name, f, app.WriteOver) {
			v.Say("%s saved", base)
		}
		return nil
	})
	a.Details = details
	v.Ask(a)
}

// takeTheirs puts what somebody else wrote in place of what is written here; undo brings
// it back.
func (v *View) takeTheirs() tea.Cmd {
	f := v.file()
	f.doc = f.theirs
	f.theirs, f.checked = nil, -1
	f.Apply([]assist.Edit{f.Text.Difference(assist.NewText(f.doc.Text))})
	v.Say("what stands on the disk; ctrl+z brings back what you wrote")
	return v.wrote()
}
