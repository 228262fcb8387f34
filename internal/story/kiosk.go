package story

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"bellwether/demo"
	"bellwether/internal/core/model"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

// kiosk is the short story: three packages, a release that breaks a test, what its notes say of it, and the repair.
func (d *telling) kiosk(s *Registries) error {
	if err := demo.LayOutKiosk(d.dir); err != nil {
		return fmt.Errorf("laying the kiosk out: %w", err)
	}
	if err := d.begin(".", s.URL, "The ticket kiosk as it stands on the pier"); err != nil {
		return err
	}
	fmt.Fprint(d.w, `Saltmarsh Ferries print their tickets at a kiosk. It is a small program in JavaScript, with
three packages and two tests, and nobody has touched it for years.
`)
	return inOrder(d.look, d.kioskRoute, d.kioskBreaks, d.kioskRepair, d.end)
}

func (d *telling) kioskRoute() error {
	d.chapter("Plan: everything to its newest within its major", "bellwether route --reach minor")
	p, err := d.open()
	if err != nil {
		return err
	}
	r, err := plan.Route(d.ctx, p.Desk, p.Tree, p.Kept, world.Request{Reach: "minor"})
	if err != nil {
		return err
	}
	return d.out.Route(r)
}

func (d *telling) kioskBreaks() error {
	d.chapter("Carry it out: built and tested from clean, in a copy", "bellwether advance --all")
	done, err := d.advanceAll()
	if err != nil || done {
		return errors.Join(err, errDemo)
	}
	return nil
}

// kioskRepair does what a person would do, who has read what the leg says, and shows it.
func (d *telling) kioskRepair() error {
	d.chapter("Repair it: letters were wanted, and the notes say how to get them", "git diff src")
	var edits []model.FileEdit
	err := fs.WalkDir(demo.RepairKiosk(), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		old, err := os.ReadFile(filepath.Join(d.dir, filepath.FromSlash(name)))
		if err != nil {
			return err
		}
		fresh, err := fs.ReadFile(demo.RepairKiosk(), name)
		edits = append(edits, model.FileEdit{File: name, Old: old, New: fresh})
		return err
	})
	if err != nil {
		return err
	}
	if err := d.repair(demo.RepairKiosk()); err != nil {
		return err
	}
	fmt.Fprint(d.w, adapt.Diff(edits), "\n$ bellwether advance --all\n\n")
	done, err := d.advanceAll()
	if err != nil || !done {
		return errors.Join(err, errDemo)
	}
	return nil
}

// kioskNext says what can be tried next.
func (d *telling) kioskNext(s *Registries, took float64) {
	fmt.Fprintf(d.w, `
It took %.0f s. The kiosk is in %s, with one commit a leg. What to try next:

  on your own project:       bellwether survey, and then bellwether route --reach minor; neither writes into your files
  the whole job:             bellwether demo --story ferries
  on the kiosk, by hand:     bellwether stand-in --listen %s, in another terminal; then, in its folder:
    what stands in the way:  bellwether route --to bearings@^3
    take it back:            bellwether undo --all
`, took, d.dir, s.Address)
}
