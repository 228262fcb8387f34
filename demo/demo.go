// Package demo holds the example project, Saltmarsh Ferries, and the invented
// packages that it is made of.
package demo

import (
	"embed"
	"io/fs"
)

//go:embed npm all:project repair
var files embed.FS

// Packages are the folders of the simulated npm registry.
func Packages() fs.FS { return sub("npm") }

// Project is the example project as it is before anything is moved.
func Project() fs.FS { return sub("project") }

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
