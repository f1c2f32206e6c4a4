package stack

import (
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/tosca"
)

// Drift lists where a resource in the cloud is not as it is recorded: Before is what is
// recorded, After what is there. Tags that others have put there are none. name yields the
// name of a resource in the stack by its id; "" is not in the stack.
func Drift(rec *Recorded, t *tosca.NodeType, live *Live, name func(id string) string) []PropertyChange {
	var out []PropertyChange
	for _, d := range t.Properties {
		recorded := rec.Properties[d.Name]
		is := Seen(recorded, live.Properties[d.Name], rec.Fingerprints[d.Name])
		if d.Name == "tags" {
			is = without(is, OtherTags(nil, rec, live))
			if m, ok := is.(tosca.Map); is == nil || ok && len(m) == 0 {
				is = nil
			}
		}
		for _, c := range compare(d.Name, tosca.Pointer(d.Name), recorded, is) {
			c.Property, c.ByHand, c.Effect = d.Name, true, InPlace
			out = append(out, c)
		}
	}
	for _, d := range t.Requirements {
		var was, is []string
		same := len(rec.Links[d.Name]) == len(live.Links[d.Name])
		for i, l := range rec.Links[d.Name] {
			was = append(was, l.Name)
			same = same && l.ID == live.Links[d.Name][i]
		}
		if same {
			continue
		}
		for _, id := range live.Links[d.Name] {
			if n := name(id); n != "" {
				id = n
			}
			is = append(is, id)
		}
		out = append(out, PropertyChange{Path: d.Name, Pointer: tosca.Pointer(d.Name), Property: d.Name, Link: true, Effect: InPlace,
			ByHand: true, Before: TextList(was), After: TextList(is)})
	}
	return out
}

// At is the part of a value that a JSON Pointer names below its property; nil where there is
// none. The first part of the pointer is the property itself.
func At(v tosca.Value, pointer string) tosca.Value {
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for _, part := range parts[1:] {
		part = strings.ReplaceAll(strings.ReplaceAll(part, "~1", "/"), "~0", "~")
		if s, ok := v.(tosca.Secret); ok {
			v = s.Value
		}
		switch x := v.(type) {
		case tosca.Map:
			i := slices.IndexFunc(x.Keys(), func(k string) bool { return tosca.KeyText(k) == part })
			if i < 0 {
				return nil
			}
			v = x[x.Keys()[i]]
		case tosca.List:
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(x) {
				return nil
			}
			v = x[i]
		default:
			return nil
		}
	}
	return v
}
