// Package profile ships the resource types of the Brick Row cloud as a TOSCA
// profile, and all that is known of them by their names: what comes before what,
// what is a risk, and what the cloud would refuse. Adding a resource type is adding
// a node type to the YAML file.
package profile

import (
	"embed"
	"fmt"
	"sync"

	"brickrow/internal/precheck"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

//go:embed *.yaml
var sources embed.FS

// Profile is the shipped types and the knowledge of them. It is not to be changed.
type Profile struct {
	Library *tosca.Library // the types of all profiles
	byName  map[string]*tosca.Library
}

var (
	_ stack.Orders       = (*Profile)(nil)
	_ whatif.Knowledge   = (*Profile)(nil)
	_ precheck.Knowledge = (*Profile)(nil)
)

// Type is a type of the shipped profiles by its name.
func (p *Profile) Type(name string) *tosca.NodeType { return p.Library.Nodes[name] }

// Read reads the shipped profiles, once in a process, which takes some milliseconds.
func Read() *Profile { return shipped() }

var shipped = sync.OnceValue(read)

// read reads the profiles; each of the others builds upon that of the cloud.
func read() *Profile {
	p := &Profile{byName: map[string]*tosca.Library{}}
	for _, name := range tosca.Shipped {
		file := tosca.ProfileFile(name)
		source, err := sources.ReadFile(file)
		lib, findings := tosca.ReadProfile(file, source, p.Load)
		if err != nil || findings.HasErrors() {
			panic(fmt.Sprintf("the shipped profile %s cannot be read: %v %v", name, err, findings))
		}
		p.byName[name] = lib
		if p.Library == nil {
			p.Library = lib.Copy()
			continue
		}
		p.Library.Add(lib)
	}
	return p
}

// Load answers the imports of a template.
func (p *Profile) Load(name string) (*tosca.Library, bool) {
	lib := p.byName[name]
	return lib, lib != nil
}
