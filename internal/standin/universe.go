// Package standin simulates package registries: it serves packages that lie
// in plain folders by the registries' own protocols, with true integrity
// values, so that the real package clients install from it.
package standin

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/yamldoc"
)

// Universe is all packages that a stand-in knows.
type Universe struct {
	packages map[string]*history
}

// history is one package's file of releases. What a release does not state
// is as in the release before it.
type history struct {
	Name     string            `yaml:"name"`
	Tags     map[string]string `yaml:"tags"`
	License  string            `yaml:"license"`
	Releases []*Release        `yaml:"releases"`
	dir      fs.FS             // the folder of the file
}

// Release is one version as a releases.yaml states it.
type Release struct {
	Version              string                    `yaml:"version"`
	Published            time.Time                 `yaml:"published"`
	Source               string                    `yaml:"source"` // a folder beside the file; empty for a package that only tells its version
	Deprecated           string                    `yaml:"deprecated"`
	Attested             bool                      `yaml:"attested"` // its provenance is attested
	Types                string                    `yaml:"types"`    // the file that describes its types
	Dependencies         map[string]string         `yaml:"dependencies"`
	OptionalDependencies map[string]string         `yaml:"optionalDependencies"`
	PeerDependencies     map[string]string         `yaml:"peerDependencies"`
	PeerDependenciesMeta map[string]map[string]any `yaml:"peerDependenciesMeta"`
	Engines              map[string]string         `yaml:"engines"`
	Bin                  map[string]string         `yaml:"bin"`
	OS                   []string                  `yaml:"os"`
	CPU                  []string                  `yaml:"cpu"`
	archive              []byte
	integrity            string
}

// Load reads every releases.yaml below fsys and packs the archives.
func Load(fsys fs.FS) (*Universe, error) {
	u := &Universe{packages: map[string]*history{}}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() != "releases.yaml" {
			return err
		}
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		h := &history{License: "MIT"}
		if err := yamldoc.Decode(name, data, h); err != nil {
			return err
		}
		if h.dir, err = fs.Sub(fsys, path.Dir(name)); err != nil {
			return err
		}
		if err := h.complete(); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		u.packages[h.Name] = h
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("loading the stand-in's packages: %w", err)
	}
	return u, nil
}

// complete carries over what releases leave out, and packs them.
func (h *history) complete() error {
	for i, r := range h.Releases {
		if i > 0 {
			r.inherit(h.Releases[i-1])
		}
		if err := h.pack(r); err != nil {
			return fmt.Errorf("%s %s: %w", h.Name, r.Version, err)
		}
	}
	if h.Tags == nil {
		h.Tags = map[string]string{}
	}
	if h.Tags["latest"] == "" && len(h.Releases) > 0 {
		h.Tags["latest"] = h.Releases[len(h.Releases)-1].Version
	}
	return nil
}

func (r *Release) inherit(before *Release) {
	if r.Source == "" {
		r.Source = before.Source
	}
	if r.Dependencies == nil {
		r.Dependencies = before.Dependencies
	}
	if r.OptionalDependencies == nil {
		r.OptionalDependencies = before.OptionalDependencies
	}
	if r.PeerDependencies == nil {
		r.PeerDependencies = before.PeerDependencies
	}
	if r.PeerDependenciesMeta == nil {
		r.PeerDependenciesMeta = before.PeerDependenciesMeta
	}
	if r.Engines == nil {
		r.Engines = before.Engines
	}
	if r.Bin == nil {
		r.Bin = before.Bin
	}
	if r.OS == nil {
		r.OS = before.OS
	}
	if r.CPU == nil {
		r.CPU = before.CPU
	}
}

// manifest is the package.json of a release.
func (h *history) manifest(r *Release) map[string]any {
	m := map[string]any{"name": h.Name, "version": r.Version, "license": h.License, "main": "index.js"}
	put := func(key string, n int, v any) {
		if n > 0 {
			m[key] = v
		}
	}
	put("dependencies", len(r.Dependencies), r.Dependencies)
	put("optionalDependencies", len(r.OptionalDependencies), r.OptionalDependencies)
	put("peerDependencies", len(r.PeerDependencies), r.PeerDependencies)
	put("types", len(r.Types), r.Types)
	put("peerDependenciesMeta", len(r.PeerDependenciesMeta), r.PeerDependenciesMeta)
	put("engines", len(r.Engines), r.Engines)
	put("bin", len(r.Bin), r.Bin)
	put("os", len(r.OS), r.OS)
	put("cpu", len(r.CPU), r.CPU)
	return m
}

// pack makes the archive of a release: a gzipped tar with everything in
// "package/", equal bytes for equal input.
func (h *history) pack(r *Release) error {
	files := map[string][]byte{}
	if r.Source == "" {
		files["index.js"] = fmt.Appendf(nil, "module.exports = %q;\n", r.Version)
	} else {
		err := fs.WalkDir(h.dir, r.Source, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := fs.ReadFile(h.dir, name)
			files[strings.TrimPrefix(name, r.Source+"/")] = data
			return err
		})
		if err != nil {
			return err
		}
	}
	text, err := json.MarshalIndent(h.manifest(r), "", "  ")
	if err != nil {
		return err
	}
	files["package.json"] = append(text, '\n')
	var buf bytes.Buffer
	// Stored, not compressed: compressors differ in their output from version
	// to version, and integrity values must not.
	zip, err := gzip.NewWriterLevel(&buf, gzip.NoCompression)
	if err != nil {
		return err
	}
	archive := tar.NewWriter(zip)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		mode := int64(0o644)
		if slices.Contains(slices.Collect(maps.Values(r.Bin)), name) {
			mode = 0o755
		}
		header := &tar.Header{
			Name:    "package/" + name,
			Mode:    mode,
			Size:    int64(len(files[name])),
			ModTime: r.Published,
			Format:  tar.FormatUSTAR,
		}
		if err := archive.WriteHeader(header); err != nil {
			return err
		}
		if _, err := archive.Write(files[name]); err != nil {
			return err
		}
	}
	if err := archive.Close(); err != nil {
		return err
	}
	if err := zip.Close(); err != nil {
		return err
	}
	r.archive = buf.Bytes()
	sum := sha512.Sum512(r.archive)
	r.integrity = "sha512-" + base64.StdEncoding.EncodeToString(sum[:])
	return nil
}

// Names are the packages that the universe has, sorted.
func (u *Universe) Names() []string { return slices.Sorted(maps.Keys(u.packages)) }
