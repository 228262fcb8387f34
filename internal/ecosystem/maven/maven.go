// Package maven is the ecosystem of Maven: projects that state a version in one place and use it in many,
// inherit it from a parent or import lists of versions.
package maven

import (
	"context"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/maven/project"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Kind is "maven".
func (Ecosystem) Kind() string { return project.Name }

// Type is "maven", which Gradle's packages have, too.
func (Ecosystem) Type() string { return mavenrepo.Type }

// Manifests are pom.xml.
func (Ecosystem) Manifests() []string { return []string{"pom.xml"} }

// Order is Maven's.
func (Ecosystem) Order() version.Order { return version.Stated{Order: version.Maven{}} }

// OSVName is "Maven".
func (Ecosystem) OSVName() string { return "Maven" }

// OSVVersion is the version as it is.
func (Ecosystem) OSVVersion(text string) string { return text }

// Supports a version of its own for each place that states one.
func (Ecosystem) Supports() ecosystem.Support { return ecosystem.Support{Places: true, Apart: true} }

// Tools are Maven and Java.
func (Ecosystem) Tools() [][]string { return [][]string{{"mvn", "--version"}, {"java", "-version"}} }

// Detect finds the folders of projects that are no module of another one.
func (e Ecosystem) Detect(x *ecosystem.Index) (dirs []string, err error) {
	files := x.Named(e.Manifests(), func(folder string) bool { return folder == "target" || folder[0] == '.' || folder == "node_modules" })
	module := map[string]bool{}
	for _, file := range files {
		src, err := fs.ReadFile(x.FS, file)
		if err != nil || len(src) > mavenrepo.MaxPOM {
			continue // reading it tells what is wrong
		}
		if p, err := pom.ReadPOM(file, src, true, &pom.Config{Environment: &mavenrepo.Environment{}}, nil); err == nil {
			for _, m := range p.AllModules() {
				module[pom.ModuleFile(file, m)] = true
			}
		}
	}
	for _, file := range files {
		if !module[file] && !fixture(file, files) {
			dirs = append(dirs, path.Dir(file))
		}
	}
	slices.Sort(dirs)
	return slices.Compact(dirs), nil
}

// fixture tells of a pom that lies below the sources of another project, and that no build of it reads: data of its tests, or a
// template.
func fixture(file string, all []string) bool {
	return slices.ContainsFunc(all, func(o string) bool {
		rest, below := strings.CutPrefix(file, strings.TrimPrefix(path.Join(path.Dir(o), "src")+"/", "./"))
		return below && rest != "" && o != file
	})
}

// Read reads a project with its modules.
func (Ecosystem) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	c, err := project.Read(x.FS, dir)
	if err != nil {
		return nil, err
	}
	var own, fixtures []string
	for _, one := range c.Detail.(*project.Project).Own {
		own = append(own, one.File)
	}
	for _, file := range x.Named([]string{"pom.xml"}, func(folder string) bool { return folder == "target" || folder[0] == '.' }) {
		if !slices.Contains(own, file) && fixture(file, own) {
			fixtures = append(fixtures, file)
		}
	}
	if len(fixtures) > 0 {
		c.Notes = append(c.Notes, "no build reads "+spelling.Few(fixtures, 3)+", which were not looked at")
	}
	return c, nil
}

// Packages are what the files themselves ask for, imported lists of versions among them.
func (Ecosystem) Packages(c *model.Component) (all []model.Package) {
	for _, q := range c.Requirements {
		if q.Locked != "" && q.Group != "dependencyManagement" {
			all = append(all, model.Package{Subject: q.Subject, Version: q.Locked, Site: q.Site})
		}
	}
	return all
}

// Stages are the wrapper's, or the installed client's: compile, and verify with the tests' results.
func (Ecosystem) Stages(c *model.Component) []model.Stage {
	p := c.Detail.(*project.Project)
	mvn := p.Wrapper
	if mvn == "" {
		mvn = "mvn"
	}
	return []model.Stage{
		{Name: "fetch", Dir: c.Dir, Skip: "Maven fetches what it needs when it builds"},
		{Name: "build", Dir: c.Dir, Command: []string{mvn, "-B", "-ntp", "test-compile"}},
		{Name: "test", Dir: c.Dir, Command: []string{mvn, "-B", "-ntp", "verify"}, Results: []string{
			"**/target/surefire-reports/TEST-*.xml", "**/target/failsafe-reports/TEST-*.xml",
		}},
	}
}

// Connect gives the repositories that the component in dir uses.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	r, err := registry.Connect(ctx, s, dir)
	if err != nil {
		return nil, err
	}
	return &registries{r}, nil
}
