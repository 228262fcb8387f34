// Package demo holds the example project, Saltmarsh Ferries, and the invented
// packages that it is made of.
package demo

import (
	"embed"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

//go:embed all:npm golang gem maven all:project all:booking all:cargo all:kiosk wakelog repair repair-kiosk
var files embed.FS

// Packages are the folders of the simulated npm registry.
func Packages() fs.FS { return sub("npm") }

// Modules are the folders of the simulated Go module proxy.
func Modules() fs.FS { return sub("golang") }

// Gems are the folders of the simulated gem server.
func Gems() fs.FS { return sub("gem") }

// Artifacts are the folders of the simulated repositories of the Maven layout.
func Artifacts() fs.FS { return sub("maven") }

// LayOutCargo writes the project of the cargo ledger, as it is before anything is moved, into a folder. The addresses are
// those of the repository, and of the one for milestones.
func LayOutCargo(dir, repository, milestones string) error {
	return layOut("cargo", dir, "REPOSITORY", repository, "MILESTONES", milestones)
}

// LayOutBooking writes the project of the booking office, as it is before anything is moved, into a
// folder, and into another one the source of a gem that is not released yet. Server is the address of the gem server.
func LayOutBooking(dir, source, server string) error {
	if err := layOut("booking", dir, "GEMS", server, "WAKELOG", "file://"+filepath.ToSlash(source)); err != nil {
		return err
	}
	return layOut("wakelog", source)
}

// LayOut writes the example project, as it is before anything is moved, into a
// folder. Go files carry ".src" after their names here, so that they are no
// part of this program.
func LayOut(dir string) error { return layOut("project", dir) }

// layOut writes the files of a folder of ours into another one; here has texts in them and what stands in their places.
func layOut(what, dir string, here ...string) error {
	project, text := sub(what), strings.NewReplacer(here...)
	return fs.WalkDir(project, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := fs.ReadFile(project, name)
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(strings.TrimSuffix(name, ".src")))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		return os.WriteFile(to, []byte(text.Replace(string(data))), 0o644)
	})
}

// LayOutKiosk writes the project of the ticket kiosk, as it is before anything is moved, into a folder.
func LayOutKiosk(dir string) error { return layOut("kiosk", dir) }

// RepairKiosk holds the files of the kiosk that a person changes when a leg breaks a test.
func RepairKiosk() fs.FS { return sub("repair-kiosk") }

// Repair holds the files that a person changes when a leg breaks a test, laid
// out like the project.
func Repair() fs.FS { return sub("repair") }

func sub(dir string) fs.FS {
	f, err := fs.Sub(files, dir)
	if err != nil {
		panic(err) // the names are constants
	}
	return f
}
