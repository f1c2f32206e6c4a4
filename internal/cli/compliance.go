package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/stack"
)

type jsonKept struct {
	Rule     string     `json:"rule"`
	Resource jsonWhere  `json:"resource"`
	Stack    string     `json:"stack"`
	Complies bool       `json:"complies"`
	Since    *time.Time `json:"since"`
	Text     string     `json:"text"`
	Fix      string     `json:"fix"`
}

type jsonWhere struct {
	Name   string `json:"name"`
	Type   string `json:"type"`
	ID     string `json:"id"`
	Target string `json:"target"`
}

func keptJSON(k app.Kept) jsonKept {
	out := jsonKept{Rule: k.Rule.ID, Resource: jsonWhere{k.Resource.Name(), k.Resource.Shown(), k.Resource.ID, k.Resource.Target.String()},
		Complies: k.Complies, Text: k.Text, Fix: k.Rule.Fix}
	if k.Resource.Owner != nil {
		out.Stack = k.Resource.Owner.Stack
	}
	if !k.Since.IsZero() {
		at := k.Since.UTC()
		out.Since = &at
	}
	return out
}

func (p *Program) compliance() *cobra.Command {
	var targets []string
	var asJSON, list bool
	var leave, take string
	cmd := &cobra.Command{Use: "compliance [STACK]", Args: cobra.MaximumNArgs(1),
		Short: "Hold what runs against the rules, since when they are kept or not; exit code 3 when one is not kept"}
	cmd.Flags().StringArrayVar(&targets, "target", nil, "only in this account/region; may be given again")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON, also what complies")
	cmd.Flags().BoolVar(&list, "built-in", false, "list the built-in rules")
	cmd.Flags().StringVar(&leave, "leave", "", "leave a built-in rule out, from now on")
	cmd.Flags().StringVar(&take, "take", "", "take a built-in rule again that was left out")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		where, err := targetsOf(targets)
		if err != nil {
			return err
		}
		ctx := cmd.Context()
		return p.with(func(a *app.App) error {
			switch {
			case leave != "":
				return a.LeaveRule(cmd.Context(), leave, true)
			case take != "":
				return a.LeaveRule(cmd.Context(), take, false)
			case list:
				return p.builtInRules(a, asJSON)
			}
			var of *stack.Stack
			if len(args) > 0 {
				if of, err = a.Find(ctx, args[0]); err != nil {
					return err
				}
				where = []stack.Target{of.Target}
			}
			v, err := a.Look(ctx, where...)
			if err != nil {
				return err
			}
			all, findings, err := a.Compliance(ctx, v)
			if err != nil {
				return err
			}
			p.findings(findings)
			if of != nil {
				all = slices.DeleteFunc(all, func(k app.Kept) bool { return k.Resource.Owner == nil || k.Resource.Owner.Stack != of.Name })
			}
			return p.kept(all, asJSON)
		})
	}
	return cmd
}

// kept prints which rules are kept and which are not; where one is not, that is the exit code.
func (p *Program) kept(all []app.Kept, asJSON bool) error {
	broken := app.Broken(all)
	if asJSON {
		out := []jsonKept{}
		for _, k := range all {
			out = append(out, keptJSON(k))
		}
		if err := p.json(out); err != nil {
			return err
		}
	} else {
		p.complianceText(all, broken)
	}
	if len(broken) > 0 {
		return exit(ExitChanges)
	}
	return nil
}

// complianceText prints what is not kept, rule by rule.
func (p *Program) complianceText(all, broken []app.Kept) {
	last := ""
	for _, k := range broken {
		if k.Rule.ID != last {
			p.wrapped("✖ ", fmt.Sprintf("%s: %s", k.Rule.ID, k.Rule.Message))
			if k.Rule.Fix != "" {
				p.wrapped("    ", k.Rule.Fix)
			}
			last = k.Rule.ID
		}
		whose := "nobody's"
		if k.Resource.Owner != nil {
			whose = k.Resource.Owner.Stack
		}
		p.wrapped("    ", fmt.Sprintf("%s %s  (%s %s in %s) since %s", whose, k.Resource.Name(), k.Resource.Shown(), k.Resource.ID, k.Resource.Target,
			k.Since.Local().Format("2006-01-02 15:04:05")))
		if k.Text != "" && k.Text != k.Rule.Message {
			p.wrapped("      ", k.Text)
		}
	}
	fmt.Fprintf(p.Err, "a rule is kept %s, and not kept %s\n", stack.Count(len(all)-len(broken), "time"), stack.Count(len(broken), "time"))
}

func (p *Program) builtInRules(a *app.App, asJSON bool) error {
	list, left, err := a.BuiltInRules()
	if err != nil {
		return err
	}
	for _, r := range list {
		is := slices.Contains(left, r.ID)
		if asJSON {
			if err := json.NewEncoder(p.Out).Encode(map[string]any{"rule": r.ID, "message": r.Message, "fix": r.Fix, "left": is}); err != nil {
				return err
			}
			continue
		}
		words := ""
		if is {
			words = "  (left out)"
		}
		fmt.Fprintf(p.Out, "%-26s %s%s\n", r.ID, r.Message, words)
	}
	return nil
}
