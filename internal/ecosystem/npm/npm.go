// Package npm is the ecosystem of npm: package.json, package-lock.json and
// the npm registry protocol.
package npm

import (
	"bytes"
	"context"
	"errors"
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

// Kind is "npm".
func (Ecosystem) Kind() string { return Name }

// Type is "npm".
func (Ecosystem) Type() string { return Name }

// Manifests are those named package.json.
func (Ecosystem) Manifests() []string { return []string{"package.json"} }

// OSVName is "npm".
func (Ecosystem) OSVName() string { return "npm" }

// OSVVersion is the version as it is.
func (Ecosystem) OSVVersion(text string) string { return text }

// Order is npm's version order.
func (Ecosystem) Order() version.Order { return version.NPM{} }

// Detect finds folders with a package.json. Workspace members belong to their
// root's component and are left out, as is everything in node_modules and in
// folders whose names start with a dot.
func (e Ecosystem) Detect(x *ecosystem.Index) (dirs []string, err error) {
	for _, file := range x.Named(e.Manifests(), func(folder string) bool { return folder[0] == '.' }) {
		dirs = append(dirs, path.Dir(file))
	}
	slices.Sort(dirs)
	members := map[string]bool{}
	for _, dir := range dirs {
		if members[dir] {
			continue
		}
		if !mayHaveTops(x, dir) {
			continue
		}
		// A manifest that cannot be read is told when it is read for itself.
		if p, err := readManifests(x.FS, dir); err == nil {
			for _, top := range p.tops {
				members[top.dir] = true
			}
		}
	}
	return slices.DeleteFunc(dirs, func(dir string) bool { return members[dir] }), nil
}

// mayHaveTops tells whether the manifest in a folder may name members or linked folders.
func mayHaveTops(x *ecosystem.Index, dir string) bool {
	src, err := fs.ReadFile(x.FS, path.Join(dir, "package.json"))
	if err != nil {
		return false
	}
	for _, mark := range []string{"workspaces", "file:", "link:", "portal:", "./", `"."`, `".."`, `"/`, "~/", `\`} {
		if bytes.Contains(src, []byte(mark)) {
			return true
		}
	}
	_, err = fs.Stat(x.FS, path.Join(dir, "pnpm-workspace.yaml"))
	return err == nil
}

// Read reads the component in dir.
func (Ecosystem) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	p, err := readProject(x.FS, dir)
	if err != nil {
		return nil, err
	}
	return p.component(), nil
}

// Connect gives the registries that the component in dir uses.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	if _, err := fs.Stat(s.Files, path.Join(dir, ".npmrc")); errors.Is(err, fs.ErrNotExist) {
		// Most components lay nothing down: they all have the person's settings.
		return s.Shared("the person's", func() (ecosystem.Registry, error) {
			return connect(ctx, s, readSettings(s.Files, dir, s.Home, s.Env, s.Environ), dir)
		})
	}
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

// Supports is all: members of a workspace may each have a version of their own.
func (Ecosystem) Supports() ecosystem.Support {
	return ecosystem.Support{Places: true, Apart: true, Dedupe: true, Everywhere: true}
}

// Tools are Node.js and npm.
func (Ecosystem) Tools() [][]string {
	return [][]string{{"node", "--version"}, {"npm", "--version"}}
}
