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
)

// Name is the ecosystem's name and Package URL type.
const Name = "golang"

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Kind is "golang".
func (Ecosystem) Kind() string { return Name }

// Type is "golang".
func (Ecosystem) Type() string { return Name }

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
func (Ecosystem) Order() versions.Order { return order{} }

// Detect finds folders with a go.mod. What the go command ignores is left out:
// vendor, testdata, and names that start with a dot or an underscore.
func (e Ecosystem) Detect(x *ecosystem.Index) (dirs []string, err error) {
	for _, file := range x.Named(e.Manifests(), ignoredDir) {
		dirs = append(dirs, path.Dir(file))
	}
	slices.Sort(dirs)
	return dirs, nil
}

// ignoredDir tells of a folder that holds no packages of the module around it.
func ignoredDir(name string) bool {
	return name == "vendor" || name == "testdata" || strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_")
}

// Packages are the modules that go.mod requires; from Go 1.17 on these are all
// that the module's packages are built from. What Go they need is stated in
// go.mod itself, which is never lower.
func (Ecosystem) Packages(c *model.Component) []model.Package {
	var all []model.Package
	for _, r := range c.Requirements {
		pkg := model.Package{Subject: r.Subject, Version: r.Locked, Site: r.Site}
		if r.Subject == runtimeGo {
			pkg = model.Package{
				Subject: model.Subject{Kind: Name, Name: c.Name}, Site: r.Site,
				Needs: []model.Need{{Subject: runtimeGo, Range: ">=" + r.Locked}},
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
	p := c.Detail.(*project)
	fetch := model.Stage{Name: "fetch", Dir: c.Dir, Command: []string{"go", "mod", "download"}}
	if p.work != nil && p.work.sumFile != "" {
		fetch.Refreshes = []string{p.work.sumFile}
	}
	if p.vendored {
		fetch.Command = []string{"go", "mod", "vendor"}
		fetch.Refreshes = append(fetch.Refreshes, path.Join(c.Dir, "vendor"))
	}
	stages := []model.Stage{
		fetch,
		{Name: "build", Dir: c.Dir, Command: []string{"go", "build", "./..."}},
		{Name: "vet", Dir: c.Dir, Command: []string{"go", "vet", "./..."}, Optional: true},
		{Name: "test", Dir: c.Dir, Command: []string{"go", "test", "-count=1", "-json", "./..."}},
	}
	if p.apart {
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

// order tells versions of modules, which start with "v", from releases of Go.
type order struct{}

func dialect(text string) versions.Order {
	if strings.HasPrefix(text, "go") || text != "" && text[0] >= '0' && text[0] <= '9' {
		return versions.GoRelease{}
	}
	return versions.GoMod{}
}

// Parse reads a module version or a release of Go.
func (order) Parse(text string) (versions.Version, error) { return dialect(text).Parse(text) }

// ParseRange reads a version query, of modules or of Go.
func (order) ParseRange(text string) (versions.Range, error) {
	if text == "latest" {
		return latest{}, nil
	}
	return dialect(strings.TrimLeft(text, "<>=")).ParseRange(text)
}

// Step is the size of the step between two versions of one kind.
func (order) Step(from, to versions.Version) versions.Reach {
	return dialect(from.String()).Step(from, to)
}

// Restate gives the new version.
func (o order) Onward(v versions.Version) string { return versions.LineOf(o, v) }

func (order) Restate(_ string, v versions.Version) string { return v.String() }

// latest holds every release, of a module as of Go.
type latest struct{}

func (latest) String() string                   { return "latest" }
func (latest) Contains(v versions.Version) bool { return !v.Preview() }
