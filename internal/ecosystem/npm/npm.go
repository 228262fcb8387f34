// Package npm is the ecosystem of npm: package.json, package-lock.json and
// the npm registry protocol.
package npm

import (
	"context"
	"io/fs"
	"path"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// Name is the ecosystem's name and Package URL type.
const Name = "npm"

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Name is "npm".
func (Ecosystem) Name() string { return Name }

// Manifest is "package.json".
func (Ecosystem) Manifest() string { return "package.json" }

// Order is npm's version order.
func (Ecosystem) Order() version.Order { return version.NPM{} }

// Detect finds folders with a package.json. Workspace members belong to their
// root's component and are left out, as is everything in node_modules and in
// folders whose names start with a dot.
func (Ecosystem) Detect(fsys fs.FS) ([]string, error) {
	var dirs []string
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && name != "." && (d.Name() == "node_modules" || d.Name()[0] == '.') {
			return fs.SkipDir
		}
		if d.Type().IsRegular() && d.Name() == "package.json" {
			dirs = append(dirs, path.Dir(name))
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(dirs)
	members := map[string]bool{}
	for _, dir := range dirs {
		if members[dir] {
			continue
		}
		// A manifest that cannot be read is told when it is read for itself.
		if p, err := readManifests(fsys, dir); err == nil {
			for _, top := range p.tops {
				members[top.dir] = true
			}
		}
	}
	return slices.DeleteFunc(dirs, func(dir string) bool { return members[dir] }), nil
}

// Read reads the component in dir.
func (Ecosystem) Read(fsys fs.FS, dir string) (*model.Component, error) {
	p, err := readProject(fsys, dir)
	if err != nil {
		return nil, err
	}
	return p.component(), nil
}

// Connect gives the registries that the component in dir uses.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	read := readSettings(s.Files, dir, s.Home, s.Env, s.Environ)
	return s.Shared(read.digest(dir), func() (ecosystem.Registry, error) { return connect(ctx, s, read, dir) })
}

// Stages are npm's clean install, and the scripts of the manifest that build
// and test.
func (Ecosystem) Stages(c *model.Component) []model.Stage {
	p := c.Detail.(*project)
	fetch := model.Stage{Name: "fetch", Dir: c.Dir, Command: []string{"npm", "ci", "--no-audit", "--no-fund"}}
	run, byHand := []string{"npm", "run", "--silent"}, ""
	switch {
	case p.foreign != nil:
		fetch.Command, fetch.Refreshes, fetch.ByHand = p.foreign.fetch, []string{p.foreign.file}, p.foreign.byHand()
		run, byHand = []string{p.foreign.client, "run"}, p.foreign.client+" is not installed here"
	case p.lock == nil:
		fetch.Command = []string{"npm", "install", "--no-audit", "--no-fund", "--no-package-lock"}
	}
	stages := []model.Stage{fetch}
	scripts := p.root.doc.Get("scripts")
	for _, name := range []string{"build", "test"} {
		stage := model.Stage{Name: name, Dir: c.Dir, Command: append(slices.Clone(run), name), ByHand: byHand}
		if scripts.Get(name) == nil {
			stage.Skip = "package.json has no script of this name"
		}
		stages = append(stages, stage)
	}
	return stages
}

// Tools are Node.js and npm.
func (Ecosystem) Tools() [][]string {
	return [][]string{{"node", "--version"}, {"npm", "--version"}}
}
