// Package examples holds the templates and stack files of the demo, and the
// small stacks to begin with. They are real: the tests deploy them too.
package examples

import "embed"

// Ridge is the avalanche bulletin service of Kestrel Ridge.
//
//go:embed kestrel-ridge
var Ridge embed.FS

// Starters are complete small stacks, a folder each: the template is named
// after its folder.
//
//go:embed starters
var Starters embed.FS
