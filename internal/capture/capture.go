// Package capture writes a template of what is there in the cloud already, so that a stack can
// adopt it: names in place of ids, inputs for what differs from copy to copy, files for long
// texts.
package capture

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Project is what was written.
type Project struct {
	Template  string
	StackFile string
	Files     map[string]string // by path, beside the template
	Nodes     map[string]string // the node of each id
	Notes     []string          // what somebody should look at
}

// writer writes a template.
type writer struct {
	lib      *tosca.Library
	list     []*stack.Live
	of       map[string]*stack.Live // by id
	nodes    map[string]string      // by id
	used     map[string]bool        // names of nodes and inputs
	inputs   []input
	selected []string // lines of nodes that are found
	outside  map[string]string
	common   map[string]string // tags that all have
	files    map[string]string
	notes    []string
	beside   []*stack.Live // what stands in the template already
	inline   bool          // nothing is written but nodes
	secrets  bool          // the node that is written has a secret
}

type input struct {
	name, typ string
	note      string
	secret    bool
	value     string // in the stack file
}

// longText is from how many characters or lines on a text gets a file of its own.
const longText, longLines = 160, 4

// Write writes a template and a stack file of some resources of a target. There is what else is
// there, by id. Files are named by the name of the stack.
func Write(lib *tosca.Library, name string, target stack.Target, list []*stack.Live, there func(id string) *stack.Live) *Project {
	w := &writer{lib: lib, of: map[string]*stack.Live{}, nodes: map[string]string{}, used: map[string]bool{}, outside: map[string]string{},
		files: map[string]string{}}
	for _, l := range list {
		if lib.Nodes[l.Type] == nil {
			w.notes = append(w.notes, fmt.Sprintf("%s is a %s, a type that is not known, and is left out", l.ID, l.Type))
			continue
		}
		if byProgram(lib.Nodes[l.Type]) {
			w.notes = append(w.notes, fmt.Sprintf("%s is a %s, which programs make, and is left out: write a node of that type, and adopt it", l.ID, l.Shown()))
			continue
		}
		w.of[l.ID] = l
		w.list = append(w.list, l)
	}
	w.order()
	for _, l := range w.list {
		w.nodes[l.ID] = w.name(l)
	}
	w.common = commonTags(w.list)
	var nodes []string
	for _, l := range w.list {
		nodes = append(nodes, w.node(l, there))
	}
	var b strings.Builder
	b.WriteString("tosca_definitions_version: tosca_2_0\n")
	fmt.Fprintf(&b, "description: \"What was there in %s, captured\"\n", target)
	b.WriteString("imports:\n")
	for _, profile := range tosca.Shipped {
		if profile == tosca.Shipped[0] || slices.ContainsFunc(w.list, func(l *stack.Live) bool { return lib.Nodes[l.Type].ShippedIn() == profile }) {
			fmt.Fprintf(&b, "  - { profile: %s }\n", profile)
		}
	}
	b.WriteString("\nservice_template:\n")
	if len(w.inputs) > 0 {
		b.WriteString("  inputs:\n")
		for _, in := range w.inputs {
			fmt.Fprintf(&b, "    %s: { type: %s, description: %s }\n", in.name, in.typ, stack.LiteralText(nil, tosca.String(in.note)))
		}
		b.WriteString("\n")
	}
	b.WriteString("  node_templates:\n")
	b.WriteString(strings.Join(append(w.selected, nodes...), "\n"))
	out := &Project{Template: b.String(), Files: w.files, Nodes: w.nodes, Notes: w.notes}
	out.StackFile = w.stackFile(name, target)
	return out
}

// Node is a node template for something that is there.
type Node struct {
	Name string
	Text string // its lines, the first one not indented
	// Selects are nodes that find what it rests on.
	Selects []string
	Secret  bool // it has a secret, which the cloud does not tell; so there is no text
}

// Nodes writes nodes for resources that are to stand in a template beside others. known are
// those others, by their nodes; used are names that are not free; tags are those that all have
// anyway. There is what else is there, by id.
func Nodes(lib *tosca.Library, known map[string]*stack.Live, used []string, tags map[string]string, list []*stack.Live,
	there func(id string) *stack.Live) map[string]Node {
	w := &writer{lib: lib, of: map[string]*stack.Live{}, nodes: map[string]string{}, used: map[string]bool{}, outside: map[string]string{},
		common: tags, inline: true}
	for _, name := range used {
		w.used[name] = true
	}
	for _, name := range sorted(known) {
		w.nodes[known[name].ID] = name
		w.beside = append(w.beside, known[name])
	}
	for _, l := range list {
		if lib.Nodes[l.Type] != nil {
			w.of[l.ID] = l
			w.list = append(w.list, l)
		}
	}
	w.order()
	for _, l := range w.list {
		w.nodes[l.ID] = w.name(l)
	}
	out := map[string]Node{}
	for _, l := range w.list {
		w.selected, w.secrets = nil, false
		n := Node{Name: w.nodes[l.ID], Text: outdented(w.node(l, there)), Secret: w.secrets}
		for _, s := range w.selected {
			n.Selects = append(n.Selects, outdented(s))
		}
		out[l.ID] = n
	}
	return out
}

// outdented is a node as text without the indentation of its first line.
func outdented(text string) string {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	in := len(lines[0]) - len(strings.TrimLeft(lines[0], " "))
	for i, l := range lines {
		lines[i] = l[min(in, len(l)):]
	}
	return strings.Join(lines, "\n")
}

func (w *writer) stackFile(name string, target stack.Target) string {
	var b strings.Builder
	fmt.Fprintf(&b, "stack: %s\ntemplate: %s.yaml\ntarget: %s\n", name, name, target)
	if len(w.common) > 0 {
		b.WriteString("tags:\n")
		for _, k := range sorted(w.common) {
			fmt.Fprintf(&b, "  %s: %s\n", key(k), text(w.common[k]))
		}
	}
	if len(w.inputs) > 0 {
		b.WriteString("inputs:\n")
		for _, in := range w.inputs {
			if in.secret {
				fmt.Fprintf(&b, "  %s: { from_file: secrets/%s }\n", in.name, in.name)
				continue
			}
			fmt.Fprintf(&b, "  %s: %s\n", in.name, in.value)
		}
	}
	b.WriteString("adopt: # what is there already, by the nodes that stand for it\n")
	for _, l := range w.list {
		fmt.Fprintf(&b, "  %s: %s\n", w.nodes[l.ID], text(l.ID))
	}
	return b.String()
}

// order has what something rests on before it, and otherwise by type and id.
func (w *writer) order() {
	slices.SortFunc(w.list, func(a, b *stack.Live) int {
		return cmp.Or(strings.Compare(a.Type, b.Type), strings.Compare(label(a), label(b)), strings.Compare(a.ID, b.ID))
	})
	var out []*stack.Live
	done := map[string]bool{}
	var add func(l *stack.Live)
	add = func(l *stack.Live) {
		if l == nil || done[l.ID] {
			return
		}
		done[l.ID] = true
		for _, q := range sorted(l.Links) {
			for _, id := range l.Links[q] {
				add(w.of[id])
			}
		}
		out = append(out, l)
	}
	for _, l := range w.list {
		add(l)
	}
	w.list = out
}

var unfit = regexp.MustCompile(`[^a-z0-9_]+`)

// label is what a resource is called by those who made it; "" is nothing.
func label(l *stack.Live) string {
	for _, v := range []string{l.Tags["node"], tosca.InClear(l.Properties["name"]), l.Tags["name"], tosca.InClear(l.Properties["label"])} {
		v = strings.Trim(unfit.ReplaceAllString(strings.ToLower(v), "_"), "_")
		if v != "" && len(v) <= 40 && v[0] >= 'a' && v[0] <= 'z' {
			return v
		}
	}
	return ""
}

func (w *writer) name(l *stack.Live) string {
	name := cmp.Or(label(l), strings.ToLower(l.Type))
	return w.free(name)
}

// free is a name that is not used yet.
func (w *writer) free(name string) string {
	is := name
	for i := 2; w.used[is]; i++ {
		is = fmt.Sprintf("%s_%d", name, i)
	}
	w.used[is] = true
	return is
}

// commonTags are those that all have alike.
func commonTags(list []*stack.Live) map[string]string {
	out := map[string]string{}
	for i, l := range list {
		for k, v := range l.Tags {
			if i == 0 && !stack.OwnTag(k) {
				out[k] = v
			}
		}
		for k, v := range out {
			if is, has := l.Tags[k]; !has || is != v {
				delete(out, k)
			}
		}
	}
	if len(list) < 2 {
		return nil
	}
	return out
}

func (w *writer) node(l *stack.Live, there func(id string) *stack.Live) string {
	t, name := w.lib.Nodes[l.Type], w.nodes[l.ID]
	var b strings.Builder
	fmt.Fprintf(&b, "    %s:\n      type: %s\n", name, l.Type)
	var props, artifacts []string
	faces := ""
	defs := slices.Clone(t.Properties)
	slices.SortStableFunc(defs, func(a, b *tosca.Property) int { // tags are the least of it
		return strings.Compare(fmt.Sprint(a.Name == "tags"), fmt.Sprint(b.Name == "tags"))
	})
	for _, d := range defs {
		v := l.Properties[d.Name]
		if d.Name == "tags" {
			own := tosca.Map{}
			for k, tag := range l.Tags {
				if is, all := w.common[k]; !stack.OwnTag(k) && !(all && is == tag) {
					own[k] = tosca.String(tag)
				}
			}
			if v = nil; len(own) > 0 {
				v = own
			}
		}
		if v == nil {
			continue
		}
		if d.Metadata["from_interface"] != "" {
			faces += w.interfaces(l, name, d)
			continue
		}
		if usual, is := d.Constant(); is && stack.Same(usual, v) {
			continue
		}
		if d.Metadata["from_artifact"] == "text" && long(v) && !w.inline {
			artifacts = append(artifacts, fmt.Sprintf("%s: { type: File, file: %s }", d.Name, w.file(name, d.Name, v)))
			continue
		}
		props = append(props, d.Name+": "+w.value(l, name, d, v))
	}
	if len(props) > 0 {
		b.WriteString("      properties:\n        " + strings.Join(props, "\n        ") + "\n")
	}
	var reqs []string
	for _, q := range t.Requirements {
		for _, id := range l.Links[q.Name] {
			to := w.nodes[id]
			if to == "" {
				to = w.found(id, there(id))
			}
			reqs = append(reqs, fmt.Sprintf("- %s: %s", key(q.Name), to))
		}
	}
	if len(reqs) > 0 {
		b.WriteString("      requirements:\n        " + strings.Join(reqs, "\n        ") + "\n")
	}
	b.WriteString(faces)
	if len(artifacts) > 0 {
		b.WriteString("      artifacts:\n        " + strings.Join(artifacts, "\n        ") + "\n")
	}
	return b.String()
}

func long(v tosca.Value) bool {
	s, ok := v.(tosca.String)
	return ok && (len(s) > longText || strings.Count(string(s), "\n") >= longLines)
}

// file writes a long text into a file of its own.
func (w *writer) file(node, property string, v tosca.Value) string {
	path := "files/" + node + "-" + property
	w.files[path] = tosca.InClear(v)
	return path
}

// found is a node that finds what is there and is not captured.
func (w *writer) found(id string, l *stack.Live) string {
	if name := w.outside[id]; name != "" {
		return name
	}
	typ, base := "", "outside"
	if l != nil {
		typ, base = l.Type, cmp.Or(label(l), strings.ToLower(l.Type))
	}
	name := w.free(base)
	w.outside[id] = name
	if typ == "" {
		w.notes = append(w.notes, fmt.Sprintf("%s, which something rests on, is not in the target: write what it is", id))
		typ = "Network"
	}
	const selects = "    %s:\n      type: %s\n      directives: [ select ]\n      node_filter: { $equal: [ { $get_attribute: [ SELF, id ] }, %s ] }\n"
	if w.inline {
		w.selected = append(w.selected, fmt.Sprintf(selects, name, typ, text(id)))
		return name
	}
	in := w.free(name + "_id")
	w.inputs = append(w.inputs, input{name: in, typ: "string", note: "The id of the " + typ + " that is there, outside of this stack", value: text(id)})
	w.selected = append(w.selected, fmt.Sprintf(selects, name, typ, "{ $get_input: "+in+" }"))
	return name
}

// value is a property as it is written: an input where it differs from copy to copy or is
// secret, an attribute of another node where it is that, else the value itself.
func (w *writer) value(l *stack.Live, node string, d *tosca.Property, v tosca.Value) string {
	switch {
	case d.Type != nil && d.Type.IsA("Secret") || tosca.HasSecret(v):
		return w.secret(node + "_" + d.Name)
	case d.Metadata["cloud_name"] == "true" && !w.inline:
		in := w.free(node + "_" + d.Name)
		w.inputs = append(w.inputs, input{name: in, typ: "string", note: "Unique in the whole cloud", value: stack.PlainText(nil, v)})
		return "{ $get_input: " + in + " }"
	}
	return w.literal(l, d.Type, v)
}

// fingerprint is what the cloud shows in the place of a secret begins with.
const fingerprint = "fingerprint:"

// secret is an input for what the cloud does not tell.
func (w *writer) secret(name string) string {
	w.secrets = true
	in := w.free(name)
	w.inputs = append(w.inputs, input{name: in, typ: "Secret", note: "The cloud does not tell it", secret: true})
	w.notes = append(w.notes, fmt.Sprintf("write %s into the file secrets/%s: the cloud does not tell it, and deploying sets it", in, in))
	return "{ $get_input: " + in + " }"
}

// literal is a value with the attributes of other nodes in the place of what they are.
func (w *writer) literal(l *stack.Live, t *tosca.Type, v tosca.Value) string {
	switch v := v.(type) {
	case tosca.String:
		if strings.HasPrefix(string(v), fingerprint) || strings.Contains(string(v), tosca.SecretText) {
			return w.secret(w.nodes[l.ID] + "_secret")
		}
		if ref := w.reference(l, string(v)); ref != "" {
			return ref
		}
	case tosca.List:
		var parts []string
		for _, e := range v {
			parts = append(parts, w.literal(l, t.In(""), e))
		}
		if len(parts) == 0 {
			return "[]"
		}
		return "[ " + strings.Join(parts, ", ") + " ]"
	case tosca.Map:
		var parts []string
		for _, k := range stack.Stated(t, v) {
			parts = append(parts, key(tosca.KeyText(k))+": "+w.literal(l, t.In(k), v[k]))
		}
		if len(parts) == 0 {
			return "{}"
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	}
	return stack.LiteralText(t, v)
}

// shortest is how long a text has to be to be taken for the attribute of another node.
const shortest = 8

func (w *writer) reference(l *stack.Live, s string) string {
	if len(s) < shortest {
		return ""
	}
	for _, o := range slices.Concat(w.beside, w.list) {
		if o == l { // those behind it may rest on it
			break
		}
		for _, k := range sorted(o.Attributes) {
			if v, ok := o.Attributes[k].(tosca.String); ok && string(v) == s {
				return fmt.Sprintf("{ $get_attribute: [ %s, %s ] }", w.nodes[o.ID], k)
			}
		}
	}
	return ""
}

func text(s string) string { return stack.LiteralText(nil, tosca.String(s)) }

// key is a key as it has to stand in a text.
func key(name string) string {
	switch strings.ToLower(name) {
	case "on", "off", "yes", "no", "true", "false", "null", "y", "n":
		return `"` + name + `"`
	}
	return text(name)
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
