package plan_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/version"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/work"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

// TestNoticesAreTrue routes random projects to their newest majors, and holds each
// sentence that the route says, and each fact in it, against the state at its end.
func TestNoticesAreTrue(t *testing.T) {
	if testing.Short() {
		t.Skip()
	}
	said := 0
	for seed := range uint64(30) {
		u := newSaying(t, seed)
		p, err := work.Open(t.Context(), desk.Options{Dir: u.dir, NoCache: true})
		require.NoError(t, err)
		r, err := plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, world.Request{Reach: "major"})
		var no *ways.NoWay
		if errors.As(err, &no) {
			for _, step := range ways.ProofSteps(no.Conflict) {
				if len(step.From) == 0 {
					u.fact(strings.TrimSuffix(step.Line, "."))
				}
			}
			continue
		}
		require.NoError(t, err, "universe %d", seed)
		for _, leg := range r.Legs {
			for _, m := range leg.Moves {
				if m.From != "" {
					assert.Equal(t, u.at[m.Name], m.From, "universe %d, leg %s", seed, leg.ID)
				}
				u.at[m.Name] = m.To
			}
			for _, note := range leg.Notes {
				u.note(note)
			}
		}
		for _, notice := range r.Notices {
			u.notice(notice)
			said++
		}
		if t.Failed() {
			t.Logf("universe %d:\n%s\n%+v", seed, u.text, r)
			return
		}
	}
	assert.Greater(t, said, 15, "there must be something to hold against")
}

// saying is a project, and what is known of it.
type saying struct {
	t     *testing.T
	dir   string
	text  string
	at    map[string]string            // direct requirements
	peers map[string]map[string]string // "p1 2.0.0" → p0 → range
	all   map[string]bool              // "p1 2.0.0"
}

func newSaying(t *testing.T, seed uint64) *saying {
	rng := rand.New(rand.NewPCG(seed, 13))
	u := &saying{t: t, dir: t.TempDir(), at: map[string]string{}, peers: map[string]map[string]string{}, all: map[string]bool{}}
	n := 3 + rng.IntN(5)
	majors := make([]int, n)
	var deps, locked []string
	for i := range n {
		majors[i] = 1 + rng.IntN(4)
		name := fmt.Sprintf("p%d", i)
		deps, u.at[name] = append(deps, fmt.Sprintf(`%q: "^1.0.0"`, name)), "1.0.0"
		for major := 1; major <= majors[i]; major++ {
			key := fmt.Sprintf("%s %d.0.0", name, major)
			line := key
			u.all[key], u.peers[key] = true, map[string]string{}
			for k := range i {
				if rng.IntN(3) != 0 {
					continue
				}
				rng := fmt.Sprintf("^%d", min(majors[k], max(1, major-rng.IntN(2))))
				if major == 1 {
					rng = "^1"
				}
				u.peers[key][fmt.Sprintf("p%d", k)] = rng
				line += fmt.Sprintf(" peer:p%d@%s", k, rng)
			}
			u.text += line + "\n"
			if major == 1 {
				entry := fmt.Sprintf(`"node_modules/%s": {"version": "1.0.0"`, name)
				if len(u.peers[key]) > 0 {
					var list []string
					for peer, rng := range maps.All(u.peers[key]) {
						list = append(list, fmt.Sprintf("%q: %q", peer, rng))
					}
					entry += `, "peerDependencies": {` + strings.Join(list, ", ") + "}"
				}
				locked = append(locked, entry+"}")
			}
		}
	}
	packages, err := shorthand.Load(u.text)
	require.NoError(t, err)
	server := httptest.NewServer(packages.NPM())
	t.Cleanup(server.Close)
	asks := strings.Join(deps, ", ")
	for name, text := range map[string]string{
		".npmrc":       "registry=" + server.URL + "/\n",
		"package.json": `{"name": "x", "dependencies": {` + asks + `}}`,
		"package-lock.json": `{"name": "x", "lockfileVersion": 3, "packages": {"": {"name": "x", ` +
			`"dependencies": {` + asks + `}}, ` + strings.Join(locked, ", ") + `}}`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(u.dir, name), []byte(text), 0o644))
	}
	return u
}

var (
	staysAt   = regexp.MustCompile(`^(\S+) stays at (\S+) and does not go to (\S+): (.+)$`)
	stayAll   = regexp.MustCompile(`^(.+) stay behind: (.+)$`)
	oneOfAll  = regexp.MustCompile(`(\S+) \(at (\S+), not (\S+)\)`)
	isAt      = regexp.MustCompile(`^(\S+) is at (\S+) \(package.json:\d+\), and nobody asked for an older one`)
	needsPeer = regexp.MustCompile(`^(\S+) (in any version|\S+(?: to \S+)?) needs (\S+) (.+?),? as a peer`)
	skips     = regexp.MustCompile(`^(\S+) skips (\S+): (.+)$`)
)

// notice holds a notice of the route against its end.
func (u *saying) notice(text string) {
	if m := staysAt.FindStringSubmatch(text); m != nil {
		u.stays(m[1], m[2], m[3])
		for fact := range strings.SplitSeq(m[4], "; ") {
			u.fact(fact)
		}
		return
	}
	if m := stayAll.FindStringSubmatch(text); m != nil {
		for _, one := range oneOfAll.FindAllStringSubmatch(m[1], -1) {
			u.stays(one[1], one[2], one[3])
		}
		for fact := range strings.SplitSeq(m[2], "; ") {
			u.fact(fact)
		}
		return
	}
	if m := skips.FindStringSubmatch(text); m != nil {
		return
	}
	assert.Fail(u.t, "nothing is known of this sentence", text)
}

func (u *saying) stays(name, at, line string) {
	assert.Equal(u.t, u.at[name], at, "where %s is", name)
	assert.True(u.t, u.all[name+" "+line+".0.0"], "%s %s exists", name, line)
}

// fact holds a fact against what is known.
func (u *saying) fact(text string) {
	text = regexp.MustCompile(`^\d+\. `).ReplaceAllString(text, "")
	if m := isAt.FindStringSubmatch(text); m != nil {
		assert.Equal(u.t, u.at[m[1]], m[2], text)
		return
	}
	if m := needsPeer.FindStringSubmatch(text); m != nil {
		which := strings.Fields(m[2])[0]
		if which == "in" {
			which = "1.0.0"
		}
		rng := u.peers[m[1]+" "+which][m[3]]
		assert.NotEmpty(u.t, rng, text)
		assert.True(u.t, strings.HasPrefix(m[4], rng), "%s (%s)", text, rng)
		_, err := version.NPM{}.ParseRange(rng)
		assert.NoError(u.t, err)
		return
	}
	assert.Fail(u.t, "nothing is known of this fact", text)
}

var manyMajors = regexp.MustCompile(
	`^(\S+) is there in (\d) majors now, (\S+) and (\S+)(?: \((\S+) (\S+) needs (\S+) (.+?)(?: as a peer)?\))?$`,
)

// note holds what is told of a leg against what is known.
func (u *saying) note(text string) {
	m := manyMajors.FindStringSubmatch(text)
	if m == nil {
		assert.Fail(u.t, "nothing is known of this note", text)
		return
	}
	if m[5] != "" {
		rng, err := version.NPM{}.ParseRange(u.peers[m[5]+" "+m[6]][m[7]])
		require.NoError(u.t, err, text)
		low, _ := version.NPM{}.Parse(m[3])
		high, _ := version.NPM{}.Parse(m[4])
		assert.NotEqual(u.t, rng.Contains(low), rng.Contains(high), "%s: the range tells why", text)
	}
}
