package main

import (
	"io/fs"
	"os"
	"path/filepath"
)

// besideNPM measures against npm, on a large project without a lock and with
// one.
func besideNPM(dir, bellwether string) error {
	if err := layOut(dir); err != nil {
		return err
	}
	npm := []string{"npm", "install", "--package-lock-only", "--prefer-offline", "--no-audit", "--no-fund"}
	// Both caches are warmed first; Bellwether's lock is the one to keep.
	for _, command := range [][]string{npm, {bellwether, "route", "--reach", "patch"}} {
		noLock(dir)
		if _, err := once(dir, command); err != nil {
			return err
		}
	}
	if _, err := once(dir, []string{bellwether, "advance"}); err != nil {
		return err
	}
	lock, err := os.ReadFile(filepath.Join(dir, "package-lock.json"))
	if err != nil {
		return err
	}
	keepLock := func(dir string) {
		_ = os.WriteFile(filepath.Join(dir, "package-lock.json"), lock, 0o644)
		_ = os.RemoveAll(filepath.Join(dir, ".bellwether"))
	}
	return compare(dir, "npm", []comparison{
		{"resolve everything without a lock", noLock, []string{bellwether, "route", "--reach", "patch"}, npm},
		{"move one requirement / find nothing to do", keepLock, []string{bellwether, "route", "--to", "lodash@~4.17.20"}, npm},
		{"survey / list what is outdated", keepLock, []string{bellwether, "survey"}, []string{"npm", "outdated"}},
		{"print the version", keepLock, []string{bellwether, "--version"}, []string{"npm", "--version"}},
	})
}

func layOut(dir string) error {
	project, err := fs.Sub(projects, "npm-large")
	if err != nil {
		return err
	}
	if err := os.CopyFS(dir, project); err != nil {
		return err
	}
	settings := "stages:\n  - {name: fetch, skip: only resolving is measured}\n"
	return os.WriteFile(filepath.Join(dir, "bellwether.yaml"), []byte(settings), 0o644)
}

func noLock(dir string) {
	_ = os.Remove(filepath.Join(dir, "package-lock.json"))
	_ = os.RemoveAll(filepath.Join(dir, ".bellwether"))
}
