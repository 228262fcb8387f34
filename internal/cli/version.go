package cli

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// release is the version of this program.
const release = "0.1.0"

// version is the release, and the commit it was built from where that is known.
func version() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				return fmt.Sprintf("%s (%.10s)", release, s.Value)
			}
		}
	}
	return release
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print the version",
		Long:    "Version prints the version of this program.",
		Example: "  bellwether version",
		Args:    a.noArgs,
		Run: func(*cobra.Command, []string) {
			fmt.Fprintln(a.stdout, "bellwether "+version())
		},
	}
}
