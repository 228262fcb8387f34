package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"bellwether/internal/core/harmless"
	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/standing"
)

func (a *app) whereAmI() *cobra.Command {
	adopt := false
	cmd := &cobra.Command{
		Use:   "status",
		Short: "Tell where the project is on its route",
		Long: `Status lists the legs of the route: done, waiting for a repair, next, or waiting.

What lies in .bellwether counts only where this machine wrote it for this very
checkout. After the project was moved or copied, --adopt makes it count again; do
that only if it is your own, since an interrupted change in it is then finished.`,
		Example: `  bellwether status
  bellwether status --adopt`,
		Args: a.noArgs,
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			if adopt {
				if err := a.adopted(p); err != nil {
					return err
				}
			}
			s, err := standing.Status(ctx, p.Desk, p.Tree, p.Kept)
			if err != nil {
				return err
			}
			return o.Status(s)
		}),
	}
	cmd.Flags().BoolVar(&adopt, "adopt", false, "make what .bellwether holds count as this checkout's own")
	return cmd
}

func (a *app) adopted(p *work.Project) error {
	names, err := p.Kept.Adopt()
	if err != nil {
		return fmt.Errorf("adopting what .bellwether holds: %w", err)
	}
	fmt.Fprintf(a.stderr, "adopted: %s\n", harmless.Line(joined(names, "nothing is there")))
	return nil
}
