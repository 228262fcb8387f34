package work

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
)

// SettingsFile is where a project keeps its settings.
const SettingsFile = "bellwether.yaml"

// Settings are what a project lays down for itself.
type Settings struct {
	Reach    string         `yaml:"reach"`
	Hold     []string       `yaml:"hold"`
	Preview  []string       `yaml:"preview"`
	MinAge   string         `yaml:"min-age"`
	LeaveOut []string       `yaml:"leave-out"` // folders of components to leave alone
	Stages   []StageSetting `yaml:"stages"`
	Pins     []pin.Row      `yaml:"pins"` // files of its own that state versions
	minAge   time.Duration
}

// StageSetting replaces or adds a stage.
type StageSetting struct {
	Name     string            `yaml:"name"`
	In       string            `yaml:"in"` // the component's folder; empty for all
	Command  []string          `yaml:"command"`
	Shell    string            `yaml:"shell"` // instead of command: a line for the shell
	Env      map[string]string `yaml:"env"`
	Timeout  string            `yaml:"timeout"`
	Optional bool              `yaml:"optional"`
	Skip     string            `yaml:"skip"` // the reason
	timeout  time.Duration
}

// ReadSettings reads the project's settings; a project without any has the
// defaults.
func ReadSettings(fsys fs.FS) (*Settings, error) {
	s := &Settings{}
	data, err := fs.ReadFile(fsys, SettingsFile)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: err.Error()}
	}
	if err := readYAML(SettingsFile, data, s); err != nil {
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
	for i := range s.Stages {
		if s.Stages[i].timeout, err = ParseAge(s.Stages[i].Timeout); err != nil {
			return nil, &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: "timeout: " + err.Error()}
		}
	}
	return s, nil
}

// checkStages refuses settings for a stage that no component has.
func (p *Project) checkStages() error {
	var known []string
	for _, part := range p.Components {
		for _, s := range part.eco.Stages(part.Component) {
			if !slices.Contains(known, s.Name) {
				known = append(known, s.Name)
			}
		}
	}
	for _, set := range p.Settings.Stages {
		if !slices.Contains(known, set.Name) {
			return &model.Fault{Doing: "reading the settings", File: SettingsFile, Wrong: fmt.Sprintf("the stage %q is not one of those that there are here: %s", set.Name, strings.Join(known, ", "))}
		}
	}
	return nil
}

// ParseAge reads a span of time: "10m", "72h", "3 days", "2 weeks". An empty
// text is zero.
func ParseAge(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return 0, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return d, nil
	}
	number, unit, _ := strings.Cut(text, " ")
	n, err := strconv.Atoi(number)
	days := map[string]int{"day": 1, "days": 1, "week": 7, "weeks": 7}[unit]
	if err != nil || n < 0 || days == 0 {
		return 0, fmt.Errorf("%q is not a span of time (write 90m, 72h, 3 days or 2 weeks)", text)
	}
	return time.Duration(n*days) * 24 * time.Hour, nil
}

var unknownField = regexp.MustCompile(`unknown field "([^"]+)"`)

// readYAML reads a YAML text into a structure. Faults name the line; an
// unknown key is one, and names the known key that is nearest.
func readYAML(file string, data []byte, into any) error {
	err := yaml.UnmarshalWithOptions(data, into, yaml.Strict())
	if err == nil {
		return nil
	}
	fault := &model.Fault{Doing: "reading YAML", File: file, Wrong: err.Error()}
	var positioned yaml.Error
	if errors.As(err, &positioned) {
		fault.Wrong = positioned.GetMessage()
		if t := positioned.GetToken(); t != nil && t.Position != nil {
			fault.Line, fault.Col = t.Position.Line, t.Position.Column
		}
	}
	if m := unknownField.FindStringSubmatch(fault.Wrong); m != nil {
		fault.Wrong = fmt.Sprintf("the key %q is not known", m[1])
		if near := Nearest(m[1], yamlKeys(into)); near != "" {
			fault.Next = fmt.Sprintf("did you mean %q?", near)
		}
	}
	return fault
}

// yamlKeys are all keys that a structure's YAML form has, at any depth.
func yamlKeys(v any) []string {
	text, err := yaml.Marshal(v)
	if err != nil {
		return nil
	}
	file, err := parser.ParseBytes(text, 0)
	if err != nil || len(file.Docs) == 0 {
		return nil
	}
	var keys []string
	if m, ok := file.Docs[0].Body.(*ast.MappingNode); ok {
		for _, value := range m.Values {
			keys = append(keys, value.Key.String())
		}
	}
	return append(keys, "name", "in", "command", "shell", "env", "timeout", "optional", "skip")
}

// Nearest is the known word closest to word, "" if none is close.
func Nearest(word string, known []string) string {
	best, bestAt := "", len(word)/2+1
	for _, k := range known {
		if strings.HasSuffix(k, "/"+word) {
			return k // all but the beginning was written
		}
		if d := distance(word, k); d < bestAt {
			best, bestAt = k, d
		}
	}
	return best
}

// distance is the number of letters to change, add or drop (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := previous
			if a[i] != b[j] {
				change++
			}
			previous = row[j+1]
			row[j+1] = min(change, row[j]+1, previous+1)
		}
	}
	return row[len(b)]
}
