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
	"bytes"
	"errors"
	"io"
	"maps"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Limits on what is read, so that no text can exhaust the machine.
const (
	MaxBytes = 16 << 20 // of one file
	maxDepth = 100      // of nesting
)

// File is a template, read.
type File struct {
	Name        string
	Description string
	Metadata    map[string]string
	Library     *Library
	Service     *ServiceTemplate // nil where the file has none
}

// ServiceTemplate is the part of a file that describes resources.
type ServiceTemplate struct {
	Pos
	Description string
	Inputs      []*Property
	Nodes       []*NodeTemplate
	Outputs     []*Output
	Policies    []*Policy
	byName      map[string]*NodeTemplate
}

// NodeTemplate describes one resource, or several alike where Count is set.
type NodeTemplate struct {
	Pos
	Name, Type, Description string
	TypePos                 Pos
	Metadata                map[string]string
	Count                   *Expr
	Properties              []*Assignment
	Requirements            []*Requirement
}

// Assignment gives a property its value.
type Assignment struct {
	Pos
	Name  string
	Value *Expr
}

// Requirement connects a node to another one. Index is nil where the target
// has no count, or all of them are meant.
type Requirement struct {
	Pos
	Name      string
	Target    string
	TargetPos Pos
	Index     *Expr
}

// Output is a result of the stack.
type Output struct {
	Pos
	Name, Description string
	Type              *Type // nil where the template does not say
	Value             *Expr
}

// Policy applies a policy type to nodes.
type Policy struct {
	Pos
	Name, Type string
	Targets    []Key
	Properties []*Assignment
}

// Input finds an input by name; nil where there is none.
func (s *ServiceTemplate) Input(name string) *Property { return find(s.Inputs, name) }

// Node finds a node template by name; nil where there is none.
func (s *ServiceTemplate) Node(name string) *NodeTemplate { return s.byName[name] }

// nodeNames lists the names of the node templates.
func (s *ServiceTemplate) nodeNames() []string {
	names := make([]string, len(s.Nodes))
	for i, n := range s.Nodes {
		names[i] = n.Name
	}
	return names
}

// Loader answers an import of a profile by its name.
type Loader func(profile string) (*Library, bool)

// Read reads a template. The file is never nil; what could not be read is
// missing from it and stands in the findings.
func Read(name string, text []byte, load Loader) (*File, Findings) {
	r := &reader{file: name, load: load}
	f := r.readFile(text)
	r.findings.Sort()
	return f, r.findings
}

// ReadProfile reads a file of types that ships with the program.
func ReadProfile(name string, text []byte) (*Library, Findings) {
	r := &reader{file: name, profile: true}
	f := r.readFile(text)
	r.findings.Sort()
	return f.Library, r.findings
}

type reader struct {
	file     string
	profile  bool // the shipped profile may use more keywords
	plain    bool // $ means nothing
	load     Loader
	lib      *Library
	findings Findings
	budget   int // nodes that may still be visited: aliases cannot blow up
	depth    int
	stopped  bool
}

func (r *reader) readFile(text []byte) *File {
	f := &File{Name: r.file, Library: NewLibrary()}
	r.lib = f.Library
	root := ParseYAML(r.file, text, &r.findings)
	if root == nil {
		return f
	}
	r.budget = 10_000 + 8*len(text)
	doc := r.fields(root, secFile)
	if doc == nil {
		return f
	}
	version := doc["tosca_definitions_version"]
	switch {
	case version.value == nil:
		r.findings.Errorf(Pos{r.file, 1, 1}, "missing-version", "begin the file with tosca_definitions_version: tosca_2_0", "the file does not say which version of TOSCA it is written in")
	case version.value.Value != "tosca_2_0":
		r.findings.Errorf(r.pos(version.value), "unknown-version", "write tosca_2_0", "'%s' is not a version of TOSCA that can be read", version.value.Value)
	}
	f.Description = r.text(doc["description"].value)
	f.Metadata = r.metadata(doc["metadata"].value)
	r.imports(doc["imports"].value)
	if p := doc["profile"].value; p != nil {
		f.Library.Profile = r.text(p)
	}
	r.dataTypes(doc["data_types"].value)
	r.otherTypes(doc["capability_types"].value)
	r.otherTypes(doc["relationship_types"].value)
	r.nodeTypes(doc["node_types"].value)
	r.policyTypes(doc["policy_types"].value)
	if s := doc["service_template"]; s.value != nil {
		f.Service = r.service(s)
	} else if !r.profile {
		r.findings.Errorf(Pos{r.file, 1, 1}, "missing-service-template", "add a service_template with node_templates", "the file has no service template")
	}
	return f
}

// ParseYAML parses text into its root node, or reports why it cannot and
// yields nil.
func ParseYAML(file string, text []byte, findings *Findings) *yaml.Node {
	whole := Pos{File: file, Line: 1, Column: 1}
	switch {
	case len(text) > MaxBytes:
		findings.Errorf(whole, "too-large", "split it", "the file has %d MiB; up to %d MiB are read", len(text)>>20, MaxBytes>>20)
		return nil
	case !utf8.Valid(text):
		findings.Errorf(whole, "not-text", "save it as UTF-8", "the file is not UTF-8 text")
		return nil
	}
	if p, deep := nestsTooDeep(text); deep {
		p.File = file
		findings.Errorf(p, "too-deep", "", "the file nests more than %d levels deep", maxDepth)
		return nil
	}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var doc yaml.Node
	if err := decoder.Decode(&doc); err != nil && len(bytes.TrimSpace(text)) > 0 {
		at := whole
		message, mend := err.Error(), ""
		var le *yaml.LoadError
		if errors.As(err, &le) && le.Mark.Line > 0 {
			at.Line, at.Column, message = le.Mark.Line, max(1, le.Mark.Column), le.Message
		}
		if strings.Contains(message, "tab") {
			mend = "indent with spaces"
		}
		if errors.Is(err, io.EOF) {
			findings.Errorf(whole, "empty-file", "", "there is nothing but comments in the file")
			return nil
		}
		findings.Errorf(at, "not-yaml", mend, "this is not YAML: %s", message)
		return nil
	}
	if len(doc.Content) == 0 {
		findings.Errorf(whole, "empty-file", "", "the file is empty")
		return nil
	}
	var second yaml.Node
	if decoder.Decode(&second) == nil && len(second.Content) > 0 {
		findings.Errorf(Pos{file, second.Content[0].Line, 1}, "several-documents", "keep one document in a file", "a second YAML document begins here")
	}
	return doc.Content[0]
}

// nestsTooDeep looks for runs of opening brackets or of indentation that the
// parser would spend its time on.
func nestsTooDeep(text []byte) (Pos, bool) {
	depth, line, quote := 0, 1, byte(0)
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\n':
			line++
			if quote == 0 && depth < 0 {
				depth = 0
			}
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && i > 0 && strings.IndexByte(" [{,:", text[i-1]) >= 0:
			quote = c
		case c == '[' || c == '{':
			depth++
		case (c == ']' || c == '}') && depth > 0:
			depth--
		}
		if depth > 20*maxDepth {
			return Pos{Line: line, Column: 1}, true
		}
	}
	return Pos{}, false
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
				r.findings.Errorf(r.pos(n), "too-many-aliases", "write fewer aliases inside aliases", "the aliases of this file expand to too much")
			} else {
				r.findings.Errorf(r.pos(n), "too-deep", "", "the file nests more than %d levels deep, or an alias contains itself", maxDepth)
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

// pairs lists the entries of a mapping, each key once.
func (r *reader) pairs(n *yaml.Node) []field {
	out := make([]field, 0, len(n.Content)/2)
	seen := make(map[string]int, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := deref(n.Content[i]), n.Content[i+1]
		switch {
		case k.Kind != yaml.ScalarNode:
			r.findings.Errorf(r.pos(k), "wrong-type", "", "a key must be text")
			continue
		case k.Tag == "!!merge":
			r.findings.Errorf(r.pos(k), "not-supported-yet", "use an alias for the whole value", "merging with << is not part of YAML 1.2 and not supported")
			continue
		}
		if line, twice := seen[k.Value]; twice {
			r.findings.Errorf(r.pos(k), "duplicate-key", "remove one of the two", "'%s' stands here a second time; the first is in line %d", k.Value, line)
			continue
		}
		seen[k.Value] = k.Line
		out = append(out, field{k, v})
	}
	return out
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
func (r *reader) fields(n *yaml.Node, section string) map[string]field {
	n = deref(n)
	if n.Kind != yaml.MappingNode {
		r.findings.Errorf(r.pos(n), "wrong-type", "", "expected a map of the keywords of a %s", section)
		return nil
	}
	known := keywordsBySection[section]
	out := make(map[string]field, len(n.Content)/2)
	for _, f := range r.pairs(n) {
		support, ok := known[f.key.Value]
		switch {
		case !ok:
			var words []string
			for w, s := range known {
				if s == Yes || r.profile {
					words = append(words, w)
				}
			}
			r.findings.Errorf(r.pos(f.key), "unknown-keyword", suggest(f.key.Value, words), "a %s has no keyword '%s'", section, f.key.Value)
		case support == NotYet, support == ProfileOnly && !r.profile:
			r.findings.Errorf(r.pos(f.key), "not-supported-yet", "", "the keyword '%s' of a %s is not supported yet", f.key.Value, section)
		default:
			out[f.key.Value] = f
		}
	}
	return out
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

func (r *reader) imports(n *yaml.Node) {
	if n = deref(n); n == nil {
		return
	}
	if n.Kind != yaml.SequenceNode {
		r.findings.Errorf(r.pos(n), "wrong-type", "write - profile: brickrow.cloud:1", "imports must be a list")
		return
	}
	for _, item := range n.Content {
		item = deref(item)
		if item.Kind == yaml.ScalarNode {
			r.findings.Errorf(r.pos(item), "not-supported-yet", "", "importing another file is not supported yet")
			continue
		}
		p := r.fields(item, secImport)["profile"].value
		if p == nil {
			continue
		}
		lib, ok := r.load(r.text(p))
		if !ok {
			r.findings.Errorf(r.pos(p), "unknown-profile", "the shipped profile is brickrow.cloud:1", "there is no profile '%s'", r.text(p))
			continue
		}
		maps.Copy(r.lib.Data, lib.Data)
		maps.Copy(r.lib.Nodes, lib.Nodes)
		maps.Copy(r.lib.Pols, lib.Pols)
	}
}

func (r *reader) service(s field) *ServiceTemplate {
	out := &ServiceTemplate{Pos: r.pos(s.key), byName: map[string]*NodeTemplate{}}
	doc := r.fields(s.value, secService)
	out.Description = r.text(doc["description"].value)
	for _, f := range r.entries(doc["inputs"].value, "inputs") {
		out.Inputs = append(out.Inputs, r.property(f, secInput))
	}
	for _, f := range r.entries(doc["node_templates"].value, "node_templates") {
		if n := r.node(f); n != nil {
			out.Nodes = append(out.Nodes, n)
			out.byName[n.Name] = n
		}
	}
	for _, f := range r.entries(doc["outputs"].value, "outputs") {
		kw := r.fields(f.value, secOutput)
		o := &Output{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw["description"].value)}
		if v := kw["value"].value; v != nil {
			o.Value = r.expr(v)
		} else if kw != nil {
			r.findings.Errorf(o.Pos, "missing-value", "add value: …", "the output '%s' has no value", o.Name)
		}
		if kw["type"].value != nil {
			o.Type = r.typeOf(kw)
		}
		out.Outputs = append(out.Outputs, o)
	}
	out.Policies = r.policies(doc["policies"].value)
	return out
}

// list reads a sequence whose items each are a map of one name.
func (r *reader) list(n *yaml.Node, what, mend string) []field {
	n = deref(n)
	if n == nil || n.ShortTag() == "!!null" {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		r.findings.Errorf(r.pos(n), "wrong-type", mend, "%s must be a list", what)
		return nil
	}
	var out []field
	for _, item := range n.Content {
		item = deref(item)
		if item.Kind != yaml.MappingNode || len(item.Content) != 2 {
			r.findings.Errorf(r.pos(item), "wrong-type", mend, "each of the %s must be a map with one name", what)
			continue
		}
		out = append(out, field{item.Content[0], item.Content[1]})
	}
	return out
}

func (r *reader) node(f field) *NodeTemplate {
	kw := r.fields(f.value, secNode)
	if kw == nil {
		return nil
	}
	n := &NodeTemplate{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw["description"].value), Metadata: r.metadata(kw["metadata"].value)}
	if t := kw["type"].value; t != nil {
		n.Type, n.TypePos = r.text(t), r.pos(t)
	} else {
		r.findings.Errorf(n.Pos, "missing-type", "add type: with a type such as Network", "the node '%s' has no type", n.Name)
	}
	if c := kw["count"].value; c != nil {
		n.Count = r.expr(c)
	}
	for _, p := range r.entries(kw["properties"].value, "properties") {
		n.Properties = append(n.Properties, &Assignment{Pos: r.pos(p.key), Name: p.key.Value, Value: r.expr(p.value)})
	}
	for _, q := range r.list(kw["requirements"].value, "requirements", "write - name: target") {
		if req := r.requirement(q); req != nil {
			n.Requirements = append(n.Requirements, req)
		}
	}
	return n
}

func (r *reader) requirement(f field) *Requirement {
	q := &Requirement{Pos: r.pos(f.key), Name: f.key.Value}
	v := deref(f.value)
	if v.Kind == yaml.MappingNode {
		target := r.fields(v, secRequirement)["node"].value
		if target == nil {
			r.findings.Errorf(q.Pos, "missing-target", "add node: with the name of a node", "the requirement '%s' does not say which node it wants", q.Name)
			return nil
		}
		v = deref(target)
	}
	q.TargetPos = r.pos(v)
	if v.Kind == yaml.SequenceNode {
		if len(v.Content) != 2 {
			r.findings.Errorf(r.pos(v), "wrong-arguments", "write [ name, index ]", "a target is a name, or a name and an index")
			return nil
		}
		q.Index = r.expr(v.Content[1])
		v = v.Content[0]
	}
	q.Target = r.text(v)
	return q
}

func (r *reader) policies(n *yaml.Node) []*Policy {
	var out []*Policy
	for _, f := range r.list(n, "policies", "write - name: { type: …, targets: [ … ] }") {
		kw := r.fields(f.value, secPolicy)
		p := &Policy{Pos: r.pos(f.key), Name: f.key.Value, Type: r.text(kw["type"].value)}
		if t := kw["type"].value; t != nil {
			p.Pos = r.pos(t)
		}
		if t := deref(kw["targets"].value); t != nil {
			if t.Kind != yaml.SequenceNode {
				r.findings.Errorf(r.pos(t), "wrong-type", "write [ name, … ]", "targets must be a list of nodes")
			} else {
				for _, c := range t.Content {
					p.Targets = append(p.Targets, Key{r.pos(c), r.text(c)})
				}
			}
		}
		for _, a := range r.entries(kw["properties"].value, "properties") {
			p.Properties = append(p.Properties, &Assignment{Pos: r.pos(a.key), Name: a.key.Value, Value: r.expr(a.value)})
		}
		out = append(out, p)
	}
	return out
}

// property reads the definition of a property, an attribute or an input.
func (r *reader) property(f field, section string) *Property {
	p := &Property{Pos: r.pos(f.key), Name: f.key.Value, Required: true}
	if v := deref(f.value); v.Kind == yaml.ScalarNode && section == secProperty {
		r.findings.Errorf(r.pos(v), "wrong-type", "write "+p.Name+": { type: "+v.Value+" }", "a property definition is a map with a type")
		return p
	}
	kw := r.fields(f.value, section)
	p.Description = r.text(kw["description"].value)
	p.Required = r.bool(kw["required"].value, true)
	p.Metadata = r.metadata(kw["metadata"].value)
	if kw["type"].value != nil {
		p.Type = r.typeOf(kw)
	} else if kw != nil {
		r.findings.Errorf(p.Pos, "missing-type", "add type: string, or another type", "'%s' has no type", p.Name)
	}
	if v := kw["validation"].value; v != nil {
		p.Validation = r.expr(v)
	}
	if v := kw["default"].value; v != nil {
		p.Default = r.expr(v)
	}
	if v := kw["value"].value; v != nil {
		p.Fixed = r.expr(v)
	}
	return p
}

// typeOf resolves the type that a definition names, with its schemas.
func (r *reader) typeOf(kw map[string]field) *Type {
	n := deref(kw["type"].value)
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
	entry, key := kw["entry_schema"].value, kw["key_schema"].value
	if entry == nil && key == nil {
		return t
	}
	if t.Base != BaseList && t.Base != BaseMap {
		r.findings.Errorf(r.pos(kw["type"].value), "wrong-type", "only a list or a map has entries", "a %s has no schema for entries", name)
		return t
	}
	made := *t
	if entry != nil {
		made.Entry = r.schema(entry)
	}
	if key != nil {
		made.Key = r.schema(key)
	}
	return &made
}

// schema reads an entry_schema or a key_schema: a type's name or a map.
func (r *reader) schema(n *yaml.Node) *Type {
	n = deref(n)
	if n.Kind == yaml.ScalarNode {
		return r.typeOf(map[string]field{"type": {n, n}})
	}
	kw := r.fields(n, secSchema)
	if kw["type"].value == nil {
		r.findings.Errorf(r.pos(n), "missing-type", "add type: string, or another type", "the schema has no type")
		return nil
	}
	t := r.typeOf(kw)
	if v := kw["validation"].value; v != nil && t != nil {
		t = &Type{Pos: r.pos(n), Name: t.Name, Base: t.Base, Parent: t, Validation: r.expr(v), Fields: t.Fields, Key: t.Key, Entry: t.Entry, Units: t.Units, Metadata: t.Metadata}
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

// Entry is one entry of a YAML map, for readers of other formats.
type Entry struct {
	Key  Key
	Node *yaml.Node
	Pos  // of the value
}

// Entries lists the entries of a map in a file that is not a template, with
// the same care for doubled keys; what is the thing in words.
func Entries(file string, n *yaml.Node, what string, findings *Findings) []Entry {
	r := &reader{file: file}
	fields := r.entries(n, what)
	*findings = append(*findings, r.findings...)
	out := make([]Entry, len(fields))
	for i, f := range fields {
		out[i] = Entry{Key{r.pos(f.key), f.key.Value}, deref(f.value), r.pos(f.value)}
	}
	return out
}

// Plain reads a value in which $ means nothing, as in a stack file.
func Plain(file string, n *yaml.Node, findings *Findings) *Expr {
	r := &reader{file: file, plain: true, budget: 100_000}
	x := r.expr(n)
	*findings = append(*findings, r.findings...)
	return x
}

// Suggest is the mend for a name that is not among those known.
func Suggest(name string, known []string) string { return suggest(name, known) }
