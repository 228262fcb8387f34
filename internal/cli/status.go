package cli

import (
	"context"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
)

func (a *app) whereAmI() *cobra.Command {
	return &cobra.Command{
		Use:     "status",
		Short:   "Tell where the project is on its route",
		Long:    "Status lists the legs of the route: done, waiting for a repair, next, or waiting.",
		Example: "  bellwether status",
		Args:    a.noArgs,
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			s, err := p.Status(ctx)
			if err != nil {
				return err
			}
			return o.Status(s)
		}),
	}
}
