package run

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Was is a resource as the cloud showed it before a run, without what is secret,
// for holding it against what is there after undoing.
type Was struct {
	Name       string              `json:"name"` // within the stack
	Type       string              `json:"type"`
	Properties map[string]any      `json:"properties,omitempty"`
	Links      map[string][]string `json:"links,omitempty"`
	Attributes map[string]any      `json:"attributes,omitempty"`
	Tags       map[string]string   `json:"tags,omitempty"`
	ChangedBy  string              `json:"-"` // as the cloud says; it is no part of how it is
}

// UnmarshalJSON also takes the digests that earlier versions wrote, of which
// nothing can be told.
func (w *Was) UnmarshalJSON(text []byte) error {
	if len(text) > 0 && text[0] == '"' {
		*w = Was{}
		return nil
	}
	type plain Was
	return json.Unmarshal(text, (*plain)(w))
}

// Without is the resource without the secrets.
func (w Was) Without(secrets *tosca.Secrets) Was {
	w.Properties, w.Attributes = secrets.HideIn(w.Properties), secrets.HideIn(w.Attributes)
	tags := make(map[string]string, len(w.Tags))
	for k, v := range w.Tags {
		tags[secrets.Hide(k)] = secrets.Hide(v)
	}
	w.Tags = tags
	return w
}

// Differences says in words how resources differ from what they were, as Differing does.
func Differences(was, is map[string]Was) []string {
	var out []string
	for _, d := range Differing(was, is) {
		out = append(out, d.Words)
	}
	return out
}

// Differing says how resources differ from what they were, by their
// ids in the cloud: those that are gone, that are there and were not, and each
// part that is not as it was. What is not set is the same as what is empty.
func Differing(was, is map[string]Was) []stack.ReceiptPart {
	var out []stack.ReceiptPart
	for id, w := range was {
		now, there := is[id]
		switch {
		case w.Type == "": // a digest
		case !there:
			out = append(out, stack.ReceiptPart{ID: id, Name: w.Name, Before: "there", Words: fmt.Sprintf("%s (%s) is gone", w.Name, id)})
		default:
			out = append(out, w.differs(id, now)...)
		}
	}
	for id, now := range is {
		if _, known := was[id]; !known {
			out = append(out, stack.ReceiptPart{ID: id, Name: now.Name, After: "there", Words: fmt.Sprintf("%s (%s) is there, and was not", now.Name, id)})
		}
	}
	slices.SortFunc(out, func(a, b stack.ReceiptPart) int { return strings.Compare(a.Words, b.Words) })
	return out
}

func (w Was) differs(id string, now Was) []stack.ReceiptPart {
	var out []stack.ReceiptPart
	for _, part := range []struct {
		prefix   string
		was, now any
	}{{"", w.Properties, now.Properties}, {"", w.Links, now.Links}, {"", w.Attributes, now.Attributes}, {"tag ",
		w.Tags, now.Tags}} {
		before, after := flat(part.was), flat(part.now)
		for _, key := range keysOf(before, after) {
			if !reflect.DeepEqual(before[key], after[key]) {
				out = append(out, stack.ReceiptPart{ID: id, Name: w.Name, Path: strings.ReplaceAll(part.prefix, "tag ", "tags.") + key, Before: before[key], After: after[key],
					Words: fmt.Sprintf("%s of %s is %s, was %s", part.prefix+key, w.Name, inWords(after[key]), inWords(before[key]))})
			}
		}
	}
	return out
}

// flat is a map as encoding/json decodes it, without what is empty.
func flat(x any) map[string]any {
	text, err := json.Marshal(x)
	if err != nil {
		return nil
	}
	m := map[string]any{}
	if json.Unmarshal(text, &m) != nil {
		return nil
	}
	for k, v := range m {
		if empty(v) {
			delete(m, k)
		}
	}
	return m
}

func empty(x any) bool {
	switch x := x.(type) {
	case nil:
		return true
	case string:
		return x == ""
	case []any:
		return len(x) == 0
	case map[string]any:
		return len(x) == 0
	}
	return false
}

func keysOf(a, b map[string]any) []string {
	var out []string
	for k := range a {
		out = append(out, k)
	}
	for k := range b {
		if _, both := a[k]; !both {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

func inWords(x any) string {
	switch x := x.(type) {
	case nil:
		return "not set"
	case string:
		return x
	}
	text, err := json.Marshal(x)
	if err != nil {
		return "?"
	}
	return strings.ReplaceAll(string(text), `"`, "")
}
