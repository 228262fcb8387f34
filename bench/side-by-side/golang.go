package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// besideGo measures against the go command: a cluster's tool with hundreds of
// modules in its graph, and a command-line program, both of 2022 and 2023.
func besideGo(dir, bellwether string) error {
	if err := besideGoOn(filepath.Join(dir, "large"), "large", comparison{
		title: "survey / list what is newer, of all",
		ours:  []string{bellwether, "survey", "--indirect"}, theirs: []string{"go", "list", "-m", "-u", "all"},
	}); err != nil {
		return err
	}
	return besideGoOn(filepath.Join(dir, "program"), "program", comparison{
		title: "everything to the newest of its major",
		ours: []string{
			bellwether, "route", "--reach", "minor", "--to", "go@1.26",
		}, theirs: []string{"sh", "-c", "go get -u ./... && go mod tidy"},
	})
}

func besideGoOn(dir, project string, c comparison) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	c.prepare = func(dir string) {
		for _, name := range []string{"go.mod", "go.sum", "main.go"} {
			if data, err := projects.ReadFile("golang/" + project + "/" + name + ".src"); err == nil {
				_ = os.WriteFile(filepath.Join(dir, name), data, 0o644)
			}
		}
		_ = os.RemoveAll(filepath.Join(dir, ".bellwether"))
	}
	for _, command := range [][]string{c.ours, c.theirs} { // both caches are warmed first
		c.prepare(dir)
		if _, err := once(dir, command); err != nil {
			return err
		}
	}
	c.prepare(dir)
	list := exec.Command("go", "list", "-m", "all")
	list.Dir = dir
	out, err := list.Output()
	if err != nil {
		return err
	}
	fmt.Printf("%s: %d modules in the graph\n", project, strings.Count(string(out), "\n")-1)
	return compare(dir, "go", []comparison{c})
}
