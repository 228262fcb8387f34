package cli

import (
	"context"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/look"
)

func (a *app) compatBooks() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "books",
		Short: "List the compat books, and which of their rules apply here",
		Long: `Books lists the compat books that apply to the project: those that ship with
the program, those that bellwether.yaml names, and those of --books. Of each
rule it tells whether it is in force here, and why.`,
		Example: `  bellwether books
  bellwether books check rules/pier.yaml`,
		Args: a.noArgs,
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			r, err := look.Books(ctx, p.Desk, p.Tree)
			if err != nil {
				return err
			}
			return o.Books(r)
		}),
	}
	a.bookFlag(cmd)
	cmd.Flags().BoolVar(&a.offline, "offline", false, "fetch no book, use only what is cached")
	cmd.Flags().BoolVar(&a.refresh, "refresh", false, "fetch books again, even where the cache is fresh")
	cmd.AddCommand(&cobra.Command{
		Use:   "check FILE",
		Short: "Tell what is wrong with a compat book",
		Long: `Check reads a compat book and lists every mistake with its line: unknown keys,
ranges in the wrong dialect or that nothing is in, rules that can never apply,
that contradict each other, or whose needs go round in a circle.`,
		Example: `  bellwether books check rules/pier.yaml`,
		Args:    a.oneArg("a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := a.out()
			if err != nil {
				return err
			}
			check, err := look.CheckBook(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := o.BookCheck(check); err != nil {
				return err
			}
			if len(check.Remarks) > 0 {
				return errProblem
			}
			return nil
		},
	})
	return cmd
}
