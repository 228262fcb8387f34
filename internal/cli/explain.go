package cli

import (
	"context"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/view/drawing"
	"bellwether/internal/work"
	"bellwether/internal/work/look"
)

func (a *app) explain() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "explain NAME[@VERSION]",
		Short: "Tell why a package is at its version, or why it cannot be at another",
		Long: `Explain NAME tells which copies of a package are locked and who asks for
each. Explain NAME@VERSION tells what would move along if the package moved
there, or proves that it cannot.`,
		Example: `  bellwether explain quayside
  bellwether explain quayside@4`,
		Args: a.oneArg("NAME or NAME@VERSION"),
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, args []string) error {
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
