package world_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/work/world"
)

func TestReadDestination(t *testing.T) {
	d, err := world.ReadDestination("@harbour/signal@^2")
	require.NoError(t, err)
	assert.Equal(t, world.Destination{Name: "@harbour/signal", Range: "^2", Text: "@harbour/signal@^2"}, d)
	for _, bad := range []string{"left", "@harbour/signal", ""} {
		_, err := world.ReadDestination(bad)
		assert.Error(t, err, bad)
	}
}
