package draw

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"brickrow/internal/stack"
)

// built is a made-up stack of n resources, of which each needs a few of those before.
func built(n int, r *rand.Rand) Stack {
	s := Stack{Name: "huts", Target: stack.Target{Account: "workshop", Region: "alder-1"}, Made: time.Unix(1e9, 0)}
	for i := range n {
		one := Resource{Name: fmt.Sprintf("hut_%d", i), Type: "Server"}
		for range min(i, r.IntN(4)) {
			one.Needs = append(one.Needs, fmt.Sprintf("hut_%d", max(0, i-1-r.IntN(12))))
		}
		s.Resources = append(s.Resources, one)
	}
	return s
}

// Lines go through the mortar alone, and no two lie on each other.
func TestLinksGoThroughTheMortar(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for n := 2; n <= 60; n += 2 {
		s := built(n, r)
		s.Links = true
		if n%3 == 0 {
			if err := s.Choose(fmt.Sprintf("hut_%d", n/2)); err != nil {
				t.Fatal(err)
			}
		}
		var bricks, lines [][4]float64
		for _, sh := range layOut(s, true).pages[0].shapes {
			switch p := sh.points; {
			case len(p) == 4 && sh.fill != nil && sh.stroke != nil:
				bricks = append(bricks, [4]float64{p[0][0], p[0][1], p[2][0], p[2][1]})
			case len(p) == 2 && sh.width < 1.4 && *sh.stroke != rule:
				lines = append(lines, [4]float64{min(p[0][0], p[1][0]), min(p[0][1], p[1][1]), max(p[0][0], p[1][0]), max(p[0][1], p[1][1])})
			}
		}
		needs := 0
		g := stack.Graph{}
		for _, one := range s.Resources {
			needs += len(one.Needs)
			g[one.Name] = one.Needs
		}
		if len(bricks) != n || needs > 0 && len(lines) < 3*needs {
			t.Fatalf("%d bricks and %d lines for %d resources with %d needs", len(bricks), len(lines), n, needs)
		}
		for _, l := range lines {
			for _, b := range bricks {
				if l[0] < b[2]-0.4 && l[2] > b[0]+0.4 && l[1] < b[3]-0.4 && l[3] > b[1]+0.4 {
					t.Fatalf("%d resources: the line %v goes through the brick %v", n, l, b)
				}
			}
		}
		for i, a := range lines {
			for _, b := range lines[:i] {
				level := a[1] == a[3] && b[1] == b[3] && a[1] == b[1] && a[2]-a[0] > 0.1 && b[2]-b[0] > 0.1
				if level && a[0] < b[2]-0.1 && b[0] < a[2]-0.1 && n < 40 {
					t.Fatalf("%d resources: %v lies on %v", n, a, b)
				}
			}
		}
	}
}

// What one brick needs and carries is strong at any size.
func TestStrongLinks(t *testing.T) {
	s := built(1000, rand.New(rand.NewPCG(9, 9)))
	if err := s.Choose("hut_500"); err != nil {
		t.Fatal(err)
	}
	strong := 0
	for _, p := range layOut(s, true).pages {
		for _, sh := range p.shapes {
			if len(sh.points) == 2 && *sh.stroke == ink && sh.width < 1.4 {
				strong++
			}
		}
	}
	if strong < 20 {
		t.Errorf("%d strong lines", strong)
	}
	if err := s.Choose("hot_5"); err == nil {
		t.Error("what there is not was chosen")
	}
	counted := Stack{Resources: []Resource{{Name: "a#0"}, {Name: "a#1"}, {Name: "b/c"}}}
	if err := counted.Choose("a"); err != nil || len(counted.Of) != 2 {
		t.Error(err, counted.Of)
	}
	if err := counted.Choose("b"); err != nil || len(counted.Of) != 1 {
		t.Error(err, counted.Of)
	}
}
