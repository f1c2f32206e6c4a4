package stack

import (
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"brickrow/internal/tosca"
)

// ResolvedTemplate writes the resources down as a template of their own: inputs filled
// in, counts expanded, nodes that are filled by others taken apart. What only
// the cloud can know stays an expression. Secrets stay inputs, so that none is
// written. Resolving the result gives the same resources again.
func (w *Wanted) ResolvedTemplate() ([]byte, error) {
	var findings tosca.Findings
	e := &writer{resolver: w.resolver.apart(nil, &findings), secrets: map[string]string{}}
	nodes := mapping()
	for _, res := range w.Selected {
		n := mapping("type", text(res.Own.Base().Name), "directives", flow(sequence(text("select"))))
		add(n, "node_filter", e.filter(context{scope: res.scope, self: res}, res.template.Filter))
		add(nodes, res.Name, n)
	}
	for _, res := range w.Resources {
		add(nodes, res.Name, e.resource(res))
	}
	outputs := mapping()
	for _, o := range w.Outputs {
		n := mapping()
		if o.Description != "" {
			add(n, "description", text(o.Description))
		}
		add(n, "value", e.expr(context{scope: w.root}, o.def.Value, o.Value))
		add(outputs, o.Name, n)
	}
	inputs := mapping()
	for _, name := range e.order {
		add(inputs, name, flow(mapping("type", text("Secret"), "description", text(e.secrets[name]))))
	}
	service := mapping()
	for _, part := range []struct {
		name string
		node *yaml.Node
	}{{"inputs", inputs}, {"node_templates", nodes}, {"policies", e.policies()}, {"outputs", outputs}} {
		if len(part.node.Content) > 0 {
			add(service, part.name, part.node)
		}
	}
	doc := mapping("tosca_definitions_version", text("tosca_2_0"))
	if d := w.File.Description; d != "" {
		add(doc, "description", text(d))
	}
	imports := sequence()
	for _, name := range w.profiles() {
		imports.Content = append(imports.Content, flow(mapping("profile", text(name))))
	}
	for _, file := range e.files {
		imports.Content = append(imports.Content, text(file))
	}
	add(doc, "imports", imports)
	add(doc, "service_template", service)
	if findings.HasErrors() {
		return nil, fmt.Errorf("write the resolved template: %s", findings[0])
	}
	return tosca.Emit(doc), nil
}

// profiles are the shipped profiles that the types of the resources come from.
func (w *Wanted) profiles() []string {
	used := map[string]bool{tosca.Shipped[0]: true}
	for _, res := range w.Resources {
		used[res.Type.ShippedIn()] = true
	}
	return slices.DeleteFunc(slices.Clone(tosca.Shipped), func(name string) bool { return !used[name] })
}

// writer turns values and expressions into YAML.
type writer struct {
	*resolver
	secrets map[string]string // descriptions of the inputs that hold them
	order   []string
	files   []string // that are imported, for types of one's own
	inside  bool     // a filter, in which SELF is what is looked at
}

func (e *writer) secret(name, description string) {
	if _, known := e.secrets[name]; !known {
		e.secrets[name] = description
		e.order = append(e.order, name)
	}
}

func (e *writer) resource(res *Resource) *yaml.Node {
	n := mapping("type", text(res.Type.Name))
	if d := res.template.Description; d != "" {
		add(n, "description", text(d))
	}
	props, faces := mapping(), mapping()
	for _, p := range res.Properties {
		switch face := p.Def.Metadata["from_interface"]; {
		case p.Def.Metadata["from_own"] != "":
		case face != "":
			add(faces, face, e.operations(res, p, face))
		case !tosca.Equal(p.Value, tosca.Null{}):
			add(props, p.Name, e.property(p))
		}
	}
	if e.ofOwn(res) {
		n = mapping("type", text(res.Own.Name))
		for _, p := range res.locals {
			if !tosca.Equal(p.Value, tosca.Null{}) {
				add(props, p.Name, e.property(p))
			}
		}
	}
	if len(props.Content) > 0 {
		add(n, "properties", props)
	}
	links := sequence()
	for _, l := range res.Links {
		for _, t := range l.Targets {
			links.Content = append(links.Content, mapping(l.Requirement, text(t)))
		}
	}
	if len(links.Content) > 0 {
		add(n, "requirements", links)
	}
	if len(faces.Content) > 0 {
		add(n, "interfaces", faces)
	}
	return n
}

// ofOwn reports whether programs make a resource; the file that has its type is imported then.
func (e *writer) ofOwn(res *Resource) bool {
	if fromOwn(res.Type, ownType) == nil {
		return false
	}
	if file := filepath.Base(res.Own.Pos.File); !slices.Contains(e.files, file) {
		e.files = append(e.files, file)
	}
	return true
}

// operations writes what the operations of a resource carry out: their files are those beside the
// template.
func (e *writer) operations(res *Resource, p *Property, face string) *yaml.Node {
	all := mapping()
	value, _ := p.Value.(tosca.Map)
	for _, o := range tosca.Operations(res.template, res.Own, face) {
		primary := text(o.Primary.File)
		if o.Primary.Adapter != nil {
			primary = flow(mapping("file", text(o.Primary.File), "type", text(o.Primary.Type),
				"properties", flow(mapping("adapter", text(o.Primary.Adapter.File)))))
		}
		implementation := mapping("primary", primary)
		if len(o.Dependencies) > 0 {
			files := sequence()
			for _, d := range o.Dependencies {
				files.Content = append(files.Content, text(d.File))
			}
			add(implementation, "dependencies", flow(files))
		}
		one := mapping("implementation", flow(implementation))
		inputs := mapping()
		for _, in := range slices.SortedFunc(slices.Values(o.Given), func(a, b *tosca.Assignment) int { return strings.Compare(a.Name, b.Name) }) {
			var v tosca.Value = tosca.Unknown{}
			if op, ok := value[o.Name].(tosca.Map); ok {
				if given, ok := op["inputs"].(tosca.Map); ok && given[in.Name] != nil {
					v = given[in.Name]
				}
			}
			add(inputs, in.Name, e.expr(p.at, in.Value, v))
		}
		if len(inputs.Content) > 0 {
			add(one, "inputs", inputs)
		}
		add(all, o.Name, one)
	}
	return mapping("operations", all)
}

func (e *writer) policies() *yaml.Node {
	out := sequence()
	policy := func(name string, typ *yaml.Node, has func(Policies) bool) {
		targets := sequence()
		for _, res := range e.w.Resources {
			if has(res.Policies) {
				targets.Content = append(targets.Content, text(res.Name))
			}
		}
		if len(targets.Content) > 0 {
			typ.Content = append(typ.Content, text("targets"), flow(targets))
			out.Content = append(out.Content, mapping(name, typ))
		}
	}
	policy("keep", mapping("type", text("Keep")), func(p Policies) bool { return p.Keep })
	policy("guard", mapping("type", text("Guard")), func(p Policies) bool { return p.Guard })
	waits := map[time.Duration]bool{}
	for _, res := range e.w.Resources {
		waits[res.Drain] = true
	}
	for _, wait := range slices.Sorted(maps.Keys(waits)) {
		if wait > 0 {
			ms := text(fmt.Sprintf("%d ms", wait.Milliseconds()))
			policy(fmt.Sprintf("drain_%d", wait.Milliseconds()), mapping("type", text("Drain"), "properties", mapping("wait", ms)),
				func(p Policies) bool { return p.Drain == wait })
		}
	}
	backups := map[string]Policies{}
	for _, res := range e.w.Resources {
		if res.Backup > 0 {
			backups[fmt.Sprintf("backup_%d_%t", res.Backup, res.Restore)] = Policies{Backup: res.Backup, Restore: res.Restore}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(backups)) {
		is := backups[name]
		policy(name, mapping("type", text("Backup"), "properties", mapping("keep", Literal(tosca.Int(is.Backup)),
			"restore", Literal(tosca.Bool(is.Restore)))), func(p Policies) bool { return p.Backup == is.Backup && p.Restore == is.Restore })
	}
	for _, p := range e.w.Probes {
		targets := sequence()
		for _, name := range p.Targets {
			targets.Content = append(targets.Content, text(name))
		}
		n := mapping("type", text(p.policy.Type), "targets", flow(targets))
		properties := mapping()
		for _, a := range p.policy.Properties {
			c := context{scope: p.scope}
			properties.Content = append(properties.Content, text(a.Name), e.expr(c, a.Value, e.env(c).Eval(a.Value)))
		}
		n.Content = append(n.Content, text("properties"), properties)
		out.Content = append(out.Content, mapping(p.Name, n))
	}
	return out
}

// property writes the value of a property, as far as it is known.
func (e *writer) property(p *Property) *yaml.Node {
	for p.from != nil {
		p = p.from
	}
	v := p.Value
	if v == nil {
		v = e.value(p)
	}
	switch {
	case tosca.IsKnown(v) && !tosca.HasSecret(v):
		return Literal(v)
	case tosca.IsKnown(v) && (p.Expr == nil || p.Expr.Kind == tosca.LiteralExpr):
		return e.literal(v, p.owner()+"_"+p.Name, p.Def.Description)
	case p.Expr == nil:
		return e.hidden(p.owner()+"_"+p.Name, p.Def.Description)
	}
	return e.expr(p.at, p.Expr, v)
}

var unfit = regexp.MustCompile(`[^A-Za-z0-9_]+`)

// hidden makes an input for a secret that is written in clear.
func (e *writer) hidden(name, description string) *yaml.Node {
	name = unfit.ReplaceAllString(name, "_")
	e.secret(name, description)
	return flow(mapping("$get_input", text(name)))
}

// literal writes a value that is known; what is secret in it becomes inputs
// under a name.
func (e *writer) literal(v tosca.Value, name, description string) *yaml.Node {
	switch w := v.(type) {
	case tosca.Secret:
		return e.hidden(name, description)
	case tosca.List:
		out := sequence()
		for i, part := range w {
			out.Content = append(out.Content, e.literal(part, fmt.Sprintf("%s_%d", name, i), description))
		}
		return flow(out)
	case tosca.Map:
		out := mapping()
		for _, k := range w.Keys() {
			out.Content = append(out.Content, keyNode(k), e.literal(w[k], name+"_"+tosca.KeyText(k), description))
		}
		return out
	}
	return Literal(v)
}

// expr writes what an expression comes to, v being its value: what is known as
// a literal, the rest as an expression that names no input and no SELF.
func (e *writer) expr(c context, x *tosca.Expr, v tosca.Value) *yaml.Node {
	if tosca.IsKnown(v) && !tosca.HasSecret(v) && !e.inside {
		return Literal(v)
	}
	eval := func(a *tosca.Expr) tosca.Value {
		if e.inside && a.Kind != tosca.LiteralExpr {
			return tosca.Unknown{}
		}
		return e.env(c).Eval(a)
	}
	switch x.Kind {
	case tosca.ListExpr:
		out := sequence()
		for _, a := range x.Args {
			out.Content = append(out.Content, e.expr(c, a, eval(a)))
		}
		return flow(out)
	case tosca.MapExpr:
		out := mapping()
		for i, a := range x.Args {
			out.Content = append(out.Content, keyNode(x.Keys[i].Name), e.expr(c, a, eval(a)))
		}
		return out
	case tosca.LiteralExpr:
		if tosca.HasSecret(v) {
			return e.literal(v, "secret", "")
		}
		return Literal(x.Value)
	}
	switch x.Name {
	case "get_input":
		return e.input(c, x)
	case "get_property", "get_attribute":
		if e.inside && x.Args[0].Value == tosca.Value(tosca.String("SELF")) {
			break
		}
		var found ends
		e.ends = &found
		e.env(c).Eval(x)
		e.ends = nil
		list := make([]*yaml.Node, 0, len(found.list))
		for _, f := range found.list {
			list = append(list, e.end(f))
		}
		switch {
		case found.all:
			return flow(sequence(list...))
		case len(list) > 0:
			return list[0]
		}
	case "value", "node_index":
		if e.inside {
			return text("$" + x.Name)
		}
	}
	args := sequence()
	for _, a := range x.Args {
		args.Content = append(args.Content, e.expr(c, a, eval(a)))
	}
	return flow(mapping("$"+x.Name, flow(args)))
}

// input writes a call of get_input.
func (e *writer) input(c context, x *tosca.Expr) *yaml.Node {
	var path []tosca.Value
	for _, a := range x.Args {
		path = append(path, e.env(c).Eval(a))
	}
	name := tosca.Show(path[0])
	if p := c.scope.defaults[name]; c.scope.outer != nil && p != nil {
		return e.below(e.property(p), path[1:])
	}
	v, _ := e.resolver.input(c.scope, name)
	if part, ok := tosca.At(v, path[1:]...); ok && tosca.IsKnown(part) {
		if _, whole := v.(tosca.Secret); !whole {
			for _, step := range path[1:] {
				name += "_" + tosca.Show(step)
			}
			return e.literal(part, name, describes(c.scope.service.Input(tosca.Show(path[0]))))
		}
	}
	if in := c.scope.service.Input(name); in != nil {
		e.secret(name, in.Description)
	}
	return e.below(flow(mapping("$get_input", text(name))), path[1:])
}

func describes(in *tosca.Property) string {
	if in == nil {
		return ""
	}
	return in.Description
}

// end writes what a path comes to.
func (e *writer) end(f end) *yaml.Node {
	switch {
	case f.property != nil:
		return e.below(e.property(f.property), f.rest)
	case f.output != nil:
		c := context{scope: f.scope}
		return e.below(e.expr(c, f.output.Value, e.env(c).Eval(f.output.Value)), f.rest)
	}
	return e.below(flow(mapping("$"+f.call, flow(sequence(text(f.resource), text(f.attribute))))), f.rest)
}

// below goes on into what is written: into a map or a list, or with a longer
// path of a call.
func (e *writer) below(n *yaml.Node, path []tosca.Value) *yaml.Node {
	for i, p := range path {
		switch {
		case n.Kind == yaml.MappingNode && len(n.Content) == 2 && strings.HasPrefix(n.Content[0].Value, "$get_"):
			args := n.Content[1]
			if args.Kind != yaml.SequenceNode {
				args = flow(sequence(args))
			}
			args = flow(sequence(slices.Clone(args.Content)...))
			for _, q := range path[i:] {
				args.Content = append(args.Content, Literal(q))
			}
			return flow(mapping(n.Content[0].Value, args))
		case n.Kind == yaml.MappingNode:
			for k := 0; k+1 < len(n.Content); k += 2 {
				if key, ok := tosca.MapKey(p); ok && n.Content[k].Value == escape(tosca.KeyText(key)) {
					n = n.Content[k+1]
					break
				}
			}
		case n.Kind == yaml.SequenceNode:
			if k, ok := p.(tosca.Int); ok && k >= 0 && int(k) < len(n.Content) {
				n = n.Content[k]
			}
		}
	}
	return n
}

// filter writes the condition of a node that is selected.
func (e *writer) filter(c context, x *tosca.Expr) *yaml.Node {
	if x == nil {
		return text("true")
	}
	e.inside = true
	defer func() { e.inside = false }()
	return e.expr(c, x, tosca.Unknown{})
}

// Literal writes a value so that a template reads it back as it is.
func Literal(v tosca.Value) *yaml.Node {
	switch v := v.(type) {
	case tosca.Bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: strconv.FormatBool(bool(v))}
	case tosca.Int:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.FormatInt(int64(v), 10)}
	case tosca.Float:
		s := strconv.FormatFloat(float64(v), 'g', -1, 64)
		if !strings.ContainsAny(s, ".e") {
			s += ".0"
		}
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!float", Value: s}
	case tosca.List:
		out := sequence()
		simple := true
		for _, e := range v {
			n := Literal(e)
			simple = simple && n.Kind == yaml.ScalarNode
			out.Content = append(out.Content, n)
		}
		if simple {
			return flow(out)
		}
		return out
	case tosca.Map:
		out := mapping()
		for _, k := range v.Keys() {
			out.Content = append(out.Content, keyNode(k), Literal(v[k]))
		}
		return out
	case nil, tosca.Null:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"}
	}
	return text(escape(tosca.Show(v)))
}

// keyNode writes the key of a map so that it is read back as it is.
func keyNode(key string) *yaml.Node {
	if v := tosca.KeyValue(key); v != tosca.Value(tosca.String(key)) {
		return Literal(v)
	}
	return text(escape(key))
}

// escape doubles the $ that a literal begins with.
func escape(s string) string {
	if strings.HasPrefix(s, "$") {
		return "$" + s
	}
	return s
}

// Stated lists the keys of a map that have to be written, in the order of its type: those
// that are not what the type has as a default. The type may be nil.
func Stated(t *tosca.Type, m tosca.Map) []string {
	if t == nil || len(t.Fields) == 0 {
		return m.Keys()
	}
	var out []string
	for _, f := range t.Fields {
		v, set := m[f.Name]
		if usual, is := f.Constant(); set && !(is && Same(usual, v)) {
			out = append(out, f.Name)
		}
	}
	return out
}

// LiteralText is a value as it can be written in a template, on one line, without what is
// the default of its type. The type may be nil.
func LiteralText(t *tosca.Type, v tosca.Value) string { return literalText(t, v, escape) }

// PlainText is a value as it can be written where $ has no meaning, as in a stack file.
func PlainText(t *tosca.Type, v tosca.Value) string {
	return literalText(t, v, func(s string) string { return s })
}

func literalText(t *tosca.Type, v tosca.Value, escaped func(string) string) string {
	var parts []string
	switch v := v.(type) {
	case tosca.List:
		for _, e := range v {
			parts = append(parts, literalText(t.In(""), e, escaped))
		}
		if len(parts) == 0 {
			return "[]"
		}
		return "[ " + strings.Join(parts, ", ") + " ]"
	case tosca.Map:
		for _, k := range Stated(t, v) {
			parts = append(parts, literalText(nil, tosca.String(tosca.KeyText(k)), escaped)+": "+literalText(t.In(k), v[k], escaped))
		}
		if len(parts) == 0 {
			return "{}"
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	case tosca.String:
		s := escaped(string(v))
		quoted, err := json.Marshal(s)
		if err != nil {
			return ""
		}
		plain, err := yaml.Marshal(s)
		out := strings.TrimSuffix(string(plain), "\n")
		if err != nil || strings.ContainsAny(out, "\n,[]{}") || strings.HasPrefix(s, "$") {
			return string(quoted)
		}
		return out
	}
	out, err := yaml.Marshal(Literal(v))
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(string(out), "\n")
}

func text(s string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s}
	if strings.Contains(s, "\n") {
		n.Style = yaml.LiteralStyle
	}
	return n
}

func sequence(items ...*yaml.Node) *yaml.Node {
	return &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Content: items}
}

// mapping makes a map of names and nodes in turn.
func mapping(pairs ...any) *yaml.Node {
	m := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
	for i := 0; i+1 < len(pairs); i += 2 {
		add(m, pairs[i].(string), pairs[i+1].(*yaml.Node))
	}
	return m
}

func add(m *yaml.Node, key string, n *yaml.Node) { m.Content = append(m.Content, text(key), n) }

func flow(n *yaml.Node) *yaml.Node {
	n.Style = yaml.FlowStyle
	return n
}
