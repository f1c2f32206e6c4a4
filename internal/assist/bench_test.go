package assist

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"brickrow/internal/bundle"
	"brickrow/internal/tosca"
)

// large is a template of many nodes.
func large(n int) string {
	var b strings.Builder
	b.WriteString(head + "service_template:\n  inputs:\n    keep: { type: Duration, default: 2 d }\n  node_templates:\n")
	for i := range n {
		fmt.Fprintf(&b, "    queue_%d:\n      type: Queue\n      properties:\n        label: \"queue %d\"\n        keep: { $get_input: keep }\n", i, i)
	}
	return b.String()
}

// BenchmarkAssist is from a letter that is typed to what is offered, and to the help,
// in a text of many nodes.
func BenchmarkAssist(b *testing.B) {
	for _, n := range []int{1000, 10_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			w := New(bundle.Disk, shipped.Library, tosca.Shipped...)
			text := NewText(large(n))
			at := Place{len(text.Lines) / 2, 0}
			for !strings.HasPrefix(text.Line(at.Line), "        keep:") {
				at.Line++
			}
			at.Column = 8
			text = text.Apply(Edit{Range{at, at}, "\n        "}) // an empty line, to type in
			var complete, help time.Duration
			for i := range b.N {
				to := at
				text = text.Apply(Edit{Range{at, to}, "t"})
				w.Set("/large.yaml", text)
				begun := time.Now()
				offered := w.Complete("/large.yaml", Place{at.Line, at.Column + 1})
				complete += time.Since(begun)
				begun = time.Now()
				w.Hover("/large.yaml", Place{at.Line + 1, 10})
				help += time.Since(begun)
				if i == 0 && len(offered) == 0 {
					b.Fatalf("nothing is offered at %d: %q", at.Line, text.Lines[at.Line-2:at.Line+3])
				}
				text = text.Apply(Edit{Range{at, Place{at.Line, at.Column + 1}}, ""})
			}
			b.ReportMetric(float64(complete.Microseconds())/1000/float64(b.N), "ms/completion")
			b.ReportMetric(float64(help.Microseconds())/1000/float64(b.N), "ms/help")
		})
	}
}
