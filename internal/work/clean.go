package work

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
)

// clean removes from the scratch what is generated: what git ignores is not there
// from the start, and what the settings list goes now. A file under version
// control stays, whatever is listed.
func (p *Project) clean(ctx context.Context, s *scratch, stage model.Stage) (finding.Stage, error) {
	result := finding.Stage{Name: stage.Name, Command: []string{}, Status: finding.Passed, Why: "a fresh checkout"}
	if s.repo == nil {
		result.Why = "a fresh copy"
	}
	tracked, err := s.tracked(ctx)
	if err != nil {
		return result, err
	}
	base := filepath.Join(s.dir, filepath.FromSlash(stage.Dir))
	for _, pattern := range stage.Remove {
		found, err := doublestar.Glob(os.DirFS(base), pattern)
		if err != nil {
			return result, fmt.Errorf("looking for %s: %w", pattern, err)
		}
		slices.Sort(found)
		for _, name := range found {
			n, err := removeGenerated(s.dir, path.Join(stage.Dir, name), tracked)
			if err != nil {
				return result, fmt.Errorf("removing %s: %w", name, err)
			}
			if n > 0 {
				result.Removed = append(result.Removed, path.Join(stage.Dir, name))
			}
		}
	}
	if len(result.Removed) > 0 {
		result.Why += "; removed " + few(result.Removed)
	}
	return result, nil
}

// removeGenerated removes a file, or all below a folder, but what is tracked. It
// gives how many files went.
func removeGenerated(dir, name string, tracked map[string]bool) (n int, err error) {
	var folders []string
	err = filepath.WalkDir(filepath.Join(dir, filepath.FromSlash(name)), func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			folders = append(folders, at)
			return nil
		}
		below, err := filepath.Rel(dir, at)
		if err != nil || tracked[filepath.ToSlash(below)] {
			return err
		}
		n++
		return os.Remove(at)
	})
	for _, folder := range slices.Backward(folders) {
		_ = os.Remove(folder) // where something is left in it, it stays
	}
	if os.IsNotExist(err) {
		return n, nil // it went with a folder around it
	}
	return n, err
}

// few names the first few of a list, and counts the others.
func few(list []string) string {
	const most = 3
	text := strings.Join(list[:min(len(list), most)], ", ")
	if n := len(list) - most; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}
