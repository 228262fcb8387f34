package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// The verdicts of a route to the newest majors.
const (
	arrived verdict = "legs, whose end npm takes as it is"
	proved  verdict = "a proof"
	// arrivedForced is not judged by npm, which did not find the start either.
	arrivedForced verdict = "legs, from a lock that contradicts itself"
	noStart       verdict = "npm finds no start"
	untrue        verdict = "a sentence that is not true"
	noAnswer      verdict = "neither legs nor a proof"
)

// majors lays a shape out as npm locks it, routes it to the newest majors, and goes there.
// Every third is a workspace, whose members ask for parts of it.
func (p *project) majors(s shape, n int) (result, error) {
	if err := p.lay(s.members(n)); err != nil {
		return result{}, err
	}
	// Where npm finds no start, one is forced, as people do; its lock contradicts itself.
	status, _, err := p.npm("install", "--package-lock-only")
	forced := status != 0
	if forced && err == nil {
		status, _, err = p.npm("install", "--package-lock-only", "--legacy-peer-deps")
	}
	if err != nil || status != 0 {
		return result{verdict: noStart}, err
	}
	status, out, err := p.call(p.bellwether, "route", "--reach", "major", "--format", "json")
	if err != nil {
		return result{}, err
	}
	switch {
	case status == 1 && strings.Contains(out, `"bellwether/conflict/1"`):
		return result{verdict: proved}, nil
	case status != 0:
		return result{verdict: noAnswer, why: out}, nil
	}
	if wrong := untrueIn(out); wrong != "" {
		return result{verdict: untrue, why: wrong}, nil
	}
	if err := p.withoutSteps(); err != nil {
		return result{}, err
	}
	if status, out, err = p.call(p.bellwether, "advance", "--all"); err != nil || status != 0 {
		return result{verdict: failed, why: out}, err
	}
	if forced {
		return result{verdict: arrivedForced}, nil
	}
	ours, err := os.ReadFile(filepath.Join(p.dir, lock))
	if err != nil {
		return result{}, err
	}
	if status, out, err = p.npm("install", "--package-lock-only"); err != nil {
		return result{}, err
	}
	theirs, err := os.ReadFile(filepath.Join(p.dir, lock))
	switch {
	case status != 0:
		return result{verdict: refused, why: tail(out)}, nil
	case err != nil || string(ours) != string(theirs):
		return result{verdict: changed}, err
	}
	return result{verdict: arrived}, nil
}

// members are the manifests of a shape, or of a workspace whose members have parts of it.
func (s shape) members(n int) map[string]string {
	if n%3 != 0 {
		return map[string]string{"package.json": s.manifest()}
	}
	files := map[string]string{"package.json": `{"name": "shape", "private": true, "workspaces": ["a", "b"]}` + "\n"}
	rng := rand.New(rand.NewPCG(*seed, uint64(n)))
	for _, name := range []string{"a", "b"} {
		part := shape{lines: map[string]string{}, dev: s.dev}
		for _, of := range slices.Sorted(maps.Keys(s.lines)) {
			if rng.IntN(4) != 0 {
				part.lines[of] = s.lines[of]
			}
		}
		files[name+"/package.json"] = strings.Replace(part.manifest(), `"shape"`, `"`+name+`"`, 1)
	}
	return files
}

var stays = regexp.MustCompile(`^(\S+) stays at (\S+) and does not go to (\S+):`)

// untrueIn is a sentence of a route that its legs contradict, "" for none.
func untrueIn(out string) string {
	var r struct {
		Legs []struct {
			Moves []struct{ Name, From, To string }
		}
		Notices []string
	}
	if err := json.Unmarshal([]byte(out[max(0, strings.Index(out, "{")):]), &r); err != nil {
		return fmt.Sprintf("what it says is no JSON: %v", err)
	}
	at := map[string]string{}
	for _, leg := range r.Legs {
		for _, m := range leg.Moves {
			if was, moved := at[m.Name]; moved && was != m.From && m.From != "" {
				return fmt.Sprintf("%s moves from %s, and was at %s", m.Name, m.From, was)
			}
			at[m.Name] = m.To
		}
	}
	for _, notice := range r.Notices {
		if m := stays.FindStringSubmatch(notice); m != nil && at[m[1]] != "" && at[m[1]] != m[2] {
			return fmt.Sprintf("%s; but the legs take it to %s", notice, at[m[1]])
		}
	}
	return ""
}
