// Package origin gives what a module proxy makes of a repository, from the repository itself.
package origin

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"
	"golang.org/x/mod/semver"
	modzip "golang.org/x/mod/zip"

	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/host/fetch"
	"bellwether/internal/host/git"
)

// Origin is the repository that modules are kept in. What it gives is what a module
// proxy makes of a repository, after the Go Modules Reference ("Mapping versions to
// commits", "Pseudo-versions", "Module zip files").
type Origin struct {
	Root   string // the module path that stands for the repository
	Remote *git.Remote
	Client *fetch.Client // keeps what the repository told

	asking sync.Mutex
	named  map[string]string // commits by the whole names of branches and tags
	whole  bool              // all of it is here
}

// Document gives a file of the proxy protocol.
func (o *Origin) Document(ctx context.Context, d protocol.Document) ([]byte, error) {
	data, err := o.open(ctx, d.Module, d.File)
	if err != nil {
		return nil, err
	}
	defer data.Close()
	if d.Distil == nil {
		return io.ReadAll(&protocol.Bounded{R: data, Left: d.Limit})
	}
	return d.Distil(&protocol.Bounded{R: data, Left: d.Limit})
}

func (o *Origin) open(ctx context.Context, modulePath, file string) (io.ReadCloser, error) {
	m := o.Module(modulePath)
	text := func(text []byte, err error) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(text)), err
	}
	switch file {
	case "@v/list":
		list, err := m.versions(ctx)
		return text([]byte(strings.Join(list, "\n")), err)
	case "@latest":
		return text(m.latest(ctx))
	}
	name := strings.TrimPrefix(file, "@v/")
	kind := path.Ext(name)
	query, err := module.UnescapeVersion(strings.TrimSuffix(name, kind))
	if err != nil {
		return nil, err
	}
	commit, err := m.commit(ctx, query)
	if err != nil {
		return nil, err
	}
	switch kind {
	case ".info":
		return text(m.info(ctx, query, commit))
	case ".mod":
		_, mod, err := m.folder(ctx, commit)
		return text(mod, err)
	case ".zip":
		return m.zip(ctx, query, commit)
	}
	return nil, fmt.Errorf("%s is no file of the module proxy protocol", file)
}

// Refs are the branches and tags of the repository, asked for once.
func (o *Origin) Refs(ctx context.Context) (map[string]string, error) {
	o.asking.Lock()
	defer o.asking.Unlock()
	if o.named != nil {
		return o.named, nil
	}
	data, err := o.Client.Recent("refs:"+o.Remote.Address, "golang/refs/1", func() ([]byte, error) {
		named, err := o.Remote.Refs(ctx)
		if err != nil {
			return nil, err
		}
		return json.Marshal(named)
	})
	if err != nil {
		return nil, err
	}
	err = json.Unmarshal(data, &o.named)
	return o.named, err
}

// fetchAll brings all of the repository here, once.
func (o *Origin) fetchAll(ctx context.Context) error {
	o.asking.Lock()
	defer o.asking.Unlock()
	if o.whole {
		return nil
	}
	if o.Client.Offline() {
		return fetch.ErrNotCached
	}
	err := o.Remote.FetchAll(ctx)
	o.whole = err == nil
	return err
}

// inOrigin is a module in its repository.
type inOrigin struct {
	*Origin
	path  string
	dir   string // of its tags, and of its files but for a folder of its major
	major string // what ends the path: "", "/v2", ".v2"
}

// Module is one of the modules that the repository holds.
func (o *Origin) Module(modulePath string) *inOrigin {
	prefix, major, _ := module.SplitPathVersion(modulePath)
	dir := ""
	if rest, ok := strings.CutPrefix(prefix, o.Root+"/"); ok {
		dir = rest
	}
	return &inOrigin{Origin: o, path: modulePath, dir: dir, major: major}
}

// Version is what a tag says of the module, "" for nothing.
func (m *inOrigin) Version(tag string) string {
	if m.dir != "" {
		rest, ok := strings.CutPrefix(tag, m.dir+"/")
		if !ok {
			return ""
		}
		tag = rest
	}
	if semver.Canonical(tag) != tag || semver.Build(tag) != "" || module.IsPseudoVersion(tag) {
		return ""
	}
	if m.major == "" && semver.Compare(semver.Major(tag), "v2") >= 0 {
		return tag + "+incompatible"
	}
	if module.CheckPathMajor(tag, m.major) != nil {
		return ""
	}
	return tag
}

// tag is the tag of a version.
func (m *inOrigin) tag(version string) string {
	return path.Join(m.dir, strings.TrimSuffix(version, "+incompatible"))
}

// versions are those that are tagged, ascending. Majors from 2 on without a path of
// their own count only where there was no go.mod yet.
func (m *inOrigin) versions(ctx context.Context) ([]string, error) {
	refs, err := m.Refs(ctx)
	if err != nil {
		return nil, err
	}
	var list, incompatible []string
	for ref := range refs {
		tag, ok := strings.CutPrefix(ref, "refs/tags/")
		switch v := m.Version(tag); {
		case !ok || v == "":
		case strings.HasSuffix(v, "+incompatible"):
			incompatible = append(incompatible, v)
		default:
			list = append(list, v)
		}
	}
	semver.Sort(list)
	semver.Sort(incompatible)
	if len(incompatible) == 0 {
		return list, nil
	}
	newest := incompatible[len(incompatible)-1]
	if len(list) > 0 {
		newest = list[len(list)-1]
	}
	commit, err := m.commit(ctx, newest)
	if err != nil {
		return nil, err
	}
	if _, err := m.Remote.File(ctx, commit, path.Join(m.dir, "go.mod")); !errors.Is(err, fs.ErrNotExist) {
		return list, err
	}
	return append(list, incompatible...), nil
}

// commit brings what a version, branch or commit stands for here.
func (m *inOrigin) commit(ctx context.Context, query string) (string, error) {
	refs, err := m.Refs(ctx)
	if err != nil {
		return "", err
	}
	rev, err := module.PseudoVersionRev(query)
	switch {
	case err == nil:
		if here := m.Remote.Commit(ctx, rev); here != "" {
			return here, nil
		}
	case semver.IsValid(query):
		ref := "refs/tags/" + m.tag(query)
		if refs[ref] == "" {
			return "", protocol.NoSuch(m.path+" "+query, "has no tag in its repository", nil)
		}
		if here := m.Remote.Commit(ctx, refs[ref]); here != "" {
			return here, nil
		}
		if m.Client.Offline() {
			return "", fetch.ErrNotCached
		}
		return m.Remote.Fetch(ctx, ref)
	default:
		rev = cmp.Or(refs["refs/heads/"+query], refs["refs/tags/"+query], refs[query], query)
	}
	if err := m.fetchAll(ctx); err != nil {
		return "", err
	}
	if here := m.Remote.Commit(ctx, rev); here != "" {
		return here, nil
	}
	return "", protocol.NoSuch(m.path+" "+query, "is not in its repository", nil)
}

// latest is the newest release, else the newest pre-release, else the last commit.
func (m *inOrigin) latest(ctx context.Context) ([]byte, error) {
	list, err := m.versions(ctx)
	if err != nil {
		return nil, err
	}
	newest := "HEAD"
	if len(list) > 0 {
		newest = list[len(list)-1]
	}
	for _, v := range slices.Backward(list) {
		if semver.Prerelease(v) == "" {
			newest = v
			break
		}
	}
	commit, err := m.commit(ctx, newest)
	if err != nil {
		return nil, err
	}
	return m.info(ctx, newest, commit)
}

// info tells the version that a commit is, and when it was made.
func (m *inOrigin) info(ctx context.Context, query, commit string) ([]byte, error) {
	at, err := m.Remote.Time(ctx, commit)
	if err != nil {
		return nil, err
	}
	i := protocol.Info{Version: query, Time: at}
	if !semver.IsValid(query) {
		if i.Version, err = m.versionAt(ctx, commit, at); err != nil {
			return nil, err
		}
	}
	return json.Marshal(i)
}

// versionAt is the version of a commit: the highest that is tagged at it, else a
// pseudo-version after the highest that is tagged before it.
func (m *inOrigin) versionAt(ctx context.Context, commit string, at time.Time) (string, error) {
	tags, err := m.Remote.TagsBefore(ctx, commit)
	if err != nil {
		return "", err
	}
	older, here := "", ""
	for _, tag := range tags {
		v := m.Version(tag)
		if v == "" || strings.HasSuffix(v, "+incompatible") {
			continue
		}
		if semver.Compare(v, older) > 0 {
			older = v
		}
		if semver.Compare(v, here) > 0 && m.Remote.Commit(ctx, "refs/tags/"+tag) == commit {
			here = v
		}
	}
	if here != "" {
		return here, nil
	}
	return module.PseudoVersion(module.PathMajorPrefix(m.major), older, at, commit[:12]), nil
}

// folder is where the module lies in a commit, with its go.mod: in that of its tags,
// or in one of its major below that. A module from before go.mod gets the least one.
func (m *inOrigin) folder(ctx context.Context, commit string) (folder string, text []byte, err error) {
	folders := []string{m.dir}
	if strings.HasPrefix(m.major, "/") {
		folders = append(folders, path.Join(m.dir, m.major[1:]))
	}
	found := ""
	for _, folder := range folders {
		text, err := m.Remote.File(ctx, commit, path.Join(folder, "go.mod"))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", nil, err
		}
		if found = modfile.ModulePath(text); found == m.path || m.major == "" {
			return folder, text, nil
		}
	}
	switch {
	case found != "":
		return "", nil, protocol.NoSuch(m.path, fmt.Sprintf("is called %s by its go.mod at %.10s", found, commit), nil)
	case m.major != "":
		return "", nil, protocol.NoSuch(m.path, fmt.Sprintf("has no go.mod at %.10s of its repository", commit), nil)
	}
	return m.dir, []byte("module " + modfile.AutoQuote(m.path) + "\n"), nil
}

// zip is the module's archive. A module in a folder has the repository's licence if it
// has none of its own.
func (m *inOrigin) zip(ctx context.Context, v, commit string) (_ io.ReadCloser, err error) {
	folder, _, err := m.folder(ctx, commit)
	if err != nil {
		return nil, err
	}
	archive, err := newPassing()
	if err != nil {
		return nil, err
	}
	defer archive.Close()
	if err := m.Remote.Archive(ctx, commit, folder, archive, protocol.MaxZip); err != nil {
		return nil, err
	}
	size, err := archive.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, err
	}
	packed, err := zip.NewReader(archive, size)
	if err != nil {
		return nil, err
	}
	var files []modzip.File
	licensed := folder == ""
	for _, f := range packed.File {
		name := f.Name
		if folder != "" {
			name = strings.TrimPrefix(name, folder+"/")
		}
		if name == "" || strings.HasSuffix(name, "/") {
			continue
		}
		licensed = licensed || name == "LICENSE"
		files = append(files, packedFile{name, f})
	}
	if text, err := m.Remote.File(ctx, commit, "LICENSE"); err == nil && !licensed {
		files = append(files, textFile{"LICENSE", text})
	}
	out, err := newPassing()
	if err != nil {
		return nil, err
	}
	err = modzip.Create(out, module.Version{Path: m.path, Version: v}, files)
	if err == nil {
		_, err = out.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("making the archive of %s %s: %w", m.path, v, err), out.Close())
	}
	return out, nil
}

// passing is a file that is gone when it is closed.
type passing struct{ *os.File }

func newPassing() (passing, error) {
	f, err := os.CreateTemp("", "bellwether-*.zip")
	return passing{f}, err
}

// Close closes and removes the file.
func (p passing) Close() error { return errors.Join(p.File.Close(), os.Remove(p.Name())) }

// packedFile is a file of an archive by the name that it has in a module.
type packedFile struct {
	name string
	*zip.File
}

func (f packedFile) Path() string { return f.name }

func (f packedFile) Lstat() (os.FileInfo, error) { return f.FileInfo(), nil }

// textFile is a file of a module with its content.
type textFile struct {
	name string
	text []byte
}

func (f textFile) Path() string { return f.name }

func (f textFile) Lstat() (os.FileInfo, error) { return f, nil }

func (f textFile) Open() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(f.text)), nil }

func (f textFile) Name() string { return f.name }

func (f textFile) Size() int64 { return int64(len(f.text)) }

func (f textFile) Mode() fs.FileMode { return 0o644 }

func (f textFile) ModTime() time.Time { return time.Time{} }

func (f textFile) IsDir() bool { return false }

func (f textFile) Sys() any { return nil }
