package stack

import (
	"slices"
	"strings"
)

// order sets what each resource needs and sorts them; cycles are reported.
func (r *resolver) order() {
	for _, res := range r.w.Resources {
		needs := baseNeeds(res)
		res.rests = slices.Clone(needs)
		if len(r.w.Selected) > 0 { // what is selected is there already
			needs = slices.DeleteFunc(needs, func(n string) bool { return r.w.byName[n] == nil })
		}
		res.Needs = needs
	}
	r.letFirst()
	if r.sorted() {
		return
	}
	_, cycles := r.w.Graph().Order()
	for _, c := range cycles {
		res := r.w.byName[c[0]]
		if i := slices.IndexFunc(c, func(n string) bool { return r.w.byName[n].scope.outer == nil }); i >= 0 {
			res = r.w.byName[c[i]] // where the template itself has a part in it
		}
		r.findings.Errorf(res.Pos, "cycle", "remove one of these references",
			"resources need each other in a circle: %s", strings.Join(c, " → "))
	}
}

// letFirst lets resources rest on what they should come after although they do
// not name it. What would need the resource itself comes after it all the same.
func (r *resolver) letFirst() {
	if r.options.Orders == nil {
		return
	}
	after := r.options.Orders.After(r.w.Resources)
	for _, res := range r.w.Resources {
		for _, first := range after[res] {
			if !r.rests(first, res, map[string]bool{}) {
				res.Needs = append(res.Needs, first.Name)
			}
		}
		if len(after[res]) > 0 {
			slices.Sort(res.Needs)
			res.Needs = slices.Compact(res.Needs)
		}
	}
}

// rests reports whether a resource needs another one, directly or by way of
// others, or is that one.
func (r *resolver) rests(res, on *Resource, seen map[string]bool) bool {
	if res == on {
		return true
	}
	seen[res.Name] = true
	for _, n := range res.Needs {
		if m := r.w.byName[n]; m != nil && !seen[n] && r.rests(m, on, seen) {
			return true
		}
	}
	return false
}

// sorted puts each resource after what it needs, otherwise in the order of
// names, as Graph.Order does; it is false where they need each other in a
// circle.
func (r *resolver) sorted() bool {
	list := slices.Clone(r.w.Resources)
	slices.SortFunc(list, func(a, b *Resource) int { return CompareNames(a.Name, b.Name) })
	out := r.w.Resources[:0:len(r.w.Resources)]
	var visit func(res *Resource) bool
	visit = func(res *Resource) bool {
		switch res.visit {
		case 2:
			return true
		case 1:
			return false
		}
		res.visit = 1
		for _, n := range res.Needs {
			if m := r.w.byName[n]; m != nil && !visit(m) {
				return false
			}
		}
		res.visit = 2
		out = append(out, res)
		return true
	}
	for _, res := range list {
		if !visit(res) {
			copy(r.w.Resources, list)
			return false
		}
	}
	return true
}
