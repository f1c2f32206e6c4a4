package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

func (p *Program) act() *cobra.Command {
	var inputs []string
	var save string
	cmd := &cobra.Command{Use: "act STACK [RESOURCE] ACTION", Args: cobra.RangeArgs(2, 3),
		Short: "Do something to what runs: backup, restore, restart, scale; suspend and resume, also of a whole stack"}
	cmd.Flags().StringArrayVarP(&inputs, "input", "i", nil, "an input of the action, as name=value")
	agreed := agreementFlags(cmd)
	cmd.Flags().StringVar(&save, "save", "", "do nothing, and save it to this file, from which 'deploy' carries out exactly that")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		with, err := pairs(inputs)
		if err != nil {
			return err
		}
		resource, verb := "", args[len(args)-1]
		if len(args) == 3 {
			resource = args[1]
		}
		return p.onStack(ctx, args[0], func(a *app.App, st *stack.Stack) error {
			acts, err := a.WhatIfAct(ctx, st, resource, verb, with)
			if err != nil {
				return err
			}
			if save != "" {
				if err := a.SaveActs(acts, save); err != nil {
					return err
				}
				fmt.Fprintf(p.Err, "saved as %s\n", save)
				return nil
			}
			acts.Note = agreed.note
			return p.carryActs(ctx, a, acts, agreed)
		})
	}
	return cmd
}

// carryActs confirms an action and carries it out in the foreground.
func (p *Program) carryActs(ctx context.Context, a *app.App, acts *app.Acts, agreed *agreement) error {
	if !agreed.yes {
		for _, part := range acts.Parts {
			fmt.Fprintf(p.Err, "  %s  (%s %s)\n", part.Name, part.Type, part.ID)
		}
	}
	if err := p.agree(agreed, acts.Consent(), acts.Question()); err != nil {
		return err
	}
	var err error
	if acts.Queue, err = p.in(&agreed.carrying); err != nil {
		return err
	}
	t, err := a.PrepareActs(ctx, acts)
	if err != nil {
		return err
	}
	return p.execute(ctx, a, t, agreed.carrying)
}
