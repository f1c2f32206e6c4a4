// Package fleet reads fleet files: one stack in many places.
package fleet

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// File is a fleet file.
type File struct {
	Path      string // as given
	Fleet     string // its name
	Stack     string // the stack file, relative to it
	StackPos  tosca.Pos
	Places    []Place
	Except    []Pattern
	Waves     []Wave // none is all at once
	AtOnce    int    // 0 is as many as there are
	Tolerate  int    // so many places may fail
	OnFailure stack.OnFailure
	Pause     time.Duration // between waves
	Ask       bool          // between waves, instead
}

// Place is where the stack goes, with values of its own.
type Place struct {
	tosca.Pos
	Target  Pattern
	Inputs  []stack.FileInput
	Filled  []Filled // inputs that the place itself gives a value
	Careful bool
}

// Filled is an input whose value comes from where the stack goes.
type Filled struct {
	tosca.Pos
	Input, By string // By is one of Fillers
}

// Fillers are what filled_by can be in a fleet file.
var Fillers = []string{"account", "region"}

// Value is what the target fills an input with.
func (f Filled) Value(t stack.Target) string {
	if f.By == "account" {
		return t.Account
	}
	return t.Region
}

// Pattern is account/region, in which * stands for any.
type Pattern struct {
	tosca.Pos
	Account, Region string
}

// String is account/region.
func (p Pattern) String() string { return p.Account + "/" + p.Region }

// Matches reports whether a target is one of those that are meant.
func (p Pattern) Matches(t stack.Target) bool {
	account, err := path.Match(p.Account, t.Account)
	region, err2 := path.Match(p.Region, t.Region)
	return err == nil && err2 == nil && account && region
}

// At is the place that says what goes to a target: of several the last one. It is nil
// where none does, or where the target is taken out.
func (f *File) At(t stack.Target) *Place {
	if slices.ContainsFunc(f.Except, func(p Pattern) bool { return p.Matches(t) }) {
		return nil
	}
	for i := len(f.Places) - 1; i >= 0; i-- {
		if f.Places[i].Target.Matches(t) {
			return &f.Places[i]
		}
	}
	return nil
}

// Wave is how many places begin together: a number of them, a share of all, or the rest.
type Wave struct {
	Count   int
	Percent float64
	Rest    bool
}

var (
	keys      = []string{"fleet", "stack", "places", "except", "waves", "at_once", "tolerate", "on_failure", "pause_between"}
	placeKeys = []string{"target", "inputs", "careful"}
	share     = regexp.MustCompile(`^(\d+(?:\.\d+)?) ?%$`)
	pause     = regexp.MustCompile(`^(\d+(?:\.\d+)?) ?(ms|s|m|h|d)$`)
	units     = map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "h": time.Hour,
		"d": 24 * time.Hour}
)

// reader reads one file, and collects what is wrong with it.
type reader struct {
	f        *File
	findings tosca.Findings
}

// Read reads a fleet file. The result is never nil.
func Read(name string, text []byte) (*File, tosca.Findings) {
	r := &reader{f: &File{Path: name, OnFailure: stack.Undo}}
	root := tosca.ParseYAML(name, text, &r.findings)
	if root == nil {
		return r.f, r.findings
	}
	seen := map[string]bool{}
	for _, e := range tosca.Entries(name, root, "a fleet file", &r.findings) {
		seen[e.Key.Name] = true
		r.entry(e)
	}
	if root.Kind == yaml.MappingNode {
		for _, key := range []string{"fleet: a-name", "stack: its stack file", "places: [ { target: account/region } ]"} {
			if name, _, _ := strings.Cut(key, ":"); !seen[name] {
				r.findings.Errorf(tosca.Pos{File: r.f.Path, Line: 1, Column: 1}, "missing-key", "add "+key,
					"the fleet file does not say its %s", name)
			}
		}
	}
	r.findings.Sort()
	return r.f, r.findings
}

func (r *reader) text(e tosca.Entry) string {
	if e.Node.Kind != yaml.ScalarNode || e.Node.ShortTag() == "!!null" {
		r.findings.Errorf(e.Pos, "wrong-type", "", "'%s' must be text", e.Key.Name)
		return ""
	}
	return e.Node.Value
}

// number reads a whole number that is not below another one.
func (r *reader) number(e tosca.Entry, low int) int {
	n, err := strconv.Atoi(e.Node.Value)
	if e.Node.Kind != yaml.ScalarNode || e.Node.ShortTag() != "!!int" || err != nil {
		r.findings.Errorf(e.Pos, "wrong-type", "write a number", "'%s' must be a number", e.Key.Name)
		return low
	}
	if n < low {
		r.findings.Errorf(e.Pos, "invalid-value", fmt.Sprintf("use %d or more", low), "'%s' cannot be %d", e.Key.Name, n)
		return low
	}
	return n
}

// items lists what stands in a list.
func (r *reader) items(e tosca.Entry) []*yaml.Node {
	if e.Node.Kind != yaml.SequenceNode {
		r.findings.Errorf(e.Pos, "wrong-type", "write a list", "'%s' must be a list", e.Key.Name)
		return nil
	}
	return e.Node.Content
}

func (r *reader) pos(n *yaml.Node) tosca.Pos {
	return tosca.Pos{File: r.f.Path, Line: n.Line, Column: n.Column}
}

func (r *reader) entry(e tosca.Entry) {
	f := r.f
	switch e.Key.Name {
	case "fleet":
		if f.Fleet = r.text(e); f.Fleet != "" && !stack.GoodName(f.Fleet) {
			r.findings.Errorf(e.Pos, "bad-name", "use 2 to 63 of a-z, 0-9 and -, beginning with a letter",
				"'%s' cannot be the name of a fleet", f.Fleet)
		}
	case "stack":
		f.Stack, f.StackPos = r.text(e), e.Pos
	case "places":
		for _, n := range r.items(e) {
			f.Places = append(f.Places, r.place(n))
		}
		if e.Node.Kind == yaml.SequenceNode && len(e.Node.Content) == 0 {
			r.findings.Errorf(e.Pos, "missing-key", "write - { target: account/region }", "the fleet has no places")
		}
	case "except":
		for _, n := range r.items(e) {
			if p, ok := r.pattern(n); ok {
				f.Except = append(f.Except, p)
			}
		}
	case "waves":
		list := r.items(e)
		for i, n := range list {
			if w, ok := r.wave(n, i == len(list)-1); ok {
				f.Waves = append(f.Waves, w)
			}
		}
	case "at_once":
		f.AtOnce = r.number(e, 1)
	case "tolerate":
		f.Tolerate = r.number(e, 0)
	case "on_failure":
		if f.OnFailure = stack.OnFailure(r.text(e)); f.OnFailure != stack.Undo && f.OnFailure != stack.Hold {
			r.findings.Errorf(e.Pos, "invalid-value", "write undo or hold", "on_failure cannot be '%s'", f.OnFailure)
		}
	case "pause_between":
		text := r.text(e)
		m := pause.FindStringSubmatch(text)
		switch {
		case text == "ask":
			f.Ask = true
		case m == nil:
			r.findings.Errorf(e.Pos, "invalid-value", "write a time such as 30 s, or ask", "pause_between cannot be '%s'", text)
		default:
			n, _ := strconv.ParseFloat(m[1], 64) // the pattern has digits alone
			f.Pause = time.Duration(n * float64(units[m[2]]))
		}
	default:
		r.findings.Errorf(e.Key.Pos, "unknown-key", tosca.Suggest(e.Key.Name, keys), "a fleet file has no key '%s'", e.Key.Name)
	}
}

// pattern reads account/region.
func (r *reader) pattern(n *yaml.Node) (Pattern, bool) {
	p := Pattern{Pos: r.pos(n)}
	var ok bool
	p.Account, p.Region, ok = strings.Cut(n.Value, "/")
	_, bad := path.Match(p.Account, "")
	_, bad2 := path.Match(p.Region, "")
	if n.Kind != yaml.ScalarNode || !ok || p.Account == "" || p.Region == "" || strings.Contains(p.Region, "/") || bad != nil || bad2 != nil {
		r.findings.Errorf(p.Pos, "bad-target", "write account/region, such as workshop/alder-1 or workshop/*",
			"'%s' is not a target", n.Value)
		return p, false
	}
	return p, true
}

func (r *reader) place(n *yaml.Node) Place {
	p := Place{Pos: r.pos(n)}
	if n.Kind == yaml.ScalarNode { // the target alone
		p.Target, _ = r.pattern(n)
		return p
	}
	said := false
	for _, e := range tosca.Entries(r.f.Path, n, "a place", &r.findings) {
		switch e.Key.Name {
		case "target":
			said = true
			p.Target, _ = r.pattern(e.Node)
		case "careful":
			if p.Careful = e.Node.Value == "true"; e.Node.ShortTag() != "!!bool" {
				r.findings.Errorf(e.Pos, "wrong-type", "write true or false", "careful must be a boolean")
			}
		case "inputs":
			r.inputs(&p, e)
		default:
			r.findings.Errorf(e.Key.Pos, "unknown-key", tosca.Suggest(e.Key.Name, placeKeys), "a place has no key '%s'", e.Key.Name)
		}
	}
	if !said {
		r.findings.Errorf(p.Pos, "missing-key", "add target: account/region", "the place does not say its target")
	}
	return p
}

// inputs reads the values of a place: those that it fills itself, and those as in a stack
// file.
func (r *reader) inputs(p *Place, e tosca.Entry) {
	rest := *e.Node
	rest.Content = nil
	if e.Node.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(e.Node.Content); i += 2 {
			key, v := e.Node.Content[i], e.Node.Content[i+1]
			if v.Kind != yaml.MappingNode || len(v.Content) != 2 || v.Content[0].Value != "filled_by" {
				rest.Content = append(rest.Content, key, v)
				continue
			}
			by := v.Content[1].Value
			if !slices.Contains(Fillers, by) {
				r.findings.Errorf(r.pos(v.Content[1]), "unknown-filler", tosca.Suggest(by, Fillers),
					"the input '%s' cannot be filled by '%s'", key.Value, by)
			}
			p.Filled = append(p.Filled, Filled{r.pos(key), key.Value, by})
		}
	}
	p.Inputs = stack.ReadInputs(r.f.Path, &rest, &r.findings)
}

func (r *reader) wave(n *yaml.Node, last bool) (Wave, bool) {
	at := r.pos(n)
	if n.Kind == yaml.ScalarNode && n.Value == "rest" {
		if !last {
			r.findings.Errorf(at, "invalid-value", "put it at the end", "behind the rest there are no more places")
		}
		return Wave{Rest: true}, true
	}
	if m := share.FindStringSubmatch(n.Value); m != nil {
		percent, _ := strconv.ParseFloat(m[1], 64) // the pattern has digits alone
		if percent > 0 && percent <= 100 {
			return Wave{Percent: percent}, true
		}
	} else if count, err := strconv.Atoi(n.Value); err == nil && n.ShortTag() == "!!int" && count > 0 {
		return Wave{Count: count}, true
	}
	r.findings.Errorf(at, "invalid-value", "write a number of places, a share such as 25 %, or rest", "'%s' is not a wave", n.Value)
	return Wave{}, false
}

// Schema is a JSON Schema for fleet files. With the inputs of a template it is one for
// the fleets of that template.
func Schema(inputs []*tosca.Property) map[string]any {
	type object = map[string]any
	target := object{"type": "string", "pattern": "^[^/]+/[^/]+$", "description": "Where it goes: account/region; * is any"}
	filled := object{"type": "object", "required": []string{"filled_by"}, "additionalProperties": false,
		"properties": object{"filled_by": object{"enum": Fillers, "description": "What of the place the value is"}}}
	values := object{"type": "object", "description": "Values of the template's inputs there"}
	if inputs != nil {
		props := object{}
		for _, in := range inputs {
			props[in.Name] = object{"description": in.Description, "anyOf": []any{tosca.ValueSchema(in), filled}}
		}
		values["properties"], values["additionalProperties"] = props, false
	}
	base := stack.FileSchema(nil)
	return object{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title":   "A fleet file of Brick Row",
		"type":    "object", "additionalProperties": false, "required": []string{"fleet", "stack", "places"},
		"$defs": base["$defs"],
		"properties": object{
			"fleet": object{"type": "string", "description": "Name of the fleet"},
			"stack": object{"type": "string", "description": "The stack file, without a target, relative to this file"},
			"places": object{"type": "array", "minItems": 1, "description": "Where the stack goes; of several that mean a target the last one counts",
				"items": object{"anyOf": []any{object{"type": "object", "required": []string{"target"}, "additionalProperties": false,
					"properties": object{"target": target, "inputs": values,
						"careful": object{"type": "boolean", "default": false, "description": "Whether to be slower to confirm"}}}, target}}},
			"except": object{"type": "array", "items": target, "description": "Targets that are taken out"},
			"waves": object{"type": "array", "description": "How many places begin together: a number, a share such as 25 %, or rest",
				"items": object{"anyOf": []any{object{"type": "integer", "minimum": 1},
					object{"type": "string", "pattern": `^(rest|\d+(\.\d+)? ?%)$`}}}},
			"at_once":    object{"type": "integer", "minimum": 1, "description": "How many places at the same time"},
			"tolerate":   object{"type": "integer", "minimum": 0, "default": 0, "description": "How many places may fail before all that has not begun is left"},
			"on_failure": object{"enum": []string{"undo", "hold"}, "default": "undo", "description": "What becomes of the place that failed"},
			"pause_between": object{"type": "string", "pattern": `^(ask|\d+(\.\d+)? ?(ms|s|m|h|d))$`,
				"description": "How long to wait between waves, such as 30 s, or ask"},
		},
	}
}
