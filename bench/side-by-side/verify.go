package main

import (
	"os"
	"os/exec"
	"path/filepath"
)

// byHand does what verify does on a Go project, as one would do it by hand: a fresh
// checkout, the four stages, and the checkout away again.
const byHand = `set -e
scratch=$(mktemp -d)
git worktree add -q --detach "$scratch/tree" HEAD
(cd "$scratch/tree" && go mod download && go build ./internal/core/... && go vet ./internal/core/... &&
  go test -count=1 -json ./internal/core/... > "$scratch/log")
git worktree remove --force "$scratch/tree"
rm -rf "$scratch"
`

// besideHand measures what verifying costs over running the same commands by hand, on
// this program's own sources.
func besideHand(dir, bellwether string) error {
	if out, err := exec.Command("git", "clone", "-q", ".", dir).CombinedOutput(); err != nil {
		return failed("cloning", err, out)
	}
	settings := "stages:\n" +
		"- {name: build, shell: go build ./internal/core/...}\n" +
		"- {name: vet, shell: go vet ./internal/core/...}\n" +
		"- {name: test, shell: go test -count=1 -json ./internal/core/...}\n" +
		"leave-out: [bench, demo, examples]\n"
	if err := os.WriteFile(filepath.Join(dir, "bellwether.yaml"), []byte(settings), 0o644); err != nil {
		return err
	}
	commands := []comparison{{
		title: "verify / checkout, build, vet and test by hand",
		ours:  []string{bellwether, "verify"}, theirs: []string{"sh", "-c", byHand}, prepare: func(string) {},
	}}
	for _, command := range [][]string{commands[0].ours, commands[0].theirs} { // the build cache is warmed first
		if _, err := once(dir, command); err != nil {
			return err
		}
	}
	return compare(dir, "by hand", commands)
}
