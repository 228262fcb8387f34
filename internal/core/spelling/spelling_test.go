package spelling

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearest(t *testing.T) {
	known := []string{"quayside", "quayside-view", "lunardate"}
	assert.Equal(t, "quayside", Nearest("quayside-", known))
	assert.Equal(t, "lunardate", Nearest("lunerdate", known))
	assert.Empty(t, Nearest("completely-other", known))
	assert.Equal(t, "far.example/crew/lunardate", Nearest("lunardate", []string{"lunar", "far.example/crew/lunardate"}))
}
