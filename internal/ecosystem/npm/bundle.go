package npm

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

	"bellwether/internal/host/fetch"
)

// bundled is a package that comes inside another one's archive.
type bundled struct {
	Loc     string // below the package's folder: "node_modules/a/node_modules/b"
	Name    string
	Version string
	Body    body
}

// maxManifest bounds a package.json in an archive, in bytes.
const maxManifest = 1 << 20

// bundle gives the packages that come inside a release's archive, the outer ones
// first. The archive is checked against the integrity that the registry states.
func (r *registry) bundle(ctx context.Context, rel *release) ([]bundled, error) {
	payload, err := r.around.Client.Document(ctx, fetch.Request{
		URL: rel.tarball(), Authorization: r.authorization(rel.pkg.name, rel.tarball()), Limit: maxArchive,
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
		return nil, fmt.Errorf("reading what %s %s bundles: %w", rel.pkg.name, rel.text, err)
	}
	var list []bundled
	return list, cbor.Unmarshal(payload, &list)
}

// readBundle reads the manifests of the packages in an archive's node_modules.
func readBundle(archive io.Reader, integrity string) ([]bundled, error) {
	var list []bundled
	err := eachFile(archive, integrity, func(name string, size int64, read func() ([]byte, error)) error {
		if path.Base(name) != "package.json" || size > maxManifest {
			return nil
		}
		loc := path.Dir(name)
		if _, short, ok := parentLoc(loc); !ok || checkName(short) != nil || !strings.HasPrefix(loc, modulesFolder) {
			return nil
		}
		text, err := read()
		if err != nil {
			return err
		}
		var raw rawRelease
		readable := json.Unmarshal(text, &raw, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)) == nil
		if readable && (raw.Name == "" || checkName(raw.Name) == nil) {
			list = append(list, bundled{loc, raw.Name, raw.Version, raw.body()})
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
func (b *builder) unpack(n *node) error {
	if n.from == nil || n.unpacked || len(bundledOf(n)) == 0 {
		return nil
	}
	n.unpacked = true
	list, err := b.reg.bundle(b.ctx, n.from)
	if errors.Is(err, fetch.ErrNotCached) || isAbsent(err) {
		b.notices = append(
			b.notices,
			fmt.Sprintf("%s %s brings packages inside its archive, which cannot be had; the lock is without them", n.pkgName, n.version),
		)
		return nil
	}
	if err != nil {
		return err
	}
	inside := map[string]*node{"": n}
	for _, in := range list {
		above, name, _ := parentLoc(in.Loc)
		parent := inside[above]
		if parent == nil || parent.kids[name] != nil {
			continue
		}
		k := b.t.add(parent, name)
		k.pkgName, k.version, k.body, k.inBundle = cmp.Or(in.Name, name), in.Version, &in.Body, true
		b.t.setEdges(k, bodyEdges(k.body, nil))
		inside[in.Loc] = k
	}
	b.dropUnused(n, inside)
	for _, loc := range collated(inside) {
		b.changed(inside[loc])
	}
	return nil
}

// dropUnused takes out what lies in an archive, but is needed by nothing that the
// package says it bundles.
func (b *builder) dropUnused(n *node, inside map[string]*node) {
	used := map[*node]bool{n: true}
	var use func(k *node)
	use = func(k *node) {
		if k == nil || used[k] || !k.inBundle {
			return
		}
		used[k] = true
		for _, e := range k.edgeList {
			use(k.get(e))
		}
	}
	for _, name := range bundledOf(n) {
		use(n.kids[name])
	}
	for loc, k := range inside {
		if used[k] {
			continue
		}
		if !slices.ContainsFunc(collated(k.kids), func(name string) bool { return used[k.kids[name]] }) {
			b.t.remove(k)
		}
		delete(inside, loc)
	}
}
