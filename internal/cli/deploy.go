package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/identity"
	"brickrow/internal/notice"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

// valueFlags adds the flags that give values to inputs.
func valueFlags(cmd *cobra.Command) *app.Values {
	v := &app.Values{Shell: true}
	cmd.Flags().StringArrayVarP(&v.Flags, "input", "i", nil,
		"value of an input, as name=value; may be given several times")
	cmd.Flags().StringVar(&v.At, "at", "",
		"read the files as they are in this commit of their git repository, such as HEAD~1 or v2")
	cmd.Flags().StringVar(&v.File, "inputs", "", "file with values of inputs")
	cmd.Flags().StringVar(&v.Target, "target", "", "account/region, for a stack file that does not say one")
	return v
}

func onlyFlag(cmd *cobra.Command) *[]string {
	return cmd.Flags().StringSlice("only", nil, "only these nodes or resources, with all that they need; what else has changed is left out")
}

// toDeploy makes the what-if of a stack file, or opens a saved change set.
func (p *Program) toDeploy(ctx context.Context, a *app.App, path string, v app.Values, only []string) (*app.Preview, error) {
	if !app.IsSaved(path) {
		pv, err := p.preview(ctx, a, path, v, "", "", only)
		if err == nil && pv.Findings.HasErrors() {
			return nil, exit(ExitRefused)
		}
		return pv, err
	}
	if len(v.Flags) > 0 || v.File != "" || v.Target != "" || v.At != "" || len(only) > 0 {
		return nil, usage{errors.New("a saved change set is deployed as it is: it takes no inputs, no target, no commit and no --only")}
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
	cmd := &cobra.Command{Use: "identity",
		Short: "Print who you are to others: what they put into 'approvers' and 'deployers'", Args: cobra.NoArgs}
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		me, err := app.IdentityOf(p.options().Home) // the store is not opened: who asks may not be known there yet
		if err != nil {
			return err
		}
		return p.told(*asJSON, map[string]any{"user": identity.User(), "identity": fmt.Sprint(me.Public())}, "%s", me.Public())
	}
	return cmd
}

func (p *Program) approve() *cobra.Command {
	cmd := &cobra.Command{Use: "approve CHANGESET", Short: "Agree to a saved change set that somebody else made", Args: cobra.ExactArgs(1)}
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			s, in, err := a.Approve(args[0], identity.User())
			if err != nil {
				return err
			}
			return p.told(*asJSON, map[string]any{"stack": s.Stack, "target": s.Target, "by": s.By, "approved_by": identity.User(), "file": in},
				"%s in %s, saved by %s, is approved by %s\nwritten as %s; it belongs beside the file", s.Stack, s.Target, s.By, identity.User(), in)
		})
	}
	return cmd
}

func (p *Program) deploy() *cobra.Command {
	var noWhatIf bool
	var failing string
	cmd := &cobra.Command{Use: "deploy STACKFILE|CHANGESET",
		Short: "Deploy a stack, or exactly what was saved, and undo everything when it fails", Args: cobra.ExactArgs(1)}
	v := valueFlags(cmd)
	only := onlyFlag(cmd)
	agreed := agreementFlags(cmd)
	cmd.Flags().StringVar(&failing, "on-failure", "", "undo or hold (default: what the stack file says)")
	cmd.Flags().BoolVar(&noWhatIf, "no-whatif", false,
		"show the numbers alone; not where the stack or its target is careful")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		onFailure := stack.OnFailure(failing)
		if onFailure != "" && onFailure != stack.Undo && onFailure != stack.Hold {
			return usage{fmt.Errorf("--on-failure is undo or hold, not '%s'", onFailure)}
		}
		return p.with(func(a *app.App) error {
			if app.IsSaved(args[0]) {
				acts, err := a.OpenSavedActs(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				said, is, err := a.CarryMark(cmd.Context(), args[0], agreed.note)
				if err != nil {
					return err
				}
				if is {
					return p.told(agreed.json, map[string]any{"done": said}, "%s", said)
				}
				if acts != nil {
					acts.Note = agreed.note
					return p.carryActs(cmd.Context(), a, acts, agreed)
				}
			}
			a.AskPrograms.Store(a.AskPrograms.Load() || agreed.yes) // they run when it is carried out, to which somebody agrees here
			pv, err := p.toDeploy(cmd.Context(), a, args[0], *v, *only)
			if err != nil {
				return err
			}
			if files := pv.NotAsked(); len(files) > 0 {
				if err := p.confirm(app.AskQuestion(files), ""); err != nil {
					return err
				}
				a.AskPrograms.Store(true)
				if pv, err = p.toDeploy(cmd.Context(), a, args[0], *v, *only); err != nil {
					return err
				}
			}
			if noWhatIf && pv.Careful() {
				return fmt.Errorf("%s in %s is careful: its what-if is not skipped", pv.ChangeSet.Stack, pv.Target)
			}
			switch {
			case agreed.json:
			case noWhatIf:
				fmt.Fprintf(p.Out, "%s in %s: %s\n", pv.ChangeSet.Stack, pv.Target, pv.Tally)
			default:
				p.changeSet(pv.ChangeSet)
				fmt.Fprintln(p.Out)
			}
			if onFailure == "" {
				onFailure = pv.OnFailure()
			}
			return p.carry(cmd.Context(), a, pv, onFailure, agreed)
		})
	}
	return cmd
}

// agreement is what was agreed to beforehand, by flags, and how what happens is
// printed.
type agreement struct {
	carrying
	yes    bool
	accept []string
	save   string // carry nothing out, and write it here
	note   string // for the record
}

func agreementFlags(cmd *cobra.Command) *agreement {
	g := &agreement{}
	cmd.Flags().BoolVar(&g.yes, "yes", false, "do not ask")
	g.carryingFlags(cmd)
	cmd.Flags().StringVar(&g.note, "note", "", "a note that is kept with the run")
	acceptFlag(cmd, &g.accept)
	return g
}

func acceptFlag(cmd *cobra.Command, into *[]string) {
	cmd.Flags().StringArrayVar(into, "accept", nil,
		"with --yes: a risk that is accepted; data, origin and leaving have to be, data not where the stack file says throwaway: true")
}

func (g *agreement) saveFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&g.save, "save", "",
		"do nothing, and save it to this file, from which 'deploy' carries out exactly that")
}

// shownAndCarried shows what a way back, or a deletion, would do, and then saves
// it or carries it out.
func (p *Program) shownAndCarried(ctx context.Context, a *app.App, pv *app.Preview, onFailure stack.OnFailure,
	agreed *agreement) error {
	if !agreed.json {
		p.changeSet(pv.ChangeSet)
		fmt.Fprintln(p.Out)
	}
	p.findings(pv.Findings)
	if pv.Findings.HasErrors() {
		return exit(ExitRefused)
	}
	if agreed.save == "" {
		return p.carry(ctx, a, pv, onFailure, agreed)
	}
	if err := a.Save(pv, agreed.save); err != nil {
		return err
	}
	fmt.Fprintf(p.Err, "saved as %s\n", agreed.save)
	return nil
}

// carry confirms, prepares and carries out a preview in the foreground.
func (p *Program) carry(ctx context.Context, a *app.App, pv *app.Preview, onFailure stack.OnFailure,
	agreed *agreement) error {
	if pv.Findings.HasErrors() {
		p.findings(pv.Findings)
		return exit(ExitRefused)
	}
	if !pv.Empty() || len(pv.Consent().Risks) > 0 {
		if err := p.agree(agreed, pv.Consent(), pv.Question()); err != nil {
			return err
		}
	}
	pv.Note = agreed.note
	var err error
	if pv.Queue, err = p.in(&agreed.carrying); err != nil {
		return err
	}
	t, err := a.Prepare(ctx, pv, onFailure)
	if errors.Is(err, app.ErrNothingToDo) {
		if !agreed.json {
			fmt.Fprintln(p.Out, err)
		}
		return nil
	}
	if err != nil {
		return err
	}
	return p.execute(ctx, a, t, agreed.carrying)
}

// agree asks for the consent that something needs or, with --yes, wants it to have been given by --accept.
func (p *Program) agree(g *agreement, c app.Consent, question string) error {
	if err := app.CheckAccepted(g.accept); err != nil {
		return usage{err}
	}
	if g.yes {
		return c.Given(g.accept)
	}
	return p.confirm(question, c.Word())
}

// carrying is how a run is told while it is carried out, and at its end; and whether that is done by a worker.
type carrying struct {
	json, notify, watch bool
	queue               app.Queueing // where it waits; without a name it is carried out here
}

func (c *carrying) carryingFlags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&c.json, "json", false, "events as JSON, one a line")
	notifyFlag(cmd, &c.notify)
	cmd.Flags().StringVar(&c.queue.Queue, "queue", "", "let it wait in this queue for a worker, who carries it out (without a name: runs)")
	cmd.Flags().Lookup("queue").NoOptDefVal = app.UsualQueue
	cmd.Flags().IntVar(&c.queue.Priority, "priority", 2, "with --queue: 1 comes first, 4 last")
	cmd.Flags().BoolVar(&c.watch, "watch", false, "with --queue: follow it until it has ended")
}

// in is where the run waits; nil is that it is carried out here.
func (p *Program) in(c *carrying) (*app.Queueing, error) {
	if c.queue.Queue == "" {
		if c.watch {
			return nil, usage{errors.New("--watch goes with --queue: what is carried out here is followed anyway")}
		}
		return nil, nil
	}
	if name := p.set.Get("queue", ""); name != "" && c.queue.Queue == app.UsualQueue {
		c.queue.Queue = name
	}
	if err := c.queue.Check(); err != nil {
		return nil, usage{err}
	}
	return &c.queue, nil
}

func notifyFlag(cmd *cobra.Command, into *bool) {
	cmd.Flags().BoolVar(into, "notify", false, "at the end, a notice of the desktop and the bell, where the terminal has them")
}

// notice tells of the end of a run, where that is wanted and there is a terminal.
func (p *Program) notice(a *app.App, name string, r *run.Record, wanted bool) {
	f, ok := p.errs.(*os.File) // Err lets nothing through that a terminal obeys
	if !wanted || !ok || !term.IsTerminal(f.Fd()) {
		return
	}
	how := a.Preferences().Notify
	if how == notice.None { // it is asked for here
		how = notice.Desktop
	}
	fmt.Fprint(f, notice.Text(how, name, r.Words()))
}

// execute carries a run out here and prints its events. The first interrupt
// asks it to stop, which undoes it.
func (p *Program) execute(ctx context.Context, a *app.App, t *app.Ticket, how carrying) error {
	if t.Run.Queue != "" {
		return p.enqueue(ctx, a, t, how)
	}
	// A terminal that is closed, or a pipe that nobody reads, does not stop it.
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(signals)
	type end struct {
		run *run.Record
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
		tell, stop := p.telling(t.Run, how.json)
		defer stop()
		a.Tail(tail, t.Run.ID, tell) // its end is told by Execute
	}()
	for {
		select {
		case <-signals:
			words, err := a.Cancel(ctx, t.Run, stack.Undo)
			if err == nil {
				fmt.Fprintf(p.Err, "run %d %s\n", t.Run.Number, words)
			} else { // it goes on; leaving now would tear it apart
				fmt.Fprintf(p.Err,
					"it could not be asked to stop: %v; it goes on, interrupt it once more to ask again\n", err)
			}
		case e := <-ended:
			if e.err != nil {
				if st, err := a.StackOf(ctx, t.Run); err == nil {
					e.err = fmt.Errorf("%w\n'brickrow resume %s' goes on", e.err, st.Name)
				}
				return e.err
			}
			<-printed
			if st, err := a.StackOf(ctx, e.run); err == nil {
				p.notice(a, st.Name, e.run, how.notify)
			}
			if !how.json {
				p.end(ctx, a, e.run)
			}
			return code(e.run)
		}
	}
}
