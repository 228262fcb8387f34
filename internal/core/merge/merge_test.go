package merge

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// changed makes a text with some lines changed, added and taken away.
func changed(rng *rand.Rand, lines []string, mark string) []string {
	lines = slices.Clone(lines)
	for range rng.IntN(4) {
		i := rng.IntN(len(lines) + 1)
		switch rng.IntN(3) {
		case 0:
			lines = slices.Insert(lines, i, fmt.Sprintf("%s %d\n", mark, rng.IntN(3)))
		case 1:
			if i < len(lines) {
				lines = slices.Delete(lines, i, min(len(lines), i+1+rng.IntN(2)))
			}
		default:
			if i < len(lines) {
				lines[i] = fmt.Sprintf("%s %d\n", mark, rng.IntN(3))
			}
		}
	}
	return lines
}

// TestThree follows definitions: pieces make up the three texts, no line that only we changed is lost, and git merges
// the same.
func TestThree(t *testing.T) {
	dir := t.TempDir()
	git, err := exec.LookPath("git")
	cases := 1000
	if testing.Short() || err != nil {
		cases = 100
	}
	agree, conflicts := 0, 0
	for seed := range uint64(cases) {
		rng := rand.New(rand.NewPCG(seed, 19))
		var base []string
		for i := range 3 + rng.IntN(12) {
			base = append(base, fmt.Sprintf("line %d\n", i))
		}
		ours := changed(rng, base, "ours")
		theirs := changed(rng, base, []string{"theirs", "ours"}[rng.IntN(2)])
		pieces := Three(base, ours, theirs)
		var b, o, th []string
		for _, p := range pieces {
			b, o, th = append(b, p.Base...), append(o, p.Ours...), append(th, p.Theirs...)
			switch p.Side {
			case Neither:
				assert.Equal(t, p.Base, p.Ours)
				assert.Equal(t, p.Base, p.Theirs)
			case Ours:
				assert.Equal(t, p.Base, p.Theirs)
			case Theirs:
				assert.Equal(t, p.Base, p.Ours)
			case Alike:
				assert.Equal(t, p.Ours, p.Theirs)
			}
		}
		require.Equal(t, [3]string{text(base), text(ours), text(theirs)}, [3]string{text(b), text(o), text(th)}, "seed %d", seed)
		if err != nil {
			continue
		}
		names := []string{"ours", "base", "theirs"}
		for i, lines := range [][]string{ours, base, theirs} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, names[i]), []byte(text(lines)), 0o644))
		}
		cmd := exec.Command(git, "merge-file", "-p", "-q", "ours", "base", "theirs")
		cmd.Dir = dir
		out, code := cmd.Output()
		if !Clean(pieces) {
			conflicts++
			assert.Error(t, code, "seed %d: git finds no conflict\n%s", seed, out)
			continue
		}
		if assert.NoError(t, code, "seed %d: git finds a conflict\n%s", seed, out) &&
			assert.Equal(t, string(out), Text(pieces, nil), "seed %d", seed) {
			agree++
		}
	}
	t.Logf("%d merged alike, %d conflicts", agree, conflicts)
}

func text(lines []string) string { return strings.Join(lines, "") }

func TestMarks(t *testing.T) {
	pieces := Three([]string{"a\n", "b\n", "c"}, []string{"a\n", "x\n", "c"}, []string{"a\n", "y\n", "c"})
	assert.False(t, Clean(pieces))
	assert.Equal(t, "a\n<<<<<<< yours\nx\n=======\ny\n>>>>>>> the template's\nc", Text(pieces, &[2]string{"yours", "the template's"}))
	assert.Equal(t, "a\nx\nc", Text(pieces, nil))
}
