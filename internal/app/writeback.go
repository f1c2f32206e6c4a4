package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/pmezard/go-difflib/difflib"

	"brickrow/internal/assist"
	"brickrow/internal/bundle"
	"brickrow/internal/capture"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Written is what lets the files of a stack say what is there.
type Written struct {
	Files []WrittenFile
	// Cannot is what no place in the files can hold, with why.
	Cannot []Unwritten
	// Left is what the files would say else than the cloud: what deploying them would change
	// then. It is empty where all of the drift is written.
	Left []string
	// Shared are the values that others get as well from where they are written.
	Shared []Shared
	// Gone is what is not there any more and is taken out of the template.
	Gone []*stack.Recorded
	// Renamed are those whose tag says by now that they are another node, by that.
	Renamed map[string]*stack.Recorded
	// Added are those that were in no record, by the nodes that are written for them.
	Added map[string]*stack.Live

	of        *stack.Stack
	records   []run.Change // what is recorded once it is written
	checking  *assist.Work
	documents map[string]*Document
	texts     map[string][]byte // as they are to be, by path
}

// Shared is a value that is written where others get theirs from too.
type Shared struct {
	Name, Path string
	Inputs     []string // that it comes from
	With       []string // the other resources
}

// Words say what that means.
func (s Shared) Words() string {
	from := "the input " + s.Inputs[0]
	if len(s.Inputs) > 1 {
		from = "the inputs " + strings.Join(s.Inputs, ", ")
	}
	verb := "uses"
	if len(s.With) > 1 {
		verb = "use"
	}
	return fmt.Sprintf("%s of %s comes from %s, which %s %s too", s.Path, s.Name, from, whatif.Few(s.With), verb)
}

// WrittenFile is a file with its text before and after.
type WrittenFile struct {
	Path, Before, After string
	doc                 *Document
}

// within is the path of the file from where the program runs, as tools that apply patches want it; of a file that is
// elsewhere, from the root.
func (f WrittenFile) within() string {
	path, err := filepath.Abs(f.Path)
	if err != nil {
		return f.Path
	}
	if wd, err := os.Getwd(); err == nil {
		if inside, err := filepath.Rel(wd, path); err == nil && filepath.IsLocal(inside) {
			return filepath.ToSlash(inside)
		}
	}
	return strings.TrimPrefix(filepath.ToSlash(path), "/")
}

// Unwritten is a difference that cannot be written.
type Unwritten struct {
	Differing
	Why string
}

// Patch is all that would be written, as a unified diff.
func (w *Written) Patch() string {
	var b strings.Builder
	for _, f := range w.Files {
		text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: lines(f.Before), B: lines(f.After), FromFile: "a/" + f.within(), ToFile: "b/" + f.within(), Context: 3})
		if err != nil { // a string takes all that is written
			continue
		}
		b.WriteString(text)
	}
	return b.String()
}

// lines are those of a text, each with its end; a last one without says so, as patches do.
func lines(text string) []string {
	var out []string
	for line := range strings.Lines(text) {
		if !strings.HasSuffix(line, "\n") {
			line += "\n\\ No newline at end of file\n"
		}
		out = append(out, line)
	}
	return out
}

// SaveWritten writes the files, and lets the record say the same: it forgets what is taken out
// of them, and has what comes. Where one has changed since, or a run has begun, nothing is
// written.
func (a *App) SaveWritten(ctx context.Context, w *Written) error {
	if len(w.records) == 0 {
		return w.save()
	}
	token := uuid.NewString()
	if err := a.lock(ctx, w.of, token); err != nil {
		return err
	}
	defer func() { _ = a.store.Unlock(context.WithoutCancel(ctx), w.of.ID, token) }()
	last, err := a.store.LastHead(ctx, w.of.ID)
	if err != nil {
		return err
	}
	for _, r := range w.Gone {
		_, err := a.Cloud.Get(ctx, cloud.Ref{Target: w.of.Target, Type: r.Type, ID: r.ID})
		if err == nil {
			return refusal("%s (%s) is there again: look at it once more", r.Name, r.ID)
		}
		if !cloud.IsNotFound(err) {
			return err
		}
	}
	for name, l := range w.Added {
		now, err := a.Cloud.Get(ctx, cloud.Ref{Target: w.of.Target, Type: l.Type, ID: l.ID})
		if err != nil {
			return err
		}
		if now.ETag != l.ETag {
			return refusal("%s (%s) has changed since: look at it once more", name, l.ID)
		}
	}
	if err := w.save(); err != nil {
		return err
	}
	last.Token = token
	return a.store.Note(ctx, last, nil, nil, w.records)
}

func (w *Written) save() error {
	for _, f := range w.Files {
		if now, err := OpenDocument(f.Path); err != nil || now.Text != f.Before {
			return refusal("%s has changed since; nothing is written", f.Path)
		}
	}
	for _, f := range w.Files {
		if _, err := f.doc.Save(f.After, Respect); err != nil {
			return err
		}
	}
	return nil
}

// WriteBack works out what lets the files of a stack say what is there in the cloud, each
// value at the very place that it comes from. It is held against the cloud then: what the
// files would change else is in Left.
func (a *App) WriteBack(ctx context.Context, d *Drift) (*Written, error) {
	return a.writeBack(ctx, d, false)
}

// WriteBackAlone does the same, with the values in the nodes themselves: what they share with others stays as it is there.
func (a *App) WriteBackAlone(ctx context.Context, d *Drift) (*Written, error) {
	return a.writeBack(ctx, d, true)
}

func (a *App) writeBack(ctx context.Context, d *Drift, alone bool) (*Written, error) {
	st := d.Stack
	if st.StackFile == "" {
		return nil, refusal("the files that %s was deployed from are not known", st.Name)
	}
	draft, err := a.Load(ctx, st.StackFile, Values{})
	if err != nil {
		return nil, err
	}
	if draft.Findings.HasErrors() {
		return nil, &Refusal{Findings: draft.Findings}
	}
	if draft.Stack == nil || draft.Stack.Stack != st.Name {
		return nil, refusal("%s is the file of another stack by now", st.StackFile)
	}
	out := &Written{of: st}
	var values []assist.WriteBack
	var of []Differing
	var renamed []Differing
	seen := map[[2]string]bool{}
	for _, c := range d.Differs {
		key := [2]string{c.Name, c.Property}
		switch {
		case c.Owner() && c.Pointer == "/tags/node" && c.After != nil:
			renamed = append(renamed, c)
		case c.Owner():
			out.cannot(c, errors.New("it says whose the resource is: put it back"))
		case seen[key]:
		default:
			seen[key] = true
			values = append(values, assist.WriteBack{Resource: c.Name, Property: c.Property, Link: c.Link, Want: c.Whole, Alone: alone})
			of = append(of, c)
		}
	}
	if out.documents, out.texts = map[string]*Document{}, map[string][]byte{}; len(draft.Template) > 0 {
		if draft.Template, err = filepath.Abs(draft.Template); err != nil {
			return nil, err
		}
	}
	w := assist.New(bundle.Disk, a.Profile.Library, tosca.Shipped...)
	w.Recorded = func(name, target string) []string { // formerly is written for these
		var names []string
		for _, c := range renamed {
			if name == st.Name && target == st.Target.String() {
				names = append(names, c.Name)
			}
		}
		return names
	}
	out.checking = w
	tags := tosca.Map{}
	for name, v := range draft.Stack.Tags {
		tags[name] = tosca.String(v)
	}
	edits, failed := w.WriteBack(draft.File, draft.Template, st.StackFile, tags, draft.Wanted, values)
	shared := &sharing{wanted: draft.Wanted}
	for i, err := range failed {
		if err != nil {
			out.cannot(of[i], err)
		} else if s := shared.with(of[i]); !alone && len(s.With) > 0 {
			out.Shared = append(out.Shared, s)
		}
	}
	for _, r := range d.Gone {
		e, err := w.WithoutNode(draft.Template, r.Name)
		if err != nil {
			out.cannot(Differing{Name: r.Name, Type: r.Type, ID: r.ID, Pos: r.Pos}, err)
			continue
		}
		edits[draft.Template] = append(edits[draft.Template], e)
		for _, ad := range draft.Stack.Adopt {
			if e, ok := w.WithoutEntry(st.StackFile, ad.Pos); ok && ad.Node == r.Name {
				path, err := filepath.Abs(st.StackFile)
				if err != nil {
					return nil, err
				}
				edits[path] = append(edits[path], e)
			}
		}
		out.Gone = append(out.Gone, r)
		out.records = append(out.records, run.Remove{Name: r.Name})
	}
	if err := out.apply(edits); err != nil {
		return nil, err
	}
	for _, c := range renamed {
		if err := out.rename(draft, d, c); err != nil {
			out.cannot(c, err)
		}
	}
	if err := out.add(a, draft, d); err != nil {
		return nil, err
	}
	for _, path := range slices.Sorted(maps.Keys(out.texts)) {
		doc := out.documents[path]
		out.Files = append(out.Files, WrittenFile{Path: path, Before: doc.Text, After: string(out.texts[path]), doc: doc})
	}
	if len(out.texts) == 0 {
		return out, nil
	}
	return out, a.proveWritten(ctx, st.StackFile, out.texts, out)
}

// sharing finds who else gets something from the inputs that a property comes from; who uses which is found out once.
type sharing struct {
	wanted *stack.Wanted
	users  map[string][]*stack.Resource // by input, in order
}

func (s *sharing) usersOf(input string) []*stack.Resource {
	if s.users != nil {
		return s.users[input]
	}
	s.users = map[string][]*stack.Resource{}
	for _, res := range s.wanted.Resources {
		from := s.wanted.CountSources(res.Name).Inputs
		for _, p := range res.Properties {
			from = append(from, s.wanted.Sources(p).Inputs...)
		}
		for _, l := range res.Links {
			from = append(from, s.wanted.LinkSources(res, l.Requirement).Inputs...)
		}
		slices.Sort(from)
		for _, in := range slices.Compact(from) {
			s.users[in] = append(s.users[in], res)
		}
	}
	return s.users[input]
}

func (s *sharing) with(c Differing) Shared {
	out := Shared{Name: c.Name, Path: c.Path}
	res := s.wanted.Resource(c.Name)
	if res == nil || c.Link || res.Property(c.Property) == nil {
		return out
	}
	out.Inputs = s.wanted.Sources(res.Property(c.Property)).Inputs
	for _, in := range out.Inputs {
		for _, other := range s.usersOf(in) {
			if other.Node != res.Node && !slices.Contains(out.With, other.Name) {
				out.With = append(out.With, other.Name)
			}
		}
	}
	return out
}

// cannot notes a difference that cannot be written.
func (w *Written) cannot(c Differing, why error) {
	w.Cannot = append(w.Cannot, Unwritten{c, why.Error()})
}

// apply lets the files be as some edits of them say.
func (w *Written) apply(edits map[string][]assist.Edit) error {
	for path, list := range edits {
		doc := w.documents[path]
		if doc == nil {
			var err error
			if doc, err = OpenDocument(path); err != nil {
				return err
			}
			w.documents[path], w.texts[path] = doc, []byte(doc.Text)
		}
		text := assist.NewText(string(w.texts[path])).ApplyAll(list)
		w.texts[path] = []byte(text.String())
		w.checking.Set(path, text)
	}
	return nil
}

// rename lets the template have a node under the name that the tag of its resource has.
func (w *Written) rename(draft *Draft, d *Drift, c Differing) error {
	to := tosca.InClear(c.After)
	res := draft.Wanted.Resource(c.Name)
	switch {
	case res == nil:
		return fmt.Errorf("%s is not in the template any more", c.Name)
	case res.Name != res.Node || res.Index >= 0:
		return errors.New("it is one of several, or part of another node: put it back")
	}
	edits, err := w.checking.RenameNode(draft.Template, c.Name, to)
	if err != nil {
		return err
	}
	if err := w.apply(edits); err != nil {
		return err
	}
	i := slices.IndexFunc(d.current, func(r *stack.Recorded) bool { return r.ID == c.ID })
	if w.Renamed == nil {
		w.Renamed = map[string]*stack.Recorded{}
	}
	w.Renamed[to] = d.current[i]
	return nil
}

// add writes nodes for what was added by hand.
func (w *Written) add(a *App, draft *Draft, d *Drift) error {
	known, used := map[string]*stack.Live{}, []string{}
	gone := func(r *stack.Recorded) bool { return slices.Contains(w.Gone, r) }
	for _, r := range d.current {
		if l := d.live[r.ID]; l != nil && !gone(r) && !strings.ContainsAny(r.Name, "#/") {
			name := r.Name
			for to, was := range w.Renamed {
				if was == r {
					name = to
				}
			}
			known[name] = l
		}
	}
	for _, n := range draft.File.Service.Nodes {
		if !slices.ContainsFunc(w.Gone, func(r *stack.Recorded) bool { return r.Name == n.Name }) {
			used = append(used, n.Name)
		}
	}
	used = append(used, slices.Collect(maps.Keys(w.Renamed))...)
	nodes := capture.Nodes(a.Profile.Library, known, used, draft.Stack.Tags, d.Unrecorded, func(id string) *stack.Live { return d.live[id] })
	for _, l := range d.Unrecorded {
		n, is := nodes[l.ID]
		c := Differing{Name: cloud.Clean(l.Node), Type: l.Type, ID: l.ID}
		switch {
		case !is:
			w.cannot(c, fmt.Errorf("%s is a type that is not known", l.Type))
			continue
		case n.Secret:
			w.cannot(c, errors.New("it has a secret, which the cloud does not tell: write a node for it, and adopt it by that"))
			continue
		}
		for _, text := range append(n.Selects, n.Text) {
			e, ok := w.checking.WithNode(draft.Template, text)
			if !ok {
				w.cannot(c, errors.New("the nodes are written in a way that only you should change: write one for it, and adopt it by that"))
				break
			}
			if err := w.apply(map[string][]assist.Edit{draft.Template: {e}}); err != nil {
				return err
			}
		}
		if w.Added == nil {
			w.Added = map[string]*stack.Live{}
		}
		w.Added[n.Name] = l
	}
	return nil
}

// proveWritten reads the files as they would be, and compares them with the cloud. What
// is to be recorded follows from that.
func (a *App) proveWritten(ctx context.Context, file string, texts map[string][]byte, out *Written) error {
	draft, err := a.Load(ctx, file, Values{Texts: texts})
	if err != nil {
		return err
	}
	if draft.Findings.HasErrors() {
		return fmt.Errorf("written so, the files would be wrong: %s", draft.Findings[0].Message)
	}
	for name, l := range out.Added {
		draft = draft.Adopting(name, l.ID)
	}
	p, err := a.WhatIf(ctx, draft)
	if err != nil {
		return err
	}
	current, _, err := a.recorded(ctx, out.of)
	if err != nil {
		return err
	}
	for i, ch := range p.Changes {
		left := ch.Kind != whatif.Same && ch.Kind != whatif.Keep
		switch was, added := out.Renamed[ch.Name], out.Added[ch.Name]; {
		case ch.Kind == whatif.Drop && slices.ContainsFunc(out.Gone, func(r *stack.Recorded) bool { return r.ID == ch.Recorded.ID }):
			left = false
		case was != nil && ch.Recorded != nil && ch.Recorded.ID == was.ID:
			left = slices.ContainsFunc(ch.Properties, func(c stack.PropertyChange) bool { return !ch.Renames(c) })
			now := *was
			now.Name, now.Formerly = ch.Name, append(slices.Clone(was.Formerly), was.Name)
			out.records = append(out.records, run.Remove{Name: was.Name}, run.Put{Record: &now, Position: i})
		case added != nil && ch.Kind == whatif.Adopt:
			left = len(ch.Properties) > 0
			rec, err := nowRecorded(draft.Wanted, ch, current)
			if err != nil {
				return err
			}
			out.records = append(out.records, run.Put{Record: rec, Position: i})
		}
		if left {
			out.Left = append(out.Left, fmt.Sprintf("%s (%s)", ch.Name, ch.Kind))
		}
	}
	return nil
}

// nowRecorded is the record of what is adopted as it is there.
func nowRecorded(w *stack.Wanted, ch whatif.Change, current []*stack.Recorded) (*stack.Recorded, error) {
	res := ch.Wanted
	props, findings := w.Late(res, recordedAttributes(current))
	if findings.HasErrors() {
		return nil, fmt.Errorf("%s: %s", ch.Name, findings[0].Message)
	}
	for name, v := range props { // what only the cloud knows is as it is there
		if tosca.Waits(v) {
			props[name] = ch.Live.Properties[name]
		}
	}
	rec := &stack.Recorded{Name: ch.Name, Type: ch.Type, ID: ch.Live.ID, Properties: props, Attributes: ch.Live.Attributes,
		Links: map[string][]stack.LinkTo{}, Needs: res.Needs, Pos: res.Pos, Policies: res.Policies}
	for _, l := range res.Links {
		for i, id := range ch.Live.Links[l.Requirement] {
			if i < len(l.Targets) {
				rec.Links[l.Requirement] = append(rec.Links[l.Requirement], stack.LinkTo{Name: l.Targets[i], ID: id})
			}
		}
	}
	return rec, nil
}
