package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"bellwether/internal/story"
)

func (a *app) demo() *cobra.Command {
	name := ""
	cmd := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Lay the example project out and carry it through, offline",
		Long: `Demo lays out a project of Saltmarsh Ferries, with invented packages, serves
simulated registries on loopback, and carries the project through, offline. The
folder is kept, to go on by hand.

The story of the ticket kiosk is short: three packages, one of which breaks a test
in a release that should not; what its notes say of it, the repair, a green end. It
takes some ten seconds, and needs git, Node.js 20 and npm.

With --story ferries, it is the whole job, on a board in JavaScript and a service in
Go: prerequisites, proofs why not and ways out, rules that repair, a culprit among
ten moves, the report. It takes about a minute and needs Go as well; where Ruby and
Bundler are installed, a project of gems follows, in FOLDER-booking.

With --story cargo, it is the cargo ledger: two modules in Java, and a framework
whose package was renamed. That needs git and a JDK 17 or newer.`,
		Example: `  bellwether demo
  bellwether demo --story ferries
  bellwether demo --story cargo
  bellwether demo /tmp/ferries`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{fmt.Errorf("%s takes at most one folder", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.out()
			if err != nil {
				return err
			}
			t := story.Teller{Out: out, W: a.stdout}
			if f, ok := a.stderr.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
				t.Report = moving(f) // on a terminal; elsewhere the results do
			}
			dir := ""
			if len(args) == 1 {
				dir = args[0]
			}
			return t.Tell(cmd.Context(), name, dir)
		},
	}
	cmd.Flags().StringVar(&name, "story", story.Kiosk, "which story is told: kiosk, ferries, or cargo")
	return cmd
}
