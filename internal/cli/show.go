package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/tui/part"
	"brickrow/internal/whatif"
)

type jsonResource struct {
	Name       string                 `json:"name"`
	Type       string                 `json:"type"`
	ID         string                 `json:"id"`
	Properties map[string]tosca.Value `json:"properties"`
	Attributes map[string]tosca.Value `json:"attributes"`
}

type jsonRun struct {
	Number   int            `json:"number"`
	Kind     run.Kind       `json:"kind"`
	State    run.Status     `json:"state"`
	Only     []string       `json:"only"` // the resources that were chosen; none is all
	By       string         `json:"by"`
	Begun    time.Time      `json:"begun"`
	Ended    *time.Time     `json:"ended"`
	Reason   string         `json:"reason"`
	Receipt  *stack.Receipt `json:"receipt"` // null is none
	Standing string         `json:"standing"`
	Compared string         `json:"compared"` // with the last run of its kind, in words
	Failures []jsonFailure  `json:"failures"`
}

type jsonFailure struct {
	Resource string      `json:"resource"`
	Type     string      `json:"type"`
	Step     string      `json:"step"`
	Undoing  bool        `json:"undoing"`
	Words    string      `json:"words"`
	Problem  string      `json:"problem"`
	Attempt  int         `json:"attempt"`
	Elapsed  int64       `json:"elapsed_ms"`
	CloudID  string      `json:"cloud_id"`
	File     string      `json:"file"`
	Line     int         `json:"line"`
	Text     string      `json:"text"`
	Changed  string      `json:"changed"`
	Tried    []jsonTried `json:"tried"`
	Mends    []jsonMend  `json:"mends"`
	Behind   []string    `json:"behind"`
}

type jsonTried struct {
	Time    time.Time `json:"time"`
	Words   string    `json:"words"`
	Elapsed int64     `json:"elapsed_ms"`
	Refused string    `json:"refused"`
	Times   int       `json:"times"`
}

type jsonMend struct {
	Text  string       `json:"text"`
	From  app.MendFrom `json:"from"`
	Run   int          `json:"run"`
	Stack string       `json:"stack"`
}

func runJSON(rep *app.Report, compared string) *jsonRun {
	if rep == nil {
		return nil
	}
	r := rep.Run
	out := &jsonRun{Number: r.Number, Kind: r.Kind, State: r.Shown(), Only: append([]string{}, r.Only...), By: r.By, Begun: r.Started.UTC(), Reason: r.Reason, Receipt: r.Receipt,
		Standing: rep.Standing, Compared: compared, Failures: []jsonFailure{}}
	if !r.Ended.IsZero() {
		at := r.Ended.UTC()
		out.Ended = &at
	}
	for _, e := range rep.Failures {
		f := jsonFailure{Resource: e.Resource, Type: e.Type, Step: e.Step, Undoing: e.Undoing, Words: e.Words, Problem: e.Problem,
			Attempt: e.Attempt, Elapsed: e.Elapsed.Milliseconds(), CloudID: e.CloudID, File: e.Pos.File, Line: e.Pos.Line,
			Text: e.Line, Changed: e.Changed, Tried: []jsonTried{}, Mends: []jsonMend{}, Behind: append([]string{}, e.Behind...)}
		for _, t := range e.Tried {
			f.Tried = append(f.Tried, jsonTried{t.Time.UTC(), t.Words, t.Took.Milliseconds(), t.Refused, t.Times})
		}
		for _, m := range e.Mends {
			f.Mends = append(f.Mends, jsonMend{m.Text, m.From, m.Run, m.Stack})
		}
		out.Failures = append(out.Failures, f)
	}
	return out
}

func (p *Program) show() *cobra.Command {
	var asJSON, asMarkdown, wall bool
	cmd := &cobra.Command{Use: "show STACK", Short: "Show a stack: its resources, results and last run, and what went wrong in it",
		Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().BoolVar(&asMarkdown, "markdown", false, "as Markdown, for a ticket or a message")
	cmd.Flags().BoolVar(&wall, "wall", false, "draw its wall")
	cmd.MarkFlagsMutuallyExclusive("json", "markdown", "wall")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			c, err := a.Contents(ctx, st)
			if err != nil {
				return err
			}
			report, err := lastReport(ctx, a, st)
			if err != nil {
				return err
			}
			compared := ""
			if report != nil {
				if compared, err = a.Comparison(ctx, st, report.Run); err != nil {
					return err
				}
			}
			left, err := a.LeftOf(ctx, st)
			if err != nil {
				return err
			}
			switch {
			case asJSON:
				return p.json(map[string]any{"old": resourcesJSON(c.Old), "name": st.Name, "target": st.Target.String(),
					"state": st.Shown(), "revision": st.Revision, "description": st.Description,
					"resources": resourcesJSON(c.Resources), "results": resultMap(c.Results), "last_run": runJSON(report, compared), "left": leftJSON(left)})
			case asMarkdown:
				fmt.Fprint(p.Out, markdown(st, c, report))
				return nil
			}
			fmt.Fprintf(p.Out, "%s in %s: %s\n%s\n\n", st.Name, st.Target, aboutStack(st), cloud.Clean(st.Description))
			if wall {
				p.printWall(c.Graph, func(t *part.Theme, name string) part.Brick {
					return part.Brick{Mark: "■", Sub: c.Types[name], Paint: t.States[run.IsReady]}
				})
			}
			kinds := 14
			for _, r := range slices.Concat(c.Resources, c.Old) {
				kinds = max(kinds, len(r.Shown()))
			}
			for _, r := range c.Resources {
				fmt.Fprintf(p.Out, "%-20s %-*s %s\n", r.Name, kinds, r.Shown(), r.ID)
			}
			for _, r := range c.Old {
				fmt.Fprintf(p.Out, "%-20s %-*s %s  old part: the next deployment removes it\n", r.Name, kinds, r.Shown(), r.ID)
			}
			for _, l := range left {
				p.wrapped(fmt.Sprintf("%-20s %-*s ", l.Name, kinds, l.Shown()), leftWords(l))
			}
			if slices.ContainsFunc(left, func(l app.LeftBehind) bool { return l.There }) && st.State == stack.Removed {
				fmt.Fprintf(p.Out, "'brickrow delete %s' tries again to get rid of what was left\n", st.Name)
			}
			if report != nil {
				r := report.Run
				kind := string(r.Kind)
				if len(r.Only) > 0 {
					kind += " of only " + strings.Join(r.Only, ", ")
				}
				state := string(r.Shown())
				if r.Reason != "" {
					state += ": " + r.Reason
				}
				fmt.Fprintf(p.Out, "\nlast run  %d, %s by %s: %s\n", r.Number, kind, r.By, state)
				if compared != "" {
					p.wrapped("          ", compared)
				}
				p.report(report, st.Name)
			}
			if len(c.Results) > 0 {
				fmt.Fprintln(p.Out)
				p.resultLines(c.Results, stack.Result.Text)
			}
			return nil
		})
	}
	return cmd
}

type jsonLeft struct {
	Name   string `json:"name"`
	Type   string `json:"type"`
	ID     string `json:"id"`
	Run    int    `json:"run"`
	Reason string `json:"reason"`
	There  bool   `json:"there"`
}

func leftJSON(list []app.LeftBehind) []jsonLeft {
	out := []jsonLeft{}
	for _, l := range list {
		out = append(out, jsonLeft{l.Name, l.Type, l.ID, l.Left.Run, l.Left.Reason, l.There})
	}
	return out
}

func leftWords(l app.LeftBehind) string {
	there := "gone meanwhile"
	if l.There {
		there = "there still"
	}
	return fmt.Sprintf("%s  left by run %d, %s: %s", l.ID, l.Left.Run, there, l.Left.Reason)
}

func aboutStack(st *stack.Stack) string {
	if st.Revision == 0 {
		return string(st.Shown())
	}
	return fmt.Sprintf("%s, revision %d", st.Shown(), st.Revision)
}

func resourcesJSON(list []*stack.Recorded) []jsonResource {
	out := []jsonResource{}
	for _, r := range list {
		out = append(out, jsonResource{r.Name, r.Type, r.ID, r.Properties, r.Attributes})
	}
	return out
}

// lastReport explains the last run of a stack; nil where it has had none.
func lastReport(ctx context.Context, a *app.App, st *stack.Stack) (*app.Report, error) {
	r, err := a.RunNumber(ctx, st, 0)
	if err != nil || r == nil {
		return nil, err
	}
	return a.Report(ctx, st, r)
}

// report prints what went wrong in a run.
func (p *Program) report(r *app.Report, name string) {
	for _, e := range r.Failures {
		fmt.Fprintln(p.Out)
		p.wrapped("", fmt.Sprintf("%s (%s) %s", e.Resource, e.Type, e.Title()))
		for _, row := range e.Rows() {
			p.wrapped(fmt.Sprintf("  %-12s ", row.Label), row.Text)
		}
	}
	if slices.ContainsFunc(r.Failures, func(e app.Explanation) bool { return e.Problem == "script-failed" }) {
		p.wrapped("  all of it    ", fmt.Sprintf("'brickrow scripts %s' shows what it printed", name))
	}
	if len(r.Failures) > 0 && r.Standing != "" {
		p.wrapped(fmt.Sprintf("  %-12s ", "the rest"), r.Standing)
	}
}

// markdown is a stack for a ticket or a message; no secret is in it.
func markdown(st *stack.Stack, c *app.Contents, rep *app.Report) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# %s in %s\n", whatif.PlainText(st.Name), st.Target)
	line("%s, %s. %s\n", aboutStack(st), stack.Count(len(c.Resources), "resource"), whatif.PlainText(st.Description))
	if rep != nil {
		r := rep.Run
		line("## Run %d: %s, %s\n", r.Number, r.Kind, r.Shown())
		line("By %s, begun %s.\n", whatif.PlainText(r.By), r.Started.UTC().Format(time.RFC3339))
		if failures := rep.Markdown(); failures != "" {
			line("%s", failures)
		} else if r.Reason != "" {
			line("%s.\n", whatif.PlainText(r.Reason))
		}
	}
	if len(c.Results) > 0 {
		line("## Results\n\n| result | value |\n|---|---|")
		for _, r := range c.Results {
			line("| %s | %s |", whatif.PlainText(r.Name), whatif.PlainText(r.Text()))
		}
		line("")
	}
	line("## Resources\n\n| resource | type | id |\n|---|---|---|")
	for _, r := range append(c.Resources[:len(c.Resources):len(c.Resources)], c.Old...) {
		line("| %s | %s | %s |", whatif.PlainText(r.Name), whatif.PlainText(r.Shown()), whatif.PlainText(r.ID))
	}
	return b.String()
}
