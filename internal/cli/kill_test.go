//go:build unix

package cli

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/shorthand"
)

var kills = flag.Int("kills", 8, "how often TestKilledWhileAdvancing kills the program")

// TestKilledWhileAdvancing kills "advance" and "undo" at random instants, and at each
// step that leaves a trace on disk, alone or with the git that it runs. After the next call, the tree is byte for byte that of
// before or after a leg, what is committed, too, and advancing again gets to the end.
func TestKilledWhileAdvancing(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	t.Parallel()
	v := newVictim(t)
	rng := rand.New(rand.NewPCG(uint64(*kills), 9))
	steps := v.steps() // the last is undo's
	hits := map[string]int{}
	for i := range *kills {
		if i%8 == 0 {
			_, _ = v.command("status").CombinedOutput() // removes the last scratch of the one before
			v.layOut()
		}
		step, cmd, takes := steps[i/2%(len(steps)-1)], v.command("advance"), 450 // milliseconds
		if rng.IntN(4) == 0 {
			step, cmd, takes = steps[len(steps)-1], v.command("undo"), 60
		}
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		require.NoError(t, cmd.Start())
		ended := make(chan struct{})
		go func() { _ = cmd.Wait(); close(ended) }()
		when := "at random"
		if i%2 == 0 {
			select {
			case <-ended:
			case <-time.After(time.Duration(rng.IntN(takes)) * time.Millisecond):
			}
		} else if v.await(step.there, ended) {
			when = step.name
		}
		if rng.IntN(2) == 0 {
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
			when += ", with its git"
		}
		_ = cmd.Process.Kill()
		<-ended
		hits[when]++
		out, err := v.command("status").CombinedOutput()
		require.NoError(t, err, "%s: %s", when, out)
		if _, mended, found := strings.Cut(string(out), "an earlier call was interrupted "); found {
			mended, _, _ = strings.Cut(mended, "\n")
			hits[mended]++
		}
		v.whole(when)
		if rng.IntN(3) == 0 {
			out, err := v.command("undo").CombinedOutput()
			if err != nil {
				require.Contains(t, string(out), "no leg has been carried out", when)
			}
			v.whole("undone, killed " + when)
		}
	}
	for range 4 {
		if out, err := v.command("advance", "--all").CombinedOutput(); err == nil {
			break
		} else {
			t.Logf("%s", out)
		}
	}
	require.Equal(t, "3", v.whole("at the end"), "killed %v", hits)
	status, err := v.git("status", "--porcelain")
	require.NoError(t, err)
	require.Empty(t, status)
	left, err := filepath.Glob(filepath.Join(v.temp, "bellwether-*"))
	require.NoError(t, err)
	require.Empty(t, left, "scratches are gone")
	trees, err := v.git("worktree", "list")
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(trees, "\n"))
	t.Logf("killed %v", hits)
}

// TestKilledWhileAStageRuns kills "verify" alone: the stage that lives on is ended by
// the next call.
func TestKilledWhileAStageRuns(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	t.Parallel()
	v := newVictim(t)
	v.layOut()
	alive := filepath.Join(t.TempDir(), "alive")
	settings := "stages:\n  - {name: fetch, skip: nothing is installed here}\n  - {name: test, shell: \"while :; do date " +
		"+%s%N > " + alive + "; sleep 0.05; done\"}\n"
	require.NoError(t, os.WriteFile(filepath.Join(v.dir, "bellwether.yaml"), []byte(settings), 0o644))
	cmd := v.command("verify")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { _, err := os.Lstat(alive); return err == nil }, time.Minute, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	out, err := v.command("status").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.Remove(alive))
	require.Never(t, func() bool { _, err := os.Lstat(alive); return err == nil }, 500*time.Millisecond, 50*time.Millisecond)
}

// victim is a project whose advance is killed.
type victim struct {
	t         *testing.T
	program   string
	dir, temp string
	env       []string
	states    map[string]string // by the bytes of manifest and lock: the major that they are at
}

func newVictim(t *testing.T) *victim {
	program, err := exec.LookPath("bellwether") // TestMain's
	require.NoError(t, err)
	u, err := shorthand.Load(
		"left 1.0.0\nleft 2.0.0\nleft 3.0.0\nright 1.0.0 peer:left@^1\nright 2.0.0 peer:left@^2\nright 3.0.0 peer:left@^3\n",
	)
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	t.Cleanup(server.Close)
	v := &victim{t: t, program: program, temp: t.TempDir(), states: map[string]string{}}
	v.env = append(
		os.Environ(), "npm_config_registry="+server.URL, "XDG_CACHE_HOME="+t.TempDir(), "GIT_CONFIG_GLOBAL="+os.DevNull, "TMPDIR="+v.temp,
	)
	// What each state looks like is learned from a journey that nobody disturbs.
	v.layOut()
	v.states[v.bytes()] = "1"
	for _, major := range []string{"2", "3"} {
		out, err := v.command("advance").CombinedOutput()
		require.NoError(t, err, "%s", out)
		v.states[v.bytes()] = major
	}
	require.Len(t, v.states, 3)
	return v
}

// step is a point that advance comes by.
type step struct {
	name  string
	there func() bool
}

// steps are the points that leave a trace on disk, in their order.
func (v *victim) steps() []step {
	keep := func(name string) string { return filepath.Join(v.dir, ".bellwether", name) }
	exists := func(name string) func() bool {
		return func() bool { _, err := os.Lstat(keep(name)); return err == nil }
	}
	has := func(name, text string) func() bool {
		return func() bool { data, _ := os.ReadFile(keep(name)); return strings.Contains(string(data), text) }
	}
	was := ""
	return []step{
		{"while a stage runs", func() bool {
			found, _ := filepath.Glob(filepath.Join(v.temp, "bellwether-*", "tree", "package.json"))
			return len(found) > 0
		}},
		{"old bytes are kept", func() bool { found, _ := filepath.Glob(keep("before/*/001")); return len(found) > 0 }},
		{"the leg is begun", has("journey.json", `"begun"`)},
		{"the journal is being filled", exists("journal/000")},
		{"the set is recorded", exists("journal/record.json")},
		{"a file is renamed", func() bool {
			now := v.file("package.json")
			changed := was != "" && now != was
			was = now
			return changed
		}},
		{"all is written", has("journey.json", `"repair"`)},
		{"git commits", func() bool { _, err := os.Lstat(filepath.Join(v.dir, ".git", "index.lock")); return err == nil }},
		{"it is committed", has("journey.json", `"commit"`)},
		{"a leg is taken back", has("git.json", `"reset"`)},
	}
}

// await waits until a step is there; it is false if the program ended before.
func (v *victim) await(there func() bool, ended <-chan struct{}) bool {
	for {
		select {
		case <-ended:
			return false
		default:
		}
		if there() {
			return true
		}
	}
}

func (v *victim) command(args ...string) *exec.Cmd {
	cmd := exec.Command(v.program, args...)
	cmd.Dir, cmd.Env = v.dir, v.env
	return cmd
}

func (v *victim) git(args ...string) (string, error) {
	cmd := exec.Command("git", append([]string{"-c", "user.name=Crew", "-c", "user.email=crew@saltmarsh.example"}, args...)...)
	cmd.Dir = v.dir
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func (v *victim) layOut() {
	v.dir = v.t.TempDir()
	for name, text := range map[string]string{
		"package.json": `{ "dependencies": { "left": "^1.0.0", "right": "^1.0.0" } }`,
		"package-lock.json": `{ "lockfileVersion": 3, "packages": { "": { "dependencies": { "left": "^1.0.0", "right": "^1.0.0" } },
			"node_modules/left": { "version": "1.0.0" }, "node_modules/right": { "version": "1.0.0", "peerDependencies": { "left": "^1" } } } }`,
		"bellwether.yaml": "stages:\n  - {name: fetch, skip: nothing is installed here}\n  - {name: test, shell: grep -q left package.json}\n",
	} {
		require.NoError(v.t, os.WriteFile(filepath.Join(v.dir, name), []byte(text), 0o644))
	}
	for _, args := range [][]string{
		{"init", "-q"}, {"config", "user.name", "Crew"}, {"config", "user.email", "crew@saltmarsh.example"}, {"add", "-A"},
		{"commit", "-qm", "as it is"},
	} {
		out, err := v.git(args...)
		require.NoError(v.t, err, out)
	}
	out, err := v.command("route", "--to", "left@^3").CombinedOutput()
	require.NoError(v.t, err, "%s", out)
}

func (v *victim) file(name string) string {
	data, err := os.ReadFile(filepath.Join(v.dir, name))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		require.NoError(v.t, err)
	}
	return string(data)
}

func (v *victim) bytes() string { return v.file("package.json") + "\x00" + v.file("package-lock.json") }

// whole sees that the tree is in one of the known states, and what is committed, too;
// it tells the major of the tree.
func (v *victim) whole(when string) string {
	major, known := v.states[v.bytes()]
	require.True(v.t, known, "killed %s: half of a leg is written:\n%s", when, v.bytes())
	committed := ""
	for _, name := range []string{"package.json", "package-lock.json"} {
		text, err := v.git("show", "HEAD:"+name)
		require.NoError(v.t, err, text)
		committed += text + "\x00"
	}
	_, known = v.states[strings.TrimSuffix(committed, "\x00")]
	require.True(v.t, known, "killed %s: half of a leg is committed:\n%s", when, committed)
	return fmt.Sprint(major)
}
