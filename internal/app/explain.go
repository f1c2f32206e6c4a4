package app

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// Report is what went wrong in a run, explained.
type Report struct {
	Run      *run.Record
	Failures []Explanation
	Standing string // how the rest stands
}

// Explanation is all that is known of one failure.
type Explanation struct {
	run.Failure
	Pos  tosca.Pos // of the resource in the template; a line of 0 is unknown
	Line string    // the text of that line
	// Changed is what this run was to change of the resource; "" where it was to be new, or
	// to go, or where nothing of the template changed.
	Changed string
	// Mends are what would mend it, the likeliest first.
	Mends []Mend
	// Behind are the resources that wait for it and cannot come to their end before.
	Behind []string
}

// Mend is something that would mend a failure.
type Mend struct {
	Text string
	// From says who says so: the cloud, experience (what usually mends such a refusal), or
	// the past of this store.
	From MendFrom
	// Run and Stack are where it went through before, where that is the source.
	Run   int
	Stack string
}

// MendFrom is who says what would mend a failure.
type MendFrom string

// The sources of mends.
const (
	FromCloud      MendFrom = "cloud"
	FromExperience MendFrom = "experience"
	FromPast       MendFrom = "past"
)

// Report explains what went wrong in a run of a stack. It has no failures where nothing
// did, or where it was put right.
func (a *App) Report(ctx context.Context, st *stack.Stack, r *run.Record) (*Report, error) {
	events, err := a.store.Events(ctx, r.ID, 0)
	if err != nil {
		return nil, err
	}
	last := ""
	for _, e := range events {
		if e.Resource == "" && e.Type != run.Aside {
			last = e.Step
		}
	}
	out := &Report{Run: r, Standing: r.Standing(last)}
	failures := run.Failures(events)
	if len(failures) == 0 {
		return out, nil
	}
	places, lines, err := a.placesIn(ctx, st, r)
	if err != nil {
		return nil, err
	}
	changes := &whatif.ChangeSet{}
	if was, err := a.RevisionWanted(ctx, st.ID, r.Base); err == nil && r.Revision > 0 {
		if is, err := a.RevisionWanted(ctx, st.ID, r.Revision); err == nil {
			changes = a.between(was, is, whatif.State{Stack: st.Name})
		}
	}
	behind, err := a.behind(ctx, r)
	if err != nil {
		return nil, err
	}
	for _, f := range failures {
		e := Explanation{Failure: f, Pos: places[f.Resource], Behind: behind[f.Resource]}
		e.Line, e.Changed = lines(e.Pos), changesOf(changes, f.Resource)
		if e.Mends, err = a.mends(ctx, st, r, f); err != nil {
			return nil, err
		}
		out.Failures = append(out.Failures, e)
	}
	return out, nil
}

// placesIn are where the resources of a run stand in the template, and what stands there.
func (a *App) placesIn(ctx context.Context, st *stack.Stack, r *run.Record) (map[string]tosca.Pos, func(tosca.Pos) string, error) {
	places := map[string]tosca.Pos{}
	recorded, old, err := a.store.Recorded(ctx, st.ID)
	if err != nil {
		return nil, nil, err
	}
	for _, r := range append(old, recorded...) {
		places[r.Name] = r.Pos
	}
	number := r.Revision
	if number == 0 {
		number = r.Base
	}
	rev, err := a.store.Revision(ctx, st.ID, number)
	if errors.Is(err, store.ErrNotFound) {
		return places, func(tosca.Pos) string { return "" }, nil
	}
	if err != nil {
		return nil, nil, err
	}
	wanted, _ := a.resolveRevision(rev)
	for _, r := range wanted.Resources {
		places[r.Name] = r.Pos
	}
	for _, p := range wanted.Probes {
		places[run.ProbeName(p.Name)] = p.Pos
	}
	return places, func(p tosca.Pos) string { return wanted.Secrets().Hide(lineAt(rev, p)) }, nil
}

// lineAt is the text of a line of a revision's files, without its indentation.
func lineAt(rev *stack.Revision, p tosca.Pos) string {
	text := rev.Text
	if p.File != rev.Template {
		text = ""
		for name, content := range rev.Files {
			if p.File == name || strings.HasSuffix(filepath.ToSlash(p.File), "/"+name) {
				text = string(content)
			}
		}
	}
	lines := strings.Split(text, "\n")
	if p.Line < 1 || p.Line > len(lines) {
		return ""
	}
	return cloud.Clean(strings.TrimSpace(lines[p.Line-1]))
}

// behind are, by the resource of each failed step, the resources whose steps wait for it.
func (a *App) behind(ctx context.Context, r *run.Record) (map[string][]string, error) {
	entries, err := a.store.Journal(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	if len(r.Plan.Steps) == 0 {
		whole, err := a.store.Run(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		r = whole
	}
	return run.Behind(r.Plan, entries), nil
}

// mends says what would mend a failure.
func (a *App) mends(ctx context.Context, st *stack.Stack, r *run.Record, f run.Failure) ([]Mend, error) {
	var out []Mend
	if f.Fix != "" {
		out = append(out, Mend{Text: f.Fix, From: FromCloud})
	}
	past, err := a.pastMends(ctx, st, r, f)
	if err != nil {
		return nil, err
	}
	out = append(out, past...)
	if usual := cloud.Refusals[f.Problem]; usual != "" && (len(out) == 0 || !slices.Contains(vague, f.Problem)) {
		out = append(out, Mend{Text: usual, From: FromExperience})
	}
	return out, nil
}

// digits are what differs from one refusal to the next that is alike.
var digits = regexp.MustCompile(`[0-9]+|[a-z]+~[a-z0-9-]+`)

// alikeReasons reports whether two refusals of a kind say the same, but for numbers, names
// of the cloud and the resource's own.
func alikeReasons(a, b run.Failure) bool {
	plain := func(f run.Failure) string {
		return digits.ReplaceAllString(strings.ReplaceAll(f.Reason, f.Resource, ""), "")
	}
	return plain(a) == plain(b)
}

// exact reports whether a kind of problem says what is wrong: those that the clouds share, but for
// vague ones. Of any other, such as one that a program of one's own names, the words have to be the same.
func exact(problem string) bool {
	return cloud.Refusals[problem] != "" && problem != "script-failed" && !slices.Contains(vague, problem)
}

// vague are the kinds of problems that say nothing of what is wrong.
var vague = []string{"operation-failed", "refused", "busy", "internal", "unreadable", "bad-request", "connection"}

// pastMends looks in the store for failures like one, and for what let them go through.
func (a *App) pastMends(ctx context.Context, st *stack.Stack, r *run.Record, f run.Failure) ([]Mend, error) {
	list, err := a.store.FailedLike(ctx, f.Type, f.Problem, f.Time)
	if err != nil {
		return nil, err
	}
	times := 0
	var out []Mend
	for _, h := range list {
		was := run.Failure{Event: run.Event{Resource: h.Resource, Reason: h.Reason}}
		if h.RunID == r.ID && h.Seq >= f.Seq || !exact(f.Problem) && !alikeReasons(was, f) {
			continue
		}
		times++
		if len(out) > 0 {
			continue
		}
		through, err := a.store.WentThrough(ctx, h)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		what, err := a.whatChanged(ctx, h, through)
		if err != nil {
			return nil, err
		}
		text := fmt.Sprintf("run %d", through.Run)
		if h.StackID != st.ID {
			text += " of " + h.Stack
		}
		if h.Resource != f.Resource {
			text += " went through with " + h.Resource
		} else {
			text += " went through"
		}
		out = append(out, Mend{Text: text + " " + what, From: FromPast, Run: through.Run, Stack: h.Stack})
	}
	if times == 0 {
		return nil, nil
	}
	failed := "it failed like this once before"
	if times > 1 {
		failed = "it failed like this " + stack.Count(times, "time") + " before"
	}
	if len(out) == 0 {
		return []Mend{{Text: failed, From: FromPast}}, nil
	}
	out[0].Text = failed + "; " + out[0].Text
	return out, nil
}

// whatChanged says what was other when a resource went through than when it had failed.
func (a *App) whatChanged(ctx context.Context, failed, through store.Happened) (string, error) {
	later := whatif.Length(through.Time.Sub(failed.Time).Seconds()) + " later"
	if failed.Revision == through.Revision {
		return later + ", with nothing changed", nil
	}
	sides := [2]*stack.Wanted{}
	for i, number := range []int{failed.Revision, through.Revision} {
		w, err := a.RevisionWanted(ctx, failed.StackID, number)
		if errors.Is(err, store.ErrNotFound) {
			return later, nil
		}
		if err != nil {
			return "", err
		}
		sides[i] = w
	}
	cs := a.between(sides[0], sides[1], whatif.State{Stack: failed.Stack})
	if what := changesOf(cs, failed.Resource); what != "" {
		return "after " + what, nil
	}
	var others []string
	for _, ch := range cs.Changes {
		if ch.Kind != whatif.Same && ch.Name != failed.Resource {
			others = append(others, ch.Name)
		}
	}
	if len(others) == 0 {
		return later + ", with nothing changed in the template", nil
	}
	if more := len(others) - 3; more > 0 {
		others = append(others[:3], fmt.Sprintf("%d more", more))
	}
	return "after changes to " + strings.Join(others, ", "), nil
}

// changesOf says which properties of a resource are others; "" is none.
func changesOf(cs *whatif.ChangeSet, name string) string {
	var parts []string
	for _, ch := range cs.Changes {
		if ch.Name != name || ch.Kind == whatif.New || ch.Kind == whatif.Drop {
			continue
		}
		for _, p := range ch.Properties {
			switch {
			case p.Link && p.Before != nil && stack.Same(p.Before, p.After):
				parts = append(parts, fmt.Sprintf("%s leads to a new %s", p.Path, shortly(p.After)))
			case p.Before == nil:
				parts = append(parts, fmt.Sprintf("%s was set to %s", p.Path, shortly(p.After)))
			case p.After == nil:
				parts = append(parts, p.Path+" was taken away")
			default:
				parts = append(parts, fmt.Sprintf("%s went from %s to %s", p.Path, shortly(p.Before), shortly(p.After)))
			}
		}
	}
	return strings.Join(parts, ", ")
}

// shortly is a value in a sentence; a secret is not shown.
func shortly(v tosca.Value) string {
	text := strings.ReplaceAll(cloud.Clean(tosca.Show(v)), "\n", " ")
	if r := []rune(text); len(r) > 40 {
		return string(r[:39]) + "…"
	}
	return text
}
