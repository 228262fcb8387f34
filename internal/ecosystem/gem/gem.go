// Package gem is the ecosystem of Bundler: Gemfile and its lock, and the compact index of gem
// servers. A Gemfile is a program, which is read by its tokens and never run.
package gem

import (
	"context"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

// Name is the ecosystem's name and Package URL type.
const Name = "gem"

// Ecosystem implements ecosystem.Ecosystem.
type Ecosystem struct{}

// Kind is "gem".
func (Ecosystem) Kind() string { return Name }

// Type is "gem".
func (Ecosystem) Type() string { return Name }

// Manifests are Gemfile and gems.rb.
func (Ecosystem) Manifests() []string { return []string{"Gemfile", "gems.rb"} }

// Order is the order of gems.
func (Ecosystem) Order() version.Order { return version.Stated{Order: version.Gem{}} }

// OSVName is "RubyGems".
func (Ecosystem) OSVName() string { return "RubyGems" }

// OSVVersion is the version as it is.
func (Ecosystem) OSVVersion(text string) string { return text }

// Supports nothing: a gem has one version in all of an application.
func (Ecosystem) Supports() ecosystem.Support { return ecosystem.Support{} }

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

// lockOf is the lock that belongs to a manifest.
func lockOf(manifest string) string {
	if path.Base(manifest) == "gems.rb" {
		return path.Join(path.Dir(manifest), "gems.locked")
	}
	return manifest + ".lock"
}

// project is what the ecosystem keeps of a component between reading and resolving.
type project struct {
	dir      string
	gemfile  *gemfile
	manifest []byte
	lock     *lock // nil for none
	lockText []byte
	asked    []model.Requirement // what has a line among the lock's dependencies
	specced  []declared          // what the gemspecs declare
	// stated are what the gems of the project itself ask for in their gemspecs, by gem and name.
	stated   map[string]map[string]model.Requirement
	statedIn map[string]string // those gemspecs, by gem
	vague    map[string]bool   // those whose gemspec asks for something under a condition, or computes it
}

// Read reads the component in dir.
func (e Ecosystem) Read(x *ecosystem.Index, dir string) (*model.Component, error) {
	return readProject(x.FS, dir)
}

// Packages are the gems that the lock has.
func (Ecosystem) Packages(c *model.Component) (all []model.Package) {
	p := c.Detail.(*project)
	if p.lock == nil {
		return nil
	}
	via := p.lock.via(c.Requirements)
	for _, s := range p.lock.gems() {
		pkg := model.Package{Subject: model.Subject{Kind: Name, Name: s.name}, Version: s.version, Via: via[s.name].path}
		if at := via[s.name].site; at >= 0 {
			pkg.Site = c.Requirements[at].Site
		}
		all = append(all, pkg)
	}
	return all
}

// Stages are Bundler's frozen install, and the tests by what the project has.
func (Ecosystem) Stages(c *model.Component) []model.Stage {
	p := c.Detail.(*project)
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
	has := func(name string) bool { return p.gemfile.has[name] || p.lock != nil && p.lock.has(name) }
	var test model.Stage
	switch {
	case has("rspec") || has("rspec-core"):
		test = stage("test", "bundle", "exec", "rspec")
	case p.gemfile.has["rails"]:
		test = stage("test", "bundle", "exec", "rails", "test", "-v")
	case p.gemfile.rakefile && has("rake"):
		test = stage("test", "bundle", "exec", "rake")
		test.Env = append(slices.Clone(env), "TESTOPTS=-v") // each test by its name
	case has("minitest") && p.gemfile.tests:
		each := `Dir["test/**/*_test.rb"].sort.each { |f| require "./#{f}" }`
		test = stage("test", "bundle", "exec", "ruby", "-Itest", "-Ilib", "-e", each, "--", "-v")
	case p.gemfile.rakefile:
		test = skipped("test", "there is a Rakefile, and no rake in the Gemfile to run it")
	default:
		test = skipped("test", "no rspec, rake or minitest was found")
	}
	return []model.Stage{stage("fetch", "bundle", "install"), skipped("build", "Ruby is not built"), test}
}

// Connect gives the gem servers that the component in dir uses.
func (Ecosystem) Connect(ctx context.Context, s ecosystem.Surroundings, dir string) (ecosystem.Registry, error) {
	return connect(ctx, s, dir)
}

// fullName is how a lock and an index name a gem of a platform: "1.14.2-x86_64-linux".
func fullName(version, platform string) string {
	if platform == "" || platform == "ruby" {
		return version
	}
	return version + "-" + platform
}

// splitPlatform parts a version from a platform behind it. A version has no hyphen in what gem
// servers list.
func splitPlatform(text string) (version, platform string) {
	version, platform, _ = strings.Cut(text, "-")
	return version, platform
}
