package work

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func settings(text string) (*Settings, error) {
	return ReadSettings(fstest.MapFS{SettingsFile: {Data: []byte(text)}})
}

func TestReadSettings(t *testing.T) {
	s, err := settings(`
reach: minor
hold: [left]
min-age: 3 days
stages:
  - name: test
    in: board
    command: [npm, run, check]
    env: {TZ: UTC}
    timeout: 5m
`)
	require.NoError(t, err)
	assert.Equal(t, "minor", s.Reach)
	assert.Equal(t, 72*time.Hour, s.minAge)
	assert.Equal(t, 5*time.Minute, s.Stages[0].timeout)

	s, err = ReadSettings(fstest.MapFS{})
	require.NoError(t, err)
	assert.Equal(t, &Settings{}, s, "a project without settings has the defaults")
}

func TestSettingsFaults(t *testing.T) {
	for text, want := range map[string]string{
		"reach: everywhere": `reach "everywhere" is not patch, minor or major`,
		"min-age: a while":  `"a while" is not a span of time`,
		"holds: [left]":     "bellwether.yaml:1:1: the key \"holds\" is not known\n  next: did you mean \"hold\"?",
		"pins: [{files: x, subject: left, match: y}]":    `pins: subject: "left" is not runtime/…`,
		"together: [{names: [left]}]":                    "together: a family has more than one name",
		"together: [{names: [left, right], share: all}]": `not "all"`,
		"hold: left: right":                              "bellwether.yaml:1:",
		"stages:\n  - name: test\n    comand: [x]":       `did you mean "command"?`,
	} {
		_, err := settings(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestParseAge(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 0, "90m": 90 * time.Minute, "1 day": 24 * time.Hour, "2 weeks": 14 * 24 * time.Hour} {
		got, err := ParseAge(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"-1h", "3", "3 years", "days", "-2 days"} {
		_, err := ParseAge(text)
		assert.Error(t, err, text)
	}
}

func TestReadDestination(t *testing.T) {
	d, err := readDestination("@harbour/signal@^2")
	require.NoError(t, err)
	assert.Equal(t, destination{name: "@harbour/signal", rng: "^2", text: "@harbour/signal@^2"}, d)
	for _, bad := range []string{"left", "@harbour/signal", ""} {
		_, err := readDestination(bad)
		assert.Error(t, err, bad)
	}
}
