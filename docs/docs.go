// Package docs is the part of the documentation that the program itself shows.
package docs

import _ "embed"

// Findings says what the codes of findings mean, in Markdown.
//
//go:embed findings.md
var Findings string
