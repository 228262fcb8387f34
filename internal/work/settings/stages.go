package settings

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/finding/printed"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
)

// The stages that every component has, whatever its ecosystem: the first of all,
// and the last one, for which the settings say how the program is started.
const (
	StageClean = "clean"
	StageStart = "start"
)

// Stage replaces what a stage is by default.
type Stage struct {
	Name     string            `yaml:"name"`
	In       string            `yaml:"in"` // the component's folder; empty for all
	Command  []string          `yaml:"command"`
	Shell    string            `yaml:"shell"`  // instead of command: a line for the shell
	Folder   string            `yaml:"folder"` // to run in, relative to the project
	Env      map[string]string `yaml:"env"`
	Timeout  string            `yaml:"timeout"`
	Fine     []int             `yaml:"fine"` // exit statuses that are fine besides 0
	Optional bool              `yaml:"optional"`
	Skip     string            `yaml:"skip"`    // the reason
	Remove   []string          `yaml:"remove"`  // of clean: what is generated
	Results  []string          `yaml:"results"` // files of results that it writes
	Probes   []Probe           `yaml:"probes"`  // of start
	Within   string            `yaml:"within"`  // of start
	timeout  time.Duration
	within   time.Duration
}

// Probe is something that must hold of the started program.
type Probe struct {
	URL     string            `yaml:"url"`
	Status  int               `yaml:"status"`
	Header  map[string]string `yaml:"header"`
	Body    string            `yaml:"body"`
	JSON    string            `yaml:"json"`
	Is      string            `yaml:"is"`
	TCP     string            `yaml:"tcp"`
	Prints  string            `yaml:"prints"`
	Command []string          `yaml:"command"`
	Tells   string            `yaml:"tells"` // a subject, "npm/quayside"
}

// Watch is a pattern of lines that count as findings.
type Watch struct {
	Pattern string       `yaml:"pattern"`
	Kind    finding.Kind `yaml:"kind"` // empty for warning
}

// check reads what is written in words, and refuses what makes no sense.
func (s *Stage) check() (err error) {
	if s.timeout, err = ParseAge(s.Timeout); err != nil {
		return fmt.Errorf("timeout: %w", err)
	}
	if s.within, err = ParseAge(s.Within); err != nil {
		return fmt.Errorf("within: %w", err)
	}
	switch {
	case len(s.Command) > 0 && s.Shell != "":
		return errors.New("it has either a command or a shell line")
	case len(s.Probes) > 0 && s.Name != StageStart:
		return errors.New("only start has probes")
	case s.Name == StageStart && len(s.Command) == 0 && s.Shell == "" && s.Skip == "":
		return errors.New("it needs the command that starts the program")
	case len(s.Remove) > 0 && s.Name != StageClean:
		return errors.New("only clean removes something")
	case s.Folder != "" && !insideProject(s.Folder):
		return fmt.Errorf("folder %q leads outside the project", s.Folder)
	}
	for _, pattern := range slices.Concat(s.Remove, s.Results) {
		if !doublestar.ValidatePattern(pattern) || !insideProject(pattern) {
			return fmt.Errorf("%q is no pattern of files in the project", pattern)
		}
	}
	for _, p := range s.Probes {
		if err := p.check(); err != nil {
			return fmt.Errorf("a probe: %w", err)
		}
	}
	return nil
}

func insideProject(path string) bool {
	return !strings.HasPrefix(path, "/") && path != ".." && !strings.HasPrefix(path, "../") && !strings.Contains(path, "/../")
}

func (p Probe) check() error {
	ways := 0
	for _, set := range []bool{p.URL != "", p.TCP != "", p.Prints != "", len(p.Command) > 0} {
		if set {
			ways++
		}
	}
	if ways != 1 {
		return errors.New("it has one of url, tcp, prints and command")
	}
	if _, err := regexp.Compile(p.Prints); err != nil {
		return err
	}
	if subject, ok := model.ReadSubject(p.Tells); p.Tells != "" && (!ok || subject.Name == "") {
		return fmt.Errorf("tells: %q is no subject, as npm/quayside or runtime/node is", p.Tells)
	}
	if p.JSON == "" && p.Is != "" {
		return errors.New("is goes with json, which says where")
	}
	return nil
}

func (p Probe) model() model.Probe {
	tells, _ := model.ReadSubject(p.Tells)
	return model.Probe{
		URL: p.URL, Status: p.Status, Header: p.Header, Body: p.Body, JSON: p.JSON, Is: p.Is, TCP: p.TCP, Prints: p.Prints,
		Command: p.Command, Tells: tells,
	}
}

func readWatch(settings []Watch) (all []printed.Watch, err error) {
	for _, w := range settings {
		if w.Kind == "" {
			w.Kind = finding.Warning
		}
		if !slices.Contains(finding.Kinds, w.Kind) {
			return nil, fmt.Errorf("a pattern is of a failure, warning or deprecation, not %q", w.Kind)
		}
		if _, err := regexp.Compile(w.Pattern); err != nil || w.Pattern == "" {
			return nil, fmt.Errorf("%q is no regular expression", w.Pattern)
		}
		all = append(all, printed.Watch{Kind: w.Kind, Pattern: lazyregexp.New(w.Pattern)})
	}
	return all, nil
}

// Over is a stage with what the settings say of it.
func (s Stage) Over(stage model.Stage) model.Stage {
	switch {
	case s.Shell != "":
		stage.Command, stage.Skip, stage.ByHand = []string{"sh", "-c", s.Shell}, "", ""
	case len(s.Command) > 0:
		stage.Command, stage.Skip, stage.ByHand = s.Command, "", ""
	}
	stage.Env = slices.Clone(stage.Env)
	for name, value := range s.Env {
		stage.Env = append(stage.Env, name+"="+value)
	}
	slices.Sort(stage.Env)
	if s.Folder != "" {
		stage.Dir = s.Folder
	}
	if s.timeout > 0 {
		stage.Timeout = s.timeout
	}
	stage.Within, stage.Optional, stage.Fine = s.within, stage.Optional || s.Optional, s.Fine
	stage.Remove, stage.Results = append(stage.Remove, s.Remove...), append(stage.Results, s.Results...)
	for _, probe := range s.Probes {
		stage.Probes = append(stage.Probes, probe.model())
	}
	if s.Skip != "" {
		stage.Skip = s.Skip
	}
	return stage
}
