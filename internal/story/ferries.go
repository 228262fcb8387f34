package story

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"bellwether/demo"
	"bellwether/internal/host/git"
	"bellwether/internal/view"
	"bellwether/internal/view/template"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/carry"
	"bellwether/internal/work/culprit"
	"bellwether/internal/work/look"
	"bellwether/internal/work/notes"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/report"
	"bellwether/internal/work/scaffold"
	"bellwether/internal/work/standing"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

const demoDestination = "quayside@^4"

// ferries is the whole job, on the board and the tide service, and on a project of gems where Ruby is installed.
func (d *telling) ferries(s *Registries) error {
	if err := demo.LayOut(d.dir); err != nil {
		return fmt.Errorf("laying the project out: %w", err)
	}
	if err := d.begin("board", s.URL, "The board and the tide service as they run on our piers"); err != nil {
		return err
	}
	if err := d.tell(); err != nil {
		return err
	}
	return d.booking(s)
}

func (d *telling) tell() error {
	return inOrder(
		d.look,
		d.noWay("Ask for the framework's newest major: a proof why not", world.Request{To: []string{demoDestination}}),
		d.noWay(
			"Ask for a module that needs a newer Go, and hold Go: a proof, and ways out",
			world.Request{To: []string{"brine.example/journal@v1.4"}, Hold: []string{"go"}},
		),
		d.first,
		d.route, d.said, d.repairs("What the rules in the crew's book will repair, each in its leg", "tide-form"),
		d.legs, d.end, d.fresh, d.reporting(demoReport),
	)
}

func (d *telling) look() error {
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
func (d *telling) first() error {
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
func (d *telling) noWay(title string, opt world.Request) func() error {
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

func (d *telling) route() error {
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
func (d *telling) said() error {
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
func (d *telling) repairs(title string, preview ...string) func() error {
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
func (d *telling) legs() error {
	d.chapter("Carry it out, leg by leg", "bellwether advance --all")
	done, err := d.advanceAll()
	if err != nil || done {
		return errors.Join(err, errDemo)
	}
	if err := d.culprit(); err != nil {
		return err
	}
	fmt.Fprint(d.w, "\n$ bellwether advance --all\n\n")
	if done, err = d.advanceAll(); err != nil || done {
		return errors.Join(err, errDemo)
	}
	d.chapter(
		"Repair what the culprit broke, and advance again",
		"edit board/src/departures.js   # bearings writes points out now: ask for letters",
	)
	if err := d.repair(demo.Repair()); err != nil {
		return err
	}
	fmt.Fprint(d.w, "$ bellwether advance --all\n\n")
	if done, err = d.advanceAll(); err != nil || !done {
		return errors.Join(err, errDemo)
	}
	return nil
}

// errDemo is the error of a story that does not go as it is told.
var errDemo = errors.New("the demo went another way than it is meant to")

// advanceAll carries legs out until the route is complete, or one breaks something.
func (d *telling) advanceAll() (complete bool, err error) {
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
		fmt.Fprintln(d.w)
	}
}

// culprit finds which move of the leg breaks it, and parts the leg.
func (d *telling) culprit() error {
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
func (d *telling) repair(files fs.FS) error {
	return fs.WalkDir(files, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(d.dir, filepath.FromSlash(name)), data, 0o644)
	})
}

// fresh compares the board with what a fresh one of the new framework looks like.
func (d *telling) fresh() error {
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
	return d.out.Scaffold(&template.Shown{From: r.From, To: r.To, Comparison: &r.Comparison}, r)
}

// demoReport is the file that the report of the demo is written to, in the project's own folder for such things.
const demoReport = ".git/report.html"

// reporting tells reviewers what the route did, and writes the page.
func (d *telling) reporting(page string) func() error {
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
		fmt.Fprintf(d.w, "The page is in %s\n", f.Name())
		return nil
	}
}

func (d *telling) end() error {
	d.chapter("The end: where the project is now", "bellwether status")
	p, err := d.open()
	if err != nil {
		return err
	}
	s, err := standing.Status(d.ctx, p.Desk, p.Tree, p.Kept)
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
	fmt.Fprintf(d.w, "\n$ git log --oneline\n\n%s\n", log)
	return err
}
