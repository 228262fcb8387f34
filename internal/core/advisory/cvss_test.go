package advisory

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Vectors and scores are examples of the CVSS 3.1 documents.
func TestBaseScore(t *testing.T) {
	for vector, want := range map[string]float64{
		"AV:N/AC:L/PR:N/UI:R/S:C/C:L/I:L/A:N": 6.1,
		"AV:N/AC:L/PR:L/UI:N/S:C/C:L/I:L/A:N": 6.4,
		"AV:N/AC:H/PR:N/UI:R/S:U/C:L/I:N/A:N": 3.1,
		"AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H": 9.8,
		"AV:N/AC:L/PR:L/UI:N/S:C/C:H/I:H/A:H": 9.9,
		"AV:L/AC:L/PR:H/UI:N/S:U/C:L/I:L/A:L": 4.2,
		"AV:P/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:N": 0,
		"AV:N/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:H": 7.5,
	} {
		metrics := map[string]string{}
		for _, part := range strings.Split(vector, "/") {
			name, value, _ := strings.Cut(part, ":")
			metrics[name] = value
		}
		score, ok := baseScore(metrics)
		assert.True(t, ok)
		assert.InDelta(t, want, score, 0.001, vector)
	}
}

func TestRating(t *testing.T) {
	assert.Equal(t, "critical", Rating("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"))
	assert.Equal(t, "medium", Rating("CVSS:3.0/AV:N/AC:L/PR:N/UI:R/S:C/C:L/I:L/A:N"))
	assert.Equal(t, "none", Rating("CVSS:3.1/AV:P/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:N"))
	assert.Equal(t, "high", Rating("HIGH"))
	assert.Equal(t, "CVSS:3.1/AV:N", Rating("CVSS:3.1/AV:N"), "what is not whole is not rated")
	assert.Equal(t, "", Rating(""))
}
