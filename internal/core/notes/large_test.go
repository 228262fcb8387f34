package notes

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestLarge sees that a changelog of 20 MB is read, and one whose versions stand in one line.
func TestLarge(t *testing.T) {
	var b strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&b, "## 1.%d.0\n\n- %s\n\n", i, strings.Repeat("`word` and more ", 64))
	}
	assert.Len(t, Read("CHANGELOG.md", b.String()), 20_000)
	b.Reset()
	for i := range 100_000 {
		fmt.Fprintf(&b, "1.%d.0, ", i)
	}
	assert.Empty(t, Read("CHANGELOG.md", b.String()))
}
