package whatif

import (
	"fmt"
	"strings"
	"time"

	"brickrow/internal/tosca"
)

// Markdown is the change set for a review: everything that a reviewer needs to
// decide, and no secret.
func (c *ChangeSet) Markdown() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# %s in %s", c.Stack, c.Target)
	line("")
	against := fmt.Sprintf("revision %d and the cloud", c.BaseRevision)
	if c.Against != "" {
		against = PlainText(c.Against)
	}
	about := " Takes " + c.Estimate.About() + "."
	if c.Against != "" {
		about = " This is a comparison, and cannot be deployed."
	}
	line("%s; %d the same. Compared with %s.%s", c.Tally, c.Tally.Same, against, about)
	line("")
	if way := c.Estimate.Way(); way != "" {
		line("Longest: %s (%s).", PlainText(way), c.Estimate.Sure())
		line("")
	}
	if len(c.Findings) > 0 {
		line("## Findings")
		line("")
		for _, f := range c.Findings {
			line("- **%s** %s (%s)", f.Severity, PlainText(f.Message), f.Short())
		}
		line("")
	}
	for _, part := range []struct {
		title string
		list  []Risk
	}{{"Risks", c.RiskLines()}, {"As before", c.StandingLines()}} {
		if len(part.list) == 0 {
			continue
		}
		line("## %s", part.title)
		line("")
		for _, r := range part.list {
			text := fmt.Sprintf("- **%s** %s", r.Kind, PlainText(r.Text))
			if r.Pos.Line > 0 {
				text += " (" + r.Pos.Short() + ")"
			}
			if r.Fix != "" {
				text += ". To avoid it: " + PlainText(r.Fix)
			}
			line("%s", text)
		}
		line("")
	}
	for i, l := range c.Lookups {
		if i == 0 {
			line("## Looked up")
			line("")
		}
		text := fmt.Sprintf("- %s is %s %s", code(l.Name), l.Type, code(l.ID))
		if l.Moved != "" {
			text += ": " + PlainText(l.Moved)
		}
		line("%s", text)
		if i == len(c.Lookups)-1 {
			line("")
		}
	}
	for i, p := range c.Probes {
		if i == 0 {
			line("## Probes")
			line("")
		}
		line("- %s %s (%s)", code(p.Name), PlainText(p.Words()), p.Pos.Short())
		if i == len(c.Probes)-1 {
			line("")
		}
	}
	for i, l := range c.Left {
		if i == 0 {
			line("## Left as it is")
			line("")
		}
		line("- %s: %s", code(l.Resource), PlainText(l.Text))
		if i == len(c.Left)-1 {
			line("")
		}
	}
	for i, l := range c.LeftOut {
		if i == 0 {
			line("## %s", LeftOutTitle)
			line("")
		}
		line("- %s %s %s was not chosen", l.Kind.Mark(), l.Kind, code(l.Name))
		if i == len(c.LeftOut)-1 {
			line("")
		}
	}
	for i, r := range c.Old {
		if i == 0 {
			line("## Left by former runs")
			line("")
		}
		line("- %s", PlainText(OldText(r)))
		if i == len(c.Old)-1 {
			line("")
		}
	}
	if c.Empty() {
		line("Nothing would change.")
		return b.String()
	}
	for i, r := range c.Results {
		if i == 0 {
			line("## Results")
			line("")
		}
		text := fmt.Sprintf("- %s %s %s: %s", r.Kind.Mark(), r.Kind, code(r.Name), code(r.Values()))
		if len(r.UsedBy) > 0 {
			text += "; used by " + PlainText(strings.Join(r.UsedBy, ", "))
		}
		line("%s", text)
		for _, b := range r.Because() {
			line("  - because %s", PlainText(b))
		}
		if i == len(c.Results)-1 {
			line("")
		}
	}
	for i, h := range c.Hits {
		if i == 0 {
			line("## Who reads them")
			line("")
		}
		line("- %s", PlainText(h.Words()))
		if i == len(c.Hits)-1 {
			line("")
		}
	}
	line("## Changes")
	for _, ch := range c.Alike() {
		line("")
		line("### %s %s %s", ch.Kind.Mark(), ch.Kind, code(ch.Title()))
		line("")
		line("%s", PlainText(ch.About()))
		line("")
		if rest := ch.Rest(); rest != "" {
			line("%d alike: %s", len(ch.Names), PlainText(rest))
			line("")
		}
		if len(ch.Properties) > 0 {
			line("| property | now | then | |")
			line("|---|---|---|---|")
			for _, p := range ch.Properties {
				_, then := p.Words()
				after, note := code(then), ""
				switch {
				case ch.Kind == Drop || ch.Kind == Keep:
					after = "–"
				case p.Unknown && !p.Link || p.After == nil:
					after = then
				}
				if p.Effect == "swap" {
					note = "forces the swap"
				}
				if p.OffRecord {
					note = strings.TrimPrefix(note+", "+ch.author().Changed(), ", ")
				}
				before := "–"
				if p.Before != nil {
					before = code(tosca.Show(p.Before))
				}
				if lines := p.Lines(); lines != nil && p.Before != nil && p.After != nil {
					before, after = "–", code(strings.Join(lines, " ⏎ "))
				}
				line("| %s | %s | %s | %s |", PlainText(p.Path), before, after, note)
			}
			line("")
		}
		if ch.OneWay {
			line("- %s", ch.LastText())
		}
		for _, k := range ch.Because {
			line("- because %s", PlainText(k))
		}
		if len(ch.Then) > 0 {
			line("- then %d more: %s", len(ch.Then), PlainText(strings.Join(ch.Then, ", ")))
		}
	}
	return b.String()
}

// code is a value in a cell of a table, as it stands.
func code(s string) string {
	s = strings.NewReplacer("\n", "⏎", "\t", " ", "|", "\\|").Replace(visible(s))
	fence := "`"
	for strings.Contains(s, fence) {
		fence += "`"
	}
	if len(fence) > 1 || strings.TrimSpace(s) == "" {
		s = " " + s + " "
	}
	return fence + s + fence
}

// PlainText is text that stands for nothing else in Markdown.
func PlainText(s string) string {
	return strings.NewReplacer("\n", " ", "|", "\\|", "<", "&lt;", "*", "\\*", "_", "\\_", "`", "\\`", "[", "\\[").
		Replace(visible(s))
}

// visible shows control characters instead of obeying them.
func visible(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return '·'
		}
		return r
	}, s)
}

// Length is a length of time for people: "1 min 50 s". The argument is in
// seconds.
func Length(s float64) string {
	d := time.Duration(s * float64(time.Second))
	switch {
	case d > 0 && d < 95*time.Millisecond:
		return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}
