package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"brickrow/docs"
	"brickrow/internal/app"
	"brickrow/internal/files"
	"brickrow/internal/lsp"
)

func (p *Program) languageServer() *cobra.Command {
	cmd := &cobra.Command{Use: "lsp", Args: cobra.NoArgs,
		Short: "Serve an editor: help, findings and fixes by the Language Server Protocol",
		Long: `Serves an editor on standard input and output, by the Language Server Protocol 3.17.
docs/editors.md says how to set up editors for it.`}
	cmd.Flags().Bool("stdio", true, "what is always so; some editors say it")
	_ = cmd.Flags().MarkHidden("stdio")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			help := filepath.Join(a.Home, app.FindingsPage)
			if old, err := os.ReadFile(help); err != nil || string(old) != docs.Findings {
				if err := files.Write(help, []byte(docs.Findings), 0o600); err != nil {
					help = "" // then there are no links
				}
			}
			return lsp.Serve(cmd.Context(), a, p.In, p.bare, p.Err, help) // messages go as they are
		})
	}
	return cmd
}
