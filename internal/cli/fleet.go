package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/fleet"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

func (p *Program) fleet() *cobra.Command {
	cmd := &cobra.Command{Use: "fleet", Short: "One stack in many places: what-if, deploy in waves, watch, retry, delete"}
	cmd.AddCommand(p.fleetCheck(), p.fleetWhatIf(), p.fleetDeploy(), p.fleetDelete(), p.fleetShow(), p.fleetList(), p.fleetApprove(),
		p.fleetSteer("pause FLEETFILE", "Let no more places begin; what is under way comes to its end", "begins nothing more; resume goes on", (*app.App).PauseFleet),
		p.fleetResume(), p.fleetSteer("cancel FLEETFILE", "Stop a rollout: what is under way comes to its end, and nothing more begins",
			"stops: what is under way comes to its end, nothing more begins", (*app.App).CancelFleet),
		p.fleetRetry(), p.fleetDrift(), p.fleetCompliance(), p.fleetDraw())
	return cmd
}

func (p *Program) fleetCheck() *cobra.Command {
	cmd := p.check()
	cmd.Use, cmd.Short, cmd.Args = "check FLEETFILE", "Check a fleet file, with the stack file and the template in each place", cobra.ExactArgs(1)
	return cmd
}

// looking tells how far the what-ifs of all places are, where there is a terminal.
func (p *Program) looking() func(done, all int) {
	to, ok := p.errs.(*os.File)
	if !ok || p.quiet || p.spoken || !term.IsTerminal(to.Fd()) {
		return nil
	}
	return func(done, all int) {
		fmt.Fprintf(to, "\rlooked at %d of %d places", done, all)
		if done == all {
			fmt.Fprint(to, "\r\x1b[K")
		}
	}
}

type jsonFleetWhatIf struct {
	Fleet  string           `json:"fleet"`
	Places []jsonFleetPlace `json:"places"`
	Tally  whatif.Tally     `json:"tally"`
	// Leaving are the places that have left the file, and are removed.
	Leaving []string `json:"leaving"`
}

type jsonFleetPlace struct {
	Target   string       `json:"target"`
	Stack    string       `json:"stack"`
	Wave     int          `json:"wave"`
	Does     run.Kind     `json:"does"` // deploy, or delete where it has left the file
	Careful  bool         `json:"careful"`
	Tally    whatif.Tally `json:"tally"`
	Second   bool         `json:"second_person"` // has to agree
	SameAs   string       `json:"same_as"`
	Findings any          `json:"findings,omitempty"`
}

func fleetJSON(pv *app.FleetPreview) jsonFleetWhatIf {
	out := jsonFleetWhatIf{pv.File.Fleet, []jsonFleetPlace{}, pv.Tally, append([]string{}, pv.Leaving()...)}
	for _, x := range pv.Places {
		j := jsonFleetPlace{x.Target.String(), x.Stack, x.Wave, x.Kind, x.Careful, x.Tally, x.Second, x.SameAs, nil}
		if len(x.Findings) > 0 {
			j.Findings = x.Findings
		}
		out.Places = append(out.Places, j)
	}
	return out
}

// fleetText prints a what-if of a fleet: what is alike once.
func (p *Program) fleetText(pv *app.FleetPreview) {
	fmt.Fprintf(p.Out, "%s: %s; %s\n", pv.File.Fleet, stack.Count(len(pv.Places), "place"), fleetTally(pv))
	for _, name := range pv.Leaving() {
		fmt.Fprintf(p.Out, "▽ leaves  %s  has left the file, and is removed\n", name)
	}
	var second []string
	for _, x := range pv.Places {
		if x.Second {
			second = append(second, x.Target.String())
		}
	}
	if len(second) > 0 {
		p.wrapped("", fmt.Sprintf("a second person has to agree ('brickrow fleet approve' with %s and one of them) in: %s", pv.File.Fleet, strings.Join(second, ", ")))
	}
	alike := map[string][]string{}
	for _, x := range pv.Places {
		key := x.SameAs
		if key == "" {
			key = x.Target.String()
		}
		alike[key] = append(alike[key], x.Target.String())
	}
	for _, x := range pv.Places {
		if x.Preview == nil {
			continue
		}
		list := alike[x.Target.String()]
		if n := len(list); n == 1 {
			fmt.Fprintf(p.Out, "\nin %s\n", list[0])
		} else {
			fmt.Fprintf(p.Out, "\nin %s the same:\n", stack.Count(n, "place"))
			p.listed("  ", list)
		}
		switch {
		case x.Findings.HasErrors():
			p.findings(x.Findings)
			continue
		case x.Kind == run.KindDelete && pv.Kind == run.KindDeploy:
			fmt.Fprintln(p.Out, "  it has left the file, and is removed")
		}
		p.changeSet(x.Preview.ChangeSet)
	}
	waves := map[int]int{}
	for _, x := range pv.Places {
		waves[x.Wave]++
	}
	var parts []string
	for _, n := range slices.Sorted(maps.Keys(waves)) {
		parts = append(parts, fmt.Sprint(waves[n]))
	}
	fmt.Fprintf(p.Out, "\nwaves of %s places; %s\n", strings.Join(parts, ", "), tolerated(pv.File))
}

// fleetTally is what a rollout would do, or that it cannot.
func fleetTally(pv *app.FleetPreview) string {
	wrong := pv.WrongIn()
	switch wrong {
	case 0:
		return pv.Tally.String()
	case len(pv.Places):
		return "nothing can be done in any of them"
	}
	return fmt.Sprintf("%s; in %d of them nothing can be done", pv.Tally, wrong)
}

// mostNamed is how many names are told of many.
const mostNamed = 24

// listed prints names, in lines of 80 columns; of many the first ones.
func (p *Program) listed(indent string, names []string) {
	rest := len(names) - mostNamed
	if rest > 1 {
		names = append(slices.Clone(names[:mostNamed]), fmt.Sprintf("and %d more", rest))
	}
	line := indent
	for i, n := range names {
		if i < len(names)-1 {
			n += ", "
		}
		if len(line)+len(n) > 80 && line != indent {
			fmt.Fprintln(p.Out, strings.TrimRight(line, " "))
			line = indent
		}
		line += n
	}
	fmt.Fprintln(p.Out, strings.TrimRight(line, " "))
}

func tolerated(f *fleet.File) string {
	text := fmt.Sprintf("%d may fail", f.Tolerate)
	if f.AtOnce > 0 {
		text = fmt.Sprintf("%d at once, ", f.AtOnce) + text
	}
	return text
}

func (p *Program) fleetWhatIf() *cobra.Command {
	var asJSON, none bool
	cmd := &cobra.Command{Use: "whatif FLEETFILE", Short: "Say what a deployment would do in all places: what is alike is told once", Args: cobra.ExactArgs(1)}
	at := cmd.Flags().String("at", "", "read the files as they are in this commit of their git repository")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().BoolVar(&none, "expect-none", false, "exit with 3 when there are changes")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			pv, err := a.FleetWhatIf(cmd.Context(), args[0], run.KindDeploy, app.Values{At: *at}, p.looking())
			if err != nil {
				return err
			}
			if asJSON {
				err = p.json(fleetJSON(pv))
			} else {
				p.fleetText(pv)
			}
			switch {
			case err != nil:
				return err
			case len(pv.Wrong()) > 0:
				return exit(ExitRefused)
			case none && !pv.Empty():
				return exit(ExitChanges)
			}
			return nil
		})
	}
	return cmd
}

// fleetFlags are what a rollout is agreed to with, and how it is told.
type fleetFlags struct {
	carrying
	yes    bool
	accept []string
	note   string
	at     string
	junit  string
}

func (f *fleetFlags) add(cmd *cobra.Command) {
	f.carryingFlags(cmd)
	cmd.Flags().BoolVar(&f.yes, "yes", false, "do not ask")
	cmd.Flags().StringArrayVar(&f.accept, "accept", nil, "with --yes: a risk that is accepted, in all places: data, origin or leaving (places that left the file are removed)")
	cmd.Flags().StringVar(&f.note, "note", "", "a note that is kept with the runs")
	cmd.Flags().StringVar(&f.junit, "junit", "", "write how the places ended to this file, as JUnit XML")
}

func (p *Program) fleetDeploy() *cobra.Command {
	var f fleetFlags
	cmd := &cobra.Command{Use: "deploy FLEETFILE", Short: "Deploy a stack in all places, wave by wave; exit code 4 when more failed than are tolerated, 1 when some did",
		Args: cobra.ExactArgs(1)}
	f.add(cmd)
	cmd.Flags().StringVar(&f.at, "at", "", "read the files as they are in this commit of their git repository")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error { return p.roll(cmd.Context(), a, args[0], run.KindDeploy, f) })
	}
	return cmd
}

func (p *Program) fleetDelete() *cobra.Command {
	var f fleetFlags
	cmd := &cobra.Command{Use: "delete FLEETFILE", Short: "Delete the stacks of a fleet in all places, wave by wave", Args: cobra.ExactArgs(1)}
	f.add(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error { return p.roll(cmd.Context(), a, args[0], run.KindDelete, f) })
	}
	return cmd
}

// roll shows what a rollout would do, and begins it.
func (p *Program) roll(ctx context.Context, a *app.App, path string, kind run.Kind, f fleetFlags) error {
	in, err := p.in(&f.carrying)
	if err != nil {
		return err
	}
	if err := a.FleetIsFree(ctx, path); err != nil {
		return err
	}
	pv, err := a.FleetWhatIf(ctx, path, kind, app.Values{At: f.at}, p.looking())
	if err != nil {
		return err
	}
	if !f.json {
		p.fleetText(pv)
		fmt.Fprintln(p.Out)
	}
	if wrong := pv.Wrong(); len(wrong) > 0 {
		if f.json {
			for _, x := range wrong {
				p.findings(x.Findings)
			}
		}
		return exit(ExitRefused)
	}
	if pv.Empty() {
		if !f.json {
			fmt.Fprintln(p.Out, app.ErrNothingToDo)
		}
		return nil
	}
	if err := p.agree(&agreement{yes: f.yes, accept: f.accept}, pv.Consent(), pv.Question()); err != nil {
		return err
	}
	r, err := a.StartFleet(ctx, pv, f.note, in)
	if err != nil {
		return err
	}
	return p.carryFleet(ctx, a, r, f)
}

// carryFleet carries a rollout on here, or follows the workers that do, and says how it has ended.
func (p *Program) carryFleet(ctx context.Context, a *app.App, r *app.Rollout, f fleetFlags) error {
	told := func(x app.PlaceOf) { p.placeLine(r, x, f.json) }
	var err error
	switch {
	case r.Queue == "":
		r, err = p.carryFleetHere(ctx, a, r, told)
	case f.watch:
		r, err = p.followFleet(ctx, a, r, told)
	default:
		if f.json {
			return p.json(map[string]any{"fleet": r.Fleet, "rollout": r.Number, "queue": r.Queue, "priority": r.Priority})
		}
		fmt.Fprintf(p.Out, "rollout %d of %s waits in the queue %s: 'brickrow fleet show %s' shows it\n", r.Number, r.Fleet, r.Queue, r.Fleet)
		return nil
	}
	if err != nil {
		return fmt.Errorf("%w\nrun 'brickrow fleet resume %s' to go on", err, r.Fleet)
	}
	last, places, _, err := a.LastRollout(ctx, r.Fleet)
	if err != nil {
		return err
	}
	if f.junit != "" {
		if err := p.fleetJUnit(f.junit, last, places); err != nil {
			return err
		}
	}
	if !f.json {
		fmt.Fprintf(p.Out, "\n%s, rollout %d: %s", r.Fleet, r.Number, last.State)
		if last.Reason != "" {
			fmt.Fprintf(p.Out, ": %s", cloud.Clean(last.Reason))
		}
		fmt.Fprintf(p.Out, "\n%s\n", counted(places))
		for _, x := range places {
			if x.State == fleet.Failed {
				p.wrapped("  failed   ", x.Target.String()+": "+cloud.Clean(x.Reason))
			}
		}
	}
	return fleetCode(last.State)
}

// fleetCode is the exit code of a rollout.
func fleetCode(s fleet.State) error {
	switch s {
	case fleet.Ready, fleet.Removed:
		return nil
	case fleet.Stopped:
		return exit(ExitUndone)
	}
	return exit(ExitRefused)
}

func (p *Program) carryFleetHere(ctx context.Context, a *app.App, r *app.Rollout, told func(app.PlaceOf)) (*app.Rollout, error) {
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(signals)
	over, done := context.WithCancel(ctx)
	defer done()
	go func() {
		select {
		case <-over.Done():
		case <-signals:
			fmt.Fprintln(p.Err, "stopping: what is under way comes to its end, nothing more begins")
			if err := a.CancelFleet(ctx, r.Fleet); err != nil {
				fmt.Fprintf(p.Err, "it could not be asked to stop: %v\n", err)
			}
		}
	}()
	go p.tellStandstill(over, a, r)
	out, err := a.CarryFleet(ctx, r.ID, r.Token, told)
	if out == nil {
		out = r
	}
	return out, err
}

// followFleet tells of a rollout that workers carry on, until it has ended.
func (p *Program) followFleet(ctx context.Context, a *app.App, r *app.Rollout, told func(app.PlaceOf)) (*app.Rollout, error) {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	was := map[int]fleet.State{}
	changed := a.Changes(ctx)
	go p.tellStandstill(ctx, a, r)
	for {
		now, places, _, err := a.LastRollout(ctx, r.Fleet)
		if err != nil {
			return r, err
		}
		for _, x := range places {
			if was[x.Position] != x.State {
				was[x.Position] = x.State
				told(x)
			}
		}
		if now.State.Ended() {
			return now, nil
		}
		select {
		case <-ctx.Done():
			return now, errors.New("it goes on without us")
		case <-changed:
		case <-time.After(time.Second):
		}
	}
}

// tellStandstill says, once each, what a rollout waits for that somebody has to do something about.
func (p *Program) tellStandstill(ctx context.Context, a *app.App, r *app.Rollout) {
	told := map[string]bool{}
	for {
		words, err := a.FleetWaits(ctx, r.Fleet)
		if err == nil && words != "" && !told[words] {
			told[words] = true
			fmt.Fprintln(p.Err, words)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
	}
}

type jsonPlaceLine struct {
	Time   time.Time   `json:"time"`
	Fleet  string      `json:"fleet"`
	Wave   int         `json:"wave"`
	Target string      `json:"target"`
	Stack  string      `json:"stack"`
	State  fleet.State `json:"state"`
	Run    int         `json:"run,omitempty"`
	Reason string      `json:"reason,omitempty"`
}

// placeLine tells that a place is in another state.
func (p *Program) placeLine(r *app.Rollout, x app.PlaceOf, asJSON bool) {
	if x.State == fleet.Waiting || x.State == fleet.Begun && !asJSON {
		return
	}
	if asJSON {
		_ = p.jsonLine(jsonPlaceLine{time.Now().UTC(), r.Fleet, x.Wave, x.Target.String(), x.Stack, x.State, x.Run, cloud.Clean(x.Reason)})
		return
	}
	text := fmt.Sprintf("%s  wave %-3d %-24s %-8s", p.clock(time.Now()), x.Wave, x.Target, x.State)
	if x.Reason != "" {
		text += " " + cloud.Clean(x.Reason)
	}
	fmt.Fprintln(p.Out, strings.TrimRight(text, " "))
}

// counted says how many places are in which state.
func counted(places []app.PlaceOf) string {
	n := map[fleet.State]int{}
	for _, x := range places {
		n[x.State]++
	}
	var parts []string
	for _, s := range []fleet.State{fleet.Ready, fleet.Removed, fleet.Working, fleet.Begun, fleet.Asks, fleet.Waiting, fleet.Failed} {
		if n[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[s], s))
		}
	}
	return strings.Join(parts, ", ")
}

type jsonFleet struct {
	Fleet     string              `json:"fleet"`
	Rollout   int                 `json:"rollout"`
	Does      run.Kind            `json:"does"`
	By        string              `json:"by"`
	Begun     time.Time           `json:"begun"`
	Waves     []jsonWave          `json:"waves"`
	Counts    map[fleet.State]int `json:"counts"`
	Tolerated int                 `json:"tolerated"`
	State     fleet.State         `json:"state"`
	Reason    string              `json:"reason,omitempty"`
	Holder    string              `json:"holder,omitempty"`
}

type jsonWave struct {
	Number int             `json:"number"`
	Places []jsonWavePlace `json:"places"`
}

type jsonWavePlace struct {
	Target  string       `json:"target"`
	Stack   string       `json:"stack"`
	State   fleet.State  `json:"state"`
	Does    run.Kind     `json:"does"`
	Careful bool         `json:"careful"`
	Run     int          `json:"run"`
	Seconds float64      `json:"seconds"`
	Failed  string       `json:"failed"`
	Tally   whatif.Tally `json:"tally"`
}

func showFleetJSON(r *app.Rollout, places []app.PlaceOf, holder string) jsonFleet {
	out := jsonFleet{Fleet: r.Fleet, Rollout: r.Number, Does: r.Kind, By: r.By, Begun: r.Started.UTC(), Counts: map[fleet.State]int{},
		Tolerated: r.Tolerate, State: r.State, Reason: r.Reason, Holder: holder, Waves: []jsonWave{}}
	for _, x := range places {
		out.Counts[x.State]++
		if n := len(out.Waves); n == 0 || out.Waves[n-1].Number != x.Wave {
			out.Waves = append(out.Waves, jsonWave{Number: x.Wave})
		}
		w := &out.Waves[len(out.Waves)-1]
		w.Places = append(w.Places, jsonWavePlace{x.Target.String(), x.Stack, x.State, x.Kind, x.Careful, x.Run, app.PlaceTook(x).Seconds(),
			cloud.Clean(failedOf(x)), x.Tally})
	}
	return out
}

func failedOf(x app.PlaceOf) string {
	if x.State == fleet.Failed {
		return x.Reason
	}
	return ""
}

func (p *Program) fleetShow() *cobra.Command {
	var asJSON bool
	var junit string
	cmd := &cobra.Command{Use: "show FLEETFILE", Short: "Show how the last rollout of a fleet stands, wave by wave", Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().StringVar(&junit, "junit", "", "write it to this file, as JUnit XML")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onFleet(cmd.Context(), args[0], func(a *app.App, name string) error {
			r, places, holder, err := a.LastRollout(cmd.Context(), name)
			if err != nil {
				return err
			}
			if junit != "" {
				return p.fleetJUnit(junit, r, places)
			}
			if asJSON {
				return p.json(showFleetJSON(r, places, holder))
			}
			fmt.Fprintf(p.Out, "%s, rollout %d by %s: %s\n", r.Fleet, r.Number, r.By, r.State)
			if r.Reason != "" {
				p.wrapped("  ", cloud.Clean(r.Reason))
			}
			fmt.Fprintf(p.Out, "%s: %s; %d may fail\n", stack.Count(len(places), "place"), counted(places), r.Tolerate)
			switch {
			case holder != "":
				fmt.Fprintf(p.Out, "carried on by %s\n", holder)
			case !r.State.Ended() && r.Queue != "":
				fmt.Fprintf(p.Out, "waits for a worker of the queue %s\n", r.Queue)
			case !r.State.Ended():
				fmt.Fprintf(p.Out, "nobody carries it on: 'brickrow fleet resume %s' does\n", r.Fleet)
			}
			wave := 0
			for _, x := range places {
				if x.Wave != wave {
					wave = x.Wave
					fmt.Fprintf(p.Out, "\nwave %d\n", wave)
				}
				line := fmt.Sprintf("  %-24s %-8s", x.Target, x.State)
				if x.Run > 0 {
					line += fmt.Sprintf(" run %d", x.Run)
				}
				if took := app.PlaceTook(x); took > 0 {
					line += "  " + whatif.Length(took.Seconds())
				}
				if x.Reason != "" {
					line += "  " + cloud.Clean(x.Reason)
				}
				p.wrapped("", strings.TrimRight(line, " "))
			}
			return nil
		})
	}
	return cmd
}

// onFleet opens the program's data and finds the fleet that is meant, by its file or its name.
func (p *Program) onFleet(ctx context.Context, text string, f func(a *app.App, name string) error) error {
	return p.with(func(a *app.App) error {
		name, err := a.FleetName(ctx, text)
		if err != nil {
			return err
		}
		return f(a, name)
	})
}

func (p *Program) fleetList() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "list", Short: "List the fleets, and how their last rollouts stand", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			list, err := a.Fleets(cmd.Context())
			if err != nil {
				return err
			}
			out, names := []jsonFleet{}, 20
			for _, r := range list {
				names = max(names, len(r.Fleet))
			}
			for _, r := range list {
				_, places, holder, err := a.LastRollout(cmd.Context(), r.Fleet)
				if err != nil {
					return err
				}
				j := showFleetJSON(r, places, holder)
				j.Waves = []jsonWave{}
				out = append(out, j)
				if !asJSON {
					fmt.Fprintf(p.Out, "%-*s %-10s rollout %d  %s\n", names, r.Fleet, r.State, r.Number, counted(places))
				}
			}
			if asJSON {
				return p.json(out)
			}
			if len(out) == 0 {
				fmt.Fprintln(p.Out, "no fleets yet: 'brickrow fleet deploy --help' says how one is deployed")
			}
			return nil
		})
	}
	return cmd
}

func (p *Program) fleetSteer(use, short, said string, do func(*app.App, context.Context, string) error) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1)}
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onFleet(cmd.Context(), args[0], func(a *app.App, name string) error {
			if err := do(a, cmd.Context(), name); err != nil {
				return err
			}
			return p.told(*asJSON, map[string]any{"fleet": name, "asked": cmd.Name()}, "the rollout of %s %s", name, said)
		})
	}
	return cmd
}

func (p *Program) fleetResume() *cobra.Command {
	var f fleetFlags
	cmd := &cobra.Command{Use: "resume FLEETFILE", Short: "Go on after a pause, let the next wave begin, or carry on what nobody carries on", Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&f.json, "json", false, "places as JSON, one a line")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onFleet(cmd.Context(), args[0], func(a *app.App, name string) error {
			r, err := a.ResumeFleet(cmd.Context(), name)
			if err != nil {
				return err
			}
			if r == nil {
				return p.told(f.json, map[string]any{"fleet": name, "asked": "resume"}, "the rollout of %s goes on", name)
			}
			return p.carryFleet(cmd.Context(), a, r, f)
		})
	}
	return cmd
}

func (p *Program) fleetRetry() *cobra.Command {
	var f fleetFlags
	cmd := &cobra.Command{Use: "retry FLEETFILE", Short: "Try again where it failed, and go on with what was not begun", Args: cobra.ExactArgs(1)}
	f.carryingFlags(cmd)
	cmd.Flags().StringVar(&f.junit, "junit", "", "write how the places ended to this file, as JUnit XML")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onFleet(cmd.Context(), args[0], func(a *app.App, name string) error {
			in, err := p.in(&f.carrying)
			if err != nil {
				return err
			}
			moved, err := a.FleetMoved(cmd.Context(), name)
			if err != nil {
				return err
			}
			if moved != "" {
				fmt.Fprintln(p.Err, moved)
			}
			r, err := a.RetryFleet(cmd.Context(), name, in)
			if err != nil {
				return err
			}
			return p.carryFleet(cmd.Context(), a, r, f)
		})
	}
	return cmd
}

func (p *Program) fleetApprove() *cobra.Command {
	cmd := &cobra.Command{Use: "approve FLEETFILE TARGET", Short: "Agree to what a rollout does in a careful place", Args: cobra.ExactArgs(2)}
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.onFleet(cmd.Context(), args[0], func(a *app.App, name string) error {
			x, err := a.ApprovePlace(cmd.Context(), name, args[1])
			if err != nil {
				return err
			}
			return p.told(*asJSON, map[string]any{"fleet": name, "target": x.Target.String(), "stack": x.Stack, "tally": x.Tally, "approved_by": identity.User()},
				"%s in %s is agreed to: %s", x.Stack, x.Target, x.Tally)
		})
	}
	return cmd
}
