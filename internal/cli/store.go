package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
)

func (p *Program) store() *cobra.Command {
	cmd := &cobra.Command{Use: "store", Short: "Look after the store of stacks and runs"}
	cmd.AddCommand(p.storeTidy())
	return cmd
}

func (p *Program) storeTidy() *cobra.Command {
	var older int
	var asJSON bool
	cmd := &cobra.Command{Use: "tidy",
		Short: "Thin what is stored of runs that ended well, or were undone, a while ago", Args: cobra.NoArgs}
	cmd.Flags().IntVar(&older, "older", 90, "thin runs that ended more than this many days ago")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if older < 0 {
			return usage{fmt.Errorf("--older takes a number of days, not %d", older)}
		}
		return p.with(func(a *app.App) error {
			t, err := a.Tidy(cmd.Context(), time.Duration(older)*24*time.Hour)
			if err != nil {
				return err
			}
			if asJSON {
				return p.json(t)
			}
			fmt.Fprintf(p.Out, "%d runs thinned, %d events of what was on the way removed: %d kB, were %d kB\n",
				t.Runs, t.Events, t.After/1000, t.Before/1000)
			return nil
		})
	}
	return cmd
}
