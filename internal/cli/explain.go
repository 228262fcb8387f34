package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/view/drawing"
	"bellwether/internal/work"
	"bellwether/internal/work/look"
)

func (a *app) explain() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "explain [NAME[@VERSION]]",
		Short: "Tell why a package is at its version, or why it cannot be at another",
		Long: `Explain without a name lists all packages in effect, each below what brings
it by the shortest way.

Explain NAME tells which copies of a package are locked and who asks for
each. Explain NAME@VERSION tells what would move along if the package moved
there, or proves that it cannot.`,
		Example: `  bellwether explain
  bellwether explain quayside
  bellwether explain quayside@4`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			return a.oneArg("NAME or NAME@VERSION")(cmd, args)
		},
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, args []string) error {
			if len(args) == 0 {
				all, err := look.InEffect(ctx, p.Desk, p.Tree)
				if all == nil {
					return err
				}
				return errors.Join(err, o.InEffect(all))
			}
			all, err := look.Explain(ctx, p.Desk, p.Tree, args[0])
			if err != nil {
				return err
			}
			if err := o.Explain(all); err != nil {
				return err
			}
			for _, e := range all {
				if len(e.Steps) > 0 {
					if err := a.drawing(func(file string) ([]byte, error) { return drawing.Proof(file, e.Steps) }); err != nil {
						return err
					}
				}
				if e.Version != "" && !e.Possible {
					return errProblem
				}
			}
			return nil
		}),
	}
	a.drawFlag(cmd, "a proof that it cannot be")
	a.registryFlags(cmd)
	return cmd
}
