// Package shorthand writes small universes for tests in a few words, one
// release a line:
//
//	left 1.0.0 right@^1 peer:frame@^2 peer?:paint@* opt:wind@1 node:>=18 deprecated
//	left 0.9.0 deprecated="a Go string"
//
// Lines that begin with "|" are the changelog in the archive of the release before them.
package shorthand

import (
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"testing/fstest"
	"time"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/standin"
)

// Load gives the universe that lines describe. Releases appear one a day from
// 2024-01-01 on, in the order of the lines; "on:DATE" sets another day.
func Load(lines string) (*standin.Universe, error) {
	type release = map[string]any
	packages := map[string][]release{}
	day := time.Date(2024, 1, 1, 12, 0, 0, 0, time.UTC)
	fsys := fstest.MapFS{}
	var last string      // the package of the last release
	var changes []string // the folders of changelogs
	for line := range strings.Lines(lines) {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "|"); ok && last != "" {
			releases := packages[last]
			source := fmt.Sprintf("changes-%d", len(releases))
			releases[len(releases)-1]["source"] = source
			name := folder(last) + "/" + source + "/CHANGELOG.md"
			if !slices.Contains(changes, name) {
				changes = append(changes, name)
				fsys[name] = &fstest.MapFile{Mode: fs.FileMode(0o644)}
				fsys[folder(last)+"/"+source+"/index.js"] = &fstest.MapFile{
					Data: []byte("module.exports = {};\n"),
					Mode: fs.FileMode(0o644),
				}
			}
			if code, is := strings.CutPrefix(text, "> "); is { // of its program
				index := fsys[folder(last)+"/"+source+"/index.js"]
				index.Data = append(index.Data, code+"\n"...)
				continue
			}
			fsys[name].Data = append(fsys[name].Data, strings.TrimPrefix(text, " ")+"\n"...)
			continue
		}
		fields := strings.Fields(line)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		r := release{
			"version": fields[1], "published": day.Format(time.RFC3339), "dependencies": map[string]string{},
			"optionalDependencies": map[string]string{}, "peerDependencies": map[string]string{},
			"peerDependenciesMeta": map[string]any{}, "engines": map[string]string{}, "os": []string{},
		}
		day = day.AddDate(0, 0, 1)
		for _, field := range fields[2:] {
			if err := put(r, field); err != nil {
				return nil, fmt.Errorf("%s: %w", strings.TrimSpace(line), err)
			}
		}
		last = fields[0]
		packages[last] = append(packages[last], r)
	}
	for name, releases := range packages {
		text, err := yaml.Marshal(map[string]any{"name": name, "releases": releases})
		if err != nil {
			return nil, err
		}
		fsys[folder(name)+"/releases.yaml"] = &fstest.MapFile{Data: text, Mode: fs.FileMode(0o644)}
	}
	return standin.Load(fsys)
}

// folder is where a package's files lie.
func folder(name string) string { return strings.ReplaceAll(strings.Trim(name, "@"), "/", "-") }

func put(r map[string]any, field string) error {
	kind, rest, found := strings.Cut(field, ":")
	if !found || strings.Contains(kind, "@") {
		kind, rest = "dep", field
	}
	rest = strings.ReplaceAll(rest, "_", " ") // ranges may hold spaces
	name, rng := rest, ""
	if at := strings.LastIndex(rest, "@"); at > 0 {
		name, rng = rest[:at], rest[at+1:]
	}
	if strings.Contains(rest, "@npm:") { // an alias: near@npm:far@^1
		name, rng, _ = strings.Cut(rest, "@npm:")
		rng = "npm:" + rng
	}
	switch kind {
	case "dep":
		if said, quoted := strings.CutPrefix(rest, "deprecated="); quoted {
			text, err := strconv.Unquote(said)
			r["deprecated"] = text
			return err
		}
		if rest == "deprecated" {
			r["deprecated"] = "no longer looked after"
			return nil
		}
		if rest == "typed" {
			r["types"] = "index.d.ts"
			return nil
		}
		if rest == "attested" {
			r["attested"] = true
			return nil
		}
		r["dependencies"].(map[string]string)[name] = rng
	case "opt":
		r["optionalDependencies"].(map[string]string)[name] = rng
	case "peer", "peer?":
		r["peerDependencies"].(map[string]string)[name] = rng
		if kind == "peer?" {
			r["peerDependenciesMeta"].(map[string]any)[name] = map[string]any{"optional": true}
		}
	case "node":
		r["engines"].(map[string]string)["node"] = rest
	case "os":
		r["os"] = []string{rest}
	case "on":
		r["published"] = rest + "T12:00:00Z"
	default:
		return fmt.Errorf("%q is not understood", field)
	}
	return nil
}
