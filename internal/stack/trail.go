package stack

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"brickrow/internal/tosca"
)

// Shape is the configuration of a resource, as the cloud shows it: what it is like, what it
// rests on, and its tags.
type Shape struct {
	Properties map[string]tosca.Value
	Links      map[string][]string // ids
	Tags       map[string]string
}

// ShapeOf is the shape of a resource. Its own tags are among the tags alone.
func ShapeOf(l *Live) Shape {
	s := Shape{Properties: map[string]tosca.Value{}, Links: l.Links, Tags: l.Tags}
	for k, v := range l.Properties {
		if k != "tags" {
			s.Properties[k] = v
		}
	}
	return s
}

// TraceKind is what has become of a resource.
type TraceKind string

// The kinds of traces.
const (
	WasFound   TraceKind = "found"   // it was there when its target was looked at for the first time
	WasMade    TraceKind = "made"    // it is there, and was not
	WasChanged TraceKind = "changed" // it is not as it was
	WasRemoved TraceKind = "removed" // it is not there any more
)

// Trace is one change of a resource in the cloud, whoever made it.
type Trace struct {
	Number      int64
	Target      Target
	ID, Type    string // of the resource
	Stack, Node string // whose it was then; "" is nobody's
	Kind        TraceKind
	At          time.Time // as the cloud or a run says, else when it was seen
	Seen        time.Time // when it was looked at
	By          string    // who changed it, as the cloud says it
	Author      Author    // the same, as far as it is known
	Run         int       // the number of the run of the stack that did it; 0 is none
	Differences []PropertyChange
}

// Foreign reports whether no run of this store did it.
func (t *Trace) Foreign() bool { return !t.Author.Own && t.Kind != WasFound }

// Which says which traces are wanted; what is empty is any.
type Which struct {
	Target, Stack, Node, ID string
	Since, Until            time.Time
	After                   int64 // the number of one; those that were noted later
	Most                    int   // of them, the newest; 0 is all
}

// Who says who did it, as Author.Words does.
func (t *Trace) Who() string {
	if t.Kind == WasFound {
		return "when it was looked at for the first time"
	}
	return t.Author.Words()
}

// Net is what is left of some changes, which are given the newest first: one of each resource
// that is not as it was before them. What came and went again, and what was changed and put
// back, is none. Each has the time and the doer of the last change.
func Net(list []Trace) []Trace {
	type path struct{ pointer, property string }
	whole := map[string]*Trace{} // by target and id
	var order []string
	for i := range slices.Backward(list) {
		t := list[i]
		key := t.Target.String() + " " + t.ID
		was := whole[key]
		if was == nil {
			t.Differences = slices.Clone(t.Differences)
			whole[key] = &t
			order = append(order, key)
			continue
		}
		t.Differences = slices.Clone(was.Differences)
		switch {
		case list[i].Kind == WasRemoved && was.Kind != WasChanged: // it came meanwhile
			delete(whole, key)
			order = slices.DeleteFunc(order, func(k string) bool { return k == key })
			continue
		case list[i].Kind == WasRemoved:
			t.Differences = nil
		case was.Kind == WasRemoved: // the same id is there again, as another
			t.Kind, t.Differences = WasChanged, slices.Clone(list[i].Differences)
		case was.Kind == WasMade || was.Kind == WasFound:
			t.Kind, t.Differences = was.Kind, nil
		default:
			at := map[path]int{}
			for k, c := range t.Differences {
				at[path{c.Pointer, c.Property}] = k
			}
			for _, c := range list[i].Differences {
				if k, is := at[path{c.Pointer, c.Property}]; is {
					t.Differences[k].After = c.After
				} else {
					t.Differences = append(t.Differences, c)
				}
			}
		}
		whole[key] = &t
	}
	var out []Trace
	for _, key := range slices.Backward(order) {
		t := whole[key]
		if t.Kind == WasChanged {
			t.Differences = slices.DeleteFunc(t.Differences, func(c PropertyChange) bool { return Same(c.Before, c.After) })
			if len(t.Differences) == 0 {
				continue
			}
		}
		out = append(out, *t)
	}
	slices.SortStableFunc(out, func(a, b Trace) int { return b.At.Compare(a.At) })
	return out
}

// Between lists where a shape is not as it was: properties, tags and links, by path. What is
// secret in either is secret in what is listed.
func Between(was, is Shape) []PropertyChange {
	secrets := &tosca.Secrets{}
	for _, s := range []Shape{was, is} {
		secrets.Add(tosca.Map(s.Properties))
	}
	plain := func(v tosca.Value) tosca.Value {
		if v == nil {
			return nil
		}
		text, err := json.Marshal(tosca.Reveal(v))
		if err != nil {
			return v
		}
		d := json.NewDecoder(bytes.NewReader(text))
		d.UseNumber()
		var x any
		if d.Decode(&x) != nil {
			return v
		}
		return tosca.FromJSON(x)
	}
	var out []PropertyChange
	for _, name := range keysOf(was.Properties, is.Properties) {
		if name == "own_programs" { // of which it knows nothing
			continue
		}
		for _, c := range differences(name, plain(was.Properties[name]), plain(is.Properties[name])) {
			c.Property = name
			c.Before, c.After = secrets.Mark(c.Before), secrets.Mark(c.After)
			out = append(out, c)
		}
	}
	for _, name := range keysOf(was.Tags, is.Tags) {
		before, had := was.Tags[name]
		after, has := is.Tags[name]
		if had == has && before == after {
			continue
		}
		c := PropertyChange{Path: "tags." + name, Pointer: tosca.Pointer("tags", name), Property: "tags"}
		if had {
			c.Before = secrets.Mark(tosca.String(before))
		}
		if has {
			c.After = secrets.Mark(tosca.String(after))
		}
		out = append(out, c)
	}
	for _, name := range keysOf(was.Links, is.Links) {
		if !slices.Equal(was.Links[name], is.Links[name]) {
			out = append(out, PropertyChange{Path: name, Pointer: tosca.Pointer(name), Property: name, Link: true,
				Before: TextList(was.Links[name]), After: TextList(is.Links[name])})
		}
	}
	return out
}

func keysOf[T any](a, b map[string]T) []string {
	var out []string
	for _, m := range []map[string]T{a, b} {
		for k := range m {
			if !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
	}
	slices.SortFunc(out, strings.Compare)
	return out
}

// With is a value in which the part that a JSON Pointer names below its property is another
// one; nil takes it away. The first part of the pointer is the property itself.
func With(v tosca.Value, pointer string, part tosca.Value) tosca.Value {
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	return with(v, parts[1:], part)
}

func with(v tosca.Value, way []string, part tosca.Value) tosca.Value {
	if len(way) == 0 {
		return part
	}
	if s, ok := v.(tosca.Secret); ok {
		return tosca.Hide(with(s.Value, way, part))
	}
	key := strings.ReplaceAll(strings.ReplaceAll(way[0], "~1", "/"), "~0", "~")
	if l, ok := v.(tosca.List); ok {
		i, err := strconv.Atoi(key)
		if err != nil || i < 0 || i > len(l) {
			return v
		}
		var was tosca.Value
		if i < len(l) {
			was = l[i]
		}
		out := slices.Clone(l)
		is := with(was, way[1:], part)
		switch {
		case is == nil && i < len(l):
			return slices.Delete(out, i, i+1)
		case is == nil:
			return out
		case i == len(l):
			return append(out, is)
		}
		out[i] = is
		return out
	}
	m, _ := v.(tosca.Map)
	out := tosca.Map{}
	for k, e := range m {
		out[k] = e
	}
	for _, k := range m.Keys() { // keys have types
		if tosca.KeyText(k) == key {
			key = k
		}
	}
	if is := with(m[key], way[1:], part); is != nil {
		out[key] = is
	} else {
		delete(out, key)
	}
	if len(out) == 0 {
		return nil
	}
	return out
}
