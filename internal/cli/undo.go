package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/carry"
)

func (a *app) undo() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use:   "undo",
		Short: "Take the last leg back",
		Long: `Undo returns to the commit before the last leg, or puts the files of a leg
that was not committed back. It takes no commit back that it did not make.`,
		Example: `  bellwether undo
  bellwether undo --all`,
		Args: a.noArgs,
		RunE: a.with(true, func(ctx context.Context, p *work.Project, _ view.Out, _ []string) error {
			undone, err := carry.Undo(ctx, p.Kept, all)
			for _, what := range undone {
				fmt.Fprintf(a.stdout, "took %s back\n", what)
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "take all legs of the route back")
	return cmd
}
