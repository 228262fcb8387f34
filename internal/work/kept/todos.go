package kept

import (
	"io/fs"
	"slices"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/host/keep"
)

// ToDosFile is where a project keeps what was left to be done, relative to the project. It is
// committed.
const ToDosFile = Dir + "/" + keep.ToDos

// todosSchema names the form of that file.
const todosSchema = "bellwether/todos/1"

const todosHeading = `# What was switched off or left to be done on the way to newer versions. "bellwether todo"
# lists it, and "bellwether todo done ID" takes one out.
`

// ToDo is something that is left to be done.
type ToDo struct {
	ID   string `yaml:"id"` // short, and unique in the file: "t3"
	Text string `yaml:"text"`
	File string `yaml:"file,omitempty"` // empty for none of its own
	Line int    `yaml:"line,omitempty"`
	// Around is the text of the line, by which the place is found again.
	Around string `yaml:"around,omitempty"`
	From   string `yaml:"from,omitempty"` // a rule, or a leg; empty for a person
	Leg    string `yaml:"leg,omitempty"`
	Since  string `yaml:"since"` // the day
}

type todoList struct {
	Schema string `yaml:"schema"`
	ToDos  []ToDo `yaml:"todos"`
}

// ToDos reads what is left to be done, in a tree of files.
func ToDos(fsys fs.FS) ([]ToDo, error) {
	list := &todoList{Schema: todosSchema}
	err := readShared(fsys, ToDosFile, "reading what is to be done", list)
	if err == nil && list.Schema != todosSchema {
		err = wrongSchema("reading what is to be done", ToDosFile, list.Schema, todosSchema)
	}
	return list.ToDos, err
}

// RewriteToDos gives the edit that puts other things to do in the place of those in a tree of
// files; none where they are the same.
func RewriteToDos(fsys fs.FS, change func(now []ToDo) []ToDo) ([]model.FileEdit, error) {
	before, err := ToDos(fsys)
	if err != nil {
		return nil, err
	}
	after := change(slices.Clone(before))
	if slices.Equal(before, after) {
		return nil, nil
	}
	return editShared(fsys, ToDosFile, todosHeading, todoList{todosSchema, after})
}

// LineOf is the text of a line of a file, without white space around; "" for none.
func LineOf(fsys fs.FS, file string, line int) string { return (&Lines{FS: fsys}).Of(file, line) }

// Lines give the texts of lines. A file that is asked about several times in a row is read once.
type Lines struct {
	FS    fs.FS
	file  string
	lines []string
}

// Of is the text of a line of a file, without white space around; "" for none.
func (l *Lines) Of(file string, line int) string {
	if l.lines == nil || l.file != file {
		src, err := fs.ReadFile(l.FS, file)
		if err != nil {
			src = nil
		}
		l.file, l.lines = file, strings.Split(string(src), "\n")
	}
	if line < 1 || line > len(l.lines) {
		return ""
	}
	return strings.TrimSpace(l.lines[line-1])
}
