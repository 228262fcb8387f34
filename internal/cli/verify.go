package cli

import (
	"context"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/verify"
)

func (a *app) verify() *cobra.Command {
	var deprecations bool
	cmd := &cobra.Command{
		Use:   "verify",
		Short: "Build and test from clean, and compare with the baseline",
		Long: `Verify installs, builds, tests and starts the project as it is, local changes
included, in a scratch checkout that is removed afterwards. Before a route is
begun, the result is kept as the baseline; later it is compared with it: what
fails now and did not before, tests that no longer run, warnings and
deprecations that are new.`,
		Example: `  bellwether verify
  bellwether verify --deprecations
  bellwether verify --format json`,
		Args: a.noArgs,
		RunE: a.with(true, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			prove := verify.Project
			if deprecations {
				prove = verify.Deprecations
			}
			r, err := prove(ctx, p.Desk, p.Tree, p.Kept)
			if err != nil {
				return err
			}
			if err := o.Verify(r); err != nil {
				return err
			}
			if !r.Green() || r.OverLimit() || r.Comparison != nil && r.Comparison.Worse() {
				return errProblem
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&deprecations, "deprecations", false, "list what is deprecated, by cause, with the releases that may fix it")
	cmd.Flags().BoolVar(&a.offline, "offline", false, "ask no registry, use only what is cached")
	return cmd
}
