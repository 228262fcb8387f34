package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

func (a *app) route() *cobra.Command {
	var opt world.Request
	cmd := &cobra.Command{
		Use:   "route",
		Short: "Compute the legs to a destination",
		Long: `Route computes small legs that lead to the destination. First everything moves to
the newest release of its present major. Then the destination moves, together
with the packages that cannot stay as they are beside it: directly, or one major
at a time where a compat book or another package wants that. Each leg ends in a
state that resolves.

Where a leg needs a newer runtime, tool or image, a leg before it raises that in
every file that states it. What only a person can do is a leg, too. The route is
kept in .bellwether/route.yaml, which you may edit.

If the destination cannot be reached, route prints a proof and the ways out that
it tried, and ends with status 1; --take follows one of them.

Without --to and --reach, everything is refreshed within its major.`,
		Example: `  bellwether route --to quayside@^4
  bellwether route --to quayside@^4 --to tide-form@^6 --preview tide-form
  bellwether route --to runtime/node@22
  bellwether route --to brine.example/journal@main
  bellwether route --reach major --hold knotwork
  bellwether route --reach fix --advisories ../records`,
		Args: a.noArgs,
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			r, err := plan.Route(ctx, p.Desk, p.Tree, p.Kept, opt)
			if r == nil {
				return a.conflict(err, "There is no way to "+joined(opt.To, "a state that meets everything")+":")
			}
			return errors.Join(o.Route(r), err)
		}),
	}
	a.destinationFlags(cmd, &opt)
	cmd.Flags().IntVar(&opt.Take, "take", 0, "if there is no way, take the way out with this `number`")
	cmd.Flags().BoolVar(
		&opt.Settle, "settle", false, "add a leg before the first major that waits until your own code uses nothing deprecated",
	)
	cmd.Flags().BoolVar(
		&opt.DropBridges, "drop-bridges", false,
		"move to where temporary measures (pre-releases, branches, overrides) are no longer needed",
	)
	cmd.Flags().IntVar(
		&opt.Few, "few", 0, "let legs that only refresh, or take development tools to new majors, have at most this `number` of moves",
	)
	cmd.Flags().BoolVar(&opt.Stepwise, "stepwise", false, "go through every major on the way, even where nothing requires it")
	cmd.Flags().BoolVar(&opt.Explain, "explain", false, "say for each leg why its moves belong together, and why it comes where it does")
	cmd.Flags().StringSliceVar(&opt.LeaveOut, "leave-out", nil, "`folders` of components, and packages, that the route must not touch")
	a.drawFlag(cmd, "a proof that there is no way")
	a.registryFlags(cmd)
	return cmd
}
