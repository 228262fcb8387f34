package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/culprit"
	"bellwether/internal/work/settings"
)

func (a *app) culprit() *cobra.Command {
	var opt culprit.Options
	var limit string
	cmd := &cobra.Command{
		Use:   "culprit",
		Short: "Tell which move of a leg breaks it",
		Long: `Culprit looks at the leg that waits for a repair, and finds the smallest set of
its moves that makes a test or stage fail, for each that newly fails. It tries
parts of the leg from clean, each a state that resolves, two at a time; what was
tried once is not tried again by a later call. The working tree stays as it is.`,
		Example: `  bellwether culprit
  bellwether culprit --split
  bellwether culprit --trials 10
  bellwether culprit --part`,
		Args: a.noArgs,
		RunE: a.with(true, func(ctx context.Context, p *work.Project, o view.Out, _ []string) (err error) {
			if opt.For, err = settings.ParseAge(limit); err != nil {
				return usageError{fmt.Errorf("--for: %w", err)}
			}
			r, err := culprit.Find(ctx, p.Desk, p.Tree, p.Kept, opt)
			if r != nil {
				if verr := o.Culprit(r); err == nil {
					err = verr
				}
			}
			if err == nil && len(r.Parted) == 0 && len(r.Culprits) > 0 {
				return errProblem
			}
			return err
		}),
	}
	cmd.Flags().IntVar(&opt.Trials, "trials", 0, "make at most this `number` of trials, then tell what is known")
	cmd.Flags().StringVar(&limit, "for", "", "search for at most this `span` (90s, 30m)")
	cmd.Flags().BoolVar(&opt.Split, "split", false, "find the two neighbouring releases between which a single culprit breaks")
	cmd.Flags().BoolVar(&opt.Part, "part", false, "take the leg back and split it: first what passes, then the culprit")
	cmd.Flags().BoolVar(&a.offline, "offline", false, "ask no registry, use only what is cached")
	return cmd
}
