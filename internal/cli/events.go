package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/export"
	"brickrow/internal/files"
	"brickrow/internal/run"
	"brickrow/internal/stack"
)

func (p *Program) events() *cobra.Command {
	var asJSON, follow, asCloud bool
	var number int
	cmd := &cobra.Command{Use: "events STACK", Short: "Print the events of a run", Args: cobra.ExactArgs(1)}
	cmd.Flags().IntVar(&number, "run", 0, "number of the run (default: the last one)")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON, one a line")
	cmd.Flags().BoolVar(&follow, "follow", false, "and those that come, until the run ends")
	cmd.Flags().BoolVar(&asCloud, "cloudevents", false, "as CloudEvents 1.0, one a line")
	cmd.MarkFlagsMutuallyExclusive("json", "cloudevents")
	chosen := eventFlags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		filter, err := chosen.filter(time.Now())
		if err != nil {
			return err
		}
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
		defer stop()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			r, err := runOf(ctx, a, st, number)
			if err != nil {
				return err
			}
			tell := func(e run.Event) {
				switch {
				case !filter.Matches(e):
				case asCloud:
					if text, err := export.CloudEvent(st, r, e); err == nil {
						fmt.Fprintf(p.Out, "%s\n", text)
					}
				default:
					p.event(r, e, asJSON)
				}
			}
			if follow {
				if _, err = a.Tail(ctx, r.ID, tell); errors.Is(err, context.Canceled) {
					return nil
				}
				return err
			}
			list, err := a.Events(ctx, r.ID, 0)
			for _, e := range list {
				tell(e)
			}
			return err
		})
	}
	return cmd
}

// chosenEvents are the flags that choose events.
type chosenEvents struct {
	states, resources, types []string
	since                    string
}

func eventFlags(cmd *cobra.Command) *chosenEvents {
	c := &chosenEvents{}
	cmd.Flags().StringSliceVar(&c.states, "state", nil, "only events of these states, such as failed")
	cmd.Flags().StringSliceVar(&c.resources, "resource", nil, "only events of these resources; * is any letters")
	cmd.Flags().StringSliceVar(&c.types, "type", nil, "only events of resources of these types")
	cmd.Flags().StringVar(&c.since, "since", "", "only events from then on: a time, such as 14:30 or 2026-11-26T14:30:00Z, or how long ago, such as 5m")
	return c
}

// filter is what the flags choose.
func (c *chosenEvents) filter(now time.Time) (run.Filter, error) {
	f := run.Filter{Resources: c.resources, Types: c.types}
	for _, s := range c.states {
		if !slices.Contains(run.States, run.State(s)) {
			known := make([]string, len(run.States))
			for i, s := range run.States {
				known[i] = string(s)
			}
			return f, usage{fmt.Errorf("--state: there is no state '%s'; there are %s", s, strings.Join(known, ", "))}
		}
		f.States = append(f.States, run.State(s))
	}
	if c.since == "" {
		return f, nil
	}
	var err error
	f.Since, err = pointInTime("since", c.since, now)
	return f, err
}

// pointInTime reads a point in time as people write it: how long ago, a time of the day, the
// last one there was, or a date.
func pointInTime(flag, text string, now time.Time) (time.Time, error) {
	y, m, d := now.Date()
	midnight := time.Date(y, m, d, 0, 0, 0, 0, now.Location())
	switch text {
	case "now":
		return now, nil
	case "today":
		return midnight, nil
	case "yesterday":
		return midnight.AddDate(0, 0, -1), nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 {
			return now.AddDate(0, 0, -n), nil
		}
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return now.Add(-ago), nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	for _, layout := range []string{"15:04:05", "15:04"} {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			at = time.Date(y, m, d, at.Hour(), at.Minute(), at.Second(), 0, now.Location())
			if at.After(now) { // yesterday, that is
				at = at.AddDate(0, 0, -1)
			}
			return at, nil
		}
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05"} {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return at, nil
		}
	}
	return time.Time{}, usage{fmt.Errorf("--%s: '%s' is neither a time nor how long ago; write 14:30, 2026-11-26, yesterday, 5m or 3d", flag, text)}
}

func (p *Program) trace() *cobra.Command {
	var number int
	var out string
	cmd := &cobra.Command{Use: "trace STACK", Short: "Write a run as a trace of OpenTelemetry, in the JSON of OTLP", Args: cobra.ExactArgs(1)}
	cmd.Flags().IntVar(&number, "run", 0, "number of the run (default: the last one)")
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; - is standard output")
	if err := cmd.MarkFlagRequired("output"); err != nil {
		panic(err)
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			r, err := runOf(ctx, a, st, number)
			if err != nil {
				return err
			}
			text, underWay, err := a.Trace(ctx, st, r)
			if err != nil {
				return err
			}
			if underWay > 0 {
				fmt.Fprintf(p.Err, "run %d goes on: %s under way and not in it yet\n", r.Number, stack.Count(underWay, "step"))
			}
			if out == "-" {
				fmt.Fprintf(p.Out, "%s\n", text)
				return nil
			}
			return files.Write(out, append(text, '\n'), 0o644)
		})
	}
	return cmd
}
