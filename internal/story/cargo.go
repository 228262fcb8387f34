package story

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/demo"
	"bellwether/internal/host/git"
	"bellwether/internal/host/run"
	"bellwether/internal/work/look"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/world"
)

// Where the cargo ledger wants to go: to the framework's next major, first without the milestone of a library that
// refers to its old package, then with it.
var (
	cargoFirst = world.Request{To: []string{"keelson:keelson-core@[3,4)"}, Reach: "minor"}
	cargoWish  = world.Request{
		To: []string{"manifest:manifest-kit@[2.0.0-M1,3)", "keelson:keelson-core@[3,4)"}, Reach: "major",
	}
)

const cargoPreview = "manifest:manifest-kit"

// cargo is a part of the demo of its own: two modules in Java, a framework whose package was renamed with an exception, and
// a library that compiles beside it and still refers to the old one.
func (d *telling) cargo(s *Registries) error {
	if err := s.Artifacts(func(java int, sources map[string][]byte, beside [][]byte) ([]byte, error) {
		return compileJava(d.ctx, java, sources, beside)
	}); err != nil {
		return err
	}
	if err := demo.LayOutCargo(d.dir, s.Maven(""), s.Maven("milestones")); err != nil {
		return fmt.Errorf("laying the cargo ledger out: %w", err)
	}
	_, err := git.Init(d.ctx, d.dir, "Saltmarsh Ferries", "crew@saltmarsh.example", "The cargo ledger as it runs at the crane")
	if err != nil {
		return err
	}
	return inOrder(
		d.look, d.cargoPrereqs, d.cargoRoute("The framework's next major: what would refer to nothing", cargoFirst),
		d.cargoRoute("Take the milestone that fits: a route", cargoWish, cargoPreview),
		d.repairs("What the crew's rule will repair: the package, but for what tells the tides", cargoPreview),
		d.cargoLegs, d.end, d.reporting(demoReport),
	)
}

func (d *telling) cargoPrereqs() error {
	d.chapter("What must be true first: a newer Java, stated in four places", "bellwether prereqs --to '"+cargoFirst.To[0]+"'")
	p, err := d.open()
	if err != nil {
		return err
	}
	r, err := look.Prereqs(d.ctx, p.Desk, p.Tree, cargoFirst, false)
	if err != nil {
		return err
	}
	return d.out.Prereqs(r)
}

func (d *telling) cargoRoute(title string, wish world.Request, preview ...string) func() error {
	return func() error {
		command := "bellwether route --to '" + strings.Join(wish.To, "' --to '") + "' --reach " + wish.Reach
		for _, name := range preview {
			command += " --preview " + name
		}
		d.chapter(title, command)
		p, err := d.open(preview...)
		if err != nil {
			return err
		}
		r, err := plan.Route(d.ctx, p.Desk, p.Tree, p.Kept, wish)
		if err != nil {
			return err
		}
		return d.out.Route(r)
	}
}

func (d *telling) cargoLegs() error {
	d.chapter("Carry it out, leg by leg", "bellwether advance --all")
	if done, err := d.advanceAll(); err != nil || !done {
		return errors.Join(err, errDemo)
	}
	return nil
}

// compileJava makes an archive of sources.
func compileJava(ctx context.Context, java int, sources map[string][]byte, beside [][]byte) ([]byte, error) {
	dir, err := os.MkdirTemp("", "bellwether-javac-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	command := []string{"javac", "--release", fmt.Sprint(java), "-d", filepath.Join(dir, "classes")}
	var path []string
	for i, archive := range beside {
		file := filepath.Join(dir, fmt.Sprintf("beside%d.jar", i))
		if err := os.WriteFile(file, archive, 0o600); err != nil {
			return nil, err
		}
		path = append(path, file)
	}
	command = append(command, "-cp", strings.Join(path, string(os.PathListSeparator)))
	var files []string
	for name, text := range sources {
		file := filepath.Join(dir, "sources", filepath.FromSlash(name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, text, 0o600)); err != nil {
			return nil, err
		}
		files = append(files, file)
	}
	slices.Sort(files)
	if _, err := run.Output(ctx, append(command, files...)...); err != nil {
		return nil, fmt.Errorf("compiling the packages of the demo: %w", err)
	}
	return packed(os.DirFS(filepath.Join(dir, "classes")))
}

// packed is an archive of the files in a folder.
func packed(classes fs.FS) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	if err := z.AddFS(classes); err != nil {
		return nil, err
	}
	err := z.Close()
	return b.Bytes(), err
}
