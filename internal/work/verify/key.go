package verify

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"bellwether/internal/core/finding"
	"bellwether/internal/host/scratch"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// contentKey names what is verified: every file of the scratch, and what the
// stages are.
func contentKey(d *desk.Desk, t *tree.Tree, files map[string]scratch.File) string {
	h := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintf(h, "%q %s\n", name, files[name].Sum)
	}
	for _, part := range t.Parts {
		fmt.Fprintf(h, "%+v\n", Stages(d, t, part))
	}
	fmt.Fprintf(h, "%+v\n", d.Settings.Watch)
	return hex.EncodeToString(h.Sum(nil))
}

// drop removes a scratch; where that does not work, it is told.
func drop(d *desk.Desk, s *scratch.Scratch) {
	if err := s.Drop(); err != nil {
		d.Aside(err.Error())
	}
}

// Same tells whether what was verified then is what is here now.
func (j Job) Same(ctx context.Context, v *finding.Verification) (bool, error) {
	s, err := j.Kept.Scratches(j.Repo).New(ctx, nil)
	if err != nil {
		return false, err
	}
	defer drop(j.Desk, s)
	files, err := s.Files()
	if err != nil || contentKey(j.Desk, j.Tree, files) != v.Key {
		return false, err
	}
	for tool, version := range tools(ctx, j.Desk, j.Tree) {
		if v.Tools[tool] != version {
			return false, nil
		}
	}
	runs, err := Runtimes(ctx, j.Desk, j.Tree)
	if err != nil {
		return false, err
	}
	return reflect.DeepEqual(runs, v.Runtimes), nil
}
