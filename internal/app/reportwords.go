package app

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Row is a line of an explanation: what it is about, and the words.
type Row struct{ Label, Text string }

// Title is what failed, and in what.
func (e *Explanation) Title() string {
	words := "failed"
	switch {
	case e.Undoing:
		words = "could not be undone"
	case e.Step != "":
		words = "failed while " + e.Step
	}
	if e.Attempt > 1 {
		words += fmt.Sprintf(", in attempt %d", e.Attempt)
	}
	return words + ", after " + whatif.Length(e.Elapsed.Seconds())
}

// Place is where it stands in the template; "" is not known.
func (e *Explanation) Place() string {
	if e.Pos.Line == 0 {
		return ""
	}
	return e.Pos.Short()
}

// Rows are the explanation in words.
func (e *Explanation) Rows() []Row {
	rows := []Row{{"the cloud", e.Words}}
	if e.Place() != "" {
		rows = append(rows, Row{"template", strings.TrimSpace(e.Place() + "  " + e.Line)})
	}
	if e.Changed != "" {
		rows = append(rows, Row{"changed", e.Changed})
	}
	var tried []string
	for _, t := range e.Tried {
		words := fmt.Sprintf("%s (%s)", t.Words, whatif.Length(t.Took.Seconds()))
		switch {
		case t.Times == 1:
			words += ": " + t.Refused
		case t.Times > 1:
			words = fmt.Sprintf("%s, %s in %s: %s", t.Words, stack.Count(t.Times, "time"), whatif.Length(t.Took.Seconds()), t.Refused)
		}
		tried = append(tried, words)
	}
	if len(tried) > 0 {
		rows = append(rows, Row{"was tried", strings.Join(tried, "; ")})
	}
	label := map[MendFrom]string{FromCloud: "would mend", FromExperience: "usually", FromPast: "in the past"}
	for _, m := range e.Mends {
		rows = append(rows, Row{label[m.From], m.Text})
	}
	if len(e.Behind) > 0 {
		rows = append(rows, Row{"it holds up", strings.Join(e.Behind, ", ")})
	}
	return rows
}

// Markdown is the report for a ticket or a message: no secret is in it.
func (r *Report) Markdown() string {
	var b strings.Builder
	for _, e := range r.Failures {
		fmt.Fprintf(&b, "### %s (%s)\n\n%s.\n\n", whatif.PlainText(e.Resource), whatif.PlainText(e.Type),
			whatif.PlainText(strings.ToUpper(e.Title()[:1])+e.Title()[1:]))
		for _, row := range e.Rows() {
			fmt.Fprintf(&b, "- **%s**: %s\n", row.Label, whatif.PlainText(row.Text))
		}
		b.WriteString("\n")
	}
	if len(r.Failures) > 0 && r.Standing != "" {
		fmt.Fprintf(&b, "The rest: %s.\n", whatif.PlainText(r.Standing))
	}
	return b.String()
}

// lastFailures are findings at the lines where the last run of a stack failed, until
// there is another run.
func (a *App) lastFailures(ctx context.Context, p *Parsed) tosca.Findings {
	if p.Stack == nil || p.File.Service == nil || p.Stack.Stack == "" || p.Stack.Target.IsZero() {
		return nil
	}
	st, err := a.store.At(ctx, p.Stack.Stack, p.Stack.Target)
	if err != nil {
		return nil // what is not known is no finding
	}
	r, list, err := a.failuresOf(ctx, st)
	if err != nil || r == nil {
		return nil
	}
	var out tosca.Findings
	for _, f := range list {
		node, _, _ := strings.Cut(f.Resource, "#")
		node, _, _ = strings.Cut(node, "/")
		pos, there := placeOf(p.File.Service, node)
		if !there || f.Undoing {
			continue
		}
		step := ""
		if f.Step != "" {
			step = ", while " + f.Step
		}
		out.Warnf(pos, "failed-last-time", f.Fix, "run %d failed at %s%s: %s", r.Number, f.Resource, step, f.Words)
	}
	return out
}

// placeOf is where a node, or a probe as a run calls it, stands in a template.
func placeOf(s *tosca.ServiceTemplate, name string) (tosca.Pos, bool) {
	if n := s.Node(name); n != nil {
		return n.Pos, true
	}
	for _, p := range s.Policies {
		if run.ProbeName(p.Name) == name {
			return p.Pos, true
		}
	}
	return tosca.Pos{}, false
}

// failed is what went wrong in the last run of a stack, as it was read last.
type failed struct {
	run   string
	state run.Status
	ended time.Time
	list  []run.Failure
}

// failuresOf reads what went wrong in the last run of a stack, where it did not end well.
func (a *App) failuresOf(ctx context.Context, st *stack.Stack) (*run.Record, []run.Failure, error) {
	r, err := a.store.LastHead(ctx, st.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && (r.State == run.StatusDone || !r.State.Ended()) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	a.failedMu.Lock()
	defer a.failedMu.Unlock()
	if f := a.lastFailed; f.run == r.ID && f.state == r.State && f.ended.Equal(r.Ended) {
		return r, f.list, nil
	}
	events, err := a.store.Events(ctx, r.ID, 0)
	if err != nil {
		return nil, nil, err
	}
	list := run.Failures(events)
	a.lastFailed = failed{r.ID, r.State, r.Ended, list}
	return r, list, nil
}
