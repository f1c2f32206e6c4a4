// Package profile ships the resource types of the Brick Row cloud as a TOSCA
// profile. Adding a resource type is adding a node type to the YAML file.
package profile

import (
	_ "embed"
	"fmt"
	"sync"

	"brickrow/internal/tosca"
)

// Name is the name a template imports the profile by.
const Name = "brickrow.cloud:1"

//go:embed brickrow.cloud-1.yaml
var source []byte

// Library is the shipped profile, read once. It is shared and not to be
// changed.
var Library = sync.OnceValue(func() *tosca.Library {
	lib, findings := tosca.ReadProfile("brickrow.cloud-1.yaml", source)
	if findings.HasErrors() {
		panic(fmt.Sprintf("the shipped profile cannot be read: %v", findings))
	}
	return lib
})

// Load answers the imports of a template.
func Load(name string) (*tosca.Library, bool) {
	if name != Name {
		return nil, false
	}
	return Library(), true
}
