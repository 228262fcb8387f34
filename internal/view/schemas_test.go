package view

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/report"
	"bellwether/internal/core/scaffold"
	work "bellwether/internal/work/scaffold"
)

var update = flag.Bool("update", false, "write the schemas anew")

// outputs are what commands print as JSON, by the names of their schemas.
var outputs = map[string]any{
	"adapt": model.AdaptResult{}, "todos": model.ToDosResult{}, "culprit": output.CulpritResult{}, "notes": model.NotesResult{},
	"prereqs": output.Prereqs{}, "books": output.BooksResult{}, "book-check": output.BookCheck{}, "report": report.Report{},
	"explain": explanations{}, "route": output.RouteResult{}, "leg": finding.LegResult{}, "status": output.StatusResult{},
	"conflict": conflict{}, "in-effect": output.InEffect{},
	"scaffold": work.Result{}, "scaffold-file": scaffold.File{}, "survey": output.Survey{}, "verify": finding.Result{},
}

// TestSchemas sees that the schema of each output that ships is that of what is printed.
func TestSchemas(t *testing.T) {
	dir := "../../docs/schema/output"
	for name, value := range outputs {
		d := &describing{defs: map[string]any{}}
		schema := d.object(reflect.TypeOf(value))
		schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
		schema["title"] = "What bellwether prints as bellwether/" + name + "/1"
		schema["properties"].(map[string]any)["schema"] = map[string]any{"const": "bellwether/" + name + "/1"}
		schema["required"] = append([]string{"schema"}, schema["required"].([]string)...)
		if len(d.defs) > 0 {
			schema["$defs"] = d.defs
		}
		text, err := json.MarshalIndent(schema, "", "  ")
		require.NoError(t, err)
		file := filepath.Join(dir, name+".json")
		if *update {
			require.NoError(t, os.MkdirAll(dir, 0o755))
			require.NoError(t, os.WriteFile(file, append(text, '\n'), 0o644))
			continue
		}
		ships, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.True(
			t, string(ships) == string(text)+"\n", "%s is not as the types are: go test ./internal/view -run TestSchemas -args -update", name,
		)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, len(outputs))
}

// describing describes types as JSON Schema.
type describing struct{ defs map[string]any }

func (d *describing) of(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t == reflect.TypeFor[[]byte]():
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return map[string]any{"anyOf": []any{d.of(t.Elem()), map[string]any{"type": "null"}}}
	case reflect.Slice:
		return map[string]any{"type": []string{"array", "null"}, "items": d.of(t.Elem())}
	case reflect.Array:
		return map[string]any{"type": "array", "items": d.of(t.Elem()), "minItems": t.Len(), "maxItems": t.Len()}
	case reflect.Map:
		return map[string]any{"type": []string{"object", "null"}, "additionalProperties": d.of(t.Elem())}
	case reflect.Struct:
		name := strings.ReplaceAll(t.String(), ".", "-")
		if d.defs[name] == nil {
			d.defs[name] = true // it may lead to itself
			d.defs[name] = d.object(t)
		}
		return map[string]any{"$ref": "#/$defs/" + name}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Float64, reflect.Float32:
		return map[string]any{"type": "number"}
	case reflect.Interface:
		return map[string]any{}
	}
	return map[string]any{"type": "integer"}
}

// object describes a struct by its fields.
func (d *describing) object(t reflect.Type) map[string]any {
	properties, required := map[string]any{}, []string{}
	var fields func(t reflect.Type)
	fields = func(t reflect.Type) {
		for i := range t.NumField() {
			f := t.Field(i)
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Anonymous && name == "" {
				of := f.Type
				if of.Kind() == reflect.Pointer {
					of = of.Elem()
				}
				fields(of)
				continue
			}
			if !f.IsExported() || name == "-" {
				continue
			}
			if name == "" {
				name = f.Name
			}
			properties[name] = d.of(f.Type)
			if !strings.Contains(options, "omit") {
				required = append(required, name)
			}
		}
	}
	fields(t)
	slices.Sort(required)
	return map[string]any{"type": "object", "additionalProperties": false, "properties": properties, "required": slices.Compact(required)}
}
