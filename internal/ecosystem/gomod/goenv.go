package gomod

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/mod/module"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/within"
)

// settings are the go command's, as far as they say where modules come from.
type settings struct {
	around  ecosystem.Surroundings
	file    map[string]string // the Go environment file
	proxies []proxy
	logins  map[string]string // Authorization headers, by host
}

// proxy is an entry of GOPROXY.
type proxy struct {
	url    string // or "off", "direct"
	always bool   // the next entry is asked whatever goes wrong here
}

func readSettings(ctx context.Context, s ecosystem.Surroundings) (*settings, error) {
	g := &settings{around: s}
	var err error
	if g.file, err = readEnvFile(g.envFile()); err != nil {
		return nil, err
	}
	if g.logins, err = g.around.Netrc(); err != nil {
		return nil, err
	}
	list := g.get("GOPROXY")
	if list == "" {
		if list, err = s.Ask(ctx, "go", "env", "GOPROXY"); err != nil {
			return nil, fmt.Errorf("asking go for its module proxy: %w\n  next: install Go, or set GOPROXY", err)
		}
	}
	g.proxies, err = readProxies(list)
	return g, err
}

// readProxies reads a GOPROXY list, whose entries end with "," or "|".
func readProxies(list string) ([]proxy, error) {
	var all []proxy
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
			return append(all, proxy{entry, always}), nil
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
		all = append(all, proxy{strings.TrimSuffix(entry, "/"), always})
	}
	if len(all) == 0 {
		return nil, &model.Fault{Doing: "reading GOPROXY", Wrong: "it names no proxy"}
	}
	return all, nil
}

// get is a setting, from the environment, else from the Go environment file.
func (g *settings) get(name string) string {
	if v := g.around.Env(name); v != "" {
		return v
	}
	return g.file[name]
}

func (g *settings) envFile() string {
	if file := g.around.Env("GOENV"); file != "" {
		return file
	}
	switch runtime.GOOS {
	case "darwin":
		return filepath.Join(g.around.Home, "Library", "Application Support", "go", "env")
	case "windows":
		return filepath.Join(g.around.Env("AppData"), "go", "env")
	}
	if dir := g.around.Env("XDG_CONFIG_HOME"); dir != "" {
		return filepath.Join(dir, "go", "env")
	}
	return filepath.Join(g.around.Home, ".config", "go", "env")
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

// private tells whether a module is not to be asked for at proxies.
func (g *settings) private(path string) bool { return g.matches("GONOPROXY", path) }

// unchecked tells whether a module is not to be asked for at the checksum
// database.
func (g *settings) unchecked(path string) bool {
	return g.matches("GONOSUMDB", path)
}

// matches looks a module up in a setting's patterns; GOPRIVATE stands in for
// one that is not set.
func (g *settings) matches(name, path string) bool {
	if g.get(name) == "" {
		name = "GOPRIVATE"
	}
	return module.MatchPrefixPatterns(g.get(name), path)
}

// cacheDir is the go command's module cache.
func (g *settings) cacheDir() string {
	if dir := g.get("GOMODCACHE"); dir != "" {
		return dir
	}
	if list := filepath.SplitList(g.get("GOPATH")); len(list) > 0 {
		return filepath.Join(list[0], "pkg", "mod")
	}
	return filepath.Join(g.around.Home, "go", "pkg", "mod")
}
