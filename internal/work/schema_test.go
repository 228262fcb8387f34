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

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
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
	require.Len(t, examples, 6)

	settings := examples[0][1]
	assert.NoError(t, validate(t, "settings.json", settings))
	s, err := ReadSettings(fstest.MapFS{SettingsFile: {Data: settings}})
	require.NoError(t, err)
	assert.Len(t, s.Stages, 4)

	route := examples[1][1]
	assert.NoError(t, validate(t, "route.json", route))
	require.NoError(t, yamldoc.Decode("route.yaml", route, &routeFile{}))

	book := examples[2][1]
	assert.NoError(t, validate(t, "book.json", dated.ReplaceAll(book, []byte(`"$1"`))))
	_, faults := compat.Parse("book.yaml", book, orders)
	assert.Empty(t, faults)

	temporary := examples[3][1]
	assert.NoError(t, validate(t, "bridges.json", temporary))
	list, err := bridges(fstest.MapFS{bridgesFile: {Data: temporary}})
	require.NoError(t, err)
	assert.Len(t, list, 2)

	for schema, bad := range map[string]string{
		"settings.json": "reech: minor", "route.json": "schema: bellwether/route/1\nlegs: [{id: a b, component: .}]",
	} {
		assert.Error(t, validate(t, schema, []byte(bad)))
	}
}

// TestWrittenRoute sees that a route as it is written follows the schema.
func TestWrittenRoute(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/package.json", []byte(`{"dependencies": {}}`), 0o644))
	p, err := Open(t.Context(), Options{Dir: dir, NoCache: true})
	require.NoError(t, err)
	require.NoError(t, p.writeRoute(routeForTest(), []string{"left"}))
	text, err := os.ReadFile(filepath.Join(p.Root, keepDir, routeName))
	require.NoError(t, err)
	assert.NoError(t, validate(t, "route.json", text))
	back, err := p.readRoute(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2.0.0", back.Legs[0].Moves[0].To)
	assert.Equal(t, []string{"deep 1.0.0 to 1.1.0", "new 1.0.0 comes in", "gone 1.0.0 goes away"}, back.Legs[0].Carried)
}

func routeForTest() *model.Route {
	return &model.Route{
		Destination: []string{"left@^2"}, AsOf: time.Date(2026, 1, 31, 0, 0, 0, 0, time.UTC),
		Legs: []model.Leg{{
			ID: "1-left-2", Title: "left to 2", Component: ".",
			Moves:   []model.Move{{Name: "left", From: "1.0.0", To: "2.0.0", Because: "asked for"}},
			Carried: []model.Move{{Name: "deep", From: "1.0.0", To: "1.1.0"}, {Name: "new", To: "1.0.0"}, {Name: "gone", From: "1.0.0"}},
		}},
	}
}
