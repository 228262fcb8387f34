package resolving

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
)

// withFirstLock is the project with a lock that names no gems of servers yet, for the platform at hand. A
// Gemfile that computes what it asks for has none: nobody but Ruby can tell what it says.
func withFirstLock(ctx context.Context, r *registry.Registry, p *project.Project) (*project.Project, error) {
	file := lock.For(p.Gemfile.Main)
	fault := func(at model.Site, wrong string) error {
		return &model.Fault{
			Doing: "writing a first lock", File: at.File, Line: at.Line, Wrong: wrong, Next: "write one with bundle lock, and commit it",
		}
	}
	if at := p.Gemfile.Computes; at.File != "" {
		return nil, fault(at, "what is asked for here is computed, or depends on a condition")
	}
	platform, err := r.Around.Ask(ctx, "gem", "env", "platform")
	platform = platform[strings.LastIndexByte(platform, ':')+1:]
	if err != nil || !registry.PlatformName.MatchString(platform) {
		return nil, fault(model.Site{File: p.Gemfile.Main}, "RubyGems cannot be asked for which platform it is to be")
	}
	l := &lock.Lock{File: file, Named: map[string]*lock.Spec{}, Platforms: []string{platform}}
	if l.Sections, err = ownFolders(r, p, fault); err != nil {
		return nil, err
	}
	for _, s := range l.Sections {
		for _, one := range s.Specs {
			l.Named[one.Name] = one
			l.All = append(l.All, one)
		}
	}
	global := &lock.Section{Kind: "GEM"}
	for _, source := range r.Sources {
		plain, _ := harmless.WithoutLogin(source)
		global.Head = append(global.Head, "remote: "+plain)
	}
	global.Head = append(global.Head, "specs:")
	asked := &lock.Section{Kind: "DEPENDENCIES"}
	for own := range p.Stated {
		asked.Lines = append(asked.Lines, "  "+own+"!")
	}
	l.Sections = append(l.Sections, global, &lock.Section{Kind: "PLATFORMS", Lines: []string{"  " + platform}}, asked)
	if text, err := r.Around.Ask(ctx, "ruby", "--version"); err == nil && p.Gemfile.Ruby {
		if m := rubyWhole.FindString(text); m != "" {
			l.Sections = append(l.Sections, &lock.Section{Kind: "RUBY VERSION", Lines: []string{"   " + m}})
		}
	}
	if text, err := r.Around.Ask(ctx, "bundle", "--version"); err == nil {
		if m := bundlerVersion.FindStringSubmatch(text); m != nil {
			l.Sections = append(l.Sections, &lock.Section{Kind: "BUNDLED WITH", Lines: []string{"   " + m[1]}})
		}
	}
	with := *p
	with.Lock = l
	return &with, nil
}

var (
	rubyWhole      = lazyregexp.New(`^ruby [0-9.]+(?:p[0-9]+)?`)
	bundlerVersion = lazyregexp.New(`([0-9]+(?:\.[0-9]+)+(?:\.[a-z0-9]+)?)\s*$`)
)

// ownFolders are the sections PATH: of gems in folders of the project, the project itself among them.
func ownFolders(r *registry.Registry, p *project.Project, fault func(at model.Site, wrong string) error) (all []*lock.Section, err error) {
	of := map[string]*lock.Section{}
	in := func(folder string) *lock.Section {
		if of[folder] == nil {
			of[folder] = &lock.Section{Kind: "PATH", Head: []string{"remote: " + folder, "specs:"}}
			all = append(all, of[folder])
		}
		return of[folder]
	}
	add := func(folder, name, version string, at model.Site) error {
		files := specFiles(r, path.Join(p.Dir, folder))
		for _, one := range readSpecFiles(files) {
			if one.Name == name {
				if !placeable(one) {
					return fault(at, fmt.Sprintf("the gemspec of %s computes its version or what it asks for, which is not read here", name))
				}
				in(folder).Specs = append(in(folder).Specs, one)
				return nil
			}
		}
		if version == "" {
			return fault(at, fmt.Sprintf("there is no gemspec of %s in %s", name, folder))
		}
		in(folder).Specs = append(in(folder).Specs, &lock.Spec{Name: name, Version: version})
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(p.Stated)) {
		folder := path.Dir(p.StatedIn[name])
		if p.Dir != "." {
			folder = strings.TrimPrefix(strings.TrimPrefix(folder, p.Dir), "/")
		}
		if err := add(cmp.Or(folder, "."), name, "", model.Site{File: p.StatedIn[name]}); err != nil {
			return nil, err
		}
	}
	for _, d := range p.Gemfile.Gems {
		if d.Path == "" {
			continue
		}
		if err := add(d.Path, d.Name, strings.TrimSpace(strings.TrimPrefix(d.Rng, "=")), model.Site{File: d.File, Line: d.Line}); err != nil {
			return nil, err
		}
	}
	for _, s := range all {
		slices.SortFunc(s.Specs, func(a, b *lock.Spec) int { return strings.Compare(a.Name, b.Name) })
	}
	slices.SortFunc(all, func(a, b *lock.Section) int { return strings.Compare(a.Remotes()[0], b.Remotes()[0]) })
	return all, nil
}

// specFiles are the gemspecs in a folder of the project, with the files that tell their versions.
func specFiles(r *registry.Registry, folder string) map[string][]byte {
	files := map[string][]byte{}
	_ = fs.WalkDir(r.Around.Files, folder, func(name string, d fs.DirEntry, err error) error {
		depth := strings.Count(strings.TrimPrefix(name, folder), "/")
		switch base := path.Base(name); {
		case err != nil:
			return nil // what cannot be read says nothing
		case d.IsDir() && name != folder && (base[0] == '.' || base == "vendor" || base == "node_modules" || depth > 4):
			return fs.SkipDir
		case !d.IsDir() && tellsVersion(strings.TrimPrefix(name, folder+"/")) && len(files) < maxSpecFiles:
			if text, err := fs.ReadFile(r.Around.Files, name); err == nil {
				files[name] = text
			}
		}
		return nil
	})
	return files
}

// maxSpecFiles bounds how many files are looked at for the versions of gems in folders.
const maxSpecFiles = 1000

// tellsVersion tells whether a file of a repository or folder is a gemspec, or one that gemspecs take their
// versions from.
func tellsVersion(name string) bool {
	base := path.Base(name)
	return path.Ext(name) == ".gemspec" && strings.Count(name, "/") <= 2 || base == "version.rb" || strings.HasSuffix(base, "VERSION")
}

// readSpecFiles are the gems of gemspecs, sorted. One whose version is computed, or what it asks for, has none.
func readSpecFiles(files map[string][]byte) (specs []*lock.Spec) {
	for name, text := range files {
		if path.Ext(name) != ".gemspec" {
			continue
		}
		one := &lock.Spec{Name: strings.TrimSuffix(path.Base(name), ".gemspec"), Version: gemfile.SpecVersion(name, string(text), files)}
		for _, d := range gemfile.SpecDependencies(name, string(text), files).Gems {
			if d.Group != gemfile.Development && d.Fixed == gemfile.ComputedVersion {
				one.Version = "" // what it asks for is not known
			} else if d.Group != gemfile.Development {
				one.Deps = append(one.Deps, lock.NewDep(d.Name, d.Rng))
			}
		}
		slices.SortFunc(one.Deps, func(a, b lock.Dep) int { return strings.Compare(a.Name, b.Name) })
		specs = append(specs, one)
	}
	slices.SortFunc(specs, func(a, b *lock.Spec) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Version, b.Version))
	})
	return specs
}

// placeable tells whether a gem has a version that a lock can have.
func placeable(one *lock.Spec) bool {
	_, err := version.Gem{}.Parse(one.Version)
	return err == nil && one.Version != ""
}
