package main

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem/mavenrepo"
)

// lists are the names of public projects, a file for each kind.
//
//go:embed go.txt npm.txt maven.txt
var lists embed.FS

// The age of a project's version, as it is drawn.
const (
	youngest = 18 * 30 * 24 * time.Hour
	oldest   = 5 * 365 * 24 * time.Hour
)

// errNotThere means that a project has no version of that age.
var errNotThere = errors.New("there is no version of that age")

// projects are the drawn ones of a kind.
func projects(kind string, o options) ([]string, error) {
	text, err := lists.ReadFile(kind + ".txt")
	if err != nil {
		return nil, fmt.Errorf("%s is no kind of projects here", kind)
	}
	all := strings.Fields(string(text))
	if len(o.only) > 0 {
		return slices.DeleteFunc(slices.Clone(o.only), func(name string) bool {
			plain, _ := parted(name)
			return !slices.Contains(all, plain)
		}), nil
	}
	rand.New(rand.NewPCG(o.seed, digest(kind))).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	return all[:min(o.count, len(all))], nil
}

func digest(text string) uint64 {
	h := fnv.New64a()
	_, _ = io.WriteString(h, text)
	return h.Sum64()
}

// parted takes NAME@VERSION apart; a scope is part of the name.
func parted(name string) (plain, version string) {
	if at := strings.LastIndex(name, "@"); at > 0 {
		return name[:at], name[at+1:]
	}
	return name, ""
}

// aged draws a version that is as old as is wanted.
func aged(versions []string, rng *rand.Rand, when func(version string) (time.Time, error)) (string, error) {
	rng.Shuffle(len(versions), func(i, j int) { versions[i], versions[j] = versions[j], versions[i] })
	for _, v := range versions[:min(len(versions), 60)] {
		at, err := when(v)
		if age := time.Since(at); err == nil && age > youngest && age < oldest {
			return v, nil
		}
	}
	return "", errNotThere
}

// plainVersion tells whether a text is a release, and no pre-release.
func plainVersion(text string) bool {
	return strings.Trim(strings.TrimSuffix(strings.TrimSuffix(strings.TrimPrefix(text, "v"), ".Final"), "-jre"), "0123456789.") == ""
}

// fetch puts a project into a folder, and gives the version that was drawn.
func fetch(ctx context.Context, kind, name, dir string, rng *rand.Rand) (version string, err error) {
	plain, version := parted(name)
	switch kind {
	case "go":
		return fetchModule(ctx, plain, version, dir, rng)
	case "npm":
		return fetchPackage(ctx, plain, version, dir, rng)
	}
	return fetchPOM(ctx, plain, version, dir, rng)
}

func fetchModule(ctx context.Context, name, version, dir string, rng *rand.Rand) (string, error) {
	empty, err := os.MkdirTemp("", "real-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(empty)
	if version == "" {
		text, err := output(ctx, empty, "go", "list", "-m", "-versions", name)
		if err != nil {
			return "", err
		}
		versions := slices.DeleteFunc(strings.Fields(text)[1:], func(v string) bool { return !plainVersion(v) })
		version, err = aged(versions, rng, func(v string) (time.Time, error) {
			text, err := output(ctx, empty, "go", "list", "-m", "-f", "{{.Time.Format \"2006-01-02T15:04:05Z07:00\"}}", name+"@"+v)
			if err != nil {
				return time.Time{}, err
			}
			return time.Parse(time.RFC3339, strings.TrimSpace(text))
		})
		if err != nil {
			return "", err
		}
	}
	text, err := output(ctx, empty, "go", "mod", "download", "-json", name+"@"+version)
	if err != nil {
		return "", err
	}
	var got struct{ Dir string }
	if err := json.Unmarshal([]byte(text), &got); err != nil {
		return "", err
	}
	if err := os.CopyFS(dir, os.DirFS(got.Dir)); err != nil {
		return "", err
	}
	if err := exec.CommandContext(ctx, "chmod", "-R", "u+w", dir).Run(); err != nil {
		return "", err
	}
	_ = os.Remove(filepath.Join(dir, "go.work")) // it speaks of folders that an archive does not have
	return version, nil
}

func fetchPackage(ctx context.Context, name, version, dir string, rng *rand.Rand) (string, error) {
	text, err := output(ctx, ".", "npm", "view", name, "time", "--json")
	if err != nil {
		return "", err
	}
	times := map[string]time.Time{}
	if err := json.Unmarshal([]byte(text), &times); err != nil {
		return "", err
	}
	if version == "" {
		var versions []string
		for v := range times {
			if plainVersion(v) {
				versions = append(versions, v)
			}
		}
		slices.Sort(versions)
		if version, err = aged(versions, rng, func(v string) (time.Time, error) { return times[v], nil }); err != nil {
			return "", err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	archive, err := output(ctx, dir, "npm", "pack", "--silent", name+"@"+version)
	if err != nil {
		return "", err
	}
	archive = filepath.Join(dir, strings.TrimSpace(archive))
	if _, err := output(ctx, dir, "tar", "-xzf", archive, "--strip-components=1"); err != nil {
		return "", err
	}
	if err := os.Remove(archive); err != nil {
		return "", err
	}
	// The lock is as its makers had it some weeks later.
	before := times[version].AddDate(0, 1, 0).Format(time.DateOnly)
	_, err = output(ctx, dir, "npm", "install", "--package-lock-only", "--ignore-scripts", "--no-audit", "--force", "--before="+before)
	return version, err
}

func fetchPOM(ctx context.Context, name, version, dir string, rng *rand.Rand) (string, error) {
	group, artifact, _ := strings.Cut(name, ":")
	base := mavenrepo.Central.URL + path.Join("/", strings.ReplaceAll(group, ".", "/"), artifact)
	get := func(address string) ([]byte, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return nil, err
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return nil, err
		}
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("%s: %s", address, answer.Status)
		}
		return io.ReadAll(answer.Body)
	}
	pom := func(v string) string { return base + "/" + v + "/" + artifact + "-" + v + ".pom" }
	if version == "" {
		text, err := get(base + "/maven-metadata.xml")
		if err != nil {
			return "", err
		}
		doc, err := xmldoc.Parse("maven-metadata.xml", text)
		if err != nil {
			return "", err
		}
		var versions []string
		for _, v := range doc.At("versioning", "versions").All("version") {
			if text := v.Text; plainVersion(text) {
				versions = append(versions, text)
			}
		}
		if len(versions) == 0 {
			return "", errNotThere
		}
		// Central does not tell the days: it is one behind the middle of the list, and not among the last.
		slices.SortFunc(versions, mavenrepo.Compare)
		version = versions[len(versions)/2+rng.IntN(len(versions)*4/10+1)]
	}
	text, err := get(pom(version))
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	return version, os.WriteFile(filepath.Join(dir, "pom.xml"), text, 0o644)
}

// output is what a command prints.
func output(ctx context.Context, dir, program string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GOFLAGS=-mod=mod", "GOWORK=off")
	text, err := cmd.Output()
	if err != nil {
		said := err.Error()
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			said += ": " + firstLine(string(exit.Stderr))
		}
		return "", fmt.Errorf("%s %s: %s", program, strings.Join(args, " "), said)
	}
	return string(text), nil
}

// firstLine is the first line of a text that says something.
func firstLine(text string) string {
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" {
			return line
		}
	}
	return ""
}
