// Package books holds the compat books that ship with the program.
package books

import "embed"

//go:embed *.yaml
var files embed.FS

// Runtimes is the book of released lines of runtimes, with its name.
func Runtimes() (name string, src []byte) {
	src, err := files.ReadFile("runtimes.yaml")
	if err != nil {
		panic(err) // the name is a constant
	}
	return "runtimes", src
}
