package cli

import (
	"context"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/look"
)

func (a *app) survey() *cobra.Command {
	var opt look.SurveyOptions
	cmd := &cobra.Command{
		Use:   "survey",
		Short: "Look: what is declared, what is locked, what is newer",
		Long: `Survey lists every requirement of every component with what the manifest
states, what the lock has, and the newest release within the major and beyond.
It runs nothing and changes nothing.`,
		Example: `  bellwether survey
  bellwether survey --format json --as-of 2026-01-31`,
		Args: a.noArgs,
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			s, problem := look.Survey(ctx, p.Desk, p.Tree, opt)
			if s == nil {
				return problem
			}
			if err := o.Survey(s); err != nil {
				return err
			}
			return problem
		}),
	}
	cmd.Flags().StringVar(&opt.Advisories, "advisories", "", "mark what is affected by vulnerability records (OSV JSON) in this `folder`")
	a.registryFlags(cmd)
	a.bookFlag(cmd)
	cmd.Flags().BoolVar(&opt.Indirect, "indirect", false, "also list indirect requirements, which only other packages need")
	return cmd
}
