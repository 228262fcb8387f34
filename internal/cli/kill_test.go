package cli

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/shorthand"
)

var kills = flag.Int("kills", 12, "how often TestKilledWhileAdvancing kills the program")

// TestKilledWhileAdvancing kills "advance" at random instants. Afterwards the
// manifest and the lock must be those of before or after a leg, both of the
// same, and calling advance again must get to the end.
func TestKilledWhileAdvancing(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	program := filepath.Join(t.TempDir(), "bellwether")
	out, err := exec.Command("go", "build", "-o", program, "bellwether/cmd/bellwether").CombinedOutput()
	require.NoError(t, err, "%s", out)
	u, err := shorthand.Load("left 1.0.0\nleft 2.0.0\nleft 3.0.0\nright 1.0.0 peer:left@^1\nright 2.0.0 peer:left@^2\nright 3.0.0 peer:left@^3\n")
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	defer server.Close()
	rng := rand.New(rand.NewPCG(uint64(*kills), 9))
	p := &victim{t: t, program: program, env: append(os.Environ(), "npm_config_registry="+server.URL, "XDG_CACHE_HOME="+t.TempDir(), "GIT_CONFIG_GLOBAL="+os.DevNull)}
	p.layOut()
	for range *kills {
		cmd := p.command("advance")
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(rng.IntN(350)) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_, _ = p.command("undo").CombinedOutput() // whatever there is to finish is finished now
		p.whole()
		if rng.IntN(3) == 0 {
			p.layOut()
		}
	}
	for range 4 {
		if out, err := p.command("advance", "--all").CombinedOutput(); err == nil {
			break
		} else {
			t.Logf("%s", out)
		}
	}
	require.Equal(t, "3.0.0 ^3.0.0 ^3.0.0", p.whole())
	status, err := p.git("status", "--porcelain")
	require.NoError(t, err)
	require.Empty(t, status)
}

// victim is a project whose advance is killed.
type victim struct {
	t       *testing.T
	program string
	dir     string
	env     []string
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
	for _, args := range [][]string{{"init", "-q"}, {"config", "user.name", "Crew"}, {"config", "user.email", "crew@saltmarsh.example"}, {"add", "-A"}, {"commit", "-qm", "as it is"}} {
		out, err := v.git(args...)
		require.NoError(v.t, err, out)
	}
	out, err := v.command("route", "--to", "left@^3").CombinedOutput()
	require.NoError(v.t, err, "%s", out)
}

// whole sees that manifest and lock belong together, and tells the versions.
func (v *victim) whole() string {
	var manifest struct{ Dependencies map[string]string }
	var lock struct {
		Packages map[string]struct {
			Version      string
			Dependencies map[string]string
		}
	}
	for name, into := range map[string]any{"package.json": &manifest, "package-lock.json": &lock} {
		data, err := os.ReadFile(filepath.Join(v.dir, name))
		require.NoError(v.t, err)
		require.NoError(v.t, json.Unmarshal(data, into), "%s", data)
	}
	require.Equal(v.t, manifest.Dependencies, lock.Packages[""].Dependencies, "half of a leg is written")
	left, right := lock.Packages["node_modules/left"].Version, lock.Packages["node_modules/right"].Version
	require.Equal(v.t, left, right, "they move together")
	require.True(v.t, strings.HasPrefix(manifest.Dependencies["left"], "^"+left[:1]))
	return fmt.Sprintf("%s %s %s", left, manifest.Dependencies["left"], manifest.Dependencies["right"])
}
