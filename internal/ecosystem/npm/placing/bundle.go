package placing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/ecosystem/archive"
	"bellwether/internal/ecosystem/npm/lock"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/registry"
	"bellwether/internal/ecosystem/npm/tree"
	"bellwether/internal/host/fetch"
)

// bundled is a package that comes inside another one's archive.
type bundled struct {
	Loc     string // below the package's folder: "node_modules/a/node_modules/b"
	Name    string
	Version string
	Body    packagejson.Body
}

// maxManifest bounds a package.json in an archive, in bytes.
const maxManifest = 1 << 20

// Bundle gives the packages that come inside a release's archive, the outer ones
// first. The archive is checked against the integrity that the registry states.
func Bundle(ctx context.Context, r *registry.Registry, rel *registry.Release) ([]bundled, error) {
	payload, err := r.Around.Client.Document(ctx, fetch.Request{
		URL: rel.Archive(), Authorization: r.Authorization(rel.Pkg.Name, rel.Archive()), Limit: archive.MaxPacked,
		Form: "npm-bundle/1 " + rel.Integrity, Forever: true,
		Distil: func(archive io.Reader) ([]byte, error) {
			list, err := readBundle(archive, rel.Integrity)
			if err != nil {
				return nil, err
			}
			return cbor.Marshal(list)
		},
	})
	if err != nil {
		return nil, fmt.Errorf("reading what %s %s bundles: %w", rel.Pkg.Name, rel.Text, err)
	}
	var list []bundled
	return list, cbor.Unmarshal(payload, &list)
}

// readBundle reads the manifests of the packages in an archive's node_modules.
func readBundle(archive io.Reader, integrity string) ([]bundled, error) {
	var list []bundled
	err := registry.EachFile(archive, integrity, func(name string, size int64, read func() ([]byte, error)) error {
		if path.Base(name) != "package.json" || size > maxManifest {
			return nil
		}
		loc := path.Dir(name)
		if _, short, ok := lock.ParentLoc(loc); !ok || packagejson.CheckName(short) != nil || !strings.HasPrefix(loc, modulesFolder) {
			return nil
		}
		text, err := read()
		if err != nil {
			return err
		}
		var raw packagejson.RawRelease
		readable := json.Unmarshal(text, &raw, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)) == nil
		if readable && (raw.Name == "" || packagejson.CheckName(raw.Name) == nil) {
			list = append(list, bundled{loc, raw.Name, raw.Version, raw.Body()})
		}
		return nil
	})
	slices.SortStableFunc(list, func(a, b bundled) int {
		return cmp.Or(strings.Count(a.Loc, modulesFolder)-strings.Count(b.Loc, modulesFolder), strings.Compare(a.Loc, b.Loc))
	})
	return list, err
}

const modulesFolder = "node_modules/"

// unpack hangs what comes inside a new package's archive below it.
func (b *Builder) unpack(n *tree.Node) error {
	if n.From == nil || n.Unpacked || len(bundledOf(n)) == 0 {
		return nil
	}
	n.Unpacked = true
	list, err := Bundle(b.Ctx, b.Registry, n.From)
	if errors.Is(err, fetch.ErrNotCached) || registry.IsAbsent(err) {
		b.Notices = append(
			b.Notices,
			fmt.Sprintf("%s %s brings packages inside its archive, which cannot be had; the lock is without them", n.Package, n.Version),
		)
		return nil
	}
	if err != nil {
		return err
	}
	inside := map[string]*tree.Node{"": n}
	for _, in := range list {
		above, name, _ := lock.ParentLoc(in.Loc)
		parent := inside[above]
		if parent == nil || parent.Kids[name] != nil {
			continue
		}
		k := b.Tree.Add(parent, name)
		k.Package, k.Version, k.Body, k.InBundle = cmp.Or(in.Name, name), in.Version, &in.Body, true
		b.Tree.SetEdges(k, tree.BodyEdges(k.Body, nil))
		inside[in.Loc] = k
	}
	b.dropUnused(n, inside)
	for _, loc := range packagejson.Collated(inside) {
		b.changed(inside[loc])
	}
	return nil
}

// dropUnused takes out what lies in an archive, but is needed by nothing that the
// package says it bundles.
func (b *Builder) dropUnused(n *tree.Node, inside map[string]*tree.Node) {
	used := map[*tree.Node]bool{n: true}
	var use func(k *tree.Node)
	use = func(k *tree.Node) {
		if k == nil || used[k] || !k.InBundle {
			return
		}
		used[k] = true
		for _, e := range k.EdgeList {
			use(k.Get(e))
		}
	}
	for _, name := range bundledOf(n) {
		use(n.Kids[name])
	}
	for loc, k := range inside {
		if used[k] {
			continue
		}
		if !slices.ContainsFunc(packagejson.Collated(k.Kids), func(name string) bool { return used[k.Kids[name]] }) {
			b.Tree.Remove(k)
		}
		delete(inside, loc)
	}
}
