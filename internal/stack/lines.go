package stack

import (
	"fmt"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"brickrow/internal/tosca"
)

// Lines is a change of a text of several lines, as lines: those that go begin with "- ", those
// that come with "+ ", and those beside them, or that only come or go as a whole, with two
// spaces. It is nil where there is no such text.
func (c PropertyChange) Lines() []string {
	before, isBefore := c.Before.(tosca.String)
	after, isAfter := c.After.(tosca.String)
	if c.Unknown || c.Before != nil && !isBefore || c.After != nil && !isAfter ||
		!strings.Contains(strings.TrimSpace(string(before)), "\n") && !strings.Contains(strings.TrimSpace(string(after)), "\n") {
		return nil
	}
	a, b := linesIn(string(before)), linesIn(string(after))
	var out []string
	add := func(mark string, lines []string) {
		for _, l := range lines {
			out = append(out, mark+l)
		}
	}
	if c.Before == nil || c.After == nil {
		add("  ", append(a, b...))
		return out
	}
	end := 0
	for _, group := range difflib.NewMatcher(a, b).GetGroupedOpCodes(1) {
		for _, o := range group {
			if o.I1 > end {
				out = append(out, fmt.Sprintf("… line %d", o.I1+1))
			}
			switch end = o.I2; o.Tag {
			case 'e':
				add("  ", a[o.I1:o.I2])
			default:
				add("- ", a[o.I1:o.I2])
				add("+ ", b[o.J1:o.J2])
			}
		}
	}
	return out
}

func linesIn(text string) []string {
	text = strings.TrimSuffix(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	if text == "" {
		return nil
	}
	return strings.Split(text, "\n")
}

// FirstDifference is the first line, from 1, at which a text differs from what it was.
func FirstDifference(before, after string) int {
	a, b := linesIn(before), linesIn(after)
	for i := range a {
		if i >= len(b) || a[i] != b[i] {
			return i + 1
		}
	}
	return len(a) + 1
}

// Parts are the values in a map of maps, each by its place, as a change from nothing.
func Parts(property string, v tosca.Value) []PropertyChange {
	m, ok := v.(tosca.Map)
	if !ok {
		return []PropertyChange{{Path: property, Pointer: tosca.Pointer(property), Property: property, After: v, Unknown: tosca.Waits(v), Effect: InPlace}}
	}
	out := parts(property, tosca.Pointer(property), m)
	for i := range out {
		out[i].Property, out[i].Effect = property, InPlace
	}
	return out
}

func parts(path, pointer string, m tosca.Map) []PropertyChange {
	var out []PropertyChange
	for _, k := range m.Keys() {
		p, at := path+"."+tosca.KeyText(k), pointer+tosca.Pointer(tosca.KeyText(k))
		if inner, ok := m[k].(tosca.Map); ok {
			out = append(out, parts(p, at, inner)...)
			continue
		}
		if !tosca.Equal(m[k], tosca.Null{}) {
			out = append(out, PropertyChange{Path: p, Pointer: at, After: m[k], Unknown: tosca.Waits(m[k])})
		}
	}
	return out
}
