package printed

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
)

var update = flag.Bool("update", false, "write what is read of the samples into them; look at each change")

// expected begins a line of a sample that tells a finding of it.
const expected = "=> "

// sampleSource is where the samples come from: the component of a folder called "in".
var sampleSource = Source{Root: "saltmarsh.example/tide", Dir: "in", Scratch: "/scratch/tree"}

// TestSamples reads what tools print, sample by sample: a title, the output, and
// what is to be found in it.
func TestSamples(t *testing.T) {
	files, err := filepath.Glob("testdata/samples/*.txt")
	require.NoError(t, err)
	n := 0
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		var written strings.Builder
		for _, sample := range strings.Split(string(text), "=== ")[1:] {
			n++
			title, rest, _ := strings.Cut(sample, "\n")
			var output, want strings.Builder
			for line := range strings.Lines(rest) {
				if strings.HasPrefix(line, expected) {
					want.WriteString(line)
				} else {
					output.WriteString(line)
				}
			}
			r := NewReader(sampleSource)
			require.NoError(t, r.Output(strings.NewReader(output.String())))
			var got strings.Builder
			for _, f := range r.Report().Findings {
				got.WriteString(expected + told(f) + "\n")
			}
			if *update {
				fmt.Fprintf(&written, "=== %s\n%s%s", title, output.String(), got.String())
				continue
			}
			assert.Equal(t, want.String(), got.String(), "%s: %s", name, title)
		}
		if *update {
			require.NoError(t, os.WriteFile(name, []byte(written.String()), 0o644))
		}
	}
	assert.GreaterOrEqual(t, n, 150)
}

// told is a finding on a line.
func told(f finding.Finding) string {
	text := fmt.Sprintf("%s of %s: %s", f.Kind, f.Tool, f.Text)
	if f.Code != "" {
		text += " [" + f.Code + "]"
	}
	if f.Place != "" {
		text += " at " + f.Place
	}
	if f.Package != "" {
		text += " in " + strings.TrimSpace(f.Package+" "+f.Version)
	}
	if f.Count > 1 {
		text += fmt.Sprintf(" ×%d", f.Count)
	}
	return text
}
