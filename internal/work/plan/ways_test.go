package plan_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/standin/shorthand"
	"bellwether/internal/work"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

func TestMain(m *testing.M) {
	os.Unsetenv("NODE_EXTRA_CA_CERTS") // stand-ins are on loopback
	os.Exit(m.Run())
}

// TestWaysOut asks for destinations in random universes, and sees that each way
// out goes, and that no part of one that has several does by itself.
func TestWaysOut(t *testing.T) {
	conflicts, ways, pairs := 0, 0, 0
	if testing.Short() {
		t.Skip()
	}
	for seed := range uint64(40) {
		dir, opt := universeWithoutWay(t, seed)
		no := noWay(t, dir, opt, nil)
		if no == nil {
			continue
		}
		conflicts++
		for i, way := range no.Ways {
			ways++
			taken := opt
			taken.Take = i + 1
			p, err := work.Open(t.Context(), desk.Options{Dir: dir, NoCache: true})
			require.NoError(t, err)
			_, err = plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, taken)
			assert.NoError(t, err, "seed %d: %s", seed, way.Option)
			parts := optionForm.FindAllString(way.Option, -1)
			if len(parts) < 2 {
				continue
			}
			pairs++
			for _, part := range parts {
				assert.NotNil(t, noWay(t, dir, opt, []string{part}), "seed %d: %s does by itself what %s does", seed, part, way.Option)
			}
		}
	}
	assert.Greater(t, conflicts, 20)
	assert.Greater(t, ways, 20)
	assert.Greater(t, pairs, 4)
	t.Logf("%d conflicts, %d ways out, %d of several changes", conflicts, ways, pairs)
}

var optionForm = regexp.MustCompile(`(?:without )?--[a-z-]+ \S+`)

// universeWithoutWay lays a project out whose framework is asked to go two majors
// on, with companions that may not follow.
func universeWithoutWay(t *testing.T, seed uint64) (dir string, opt world.Request) {
	rng := rand.New(rand.NewPCG(seed, 5))
	lines := []string{"frame 1.0.0", "frame 2.0.0", "frame 3.0.0"}
	var needs []string
	locked := []string{`"node_modules/frame": {"version": "1.0.0"}`}
	for i := range 2 + rng.IntN(3) {
		name := fmt.Sprintf("part%d", i)
		needs = append(needs, fmt.Sprintf("%q: \"^1.0.0\"", name))
		lines = append(lines, name+" 1.0.0 peer:frame@^1")
		locked = append(locked, fmt.Sprintf(`"node_modules/%s": {"version": "1.0.0", "peerDependencies": {"frame": "^1"}}`, name))
		for major := 2; major <= 3; major++ {
			switch rng.IntN(4) {
			case 0:
				lines = append(lines, fmt.Sprintf("%s %d.0.0-rc.1 peer:frame@^%d", name, major, major))
			case 1:
				lines = append(lines, fmt.Sprintf("%s %d.0.0 peer:frame@^%d", name, major, 2))
			default:
				lines = append(lines, fmt.Sprintf("%s %d.0.0 peer:frame@^%d", name, major, major))
			}
		}
		if rng.IntN(4) == 0 {
			opt.Hold = append(opt.Hold, name)
		}
	}
	u, err := shorthand.Load(strings.Join(lines, "\n"))
	require.NoError(t, err)
	server := httptest.NewServer(u.NPM())
	t.Cleanup(server.Close)
	dir = t.TempDir()
	for name, text := range map[string]string{
		".npmrc":       "registry=" + server.URL + "/\n",
		"package.json": fmt.Sprintf(`{"name": "x", "dependencies": {"frame": "^1.0.0", %s}}`, strings.Join(needs, ", ")),
		"package-lock.json": fmt.Sprintf(`{"name": "x", "lockfileVersion": 3, "packages": {"": {"name": "x", `+
			`"dependencies": {"frame": "^1.0.0", %s}}, %s}}`, strings.Join(needs, ", "), strings.Join(locked, ", ")),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	opt.To = []string{"frame@^3"}
	return dir, opt
}

// noWay gives the conflict of a route with some options of a way out, nil if there
// is a way.
func noWay(t *testing.T, dir string, opt world.Request, options []string) *ways.NoWay {
	o := desk.Options{Dir: dir, NoCache: true}
	opt.To, opt.Hold = slices.Clone(opt.To), slices.Clone(opt.Hold)
	for _, option := range options {
		name := option[strings.LastIndex(option, " ")+1:]
		switch {
		case strings.HasPrefix(option, "--preview"):
			o.Preview = append(o.Preview, name)
		case strings.HasPrefix(option, "--allow-down"):
			opt.AllowDown = append(opt.AllowDown, name)
		case strings.HasPrefix(option, "--do-without"):
			opt.DoWithout = append(opt.DoWithout, name)
		case strings.HasPrefix(option, "--override"):
			opt.Override = append(opt.Override, name)
		case strings.HasPrefix(option, "without --hold"):
			opt.Hold = slices.DeleteFunc(opt.Hold, func(held string) bool { return held == name })
		case strings.HasPrefix(option, "--to"):
			opt.To = []string{name}
		default:
			t.Fatalf("%q is no option of a way out", option)
		}
	}
	p, err := work.Open(t.Context(), o)
	require.NoError(t, err)
	_, err = plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, opt)
	var no *ways.NoWay
	if errors.As(err, &no) {
		return no
	}
	require.NoError(t, err)
	return nil
}
