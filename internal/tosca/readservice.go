package tosca

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

func (r *reader) service(s field) *ServiceTemplate {
	doc := r.fields(s.value, secService)
	out := &ServiceTemplate{Pos: r.pos(s.key), Description: r.text(doc.at("description")),
		Metadata: r.metadata(doc.at("metadata"))}
	for _, f := range r.entries(doc.at("inputs"), "inputs") {
		out.Inputs = append(out.Inputs, r.property(f, secInput))
	}
	list := deref(doc.at(nodesKey))
	out.empty = doc != nil && (r.cut == nil || list != r.cut.place) &&
		(list == nil || list.ShortTag() == "!!null" || list.Kind == yaml.MappingNode && len(list.Content) == 0)
	about := 0
	if list != nil {
		about = len(list.Content) / 2
	}
	if r.cut != nil && list == r.cut.place {
		about = r.cut.about
	}
	out.byName, out.Nodes = make(map[string]*NodeTemplate, about), make([]*NodeTemplate, 0, about)
	r.nodeEntries(list, func(f field) {
		if n := r.node(f, out); n != nil {
			out.add(n)
		}
	})
	r.copyNodes(out)
	for _, n := range out.Nodes {
		n.Def = r.lib.Nodes[n.Type]
	}
	for _, f := range r.entries(doc.at("relationship_templates"), "relationship_templates") {
		out.Relationships = append(out.Relationships, r.relationshipTemplate(f))
	}
	r.copyRelationships(out)
	for _, f := range r.entries(doc.at("groups"), "groups") {
		kw := r.fields(f.value, secGroup)
		g := &Group{Pos: r.pos(f.key), Name: f.key.Value, Type: r.text(kw.at("type")),
			Description: r.text(kw.at("description")), Members: r.names(kw.at("members"), "members")}
		if g.TypePos = g.Pos; kw.at("type") != nil {
			g.TypePos = r.pos(deref(kw.at("type")))
		}
		r.metadata(kw.at("metadata"))
		g.Properties, g.Attributes = r.assignments(kw.at("properties"),
			"properties"), r.assignments(kw.at("attributes"), "attributes")
		out.Groups = append(out.Groups, g)
	}
	for _, f := range r.entries(doc.at("outputs"), "outputs") {
		kw := r.fields(f.value, secOutput)
		o := &Output{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw.at("description"))}
		if v := kw.at("value"); v != nil {
			o.Value = r.expr(v)
		} else if kw != nil {
			r.findings.Errorf(o.Pos, "missing-value", "add value: …", "the output '%s' has no value", o.Name)
		}
		if v := kw.at("validation"); v != nil {
			o.Validation = r.expr(v)
		}
		if kw.at("type") != nil {
			o.Type = r.typeOf(kw)
		}
		o.Metadata = r.metadata(kw.at("metadata"))
		out.Outputs = append(out.Outputs, o)
	}
	out.Policies = r.policies(doc.at("policies"))
	if f := doc.field("substitution_mappings"); f.value != nil {
		out.Substitution = r.substitution(f)
	}
	return out
}

func (s *ServiceTemplate) add(n *NodeTemplate) {
	s.Nodes = append(s.Nodes, n)
	s.byName[n.Name] = n
}

func (r *reader) assignment(f field) *Assignment {
	a := r.assigned.next()
	*a = Assignment{Pos: r.pos(f.key), Name: f.key.Value, Value: r.expr(f.value)}
	return a
}

func (r *reader) assignments(n *yaml.Node, what string) []*Assignment {
	entries := r.entries(n, what)
	if len(entries) == 0 {
		return nil
	}
	if len(r.given) < len(entries) {
		r.given = make([]*Assignment, max(len(entries), 128))
	}
	out := r.given[:len(entries):len(entries)]
	r.given = r.given[len(entries):]
	for i, f := range entries {
		out[i] = r.assignment(f)
	}
	return out
}

// directives lists what a node or a requirement asks the orchestrator for.
func (r *reader) directives(n *yaml.Node) []Key {
	list := r.names(n, "directives")
	for _, k := range list {
		if !slices.Contains([]string{"create", "select", "substitute"}, k.Name) {
			r.findings.Errorf(k.Pos, "unknown-directive", suggest(k.Name, []string{"create", "select", "substitute"}),
				"there is no directive '%s'", k.Name)
		}
	}
	return list
}

func (r *reader) node(f field, s *ServiceTemplate) *NodeTemplate {
	kw := r.fields(f.value, secNode)
	if kw == nil {
		return nil
	}
	n := r.nodes.next()
	*n = NodeTemplate{Pos: r.pos(f.key), Name: f.key.Value, Description: r.text(kw.at("description")),
		Metadata: r.metadata(kw.at("metadata")), Directives: r.directives(kw.at("directives"))}
	if c := kw.at("copy"); c != nil {
		n.Copy = &Key{r.pos(deref(c)), r.text(c)}
	}
	if t := kw.at("type"); t != nil {
		n.Type, n.TypePos = r.text(t), r.pos(deref(t))
	} else if n.TypePos = n.Pos; n.Copy == nil {
		r.findings.Errorf(n.Pos, "missing-type", "add type: with a type such as Network", "the node '%s' has no type",
			n.Name)
	}
	if c := kw.at("count"); c != nil {
		n.Count = r.expr(c)
	}
	if c := kw.at("node_filter"); c != nil {
		n.Filter = r.expr(c)
	}
	n.lost = r.misspelt(f.value, "properties", "requirements", "copy")
	n.Properties, n.Attributes = r.assignments(kw.at("properties"), "properties"), r.assignments(kw.at("attributes"),
		"attributes")
	for _, c := range r.entries(kw.at("capabilities"), "capabilities") {
		parts := r.fields(c.value, secCapAssign)
		n.Capabilities = append(n.Capabilities,
			&CapabilityAssignment{r.pos(c.key), c.key.Value, r.assignments(parts.at("properties"), "properties"),
				r.assignments(parts.at("attributes"), "attributes")})
	}
	before := len(r.findings)
	for _, q := range r.list(kw.at("requirements"), "requirements", "write - name: target") {
		if req := r.requirement(q, n, s); req != nil {
			n.Requirements = append(n.Requirements, req)
		}
	}
	n.lost = n.lost || len(r.findings) > before && len(n.Requirements) < items(kw.at("requirements"))
	n.Interfaces = r.interfaces(kw.at("interfaces"))
	for _, a := range r.entries(kw.at("artifacts"), "artifacts") {
		n.Artifacts = append(n.Artifacts, r.artifact(a, a.key.Value))
	}
	r.implementations(n.Interfaces, n.Artifacts)
	return n
}

// implementations finds what operations run: an artifact that was named, or a file.
func (r *reader) implementations(list []*Interface, artifacts []*Artifact) {
	for _, i := range list {
		for _, o := range i.Operations {
			for _, a := range append(slices.Clone(o.Dependencies), o.Primary) {
				if a == nil || a.File != "" {
					continue
				}
				if k := slices.IndexFunc(artifacts, func(b *Artifact) bool { return b.Name == a.Name }); k >= 0 {
					pos := a.Pos
					*a = *artifacts[k]
					a.Pos = pos
				} else if strings.ContainsAny(a.Name, "./") {
					a.File, a.FilePos = a.Name, a.Pos
					r.open(a)
				}
			}
		}
	}
}

// misspelt reports whether a map has a key that is unknown and must be meant
// for one of the words.
func (r *reader) misspelt(n *yaml.Node, words ...string) bool {
	n = deref(n)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i].Value
		if _, known := keywordsBySection[secNode][key]; !known && slices.Contains(words, nearest(key, words)) {
			return true
		}
	}
	return false
}

// items is how many items a list has, or 1 for what is no list.
func items(n *yaml.Node) int {
	if n = deref(n); n == nil {
		return 0
	}
	return max(1, len(n.Content))
}

// interfaces reads assignments to interfaces.
func (r *reader) interfaces(n *yaml.Node) []*Interface {
	var out []*Interface
	for _, f := range r.entries(n, "interfaces") {
		kw := r.fields(f.value, secInterface)
		i := &Interface{Pos: r.pos(f.key), Name: f.key.Value, Given: r.assignments(kw.at("inputs"), "inputs")}
		for _, o := range r.entries(kw.at("operations"), "operations") {
			i.Operations = append(i.Operations, r.operation(o, false))
		}
		out = append(out, i)
	}
	return out
}

func (r *reader) requirement(f field, n *NodeTemplate, s *ServiceTemplate) *Requirement {
	q := r.required.next()
	*q = Requirement{Pos: r.pos(f.key), Name: f.key.Value}
	v := deref(f.value)
	q.TargetPos = q.Pos
	if v.Kind != yaml.MappingNode {
		return r.target(q, v)
	}
	kw := r.fields(v, secRequirement)
	if c := kw.at("capability"); c != nil {
		q.Capability = &Key{r.pos(deref(c)), r.text(c)}
	}
	if x := kw.at("node_filter"); x != nil {
		q.Filter = r.expr(x)
	}
	if x := kw.at("count"); x != nil {
		q.Count = r.expr(x)
	}
	if x := kw.at("optional"); x != nil {
		q.Optional = r.expr(x)
	}
	if rel := deref(kw.at("relationship")); rel != nil {
		if rel.Kind == yaml.MappingNode {
			q.Relationship = r.relationship(field{rel, rel}, secRelAssign)
		} else {
			q.Named = &Key{r.pos(rel), r.text(rel)}
		}
	}
	target := deref(kw.at("node"))
	if target == nil && q.Filter == nil && q.Optional == nil {
		r.findings.Errorf(q.Pos, "missing-target", "add node: with the name of a node, or a node_filter",
			"the requirement '%s' does not say which node it wants", q.Name)
		return nil
	}
	if target != nil {
		if q = r.target(q, target); q == nil {
			return nil
		}
	}
	if slices.ContainsFunc(r.directives(kw.at("directives")), func(k Key) bool { return k.Name == "select" }) {
		// what is selected becomes a node of its own
		m := &NodeTemplate{Pos: q.Pos, Name: n.Name + "." + q.Name, Type: q.Target, TypePos: q.TargetPos,
			Filter: q.Filter, Directives: []Key{{q.Pos, "select"}}, For: q.Name}
		s.add(m)
		q.Target, q.Filter = m.Name, nil
	}
	return q
}

// target reads a name, or a name and an index.
func (r *reader) target(q *Requirement, v *yaml.Node) *Requirement {
	q.TargetPos = r.pos(v)
	if v.Kind == yaml.SequenceNode {
		if len(v.Content) != 2 {
			r.findings.Errorf(r.pos(v), "wrong-arguments", "write [ name, index ]",
				"a target is a name, or a name and an index")
			return nil
		}
		q.Index = r.expr(v.Content[1])
		v = v.Content[0]
	}
	q.Target = r.text(v)
	return q
}

func (r *reader) relationshipTemplate(f field) *RelationshipTemplate {
	t := r.relationship(f, secRelTemplate)
	t.Name = f.key.Value
	if t.Type == "" && t.Copy == nil {
		r.findings.Errorf(t.Pos, "missing-type", "add type: with a relationship type",
			"the relationship template '%s' has no type", t.Name)
	}
	return t
}

func (r *reader) relationship(f field, section string) *RelationshipTemplate {
	kw := r.fields(f.value, section)
	t := &RelationshipTemplate{Pos: r.pos(f.key), Type: r.text(kw.at("type")),
		Description: r.text(kw.at("description"))}
	if t.TypePos = t.Pos; kw.at("type") != nil {
		t.TypePos = r.pos(deref(kw.at("type")))
	}
	r.metadata(kw.at("metadata"))
	if c := kw.at("copy"); c != nil {
		t.Copy = &Key{r.pos(deref(c)), r.text(c)}
	}
	t.Properties, t.Attributes = r.assignments(kw.at("properties"), "properties"), r.assignments(kw.at("attributes"),
		"attributes")
	t.Interfaces = r.interfaces(kw.at("interfaces"))
	return t
}

// copyNodes fills in what a node takes over from another one by copy.
func (r *reader) copyNodes(s *ServiceTemplate) {
	for _, n := range s.Nodes {
		if n.Copy == nil {
			continue
		}
		from := s.Node(n.Copy.Name)
		switch {
		case from == nil:
			r.findings.Errorf(n.Copy.Pos, "unknown-node", suggest(n.Copy.Name, s.nodeNames()),
				"there is no node '%s' to copy", n.Copy.Name)
			continue
		case from.Copy != nil:
			r.findings.Errorf(n.Copy.Pos, "copy-of-copy", "copy "+from.Copy.Name+", or write it out",
				"'%s' is a copy itself", from.Name)
			continue
		}
		if n.Type == "" {
			n.Type, n.TypePos = from.Type, n.Copy.Pos
		}
		if n.Description == "" {
			n.Description = from.Description
		}
		if n.Metadata == nil {
			n.Metadata = from.Metadata
		}
		if n.Directives == nil {
			n.Directives = from.Directives
		}
		if n.Count == nil {
			n.Count = from.Count
		}
		if n.Filter == nil {
			n.Filter = from.Filter
		}
		n.Properties, n.Attributes = over(n.Properties, from.Properties), over(n.Attributes, from.Attributes)
		n.Capabilities = overBy(n.Capabilities, from.Capabilities,
			func(c *CapabilityAssignment) string { return c.Name })
		n.Requirements = overBy(n.Requirements, from.Requirements, func(q *Requirement) string { return q.Name })
		n.Interfaces = overBy(n.Interfaces, from.Interfaces, func(i *Interface) string { return i.Name })
		n.Artifacts = overBy(n.Artifacts, from.Artifacts, func(a *Artifact) string { return a.Name })
	}
}

func (r *reader) copyRelationships(s *ServiceTemplate) {
	for _, t := range s.Relationships {
		if t.Copy == nil {
			continue
		}
		from := s.Relationship(t.Copy.Name)
		switch {
		case from == nil:
			var known []string
			for _, o := range s.Relationships {
				known = append(known, o.Name)
			}
			r.findings.Errorf(t.Copy.Pos, "unknown-relationship", suggest(t.Copy.Name, known),
				"there is no relationship template '%s' to copy", t.Copy.Name)
			continue
		case from.Copy != nil:
			r.findings.Errorf(t.Copy.Pos, "copy-of-copy", "copy "+from.Copy.Name+", or write it out",
				"'%s' is a copy itself", from.Name)
			continue
		}
		if t.Type == "" {
			t.Type, t.TypePos = from.Type, t.Copy.Pos
		}
		t.Properties, t.Attributes = over(t.Properties, from.Properties), over(t.Attributes, from.Attributes)
		t.Interfaces = overBy(t.Interfaces, from.Interfaces, func(i *Interface) string { return i.Name })
	}
}

// over lists what is given, and of what is copied that which is not given.
func over(given, copied []*Assignment) []*Assignment {
	return overBy(given, copied, func(a *Assignment) string { return a.Name })
}

func overBy[T any](given, copied []T, name func(T) string) []T {
	out := slices.Clone(given)
	for _, c := range copied {
		if !slices.ContainsFunc(given, func(g T) bool { return name(g) == name(c) }) {
			out = append(out, c)
		}
	}
	return out
}

func (r *reader) policies(n *yaml.Node) []*Policy {
	var out []*Policy
	for _, f := range r.list(n, "policies", "write - name: { type: …, targets: [ … ] }") {
		kw := r.fields(f.value, secPolicy)
		p := &Policy{Pos: r.pos(f.key), Name: f.key.Value, Type: r.text(kw.at("type"))}
		if p.TypePos = p.Pos; kw.at("type") != nil {
			p.TypePos = r.pos(deref(kw.at("type")))
		}
		p.Def = r.lib.Policies[p.Type]
		p.Targets = r.names(kw.at("targets"), "targets")
		p.Properties = r.assignments(kw.at("properties"), "properties")
		out = append(out, p)
	}
	return out
}

func (r *reader) substitution(f field) *Substitution {
	kw := r.fields(f.value, secSubstitution)
	s := &Substitution{Pos: r.pos(f.key)}
	if t := kw.at("node_type"); t != nil {
		s.TypeName = r.text(t)
		s.Pos = r.pos(deref(t))
		s.Type = r.lib.Nodes[s.TypeName]
	} else if kw != nil {
		r.findings.Errorf(s.Pos, "missing-type", "add node_type: with the type of the nodes it fills",
			"the substitution does not say which node type it fills")
	}
	if x := kw.at("substitution_filter"); x != nil {
		s.Filter = r.expr(x)
	}
	s.Properties, s.Attributes = r.mappings(kw.at("properties"), "properties"), r.mappings(kw.at("attributes"),
		"attributes")
	s.Capabilities, s.Requirements = r.mappings(kw.at("capabilities"),
		"capabilities"), r.mappings(kw.at("requirements"), "requirements")
	return s
}

// mappings reads name: name, or name: [ name, part ], as a map or as a list of
// maps of one name.
func (r *reader) mappings(n *yaml.Node, what string) []Mapping {
	var entries []field
	if m := deref(n); m != nil && m.Kind == yaml.SequenceNode {
		entries = r.list(n, what, "write - name: [ node, part ]")
	} else {
		entries = r.entries(n, what)
	}
	var out []Mapping
	for _, f := range entries {
		v := deref(f.value)
		m := Mapping{Pos: r.pos(f.key), Name: f.key.Value, ToPos: r.pos(v)}
		if v.Kind == yaml.SequenceNode {
			if len(v.Content) < 1 || len(v.Content) > 2 {
				r.findings.Errorf(r.pos(v), "wrong-arguments", "write [ node, part ]",
					"a mapping is a name, or a node and a part of it")
				continue
			}
			if len(v.Content) == 2 {
				m.Part = Key{r.pos(v.Content[1]), r.text(v.Content[1])}
			}
			v = v.Content[0]
		}
		m.To = r.text(v)
		out = append(out, m)
	}
	return out
}

// artifact reads a file's name, or a map that says more.
func (r *reader) artifact(f field, name string) *Artifact {
	a := &Artifact{Pos: r.pos(f.key), Name: name}
	v := deref(f.value)
	if v.Kind == yaml.ScalarNode {
		a.File, a.FilePos = v.Value, r.pos(v)
	} else {
		kw := r.fields(v, secArtifact)
		a.Type, a.TypePos, a.Description = r.text(kw.at("type")), a.Pos, r.text(kw.at("description"))
		if t := kw.at("type"); t != nil {
			a.TypePos = r.pos(deref(t))
		}
		a.File, a.FilePos = r.text(kw.at("file")), a.Pos
		if x := kw.at("file"); x != nil {
			a.FilePos = r.pos(deref(x))
		} else if kw != nil {
			r.findings.Errorf(a.Pos, "missing-file", "add file: with its path",
				"the artifact '%s' does not say which file it is", name)
		}
		if repo := kw.at("repository"); repo != nil {
			a.Repository = &Key{r.pos(deref(repo)), r.text(repo)}
		}
		r.metadata(kw.at("metadata"))
		r.text(kw.at("artifact_version"))
		a.Checksum, a.Algorithm = r.text(kw.at("checksum")), r.text(kw.at("checksum_algorithm"))
		a.Properties = r.assignments(kw.at("properties"), "properties")
	}
	if a.File != "" {
		r.open(a)
	}
	for _, p := range a.Properties {
		if p.Name == "adapter" && p.Value.Kind == LiteralExpr {
			a.Adapter = &Artifact{Pos: p.Value.Pos, Name: "adapter", File: Show(p.Value.Value), FilePos: p.Value.Pos}
			r.open(a.Adapter)
		}
	}
	return a
}

// open reads the file of an artifact, and holds it against its checksum.
func (r *reader) open(a *Artifact) {
	path, at := a.File, a.FilePos
	if path == "" {
		path, at = a.Name, a.Pos
	}
	a.Content = r.readOther(path, at, a.Repository, "no-such-file")
	if a.Checksum == "" || a.Content == nil {
		return
	}
	switch strings.ToLower(strings.ReplaceAll(a.Algorithm, "-", "")) {
	case "", "sha256":
		if sum := sha256.Sum256(a.Content); !strings.EqualFold(a.Checksum, hex.EncodeToString(sum[:])) {
			r.findings.Errorf(at, "wrong-checksum", "its sha256 is "+hex.EncodeToString(sum[:]),
				"%s is not the file that the checksum stands for", path)
		}
	default:
		r.findings.Errorf(at, "not-supported-yet", "use sha256", "the checksum algorithm '%s' is not supported yet",
			a.Algorithm)
	}
}

// Text is what a property gets from the file: the text itself, or a digest of
// it with the file's name.
func (a *Artifact) Text(how string) Value {
	if a.Content == nil {
		return Unknown{Bad: true}
	}
	if how == "text" {
		return String(a.Content)
	}
	sum := sha256.Sum256(a.Content)
	return String(a.File + " sha256:" + hex.EncodeToString(sum[:8]))
}
