package main

import (
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"

	"bellwether/internal/standin"
)

// besideBundler measures against Bundler, on 300 invented gems that a server on loopback has, without
// a lock and with one.
func besideBundler(dir, bellwether string) error {
	gems, err := invented(300)
	if err != nil {
		return err
	}
	server := httptest.NewServer(gems.Index())
	defer server.Close()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	manifest := "source \"" + server.URL + "\"\n"
	for i := 0; i < len(gems); i += 30 {
		manifest += fmt.Sprintf("gem \"g%03d\", \"~> 2.0\"\n", i)
	}
	lock := filepath.Join(dir, "Gemfile.lock")
	fresh := func(dir string) {
		_ = os.WriteFile(filepath.Join(dir, "Gemfile"), []byte(manifest), 0o644)
		_ = os.RemoveAll(filepath.Join(dir, ".bellwether"))
	}
	noLock := func(dir string) {
		fresh(dir)
		_ = os.Remove(lock)
	}
	bundler := []string{"bundle", "lock"}
	for _, command := range [][]string{{bellwether, "route"}, bundler} { // both caches are warmed first
		noLock(dir)
		if _, err := once(dir, command); err != nil {
			return err
		}
	}
	text, err := os.ReadFile(lock)
	if err != nil {
		return err
	}
	fmt.Printf("%d gems locked\n", strings.Count(string(text), "\n    g"))
	keepLock := func(dir string) {
		fresh(dir)
		_ = os.WriteFile(lock, text, 0o644)
	}
	return compare(dir, "bundle", []comparison{
		{"resolve everything without a lock", noLock, []string{bellwether, "route"}, bundler},
		{"move one requirement / find nothing to do", keepLock, []string{bellwether, "route", "--to", "g000@~> 3.0"}, bundler},
		{"survey / list what is outdated", keepLock, []string{bellwether, "survey"}, []string{"bundle", "outdated"}},
	})
}

// invented are gems with three majors of six releases each, of which each needs up to four others in the
// same major.
func invented(count int) (standin.Gems, error) {
	gems := standin.Gems{}
	for i := range count {
		name := fmt.Sprintf("g%03d", i)
		for major := 1; major <= 3; major++ {
			var deps []standin.GemDep
			for k := 1; k <= 4 && i+k*k < count; k++ {
				deps = append(deps, standin.GemDep{
					Name: fmt.Sprintf("g%03d", i+k*k), Range: fmt.Sprintf(">= %d.0, < %d", major, major+1),
				})
			}
			for minor := range 6 {
				gems[name] = append(gems[name], &standin.GemRelease{Version: fmt.Sprintf("%d.%d.0", major, minor), Deps: deps})
			}
		}
	}
	return gems, gems.Pack()
}
