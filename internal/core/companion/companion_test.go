package companion

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/version"
)

// history gives one with a release of each version, every so many days.
func history(name, at string, begun time.Time, every int, versions ...string) History {
	h := History{Name: name}
	h.At, _ = version.NPM{}.Parse(at)
	for i, text := range versions {
		v, _ := version.NPM{}.Parse(text)
		h.Releases = append(h.Releases, Release{v, begun.AddDate(0, 0, i*every)})
	}
	return h
}

func TestGroups(t *testing.T) {
	day := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	core := history("@quay/core", "1.0.0", day, 100, "1.0.0", "2.0.0", "3.0.0")
	for _, c := range []struct {
		name  string
		other History
		want  bool
	}{
		{"its command line, in the same scope", history("@quay/cli", "1.2.0", day.AddDate(0, 0, 3), 100, "1.0.0", "2.0.0", "3.0.0"), true},
		{"its lint rules, by their name", history("eslint-config-quay", "1.0.0", day, 100, "1.0.0", "2.0.0", "3.0.0"), true},
		{"another scope and name", history("@pier/cli", "1.0.0", day, 100, "1.0.0", "2.0.0", "3.0.0"), false},
		{"other numbers", history("@quay/log", "1.0.0", day, 100, "1.0.0", "2.0.0"), false},
		{"other days", history("@quay/log", "1.0.0", day, 300, "1.0.0", "2.0.0", "3.0.0"), false},
		{"apart already", history("@quay/cli", "2.0.0", day, 100, "1.0.0", "2.0.0", "3.0.0"), false},
	} {
		groups := Groups([]History{core, c.other})
		if c.want {
			assert.Equal(t, [][]string{{"@quay/core", c.other.Name}}, groups, c.name)
		} else {
			assert.Empty(t, groups, c.name)
		}
	}
	assert.Empty(
		t, Groups([]History{history("@quay/a", "1.0.0", day, 1, "1.0.0"), history("@quay/b", "1.0.0", day, 1, "1.0.0")}),
		"one line is chance",
	)
}
