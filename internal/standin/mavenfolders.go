package standin

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/yamldoc"
)

// mavenHistory is one package's file of releases. What a release does not state is as in the release before it.
type mavenHistory struct {
	Name     string         `yaml:"name"` // "group:artifact"
	Releases []mavenRelease `yaml:"releases"`
	dir      fs.FS
}

// mavenRelease is one version as a releases.yaml states it.
type mavenRelease struct {
	Version    string            `yaml:"version"`
	Source     string            `yaml:"source"`  // a folder beside the file with sources in Java
	Java       int               `yaml:"java"`    // the version that they are compiled for
	Needs      map[string]string `yaml:"needs"`   // versions by package; "=" stands for the version of the release itself
	Manages    map[string]string `yaml:"manages"` // the package is a list of versions
	Repository string            `yaml:"repository"`
}

// Compile makes an archive of sources, by their names, with archives beside it that they need.
type Compile func(java int, sources map[string][]byte, beside [][]byte) ([]byte, error)

// LoadArtifacts reads every releases.yaml below fsys, and gives what repositories have, by their names: "" for the first
// one. Without a compiler archives are empty.
func LoadArtifacts(fsys fs.FS, compile Compile) (map[string]Artifacts, error) {
	l := &mavenLoader{compile: compile, all: map[string]*mavenHistory{}, archives: map[string][]byte{}}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() != "releases.yaml" {
			return err
		}
		data, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		h := &mavenHistory{}
		if err := yamldoc.Decode(name, data, h); err != nil {
			return err
		}
		if h.dir, err = fs.Sub(fsys, path.Dir(name)); err != nil {
			return err
		}
		l.all[h.Name] = h
		return h.carry()
	})
	repositories := map[string]Artifacts{}
	for _, name := range slices.Sorted(maps.Keys(l.all)) {
		for _, r := range l.all[name].Releases {
			if err == nil {
				err = l.put(repositories, name, r)
			}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("loading the stand-in's artifacts: %w", err)
	}
	return repositories, nil
}

// carry gives releases what those before them state.
func (h *mavenHistory) carry() error {
	before := mavenRelease{}
	for i := range h.Releases {
		r := &h.Releases[i]
		if r.Version == "" {
			return fmt.Errorf("%s: a release has no version", h.Name)
		}
		r.Source, r.Java = cmp.Or(r.Source, before.Source), cmp.Or(r.Java, before.Java)
		if r.Needs == nil {
			r.Needs = before.Needs
		}
		before = *r
	}
	return nil
}

type mavenLoader struct {
	compile  Compile
	all      map[string]*mavenHistory
	archives map[string][]byte // by package and source
}

// put adds a release to its repository.
func (l *mavenLoader) put(repositories map[string]Artifacts, name string, r mavenRelease) error {
	group, artifact, ok := strings.Cut(name, ":")
	if !ok {
		return fmt.Errorf("%q is no group with an artifact", name)
	}
	if repositories[r.Repository] == nil {
		repositories[r.Repository] = Artifacts{}
	}
	file := strings.ReplaceAll(group, ".", "/") + "/" + artifact + "/" + r.Version + "/" + artifact + "-" + r.Version
	repositories[r.Repository][file+".pom"] = r.pom(group, artifact)
	archive, err := l.archive(name, r)
	if err == nil && archive != nil {
		repositories[r.Repository][file+".jar"] = string(archive)
	}
	return err
}

func (r mavenRelease) pom(group, artifact string) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"<project>\n<modelVersion>4.0.0</modelVersion>\n<groupId>%s</groupId>\n<artifactId>%s</artifactId>\n<version>%s</version>\n",
		group,
		artifact,
		r.Version,
	)
	list := func(of map[string]string) {
		b.WriteString("<dependencies>\n")
		for _, name := range slices.Sorted(maps.Keys(of)) {
			group, artifact, _ := strings.Cut(name, ":")
			fmt.Fprintf(&b, "<dependency><groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version></dependency>\n",
				group, artifact, r.needed(of[name]))
		}
		b.WriteString("</dependencies>\n")
	}
	if r.Manages != nil {
		b.WriteString("<packaging>pom</packaging>\n<dependencyManagement>\n")
		list(r.Manages)
		b.WriteString("</dependencyManagement>\n")
	}
	if r.Java > 0 {
		fmt.Fprintf(&b, "<properties><maven.compiler.release>%d</maven.compiler.release></properties>\n", r.Java)
	}
	list(r.Needs)
	return b.String() + "</project>\n"
}

func (r mavenRelease) needed(version string) string {
	if version == "=" {
		return r.Version
	}
	return version
}

// archive compiles a release, or takes what was compiled of the same sources before; nil for nothing to compile.
func (l *mavenLoader) archive(name string, r mavenRelease) ([]byte, error) {
	if r.Source == "" || l.compile == nil {
		return nil, nil
	}
	key := fmt.Sprintf("%s/%s/%d", name, r.Source, r.Java)
	if known := l.archives[key]; known != nil {
		return known, nil
	}
	sources := map[string][]byte{}
	err := fs.WalkDir(l.all[name].dir, r.Source, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		sources[strings.TrimPrefix(file, r.Source+"/")], err = fs.ReadFile(l.all[name].dir, file)
		return err
	})
	if err != nil {
		return nil, err
	}
	var beside [][]byte
	for _, need := range slices.Sorted(maps.Keys(r.Needs)) {
		h := l.all[need]
		if h == nil {
			return nil, fmt.Errorf("%s needs %s, which nothing releases", name, need)
		}
		at := slices.IndexFunc(h.Releases, func(o mavenRelease) bool { return o.Version == r.needed(r.Needs[need]) })
		if at < 0 {
			return nil, fmt.Errorf("%s %s needs %s %s, which is not released", name, r.Version, need, r.needed(r.Needs[need]))
		}
		archive, err := l.archive(need, h.Releases[at])
		if err != nil {
			return nil, err
		}
		beside = append(beside, archive)
	}
	l.archives[key], err = l.compile(r.Java, sources, beside)
	return l.archives[key], err
}
