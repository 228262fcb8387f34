package pin

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/version"
)

// TestGemfileRuby raises what a Gemfile asks for beside other places: a range that would leave out what those state goes along, one
// that admits it stays, and what is no single requirement is told.
func TestGemfileRuby(t *testing.T) {
	to, err := version.Plain{}.Newest("3.2")
	require.NoError(t, err)
	nothing, err := version.Plain{}.Parse("0")
	require.NoError(t, err)
	for line, want := range map[string]string{
		`ruby "3.0.4"`:                     `ruby "3.2"`,
		`ruby "~> 3.0.4"`:                  `ruby "~> 3.2.0"`,
		`ruby '~> 3.0'`:                    `ruby '~> 3.0'`,
		`ruby ">= 2.7"`:                    `ruby ">= 2.7"`,
		`ruby("3.0.4", engine: "jruby")`:   `ruby("3.2", engine: "jruby")`,
		`  ruby "3.0.4" # as on the piers`: `  ruby "3.2" # as on the piers`,
		`ruby ">= 2.7", "< 3.1"`:           `ruby ">= 2.7", "< 3.1"`,
		`ruby file: ".ruby-version"`:       `ruby file: ".ruby-version"`,
		`gem "ruby-prof", "3.0.4"`:         `gem "ruby-prof", "3.0.4"`,
		`ruby File.read(".ruby-version")`:  `ruby File.read(".ruby-version")`,
	} {
		files := fstest.MapFS{"Gemfile": {Data: []byte(line + "\n")}}
		pins, _, err := Read(indexed(t, files), nowhere, nil)
		require.NoError(t, err)
		got := line + "\n"
		if len(pins) > 0 {
			raised, err := Raise(files, pins, Aim{To: to, Low: nothing, Enough: func(version.Version) bool { return true }})
			require.NoError(t, err)
			for _, e := range raised.Edits {
				got = string(e.New)
			}
			if line == `ruby ">= 2.7", "< 3.1"` {
				assert.Equal(t, []string{
					"Gemfile:1 states runtime/ruby in a way that cannot be changed from here: several requirements stand there",
				}, raised.Notes)
			}
		}
		assert.Equal(t, want+"\n", got)
	}
}
