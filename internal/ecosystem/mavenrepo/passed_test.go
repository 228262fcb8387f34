package mavenrepo

import (
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/ecosystem"
	"bellwether/internal/host/fetch"
	"bellwether/internal/standin/shorthand"
)

// A repository that cannot be asked stops nothing that another one has, and that is told once; what none of the others has is
// its error.
func TestPassedOver(t *testing.T) {
	packages, err := shorthand.Artifacts("pier:quay 1.0\npier:quay 1.1")
	require.NoError(t, err)
	server := httptest.NewServer(packages.Repository())
	defer server.Close()
	gone := httptest.NewServer(nil)
	gone.Close()
	said := map[string]int{}
	c := New(ecosystem.Surroundings{
		Client: fetch.New(fetch.Config{}), Say: func(text string) { said[text]++ }, Environ: []string{"HOME=" + t.TempDir()},
	}, &Settings{})
	repositories := []Repository{{ID: "gone", URL: gone.URL}, {ID: "old", URL: gone.URL, NoRelease: true}, {ID: "pier", URL: server.URL}}
	all, err := c.Versions(t.Context(), repositories, Coordinates{"pier", "quay"})
	require.NoError(t, err)
	assert.Equal(t, []string{"1.0", "1.1"}, all)
	text, err := c.POM(t.Context(), repositories, Coordinates{"pier", "quay"}, "1.1")
	require.NoError(t, err)
	assert.Contains(t, string(text), "<version>1.1</version>")
	assert.Contains(t, said, "the repository gone could not be asked; what only it has is not known here")
	assert.NotContains(t, said, "the repository old could not be asked; what only it has is not known here", "snapshots are not asked for")
	_, err = c.Versions(t.Context(), repositories, Coordinates{"pier", "rope"})
	assert.ErrorContains(t, err, "asking the repository gone for pier:rope")
	assert.NotErrorIs(t, err, ErrMissing, "it may be there")
}

// Central comes last, one under its ID stands in its place, and of two with one ID the first counts.
func TestDeclareInOrder(t *testing.T) {
	one, two := Repository{ID: "one", URL: "1"}, Repository{ID: "two", URL: "2"}
	own := Repository{ID: Central.ID, URL: "own"}
	assert.Equal(t, []Repository{one, two, Central}, Declare(Declare([]Repository{Central}, one), two))
	assert.Equal(t, []Repository{one, own}, Declare([]Repository{one, Central}, own))
	assert.Equal(t, []Repository{one, Central}, Declare([]Repository{one, Central}, Repository{ID: "one", URL: "other"}))
	assert.Equal(t, []Repository{one, two}, Declare([]Repository{one}, two))
}
