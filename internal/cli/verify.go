package cli

import "github.com/spf13/cobra"

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
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.out()
			if err != nil {
				return err
			}
			p, err := a.open(a.progress())
			if err != nil {
				return err
			}
			r, err := p.Verify(cmd.Context())
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
		},
	}
}
