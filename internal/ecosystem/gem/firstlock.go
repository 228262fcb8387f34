package gem

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
)

// withFirstLock is the project with a lock that names no gems of servers yet, for the platform at hand. A
// Gemfile that computes what it asks for has none: nobody but Ruby can tell what it says.
func (r *registry) withFirstLock(ctx context.Context, p *project) (*project, error) {
	file := lockOf(p.gemfile.main)
	fault := func(at model.Site, wrong string) error {
		return &model.Fault{
			Doing: "writing a first lock", File: at.File, Line: at.Line, Wrong: wrong, Next: "write one with bundle lock, and commit it",
		}
	}
	if at := p.gemfile.computes; at.File != "" {
		return nil, fault(at, "what is asked for here is computed, or depends on a condition")
	}
	platform, err := r.around.Ask(ctx, "gem", "env", "platform")
	platform = platform[strings.LastIndexByte(platform, ':')+1:]
	if err != nil || !platformName.MatchString(platform) {
		return nil, fault(model.Site{File: p.gemfile.main}, "RubyGems cannot be asked for which platform it is to be")
	}
	l := &lock{file: file, named: map[string]*spec{}, platforms: []string{platform}}
	if l.sections, err = r.ownFolders(p, fault); err != nil {
		return nil, err
	}
	for _, s := range l.sections {
		for _, one := range s.specs {
			l.named[one.name] = one
			l.all = append(l.all, one)
		}
	}
	global := &section{kind: "GEM"}
	for _, source := range r.sources {
		plain, _ := harmless.WithoutLogin(source)
		global.head = append(global.head, "remote: "+plain)
	}
	global.head = append(global.head, "specs:")
	asked := &section{kind: "DEPENDENCIES"}
	for own := range p.stated {
		asked.lines = append(asked.lines, "  "+own+"!")
	}
	l.sections = append(l.sections, global, &section{kind: "PLATFORMS", lines: []string{"  " + platform}}, asked)
	if text, err := r.around.Ask(ctx, "ruby", "--version"); err == nil && p.gemfile.ruby {
		if m := rubyWhole.FindString(text); m != "" {
			l.sections = append(l.sections, &section{kind: "RUBY VERSION", lines: []string{"   " + m}})
		}
	}
	if text, err := r.around.Ask(ctx, "bundle", "--version"); err == nil {
		if m := bundlerVersion.FindStringSubmatch(text); m != nil {
			l.sections = append(l.sections, &section{kind: "BUNDLED WITH", lines: []string{"   " + m[1]}})
		}
	}
	with := *p
	with.lock = l
	return &with, nil
}

var (
	rubyWhole      = lazyregexp.New(`^ruby [0-9.]+(?:p[0-9]+)?`)
	bundlerVersion = lazyregexp.New(`([0-9]+(?:\.[0-9]+)+(?:\.[a-z0-9]+)?)\s*$`)
)

// ownFolders are the sections PATH: of gems in folders of the project, the project itself among them.
func (r *registry) ownFolders(p *project, fault func(at model.Site, wrong string) error) (all []*section, err error) {
	of := map[string]*section{}
	in := func(folder string) *section {
		if of[folder] == nil {
			of[folder] = &section{kind: "PATH", head: []string{"remote: " + folder, "specs:"}}
			all = append(all, of[folder])
		}
		return of[folder]
	}
	add := func(folder, name, version string, at model.Site) error {
		files := r.specFiles(path.Join(p.dir, folder))
		for _, one := range readSpecFiles(files) {
			if one.name == name {
				if !placeable(one) {
					return fault(at, fmt.Sprintf("the gemspec of %s computes its version, which is not read here", name))
				}
				in(folder).specs = append(in(folder).specs, one)
				return nil
			}
		}
		if version == "" {
			return fault(at, fmt.Sprintf("there is no gemspec of %s in %s", name, folder))
		}
		in(folder).specs = append(in(folder).specs, &spec{name: name, version: version})
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(p.stated)) {
		folder := path.Dir(p.statedIn[name])
		if p.dir != "." {
			folder = strings.TrimPrefix(strings.TrimPrefix(folder, p.dir), "/")
		}
		if err := add(cmp.Or(folder, "."), name, "", model.Site{File: p.statedIn[name]}); err != nil {
			return nil, err
		}
	}
	for _, d := range p.gemfile.gems {
		if d.path == "" {
			continue
		}
		if err := add(d.path, d.name, strings.TrimSpace(strings.TrimPrefix(d.rng, "=")), model.Site{File: d.file, Line: d.line}); err != nil {
			return nil, err
		}
	}
	for _, s := range all {
		slices.SortFunc(s.specs, func(a, b *spec) int { return strings.Compare(a.name, b.name) })
	}
	slices.SortFunc(all, func(a, b *section) int { return strings.Compare(a.remotes()[0], b.remotes()[0]) })
	return all, nil
}

// specFiles are the gemspecs in a folder of the project, with the files that tell their versions.
func (r *registry) specFiles(folder string) map[string][]byte {
	files := map[string][]byte{}
	_ = fs.WalkDir(r.around.Files, folder, func(name string, d fs.DirEntry, err error) error {
		depth := strings.Count(strings.TrimPrefix(name, folder), "/")
		switch base := path.Base(name); {
		case err != nil:
			return nil // what cannot be read says nothing
		case d.IsDir() && name != folder && (base[0] == '.' || base == "vendor" || base == "node_modules" || depth > 4):
			return fs.SkipDir
		case !d.IsDir() && tellsVersion(strings.TrimPrefix(name, folder+"/")) && len(files) < maxSpecFiles:
			if text, err := fs.ReadFile(r.around.Files, name); err == nil {
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
	return path.Ext(name) == ".gemspec" && strings.Count(name, "/") <= 2 || path.Base(name) == "version.rb" || path.Base(name) == "VERSION"
}

// readSpecFiles are the gems of gemspecs, sorted. One whose version is computed has none.
func readSpecFiles(files map[string][]byte) (specs []*spec) {
	for name, text := range files {
		if path.Ext(name) != ".gemspec" {
			continue
		}
		one := &spec{name: strings.TrimSuffix(path.Base(name), ".gemspec"), version: specVersion(name, string(text), files)}
		for _, d := range specDependencies(name, string(text)).gems {
			if d.group != development {
				one.deps = append(one.deps, newDep(d.name, d.rng))
			}
		}
		slices.SortFunc(one.deps, func(a, b dep) int { return strings.Compare(a.name, b.name) })
		specs = append(specs, one)
	}
	slices.SortFunc(specs, func(a, b *spec) int {
		return cmp.Or(strings.Compare(a.name, b.name), strings.Compare(a.version, b.version))
	})
	return specs
}

// placeable tells whether a gem has a version that a lock can have.
func placeable(one *spec) bool {
	_, err := version.Gem{}.Parse(one.version)
	return err == nil && one.version != ""
}
