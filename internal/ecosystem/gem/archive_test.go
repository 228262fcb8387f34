package gem

import (
	"context"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/gem/project"
	"bellwether/internal/host/fetch"
)

// TestArchive reads a file of a gem from the source that knows it, though it is not the first.
func TestArchive(t *testing.T) {
	first, second := server(t, "hawser 1.0.0"), server(t, "quayside 1.0.0\n| # 1.0.0\n| It floats.\n")
	files := fstest.MapFS{"Gemfile": {Data: []byte("source '" + first + "'\nsource '" + second + "'\ngem 'quayside'\n")}}
	r, err := Ecosystem{}.Connect(t.Context(), ecosystem.Surroundings{
		Files: files, Client: fetch.New(fetch.Config{}), Now: time.Now(),
		Ask: func(context.Context, ...string) (string, error) { return "", assert.AnError },
	}, ".")
	require.NoError(t, err)
	list, err := r.(ecosystem.Archived).Archive(t.Context(), model.Subject{Kind: project.Name, Name: "quayside"}, "1.0.0", ecosystem.Wanted{
		Form: "test", File: func(name string, _ int64) bool { return name == "CHANGELOG.md" },
	})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Contains(t, string(list[0].Data), "It floats.")
}
