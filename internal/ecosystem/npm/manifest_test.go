package npm

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/core/overlay"
	"bellwether/internal/ecosystem"
)

func files(pairs ...string) *overlay.FS {
	m := map[string][]byte{}
	for i := 0; i < len(pairs); i += 2 {
		m[pairs[i]] = []byte(pairs[i+1])
	}
	return overlay.New(nil, m)
}

func TestReadSpec(t *testing.T) {
	for value, want := range map[string]struct {
		kind specKind
		name string
		text string
	}{
		"^1.2.3":                       {specRange, "left", "^1.2.3"},
		"":                             {specRange, "left", ""},
		"*":                            {specRange, "left", "*"},
		" 1.x || 2 ":                   {specRange, "left", "1.x || 2"},
		"latest":                       {specTag, "left", "latest"},
		"next-11":                      {specTag, "left", "next-11"},
		"npm:right@^2":                 {specRange, "right", "^2"},
		"npm:@harbour/right@~2.1":      {specRange, "@harbour/right", "~2.1"},
		"npm:right":                    {specRange, "right", ""},
		"file:../right":                {specFile, "left", "file:../right"},
		"./right.tgz":                  {specFile, "left", "./right.tgz"},
		"link:right":                   {specFile, "left", "link:right"},
		"git+ssh://git@quay.test/r":    {specGit, "left", "git+ssh://git@quay.test/r"},
		"https://quay.test/r.git#v1":   {specGit, "left", "https://quay.test/r.git#v1"},
		"crew/right#semver:^1":         {specGit, "left", "crew/right#semver:^1"},
		"github:crew/right":            {specGit, "left", "github:crew/right"},
		"https://quay.test/right.tgz":  {specURL, "left", "https://quay.test/right.tgz"},
		"workspace:^":                  {specWorkspace, "left", "workspace:^"},
		strings.Repeat("^", 3) + "1.0": {specTag, "left", "^^^1.0"},
	} {
		got := readSpec("left", value)
		assert.Equal(t, want.kind, got.kind, "%q", value)
		assert.Equal(t, want.name, got.name, "%q", value)
		assert.Equal(t, want.text, got.text, "%q", value)
	}
}

func TestCheckName(t *testing.T) {
	for _, good := range []string{"left", "@harbour/signal", "JSONStream", "a.b-c_d", "1two"} {
		assert.NoError(t, checkName(good), good)
	}
	for _, bad := range []string{
		"", "..", "../x", "a/b", "@a", "@/b", "__proto__", ".hidden", "_x", "a b", "a\\b", "node_modules",
		strings.Repeat("x", 215),
	} {
		assert.Error(t, checkName(bad), bad)
	}
}

const everyGroup = `{
	"name": "shape", "version": "1.0.0",
	"engines": { "node": ">=18", "npm": "10" },
	"dependencies": { "left": "^1.0.0", "alias": "npm:@harbour/signal@~2.0", "src": "crew/src" },
	"devDependencies": { "tool": "1.x", "peer": "^3.0.0" },
	"optionalDependencies": { "maybe": "*" },
	"peerDependencies": { "peer": ">=2 <4", "guest": "^1" },
	"peerDependenciesMeta": { "guest": { "optional": true } }
}`

func TestReadEveryGroup(t *testing.T) {
	c, err := Ecosystem{}.Read(&ecosystem.Index{FS: files("board/package.json", everyGroup)}, "board")
	require.NoError(t, err)
	var told []string
	for _, r := range c.Requirements {
		told = append(told, fmt.Sprintf("%s %s %s %s %q %s", r.Group, r.Name, r.Subject, r.Site, r.Range, r.Fixed))
		assert.Equal(t, r.Range, strings.Trim(r.Site.Text, `"`), "the site is the range, and nothing else")
	}
	assert.Equal(t, []string{
		`peerDependencies peer npm/peer board/package.json:7 ">=2 <4" `,
		`peerDependencies guest npm/guest board/package.json:7 "^1" `,
		`dependencies left npm/left board/package.json:4 "^1.0.0" `,
		`dependencies alias npm/@harbour/signal board/package.json:4 "~2.0" `,
		`dependencies src npm/src board/package.json:4 "crew/src" git source`,
		`optionalDependencies maybe npm/maybe board/package.json:6 "*" `,
		`devDependencies tool npm/tool board/package.json:5 "1.x" `,
		`devDependencies peer npm/peer board/package.json:5 "^3.0.0" `,
	}, told)
	require.Len(t, c.Pins, 2)
	assert.Equal(t, "runtime/node", c.Pins[0].Subject.String())
	assert.Equal(t, "board/package.json:3", c.Pins[0].Site.String())
}

// spliceAll reads a manifest, puts every range into its site again, and then
// another one, and reads that.
func spliceAll(t *testing.T, src []byte) {
	m, err := readManifest(overlay.New(nil, map[string][]byte{"package.json": src}), ".")
	if err != nil {
		return
	}
	var same, moved []model.Splice
	for _, d := range m.dependencies {
		same = append(same, model.Splice{Site: d.site, New: d.site.Text})
		if d.spec.kind == specRange {
			moved = append(moved, model.Splice{Site: d.site, New: d.spec.glue + "^7.7.7"})
		}
	}
	again, err := model.Apply(src, same)
	require.NoError(t, err)
	require.Equal(t, string(src), string(again), "splicing nothing gives the same bytes")
	after, err := model.Apply(src, moved)
	require.NoError(t, err)
	n, err := readManifest(overlay.New(nil, map[string][]byte{"package.json": after}), ".")
	require.NoError(t, err, "%s", after)
	require.Len(t, n.dependencies, len(m.dependencies))
	for i, d := range n.dependencies {
		if m.dependencies[i].spec.kind == specRange {
			require.Equal(t, "^7.7.7", d.spec.text)
		} else {
			require.Equal(t, m.dependencies[i].spec.text, d.spec.text)
		}
		require.Equal(t, m.dependencies[i].spec.name, d.spec.name)
	}
}

func TestSplice(t *testing.T) {
	spliceAll(t, []byte(everyGroup))
	spliceAll(t, []byte("\ufeff"+strings.ReplaceAll(everyGroup, "\n", "\r\n")))
}

func FuzzManifest(f *testing.F) {
	for line := range strings.Lines(everyGroup) { // each for itself: small inputs are quickly made smaller
		f.Add([]byte("{" + strings.Trim(line, "{},\t\n ") + "}}"))
	}
	f.Add([]byte(`{"dependencies": {"a": "^1", "b": "npm:c"}}`))
	f.Add([]byte(`{"workspaces": {"packages": ["a"]}, "bundleDependencies": true, "engines": ["node"]}`))
	f.Fuzz(spliceAll)
}

const smallLock = `{
  "name": "shape", "lockfileVersion": 3, "requires": true,
  "packages": {
    "": { "name": "shape", "dependencies": { "left": "^1.0.0" } },
    "node_modules/left": { "version": "1.0.0", "dependencies": { "deep": "^1.0.0" } },
    "node_modules/deep": { "version": "1.4.0", "funding": { "url": "https://quay.test" } }
  }
}`

func FuzzLock(f *testing.F) {
	f.Add([]byte(smallLock))
	f.Add(
		[]byte(
			`{"lockfileVersion": 1, "dependencies": {"left": {"version": "1.0.0", "requires": {"deep": "1"}, ` +
				`"dependencies": {"deep": {"version": "npm:x@1.0.0"}}}}}`,
		),
	)
	f.Fuzz(func(t *testing.T, src []byte) {
		p, err := readProject(overlay.New(nil, map[string][]byte{
			"package.json": []byte(`{"name": "shape", "dependencies": {"left": "^1.0.0"}}`), "package-lock.json": src,
		}), ".")
		if err != nil {
			return
		}
		p.component()
		_ = p.checkLock()
		tree := p.tree()
		tree.prune()
		w := lockWriter{t: tree, old: p.lock, tops: map[*node]*manifest{tree.root: p.root}}
		if text, err := w.write(); err == nil {
			_, err := parseOwn(text)
			require.NoError(t, err, "%s", text)
		}
	})
}

// TestCheckLock sees that the checker finds what is wrong.
func TestCheckLock(t *testing.T) {
	manifest := `{"name": "shape", "dependencies": {"left": "^1.0.0"}}`
	require.NoError(t, checkLockIn(files("package.json", manifest, "package-lock.json", smallLock), "."))
	for change, want := range map[[2]string]string{
		{`"version": "1.4.0"`, `"version": "2.0.0"`}:                  `wants deep ^1.0.0, but "node_modules/deep" is 2.0.0`,
		{`node_modules/deep`, `node_modules/deeper`}:                  `"node_modules/left" misses deep ^1.0.0`,
		{`"dependencies": { "deep": "^1.0.0" }`, `"license": "MIT"`}:  `"node_modules/deep" is in the lock, but nothing needs it`,
		{`"version": "1.4.0"`, `"version": "1.4.0", "name": "other"`}: `wants the package deep, but "node_modules/deep" is another`,
	} {
		broken := strings.Replace(smallLock, change[0], change[1], 1)
		assert.ErrorContains(t, checkLockIn(files("package.json", manifest, "package-lock.json", broken), "."), want)
	}
}

func TestRestated(t *testing.T) {
	for _, c := range []struct {
		value string
		kind  edgeKind
		to    string
		want  string
	}{
		{"^1.0.0", prodEdge, "1.5.0", "^1.0.0"},
		{"^1.0.0", prodEdge, "2.5.0", "^2.5.0"},
		{"npm:right@~1.0.0", devEdge, "1.2.0", "~1.2.0"},
		{"^1.0.0", peerEdge, "2.5.0", "^1.0.0 || ^2.0.0"},
		{"16.x || 17.x", peerEdge, "18.3.1", "16.x || 17.x || 18.x"},
		{"~0.2.1", peerEdge, "0.3.4", "~0.2.1 || ~0.3.0"},
		{">=1 <2", peerEdge, "2.5.0", ">=1 <2 || ^2.0.0"},
		{"latest", prodEdge, "2.5.0", "latest"},
	} {
		d := dependency{kind: c.kind, spec: readSpec("left", c.value)}
		assert.Equal(t, c.want, restated(d, c.to, false), "%s to %s", c.value, c.to)
	}
}

func TestOverrideRules(t *testing.T) {
	m, err := readManifest(files("package.json", `{
		"dependencies": { "left": "^2.0.0" },
		"overrides": {
			"deep": "1.0.0",
			"tool@^2": { ".": "2.1.0", "wind": "3.0.0" },
			"rope": { "left": "$left" }
		}
	}`), ".")
	require.NoError(t, err)
	top := scope{readOverrides(m)}
	apply := func(s scope, name, rng string) (string, scope) {
		e, below := s.apply(edge{name: name, spec: readSpec(name, rng)})
		return e.spec.text, below
	}
	text, _ := apply(top, "deep", "^1.5.0")
	assert.Equal(t, "1.0.0", text)
	text, below := apply(top, "tool", "^2.0.0")
	assert.Equal(t, "2.1.0", text)
	text, _ = apply(below, "wind", "^1")
	assert.Equal(t, "3.0.0", text, "below tool")
	text, _ = apply(top, "wind", "^1")
	assert.Equal(t, "^1", text, "not elsewhere")
	text, _ = apply(top, "tool", "^1.0.0")
	assert.Equal(t, "^1.0.0", text, "another range of it is not meant")
	_, below = apply(top, "rope", "*")
	text, _ = apply(below, "left", "^1")
	assert.Equal(t, "^2.0.0", text, "by reference")
}

// TestPackages finds what is in effect by the shortest way, and that what is only
// optional needs nothing.
func TestPackages(t *testing.T) {
	fsys := fstest.MapFS{
		"package.json": {Data: []byte(`{"dependencies": {"a": "^1", "b": "^1"}, "optionalDependencies": {"o": "^1"}}`)},
		"package-lock.json": {Data: []byte(`{"lockfileVersion": 3, "packages": {
			"": {"dependencies": {"a": "^1", "b": "^1"}, "optionalDependencies": {"o": "^1"}},
			"node_modules/a": {"version": "1.0.0", "dependencies": {"c": "^1"}, "engines": {"node": ">=18"}},
			"node_modules/b": {"version": "1.0.0", "optionalDependencies": {"p": "^1"}},
			"node_modules/c": {"version": "1.2.0", "engines": {"node": ">=20"}},
			"node_modules/o": {"version": "1.0.0", "dependencies": {"c": "^1"}, "engines": {"node": ">=99"}},
			"node_modules/p": {"version": "1.0.0", "engines": {"node": ">=98"}}
		}}`)},
	}
	c, err := Ecosystem{}.Read(indexed(fsys), ".")
	require.NoError(t, err)
	var got []string
	for _, p := range (Ecosystem{}).Packages(c) {
		text := p.Subject.Name + " " + p.Version + " by " + strings.Join(p.Via, ", ")
		for _, n := range p.Needs {
			text += " needs " + n.Subject.String() + " " + n.Range
		}
		got = append(got, text)
	}
	assert.Equal(t, []string{
		"a 1.0.0 by  needs runtime/node >=18", "b 1.0.0 by ", "c 1.2.0 by a 1.0.0 needs runtime/node >=20", "o 1.0.0 by ", "p 1.0.0 by b 1.0.0",
	}, got)
}
