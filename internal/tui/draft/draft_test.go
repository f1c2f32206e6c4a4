package draft

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/app"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part/parttest"
)

// BenchmarkKey goes from line to line of a long template; BenchmarkOpen splits it
// into lines and colours the first ones.
func BenchmarkKey(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh := parttest.New(b, nil)
		v := New(sh)
		v.heard(newLoaded(long(n)))
		b.Run(fmt.Sprint(n), func(b *testing.B) { sh.Keys(b, v, "jk") })
	}
}

func BenchmarkOpen(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh, d := parttest.New(b, nil), long(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				v := New(sh)
				v.heard(newLoaded(d))
				sh.Styled(v)
			}
		})
	}
}

func newLoaded(d *app.Draft) loaded {
	names, docs := readFiles(d, false)
	return loaded{draft: d, names: names, docs: docs}
}

// long is a draft of a template with many nodes.
func long(n int) *app.Draft {
	var text strings.Builder
	text.WriteString("tosca_definitions_version: tosca_2_0\nservice_template:\n  node_templates:\n")
	for i := range n {
		fmt.Fprintf(&text,
			"    r%d:\n      type: Topic\n      properties: { label: \"topic %d\" }\n      requirements: [ { on: r%d } ]\n", i, i, max(0, i-200))
	}
	return &app.Draft{Parsed: &app.Parsed{Path: "large.stack.yaml", Template: "large.yaml", Text: text.String(),
		File: &tosca.File{Service: &tosca.ServiceTemplate{}}}, Wanted: &stack.Wanted{}}
}
