package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/programs"
)

// types is the command about types of one's own.
func (p *Program) types() *cobra.Command {
	cmd := &cobra.Command{Use: "type", Short: "Work on types of one's own"}
	asJSON := false
	var given, edit []string
	test := &cobra.Command{Use: "test FILE NODE_TYPE", Short: "Hold the programs of a type against the protocol, on a scratch name; exit code 1 when one does not keep to it",
		Args: cobra.ExactArgs(2)}
	test.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	test.Flags().StringArrayVarP(&given, "input", "i", nil, "a property, as name=value, as in YAML; what is not given is made up")
	test.Flags().StringArrayVar(&edit, "edit", nil, "a property after an edit, as name=value")
	test.RunE = func(cmd *cobra.Command, args []string) error {
		values, err := pairs(given)
		if err != nil {
			return err
		}
		changes, err := pairs(edit)
		if err != nil {
			return err
		}
		return p.with(func(a *app.App) error {
			checks, err := a.TypeTest(cmd.Context(), args[0], args[1], values, changes)
			if err != nil {
				return err
			}
			failed := 0
			for _, c := range checks {
				if !c.Passes {
					failed++
				}
			}
			if asJSON {
				if err := p.json(append([]programs.Check{}, checks...)); err != nil {
					return err
				}
			} else {
				for _, c := range checks {
					p.wrapped("", cloud.Clean(app.CheckWords(c)))
				}
				fmt.Fprintf(p.Out, "%s: %d of %d hold\n", args[1], len(checks)-failed, len(checks))
			}
			if failed > 0 {
				return exit(1)
			}
			return nil
		})
	}
	cmd.AddCommand(test)
	return cmd
}

// pairs takes name=value apart.
func pairs(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, text := range list {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, usage{fmt.Errorf("write name=value, not '%s'", text)}
		}
		out[name] = value
	}
	return out, nil
}
