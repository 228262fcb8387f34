package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"

	"bellwether/internal/host/within"
	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/notes"
)

func (a *app) notes() *cobra.Command {
	var all bool
	var rules string
	cmd := &cobra.Command{
		Use:   "notes [NAME [FROM..TO]]",
		Short: "Tell what the releases on the way say, and what of it concerns this project",
		Long: `Notes reads changelogs, histories and upgrade guides in the archives of the releases
on the way, for all moves of the route or for one package. What is breaking,
removed or needed comes first, and before that what names something that the
project uses, with the places.

A rename that notes or deprecations plainly state becomes a proposed rule.
--rules writes those to a file for bellwether adapt; nothing is applied. What is found
for the moves of the route is told in its report, too.`,
		Example: `  bellwether notes
  bellwether notes quayside
  bellwether notes quayside 2.4.0..4.0.0 --all`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 2 {
				return usageError{errors.New("bellwether notes takes a package and a move, NAME FROM..TO")}
			}
			return nil
		},
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, args []string) error {
			var opt notes.Options
			if len(args) > 0 {
				opt.Name = args[0]
			}
			if len(args) > 1 {
				var ok bool
				if opt.From, opt.To, ok = strings.Cut(args[1], ".."); !ok {
					return usageError{fmt.Errorf("%q is no move: write FROM..TO, like 3.1.0..4.0.0", args[1])}
				}
			}
			r, err := notes.Read(ctx, p.Desk, p.Tree, p.Kept, opt)
			if err != nil {
				return err
			}
			if rules != "" {
				text, err := notes.Book(p.Tree, r.Rules)
				if err != nil {
					return err
				}
				err = within.Create(rules, text)
				if errors.Is(err, fs.ErrExist) {
					return usageError{fmt.Errorf("%s is there already\n  next: name a file that is not, and merge by hand", rules)}
				}
				if err != nil {
					return fmt.Errorf("saving the rules: %w", err)
				}
				r.Saved = rules
			}
			return o.Notes(r, all)
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "show everything, also what names nothing of the project")
	cmd.Flags().StringVar(&rules, "rules", "", "write the proposed rules to a new `file`")
	a.registryFlags(cmd)
	return cmd
}
