package app

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// History is what became of a stack: its revisions and runs, the newest first.
type History struct {
	Stack     *stack.Stack
	Revisions []Revision
	Runs      []*run.Record       // without their plans
	Failed    map[string][]string // the resources that failed, by the id of the run
}

// History reads what became of a stack.
func (a *App) History(ctx context.Context, st *stack.Stack) (*History, error) {
	h := &History{Stack: st}
	var err error
	if h.Revisions, err = a.Revisions(ctx, st); err != nil {
		return nil, err
	}
	if h.Runs, err = a.store.Runs(ctx, st.ID); err != nil {
		return nil, err
	}
	h.Failed, err = a.store.FailedIn(ctx, st.ID)
	return h, err
}

// Histories reads what became of all stacks, removed ones too, by name.
func (a *App) Histories(ctx context.Context) ([]*History, error) {
	list, err := a.store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	var out []*History
	for _, st := range list {
		h, err := a.History(ctx, st)
		if err != nil {
			return nil, err
		}
		out = append(out, h)
	}
	return out, nil
}

// Revision finds a revision by its number; nil where there is none.
func (h *History) Revision(number int) *Revision {
	for i := range h.Revisions {
		if h.Revisions[i].Number == number {
			return &h.Revisions[i]
		}
	}
	return nil
}

// Rung is one run of a stack, as a rung of the ladder that its history is.
type Rung struct {
	Of  *History
	Run *run.Record
	// Revision is what it led to, where it was a revision of its own; nil otherwise.
	Revision *Revision
	// Before is the last run of the kind that was done before; nil where there was none.
	Before *run.Record
}

// Rungs are the runs of some histories, the newest first.
func Rungs(list ...*History) []Rung {
	var out []Rung
	for _, h := range list {
		for i, r := range h.Runs {
			g := Rung{Of: h, Run: r}
			if r.Kind != run.KindDelete && r.Kind != run.KindAction && r.Revision > 0 {
				g.Revision = h.Revision(r.Revision)
			}
			for _, earlier := range h.Runs[i+1:] {
				if earlier.Kind == r.Kind && earlier.State == run.StatusDone {
					g.Before = earlier
					break
				}
			}
			out = append(out, g)
		}
	}
	slices.SortStableFunc(out, func(a, b Rung) int { return b.Run.Started.Compare(a.Run.Started) })
	return out
}

// Took is how long the run took so far.
func (g *Rung) Took() time.Duration {
	if g.Run.Ended.IsZero() {
		return time.Since(g.Run.Started)
	}
	return g.Run.Ended.Sub(g.Run.Started)
}

// Failed names what failed in it.
func (g *Rung) Failed() []string { return g.Of.Failed[g.Run.ID] }

// Words say what it was and how it ended: "deploy of revision 3: done after 12 s".
func (g *Rung) Words() string {
	words := string(g.Run.Kind)
	switch {
	case g.Run.Kind == run.KindAction:
		words = g.Run.Origin.What
	case g.Run.Kind == run.KindUndo && g.Revision != nil && g.Revision.Note != "":
		words = g.Revision.Note
	case g.Revision != nil:
		words += fmt.Sprintf(" of revision %d", g.Revision.Number)
	}
	words += ": " + string(g.Run.Shown())
	if !g.Run.Ended.IsZero() {
		words += " after " + whatif.Length(g.Took().Seconds())
	}
	return words
}

// Notes are what was said of it: the note of the one who began it, who agreed, the commit,
// and what the revision says of itself.
func (g *Rung) Notes() []string {
	var out []string
	if g.Run.Origin.Note != "" {
		out = append(out, g.Run.Origin.Note)
	}
	if len(g.Run.Origin.ApprovedBy) > 0 {
		out = append(out, "approved by "+strings.Join(g.Run.Origin.ApprovedBy, ", "))
	}
	if c := g.Run.Origin.CommitText(); c != "" {
		out = append(out, "commit "+c)
	}
	if g.Run.Origin.Job != "" {
		out = append(out, "job "+g.Run.Origin.Job)
	}
	if g.Revision != nil && g.Revision.Note != "" && g.Run.Kind != run.KindUndo {
		out = append(out, g.Revision.Note)
	}
	if len(g.Run.Only) > 0 {
		out = append(out, "only "+strings.Join(g.Run.Only, ", "))
	}
	return out
}

// Changed is a resource that a run changed, and how.
type Changed struct {
	Name, Type string
	Kind       whatif.Kind
	Failed     bool
}

// ChangedBy lists what a run set out to change, by name; nothing where its plan was thinned
// out since.
func (a *App) ChangedBy(ctx context.Context, h *History, r *run.Record) ([]Changed, error) {
	full, err := a.store.Run(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	byName := map[string]*Changed{}
	var out []*Changed
	for _, s := range full.Plan.Steps {
		kind, is := map[run.Action]whatif.Kind{run.Create: whatif.New, run.Update: whatif.Edit, run.Delete: whatif.Drop,
			run.Release: whatif.Keep, run.Rename: whatif.Edit}[s.Action]
		if s.Adopt {
			kind = whatif.Adopt
		}
		if s.Action == run.Act {
			kind, is = whatif.Same, true
		}
		if !is || s.Resource == "" {
			continue
		}
		c := byName[s.Resource]
		if c == nil {
			c = &Changed{Name: s.Resource, Type: s.Type, Kind: kind, Failed: slices.Contains(h.Failed[r.ID], s.Resource)}
			byName[s.Resource] = c
			out = append(out, c)
		} else if c.Kind != kind && (c.Kind == whatif.New || c.Kind == whatif.Drop) {
			c.Kind = whatif.Swap
		}
	}
	list := make([]Changed, len(out))
	for i, c := range out {
		list[i] = *c
	}
	slices.SortFunc(list, func(a, b Changed) int { return stack.CompareNames(a.Name, b.Name) })
	return list, nil
}

// CompareRevisions holds two revisions of a stack against each other; the cloud is not asked.
// From may be 0, which is nothing at all.
func (a *App) CompareRevisions(ctx context.Context, st *stack.Stack, from, to int) (*Preview, error) {
	wanted := func(number int) (*stack.Wanted, error) {
		if number == 0 {
			return nil, nil
		}
		w, err := a.RevisionWanted(ctx, st.ID, number)
		if err != nil {
			return nil, refusal("%s has no revision %d", st.Name, number)
		}
		return w, nil
	}
	was, err := wanted(from)
	if err != nil {
		return nil, err
	}
	is, err := wanted(to)
	if err != nil {
		return nil, err
	}
	p := &Preview{Stack: st, Kind: KindCompare}
	p.ChangeSet = a.between(was, is, whatif.State{Stack: st.Name, Target: st.Target})
	p.ChangeSet.Against = fmt.Sprintf("revision %d (this is revision %d)", from, to)
	if from == 0 {
		p.ChangeSet.Against = fmt.Sprintf("nothing (this is revision %d)", to)
	}
	return p, nil
}

// Markdown is the history of a stack as a text for a ticket or a page.
func (h *History) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s in %s\n\n%s", h.Stack.Name, h.Stack.Target, h.Stack.Shown())
	if h.Stack.Revision > 0 {
		fmt.Fprintf(&b, " at revision %d", h.Stack.Revision)
	}
	b.WriteString(".\n\n| run | begun | what | changes | by | notes |\n|---|---|---|---|---|---|\n")
	for _, g := range Rungs(h) {
		notes := g.Notes()
		if failed := g.Failed(); len(failed) > 0 {
			notes = append(notes, "failed: "+strings.Join(failed, ", "))
		}
		fmt.Fprintf(&b, "| %d | %s | %s | %s | %s | %s |\n", g.Run.Number, g.Run.Started.Local().Format("2006-01-02 15:04:05"),
			cell(g.Words()), g.Run.Tally, cell(g.Run.By), cell(strings.Join(notes, "; ")))
	}
	return b.String()
}

// cell is a text that can stand in a cell of a table.
func cell(text string) string {
	return strings.NewReplacer("|", "\\|", "\n", " ", "<", "&lt;").Replace(text)
}
