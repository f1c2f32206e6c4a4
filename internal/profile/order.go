package profile

import (
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
	if len(grants) == 0 {
		return nil
	}
	out := map[*stack.Resource][]*stack.Resource{}
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
