// Package work opens projects. The use cases are in the rooms below.
package work

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/host/run"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/verify"
)

// Project is what a call opens: what use cases are handed.
type Project struct {
	Desk *desk.Desk
	Tree *tree.Tree
	Kept *kept.Store
}

// Open reads the project in a folder: its settings and its components. What an interrupted
// call left half done is put right first. Nothing but git is run and nothing is asked of the
// network.
func Open(ctx context.Context, opt desk.Options) (*Project, error) {
	d, err := desk.New(opt)
	if err != nil {
		return nil, &model.Fault{Doing: "opening the project", File: opt.Dir, Wrong: model.Reason(err)}
	}
	p := &Project{Desk: d, Kept: kept.In(d.Root, d.Files, d.Aside)}
	if names := run.CalledByGit(); len(names) > 0 {
		d.Aside(
			fmt.Sprintf(
				"a git is calling (it set %s): this is about the project in %s, whatever repository that git is at work on",
				strings.Join(names, ", "), d.Root,
			),
		)
	}
	mended, err := p.Kept.Recover(ctx)
	if mended != "" {
		d.Tell(desk.Event{Text: "an earlier call was interrupted " + mended, Done: true, Good: true, Always: true})
	}
	if err != nil {
		return nil, err
	}
	s, err := settings.Read(d.Files)
	if err != nil {
		return nil, err
	}
	d.Set(s)
	p.Tree, err = tree.Read(tree.Source{
		FS: d.Files, Settings: s, Real: d.Files.Real, Table: opt.Ecosystems,
		Ignored: func(dirs []string) map[string]bool { return p.ignored(ctx, dirs) },
		Reading: func(dir string) { d.Doing("reading the component " + dir) },
	})
	if err != nil {
		return nil, err
	}
	if err := p.holdsSomething(); err != nil {
		return nil, err
	}
	return p, verify.CheckStages(d, p.Tree)
}

// ignored tells which folders git is told to ignore: what is built there is nobody's to move.
func (p *Project) ignored(ctx context.Context, dirs []string) (ignored map[string]bool) {
	repo, err := p.Kept.OpenRepo(ctx)
	if err == nil && repo != nil {
		ignored, err = repo.Ignored(ctx, p.Desk.Root, dirs)
	}
	if err != nil {
		why := err.Error()
		if fault := (*model.Fault)(nil); errors.As(err, &fault) {
			why = fault.Wrong
		}
		p.Desk.Aside("what git is told to ignore cannot be known, and nothing is left out for it: " + why)
	}
	return ignored
}

// holdsSomething refuses a folder in which there is nothing to move: no component, and no
// file that states a runtime.
func (p *Project) holdsSomething() error {
	if len(p.Tree.Parts) > 0 {
		return nil
	}
	places, err := p.Tree.Places()
	if err != nil || len(places.Groups) > 0 {
		return err
	}
	manifests := p.Tree.Table.Manifests()
	if found := p.Tree.Files.Named(manifests, func(string) bool { return false }); len(found) > 0 {
		return &model.Fault{
			Doing: "looking for components", File: p.Desk.Options.Dir, Next: "look at components in bellwether.yaml, and at .gitignore",
			Wrong: "what is there does not count (" + spelling.Few(found, 3) + "): it belongs to another manifest, lies in a folder for " +
				"what is built or installed, or is left out by the settings or by git",
		}
	}
	return &model.Fault{
		Doing: "looking for components", File: p.Desk.Options.Dir, Next: "give the project's folder with --project",
		Wrong: "there is no " + strings.Join(manifests, " and no ") + " here or below, and no file that states a runtime",
	}
}
