package cli

import "github.com/spf13/cobra"

func (a *app) whereAmI() *cobra.Command {
	return &cobra.Command{
		Use:     "status",
		Short:   "Tell where the project is on its route",
		Long:    "Status lists the legs of the route: done, waiting for a repair, next, or waiting.",
		Example: "  bellwether status",
		Args:    a.noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.out()
			if err != nil {
				return err
			}
			p, err := a.open(nil)
			if err != nil {
				return err
			}
			s, err := p.Status(cmd.Context())
			if err != nil {
				return err
			}
			return o.Status(s)
		},
	}
}
