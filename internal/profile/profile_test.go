package profile

import (
	"testing"

	"brickrow/internal/tosca"
)

func TestShippedProfileIsSound(t *testing.T) {
	lib := Read().Library
	duration := lib.Data["Duration"]
	for name, n := range lib.Nodes {
		if n.Description == "" {
			t.Errorf("%s has no description", name)
		}
		if name == "Resource" {
			continue
		}
		var takes tosca.Findings
		if v := duration.Fit(tosca.String(n.Metadata["takes"]), n.Pos, name, &takes); len(takes) > 0 {
			t.Errorf("%s: takes %v: %v", name, v, takes)
		}
		for _, p := range append(append([]*tosca.Property{}, n.Properties...), n.Attributes...) {
			if p.Description == "" {
				t.Errorf("%s.%s has no description", name, p.Name)
			}
		}
		for _, p := range n.Properties {
			if p.Type == nil {
				t.Errorf("%s.%s has no type", name, p.Name)
			}
			if p.Default == nil && p.Metadata["example"] == "" && p.Validation == nil {
				t.Errorf("%s.%s shows no example", name, p.Name)
			}
			if p.Type != nil {
				for _, f := range p.Type.Fields {
					if f.Description == "" {
						t.Errorf("%s.%s.%s has no description", name, p.Name, f.Name)
					}
				}
			}
			if p.Required && p.Default == nil && p.Metadata["example"] == "" && p.Validation == nil {
				t.Errorf("%s.%s must be given and shows no example", name, p.Name)
			}
		}
		for _, q := range n.Requirements {
			if q.Description == "" {
				t.Errorf("%s: the requirement %s has no description", name, q.Name)
			}
			if lib.Nodes[q.Node] == nil {
				t.Errorf("%s wants %s, which does not exist", name, q.Node)
			}
		}
	}
}
