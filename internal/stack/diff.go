package stack

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"brickrow/internal/tosca"
)

// Effect says what a change of a property does to its resource.
type Effect string

// The effects.
const (
	InPlace Effect = "in_place"
	Swap    Effect = "swap"
)

// PropertyChange is one difference between a resource as it is and as it is
// wanted. Path is the property, followed by keys and indexes into it.
type PropertyChange struct {
	Path          string // for people, such as allow[1].ports
	Pointer       string // the same as a JSON Pointer (RFC 6901)
	Property      string // or the requirement, where Link is set
	Link          bool
	Before, After tosca.Value // nil where there is none
	Unknown       bool        // After is not known until it is built
	Effect        Effect
	OffRecord     bool // what is there is not what is recorded
}

// Words say what it is and what it becomes, for people: of what leads to another resource the
// name, also where that is not built yet; secrets hidden.
func (c PropertyChange) Words() (before, after string) {
	before, after = "not set", tosca.Show(c.After)
	if c.Before != nil {
		before = tosca.Show(c.Before)
	}
	switch {
	case c.After == nil && !c.Unknown:
		after = "taken away"
	case c.Link && before == after:
		after += " (a new one)"
	case c.Link:
	case c.Unknown:
		after = tosca.Show(tosca.Unknown{})
	case tosca.HasSecret(c.After) && c.Before != nil:
		after = "(secret, changed)"
	}
	return before, after
}

// Diff compares a resource that exists with what is wanted of it. Where live
// is nil the record stands in for it. ids yields the cloud id of a wanted
// resource, or "" while it is not known.
func Diff(res *Resource, wanted map[string]tosca.Value, rec *Recorded, live *Live,
	ids func(name string) string) []PropertyChange {
	var out []PropertyChange
	for _, d := range res.Type.Properties {
		was, recorded := rec.Properties[d.Name], rec.Properties[d.Name]
		off := false
		if live != nil {
			was = Seen(recorded, live.Properties[d.Name], rec.Fingerprints[d.Name])
			if d.Name == "tags" {
				was = without(was, OtherTags(wanted[d.Name], rec, live))
			}
			off = !Same(was, recorded)
		}
		if d.Metadata["from_own"] == ownPrograms { // of which the resource knows nothing
			continue
		}
		for _, c := range differences(d.Name, was, wanted[d.Name]) {
			c.Property, c.OffRecord, c.Effect = d.Name, off, InPlace
			if d.Metadata["from_own"] == ownProperties {
				ownChange(res, d, &c, was, wanted[d.Name])
				out = append(out, c)
				continue
			}
			if c.Unknown && (Swaps(d.Metadata) || d.Metadata["swap_when"] != "") ||
				!c.Unknown && SwapNeeded(d.Metadata, was, wanted[d.Name]) {
				c.Effect = Swap
			}
			out = append(out, c)
		}
	}
	if live != nil && live.State == "failed" { // what it carries out did not come to its end
		for _, d := range res.Type.Properties {
			if d.Metadata["from_interface"] != "" && !slices.ContainsFunc(out, func(c PropertyChange) bool { return c.Property == d.Name }) {
				out = append(out, PropertyChange{Path: d.Name, Pointer: tosca.Pointer(d.Name), Property: d.Name, Effect: InPlace,
					Before: tosca.String("failed"), After: tosca.String("carried out again")})
			}
		}
	}
	for _, d := range res.Type.Requirements {
		if c, differs := diffLink(res, d, rec, live, ids); differs {
			out = append(out, c)
		}
	}
	return out
}

// Seen is a property as it is in the cloud, which shows something else in the
// place of secrets: where that is what it showed when the secret was recorded
// (print), it still is that secret; otherwise it is a secret that nobody here
// knows.
func Seen(recorded, shown, print tosca.Value) tosca.Value {
	return seen(recorded, shown, print, func(v tosca.Value) tosca.Value {
		return tosca.Secret{Value: tosca.Map{"set in the cloud": v}}
	})
}

// Restorable is a property as it can be put back: as it is in the cloud, with
// the secrets that are recorded.
func Restorable(recorded, shown tosca.Value) tosca.Value {
	return seen(recorded, shown, nil, nil)
}

func seen(recorded, shown, print tosca.Value, other func(tosca.Value) tosca.Value) tosca.Value {
	if !tosca.HasSecret(recorded) || shown == nil {
		return shown
	}
	switch r := recorded.(type) {
	case tosca.Secret:
		if other == nil || print == nil || tosca.Equal(shown, print) {
			return recorded
		}
		return other(shown)
	case tosca.Map:
		if m, ok := shown.(tosca.Map); ok {
			prints, _ := print.(tosca.Map)
			out := make(tosca.Map, len(m))
			for k, v := range m {
				out[k] = seen(r[k], v, prints[k], other)
			}
			return out
		}
	case tosca.List:
		if l, ok := shown.(tosca.List); ok {
			prints, _ := print.(tosca.List)
			out := make(tosca.List, len(l))
			for i, v := range l {
				var was, p tosca.Value
				if i < len(r) {
					was = r[i]
				}
				if i < len(prints) {
					p = prints[i]
				}
				out[i] = seen(was, v, p, other)
			}
			return out
		}
	}
	return shown
}

// OtherTags lists the tags of a resource in the cloud that others have put
// there: they are neither wanted nor recorded, and are left alone.
func OtherTags(wanted tosca.Value, rec *Recorded, live *Live) []string {
	mine, recorded, there := TagMap(wanted), TagMap(rec.Properties["tags"]), TagMap(live.Properties["tags"])
	if _, whole := rec.Properties["tags"].(tosca.Secret); whole { // the cloud does not show their names
		recorded = TagMap(rec.Fingerprints["tags"])
	}
	var out []string
	for _, k := range there.Keys() {
		if mine[k] == nil && recorded[k] == nil {
			out = append(out, k)
		}
	}
	return out
}

// TagMap is a value of tags by name. Where the whole is secret, each tag is.
func TagMap(v tosca.Value) tosca.Map {
	s, whole := v.(tosca.Secret)
	if whole {
		v = s.Value
	}
	m, _ := v.(tosca.Map)
	if !whole {
		return m
	}
	out := make(tosca.Map, len(m))
	for k, e := range m {
		out[k] = tosca.Hide(e)
	}
	return out
}

// without is a map without some keys; nil where nothing is left.
func without(v tosca.Value, keys []string) tosca.Value {
	m, ok := v.(tosca.Map)
	if !ok || len(keys) == 0 {
		return v
	}
	m = maps.Clone(m)
	for _, k := range keys {
		delete(m, k)
	}
	if len(m) == 0 {
		return nil
	}
	return m
}

// Same reports whether two values are equal; what is not set is null.
func Same(a, b tosca.Value) bool {
	if a == nil {
		a = tosca.Null{}
	}
	if b == nil {
		b = tosca.Null{}
	}
	return tosca.Equal(a, b)
}

// compare lists the places where two values differ, going into maps and into
// lists of maps.
func compare(path, pointer string, before, after tosca.Value) []PropertyChange {
	if tosca.Waits(after) {
		if _, whole := after.(tosca.Unknown); whole || before == nil {
			return []PropertyChange{{Path: path, Pointer: pointer, Before: before, After: after, Unknown: true}}
		}
	} else if Same(before, after) {
		return nil
	}
	switch a := after.(type) {
	case tosca.Map:
		if b, ok := before.(tosca.Map); ok || before == nil && strings.HasPrefix(path, "tags") {
			return compareMaps(path, pointer, b, a)
		}
	case tosca.List:
		b, ok := before.(tosca.List)
		if ok && (ofMaps(a) || ofMaps(b)) {
			var out []PropertyChange
			for i := range max(len(a), len(b)) {
				var x, y tosca.Value
				if i < len(b) {
					x = b[i]
				}
				if i < len(a) {
					y = a[i]
				}
				out = append(out, compare(fmt.Sprintf("%s[%d]", path, i), pointer+tosca.Pointer(strconv.Itoa(i)), x,
					y)...)
			}
			return out
		}
	}
	unknown := tosca.Waits(after)
	if b, ok := before.(tosca.Map); ok && after == nil && strings.HasPrefix(path, "tags") {
		return compareMaps(path, pointer, b, nil)
	}
	return []PropertyChange{{Path: path, Pointer: pointer, Before: before, After: after, Unknown: unknown}}
}

func ofMaps(l tosca.List) bool {
	return slices.ContainsFunc(l, func(v tosca.Value) bool { _, ok := v.(tosca.Map); return ok })
}

func compareMaps(path, pointer string, before, after tosca.Map) []PropertyChange {
	keys := before.Keys()
	for _, k := range after.Keys() {
		if _, both := before[k]; !both {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	var out []PropertyChange
	for _, k := range keys {
		out = append(out, compare(path+"."+tosca.KeyText(k), pointer+tosca.Pointer(tosca.KeyText(k)), before[k],
			after[k])...)
	}
	return out
}

// diffLink compares what a resource rests on by one requirement.
func diffLink(res *Resource, d *tosca.RequirementDef, rec *Recorded, live *Live,
	ids func(string) string) (PropertyChange, bool) {
	var want []string
	for _, l := range res.Links {
		if l.Requirement == d.Name {
			want = l.Targets
		}
	}
	have := rec.Links[d.Name]
	haveIDs := make([]string, len(have))
	names := map[string]string{}
	for i, h := range have {
		haveIDs[i], names[h.ID] = h.ID, h.Name
	}
	c := PropertyChange{Path: d.Name, Pointer: tosca.Pointer(d.Name), Property: d.Name, Link: true, Effect: InPlace}
	if live != nil {
		c.OffRecord = !slices.Equal(haveIDs, live.Links[d.Name])
		haveIDs = live.Links[d.Name]
	}
	differs := len(want) != len(haveIDs)
	for i, n := range want {
		id := ids(n)
		c.Unknown = c.Unknown || id == ""
		differs = differs || id != haveIDs[i]
	}
	if !differs {
		return c, false
	}
	for i, id := range haveIDs {
		if names[id] != "" {
			haveIDs = slices.Clone(haveIDs)
			haveIDs[i] = names[id]
		}
	}
	c.Before, c.After = TextList(haveIDs), TextList(want)
	if Swaps(d.Metadata) {
		c.Effect = Swap
	}
	return c, true
}

// TextList is a list of names as a value: one alone is itself, and none is nil.
func TextList(names []string) tosca.Value {
	switch len(names) {
	case 0:
		return nil
	case 1:
		return tosca.String(names[0])
	}
	l := make(tosca.List, len(names))
	for i, n := range names {
		l[i] = tosca.String(n)
	}
	return l
}
