package legs_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/standin/shorthand"
	"bellwether/internal/work"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/legs"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

func TestMain(m *testing.M) {
	os.Unsetenv("NODE_EXTRA_CA_CERTS") // stand-ins are on loopback
	home, err := os.MkdirTemp("", "")
	if err != nil {
		panic(err)
	}
	os.Setenv("HOME", home) // the person's settings are not the test's
	code := m.Run()
	os.RemoveAll(home)
	os.Exit(code)
}

// A maker writes a random project of an ecosystem, and reads what its files state, without the product's readers: versions by
// file and name, "a/pom.xml pier:quay".
type maker struct {
	order version.Order
	write func(t *testing.T, rng *rand.Rand, dir string)
	read  func(t *testing.T, files fs.FS) map[string]string
}

// releases are random ones of a few packages, as the shorthands have them, of names in a form.
func releases(rng *rand.Rand, name, release string, needs func(name, version string) string) (lines string) {
	for p := range 4 {
		for major := 1; major <= 3; major++ {
			for minor := range 1 + rng.IntN(3) {
				lines += fmt.Sprintf(name+" "+release, p, major, minor)
				if p < 3 && rng.IntN(3) == 0 {
					lines += " " + needs(fmt.Sprintf(name, p+1), fmt.Sprintf(release, 1+rng.IntN(major), 0))
				}
				lines += "\n"
			}
		}
	}
	return lines
}

func serve(t *testing.T, h http.Handler) string {
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	return server.URL
}

func put(t *testing.T, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
}

// stated collects what a pattern finds in files of a name: the name is its first group, the version its second.
func stated(t *testing.T, files fs.FS, name string, pattern *regexp.Regexp) map[string]string {
	all := map[string]string{}
	require.NoError(t, fs.WalkDir(files, ".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() != name {
			return err
		}
		text, err := fs.ReadFile(files, file)
		for i, m := range pattern.FindAllSubmatch(text, -1) {
			all[fmt.Sprintf("%s %s %d", file, m[1], i)] = string(m[2])
		}
		return err
	}))
	return all
}

var makers = map[string]maker{
	"npm": {
		version.NPM{},
		func(t *testing.T, rng *rand.Rand, dir string) {
			u, err := shorthand.Load(releases(rng, "pack%d", "%d.%d.0", func(name, v string) string { return name + "@^" + v }))
			require.NoError(t, err)
			put(t, dir, ".npmrc", "registry="+serve(t, u.NPM())+"/\n")
			put(t, dir, "package.json", `{"name": "x", "workspaces": ["a", "b", "c"]}`)
			for _, member := range []string{"a", "b", "c"} {
				needs := map[string]string{}
				for p := range 3 {
					if rng.IntN(4) > 0 {
						needs[fmt.Sprintf("pack%d", p)] = fmt.Sprintf("%s%d.0.0", []string{"", "^", "~"}[rng.IntN(3)], 1+rng.IntN(2))
					}
				}
				text, err := json.Marshal(map[string]any{"name": member, "version": "1.0.0", "dependencies": needs})
				require.NoError(t, err)
				put(t, dir, member+"/package.json", string(text))
			}
		},
		func(t *testing.T, files fs.FS) map[string]string {
			all := stated(t, files, "package.json", regexp.MustCompile(`"(pack\d)":\s*"[\^~]?([0-9.]+)"`))
			var lock struct {
				Packages map[string]struct{ Version string }
			}
			text, err := fs.ReadFile(files, "package-lock.json")
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(text, &lock))
			for key := range all { // a range says less than the lock
				file, rest, _ := strings.Cut(key, "/package.json ")
				name, _, _ := strings.Cut(rest, " ")
				at, own := lock.Packages[file+"/node_modules/"+name]
				if !own {
					at = lock.Packages["node_modules/"+name]
				}
				delete(all, key)
				all[file+"/package.json::"+name] = at.Version
			}
			return all
		},
	},
	"maven": {
		version.Maven{},
		func(t *testing.T, rng *rand.Rand, dir string) {
			u, err := shorthand.Artifacts(releases(rng, "pier:pack%d", "%d.%d", func(name, v string) string { return name + ":" + v }))
			require.NoError(t, err)
			dependency := func(p int, v string) string {
				return fmt.Sprintf(
					"<dependency><groupId>pier</groupId><artifactId>pack%d</artifactId><version>%s</version></dependency>\n", p, v,
				)
			}
			some := func() string { return fmt.Sprintf("%d.0", 1+rng.IntN(2)) }
			head := "<project><modelVersion>4.0.0</modelVersion>"
			managed, property := "", some()
			if rng.IntN(2) == 0 {
				managed = "<dependencyManagement><dependencies>" + dependency(0, some()) + "</dependencies></dependencyManagement>"
			}
			put(t, dir, "pom.xml", head+`<groupId>x</groupId><artifactId>p</artifactId><version>1</version><packaging>pom</packaging>
<properties><pack2>`+property+`</pack2></properties>
<repositories><repository><id>central</id><url>`+serve(t, u.Repository())+`</url></repository></repositories>
<modules><module>a</module><module>b</module></modules>`+managed+"</project>")
			for _, module := range []string{"a", "b"} {
				text := head + "<parent><groupId>x</groupId><artifactId>p</artifactId><version>1</version></parent>" +
					"<artifactId>" + module + "</artifactId>"
				if rng.IntN(2) == 0 {
					text += "<properties><pack2>" + some() + "</pack2></properties>" // over the parent's
				}
				text += "<dependencies>" + dependency(0, some()) + dependency(1, some())
				if rng.IntN(2) == 0 {
					text += dependency(2, "${pack2}")
				}
				text += "</dependencies>"
				if rng.IntN(3) == 0 {
					text += "<profiles><profile><id>old</id><dependencies>" + dependency(1, some()) + "</dependencies></profile></profiles>"
				}
				put(t, dir, module+"/pom.xml", text+"</project>")
			}
		},
		func(t *testing.T, files fs.FS) map[string]string {
			all := stated(t, files, "pom.xml", regexp.MustCompile(`<artifactId>(pack\d)</artifactId><version>([0-9.]+)</version>`))
			for key, v := range stated(t, files, "pom.xml", regexp.MustCompile(`<(pack2)>([0-9.]+)</pack2>`)) {
				all[key+" property"] = v
			}
			return all
		},
	},
	"gem": {
		version.Gem{},
		func(t *testing.T, rng *rand.Rand, dir string) {
			u, err := shorthand.Gems(releases(rng, "pack%d", "%d.%d.0", func(name, v string) string { return name + ":>=_" + v }))
			require.NoError(t, err)
			text := "source \"" + serve(t, u.Index()) + "\"\n"
			for p := range 3 {
				text += fmt.Sprintf("gem \"pack%d\", \"~> %d.0\"\n", p, 1+rng.IntN(2))
			}
			if rng.IntN(2) == 0 {
				text += "group :test do\n  gem \"pack3\", \"~> 1.0\"\nend\n"
			}
			put(t, dir, "Gemfile", text)
		},
		func(t *testing.T, files fs.FS) map[string]string {
			return stated(t, files, "Gemfile.lock", regexp.MustCompile(`(?m)^    (pack\d) \(([0-9.]+)\)`))
		},
	},
	"golang": {
		version.GoMod{},
		func(t *testing.T, rng *rand.Rand, dir string) {
			u, err := shorthand.Modules(releases(rng, "swell.example/pack%d", "v1.%d%d.0", func(name, v string) string { return name + "@" + v }))
			require.NoError(t, err)
			put(t, dir, "proxy", serve(t, u.Proxy()))
			put(t, dir, "go.work", "go 1.21\n\nuse ./a\nuse ./b\n")
			for _, module := range []string{"a", "b"} {
				text, imports := "module swell.example/"+module+"\n\ngo 1.21\n\n", "package x\n\n"
				for p := range 3 {
					text += fmt.Sprintf("require swell.example/pack%d v1.%d0.0\n", p, 1+rng.IntN(2))
					imports += fmt.Sprintf("import _ \"swell.example/pack%d\"\n", p)
				}
				put(t, dir, module+"/go.mod", text)
				put(t, dir, module+"/x.go", imports)
			}
		},
		func(t *testing.T, files fs.FS) map[string]string {
			return stated(t, files, "go.mod", regexp.MustCompile(`(swell\.example/pack\d) (v[0-9.]+)`))
		},
	},
}

// TestNoDeclarationCrosses carries random legs of random projects out, which declare packages in several places, and reads the
// files: each place is where the leg says, what the leg does not name is where it was, nothing that nobody named goes down, and
// under a reach nothing crosses what the reach says.
func TestNoDeclarationCrosses(t *testing.T) {
	seeds := uint64(12)
	if testing.Short() {
		seeds = 2
	}
	for kind, m := range makers {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			count, placed, seeds := 0, 0, seeds
			if kind == "gem" { // whose one version each the lock has
				seeds /= 2
			}
			for seed := range seeds {
				rng := rand.New(rand.NewPCG(seed, 28))
				dir := t.TempDir()
				m.write(t, rng, dir)
				env := []string{"GOSUMDB=off", "GOMODCACHE=" + t.TempDir(), "GOENV=off"}
				if proxy, err := os.ReadFile(filepath.Join(dir, "proxy")); err == nil {
					env = append(env, "GOPROXY="+string(proxy))
				}
				open := func() *work.Project {
					p, err := work.Open(t.Context(), desk.Options{Dir: dir, NoCache: true, Env: env})
					require.NoError(t, err)
					return p
				}
				for round := range 3 {
					p := open()
					opt := request(rng, p.Tree, round)
					planned, err := plan.Route(t.Context(), p.Desk, p.Tree, p.Kept, opt)
					if errors.As(err, new(*ways.NoWay)) || errors.As(err, new(*model.Fault)) {
						continue
					}
					require.NoError(t, err, "seed %d: %+v", seed, opt)
					if len(planned.Legs) == 0 {
						continue
					}
					file, err := p.Kept.Route(t.Context(), p.Tree)
					require.NoError(t, err)
					for i := range file.Legs {
						leg := &file.Legs[i]
						about := fmt.Sprintf("seed %d, %+v, leg %s: %+v", seed, opt, leg.ID, leg.Moves)
						p = open()
						part := p.Tree.Part(leg.Component)
						w, err := world.Of(t.Context(), p.Desk, p.Tree, part)
						require.NoError(t, err)
						goal, err := legs.Goal(t.Context(), p.Desk, p.Tree, w, leg, "", legs.Part{})
						require.NoError(t, err, about)
						state, err := w.Solve(t.Context(), goal)
						require.NoError(t, err, about)
						before := map[string]string{}
						if leg.ID != "1-lock" {
							before = m.read(t, os.DirFS(dir))
						}
						for _, e := range state.Edits {
							put(t, dir, e.File, string(e.New))
						}
						if leg.ID == "1-lock" {
							continue
						}
						count++
						for key, now := range m.read(t, os.DirFS(dir)) {
							placed += check(t, m.order, leg, key, before[key], now, opt, about)
						}
						judged(t, p.Tree, state.Edits, leg, about)
					}
				}
			}
			assert.Greater(t, count, int(seeds)/2, "legs")
			t.Logf("%d legs, %d moves of one place of several", count, placed)
		})
	}
}

// request asks for something by chance.
func request(rng *rand.Rand, tr *tree.Tree, round int) world.Request {
	if round == 0 {
		return world.Request{Reach: "minor"}
	}
	all := tr.Parts[rng.IntN(len(tr.Parts))].Requirements
	r := all[rng.IntN(len(all))]
	what := []string{r.Name, string(r.ID)}[rng.IntN(2)]
	switch rng.IntN(4) {
	case 0:
		return world.Request{Reach: "major", Hold: []string{what}}
	case 1:
		return world.Request{Reach: "minor", Few: 1}
	case 2:
		return world.Request{Reach: "major", Stepwise: true}
	}
	to := strings.TrimPrefix(r.Locked, "v")
	if to == "" {
		to = "1"
	}
	major := int(to[0]-'0') + rng.IntN(3) - 1
	if tr.Parts[0].Kind == "maven" || r.Subject.Kind == "golang" {
		return world.Request{To: []string{what + "@" + r.Locked}, Reach: "minor"}
	}
	return world.Request{To: []string{fmt.Sprintf("%s@^%d.0.0", what, max(major, 1))}}
}

// check compares a place before and after a leg with what the leg says. It gives 1 for a move of one place of several.
func check(t *testing.T, order version.Order, leg *model.Leg, key, was, now string, opt world.Request, about string) (placed int) {
	if was == now || was == "" {
		return 0
	}
	said := false
	for _, m := range leg.Moves {
		_, name, _ := strings.Cut(m.Name, ":")
		if name == "" {
			name = m.Name
		}
		file, _, _ := strings.Cut(m.Place, "#")
		if strings.Contains(key, name) && m.From == was && m.To == now && strings.HasPrefix(key, file) {
			said = true
			if m.Place != "" {
				placed = 1
			}
		}
	}
	for _, m := range leg.Carried { // of what only the lock has
		said = said || strings.Contains(key, m.Name)
	}
	assert.True(t, said, "%s: %s went from %s to %s, and the leg does not say so", about, key, was, now)
	from, err := order.Parse(was)
	require.NoError(t, err)
	to, err := order.Parse(now)
	require.NoError(t, err)
	if len(opt.To) == 0 {
		assert.GreaterOrEqual(t, to.Compare(from), 0, "%s: %s went down from %s to %s", about, key, was, now)
		if opt.Reach == "minor" {
			assert.LessOrEqual(t, order.Step(from, to), version.Minor, "%s: %s went from %s to %s", about, key, was, now)
		}
	}
	return placed
}

// judged sees by the product's reader that each declaration which a leg moves is where the leg takes it, and all others where
// they were.
func judged(t *testing.T, before *tree.Tree, edits []model.FileEdit, leg *model.Leg, about string) {
	after, err := before.With(edits)
	require.NoError(t, err)
	now := map[model.DeclarationID]string{}
	for _, r := range after.Part(leg.Component).Requirements {
		now[r.ID] = r.Locked
	}
	for _, r := range before.Part(leg.Component).Requirements {
		want := r.Locked
		for _, m := range leg.Moves {
			if m.Name == r.Name && (m.Place == "" || m.Key() == string(r.ID)) && m.From == r.Locked {
				want = m.To
			}
		}
		if r.Fixed == "" && !r.Asked && want != "" {
			assert.Equal(t, want, now[r.ID], "%s: %s", about, r.ID)
		}
	}
}
