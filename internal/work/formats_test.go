package work

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"testing/fstest"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"bellwether/books"
	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// validate checks a YAML text against one of the schemas that ship.
func validate(t *testing.T, schema string, text []byte) error {
	s, err := jsonschema.NewCompiler().Compile("../../docs/schema/" + schema)
	require.NoError(t, err)
	var v any
	require.NoError(t, yaml.Unmarshal(text, &v))
	return s.Validate(v)
}

// dated finds dates, which JSON has only as texts.
var dated = regexp.MustCompile(`([0-9]{4}-[0-9]{2}-[0-9]{2})`)

// TestDocumentedFormats sees that the examples of the manual, the schemas and
// the readers agree.
func TestDocumentedFormats(t *testing.T) {
	manual, err := os.ReadFile("../../docs/formats.md")
	require.NoError(t, err)
	examples := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllSubmatch(manual, -1)
	require.Len(t, examples, 8)

	text := examples[0][1]
	assert.NoError(t, validate(t, "settings.json", text))
	s, err := settings.Read(fstest.MapFS{settings.File: {Data: text}})
	require.NoError(t, err)
	assert.Len(t, s.Stages, 4)

	route := examples[1][1]
	assert.NoError(t, validate(t, "route.json", route))
	require.NoError(t, yamldoc.Decode("route.yaml", route, &kept.Route{}))

	book := examples[2][1]
	assert.NoError(t, validate(t, "book.json", dated.ReplaceAll(book, []byte(`"$1"`))))
	_, faults := compat.Parse("book.yaml", book, tree.BuiltIn().Order)
	assert.Empty(t, faults)

	temporary := examples[3][1]
	assert.NoError(t, validate(t, "bridges.json", temporary))
	list, err := kept.Bridges(fstest.MapFS{kept.BridgesFile: {Data: temporary}})
	require.NoError(t, err)
	assert.Len(t, list, 2)

	left := examples[4][1]
	assert.NoError(t, validate(t, "todos.json", left))
	todos, err := kept.ToDos(fstest.MapFS{kept.ToDosFile: {Data: left}})
	require.NoError(t, err)
	assert.Len(t, todos, 1)

	rules, err := os.ReadFile("../../docs/rules.md")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllSubmatch(rules, -1) {
		assert.NoError(t, validate(t, "book.json", m[1]))
	}

	for schema, bad := range map[string]string{
		"settings.json": "reech: minor", "route.json": "schema: bellwether/route/1\nlegs: [{id: a b, component: .}]",
	} {
		assert.Error(t, validate(t, schema, []byte(bad)))
	}
}

// TestWrittenRoute sees that a route as it is written follows the schema, and is read back.
func TestWrittenRoute(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/package.json", []byte(`{"dependencies": {}}`), 0o644))
	p, err := Open(t.Context(), desk.Options{Dir: dir, NoCache: true})
	require.NoError(t, err)
	require.NoError(t, p.Kept.WriteRoute(kept.NewRoute(routeForTest())))
	text, err := os.ReadFile(filepath.Join(dir, kept.RouteFile))
	require.NoError(t, err)
	assert.NoError(t, validate(t, "route.json", text))
	assert.Contains(t, string(text), "- deep 1.0.0 to 1.1.0\n        - new 1.0.0 comes in\n        - gone 1.0.0 goes away\n")
	back, err := p.Kept.Route(t.Context(), p.Tree)
	require.NoError(t, err)
	want := routeForTest().Legs
	want[0].Moves[0].Subject = model.Subject{Kind: "npm", Name: "left"}
	want[0].Moves[1].Subject = model.Subject{Kind: "runtime", Name: "node"}
	assert.Equal(t, want, back.Legs)
}

func routeForTest() *model.Route {
	limit := 0
	return &model.Route{
		Destination: []string{"left@^2"}, AsOf: time.Date(2026, 1, 31, 0, 0, 0, 0, time.UTC), Previews: []string{"left"},
		Legs: []model.Leg{
			{
				ID: "1-left-2", Title: "left to 2", Component: ".",
				Moves: []model.Move{
					{Name: "left", From: "1.0.0", To: "2.0.0", Because: "asked for"},
					{Name: "runtime/node", From: "18", To: "20", Wants: []string{">=20"}},
				},
				Carried: model.Carried{{Name: "deep", From: "1.0.0", To: "1.1.0"}, {Name: "new", To: "1.0.0"}, {Name: "gone", From: "1.0.0"}},
				Terms:   model.Terms{Overrides: []model.Override{{Of: "left", Name: "right", Range: "^2"}}, Apart: []string{"left"}, Dedupe: true},
			},
			{
				ID: "2-install", Title: "for you: install it",
				Steps: []model.Step{{Text: "install it", Subject: model.Subject{Kind: "tool", Name: "npm"}, Wants: []string{">=9"}}},
			},
			{ID: "3-settle", Title: "no deprecations of our own left", Deprecations: &limit},
		},
	}
}

// TestShippedBooks sees that the books that ship are in the form of their schema, that nothing is wrong with them, and that their
// rules do what their examples say.
func TestShippedBooks(t *testing.T) {
	dated := regexp.MustCompile(`\b\d{4}-\d\d-\d\d\b`)
	for _, b := range books.All() {
		assert.NoError(t, validate(t, "book.json", dated.ReplaceAll(b.Src, []byte(`"$0"`))), b.Name)
		book, faults := compat.Parse(b.Name, b.Src, tree.BuiltIn().Order)
		require.Empty(t, faults, b.Name)
		remarks, err := compat.Check(t.Context(), book, tree.BuiltIn().Order)
		require.NoError(t, err)
		assert.Empty(t, remarks, b.Name)
	}
}
