package cli

import (
	"context"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
)

func (a *app) verify() *cobra.Command {
	return &cobra.Command{
		Use:   "verify",
		Short: "Build and test from clean, and compare with the baseline",
		Long: `Verify installs, builds and tests the project as it is, local changes
included, in a scratch checkout that is removed afterwards. Before a route is
begun, the result is kept as the baseline; later it is compared with it.`,
		Example: `  bellwether verify
  bellwether verify --format json`,
		Args: a.noArgs,
		RunE: a.with(true, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			r, err := p.Verify(ctx)
			if err != nil {
				return err
			}
			if err := o.Verify(r); err != nil {
				return err
			}
			if !r.Green() || r.Comparison != nil && r.Comparison.Worse() {
				return errProblem
			}
			return nil
		}),
	}
}
