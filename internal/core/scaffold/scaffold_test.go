package scaffold

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func over(t Tree) (func(string) ([]byte, bool), []string) {
	return func(name string) ([]byte, bool) { data, ok := t[name]; return data, ok }, sorted(t)
}

func states(c *Comparison) map[string]State {
	all := map[string]State{}
	for _, f := range c.Files {
		all[f.Path] = f.State
	}
	return all
}

func tree(pairs ...string) Tree {
	t := Tree{}
	for i := 0; i < len(pairs); i += 2 {
		t[pairs[i]] = []byte(pairs[i+1])
	}
	return t
}

// TestCompare sees each way in which a file can stand to a template.
func TestCompare(t *testing.T) {
	text := "one\ntwo\nthree\nfour\nfive\nsix\n"
	old := tree("same", "s", "takes", "a\n", "done", "a\n", "merges", text, "clash", "a\n", "gone", "g", "gone-changed", "g", "left", "l\n",
		"src/app.js", text, "was/app.ts", text, "logo.png", "\x00a", "both-gone", "nobody has it")
	fresh := tree(
		"same",
		"s",
		"takes",
		"b\n",
		"done",
		"b\n",
		"merges",
		text+"seven\n",
		"clash",
		"b\n",
		"new",
		"n",
		"left",
		"m\n",
		"src/app.js",
		text+"seven\n",
		"now/app.ts",
		text+"seven\n",
		"logo.png",
		"\x00b",
		"new-clash",
		"x\n",
	)
	mine, names := over(
		tree("same", "mine", "takes", "a\n", "done", "b\n", "merges", "zero\n"+text, "clash", "c\n", "gone", "g", "gone-changed", "h",
			"web/app.js", "zero\n"+text, "was/app.ts", text, "logo.png", "\x00c", "new-clash", "y\n", "own", "own"),
	)
	c := Compare(old, fresh, mine, names)
	assert.Equal(t, map[string]State{
		"takes": Takes, "done": Alike, "merges": Merges, "clash": Conflicts, "gone": Gone, "gone-changed": GoneHere, "left": Removed, "new": New,
		"web/app.js": Merges, "was/app.ts": Takes, "logo.png": Conflicts, "new-clash": Conflicts, "both-gone": Alike,
	}, states(c))
	assert.Equal(t, 1, c.Unchanged)
	for _, f := range c.Files {
		switch f.Path {
		case "web/app.js":
			assert.Equal(t, "src/app.js", f.Old)
			assert.Equal(t, "zero\n"+text+"seven\n", string(f.After))
		case "was/app.ts":
			assert.Equal(t, "now/app.ts", f.New)
		case "clash":
			require.Len(t, f.Hunks, 1)
			assert.Equal(t, Hunk{1, 1, Conflicts, "a\n", "c\n", "b\n"}, f.Hunks[0])
			assert.Equal(t, "b\n", f.Take("a\n", "b\n", func(Hunk) bool { return true }))
			assert.Equal(t, "c\n", f.Take("a\n", "b\n", func(Hunk) bool { return false }))
			assert.Equal(t, "<<<<<<< the project's\nc\n=======\nb\n>>>>>>> the template's\n", f.Marked("a\n", "b\n"))
		}
	}
}

// TestFolders sees that what the template has new, or what is changed beyond being known again, is looked for where its folder
// went; a folder in which something stays did not go.
func TestFolders(t *testing.T) {
	text := "one\ntwo\nthree\nfour\n"
	old := tree("src/app.js", text, "src/parts/bell.js", "ding\n", "src/parts/rope.js", text+"rope\n", "docs/a.md", text, "docs/b.md", "b\n")
	fresh := tree(
		"src/app.js", text+"five\n", "src/parts/bell.js", "dong\n", "src/parts/rope.js", text+"rope\n", "src/parts/new.js", "new\n",
		"docs/a.md", text, "docs/b.md", "b\n", "docs/c.md", "c\n",
	)
	mine, names := over(tree(
		"web/app.js", text, "web/parts/bell.js", "all another\n", "web/parts/rope.js", text+"rope\n", "pages/a.md", text, "docs/b.md", "b\n",
	))
	c := Compare(old, fresh, mine, names)
	assert.Equal(t, map[string]State{
		"web/app.js": Takes, "web/parts/bell.js": Conflicts, "web/parts/new.js": New, "docs/c.md": New,
	}, states(c))
	for _, f := range c.Files {
		if f.Path == "web/parts/new.js" {
			assert.Equal(t, "src/parts/new.js", f.Old)
		}
	}
}

// TestKeys sees that order and format make no noise, and that what only the person changed stays: a property test
// over random settings.
func TestKeys(t *testing.T) {
	names := []string{"port", "log", "depth", "crew", "bell"}
	for seed := range uint64(500) {
		rng := rand.New(rand.NewPCG(seed, 7))
		make1 := func(like map[string]string) map[string]string {
			all := map[string]string{}
			for _, n := range names {
				switch {
				case rng.IntN(3) > 0 && like[n] != "":
					all[n] = like[n]
				case rng.IntN(3) > 0:
					all[n] = fmt.Sprint("v", rng.IntN(4))
				}
			}
			return all
		}
		old := make1(nil)
		fresh, mine := make1(old), make1(old)
		write := func(m map[string]string, indent string) []byte {
			data, err := json.MarshalIndent(m, "", indent)
			require.NoError(t, err)
			return append(data, '\n')
		}
		get, all := over(Tree{"a.json": write(mine, "    ")})
		c := Compare(Tree{"a.json": write(old, "  ")}, Tree{"a.json": write(fresh, "  ")}, get, all)
		if len(c.Files) == 0 || c.Files[0].State != Merges && c.Files[0].State != Takes {
			continue
		}
		var now map[string]string
		require.NoError(t, json.Unmarshal(c.Files[0].After, &now), "seed %d: %s", seed, c.Files[0].After)
		for _, n := range names {
			switch {
			case fresh[n] == old[n]:
				assert.Equal(t, mine[n], now[n], "seed %d: only the person changed %s", seed, n)
			case mine[n] == old[n]:
				assert.Equal(t, fresh[n], now[n], "seed %d: only the template changed %s", seed, n)
			}
		}
	}
}

// TestFill fills in what is known, in several forms, and names what is not.
func TestFill(t *testing.T) {
	v := Values{}
	v.Set("project-name", "ferries")
	filled, unknown, err := v.Fill(
		tree("__projectName__/{{ project_name }}.txt", "<%= project.name %> [[PROJECT-NAME]] {{ other }} ${{ secrets.X }}",
			"__who__.md", "x", "logo.png", "\x00{{project-name}}"), 1000,
	)
	require.NoError(t, err)
	assert.Equal(
		t,
		tree("ferries/ferries.txt", "ferries ferries {{ other }} ${{ secrets.X }}", "__who__.md", "x", "logo.png", "\x00{{project-name}}"),
		filled,
	)
	assert.Equal(t, []string{"who"}, unknown)
}

// TestFillRefuses fills templates in that were made to do harm.
func TestFillRefuses(t *testing.T) {
	v := Values{}
	v.Set("name", "pier")
	v.Set("up", "../..")
	v.Set("git", ".git")
	v.Set("keep", ".Bellwether")
	v.Set("long", strings.Repeat("x", 1000))
	for _, c := range []struct{ says, name, other, text string }{
		{`"pier.txt" and "{{name}}.txt" both become "pier.txt"`, "pier.txt", "{{name}}.txt", ""},
		{"are one name", "Pier.txt", "{{name}}.txt", ""},
		{"are one name", "A/x", "a/y", ""},
		{"are one name", "caf\u00e9", "cafe\u0301", ""},
		{"is no name of a file", "{{up}}/x", "y", ""},
		{"belongs to git", "{{git}}/hooks/x", "y", ""},
		{"belongs to git", "a/{{git}}./x", "y", ""},
		{"belongs to Bellwether", "{{keep}}/route.yaml", "y", ""},
		{"too large", "x", "y", strings.Repeat("{{long}}", 200)},
	} {
		_, _, err := v.Fill(tree(c.name, c.text, c.other, ""), 100_000)
		assert.ErrorContains(t, err, c.says, c.name)
	}
}

// TestNothingIsLost takes over what applies cleanly of random templates into random projects: every line that only the person
// wrote is there afterwards, every line that only the newer template has is there or its file is told of, and nothing is written twice.
func TestNothingIsLost(t *testing.T) {
	moved := 0
	for seed := range uint64(3000) {
		rng := rand.New(rand.NewPCG(seed, 11))
		dirs := []string{"", "src/", "src/lib/", "web/"}
		somewhere := func(base string) string { return dirs[rng.IntN(len(dirs))] + base }
		serial := 0
		changed := func(lines []string, mark string) (next []string) {
			for _, l := range lines {
				switch rng.IntN(12) {
				case 0: // it goes
					continue
				case 1:
					serial++
					next = append(next, fmt.Sprintf("%s-%d", mark, serial))
				case 2:
					serial++
					next = append(next, l, fmt.Sprintf("%s-%d", mark, serial))
				default:
					next = append(next, l)
				}
			}
			return next
		}
		text := func(lines []string) []byte { return []byte(strings.Join(lines, "\n") + "\n") }
		old, fresh, project := Tree{}, Tree{}, Tree{}
		for n := range 1 + rng.IntN(4) {
			base, name := fmt.Sprintf("f%d.js", n), ""
			var lines []string
			for range rng.IntN(9) {
				serial++
				lines = append(lines, fmt.Sprintf("line-%d", serial%(3+rng.IntN(40))))
			}
			name = somewhere(base)
			old[name] = text(lines)
			if to := name; rng.IntN(8) > 0 {
				if rng.IntN(3) == 0 {
					to = somewhere(fmt.Sprintf("f%d.js", rng.IntN(5)))
				}
				fresh[to] = text(changed(lines, "new"))
			}
			if to := name; rng.IntN(8) > 0 {
				if rng.IntN(4) == 0 {
					to = somewhere(base)
				}
				project[to] = text(changed(lines, "mine"))
			}
		}
		if rng.IntN(3) == 0 {
			project[somewhere("f1.js")] = text([]string{"mine-own", "mine-more"})
		}
		mine, names := over(project)
		c := Compare(old, fresh, mine, names)
		after, written := maps.Clone(project), map[string]bool{}
		told := map[string]bool{}
		for i := range c.Files {
			f := &c.Files[i]
			clean := f.Clean(string(old[cmp.Or(f.Old, f.Path)]), string(fresh[cmp.Or(f.New, f.Old, f.Path)]))
			for _, e := range clean {
				require.False(t, written[e.Path], "seed %d: %s is written twice", seed, e.Path)
				require.Equal(t, string(project[e.Path]), string(e.Before), "seed %d: %s", seed, e.Path)
				if written[e.Path] = true; e.After == nil {
					delete(after, e.Path)
				} else {
					after[e.Path] = e.After
				}
			}
			if len(clean) > 1 {
				moved++
			}
			if f.State == Conflicts || f.State == GoneHere || f.State == Removed {
				told[f.Path], told[f.New], told[f.Old] = true, true, true
			}
		}
		all := ""
		for _, data := range after {
			all += string(data)
		}
		for _, data := range project {
			for _, l := range strings.Fields(string(data)) {
				if strings.HasPrefix(l, "mine") {
					require.Contains(t, all, l+"\n", "seed %d: a line of the person is lost", seed)
				}
			}
		}
		for name, data := range fresh {
			for _, l := range strings.Fields(string(data)) {
				if strings.HasPrefix(l, "new") && !told[name] {
					require.Contains(t, all, l+"\n", "seed %d: a line of the template in %s is neither there nor told", seed, name)
				}
			}
		}
	}
	assert.Greater(t, moved, 50)
}

// TestBecomes gives names of templates those that files have in projects.
func TestBecomes(t *testing.T) {
	for name, want := range map[string]string{
		"_gitignore": ".gitignore", "gitignore": ".gitignore", "dot-gitignore": ".gitignore", "_dot_npmrc": ".npmrc",
		"a/_env.local": "a/.env.local", "_package.json": "package.json", "package.json.tmpl": "package.json",
		"src/app.ts.ejs": "src/app.ts", "_github/workflows/ci.yml": ".github/workflows/ci.yml", "_layout.js": "_layout.js",
		"views/index.ejs": "views/index.ejs", "env/a.js": "env/a.js", "github/a": "github/a", "env": "env", "_app.tsx": "_app.tsx",
	} {
		assert.Equal(t, want, Becomes(name), name)
	}
}
