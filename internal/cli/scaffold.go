package cli

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	core "bellwether/internal/core/scaffold"
	"bellwether/internal/core/spelling"
	"bellwether/internal/view"
	"bellwether/internal/view/template"
	"bellwether/internal/work"
	"bellwether/internal/work/scaffold"
)

func (a *app) scaffold() *cobra.Command {
	opt := scaffold.Options{Component: "."}
	var set []string
	show, page, yes := "", "", false
	cmd := &cobra.Command{
		Use:   "scaffold --from OLD --to NEW",
		Short: "Compare with what a fresh project of the new version looks like",
		Long: `Scaffold compares three ways: the template of the version that the project came from,
that of the new one, and the project. What only the template changed can be taken
over; what only you changed stays; what both changed is merged, or is a conflict.
Files of configuration are compared by their settings, too.

A template is a folder, an archive, a tag or commit of a repository (ADDRESS#TAG), or
a package of a registry (npm/create-quayside@3), which is read and never run. Where
only a program makes templates, --generate runs it, after a yes, once for each version.
What is left to be filled in is filled from the project, or with --set.

Nothing is written without --take or --take-clean. They want a clean working tree, and
bellwether undo takes back what they wrote. What is declined is not asked again.`,
		Example: `  bellwether scaffold --from npm/create-quayside@1 --to npm/create-quayside@4
  bellwether scaffold --from ../old --to ../new --show src/app.js
  bellwether scaffold --from https://git.example/starter#v3 --to https://git.example/starter#v4 --take-clean
  bellwether scaffold --from ../old --to ../new --take src/app.js:2 --take package.json:type --decline .editorconfig`,
		Args: a.noArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if opt.From == "" || opt.To == "" {
				return usageError{fmt.Errorf("scaffold needs --from and --to\n  next: name the older template and the newer one")}
			}
			opt.Set = map[string]string{}
			for _, one := range set {
				name, value, ok := strings.Cut(one, "=")
				if !ok {
					return usageError{fmt.Errorf("--set %q is not KEY=VALUE", one)}
				}
				opt.Set[name] = value
			}
			opt.Ask = a.askGenerate(yes)
			return a.with(true, func(ctx context.Context, p *work.Project, o view.Out, _ []string) error {
				r, err := scaffold.Compare(ctx, p.Desk, p.Tree, p.Kept, opt)
				if err != nil {
					return err
				}
				if show != "" {
					return showFile(o, r, show)
				}
				shown := &template.Shown{
					From: r.From, To: r.To, Comparison: &r.Comparison, Declined: r.Declined, Unfilled: r.Unfilled, Taken: r.Taken, Left: r.Left,
				}
				if page != "" {
					var b bytes.Buffer
					if err := shown.Page(&b); err != nil {
						return err
					}
					if err := os.WriteFile(page, b.Bytes(), 0o644); err != nil {
						return err
					}
				}
				return o.Scaffold(shown, r)
			})(cmd, args)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&opt.From, "from", "", "the older `template`")
	flags.StringVar(&opt.To, "to", "", "the newer `template`")
	flags.StringVar(&opt.Folder, "folder", "", "the `folder` in the templates that is meant")
	flags.StringVar(&opt.Component, "component", ".", "the `folder` of the project that the template is for")
	flags.StringArrayVar(&set, "set", nil, "fill `KEY=VALUE` in")
	flags.StringVar(&show, "show", "", "show what the template changed in this `file`")
	flags.StringVar(&page, "html", "", "write it as one page, side by side, into this `file`")
	flags.StringArrayVar(&opt.Take, "take", nil, "take this `file` over, or one place (FILE:2) or setting (FILE:NAME) of it")
	flags.BoolVar(&opt.TakeClean, "take-clean", false, "take over all that applies cleanly")
	flags.BoolVar(&opt.Mark, "mark", false, "write conflicts of files that are taken between the usual markers")
	flags.StringArrayVar(&opt.Decline, "decline", nil, "do not ask again for this `file`, or one place of it (FILE:2)")
	flags.StringVar(&opt.Generate, "generate", "", "make the templates with this `command`, in which {version} is what --from and --to say")
	flags.BoolVar(&yes, "yes", false, "run the command of --generate without asking")
	a.registryFlags(cmd)
	return cmd
}

// askGenerate asks a person on a terminal whether a generator is to be run.
func (a *app) askGenerate(yes bool) func(command string) (bool, error) {
	return func(command string) (bool, error) {
		if yes || !onTerminal(os.Stdin) {
			return yes, nil
		}
		fmt.Fprintf(a.stderr, "run %s in a folder of its own? [y/n] ", command)
		answer, err := bufio.NewReader(os.Stdin).ReadString('\n')
		if err != nil {
			return false, context.Canceled
		}
		return strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "y"), nil
	}
}

// showFile shows one file of a comparison.
func showFile(o view.Out, r *scaffold.Result, name string) error {
	var names []string
	for _, f := range r.Files {
		names = append(names, f.Path)
	}
	at := slices.IndexFunc(r.Files, func(f core.File) bool { return f.Path == name })
	if at < 0 {
		next := "the template changes " + spelling.Few(names, 5)
		if near := spelling.Nearest(name, names); near != "" {
			next = "did you mean " + near + "?"
		}
		return usageError{fmt.Errorf("the template changes no %q\n  next: %s", name, next)}
	}
	return o.ScaffoldFile(&r.Files[at])
}
