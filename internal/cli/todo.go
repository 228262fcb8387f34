package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/todo"
)

func (a *app) todo() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "todo",
		Short: "List what was switched off or left to be done",
		Long: `Todo lists what was left on the way: by a rule that found a place it cannot repair,
or by you. Each is remembered by its place and the text there, so that a line that
moves is found again, and one that changed or went is noticed.

The list is .bellwether/todos.yaml, which belongs to the project and is committed.`,
		Example: `  bellwether todo
  bellwether todo add src/departures.js:41 "the tide table is switched off"
  bellwether todo done t2`,
		Args: a.noArgs,
		RunE: a.with(false, func(_ context.Context, p *work.Project, o view.Out, _ []string) error { return showToDos(p, o) }),
	}
	cmd.AddCommand(
		&cobra.Command{
			Use:     "add PLACE TEXT",
			Short:   "Note something that is left to be done",
			Long:    `Add notes what is to be done at a place: a file, or file:line.`,
			Example: `  bellwether todo add src/departures.js:41 "the tide table is switched off"`,
			Args: func(_ *cobra.Command, args []string) error {
				if len(args) < 2 || strings.TrimSpace(strings.Join(args[1:], " ")) == "" {
					return usageError{errors.New("bellwether todo add wants a place and a text")}
				}
				return nil
			},
			RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, args []string) error {
				if _, err := todo.Add(ctx, p.Desk, p.Tree, p.Kept, args[0], strings.Join(args[1:], " ")); err != nil {
					return err
				}
				return a.showToDosAnew(ctx, o)
			}),
		},
		&cobra.Command{
			Use:     "done ID...",
			Short:   "Take out what is done",
			Long:    `Done takes things out of the list by the names that bellwether todo shows.`,
			Example: `  bellwether todo done t2 t3`,
			Args: func(_ *cobra.Command, args []string) error {
				if len(args) == 0 {
					return usageError{errors.New("bellwether todo done wants names, which bellwether todo lists")}
				}
				return nil
			},
			RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, args []string) error {
				if err := todo.Done(ctx, p.Tree, p.Kept, args); err != nil {
					return err
				}
				return a.showToDosAnew(ctx, o)
			}),
		},
	)
	return cmd
}

func showToDos(p *work.Project, o view.Out) error {
	r, err := todo.List(p.Tree.Files.FS)
	if err != nil {
		return err
	}
	return o.ToDos(r)
}

// showToDosAnew shows the list as it was just written.
func (a *app) showToDosAnew(ctx context.Context, o view.Out) error {
	p, err := a.open(ctx, urgent(a.progress()))
	if err != nil {
		return err
	}
	return showToDos(p, o)
}
