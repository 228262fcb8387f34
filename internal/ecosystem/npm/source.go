package npm

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
)

// IsSource tells whether a manifest's value asks for a repository of the source.
func (Ecosystem) IsSource(value string) bool { return readSpec("", value).kind == specGit }

// SourceRange is the value that asks for a ref of a repository.
func (Ecosystem) SourceRange(address, ref string) string {
	if !hasAnyPrefix(address, gitPrefixes) {
		address = "git+" + address
	}
	return address + "#" + ref
}

// fromSource tells whether what a top asks for is to be read from its source:
// where that is new, or nothing is locked.
func (s *resolver) fromSource(top *node, d dependency) bool {
	return d.spec.kind == specGit && (s.changes(d.name) || top.resolve(d.name) == nil)
}

// changes tells whether a requirement was not there as it is now.
func (s *resolver) changes(name string) bool {
	return slices.ContainsFunc(s.ask.Changes, func(c contract.Change) bool { return c.New == name })
}

// source is the package that a repository holds, with the one release that it asks
// for.
func (r *registry) source(ctx context.Context, d dependency) (*pkg, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if known := r.sources[d.spec.text]; known != nil {
		return known, nil
	}
	fault := func(wrong, next string) error {
		return &model.Fault{Doing: "reading the source of " + d.name, File: d.site.File, Line: d.site.Line, Wrong: wrong, Next: next}
	}
	place, ref, _ := strings.Cut(d.spec.text, "#")
	address, full := strings.CutPrefix(place, "git+")
	if !full && !strings.Contains(place, "://") || strings.Contains(ref, ":") {
		return nil, fault(
			fmt.Sprintf("%q is a short form, of which only npm knows where it leads", harmless.Address(d.spec.text)),
			"write the address in full, git+https://…, and a branch, tag or commit behind a #",
		)
	}
	if r.around.Client.Offline() {
		return nil, fmt.Errorf("%s: %s: %w", d.site, harmless.Address(d.spec.text), fetch.ErrNotCached)
	}
	commit, text, err := git.Source(ctx, address, ref, "package.json")
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%s: %w", d.site, err)
	}
	var raw rawRelease
	if err := json.Unmarshal(text, &raw, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)); err != nil {
		return nil, fault(fmt.Sprintf("its package.json at %.10s is no manifest: %v", commit, err), "choose another branch, tag or commit")
	}
	v, err := parseVersion(raw.Version)
	if err != nil || checkName(raw.Name) != nil {
		return nil, fault(
			fmt.Sprintf("its package.json at %.10s has no name and version (%q, %q)", commit, raw.Name, raw.Version),
			"choose another branch, tag or commit",
		)
	}
	b := raw.body()
	b.Bundled = nil // nothing is packed yet
	p := &pkg{name: raw.Name, source: d.spec.text, decoded: []*body{&b}, terms: []terms{b.terms}, ranges: map[string][]bool{}}
	rel := &release{pkg: p, parsed: v, text: raw.Version}
	rel.Version, rel.Tarball = raw.Version, place+"#"+commit
	p.releases = []*release{rel}
	p.sort()
	r.sources[d.spec.text] = p
	return p, nil
}

// isGit tells whether a lock's "resolved" leads to a repository.
func isGit(resolved string) bool { return strings.HasPrefix(resolved, "git") }

// holds tells whether n is a release already, from the same place.
func (n *node) holds(rel *release) bool {
	if n.linkTo != nil || n.pkgName != rel.pkg.name || n.version != rel.text {
		return false
	}
	return !isGit(n.resolved) && rel.pkg.source == "" || n.resolved == rel.tarball()
}
