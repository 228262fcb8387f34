package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"bellwether/internal/work/carry"
)

func (a *app) advance() *cobra.Command {
	var opt carry.Options
	var all bool
	cmd := &cobra.Command{
		Use:   "advance",
		Short: "Carry the next leg of the route out, verified and committed",
		Long: `Advance writes the next leg's manifests and lock, builds and tests from clean
in a scratch checkout, compares with the untouched project, and commits the leg
to a branch of its own if nothing is worse. A leg that breaks something stays in
the working tree: repair it and call advance again, or call undo.

A leg of which nothing was built or tested, or whose runtime is not the one that
ran, is committed as not verified, and --all stops after the first of these. One
that leads to a runtime which is not on this machine waits, unless --unverified
says to go on without it.`,
		Example: `  bellwether advance
  bellwether advance --all`,
		Args: a.noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.out()
			if err != nil {
				return err
			}
			for first := true; ; first = false {
				p, err := a.open(cmd.Context(), a.progress())
				if err != nil {
					return err
				}
				r, err := carry.Advance(cmd.Context(), p.Desk, p.Tree, p.Kept, opt)
				if errors.Is(err, carry.ErrArrived) {
					if first {
						fmt.Fprintln(a.stderr, "the route is complete, there is no leg left")
					}
					return nil
				}
				if err != nil {
					return err
				}
				if err := o.Leg(r); err != nil {
					return err
				}
				switch {
				case !r.Done:
					return errProblem
				case !all || r.Left == 0:
					return nil
				case r.Pause:
					fmt.Fprintln(a.stderr, "stopped once, since nothing shows that this leg works; bellwether advance --all goes on")
					return errProblem
				}
				fmt.Fprintln(a.stdout)
			}
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "carry all legs out, until one breaks something")
	cmd.Flags().BoolVar(&opt.FromRed, "from-red", false, "go on although the untouched project fails; nothing may get worse")
	cmd.Flags().BoolVar(&opt.Whole, "whole", false, "verify every component, even where nothing that it reads has changed")
	cmd.Flags().BoolVar(&opt.Unverified, "unverified", false, "carry legs out although nothing here can show that they work")
	cmd.Flags().StringSliceVar(&opt.Commands, "allow-command", nil, "let these `rules` run the command that they name, in a scratch")
	cmd.Flags().StringSliceVar(&opt.SkipRules, "skip-rule", nil, "leave these `rules` out, which would repair something for the leg")
	cmd.Flags().StringVar(&opt.Branch, "branch", "", "the `branch` to commit to; made if it does not exist")
	cmd.Flags().BoolVar(&a.offline, "offline", false, "ask no registry, use only what is cached")
	return cmd
}
