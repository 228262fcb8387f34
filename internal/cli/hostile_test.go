//go:build linux

package cli

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/shorthand"
)

var (
	hostiles     = flag.Int("hostiles", 12, "how many hostile projects TestTraced makes")
	firstHostile = flag.Int("first-hostile", 0, "the seed of the first of them")
)

// TestTraced runs commands on projects that somebody else made to do harm, under a
// tracer: no process is started but those of a list, nothing is asked of the network but
// the registry, and no file is changed outside of the project, the person's folders and
// temporary ones. What lies outside of the project is not even read by its leave.
func TestTraced(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	t.Parallel()
	if out, err := exec.Command("strace", "-f", "-e", "trace=execve", "true").CombinedOutput(); err != nil {
		t.Skipf("nothing can be traced here: %v: %s", err, out)
	}
	u, err := shorthand.Load("left 1.0.0\nleft 1.1.0\n")
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	defer server.Close()
	cache := t.TempDir() // what tools say of their versions is asked once
	t.Run("projects", func(t *testing.T) {
		for seed := range *hostiles {
			seed += *firstHostile
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				h := newHostile(t, uint64(seed), server.URL)
				h.cache = cache
				h.trace(t, h.command())
			})
		}
	})
}

// hostile is a project with all kinds of things in it that do harm to who trusts them.
type hostile struct {
	seed     uint64
	rng      *rand.Rand
	registry string
	dir      string   // all that belongs to the case
	root     string   // the project
	outside  string   // where nobody has to be
	cache    string   // the person's
	made     []string // what was put into it
}

func newHostile(t *testing.T, seed uint64, registry string) *hostile {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	h := &hostile{
		seed: seed, rng: rand.New(rand.NewPCG(seed, 13)), registry: registry, dir: dir, root: filepath.Join(dir, "project"),
		outside: filepath.Join(dir, "outside"),
	}
	for _, d := range []string{h.root, h.outside, filepath.Join(dir, "home"), filepath.Join(dir, "tmp")} {
		require.NoError(t, os.Mkdir(d, 0o755))
	}
	maven := filepath.Join(dir, "home", ".m2")
	require.NoError(t, os.Mkdir(maven, 0o755))
	settings := "<settings><mirrors><mirror><id>m</id><mirrorOf>*</mirrorOf><url>" + registry + "</url></mirror></mirrors></settings>"
	require.NoError(t, os.WriteFile(filepath.Join(maven, "settings.xml"), []byte(settings), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(h.outside, "secret"), []byte("package.json"), 0o644))
	program := "#!/bin/sh\ntouch " + filepath.Join(h.outside, "ran") + "\ncat\n"
	require.NoError(t, os.WriteFile(filepath.Join(h.outside, "program"), []byte(program), 0o755))
	h.write("package.json", `{ "dependencies": { "left": "^1.0.0" } }`)
	h.write(
		"package-lock.json",
		`{ "lockfileVersion": 3, "packages": { "": { "dependencies": { "left": "^1.0.0" } }, "node_modules/left": { "version": "1.0.0" } } }`,
	)
	h.write("bellwether.yaml", "stages:\n  - {name: fetch, skip: nothing is installed here}\n")
	if h.rng.IntN(4) > 0 {
		h.git("init", "-q", "-b", "main")
		h.git("add", "-A")
		h.git("-c", "user.name=x", "-c", "user.email=x@x.example", "commit", "-q", "-m", "start")
	}
	for range 1 + h.rng.IntN(6) {
		trap := traps[h.rng.IntN(len(traps))]
		h.made = append(h.made, trap.name)
		trap.lay(h)
	}
	return h
}

func (h *hostile) git(args ...string) {
	cmd := exec.Command("git", append([]string{"-C", h.root}, args...)...)
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+os.DevNull)
	_ = cmd.Run()
}

// put makes something in the project, unless that is behind a link.
func (h *hostile) put(name string, make func(at string) error) {
	root, err := os.OpenRoot(h.root)
	if err != nil {
		return
	}
	defer root.Close()
	dir := filepath.Dir(filepath.Clean(name))
	_ = root.MkdirAll(dir, 0o755)
	real, err := filepath.EvalSymlinks(filepath.Join(h.root, dir))
	if err != nil || real != filepath.Join(h.root, dir) {
		return
	}
	_ = root.RemoveAll(name)
	_ = make(filepath.Join(h.root, name))
}

func (h *hostile) write(name, text string) {
	h.put(name, func(at string) error { return os.WriteFile(at, []byte(text), 0o755) })
}

func (h *hostile) link(target, name string) {
	h.put(name, func(at string) error { return os.Symlink(target, at) })
}

func (h *hostile) pipe(name string) {
	h.put(name, func(at string) error { return syscall.Mkfifo(at, 0o644) })
}

// pick is one of some texts.
func (h *hostile) pick(texts ...string) string { return texts[h.rng.IntN(len(texts))] }

// command is one that is run on the project.
func (h *hostile) command() []string {
	reading := [][]string{
		{"survey"}, {"survey", "--offline"}, {"prereqs"}, {"route", "--reach", "minor"}, {"explain", "left"}, {"status"}, {"books"},
		{"route", "--reach", "major", "--format", "json"},
	}
	acting := [][]string{
		{"verify"}, {"advance"}, {"undo"}, {"culprit"}, {"tick", "x", "--pass"}, {"status", "--adopt"},
		{"adapt", "--rules", "rules.yaml", "--apply"}, {"adapt", "--rules", "rules.yaml"}, {"books", "check", "rules.yaml"},
		{"scaffold", "--from", "old", "--to", "new", "--take-clean"}, {"scaffold", "--from", "old", "--to", "new", "--set", "x=../outside"},
	}
	all := append(reading, acting...)
	if slices.Contains(h.made, leadsOut) { // Maven itself reads what the project tells it to, and stages run it
		all = slices.DeleteFunc(all, func(c []string) bool { return slices.Contains([]string{"verify", "advance", "culprit"}, c[0]) })
	}
	return all[h.rng.IntN(len(all))]
}

// allowed are the programs that may run: git, and what is asked for its version. "true" is
// a stage of the project's own.
var allowed = []string{
	"bellwether", "git", "node", "npm", "go", "python3", "ruby", "bundle", "gem", "java", "php", "rustc", "dotnet", "elixir", "erl",
	"swift", "dart", "yarn", "pnpm", "gradle", "mvn", "docker", "cmake", "make", "gcc", "terraform", "true",
}

// script are the programs that those run in turn which are asked for their version: many
// of them are scripts.
var script = []string{
	"sh", "bash", "dash", "env", "pyenv", "readlink", "dirname", "uname", "basename", "expr", "rustup", "ls", "cut", "tr", "sed",
	"grep", "head", "id", "tty", "cat", "dpkg-architecture", "dpkg", "corepack", "mktemp",
}

var (
	executed = regexp.MustCompile(`execve\("([^"]*)"`)
	changed  = regexp.MustCompile(
		`(?:unlinkat|mkdirat|renameat2?|symlinkat|linkat|mknodat|fchmodat|unlink|mkdir|rmdir|rename|symlink|link|chmod|truncate|` +
			`mknod)\((.*)\) = 0`,
	)
	opened    = regexp.MustCompile(`open(?:at)?\((?:(AT_FDCWD|[0-9]+)(?:<([^>]*)>)?, )?"([^"]*)", ([A-Z_|0-9]+).*\) = [0-9]`)
	connected = regexp.MustCompile(`connect\([0-9]+(?:<[^>]*>)?, \{sa_family=AF_INET6?, sin6?_port=htons\(([0-9]+)\)`)
	quotes    = regexp.MustCompile(`(?:(?:AT_FDCWD|[0-9]+)(?:<([^>]*)>)?, )?"([^"]*)"`)
)

// traceWithin is how long a command may take under the tracer.
const traceWithin = time.Minute

// trace runs a command under a tracer, and looks through what it did.
func (h *hostile) trace(t *testing.T, command []string) {
	log := filepath.Join(h.dir, "trace")
	args := append(
		[]string{
			"--seccomp-bpf", "-f", "-y", "-s", "4096", "-o", log, "-e",
			"trace=execve,connect,open,openat,unlink,unlinkat,mkdir,mkdirat,rmdir,rename,renameat,renameat2," +
				"symlink,symlinkat,link,linkat,mknod,mknodat,chmod,fchmodat,truncate",
			program().Path,
		},
		command...)
	ctx, cancel := context.WithTimeout(t.Context(), traceWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, "strace", args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	cmd.Dir = h.root
	cmd.Env = append(
		os.Environ(),
		"HOME="+filepath.Join(h.dir, "home"),
		"XDG_CACHE_HOME="+h.cache,
		"XDG_STATE_HOME="+filepath.Join(h.dir, "home", "state"),
		"TMPDIR="+filepath.Join(
			h.dir, "tmp",
		),
		"npm_config_registry="+h.registry+"/",
		"npm_config_fetch_timeout=2000",
		"GOPROXY=off",
		"GOSUMDB=off",
		"GOFLAGS=",
		"GOENV=off",
		"GIT_AUTHOR_NAME=x",
		"GIT_AUTHOR_EMAIL=x@x.example",
		"GIT_COMMITTER_NAME=x",
		"GIT_COMMITTER_EMAIL=x@x.example",
	)
	out, err := cmd.CombinedOutput()
	about := fmt.Sprintf("seed %d, %s: %v\n%s", h.seed, strings.Join(h.made, ", "), command, out)
	require.NoError(t, ctx.Err(), "it does not come to an end: %s", about)
	if err != nil {
		status := cmd.ProcessState.ExitCode()
		assert.Contains(t, []int{exitProblem, exitUsage, exitOutside}, status, about)
		assert.NotContains(t, string(out), "panic:", about)
	}
	assert.NotContains(t, string(out), "\x1b", about)
	assert.NoFileExists(t, filepath.Join(h.outside, "ran"), about)
	assert.NoFileExists(t, filepath.Join(h.outside, "written"), about)
	acts := !slices.Contains([]string{"survey", "prereqs", "explain", "books", "route", "status"}, command[0]) ||
		slices.Contains(command, "--adopt")
	file, err := os.Open(log)
	require.NoError(t, err)
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		h.judge(t, lines.Text(), acts, slices.Contains(command, "--offline"), about)
	}
	require.NoError(t, lines.Err())
	entries, err := os.ReadDir(filepath.Join(h.dir, "tmp"))
	require.NoError(t, err)
	for _, e := range entries {
		assert.False(
			t, strings.HasPrefix(e.Name(), "bellwether-") && !strings.HasPrefix(e.Name(), "bellwether-state"), "%s is left: %s", e.Name(),
			about,
		)
	}
}

// judge looks at one thing that was done.
func (h *hostile) judge(t *testing.T, line string, acts, offline bool, about string) {
	if strings.HasSuffix(line, ")") ||
		strings.Contains(line, " open") && !strings.Contains(line, "O_WRONLY") && !strings.Contains(line, "O_RDWR") &&
			!strings.Contains(line, "O_CREAT") &&
			!strings.Contains(line, h.outside) {
		return // it failed, or only reads
	}
	if m := executed.FindStringSubmatch(line); m != nil && strings.HasSuffix(line, "= 0") {
		name := filepath.Base(m[1])
		known := slices.Contains(allowed, name) || slices.Contains(script, name) || strings.HasPrefix(name, "git-") ||
			strings.HasPrefix(name, "python") ||
			strings.HasPrefix(name, "java")
		assert.True(t, known && !strings.HasPrefix(m[1], h.dir), "%s was run: %s", m[1], about)
	}
	if m := connected.FindStringSubmatch(line); m != nil {
		_, port, _ := strings.Cut(strings.TrimPrefix(h.registry, "http://"), ":")
		assert.True(t, m[1] == port && !offline, "port %s was asked: %s", m[1], about)
	}
	at := func(folder, name string) string {
		if !filepath.IsAbs(name) {
			name = filepath.Join(folder, name)
		}
		return filepath.Clean(name)
	}
	change := func(name string) {
		ok := slices.ContainsFunc(
			[]string{
				h.cache,
				filepath.Join(h.dir, "home"),
				filepath.Join(h.dir, "tmp"),
				"/dev",
				"/proc",
				filepath.Join(h.root, ".bellwether"),
			},
			func(d string) bool {
				return name == d || strings.HasPrefix(name, d+"/")
			},
		)
		ok = ok || acts && (name == h.root || strings.HasPrefix(name, h.root+"/")) || strings.HasPrefix(name, "/tmp/hsperfdata") ||
			strings.HasPrefix(name, os.Getenv("HOME")+"/.pyenv/shims")
		assert.True(t, ok, "%s was changed: %s\n%s", name, about, line)
	}
	if m := opened.FindStringSubmatch(line); m != nil {
		name := at(m[2], m[3])
		assert.False(t, strings.HasPrefix(name, h.outside+"/"), "%s was opened: %s", name, about)
		if strings.Contains(m[4], "O_WRONLY") || strings.Contains(m[4], "O_RDWR") || strings.Contains(m[4], "O_CREAT") {
			change(name)
		}
	}
	if m := changed.FindStringSubmatch(line); m != nil {
		names := quotes.FindAllStringSubmatch(m[1], -1)
		if strings.Contains(line, "symlink") { // where it leads is not touched
			names = names[max(0, len(names)-1):]
		}
		for _, q := range names {
			if q[1] != "" || filepath.IsAbs(q[2]) {
				change(at(q[1], q[2]))
			}
		}
	}
}
