package kept

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
	"bellwether/internal/host/within"
)

// store is what is kept in a new project.
func store(t *testing.T) (s *Store, root string) {
	root = t.TempDir()
	files, err := within.Open(root, func(name string, why error) { t.Errorf("%s: %v", name, why) })
	require.NoError(t, err)
	t.Cleanup(func() { _ = files.Close() })
	return In(root, files, func(text string) { t.Log(text) }), root
}

// Only the latest results of components are kept, and only those that this machine wrote.
func TestVerified(t *testing.T) {
	s, root := store(t)
	require.NoError(t, s.prepare())
	start := time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)
	for i := range maxVerified + 5 {
		require.NoError(t, s.KeepVerified(fmt.Sprint(i), &Verified{
			As: "3", At: start.Add(time.Duration(i) * time.Minute), Stages: []finding.Stage{{Name: "test", Status: finding.Passed}},
		}))
	}
	all := s.Verified()
	assert.Len(t, all, maxVerified)
	assert.NotContains(t, all, "4")
	require.Contains(t, all, "5")
	assert.Equal(t, "leg 3", all["5"].Again()[0].Kept)
	assert.Empty(t, all["5"].Stages[0].Kept, "what is kept stays as it was")

	file := filepath.Join(root, Dir, verifiedName)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, foreign := range []string{`{"5": {"as": "3"}}`, string(data[:len(data)/2]), string(data) + " "} {
		require.NoError(t, os.WriteFile(file, []byte(foreign), 0o644))
		assert.Empty(t, s.Verified(), "%.40s", foreign)
	}
}
