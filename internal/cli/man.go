package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

func (a *app) man() *cobra.Command {
	return &cobra.Command{
		Use:   "man FOLDER",
		Short: "Write the manual pages",
		Long: `Man writes a manual page for each command into a folder, in the form that the
program man reads. The folder is made if it is not there.`,
		Example: `  bellwether man ~/.local/share/man/man1
  man bellwether-route`,
		Args: a.oneArg("the folder to write to"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return fmt.Errorf("writing the manual pages: %w", err)
			}
			heading := &doc.GenManHeader{Title: "BELLWETHER", Section: "1", Source: "bellwether " + version(), Manual: "Bellwether"}
			root := cmd.Root()
			root.DisableAutoGenTag = true // the same program writes the same pages
			if err := doc.GenManTree(root, heading, args[0]); err != nil {
				return fmt.Errorf("writing the manual pages: %w", err)
			}
			return nil
		},
	}
}
