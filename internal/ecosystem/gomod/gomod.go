// Package gomod is the ecosystem of Go modules: go.mod, go.sum, go.work, the
// module proxy protocol, and minimal version selection, after the Go Modules
// Reference (https://go.dev/ref/mod).
package gomod

import (
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	versions "bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/selection"
)

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Kind is "golang".
func (Ecosystem) Kind() string { return project.Name }

// Type is "golang".
func (Ecosystem) Type() string { return project.Name }

// Manifests are those named go.mod.
func (Ecosystem) Manifests() []string { return []string{"go.mod"} }

// OSVName is "Go".
func (Ecosystem) OSVName() string { return "Go" }

// OSVVersion adds the "v" that records leave out.
func (Ecosystem) OSVVersion(text string) string {
	if text != "" && text != "0" && !strings.HasPrefix(text, "v") {
		return "v" + text
	}
	return text
}

// Order is that of module versions, and of releases of Go for the go line.
func (Ecosystem) Order() versions.Order { return selection.Order{} }

// Detect finds folders with a go.mod. What the go command ignores is left out:
// vendor, testdata, and names that start with a dot or an underscore.
func (e Ecosystem) Detect(x *ecosystem.Index) (dirs []string, err error) {
	for _, file := range x.Named(e.Manifests(), imports.IgnoredDir) {
		dirs = append(dirs, path.Dir(file))
	}
	slices.Sort(dirs)
	return dirs, nil
}

// Packages are the modules that go.mod requires; from Go 1.17 on these are all
// that the module's packages are built from. What Go they need is stated in
// go.mod itself, which is never lower.
func (Ecosystem) Packages(c *model.Component) []model.Package {
	var all []model.Package
	for _, r := range c.Requirements {
		pkg := model.Package{Subject: r.Subject, Version: r.Locked, Site: r.Site}
		if r.Subject == project.RuntimeGo {
			pkg = model.Package{
				Subject: model.Subject{Kind: project.Name, Name: c.Name}, Site: r.Site,
				Needs: []model.Need{{Subject: project.RuntimeGo, Range: ">=" + r.Locked}},
			}
		}
		all = append(all, pkg)
	}
	return all
}

// Stages are to fetch, build, vet and test with the go command. A vendored
// module has its vendor folder written anew in the fetch stage, and go.work.sum gets
// there what the workspace as a whole needs.
func (Ecosystem) Stages(c *model.Component) []model.Stage {
	p := c.Detail.(*project.Project)
	fetch := model.Stage{Name: "fetch", Dir: c.Dir, Command: []string{"go", "mod", "download"}}
	if p.Work != nil && p.Work.SumFile != "" {
		fetch.Refreshes = []string{p.Work.SumFile}
	}
	if p.Vendored {
		fetch.Command = []string{"go", "mod", "vendor"}
		fetch.Refreshes = append(fetch.Refreshes, path.Join(c.Dir, "vendor"))
	}
	stages := []model.Stage{
		fetch,
		{Name: "build", Dir: c.Dir, Command: []string{"go", "build", "./..."}},
		{Name: "vet", Dir: c.Dir, Command: []string{"go", "vet", "./..."}, Optional: true},
		{Name: "test", Dir: c.Dir, Command: []string{"go", "test", "-count=1", "-json", "./..."}},
	}
	if p.Apart {
		for i := range stages {
			stages[i].Env = []string{"GOWORK=off"} // or the go command refuses the folder
		}
	}
	return stages
}

// Supports nothing: a module has one version in all of a build.
func (Ecosystem) Supports() ecosystem.Support { return ecosystem.Support{} }

// Tools is the go command.
func (Ecosystem) Tools() [][]string { return [][]string{{"go", "version"}} }
