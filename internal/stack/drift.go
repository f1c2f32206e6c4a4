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
		is := There(rec, live, d.Name)
		if d.Metadata["from_own"] == ownPrograms || Same(rec.Properties[d.Name], is) {
			continue
		}
		for _, c := range differences(d.Name, rec.Properties[d.Name], is) {
			c.Property, c.OffRecord, c.Effect = d.Name, true, InPlace
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
			OffRecord: true, Before: TextList(was), After: TextList(is)})
	}
	return out
}

// OwnerChanges are the tags that say whose a resource is and do not say so, as somebody has
// changed them by hand. Before is what is there, After what is to be.
func OwnerChanges(stackName, name string, live *Live) []PropertyChange {
	var out []PropertyChange
	if live == nil {
		return nil
	}
	for _, tag := range [][2]string{{"stack", stackName}, {"node", name}} {
		if live.Tags[tag[0]] == tag[1] {
			continue
		}
		c := PropertyChange{Path: "tags." + tag[0], Pointer: "/tags/" + tag[0], Property: "tags", Effect: InPlace, OffRecord: true, After: tosca.String(tag[1])}
		if is, there := live.Tags[tag[0]]; there {
			c.Before = tosca.String(is)
		}
		out = append(out, c)
	}
	return out
}

// Owner reports whether a change is of a tag that says whose a resource is.
func (c *PropertyChange) Owner() bool { return c.Pointer == "/tags/stack" || c.Pointer == "/tags/node" }

// There is a property of a resource as it is in the cloud, with the secrets that are recorded
// and without the tags that others have put there; nil where it is not set.
func There(rec *Recorded, live *Live, property string) tosca.Value {
	is := Seen(rec.Properties[property], live.Properties[property], rec.Fingerprints[property])
	if property != "tags" {
		return is
	}
	is = without(is, OtherTags(nil, rec, live))
	if m, ok := is.(tosca.Map); ok && len(m) == 0 {
		return nil
	}
	return is
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
