// Package cli is the command line: one file a command, flags in, use case,
// view out.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
	"bellwether/internal/view"
	"bellwether/internal/view/doc"
	"bellwether/internal/view/drawing"
	"bellwether/internal/work"
	"bellwether/internal/work/carry"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/ways"
)

// Exit statuses, the same for every command.
const (
	exitDone        = 0
	exitProblem     = 1 // the work found a problem: a conflict, a failed stage
	exitUsage       = 2 // wrong usage or unreadable input
	exitOutside     = 3 // something could not be had or read: network, registry, a tool, a part of the project
	exitInterrupted = 130
)

// errProblem ends a command whose result already tells the problem.
var errProblem = errors.New("problem")

// errUnread ends a command that did its work without a part of the project, which is told already.
var errUnread = errors.New("a part of the project was not read")

// app is one call of the program.
type app struct {
	stdout, stderr io.Writer
	limits         *limits
	project        string
	format         string
	colour         string
	asOf           string
	minAge         string
	offline        bool
	refresh        bool
	preview        []string
	books          []string
	draw           string // a file to draw into; empty for none
}

// Main runs the program and gives its exit status.
func Main(args []string, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), ending()...)
	defer stop()
	finished := make(chan struct{})
	defer close(finished)
	a := &app{stdout: stdout, stderr: stderr, limits: &limits{stderr: stderr}}
	go a.limits.watch(ctx, stop, finished)
	root := a.root()
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	return a.status(root.ExecuteContext(ctx))
}

// status says what went wrong, and gives the exit status for it.
func (a *app) status(err error) int {
	var (
		fault    *model.Fault
		conflict *solve.Conflict
		stage    *carry.FailedStage
	)
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errProblem):
		return exitProblem
	case errors.Is(err, errUnread):
		return exitOutside
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(a.stderr, "bellwether: interrupted; nothing is half done")
		return exitInterrupted
	}
	fmt.Fprintf(a.stderr, "bellwether: %s\n", harmless.Text(err.Error()))
	switch {
	case errors.Is(err, syscall.ENOSPC):
		if !errors.As(err, &fault) {
			fmt.Fprintln(a.stderr, "  next: make room, and run the command again; nothing is half done")
		}
		return exitOutside
	case errors.As(err, &conflict), errors.As(err, &stage), errors.As(err, &fault) && fault.Found:
		return exitProblem
	case errors.As(err, &fault):
		return exitUsage
	case fetch.Failed(err), errors.Is(err, run.ErrMissing), errors.Is(err, git.ErrSource):
		return exitOutside
	case errors.As(err, new(usageError)), errors.Is(err, syscall.ENAMETOOLONG):
		return exitUsage
	}
	return exitProblem
}

// usageError is a mistake in the call.
type usageError struct{ error }

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "bellwether",
		Short: "Move a project to newer versions, in small steps that are proved to work",
		Long: `Bellwether moves a project from the versions it runs on today to the ones it
should run on tomorrow: it looks at what is declared and locked, computes a
route of small legs to where you want to be, carries each leg out, builds and
tests from clean, and commits what is no worse than before.

Exit status: 0 done and nothing wrong; 1 the work found a problem; 2 wrong
usage or unreadable input; 3 something could not be had or read: the network, a
registry, a tool, a part of the project; 130 interrupted.`,
		Example: `  bellwether survey
  bellwether route --to quayside@^4
  bellwether advance --all`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       version(),
		Args:          a.noArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetVersionTemplate("bellwether {{.Version}}\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	flags := root.PersistentFlags()
	flags.StringVarP(&a.project, "project", "p", ".", "the project's `folder`")
	flags.StringVar(&a.format, "format", "text", "show results as text, json or markdown")
	flags.StringVar(&a.colour, "color", "auto", "colour text: auto, always or never")
	root.AddCommand(
		a.survey(), a.prereqs(), a.route(), a.advance(), a.verify(), a.explain(), a.culprit(), a.whereAmI(), a.report(), a.tick(), a.undo(),
		a.notes(), a.adapt(), a.scaffold(), a.todo(), a.compatBooks(), a.demo(), a.standIn(), a.man(), a.version(),
	)
	return root
}

// registryFlags are the flags of commands that ask registries.
func (a *app) registryFlags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&a.offline, "offline", false, "ask no registry, use only what is cached")
	flags.BoolVar(&a.refresh, "refresh", false, "ask registries again, even where the cache is fresh")
	flags.StringVar(&a.asOf, "as-of", "", "leave out what was published after this `date` (2026-01-31, or with a time)")
	flags.StringVar(&a.minAge, "min-age", "", "leave out releases younger than this `span` (72h, 3 days)")
	flags.StringSliceVar(&a.preview, "preview", nil, "allow pre-releases of these `packages`")
}

func (a *app) noArgs(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, c := range cmd.Commands() {
		names = append(names, c.Name())
	}
	text := fmt.Sprintf("%q is not a command of %s", args[0], cmd.CommandPath())
	if len(names) == 0 {
		text = fmt.Sprintf("%s takes no argument, but got %q", cmd.CommandPath(), args[0])
	}
	if question := spelling.DidYouMean(args[0], names); question != "" {
		text += "; " + question
	}
	return usageError{errors.New(text)}
}

// oneArg wants exactly one argument.
func (a *app) oneArg(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != 1 {
			return usageError{fmt.Errorf("%s wants one argument, %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// out is where results are shown.
func (a *app) out() (view.Out, error) {
	if !slices.Contains(doc.Formats, doc.Format(a.format)) {
		return view.Out{}, usageError{fmt.Errorf("--format %q is not text, json or markdown", a.format)}
	}
	colour := false
	switch a.colour {
	case "always":
		colour = true
	case "never":
	case "auto":
		f, isFile := a.stdout.(*os.File)
		colour = isFile && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == ""
	default:
		return view.Out{}, usageError{fmt.Errorf("--color %q is not auto, always or never", a.colour)}
	}
	width := 0
	if f, ok := a.stdout.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		width, _, _ = term.GetSize(int(f.Fd()))
	}
	return view.Out{W: a.stdout, Format: doc.Format(a.format), Colour: colour, Width: width}, nil
}

// open opens the project with what the flags say.
func (a *app) open(ctx context.Context, report func(desk.Event)) (*work.Project, error) {
	dir := a.project
	if dir == "." {
		var note string
		if dir, note = work.Find(dir); note != "" {
			report(desk.Event{Text: note, Done: true, Always: true, Aside: true})
		}
	}
	opt := desk.Options{
		Dir: dir, Offline: a.offline, Refresh: a.refresh, Preview: a.preview, Books: a.books, Report: report, Doing: a.limits.note,
	}
	var err error
	if opt.MinAge, err = settings.ParseAge(a.minAge); err != nil {
		return nil, usageError{fmt.Errorf("--min-age: %w", err)}
	}
	if a.asOf != "" {
		if opt.AsOf, err = readDate(a.asOf); err != nil {
			return nil, usageError{err}
		}
	}
	return work.Open(ctx, opt)
}

// with makes a command's body: it opens the project and hands it over with the
// place to show results. Progress is told only if the command runs stages.
func (a *app) with(
	progress bool, body func(ctx context.Context, p *work.Project, o view.Out, args []string) error,
) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		a.limits.note("opening the project")
		o, err := a.out()
		if err != nil {
			return err
		}
		report := a.progress()
		if !progress {
			report = urgent(report)
		}
		p, err := a.open(cmd.Context(), report)
		if err != nil {
			return err
		}
		err = body(cmd.Context(), p, o, args)
		if missing := a.tellUnread(cmd.Name(), p.Tree.Unread); err == nil {
			return missing
		}
		return err
	}
}

// tellUnread tells of components that could not be read, in full where all is looked at. The error is for commands whose work
// is not whole without them.
func (a *app) tellUnread(command string, unread []tree.Unread) error {
	if len(unread) == 0 || !slices.Contains([]string{"survey", "prereqs", "route", "verify", "advance"}, command) {
		return nil
	}
	if len(unread) == 1 || command == "survey" {
		for _, u := range unread {
			fmt.Fprintf(a.stderr, "bellwether: %s\n", harmless.Text(u.Error()))
		}
		return errUnread
	}
	var dirs []string
	for _, u := range unread {
		dirs = append(dirs, u.Dir)
	}
	fmt.Fprintf(
		a.stderr, "bellwether: %d components cannot be read and were not looked at: %s\n  next: bellwether survey says what is wrong with each\n",
		len(dirs), harmless.Text(spelling.Few(dirs, 6)),
	)
	return errUnread
}

// readDate reads an ISO 8601 date, which means its end, or a time.
func readDate(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	t, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return t, fmt.Errorf("--as-of %q is not a date like 2026-01-31 or 2026-01-31T12:00:00Z", text)
	}
	return t.Add(24*time.Hour - time.Second), nil
}

// drawFlag is the flag of commands that can draw what they show.
func (a *app) drawFlag(cmd *cobra.Command, what string) {
	cmd.Flags().StringVar(&a.draw, "draw", "", "draw "+what+", too, into a `file`.svg or file.dot (Graphviz)")
}

// drawing writes a drawing, if one is asked for.
func (a *app) drawing(draw func(file string) ([]byte, error)) error {
	if a.draw == "" {
		return nil
	}
	picture, err := draw(a.draw)
	if err != nil {
		return usageError{err}
	}
	if err := os.WriteFile(a.draw, picture, 0o644); err != nil {
		return fmt.Errorf("drawing: %w", err)
	}
	return nil
}

// conflict shows a proof instead of a result; other errors pass.
func (a *app) conflict(err error, title string) error {
	var c *solve.Conflict
	if !errors.As(err, &c) {
		return err
	}
	o, oerr := a.out()
	if oerr != nil {
		return oerr
	}
	var out []output.WayOut
	var beyond *output.DeadEnd
	var no *ways.NoWay
	if errors.As(err, &no) {
		out, beyond = append([]output.WayOut{}, no.Ways...), no.DeadEnd()
	}
	steps := ways.ProofSteps(c)
	if err := a.drawing(func(file string) ([]byte, error) { return drawing.Proof(file, steps) }); err != nil {
		return err
	}
	if err := o.Conflict(title, steps, out, beyond); err != nil {
		return err
	}
	return errProblem
}

func joined(list []string, otherwise string) string {
	if len(list) == 0 {
		return otherwise
	}
	return strings.Join(list, ", ")
}
