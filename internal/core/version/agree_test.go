package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCompareStated(t *testing.T) {
	for _, same := range [][2]string{{"20", "20.11.1"}, {"v20.11", "20.11.3-slim"}, {"go1.24.1", "1.24"}, {"lts", "20"}, {"22.x", "22.4"}} {
		assert.Zero(t, CompareStated(same[0], same[1]), same)
	}
	assert.Negative(t, CompareStated("18", "20.1"))
	assert.Positive(t, CompareStated("1.24.2", "1.24.1"))
}
