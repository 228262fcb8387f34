package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/standing"
)

func (a *app) tick() *cobra.Command {
	var pass, fail bool
	var note string
	cmd := &cobra.Command{
		Use:   "tick ITEM",
		Short: "Note what came of trying something by hand",
		Long: `Tick notes for an item of the checklist whether it works. The checklist is that of
bellwether.yaml and the steps of the route that a person takes; status shows it.
What was tried before the last leg was carried out is to be tried again.`,
		Example: `  bellwether tick board-in-the-sun --pass
  bellwether tick printing --fail --note "the timetable has no ferries on it"`,
		Args: a.oneArg("an item of the checklist"),
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, args []string) error {
			if pass == fail {
				return usageError{errors.New("say either --pass or --fail")}
			}
			s, err := standing.Tick(ctx, p.Desk, p.Tree, p.Kept, args[0], pass, note)
			if err != nil {
				return err
			}
			return o.Status(s)
		}),
	}
	cmd.Flags().BoolVar(&pass, "pass", false, "it works")
	cmd.Flags().BoolVar(&fail, "fail", false, "it does not work")
	cmd.Flags().StringVar(&note, "note", "", "what is worth knowing of it, a `text`")
	return cmd
}
