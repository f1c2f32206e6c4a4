package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

// enqueue lets a run wait for a worker, and follows it where that is wanted.
func (p *Program) enqueue(ctx context.Context, a *app.App, t *app.Ticket, how carrying) error {
	if err := a.Enqueue(ctx, t); err != nil {
		fmt.Fprintf(p.Err, "it waits, and is in no queue yet: %v; the next worker that looks takes it\n", err)
	}
	st, err := a.StackOf(ctx, t.Run)
	if err != nil {
		return err
	}
	if !how.watch {
		if how.json {
			return p.json(jsonQueued{st.Name, st.Target.String(), t.Run.Number, t.Run.Queue, t.Run.Priority})
		}
		fmt.Fprintf(p.Out, "run %d of %s waits in the queue %s: 'brickrow watch %s' follows it, 'brickrow cancel %s' withdraws it\n",
			t.Run.Number, st.Name, t.Run.Queue, st.Name, st.Name)
		return nil
	}
	if words, err := a.RunWaits(ctx, t.Run); err == nil && words != "" {
		fmt.Fprintln(p.Err, words)
	}
	tell, stop := p.telling(t.Run, how.json)
	ended, err := a.Tail(ctx, t.Run.ID, tell)
	stop()
	if err != nil {
		return err
	}
	p.notice(a, st.Name, ended, how.notify)
	if !how.json {
		p.end(ctx, a, ended)
	}
	return code(ended)
}

type jsonQueued struct {
	Stack    string `json:"stack"`
	Target   string `json:"target"`
	Run      int    `json:"run"`
	Queue    string `json:"queue"`
	Priority int    `json:"priority"`
}

func (p *Program) worker() *cobra.Command {
	var o app.WorkerOptions
	cmd := &cobra.Command{Use: "worker", Short: "Carry out what waits in queues, with the credentials of this machine, until it is interrupted",
		Long: `Carry out what waits in queues, with the credentials of this machine.
Interrupted once (SIGINT, SIGTERM) it takes nothing more, and ends when what is
under way has come to its end; interrupted twice it ends at once, and another
worker goes on with what it leaves.`, Args: cobra.NoArgs}
	cmd.Flags().IntVar(&o.AtOnce, "at-once", 4, "so many runs at the same time")
	cmd.Flags().StringVar(&o.Name, "name", "", "how it is called (default: user@host)")
	cmd.Flags().StringSliceVar(&o.Queues, "queue", nil, "the queues it takes from (default: runs)")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if n := p.set.Get("at_once", ""); n != "" && !cmd.Flags().Changed("at-once") {
			o.AtOnce, _ = strconv.Atoi(n) // what is no number is refused below
		}
		if name := p.set.Get("queue", ""); name != "" && len(o.Queues) == 0 {
			o.Queues = []string{name}
		}
		if o.AtOnce < 1 {
			return usage{fmt.Errorf("--at-once takes a number above 0, not %d", o.AtOnce)}
		}
		return p.with(func(a *app.App) error { return p.work(cmd.Context(), a, o) })
	}
	cmd.AddCommand(p.workerList(), p.workerDrain(), p.workerLimit())
	return cmd
}

// work works until it is interrupted.
func (p *Program) work(ctx context.Context, a *app.App, o app.WorkerOptions) error {
	signal.Ignore(syscall.SIGHUP)
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(signals)
	soft, drain := context.WithCancel(ctx)
	hard, end := context.WithCancel(ctx)
	defer drain()
	defer end()
	o.Told = func(words string) {
		fmt.Fprintf(p.Out, "%s  %s\n", time.Now().Format("2006-01-02 15:04:05"), words)
	}
	go func() {
		select {
		case <-signals:
			o.Told("takes nothing more; what is under way comes to its end (once more ends at once)")
			drain()
		case <-soft.Done():
		}
		select {
		case <-signals:
			o.Told("ends at once; another worker goes on")
			end()
			// A store that does not answer is not waited for: what is under way is left as a power cut would leave it.
			time.AfterFunc(5*time.Second, func() { os.Exit(ExitRefused) })
		case <-hard.Done():
		}
	}()
	err := a.Work(soft, hard, o)
	if hard.Err() != nil && errors.Is(err, context.Canceled) {
		err = nil
	}
	return err
}

func (p *Program) workerList() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "list", Short: "List the workers, how much waits, and the limits of targets", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			list, waiting, underWay, err := a.Workers(cmd.Context())
			if err != nil {
				return err
			}
			limits, err := a.Limits(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				return p.json(map[string]any{"workers": list, "waiting": waiting, "under_way": underWay, "limits": limits})
			}
			for _, w := range list {
				state := fmt.Sprintf("carries out %d of %d", w.Busy, w.AtOnce)
				switch {
				case w.Gone:
					state = "gone, not heard of since " + w.Seen.Local().Format("15:04:05")
				case w.Draining:
					state += ", takes nothing more"
				}
				fmt.Fprintf(p.Out, "%-24s %s  (%s in %s; since %s)\n", w.Name, state, strings.Join(w.Queues, ", "), strings.Join(w.Accounts, ", "), w.Since.Local().Format("2006-01-02 15:04"))
			}
			if len(list) == 0 {
				fmt.Fprintln(p.Out, "no workers: 'brickrow worker' is one")
			}
			fmt.Fprintf(p.Out, "%d waiting, %d under way\n", waiting, underWay)
			for _, target := range slices.Sorted(maps.Keys(limits)) {
				fmt.Fprintf(p.Out, "%s takes %s at once\n", target, stack.Count(limits[target], "run"))
			}
			return nil
		})
	}
	return cmd
}

func (p *Program) workerDrain() *cobra.Command {
	cmd := &cobra.Command{Use: "drain WORKER", Short: "Let a worker take nothing more, and end when what it carries out has come to its end",
		Args: cobra.ExactArgs(1)}
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			if err := a.Drain(cmd.Context(), args[0]); err != nil {
				return err
			}
			return p.told(*asJSON, map[string]any{"worker": args[0], "draining": true}, "%s takes nothing more, and ends when what it carries out has", args[0])
		})
	}
	return cmd
}

func (p *Program) workerLimit() *cobra.Command {
	cmd := &cobra.Command{Use: "limit TARGET N", Short: "Let workers carry out so many runs in a target at the same time; 0 is any number",
		Args: cobra.ExactArgs(2)}
	asJSON := jsonFlag(cmd)
	var note string
	noteFlag(cmd, &note)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		n, err := strconv.Atoi(args[1])
		if err != nil {
			return usage{fmt.Errorf("'%s' is no number", args[1])}
		}
		return p.with(func(a *app.App) error {
			if err := a.LimitRuns(cmd.Context(), args[0], n, note); err != nil {
				return err
			}
			words := "takes " + stack.Count(n, "run") + " at once"
			if n == 0 {
				words = "takes any number of runs at once"
			}
			return p.told(*asJSON, map[string]any{"target": args[0], "runs_at_once": n}, "%s %s", args[0], words)
		})
	}
	return cmd
}
