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
	"bellwether/internal/ecosystem/npm/lockwriter"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/project"
	"bellwether/internal/ecosystem/npm/tree"
)

func files(pairs ...string) *overlay.FS {
	m := map[string][]byte{}
	for i := 0; i < len(pairs); i += 2 {
		m[pairs[i]] = []byte(pairs[i+1])
	}
	return overlay.New(nil, m)
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
	m, err := packagejson.ReadManifest(overlay.New(nil, map[string][]byte{"package.json": src}), ".")
	if err != nil {
		return
	}
	var same, moved []model.Splice
	for _, d := range m.Dependencies {
		same = append(same, model.Splice{Site: d.Site, New: d.Site.Text})
		if d.Spec.Kind == packagejson.SpecRange {
			moved = append(moved, model.Splice{Site: d.Site, New: d.Spec.Glue + "^7.7.7"})
		}
	}
	again, err := model.Apply(src, same)
	require.NoError(t, err)
	require.Equal(t, string(src), string(again), "splicing nothing gives the same bytes")
	after, err := model.Apply(src, moved)
	require.NoError(t, err)
	n, err := packagejson.ReadManifest(overlay.New(nil, map[string][]byte{"package.json": after}), ".")
	require.NoError(t, err, "%s", after)
	require.Len(t, n.Dependencies, len(m.Dependencies))
	for i, d := range n.Dependencies {
		if m.Dependencies[i].Spec.Kind == packagejson.SpecRange {
			require.Equal(t, "^7.7.7", d.Spec.Text)
		} else {
			require.Equal(t, m.Dependencies[i].Spec.Text, d.Spec.Text)
		}
		require.Equal(t, m.Dependencies[i].Spec.Name, d.Spec.Name)
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
		p, err := project.ReadProject(overlay.New(nil, map[string][]byte{
			"package.json": []byte(`{"name": "shape", "dependencies": {"left": "^1.0.0"}}`), "package-lock.json": src,
		}), ".")
		if err != nil {
			return
		}
		p.Component()
		_ = checkLock(p)
		locked := p.Tree()
		locked.Prune()
		w := lockwriter.Writer{Tree: locked, Old: p.Lock, Tops: map[*tree.Node]*packagejson.Manifest{locked.Root: p.Root}}
		if text, err := w.Write(); err == nil {
			_, err := lockwriter.ParseOwn(text)
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
