package stacks

import (
	"fmt"
	"testing"

	"brickrow/internal/app"
	"brickrow/internal/stack"
	"brickrow/internal/tui/part"
	"brickrow/internal/tui/part/parttest"
)

// BenchmarkKey goes from a stack of many resources to the next, and back, among a
// hundred.
func BenchmarkKey(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh := parttest.New(b, nil)
		v := New(sh)
		v.ready = true
		for i := range 100 {
			g := stack.Graph{"a": nil}
			if i == 0 {
				g = parttest.Changes(n).Graph()
			}
			st := &stack.Stack{ID: int64(i + 1), Name: fmt.Sprint("stack-", i), State: stack.Ready, Revision: 1}
			v.rows = append(v.rows, line{Subject: part.Subject{Name: st.Name, Target: "workshop/alder-1", Stack: st}})
			if i == 0 {
				v.contents, v.of = &app.Contents{Graph: g, Courses: g.Courses()}, v.rows[0].key()
				v.wall.Set(g)
			}
		}
		v.sel = v.rows[0].id()
		b.Run(fmt.Sprint(n), func(b *testing.B) { sh.Keys(b, v, "jk") })
	}
}
