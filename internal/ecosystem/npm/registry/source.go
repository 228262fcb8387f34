package registry

import (
	"context"
	"fmt"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
)

// Source is the package that a repository holds, with the one release that it asks
// for.
func (r *Registry) Source(ctx context.Context, d packagejson.Dependency) (*Package, error) {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	if known := r.sources[d.Spec.Text]; known != nil {
		return known, nil
	}
	fault := func(wrong, next string) error {
		return &model.Fault{Doing: "reading the source of " + d.Name, File: d.Site.File, Line: d.Site.Line, Wrong: wrong, Next: next}
	}
	place, ref, _ := strings.Cut(d.Spec.Text, "#")
	address, full := strings.CutPrefix(place, "git+")
	if !full && !strings.Contains(place, "://") || strings.Contains(ref, ":") {
		return nil, fault(
			fmt.Sprintf("%q is a short form, of which only npm knows where it leads", harmless.Address(d.Spec.Text)),
			"write the address in full, git+https://…, and a branch, tag or commit behind a #",
		)
	}
	if r.Around.Client.Offline() {
		return nil, fmt.Errorf("%s: %s: %w", d.Site, harmless.Address(d.Spec.Text), fetch.ErrNotCached)
	}
	commit, text, err := git.Source(ctx, address, ref, "package.json")
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%s: %w", d.Site, err)
	}
	var raw packagejson.RawRelease
	if err := json.Unmarshal(text, &raw, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)); err != nil {
		return nil, fault(fmt.Sprintf("its package.json at %.10s is no manifest: %v", commit, err), "choose another branch, tag or commit")
	}
	v, err := packagejson.ParseVersion(raw.Version)
	if err != nil || packagejson.CheckName(raw.Name) != nil {
		return nil, fault(
			fmt.Sprintf("its package.json at %.10s has no name and version (%q, %q)", commit, raw.Name, raw.Version),
			"choose another branch, tag or commit",
		)
	}
	b := raw.Body()
	b.Bundled = nil // nothing is packed yet
	p := &Package{
		Name: raw.Name, Source: d.Spec.Text, Decoded: []*packagejson.Body{&b}, Terms: []packagejson.Terms{b.Terms}, ranges: map[string][]bool{},
	}
	rel := &Release{Pkg: p, Parsed: v, Text: raw.Version}
	rel.Version, rel.Tarball = raw.Version, place+"#"+commit
	p.Releases = []*Release{rel}
	p.Sort()
	r.sources[d.Spec.Text] = p
	return p, nil
}
