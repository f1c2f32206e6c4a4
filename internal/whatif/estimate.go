package whatif

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"brickrow/internal/stack"
)

// Estimate is how long carrying out a change set would take.
type Estimate struct {
	Seconds float64 `json:"seconds"`
	// Low and High are what it would be if all went as fast, and as slowly, as
	// in the quicker and the slower half of the past runs.
	Low  float64 `json:"low"`
	High float64 `json:"high"`
	// Chain is what follows one after the other and takes longest.
	Chain []Link `json:"chain"`
	// Crowded says that there is so much to do that the limit of what is under
	// way at once holds it up, rather than the chain.
	Crowded bool `json:"crowded"`
	AtOnce  int  `json:"at_once"` // what may be under way at once
	// Margin is by how much such estimates were off.
	Margin Margin `json:"margin"`
}

// Margin is by how much estimates were off in past runs: in four of five the time that a
// run took was within this share of what was said before it.
type Margin struct {
	Share float64 `json:"share"` // 0.12 is 12 %
	Runs  int     `json:"runs"`  // that tell it; with less than 3 nobody knows
}

// MarginOf measures by how much estimates were off, in seconds, beside what was taken.
func MarginOf(estimates, took []float64) Margin {
	var off []float64
	for i, e := range estimates {
		share := took[i]/e - 1
		off = append(off, max(share, -share))
	}
	if len(off) == 0 {
		return Margin{}
	}
	slices.Sort(off)
	return Margin{Share: off[(len(off)*4+4)/5-1], Runs: len(off)}
}

// String is the margin in words; "" is not known.
func (m Margin) String() string {
	switch {
	case m.Runs < 3:
		return ""
	case m.Share > 1:
		return "(such estimates were far off here)"
	}
	return fmt.Sprintf("± %.0f %%", max(1, 100*m.Share))
}

// Link is one change in the chain that takes longest.
type Link struct {
	Resource string  `json:"resource"`
	Kind     Kind    `json:"kind"`
	Seconds  float64 `json:"seconds"`
	Runs     int     `json:"runs"` // past ones that Seconds is the median of; 0 means nominal
}

// Known counts the links of the chain that past runs tell of.
func (e Estimate) Known() int {
	n := 0
	for _, l := range e.Chain {
		if l.Runs > 0 {
			n++
		}
	}
	return n
}

// Sure says in words what the estimate rests on.
func (e Estimate) Sure() string {
	known, all := e.Known(), len(e.Chain)
	if e.Crowded && all > 0 {
		with := e
		with.Crowded = false
		return fmt.Sprintf("more to do than %d at once, so it takes longer; %s", cmp.Or(e.AtOnce, Limit), with.Sure())
	}
	runs := 0
	for i, l := range e.Chain {
		if runs = min(runs, l.Runs); i == 0 {
			runs = l.Runs
		}
	}
	by := fmt.Sprintf("by %d past runs", runs)
	if runs == 1 {
		by = "by one past run"
	}
	switch {
	case all == 0:
		return ""
	case known == 0:
		return "by nominal times; no past run tells more"
	case known < all:
		return fmt.Sprintf("%d of %d by past runs, the rest by nominal times", known, all)
	case round(e.Low) == round(e.High):
		return by
	}
	return fmt.Sprintf("%s, %s to %s", by, Length(e.Low), Length(e.High))
}

// About is how long it would take, in words, with how far off that may be.
func (e Estimate) About() string {
	if round(e.Seconds) == 0 {
		return "a moment"
	}
	return strings.TrimSpace("about " + Length(e.Seconds) + " " + e.Margin.String())
}

// Way is the chain in words: "net 4.0 s › gate 20 s".
func (e Estimate) Way() string {
	var parts []string
	for _, l := range e.Chain {
		part := l.Resource + " " + Length(l.Seconds)
		if l.Kind == Drop {
			part = "removing " + part
		}
		if l.Seconds > 0 {
			parts = append(parts, part)
		}
	}
	return strings.Join(parts, " › ")
}

// round is seconds as exact as an estimate can be.
func round(s float64) float64 {
	if s < 1 {
		return math.Round(s*1000) / 1000
	}
	return math.Round(s*10) / 10
}

// span is how long one change takes: likely, and when it goes well or badly.
type span struct {
	likely, low, high float64
	runs              int
}

func (s span) plus(o span) span {
	return span{s.likely + o.likely, s.low + o.low, s.high + o.high, s.runs + o.runs}
}

func (s span) over(n float64) span { return span{s.likely / n, s.low / n, s.high / n, s.runs} }

func longer(a, b span) span {
	return span{max(a.likely, b.likely), max(a.low, b.low), max(a.high, b.high), a.runs + b.runs}
}

// takes is how long a change takes: by the median of past runs where there are
// any.
func (c *Comparison) takes(ch *Change, k Kind) span {
	if k == Same {
		return span{}
	}
	nominal := c.Duration(ch, k)
	var past []float64
	if c.Past != nil {
		typ := ch.Type
		if k == Drop && ch.Recorded != nil {
			typ = ch.Recorded.Type
		}
		past = c.Past(typ, k)
	}
	if len(past) == 0 {
		return span{nominal, nominal, nominal, 0}
	}
	return span{nominal * Quantile(past, 0.5), nominal * Quantile(past, 0.25), nominal * Quantile(past, 0.75),
		len(past)}
}

// Quantile is the value below which a part of a list lies, from 0 to 1; the list
// must not be empty.
func Quantile(list []float64, part float64) float64 {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[int(math.Round(part*float64(len(sorted)-1)))]
}

// estimate walks the critical path of the build, then what cannot be put back,
// and then the critical path of the sweep. Where there is so much to do that
// the limit holds it up, all the work divided by the limit takes longer than
// the path.
func (c *Comparison) estimate() {
	if c.Duration == nil {
		return
	}
	sweep := stack.Graph{}
	times := map[string]span{}
	gone := map[string]span{}
	e := Estimate{AtOnce: cmp.Or(c.AtOnce, Limit), Margin: c.Margin}
	var last, work, sweeping span
	var oneWay []Link
	for i := range c.Set.Changes {
		ch := &c.Set.Changes[i]
		switch {
		case ch.OneWay:
			t := c.takes(ch, ch.Kind).plus(c.copies(ch))
			last = last.plus(t)
			oneWay = append(oneWay, Link{ch.Name, ch.Kind, round(t.likely), t.runs})
		case ch.Wanted != nil:
			if ch.Kind != Same {
				times[ch.Name] = c.takes(ch, ch.Kind)
				if ch.Restarts() || ch.DropFirst {
					times[ch.Name] = times[ch.Name].plus(drain(ch))
				}
				if ch.DropFirst {
					times[ch.Name] = times[ch.Name].plus(c.takes(ch, Drop)).plus(c.copies(ch))
				}
				if ch.Refills() {
					if times[ch.Name] = times[ch.Name].plus(c.takes(ch, Fills)); !ch.DropFirst {
						times[ch.Name] = times[ch.Name].plus(c.takes(ch, Backs))
					}
				}
				work = work.plus(times[ch.Name])
			}
		}
		if ch.Recorded != nil && (ch.Kind == Drop || ch.Kind == Swap && !ch.DropFirst) {
			sweep[ch.Name], gone[ch.Name] = ch.Recorded.Needs, c.takes(ch, Drop).plus(drain(ch)).plus(c.copies(ch))
			sweeping = sweeping.plus(gone[ch.Name])
		}
	}
	whole := func(path []string, times map[string]span, kind func(string) Kind, work span) span {
		var along span
		for _, n := range path {
			along = along.plus(times[n])
			if kind(n) != Same {
				e.Chain = append(e.Chain, Link{n, kind(n), round(times[n].likely), times[n].runs})
			}
		}
		if shared := work.over(float64(cmp.Or(c.AtOnce, Limit))); shared.likely > along.likely {
			e.Crowded = true
			return longer(along, shared)
		}
		return along
	}
	total := whole(c.longest(times), times, func(n string) Kind { return c.Change(n).Kind }, work).plus(last)
	e.Chain = append(e.Chain, oneWay...)
	path, _ := sweep.CriticalPath(func(n string) float64 { return gone[n].likely })
	slices.Reverse(path) // what rests on others goes first
	total = total.plus(whole(path, gone, func(string) Kind { return Drop }, sweeping))
	e.Seconds, e.Low, e.High = round(total.likely), round(total.low), round(total.high)
	c.Set.Estimate = e
}

// copies is how long the backup takes that comes before a change.
func (c *Comparison) copies(ch *Change) span {
	if ch.BacksUp() == 0 {
		return span{}
	}
	return c.takes(ch, Backs)
}

// drain is how long a resource has to finish its work, which may be all of it.
func drain(ch *Change) span {
	s := ch.Drains().Seconds()
	return span{likely: s, low: 0, high: s}
}

// waitsFor reports whether what rests on a change waits for it: not where it stays
// the same, nor where it is made last of all.
func (c *Comparison) waitsFor(i int) bool {
	ch := &c.Set.Changes[i]
	return ch.Kind != Same && ch.Wanted != nil && !ch.OneWay
}

// longest is the path through the build that takes longest. The changes stand
// each after what it needs.
func (c *Comparison) longest(times map[string]span) (path []string) {
	if len(times) == 0 {
		return nil
	}
	end := make([]float64, len(c.Set.Changes))
	from := make([]int, len(end))
	last := 0
	for i := range c.Set.Changes {
		ch := &c.Set.Changes[i]
		from[i] = -1
		if ch.Wanted == nil || ch.OneWay {
			continue
		}
		for _, n := range ch.Needs {
			if j, ok := c.index[n]; ok && j < i && c.waitsFor(j) && (end[j] > end[i] || from[i] < 0) {
				end[i], from[i] = max(end[j], end[i]), j
			}
		}
		end[i] += times[ch.Name].likely
		if end[i] > end[last] || c.Set.Changes[last].Kind == Same && ch.Kind != Same {
			last = i
		}
	}
	for i := last; i >= 0; i = from[i] {
		path = append(path, c.Set.Changes[i].Name)
	}
	slices.Reverse(path)
	return path
}
