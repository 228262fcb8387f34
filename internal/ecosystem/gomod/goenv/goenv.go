// Package goenv reads what the go command is set to: its proxies, what is private, where its caches are.
package goenv

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/mod/module"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/host/within"
)

// Settings are the go command's, as far as they say where modules come from.
type Settings struct {
	Around  ecosystem.Surroundings
	file    map[string]string // the Go environment file
	Proxies []Proxy
	Logins  map[string]string // Authorization headers, by host
}

// Proxy is an entry of GOPROXY.
type Proxy struct {
	URL    string // or "off", "direct"
	Always bool   // the next entry is asked whatever goes wrong here
}

// Read reads what the go command is set to: from the environment, and from the person's own file.
func Read(ctx context.Context, s ecosystem.Surroundings) (*Settings, error) {
	g := &Settings{Around: s}
	var err error
	if g.file, err = readEnvFile(g.envFile()); err != nil {
		return nil, err
	}
	if g.Logins, err = g.Around.Netrc(); err != nil {
		return nil, err
	}
	list := g.Get("GOPROXY")
	if list == "" {
		if list, err = s.Ask(ctx, "go", "env", "GOPROXY"); err != nil {
			return nil, fmt.Errorf("asking go for its module proxy: %w\n  next: install Go, or set GOPROXY", err)
		}
	}
	g.Proxies, err = ReadProxies(list)
	return g, err
}

// ReadProxies reads a GOPROXY list, whose entries end with "," or "|".
func ReadProxies(list string) ([]Proxy, error) {
	var all []Proxy
	for list != "" {
		entry := list
		end := strings.IndexAny(list, ",|")
		always := false
		if end >= 0 {
			entry, always = list[:end], list[end] == '|'
			list = list[end+1:]
		} else {
			list = ""
		}
		entry = strings.TrimSpace(entry)
		switch {
		case entry == "":
			continue
		case entry == "off" || entry == "direct":
			return append(all, Proxy{entry, always}), nil
		}
		if !strings.Contains(entry, "://") {
			entry = "https://" + entry
		}
		if u, err := url.Parse(entry); err != nil || u.Scheme != "https" && u.Scheme != "http" && u.Scheme != "file" {
			return nil, &model.Fault{
				Doing: "reading GOPROXY", Wrong: fmt.Sprintf("an entry is no address of a proxy: %q", harmless.Address(entry)),
				Next: "write https addresses, off or direct, with commas between",
			}
		}
		all = append(all, Proxy{strings.TrimSuffix(entry, "/"), always})
	}
	if len(all) == 0 {
		return nil, &model.Fault{Doing: "reading GOPROXY", Wrong: "it names no proxy"}
	}
	return all, nil
}

// Get is a setting, from the environment, else from the Go environment file.
func (g *Settings) Get(name string) string {
	if v := g.Around.Env(name); v != "" {
		return v
	}
	return g.file[name]
}

func (g *Settings) envFile() string {
	if file := g.Around.Env("GOENV"); file != "" {
		return file
	}
	switch runtime.GOOS {
	case "darwin":
		return filepath.Join(g.Around.Home, "Library", "Application Support", "go", "env")
	case "windows":
		return filepath.Join(g.Around.Env("AppData"), "go", "env")
	}
	if dir := g.Around.Env("XDG_CONFIG_HOME"); dir != "" {
		return filepath.Join(dir, "go", "env")
	}
	return filepath.Join(g.Around.Home, ".config", "go", "env")
}

// maxSettings bounds a file of settings or logins, in bytes.
const maxSettings = 4 << 20

// readEnvFile reads lines of NAME=value. A missing file is empty.
func readEnvFile(file string) (map[string]string, error) {
	all := map[string]string{}
	if file == "off" {
		return all, nil
	}
	data, err := within.Plain(file, maxSettings)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return nil, &model.Fault{Doing: "reading the Go environment file", File: file, Wrong: model.Reason(err)}
	}
	for line := range strings.Lines(string(data)) {
		name, value, ok := strings.Cut(strings.TrimSpace(line), "=")
		if ok && !strings.HasPrefix(name, "#") {
			all[name] = value
		}
	}
	return all, nil
}

// Private tells whether a module is not to be asked for at proxies.
func (g *Settings) Private(path string) bool { return g.matches("GONOPROXY", path) }

// Unchecked tells whether a module is not to be asked for at the checksum
// database.
func (g *Settings) Unchecked(path string) bool {
	return g.matches("GONOSUMDB", path)
}

// matches looks a module up in a setting's patterns; GOPRIVATE stands in for
// one that is not set.
func (g *Settings) matches(name, path string) bool {
	if g.Get(name) == "" {
		name = "GOPRIVATE"
	}
	return module.MatchPrefixPatterns(g.Get(name), path)
}

// CacheDir is the go command's module cache.
func (g *Settings) CacheDir() string {
	if dir := g.Get("GOMODCACHE"); dir != "" {
		return dir
	}
	if list := filepath.SplitList(g.Get("GOPATH")); len(list) > 0 {
		return filepath.Join(list[0], "pkg", "mod")
	}
	return filepath.Join(g.Around.Home, "go", "pkg", "mod")
}

// Insecure tells whether modules may come without encryption.
func (g *Settings) Insecure(modulePath string) bool {
	return module.MatchPrefixPatterns(g.Get("GOINSECURE"), modulePath)
}

// Reachable refuses addresses that are not to be trusted with a module.
func (g *Settings) Reachable(p protocol.Place) error {
	u, err := url.Parse(p.Address)
	if err != nil || u.Host == "" {
		return fmt.Errorf("%s is said to be at %q, which is no address", p.Root, harmless.Address(p.Address))
	}
	switch u.Scheme {
	case "https", "ssh", "git+ssh":
		return nil
	}
	if g.Insecure(p.Root) && slices.Contains([]string{"http", "git"}, u.Scheme) {
		return nil
	}
	return fmt.Errorf(
		"%s is said to be at %s, which is no safe way to get it (GOINSECURE could allow it)", p.Root, harmless.Address(p.Address),
	)
}

// AllowsGit reads GOVCS, a list of "pattern:system|system" of which the first that
// fits counts; "public" and "private" stand for all modules of the kind.
func (g *Settings) AllowsGit(root string) bool {
	private := g.matches("GOPRIVATE", root)
	for rule := range strings.SplitSeq(g.Get("GOVCS"), ",") {
		pattern, systems, ok := strings.Cut(strings.TrimSpace(rule), ":")
		if !ok {
			continue
		}
		if pattern == "private" && private || pattern == "public" && !private || module.MatchPrefixPatterns(pattern, root) {
			list := strings.Split(systems, "|")
			return slices.Contains(list, "git") || slices.Contains(list, "all")
		}
	}
	return true
}
