package cli

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"brickrow/internal/config"
	"brickrow/internal/shareddb"
)

func (p *Program) config() *cobra.Command {
	cmd := &cobra.Command{Use: "config", Short: "What is set for all commands, and where"}
	var origins, asJSON bool
	show := &cobra.Command{Use: "show", Short: "Show what is set; with --origins where each setting comes from", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			all := p.set.All(map[string]string{"home": p.home, "store": p.storeURL, "cloud": p.cloudURL})
			if asJSON {
				stores := map[string]string{}
				for name, place := range p.set.Stores {
					stores[name] = placeShown(place)
				}
				return p.json(map[string]any{"file": p.set.Path, "settings": all, "stores": stores, "targets": p.set.Targets})
			}
			for _, v := range all {
				value := v.Value
				if value == "" {
					value = "–"
				}
				if !origins {
					fmt.Fprintf(p.Out, "%-11s %s\n", v.Setting, value)
					continue
				}
				p.wrapped(fmt.Sprintf("%-11s ", v.Setting), value+"  ("+v.Origin+")")
				p.wrapped("            ", v.Meaning)
			}
			for _, name := range slices.Sorted(maps.Keys(p.set.Stores)) {
				fmt.Fprintf(p.Out, "store %-5s %s\n", name, placeShown(p.set.Stores[name]))
			}
			for _, name := range slices.Sorted(maps.Keys(p.set.Targets)) {
				fmt.Fprintf(p.Out, "target %-4s %s\n", name, p.set.Targets[name])
			}
			if !p.set.There {
				fmt.Fprintf(p.Out, "there is no file %s\n", p.set.Path)
			}
			return nil
		}}
	show.Flags().BoolVar(&origins, "origins", false, "say where each setting comes from, and what it means")
	show.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	path := &cobra.Command{Use: "path", Short: "Print where the configuration file is", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		fmt.Fprintln(p.Out, config.Path())
		return nil
	}}
	cmd.AddCommand(show, path)
	return cmd
}

// placeShown is the place of a store without what it lets in by.
func placeShown(place string) string {
	return shareddb.Shown(place)
}
