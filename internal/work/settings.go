package work

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/host/within"
)

// SettingsFile is where a project keeps its settings.
const SettingsFile = "bellwether.yaml"

// Settings are what a project lays down for itself.
type Settings struct {
	Reach    string          `yaml:"reach"`
	Hold     []string        `yaml:"hold"`
	Preview  []string        `yaml:"preview"`
	MinAge   string          `yaml:"min-age"`
	LeaveOut []string        `yaml:"leave-out"` // folders of components to leave alone
	Stages   []StageSetting  `yaml:"stages"`
	AtOnce   int             `yaml:"at-once"` // how many components are verified at the same time
	Pins     []pin.Row       `yaml:"pins"`    // files of its own that state versions
	Books    []BookSetting   `yaml:"books"`
	Together []FamilySetting `yaml:"together"`
	Watch    []WatchSetting  `yaml:"watch"`
	// Deprecations is how many of the project's own there may be; nil for any number.
	Deprecations *int            `yaml:"deprecations"`
	Checklist    []ChecklistItem `yaml:"checklist"`
	minAge       time.Duration
	watch        []finding.Watch
}

// FamilySetting is requirements that move together.
type FamilySetting struct {
	Names []string     `yaml:"names"`
	Share compat.Share `yaml:"share"` // what of their versions they share; empty for the major
}

// BookSetting is a compat book that applies to the project: a file or a folder in
// it, or one that is fetched.
type BookSetting struct {
	Path   string `yaml:"path"`
	URL    string `yaml:"url"`
	SHA256 string `yaml:"sha256"` // of what is fetched, in hexadecimal digits
}

// UnmarshalYAML takes a bare text for a path.
func (b *BookSetting) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		b.Path = n.Value
		return nil
	}
	type plain BookSetting
	return n.Decode((*plain)(b))
}

// maxSettings bounds the settings, in bytes.
const maxSettings = 4 << 20

// ReadSettings reads the project's settings; a project without any has the
// defaults.
func ReadSettings(fsys fs.FS) (*Settings, error) {
	s := &Settings{}
	data, err := fs.ReadFile(fsys, SettingsFile)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil && len(data) > maxSettings {
		err = &within.TooLarge{Size: int64(len(data)), Limit: maxSettings}
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: model.Reason(err), Next: "make it a plain file of YAML"}
	}
	if err := yamldoc.Decode(SettingsFile, data, s); err != nil {
		return nil, err
	}
	if _, ok := version.ReachNamed(s.Reach); !ok && s.Reach != "" {
		return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: fmt.Sprintf("reach %q is not patch, minor or major", s.Reach)}
	}
	if s.minAge, err = ParseAge(s.MinAge); err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: "min-age: " + err.Error()}
	}
	for _, row := range s.Pins {
		if err := row.Check(); err != nil {
			return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: "pins: " + err.Error()}
		}
	}
	for i, f := range s.Together {
		if f.Share == "" {
			s.Together[i].Share = compat.ShareMajor
		} else if !slices.Contains(compat.Shares, f.Share) {
			return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: fmt.Sprintf("together: a family shares its version, minor or major, not %q", f.Share)}
		}
		if len(f.Names) < 2 {
			return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: "together: a family has more than one name"}
		}
	}
	for _, b := range s.Books {
		if (b.Path == "") == (b.URL == "") {
			return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: "books: a book has either a path or a url"}
		}
	}
	if s.AtOnce < 0 {
		return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: fmt.Sprintf("at-once: %d is no number of components", s.AtOnce)}
	}
	for i := range s.Stages {
		if err := s.Stages[i].check(); err != nil {
			return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: fmt.Sprintf("the stage %s: %v", s.Stages[i].Name, err)}
		}
	}
	if s.watch, err = readWatch(s.Watch); err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: "watch: " + err.Error()}
	}
	if err := checkList(s.Checklist); err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: "checklist: " + err.Error()}
	}
	return s, nil
}

// maxAge is the longest span of time that settings may name: longer ones are mistakes.
const maxAge = 290 * 365 * 24 * time.Hour

// ParseAge reads a span of time: "10m", "72h", "3 days", "2 weeks". An empty
// text is zero.
func ParseAge(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return 0, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 && d <= maxAge {
		return d, nil
	}
	number, unit, _ := strings.Cut(text, " ")
	n, err := strconv.Atoi(number)
	days := map[string]int{"day": 1, "days": 1, "week": 7, "weeks": 7}[unit]
	if err != nil || n < 0 || days == 0 || n > int(maxAge/(24*time.Hour))/days {
		return 0, fmt.Errorf("%q is not a span of time (write 90m, 72h, 3 days or 2 weeks; at most 290 years)", text)
	}
	return time.Duration(n*days) * 24 * time.Hour, nil
}
