package npm

import (
	"archive/tar"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
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

// maxArchive bounds how many bytes of an unpacked archive are looked at, and
// maxManifest those of a package.json in it.
const (
	maxArchive  = 1 << 29
	maxManifest = 1 << 20
)

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
	sum, want := integrityHash(integrity)
	archive = io.TeeReader(archive, sum)
	unpacked, err := gzip.NewReader(archive)
	if err != nil {
		return nil, fmt.Errorf("the archive: %w", err)
	}
	limited := &io.LimitedReader{R: unpacked, N: maxArchive}
	var list []bundled
	for files := tar.NewReader(limited); ; {
		f, err := files.Next()
		if limited.N <= 0 { // which reads as an end
			return nil, fmt.Errorf("the archive is larger than %d bytes", int64(maxArchive))
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the archive: %w", err)
		}
		_, name, _ := strings.Cut(path.Clean("/" + f.Name)[1:], "/")
		if path.Base(name) != "package.json" || f.Size > maxManifest {
			continue
		}
		loc := path.Dir(name)
		if _, short, ok := parentLoc(loc); !ok || checkName(short) != nil || !strings.HasPrefix(loc, modulesFolder) {
			continue
		}
		text, err := io.ReadAll(files)
		if err != nil {
			return nil, fmt.Errorf("the archive: %s: %w", f.Name, err)
		}
		var raw rawRelease
		readable := json.Unmarshal(text, &raw, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)) == nil
		if readable && (raw.Name == "" || checkName(raw.Name) == nil) {
			list = append(list, bundled{loc, raw.Name, raw.Version, raw.body()})
		}
	}
	if _, err := io.Copy(io.Discard, archive); err != nil {
		return nil, fmt.Errorf("the archive: %w", err)
	}
	if got := base64.StdEncoding.EncodeToString(sum.Sum(nil)); want != "" && got != want {
		return nil, errors.New("the archive is not the one that the registry lists: its integrity differs")
	}
	slices.SortStableFunc(list, func(a, b bundled) int {
		return cmp.Or(strings.Count(a.Loc, modulesFolder)-strings.Count(b.Loc, modulesFolder), strings.Compare(a.Loc, b.Loc))
	})
	return list, nil
}

const modulesFolder = "node_modules/"

// integrityHash is the strongest hash of a text in the form of Subresource
// Integrity (W3C), and what it has to give; "" for none that is known.
func integrityHash(integrity string) (h hash.Hash, want string) {
	for _, known := range []struct {
		prefix string
		hash   func() hash.Hash
	}{{"sha512-", sha512.New}, {"sha384-", sha512.New384}, {"sha256-", sha256.New}, {"sha1-", sha1.New}} {
		for _, text := range strings.Fields(integrity) {
			if sum, ok := strings.CutPrefix(text, known.prefix); ok {
				sum, _, _ = strings.Cut(sum, "?")
				return known.hash(), sum
			}
		}
	}
	return sha512.New(), ""
}

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
