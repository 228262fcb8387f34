package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"bellwether/demo"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
	"bellwether/internal/view"
	"bellwether/internal/work"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/carry"
	"bellwether/internal/work/culprit"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/look"
	"bellwether/internal/work/notes"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/report"
	"bellwether/internal/work/scaffold"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

func (a *app) demo() *cobra.Command {
	story := ""
	cmd := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Lay the example project out and carry it through, offline",
		Long: `Demo lays out Saltmarsh Ferries, an example project with invented packages,
serves simulated registries on loopback, and does the whole job: survey,
prerequisites, route, advance leg by leg, a leg that breaks a test, the culprit
among its moves, the repair, a green end. It takes about a minute, and needs git,
Node.js 20, npm and Go, but no network; where Ruby and Bundler are installed, a
second project follows, in FOLDER-booking. The folders are kept.

With --story cargo, it tells of the cargo ledger instead: two modules in Java, and a
framework whose package was renamed. That needs git and a JDK 17 or newer.`,
		Example: `  bellwether demo
  bellwether demo --story cargo
  bellwether demo /tmp/ferries`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{fmt.Errorf("%s takes at most one folder", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := ""
			if len(args) == 1 {
				dir = args[0]
			}
			return a.runDemo(cmd.Context(), dir, story)
		},
	}
	cmd.Flags().StringVar(&story, "story", storyFerries, "which story is told: ferries, or cargo")
	return cmd
}

// The stories of the demo.
const (
	storyFerries = "ferries"
	storyCargo   = "cargo"
)

// demoStory is one run of the demo.
type demoStory struct {
	*app
	ctx  context.Context
	out  view.Out
	dir  string
	env  []string
	step int
	// fromRed goes on from a start that does not pass.
	fromRed bool
	// report shows progress on a terminal; elsewhere the results do.
	report func(desk.Event)
}

func (a *app) runDemo(ctx context.Context, dir, story string) error {
	out, err := a.out()
	if err != nil {
		return err
	}
	start := time.Now()
	tools := [][]string{{"git", "--version"}, {"node", "--version"}, {"npm", "--version"}, {"go", "version"}}
	switch story {
	case storyFerries:
	case storyCargo:
		tools = tools[:1]
	default:
		return usageError{fmt.Errorf("--story %q is not known\n  next: choose %s or %s", story, storyFerries, storyCargo)}
	}
	for _, tool := range tools {
		if _, err := run.Output(ctx, tool...); err != nil {
			return fmt.Errorf("the demo needs git, Node.js, npm and Go: %w", err)
		}
	}
	if dir, err = demoFolder(dir); err != nil {
		return err
	}
	s, err := startStandIn("127.0.0.1:0")
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	d := &demoStory{app: a, ctx: ctx, out: out, dir: dir, env: []string{
		"NODE_EXTRA_CA_CERTS=", // all registries are on loopback, and reading certificates takes Node.js its time
		"npm_config_registry=" + s.url, "npm_config_userconfig=" + filepath.Join(dir, ".git", "no-npmrc"),
		"npm_config_cache=" + filepath.Join(dir, ".git", "npm-cache"),
		"GOPROXY=" + s.url + goPrefix, "GOSUMDB=off", "GOTOOLCHAIN=local", "GOENV=off", "GOFLAGS=-modcacherw", "GOWORK=off",
		"GOMODCACHE=" + filepath.Join(dir, ".git", "go-modules"),
	}}
	if f, ok := a.stderr.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		d.report = moving(f)
	}
	if story == storyCargo {
		if err := d.cargo(s); err != nil {
			return err
		}
		fmt.Fprintf(a.stdout, "\nThe story took %.0f s. The cargo ledger is in %s\nwith one commit a leg.\n", time.Since(start).Seconds(), dir)
		return nil
	}
	if err := d.layOut(s.url); err != nil {
		return err
	}
	if err := d.tell(); err != nil {
		return err
	}
	if err := d.booking(s); err != nil {
		return err
	}
	fmt.Fprintf(a.stdout, `
The demo took %.0f s. The project is in %s
with one commit a leg. To go on by hand, serve its registries and work on it:

  bellwether stand-in --listen %s
  GOPROXY=%s GOSUMDB=off bellwether survey --project %s
`, time.Since(start).Seconds(), dir, s.address, s.url+goPrefix, dir)
	return nil
}

// demoFolder makes the folder for the demo; one that is there must be empty.
func demoFolder(dir string) (string, error) {
	if dir == "" {
		return os.MkdirTemp("", "saltmarsh-")
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return dir, os.MkdirAll(dir, 0o755)
	case err != nil:
		return "", usageError{err}
	case len(entries) > 0:
		return "", usageError{fmt.Errorf("%s is not empty\n  next: name a folder that is, or none for a temporary one", dir)}
	}
	return dir, nil
}

func (d *demoStory) layOut(registry string) error {
	if err := demo.LayOut(d.dir); err != nil {
		return fmt.Errorf("laying the demo out: %w", err)
	}
	npmrc := filepath.Join(d.dir, "board", ".npmrc")
	f, err := os.OpenFile(npmrc, os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(f, "registry=%s\n", registry); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := f.Close(); err != nil {
		return err
	}
	_, err = git.Init(d.ctx, d.dir, "Saltmarsh Ferries", "crew@saltmarsh.example", "The board and the tide service as they run on our piers")
	return err
}

func (d *demoStory) open(preview ...string) (*work.Project, error) {
	return work.Open(d.ctx, desk.Options{Dir: d.dir, Env: d.env, NoCache: true, Preview: preview, Report: d.report})
}

func (d *demoStory) chapter(title, command string) {
	d.step++
	fmt.Fprintf(d.stdout, "\n── %d. %s %s\n\n", d.step, title, strings.Repeat("─", max(3, 72-len(title))))
	if command != "" {
		fmt.Fprintf(d.stdout, "$ %s\n\n", command)
	}
}

const demoDestination = "quayside@^4"

func (d *demoStory) tell() error {
	chapters := []func() error{
		d.look,
		d.noWay("Ask for the framework's newest major: a proof why not", world.Request{To: []string{demoDestination}}),
		d.noWay(
			"Ask for a module that needs a newer Go, and hold Go: a proof, and ways out",
			world.Request{To: []string{"brine.example/journal@v1.4"}, Hold: []string{"go"}},
		),
		d.first,
		d.route, d.said, d.repairs("What the rules in the crew's book will repair, each in its leg", "tide-form"),
		d.legs, d.end, d.fresh, d.reporting(demoReport),
	}
	for _, chapter := range chapters {
		if err := chapter(); err != nil {
			return err
		}
	}
	return nil
}

func (d *demoStory) look() error {
	d.chapter("Look: what is declared, locked and newer", "bellwether survey")
	p, err := d.open()
	if err != nil {
		return err
	}
	s, err := look.Survey(d.ctx, p.Desk, p.Tree, look.SurveyOptions{})
	if err != nil {
		return err
	}
	return d.out.Survey(s)
}

// first asks what must be true before anything else.
func (d *demoStory) first() error {
	d.chapter("What must be true first", "bellwether prereqs --to "+demoDestination+" --preview tide-form")
	p, err := d.open("tide-form")
	if err != nil {
		return err
	}
	r, err := look.Prereqs(d.ctx, p.Desk, p.Tree, world.Request{To: []string{demoDestination}}, false)
	if err != nil {
		return err
	}
	return d.out.Prereqs(r)
}

// noWay asks for a destination that cannot be reached.
func (d *demoStory) noWay(title string, opt world.Request) func() error {
	return func() error {
		destination := opt.To[0]
		command := "bellwether route --to " + destination
		if len(opt.Hold) > 0 {
			command += " --hold " + opt.Hold[0]
		}
		d.chapter(title, command)
		p, err := d.open()
		if err != nil {
			return err
		}
		_, err = plan.Route(d.ctx, p.Desk, p.Tree, p.Kept, opt)
		var no *ways.NoWay
		if !errors.As(err, &no) {
			return fmt.Errorf("the demo expects a conflict here, but got %v", err)
		}
		return d.out.Conflict("There is no way to "+destination+":", ways.ProofSteps(no.Conflict), no.Ways, no.DeadEnd())
	}
}

func (d *demoStory) route() error {
	d.chapter(
		"Allow the pre-release of that one package: a route",
		"bellwether route --to "+demoDestination+" --reach major --preview tide-form",
	)
	p, err := d.open("tide-form")
	if err != nil {
		return err
	}
	r, err := plan.Route(d.ctx, p.Desk, p.Tree, p.Kept, world.Request{To: []string{demoDestination}, Reach: "major"})
	if err != nil {
		return err
	}
	return d.out.Route(r)
}

// said reads the notes of the releases on the way.
func (d *demoStory) said() error {
	d.chapter("What the releases on the way say, and what of it concerns us", "bellwether notes")
	p, err := d.open("tide-form")
	if err != nil {
		return err
	}
	r, err := notes.Read(d.ctx, p.Desk, p.Tree, p.Kept, notes.Options{})
	if err != nil {
		return err
	}
	return d.out.Notes(r, false)
}

// repairs tells what the crew's own rules will repair.
func (d *demoStory) repairs(title string, preview ...string) func() error {
	return func() error {
		d.chapter(title, "bellwether adapt")
		p, err := d.open(preview...)
		if err != nil {
			return err
		}
		plan, err := adapt.Preview(d.ctx, p.Desk, p.Tree, p.Kept, adapt.Options{})
		if err != nil {
			return err
		}
		return d.out.Adapt(plan.Result, false)
	}
}

// legs carries the route out. The first leg moves much at once and breaks a test: its
// culprit is found and set apart, what passes is committed, and what the culprit
// breaks is repaired.
func (d *demoStory) legs() error {
	d.chapter("Carry it out, leg by leg", "bellwether advance --all")
	done, err := d.advanceAll()
	if err != nil || done {
		return errors.Join(err, errDemo)
	}
	if err := d.culprit(); err != nil {
		return err
	}
	fmt.Fprint(d.stdout, "\n$ bellwether advance --all\n\n")
	if done, err = d.advanceAll(); err != nil || done {
		return errors.Join(err, errDemo)
	}
	d.chapter(
		"Repair what the culprit broke, and advance again",
		"edit board/src/departures.js   # bearings writes points out now: ask for letters",
	)
	if err := d.repair(); err != nil {
		return err
	}
	fmt.Fprint(d.stdout, "$ bellwether advance --all\n\n")
	if done, err = d.advanceAll(); err != nil || !done {
		return errors.Join(err, errDemo)
	}
	return nil
}

// errDemo is the error of a story that does not go as it is told.
var errDemo = errors.New("the demo went another way than it is meant to")

// advanceAll carries legs out until the route is complete, or one breaks something.
func (d *demoStory) advanceAll() (complete bool, err error) {
	for {
		p, err := d.open()
		if err != nil {
			return false, err
		}
		r, err := carry.Advance(d.ctx, p.Desk, p.Tree, p.Kept, carry.Options{FromRed: d.fromRed})
		if errors.Is(err, carry.ErrArrived) {
			return true, nil
		}
		if err != nil {
			return false, err
		}
		if err := d.out.Leg(r); err != nil || !r.Done {
			return false, err
		}
		fmt.Fprintln(d.stdout)
	}
}

// culprit finds which move of the leg breaks it, and parts the leg.
func (d *demoStory) culprit() error {
	d.chapter("Ten moves, one broken test: which of them is it?", "bellwether culprit --split --part")
	p, err := d.open()
	if err != nil {
		return err
	}
	r, err := culprit.Find(d.ctx, p.Desk, p.Tree, p.Kept, culprit.Options{Split: true, Part: true})
	if err != nil {
		return err
	}
	return d.out.Culprit(r)
}

// repair does what a person would do: it edits the source.
func (d *demoStory) repair() error {
	return fs.WalkDir(demo.Repair(), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := fs.ReadFile(demo.Repair(), name)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(d.dir, filepath.FromSlash(name)), data, 0o644)
	})
}

// fresh compares the board with what a fresh one of the new framework looks like.
func (d *demoStory) fresh() error {
	const from, to = "npm/create-quayside@1", "npm/create-quayside@4"
	d.chapter(
		"What a fresh board of the new version looks like, and what of it ours lacks",
		"bellwether scaffold --from "+from+" --to "+to+" --component board --set 'title=Saltmarsh Ferries'",
	)
	p, err := d.open()
	if err != nil {
		return err
	}
	r, err := scaffold.Compare(d.ctx, p.Desk, p.Tree, p.Kept, scaffold.Options{
		From: from, To: to, Component: "board", Set: map[string]string{"title": "Saltmarsh Ferries"},
	})
	if err != nil {
		return err
	}
	return d.out.Scaffold(&view.Scaffold{From: r.From, To: r.To, Comparison: &r.Comparison}, r)
}

// demoReport is the file that the report of the demo is written to, in the project's own folder for such things.
const demoReport = ".git/report.html"

// reporting tells reviewers what the route did, and writes the page.
func (d *demoStory) reporting(page string) func() error {
	return func() error {
		d.chapter("For the reviewers: the report", "bellwether report --format html > "+page)
		p, err := d.open()
		if err != nil {
			return err
		}
		r, err := report.Read(d.ctx, p.Desk, p.Tree, p.Kept, report.Options{})
		if err != nil {
			return err
		}
		f, err := os.Create(filepath.Join(d.dir, filepath.FromSlash(page)))
		if err != nil {
			return err
		}
		out := view.Out{W: f, Format: view.HTML}
		if err := errors.Join(out.Report(r), f.Close()); err != nil {
			return err
		}
		fmt.Fprintf(d.stdout, "The page is in %s\n", f.Name())
		return nil
	}
}

func (d *demoStory) end() error {
	d.chapter("The end: where the project is now", "bellwether status")
	p, err := d.open()
	if err != nil {
		return err
	}
	s, err := carry.Status(d.ctx, p.Desk, p.Tree, p.Kept)
	if err != nil {
		return err
	}
	if err := d.out.Status(s); err != nil {
		return err
	}
	repo, err := git.Open(d.ctx, d.dir)
	if err != nil {
		return err
	}
	log, err := repo.Log(d.ctx)
	fmt.Fprintf(d.stdout, "\n$ git log --oneline\n\n%s\n", log)
	return err
}
