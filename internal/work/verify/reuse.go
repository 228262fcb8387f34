package verify

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/finding"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/scratch"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/tree"
)

// partKey names all that the verification of a component depends on: the files that it reads,
// its stages, and the versions of the tools.
func (j Job) partKey(ctx context.Context, part *tree.Part, with *running, files map[string]scratch.File) string {
	h := sha256.New()
	reads := j.reading(part)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if reads(name) {
			fmt.Fprintf(h, "%q %s\n", name, files[name].Sum)
		}
	}
	fmt.Fprintf(h, "%+v\n%+v\n%q\n", Stages(j.Desk, j.Tree, part), j.Desk.Settings.Watch, j.Desk.Options.Env)
	for _, r := range with.runtimes {
		fmt.Fprintf(h, "%q %q %q\n", r.Name, r.Version, r.Where)
	}
	versions := tools(ctx, j.Desk, j.Tree)
	for _, tool := range slices.Sorted(maps.Keys(versions)) {
		fmt.Fprintf(h, "%q %q\n", tool, versions[tool])
	}
	return hex.EncodeToString(h.Sum(nil))
}

// reading tells which files a component reads: those in its folder and in those of components
// around it, those that lie in no component's folder, those of the folders that it builds with,
// and what the settings name.
func (j Job) reading(part *tree.Part) func(name string) bool {
	own := []string{part.Dir}
	if eco, ok := part.Eco.(ecosystem.Neighbour); ok {
		own = append(own, eco.BuildsWith(part.Component)...)
	}
	patterns := slices.Concat(j.Desk.Settings.Reads[part.Dir], j.Desk.Settings.Reads[part.ID])
	return func(name string) bool {
		if strings.HasPrefix(name, kept.Dir+"/") {
			return false // what legs note down
		}
		if slices.ContainsFunc(own, func(dir string) bool { return inside(name, dir) }) {
			return true
		}
		if slices.ContainsFunc(patterns, func(pattern string) bool { return doublestar.MatchUnvalidated(pattern, name) }) {
			return true
		}
		return !slices.ContainsFunc(j.Tree.Parts, func(o *tree.Part) bool {
			return inside(name, o.Dir) && !inside(part.Dir, o.Dir)
		})
	}
}

// inside tells whether a name is a folder's, or that of something in it.
func inside(name, dir string) bool {
	return dir == "." || dir == name || strings.HasPrefix(name, dir+"/")
}

// known gives what came of the same component before, with the same files, stages and tools;
// nil if it is to be verified.
func (j Job) known(key string) *kept.Verified {
	if j.Whole {
		return nil
	}
	return j.Kept.Verified()[key]
}

// remember keeps what came of a component, if all of it is well: what fails is run again.
func (j Job) remember(key string, stages []finding.Stage, effect []finding.Effect) error {
	if j.Until != "" ||
		slices.ContainsFunc(stages, func(s finding.Stage) bool { return s.Status != finding.Passed && s.Status != finding.Skipped }) {
		return nil
	}
	return j.Kept.KeepVerified(key, &kept.Verified{As: j.Label, At: j.Desk.Clock, Stages: stages, Effect: effect})
}
