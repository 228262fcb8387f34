// Package machine tells which runtimes and tools are installed here, by asking
// them and by looking into the folders where version managers keep theirs.
package machine

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// Installed is one version of a runtime or tool on this machine.
type Installed struct {
	Version string
	Where   string // the folder it lies in; empty for what a bare command starts
}

// Machine is where the program runs.
type Machine struct {
	// Ask gives what a program prints, trimmed; see run.Prober.
	Ask  func(ctx context.Context, args ...string) (string, error)
	Env  func(name string) string
	Home string
}

// probe is how a runtime or tool is asked for its version.
type probe struct {
	command []string
	folders []string // of further versions: patterns below $HOME, "$NAME/…" or "/…", one folder a version
}

// lines are how many numbers of its version name a release line, of runtimes where that is not two.
var lines = map[string]int{"node": 1, "java": 1, "dotnet": 1, "erlang": 1, "swift": 1, "dart": 1}

// Line is how many numbers of a runtime's version name a release line: releases of a line stand for each other.
func Line(s model.Subject) int { return cmp.Or(lines[s.Name], 2) }

// Runtime is the runtime that a program is asked for its version, ok if it is one.
func Runtime(program string) (s model.Subject, ok bool) {
	for s, p := range probes {
		if s.Kind == "runtime" && p.command[0] == program {
			return s, true
		}
	}
	return s, false
}

// Folder is the folder of a version in which a program lies, "" for none.
func (i Installed) Folder(program string) string {
	for _, dir := range []string{"bin", "installation/bin", "."} {
		at := filepath.Join(i.Where, filepath.FromSlash(dir))
		if info, err := os.Stat(filepath.Join(at, program)); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return at
		}
	}
	return ""
}

// installers are the commands by which version managers get a version, by a folder of theirs.
var installers = map[string][][2]string{
	"node":   {{"$NVM_DIR", "nvm install"}, {".nvm", "nvm install"}, {".local/share/fnm", "fnm install"}, {".volta", "volta install node@"}},
	"ruby":   {{"$RBENV_ROOT", "rbenv install"}, {".rbenv", "rbenv install"}, {".rvm", "rvm install"}},
	"python": {{"$PYENV_ROOT", "pyenv install"}, {".pyenv", "pyenv install"}},
	"go":     {{".goenv", "goenv install"}},
}

// InstalledBy is the command that gets a version of a runtime, where a version manager is seen to be here; "" for none.
func (m *Machine) InstalledBy(s model.Subject, version string) string {
	for _, by := range installers[s.Name] {
		where, ok := m.expand(by[0])
		if info, err := os.Stat(where); !ok || err != nil || !info.IsDir() {
			continue
		}
		if strings.HasSuffix(by[1], "@") {
			return by[1] + version
		}
		return by[1] + " " + version
	}
	return ""
}

// probes are the runtimes and tools that can be asked. Where the folders are
// is laid down by the version managers that fill them.
var probes = map[model.Subject]probe{
	{Kind: "runtime", Name: "node"}: {[]string{"node", "--version"}, []string{
		"$NVM_DIR/versions/node/*", ".nvm/versions/node/*", ".local/share/fnm/node-versions/*", "$VOLTA_HOME/tools/image/node/*",
		".volta/tools/image/node/*", ".asdf/installs/nodejs/*", ".local/share/mise/installs/node/*",
	}},
	{Kind: "runtime", Name: "go"}: {[]string{"go", "env", "GOVERSION"}, []string{
		"sdk/go*", ".goenv/versions/*", ".asdf/installs/golang/*", ".local/share/mise/installs/go/*",
	}},
	{Kind: "runtime", Name: "python"}: {[]string{"python3", "--version"}, []string{
		"$PYENV_ROOT/versions/*", ".pyenv/versions/*", ".asdf/installs/python/*", ".local/share/mise/installs/python/*",
		".local/share/uv/python/cpython-*",
	}},
	{Kind: "runtime", Name: "ruby"}: {[]string{"ruby", "--version"}, []string{
		"$RBENV_ROOT/versions/*", ".rbenv/versions/*", ".rvm/rubies/ruby-*", ".rubies/ruby-*", ".asdf/installs/ruby/*",
		".local/share/mise/installs/ruby/*",
	}},
	{Kind: "runtime", Name: "java"}: {[]string{"java", "-version"}, []string{
		"$SDKMAN_DIR/candidates/java/*", ".sdkman/candidates/java/*", ".jenv/versions/*", ".asdf/installs/java/*",
		".local/share/mise/installs/java/*", "/usr/lib/jvm/*",
	}},
	{Kind: "runtime", Name: "php"}:  {[]string{"php", "--version"}, []string{".asdf/installs/php/*", ".phpenv/versions/*"}},
	{Kind: "runtime", Name: "rust"}: {[]string{"rustc", "--version"}, []string{"$RUSTUP_HOME/toolchains/*", ".rustup/toolchains/*"}},
	{Kind: "runtime", Name: "dotnet"}: {
		[]string{"dotnet", "--version"},
		[]string{"$DOTNET_ROOT/sdk/*", ".dotnet/sdk/*", "/usr/share/dotnet/sdk/*", "/usr/lib/dotnet/sdk/*"},
	},
	{Kind: "runtime", Name: "elixir"}: {
		[]string{"elixir", "--version"}, []string{".asdf/installs/elixir/*", ".local/share/mise/installs/elixir/*"},
	},
	{Kind: "runtime", Name: "erlang"}: {
		[]string{"erl", "-noshell", "-eval", `io:fwrite("~s", [erlang:system_info(otp_release)]), halt().`},
		[]string{".asdf/installs/erlang/*"},
	},
	{Kind: "runtime", Name: "swift"}: {[]string{"swift", "--version"}, nil},
	{Kind: "runtime", Name: "dart"}:  {[]string{"dart", "--version"}, nil},
	{Kind: "tool", Name: "npm"}:      {[]string{"npm", "--version"}, nil},
	{Kind: "tool", Name: "yarn"}:     {[]string{"yarn", "--version"}, nil},
	{Kind: "tool", Name: "pnpm"}:     {[]string{"pnpm", "--version"}, nil},
	{Kind: "tool", Name: "gradle"}: {
		[]string{"gradle", "--version"}, []string{"$SDKMAN_DIR/candidates/gradle/*", ".sdkman/candidates/gradle/*"},
	},
	{Kind: "tool", Name: "maven"}: {
		[]string{"mvn", "--version"}, []string{"$SDKMAN_DIR/candidates/maven/*", ".sdkman/candidates/maven/*"},
	},
	{Kind: "tool", Name: "git"}:       {[]string{"git", "--version"}, nil},
	{Kind: "tool", Name: "docker"}:    {[]string{"docker", "--version"}, nil},
	{Kind: "tool", Name: "cmake"}:     {[]string{"cmake", "--version"}, nil},
	{Kind: "tool", Name: "make"}:      {[]string{"make", "--version"}, nil},
	{Kind: "tool", Name: "gcc"}:       {[]string{"gcc", "--version"}, nil},
	{Kind: "tool", Name: "terraform"}: {[]string{"terraform", "version"}, nil},
}

// Program is what is asked for the version of a runtime or tool, "" for none.
func Program(s model.Subject) string {
	if p, ok := probes[s]; ok {
		return p.command[0]
	}
	return ""
}

// Askable tells whether there is a way to ask for a runtime or tool, so that it
// is known to be missing where it does not answer.
func Askable(s model.Subject) bool {
	_, ok := probes[s]
	return ok
}

var (
	dotted     = lazyregexp.New(`[0-9]+(?:\.[0-9]+)+(?:-(?:rc|beta|alpha|ea)[0-9A-Za-z.]*)?`)
	bare       = lazyregexp.New(`^\s*[0-9]+\b`)
	folderName = lazyregexp.New(`^(?:[a-z]+-?)?([0-9]+(?:\.[0-9]+)*)`)
)

// versionIn is the version in what a program says of itself, "" for none.
func versionIn(output string) string {
	return cmp.Or(dotted.FindString(output), strings.TrimSpace(bare.FindString(output)))
}

// Versions are the installed versions of a runtime or tool: first what a bare
// command starts, then others, newest first. Missing is no error.
func (m *Machine) Versions(ctx context.Context, s model.Subject) []Installed {
	p, ok := probes[s]
	if !ok {
		return nil
	}
	var found []Installed
	if out, err := m.Ask(ctx, p.command...); err == nil {
		if text := versionIn(out); text != "" {
			found = append(found, Installed{Version: text})
		}
	}
	return append(found, m.kept(p, found)...)
}

// kept are the versions in folders of version managers that are not among
// those known.
func (m *Machine) kept(p probe, known []Installed) []Installed {
	var more []Installed
	for _, pattern := range p.folders {
		where, ok := m.expand(pattern)
		if !ok {
			continue
		}
		folders, err := filepath.Glob(where)
		if err != nil {
			continue
		}
		for _, folder := range folders {
			info, err := os.Lstat(folder) // a link is another name for one of them
			text := ""
			if m := folderName.FindStringSubmatch(filepath.Base(folder)); m != nil {
				text = m[1]
			}
			same := func(i Installed) bool { return version.CompareStated(i.Version, text) == 0 }
			if err == nil && info.IsDir() && text != "" && !slices.ContainsFunc(known, same) && !slices.ContainsFunc(more, same) {
				more = append(more, Installed{text, folder})
			}
		}
	}
	slices.SortStableFunc(more, func(a, b Installed) int { return version.CompareStated(b.Version, a.Version) })
	return more
}

// expand puts a folder's beginning in; ok is false where a variable is not set.
func (m *Machine) expand(pattern string) (where string, ok bool) {
	switch {
	case strings.HasPrefix(pattern, "/"):
		return pattern, true
	case strings.HasPrefix(pattern, "$"):
		name, rest, _ := strings.Cut(pattern[1:], "/")
		if m.Env(name) == "" {
			return "", false
		}
		return filepath.Join(m.Env(name), rest), true
	case m.Home == "":
		return "", false
	}
	return filepath.Join(m.Home, pattern), true
}
