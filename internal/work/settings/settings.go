// Package settings reads bellwether.yaml: what a project lays down for itself.
package settings

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/finding/printed"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/within"
)

// File is where a project keeps its settings.
const File = "bellwether.yaml"

// Settings are what a project lays down for itself.
type Settings struct {
	Reach    string   `yaml:"reach"`
	Hold     []string `yaml:"hold"`
	Preview  []string `yaml:"preview"`
	MinAge   string   `yaml:"min-age"`
	LeaveOut []string `yaml:"leave-out"` // folders of components to leave alone
	Stages   []Stage  `yaml:"stages"`
	// Reads are patterns of files that a component reads in the folders of others, by its folder.
	Reads    map[string][]string `yaml:"reads"`
	AtOnce   int                 `yaml:"at-once"` // how many components are verified at the same time
	Pins     []pin.Row           `yaml:"pins"`    // files of its own that state versions
	Books    []Book              `yaml:"books"`
	Together []Family            `yaml:"together"`
	Watch    []Watch             `yaml:"watch"`
	Notes    []Notes             `yaml:"notes"`
	// Deprecations is how many of the project's own there may be; nil for any number.
	Deprecations *int   `yaml:"deprecations"`
	Checklist    []Item `yaml:"checklist"`
	// MinimumAge is MinAge, read.
	MinimumAge time.Duration `yaml:"-"`
	// Watched are the patterns of Watch, read.
	Watched []printed.Watch `yaml:"-"`
}

// Family is requirements that move together.
type Family struct {
	Names []string     `yaml:"names"`
	Share compat.Share `yaml:"share"` // what of their versions they share; empty for the major
}

// Book is a compat book that applies to the project: a file or a folder in
// it, or one that is fetched.
type Book struct {
	Path   string `yaml:"path"`
	URL    string `yaml:"url"`
	SHA256 string `yaml:"sha256"` // of what is fetched, in hexadecimal digits
}

// Notes are where the release notes of packages are, whose archives have none.
type Notes struct {
	Name   string `yaml:"name"` // of a package, or a pattern of names as path.Match has them
	Folder string `yaml:"folder"`
	URL    string `yaml:"url"` // with {name} and {version}
}

// UnmarshalYAML takes a bare text for a path.
func (b *Book) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		b.Path = n.Value
		return nil
	}
	type plain Book
	return n.Decode((*plain)(b))
}

// maxSettings bounds the settings, in bytes.
const maxSettings = 4 << 20

// Read reads the project's settings; a project without any has the
// defaults.
func Read(fsys fs.FS) (*Settings, error) {
	s := &Settings{}
	data, err := fs.ReadFile(fsys, File)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil && len(data) > maxSettings {
		err = &within.TooLarge{Size: int64(len(data)), Limit: maxSettings}
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: model.Reason(err), Next: "make it a plain file of YAML"}
	}
	if err := yamldoc.Decode(File, data, s); err != nil {
		return nil, err
	}
	if _, ok := version.ReachNamed(s.Reach); !ok && s.Reach != "" && s.Reach != "stated" {
		return nil, &model.Fault{
			Doing: "reading the settings", File: File, Wrong: fmt.Sprintf("reach %q is not stated, patch, minor or major", s.Reach),
		}
	}
	if s.MinimumAge, err = ParseAge(s.MinAge); err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: "min-age: " + err.Error()}
	}
	for _, row := range s.Pins {
		if err := row.Check(); err != nil {
			return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: "pins: " + err.Error()}
		}
	}
	for i, f := range s.Together {
		if f.Share == "" {
			s.Together[i].Share = compat.ShareMajor
		} else if !slices.Contains(compat.Shares, f.Share) {
			return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: fmt.Sprintf("together: a family shares its "+
				"version, minor or major, not %q", f.Share)}
		}
		if len(f.Names) < 2 {
			return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: "together: a family has more than one name"}
		}
	}
	for _, n := range s.Notes {
		if n.Name == "" || (n.Folder == "") == (n.URL == "") || n.Folder != "" && !insideProject(n.Folder) {
			return nil, &model.Fault{
				Doing: "reading the settings", File: File, Wrong: "notes: an entry has a name, and either a folder of the project or a url",
			}
		}
	}
	for _, b := range s.Books {
		if (b.Path == "") == (b.URL == "") {
			return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: "books: a book has either a path or a url"}
		}
	}
	if s.AtOnce < 0 {
		return nil, &model.Fault{
			Doing: "reading the settings", File: File, Wrong: fmt.Sprintf("at-once: %d is no number of components", s.AtOnce),
		}
	}
	for dir, patterns := range s.Reads {
		for _, pattern := range patterns {
			if !doublestar.ValidatePattern(pattern) || !insideProject(pattern) {
				return nil, &model.Fault{
					Doing: "reading the settings", File: File,
					Wrong: fmt.Sprintf("reads: %s: %q is no pattern of files in the project", dir, pattern),
				}
			}
		}
	}
	for i := range s.Stages {
		if err := s.Stages[i].check(); err != nil {
			return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: fmt.Sprintf("the stage %s: %v", s.Stages[i].Name, err)}
		}
	}
	if s.Watched, err = readWatch(s.Watch); err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: "watch: " + err.Error()}
	}
	if err := checkList(s.Checklist); err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: File, Wrong: "checklist: " + err.Error()}
	}
	return s, nil
}

// Item is something that must be tried by hand.
type Item struct {
	ID   string `yaml:"id"`
	Text string `yaml:"text"`
}

// checkList refuses items that cannot be told apart.
func checkList(items []Item) error {
	var seen []string
	for _, item := range items {
		switch {
		case item.ID == "" || item.Text == "":
			return errors.New("an item has an id and a text")
		case slices.Contains(seen, item.ID):
			return fmt.Errorf("the id %q stands twice", item.ID)
		}
		seen = append(seen, item.ID)
	}
	return nil
}

// LeavesOut tells whether a folder is to be left alone, by itself or with one around it.
func (s *Settings) LeavesOut(dir string) bool {
	return slices.ContainsFunc(s.LeaveOut, func(out string) bool { return dir == out || strings.HasPrefix(dir, out+"/") })
}
