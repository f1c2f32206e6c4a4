// Package tosca reads and checks templates written in TOSCA 2.0, the OASIS
// standard. It goes from text to a File in which every part knows its place,
// and from expressions to values. It knows no cloud, no store and no screen.
//
// The phases: Read parses the text and reports unknown, doubled and
// unsupported keywords; Check looks at names and types that can be known
// without inputs; Env evaluates expressions. What is wrong with a template is
// a Finding with its place, never a Go error, and all findings come at once.
package tosca

import (
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Source is where the reader finds what a template refers to. Either may be
// nil: there is nothing then.
type Source struct {
	// Entry is the path of the template itself among the files; "" is its
	// name without the folder.
	Entry string
	// Profile answers an import of a profile by its name.
	Profile func(name string) (*Library, bool)
	// Open reads another file of the template, by its path relative to the
	// folder of the template, with slashes.
	Open func(path string) ([]byte, error)
	// Beyond reports whether a path that leads out of that folder may be read. The
	// template has no say in it; nil allows none.
	Beyond func(path string) bool
	// Trees keeps what was parsed for the next reading; nil keeps nothing.
	Trees *Trees
}

// Read reads a template. The file is never nil; what could not be read is
// missing from it and stands in the findings.
func Read(name string, text []byte, src Source) (*File, Findings) {
	if src.Entry == "" {
		src.Entry = filepath.Base(name)
	}
	sh := &shared{src: src, root: strings.TrimSuffix(name, filepath.FromSlash(src.Entry)), files: map[string]*File{},
		reading: []string{src.Entry}}
	r := &reader{file: name, path: src.Entry, main: true, shared: sh}
	if src.Trees != nil && src.Trees.mu.TryLock() {
		defer src.Trees.mu.Unlock()
		r.trees = src.Trees
	}
	f := r.readFile(text)
	sh.findings.Sort()
	return f, sh.findings
}

// ReadProfile reads a file of types that ships with the program; it may import others that do.
func ReadProfile(name string, text []byte, others func(name string) (*Library, bool)) (*Library, Findings) {
	sh := &shared{files: map[string]*File{}, src: Source{Profile: others}}
	r := &reader{file: name, shared: sh, shipped: true}
	f := r.readFile(text)
	sh.findings.Sort()
	return f.Library, sh.findings
}

// shared is what the readers of a template and of what it imports share.
type shared struct {
	src      Source
	root     string // folder of the template, as findings show it
	files    map[string]*File
	reading  []string // paths, to find imports that go in a circle
	findings Findings
}

// reader reads one file.
type reader struct {
	*shared
	file      string // as findings show it
	path      string // among the files of the template
	main      bool
	shipped   bool // the profile that ships with the program
	plain     bool // $ means nothing
	out       *File
	lib       *Library
	pairsRoom []field
	exprs     arena[Expr]
	args      []*Expr
	nodes     arena[NodeTemplate]
	assigned  arena[Assignment]
	required  arena[Requirement]
	given     []*Assignment
	trees     *Trees
	cut       *inParts // the file in parts; nil where it is read as a whole
	noParts   bool
	broken    bool // a part turned out to be no YAML of its own
	budget    int  // nodes that may still be visited: aliases cannot blow up
	depth     int
	stopped   bool
}

// arena makes room for many small things at a time.
type arena[T any] struct{ room []T }

func (a *arena[T]) next() *T {
	if len(a.room) == 0 {
		a.room = make([]T, 64)
	}
	t := &a.room[0]
	a.room = a.room[1:]
	return t
}

// argRoom makes room for the parts of an expression.
func (r *reader) argRoom(n int) []*Expr {
	if len(r.args) < n {
		r.args = make([]*Expr, max(n, 256))
	}
	out := r.args[:n:n]
	r.args = r.args[n:]
	return out
}

// readFile reads a file: in parts where that can be done, and once more as a
// whole where it then turns out that it cannot.
func (r *reader) readFile(text []byte) *File {
	again := *r
	before := *r.shared
	before.files = maps.Clone(r.files)
	f := r.readOnce(text)
	if r.cut == nil {
		return f
	}
	for part := range r.cut.parts { // those that nobody has asked for
		r.broken = r.broken || part == nil
	}
	if r.broken {
		*r.shared = before
		again.noParts = true
		f = again.readOnce(text)
	}
	return f
}

// parse parses the text of a file, of which the node templates may come in
// parts.
func (r *reader) parse(text []byte) *yaml.Node {
	if !fitToRead(r.file, text, &r.findings) {
		return nil
	}
	if !r.noParts {
		if r.cut = cutUp(text, r.trees); r.cut != nil {
			return r.cut.root
		}
	}
	return parseWhole(r.file, text, &r.findings)
}

// nodeEntries goes through the entries of the node templates.
func (r *reader) nodeEntries(n *yaml.Node, each func(field)) {
	if r.cut == nil || n != r.cut.place {
		for _, f := range r.entries(n, nodesKey) {
			each(f)
		}
		return
	}
	seen := make(map[string]int, r.cut.about)
	for part := range r.cut.parts {
		if part == nil {
			r.broken = true
			continue
		}
		if r.broken {
			continue
		}
		for _, f := range r.entries(part, nodesKey) {
			if line := seen[f.key.Value]; line > 0 {
				r.twice(f.key, line)
				continue
			}
			seen[f.key.Value] = f.key.Line
			each(f)
		}
	}
}

func (r *reader) twice(k *yaml.Node, line int) {
	r.findings.Errorf(r.pos(k), "duplicate-key", "remove one of the two",
		"'%s' stands here a second time; the first is in line %d", k.Value, max(line, -line)) // of what is read in part, see Moved
}

func (r *reader) readOnce(text []byte) *File {
	f := &File{Name: r.file, Path: r.path, Library: NewLibrary(), Repositories: map[string]string{}}
	r.lib, r.out = f.Library, f
	root := r.parse(text)
	if root == nil {
		return f
	}
	r.budget = 10_000 + 8*len(text)
	doc := r.fields(root, secFile)
	if doc == nil {
		return f
	}
	version := doc.at("tosca_definitions_version")
	switch {
	case version == nil:
		r.findings.Errorf(Pos{r.file, 1, 1}, "missing-version",
			"begin the file with tosca_definitions_version: tosca_2_0",
			"the file does not say which version of TOSCA it is written in")
	case version.Value != "tosca_2_0":
		r.findings.Errorf(r.pos(version), "unknown-version", "write tosca_2_0",
			"'%s' is not a version of TOSCA that can be read", version.Value)
	}
	f.Description = r.text(doc.at("description"))
	f.Metadata = r.metadata(doc.at("metadata"))
	f.Profile = r.text(doc.at("profile"))
	f.Library.Profile = f.Profile
	r.repositories(doc.at("repositories"))
	r.imports(doc.at("imports"))
	r.types(doc)
	if s := doc.field("service_template"); s.value != nil {
		f.Service = r.service(s)
	} else if r.main && f.Profile == "" {
		r.findings.Errorf(Pos{r.file, 1, 1}, "missing-service-template", "add a service_template with node_templates",
			"the file has no service template")
	}
	return f
}

func (r *reader) pos(n *yaml.Node) Pos { return Pos{r.file, n.Line, n.Column} }

// enter follows an alias and counts the visit; it is not ok where the file
// nests too deep or its aliases blow up. Each ok enter is followed by a leave.
func (r *reader) enter(n *yaml.Node) (*yaml.Node, bool) {
	r.budget--
	for n.Kind == yaml.AliasNode && n.Alias != nil {
		n = n.Alias
	}
	if r.depth >= maxDepth || r.budget < 0 {
		if !r.stopped {
			r.stopped = true
			if r.budget < 0 {
				r.findings.Errorf(r.pos(n), "too-many-aliases", "write fewer aliases inside aliases",
					"the aliases of this file expand to too much")
			} else {
				r.findings.Errorf(r.pos(n), "too-deep", "",
					"the file nests more than %d levels deep, or an alias contains itself", maxDepth)
			}
		}
		return nil, false
	}
	r.depth++
	return n, true
}

func (r *reader) leave() { r.depth-- }

func deref(n *yaml.Node) *yaml.Node {
	for n != nil && n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	return n
}

type field struct{ key, value *yaml.Node }

// section is the keywords of a mapping that are known.
type section []field

func (s section) field(name string) field {
	for _, f := range s {
		if f.key.Value == name {
			return f
		}
	}
	return field{}
}

// at is the value of a keyword; nil where it is not there.
func (s section) at(name string) *yaml.Node { return s.field(name).value }

// few is up to how many keys are compared with each other rather than kept in
// a map.
const few = 12

// pairs lists the entries of a mapping, each key once.
func (r *reader) pairs(n *yaml.Node) []field {
	if need := len(n.Content) / 2; cap(r.pairsRoom)-len(r.pairsRoom) < need {
		r.pairsRoom = make([]field, 0, max(need, 512))
	}
	at := len(r.pairsRoom)
	out := r.pairsRoom[at : at : at+len(n.Content)/2]
	r.pairsRoom = r.pairsRoom[:at+len(n.Content)/2]
	var seen map[string]int
	var merged []*yaml.Node
	if len(n.Content) > 2*few {
		seen = make(map[string]int, len(n.Content)/2)
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := deref(n.Content[i]), n.Content[i+1]
		switch {
		case k.Kind != yaml.ScalarNode:
			r.findings.Errorf(r.pos(k), "wrong-type", "", "a key must be text")
			continue
		case k.Tag == "!!merge":
			r.findings.Hintf(r.pos(k), "yaml-merge", "",
				"merging with << is not part of YAML 1.2; other readers of TOSCA may refuse it")
			merged = append(merged, v)
			continue
		}
		line := seen[k.Value]
		if seen == nil {
			line = section(out).line(k.Value)
		}
		if line > 0 {
			r.twice(k, line)
			continue
		}
		if seen != nil {
			seen[k.Value] = k.Line
		}
		out = append(out, field{k, v})
	}
	for _, m := range merged {
		out = r.mergeInto(out, m)
	}
	return out
}

// mergeInto adds the entries of a mapping, or of a list of them, that are not there
// yet.
func (r *reader) mergeInto(into section, from *yaml.Node) section {
	n, ok := r.enter(from)
	if !ok {
		return into
	}
	defer r.leave()
	switch n.Kind {
	case yaml.MappingNode:
		r.budget -= len(n.Content)
		for _, f := range r.pairs(n) {
			if into.line(f.key.Value) == 0 {
				into = append(into, f)
			}
		}
	case yaml.SequenceNode:
		for _, e := range n.Content {
			into = r.mergeInto(into, e)
		}
	default:
		r.findings.Errorf(r.pos(from), "wrong-type", "name a map, as in <<: *defaults",
			"<< merges maps, and this is none")
	}
	return into
}

func (s section) line(name string) int {
	if f := s.field(name); f.key != nil {
		return f.key.Line
	}
	return 0
}

// entries lists the named entries of a mapping in their order; what is the
// thing in words.
func (r *reader) entries(n *yaml.Node, what string) []field {
	n = deref(n)
	if n == nil || n.Kind == yaml.ScalarNode && n.ShortTag() == "!!null" {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		r.findings.Errorf(r.pos(n), "wrong-type", "", "%s must be a map of names", what)
		return nil
	}
	return r.pairs(n)
}

// fields reads a mapping of keywords, by the table of the section.
func (r *reader) fields(n *yaml.Node, name string) section {
	n = deref(n)
	if n.Kind != yaml.MappingNode {
		r.findings.Errorf(r.pos(n), "wrong-type", "", "expected a map of the keywords of %s", article(name))
		return nil
	}
	known := keywordsBySection[name]
	all := r.pairs(n)
	out := section(all[:0])
	for _, f := range all {
		support, ok := known[f.key.Value]
		switch {
		case !ok:
			var words []string
			for w, s := range known {
				if s != NotYet {
					words = append(words, w)
				}
			}
			r.findings.Errorf(r.pos(f.key), "unknown-keyword", suggest(f.key.Value, words), "%s has no keyword '%s'",
				article(name), f.key.Value)
		case support == NotYet:
			r.findings.Errorf(r.pos(f.key), "not-supported-yet", "", "the keyword '%s' of %s is not supported yet",
				f.key.Value, article(name))
		default:
			out = append(out, f)
		}
	}
	if out == nil {
		out = section{}
	}
	return out
}

// article puts a or an before a word.
func article(word string) string {
	if strings.ContainsAny(word[:1], "aeiou") {
		return "an " + word
	}
	return "a " + word
}

func (r *reader) text(n *yaml.Node) string {
	n = deref(n)
	if n == nil {
		return ""
	}
	if n.Kind != yaml.ScalarNode {
		r.findings.Errorf(r.pos(n), "wrong-type", "", "expected text")
		return ""
	}
	return n.Value
}

func (r *reader) metadata(n *yaml.Node) map[string]string {
	entries := r.entries(n, "metadata")
	if len(entries) == 0 {
		return nil
	}
	m := make(map[string]string, len(entries))
	for _, f := range entries {
		if v := deref(f.value); v.Kind == yaml.ScalarNode {
			m[f.key.Value] = v.Value
		}
	}
	return m
}

// oneOf reads a word out of a few.
func (r *reader) oneOf(n *yaml.Node, words ...string) string {
	word := r.text(n)
	if !slices.Contains(words, word) {
		r.findings.Errorf(r.pos(deref(n)), "invalid-value", suggest(word, words), "'%s' cannot stand here", word)
		return words[0]
	}
	return word
}

func (r *reader) bool(n *yaml.Node, otherwise bool) bool {
	n = deref(n)
	if n == nil {
		return otherwise
	}
	b, err := strconv.ParseBool(n.Value)
	if err != nil || n.ShortTag() != "!!bool" {
		r.findings.Errorf(r.pos(n), "wrong-type", "write true or false", "expected a boolean")
		return otherwise
	}
	return b
}

// list reads a sequence whose items each are a map of one name.
func (r *reader) list(n *yaml.Node, what, fix string) []field {
	n = deref(n)
	if n == nil || n.ShortTag() == "!!null" {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		r.findings.Errorf(r.pos(n), "wrong-type", fix, "%s must be a list", what)
		return nil
	}
	out := make([]field, 0, len(n.Content))
	for _, item := range n.Content {
		item = deref(item)
		if item.Kind != yaml.MappingNode || len(item.Content) != 2 {
			r.findings.Errorf(r.pos(item), "wrong-type", fix, "each of the %s must be a map with one name", what)
			continue
		}
		out = append(out, field{item.Content[0], item.Content[1]})
	}
	return out
}

// property reads the definition of a property, an attribute or an input.
func (r *reader) property(f field, sectionName string) *Property {
	p := &Property{Pos: r.pos(f.key), Name: f.key.Value, Required: true}
	if v := deref(f.value); v.Kind == yaml.ScalarNode && sectionName == secProperty {
		r.findings.Errorf(r.pos(v), "wrong-type", "write "+p.Name+": { type: "+v.Value+" }",
			"a property definition is a map with a type")
		return p
	}
	kw := r.fields(f.value, sectionName)
	p.Description = r.text(kw.at("description"))
	p.Required = r.bool(kw.at("required"), true)
	p.Metadata = r.metadata(kw.at("metadata"))
	if v := kw.at("status"); v != nil {
		p.Status = r.oneOf(v, "supported", "unsupported", "experimental", "deprecated")
	}
	if kw.at("type") != nil {
		p.Type = r.typeOf(kw)
	} else if kw != nil {
		r.findings.Errorf(p.Pos, "missing-type", "add type: string, or another type", "'%s' has no type", p.Name)
	}
	if v := kw.at("validation"); v != nil {
		p.Validation = r.expr(v)
	}
	if v := kw.at("default"); v != nil {
		p.Default = r.expr(v)
	}
	if v := kw.at("value"); v != nil {
		p.Fixed = r.expr(v)
	}
	return p
}

// typeOf resolves the type that a definition names, with its schemas.
func (r *reader) typeOf(kw section) *Type {
	n := deref(kw.at("type"))
	name := r.text(n)
	t := r.lib.Data[name]
	if t == nil {
		known := make([]string, 0, len(r.lib.Data))
		for k := range r.lib.Data {
			known = append(known, k)
		}
		r.findings.Errorf(r.pos(n), "unknown-type", suggest(name, known), "there is no data type '%s'", name)
		return nil
	}
	entry, key := kw.at("entry_schema"), kw.at("key_schema")
	if entry == nil && key == nil {
		return t
	}
	if t.Base != BaseList && t.Base != BaseMap {
		r.findings.Errorf(r.pos(kw.at("type")), "wrong-type", "only a list or a map has entries",
			"a %s has no schema for entries", name)
		return t
	}
	made := &Type{Pos: t.Pos, Name: t.Name, Base: t.Base, Parent: t.Parent, Description: t.Description,
		Validation: t.Validation, Key: t.Key, Entry: t.Entry, Metadata: t.Metadata}
	if entry != nil {
		made.Entry = r.schema(entry)
	}
	if key != nil {
		made.Key = r.schema(key)
	}
	return made
}

// schema reads an entry_schema or a key_schema: a type's name or a map.
func (r *reader) schema(n *yaml.Node) *Type {
	n = deref(n)
	if n.Kind == yaml.ScalarNode {
		return r.typeOf(section{{&yaml.Node{Value: "type"}, n}})
	}
	kw := r.fields(n, secSchema)
	if kw.at("type") == nil {
		r.findings.Errorf(r.pos(n), "missing-type", "add type: string, or another type", "the schema has no type")
		return nil
	}
	t := r.typeOf(kw)
	if v := kw.at("validation"); v != nil && t != nil {
		t = &Type{Pos: r.pos(n), Name: t.Name, Base: t.Base, Parent: t, Validation: r.expr(v), Fields: t.Fields,
			Key: t.Key, Entry: t.Entry, Units: t.Units, Metadata: t.Metadata}
	}
	return t
}

func typeNames[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	return out
}
