package main

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/version"
)

var (
	//go:embed groups.txt
	groupsText string
	//go:embed singles.txt
	singlesText string
)

// groups are the packages that are used together.
func groups() (all [][]string) {
	for line := range strings.Lines(groupsText) {
		if !strings.HasPrefix(line, "#") {
			all = append(all, strings.Fields(line))
		}
	}
	return all
}

// histories are the releases of packages by their majors, both ascending. The
// days of releases are of no use: registries that mirror others give their own.
type histories map[string][][]string

// readHistories reads the histories of all packages from a file, or asks npm for
// them and keeps them there.
func readHistories(file string) (histories, error) {
	past := histories{}
	if text, err := os.ReadFile(file); err == nil {
		return past, json.Unmarshal(text, &past)
	}
	names := strings.Fields(singlesText)
	for _, g := range groups() {
		names = append(names, g...)
	}
	slices.Sort(names)
	names = slices.Compact(names)
	all := make([][][]string, len(names))
	var g errgroup.Group
	g.SetLimit(2)
	for i, name := range names {
		g.Go(func() (err error) {
			if all[i], err = history(name); err != nil {
				return fmt.Errorf("the history of %s: %w", name, err)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for i, name := range names {
		past[name] = all[i]
	}
	text, err := json.Marshal(past)
	if err != nil {
		return nil, err
	}
	return past, os.WriteFile(file, text, 0o644)
}

// history asks npm for the releases of a package, pre-releases left out.
func history(name string) (lines [][]string, err error) {
	out, err := exec.Command("npm", "view", name, "versions", "--json").Output()
	if err != nil {
		return nil, err
	}
	var texts []string
	if err := json.Unmarshal(out, &texts); err != nil {
		return nil, err
	}
	var versions []version.Version
	for _, text := range texts {
		if v, err := (version.NPM{}).Parse(text); err == nil && !v.Preview() {
			versions = append(versions, v)
		}
	}
	slices.SortFunc(versions, version.Version.Compare)
	line := ""
	for _, v := range versions {
		if len(lines) == 0 || v.Line() != line {
			lines, line = append(lines, nil), v.Line()
		}
		lines[len(lines)-1] = append(lines[len(lines)-1], v.String())
	}
	return lines, nil
}

// shape is a manifest.
type shape struct {
	lines map[string]string // ranges by name
	dev   map[string]bool
}

// draw gives the shape of a number. What is used together is at majors that lie
// equally far in the histories, mostly; with apart, every other one lies anywhere.
func draw(past histories, seed uint64, n int, apart bool) shape {
	rng := rand.New(rand.NewPCG(seed, uint64(n)))
	s := shape{lines: map[string]string{}, dev: map[string]bool{}}
	take := func(name string, era float64) {
		lines := past[name]
		line := lines[int(era*float64(len(lines)-1)+0.5)]
		text := line[len(line)-1-rng.IntN(len(line)+1)/2]
		s.lines[name] = []string{"^", "^", "^", "^", "^", "^", "^", "~", "", ">="}[rng.IntN(10)] + text
		s.dev[name] = rng.IntN(2) == 0
	}
	gs := groups()
	for range 1 + rng.IntN(2) {
		era := 1 - rng.Float64()*rng.Float64() // newer ones are more common
		for i, name := range gs[rng.IntN(len(gs))] {
			at := era
			if apart && rng.IntN(2) == 0 {
				at = rng.Float64()
			}
			if i < 2 || rng.IntN(2) == 0 {
				take(name, at)
			}
		}
	}
	singles := strings.Fields(singlesText)
	for range rng.IntN(12) {
		take(singles[rng.IntN(len(singles))], 1-rng.Float64()*rng.Float64())
	}
	return s
}

// without is the shape with one requirement less.
func (s shape) without(name string) shape {
	less := shape{lines: maps.Clone(s.lines), dev: s.dev}
	delete(less.lines, name)
	return less
}

// manifest is the shape as a package.json.
func (s shape) manifest() string {
	type object map[string]string
	m := struct {
		Name         string `json:"name"`
		Version      string `json:"version"`
		Private      bool   `json:"private"`
		Dependencies object `json:"dependencies"`
		Dev          object `json:"devDependencies"`
	}{"shape", "1.0.0", true, object{}, object{}}
	for name, text := range s.lines {
		if s.dev[name] {
			m.Dev[name] = text
		} else {
			m.Dependencies[name] = text
		}
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		panic(err) // texts only
	}
	return string(text) + "\n"
}
