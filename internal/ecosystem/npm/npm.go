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

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/npm/npmrc"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/project"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/resolving"
)

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Kind is "npm".
func (Ecosystem) Kind() string { return packagejson.Name }

// Type is "npm".
func (Ecosystem) Type() string { return packagejson.Name }

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
		if p, err := project.ReadManifests(x.FS, dir); err == nil {
			for _, top := range p.Tops {
				members[top.Dir] = true
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
	p, err := project.ReadProject(x.FS, dir)
	if err != nil {
		return nil, err
	}
	return p.Component(), nil
}

// Connect gives the registries that the component in dir uses.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	if _, err := fs.Stat(s.Files, path.Join(dir, ".npmrc")); errors.Is(err, fs.ErrNotExist) {
		// Most components lay nothing down: they all have the person's settings.
		return s.Shared("the person's", func() (ecosystem.Registry, error) {
			return connected(ctx, s, npmrc.Read(s.Files, dir, s.Home, s.Env, s.Environ), dir)
		})
	}
	read := npmrc.Read(s.Files, dir, s.Home, s.Env, s.Environ)
	return s.Shared(read.Digest(dir), func() (ecosystem.Registry, error) { return connected(ctx, s, read, dir) })
}

// registries answers from the registries of a project, and resolves with what they say.
type registries struct{ *registry.Registry }

func connected(ctx context.Context, s ecosystem.Surroundings, read *npmrc.Settings, dir string) (ecosystem.Registry, error) {
	r, err := registry.Connect(ctx, s, read, dir)
	if err != nil {
		return nil, err
	}
	return &registries{r}, nil
}

// Resolve finds a state that meets the goal, or a proof that there is none.
func (r *registries) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	return resolving.Resolve(ctx, r.Registry, ask)
}

// Stages are npm's clean install, and the scripts of the manifest that build
// and test.
func (Ecosystem) Stages(c *model.Component) []model.Stage {
	p := c.Detail.(*project.Project)
	fetch := model.Stage{Name: "fetch", Dir: c.Dir, Command: []string{"npm", "ci", "--no-audit", "--no-fund"}}
	run, byHand := []string{"npm", "run", "--silent"}, ""
	switch {
	case p.Foreign != nil:
		fetch.Command, fetch.Refreshes, fetch.ByHand = p.Foreign.Fetch, []string{p.Foreign.File}, p.Foreign.ByHand()
		run, byHand = []string{p.Foreign.Client, "run"}, p.Foreign.Client+" is not installed here"
	case p.Lock == nil:
		fetch.Command = []string{"npm", "install", "--no-audit", "--no-fund", "--no-package-lock"}
	}
	stages := []model.Stage{fetch}
	scripts := p.Root.Doc.Get("scripts")
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

// Packages are the packages of the lock.
func (Ecosystem) Packages(c *model.Component) []model.Package {
	p := c.Detail.(*project.Project)
	switch {
	case p.Foreign != nil:
		return p.ForeignPackages(c)
	case p.Lock == nil:
		return nil
	}
	return p.InEffect(p.Locked())
}

// BuildsWith are the folders of members and linked packages that lie outside of the component's.
func (Ecosystem) BuildsWith(c *model.Component) (dirs []string) {
	for _, top := range c.Detail.(*project.Project).Tops {
		dirs = append(dirs, top.Dir)
	}
	return dirs
}
