package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/tosca"
)

type jsonOutcome struct {
	Rule   string    `json:"rule"`
	Name   string    `json:"name"`
	Good   bool      `json:"good"`
	Reason string    `json:"reason"`
	Pos    tosca.Pos `json:"pos"`
}

func (p *Program) rules() *cobra.Command {
	rules := &cobra.Command{Use: "rules", Short: "Rules that a team writes, which warn or refuse"}
	var asJSON bool
	test := &cobra.Command{Use: "test [FILE|FOLDER]...",
		Short: "Carry out the tests of rules: those of the folder rules, or of what is named"}
	var junit string
	test.Flags().BoolVar(&asJSON, "json", false, "what came of each test, as JSON")
	test.Flags().StringVar(&junit, "junit", "", "write what came of each test to this file, as JUnit XML")
	test.RunE = func(_ *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			set, outcomes, err := a.TestRules(args)
			if err != nil {
				return err
			}
			p.findings(set.Findings)
			bad, list := 0, []jsonOutcome{}
			for _, o := range outcomes {
				mark := "good"
				if !o.Good {
					mark = "bad "
					bad++
				}
				list = append(list, jsonOutcome{o.Rule, o.Name, o.Good, o.Reason, o.Pos})
				if asJSON {
					continue
				}
				fmt.Fprintf(p.Out, "%s  %s: %s\n", mark, o.Rule, o.Name)
				if o.Reason != "" {
					fmt.Fprintf(p.Out, "      %s (%s)\n", o.Reason, o.Pos)
				}
			}
			if junit != "" {
				if err := rulesJUnit(junit, outcomes); err != nil {
					return err
				}
			}
			untested := append([]string{}, set.Untested()...)
			if asJSON {
				err = p.json(map[string]any{"tests": list, "untested": untested,
					"findings": append(tosca.Findings{}, set.Findings...)})
			} else {
				fmt.Fprintf(p.Out, "%s, %s, %d bad\n", count(len(set.Rules), "rule"), count(len(outcomes), "test"), bad)
				if len(untested) > 0 {
					fmt.Fprintf(p.Out, "without a test: %s\n", strings.Join(untested, ", "))
				}
			}
			if err == nil && (bad > 0 || set.Findings.HasErrors()) {
				err = exit(ExitRefused)
			}
			return err
		})
	}
	rules.AddCommand(test)
	return rules
}

func count(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprintf("%d %s", n, what)
}
