package profile

import (
	"cmp"
	"slices"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// After lets what acts as a role, and says what it does, come after the grants of
// that role, as it could not become well before them.
func (*Profile) After(all []*stack.Resource) map[*stack.Resource][]*stack.Resource {
	grants := map[string][]*stack.Resource{}
	for _, res := range all {
		if res.Type.Name == "Grant" {
			for _, role := range res.Targets("role") {
				grants[role] = append(grants[role], res)
			}
		}
	}
	out := map[*stack.Resource][]*stack.Resource{}
	inOrder(all, out)
	for _, res := range all {
		p := res.Property("needs")
		if p == nil || stack.Same(p.Value, tosca.Null{}) || stack.Same(p.Value, tosca.List{}) {
			continue
		}
		for _, role := range res.Targets("role") {
			out[res] = append(out[res], grants[role]...)
		}
	}
	return out
}

// inOrder lets software come after that of the same server which has a lower number.
func inOrder(all []*stack.Resource, out map[*stack.Resource][]*stack.Resource) {
	on := map[string][]*stack.Resource{}
	number := func(res *stack.Resource) int64 {
		n, _ := res.Value("order").(tosca.Int)
		return int64(n)
	}
	for _, res := range all {
		if res.Type.Name == "Software" {
			for _, host := range res.Targets("host") {
				on[host] = append(on[host], res)
			}
		}
	}
	for _, list := range on {
		slices.SortStableFunc(list, func(a, b *stack.Resource) int { return cmp.Compare(number(a), number(b)) })
		for i, res := range list {
			for k := i - 1; k >= 0; k-- { // those of the next lower number: they come after the others
				if number(list[k]) == number(res) {
					continue
				}
				out[res] = append(out[res], list[k])
				if k > 0 && number(list[k-1]) != number(list[k]) {
					break
				}
			}
		}
	}
}
