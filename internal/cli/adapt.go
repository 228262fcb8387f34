package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/adapt"
)

func (a *app) adapt() *cobra.Command {
	var opt adapt.Options
	var apply, interactive, all bool
	cmd := &cobra.Command{
		Use:   "adapt",
		Short: "Repair source and configuration by rules",
		Long: `Adapt shows what the rules of compat books would repair for the moves of the route:
names, shapes of code, keys and values of configuration, files, lines. A leg
applies the rules for its own moves by itself, before it builds. --for names other
moves, --rules a file whose rules apply in any case. --apply does what is shown.

What no rule can repair is listed, and noted as something to do. docs/rules.md
tells how rules are written.`,
		Example: `  bellwether adapt
  bellwether adapt --for quayside@3.1.0..4.0.0
  bellwether adapt --rules rules/own.yaml --only tides-fetch --apply`,
		Args: a.noArgs,
		RunE: a.with(true, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
			if !apply {
				if interactive {
					return usageError{errors.New("--interactive asks what to apply: say --apply as well")}
				}
				plan, err := adapt.Preview(ctx, p.Desk, p.Tree, p.Kept, opt)
				if err != nil {
					return err
				}
				return o.Adapt(plan.Result, all)
			}
			if interactive {
				if !onTerminal(os.Stdin) {
					return usageError{errors.New("--interactive asks, and there is no terminal to ask on")}
				}
				opt.Ask = a.askRule(bufio.NewReader(os.Stdin))
			}
			r, err := adapt.Apply(ctx, p.Desk, p.Tree, p.Kept, opt)
			if err != nil {
				return err
			}
			return o.Adapt(r, all)
		}),
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&opt.For, "for", nil, "repair for these `moves` instead of those of the route: NAME@FROM..TO")
	flags.StringSliceVar(&opt.Books, "rules", nil, "apply the rules of these `files`, whatever moves")
	flags.StringSliceVar(&opt.Only, "only", nil, "apply only these `rules`")
	flags.StringSliceVar(&opt.Skip, "skip", nil, "leave these `rules` out")
	flags.StringSliceVar(&opt.Also, "also", nil, "repair these `folders` as well, though they look generated or are ignored")
	flags.StringSliceVar(&opt.Commands, "allow-command", nil, "let these `rules` run the command that they name, in a scratch")
	flags.BoolVar(&apply, "apply", false, "do it, in a clean working tree")
	flags.BoolVar(&interactive, "interactive", false, "ask about each rule before it is applied")
	flags.BoolVar(&all, "all", false, "show the whole diff")
	a.bookFlag(cmd)
	return cmd
}

func onTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

// askRule asks a person on a terminal whether a rule is to be applied.
func (a *app) askRule(in *bufio.Reader) func(r model.RepairResult) (bool, error) {
	return func(r model.RepairResult) (bool, error) {
		for {
			fmt.Fprintf(
				a.stderr,
				"%s %s: %d places in %d files. Apply it? [y/n] ",
				harmless.Line(r.Rule),
				harmless.Line(r.Says),
				len(r.Places),
				len(r.Files),
			)
			answer, err := in.ReadString('\n')
			if err != nil {
				return false, context.Canceled
			}
			switch strings.ToLower(strings.TrimSpace(answer)) {
			case "y", "yes":
				return true, nil
			case "n", "no":
				return false, nil
			}
		}
	}
}
