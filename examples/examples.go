// Package examples holds the templates and stack files of the demo. They are
// real: the tests deploy them too.
package examples

import "embed"

// Ridge is the avalanche bulletin service of Kestrel Ridge.
//
//go:embed kestrel-ridge
var Ridge embed.FS
