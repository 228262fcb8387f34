// Package gem is the ecosystem of Bundler: Gemfile and its lock, and the compact index of gem
// servers. A Gemfile is a program, which is read by its tokens and never run.
package gem

import (
	"context"
	"path"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
	"bellwether/internal/ecosystem/gem/resolving"
)

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Kind is "gem".
func (Ecosystem) Kind() string { return project.Name }

// Type is "gem".
func (Ecosystem) Type() string { return project.Name }

// Manifests are Gemfile and gems.rb.
func (Ecosystem) Manifests() []string { return []string{"Gemfile", "gems.rb"} }

// Order is the order of gems.
func (Ecosystem) Order() version.Order { return version.Stated{Order: version.Gem{}} }

// OSVName is "RubyGems".
func (Ecosystem) OSVName() string { return "RubyGems" }

// OSVVersion is the version as it is.
func (Ecosystem) OSVVersion(text string) string { return text }

// Supports nothing that is about several versions: a gem has one in all of an application.
func (Ecosystem) Supports() ecosystem.Support { return ecosystem.Support{Indirect: true} }

// Tools are Ruby and Bundler.
func (Ecosystem) Tools() [][]string {
	return [][]string{{"ruby", "--version"}, {"bundle", "--version"}}
}

// Detect finds folders with a Gemfile. What is installed below vendor is nobody's component.
func (e Ecosystem) Detect(x *ecosystem.Index) (dirs []string, err error) {
	for _, file := range x.Named(e.Manifests(), func(folder string) bool { return folder[0] == '.' || folder == "vendor" }) {
		dirs = append(dirs, path.Dir(file))
	}
	slices.Sort(dirs)
	return slices.Compact(dirs), nil
}

// Read reads the component in dir.
func (e Ecosystem) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	return project.Read(x.FS, dir)
}

// Packages are the gems that the lock has.
func (Ecosystem) Packages(c *model.Component) (all []model.Package) {
	p := c.Detail.(*project.Project)
	if p.Lock == nil {
		return nil
	}
	via := p.Lock.Via(c.Requirements)
	for _, s := range p.Lock.Gems() {
		pkg := model.Package{Subject: model.Subject{Kind: project.Name, Name: s.Name}, Version: s.Version, Via: via[s.Name].Path}
		if at := via[s.Name].Site; at >= 0 {
			pkg.Site = c.Requirements[at].Site
		}
		all = append(all, pkg)
	}
	return all
}

// Stages are Bundler's frozen install, and the tests by what the project has.
func (Ecosystem) Stages(c *model.Component) []model.Stage {
	p := c.Detail.(*project.Project)
	env := []string{"BUNDLE_FROZEN=true", "BUNDLE_PATH=" + bundle, "BUNDLE_DISABLE_SHARED_GEMS=true"}
	if path.Base(c.Manifest) == "gems.rb" {
		env = append(env, "BUNDLE_GEMFILE=gems.rb")
	}
	stage := func(name string, command ...string) model.Stage {
		return model.Stage{Name: name, Dir: c.Dir, Command: command, Env: env}
	}
	skipped := func(name, why string) model.Stage {
		return model.Stage{Name: name, Dir: c.Dir, Skip: why, Env: env} // the settings may have a command for it
	}
	has := func(name string) bool { return p.Gemfile.Has[name] || p.Lock != nil && p.Lock.Has(name) }
	var test model.Stage
	switch {
	case has("rspec") || has("rspec-core"):
		test = stage("test", "bundle", "exec", "rspec")
	case p.Gemfile.Has["rails"]:
		test = stage("test", "bundle", "exec", "rails", "test", "-v")
	case p.Gemfile.Rakefile && has("rake"):
		test = stage("test", "bundle", "exec", "rake")
		test.Env = append(slices.Clone(env), "TESTOPTS=-v") // each test by its name
	case has("minitest") && p.Gemfile.Tests:
		each := `Dir["test/**/*_test.rb"].sort.each { |f| require "./#{f}" }`
		test = stage("test", "bundle", "exec", "ruby", "-Itest", "-Ilib", "-e", each, "--", "-v")
	case p.Gemfile.Rakefile:
		test = skipped("test", "there is a Rakefile, and no rake in the Gemfile to run it")
	default:
		test = skipped("test", "no rspec, rake or minitest was found")
	}
	return []model.Stage{stage("fetch", "bundle", "install"), skipped("build", "Ruby is not built"), test}
}

// Connect gives the gem servers that the component in dir uses.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	r, err := registry.Connect(ctx, s, dir)
	if err != nil {
		return nil, err
	}
	return &registries{r}, nil
}

// registries answers from gem servers, and resolves with what they say.
type registries struct{ *registry.Registry }

// Resolve finds versions for the whole component within the bounds of ask.
func (r *registries) Resolve(ctx context.Context, ask ecosystem.Ask) (*contract.State, error) {
	return resolving.Resolve(ctx, r.Registry, ask)
}
