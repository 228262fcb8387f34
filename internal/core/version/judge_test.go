package version

import (
	"bytes"
	"encoding/json"
	"flag"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var judged = flag.Int("judged", 0, "how many generated pairs of ranges and versions npm's own parser judges")

// judge asks npm's parser, as it is installed, about ranges and versions; it prints one
// verdict a line, with and without pre-releases.
const judge = `
const semver = require(process.argv[1])
for (const [range, version] of JSON.parse(require('fs').readFileSync(0))) {
  for (const includePrerelease of [false, true]) {
    let said = 'invalid'
    const o = { includePrerelease, loose: true }
    if (semver.validRange(range, o) !== null) said = String(semver.parse(version, o) !== null && semver.satisfies(version, range, o))
    console.log(said)
  }
}`

// TestAsNPMReadsRanges compares generated ranges of odd forms with npm's own reading. Forms
// that were once read otherwise are rows of the vectors.
func TestAsNPMReadsRanges(t *testing.T) {
	if *judged == 0 {
		t.Skip("asks npm's parser only with -judged")
	}
	root, err := exec.Command("npm", "root", "-g").Output()
	require.NoError(t, err)
	g := &oddRanges{rand.New(rand.NewPCG(14, 10))}
	pairs := make([][2]string, *judged)
	for i := range pairs {
		pairs[i] = [2]string{g.rng(), g.version()}
	}
	input, err := json.Marshal(pairs)
	require.NoError(t, err)
	cmd := exec.Command("node", "-e", judge, filepath.Join(strings.TrimSpace(string(root)), "npm/node_modules/semver"))
	cmd.Stdin = bytes.NewReader(input)
	out, err := cmd.Output()
	require.NoError(t, err)
	verdicts := strings.Fields(string(out))
	require.Len(t, verdicts, 2*len(pairs))
	wrong := 0
	for i, pair := range pairs {
		for k, dialect := range []NPM{{}, {Previews: true}} {
			got := contains(dialect, pair[0], pair[1])
			if got != verdicts[2*i+k] {
				wrong++
				if wrong < 40 {
					assert.Equal(t, verdicts[2*i+k], got, "%q contains %q, previews %t", pair[0], pair[1], dialect.Previews)
				}
			}
		}
	}
	assert.Zero(t, wrong, "of %d", 2*len(pairs))
}

// oddRanges writes ranges in common and in odd forms.
type oddRanges struct{ *rand.Rand }

func (g *oddRanges) one(of ...string) string { return of[g.IntN(len(of))] }

func (g *oddRanges) number() string {
	return g.one("0", "0", "1", "1", "2", "3", "01", "99", "9007199254740991", "9007199254740992")
}

func (g *oddRanges) component() string {
	if g.IntN(5) == 0 {
		return g.one("x", "X", "*")
	}
	return g.number()
}

func (g *oddRanges) suffix() string {
	text := ""
	if g.IntN(4) == 0 {
		text += "-" + g.one("pre", "0", "rc.1", "alpha-1", "01", "a..b")
	}
	if g.IntN(8) == 0 {
		text += "+" + g.one("b", "build.1", "")
	}
	return text
}

func (g *oddRanges) partial() string {
	parts := make([]string, 1+g.IntN(4)%3)
	for i := range parts {
		parts[i] = g.component()
	}
	text := g.one("", "", "", "", "v", "v ", "=", "V") + strings.Join(parts, ".")
	if g.IntN(3) == 0 {
		text += g.suffix()
	}
	return text
}

func (g *oddRanges) comparator() string {
	op := g.one("", "", "^", "~", "~>", ">", "<", ">=", "<=", "=", "^", "~", "> =", "^ ", ">= ", "==", "~ >", "!", "<>")
	if g.IntN(30) == 0 {
		return strings.TrimSpace(op)
	}
	return op + g.partial()
}

func (g *oddRanges) rng() string {
	switch g.IntN(12) {
	case 0:
		return g.partial() + g.one(" - ", "  - ", " -", "-") + g.partial()
	case 1:
		return g.comparator() + g.one(" ", "  ", ",", " , ") + g.comparator()
	case 2:
		return g.comparator() + g.one(" || ", "||", "|", " | ") + g.comparator()
	case 3:
		return g.one("^", "~", "", ">=") + "0.0." + g.number()
	}
	return g.comparator()
}

func (g *oddRanges) version() string {
	text := g.number() + "." + g.number() + "." + g.number()
	if g.IntN(3) == 0 {
		return text + g.suffix()
	}
	return text
}
