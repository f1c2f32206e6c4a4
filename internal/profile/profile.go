// Package profile ships the resource types of the Brick Row cloud as a TOSCA
// profile, and all that is known of them by their names: what comes before what,
// what is a risk, and what the cloud would refuse. Adding a resource type is adding
// a node type to the YAML file.
package profile

import (
	_ "embed"
	"fmt"

	"brickrow/internal/precheck"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Name is the name a template imports the profile by.
const Name = "brickrow.cloud:1"

//go:embed brickrow.cloud-1.yaml
var source []byte

// Profile is the shipped types and the knowledge of them. It is not to be changed.
type Profile struct {
	Library *tosca.Library
}

var (
	_ stack.Orders       = (*Profile)(nil)
	_ whatif.Knowledge   = (*Profile)(nil)
	_ precheck.Knowledge = (*Profile)(nil)
)

// Read reads the shipped profile. It takes some milliseconds: who needs it often
// keeps it.
func Read() *Profile {
	lib, findings := tosca.ReadProfile("brickrow.cloud-1.yaml", source)
	if findings.HasErrors() {
		panic(fmt.Sprintf("the shipped profile cannot be read: %v", findings))
	}
	return &Profile{lib}
}

// Load answers the imports of a template.
func (p *Profile) Load(name string) (*tosca.Library, bool) {
	if name != Name {
		return nil, false
	}
	return p.Library, true
}
