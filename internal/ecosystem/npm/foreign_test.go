package npm

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/packagejson"
)

// foreignLocks are the same small project as each client locks it.
var foreignLocks = map[string]string{
	"yarn.lock, first generation": `# yarn lockfile v1


"@saltmarsh/pin@^1.0.0", "@saltmarsh/pin@^1.1.0":
  version "1.2.0"
  resolved "http://registry.example/pin-1.2.0.tgz#abc"

crane@^2.0.0:
  version "2.1.0"
  dependencies:
    "@saltmarsh/pin" "^1.1.0"
    version "9.9.9"

"hoist@npm:winch@^3.0.0":
  version "3.0.1"
`,
	"yarn.lock, second generation": `__metadata:
  version: 8
  cacheKey: 10

"@saltmarsh/pin@npm:^1.0.0, @saltmarsh/pin@npm:^1.1.0":
  version: 1.2.0
  resolution: "@saltmarsh/pin@npm:1.2.0"
  languageName: node
  linkType: hard

"board@workspace:.":
  version: 0.0.0-use.local
  resolution: "board@workspace:."
  linkType: soft

"crane@npm:^2.0.0":
  version: 2.1.0
  resolution: "crane@npm:2.1.0"
  linkType: hard

"hoist@npm:winch@^3.0.0":
  version: 3.0.1
  resolution: "winch@npm:3.0.1"
  linkType: hard
`,
	"pnpm-lock.yaml, 5": `lockfileVersion: 5.4
specifiers:
  '@saltmarsh/pin': ^1.0.0
  crane: ^2.0.0
  hoist: npm:winch@^3.0.0
dependencies:
  '@saltmarsh/pin': 1.2.0
  crane: 2.1.0_@saltmarsh+pin@1.2.0
devDependencies:
  hoist: /winch/3.0.1
packages:
  /@saltmarsh/pin/1.2.0:
    resolution: {integrity: sha512-x}
  /crane/2.1.0_@saltmarsh+pin@1.2.0:
    resolution: {integrity: sha512-x}
  /winch/3.0.1:
    resolution: {integrity: sha512-x}
`,
	"pnpm-lock.yaml, 6": `lockfileVersion: '6.0'
dependencies:
  '@saltmarsh/pin':
    specifier: ^1.0.0
    version: 1.2.0
  crane:
    specifier: ^2.0.0
    version: 2.1.0(@saltmarsh/pin@1.2.0)
devDependencies:
  hoist:
    specifier: npm:winch@^3.0.0
    version: /winch@3.0.1
packages:
  /@saltmarsh/pin@1.2.0:
    resolution: {integrity: sha512-x}
  /crane@2.1.0(@saltmarsh/pin@1.2.0):
    resolution: {integrity: sha512-x}
  /winch@3.0.1:
    resolution: {integrity: sha512-x}
`,
	"pnpm-lock.yaml, 9": `lockfileVersion: '9.0'
importers:
  .:
    dependencies:
      '@saltmarsh/pin':
        specifier: ^1.0.0
        version: 1.2.0
      crane:
        specifier: ^2.0.0
        version: 2.1.0(@saltmarsh/pin@1.2.0)
    devDependencies:
      hoist:
        specifier: npm:winch@^3.0.0
        version: winch@3.0.1
packages:
  '@saltmarsh/pin@1.2.0':
    resolution: {integrity: sha512-x}
  crane@2.1.0:
    resolution: {integrity: sha512-x}
  winch@3.0.1:
    resolution: {integrity: sha512-x}
`,
}

const foreignManifest = `{"name": "board", "dependencies": {"@saltmarsh/pin": "^1.0.0", "crane": "^2.0.0"}, ` +
	`"devDependencies": {"hoist": "npm:winch@^3.0.0"}}`

func TestForeignLocks(t *testing.T) {
	for kind, text := range foreignLocks {
		t.Run(kind, func(t *testing.T) {
			file, client := "yarn.lock", "yarn"
			if kind[0] == 'p' {
				file, client = "pnpm-lock.yaml", "pnpm"
			}
			fsys := fstest.MapFS{"package.json": {Data: []byte(foreignManifest)}, file: {Data: []byte(text)}}
			c, err := Ecosystem{}.Read(indexed(fsys), ".")
			require.NoError(t, err)
			assert.Equal(t, file, c.LockFiles())
			locked := map[string]string{}
			for _, r := range c.Requirements {
				locked[r.Name] = r.Locked
			}
			assert.Equal(t, map[string]string{"@saltmarsh/pin": "1.2.0", "crane": "2.1.0", "hoist": "3.0.1"}, locked)
			var packages []string
			for _, p := range (Ecosystem{}).Packages(c) {
				packages = append(packages, p.Subject.Name+" "+p.Version)
			}
			assert.ElementsMatch(t, []string{"@saltmarsh/pin 1.2.0", "crane 2.1.0", "winch 3.0.1"}, packages)
			fetch := Ecosystem{}.Stages(c)[0]
			assert.Equal(t, client, fetch.Command[0])
			assert.Equal(t, []string{file}, fetch.Refreshes)
			assert.Contains(t, fetch.ByHand, "is not installed here: run "+client+" install")
		})
	}
}

// TestForeignLockBehind is a manifest that was moved since its lock was written:
// the least that its range has stands for what will be locked.
func TestForeignLockBehind(t *testing.T) {
	for _, file := range []string{"yarn.lock", "pnpm-lock.yaml"} {
		text := foreignLocks["yarn.lock, first generation"]
		if file != "yarn.lock" {
			text = foreignLocks["pnpm-lock.yaml, 9"]
		}
		c, err := Ecosystem{}.Read(indexed(fstest.MapFS{
			"package.json": {Data: []byte(`{"dependencies": {"crane": "^3.2.0", "winch": "latest"}}`)}, file: {Data: []byte(text)},
		}), ".")
		require.NoError(t, err)
		assert.Equal(t, "3.2.0", c.Find("crane")[0].Locked)
		assert.Empty(t, c.Find("winch")[0].Locked)
	}
}

// TestLaidDown are versions that the manifest lays down for everybody: what a
// requirement asks for itself has no effect.
func TestLaidDown(t *testing.T) {
	for _, rules := range []string{
		`"resolutions": {"crane": "2.1.0"}`, `"resolutions": {"**/crane": "2.1.0"}`,
		`"resolutions": {"crane@npm:^4.0.0": "^2.0.0", "other": "1.0.0"}`,
	} {
		for kind, text := range foreignLocks {
			file, _, _ := strings.Cut(kind, ",")
			c, err := Ecosystem{}.Read(indexed(fstest.MapFS{
				"package.json": {Data: []byte(`{"dependencies": {"crane": "^4.0.0"}, ` + rules + `}`)},
				file:           {Data: []byte(strings.ReplaceAll(text, "crane@^2.0.0", "crane@2.1.0, crane@^2.0.0"))},
			}), ".")
			require.NoError(t, err)
			assert.Equal(t, "2.1.0", c.Find("crane")[0].Locked, "%s, %s", kind, rules)
			assert.Contains(t, strings.Join(c.Notes, "\n"), "package.json:1 lays down which crane everybody gets")
		}
	}
	for _, none := range []string{`"resolutions": {"hoist/crane": "2.1.0", "crane@^3.0.0": ` +
		`"2.1.0"}`, `"resolutions": {"crane": "npm:winch@1.0.0"}`, `"resolutions": ["crane"]`} {
		c, err := Ecosystem{}.Read(
			indexed(
				fstest.MapFS{
					"package.json": {Data: []byte(`{"dependencies": {"crane": "^4.0.0"}, ` + none + `}`)},
					"yarn.lock":    {Data: []byte("# yarn lockfile v1\n")},
				},
			),
			".",
		)
		require.NoError(t, err)
		assert.NotContains(t, strings.Join(c.Notes, "\n"), "lays down", none)
	}
}

// TestMembersOfPNPM are named in a file of their own.
func TestMembersOfPNPM(t *testing.T) {
	fsys := fstest.MapFS{
		"package.json":        {Data: []byte(`{"name": "board"}`)},
		"pnpm-workspace.yaml": {Data: []byte("packages:\n  - 'quays/*'\n  - '!quays/old'\n")},
		"quays/north/package.json": {
			Data: []byte(`{"name": "north", "dependencies": {"crane": "^2.0.0", "south": "workspace:^", "rope": "catalog:"}}`),
		},
		"quays/old/package.json":   {Data: []byte(`{"name": "old"}`)},
		"quays/south/package.json": {Data: []byte(`{"name": "south"}`)},
		"pnpm-lock.yaml": {
			Data: []byte(
				"lockfileVersion: '9.0'\nimporters:\n  .: {}\n  quays/north:\n    dependencies:\n      crane:\n        specifier: " +
					"^2.0.0\n        version: 2.4.0\n",
			),
		},
		"elsewhere/sub/package.json": {Data: []byte(`{"name": "sub"}`)},
	}
	c, err := Ecosystem{}.Read(indexed(fsys), ".")
	require.NoError(t, err)
	assert.Equal(t, "2.4.0", c.Find("crane")[0].Locked)
	assert.Equal(t, "workspace member", c.Find("south")[0].Fixed)
	assert.Equal(t, "version in a catalog", c.Find("rope")[0].Fixed)
	dirs, err := Ecosystem{}.Detect(indexed(fsys))
	require.NoError(t, err)
	assert.Equal(t, []string{".", "elsewhere/sub", "quays/old"}, dirs)
	fsys["pnpm-workspace.yaml"].Data = []byte("packages:\n  - '../x'\n")
	_, err = Ecosystem{}.Read(indexed(fsys), ".")
	var fault *model.Fault
	require.ErrorAs(t, err, &fault)
	assert.Equal(t, "pnpm-workspace.yaml", fault.File)
	assert.Equal(t, 2, fault.Line)
}

func FuzzForeignLocks(f *testing.F) {
	for kind, text := range foreignLocks { // in small parts, which are quickly made smaller
		head, _, _ := strings.Cut(text, "\n")
		for part := range strings.SplitSeq(text, "\n\n") {
			f.Add(kind[0] == 'p', head+"\n\n"+part[:min(len(part), 120)])
		}
	}
	f.Fuzz(func(t *testing.T, pnpm bool, text string) {
		file := "yarn.lock"
		if pnpm {
			file = "pnpm-lock.yaml"
		}
		c, err := Ecosystem{}.Read(indexed(fstest.MapFS{"package.json": {Data: []byte(foreignManifest)}, file: {Data: []byte(text)}}), ".")
		if err != nil {
			var fault *model.Fault
			require.ErrorAs(t, err, &fault)
			return
		}
		for _, p := range (Ecosystem{}).Packages(c) {
			require.NoError(t, packagejson.CheckName(p.Subject.Name))
		}
	})
}
