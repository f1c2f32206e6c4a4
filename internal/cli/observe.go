package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

type jsonReading struct {
	Target    string         `json:"target"`
	Time      time.Time      `json:"time"`
	Resources int            `json:"resources"`
	Differs   int            `json:"differs"`
	NotKept   int            `json:"rules_not_kept"`
	Changes   []jsonTrace    `json:"changes"`
	Unread    []stack.Unread `json:"unreadable"`
	Problem   string         `json:"problem"`
}

func (p *Program) observe() *cobra.Command {
	var targets []string
	var every time.Duration
	var keep int
	var asJSON bool
	cmd := &cobra.Command{Use: "observe", Args: cobra.NoArgs,
		Short: "Look at what is in the cloud and note what has changed: once, for a timer, or again and again"}
	cmd.Flags().StringArrayVar(&targets, "target", nil, "only this account/region; may be given again")
	cmd.Flags().DurationVar(&every, "every", 0, "again after so long, such as 5m, until it is stopped")
	cmd.Flags().IntVar(&keep, "keep", 90, "for how many days changes and readings are kept")
	cmd.Flags().BoolVar(&asJSON, "json", false, "each reading as JSON, one a line")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		where, err := targetsOf(targets)
		if err != nil {
			return err
		}
		if every != 0 && every < time.Second {
			return usage{fmt.Errorf("--every takes a second or more: the cloud has other things to do")}
		}
		if keep < 1 {
			return usage{fmt.Errorf("--keep takes a day or more")}
		}
		ctx := cmd.Context()
		return p.with(func(a *app.App) error {
			for {
				err := p.reading(ctx, a, where, keep, asJSON)
				if every == 0 || ctx.Err() != nil {
					return err
				}
				var code exit
				if err != nil && !errors.As(err, &code) { // the next one may go better
					fmt.Fprintf(p.Err, "brickrow: %v\n", err)
				}
				select {
				case <-ctx.Done():
					return nil
				case <-time.After(every):
				}
			}
		})
	}
	return cmd
}

// targetsOf reads the targets that flags name.
func targetsOf(texts []string) ([]stack.Target, error) {
	var out []stack.Target
	for _, text := range texts {
		t, ok := stack.ParseTarget(text)
		if !ok {
			return nil, usage{fmt.Errorf("'%s' is no target such as workshop/alder-1", text)}
		}
		out = append(out, t)
	}
	return out, nil
}

// reading looks once, and prints what has changed.
func (p *Program) reading(ctx context.Context, a *app.App, where []stack.Target, keep int, asJSON bool) error {
	list, err := a.Observe(ctx, time.Duration(keep)*24*time.Hour, where...)
	for _, o := range list {
		if asJSON {
			if err := json.NewEncoder(p.Out).Encode(jsonReading{o.Target.String(), o.At.UTC(), o.Resources, o.Differs, o.Broken, tracesJSON(o.Changes), append([]stack.Unread{}, o.Unread...), o.Problem}); err != nil {
				return err
			}
			continue
		}
		words := fmt.Sprintf("%d there, %d changed, %d %s, %s a rule is not kept", o.Resources, len(o.Changes), o.Differs, stack.NotAsRecorded, stack.Count(o.Broken, "time"))
		if len(o.Unread) > 0 {
			words += fmt.Sprintf(", %d %s: %s", len(o.Unread), stack.NotKnown, stack.UnreadNames(o.Unread))
		}
		if o.Problem != "" {
			words = "does not say what is in it: " + o.Problem
		}
		fmt.Fprintf(p.Out, "%s %s: %s\n", o.At.Local().Format("2006-01-02 15:04:05"), o.Target, words)
		for _, c := range o.Changes {
			if c.Kind != stack.WasFound {
				p.traceText(&c)
			}
		}
		if err == nil && (o.Problem != "" || len(o.Unread) > 0) {
			err = exit(ExitRefused)
		}
	}
	return err
}
