package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// valueFlags adds the flags that give values to inputs.
func valueFlags(cmd *cobra.Command) *app.Values {
	v := &app.Values{}
	cmd.Flags().StringArrayVarP(&v.Flags, "input", "i", nil, "value of an input, as name=value; may be given several times")
	cmd.Flags().StringVar(&v.File, "inputs", "", "file with values of inputs")
	cmd.Flags().StringVar(&v.Target, "target", "", "account/region, for a stack file that does not say one")
	return v
}

func (p *Program) findings(list tosca.Findings) {
	for _, f := range list {
		fmt.Fprintf(p.Err, "%s: %s: %s [%s]\n", f.Pos, f.Severity, cloud.Clean(f.Message), f.Code)
		if f.Mend != "" {
			fmt.Fprintf(p.Err, "    %s\n", cloud.Clean(f.Mend))
		}
	}
}

// preview loads a stack file and makes its what-if: against what is deployed,
// or against something else.
func (p *Program) preview(ctx context.Context, a *app.App, path string, v app.Values, from, to string) (*app.Preview, error) {
	d, err := a.Load(ctx, path, v)
	if err != nil {
		return nil, err
	}
	var pv *app.Preview
	if from != "" {
		pv, err = a.WhatIfFrom(ctx, d, from, to)
	} else {
		pv, err = a.WhatIf(ctx, d, true)
	}
	if err != nil {
		return nil, err
	}
	p.findings(pv.Findings)
	return pv, nil
}

func (p *Program) whatif() *cobra.Command {
	var asJSON, asMarkdown, expectNone bool
	cmd := &cobra.Command{Use: "whatif STACKFILE", Short: "Show what a deployment would do, and do nothing", Args: cobra.ExactArgs(1)}
	v := valueFlags(cmd)
	cmd.Flags().BoolVar(&asJSON, "json", false, "the change set as JSON")
	var failAt, from, to, save string
	cmd.Flags().StringVar(&save, "save", "", "save it to this file, from which exactly that can be deployed")
	cmd.Flags().StringVar(&from, "from", "", "compare with this revision of the stack, or with another stack file, instead of what is deployed")
	cmd.Flags().StringVar(&to, "to", "", "with --from: compare this revision of the stack, instead of the stack file")
	cmd.Flags().StringVar(&failAt, "fail-at", "", "rehearse: what would happen if it failed at this resource")
	cmd.Flags().BoolVar(&asMarkdown, "markdown", false, "the change set as Markdown, for a review")
	cmd.MarkFlagsMutuallyExclusive("json", "markdown")
	cmd.MarkFlagsMutuallyExclusive("from", "save", "fail-at")
	cmd.Flags().BoolVar(&expectNone, "expect-none", false, "exit with 3 when there are changes")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			if to != "" && from == "" {
				return usage{errors.New("--to compares two: say with --from with which")}
			}
			if app.IsSaved(args[0]) {
				return p.savedWhatIf(cmd.Context(), a, args[0], asJSON, asMarkdown, expectNone)
			}
			pv, err := p.preview(cmd.Context(), a, args[0], *v, from, to)
			if err != nil {
				return err
			}
			if pv.Findings.HasErrors() { // what it would change is shown all the same, as far as it is known
				if len(pv.Changes) > 0 || asJSON {
					err = p.printed(pv, asJSON, asMarkdown)
				}
				return errors.Join(err, exit(ExitRefused))
			}
			if save != "" {
				if err := a.Save(pv, save); err != nil {
					return err
				}
				fmt.Fprintf(p.Err, "saved as %s\n", save)
			}
			if failAt != "" {
				r, err := a.Rehearse(pv, failAt)
				if err == nil && asJSON {
					return p.json(r)
				}
				if err == nil {
					fmt.Fprintln(p.Out, strings.Join(RehearsalLines(r), "\n"))
				}
				return err
			}
			err = p.printed(pv, asJSON, asMarkdown)
			if err == nil && expectNone && !pv.Empty() {
				return exit(ExitChanges)
			}
			return err
		})
	}
	return cmd
}

// printed prints the change set of a preview.
func (p *Program) printed(pv *app.Preview, asJSON, asMarkdown bool) error {
	switch {
	case asJSON:
		return p.json(pv.ChangeSet)
	case asMarkdown:
		_, err := io.WriteString(p.Out, pv.Markdown())
		return err
	}
	p.changeSet(pv.ChangeSet)
	return nil
}

// savedWhatIf shows a saved change set: compared anew by who can carry it out, and
// as it was saved to anybody else.
func (p *Program) savedWhatIf(ctx context.Context, a *app.App, path string, asJSON, asMarkdown, expectNone bool) error {
	s, err := a.ShowSaved(path)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.Err, "%s of %s in %s, saved by %s on %s", s.Kind, s.Stack, s.Target, s.By, s.At.Local().Format("2006-01-02 15:04"))
	for _, ap := range s.Approvals {
		fmt.Fprintf(p.Err, ", approved by %s", ap.By)
	}
	fmt.Fprintln(p.Err)
	pv, err := a.OpenSaved(ctx, path)
	if err != nil { // it can be read all the same
		fmt.Fprintf(p.Err, "as it was saved; it cannot be carried out from here: %s\n", cloud.Clean(err.Error()))
		if !asJSON {
			p.savedText(s)
			return nil
		}
		var out bytes.Buffer
		if err := json.Indent(&out, s.ChangeSet, "", "  "); err != nil {
			return err
		}
		fmt.Fprintln(p.Out, out.String())
		return nil
	}
	p.findings(pv.Findings)
	if err := p.printed(pv, asJSON, asMarkdown); err != nil {
		return err
	}
	switch {
	case pv.Findings.HasErrors():
		return exit(ExitRefused)
	case expectNone && !pv.Empty():
		return exit(ExitChanges)
	}
	return nil
}

// savedText prints a change set as it was saved.
func (p *Program) savedText(s *app.Saved) {
	var set struct {
		Tally   whatif.Tally
		Changes []struct {
			Name, Type string
			Kind       whatif.Kind
			Properties []struct {
				Path          string
				Before, After any
				Unknown       bool
				Effect        string
			}
			Because []string
		}
		Risks []struct{ Kind, Text string }
	}
	if err := json.Unmarshal(s.ChangeSet, &set); err != nil {
		fmt.Fprintln(p.Err, err)
		return
	}
	value := func(x any) string { return shown(tosca.FromJSON(x)) }
	fmt.Fprintf(p.Out, "%s in %s: %s, %d same\n", s.Stack, s.Target, set.Tally, set.Tally.Same)
	for _, ch := range set.Changes {
		fmt.Fprintf(p.Out, "\n%s %-5s %s  (%s)\n", ch.Kind.Mark(), ch.Kind, cloud.Clean(ch.Name), cloud.Clean(ch.Type))
		for _, c := range ch.Properties {
			text := value(c.After)
			if c.Unknown {
				text = "set by the cloud"
			}
			if c.Before != nil {
				text = value(c.Before) + " → " + text
			}
			if c.Effect == "swap" {
				text += "   forces the swap"
			}
			p.valueOf(cloud.Clean(c.Path), text)
		}
		for _, b := range ch.Because {
			p.wrapped("    because  ", b)
		}
	}
	for i, r := range set.Risks {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		p.wrapped(fmt.Sprintf("! %-12s ", r.Kind), r.Text)
	}
}

// RehearsalLines puts a rehearsal into words.
func RehearsalLines(r *run.Rehearsal) []string {
	resources := func(list []run.Played) string {
		names := make([]string, len(list))
		for i, p := range list {
			names[i] = p.Resource
		}
		return strings.Join(names, ", ")
	}
	out := []string{fmt.Sprintf("If %s failed, after %s:", r.Resource, whatif.Length(r.At))}
	for _, part := range [][2]string{{"done by then", resources(r.Done)}, {"still under way", resources(r.Ended)}, {"never begun", strings.Join(r.Never, ", ")}} {
		if part[1] != "" {
			out = append(out, fmt.Sprintf("  %s: %s", part[0], part[1]))
		}
	}
	if !r.Returns {
		return append(out, "Nothing could be undone any more: the run goes on forwards only (resume).", "  left over: "+strings.Join(r.Left, ", "))
	}
	if len(r.Undo) == 0 {
		return append(out, "There would be nothing to undo.")
	}
	out = append(out, fmt.Sprintf("Undoing it, %s later all would be as before:", whatif.Length(r.Undone-r.At)))
	for _, p := range r.Undo {
		out = append(out, fmt.Sprintf("  %8s  %s %s", whatif.Length(p.Start), p.Action, p.Resource))
	}
	return out
}

// changeSet prints a change set as text for 80 columns.
func (p *Program) changeSet(cs *whatif.ChangeSet) {
	about := fmt.Sprintf("%s in %s: %s, %d same", cs.Stack, cs.Target, cs.Tally, cs.Tally.Same)
	if !cs.Empty() && cs.Against == "" {
		about += "; about " + whatif.Length(cs.Estimate.Seconds)
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
			after := shown(c.After)
			if c.Unknown {
				after = "set by the cloud"
			}
			switch {
			case ch.Kind == whatif.Drop || ch.Kind == whatif.Keep:
				continue
			case c.Before == nil && ch.Kind == whatif.New:
				p.valueOf(c.Path, after)
			default:
				if tosca.HasSecret(c.After) && c.Before != nil {
					after = "(secret, changed)"
				}
				text := shown(c.Before) + " → " + after
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
			p.wrapped("    last     ", whatif.LastText)
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
	for i, l := range cs.Left {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		p.wrapped("left as it is  ", l.Resource+": "+l.Text)
	}
	for i, r := range cs.Risks {
		if i == 0 {
			fmt.Fprintln(p.Out)
		}
		text := r.Text
		if r.Pos.Line > 0 {
			text += " (" + r.Pos.Short() + ")"
		}
		p.wrapped(fmt.Sprintf("! %-12s ", r.Kind), text)
		if r.Mend != "" {
			p.wrapped(strings.Repeat(" ", 15), r.Mend)
		}
	}
}

// wrapped prints text for 80 columns, the later lines under the first.
func (p *Program) wrapped(label, text string) {
	for _, line := range inLines(text, 80-len(label)) {
		fmt.Fprintln(p.Out, strings.TrimRight(label+line, " "))
		label = strings.Repeat(" ", len(label))
	}
}

func inLines(text string, width int) []string {
	return strings.Split(ansi.Wrap(cloud.Clean(text), width, ""), "\n")
}

// mostLines is how many lines of a value are printed.
const mostLines = 8

// valueOf prints what becomes of a property. The end tells as much as the
// beginning: of a long value both are there.
func (p *Program) valueOf(path, text string) {
	lines := inLines(path+": "+text, 74)
	if n := len(lines); n > mostLines {
		cut := fmt.Sprintf("… %d lines more, --json has them all …", n-mostLines+1)
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

// shownText is a text that is not too long.
func shownText(s string) string {
	if r := []rune(s); len(r) > 400 {
		return string(r[:300]) + " … " + string(r[len(r)-60:])
	}
	return s
}

func shown(v tosca.Value) string { return cloud.Clean(tosca.Show(v)) }

// toDeploy makes the what-if of a stack file, or opens a saved change set.
func (p *Program) toDeploy(ctx context.Context, a *app.App, path string, v app.Values) (*app.Preview, error) {
	if !app.IsSaved(path) {
		pv, err := p.preview(ctx, a, path, v, "", "")
		if err == nil && pv.Findings.HasErrors() {
			return nil, exit(ExitRefused)
		}
		return pv, err
	}
	if len(v.Flags) > 0 || v.File != "" || v.Target != "" {
		return nil, usage{errors.New("a saved change set is deployed as it is: it takes no inputs and no target")}
	}
	pv, err := a.OpenSaved(ctx, path)
	if err != nil {
		return nil, err
	}
	if p.findings(pv.Findings); pv.Findings.HasErrors() {
		return nil, exit(ExitRefused)
	}
	return pv, nil
}

func (p *Program) identity() *cobra.Command {
	return &cobra.Command{Use: "identity", Short: "Print who you are to others: what they put into 'approvers' and 'deployers'", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return p.with(func(a *app.App) error {
				me, err := a.Me()
				if err == nil {
					fmt.Fprintln(p.Out, me.Public())
				}
				return err
			})
		}}
}

func (p *Program) approve() *cobra.Command {
	return &cobra.Command{Use: "approve CHANGESET", Short: "Agree to a saved change set that somebody else made", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return p.with(func(a *app.App) error {
				s, in, err := a.Approve(args[0], store.Who())
				if err == nil {
					fmt.Fprintf(p.Out, "%s in %s, saved by %s, is approved by %s\nwritten as %s; it belongs beside the file\n", s.Stack, s.Target, s.By, store.Who(), in)
				}
				return err
			})
		}}
}

func (p *Program) deploy() *cobra.Command {
	var yes, asJSON, noWhatIf bool
	var onFailure string
	var accept []string
	cmd := &cobra.Command{Use: "deploy STACKFILE|CHANGESET", Short: "Deploy a stack, or exactly what was saved, and undo everything when it fails", Args: cobra.ExactArgs(1)}
	v := valueFlags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().StringVar(&onFailure, "on-failure", "", "undo or hold (default: what the stack file says)")
	cmd.Flags().BoolVar(&asJSON, "json", false, "events as JSON, one a line")
	cmd.Flags().BoolVar(&noWhatIf, "no-whatif", false, "show the numbers alone; not where the stack or its target is careful")
	acceptFlag(cmd, &accept)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if onFailure != "" && onFailure != "undo" && onFailure != "hold" {
			return usage{fmt.Errorf("--on-failure is undo or hold, not '%s'", onFailure)}
		}
		return p.with(func(a *app.App) error {
			pv, err := p.toDeploy(cmd.Context(), a, args[0], *v)
			if err != nil {
				return err
			}
			if noWhatIf && pv.Careful() {
				return fmt.Errorf("%s in %s is careful: its what-if is not skipped", pv.ChangeSet.Stack, pv.Target)
			}
			switch {
			case asJSON:
			case noWhatIf:
				fmt.Fprintf(p.Out, "%s in %s: %s\n", pv.ChangeSet.Stack, pv.Target, pv.Tally)
			default:
				p.changeSet(pv.ChangeSet)
				fmt.Fprintln(p.Out)
			}
			if onFailure == "" {
				onFailure = pv.OnFailure()
			}
			return p.carry(cmd.Context(), a, pv, onFailure, yes, asJSON, accept)
		})
	}
	return cmd
}

func saveFlag(cmd *cobra.Command) *string {
	return cmd.Flags().String("save", "", "do nothing, and save it to this file, from which 'deploy' carries out exactly that")
}

// shownAndCarried shows what a way back, or a deletion, would do, and then saves
// it or carries it out.
func (p *Program) shownAndCarried(ctx context.Context, a *app.App, pv *app.Preview, save, onFailure string, yes, asJSON bool, accept []string) error {
	if !asJSON {
		p.changeSet(pv.ChangeSet)
		fmt.Fprintln(p.Out)
	}
	p.findings(pv.Findings)
	if pv.Findings.HasErrors() {
		return exit(ExitRefused)
	}
	if save == "" {
		return p.carry(ctx, a, pv, onFailure, yes, asJSON, accept)
	}
	if err := a.Save(pv, save); err != nil {
		return err
	}
	fmt.Fprintf(p.Err, "saved as %s\n", save)
	return nil
}

// carry confirms, prepares and carries out a preview in the foreground.
func (p *Program) carry(ctx context.Context, a *app.App, pv *app.Preview, onFailure string, yes, asJSON bool, accept []string) error {
	if pv.Findings.HasErrors() {
		p.findings(pv.Findings)
		return exit(ExitRefused)
	}
	if err := accepted(pv, yes, accept); err != nil {
		return err
	}
	if !yes && !pv.Empty() {
		word := ""
		if NeedsName(pv) {
			word = pv.ChangeSet.Stack
		}
		if err := p.confirm(Question(pv), word); err != nil {
			return err
		}
	}
	t, err := a.Prepare(ctx, pv, onFailure)
	if errors.Is(err, app.ErrNothingToDo) {
		if !asJSON {
			fmt.Fprintln(p.Out, err)
		}
		return nil
	}
	if err != nil {
		return err
	}
	return p.execute(ctx, a, t, asJSON)
}

// Question is the confirmation of a preview: it repeats the numbers and the
// target.
func Question(pv *app.Preview) string {
	what := map[string]string{"deploy": "Deploy " + pv.ChangeSet.Stack, "undo": fmt.Sprintf("Go back to revision %d of %s", pv.To, pv.ChangeSet.Stack), "delete": "Delete " + pv.ChangeSet.Stack}[pv.Kind]
	return fmt.Sprintf("%s: %s in %s / %s?", what, pv.Tally, pv.Target.Account, pv.Target.Region)
}

// NeedsName reports whether a confirmation wants the stack's name typed: where
// data would go that matters, or the target is careful.
func NeedsName(pv *app.Preview) bool {
	return len(pv.DataLost()) > 0 && !pv.Throwaway() || pv.Careful()
}

func acceptFlag(cmd *cobra.Command, accept *[]string) {
	cmd.Flags().StringArrayVar(accept, "accept", nil, "with --yes: a risk that is accepted; data is the only one that must be, unless the stack file says throwaway: true")
}

// accepted refuses to lose data by --yes alone, unless the stack is a throwaway
// one.
func accepted(pv *app.Preview, yes bool, accept []string) error {
	for _, a := range accept {
		if a != string(whatif.RiskData) {
			return usage{fmt.Errorf("--accept takes data, not '%s'", a)}
		}
	}
	lost := pv.DataLost()
	if !yes || pv.Throwaway() || len(lost) == 0 || len(accept) > 0 {
		return nil
	}
	more := ""
	if len(lost) > 1 {
		more = fmt.Sprintf(" (and %d more)", len(lost)-1)
	}
	return fmt.Errorf("%s%s: add --accept data to --yes, or, where that never matters, throwaway: true to the stack file", lost[0].Text, more)
}

// execute carries a run out here and prints its events. The first interrupt
// asks it to stop, which undoes it.
func (p *Program) execute(ctx context.Context, a *app.App, t *app.Ticket, asJSON bool) error {
	// A terminal that is closed, or a pipe that nobody reads, does not stop it.
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(signals)
	type end struct {
		run *store.Run
		err error
	}
	ended := make(chan end, 1)
	go func() {
		r, err := a.Execute(ctx, t.Run.ID, t.Token)
		ended <- end{r, err}
	}()
	tail, stop := context.WithCancel(ctx)
	defer stop()
	printed := make(chan struct{})
	go func() {
		defer close(printed)
		a.Tail(tail, t.Run.ID, func(e run.Event) { p.event(t.Run, e, asJSON) }) // its end is told by Execute
	}()
	for {
		select {
		case <-signals:
			fmt.Fprintln(p.Err, "stopping: what is under way comes to its end, then all is undone")
			if err := a.Store.RequestCancel(ctx, t.Run.ID); err != nil { // it goes on; leaving now would tear it apart
				fmt.Fprintf(p.Err, "it could not be asked to stop: %v; it goes on, interrupt it once more to ask again\n", err)
			}
		case e := <-ended:
			if e.err != nil {
				return fmt.Errorf("%w\nrun 'brickrow resume' to go on", e.err)
			}
			<-printed
			if !asJSON {
				p.end(ctx, a, e.run)
			}
			return code(e.run)
		}
	}
}

type jsonEvent struct {
	Run      int       `json:"run"`
	Seq      int64     `json:"seq"`
	Time     time.Time `json:"time"`
	Resource string    `json:"resource"`
	Type     string    `json:"type"`
	State    run.State `json:"state"`
	Step     string    `json:"step"`
	Reason   string    `json:"reason"`
	Elapsed  int64     `json:"elapsed_ms"`
	CloudID  string    `json:"cloud_id"`
}

func (p *Program) event(r *store.Run, e run.Event, asJSON bool) {
	if asJSON {
		b, err := json.Marshal(jsonEvent{r.Number, e.Seq, e.Time.UTC(), e.Resource, e.Type, e.State, e.Step, e.Reason, e.Elapsed.Milliseconds(), e.CloudID})
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
	fmt.Fprintf(p.Out, "%s  %-18s %-9s %s\n", e.Time.Format("15:04:05"), name, e.State, cloud.Clean(words))
}

func (p *Program) end(ctx context.Context, a *app.App, r *store.Run) {
	fmt.Fprintf(p.Out, "\nrun %d: %s after %s", r.Number, r.State, whatif.Length(r.Ended.Sub(r.Started).Seconds()))
	if r.Reason != "" {
		fmt.Fprintf(p.Out, ": %s", r.Reason)
	}
	fmt.Fprintln(p.Out)
	if r.State != store.RunDone || r.Kind == "delete" {
		return
	}
	list, err := a.Store.Results(ctx, r.StackID)
	if err == nil && len(list) > 0 {
		fmt.Fprintln(p.Out)
		p.resultLines(list, false)
	}
}

func (p *Program) resultLines(list []store.Result, reveal bool) {
	for _, r := range list {
		fmt.Fprintf(p.Out, "%-18s %s\n", r.Name, cloud.Clean(ResultText(r, reveal)))
	}
}

// ResultText is the value of a result; a secret only where it is revealed.
func ResultText(r store.Result, reveal bool) string {
	if reveal {
		v, _ := tosca.Bare(r.Value)
		return tosca.Show(v)
	}
	return tosca.Show(r.Value)
}

func (p *Program) undo() *cobra.Command {
	var yes, asJSON bool
	var accept []string
	var to int
	cmd := &cobra.Command{Use: "undo STACK", Short: "Undo an interrupted or held run, or go back to a former revision", Args: cobra.ExactArgs(1)}
	acceptFlag(cmd, &accept)
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().IntVar(&to, "to", 0, "the revision to go back to (default: the one before)")
	save := saveFlag(cmd)
	cmd.Flags().BoolVar(&asJSON, "json", false, "events as JSON, one a line")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *store.Stack) error {
			given := cmd.Flags().Changed("to")
			if given && to < 1 {
				return usage{fmt.Errorf("there is no revision %d: they are counted from 1", to)}
			}
			if ways, err := a.WaysOut(ctx, st); err != nil {
				return err
			} else if ways.Resume && !given {
				t, err := a.Resume(ctx, st, true)
				if err != nil {
					return err
				}
				return p.execute(ctx, a, t, asJSON)
			}
			pv, err := a.WhatIfUndo(ctx, st, to)
			if err != nil {
				return err
			}
			return p.shownAndCarried(ctx, a, pv, *save, "undo", yes, asJSON, accept)
		})
	}
	return cmd
}

func (p *Program) remove() *cobra.Command {
	var yes, asJSON bool
	var accept []string
	cmd := &cobra.Command{Use: "delete STACK", Short: "Remove every resource of a stack, and show that nothing is left", Args: cobra.ExactArgs(1)}
	acceptFlag(cmd, &accept)
	save := saveFlag(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&asJSON, "json", false, "events as JSON, one a line")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *store.Stack) error {
			if st.State == store.Removed {
				return fmt.Errorf("%s is removed already", st.Name)
			}
			pv, err := a.WhatIfDelete(ctx, st)
			if err != nil {
				return err
			}
			return p.shownAndCarried(ctx, a, pv, *save, "hold", yes, asJSON, accept)
		})
	}
	return cmd
}

func (p *Program) resume() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "resume STACK", Short: "Go on with a run that was interrupted, held or stuck", Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "events as JSON, one a line")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onStack(cmd.Context(), args[0], func(a *app.App, st *store.Stack) error {
			t, err := a.Resume(cmd.Context(), st, false)
			if err != nil {
				return err
			}
			return p.execute(cmd.Context(), a, t, asJSON)
		})
	}
	return cmd
}

func (p *Program) cancel() *cobra.Command {
	return &cobra.Command{Use: "cancel STACK", Short: "Stop the run of a stack; what it has done is undone", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return p.onStack(cmd.Context(), args[0], func(a *app.App, st *store.Stack) error {
				r, err := a.Store.RunNumber(cmd.Context(), st.ID, 0)
				if err != nil {
					return fmt.Errorf("%s has no run: %w", st.Name, err)
				}
				if err := a.Cancel(cmd.Context(), r); err != nil {
					return err
				}
				fmt.Fprintf(p.Out, "run %d of %s was asked to stop\n", r.Number, st.Name)
				return nil
			})
		}}
}

func (p *Program) watch() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "watch STACK", Short: "Follow the last run of a stack, live", Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "events as JSON, one a line")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
		defer stop()
		return p.onStack(ctx, args[0], func(a *app.App, st *store.Stack) error {
			r, err := a.Store.RunNumber(ctx, st.ID, 0)
			if err != nil {
				return fmt.Errorf("%s has no run: %w", st.Name, err)
			}
			ended, err := a.Tail(ctx, r.ID, func(e run.Event) { p.event(r, e, asJSON) })
			if errors.Is(err, context.Canceled) {
				return nil // the run goes on without us
			}
			if err != nil {
				return err
			}
			if !asJSON {
				p.end(ctx, a, ended)
			}
			return code(ended)
		})
	}
	return cmd
}

// carryOut is what the interface starts as a process of its own.
func (p *Program) carryOut() *cobra.Command {
	return &cobra.Command{Use: "carry-out RUN", Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			signal.Ignore(syscall.SIGHUP, os.Interrupt)
			h, err := app.ReadHandover(p.In)
			if err != nil {
				return err
			}
			p.tokens = h.Tokens
			return p.with(func(a *app.App) error {
				r, err := a.Execute(cmd.Context(), args[0], h.Lock)
				if err != nil {
					return err
				}
				return code(r)
			})
		}}
}
