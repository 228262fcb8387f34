package merge

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUnified(t *testing.T) {
	assert.Empty(t, Unified("a\nb\n", "a\nb\n"))
	assert.Equal(t, "@@ -1 +1 @@\n-a\n+b\n\\ No newline at end of file\n", Unified("a\n", "b"))
	assert.Equal(t, "@@ -0,0 +1,2 @@\n+a\n+b\n", Unified("", "a\nb\n"))
}

// TestPatchTakesIt lets patch make one text of another by what Unified says, for random changes.
func TestPatchTakesIt(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil || testing.Short() {
		t.Skip("it needs git")
	}
	for seed := range uint64(25) {
		rng := rand.New(rand.NewPCG(seed, 11))
		var base []string
		for range rng.IntN(40) {
			base = append(base, string(rune('a'+rng.IntN(4)))+"\n")
		}
		before, after := text(base), text(changed(rng, base, "x"))
		if rng.IntN(4) == 0 && len(after) > 0 {
			after = after[:len(after)-1]
		}
		diff := Unified(before, after)
		if diff == "" {
			continue
		}
		dir := t.TempDir()
		file := filepath.Join(dir, "f")
		require.NoError(t, os.WriteFile(file, []byte(before), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "p"), []byte("--- a/f\n+++ b/f\n"+diff), 0o644))
		cmd := exec.Command("git", "apply", "--unidiff-zero", "p")
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GIT_CEILING_DIRECTORIES="+filepath.Dir(dir))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "seed %d: %s\n%s", seed, out, diff)
		got, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, after, string(got), "seed %d", seed)
	}
}
