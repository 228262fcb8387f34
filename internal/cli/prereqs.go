package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/output"
	"bellwether/internal/view"
	"bellwether/internal/view/drawing"
	"bellwether/internal/work"
	"bellwether/internal/work/look"
	"bellwether/internal/work/world"
)

func (a *app) prereqs() *cobra.Command {
	var opt world.Request
	now := false
	cmd := &cobra.Command{
		Use:   "prereqs",
		Short: "Tell what must be true first: runtimes, tools, platforms and images",
		Long: `Prereqs lists the runtimes, tools, platforms and images that the destination
needs, and what those need in turn: who needs them, where they are stated, what
is installed here, and what you have to do. Needs come from the packages
themselves and from compat books. Without --to and --reach, prereqs looks at what
is locked now. It ends with status 1 if anything is missing.`,
		Example: `  bellwether prereqs
  bellwether prereqs --to quayside@^4
  bellwether prereqs --to quayside@^4 --draw chain.svg`,
		Args: a.noArgs,
		RunE: a.with(false, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			r, err := look.Prereqs(ctx, p.Desk, p.Tree, opt, now || len(opt.To) == 0 && opt.Reach == "")
			if err != nil {
				return a.conflict(err, "There is no way to "+joined(opt.To, "meet all of it")+":")
			}
			if err := a.drawing(func(file string) ([]byte, error) { return drawing.Chain(file, r) }); err != nil {
				return err
			}
			if err := o.Prereqs(r); err != nil {
				return err
			}
			if slices.ContainsFunc(r.Rows, func(row output.Prereq) bool { return row.Verdict != output.VerdictMet }) {
				return errProblem
			}
			return nil
		}),
	}
	a.destinationFlags(cmd, &opt)
	cmd.Flags().BoolVar(&now, "now", false, "check what is locked now, and not a destination")
	a.drawFlag(cmd, "the chain of needs")
	a.registryFlags(cmd)
	return cmd
}

// destinationFlags are the flags of commands that compute a route.
func (a *app) destinationFlags(cmd *cobra.Command, opt *world.Request) {
	cmd.Flags().StringArrayVar(
		&opt.To, "to", nil, "a destination, `NAME@RANGE`, of one place of several PLACE::NAME@RANGE, or of a Go module MODULE@BRANCH; "+
			"may be given several times",
	)
	cmd.Flags().StringVar(
		&opt.Reach, "reach", "",
		"how `far` everything else may move: stated (within what manifests state), patch, minor or major; or fix, which moves "+
			"only what --advisories report",
	)
	cmd.Flags().StringVar(&opt.Advisories, "advisories", "", "vulnerability records (OSV JSON) in this `folder`, for --reach fix")
	cmd.Flags().StringSliceVar(&opt.Hold, "hold", nil, "`packages`, runtimes and tools that stay where they are")
	cmd.Flags().Var(
		(*preference)(&opt.Prefer), "prefer",
		"which `version` of a runtime or tool that must move: the lowest that will do, supported (the lowest not past its end) or the newest",
	)
	cmd.Flags().StringSliceVar(&opt.AllowDown, "allow-down", nil, "`packages` that may go to older versions if they must")
	cmd.Flags().StringArrayVar(&opt.Together, "together", nil, "packages that move in one leg and share their major, `NAME,NAME`")
	cmd.Flags().StringSliceVar(&opt.DoWithout, "do-without", nil, "remove these `packages` from the manifests")
	cmd.Flags().StringSliceVar(
		&opt.Apart, "apart", nil, "`packages` that members of a workspace may keep at different versions, or that state theirs by themselves",
	)
	cmd.Flags().BoolVar(&opt.Dedupe, "dedupe", false, "add a last leg that removes copies of packages that nobody needs")
	cmd.Flags().StringArrayVar(
		&opt.Override, "override", nil,
		"give a package another version of a dependency than it asks for: `OF:NAME` for the project's own version, OF:NAME@RANGE, "+
			"or NAME@RANGE for all",
	)
	a.bookFlag(cmd)
}

func (a *app) bookFlag(cmd *cobra.Command) {
	cmd.Flags().StringSliceVar(&a.books, "books", nil, "further compat books: `files`, or folders of them")
}

// preference is the value of --prefer.
type preference compat.Prefer

// String is the value.
func (p *preference) String() string { return string(*p) }

// Type names the value in the help.
func (p *preference) Type() string { return "preference" }

// Set reads the value.
func (p *preference) Set(text string) error {
	if !slices.Contains(compat.Prefers, compat.Prefer(text)) {
		return fmt.Errorf("it is lowest, supported or newest")
	}
	*p = preference(text)
	return nil
}
