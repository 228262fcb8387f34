package scaffold

import (
	"fmt"
	"testing"
)

// BenchmarkCompare compares a template of 2,000 files, all called alike, with a project of 20,000 that has them elsewhere.
func BenchmarkCompare(b *testing.B) {
	old, fresh, project := Tree{}, Tree{}, Tree{}
	for i := range 2000 {
		text := fmt.Sprintf("one\ntwo\nthree\nnumber %d\n", i)
		name := fmt.Sprintf("src/part%d/index.js", i)
		old[name], fresh[name] = []byte(text), []byte(text+"more\n")
		project["web/"+name[4:]] = []byte(text)
	}
	for i := range 18000 {
		project[fmt.Sprintf("own/part%d/index.js", i)] = []byte(fmt.Sprintf("mine\nnumber %d\n", i))
	}
	mine, names := over(project)
	for b.Loop() {
		if c := Compare(old, fresh, mine, names); c.Count(Takes) != 2000 {
			b.Fatal(c.Count(Takes))
		}
	}
}

// BenchmarkRenames finds 2,000 files of a template again that went to another folder.
func BenchmarkRenames(b *testing.B) {
	old, fresh := Tree{}, Tree{}
	for i := range 2000 {
		text := fmt.Sprintf("one\ntwo\nthree\nnumber %d\n", i)
		old[fmt.Sprintf("src/part%d/index.js", i)] = []byte(text)
		fresh[fmt.Sprintf("app/part%d/index.js", i)] = []byte(text + "more\n")
	}
	for b.Loop() {
		if n := len(renames(old, fresh)); n != 2000 {
			b.Fatal(n)
		}
	}
}
