package inventory

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/app"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part/parttest"
)

// many is an inventory of n resources in ten stacks and nobody's, each using the one before.
func many(n int) *app.Inventory {
	var list []*app.There
	for i := range n {
		t := &app.There{Target: stack.Target{Account: "workshop", Region: "alder-1"}, Live: &stack.Live{ID: fmt.Sprint("topic~", i), Type: "Topic",
			State: "ready", Tags: map[string]string{"team": fmt.Sprint("t", i%3)}, Properties: map[string]tosca.Value{"label": tosca.String("hut")}}}
		if i > 0 {
			t.Links = map[string][]string{"next": {fmt.Sprint("topic~", i-1)}}
		}
		if s := i * 11 / n; s < 10 {
			t.Owner = &app.Owner{Stack: fmt.Sprint("stack-", s), Node: fmt.Sprint("r", i), Of: &stack.Stack{Name: fmt.Sprint("stack-", s)},
				Recorded: &stack.Recorded{}}
		}
		t.Gone = i%997 == 500
		list = append(list, t)
	}
	return app.NewInventory(list...)
}

// BenchmarkKey walks among many resources.
func BenchmarkKey(b *testing.B) {
	for _, n := range parttest.Sizes {
		sh := parttest.New(b, nil)
		v := New(sh)
		v.inv = many(n)
		v.lay()
		b.Run(fmt.Sprint("walk/", n), func(b *testing.B) { sh.Keys(b, v, "jlkhjn") })
		b.Run(fmt.Sprint("filter/", n), func(b *testing.B) {
			i := 0
			for b.Loop() {
				v.filter.Input.SetValue([]string{"r1", "r12", "team=t2", ""}[i%4])
				v.lay()
				sh.Styled(v)
				i++
			}
		})
		b.Run(fmt.Sprint("first/", n), func(b *testing.B) {
			inv := many(n)
			for b.Loop() {
				v := New(sh)
				v.follows = &feed{}
				v.looked(looked{inv, nil})
				sh.Styled(v)
			}
		})
	}
}

// All that is there can be reached by walking, whatever the size of the screen, and what is
// chosen is in sight.
func TestWalking(t *testing.T) {
	for _, n := range []int{1, 7, 60, 410} {
		for _, size := range [][2]int{{80, 24}, {142, 42}} {
			if n == 410 && (size[0] > 80 || testing.Short()) {
				continue
			}
			for _, table := range []bool{false, true} {
				sh := parttest.New(t, nil)
				sh.W, sh.H = size[0], size[1]
				v := New(sh)
				v.inv, v.table = many(n), table
				v.lay()
				v.sel = v.shown[0].Place()
				sh.Frame(v)
				seen := map[string]bool{}
				for range n + 40 {
					r := v.selected()
					seen[r.ID] = true
					if frame := sh.Frame(v); !strings.Contains(frame, r.ID) || !strings.Contains(frame, r.Name()) {
						t.Fatalf("%d at %v: %s is not spelled out\n%s", n, size, r.ID, frame)
					}
					if at := v.rows.cells[v.index()].line; at < v.top || at >= v.top+v.list.H {
						t.Fatalf("%d at %v: %s is in line %d, which is out of sight", n, size, r.ID, at)
					}
					parttest.Key(v, 'l')
				}
				if len(seen) != n {
					t.Errorf("%d at %v: walked to %d", n, size, len(seen))
				}
				for range n {
					parttest.Key(v, 'k')
				}
				if v.rows.cells[v.index()].line > 1 {
					t.Errorf("%d at %v: going up ends at line %d", n, size, v.rows.cells[v.index()].line)
				}
			}
		}
	}
}
