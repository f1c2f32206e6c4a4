package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/export"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

func (p *Program) findings(list tosca.Findings) {
	for _, f := range list {
		fmt.Fprintf(p.Err, "%s: %s: %s [%s]\n", f.Pos, f.Severity, cloud.Clean(f.Message), f.Code)
		if f.Fix != "" {
			fmt.Fprintf(p.Err, "    %s\n", cloud.Clean(f.Fix))
		}
	}
}

// changeSet prints a change set as text for 80 columns.
func (p *Program) changeSet(cs *whatif.ChangeSet) {
	about := fmt.Sprintf("%s in %s: %s, %d same", cs.Stack, cs.Target, cs.Tally, cs.Tally.Same)
	if !cs.Empty() && cs.Against == "" {
		about += "; " + cs.Estimate.About()
	}
	p.wrapped("", about)
	if way := cs.Estimate.Way(); way != "" {
		p.wrapped("  longest  ", way+" ("+cs.Estimate.Sure()+")")
	}
	if cs.Against != "" {
		fmt.Fprintf(p.Out, "  compared with %s; this cannot be deployed\n", cs.Against)
	}
	for _, l := range cs.Lookups {
		fmt.Fprintf(p.Out, "  found %s: %s\n", l.Name, cloud.Clean(l.ID))
		if l.Moved != "" {
			fmt.Fprintf(p.Out, "    %s\n", cloud.Clean(l.Moved))
		}
	}
	for _, ch := range cs.Alike() {
		fmt.Fprintf(p.Out, "\n%s %-5s %s  (%s)\n", ch.Kind.Mark(), ch.Kind, ch.Title(), ch.About())
		if rest := ch.Rest(); rest != "" {
			p.wrapped(fmt.Sprintf("    %d alike: ", len(ch.Names)), rest)
		}
		for _, c := range ch.Properties {
			if lines := c.Lines(); lines != nil && ch.Kind != whatif.Drop && ch.Kind != whatif.Keep {
				p.linesOf(c.Path, lines)
				continue
			}
			before, after := c.Words()
			before, after = cloud.Clean(before), cloud.Clean(after)
			switch {
			case ch.Kind == whatif.Drop || ch.Kind == whatif.Keep:
				continue
			case c.Before == nil && ch.Kind == whatif.New:
				p.valueOf(c.Path, after)
			default:
				text := before + " → " + after
				if c.Effect == "swap" {
					text += "   forces the swap"
				}
				p.valueOf(c.Path, text)
			}
		}
		for _, b := range ch.Because {
			p.wrapped("    because  ", b)
		}
		if ch.OneWay {
			p.wrapped("    last     ", ch.LastText())
		}
		if wait := ch.Drains(); wait > 0 {
			p.wrapped("    before   ", "it leaves its pools and has up to "+whatif.Length(wait.Seconds())+" to finish its work")
		}
		if words := ch.BackupText(); words != "" {
			p.wrapped("    backup   ", words)
		}
		if len(ch.Then) > 0 {
			p.wrapped("    then     ", strings.Join(ch.Then, ", "))
		}
	}
	for i, r := range cs.Results {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		p.wrapped(fmt.Sprintf("%s %-5s result %s  ", r.Kind.Mark(), r.Kind, r.Name), shownText(r.Values()))
		if r.Kind == whatif.Edit || r.Pos.Line > 0 && r.Kind == whatif.Drop {
			for _, b := range r.Because() {
				p.wrapped("    because  ", b)
			}
		}
		if len(r.UsedBy) > 0 {
			p.wrapped("    used by  ", strings.Join(r.UsedBy, ", "))
		}
	}
	for _, h := range cs.Hits {
		p.wrapped("    then     ", h.Words())
	}
	for i, probe := range cs.Probes {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		p.wrapped("probe  ", probe.Name+" "+probe.Words())
	}
	for i, l := range cs.LeftOut {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		p.wrapped("left out  ", fmt.Sprintf("%s %s %s was not chosen", l.Kind.Mark(), l.Kind, l.Name))
	}
	for i, l := range cs.Left {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		p.wrapped("left as it is  ", l.Resource+": "+l.Text)
	}
	for i, r := range cs.Old {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		p.wrapped("old  ", whatif.OldText(r))
	}
	for i, r := range cs.RiskLines() {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		text := r.Text
		if r.Pos.Line > 0 {
			text += " (" + r.Pos.Short() + ")"
		}
		p.wrapped(fmt.Sprintf("! %-12s ", r.Kind), text)
		if r.Fix != "" {
			p.wrapped(strings.Repeat(" ", 15), r.Fix)
		}
	}
}

// wrapped prints text for 80 columns, the later lines under the first.
func (p *Program) wrapped(label, text string) {
	for _, line := range inLines(text, p.width()-len(label)) {
		fmt.Fprintln(p.Out, strings.TrimRight(label+line, " "))
		label = strings.Repeat(" ", len(label))
	}
}

// width is how wide lines are made: what is read out is wrapped by who shows it.
func (p *Program) width() int {
	if p.spoken {
		return 1 << 20
	}
	return 80
}

// inLines breaks text at blanks alone, and not within a command that is quoted: it can be pasted.
func inLines(text string, width int) []string {
	const hyphen, blank = "\ue000", "\u00a0"
	kept := strings.ReplaceAll(cloud.Clean(text), "-", hyphen)
	kept = quoted.ReplaceAllStringFunc(kept, func(s string) string {
		if ansi.StringWidth(s) > width {
			return s
		}
		return strings.ReplaceAll(s, " ", blank)
	})
	kept = amounts.ReplaceAllString(kept, "$1"+blank+"$2")
	kept = lengths.ReplaceAllString(kept, "$1"+blank+"$2")
	wrapped := ansi.Wrap(kept, width, "")
	return strings.Split(strings.NewReplacer(hyphen, "-", blank, " ").Replace(wrapped), "\n")
}

// amounts are numbers with their units, and lengths those of two: they stay on one line.
var (
	amounts = regexp.MustCompile(`([0-9]) ((?:ms|s|min|h|d|B|kB|MB|GB|KiB|MiB|GiB|TiB|%)(?:[ ,.;:)]|$))`)
	lengths = regexp.MustCompile(`([0-9]\x{a0}(?:min|h|d)) ([0-9])`)
)

var quoted = regexp.MustCompile(`'(?:brickrow |\x{e000}\x{e000})[^']*'`)

// mostLines is how many lines of a value are printed.
const mostLines = 8

// valueOf prints what becomes of a property. The end tells as much as the
// beginning: of a long value both are there.
func (p *Program) valueOf(path, text string) {
	lines := inLines(path+": "+text, p.width()-6)
	if n := len(lines); n > mostLines {
		cut := "… " + stack.Count(n-mostLines+1, "line") + " more, --json has all …"
		lines = append(append(lines[:mostLines/2:mostLines/2], cut), lines[n-mostLines/2+1:]...)
	}
	for i, line := range lines {
		indent := "    "
		if i > 0 {
			indent = "      "
		}
		fmt.Fprintln(p.Out, strings.TrimRight(indent+line, " "))
	}
}

// linesOf prints what becomes of a text of several lines.
func (p *Program) linesOf(path string, lines []string) {
	fmt.Fprintf(p.Out, "    %s:\n", cloud.Clean(path))
	if more := len(lines) - 2*mostLines; more > 1 {
		lines = append(lines[:2*mostLines:2*mostLines], "… "+stack.Count(more, "line")+" more, --json has all …")
	}
	for _, l := range lines {
		fmt.Fprintln(p.Out, strings.TrimRight("      "+ansi.Truncate(cloud.CleanLines(l), 110, "…"), " "))
	}
}

// shownText is a text that is not too long.
func shownText(s string) string {
	if r := []rune(s); len(r) > 400 {
		return string(r[:300]) + " … " + string(r[len(r)-60:])
	}
	return s
}

func shown(v tosca.Value) string { return cloud.Clean(tosca.Show(v)) }

func (p *Program) event(r *run.Record, e run.Event, asJSON bool) {
	if asJSON {
		b, err := json.Marshal(export.EventOf(r, e))
		if err == nil {
			fmt.Fprintf(p.Out, "%s\n", b)
		}
		return
	}
	words := e.Step
	if e.Reason != "" {
		if words != "" {
			words += ": "
		}
		words += e.Reason
	}
	if words == "" && e.State != run.Skipped {
		words = "after " + whatif.Length(e.Elapsed.Seconds())
	}
	name := e.Resource
	if name == "" {
		name = "(run)"
	}
	fmt.Fprintf(p.Out, "%s  %-18s %-9s %s\n", p.clock(e.Time), name, e.State, cloud.Clean(words))
}

// clock is a time as it stands before a line of progress: in a log, which is read later and elsewhere, with the day
// and in UTC.
func (p *Program) clock(t time.Time) string {
	if p.terminal {
		return t.Local().Format("15:04:05")
	}
	return t.UTC().Format(time.RFC3339)
}

// heldFor is how long lines are held to be grouped.
const heldFor = 10 * time.Second

// telling prints the events of a run as they come. In a log those of a resource stand together: they are printed when it
// is done with, or after a while. Stop prints what is left.
func (p *Program) telling(r *run.Record, asJSON bool) (tell func(run.Event), stop func()) {
	if p.quiet && !asJSON {
		return func(run.Event) {}, func() {}
	}
	if p.terminal || asJSON {
		return func(e run.Event) { p.event(r, e, asJSON) }, func() {}
	}
	var mu sync.Mutex
	held := map[string][]run.Event{}
	var names []string // in the order in which they came
	print := func(name string) {
		for _, e := range held[name] {
			p.event(r, e, false)
		}
		delete(held, name)
		names = slices.DeleteFunc(names, func(n string) bool { return n == name })
	}
	all := func() {
		mu.Lock()
		defer mu.Unlock()
		for len(names) > 0 {
			print(names[0])
		}
	}
	ended := make(chan struct{})
	var ticking sync.WaitGroup
	ticking.Go(func() {
		tick := time.NewTicker(heldFor)
		defer tick.Stop()
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
				all()
			}
		}
	})
	tell = func(e run.Event) {
		if e.Resource == "" {
			all()
			p.event(r, e, false)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if held[e.Resource] == nil {
			names = append(names, e.Resource)
		}
		held[e.Resource] = append(held[e.Resource], e)
		if e.State.Over() || e.State == run.Skipped {
			print(e.Resource)
		}
	}
	return tell, func() {
		close(ended)
		ticking.Wait()
		all()
	}
}

func (p *Program) end(ctx context.Context, a *app.App, r *run.Record) {
	fmt.Fprintf(p.Out, "\nrun %d: %s after %s", r.Number, r.State, whatif.Length(r.Ended.Sub(r.Started).Seconds()))
	if r.Reason != "" {
		fmt.Fprintf(p.Out, ": %s", r.Reason)
	}
	fmt.Fprintln(p.Out)
	st, err := a.StackOf(ctx, r)
	if err == nil {
		if words, err := a.Comparison(ctx, st, r); err == nil && words != "" {
			p.wrapped("  ", words)
		}
	}
	if err == nil && r.State != run.StatusDone {
		if report, err := a.Report(ctx, st, r); err == nil {
			p.report(report, st.Name)
		}
	}
	if r.State != run.StatusDone || r.Kind == run.KindDelete || r.Kind == run.KindAction {
		return
	}
	var list []stack.Result
	if err == nil {
		list, err = a.Results(ctx, st)
	}
	if err == nil && len(list) > 0 {
		fmt.Fprintln(p.Out)
		p.resultLines(list, stack.Result.Text)
	}
}

// resultLines prints results, each as text says it.
func (p *Program) resultLines(list []stack.Result, text func(stack.Result) string) {
	for _, r := range list {
		fmt.Fprintf(p.Out, "%-18s %s\n", r.Name, cloud.Clean(text(r)))
		if r.Was != nil {
			was := r
			was.Value = r.Was
			fmt.Fprintf(p.Out, "%-18s was %s\n", "", cloud.Clean(text(was)))
		}
		if r.Command != "" {
			fmt.Fprintf(p.Out, "%-18s run %s\n", "", cloud.Clean(r.Ready(text)))
		}
	}
}

// assignments prints results for a shell to take them over. What is secret and is not to
// be shown is left out, with a word.
func (p *Program) assignments(list []stack.Result, text func(stack.Result) string) {
	for _, r := range list {
		name := strings.Map(func(c rune) rune {
			if c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' {
				return c
			}
			return '_'
		}, r.Name)
		if name[0] >= '0' && name[0] <= '9' {
			name = "_" + name
		}
		if shown := text(r); tosca.HasSecret(r.Value) && shown == r.Text() {
			fmt.Fprintf(p.Out, "# %s is a secret; --reveal gives it\n", name)
		} else {
			fmt.Fprintf(p.Out, "%s=%s\n", name, stack.ShellWord(shown))
		}
	}
}

// readyCommands prints the commands of results.
func (p *Program) readyCommands(list []stack.Result, text func(stack.Result) string, alone bool) {
	for _, r := range list {
		switch {
		case r.Command == "":
		case alone:
			fmt.Fprintln(p.Out, cloud.Clean(r.Ready(text)))
		default:
			fmt.Fprintf(p.Out, "%-18s %s\n", r.Name, cloud.Clean(r.Ready(text)))
		}
	}
}
