package cli

import (
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// man writes the manual pages of every command, from what --help says.
func (a *app) man() *cobra.Command {
	return &cobra.Command{
		Use:     "man DIR",
		Short:   About("man"),
		Example: "  wexillum man ~/.local/share/man/man1 && man wexillum-draft-impact",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root := c.Root()
			root.DisableAutoGenTag = true // the same program writes the same pages
			if err := doc.GenManTree(root, &doc.GenManHeader{Title: "WEXILLUM", Section: "1", Source: "Wexillum", Manual: "Wexillum"},
				args[0]); err != nil {
				return err
			}
			files, err := os.ReadDir(args[0])
			if err != nil {
				return err
			}
			a.say("%d pages in %s.", len(files), args[0])
			return nil
		},
	}
}
