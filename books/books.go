// Package books holds the compat books that ship with the program.
package books

import "embed"

//go:embed *.yaml
var files embed.FS

// Book is the source of a compat book that ships.
type Book struct {
	Name string
	Src  []byte
}

// All are the books that ship: the released lines of runtimes first.
func All() (all []Book) {
	for _, name := range []string{"runtimes", "java", "jakarta"} {
		src, err := files.ReadFile(name + ".yaml")
		if err != nil {
			panic(err) // the names are constants
		}
		all = append(all, Book{name, src})
	}
	return all
}
