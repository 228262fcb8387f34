package standin

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/yamldoc"
)

// gemHistory is one gem's file of releases. What a release does not state is as in the release
// before it.
type gemHistory struct {
	Name     string       `yaml:"name"`
	Releases []gemRelease `yaml:"releases"`
}

// gemRelease is one version as a releases.yaml states it.
type gemRelease struct {
	Version   string            `yaml:"version"`
	Platforms []string          `yaml:"platforms"` // those that have a file of their own; "ruby" for one that is for all
	Source    string            `yaml:"source"`    // a folder beside the file
	Needs     map[string]string `yaml:"needs"`     // requirements by gem; "=" stands for the version of the release itself
	Ruby      string            `yaml:"ruby"`
	Withdrawn bool              `yaml:"withdrawn"`
}

// LoadGems reads every releases.yaml below fsys and packs the archives.
func LoadGems(fsys fs.FS) (Gems, error) {
	all := Gems{}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() != "releases.yaml" {
			return err
		}
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		h := &gemHistory{}
		if err := yamldoc.Decode(name, data, h); err != nil {
			return err
		}
		dir, err := fs.Sub(fsys, path.Dir(name))
		if err != nil {
			return err
		}
		if all[h.Name], err = h.releases(dir); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return nil
	})
	if err == nil {
		err = all.Pack()
	}
	if err != nil {
		return nil, fmt.Errorf("loading the stand-in's gems: %w", err)
	}
	return all, nil
}

// releases carries over what releases leave out, and reads their files.
func (h *gemHistory) releases(dir fs.FS) (all []*GemRelease, err error) {
	before := gemRelease{Platforms: []string{"ruby"}}
	for _, r := range h.Releases {
		if r.Platforms == nil {
			r.Platforms = before.Platforms
		}
		if r.Source == "" {
			r.Source = before.Source
		}
		if r.Needs == nil {
			r.Needs = before.Needs
		}
		if r.Ruby == "" {
			r.Ruby = before.Ruby
		}
		before = r
		files, err := gemFiles(dir, r.Source)
		if err != nil {
			return nil, err
		}
		for _, platform := range r.Platforms {
			one := &GemRelease{
				Version:  r.Version,
				Platform: strings.TrimPrefix(platform, "ruby"),
				Ruby:     r.Ruby,
				Files:    files,
				Gone:     r.Withdrawn,
			}
			for _, name := range slices.Sorted(maps.Keys(r.Needs)) {
				rng := r.Needs[name]
				if rng == "=" {
					rng = "= " + r.Version
				}
				one.Deps = append(one.Deps, GemDep{Name: name, Range: rng})
			}
			all = append(all, one)
		}
	}
	return all, nil
}

// gemFiles are the files of a folder as a gem has them: what is of Ruby below lib, all else at its top.
func gemFiles(dir fs.FS, source string) (map[string]string, error) {
	files := map[string]string{}
	if source == "" {
		return files, nil
	}
	err := fs.WalkDir(dir, source, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := fs.ReadFile(dir, name)
		to := strings.TrimPrefix(name, source+"/")
		if path.Ext(name) == ".rb" {
			to = "lib/" + to
		}
		files[to] = string(text)
		return err
	})
	return files, err
}
