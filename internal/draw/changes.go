package draw

import (
	"fmt"
	"strings"
	"time"

	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// Changes is a picture of a change set: all that a reviewer needs to decide.
type Changes struct {
	*whatif.ChangeSet
	Careful bool
	Kind    string // what would be done: deploy, undo, delete, compare
	Made    time.Time
}

func (c Changes) title() string   { return "What-if of " + c.Stack + " in " + c.Target.String() }
func (c Changes) made() time.Time { return c.Made }
func (c Changes) footer() string {
	return fmt.Sprintf("Brick Row · what-if of %s in %s · %s", c.Stack, c.Target,
		c.Made.UTC().Format("2006-01-02 15:04 UTC"))
}

func (c Changes) lay(f *flow) {
	what := map[string]string{"undo": "What going back would do", "delete": "What a deletion would do",
		"compare": "How it differs"}[c.Kind]
	if what == "" {
		what = "What a deployment would do"
	}
	against := fmt.Sprintf("revision %d and the cloud", c.BaseRevision)
	switch {
	case c.Against != "":
		against = c.Against
	case c.BaseRevision == 0:
		against = "the cloud; nothing is deployed yet"
	}
	f.head(c.Stack, c.Target, c.Careful,
		fmt.Sprintf("%s, compared with %s. Made %s.", what, against, c.Made.UTC().Format("2006-01-02 15:04 UTC")))
	c.layTally(f)
	c.layConcerns(f)
	f.y += 6
	if f.paged && f.room() < 170 {
		f.newPage()
	}
	f.wall(c.Graph(), min(f.room()-40, 1200), wanted{}, func(n string) brick {
		ch := c.Change(n)
		return brick{name: n, sub: string(ch.Kind) + " · " + ch.Type, kind: ch.Kind}
	})
	var used []whatif.Kind
	for _, k := range allKinds {
		if c.Tally.Of(k) > 0 {
			used = append(used, k)
		}
	}
	f.legend(used)
	if way := c.Estimate.Way(); way != "" {
		f.paragraph(left+16, 10, 7.5, regular, dim, "What takes longest: "+way+" ("+c.Estimate.Sure()+")")
	}
	if !c.Empty() {
		f.heading("Changes")
	}
	for _, ch := range c.Alike() {
		c.layChange(f, ch)
	}
	for i, l := range c.LeftOut {
		if i == 0 {
			f.heading(whatif.LeftOutTitle)
		}
		f.paragraph(left, 10, 8.5, regular, ink, fmt.Sprintf("%s %s was not chosen", l.Kind, l.Name))
	}
	for i, l := range c.Lookups {
		if i == 0 {
			f.heading("Looked up")
		}
		f.paragraph(left, 10, 8.5, regular, ink, fmt.Sprintf("%s is %s %s. %s", l.Name, l.Type, l.ID, l.Moved))
	}
	for i, l := range c.Left {
		if i == 0 {
			f.heading("Left as it is")
		}
		f.paragraph(left, 10, 8.5, regular, ink, l.Resource+": "+l.Text)
	}
	for i, r := range c.Old {
		if i == 0 {
			f.heading("Left by former runs")
		}
		f.paragraph(left, 10, 8.5, regular, ink, whatif.OldText(r))
	}
	var same []string
	for _, ch := range c.ChangeSet.Changes {
		if ch.Kind == whatif.Same {
			same = append(same, ch.Name)
		}
	}
	if len(same) > 0 {
		f.heading("The same")
		f.paragraph(left, 0, 8.5, regular, dim, strings.Join(same, ", "))
	}
}

func (c Changes) layTally(f *flow) {
	f.y += 16
	x := left
	for _, k := range allKinds {
		n := c.Tally.Of(k)
		if n == 0 && (k == whatif.Adopt || k == whatif.Keep) {
			continue
		}
		tone := ink
		if n == 0 {
			tone = dim
		}
		f.mark(k, x, f.y-9, 9, tone)
		x = f.write(x+13, f.y-1, 11, bold, tone, fmt.Sprintf("%d %s", n, k)) + 18
	}
	words := c.Estimate.About()
	if c.Against != "" {
		words = "a comparison"
	}
	if c.Empty() {
		words = "nothing would change"
	}
	f.writeTo(right, f.y-1, 11, bold, ink, words)
	f.y += 4
}

// layConcerns lists what is wrong, what a team's rules say, and the risks.
func (c Changes) layConcerns(f *flow) {
	item := func(label, text, place, fix string, standing bool) {
		f.need(24)
		f.y += 12
		w := f.width(bold, 8, label) + 8
		if standing {
			f.box(left, f.y-9, w, 11, nil, &ink, 0.7, false)
			f.write(left+4, f.y-1, 8, bold, ink, label)
		} else {
			f.box(left, f.y-9, w, 11, &ink, nil, 0, false)
			f.write(left+4, f.y-1, 8, bold, paper, label)
		}
		f.y -= 12
		if place != "" {
			text += " (" + place + ")"
		}
		f.paragraph(left+90, 0, 8.5, regular, ink, text)
		if fix != "" {
			f.paragraph(left+90, 0, 8, regular, dim, "to avoid it: "+fix)
		}
	}
	for _, finding := range c.Findings {
		item(string(finding.Severity), finding.Message, finding.Short(), finding.Fix, false)
	}
	risks := func(list []whatif.Risk, standing bool) {
		for _, r := range list {
			place := r.Pos.Short()
			if r.Pos.Line == 0 {
				place = ""
			}
			text := r.Text
			if standing {
				text += "; it was so before"
			}
			item("! "+string(r.Kind), text, place, r.Fix, standing)
		}
	}
	risks(c.Risks, false)
	risks(c.Standing, true)
}

func (c Changes) layChange(f *flow, ch whatif.Alike) {
	l := looks[ch.Kind]
	f.need(40)
	f.y += 17
	f.mark(ch.Kind, left, f.y-10.5, 9, l.text)
	x := f.write(left+14, f.y-3, 10, bold, l.text, ch.Title()+"  "+string(ch.Kind))
	f.write(x+10, f.y-3, 8.5, regular, dim, ch.About())
	if rest := ch.Rest(); rest != "" {
		f.paragraph(left+14, 10, 8.5, regular, dim, fmt.Sprintf("%d alike: %s", len(ch.Names), rest))
	}
	for _, p := range ch.Properties {
		c.layProperty(f, *ch.Change, p)
	}
	if ch.OneWay {
		f.paragraph(left+14, 10, 8.5, regular, ink, "It cannot be put back in place, so it is made last.")
	}
	for _, b := range ch.Because {
		f.paragraph(left+14, 10, 8.5, regular, ink, "because "+b)
	}
	if len(ch.Then) > 0 {
		f.paragraph(left+14, 10, 8.5, regular, ink,
			fmt.Sprintf("then %d more: %s", len(ch.Then), strings.Join(ch.Then, ", ")))
	}
}

func (c Changes) layProperty(f *flow, ch whatif.Change, p stack.PropertyChange) {
	before, after := p.Words()
	words := before + "  →  " + after
	switch ch.Kind {
	case whatif.New:
		words = after
	case whatif.Drop, whatif.Keep:
		words = before
	}
	if p.Effect == stack.Swap && ch.Kind == whatif.Swap {
		words += ", forces the swap"
	}
	const at = left + 14 + 120
	for i, line := range f.wrap(regular, 8.5, right-at, words) {
		f.need(12)
		f.y += 12
		if i == 0 {
			f.clipped(left+14, f.y-3, 114, 8.5, bold, ink, p.Path)
		}
		f.write(at, f.y-3, 8.5, regular, ink, line)
	}
}
