package settings

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func read(text string) (*Settings, error) {
	return Read(fstest.MapFS{File: {Data: []byte(text)}})
}

func TestRead(t *testing.T) {
	s, err := read(`
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
	assert.Equal(t, 72*time.Hour, s.MinimumAge)
	assert.Equal(t, 5*time.Minute, s.Stages[0].timeout)

	s, err = Read(fstest.MapFS{})
	require.NoError(t, err)
	assert.Equal(t, &Settings{}, s, "a project without settings has the defaults")
}

func TestSettingsFaults(t *testing.T) {
	for text, want := range map[string]string{
		"reach: everywhere": `reach "everywhere" is not stated, patch, minor or major`,
		"min-age: a while":  `"a while" is not a span of time`,
		"holds: [left]":     "bellwether.yaml:1:1: the key \"holds\" is not known\n  next: did you mean \"hold\"?",
		"pins: [{files: x, subject: left, match: y}]":    `pins: subject: "left" is not runtime/…`,
		"together: [{names: [left]}]":                    "together: a family has more than one name",
		"together: [{names: [left, right], share: all}]": `not "all"`,
		"hold: left: right":                              "bellwether.yaml:1:",
		"stages:\n  - name: test\n    comand: [x]":       `did you mean "command"?`,
	} {
		_, err := read(text)
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
