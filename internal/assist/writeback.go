package assist

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// WriteBack is a value that the files of a stack are to say of a resource: that of a
// property, or of a requirement the nodes that it rests on.
type WriteBack struct {
	Resource string
	Property string
	Link     bool
	// Want is the value, of a requirement a list of names; nil is that it is taken away.
	Want tosca.Value
	// Alone says that it is written into the property itself, also where that gets it from an input that others have too.
	Alone bool
}

// back writes values into the places that they come from.
type back struct {
	*Work
	wanted    *stack.Wanted
	file      *tosca.File // the template
	path      string      // of it
	stackFile string
	stackTags tosca.Map
	edits     map[string][]Edit
	inputs    map[string]tosca.Value // that are written already
}

// WriteBack lists, by path, the edits that let the files say some values, each at the very
// place that the value comes from: the line of the property, the value of an input in the
// stack file, or its default. What cannot be written has an error of its own, in the order
// of the values; it says which place could hold it. wanted and template are what the files
// say now.
func (w *Work) WriteBack(template *tosca.File, path, stackFile string, tags tosca.Map, wanted *stack.Wanted, values []WriteBack) (map[string][]Edit, []error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	b := &back{Work: w, wanted: wanted, file: template, path: path, stackFile: stackFile, stackTags: tags, edits: map[string][]Edit{},
		inputs: map[string]tosca.Value{}}
	failed := make([]error, len(values))
	for i, v := range values {
		before := map[string]int{}
		for path, list := range b.edits {
			before[path] = len(list)
		}
		if failed[i] = b.write(v, values); failed[i] != nil { // nothing of it is written
			for path := range b.edits {
				b.edits[path] = b.edits[path][:before[path]]
			}
		}
	}
	for path, list := range b.edits {
		if len(list) == 0 {
			delete(b.edits, path)
		}
	}
	return b.edits, failed
}

// WithoutNode takes a node out of a template whose resource is not there any more. The error
// says why it cannot be taken out.
func (w *Work) WithoutNode(path, name string) (Edit, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return Edit{}, fmt.Errorf("%s cannot be read", path)
	}
	n := d.outline.Symbol("node_templates", name)
	if n == nil || !n.block {
		return Edit{}, errYours
	}
	if n.Count {
		return Edit{}, fmt.Errorf("%s is one of several: lower their count", name)
	}
	for _, at := range w.references(path, n.At) {
		if at.Path != d.path || at.Range.From != n.At {
			return Edit{}, fmt.Errorf("%s:%d speaks of it still: take that out first", filepath.Base(at.Path), at.Range.From.Line+1)
		}
	}
	e, ok := d.withoutEntry(n.At)
	if !ok {
		return Edit{}, errYours
	}
	if len(d.outline.Of("node_templates")) == 1 { // a template without nodes says so
		for at := e.From.Line; at < n.At.Line; at++ {
			if l := parseLine(d.text.Lines[at]); l.key == "node_templates" {
				e.New = d.text.Lines[at][:l.colon] + ": {}"
				if e.From.Column > 0 { // it begins behind the line before
					e.New = "\n" + e.New
				} else {
					e.New += "\n"
				}
			}
		}
	}
	return e, nil
}

// WithNode puts a node behind those of a template, with a blank line before it where they have
// one. Its first line is not indented.
func (w *Work) WithNode(path, node string) (Edit, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return Edit{}, false
	}
	nodes := d.outline.Of("node_templates")
	if k := len(nodes); k > 1 && strings.TrimSpace(d.text.Line(nodes[k-1].At.Line-1)) == "" {
		node = "\n" + node
	}
	return d.addTo("service_template", "node_templates", node)
}

// RenameNode gives a node of a template another name, everywhere.
func (w *Work) RenameNode(path, name, to string) (map[string][]Edit, error) {
	w.mu.Lock()
	var n *Symbol
	d := w.doc(path)
	if d != nil {
		n = d.outline.Symbol("node_templates", name)
	}
	w.mu.Unlock()
	if n == nil {
		return nil, errYours
	}
	return w.Rename(path, n.At, to)
}

// WithoutEntry takes out an entry of a file, whose key stands at a place.
func (w *Work) WithoutEntry(path string, at tosca.Pos) (Edit, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.doc(path)
	if d == nil {
		return Edit{}, false
	}
	return d.withoutEntry(w.place(d, at))
}

var errYours = errors.New("it is written in a way that only you should change")

func (b *back) write(v WriteBack, all []WriteBack) error {
	res := b.wanted.Resource(v.Resource)
	if res == nil {
		return fmt.Errorf("%s is not in the template any more", v.Resource)
	}
	n := res.Template()
	if absolute(n.Pos.File) != absolute(b.path) {
		return fmt.Errorf("it comes from %s, which fills a node; write it there", n.Pos.Short())
	}
	if res.Index >= 0 { // the others are written by the same line
		for _, other := range b.wanted.Resources {
			if other.Node != res.Node || other.Name == res.Name {
				continue
			}
			alike := slices.ContainsFunc(all, func(o WriteBack) bool {
				return o.Resource == other.Name && o.Property == v.Property && stack.Same(o.Want, v.Want)
			})
			if !alike {
				return fmt.Errorf("%s stands for %s too, which is not so: only all of them alike can be written", n.Pos.Short(), other.Name)
			}
			if stack.CompareNames(other.Name, res.Name) < 0 {
				return nil // that one writes it
			}
		}
	}
	d := b.doc(n.Pos.File)
	if d == nil {
		return fmt.Errorf("%s cannot be read", n.Pos.File)
	}
	if v.Link {
		return b.links(d, n, v)
	}
	if tosca.HasSecret(v.Want) {
		return errors.New("it is a secret: write it where that comes from")
	}
	var t *tosca.Type
	if def := res.Type.Property(v.Property); def != nil {
		t = def.Type
	}
	i := slices.IndexFunc(n.Properties, func(a *tosca.Assignment) bool { return a.Name == v.Property })
	now, want := res.Value(v.Property), v.Want
	if v.Property == "tags" {
		if now, want = b.ownTags(n, i, want); want == nil && i < 0 {
			return nil
		}
	}
	switch {
	case i < 0 && want != nil && stack.Same(now, want): // its type says so
		return nil
	case i < 0 && want == nil:
		return fmt.Errorf("%s has a default for it, which a template cannot take away", n.Type)
	case i < 0:
		var last tosca.Pos
		if k := len(n.Properties); k > 0 {
			last = n.Properties[k-1].Pos
		}
		return b.insert(d, n, last, []string{v.Property + ": " + stack.LiteralText(t, want)}, nil)
	case want == nil:
		e, ok := d.withoutEntry(b.place(d, n.Properties[i].Pos))
		return b.edit(d, e, ok)
	}
	if x := n.Properties[i].Value; v.Alone && x.Kind == tosca.CallExpr {
		at := b.place(d, x.Pos) // of the function, or of its bracket
		line := d.text.Line(at.Line)
		at.Column = strings.LastIndexByte(line[:min(at.Column+1, len(line))], '{')
		if at.Column < 0 {
			return errYours
		}
		end, ok := d.flowEnd(at)
		return b.edit(d, Edit{Range{at, end}, stack.LiteralText(t, want)}, ok && end.Line == at.Line)
	}
	return b.fit(n.Properties[i].Value, t, now, want)
}

// ownTags are the tags of a node beside those that the stack file puts on every resource: as
// they are written, and as they are to be.
func (b *back) ownTags(n *tosca.NodeTemplate, i int, want tosca.Value) (tosca.Value, tosca.Value) {
	now, is := tosca.Map{}, tosca.Map{}
	have := map[string]bool{}
	if i >= 0 {
		for _, k := range n.Properties[i].Value.Keys {
			have[k.Name] = true
		}
	}
	for k, v := range stack.TagMap(want) {
		if have[k] || !stack.Same(b.stackTags[k], v) {
			is[k] = v
		}
	}
	for _, res := range b.wanted.Resources {
		if res.Template() == n {
			for k, v := range stack.TagMap(res.Value("tags")) {
				if have[k] {
					now[k] = v
				}
			}
		}
	}
	if len(is) == 0 {
		return now, nil
	}
	return now, is
}

func (b *back) edit(d *doc, e Edit, ok bool) error {
	if !ok {
		return errYours
	}
	b.edits[d.path] = append(b.edits[d.path], e)
	return nil
}

// insert writes something behind what of its kind the node has already.
func (b *back) insert(d *doc, n *tosca.NodeTemplate, last tosca.Pos, props, reqs []string) error {
	if last.Line > 0 {
		if e, ok := d.behind(b.place(d, last), strings.Join(append(props, reqs...), "")); ok {
			return b.edit(d, e, true)
		}
	}
	symbol := d.outline.Symbol("node_templates", n.Name)
	if symbol == nil {
		return errYours
	}
	body := bodyOf(d.text, symbol)
	e, ok := body.insert(props, reqs)
	return b.edit(d, e, ok)
}

// links lets a node rest on others by a requirement.
func (b *back) links(d *doc, n *tosca.NodeTemplate, v WriteBack) error {
	var want []string
	switch x := v.Want.(type) {
	case tosca.String:
		want = []string{string(x)}
	case tosca.List:
		for _, e := range x {
			want = append(want, tosca.Show(e))
		}
	}
	for _, name := range want {
		res := b.wanted.Resource(name)
		if res == nil || res.Name != res.Node {
			return fmt.Errorf("%s is no node of the template: adopt it, or select it by a node", name)
		}
	}
	var have []*tosca.Requirement
	var last tosca.Pos
	for _, q := range n.Requirements {
		if q.Name == v.Property {
			have = append(have, q)
		}
		if q.Name == v.Property || len(have) == 0 {
			last = q.Pos
		}
	}
	for i := range max(len(want), len(have)) {
		switch {
		case i >= len(want):
			e, ok := d.withoutItem(b.place(d, have[i].Pos))
			if err := b.edit(d, e, ok); err != nil {
				return err
			}
		case i >= len(have):
			if err := b.insert(d, n, last, nil, []string{v.Property + ": " + want[i]}); err != nil {
				return err
			}
		case have[i].Target == want[i]:
		default:
			from := b.place(d, have[i].TargetPos)
			to := Place{from.Line, from.Column + len(have[i].Target)}
			if have[i].TargetPos.Line == 0 || d.text.Slice(Range{from, to}) != have[i].Target {
				return errYours
			}
			if err := b.edit(d, Edit{Range{from, to}, want[i]}, true); err != nil {
				return err
			}
		}
	}
	return nil
}

// fit lets an expression yield another value, by as little as that takes.
func (b *back) fit(x *tosca.Expr, t *tosca.Type, now, want tosca.Value) error {
	if stack.Same(now, want) {
		return nil
	}
	d := b.doc(x.Pos.File)
	if d == nil {
		return fmt.Errorf("it comes from %s, which cannot be written", x.Pos.Short())
	}
	at := b.place(d, x.Pos)
	line := d.text.Line(at.Line)
	if at.Column < len(line) && (line[at.Column] == '[' || line[at.Column] == '{') && x.Kind != tosca.CallExpr {
		end, ok := d.flowEnd(at)
		text, err := b.render(d, x, t, now, want)
		if err != nil {
			return err
		}
		return b.edit(d, Edit{Range{at, end}, text}, ok && end.Line == at.Line)
	}
	switch x.Kind {
	case tosca.CallExpr:
		return b.call(x, now, want)
	case tosca.ListExpr:
		l, fits := want.(tosca.List)
		is, known := now.(tosca.List)
		if !fits || !known || len(is) != len(x.Args) || len(l) == 0 {
			return errYours
		}
		return b.list(d, x, t, is, l)
	case tosca.MapExpr:
		m, fits := want.(tosca.Map)
		is, known := now.(tosca.Map)
		if !fits || !known || len(m) == 0 {
			return errYours
		}
		return b.entries(d, x, t, is, m)
	}
	r, ok := b.literal(d, x)
	return b.edit(d, Edit{r, stack.LiteralText(t, want)}, ok)
}

// literal is where a literal stands, with its quotes, where it stands on one line.
func (b *back) literal(d *doc, x *tosca.Expr) (Range, bool) {
	at := b.place(d, x.Pos)
	line := d.text.Line(at.Line)
	if at.Column >= len(line) {
		return Range{}, false
	}
	end := at.Column
	switch q := line[at.Column]; q {
	case '|', '>':
		return Range{}, false
	case '"', '\'':
		for end++; end < len(line) && line[end] != q; end++ {
			if line[end] == '\\' && q == '"' {
				end++
			}
		}
		if end++; end > len(line) || end < len(line) && line[end] == q {
			return Range{}, false
		}
	default:
		end = at.Column + len(x.Raw)
		if end > len(line) || line[at.Column:end] != x.Raw {
			return Range{}, false
		}
	}
	return Range{at, Place{at.Line, end}}, true
}

// call lets what a function yields be another value. That of an input is written where it
// comes from; no other function can hold one.
func (b *back) call(x *tosca.Expr, now, want tosca.Value) error {
	if x.Name != "get_input" || len(x.Args) != 1 || x.Args[0].Kind != tosca.LiteralExpr {
		return fmt.Errorf("it comes from %s (%s), which cannot hold it; the property itself could, in the place of that", x.Text(), x.Pos.Short())
	}
	name := tosca.Show(x.Args[0].Value)
	if is, written := b.inputs[name]; written {
		if stack.Same(is, want) {
			return nil
		}
		return fmt.Errorf("it comes from the input %s, which is to be %s elsewhere", name, tosca.Show(is))
	}
	i := slices.IndexFunc(b.wanted.Inputs, func(in stack.Input) bool { return in.Name == name })
	if i < 0 {
		return fmt.Errorf("it comes from %s (%s), which has no value", x.Text(), x.Pos.Short())
	}
	in := b.wanted.Inputs[i]
	var err error
	switch def := b.file.Service.Input(name); {
	case tosca.HasSecret(in.Value):
		return fmt.Errorf("it comes from the input %s, a secret: write it where that comes from", name)
	case in.Origin.Kind == stack.OriginStackFile && in.Origin.Via == "":
		var edits []Edit
		if edits, err = b.setInput(b.stackFile, name, stack.PlainText(nil, want)); err == nil {
			path := absolute(b.stackFile)
			b.edits[path] = append(b.edits[path], edits...)
		}
	case in.Origin.Kind == stack.OriginDefault && def != nil && def.Default != nil:
		err = b.fit(def.Default, def.Type, in.Value, want)
	default:
		return fmt.Errorf("it comes from the input %s (%s): write it there", name, in.Origin)
	}
	if err == nil {
		b.inputs[name] = want
	}
	return err
}

// list lets a list that is written item by item have other elements. Those that stay keep
// their lines.
func (b *back) list(d *doc, x *tosca.Expr, t *tosca.Type, now, want tosca.List) error {
	last := -1 // the item behind which what comes is put
	for _, p := range pairs(now, want) {
		switch {
		case p.is < 0:
			text := stack.LiteralText(t.In(""), want[p.wanted])
			dash := parseLine(d.text.Line(x.Pos.Line - 1)).dashes
			if len(dash) == 0 {
				return errYours
			}
			in := strings.Repeat(" ", dash[len(dash)-1]) + "- "
			if len(dash) > 1 { // a list in a list: its first line has the other's dash too
				in = strings.Repeat(" ", dash[len(dash)-1]) + "- "
			}
			if last < 0 {
				at := Place{x.Pos.Line - 1, 0}
				if err := b.edit(d, Edit{Range{at, at}, in + text + "\n"}, len(dash) == 1); err != nil {
					return err
				}
				continue
			}
			end := d.itemEnd(b.place(d, x.Args[last].Pos))
			if err := b.edit(d, lineAfter(end-1, d.text, in+text), true); err != nil {
				return err
			}
		case p.wanted < 0:
			e, ok := d.withoutItem(b.itemPlace(d, x.Args[p.is]))
			if err := b.edit(d, e, ok); err != nil {
				return err
			}
		default:
			last = p.is
			if err := b.fit(x.Args[p.is], t.In(""), now[p.is], want[p.wanted]); err != nil {
				return err
			}
		}
	}
	return nil
}

// itemPlace is where an item of a list begins, behind its dash.
func (b *back) itemPlace(d *doc, x *tosca.Expr) Place { return b.place(d, x.Pos) }

// itemEnd is the line behind the item of a list that stands at a place.
func (d *doc) itemEnd(at Place) int {
	l := parseLine(d.text.Line(at.Line))
	if len(l.dashes) == 0 {
		return at.Line + 1
	}
	end := at.Line + 1
	for n := end; n < len(d.text.Lines); n++ {
		if strings.TrimSpace(d.text.Lines[n]) == "" {
			continue
		}
		if indentOf(d.text.Lines[n]) <= l.dashes[0] {
			break
		}
		end = n + 1
	}
	return end
}

// entries lets a map that is written key by key have other entries.
func (b *back) entries(d *doc, x *tosca.Expr, t *tosca.Type, now, want tosca.Map) error {
	for i, k := range x.Keys {
		v, stays := want[k.Name]
		if !stays {
			e, ok := d.withoutEntry(b.place(d, k.Pos))
			if err := b.edit(d, e, ok); err != nil {
				return err
			}
			continue
		}
		if err := b.fit(x.Args[i], t.In(k.Name), now[k.Name], v); err != nil {
			return err
		}
	}
	for _, k := range stack.Stated(t, want) {
		if slices.ContainsFunc(x.Keys, func(key tosca.Key) bool { return key.Name == k }) {
			continue
		}
		e, ok := d.behind(b.place(d, x.Keys[len(x.Keys)-1].Pos), tosca.KeyText(k)+": "+stack.LiteralText(t.In(k), want[k]))
		if err := b.edit(d, e, ok); err != nil {
			return err
		}
	}
	return nil
}

// render is an expression within brackets as it is to be written: what stays is as it was.
func (b *back) render(d *doc, x *tosca.Expr, t *tosca.Type, now, want tosca.Value) (string, error) {
	r, ok := b.extent(d, x)
	if !ok {
		return "", errYours
	}
	if stack.Same(now, want) {
		return d.text.Slice(r), nil
	}
	var parts []string
	switch w := want.(type) {
	case tosca.List:
		is, known := now.(tosca.List)
		if x.Kind != tosca.ListExpr || !known || len(is) != len(x.Args) {
			break
		}
		for _, p := range pairs(is, w) {
			switch {
			case p.wanted < 0:
			case p.is < 0:
				parts = append(parts, stack.LiteralText(t.In(""), w[p.wanted]))
			default:
				text, err := b.render(d, x.Args[p.is], t.In(""), is[p.is], w[p.wanted])
				if err != nil {
					return "", err
				}
				parts = append(parts, text)
			}
		}
		if len(parts) == 0 {
			return "[]", nil
		}
		return "[ " + strings.Join(parts, ", ") + " ]", nil
	case tosca.Map:
		is, known := now.(tosca.Map)
		if x.Kind != tosca.MapExpr || !known {
			break
		}
		for i, k := range x.Keys {
			if v, stays := w[k.Name]; stays {
				text, err := b.render(d, x.Args[i], t.In(k.Name), is[k.Name], v)
				if err != nil {
					return "", err
				}
				parts = append(parts, tosca.KeyText(k.Name)+": "+text)
			}
		}
		for _, k := range stack.Stated(t, w) {
			if !slices.ContainsFunc(x.Keys, func(key tosca.Key) bool { return key.Name == k }) {
				parts = append(parts, tosca.KeyText(k)+": "+stack.LiteralText(t.In(k), w[k]))
			}
		}
		if len(parts) == 0 {
			return "{}", nil
		}
		return "{ " + strings.Join(parts, ", ") + " }", nil
	}
	if x.Kind == tosca.CallExpr {
		return d.text.Slice(r), b.call(x, now, want)
	}
	return stack.LiteralText(t, want), nil
}

// extent is where an expression within brackets stands, where that is on one line.
func (b *back) extent(d *doc, x *tosca.Expr) (Range, bool) {
	at := b.place(d, x.Pos)
	line := d.text.Line(at.Line)
	if at.Column < len(line) && (line[at.Column] == '[' || line[at.Column] == '{') {
		end, ok := d.flowEnd(at)
		return Range{at, end}, ok && end.Line == at.Line
	}
	if x.Kind != tosca.LiteralExpr {
		return Range{}, false
	}
	return b.literal(d, x)
}

// pair is an element that is there and one that is wanted in its place; -1 is none.
type pair struct{ is, wanted int }

// pairs aligns two lists so that as many elements as can be stay as they are.
func pairs(now, want tosca.List) []pair {
	longest := make([][]int, len(now)+1)
	for i := range longest {
		longest[i] = make([]int, len(want)+1)
	}
	for i := len(now) - 1; i >= 0; i-- {
		for j := len(want) - 1; j >= 0; j-- {
			if stack.Same(now[i], want[j]) {
				longest[i][j] = longest[i+1][j+1] + 1
			} else {
				longest[i][j] = max(longest[i+1][j], longest[i][j+1])
			}
		}
	}
	var out []pair
	i, j := 0, 0
	for i < len(now) || j < len(want) {
		switch {
		case i < len(now) && j < len(want) && stack.Same(now[i], want[j]):
			out = append(out, pair{i, j})
			i, j = i+1, j+1
		case i < len(now) && j < len(want) && longest[i+1][j] == longest[i][j] && longest[i][j+1] == longest[i][j]:
			out = append(out, pair{i, j}) // one becomes the other
			i, j = i+1, j+1
		case j == len(want) || i < len(now) && longest[i+1][j] >= longest[i][j+1]:
			out = append(out, pair{i, -1})
			i++
		default:
			out = append(out, pair{-1, j})
			j++
		}
	}
	return out
}
