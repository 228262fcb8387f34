package resolving

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gem/gemfile"
	"bellwether/internal/ecosystem/gem/lock"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/ecosystem/gem/registry"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
)

// sourcedAnew reads the repositories that the lock does not have as the Gemfile asks for them, and
// those that a change asks for. Each is a section with all gems that it holds.
func sourcedAnew(
	ctx context.Context, r *registry.Registry, p *project.Project, changes []contract.Change,
) (all []*lock.Section, err error) {
	for _, d := range p.Gemfile.Gems {
		if d.Git.Address == "" || d.Fixed != "git source" {
			continue
		}
		has := func(s *lock.Section) bool { return s.Kind == "GIT" && project.Meets(d.Git, s) }
		asked := slices.ContainsFunc(changes, func(c contract.Change) bool { return c.New == d.Name })
		if slices.ContainsFunc(p.Lock.Sections, has) && !asked || slices.ContainsFunc(all, has) {
			continue
		}
		s, err := source(ctx, r, d)
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

// source reads the gems of a repository.
func source(ctx context.Context, r *registry.Registry, d gemfile.Declared) (*lock.Section, error) {
	if r.Around.Client.Offline() {
		return nil, fmt.Errorf("%s:%d: %s: %w", d.File, d.Line, harmless.Address(d.Git.Address), fetch.ErrNotCached)
	}
	commit, files, err := git.SourceFiles(ctx, d.Git.Address, d.Git.At, tellsVersion)
	if err != nil {
		return nil, fmt.Errorf("%s:%d: %w", d.File, d.Line, err)
	}
	s := &lock.Section{Kind: "GIT", Head: []string{"remote: " + d.Git.Address, "revision: " + commit}}
	if d.Git.Key != "" {
		s.Head = append(s.Head, d.Git.Key+": "+d.Git.At)
	}
	s.Head = append(s.Head, "specs:")
	fault := func(wrong string) error {
		return &model.Fault{
			Doing: "reading the source of " + d.Name, File: d.File, Line: d.Line, Wrong: wrong,
			Next: "choose another branch, tag or commit, or put it into the lock with bundle lock",
		}
	}
	for _, one := range readSpecFiles(files) {
		if placeable(one) {
			s.Specs = append(s.Specs, one)
		} else if one.Name == d.Name {
			return nil, fault(fmt.Sprintf("its gemspec at %.10s computes its version or what it asks for, which is not read here", commit))
		}
	}
	if !slices.ContainsFunc(s.Specs, func(one *lock.Spec) bool { return one.Name == d.Name }) {
		return nil, fault(fmt.Sprintf("there is no %s.gemspec at %.10s", d.Name, commit))
	}
	return s, nil
}

// withSources puts new sections GIT among those of a lock: they come first, by their addresses.
func withSources(sections, fresh []*lock.Section) []*lock.Section {
	sections = slices.Clone(sections)
	for _, s := range fresh {
		at := slices.IndexFunc(sections, func(o *lock.Section) bool {
			return o.Kind != "GIT" || strings.Compare(strings.Join(o.Remotes(), " "), strings.Join(s.Remotes(), " ")) > 0
		})
		sections = slices.Insert(sections, max(at, 0), s)
	}
	return sections
}
