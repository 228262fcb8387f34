package standin

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"
	"golang.org/x/mod/semver"
	"golang.org/x/mod/sumdb"
	"golang.org/x/mod/sumdb/dirhash"
	"golang.org/x/mod/sumdb/note"
	modzip "golang.org/x/mod/zip"

	"bellwether/internal/core/yamldoc"
)

// Modules are Go modules that a stand-in knows.
type Modules struct {
	modules map[string][]*ModuleRelease // ascending
}

// ModuleRelease is one version of a Go module.
type ModuleRelease struct {
	Version   string
	Published time.Time
	Files     map[string][]byte // without go.mod, by path in the module
	Mod       []byte
	archive   []byte
}

// moduleHistory is one module's file of releases. What a release does not
// state is as in the release before it.
type moduleHistory struct {
	Module   string `yaml:"module"`
	Releases []struct {
		Version    string            `yaml:"version"`
		Published  time.Time         `yaml:"published"`
		Source     string            `yaml:"source"` // a folder beside the file
		Go         string            `yaml:"go"`
		Requires   map[string]string `yaml:"requires"`
		Retracts   map[string]string `yaml:"retracts"` // versions, with the reason
		Deprecated string            `yaml:"deprecated"`
	} `yaml:"releases"`
}

// LoadModules reads every module.yaml below fsys and packs the archives.
func LoadModules(fsys fs.FS) (*Modules, error) {
	u := &Modules{modules: map[string][]*ModuleRelease{}}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() != "module.yaml" {
			return err
		}
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		h := &moduleHistory{}
		if err := yamldoc.Decode(name, data, h); err != nil {
			return err
		}
		if err := u.addHistory(fsys, path.Dir(name), h); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("loading the stand-in's modules: %w", err)
	}
	return u, nil
}

func (u *Modules) addHistory(fsys fs.FS, dir string, h *moduleHistory) error {
	for i := range h.Releases {
		r := &h.Releases[i]
		if i > 0 {
			before := h.Releases[i-1]
			r.Source, r.Go = cmp.Or(r.Source, before.Source), cmp.Or(r.Go, before.Go)
			if r.Requires == nil {
				r.Requires = before.Requires
			}
		}
		f := &modfile.File{}
		if err := f.AddModuleStmt(h.Module); err != nil {
			return err
		}
		if r.Deprecated != "" {
			f.Module.Syntax.Before = []modfile.Comment{{Token: "// Deprecated: " + r.Deprecated}}
		}
		if err := f.AddGoStmt(r.Go); err != nil {
			return err
		}
		for _, dep := range slices.Sorted(maps.Keys(r.Requires)) {
			f.AddNewRequire(dep, r.Requires[dep], false)
		}
		for _, v := range slices.Sorted(maps.Keys(r.Retracts)) {
			if err := f.AddRetract(modfile.VersionInterval{Low: v, High: v}, r.Retracts[v]); err != nil {
				return err
			}
		}
		f.Cleanup()
		text, err := f.Format()
		if err != nil {
			return err
		}
		release := &ModuleRelease{Version: r.Version, Published: r.Published, Mod: text, Files: map[string][]byte{}}
		source := path.Join(dir, r.Source)
		err = fs.WalkDir(fsys, source, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := fs.ReadFile(fsys, name)
			release.Files[strings.TrimSuffix(strings.TrimPrefix(name, source+"/"), ".src")] = data
			return err
		})
		if err != nil {
			return err
		}
		if err := u.Add(h.Module, release); err != nil {
			return err
		}
	}
	return nil
}

// NewModules gives an empty collection.
func NewModules() *Modules { return &Modules{modules: map[string][]*ModuleRelease{}} }

// Add packs a release and takes it in.
func (u *Modules) Add(path string, r *ModuleRelease) error {
	m := module.Version{Path: path, Version: r.Version}
	files := []modzip.File{zipFile{"go.mod", r.Mod}}
	for _, name := range slices.Sorted(maps.Keys(r.Files)) {
		files = append(files, zipFile{name, r.Files[name]})
	}
	if r.Mod == nil { // from the time before modules
		files = files[1:]
		r.Mod = []byte("module " + modfile.AutoQuote(path) + "\n")
	}
	var buf bytes.Buffer
	if err := modzip.Create(&buf, m, files); err != nil {
		return fmt.Errorf("%s %s: %w", path, r.Version, err)
	}
	r.archive = buf.Bytes()
	u.modules[path] = append(u.modules[path], r)
	slices.SortStableFunc(u.modules[path], func(a, b *ModuleRelease) int { return semver.Compare(a.Version, b.Version) })
	return nil
}

// Names are the paths of the modules, sorted.
func (u *Modules) Names() []string { return slices.Sorted(maps.Keys(u.modules)) }

// zipFile is a file of an archive.
type zipFile struct {
	name string
	data []byte
}

func (f zipFile) Path() string                 { return f.name }
func (f zipFile) Lstat() (os.FileInfo, error)  { return zipInfo{f}, nil }
func (f zipFile) Open() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(f.data)), nil }

type zipInfo struct{ f zipFile }

func (i zipInfo) Name() string       { return path.Base(i.f.name) }
func (i zipInfo) Size() int64        { return int64(len(i.f.data)) }
func (i zipInfo) Mode() fs.FileMode  { return 0o644 }
func (i zipInfo) ModTime() time.Time { return time.Time{} }
func (i zipInfo) IsDir() bool        { return false }
func (i zipInfo) Sys() any           { return nil }

// Proxy serves the modules by the module proxy protocol
// (https://go.dev/ref/mod#goproxy-protocol).
func (u *Modules) Proxy() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		escaped, file, ok := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/@")
		path, err := module.UnescapePath(escaped)
		list := u.modules[path]
		if !ok || err != nil || len(list) == 0 {
			http.Error(w, "not found: this stand-in does not know it", http.StatusNotFound)
			return
		}
		if file == "v/list" {
			for _, r := range list {
				if !module.IsPseudoVersion(r.Version) {
					fmt.Fprintln(w, r.Version)
				}
			}
			return
		}
		if file == "latest" {
			list[len(list)-1].serve(w, ".info")
			return
		}
		for _, r := range list {
			v, err := module.EscapeVersion(r.Version)
			if ending, ok := strings.CutPrefix(file, "v/"+v); ok && err == nil &&
				(ending == ".info" || ending == ".mod" || ending == ".zip") {
				r.serve(w, ending)
				return
			}
		}
		// The branch main ends at the newest commit that is no release.
		for _, r := range slices.Backward(list) {
			if file == "v/main.info" && module.IsPseudoVersion(r.Version) {
				r.serve(w, ".info")
				return
			}
		}
		http.Error(w, "not found: there is no such version", http.StatusNotFound)
	})
}

func (r *ModuleRelease) serve(w http.ResponseWriter, ending string) {
	switch ending {
	case ".info":
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"Version": r.Version, "Time": r.Published.UTC().Format(time.RFC3339)})
	case ".mod":
		_, _ = w.Write(r.Mod)
	case ".zip":
		w.Header().Set("Content-Type", "application/zip")
		_, _ = w.Write(r.archive)
	}
}

// Sums serves a checksum database of the modules, signed with a key, below the
// path "/sumdb/" and the key's name.
func (u *Modules) Sums(signer string) (http.Handler, error) {
	s, err := note.NewSigner(signer)
	if err != nil {
		return nil, err
	}
	prefix := "/sumdb/" + s.Name()
	db := sumdb.NewServer(sumdb.NewTestServer(signer, u.sums))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == prefix+"/supported" {
			return
		}
		http.StripPrefix(prefix, db).ServeHTTP(w, r)
	}), nil
}

// sums are the lines of a go.sum about a version.
func (u *Modules) sums(path, version string) ([]byte, error) {
	for _, r := range u.modules[path] {
		if r.Version != version {
			continue
		}
		f, err := os.CreateTemp("", "standin-*.zip")
		if err != nil {
			return nil, err
		}
		defer os.Remove(f.Name())
		if _, err := f.Write(r.archive); err != nil {
			return nil, err
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
		whole, err := dirhash.HashZip(f.Name(), dirhash.Hash1)
		if err != nil {
			return nil, err
		}
		mod, err := dirhash.Hash1(
			[]string{"go.mod"},
			func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(r.Mod)), nil },
		)
		if err != nil {
			return nil, err
		}
		return fmt.Appendf(nil, "%s %s %s\n%s %s/go.mod %s\n", path, version, whole, path, version, mod), nil
	}
	return nil, os.ErrNotExist
}
