package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The most that a start may allocate before main, in bytes: expressions that are compiled, and libraries that register what
// they can, take far more.
const (
	mostAtStart    = 480 << 10
	mostOfAPackage = 100 << 10
)

var initialised = regexp.MustCompile(`(?m)^init (\S+) @.* clock, (\d+) bytes`)

// TestStart reads the runtime's own trace of initialisation of the built program: nothing is compiled or registered at start.
func TestStart(t *testing.T) {
	if testing.Short() {
		t.Skip("it builds the program")
	}
	program := filepath.Join(t.TempDir(), "bellwether")
	build := exec.Command("go", "build", "-trimpath", "-o", program, "../../cmd/bellwether")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	start := exec.Command(program, "--version")
	start.Env = append(os.Environ(), "GODEBUG=inittrace=1")
	trace, err := start.CombinedOutput()
	require.NoError(t, err)
	all := 0
	for _, m := range initialised.FindAllSubmatch(trace, -1) {
		bytes, err := strconv.Atoi(string(m[2]))
		require.NoError(t, err)
		assert.LessOrEqual(t, bytes, mostOfAPackage, "package %s", m[1])
		all += bytes
	}
	assert.Greater(t, all, 0, "the runtime tells")
	assert.LessOrEqual(t, all, mostAtStart, "all packages")
}
