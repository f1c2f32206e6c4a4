package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// preview loads a stack file and makes its what-if: against what is deployed,
// or against something else.
func (p *Program) preview(ctx context.Context, a *app.App, path string, v app.Values, from,
	to string, only []string) (*app.Preview, error) {
	d, err := a.Load(ctx, path, v)
	if err != nil {
		return nil, err
	}
	var pv *app.Preview
	if from != "" {
		pv, err = a.WhatIfFrom(ctx, d, from, to)
	} else {
		pv, err = a.WhatIf(ctx, d, only...)
	}
	if err != nil {
		return nil, err
	}
	p.findings(pv.Findings)
	return pv, nil
}

func (p *Program) whatif() *cobra.Command {
	var as printing
	var expectNone bool
	cmd := &cobra.Command{Use: "whatif STACKFILE", Short: "Show what a deployment would do, and do nothing",
		Args: cobra.ExactArgs(1)}
	v := valueFlags(cmd)
	cmd.Flags().BoolVar(&as.json, "json", false, "the change set as JSON")
	cmd.Flags().BoolVar(&as.wall, "wall", false, "draw the wall before the text")
	var failAt, from, to, save string
	cmd.Flags().StringVar(&save, "save", "", "save it to this file, from which exactly that can be deployed")
	cmd.Flags().StringVar(&from, "from", "",
		"compare with this revision of the stack, or with another stack file, instead of what is deployed")
	cmd.Flags().StringVar(&to, "to", "", "with --from: compare this revision of the stack, instead of the stack file")
	cmd.Flags().StringVar(&failAt, "fail-at", "", "rehearse: what would happen if it failed at this resource")
	cmd.Flags().BoolVar(&as.markdown, "markdown", false, "the change set as Markdown, for a review")
	cmd.Flags().StringVar(&as.since, "since", "", "with --markdown: say what has become another since this change set was saved")
	only := onlyFlag(cmd)
	cmd.MarkFlagsMutuallyExclusive("json", "markdown", "wall")
	cmd.MarkFlagsMutuallyExclusive("only", "from")
	cmd.MarkFlagsMutuallyExclusive("from", "save", "fail-at")
	cmd.Flags().BoolVar(&expectNone, "expect-none", false, "exit with 3 when there are changes")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			if to != "" && from == "" {
				return usage{errors.New("--to compares two: say with --from with which")}
			}
			if as.since != "" && !as.markdown {
				return usage{errors.New("--since goes with --markdown")}
			}
			if app.IsSaved(args[0]) {
				if len(*only) > 0 {
					return usage{errors.New("a saved change set is looked at as it is: it takes no --only")}
				}
				return p.savedWhatIf(cmd.Context(), a, args[0], as, expectNone)
			}
			pv, err := p.preview(cmd.Context(), a, args[0], *v, from, to, *only)
			if err != nil {
				return err
			}
			if pv.Findings.HasErrors() { // what it would change is shown all the same, as far as it is known
				if len(pv.Changes) > 0 || as.json {
					err = p.printed(pv, as)
				}
				return errors.Join(err, exit(ExitRefused))
			}
			if as.since != "" {
				if as.differences, err = a.Since(pv, as.since); err != nil {
					return err
				}
			}
			if save != "" {
				if err := a.Save(pv, save); err != nil {
					return err
				}
				fmt.Fprintf(p.Err, "saved as %s\n", save)
			}
			if failAt != "" {
				r, err := a.Rehearse(pv, failAt)
				if err == nil && as.json {
					return p.json(r)
				}
				if err == nil {
					fmt.Fprintln(p.Out, strings.Join(r.Lines(), "\n"))
				}
				return err
			}
			err = p.printed(pv, as)
			if err == nil && expectNone && !pv.Empty() {
				return exit(ExitChanges)
			}
			return err
		})
	}
	return cmd
}

// printing is the form in which a change set is printed: text, unless one is set.
type printing struct {
	json, markdown, wall bool
	since                string // a change set that was saved before
	differences          string // what has become another since, in Markdown
}

// printed prints the change set of a preview.
func (p *Program) printed(pv *app.Preview, as printing) error {
	switch {
	case as.json:
		return p.json(pv.ChangeSet)
	case as.markdown:
		_, err := io.WriteString(p.Out, pv.Markdown()+as.differences)
		return err
	}
	if as.wall {
		p.whatifWall(pv)
	}
	p.changeSet(pv.ChangeSet)
	return nil
}

// savedWhatIf shows a saved change set: compared anew by who can carry it out, and
// as it was saved to anybody else.
func (p *Program) savedWhatIf(ctx context.Context, a *app.App, path string, as printing, expectNone bool) error {
	s, err := a.ShowSaved(path)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.Err, "%s of %s in %s, saved by %s on %s", s.Kind, s.Stack, s.Target, s.By,
		s.At.Local().Format("2006-01-02 15:04"))
	for _, ap := range s.Approvals {
		fmt.Fprintf(p.Err, ", approved by %s", ap.By)
	}
	fmt.Fprintln(p.Err)
	pv, err := a.OpenSaved(ctx, path)
	if err != nil { // it can be read all the same
		switch {
		case s.Act != nil && !as.json:
			p.savedAct(s)
			return nil
		case s.Act == nil:
			fmt.Fprintf(p.Err, "what was saved; it cannot be carried out from here: %s\n", cloud.Clean(err.Error()))
		}
		if !as.json {
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
	if err := p.printed(pv, as); err != nil {
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

// savedAct prints an action as it was saved.
func (p *Program) savedAct(s *app.Saved) {
	var set struct {
		Changes []struct{ Name, Type, Kind string }
	}
	if err := json.Unmarshal(s.ChangeSet, &set); err != nil {
		fmt.Fprintln(p.Err, err)
		return
	}
	for _, ch := range set.Changes {
		fmt.Fprintf(p.Out, "%s %s  (%s)\n", cloud.Clean(ch.Kind), cloud.Clean(ch.Name), cloud.Clean(ch.Type))
	}
	for _, name := range slices.Sorted(maps.Keys(s.Act.Inputs)) {
		fmt.Fprintf(p.Out, "  with %s=%s\n", cloud.Clean(name), cloud.Clean(s.Act.Inputs[name]))
	}
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
			if c.Unknown && c.After == nil { // of a link it is the name
				text = shown(tosca.Unknown{})
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
