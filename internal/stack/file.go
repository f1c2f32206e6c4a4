package stack

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"brickrow/internal/identity"
	"brickrow/internal/tosca"
)

// File is a stack file: the values of one deployment.
type File struct {
	Path         string // as given
	Stack        string
	Template     string // relative to the stack file
	TemplatePos  tosca.Pos
	Target       Target
	TargetPos    tosca.Pos
	Careful      bool
	Throwaway    bool     // losing data does not matter
	Approvers    []string // identities of those who may agree; empty is anybody
	Deployers    []string // identities of those who may open what is sealed in a saved change set
	OnFailure    OnFailure
	Tags         map[string]string
	TagsPos      tosca.Pos
	throwawayPos tosca.Pos
	asked        Target
	Rules        []string // files and folders of rules, relative to the stack file
	RulesPos     tosca.Pos
	Folders      []string // that the template may read beside its own, relative to the stack file
	Inputs       []FileInput
	Adopt        []Adoption
}

// Adoption says that a node stands for a resource that is there already.
type Adoption struct {
	Node, ID string
	From     string // the stack that it is released from before; "" is none
	Pos      tosca.Pos
}

// OnFailure is what becomes of a run that fails.
type OnFailure string

// What can become of a run that fails.
const (
	Undo OnFailure = "undo" // all that it did is taken back
	Hold OnFailure = "hold" // what is built stays
)

// FileInput is one input of a stack file. From is where its value is to be
// read, where it is not written there.
type FileInput struct {
	Name   string
	Pos    tosca.Pos
	Value  *tosca.Expr
	Source *Source
}

// Source is a place outside the stack file that a value comes from.
type Source struct {
	Env, File     string
	Stack, Output string
	Broken        bool // it was reported
}

// String is the source in words.
func (s Source) String() string {
	switch {
	case s.Env != "":
		return "from the variable " + s.Env
	case s.File != "":
		return "from the file " + s.File
	}
	return fmt.Sprintf("from %s of %s", s.Output, s.Stack)
}

// parseSource is the reverse of String: it is in this form that an origin is kept.
func parseSource(words string) (s Source) {
	rest, ok := strings.CutPrefix(words, "from ")
	if !ok {
		return s
	}
	if s.Env, ok = strings.CutPrefix(rest, "the variable "); ok {
		return s
	}
	if s.File, ok = strings.CutPrefix(rest, "the file "); ok {
		return Source{File: s.File}
	}
	if output, of, ok := strings.Cut(rest, " of "); ok {
		return Source{Stack: of, Output: output}
	}
	return Source{}
}

var (
	stackName = regexp.MustCompile(`^[a-z][a-z0-9-]{1,62}$`)
	fileKeys  = []string{"stack", "template", "target", "careful", "throwaway", "approvers", "deployers",
		"on_failure", "tags", "rules", "folders", "inputs", "adopt"}
)

// ReadFile reads a stack file. The result is never nil. A target that is asked for,
// as account/region, stands for one that the file does not say; "" is none.
func ReadFile(path string, text []byte, target string) (*File, tosca.Findings) {
	var findings tosca.Findings
	f := &File{Path: path, OnFailure: Undo}
	asked := tosca.Pos{File: "--target " + target}
	if target != "" {
		if t, ok := ParseTarget(target); ok {
			f.asked = t
		} else {
			findings.Errorf(asked, "bad-target", "write account/region, such as workshop/alder-1",
				"'%s' is not a target", target)
		}
	}
	root := tosca.ParseYAML(path, text, &findings)
	if root == nil {
		f.Target = f.asked
		return f, findings
	}
	seen := map[string]bool{}
	for _, e := range tosca.Entries(path, root, "a stack file", &findings) {
		seen[e.Key.Name] = true
		f.entry(e, &findings)
	}
	whole := tosca.Pos{File: path, Line: 1, Column: 1}
	if root.Kind == yaml.MappingNode {
		for key, missing := range map[string]bool{"stack: a-name": f.Stack == "",
			"template: the template's file": f.Template == "",
			"target: account/region":        f.Target.IsZero() && f.asked.IsZero()} {
			name, _, _ := strings.Cut(key, ":")
			if missing && !seen[name] {
				findings.Errorf(whole, "missing-key", "add "+key, "the stack file does not say its %s", name)
			}
		}
	}
	switch {
	case f.asked.IsZero():
	case f.Target.IsZero():
		f.Target = f.asked
	case f.Target != f.asked:
		findings.Errorf(f.TargetPos, "pinned-target", "use another stack file, or change the line",
			"the stack file is pinned to %s and cannot go to %s", f.Target, f.asked)
	}
	if f.Careful && f.Throwaway {
		findings.Errorf(f.throwawayPos, "invalid-value", "remove one of the two",
			"a stack cannot be careful and throwaway")
	}
	findings.Sort()
	return f, findings
}

func (f *File) entry(e tosca.Entry, findings *tosca.Findings) {
	empty := e.Node.Kind == yaml.ScalarNode && (e.Node.ShortTag() == "!!null" || e.Node.Value == "")
	if empty && slices.Contains([]string{"stack", "template", "target"}, e.Key.Name) {
		if e.Key.Name == "target" {
			f.TargetPos = e.Pos
			if !f.asked.IsZero() {
				return
			}
		}
		how := map[string]string{"stack": "write its name, such as bulletin-test",
			"template": "write the path of the template's file",
			"target":   "write account/region, such as workshop/alder-1; 'brickrow targets' lists them"}[e.Key.Name]
		findings.Errorf(e.Key.Pos, "missing-key", how, "the stack file does not say its %s yet", e.Key.Name)
		return
	}
	text := func() string {
		if e.Node.Kind != yaml.ScalarNode {
			findings.Errorf(e.Pos, "wrong-type", "", "'%s' must be text", e.Key.Name)
			return ""
		}
		return e.Node.Value
	}
	switch e.Key.Name {
	case "stack":
		f.Stack = text()
		if f.Stack != "" && !stackName.MatchString(f.Stack) {
			findings.Errorf(e.Pos, "bad-name", "use 2 to 63 of a-z, 0-9 and -, beginning with a letter",
				"'%s' cannot be the name of a stack", f.Stack)
		}
	case "template":
		f.Template, f.TemplatePos = text(), e.Pos
	case "target":
		var ok bool
		f.TargetPos = e.Pos
		if f.Target, ok = ParseTarget(text()); !ok {
			findings.Errorf(e.Pos, "bad-target", "write account/region, such as workshop/alder-1",
				"'%s' is not a target", e.Node.Value)
		}
	case "careful", "throwaway":
		is := e.Node.Value == "true"
		if e.Node.ShortTag() != "!!bool" {
			findings.Errorf(e.Pos, "wrong-type", "write true or false", "%s must be a boolean", e.Key.Name)
		}
		if e.Key.Name == "careful" {
			f.Careful = is
		} else {
			f.Throwaway, f.throwawayPos = is, e.Pos
		}
	case "approvers":
		f.Approvers = f.identities(e, findings)
	case "deployers":
		f.Deployers = f.identities(e, findings)
	case "on_failure":
		if f.OnFailure = OnFailure(text()); f.OnFailure != Undo && f.OnFailure != Hold {
			findings.Errorf(e.Pos, "invalid-value", "write undo or hold", "on_failure cannot be '%s'", f.OnFailure)
		}
	case "tags":
		f.Tags, f.TagsPos = map[string]string{}, e.Key.Pos
		for _, t := range tosca.Entries(f.Path, e.Node, "tags", findings) {
			if OwnTag(t.Key.Name) {
				findings.Errorf(t.Key.Pos, "reserved-tag", "choose another name",
					"the tag '%s' is set by Brick Row itself", t.Key.Name)
			}
			if hidden := tosca.Unseen(t.Key.Name + t.Node.Value); hidden != "" {
				findings.Errorf(t.Pos, "bad-tag", "write it in one line, of letters that can be seen",
					"the tag %q has %s in it, which the cloud would not give back as it is", t.Key.Name, hidden)
				continue
			}
			f.Tags[t.Key.Name] = t.Node.Value
		}
	case "rules":
		f.RulesPos = e.Pos
		f.Rules = paths(e, "write the path of a file or folder, or a list of them", findings)
	case "folders":
		f.Folders = paths(e, "write the path of a folder, or a list of them", findings)
	case "adopt":
		for _, t := range tosca.Entries(f.Path, e.Node, "adopt", findings) {
			if t.Node.Kind != yaml.ScalarNode || t.Node.Value == "" {
				findings.Errorf(t.Key.Pos, "wrong-type", "write the id that it has in the cloud, as 'brickrow cloud' lists it",
					"'%s' must be the id of a resource", t.Key.Name)
				continue
			}
			f.Adopt = append(f.Adopt, Adoption{Node: t.Key.Name, ID: t.Node.Value, Pos: t.Key.Pos})
		}
	case "inputs":
		f.Inputs = ReadInputs(f.Path, e.Node, findings)
	default:
		findings.Errorf(e.Key.Pos, "unknown-key", tosca.Suggest(e.Key.Name, fileKeys), "a stack file has no key '%s'",
			e.Key.Name)
	}
}

// paths reads a path or a list of them.
func paths(e tosca.Entry, how string, findings *tosca.Findings) (out []string) {
	nodes := []*yaml.Node{e.Node}
	if e.Node.Kind == yaml.SequenceNode {
		nodes = e.Node.Content
	}
	for _, n := range nodes {
		if n.Kind != yaml.ScalarNode || n.Value == "" {
			findings.Errorf(e.Pos, "wrong-type", how, "'%s' must be paths", e.Key.Name)
			break
		}
		out = append(out, n.Value)
	}
	return out
}

// identities reads a list of lines that 'brickrow identity' prints.
func (f *File) identities(e tosca.Entry, findings *tosca.Findings) []string {
	nodes := []*yaml.Node{e.Node}
	if e.Node.Kind == yaml.SequenceNode {
		nodes = e.Node.Content
	}
	var out []string
	for _, n := range nodes {
		at := tosca.Pos{File: f.Path, Line: n.Line, Column: n.Column}
		if n.Kind != yaml.ScalarNode {
			findings.Errorf(at, "wrong-type", "write the line that 'brickrow identity' prints, or a list of them",
				"'%s' must be identities", e.Key.Name)
			continue
		}
		if _, err := identity.Parse(n.Value); err != nil {
			findings.Errorf(at, "bad-identity", "write the line that 'brickrow identity' prints", "%v", err)
			continue
		}
		out = append(out, n.Value)
	}
	return out
}

// ReadInputs reads a map of inputs, in a stack file or in a file of its own.
func ReadInputs(path string, n *yaml.Node, findings *tosca.Findings) []FileInput {
	var out []FileInput
	for _, e := range tosca.Entries(path, n, "inputs", findings) {
		in := FileInput{Name: e.Key.Name, Pos: e.Pos}
		if in.Source = source(path, e, findings); in.Source == nil {
			in.Value = tosca.Plain(path, e.Node, findings)
		}
		out = append(out, in)
	}
	return out
}

// source reads { from_env: … } and its like; nil where the value is plain.
func source(path string, e tosca.Entry, findings *tosca.Findings) *Source {
	if e.Node.Kind != yaml.MappingNode || len(e.Node.Content) != 2 ||
		!strings.HasPrefix(e.Node.Content[0].Value, "from_") {
		return nil
	}
	key, v := e.Node.Content[0].Value, e.Node.Content[1]
	switch key {
	case "from_env":
		return &Source{Env: v.Value}
	case "from_file":
		return &Source{File: v.Value}
	case "from_stack":
		s := &Source{}
		var parts []tosca.Entry
		if v.Kind == yaml.MappingNode {
			parts = tosca.Entries(path, v, "from_stack", findings)
		}
		for _, p := range parts {
			switch p.Key.Name {
			case "stack":
				s.Stack = p.Node.Value
			case "output":
				s.Output = p.Node.Value
			default:
				findings.Errorf(p.Key.Pos, "unknown-key", "known here: output, stack", "from_stack has no key '%s'",
					p.Key.Name)
			}
		}
		if s.Stack == "" || s.Output == "" {
			findings.Errorf(e.Pos, "missing-key", "write { from_stack: { stack: …, output: … } }",
				"from_stack names a stack and one of its outputs")
			s.Broken = true
		}
		return s
	}
	findings.Errorf(e.Pos, "unknown-key", tosca.Suggest(key, []string{"from_env", "from_file", "from_stack"}),
		"there is no '%s'", key)
	return &Source{Broken: true}
}

// ParseFlag reads name=value of the command line. The value is text where the
// input is text, and YAML otherwise.
func ParseFlag(flag string, inputs []*tosca.Property) (Given, error) {
	name, text, ok := strings.Cut(flag, "=")
	if !ok || name == "" {
		// what was given may be a secret
		return Given{}, errors.New("-i takes the name of an input and its value, as name=value")
	}
	at := tosca.Pos{File: "-i " + name}
	g := Given{Name: name, Origin: Origin{Kind: OriginFlag, Pos: at, Via: name},
		Value: &tosca.Expr{Pos: at, Value: tosca.String(text), Raw: text}}
	i := slices.IndexFunc(inputs, func(p *tosca.Property) bool { return p.Name == name })
	if i < 0 || inputs[i].Type == nil {
		return g, nil
	}
	switch inputs[i].Type.Base {
	case tosca.BaseString, tosca.BaseScalar, tosca.BaseVersion, tosca.BaseTimestamp, tosca.BaseBytes:
		return g, nil
	}
	var findings tosca.Findings
	n := tosca.ParseYAML(at.File, []byte(text), &findings)
	if n != nil {
		x := tosca.Plain(at.File, n, &findings)
		x.Pos = at
		g.Value = x
	}
	if findings.HasErrors() {
		why := ": " + findings[0].Message
		if inputs[i].Type.HoldsSecret() { // the words may repeat a part of it
			why = ""
		}
		return g, fmt.Errorf("the value of -i %s cannot be read as %s%s", name, inputs[i].Type.Label(), why)
	}
	return g, nil
}

// mustGive names the inputs that nothing else gives a value.
func mustGive(inputs []*tosca.Property) []string {
	var out []string
	for _, in := range inputs {
		if !in.Optional() && in.Metadata[tosca.FilledBy] == "" {
			out = append(out, in.Name)
		}
	}
	return out
}

// FileSchema is a JSON Schema for stack files. With the inputs of a template it
// is one for the stack files of that template.
func FileSchema(inputs []*tosca.Property) map[string]any {
	type object = map[string]any
	text := object{"type": "string"}
	source := object{"description": "A value that is read elsewhere", "anyOf": []any{
		object{"type": "object", "required": []string{"from_env"}, "properties": object{"from_env": text},
			"additionalProperties": false},
		object{"type": "object", "required": []string{"from_file"}, "properties": object{"from_file": text},
			"additionalProperties": false},
		object{"type": "object", "required": []string{"from_stack"},
			"properties": object{"from_stack": object{"type": "object", "required": []string{"stack", "output"},
				"properties": object{"stack": text, "output": text}, "additionalProperties": false}},
			"additionalProperties": false},
	}}
	required := []string{"stack", "template", "target"}
	values := object{"type": "object", "description": "Values of the template's inputs"}
	if inputs != nil {
		props := object{}
		for _, in := range inputs {
			props[in.Name] = tosca.ValueSchema(in)
		}
		values["properties"], values["additionalProperties"] = props, false
		if must := mustGive(inputs); len(must) > 0 {
			values["required"], required = must, append(required, "inputs")
		}
	}
	return object{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title":   "A stack file of Brick Row",
		"type":    "object", "additionalProperties": false,
		"required": required,
		"$defs":    object{"source": source},
		"properties": object{
			"stack": object{"type": "string", "pattern": stackName.String(),
				"description": "Name of the stack, unique in its target"},
			"template": object{"type": "string", "description": "The template or archive, relative to this file"},
			"target": object{"type": "string", "pattern": "^[^/]+/[^/]+$",
				"description": "Where it goes: account/region"},
			"careful": object{"type": "boolean", "default": false, "description": "Whether to be slower to confirm"},
			"throwaway": object{"type": "boolean", "default": false,
				"description": "Whether losing its data does not matter"},
			"approvers": object{"type": "array", "items": text,
				"description": "Identities of those who may agree to what is saved; nobody named is anybody but " +
					"who saved it"},
			"deployers": object{"type": "array", "items": text,
				"description": "Identities of those who may open what is sealed in a saved change set"},
			"on_failure": object{"enum": []string{"undo", "hold"}, "default": "undo",
				"description": "What happens when a run fails"},
			"tags": object{"type": "object", "additionalProperties": text,
				"description": "Tags of every resource"},
			"rules": object{"description": "Files or folders of rules, relative to this file, beside those in " +
				"the folder rules of the template", "anyOf": []any{text, object{"type": "array", "items": text}}},
			"folders": object{"description": "Folders that the template may read beside its own, relative to this file",
				"anyOf": []any{text, object{"type": "array", "items": text}}},
			"adopt": object{"type": "object", "additionalProperties": text,
				"description": "Resources that are there already, by the nodes that they come under: node: id"},
			"inputs": values,
		},
	}
}

// GoodName reports whether a stack can be called this.
func GoodName(name string) bool { return stackName.MatchString(name) }
