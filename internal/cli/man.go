package cli

import (
	"embed"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
)

// manual is the manual's pages, as TestPages writes them: the library that makes them takes its time at every start.
//
//go:embed man1/*.1
var manual embed.FS

func (a *app) man() *cobra.Command {
	return &cobra.Command{
		Use:   "man FOLDER",
		Short: "Write the manual pages",
		Long: `Man writes a manual page for each command into a folder, in the form that the
program man reads. The folder is made if it is not there.`,
		Example: `  bellwether man ~/.local/share/man/man1
  man bellwether-route`,
		Args: a.oneArg("the folder to write to"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := writeManual(args[0]); err != nil {
				return fmt.Errorf("writing the manual pages: %w", err)
			}
			return nil
		},
	}
}

func writeManual(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	pages, err := manual.ReadDir("man1")
	if err != nil {
		return err
	}
	for _, page := range pages {
		text, err := manual.ReadFile("man1/" + page.Name())
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, page.Name()), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}
