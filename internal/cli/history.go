package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

type jsonHistory struct {
	Stack     string         `json:"stack"`
	Target    string         `json:"target"`
	State     stack.State    `json:"state"`
	Revisions []jsonRevision `json:"revisions"`
	Runs      []jsonRung     `json:"runs"`
}

type jsonRevision struct {
	Number     int          `json:"number"`
	Time       time.Time    `json:"time"`
	By         app.Doer     `json:"by"`
	Commit     string       `json:"commit"`
	Branch     string       `json:"branch"`
	Changed    bool         `json:"changed"`
	Note       string       `json:"note"`
	Tally      whatif.Tally `json:"tally"`
	ApprovedBy []string     `json:"approved_by"`
	Stood      bool         `json:"stood"`
	Current    bool         `json:"current"`
}

type jsonRung struct {
	Number   int          `json:"number"`
	Kind     run.Kind     `json:"kind"`
	Revision int          `json:"revision"`
	By       app.Doer     `json:"by"`
	From     string       `json:"from"`
	Commit   string       `json:"commit"`
	Branch   string       `json:"branch"`
	Changed  bool         `json:"changed"`
	Files    []string     `json:"files"`
	Job      string       `json:"job"`
	Note     string       `json:"note"`
	Begun    time.Time    `json:"begun"`
	Seconds  float64      `json:"seconds"`
	State    run.Status   `json:"state"`
	Tally    whatif.Tally `json:"tally"`
	Failed   []string     `json:"failed"`
	// Receipt is what the cloud said at the end of a deletion, or of an undoing; null is none.
	Receipt *stack.Receipt `json:"receipt"`
}

func historyJSON(ctx context.Context, a *app.App, h *app.History) jsonHistory {
	out := jsonHistory{h.Stack.Name, h.Stack.Target.String(), h.Stack.Shown(), []jsonRevision{}, []jsonRung{}}
	for _, r := range h.Revisions {
		j := jsonRevision{Number: r.Number, Time: r.Created.UTC(), By: app.Doer{User: r.By, Words: r.By}, Note: r.Note, ApprovedBy: []string{}, Stood: r.Stood(), Current: r.Current}
		if r.Run != nil {
			o := r.Run.Origin
			j.By = a.DoerOf(ctx, r.Run)
			j.Commit, j.Branch, j.Changed, j.Tally, j.ApprovedBy = o.Commit, o.Branch, o.Changed, r.Run.Tally, append([]string{}, o.ApprovedBy...)
			if o.Note != "" {
				j.Note = o.Note
			}
		}
		out.Revisions = append(out.Revisions, j)
	}
	for _, g := range app.Rungs(h) {
		r := g.Run
		out.Runs = append(out.Runs, jsonRung{r.Number, r.Kind, r.Revision, a.DoerOf(ctx, r), r.Origin.Host, r.Origin.Commit, r.Origin.Branch, r.Origin.Changed,
			append([]string{}, r.Origin.Files...), r.Origin.Job, r.Origin.Note,
			r.Started.UTC(), g.Took().Seconds(), r.Shown(), r.Tally, append([]string{}, g.Failed()...), r.Receipt})
	}
	return out
}

func (p *Program) history() *cobra.Command {
	var asJSON, asMarkdown, acts bool
	var line trail
	cmd := &cobra.Command{Use: "history [STACK]", Short: "What became of a stack, or of all: revisions and runs, by whom and from which commit",
		Args: cobra.MaximumNArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().BoolVar(&acts, "acts", false, "what was done to the store as a whole: who was let in or out, what was set of targets")
	cmd.Flags().BoolVar(&asMarkdown, "markdown", false, "as Markdown, for a ticket or a page")
	cmd.MarkFlagsMutuallyExclusive("json", "markdown")
	line.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.with(func(a *app.App) error {
			if line.wanted() {
				return p.trailOf(ctx, a, args, &line, asJSON)
			}
			if acts {
				list, err := a.StoreActs(ctx)
				if err != nil {
					return err
				}
				if asJSON {
					return p.json(list)
				}
				for _, x := range list {
					fmt.Fprintln(p.Out, strings.TrimSpace(fmt.Sprintf("%s  %-12s %s  by %s@%s  %s", x.Time.Local().Format("2006-01-02 15:04"), x.Act, cloud.Clean(x.On),
						cloud.Clean(x.By.User), cloud.Clean(x.By.Host), cloud.Clean(x.Note))))
				}
				return nil
			}
			var list []*app.History
			var err error
			if len(args) == 0 {
				if list, err = a.Histories(ctx); err != nil {
					return err
				}
			} else {
				st, err := a.Find(ctx, args[0])
				if err != nil {
					return err
				}
				h, err := a.History(ctx, st)
				if err != nil {
					return err
				}
				list = []*app.History{h}
			}
			switch {
			case asJSON && len(args) > 0:
				return p.json(historyJSON(ctx, a, list[0]))
			case asJSON:
				out := []jsonHistory{}
				for _, h := range list {
					out = append(out, historyJSON(ctx, a, h))
				}
				return p.json(out)
			case asMarkdown:
				for i, h := range list {
					if i > 0 {
						fmt.Fprintln(p.Out)
					}
					fmt.Fprint(p.Out, h.Markdown())
				}
				return nil
			}
			p.historyText(app.Rungs(list...), len(args) == 0)
			return nil
		})
	}
	return cmd
}

// historyText prints a ladder: each rung a run, the newest above, between them how long
// nothing happened.
func (p *Program) historyText(rungs []app.Rung, all bool) {
	if len(rungs) == 0 {
		fmt.Fprintln(p.Out, "nothing was done yet")
		return
	}
	for i, g := range rungs {
		if i > 0 {
			if gap := rungs[i-1].Run.Started.Sub(g.Run.Started); gap > time.Minute {
				fmt.Fprintf(p.Out, "     │ %s\n", whatif.Length(gap.Seconds()))
			}
		}
		name := ""
		if all {
			name = g.Of.Stack.Name + "  "
		}
		now := ""
		if g.Revision != nil && g.Revision.Current {
			now = "  (deployed now)"
		}
		p.wrapped(fmt.Sprintf("%4d ", g.Run.Number), fmt.Sprintf("%s%s%s", name, g.Words(), now))
		p.wrapped("     ", fmt.Sprintf("%s by %s%s", g.Run.Started.Local().Format("2006-01-02 15:04:05"), g.Run.By, tallyText(g.Run)))
		for _, n := range g.Notes() {
			p.wrapped("     ", cloud.Clean(n))
		}
		if failed := g.Failed(); len(failed) > 0 {
			p.wrapped("     ", "failed: "+strings.Join(failed, ", "))
		}
	}
}

func tallyText(r *run.Record) string {
	if r.Kind == run.KindAction {
		return ""
	}
	return ": " + r.Tally.String()
}
