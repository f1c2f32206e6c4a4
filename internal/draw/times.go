package draw

import (
	"fmt"
	"math"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Times is a picture of how long a run took, resource by resource.
type Times struct {
	Stack   string
	Target  stack.Target
	Careful bool
	About   string // such as "deploy, run 4: done"
	Bars    []Bar  // in the order in which they began
	Length  time.Duration
	Made    time.Time
	// Before is the number of the run that it is compared with, and Compared how it stands
	// beside that, in words; 0 is none.
	Before   int
	Compared string
}

// Bar is the time that one resource took. From and To are counted from the
// beginning of the run.
type Bar struct {
	Name, Type, State string
	From, To          time.Duration
	Waited            time.Duration // though nothing that it needed was missing any more
	Took              time.Duration // the last time; 0 is not known
	Bad               bool          // it failed
	Critical          bool          // it is on the path that took longest
}

func (t Times) title() string   { return "A run of " + t.Stack + " in " + t.Target.String() }
func (t Times) made() time.Time { return t.Made }
func (t Times) footer() string {
	return fmt.Sprintf("Brick Row · %s in %s · %s · %s", t.Stack, t.Target, t.About,
		t.Made.UTC().Format("2006-01-02 15:04 UTC"))
}

// tick is a round step with which a length is divided into few parts, both in
// seconds.
func tick(length float64) float64 {
	for _, s := range []float64{0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120,
		300, 600, 900, 1800, 3600} {
		if length/s <= 10 {
			return s
		}
	}
	return math.Ceil(length/36000) * 3600
}

func (t Times) lay(f *flow) {
	f.head(t.Stack, t.Target, t.Careful,
		fmt.Sprintf("%s; %s. Drawn %s.", t.About, whatif.Length(t.Length.Seconds()),
			t.Made.UTC().Format("2006-01-02 15:04 UTC")))
	if t.Compared != "" {
		f.y += 10
		f.write(left, f.y, 8.5, regular, ink, t.Compared)
	}
	f.y += 8
	const at = left + 230
	const wide = right - at - 70
	length := max(t.Length.Seconds(), 1e-3)
	x := func(d time.Duration) float64 { return at + min(1, d.Seconds()/length)*wide }
	scale := func() {
		f.y += 14
		step := tick(length)
		for s := 0.0; s <= length; s += step {
			px := at + s/length*wide
			f.line(px, f.y, px, f.y+4, dim, 0.5)
			f.write(px-4, f.y-3, 7, regular, dim, fmt.Sprintf("%g s", math.Round(s*1000)/1000))
		}
		f.line(at, f.y+4, at+wide, f.y+4, dim, 0.5)
		f.y += 6
	}
	scale()
	for _, b := range t.Bars {
		if f.paged && f.room() < 20 {
			f.newPage()
			scale()
		}
		f.y += 13
		weight := regular
		if b.Critical {
			weight = bold
		}
		f.clipped(left, f.y-3, 150, 8.5, weight, ink, b.Name)
		f.clipped(left+154, f.y-3, 72, 7.5, regular, dim, b.Type)
		l := looks[whatif.Same]
		if b.Critical {
			l = looks[whatif.Edit]
		}
		edge := l.text
		if b.Bad {
			edge = alarm
		}
		if b.Waited > 0 {
			f.line(x(b.From-b.Waited), f.y-5.5, x(b.From), f.y-5.5, dim, 0.8)
		}
		f.box(x(b.From), f.y-10, max(1.5, x(b.To)-x(b.From)), 9, &l.ground, &edge,
			map[bool]float64{true: 1.6, false: 0.7}[b.Bad || b.Critical], b.Bad)
		tone := dim
		if b.Bad {
			tone = alarm
		}
		f.write(x(b.To)+4, f.y-3, 7.5, regular, tone, b.State+" "+whatif.Length((b.To-b.From).Seconds()))
		if b.Took > 0 {
			f.y += 3
			f.box(x(b.From), f.y-3, max(1.5, x(b.From+b.Took)-x(b.From)), 2, &rule, nil, 0, false)
		}
	}
	f.y += 16
	f.need(10)
	f.write(left, f.y, 7.5, regular, dim,
		"In bold and with a strong edge: the path that took longest. With a dashed edge: what failed. A thin line in front: it waited for its turn.")
	if t.Before > 0 {
		f.y += 10
		f.write(left, f.y, 7.5, regular, dim, fmt.Sprintf("The grey bar beneath: how long it took before, in run %d or earlier.", t.Before))
	}
	f.y += 4
}
