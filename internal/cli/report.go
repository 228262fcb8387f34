package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/view/doc"
	"bellwether/internal/work"
	"bellwether/internal/work/report"
)

func (a *app) report() *cobra.Command {
	var opt report.Options
	cmd := &cobra.Command{
		Use:   "report",
		Short: "Tell what a route did, for reviewers and for the record",
		Long: `Report tells what moved and why, what was raised for it, what rules repaired, what
was verified and how that compares with the start, what broke legs, what stays
behind, what is temporary or left to be done, and how to take it back. It works from
what is kept of the route, also long afterwards. What the releases on the way say is
told where bellwether notes has looked for it.

As Markdown it fits the text of a merge request; as HTML it is one page that asks
nothing of anywhere; as JUnit XML it tells continuous integration what fails now and
did not before.`,
		Example: `  bellwether report
  bellwether report --format markdown
  bellwether report --format html > report.html
  bellwether report --leg 2-quayside-4 --format junit`,
		Args: a.noArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			format := doc.Format(a.format)
			if !slices.Contains(view.ReportFormats, format) {
				return usageError{fmt.Errorf("--format %q is not text, markdown, html, json or junit", a.format)}
			}
			if !slices.Contains(doc.Formats, format) {
				a.format = string(doc.Text) // which others have, too
			}
			return a.with(false, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
				o.Format = format
				r, err := report.Read(ctx, p.Desk, p.Tree, p.Kept, opt)
				if err != nil {
					return err
				}
				return o.Report(r)
			})(cmd, args)
		},
	}
	cmd.Flags().StringVar(&opt.Leg, "leg", "", "report this `leg` alone")
	cmd.Flags().
		StringVar(&opt.Advisories, "advisories", "", "tell which vulnerability records (OSV JSON) in this `folder` are fixed and left")
	cmd.Flags().BoolVar(&opt.All, "all", false, "report all routes that are remembered, not only the present one")
	return cmd
}
